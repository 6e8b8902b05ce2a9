//! HEIC and AVIF, by the system's libheif; of several pictures the one that is shown first.
//!
//! Turns, mirrors and crops that the file asks for are its decoder's work. Where libheif is missing, the error says so.

mod library;

use super::PictureFormat;
use super::coded::CodePoints;
use super::picture::{Decoded, Stored, check_size, damaged};
use crate::error::MediaError;
use evanu_core::pixel::Samples;
use library::Library;
use std::path::Path;

/// Its place in the list of what can be read.
pub(super) static FORMAT: PictureFormat = PictureFormat { recognises, decode };

/// Brands of still pictures (ISO/IEC 23008-12 and the AV1 image format).
const BRANDS: [&[u8; 4]; 8] = [b"heic", b"heix", b"heim", b"heis", b"hevc", b"mif1", b"avif", b"avis"];

fn recognises(head: &[u8]) -> bool {
    head.get(4..8) == Some(b"ftyp") && BRANDS.iter().any(|b| head.get(8..12) == Some(&b[..]))
}

fn decode(path: &Path, bytes: &[u8]) -> Result<Decoded, MediaError> {
    let library = Library::get().ok_or_else(|| {
        let remedy =
            "install it (Debian's package is libheif1) and start Evanu again, or export the picture as JPEG";
        MediaError::new(
            path,
            "it is HEIC or AVIF, and the library that reads these (libheif) is missing",
            remedy,
        )
    })?;
    let bad = |detail: String| damaged(path, &detail);
    let file = library.open(bytes).map_err(bad)?;
    let picture = file.primary().map_err(bad)?;
    let (width, height) = picture.size();
    let size = check_size(path, u64::from(width), u64::from(height))?;
    let bits = picture.bits();
    let (icc, points) = (picture.icc(), picture.code_points());
    // The block begins with how far on its TIFF header lies.
    let exif = picture.exif().and_then(|block| {
        let offset = u32::from_be_bytes(block.get(..4)?.try_into().ok()?) as usize;
        block.get(4usize.checked_add(offset)?..).map(<[u8]>::to_vec)
    });
    let points = points.map(|(primaries, transfer)| CodePoints { primaries, transfer });
    let light = icc.is_none() && points.is_some_and(CodePoints::is_light);
    let samples = match bits <= 8 {
        true => picture.eight(size.width, size.height).map(Samples::Eight),
        false => picture.sixteen(size.width, size.height, bits).map(Samples::Sixteen),
    };
    let samples = match samples.map_err(bad)? {
        Samples::Eight(data) if light => Samples::Sixteen(data.iter().map(|v| u16::from(*v) * 257).collect()),
        samples => samples,
    };
    let stored = Stored { size, channels: 3, samples, icc, exif };
    match points {
        Some(points) if stored.icc.is_none() => points.decoded(path, stored),
        _ => Decoded::of_upright(path, stored),
    }
}
