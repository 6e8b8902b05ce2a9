//! Baseline and progressive JPEG.

use super::PictureFormat;
use super::picture::{Decoded, Stored, check_size, damaged};
use crate::error::MediaError;
use evanu_core::pixel::Samples;
use std::path::Path;
use zune_jpeg::JpegDecoder;
use zune_jpeg::zune_core::bytestream::ZCursor;
use zune_jpeg::zune_core::colorspace::ColorSpace;
use zune_jpeg::zune_core::options::DecoderOptions;

/// Its place in the list of what can be read.
pub(super) static FORMAT: PictureFormat = PictureFormat {
    recognises: |head| matches!(head, [0xFF, 0xD8, 0xFF, ..]),
    decode: |path, bytes| Decoded::of_stored(path, jpeg(path, bytes)?),
};

fn jpeg(path: &Path, bytes: &[u8]) -> Result<Stored, MediaError> {
    let options = DecoderOptions::default()
        .set_strict_mode(false)
        .set_max_width(65_535)
        .set_max_height(65_535)
        .jpeg_set_out_colorspace(ColorSpace::RGB);
    let mut decoder = JpegDecoder::new_with_options(ZCursor::new(bytes), options);
    decoder.decode_headers().map_err(|e| damaged(path, &e.to_string()))?;
    let info = decoder.info().ok_or_else(|| damaged(path, "no frame header"))?;
    let size = check_size(path, u64::from(info.width), u64::from(info.height))?;
    // A decoder fills what a cut file lacks with grey; the end marker tells (a thumbnail's lies in the head).
    let tail = &bytes[bytes.len() - (bytes.len() / 2).min(1 << 16)..];
    if !tail.windows(2).any(|w| w == [0xFF, 0xD9]) {
        return Err(damaged(path, "its end is missing"));
    }
    let data = decoder.decode().map_err(|e| damaged(path, &e.to_string()))?;
    if data.len() as u64 != 3 * size.pixels() {
        return Err(MediaError::new(
            path,
            "its colours are stored in an unusual way",
            "convert it to an RGB JPEG",
        ));
    }
    Ok(Stored {
        size,
        channels: 3,
        samples: Samples::Eight(data),
        icc: decoder.icc_profile(),
        exif: decoder.exif().cloned(),
    })
}
