//! The noise of a set, and "the same within noise".
//!
//! On root codes (see [`crate::pixel::tone`]) photon noise has one deviation everywhere and what is left grows
//! towards black, so the model is a table of deviations by brightness. It is estimated from differences of
//! aligned frames: in blocks of 8×8, the low quantile of the block deviations in each brightness bin, where
//! movers and misfits cannot reach (after Liu et al. 2006).
//!
//! ```
//! use evanu_core::noise::{BINS, NoiseModel, SAME};
//!
//! // Dark parts are noisier; root codes go up to 65 535.
//! let sigma = (0..BINS).map(|bin| if bin < 4 { 900.0 } else { 300.0 }).collect();
//! let noise = NoiseModel { sigma, ..NoiseModel::default() };
//! assert!(noise.sigma_at(2_000) > 2.0 * noise.sigma_at(50_000));
//! // Two samples of the same thing, 1000 codes apart: the same within noise, where it is dark.
//! let apart = |code| 1000.0 / (2.0f32.sqrt() * noise.sigma_at(code));
//! assert!(apart(2_000) < SAME && apart(50_000) > 2.0);
//! ```

mod slip;

pub use slip::texture_noise;

use serde::{Deserialize, Serialize};

/// Two samples show the same thing when they differ by fewer deviations than this, "the same within noise": one standard for the
/// consensus, agreement and patches. What counts as a deviation is said where it is measured.
pub const SAME: f32 = 2.5;
/// From this many deviations on, two samples surely show different things.
pub const DIFFER: f32 = 5.0;

/// Brightness bins, evenly over the root codes.
pub const BINS: usize = 16;

/// Deviation of one sample, in root codes, by brightness.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NoiseModel {
    /// Deviation in each of [`BINS`] brightness bins.
    pub sigma: Vec<f32>,
    /// What a frame differs by beyond noise where the picture is steep, in pixels: for a gradient of one a pixel, by this much;
    /// from 0 on. Sampling, resampling and what the fit leaves make it.
    #[serde(default)]
    pub slip: f32,
    /// How much more noise there is where the picture has texture, from 0 on: see [`texture_noise`].
    #[serde(default)]
    pub texture: f32,
}

/// No deviation is believed to be below this: half an eight-bit step in the middle tones.
const FLOOR: f32 = 130.0;

impl Default for NoiseModel {
    fn default() -> Self {
        Self { sigma: vec![2.0 * FLOOR; BINS], slip: 0.0, texture: 0.0 }
    }
}

impl NoiseModel {
    /// Deviation at a root code.
    #[inline]
    pub fn sigma_at(&self, root: u16) -> f32 {
        self.sigma[usize::from(root) * BINS / 65536]
    }

    /// Estimates the model from pairs of samples of the same places.
    ///
    /// `pairs` yields blocks: 8×8 root codes of two aligned frames each, row by row, in any order.
    pub fn estimate<'a>(pairs: impl Iterator<Item = (&'a [u16], &'a [u16])>) -> Self {
        let mut bins: Vec<Vec<f32>> = vec![Vec::new(); BINS];
        let mut blocks = Vec::new();
        for (a, b) in pairs {
            let n = a.len() as f32;
            let brightness = a.iter().map(|&v| u64::from(v)).sum::<u64>() as f32 / n;
            if a.iter().chain(b).any(|&v| v > 65000) {
                continue; // clipped light has no noise to measure
            }
            let diff = |i: usize| f32::from(a[i]) - f32::from(b[i]);
            let mean = (0..a.len()).map(diff).sum::<f32>() / n;
            let var = (0..a.len()).map(|i| (diff(i) - mean).powi(2)).sum::<f32>() / (n - 1.0);
            let bin = (brightness as usize * BINS / 65536).min(BINS - 1);
            bins[bin].push((var / 2.0).sqrt());
            blocks.push(slip::Block { bin, gradient: slip::steepness(a), difference: var });
        }
        let found: Vec<Option<f32>> = bins
            .iter_mut()
            .map(|b| {
                b.sort_unstable_by(f32::total_cmp);
                // The 30 % quantile of a 64-sample deviation lies about 5 % below the truth.
                (b.len() >= 12).then(|| (b[b.len() * 3 / 10] * 1.05).max(FLOOR))
            })
            .collect();
        let nearest = |i: usize| {
            (0..BINS)
                .filter_map(|j| found[j].map(|s| (i.abs_diff(j), s)))
                .min_by_key(|&(d, _)| d)
                .map(|(_, s)| s)
        };
        let sigma: Vec<f32> = (0..BINS).map(|i| nearest(i).unwrap_or(2.0 * FLOOR)).collect();
        let (slip, texture) = slip::find(&sigma, &blocks);
        Self { sigma, slip, texture }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;

    #[test]
    fn the_estimate_finds_the_deviation_despite_movers() {
        let mut r = Random::new(3);
        let blocks: Vec<(Vec<u16>, Vec<u16>)> = (0..400)
            .map(|k| {
                let level = 8000.0 + 120.0 * f64::from(k);
                let mover = if k % 3 == 0 { 9000.0 } else { 0.0 };
                let mut block = |extra: f64| {
                    (0..64)
                        .map(|i| (level + 600.0 * r.normal() + extra * f64::from(i % 2)) as u16)
                        .collect::<Vec<_>>()
                };
                (block(0.0), block(mover))
            })
            .collect();
        let model = NoiseModel::estimate(blocks.iter().map(|(a, b)| (&a[..], &b[..])));
        for s in &model.sigma {
            assert!((s - 600.0).abs() < 80.0, "{:?}", model.sigma);
        }
    }
}
