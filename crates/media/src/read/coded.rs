//! Colours told by code points (ITU-T H.273), as pictures in the manner of clips tell them: wider primaries go by a profile of their own,
//! PQ and HLG (ITU-R BT.2100) by a table to linear light and a matrix, with graphics' white as one. Cost: a look-up and a matrix a pixel.

use super::picture::{Decoded, Stored, Wide};
use super::profile;
use crate::camera::CameraData;
use crate::colour::{Matrix, XYZ_OF_SRGB, apply, inverse, times, xyz_of};
use crate::error::MediaError;
use evanu_core::pixel::Samples;
use std::path::Path;

/// Light of a full code of [`Transfer::Pq`], and of white beside graphics (ITU-R BT.2408), in candelas a square metre.
const PQ_PEAK: f32 = 10_000.0;
const WHITE: f32 = 203.0;
/// Greatest light that is kept, as of other files with light beyond white.
const BRIGHTEST: f32 = 64.0;

/// How light is coded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Transfer {
    /// As sRGB does, or so nearly that it is meant to be shown the same.
    Usual,
    /// The light itself.
    Linear,
    /// Of what a display shall show (SMPTE ST 2084).
    Pq,
    /// Of what a camera saw (hybrid log-gamma, ITU-R BT.2100).
    Hlg,
}

/// The primaries and the transfer of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct CodePoints {
    pub primaries: u8,
    pub transfer: u8,
}

impl CodePoints {
    fn transfer(self) -> Transfer {
        match self.transfer {
            8 => Transfer::Linear,
            16 => Transfer::Pq,
            18 => Transfer::Hlg,
            _ => Transfer::Usual,
        }
    }

    /// Linear sRGB of linear light in these primaries.
    fn to_srgb(self) -> Option<Matrix> {
        let white = (0.3127, 0.329);
        let to_xyz = match self.primaries {
            9 => xyz_of((0.708, 0.292), (0.17, 0.797), (0.131, 0.046), white)?,
            12 => xyz_of((0.68, 0.32), (0.265, 0.69), (0.15, 0.06), white)?,
            _ => return None,
        };
        Some(times(&inverse(&XYZ_OF_SRGB)?, &to_xyz))
    }

    /// The profile of the same colours, where they are others than sRGB's.
    fn profile(self) -> Option<&'static [u8]> {
        match self.primaries {
            9 => Some(&profile::BT_2020),
            12 => Some(&profile::DISPLAY_P3),
            _ => None,
        }
    }

    /// Whether samples may stand for light beyond white.
    pub(super) fn is_light(self) -> bool {
        self.transfer() != Transfer::Usual
    }

    /// The frame of a picture with these colours and no profile, which its decoder has turned.
    pub(super) fn decoded(self, path: &Path, stored: Stored) -> Result<Decoded, MediaError> {
        let samples = match &stored.samples {
            Samples::Sixteen(samples) if self.is_light() && stored.channels == 3 => samples,
            _ => {
                let icc = self.profile().filter(|_| stored.channels == 3).map(<[u8]>::to_vec);
                return Decoded::of_upright(path, Stored { icc, ..stored });
            }
        };
        let light: Vec<f32> = (0..=u16::MAX).map(|v| self.light(f32::from(v) / 65535.0)).collect();
        let matrix = self.to_srgb();
        let pixel = |p: &[u16]| {
            let own: [f32; 3] = std::array::from_fn(|c| light[usize::from(p[c])]);
            let shown = if self.transfer() == Transfer::Hlg { displayed(own) } else { own };
            matrix.as_ref().map_or(shown, |m| apply(m, shown)).map(|v| v.clamp(0.0, BRIGHTEST))
        };
        let light: Vec<f32> = samples.chunks_exact(3).flat_map(pixel).collect();
        let headroom = light.iter().fold(1.0f32, |m, v| m.max(*v));
        let camera = CameraData { orientation: 1, ..stored.camera() };
        Ok(Decoded::of_light(&Wide { size: stored.size, light, headroom }, camera))
    }

    /// Light of a code, 0..=1, where graphics' white is one; for HLG of the scene.
    fn light(self, code: f32) -> f32 {
        match self.transfer() {
            Transfer::Usual | Transfer::Linear => code,
            Transfer::Pq => {
                let root = code.powf(1.0 / 78.843_75);
                let power = (root - 0.835_937_5).max(0.0) / (18.851_563 - 18.6875 * root);
                PQ_PEAK / WHITE * power.powf(1.0 / 0.159_301_76)
            }
            Transfer::Hlg if code <= 0.5 => code * code / 3.0,
            Transfer::Hlg => (((code - 0.559_910_7) / 0.178_832_77).exp() + 0.284_668_92) / 12.0,
        }
    }
}

/// What a display of 1000 candelas shows of light of a scene (ITU-R BT.2100, table 5), where graphics' white is one.
fn displayed(scene: [f32; 3]) -> [f32; 3] {
    let luminance = 0.2627 * scene[0] + 0.678 * scene[1] + 0.0593 * scene[2];
    scene.map(|v| 1000.0 / WHITE * luminance.max(0.0).powf(0.2) * v)
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::geometry::Size;

    fn decoded(primaries: u8, transfer: u8, samples: [u16; 3]) -> Decoded {
        let samples = Samples::Sixteen(samples.to_vec());
        let stored = Stored { size: Size::new(1, 1), channels: 3, samples, icc: None, exif: None };
        CodePoints { primaries, transfer }.decoded(Path::new("a.heic"), stored).unwrap()
    }

    #[test]
    fn white_beside_graphics_is_white_and_more_is_kept() {
        // BT.2408: graphics' white is 58 % in PQ and 75 % in HLG.
        for (transfer, share) in [(16, 0.5807), (18, 0.75)] {
            let code = (share * 65535.0f32) as u16;
            let points = CodePoints { primaries: 9, transfer };
            let own = points.light(share);
            let shown = if transfer == 18 { displayed([own; 3])[0] } else { own };
            assert!((shown - 1.0).abs() < 0.02, "{transfer}: {shown}");
            let bright = decoded(9, transfer, [code / 4 * 5; 3]);
            assert!(bright.headroom > 2.0, "{transfer}: {}", bright.headroom);
            // Grey stays grey in other primaries.
            let Samples::Wide(grey) = bright.samples else { panic!("light stays light") };
            assert!(grey.iter().all(|v| v.abs_diff(grey[0]) < 40), "{grey:?}");
        }
    }

    #[test]
    fn a_wider_space_is_brought_into_srgb_and_srgb_stays() {
        let Samples::Sixteen(same) = decoded(1, 13, [30_000, 50_000, 20_000]).samples else { panic!() };
        assert_eq!(same, [30_000, 50_000, 20_000]);
        let Samples::Sixteen(wide) = decoded(12, 13, [30_000, 50_000, 20_000]).samples else { panic!() };
        assert!(wide[0] < 29_000 && wide[1] > 50_000, "{wide:?}");
        let unsaid = decoded(2, 2, [9, 8, 7]);
        assert!(matches!(unsaid.samples, Samples::Sixteen(d) if d == [9, 8, 7]));
    }
}
