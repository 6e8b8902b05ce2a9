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
//! 2. A cubic B-spline surface with a penalty on its second differences (Eilers and Marx 1996) is fitted to them with
//!    Tukey's weights, by conjugate gradients; places on the other plane keep theirs, since a surface that is still far
//!    from near ground would take all of that for mistakes. How smooth it is, cross-validation decides: of several strengths
//!    the one that best foretells places left out.
//! 3. It is used only when it foretells them clearly better than the plane transform alone, and made smoother until
//!    it folds nowhere ([`Bend::STEEPEST`]).
//!
//! Cost: a look at the residuals where the plane transform fits; else about five seconds a frame and core, from half a
//! megapixel to 36: the grid has as many patches at any size.

use super::consensus;
use super::patches::{Anchors, Dense, track};
use crate::geometry::{Bend, Correspondence, Homography, Point, Size, Warp, taps};
use crate::pixel::{FrameSource, SourceError};

/// Cells of the surface along the longer side.
const CELLS: f64 = 36.0;
/// Farthest displacement of a matched corner, as a share of the longer side.
const FARTHEST: f64 = 0.1;
/// Strengths of smoothing to choose from, strongest first.
const STRENGTHS: [f64; 5] = [30.0, 3.0, 0.3, 0.03, 0.003];
/// Further holds a control that no sample reaches. Kept to a trace: with 0.01, near ground that is found only step by step
/// stayed with a plane transform that followed the building.
const HOLD: f64 = 0.0002;
/// Parts that take turns in being left out.
const FOLDS: usize = 5;
/// Fewest places a surface is fitted to.
const ENOUGH: usize = 24;
/// Residuals below this, in pixels, need no bend.
const FINE: f64 = 0.12;
/// Residuals that share less than this of their size with their neighbours' are noise.
const ALONE: f64 = 0.3;
/// The bend must leave less than this share of the plane transform's error at places left out.
const WORTH: f64 = 0.7;

/// A displacement seen at a place of the reference.
#[derive(Debug, Clone, Copy)]
pub(super) struct Sample {
    pub at: Point,
    pub shift: [f64; 2],
    /// How exactly it is known; 1 for a corner.
    pub weight: f64,
    /// Whether a plane foretells it, so that it is no mistake however far off a surface still is.
    pub firm: bool,
}

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
    let enough = found.iter().filter(agree).count() >= ENOUGH;
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

/// The bend through displacements that are known exactly.
pub(super) fn through(size: Size, samples: &[Sample]) -> Option<Bend> {
    let grid = grid_over(size);
    let basis: Vec<Basis> = samples.iter().map(|s| Basis::new(s, size, grid)).collect();
    let shifts = solve(samples, &basis, grid, 1e-4, &|_| 1.0, None);
    Bend::new(size, grid, shifts.iter().map(|s| s.map(|v| v as f32)).collect())
}

/// Controls across and down.
fn grid_over(size: Size) -> (usize, usize) {
    let side = f64::from(size.width.max(size.height));
    let cells = |v: u32| (CELLS * f64::from(v) / side).ceil().max(1.0) as usize;
    (cells(size.width) + 3, cells(size.height) + 3)
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

/// A fitted surface and how well it does.
struct Surface {
    bend: Bend,
    /// Typical residual, in pixels.
    scale: f64,
    /// Error at places left out, with the surface and with none; large ones are cut off.
    foretold: f64,
    plane: f64,
}

/// The surface through samples; errors beyond `cut` pixels count as that much.
fn surface(size: Size, samples: &[Sample], cut: f64) -> Option<Surface> {
    if samples.len() < ENOUGH {
        return None;
    }
    let side = f64::from(size.width.max(size.height));
    let grid = grid_over(size);
    let basis: Vec<Basis> = samples.iter().map(|s| Basis::new(s, size, grid)).collect();
    let error = |shifts: &[[f64; 2]], i: usize| {
        let v = basis[i].value(shifts, grid);
        (samples[i].shift[0] - v[0]).hypot(samples[i].shift[1] - v[1])
    };
    let total: f64 = samples.iter().map(|s| s.weight).sum();
    let foretold = |strength: f64| -> f64 {
        let sum: f64 = (0..FOLDS)
            .map(|fold| {
                let weight = |i: usize| samples[i].weight * f64::from(u8::from(i % FOLDS != fold));
                let shifts = solve(samples, &basis, grid, strength, &weight, None);
                let left = (0..samples.len()).filter(|i| i % FOLDS == fold);
                left.map(|i| samples[i].weight * error(&shifts, i).min(cut).powi(2)).sum::<f64>()
            })
            .sum();
        (sum / total).sqrt()
    };
    let (mut best, mut strength) = (f64::MAX, STRENGTHS[0]);
    for s in STRENGTHS {
        let e = foretold(s);
        if e < 0.97 * best {
            (best, strength) = (e, s);
        }
    }
    let plane = samples.iter().map(|s| s.weight * s.shift[0].hypot(s.shift[1]).min(cut).powi(2)).sum::<f64>();
    let spacing = side / CELLS;
    loop {
        let (shifts, scale) = robust(samples, &basis, grid, strength, &error);
        if steepest(&shifts, grid) < Bend::STEEPEST * spacing {
            let shifts = shifts.iter().map(|s| s.map(|v| v as f32)).collect();
            let bend = Bend::new(size, grid, shifts)?;
            let plane = (plane / total).sqrt();
            return Some(Surface { bend, scale, foretold: best, plane });
        }
        strength *= 4.0;
    }
}

/// Iterated fits in which places far off lose their weight (Beaton and Tukey 1974); the shifts and the typical
/// residual.
fn robust(
    samples: &[Sample],
    basis: &[Basis],
    grid: (usize, usize),
    strength: f64,
    error: &dyn Fn(&[[f64; 2]], usize) -> f64,
) -> (Vec<[f64; 2]>, f64) {
    let mut shifts = solve(samples, basis, grid, strength, &|i| samples[i].weight, None);
    let mut scale = 0.0;
    for _ in 0..5 {
        let errors: Vec<f64> =
            (0..samples.len()).map(|i| samples[i].weight.sqrt() * error(&shifts, i)).collect();
        let mut sorted = errors.clone();
        sorted.sort_unstable_by(f64::total_cmp);
        scale = (1.2 * sorted[sorted.len() / 2]).max(0.03);
        let weight = |i: usize| match samples[i].firm {
            true => samples[i].weight,
            false => samples[i].weight * (1.0 - (errors[i] / (4.7 * scale)).powi(2)).max(0.0).powi(2),
        };
        shifts = solve(samples, basis, grid, strength, &weight, Some(shifts));
    }
    (shifts, scale)
}

/// Greatest difference of neighbouring controls.
fn steepest(shifts: &[[f64; 2]], (across, _): (usize, usize)) -> f64 {
    let step = |a: &[f64; 2], b: &[f64; 2]| (a[0] - b[0]).hypot(a[1] - b[1]);
    let rows = shifts.chunks_exact(across).flat_map(|r| r.windows(2).map(|w| step(&w[0], &w[1])));
    let columns = shifts.iter().zip(&shifts[across..]).map(|(a, b)| step(a, b));
    rows.chain(columns).fold(0.0, f64::max)
}

/// The controls that matter at a sample, and their weights.
struct Basis {
    first: (usize, usize),
    across: [f64; 4],
    down: [f64; 4],
}

impl Basis {
    fn new(sample: &Sample, size: Size, grid: (usize, usize)) -> Self {
        let (x, across) = taps(sample.at.x, size.width, grid.0);
        let (y, down) = taps(sample.at.y, size.height, grid.1);
        Self { first: (x, y), across, down }
    }

    fn each(&self, (columns, _): (usize, usize), mut f: impl FnMut(usize, f64)) {
        for (j, v) in self.down.iter().enumerate() {
            for (i, u) in self.across.iter().enumerate() {
                f((self.first.1 + j) * columns + self.first.0 + i, u * v);
            }
        }
    }

    fn value(&self, shifts: &[[f64; 2]], grid: (usize, usize)) -> [f64; 2] {
        let mut sum = [0.0; 2];
        self.each(grid, |k, w| {
            sum[0] += w * shifts[k][0];
            sum[1] += w * shifts[k][1];
        });
        sum
    }
}

/// Weighted least squares with the penalty, by conjugate gradients (Hestenes and Stiefel 1952) from `start`.
fn solve(
    samples: &[Sample],
    basis: &[Basis],
    grid: (usize, usize),
    strength: f64,
    weight: &dyn Fn(usize) -> f64,
    start: Option<Vec<[f64; 2]>>,
) -> Vec<[f64; 2]> {
    let n = grid.0 * grid.1;
    let weights: Vec<f64> = (0..samples.len()).map(weight).collect();
    let hold = holds(basis, &weights, grid);
    let times = |x: &[[f64; 2]]| {
        let mut out = penalty(x, &hold, grid, strength);
        for (b, &w) in basis.iter().zip(&weights).filter(|(_, w)| **w > 0.0) {
            let v = b.value(x, grid);
            b.each(grid, |k, u| (0..2).for_each(|c| out[k][c] += w * u * v[c]));
        }
        out
    };
    let mut right = vec![[0.0; 2]; n];
    for ((b, s), &w) in basis.iter().zip(samples).zip(&weights) {
        b.each(grid, |k, u| (0..2).for_each(|c| right[k][c] += w * u * s.shift[c]));
    }
    let dot =
        |a: &[[f64; 2]], b: &[[f64; 2]]| a.iter().zip(b).map(|(p, q)| p[0] * q[0] + p[1] * q[1]).sum::<f64>();
    let mut x = start.unwrap_or_else(|| vec![[0.0; 2]; n]);
    let ax = times(&x);
    let mut r: Vec<[f64; 2]> = right.iter().zip(&ax).map(|(b, a)| [b[0] - a[0], b[1] - a[1]]).collect();
    let mut p = r.clone();
    let (mut rr, enough) = (dot(&r, &r), 1e-8 * dot(&right, &right));
    for _ in 0..150 {
        if rr <= enough {
            break;
        }
        let ap = times(&p);
        let step = rr / dot(&p, &ap).max(f64::MIN_POSITIVE);
        for k in 0..n {
            for c in 0..2 {
                x[k][c] += step * p[k][c];
                r[k][c] -= step * ap[k][c];
            }
        }
        let next = dot(&r, &r);
        let share = next / rr;
        rr = next;
        p.iter_mut().zip(&r).for_each(|(p, r)| (0..2).for_each(|c| p[c] = r[c] + share * p[c]));
    }
    x
}

/// How strongly each control is held near the plane transform: by 1e-4, and by [`HOLD`] more where no sample reaches.
fn holds(basis: &[Basis], weights: &[f64], grid: (usize, usize)) -> Vec<f64> {
    let mut support = vec![0.0; grid.0 * grid.1];
    for (b, &w) in basis.iter().zip(weights) {
        b.each(grid, |k, u| support[k] += w * u);
    }
    support.iter().map(|s| 1e-4 + HOLD * (-6.0 * s).exp()).collect()
}

/// The gradient of the penalty: second differences along both ways, a little of the first, and a trace of the shifts
/// themselves.
fn penalty(x: &[[f64; 2]], hold: &[f64], (columns, rows): (usize, usize), strength: f64) -> Vec<[f64; 2]> {
    let mut out: Vec<[f64; 2]> = x.iter().zip(hold).map(|(v, h)| v.map(|v| h * v)).collect();
    let mut add = |places: &[(usize, f64)], strength: f64| {
        for c in 0..2 {
            let d: f64 = places.iter().map(|&(k, w)| w * x[k][c]).sum();
            places.iter().for_each(|&(k, w)| out[k][c] += strength * w * d);
        }
    };
    for j in 0..rows {
        for i in 0..columns {
            let k = j * columns + i;
            for (step, room) in [(1, i + 1 < columns), (columns, j + 1 < rows)] {
                if room {
                    add(&[(k, -1.0), (k + step, 1.0)], 0.002 * strength);
                }
            }
            for (step, room) in [(1, i + 2 < columns), (columns, j + 2 < rows)] {
                if room {
                    add(&[(k, 1.0), (k + step, -2.0), (k + 2 * step, 1.0)], strength);
                }
            }
            if i + 1 < columns && j + 1 < rows {
                add(&[(k, 1.4), (k + 1, -1.4), (k + columns, -1.4), (k + columns + 1, 1.4)], strength);
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;

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

    #[test]
    fn near_ground_that_a_plane_foretells_is_followed_however_far_it_shifts_and_a_mover_is_not() {
        let size = Size::new(900, 600);
        // A wall that fits, ground below that shifts the more the nearer it is, and a van before the wall.
        let truth = |p: Point| (0.0005 * (p.y - 330.0).max(0.0).powi(2)).min(30.0);
        let van = |p: Point| (500.0..560.0).contains(&p.x) && (250.0..290.0).contains(&p.y);
        let samples = |firm: bool| -> Vec<Sample> {
            let mut random = Random::new(3);
            let place = |k: usize| Point::new(10.0 + 20.0 * (k % 45) as f64, 10.0 + 20.0 * (k / 45) as f64);
            (0..45 * 29)
                .map(place)
                .map(|at| {
                    let seen = if van(at) { 15.0 } else { truth(at) };
                    let mut noise = || random.within(-0.03, 0.03);
                    let shift = [0.3 * seen + noise(), seen + noise()];
                    Sample { at, shift, weight: 1.0, firm: firm && at.y > 330.0 }
                })
                .collect()
        };
        let worst = |firm: bool| {
            let found = surface(size, &samples(firm), 1.0).unwrap().bend;
            let mut worst = 0.0f64;
            for p in (0..600).map(|k| Point::new(5.0 + 30.0 * (k % 30) as f64, 5.0 + 30.0 * (k / 30) as f64))
            {
                let near = (470.0..590.0).contains(&p.x) && (220.0..320.0).contains(&p.y);
                let off = (found.at(p).y - truth(p)).abs();
                worst = if near { worst } else { worst.max(off) };
            }
            (worst, found.at(Point::new(530.0, 270.0)).y)
        };
        let (without, _) = worst(false);
        assert!(without > 2.0, "{without}");
        let (with, at_van) = worst(true);
        assert!(with < 0.5, "{with}");
        assert!(at_van < 1.0, "{at_van}");
    }
}
