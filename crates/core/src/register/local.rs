//! Where no plane transform fits everything: near ground shifts differently from the horizon once the camera has
//! moved, and a lens bends lines. A smooth displacement of the reference takes that up, as strong as the evidence.
//!
//! 1. Matched corners that lie within a tenth of the picture of the plane transform, then patches found again level by
//!    level, give displacements at scattered places. One that differs from its neighbours' median by much more than
//!    they differ among themselves is dropped (the normalised median test of Westerweel and Scarano 2005): a mover.
//!    Where another plane, the ground, has a transform of its own, the patches are looked for along that one too: a
//!    surface through the first alone would follow the building and never reach them. What is found along it tells that
//!    plane better at each level. It counts as one of the place's where the two meet; clouds shift everywhere.
//!    The patches lie on an even grid, weighted by how exactly each is known; where full size shows nothing, those of a
//!    reduced level stand in for them.
//! 2. A surface is fitted to them ([`super::surface`]); what lies on the other plane is no mistake, however far it still is.
//! 3. It is used only when it foretells them clearly better than the plane transform alone.
//!
//! Cost: a look at the residuals where the plane transform fits; else about five seconds a frame and core, from half a
//! megapixel to 36: the grid has as many patches at any size.

use super::consensus;
use super::patches::{Anchors, Dense, track};
use super::surface::{LEAST_SAMPLES, Sample, surface};
use crate::geometry::{Bend, Correspondence, Homography, Point, Size, Warp};
use crate::pixel::{FrameSource, SourceError};

/// Farthest displacement of a matched corner, as a share of the longer side.
const FARTHEST: f64 = 0.1;
/// Residuals below this, in pixels, need no bend.
const FINE: f64 = 0.12;
/// Residuals that share less than this of their size with their neighbours' are noise.
const ALONE: f64 = 0.3;
/// The bend must leave less than this share of the plane transform's error at places left out.
const WORTH: f64 = 0.7;

/// A bend with the places it rests on.
pub(super) struct Local {
    pub bend: Bend,
    /// Places that it explains to within this many pixels agree with it.
    pub limit: f64,
    /// All places found again.
    pub places: Vec<Correspondence>,
}

/// The bend that a frame needs beside its plane transform, or `None` when none can be told.
///
/// `corners` gives matches of corners in full-size pixels.
pub(super) fn refine(
    frame: &dyn FrameSource,
    anchors: &Anchors,
    dense: &Dense,
    transform: &Homography,
    corners: &dyn Fn() -> Vec<Correspondence>,
) -> Result<Option<Local>, SourceError> {
    let Some(inverse) = transform.inverse() else { return Ok(None) };
    let size = anchors.size;
    let side = f64::from(size.width.max(size.height));
    let near = |s: &Sample| s.shift[0].hypot(s.shift[1]) < FARTHEST * side;
    let coarse = anchors.levels.first().map_or(1.0, |(l, _)| f64::from(1u32 << l));
    let corners = corners();
    let mut ground = second(&corners, transform, size, coarse).and_then(|h| h.inverse());
    let first: Vec<Sample> = samples(&corners, transform).into_iter().filter(near).collect();
    let mut bend = surface(size, &without_strays(first, coarse), 1.5 * coarse).map(|s| s.bend);
    let mut last = None;
    // The finest level runs twice: the second time around a bend that is already right to a tenth.
    let rounds = dense.levels.iter().chain(dense.levels.last()).map(|(level, patches)| (*level, patches));
    for (level, patches) in rounds {
        let pixel = f64::from(1u32 << level);
        let warp = Warp { bend: bend.as_ref(), ..Warp::from(&inverse) };
        let found = track(frame, level, patches, &warp)?;
        let mut all = found.clone();
        all.extend(track(frame, dense.lone.0, &dense.lone.1, &warp)?);
        if let Some(plane) = &ground {
            let more = track(frame, level, patches, &Warp::from(plane))?;
            // What is found along the other plane tells it better: from the middle of the ground it goes on to the feet.
            ground = second(&more, transform, size, pixel).and_then(|h| h.inverse()).or(ground);
            all.extend(more);
        }
        let mut kept = without_strays(samples(&all, transform), pixel);
        if let Some(plane) = ground.as_ref().filter(|g| meet(g, transform, size)) {
            let on = |s: &Sample| {
                let p = transform.apply(plane.apply(s.at));
                (p.x - s.at.x - s.shift[0]).hypot(p.y - s.at.y - s.shift[1]) < pixel.max(1.0)
            };
            kept.iter_mut().for_each(|s| s.firm = on(s));
        }
        let Some(better) = surface(size, &kept, pixel) else { return Ok(None) };
        bend = Some(better.bend.clone());
        last = Some((better, found));
    }
    let Some((surface, found)) = last else { return Ok(None) };
    if surface.foretold > WORTH * surface.plane || surface.bend.strength() < FINE / 2.0 {
        return Ok(None);
    }
    let limit = (4.0 * surface.scale).max(0.3);
    let agree = |c: &&Correspondence| {
        let (p, d) = (transform.apply(c.from), surface.bend.at(c.to));
        (p.x - c.to.x - d.x).hypot(p.y - c.to.y - d.y) < limit
    };
    let enough = found.iter().filter(agree).count() >= LEAST_SAMPLES;
    Ok(enough.then_some(Local { bend: surface.bend, limit, places: found }))
}

/// The transform of another plane than the one that `transform` follows, if enough corners lie on one.
fn second(corners: &[Correspondence], transform: &Homography, size: Size, coarse: f64) -> Option<Homography> {
    let side = f64::from(size.width.max(size.height));
    let other = |c: &&Correspondence| {
        let off = transform.apply(c.from).distance(c.to);
        off > 1.5 * coarse && off < FARTHEST * side
    };
    let small = |p: Point| Point::new(p.x / coarse, p.y / coarse);
    let others: Vec<Correspondence> = corners
        .iter()
        .filter(other)
        .map(|c| Correspondence { from: small(c.from), to: small(c.to), ..*c })
        .collect();
    let whole = Size::new((f64::from(size.width) / coarse) as u32, (f64::from(size.height) / coarse) as u32);
    let found = consensus::find(
        &others,
        whole,
        (Point::default(), small(Point::new(size.width.into(), size.height.into()))),
    )?;
    let scale = |s: f64| Homography::new([s, 0.0, 0.0, 0.0, s, 0.0, 0.0, 0.0, 1.0]);
    Some(scale(coarse).after(&found).after(&scale(1.0 / coarse)))
}

/// Whether another plane, whose transform leads to the frame, belongs to the place: planes of one place meet in a line, where their
/// transforms agree. Clouds and processions shift everywhere.
fn meet(plane: &Homography, transform: &Homography, size: Size) -> bool {
    const ACROSS: u32 = 12;
    const VANISHES: f64 = 0.2;
    let at = |i: u32, n: u32| f64::from(i) / f64::from(ACROSS) * f64::from(n);
    let off = (0..(ACROSS + 1).pow(2)).map(|k| {
        let p = Point::new(at(k % (ACROSS + 1), size.width), at(k / (ACROSS + 1), size.height));
        transform.apply(plane.apply(p)).distance(p)
    });
    let (least, most) = off.fold((f64::MAX, 0.0f64), |(l, m), d| (l.min(d), m.max(d)));
    least < VANISHES * most
}

fn samples(places: &[Correspondence], transform: &Homography) -> Vec<Sample> {
    let one = |c: &Correspondence| {
        let p = transform.apply(c.from);
        Sample { at: c.to, shift: [p.x - c.to.x, p.y - c.to.y], weight: c.weight, firm: false }
    };
    places.iter().map(one).collect()
}

/// Whether a fit needs nothing further: it explains nearly all places to the last tenth of a pixel, or what it leaves at
/// each place has nothing to do with what it leaves beside it, which is noise and not depth.
pub(super) fn steady(left: &[(Point, [f64; 2])]) -> bool {
    const NEIGHBOURS: usize = 6;
    let length = |d: &[f64; 2]| d[0].hypot(d[1]);
    let mut lengths: Vec<f64> = left.iter().map(|(_, d)| length(d)).collect();
    lengths.sort_unstable_by(f64::total_cmp);
    match lengths.get(lengths.len() * 4 / 5) {
        Some(&l) if l < FINE => return true,
        Some(_) => {}
        None => return false,
    }
    // Movers and mistakes are left out.
    let cut = 5.0 * lengths[lengths.len() / 2].max(0.02);
    let good: Vec<&(Point, [f64; 2])> = left.iter().filter(|(_, d)| length(d) < cut).collect();
    let (mut shared, mut all) = (0.0, 0.0);
    for (i, (p, d)) in good.iter().enumerate() {
        let mut near: Vec<(f64, usize)> =
            (0..good.len()).filter(|&j| j != i).map(|j| (good[j].0.distance(*p), j)).collect();
        if near.len() <= NEIGHBOURS {
            return false;
        }
        near.select_nth_unstable_by(NEIGHBOURS, |a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        let mean =
            |c: usize| near[..NEIGHBOURS].iter().map(|n| good[n.1].1[c]).sum::<f64>() / NEIGHBOURS as f64;
        shared += d[0] * mean(0) + d[1] * mean(1);
        all += d[0] * d[0] + d[1] * d[1];
    }
    shared < ALONE * all
}

/// Drops displacements unlike their neighbours', for places known to about `pixel` / 10.
fn without_strays(samples: Vec<Sample>, pixel: f64) -> Vec<Sample> {
    const NEIGHBOURS: usize = 8;
    let median = |v: &mut [f64]| {
        let middle = v.len() / 2;
        *v.select_nth_unstable_by(middle, f64::total_cmp).1
    };
    let fits = |i: usize| {
        let s = &samples[i];
        let mut near: Vec<(f64, usize)> =
            (0..samples.len()).filter(|&j| j != i).map(|j| (samples[j].at.distance(s.at), j)).collect();
        if near.len() <= NEIGHBOURS {
            return false;
        }
        near.select_nth_unstable_by(NEIGHBOURS, |a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        let near = &near[..NEIGHBOURS];
        let mut off = 0.0f64;
        let mut spread = 0.0f64;
        for c in 0..2 {
            let mut values: Vec<f64> = near.iter().map(|n| samples[n.1].shift[c]).collect();
            let middle = median(&mut values);
            values.iter_mut().for_each(|v| *v = (*v - middle).abs());
            off = off.hypot(s.shift[c] - middle);
            spread = spread.hypot(median(&mut values));
        }
        // Three deviations of a place that is known less exactly than a corner.
        let unsure = 0.15 * (1.0 / s.weight - 1.0).max(0.0).sqrt();
        off < 3.0 * (spread + 0.15 * pixel) + unsure
    };
    let keep: Vec<bool> = (0..samples.len()).map(fits).collect();
    samples.iter().zip(keep).filter(|(_, k)| *k).map(|(s, _)| *s).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn planes_of_one_place_meet_and_clouds_do_not() {
        let size = Size::new(900, 600);
        let wall = Homography::IDENTITY;
        // Ground shifts by a tenth of how far it lies below the horizon, clouds everywhere.
        let ground = Homography::new([1.0, 0.03, -9.0, 0.0, 1.1, -30.0, 0.0, 0.0, 1.0]);
        assert!(meet(&ground, &wall, size));
        let clouds = Homography::new([1.01, 0.0, 24.0, 0.0, 1.0, -5.0, 0.0, 1e-6, 1.0]);
        assert!(!meet(&clouds, &wall, size));
    }
}
