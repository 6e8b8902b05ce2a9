//! WebP, lossy or lossless; of a moving one the first picture.

use super::PictureFormat;
use super::picture::{Decoded, Stored, check_size, damaged, without_alpha};
use crate::error::MediaError;
use evanu_core::pixel::Samples;
use std::io::Cursor;
use std::path::Path;

/// Its place in the list of what can be read.
pub(super) static FORMAT: PictureFormat = PictureFormat {
    recognises: |head| matches!(head, [b'R', b'I', b'F', b'F', _, _, _, _, b'W', b'E', b'B', b'P', ..]),
    decode: |path, bytes| Decoded::of_stored(path, webp(path, bytes)?),
};

fn webp(path: &Path, bytes: &[u8]) -> Result<Stored, MediaError> {
    let bad = |e: image_webp::DecodingError| damaged(path, &e.to_string());
    let mut decoder = image_webp::WebPDecoder::new(Cursor::new(bytes)).map_err(bad)?;
    let (w, h) = decoder.dimensions();
    let size = check_size(path, u64::from(w), u64::from(h))?;
    let length = decoder.output_buffer_size().ok_or_else(|| damaged(path, "its size"))?;
    let mut data = vec![0; length];
    decoder.read_image(&mut data).map_err(bad)?;
    let icc = decoder.icc_profile().map_err(bad)?;
    let exif = decoder.exif_metadata().map_err(bad)?;
    // Some writers put the marker of JPEG's block before the data.
    let exif = exif.map(|b| b.strip_prefix(b"Exif\0\0").map_or(b.clone(), <[u8]>::to_vec));
    let (channels, samples) = without_alpha(if decoder.has_alpha() { 4 } else { 3 }, Samples::Eight(data));
    Ok(Stored { size, channels, samples, icc, exif })
}
