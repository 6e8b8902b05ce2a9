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
//! 4. Frames whose camera stood still since the reference are left where they are ([`standing`]).
//! 5. What all frames leave together tells the set's lens ([`lens`]); where places are left that neither explains, the
//!    reference is bent smoothly ([`local`]): depth.
//! 6. A frame with too few agreeing places is set aside with the reason ([`verdict`]).
//!
//! Beside it: which frames share a camera position ([`positions`]), and which of a shoot show one view ([`views()`]).
//!
//! Cost: about 0.1 s a frame and core; memory: one reduced grey picture a frame.
//!
//! ```
//! use evanu_core::geometry::{Model, Point, Size};
//! use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
//! use evanu_core::progress::no_progress;
//! use evanu_core::random::Random;
//! use evanu_core::register::{Wishes, register};
//!
//! // A wall of random stones, and the same seen 12 pixels further to the right.
//! let size = Size::new(400, 300);
//! let mut random = Random::new(3);
//! let stones: Vec<u8> = (0..60 * 40).map(|_| 60 + random.below(150) as u8).collect();
//! let seen = |shift: u32| {
//!     let stone = |i: u32| [stones[((i / 400 / 8) * 60 + (i % 400 + shift) / 8) as usize]; 3];
//!     MemoryFrame::new(size, Samples::Eight((0..400 * 300).flat_map(stone).collect()))
//! };
//! let frames = [seen(0), seen(12)];
//! let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
//! let wishes = Wishes { reference: Some(0), models: &Model::ALL, areas: &[] };
//! let found = register(&sources, wishes, &|_| (), &no_progress)?;
//! let at = found.frames[1].transform.apply(Point::new(100.0, 100.0));
//! assert!(at.distance(Point::new(112.0, 100.0)) < 0.05, "{at:?}");
//! # Ok::<(), evanu_core::register::RegisterError>(())
//! ```

mod consensus;
mod features;
mod guides;
mod lens;
mod local;
mod patches;
pub(crate) mod positions;
mod quality;
mod standing;
mod surface;
mod verdict;
mod views;

use crate::geometry::{Correspondence, Homography, Model, Point, Rect, level_to_full};
use crate::pixel::tone::{LINEAR_OF_U8, LINEAR_OF_U16, linear_of_root, luminance};
use crate::pixel::{FrameSource, Plane, Samples, SourceError};
use crate::plan::{Alignment, FrameAlignment};
use crate::progress::{Cancelled, Counter, ProgressFn};
use features::Features;
use guides::Guides;
pub use guides::{Area, Guide};
use quality::Quality;
use rayon::prelude::*;
use std::sync::LazyLock;
use verdict::Judged;
pub use views::views;

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

/// Places farther off than this share of the diagonal do not tell the lens: they are movers.
const LENS_REACH: f64 = 0.01;

/// The longest side of the picture that features are looked for in.
const FEATURE_SIDE: u32 = 1400;

/// What its owner wants of an alignment.
#[derive(Debug, Clone, Copy)]
pub struct Wishes<'a> {
    /// The reference frame; `None` takes the one that asks least change of the others.
    pub reference: Option<usize>,
    /// The allowed families, from few to many parameters; only the identity means "leave as they are".
    pub models: &'a [Model],
    /// Areas that guide it.
    pub areas: &'a [Area],
}

/// Where frames lie by their corners alone, to a pixel or two: the first half of [`register`].
pub struct Coarse {
    /// Index of the frame that is not moved.
    pub reference: usize,
    /// From each frame to the reference, in full-size pixels; `None` where none is found.
    pub fits: Vec<Option<Homography>>,
    features: Vec<Features>,
    qualities: Vec<Option<Quality>>,
    guides: Guides,
}

/// Lays `sources` over a reference.
///
/// `early` is called once with where they lie by their corners, when half of the work is done; not when there is
/// nothing to be aligned.
///
/// # Errors
/// When a frame cannot be read or the work is cancelled.
pub fn register(
    sources: &[&dyn FrameSource],
    wishes: Wishes<'_>,
    early: &(dyn Fn(&Coarse) + Sync),
    watch: ProgressFn<'_>,
) -> Result<Alignment, RegisterError> {
    if wishes.models == [Model::Identity] || sources.len() == 1 {
        let frames = sources.iter().map(|s| FrameAlignment::of(*s)).collect();
        let reference = wishes.reference.map_or_else(|| of_usual_light(sources), Ok)?;
        return Ok(Alignment { reference, frames, lens: None });
    }
    let counter = Counter::new(3 * sources.len(), watch);
    let coarse = align_coarse(sources, wishes, &counter)?;
    early(&coarse);
    refine(sources, wishes, &coarse, &counter)
}

/// Lays frames over a reference by their corners.
fn align_coarse(
    sources: &[&dyn FrameSource],
    wishes: Wishes<'_>,
    counter: &Counter<'_>,
) -> Result<Coarse, RegisterError> {
    let features = corners_of(sources, counter)?;
    let (reference, fits, qualities) = match wishes.reference {
        Some(r) => {
            let fits = fits_to(&features, r, &Guides::default());
            let qualities = quality::compare(sources, sources[r].size(), &fits)?;
            (r, fits, qualities)
        }
        None => propose(sources, &features)?,
    };
    let guides = Guides::new(wishes.areas, &fits);
    let fits = match wishes.areas {
        [] => fits,
        // What leads the fine fit must lead the coarse one.
        _ => fits_to(&features, reference, &guides),
    };
    Ok(Coarse { reference, fits, features, qualities, guides })
}

/// Brings a coarse registration to a few hundredths of a pixel, and judges it.
fn refine(
    sources: &[&dyn FrameSource],
    wishes: Wishes<'_>,
    coarse: &Coarse,
    counter: &Counter<'_>,
) -> Result<Alignment, RegisterError> {
    let &Coarse { reference, ref fits, ref features, ref qualities, ref guides } = coarse;
    let anchors = patches::anchors(sources[reference], &features[reference], guides)?;
    let judged = |i: usize| {
        let judged = if i == reference {
            let plan = FrameAlignment { points: anchors.positions(), ..FrameAlignment::of(sources[i]) };
            Judged { plan, places: Vec::new() }
        } else {
            verdict::judge(sources[i], &anchors, fits[i], wishes.models)?
        };
        counter.tick()?;
        Ok(judged)
    };
    let mut all: Vec<Judged> =
        (0..sources.len()).into_par_iter().map(judged).collect::<Result<_, RegisterError>>()?;
    // Only a full set of families is free to choose, and to bend.
    let free = matches!(wishes.models, [.., Model::Perspective]);
    let stood = match wishes.models {
        [Model::Identity, ..] => standing::hold(&mut all, reference),
        _ => vec![false; all.len()],
    };
    let lens = if free { correct_lens(&mut all, reference) } else { None };
    let deep = |i: usize, j: &Judged| free && !stood[i] && fits[i].is_some() && !steady(j);
    let dense = match all.iter().enumerate().any(|(i, j)| deep(i, j)) {
        true => Some(patches::dense(sources[reference], guides)?),
        false => None,
    };
    let frames = all
        .into_par_iter()
        .enumerate()
        .map(|(i, mut judged)| {
            if let Some(dense) = dense.as_ref().filter(|_| deep(i, &judged)) {
                let corners = || corners(&features[i], &features[reference]);
                fit_local_warp(sources[i], (&anchors, dense), &mut judged, &corners)?;
            }
            counter.tick()?;
            Ok(FrameAlignment { sharpness: qualities[i].map(|q| q.sharpness), ..judged.plan })
        })
        .collect::<Result<_, RegisterError>>()?;
    // Where nothing moved every frame has the reference's geometry; its light is what the others are matched to.
    let all_stood = stood.iter().all(|stood| *stood) && wishes.reference.is_none();
    let reference = if all_stood { of_usual_light(sources)? } else { reference };
    Ok(Alignment { reference, frames, lens })
}

/// Of frames that lie where they are, the one whose light is nearest to the middle of all, of the sharp ones if there are any.
fn of_usual_light(sources: &[&dyn FrameSource]) -> Result<usize, RegisterError> {
    let fits = vec![Some(Homography::IDENTITY); sources.len()];
    let qualities = quality::compare(sources, sources[0].size(), &fits)?;
    let unusual = |q: Option<Quality>| q.map_or((true, f32::MAX), |q| (!q.usual(), q.stops.abs()));
    let order =
        |a: &(usize, (bool, f32)), b: &(usize, (bool, f32))| a.1.0.cmp(&b.1.0).then(a.1.1.total_cmp(&b.1.1));
    let all = qualities.into_iter().map(unusual).enumerate();
    Ok(all.min_by(order).map_or(0, |(i, _)| i))
}

/// Brings a frame that lies roughly where `transform` puts it to the best fit near there; `None` when nothing is
/// found again around it.
///
/// # Errors
/// When a frame cannot be read.
pub fn snap(
    reference: &dyn FrameSource,
    frame: &dyn FrameSource,
    transform: &Homography,
) -> Result<Option<FrameAlignment>, RegisterError> {
    let found = reduced_corners(reference)?;
    let anchors = patches::anchors(reference, &found, &Guides::default())?;
    let judged = verdict::judge(frame, &anchors, Some(*transform), &Model::ALL)?;
    Ok(Some(judged.plan).filter(|p| p.misfit.is_none()))
}

/// Whether what a frame's fit leaves needs nothing further.
fn steady(judged: &Judged) -> bool {
    let left: Vec<(Point, [f64; 2])> = judged
        .places
        .iter()
        .map(|c| {
            let p = judged.plan.transform.apply(c.from);
            let d = judged.plan.bend.as_ref().map_or(Point::default(), |b| b.at(c.to));
            (c.to, [p.x - c.to.x - d.x, p.y - c.to.y - d.y])
        })
        .collect();
    judged.plan.misfit.is_none() && local::steady(&left)
}

/// Repairs what the set's lens did, when the frames tell it; returns its displacement at the corner.
fn correct_lens(all: &mut [Judged], reference: usize) -> Option<f64> {
    let size = all[reference].plan.size;
    // A frame that was not moved shows places where the lens put them in the reference.
    let moved = |j: &Judged| j.plan.misfit.is_none() && j.plan.transform != Homography::IDENTITY;
    let good = |j: &Judged| moved(j) && j.plan.size == size && !j.places.is_empty();
    let limit = LENS_REACH * size.diagonal();
    let near = |j: &Judged| -> Vec<Correspondence> {
        let near = |c: &&Correspondence| j.plan.transform.apply(c.from).distance(c.to) < limit;
        j.places.iter().filter(near).copied().collect()
    };
    let places: Vec<Vec<Correspondence>> = all.iter().filter(|j| good(j)).map(near).collect();
    let lists: Vec<&[Correspondence]> = places.iter().map(Vec::as_slice).collect();
    let lens = lens::estimate(size, &lists)?;
    for (judged, places) in all.iter_mut().filter(|j| good(j)).zip(&places) {
        let Some(bend) = lens.bend(places, &judged.plan.transform) else { continue };
        let transform = judged.plan.transform;
        let left = |c: &Correspondence| {
            let (p, d) = (transform.apply(c.from), bend.at(c.to));
            (p.x - c.to.x - d.x).hypot(p.y - c.to.y - d.y)
        };
        let all = judged.places.clone();
        judged.settle(&all, left, 1.0);
        judged.plan.bend = Some(bend);
    }
    Some(lens.k)
}

/// Bends a frame where depth asks for it.
fn fit_local_warp(
    source: &dyn FrameSource,
    (anchors, dense): (&patches::Anchors, &patches::Dense),
    judged: &mut Judged,
    corners: &dyn Fn() -> Vec<Correspondence>,
) -> Result<(), RegisterError> {
    let transform = judged.plan.transform;
    if let Some(found) = local::refine(source, anchors, dense, &transform, corners)? {
        judged.plan.misfit = None;
        judged.plan.bend = Some(found.bend);
        let bend = judged.plan.bend.clone();
        let left = |c: &Correspondence| {
            let p = transform.apply(c.from);
            let d = bend.as_ref().map_or(Point::default(), |b| b.at(c.to));
            (p.x - c.to.x - d.x).hypot(p.y - c.to.y - d.y)
        };
        judged.settle(&found.places, left, found.limit);
    }
    Ok(())
}

/// The coarse transform of every frame to frame `to`, in full-size pixels; `None` where none is found.
fn fits_to(features: &[Features], to: usize, guides: &Guides) -> Vec<Option<Homography>> {
    let (size, full) = (features[to].size, level_to_full(features[to].level));
    let led = guides.led(size, features[to].level);
    let fit = |from: &Features| {
        let mut matches = features::matches(from, &features[to]);
        matches.retain(|m| guides.lead(full.apply(m.to)));
        let found = consensus::find(&matches, size, led)?;
        Some(level_to_full(features[to].level).after(&found).after(&level_to_full(from.level).inverse()?))
    };
    let one = |(i, f)| if i == to { Some(Homography::IDENTITY) } else { fit(f) };
    features.par_iter().enumerate().map(one).collect()
}

/// The corners of every frame, on its reduced grey picture.
fn corners_of(sources: &[&dyn FrameSource], counter: &Counter<'_>) -> Result<Vec<Features>, RegisterError> {
    sources
        .par_iter()
        .map(|s| {
            let found = reduced_corners(*s)?;
            counter.tick()?;
            Ok(found)
        })
        .collect()
}

fn reduced_corners(source: &dyn FrameSource) -> Result<Features, SourceError> {
    let level = feature_level(source);
    Ok(features::find(&grey(source, level, source.size().at_level(level).rect())?, level))
}

/// Matched corners in full-size pixels.
fn corners(from: &Features, to: &Features) -> Vec<Correspondence> {
    let full = |f: &Features, p: Point| level_to_full(f.level).apply(p);
    let matches = features::matches(from, to).into_iter();
    matches.map(|m| Correspondence { from: full(from, m.from), to: full(to, m.to), ..m }).collect()
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
        let fits = fits_to(features, pivot, &Guides::default());
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
        Samples::Wide(d) => {
            let full = 255.0 * source.headroom().sqrt();
            let light = |p: &[u16]| luminance([0, 1, 2].map(|c| linear_of_root(p[c])));
            d.chunks_exact(3).map(|p| full * light(p).sqrt()).collect()
        }
    };
    Ok(Plane { size: region.size(), data })
}

/// Which of `across`² parts of a box, given by its corner and sides, a point lies in.
fn part(p: Point, (corner, sides): (Point, Point), across: usize) -> usize {
    let at = |v: f64, n: f64| ((v.max(0.0) / n.max(1.0) * across as f64) as usize).min(across - 1);
    at(p.y - corner.y, sides.y) * across + at(p.x - corner.x, sides.x)
}
