//! PNG of any depth.

use super::PictureFormat;
use super::picture::{Decoded, Stored, check_size, damaged, without_alpha};
use crate::error::MediaError;
use evanu_core::pixel::Samples;
use std::io::Cursor;
use std::path::Path;

/// Its place in the list of what can be read.
pub(super) static FORMAT: PictureFormat = PictureFormat {
    recognises: |head| matches!(head, [0x89, b'P', b'N', b'G', ..]),
    decode: |path, bytes| Decoded::of_stored(path, png(path, bytes)?),
};

fn png(path: &Path, bytes: &[u8]) -> Result<Stored, MediaError> {
    let bad = |e: png::DecodingError| damaged(path, &e.to_string());
    let mut decoder = png::Decoder::new(Cursor::new(bytes));
    decoder.set_transformations(png::Transformations::EXPAND);
    let header = decoder.read_header_info().map_err(bad)?;
    let size = check_size(path, u64::from(header.width), u64::from(header.height))?;
    let mut reader = decoder.read_info().map_err(bad)?;
    let length = reader.output_buffer_size().ok_or_else(|| damaged(path, "its size"))?;
    let mut data = vec![0; length];
    let frame = reader.next_frame(&mut data).map_err(bad)?;
    data.truncate(frame.buffer_size());
    let info = reader.info();
    let (icc, exif) =
        (info.icc_profile.as_ref().map(|p| p.to_vec()), info.exif_metadata.as_ref().map(|p| p.to_vec()));
    let stored = frame.color_type.samples();
    let samples = match frame.bit_depth {
        png::BitDepth::Sixteen => {
            Samples::Sixteen(data.chunks_exact(2).map(|b| u16::from_be_bytes([b[0], b[1]])).collect())
        }
        _ => Samples::Eight(data),
    };
    let (channels, samples) = without_alpha(stored, samples);
    Ok(Stored { size, channels, samples, icc, exif })
}
