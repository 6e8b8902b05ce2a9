//! A DNG as a camera would write it: the mosaic of an invented sensor, uncompressed, with what is needed to develop it
//! (DNG specification 1.4, the part that is mandatory).

use evanu_core::geometry::Size;
use evanu_media::CameraData;
use std::io::{Seek, Write};
use tiff::encoder::{Rational, SRational, TiffEncoder};
use tiff::tags::Tag;

/// XYZ (D65) to the sensor's colours; with the white of D65 it gives [`neutral`].
const XYZ_TO_CAMERA: [[f32; 3]; 3] =
    [[0.716, -0.222, -0.0605], [-0.3957, 1.2016, 0.1973], [-0.0661, 0.1587, 0.4985]];
/// The sensor's black and full codes.
const BLACK: u16 = 512;
const FULL: u16 = 15_871;

/// Colours of the sensor, 0..=1, for linear sRGB: the matrix and its neutral.
pub fn sensor(rgb: [f32; 3]) -> [f32; 3] {
    const XYZ: [[f32; 3]; 3] = [[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]];
    let through = |m: &[[f32; 3]; 3], v: [f32; 3]| m.map(|row| row[0] * v[0] + row[1] * v[1] + row[2] * v[2]);
    through(&XYZ_TO_CAMERA, through(&XYZ, rgb))
}

/// What the sensor gives for white, green being one.
fn neutral() -> [f32; 3] {
    let white = sensor([1.0; 3]);
    white.map(|v| v / white[1])
}

/// Writes a mosaic of red, green, green, blue (`codes` of the sensor, 0..=1) with camera data.
///
/// # Errors
/// When it cannot be written.
pub fn write_dng(
    to: impl Write + Seek,
    size: Size,
    mosaic: &[f32],
    camera: &CameraData,
) -> tiff::TiffResult<()> {
    let mut encoder = TiffEncoder::new(to)?;
    let mut exif = encoder.extra_directory()?;
    let ratio = |v: f64, d: u32| Rational { n: (v * f64::from(d)).round() as u32, d };
    if let Some(s) = camera.exposure_s {
        exif.write_tag(Tag::Unknown(33434), Rational { n: 1, d: (1.0 / s).round() as u32 })?;
    }
    if let Some(a) = camera.aperture {
        exif.write_tag(Tag::Unknown(33437), ratio(a, 10))?;
    }
    if let Some(i) = camera.iso {
        exif.write_tag(Tag::Unknown(34855), i as u16)?;
    }
    if let Some(t) = &camera.time {
        let (whole, part) = t.split_once('.').unwrap_or((t, "0"));
        exif.write_tag(Tag::Unknown(36867), &*whole.replace('-', ":").replace('T', " "))?;
        exif.write_tag(Tag::Unknown(37521), part)?;
    }
    if let Some(f) = camera.focal_mm {
        exif.write_tag(Tag::Unknown(37386), ratio(f, 10))?;
    }
    let exif = exif.finish_with_offsets()?.offset;
    let mut d = encoder.image_directory()?;
    let code = |v: &f32| BLACK + (v.clamp(0.0, 1.0) * f32::from(FULL - BLACK)).round() as u16;
    let codes: Vec<u16> = mosaic.iter().map(code).collect();
    let strip = d.write_data(codes.as_slice())? as u32;
    macro_rules! put {
        ($tag:literal, $value:expr) => {
            d.write_tag(Tag::Unknown($tag), $value)?
        };
    }
    let name = camera.camera.clone().unwrap_or_else(|| "Hilltop One".into());
    put!(254, 0u32);
    put!(256, size.width);
    put!(257, size.height);
    put!(258, 16u16);
    put!(259, 1u16);
    put!(262, 32803u16);
    put!(271, "Hilltop");
    put!(272, name.as_str());
    put!(273, strip);
    put!(274, 1u16);
    put!(277, 1u16);
    put!(278, size.height);
    put!(279, 2 * codes.len() as u32);
    put!(33421, &[2u16, 2][..]);
    put!(33422, &[0u8, 1, 1, 2][..]);
    put!(34665, exif);
    put!(50706, &[1u8, 4, 0, 0][..]);
    put!(50707, &[1u8, 1, 0, 0][..]);
    put!(50708, name.as_str());
    put!(50710, &[0u8, 1, 2][..]);
    put!(50711, 1u16);
    put!(50714, BLACK);
    put!(50717, FULL);
    let flat: Vec<SRational> = XYZ_TO_CAMERA
        .iter()
        .flatten()
        .map(|v| SRational { n: (v * 10_000.0).round() as i32, d: 10_000 })
        .collect();
    put!(50721, flat.as_slice());
    let neutral: Vec<Rational> = neutral().iter().map(|v| ratio(f64::from(*v), 1_000_000)).collect();
    put!(50728, neutral.as_slice());
    put!(50778, 21u16);
    d.finish()
}
