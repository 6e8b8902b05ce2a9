//! Camera raw: the sensor's light, demosaiced and brought to linear sRGB primaries, with its highlights kept.
//!
//! The decoder crate reads the file and interpolates the mosaic; the rest is here. White balance is the camera's; a
//! sensor that is full turns white instead of taking the tint of its channels. Nothing else is developed: exposure,
//! white balance and highlights belong to the set and are set once for all its frames. The crate panics on some
//! damaged files, so it works behind a guard, on threads of its own; it allocates what a directory announces, so directories are
//! checked first.

use super::directories::Directories;
use super::picture::{Wide, check_size, damaged};
use crate::camera::CameraData;
use crate::colour::{Matrix, XYZ_OF_SRGB, apply, inverse, times};
use crate::error::MediaError;
use evanu_core::geometry::Size;
use rawler::decoders::{RawDecodeParams, RawMetadata};
use rawler::formats::tiff::Rational;
use rawler::imgop::develop::{Intermediate, ProcessingStep, RawDevelop};
use rawler::imgop::xyz::Illuminant;
use rawler::rawsource::RawSource;
use rawler::{RawImage, RawlerError};
use rayon::prelude::*;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;
use std::sync::LazyLock;

const GUARDED: &str = "evanu-raw";

/// Threads on which a panic of the decoder is no news.
static POOL: LazyLock<Option<rayon::ThreadPool>> = LazyLock::new(|| {
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        if std::thread::current().name() != Some(GUARDED) {
            usual(info);
        }
    }));
    rayon::ThreadPoolBuilder::new().thread_name(|_| GUARDED.into()).stack_size(8 << 20).build().ok()
});

/// Decodes a raw file.
///
/// # Errors
/// When it is damaged or its camera is unknown; the error names the camera.
pub(super) fn raw(path: &Path, bytes: &[u8]) -> Result<(Wide, CameraData), MediaError> {
    let Some(pool) = POOL.as_ref() else {
        return Err(MediaError::new(path, "no thread could be started to read it", "close other programs"));
    };
    let work = || catch_unwind(AssertUnwindSafe(|| read(path, bytes)));
    pool.install(work).unwrap_or_else(|_| Err(damaged(path, "the raw data make no sense")))
}

fn failed(path: &Path, e: &RawlerError) -> MediaError {
    match e {
        RawlerError::Unsupported { model, make, what, .. } => {
            let camera = [make.trim(), model.trim()].join(" ");
            let camera = if camera.trim().is_empty() {
                "its camera".into()
            } else {
                format!("the camera {}", camera.trim())
            };
            MediaError::new(
                path,
                format!("{camera} is not known to Evanu's raw decoder ({})", what.trim()),
                "convert it to DNG or TIFF with your camera maker's program, or use the JPEG beside it",
            )
        }
        RawlerError::DecoderFailed(what) => damaged(path, what.lines().next().unwrap_or("")),
    }
}

fn read(path: &Path, bytes: &[u8]) -> Result<(Wide, CameraData), MediaError> {
    let bad = |e: RawlerError| failed(path, &e);
    let tiff = matches!(bytes, [b'I', b'I', ..] | [b'M', b'M', ..]);
    if tiff {
        Directories::of(bytes).check().map_err(|what| damaged(path, what))?;
    }
    if !blocks_end(bytes) {
        return Err(damaged(path, "its blocks reach beyond its end"));
    }
    // Some decoders look at the name.
    let source = RawSource::new_from_slice(bytes).with_path(path);
    let decoder = rawler::get_decoder(&source).map_err(bad)?;
    let first = RawDecodeParams::default();
    let declared = decoder.raw_image(&source, &first, true).map_err(bad)?;
    check_size(path, declared.width as u64, declared.height as u64)?;
    let image = decoder.raw_image(&source, &first, false).map_err(bad)?;
    let meta = decoder.raw_metadata(&source, &first).map_err(bad)?;
    let steps = [
        ProcessingStep::Rescale,
        ProcessingStep::Demosaic,
        ProcessingStep::FujiRotate,
        ProcessingStep::CropActiveArea,
        ProcessingStep::CropDefault,
    ];
    let plain = RawDevelop::new_with(&steps).develop_intermediate(&image).map_err(bad)?;
    let size = Size::new(plain.dim().w as u32, plain.dim().h as u32);
    check_size(path, u64::from(size.width), u64::from(size.height))?;
    let balance = balance(&image);
    let headroom = balance.iter().fold(1.0f32, |m, v| m.max(*v));
    let light = match plain {
        Intermediate::ThreeColor(p) => {
            let to_srgb = to_srgb(&image);
            p.data.par_iter().flat_map_iter(|v| developed(*v, balance, &to_srgb)).collect()
        }
        Intermediate::Monochrome(p) => p.data.iter().flat_map(|&v| [v; 3]).collect(),
        Intermediate::FourColor(_) => {
            return Err(MediaError::new(
                path,
                "its sensor has four colours, which Evanu does not read",
                "convert it to a TIFF with 16 bits",
            ));
        }
    };
    let camera = camera(&meta, image.orientation.to_u16());
    // All of what a TIFF says, such as the place and the author.
    let block = tiff.then(|| CameraData::parse(bytes).block).flatten().or(camera.block);
    Ok((Wide { size, light, headroom }, CameraData { block, ..camera }))
}

/// Whether the blocks of a file that is a row of them, as MRW is, lie within it: the decoder goes through them as they say, also in
/// circles.
fn blocks_end(bytes: &[u8]) -> bool {
    if !bytes.starts_with(b"\0MRM") {
        return true;
    }
    let number = |at: usize| {
        let four = bytes.get(at..at + 4)?.try_into().ok()?;
        Some(u32::from_be_bytes(four) as usize)
    };
    let Some(end) = number(4).map(|length| length + 8).filter(|end| *end <= bytes.len()) else {
        return false;
    };
    let mut at = 8;
    while at + 8 <= end {
        let Some(length) = number(at + 4) else { return false };
        at += 8 + length;
    }
    at <= end
}

/// White balance of the camera, green being one.
fn balance(image: &RawImage) -> [f32; 3] {
    let [r, g, b, _] = image.wb_coeffs;
    let good = |v: f32| v.is_finite() && v > 0.0;
    if good(r) && good(g) && good(b) {
        [(r / g).clamp(0.1, 10.0), 1.0, (b / g).clamp(0.1, 10.0)]
    } else {
        [1.0; 3]
    }
}

/// From balanced camera colours to linear sRGB; rows sum to one, so that grey stays grey.
fn to_srgb(image: &RawImage) -> Matrix {
    const SAME: Matrix = [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]];
    let wanted = [Illuminant::D65, Illuminant::D55, Illuminant::D50, Illuminant::Daylight, Illuminant::A];
    let Some((_, flat)) = image.color_matrix_find_first(wanted) else { return SAME };
    if flat.len() != 9 {
        return SAME;
    }
    let of_xyz: Matrix = std::array::from_fn(|r| std::array::from_fn(|c| flat[3 * r + c]));
    let mut of_srgb = times(&of_xyz, &XYZ_OF_SRGB);
    for row in &mut of_srgb {
        let sum: f32 = row.iter().sum();
        if sum.abs() < 1e-6 {
            return SAME;
        }
        row.iter_mut().for_each(|v| *v /= sum);
    }
    inverse(&of_srgb).unwrap_or(SAME)
}

/// One pixel: balanced, white where the sensor is full, in linear sRGB.
fn developed(camera: [f32; 3], balance: [f32; 3], to_srgb: &Matrix) -> [f32; 3] {
    let full = camera.iter().fold(0.0f32, |m, v| m.max(*v));
    let balanced: [f32; 3] = std::array::from_fn(|c| camera[c].max(0.0) * balance[c]);
    let light = apply(to_srgb, balanced);
    // From nine tenths of a full sensor on, colour cannot be trusted.
    let white = ((full - 0.9) / 0.1).clamp(0.0, 1.0);
    let brightest = balanced.iter().fold(0.0f32, |m, v| m.max(*v));
    light.map(|v| v + white * (brightest - v))
}

fn camera(meta: &RawMetadata, orientation: u16) -> CameraData {
    let exif = &meta.exif;
    let ratio = |r: &Option<Rational>| {
        r.as_ref().map(|r| f64::from(r.n) / f64::from(r.d)).filter(|v| v.is_finite() && *v > 0.0)
    };
    let text = |s: &str| s.trim_matches(['\0', ' ']).to_owned();
    let (make, model) = (text(&meta.make), text(&meta.model));
    let name = if model.starts_with(&make) { model } else { format!("{make} {model}") };
    let stamp =
        exif.date_time_original.as_deref().or(exif.create_date.as_deref()).or(exif.modify_date.as_deref());
    let part = exif
        .sub_sec_time_original
        .as_deref()
        .map(text)
        .filter(|s| !s.is_empty() && s.bytes().all(|b| b.is_ascii_digit()));
    let time = stamp.and_then(|t| crate::camera::clock(t.trim_end_matches('\0'))).map(|t| match part {
        Some(p) => format!("{t}.{p}"),
        None => t,
    });
    CameraData {
        time,
        exposure_s: ratio(&exif.exposure_time),
        aperture: ratio(&exif.fnumber),
        iso: exif.iso_speed.or(exif.iso_speed_ratings.map(u32::from)),
        focal_mm: ratio(&exif.focal_length),
        camera: Some(name.trim().to_owned()).filter(|n| !n.is_empty()),
        orientation: u8::try_from(orientation).unwrap_or(1).clamp(1, 8),
        block: None,
    }
    .with_block()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_that_lead_in_circles_are_refused_at_once() {
        let file = |length: u32| {
            let mut bytes = b"\0MRM".to_vec();
            bytes.extend(40u32.to_be_bytes());
            bytes.extend(b"\0PRX");
            bytes.extend(length.to_be_bytes());
            bytes.resize(48, 0);
            bytes
        };
        assert!(blocks_end(&file(32)));
        assert!(!blocks_end(&file(33)));
        // Eight and this are nothing by 32 bits.
        let e = raw(Path::new("circle.mrw"), &file(u32::MAX - 7)).err().unwrap().to_string();
        assert!(e.contains("circle.mrw") && e.contains("beyond its end"), "{e}");
    }
}
