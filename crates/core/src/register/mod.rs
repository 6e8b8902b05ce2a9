//! Registration: which frames fit over which, and how.
//!
//! 1. Corners and binary descriptors on a reduced grey picture ([`features`]); matches between a frame and the
//!    reference, and a consensus that movers cannot lead because every part of the picture has equal say
//!    ([`consensus`]).
//! 2. The reference is the frame that asks least change of the others (the medoid of all camera positions), of those
//!    that are as sharp and as bright as most ([`quality`]).
//! 3. Small patches spread over the reference are found again in each frame to a few hundredths of a pixel
//!    ([`patches`]), coarse level first, and a robust fit joins them; the number of parameters is chosen by the
//!    Bayesian information criterion (Schwarz 1978).
//! 4. A frame with too few agreeing places is set aside with the reason ([`verdict`]).
//!
//! Cost: about 0.1 s a frame and core; memory: one reduced grey picture a frame.

mod consensus;
mod features;
mod patches;
mod quality;
mod verdict;

use crate::geometry::{Homography, Model, Point, Rect, level_to_full};
use crate::pixel::tone::{LINEAR_OF_U8, LINEAR_OF_U16, luminance};
use crate::pixel::{FrameSource, Plane, Samples, SourceError};
use crate::plan::FramePlan;
use crate::progress::{Cancelled, Counter, Watch};
use features::Features;
use quality::Quality;
use rayon::prelude::*;
use std::sync::LazyLock;

/// Why registration stopped.
#[derive(Debug, Clone, thiserror::Error)]
pub enum RegisterError {
    /// A frame could not be read.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// The work was cancelled.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// What registration found: the reference's index and one entry a frame (gains still one).
pub struct Registration {
    /// Index of the frame that is not moved.
    pub reference: usize,
    /// One entry a frame, in the given order.
    pub frames: Vec<FramePlan>,
}

/// The longest side of the picture that features are looked for in.
const FEATURE_SIDE: u32 = 1400;

/// Lays `sources` over a reference: the given one, or the one that asks least change of the others.
///
/// `models` are the allowed families, from few to many parameters; only the identity means "leave as they are".
///
/// # Errors
/// When a frame cannot be read or the work is cancelled.
pub fn register(
    sources: &[&dyn FrameSource],
    reference: Option<usize>,
    models: &[Model],
    watch: Watch<'_>,
) -> Result<Registration, RegisterError> {
    if models == [Model::Identity] || sources.len() == 1 {
        let frames = sources.iter().map(|s| FramePlan::untouched(s.size())).collect();
        return Ok(Registration { reference: reference.unwrap_or(0), frames });
    }
    let counter = Counter::new(2 * sources.len(), watch);
    let features: Vec<Features> = sources
        .par_iter()
        .map(|s| {
            let level = feature_level(*s);
            let found = features::find(&grey(*s, level, s.size().at_level(level).rect())?, level);
            counter.tick()?;
            Ok(found)
        })
        .collect::<Result<_, RegisterError>>()?;
    let (reference, coarse, qualities) = match reference {
        Some(r) => {
            let fits = fits_to(&features, r);
            let qualities = quality::compare(sources, sources[r].size(), &fits)?;
            (r, fits, qualities)
        }
        None => propose(sources, &features)?,
    };
    let anchors = patches::anchors(sources[reference], &features[reference])?;
    let frames = sources
        .par_iter()
        .enumerate()
        .map(|(i, &source)| {
            let plan = if i == reference {
                FramePlan { points: anchors.positions(), ..FramePlan::untouched(source.size()) }
            } else {
                verdict::judge(source, &anchors, coarse[i], models)?
            };
            counter.tick()?;
            Ok(FramePlan { sharpness: qualities[i].map(|q| q.sharpness), ..plan })
        })
        .collect::<Result<_, RegisterError>>()?;
    Ok(Registration { reference, frames })
}

/// The coarse transform of every frame to frame `to`, in full-size pixels; `None` where none is found.
fn fits_to(features: &[Features], to: usize) -> Vec<Option<Homography>> {
    let fit = |from: &Features| {
        let found = consensus::find(&features::matches(from, &features[to]), features[to].size)?;
        let scale = |f: &Features| level_to_full(f.level);
        Some(scale(&features[to]).after(&found).after(&scale(from).inverse()?))
    };
    let one = |(i, f)| if i == to { Some(Homography::IDENTITY) } else { fit(f) };
    features.par_iter().enumerate().map(one).collect()
}

/// A reference, the coarse transforms to it, and what the frames are like.
type Proposal = (usize, Vec<Option<Homography>>, Vec<Option<Quality>>);

/// Proposes a reference: fits all frames to a pivot, then takes the medoid of those that fit, of the usual ones if
/// there are any.
fn propose(sources: &[&dyn FrameSource], features: &[Features]) -> Result<Proposal, RegisterError> {
    let mut order: Vec<usize> = (0..features.len()).collect();
    order.sort_by_key(|&i| std::cmp::Reverse((features[i].points.len(), features[i].fingerprint())));
    let count = |fits: &[Option<Homography>]| fits.iter().flatten().count();
    let mut best: Option<(usize, Vec<Option<Homography>>)> = None;
    for &pivot in order.iter().take(4) {
        let fits = fits_to(features, pivot);
        let (found, enough) = (count(&fits), count(&fits) * 2 > features.len());
        if best.as_ref().is_none_or(|(_, b)| found > count(b)) {
            best = Some((pivot, fits));
        }
        if enough {
            break;
        }
    }
    let Some((pivot, fits)) = best else {
        return Ok((0, vec![None; features.len()], vec![None; features.len()]));
    };
    let qualities = quality::compare(sources, sources[pivot].size(), &fits)?;
    let distance = |a: &Homography, b: &Homography, i: usize| a.grid_distance(b, sources[i].size());
    let total = |i: usize, h: &Homography| fits.iter().flatten().map(|g| distance(h, g, i)).sum::<f64>();
    let medoid = fits
        .iter()
        .enumerate()
        .filter_map(|(i, h)| h.map(|h| (i, qualities[i].is_some_and(|q| !q.usual()), total(i, &h))))
        .min_by(|a, b| a.1.cmp(&b.1).then(a.2.total_cmp(&b.2)))
        .map_or(pivot, |(i, ..)| i);
    let back = fits[medoid].and_then(|h| h.inverse());
    let rebased = fits.iter().map(|h| back.zip(*h).map(|(b, h)| b.after(&h))).collect();
    Ok((medoid, rebased, qualities))
}

/// The pyramid level that features are looked for in.
fn feature_level(source: &dyn FrameSource) -> u32 {
    let side = source.size().width.max(source.size().height);
    (0..source.levels()).find(|&k| (side >> k) <= FEATURE_SIDE).unwrap_or(source.levels() - 1)
}

static GREY_OF_U8: LazyLock<[[f32; 256]; 3]> = LazyLock::new(|| {
    let weight = luminance;
    let axis = [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]].map(weight);
    std::array::from_fn(|c| std::array::from_fn(|i| axis[c] * LINEAR_OF_U8[i]))
});

/// Brightness of a region on a 0..=255 square-root scale.
fn grey(source: &dyn FrameSource, level: u32, region: Rect) -> Result<Plane, SourceError> {
    let data = match source.read(level, region)? {
        Samples::Eight(d) => {
            let t = &*GREY_OF_U8;
            let light =
                |p: &[u8]| t[0][usize::from(p[0])] + t[1][usize::from(p[1])] + t[2][usize::from(p[2])];
            d.chunks_exact(3).map(|p| 255.0 * light(p).sqrt()).collect()
        }
        Samples::Sixteen(d) => {
            let t = &*LINEAR_OF_U16;
            let light = |p: &[u16]| luminance([0, 1, 2].map(|c| t[usize::from(p[c])]));
            d.chunks_exact(3).map(|p| 255.0 * light(p).sqrt()).collect()
        }
    };
    Ok(Plane { size: region.size(), data })
}

/// Which of a 4×4 division of the picture a point lies in.
fn cell(p: Point, size: crate::geometry::Size, across: usize) -> usize {
    let at = |v: f64, n: u32| ((v.max(0.0) / f64::from(n.max(1)) * across as f64) as usize).min(across - 1);
    at(p.y, size.height) * across + at(p.x, size.width)
}
