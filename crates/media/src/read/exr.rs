//! OpenEXR: linear light in floats.
//!
//! Primaries other than sRGB's are converted by the file's own chromaticities. Light up to six stops above white is kept;
//! what is brighter is cut there, and negative or undefined light is none.

use super::PictureFormat;
use super::picture::{Decoded, Wide, check_size, damaged};
use crate::camera::CameraData;
use crate::colour::{Matrix, XYZ_OF_SRGB, apply, inverse, times, xyz_of};
use crate::error::MediaError;
use evanu_core::geometry::Size;
use exr::prelude::*;
use std::io::Cursor;
use std::path::Path;

/// Its place in the list of what can be read.
pub(super) static FORMAT: PictureFormat = PictureFormat {
    recognises: |head| matches!(head, [0x76, 0x2F, 0x31, 0x01, ..]),
    decode: |path, bytes| decode(path, bytes).map(|(wide, camera)| Decoded::of_light(&wide, camera)),
};

/// Samples of all channels together that are read.
const MOST_SAMPLES: u64 = 1_600_000_000;
/// Greatest light that is kept.
const BRIGHTEST: f32 = 64.0;

/// Decodes the first layer with red, green and blue, or one grey channel.
pub(crate) fn decode(path: &Path, bytes: &[u8]) -> std::result::Result<(Wide, CameraData), MediaError> {
    let meta =
        MetaData::read_from_buffered(Cursor::new(bytes), false).map_err(|e| damaged(path, &e.to_string()))?;
    let header = meta.headers.first().ok_or_else(|| damaged(path, "it has no layer"))?;
    let declared = header.layer_size;
    check_size(path, declared.width() as u64, declared.height() as u64)?;
    if header.channels.list.len() as u64 * declared.area() as u64 > MOST_SAMPLES {
        return Err(MediaError::new(
            path,
            format!("it holds {} channels, more than Evanu takes at this size", header.channels.list.len()),
            "save it with the channels R, G and B only",
        ));
    }
    // What is declared must be there: a float compresses a thousandfold at most.
    if declared.area() as u64 > bytes.len() as u64 * 1100 {
        return Err(damaged(path, "it declares far more pixels than it holds"));
    }
    let image = read()
        .no_deep_data()
        .largest_resolution_level()
        .all_channels()
        .first_valid_layer()
        .all_attributes()
        .from_buffered(Cursor::new(bytes))
        .map_err(|e| damaged(path, &e.to_string()))?;
    let layer = &image.layer_data;
    let find = |name: &str| layer.channel_data.list.iter().find(|c| c.name.to_string() == name);
    let names = if find("R").is_some() { ["R", "G", "B"] } else { ["Y", "Y", "Y"] };
    let [Some(r), Some(g), Some(b)] = names.map(find) else {
        return Err(MediaError::new(
            path,
            "its first layer has no red, green and blue",
            "save it with the channels R, G and B",
        ));
    };
    let size = Size::new(layer.size.width() as u32, layer.size.height() as u32);
    let clean = |v: f32| if v.is_nan() { 0.0 } else { v.clamp(0.0, BRIGHTEST) };
    let channel = |c: &AnyChannel<FlatSamples>| -> Vec<f32> { c.sample_data.values_as_f32().collect() };
    let (r, g, b) = (channel(r), channel(g), channel(b));
    let convert = image.attributes.chromaticities.and_then(to_srgb);
    let mut light = Vec::with_capacity(3 * r.len());
    for i in 0..r.len() {
        let rgb = [r[i], g[i], b[i]];
        light.extend(convert.as_ref().map_or(rgb, |m| apply(m, rgb)).map(clean));
    }
    let headroom = light.iter().fold(1.0f32, |m, v| m.max(*v));
    Ok((Wide { size, light, headroom }, camera(&layer.attributes)))
}

/// The way from a file's primaries to sRGB's; `None` where they are these.
pub(crate) fn to_srgb(c: attribute::Chromaticities) -> Option<Matrix> {
    let at = |v: Vec2<f32>| (v.x(), v.y());
    let to_xyz = xyz_of(at(c.red), at(c.green), at(c.blue), at(c.white))?;
    let to_srgb = times(&inverse(&XYZ_OF_SRGB)?, &to_xyz);
    let far = to_srgb.iter().enumerate().any(|(i, row)| {
        row.iter().enumerate().any(|(j, v)| (v - if i == j { 1.0 } else { 0.0 }).abs() > 0.01)
    });
    far.then_some(to_srgb)
}

fn camera(from: &LayerAttributes) -> CameraData {
    let number = |v: Option<f32>| v.map(f64::from).filter(|v| v.is_finite() && *v > 0.0);
    CameraData {
        time: from.capture_date.as_ref().and_then(|t| crate::camera::clock(&t.to_string())),
        exposure_s: number(from.exposure),
        aperture: number(from.aperture),
        iso: from.iso_speed.filter(|v| *v >= 1.0).map(|v| v as u32),
        focal_mm: None,
        camera: from.owner.as_ref().map(ToString::to_string),
        orientation: 1,
        block: None,
    }
    .with_block()
}
