//! OpenEXR out: linear light in half floats; and files with some pixels replaced, whose others keep every bit.

use crate::camera::CameraData;
use crate::colour::{apply, inverse};
use crate::error::MediaError;
use crate::read::exr::to_srgb;
use evanu_core::geometry::Size;
pub(crate) use exr::prelude::f16;
use exr::prelude::*;
use std::path::Path;

/// Writes interleaved linear light as half floats to `to`.
pub(crate) fn encode(
    to: impl std::io::Write + std::io::Seek,
    size: Size,
    light: &[f16],
    from: Option<&CameraData>,
) -> std::io::Result<()> {
    let width = size.width as usize;
    let pixels = |at: Vec2<usize>| {
        let i = 3 * (at.y() * width + at.x());
        (light[i], light[i + 1], light[i + 2])
    };
    let mut attributes = LayerAttributes::named("plate");
    if let Some(c) = from {
        attributes.exposure = c.exposure_s.map(|v| v as f32);
        attributes.aperture = c.aperture.map(|v| v as f32);
        attributes.iso_speed = c.iso.map(|v| v as f32);
        attributes.owner = c.camera.as_deref().and_then(Text::new_or_none);
        let stamp =
            c.time.as_deref().map(|t| t.split('.').next().unwrap_or(t).replace('-', ":").replace('T', " "));
        attributes.capture_date = stamp.as_deref().and_then(Text::new_or_none);
    }
    let encoding = Encoding { compression: Compression::ZIP16, ..Encoding::FAST_LOSSLESS };
    let layer =
        Layer::new((width, size.height as usize), attributes, encoding, SpecificChannels::rgb(pixels));
    let mut image = Image::from_layer(layer);
    image.attributes.chromaticities = Some(attribute::Chromaticities {
        red: Vec2(0.64, 0.33),
        green: Vec2(0.3, 0.6),
        blue: Vec2(0.15, 0.06),
        white: Vec2(0.3127, 0.329),
    });
    image.write().to_buffered(to).map_err(std::io::Error::other)
}

/// Writes a file anew with other light, in sRGB's primaries, where `light` gives some for a pixel (column and row); all other samples,
/// further channels and what is told about it stay as they are.
///
/// # Errors
/// When the file cannot be read or the new one not written.
pub fn rewrite_light(
    from: &Path,
    to: &Path,
    light: &dyn Fn(u32, u32) -> Option<[f32; 3]>,
) -> std::result::Result<(), MediaError> {
    let failed =
        |e: exr::error::Error| MediaError::new(from, format!("it cannot be read ({e})"), "save it anew");
    let mut image = read()
        .no_deep_data()
        .largest_resolution_level()
        .all_channels()
        .first_valid_layer()
        .all_attributes()
        .from_file(from)
        .map_err(failed)?;
    let back = image.attributes.chromaticities.and_then(to_srgb).and_then(|m| inverse(&m));
    let size = image.layer_data.size;
    let changed: Vec<(usize, [f32; 3])> = (0..size.area())
        .filter_map(|i| {
            let rgb = light((i % size.width()) as u32, (i / size.width()) as u32)?;
            Some((i, back.as_ref().map_or(rgb, |m| apply(m, rgb))))
        })
        .collect();
    for channel in &mut image.layer_data.channel_data.list {
        let part: Option<fn(&[f32; 3]) -> f32> = match channel.name.to_string().as_str() {
            "R" => Some(|v| v[0]),
            "G" => Some(|v| v[1]),
            "B" => Some(|v| v[2]),
            "Y" => Some(|v| evanu_core::pixel::tone::luminance(*v)),
            _ => None,
        };
        let Some(part) = part else { continue };
        for (i, rgb) in &changed {
            match &mut channel.sample_data {
                FlatSamples::F16(samples) => samples[*i] = f16::from_f32(part(rgb)),
                FlatSamples::F32(samples) => samples[*i] = part(rgb),
                FlatSamples::U32(samples) => samples[*i] = part(rgb).max(0.0) as u32,
            }
        }
    }
    crate::encode::whole(to, |file| image.write().to_buffered(file).map_err(std::io::Error::other))
}
