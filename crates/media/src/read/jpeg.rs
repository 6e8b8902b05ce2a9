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
    // A decoder fills what a cut file lacks with grey. Each block of 8×8 takes a bit at least.
    let blocks = u64::from(size.width.div_ceil(8)) * u64::from(size.height.div_ceil(8));
    if 8 * (bytes.len() as u64) < blocks {
        return Err(damaged(path, "it holds less than the picture that it announces"));
    }
    if !is_whole(bytes) {
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

/// Whether the picture's end is there. Telephones write clips, depth and further pictures after it, and thumbnails in segments
/// before it have ends of their own; so its segments are gone through.
fn is_whole(bytes: &[u8]) -> bool {
    const END: u8 = 0xD9;
    const SCAN: u8 = 0xDA;
    let mut at = 2;
    while let Some(&[0xFF, marker]) = bytes.get(at..at + 2) {
        match marker {
            END => return true,
            // Fill bytes, and markers without a length.
            0xFF => at += 1,
            0x01 | 0xD0..=0xD8 => at += 2,
            _ => {
                let Some(&[high, low]) = bytes.get(at + 2..at + 4) else { return false };
                at += 2 + usize::from(u16::from_be_bytes([high, low]));
                if marker == SCAN {
                    // Coded data run to the next marker that is neither a stuffed byte nor a restart.
                    let rest = bytes.get(at..).unwrap_or_default();
                    let ends = |w: &[u8]| w[0] == 0xFF && !matches!(w[1], 0 | 0xD0..=0xD7 | 0xFF);
                    let Some(run) = rest.windows(2).position(ends) else { return false };
                    at += run;
                }
            }
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::{is_whole, jpeg};
    use std::path::Path;

    #[test]
    fn a_file_that_announces_more_than_it_holds_is_refused_before_room_is_made_for_it() {
        // A whole file of 20 000 × 20 000 pixels in grey, and of as many as its bytes may code.
        let file = |side: u16| {
            let [high, low] = side.to_be_bytes();
            let table = |class: u8| [&[0xFF, 0xC4, 0, 20, class, 1][..], &[0; 15], &[0]].concat();
            [
                &[0xFF, 0xD8, 0xFF, 0xDB, 0, 67, 0][..],
                &[1; 64],
                &[0xFF, 0xC0, 0, 11, 8, high, low, high, low, 1, 1, 0x11, 0],
                &table(0),
                &table(0x10),
                &[0xFF, 0xDA, 0, 8, 1, 1, 0, 0, 63, 0],
                &[0; 200],
                &[0xFF, 0xD9],
            ]
            .concat()
        };
        let refused = jpeg(Path::new("a.jpg"), &file(20_000)).err().map(|e| e.to_string());
        assert!(refused.is_some_and(|e| e.contains("holds less than the picture that it announces")));
        assert!(jpeg(Path::new("a.jpg"), &file(160)).is_ok());
    }

    #[test]
    fn the_end_is_found_behind_segments_scans_restarts_and_thumbnails_and_nowhere_else() {
        // A segment with a thumbnail's end in it, a scan with a stuffed byte and a restart, a table, a second scan.
        let parts: [&[u8]; 5] = [
            &[0xFF, 0xD8],
            &[0xFF, 0xE1, 0, 6, 0xFF, 0xD9, 7, 7],
            &[0xFF, 0xDA, 0, 3, 1, 9, 0xFF, 0, 8, 0xFF, 0xD3, 5],
            &[0xFF, 0xFF, 0xC4, 0, 4, 1, 2],
            &[0xFF, 0xDA, 0, 3, 1, 4, 4, 4],
        ];
        let mut bytes = parts.concat();
        assert!(!is_whole(&bytes));
        for length in 0..bytes.len() {
            assert!(!is_whole(&bytes[..length]), "cut at {length}");
        }
        bytes.extend([0xFF, 0xD9]);
        assert!(is_whole(&bytes));
        bytes.extend([0; 300]);
        assert!(is_whole(&bytes), "what follows does not matter");
    }
}
