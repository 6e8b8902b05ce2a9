//! Tone curves: stops that depend on how bright a sample is, by channel. What a camera's exposure changes beside a gain.
//!
//! ```
//! use evanu_core::pixel::curve::{KNOTS, ToneCurve};
//!
//! // A tenth of a stop more at full light, nothing in the dark.
//! let knots = std::array::from_fn(|i| 0.1 * i as f32 / (KNOTS - 1) as f32);
//! let table = ToneCurve::new([knots; 3]).table();
//! let mut light = [0.25, 1.0];
//! table.apply(1, 1.0, &mut light);
//! assert!((light[0] / 0.25 - 0.05f32.exp2()).abs() < 1e-3 && (light[1] - 0.1f32.exp2()).abs() < 1e-3);
//! ```

use serde::{Deserialize, Serialize};

/// Knots of a curve, evenly spread over root codes.
pub const KNOTS: usize = 17;
/// Steps of a table.
const STEPS: usize = 256;

/// Stops to brighten by, by channel, at root codes from 0 to the greatest; between them evenly.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ToneCurve {
    knots: [[f32; KNOTS]; 3],
}

impl ToneCurve {
    /// Of stops at the knots, by channel.
    pub fn new(knots: [[f32; KNOTS]; 3]) -> Self {
        Self { knots }
    }

    /// Greatest less least stops.
    pub fn span(&self) -> f32 {
        let all = || self.knots.iter().flatten().copied();
        all().fold(f32::MIN, f32::max) - all().fold(f32::MAX, f32::min)
    }

    /// Ready to be applied to many samples.
    pub fn table(&self) -> ToneTable {
        ToneTable {
            factors: self.knots.map(|knots| {
                (0..=STEPS)
                    .map(|i| {
                        let at = i as f32 * (KNOTS - 1) as f32 / STEPS as f32;
                        let low = (at as usize).min(KNOTS - 2);
                        (knots[low] + (at - low as f32) * (knots[low + 1] - knots[low])).exp2()
                    })
                    .collect()
            }),
        }
    }
}

/// Factors of a curve at even steps of root codes.
#[derive(Debug, Clone)]
pub struct ToneTable {
    factors: [Vec<f32>; 3],
}

impl ToneTable {
    /// Multiplies linear light of a channel by what the curve says of it when it is multiplied by a gain.
    pub fn apply(&self, channel: usize, gain: f32, light: &mut [f32]) {
        let factors = &self.factors[channel];
        for v in light {
            let at = ((*v * gain).max(0.0).sqrt() * STEPS as f32).min(STEPS as f32 - 0.001);
            let low = at as usize;
            *v *= factors[low] + (at - low as f32) * (factors[low + 1] - factors[low]);
        }
    }
}
