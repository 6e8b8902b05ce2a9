//! Looking at all frames small and aligned: moments, clipped light, and what one frame alone shows.

use crate::evidence::moments::{self, Small};
use crate::geometry::{Grid, Rect, Size};
use crate::pixel::FrameSource;
use crate::pixel::resample::resample;
use crate::pixel::tone::luminance;
use crate::plan::{Alignment, FrameAlignment, FrameSurvey, FrameTone, SoleCoverage, Survey};
use crate::register::RegisterError;
use rayon::prelude::*;

/// Moments, and what hangs on single frames.
pub(super) fn look(
    sources: &[&dyn FrameSource],
    alignment: &Alignment,
    tones: &[FrameTone],
    order: &[usize],
    clocks: &[Option<f64>],
) -> Result<Survey, RegisterError> {
    let full = alignment.reference_size();
    let reference = &tones[alignment.reference];
    let level = (0..16).find(|&k| (full.width.max(full.height) >> k) <= moments::SIDE).unwrap_or(0);
    let size = full.at_level(level);
    let pictures = (0..sources.len())
        .into_par_iter()
        .map(|i| small(sources[i], &alignment.frames[i], tones[i].multiplier(reference), level, size))
        .collect::<Result<Vec<_>, RegisterError>>()?;
    let (pictures, clipped): (Vec<_>, Vec<f32>) = pictures.into_iter().unzip();
    let small = Small { size, frames: pictures };
    let numbers = moments::moments(&small, order, clocks);
    let sole = moments::sole(&small);
    let shows = |((clipped, moment), sole): ((f32, u32), Option<(f64, Rect)>)| {
        let sole = sole.map(|(share, r)| SoleCoverage {
            share,
            largest: Grid::new(r, level).full().intersect(full.rect()),
        });
        FrameSurvey { clipped, moment, sole }
    };
    Ok(Survey { frames: clipped.into_iter().zip(numbers).zip(sole).map(shows).collect() })
}

/// A sample this near its end holds clipped light.
const CLIPPED: f32 = 0.97;

/// A small grey picture of an aligned frame, and the share of it that is clipped.
fn small(
    source: &dyn FrameSource,
    frame: &FrameAlignment,
    gain: [f32; 3],
    level: u32,
    size: Size,
) -> Result<(Vec<u8>, f32), RegisterError> {
    if frame.misfit.is_some() {
        return Ok((Vec::new(), 0.0));
    }
    let own = level.min(source.levels() - 1);
    let patch = resample(source, own, frame.to_frame().between_levels(level, own), size.rect())?;
    let w = size.width as usize;
    let mut out = vec![0; w * size.height as usize];
    let (mut clipped, mut seen) = (0u32, 0u32);
    for (y, &(from, to)) in patch.spans.iter().enumerate() {
        for x in from as usize..to as usize {
            let light = luminance([0, 1, 2].map(|c| gain[c] * patch.planes[c][y * w + x]));
            out[y * w + x] = (255.0 * light.max(0.0).sqrt()).clamp(1.0, 255.0) as u8;
            clipped += u32::from(patch.planes.iter().any(|p| p[y * w + x] > CLIPPED));
            seen += 1;
        }
    }
    Ok((out, clipped as f32 / seen.max(1) as f32))
}
