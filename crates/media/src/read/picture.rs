//! A picture on its way from a file to a frame: as the file holds it, then upright in the working space.
//!
//! A picture with another profile than sRGB is widened to 16 bits before it is converted, so that conversion costs no steps.

use super::profile;
use crate::camera::CameraData;
use crate::error::MediaError;
use evanu_core::geometry::Size;
use evanu_core::pixel::{Samples, tone};
use std::path::Path;

/// Pictures above this number of pixels are refused.
pub const MAX_PIXELS: u64 = 400_000_000;
const MAX_SIDE: u32 = 60_000;

/// An upright picture in the working space.
pub struct Decoded {
    /// Columns and rows.
    pub size: Size,
    /// Interleaved RGB.
    pub samples: Samples,
    /// Light that a full sample stands for; one but for wide samples.
    pub headroom: f32,
    /// What the camera wrote.
    pub camera: CameraData,
}

/// Linear light that may go beyond white.
pub(crate) struct Wide {
    pub size: Size,
    /// Interleaved, not negative.
    pub light: Vec<f32>,
    /// The greatest light that is kept, at least one.
    pub headroom: f32,
}

impl Wide {
    fn samples(&self) -> Samples {
        Samples::Wide(tone::roots(&self.light, 1.0 / self.headroom))
    }
}

impl Decoded {
    /// Of linear light, turned upright.
    pub(super) fn of_light(wide: &Wide, camera: CameraData) -> Self {
        let (size, samples) = upright(wide.size, wide.samples(), camera.orientation);
        Self { size, samples, headroom: wide.headroom, camera }
    }

    /// Of a picture as its file holds it: brought to the working space and turned upright.
    pub(super) fn of_stored(path: &Path, stored: Stored) -> Result<Self, MediaError> {
        let camera = stored.camera();
        Self::turned(path, stored, camera)
    }

    /// Of a picture that its decoder has turned, whatever its camera data say.
    pub(super) fn of_upright(path: &Path, stored: Stored) -> Result<Self, MediaError> {
        let camera = CameraData { orientation: 1, ..stored.camera() };
        Self::turned(path, stored, camera)
    }

    fn turned(path: &Path, stored: Stored, camera: CameraData) -> Result<Self, MediaError> {
        let samples = to_working(path, stored.channels, stored.samples, stored.icc.as_deref())?;
        let (size, samples) = upright(stored.size, samples, camera.orientation);
        Ok(Self { size, samples, headroom: 1.0, camera })
    }
}

/// A picture as the file holds it.
pub(super) struct Stored {
    pub size: Size,
    pub channels: usize,
    pub samples: Samples,
    pub icc: Option<Vec<u8>>,
    pub exif: Option<Vec<u8>>,
}

impl Stored {
    /// What the camera wrote.
    pub(super) fn camera(&self) -> CameraData {
        let nothing = || CameraData { orientation: 1, ..CameraData::default() };
        self.exif.as_deref().map_or_else(nothing, CameraData::parse)
    }
}

pub(crate) fn check_size(path: &Path, width: u64, height: u64) -> Result<Size, MediaError> {
    if width == 0 || height == 0 {
        return Err(MediaError::new(path, "it declares a picture without pixels", "export it again"));
    }
    if width > u64::from(MAX_SIDE) || height > u64::from(MAX_SIDE) || width * height > MAX_PIXELS {
        return Err(MediaError::new(
            path,
            format!("it declares {width} × {height} pixels, more than Evanu takes (400 megapixels)"),
            "reduce it or cut it into parts",
        ));
    }
    Ok(Size::new(width as u32, height as u32))
}

pub(crate) fn damaged(path: &Path, detail: &str) -> MediaError {
    let reason = format!("the file is damaged or cut short ({})", detail.trim().trim_end_matches('.'));
    MediaError::new(path, reason, "copy it from the camera again or leave it out")
}

/// Drops an alpha channel: what a camera saw is whole.
pub(super) fn without_alpha(stored: usize, samples: Samples) -> (usize, Samples) {
    fn drop_last<T: Copy>(data: Vec<T>, stored: usize) -> Vec<T> {
        data.chunks_exact(stored).flat_map(|p| p[..stored - 1].iter().copied()).collect()
    }
    if stored % 2 == 1 {
        return (stored, samples);
    }
    let samples = match samples {
        Samples::Eight(d) => Samples::Eight(drop_last(d, stored)),
        Samples::Sixteen(d) => Samples::Sixteen(drop_last(d, stored)),
        Samples::Wide(d) => Samples::Wide(drop_last(d, stored)),
    };
    (stored - 1, samples)
}

fn to_working(
    path: &Path,
    channels: usize,
    samples: Samples,
    icc: Option<&[u8]>,
) -> Result<Samples, MediaError> {
    let wide = || match &samples {
        Samples::Eight(d) => d.iter().map(|&v| u16::from(v) * 257).collect(),
        Samples::Sixteen(d) | Samples::Wide(d) => d.clone(),
    };
    if let Some(icc) = icc {
        match profile::to_srgb(icc, channels, wide) {
            Ok(Some(converted)) => return Ok(Samples::Sixteen(converted)),
            Ok(None) => {}
            Err(e) => {
                return Err(MediaError::new(
                    path,
                    format!("its colour profile cannot be used ({e})"),
                    "export it with an sRGB profile",
                ));
            }
        }
    }
    if channels == 3 {
        return Ok(samples);
    }
    Ok(match samples {
        Samples::Eight(d) => Samples::Eight(d.iter().flat_map(|&v| [v; 3]).collect()),
        Samples::Sixteen(d) => Samples::Sixteen(d.iter().flat_map(|&v| [v; 3]).collect()),
        Samples::Wide(d) => Samples::Wide(d.iter().flat_map(|&v| [v; 3]).collect()),
    })
}

/// Applies an EXIF orientation (1..=8).
fn upright(size: Size, samples: Samples, orientation: u8) -> (Size, Samples) {
    if orientation <= 1 {
        return (size, samples);
    }
    fn turn<T: Copy>(size: Size, data: &[T], orientation: u8) -> Vec<T> {
        let (w, h) = (size.width as usize, size.height as usize);
        let (ow, oh) = if orientation >= 5 { (h, w) } else { (w, h) };
        let mut out = Vec::with_capacity(data.len());
        for y in 0..oh {
            for x in 0..ow {
                let (sx, sy) = match orientation {
                    2 => (w - 1 - x, y),
                    3 => (w - 1 - x, h - 1 - y),
                    4 => (x, h - 1 - y),
                    5 => (y, x),
                    6 => (y, h - 1 - x),
                    7 => (w - 1 - y, h - 1 - x),
                    _ => (w - 1 - y, x),
                };
                out.extend_from_slice(&data[3 * (sy * w + sx)..][..3]);
            }
        }
        out
    }
    let turned = match &samples {
        Samples::Eight(d) => Samples::Eight(turn(size, d, orientation)),
        Samples::Sixteen(d) => Samples::Sixteen(turn(size, d, orientation)),
        Samples::Wide(d) => Samples::Wide(turn(size, d, orientation)),
    };
    let size = if orientation >= 5 { Size::new(size.height, size.width) } else { size };
    (size, turned)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn orientations_bring_the_corner_where_the_standard_says() {
        // Stored 3×2; the first stored pixel is marked. EXIF 2.32, table 6: where the 0th row and column lie.
        let data: Vec<u8> = (0..6).flat_map(|i| [i, i, i]).collect();
        let at = |o: u8| {
            let (s, d) = upright(Size::new(3, 2), Samples::Eight(data.clone()), o);
            let Samples::Eight(d) = d else { panic!() };
            let i = d.chunks(3).position(|p| p[0] == 0).unwrap() as u32;
            (s.width, s.height, i % s.width, i / s.width)
        };
        assert_eq!(at(1), (3, 2, 0, 0));
        assert_eq!(at(2), (3, 2, 2, 0));
        assert_eq!(at(3), (3, 2, 2, 1));
        assert_eq!(at(4), (3, 2, 0, 1));
        assert_eq!(at(5), (2, 3, 0, 0));
        assert_eq!(at(6), (2, 3, 1, 0));
        assert_eq!(at(7), (2, 3, 1, 2));
        assert_eq!(at(8), (2, 3, 0, 2));
    }
}
