//! One development for all frames of a set: white balance, exposure, highlights and shadows.
//!
//! It lies on top of what was combined, so it can be changed at any time and no frame is ever treated differently:
//! rank statistics commute with it, and averages stay averages of light. White balance and exposure multiply light;
//! the curve then works on its square root, where steps look alike. Highlights beyond white are brought back by a
//! rational shoulder (after Reinhard et al. 2002), both ends of the curve stay where they are, and it never falls.
//! Cost: one table of 65 536 entries a channel.
//!
//! ```
//! use evanu_core::develop::Develop;
//!
//! let brighter = Develop { exposure: 1.0, ..Develop::default() };
//! // A stop is twice the light, for each channel alike.
//! assert!(brighter.gains().iter().all(|g| (g - 2.0).abs() < 1e-5));
//! let [red, _, _] = brighter.tables(1.0);
//! let [plain, _, _] = Develop::default().tables(1.0);
//! assert!(red[20_000] > plain[20_000] && red.is_sorted());
//! ```

use crate::pixel::tone::{CODE_OF_ROOT, luminance};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// How light becomes a picture.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Develop {
    /// Stops, -5..=5.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub exposure: f32,
    /// Warmer above zero, cooler below, -1..=1: stops between red and blue.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub warmth: f32,
    /// More magenta above zero, more green below, -1..=1.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub tint: f32,
    /// Brighter above zero; below, what lies beyond white comes back, -1..=1.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub highlights: f32,
    /// Brighter above zero, -1..=1.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub shadows: f32,
}

/// Square root of the light at which highlights begin, and where shadows end.
const KNEE: f32 = 0.5;

impl Develop {
    /// Leaves light as it is.
    pub fn is_neutral(&self) -> bool {
        *self == Self::default()
    }

    /// Whether every value lies in its range.
    pub fn is_valid(&self) -> bool {
        self.exposure.abs() <= 5.0
            && [self.warmth, self.tint, self.highlights, self.shadows].iter().all(|v| v.abs() <= 1.0)
    }

    /// What light is multiplied with, by channel; white balance keeps brightness.
    pub fn gains(&self) -> [f32; 3] {
        let colour = [(0.5 * self.warmth).exp2(), (-0.35 * self.tint).exp2(), (-0.5 * self.warmth).exp2()];
        let even = self.exposure.exp2() / luminance(colour);
        colour.map(|c| c * even)
    }

    /// For each channel, the 16-bit sRGB code of every root code; a full root code stands for `headroom` light.
    pub fn tables(&self, headroom: f32) -> [Cow<'static, [u16]>; 3] {
        let code: &'static [u16] = &CODE_OF_ROOT;
        if self.is_neutral() && headroom == 1.0 {
            return [Cow::Borrowed(code), Cow::Borrowed(code), Cow::Borrowed(code)];
        }
        let gains = self.gains();
        let brightest = gains.iter().fold(0.0f32, |m, g| m.max(g * headroom)).sqrt();
        gains.map(|gain| {
            let full = (gain * headroom).sqrt() / 65535.0;
            let one = |r: u32| {
                let y = self.curve(r as f32 * full, brightest.max(1.0)).clamp(0.0, 1.0);
                code[(y * 65535.0 + 0.5) as usize]
            };
            Cow::Owned((0..65536).map(one).collect())
        })
    }

    /// The square root of light after the curve; `brightest` is the greatest that can come, at least one.
    fn curve(&self, y: f32, brightest: f32) -> f32 {
        let y = if self.highlights < 0.0 && y > KNEE {
            let (t, end) = ((y - KNEE) / (1.0 - KNEE), (brightest - KNEE) / (1.0 - KNEE));
            // At full strength the brightest light just becomes white.
            let bend = -self.highlights * (1.0 - 1.0 / end);
            KNEE + (1.0 - KNEE) * t / (1.0 + bend * t)
        } else {
            y
        };
        if y > KNEE {
            let t = ((y - KNEE) / (1.0 - KNEE)).min(1.0);
            return y + self.highlights * 0.5 * (1.0 - KNEE) * t * (1.0 - t);
        }
        let u = y / KNEE;
        let strength = if self.shadows > 0.0 { 1.3 } else { 0.7 } * self.shadows;
        y * (1.0 + strength * (1.0 - u).powi(2))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn nothing_wanted_changes_nothing() {
        for table in Develop::default().tables(1.0) {
            assert_eq!(&table[..], &CODE_OF_ROOT[..]);
        }
    }

    #[test]
    fn a_stop_doubles_light_and_light_beyond_white_comes_back() {
        let at = |d: Develop, headroom: f32, light: f32| {
            d.tables(headroom)[1][((light / headroom).sqrt() * 65535.0) as usize]
        };
        let brighter = Develop { exposure: 1.0, ..Develop::default() };
        assert!(at(brighter, 1.0, 0.1).abs_diff(at(Develop::default(), 1.0, 0.2)) < 40);
        // Two stops above white are lost unless highlights are brought back; then they keep their order below white.
        assert_eq!(at(Develop::default(), 4.0, 2.0), 65535);
        let back = Develop { highlights: -1.0, ..Develop::default() };
        let (two, three) = (at(back, 4.0, 2.0), at(back, 4.0, 3.0));
        assert!(two < three && three < 65535, "{two} {three}");
    }

    #[test]
    fn white_balance_keeps_the_brightness_of_grey() {
        for (warmth, tint) in [(1.0, 0.0), (-1.0, 0.5), (0.3, -1.0)] {
            let gains = Develop { warmth, tint, ..Develop::default() }.gains();
            assert!((luminance(gains) - 1.0).abs() < 1e-5);
        }
    }

    proptest! {
        #[test]
        fn brighter_light_never_becomes_darker(
            exposure in -5.0..5.0f32, warmth in -1.0..1.0f32, tint in -1.0..1.0f32,
            highlights in -1.0..1.0f32, shadows in -1.0..1.0f32, headroom in 1.0..8.0f32
        ) {
            let develop = Develop { exposure, warmth, tint, highlights, shadows };
            prop_assert!(develop.is_valid());
            for table in develop.tables(headroom) {
                prop_assert!(table.windows(2).all(|w| w[0] <= w[1]));
                prop_assert_eq!(table[0], 0);
            }
        }
    }
}
