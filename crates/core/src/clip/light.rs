//! How one frame's light differs from the usual one: by its rim, robustly, so that who stands there has no say.
//!
//! Brightness by a gain, an offset and a slope across and down; colour differences likewise, their gain held near that of brightness
//! where the rim has too little colour to tell. Iteratively reweighted least squares with Tukey's weights (Beaton and Tukey 1974).

use super::area::AreaPlane;
use crate::geometry::solve;

/// Gain, offset, slope across and down; places from -1 to 1 over the part.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Light([f64; 4]);

/// Samples of the rim that are asked at most.
const ASKED: usize = 2500;
/// Rounds of weighting anew.
const ROUNDS: usize = 5;

impl Light {
    pub(super) const USUAL: Self = Self([1.0, 0.0, 0.0, 0.0]);

    /// The gain.
    pub(super) fn gain(self) -> f64 {
        self.0[0]
    }

    /// From the usual samples of a rim to those of a frame; `middle` stays where only the gain changes, `near` is the gain that is likely, and
    /// `held` how strongly it is held to that, and the offset to
    /// none. `noise` is the deviation of one sample.
    pub(super) fn of(
        plane: &AreaPlane,
        (usual, frame): (&[f32], &[u16]),
        middle: f64,
        (near, held): (f64, (f64, f64)),
        noise: f64,
    ) -> Self {
        let step = plane.rim.len().div_ceil(ASKED).max(1);
        let rim: Vec<usize> = plane.rim.iter().copied().step_by(step).collect();
        if rim.len() < 40 {
            return Self([near, 0.0, 0.0, 0.0]);
        }
        let row = |p: usize| {
            let (u, v) = place(plane, p);
            [f64::from(usual[p]) - middle, 1.0, u, v]
        };
        let value = |p: usize| f64::from(frame[p]) - middle;
        let mut found = [near, 0.0, 0.0, 0.0];
        // What most of the rim is off by is no person.
        let mut off: Vec<f64> = rim.iter().map(|&p| value(p) - near * row(p)[0]).collect();
        off.sort_by(f64::total_cmp);
        found[1] = off[off.len() / 2];
        let prior = rim.len() as f64 * noise * noise * 0.5;
        for _ in 0..ROUNDS {
            let left = |p: usize| value(p) - row(p).iter().zip(found).map(|(a, b)| a * b).sum::<f64>();
            let mut all: Vec<f64> = rim.iter().map(|&p| left(p).abs()).collect();
            all.sort_by(f64::total_cmp);
            let scale = (1.48 * all[all.len() / 2]).max(noise).max(0.3);
            let (mut a, mut b) = ([[0.0; 4]; 4], [0.0; 4]);
            for &p in &rim {
                let weight = (1.0 - (left(p) / (4.0 * scale)).powi(2)).max(0.0).powi(2);
                let (row, value) = (row(p), value(p));
                for i in 0..4 {
                    (0..4).for_each(|j| a[i][j] += weight * row[i] * row[j]);
                    b[i] += weight * row[i] * value;
                }
            }
            // Where a rim is even, another brightness is taken for a gain, as light is, and another colour for an offset.
            a[0][0] += held.0 * prior;
            b[0] += held.0 * prior * near;
            a[1][1] += held.1 * rim.len() as f64;
            (2..4).for_each(|k| a[k][k] += prior);
            match solve(a, b) {
                Some(next) if next.iter().all(|v| v.is_finite()) => {
                    let far = (0..4).map(|k| (next[k] - found[k]).abs()).fold(0.0, f64::max);
                    found = next;
                    if far < 1e-4 {
                        break;
                    }
                }
                _ => break,
            }
        }
        Self(found)
    }

    /// How much the rim of a frame differs from the usual one in this light, as the deviation that most of it keeps within.
    pub(super) fn left(self, plane: &AreaPlane, (usual, frame): (&[f32], &[u16]), middle: f64) -> f64 {
        let step = plane.rim.len().div_ceil(ASKED).max(1);
        let rim = plane.rim.iter().step_by(step);
        let mut off: Vec<f32> =
            rim.map(|&p| (f32::from(frame[p]) - self.lit(plane, p, usual[p], middle)).abs()).collect();
        off.sort_by(f32::total_cmp);
        off.get(off.len() * 7 / 10).map_or(0.0, |v| f64::from(*v))
    }

    /// A sample in this light.
    pub(super) fn lit(self, plane: &AreaPlane, p: usize, usual: f32, middle: f64) -> f32 {
        let (u, v) = place(plane, p);
        let [gain, offset, across, down] = self.0;
        (middle + gain * (f64::from(usual) - middle) + offset + across * u + down * v) as f32
    }
}

fn place(plane: &AreaPlane, p: usize) -> (f64, f64) {
    let at = |v: usize, n: usize| 2.0 * (v as f64 + 0.5) / n as f64 - 1.0;
    (at(p % plane.width, plane.width), at(p / plane.width, plane.height))
}
