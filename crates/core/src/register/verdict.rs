//! From a coarse transform to a final one with a verdict: refinement, choice of model, reason when it fails.

use super::consensus;
use super::patches::{Anchors, track};
use crate::geometry::{Correspondence, Homography, Model, Point, Warp, fit};
use crate::pixel::{FrameSource, SourceError};
use crate::plan::{FrameAlignment, WorstResidual};

/// Fewest places that must agree, and fewest of 4×4 parts of the picture they must lie in.
const LEAST_SUPPORT: (usize, usize) = (10, 4);
/// Places that agree to within this many pixels of the level support a fit.
const INLIER_DISTANCE: f64 = 1.5;

/// A fit to tracked places: the transform, its residual and the places that support it.
struct Fit {
    transform: Homography,
    residual: f64,
    support: Vec<Correspondence>,
}

/// What became of a frame: its plan so far, and the places it was found by.
pub(super) struct Judged {
    pub plan: FrameAlignment,
    /// Places found again at the last level.
    pub places: Vec<Correspondence>,
}

impl Judged {
    /// Takes another fit to the same frame: what it leaves at places, and those that agree with it to `limit` pixels.
    pub(super) fn settle(
        &mut self,
        places: &[Correspondence],
        left: impl Fn(&Correspondence) -> f64,
        limit: f64,
    ) {
        let (kept, refused): (Vec<&Correspondence>, Vec<&Correspondence>) =
            places.iter().partition(|c| left(c) < limit);
        let square: f64 = kept.iter().map(|c| left(c).powi(2)).sum();
        let worst = kept.iter().max_by(|a, b| left(a).total_cmp(&left(b)));
        self.plan.residual_px = Some((square / kept.len().max(1) as f64).sqrt());
        self.plan.worst = worst.map(|c| WorstResidual { at: c.to, off: left(c) });
        self.plan.points = kept.iter().map(|c| c.to).collect();
        self.plan.refused = refused.iter().map(|c| c.to).collect();
    }
}

/// Refines `coarse` (or the identity, when features found nothing) and says whether the frame fits.
pub(super) fn judge(
    frame: &dyn FrameSource,
    anchors: &Anchors,
    coarse: Option<Homography>,
    models: &[Model],
) -> Result<Judged, SourceError> {
    let mut judged = Judged { plan: FrameAlignment::of(frame), places: Vec::new() };
    let mut transform = coarse.unwrap_or(Homography::IDENTITY);
    let mut found = None;
    let mut places = Vec::new();
    let last = anchors.levels.len().saturating_sub(1);
    for (k, (level, patches)) in anchors.levels.iter().enumerate() {
        let allowed = if k == last { models } else { &[Model::Perspective][..] };
        // The last level runs twice: the second time around a transform that is already right to a tenth.
        for _ in 0..if k == last { 2 } else { 1 } {
            let Some(inverse) = transform.inverse() else { break };
            places = track(frame, *level, patches, &Warp::from(&inverse))?;
            let Some(fit) = robust(&places, allowed, INLIER_DISTANCE * f64::from(1u32 << level), anchors)
            else {
                found = None;
                break;
            };
            if !consensus::plausible(&fit.transform, frame.size()) {
                found = None;
                break;
            }
            transform = fit.transform;
            found = Some(fit);
        }
        if found.is_none() {
            break;
        }
    }
    let Some(fit) = found else {
        let seen = places.len();
        let of = anchors.levels.last().map_or(0, |(_, p)| p.len());
        // A coarse fit is kept beside the reason: depth may be what it lacks.
        judged.plan.transform = transform;
        judged.plan.residual_px = None;
        judged.plan.misfit = Some(match coarse {
            None if of < LEAST_SUPPORT.0 => {
                judged.plan.transform = Homography::IDENTITY;
                "the reference frame has too little detail to lay others over it; choose another reference, \
                 or switch alignment off for a tripod set"
                    .into()
            }
            None => {
                judged.plan.transform = Homography::IDENTITY;
                "nothing in it matches the reference frame: it shows another view".into()
            }
            Some(_) => format!(
                "it resembles the reference frame, but only {seen} of {of} places could be found again: blurred, \
                 covered, or taken from another spot"
            ),
        });
        judged.places = places;
        return Ok(judged);
    };
    let limit = fit.support.iter().map(|c| fit.transform.apply(c.from).distance(c.to)).fold(0.0, f64::max);
    judged.plan.transform = fit.transform;
    judged.settle(&places, |c| fit.transform.apply(c.from).distance(c.to), limit.max(1e-6) * 1.000_001);
    judged.plan.residual_px = Some(fit.residual);
    judged.places = places;
    Ok(judged)
}

/// Iterated least squares with Tukey weights (Beaton and Tukey 1974), then the cheapest model that explains the
/// supporting places as well (Schwarz 1978).
fn robust(places: &[Correspondence], models: &[Model], limit: f64, anchors: &Anchors) -> Option<Fit> {
    let richest = *models.last()?;
    let distance = |h: &Homography, c: &Correspondence| h.apply(c.from).distance(c.to);
    let mut h = start(places, richest, limit)?;
    let mut weights = vec![1.0; places.len()];
    for round in 0..12 {
        let mut d: Vec<f64> = places.iter().map(|c| distance(&h, c)).collect();
        let mut near: Vec<f64> = d.iter().copied().filter(|&v| v < limit).collect();
        if near.len() < LEAST_SUPPORT.0 {
            return None;
        }
        near.sort_unstable_by(f64::total_cmp);
        let scale = (1.48 * near[near.len() / 2]).max(0.03);
        let cut = if round < 2 { limit } else { (4.7 * scale).min(limit) };
        d.iter_mut().zip(&mut weights).for_each(|(d, w)| *w = (1.0 - (*d / cut).powi(2)).max(0.0).powi(2));
        h = fit(richest, &weighted(places, &weights))?;
    }
    let support: Vec<Correspondence> =
        weighted(places, &weights).into_iter().filter(|c| c.weight > 0.1).collect();
    let mut parts: Vec<usize> = support.iter().map(|c| anchors.part(c.to, 4)).collect();
    parts.sort_unstable();
    parts.dedup();
    if support.len() < LEAST_SUPPORT.0 || parts.len() < LEAST_SUPPORT.1 {
        return None;
    }
    let n = support.len() as f64;
    let square = |h: &Homography| {
        let sum: f64 = support.iter().map(|c| c.weight * distance(h, c).powi(2)).sum();
        sum / support.iter().map(|c| c.weight).sum::<f64>()
    };
    let judged = |&m: &Model| {
        let h = if m == richest { h } else { fit(m, &support)? };
        // Two coordinates a place; nothing is believed to be known better than 0.01 px.
        Some((2.0 * n * (square(&h) + 1e-4).ln() + m.parameters() as f64 * (2.0 * n).ln(), h))
    };
    let (_, transform) = models.iter().filter_map(judged).min_by(|a, b| a.0.total_cmp(&b.0))?;
    Some(Fit { transform, residual: square(&transform).sqrt(), support })
}

fn weighted(places: &[Correspondence], weights: &[f64]) -> Vec<Correspondence> {
    places.iter().zip(weights).map(|(c, &weight)| Correspondence { weight, ..*c }).collect()
}

/// A first transform near most places: a fit to all, or, when movers spoil it, to those near the median shift.
fn start(places: &[Correspondence], model: Model, limit: f64) -> Option<Homography> {
    let shift = |c: &Correspondence| Point::new(c.to.x - c.from.x, c.to.y - c.from.y);
    let near = |h: &Homography| places.iter().filter(|c| h.apply(c.from).distance(c.to) < limit).count();
    let median = |f: &dyn Fn(Point) -> f64| {
        let mut v: Vec<f64> = places.iter().map(|c| f(shift(c))).collect();
        v.sort_unstable_by(f64::total_cmp);
        v.get(v.len() / 2).copied()
    };
    let middle = Homography::shift(median(&|p| p.x)?, median(&|p| p.y)?);
    let all = fit(model, places);
    let tight: Vec<Correspondence> =
        places.iter().filter(|c| middle.apply(c.from).distance(c.to) < 2.0 * limit).copied().collect();
    let some = fit(model, &tight);
    [all, some, Some(middle)].into_iter().flatten().max_by_key(near)
}
