//! Agreement: at each place, which frames show the same thing as the plate.
//!
//! Two samples are the same when their difference is what noise and a registration error of [`REGISTRATION_ERROR`] pixels
//! explain: `χ² = mean over channels of (F − P)² / (2σ² + (κ·g)²)`, with g the plate's gradient, stays below
//! [`SAME`](crate::noise::SAME)². All in root codes. Cost: a few operations a sample.
//!
//! ```
//! use evanu_core::evidence::{agrees, plate_row};
//! use evanu_core::noise::NoiseModel;
//!
//! // An even row of the plate, and a frame that shows something else in the last pixel.
//! let plate = [20_000; 4];
//! let rows = [&plate[..]; 3];
//! let plate = plate_row(rows, rows, rows, &NoiseModel::default(), 1.0);
//! let frame = [20_100, 19_900, 20_050, 26_000];
//! let mut same = [false; 4];
//! agrees([&frame; 3], &plate, &mut same);
//! assert_eq!(same, [true, true, true, false]);
//! ```

pub mod doubts;
pub(crate) mod moments;
pub mod moving;
pub mod still;

use crate::combine::Row;
use crate::noise::{NoiseModel, SAME};

/// Registration error that is forgiven, in pixels.
pub const REGISTRATION_ERROR: f32 = 0.25;

/// A row of the plate with what it may differ by.
pub struct PlateRow<'a> {
    /// Root codes by channel.
    pub codes: Row<'a>,
    /// Allowed variance by channel, one value a pixel.
    pub variance: [Vec<f32>; 3],
}

/// Prepares a plate's row: `above` and `below` are its neighbours (or itself at the border).
///
/// `shrink` is how many full-size pixels go into one along a side; noise is smaller by as much.
pub fn plate_row<'a>(
    codes: Row<'a>,
    above: Row<'_>,
    below: Row<'_>,
    noise: &NoiseModel,
    shrink: f32,
) -> PlateRow<'a> {
    let n = codes[0].len();
    let variance = std::array::from_fn(|c| {
        (0..n)
            .map(|x| {
                let v = |row: &[u16], x: usize| f32::from(row[x]);
                let (l, r) = (v(codes[c], x.saturating_sub(1)), v(codes[c], (x + 1).min(n - 1)));
                let gx = (r - l) * 0.5;
                let gy = (v(below[c], x) - v(above[c], x)) * 0.5;
                // Rounding to eight bits does not average out: half the floor always stays.
                let sigma = (noise.sigma_at(codes[c][x]) / shrink).max(90.0);
                2.0 * sigma * sigma + REGISTRATION_ERROR * REGISTRATION_ERROR * (gx * gx + gy * gy)
            })
            .collect()
    });
    PlateRow { codes, variance }
}

/// Writes for each pixel whether the frame's row shows the same as the plate's.
pub fn agrees(frame: Row<'_>, plate: &PlateRow<'_>, out: &mut [bool]) {
    for (x, o) in out.iter_mut().enumerate() {
        let chi: f32 = (0..3)
            .map(|c| {
                let d = f32::from(frame[c][x]) - f32::from(plate.codes[c][x]);
                d * d / plate.variance[c][x]
            })
            .sum();
        *o = chi < 3.0 * SAME * SAME;
    }
}

/// How well the frames of a set support its plate.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Support {
    /// Sum over pixels of the share of covering frames that agree.
    pub agreed: f64,
    /// Pixels for which no more than half of the covering frames agree.
    pub unsupported: u64,
    /// Pixels looked at.
    pub pixels: u64,
}

impl Support {
    /// Adds another region's figures.
    pub fn add(&mut self, other: Self) {
        self.agreed += other.agreed;
        self.unsupported += other.unsupported;
        self.pixels += other.pixels;
    }

    /// Mean share of agreeing frames, 0..=1.
    pub fn mean(&self) -> f64 {
        self.agreed / self.pixels.max(1) as f64
    }

    /// Share of pixels that no majority supports, 0..=1.
    pub fn unsupported_fraction(&self) -> f64 {
        self.unsupported as f64 / self.pixels.max(1) as f64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn noise_agrees_and_a_coat_does_not() {
        let plate = vec![30000u16; 4];
        let row: Row<'_> = [&plate, &plate, &plate];
        let noise = NoiseModel { sigma: vec![400.0; crate::noise::BINS], slip: 0.0, texture: 0.0 };
        let p = plate_row(row, row, row, &noise, 1.0);
        let frame = vec![30000u16, 30700, 29000, 26000];
        let mut out = [false; 4];
        agrees([&frame, &frame, &frame], &p, &mut out);
        assert_eq!(out, [true, true, true, false]);
    }
}
