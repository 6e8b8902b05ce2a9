//! Frames laid by hand.

use crate::geometry::{Homography, Size};
use crate::matching;
use crate::pixel::FrameSource;
use crate::plan::{FrameAlignment, Plan};
use crate::recipe::{ManualAlignment, Recipe};
use crate::register::{self, RegisterError};

/// Lays frames where their owner put them; what the alignment found out about the others stays.
///
/// # Errors
/// When a frame cannot be read.
pub fn lay_by_hand(
    plan: &mut Plan,
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
) -> Result<(), RegisterError> {
    let (found, reference) = (plan.alignment.frames.clone(), plan.alignment.reference);
    for hand in &recipe.manual_alignments {
        if hand.frame >= found.len() || hand.on >= found.len() || hand.frame == reference {
            continue; // the reference is never moved
        }
        // What the hand was laid over has itself a place over the reference.
        let on = &found[hand.on];
        if on.misfit.is_some() && hand.on != reference {
            continue;
        }
        let transform = on.transform.after(&laid(hand, &found));
        let mut frame = FrameAlignment {
            transform,
            misfit: None,
            bend: None,
            residual_px: hand_residual(hand, found[hand.frame].size),
            points: Vec::new(),
            refused: Vec::new(),
            worst: None,
            by_hand: true,
            ..found[hand.frame].clone()
        };
        if transform.inverse().is_none() {
            continue;
        }
        if hand.snap
            && let Some(better) = register::snap(sources[reference], sources[hand.frame], &transform)?
        {
            let FrameAlignment { transform, residual_px, points, refused, worst, .. } = better;
            frame = FrameAlignment { transform, residual_px, points, refused, worst, ..frame };
        }
        plan.alignment.frames[hand.frame] = frame;
        let tones = &mut plan.tones.frames;
        matching::match_gains(sources, &plan.alignment, tones, Some(hand.frame), matching::SIDE)?;
        // A frame that lies only roughly says nothing about where its light fell.
        tones[hand.frame].field = None;
    }
    Ok(())
}

/// Where a hand lays its frame, over the frame it was laid over.
fn laid(hand: &ManualAlignment, found: &[FrameAlignment]) -> Homography {
    let (own, on) = (&found[hand.frame], &found[hand.on]);
    let start = hand.by_pairs(own.size).unwrap_or_else(|| {
        let back = on.transform.inverse().unwrap_or(Homography::IDENTITY);
        if own.misfit.is_none() { back.after(&own.transform) } else { Homography::IDENTITY }
    });
    hand.nudge(on.size).after(&start)
}

/// What the pairs leave before the nudge; `None` where they determine the fit exactly.
fn hand_residual(hand: &ManualAlignment, size: Size) -> Option<f64> {
    let h = hand.by_pairs(size)?;
    let n = hand.pairs.len();
    let spare = n > 2 && n != 4;
    let square: f64 = hand.pairs.iter().map(|p| h.apply(p.from).distance(p.to).powi(2)).sum();
    spare.then(|| (square / n as f64).sqrt())
}
