//! TIFF, grey or RGB, 8 or 16 bit.

use super::PictureFormat;
use super::directories::Directories;
use super::picture::{Decoded, Stored, check_size, damaged, without_alpha};
use crate::error::MediaError;
use evanu_core::pixel::Samples;
use std::io::Cursor;
use std::path::Path;

/// Its place in the list of what can be read.
pub(super) static FORMAT: PictureFormat = PictureFormat {
    recognises: |head| matches!(head, [b'I', b'I', 42 | 43, 0, ..] | [b'M', b'M', 0, 42 | 43, ..]),
    decode: |path, bytes| Decoded::of_stored(path, tiff(path, bytes)?),
};

fn tiff(path: &Path, bytes: &[u8]) -> Result<Stored, MediaError> {
    use tiff::ColorType as C;
    use tiff::decoder::{Decoder, DecodingResult, Limits};
    use tiff::tags::Tag;
    let bad = |e: tiff::TiffError| damaged(path, &e.to_string());
    if matches!(bytes, [b'I', b'I', 42, 0, ..] | [b'M', b'M', 0, 42, ..]) {
        Directories::of(bytes).check().map_err(|what| damaged(path, what))?;
    }
    let mut decoder = Decoder::new(Cursor::new(bytes)).map_err(bad)?.with_limits(Limits::unlimited());
    let (w, h) = decoder.dimensions().map_err(bad)?;
    let size = check_size(path, u64::from(w), u64::from(h))?;
    let stored = match decoder.colortype().map_err(bad)? {
        C::Gray(8 | 16) => 1,
        C::GrayA(8 | 16) => 2,
        C::RGB(8 | 16) => 3,
        C::RGBA(8 | 16) => 4,
        other => {
            return Err(MediaError::new(
                path,
                format!("its samples are of a kind Evanu does not read ({other:?})"),
                "save it as an RGB TIFF with 8 or 16 bits a channel",
            ));
        }
    };
    // What is declared must be there: a compressed strip grows a thousandfold at most.
    if size.pixels() > bytes.len() as u64 * 1100 {
        return Err(damaged(path, "it declares far more pixels than it holds"));
    }
    let icc = decoder.find_tag(Tag::IccProfile).ok().flatten().and_then(|v| v.into_u8_vec().ok());
    let samples = match decoder.read_image().map_err(bad)? {
        DecodingResult::U8(d) => Samples::Eight(d),
        DecodingResult::U16(d) => Samples::Sixteen(d),
        _ => {
            return Err(MediaError::new(
                path,
                "its samples are not whole numbers",
                "save it with 8 or 16 bits",
            ));
        }
    };
    let (channels, samples) = without_alpha(stored, samples);
    Ok(Stored { size, channels, samples, icc, exif: Some(bytes.to_vec()) })
}
