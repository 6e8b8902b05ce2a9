//! A smooth surface through displacements seen at scattered places of the reference, some of them mistaken.
//!
//! A cubic B-spline with a penalty on its second differences (Eilers and Marx 1996), fitted with Tukey's weights (Beaton and
//! Tukey 1974) by conjugate gradients. Places that a plane foretells keep their weight: a surface that is still far from near
//! ground would take all of that for mistakes. How smooth it is, cross-validation decides: of several strengths the one that
//! best foretells places left out; it is made smoother until it folds nowhere ([`Bend::STEEPEST`]).
//!
//! Cost: some ten fits, each a few dozen products of sixteen controls a place.

use crate::geometry::{Bend, Point, Size, taps};

/// Cells of the surface along the longer side.
const CELLS: f64 = 36.0;
/// Strengths of smoothing to choose from, strongest first.
const STRENGTHS: [f64; 5] = [30.0, 3.0, 0.3, 0.03, 0.003];
/// Further holds a control that no sample reaches. Kept to a trace: with 0.01, near ground that is found only step by step
/// stayed with a plane transform that followed the building.
const HOLD: f64 = 0.0002;
/// Parts that take turns in being left out.
const FOLDS: usize = 5;
/// Fewest places a surface is fitted to.
pub(super) const LEAST_SAMPLES: usize = 24;

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

/// A fitted surface and how well it does.
pub(super) struct Surface {
    pub bend: Bend,
    /// Typical residual, in pixels.
    pub scale: f64,
    /// Error at places left out, with the surface and with none; large ones are cut off.
    pub foretold: f64,
    pub plane: f64,
}

/// The surface through samples; errors beyond `cut` pixels count as that much.
pub(super) fn surface(size: Size, samples: &[Sample], cut: f64) -> Option<Surface> {
    if samples.len() < LEAST_SAMPLES {
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
