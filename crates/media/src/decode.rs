//! Decoding JPEG, PNG, TIFF (8 and 16 bit), WebP, OpenEXR and camera raw to upright RGB in the working space.
//!
//! One whole picture is in memory while it is decoded, and nowhere else. A picture with another profile than sRGB
//! is widened to 16 bits before it is converted, so that conversion costs no steps.

use crate::camera::CameraData;
use crate::error::MediaError;
use crate::{exr, profile};
use evanu_core::geometry::Size;
use evanu_core::pixel::{Samples, tone};
use std::io::Cursor;
use std::path::Path;
use zune_jpeg::JpegDecoder;
use zune_jpeg::zune_core::bytestream::ZCursor;
use zune_jpeg::zune_core::colorspace::ColorSpace;
use zune_jpeg::zune_core::options::DecoderOptions;

/// Pictures above this number of pixels are refused.
pub const MAX_PIXELS: u64 = 400_000_000;
const MAX_SIDE: u32 = 60_000;

/// Formats that can be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind {
    /// Baseline and progressive JPEG.
    Jpeg,
    /// PNG of any depth.
    Png,
    /// TIFF, grey or RGB, 8 or 16 bit.
    Tiff,
    /// WebP, lossy or lossless; of a moving one the first picture.
    Webp,
    /// OpenEXR: linear light in floats.
    Exr,
    /// Camera raw that is no TIFF by its first bytes; DNG and others look like TIFF until they are opened.
    Raw,
}

/// What Evanu reads, for messages.
pub const READS: &str = "JPEG, PNG, TIFF, WebP, EXR or camera raw";

/// Linear light that may go beyond white.
pub(crate) struct Wide {
    pub size: Size,
    /// Interleaved, not negative.
    pub light: Vec<f32>,
    /// The greatest light that is kept, at least one.
    pub headroom: f32,
}

impl Wide {
    fn samples(&self) -> Samples {
        Samples::Wide(tone::roots(&self.light, 1.0 / self.headroom))
    }
}

/// An upright picture in the working space.
pub struct Decoded {
    /// Columns and rows.
    pub size: Size,
    /// Interleaved RGB.
    pub samples: Samples,
    /// Light that a full sample stands for; one but for wide samples.
    pub headroom: f32,
    /// What the camera wrote.
    pub camera: CameraData,
}

/// A picture as the file holds it.
struct Raw {
    size: Size,
    channels: usize,
    samples: Samples,
    icc: Option<Vec<u8>>,
    exif: Option<Vec<u8>>,
}

/// Recognises a format by its first bytes.
pub fn kind_of(head: &[u8]) -> Option<FileKind> {
    match head {
        [0xFF, 0xD8, 0xFF, ..] => Some(FileKind::Jpeg),
        [0x89, b'P', b'N', b'G', ..] => Some(FileKind::Png),
        [b'I', b'I', 42 | 43, 0, ..] | [b'M', b'M', 0, 42 | 43, ..] => Some(FileKind::Tiff),
        [0x76, 0x2F, 0x31, 0x01, ..] => Some(FileKind::Exr),
        [_, _, _, _, b'f', b't', b'y', b'p', b'c', b'r', b'x', ..] => Some(FileKind::Raw),
        [b'I', b'I', b'R', b'O' | b'S', ..] | [b'M', b'M', b'O', b'R', ..] | [b'I', b'I', b'U', 0, ..] => {
            Some(FileKind::Raw)
        }
        _ if head.starts_with(b"FUJIFILMCCD-RAW") || head.starts_with(b"\0MRM") => Some(FileKind::Raw),
        [b'R', b'I', b'F', b'F', _, _, _, _, b'W', b'E', b'B', b'P', ..] => Some(FileKind::Webp),
        _ => None,
    }
}

/// Reads and decodes a file.
///
/// # Errors
/// Not a picture, damaged, too large, or not readable: the error names the file, the reason and the way out.
pub fn decode(path: &Path) -> Result<Decoded, MediaError> {
    let bytes = std::fs::read(path).map_err(|e| MediaError::reading(path, &e))?;
    decode_bytes(path, &bytes)
}

/// Decodes a file's content; `path` is only for messages.
///
/// # Errors
/// See [`decode`].
pub fn decode_bytes(path: &Path, bytes: &[u8]) -> Result<Decoded, MediaError> {
    if bytes.is_empty() {
        return Err(MediaError::new(path, "the file is empty (0 bytes)", "copy it from the camera again"));
    }
    let Some(kind) = kind_of(bytes) else {
        return Err(MediaError::new(path, "it is not a picture Evanu can read", format!("use {READS}")));
    };
    let wide = match kind {
        FileKind::Exr => Some(exr::decode(path, bytes)?),
        FileKind::Raw => Some(camera_raw(path, bytes)?),
        FileKind::Tiff if holds_raw(bytes) => Some(camera_raw(path, bytes)?),
        _ => None,
    };
    if let Some((wide, camera)) = wide {
        let (size, samples) = upright(wide.size, wide.samples(), camera.orientation);
        return Ok(Decoded { size, samples, headroom: wide.headroom, camera });
    }
    let raw = match kind {
        FileKind::Jpeg => jpeg(path, bytes),
        FileKind::Png => png(path, bytes),
        FileKind::Tiff => tiff(path, bytes),
        FileKind::Webp => webp(path, bytes),
        FileKind::Exr | FileKind::Raw => unreachable!("read above"),
    }?;
    let camera = raw
        .exif
        .as_deref()
        .map_or_else(|| CameraData { orientation: 1, ..CameraData::default() }, CameraData::parse);
    let samples = to_working(path, raw.channels, raw.samples, raw.icc.as_deref())?;
    let (size, samples) = upright(raw.size, samples, camera.orientation);
    Ok(Decoded { size, samples, headroom: 1.0, camera })
}

#[cfg(feature = "raw")]
fn camera_raw(path: &Path, bytes: &[u8]) -> Result<(Wide, CameraData), MediaError> {
    crate::raw::raw(path, bytes)
}

#[cfg(not(feature = "raw"))]
fn camera_raw(path: &Path, _: &[u8]) -> Result<(Wide, CameraData), MediaError> {
    Err(MediaError::new(
        path,
        "this Evanu was built without camera raw",
        "build it with the feature raw, or use TIFF",
    ))
}

/// Whether a TIFF holds a sensor's mosaic, or only a preview of one: DNG and its kin.
fn holds_raw(bytes: &[u8]) -> bool {
    const DNG_VERSION: u16 = 50_706;
    const SUBFILE_TYPE: u16 = 254;
    const PHOTOMETRIC: u16 = 262;
    const MAKE: u16 = 271;
    const SUB_DIRECTORIES: u16 = 330;
    const MOSAIC: u32 = 32_803;
    let tags = first_directory(bytes);
    let value = |tag: u16| tags.iter().find(|t| t.0 == tag).map(|t| t.1);
    let preview = value(SUBFILE_TYPE) == Some(1) && value(SUB_DIRECTORIES).is_some() && value(MAKE).is_some();
    bytes.get(8..10) == Some(b"CR")
        || value(DNG_VERSION).is_some()
        || value(PHOTOMETRIC) == Some(MOSAIC)
        || preview
}

/// Tags of a TIFF's first directory with their short or long value; empty when there is none.
fn first_directory(bytes: &[u8]) -> Vec<(u16, u32)> {
    let little = bytes.first() == Some(&b'I');
    let number = |at: usize, n: usize| -> Option<u32> {
        let part = bytes.get(at..at.checked_add(n)?)?;
        let digit = |v: u32, b: &u8| v << 8 | u32::from(*b);
        Some(if little { part.iter().rev().fold(0, digit) } else { part.iter().fold(0, digit) })
    };
    let Some(start) = number(4, 4).map(|v| v as usize) else { return Vec::new() };
    let count = number(start, 2).unwrap_or(0) as usize;
    let entry = |k: usize| {
        let at = start + 2 + 12 * k;
        let size = if number(at + 2, 2)? == 3 { 2 } else { 4 };
        Some((number(at, 2)? as u16, number(at + 8, size)?))
    };
    (0..count).map_while(entry).collect()
}

/// What the camera wrote into a file; the pixels are not decoded. `None` when there is nothing to be had.
pub fn camera_of(path: &Path) -> Option<CameraData> {
    let bytes = std::fs::read(path).ok()?;
    if matches!(kind_of(&bytes), Some(FileKind::Exr)) {
        return Some(exr::decode(path, &bytes).ok()?.1);
    }
    let exif = exif::Reader::new().read_from_container(&mut Cursor::new(&bytes)).ok()?;
    Some(CameraData::parse(exif.buf()))
}

pub(crate) fn check_size(path: &Path, width: u64, height: u64) -> Result<Size, MediaError> {
    if width == 0 || height == 0 {
        return Err(MediaError::new(path, "it declares a picture without pixels", "export it again"));
    }
    if width > u64::from(MAX_SIDE) || height > u64::from(MAX_SIDE) || width * height > MAX_PIXELS {
        return Err(MediaError::new(
            path,
            format!("it declares {width} × {height} pixels, more than Evanu takes (400 megapixels)"),
            "reduce it or cut it into parts",
        ));
    }
    Ok(Size::new(width as u32, height as u32))
}

pub(crate) fn damaged(path: &Path, detail: &str) -> MediaError {
    let reason = format!("the file is damaged or cut short ({})", detail.trim().trim_end_matches('.'));
    MediaError::new(path, reason, "copy it from the camera again or leave it out")
}

fn jpeg(path: &Path, bytes: &[u8]) -> Result<Raw, MediaError> {
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
    Ok(Raw {
        size,
        channels: 3,
        samples: Samples::Eight(data),
        icc: decoder.icc_profile(),
        exif: decoder.exif().cloned(),
    })
}

fn png(path: &Path, bytes: &[u8]) -> Result<Raw, MediaError> {
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
    Ok(Raw { size, channels, samples, icc, exif })
}

fn tiff(path: &Path, bytes: &[u8]) -> Result<Raw, MediaError> {
    use tiff::ColorType as C;
    use tiff::decoder::{Decoder, DecodingResult, Limits};
    use tiff::tags::Tag;
    let bad = |e: tiff::TiffError| damaged(path, &e.to_string());
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
    Ok(Raw { size, channels, samples, icc, exif: Some(bytes.to_vec()) })
}

fn webp(path: &Path, bytes: &[u8]) -> Result<Raw, MediaError> {
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
    Ok(Raw { size, channels, samples, icc, exif })
}

/// Drops an alpha channel: what a camera saw is whole.
fn without_alpha(stored: usize, samples: Samples) -> (usize, Samples) {
    fn drop_last<T: Copy>(data: Vec<T>, stored: usize) -> Vec<T> {
        data.chunks_exact(stored).flat_map(|p| p[..stored - 1].iter().copied()).collect()
    }
    if stored % 2 == 1 {
        return (stored, samples);
    }
    let samples = match samples {
        Samples::Eight(d) => Samples::Eight(drop_last(d, stored)),
        Samples::Sixteen(d) => Samples::Sixteen(drop_last(d, stored)),
        Samples::Wide(d) => Samples::Wide(drop_last(d, stored)),
    };
    (stored - 1, samples)
}

fn to_working(
    path: &Path,
    channels: usize,
    samples: Samples,
    icc: Option<&[u8]>,
) -> Result<Samples, MediaError> {
    let wide = || match &samples {
        Samples::Eight(d) => d.iter().map(|&v| u16::from(v) * 257).collect(),
        Samples::Sixteen(d) | Samples::Wide(d) => d.clone(),
    };
    if let Some(icc) = icc {
        match profile::to_srgb(icc, channels, wide) {
            Ok(Some(converted)) => return Ok(Samples::Sixteen(converted)),
            Ok(None) => {}
            Err(e) => {
                return Err(MediaError::new(
                    path,
                    format!("its colour profile cannot be used ({e})"),
                    "export it with an sRGB profile",
                ));
            }
        }
    }
    if channels == 3 {
        return Ok(samples);
    }
    Ok(match samples {
        Samples::Eight(d) => Samples::Eight(d.iter().flat_map(|&v| [v; 3]).collect()),
        Samples::Sixteen(d) => Samples::Sixteen(d.iter().flat_map(|&v| [v; 3]).collect()),
        Samples::Wide(d) => Samples::Wide(d.iter().flat_map(|&v| [v; 3]).collect()),
    })
}

/// Applies an EXIF orientation (1..=8).
fn upright(size: Size, samples: Samples, orientation: u8) -> (Size, Samples) {
    if orientation <= 1 {
        return (size, samples);
    }
    fn turn<T: Copy>(size: Size, data: &[T], orientation: u8) -> Vec<T> {
        let (w, h) = (size.width as usize, size.height as usize);
        let (ow, oh) = if orientation >= 5 { (h, w) } else { (w, h) };
        let mut out = Vec::with_capacity(data.len());
        for y in 0..oh {
            for x in 0..ow {
                let (sx, sy) = match orientation {
                    2 => (w - 1 - x, y),
                    3 => (w - 1 - x, h - 1 - y),
                    4 => (x, h - 1 - y),
                    5 => (y, x),
                    6 => (y, h - 1 - x),
                    7 => (w - 1 - y, h - 1 - x),
                    _ => (w - 1 - y, x),
                };
                out.extend_from_slice(&data[3 * (sy * w + sx)..][..3]);
            }
        }
        out
    }
    let turned = match &samples {
        Samples::Eight(d) => Samples::Eight(turn(size, d, orientation)),
        Samples::Sixteen(d) => Samples::Sixteen(turn(size, d, orientation)),
        Samples::Wide(d) => Samples::Wide(turn(size, d, orientation)),
    };
    let size = if orientation >= 5 { Size::new(size.height, size.width) } else { size };
    (size, turned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn orientations_bring_the_corner_where_the_standard_says() {
        // Stored 3×2; the first stored pixel is marked. EXIF 2.32, table 6: where the 0th row and column lie.
        let data: Vec<u8> = (0..6).flat_map(|i| [i, i, i]).collect();
        let at = |o: u8| {
            let (s, d) = upright(Size::new(3, 2), Samples::Eight(data.clone()), o);
            let Samples::Eight(d) = d else { panic!() };
            let i = d.chunks(3).position(|p| p[0] == 0).unwrap() as u32;
            (s.width, s.height, i % s.width, i / s.width)
        };
        assert_eq!(at(1), (3, 2, 0, 0));
        assert_eq!(at(2), (3, 2, 2, 0));
        assert_eq!(at(3), (3, 2, 2, 1));
        assert_eq!(at(4), (3, 2, 0, 1));
        assert_eq!(at(5), (2, 3, 0, 0));
        assert_eq!(at(6), (2, 3, 1, 0));
        assert_eq!(at(7), (2, 3, 1, 2));
        assert_eq!(at(8), (2, 3, 0, 2));
    }

    proptest! {
        #[test]
        fn rubbish_is_refused_without_a_panic(
            head in prop::sample::select(vec![&b""[..], b"\xFF\xD8\xFF\xE0", b"\x89PNG\r\n\x1a\n", b"II*\0\x08\0\0\0", b"MM\0*\0\0\0\x08", b"\x76\x2F\x31\x01\x02\0\0\0", b"FUJIFILMCCD-RAW ", b"\0\0\0\x18ftypcrx ", b"II*\0\x10\0\0\0CR\x02\0"]),
            bytes in prop::collection::vec(any::<u8>(), 0..400)
        ) {
            let all = [head, &bytes].concat();
            let e = decode_bytes(Path::new("rubbish.jpg"), &all).err().expect("rubbish was taken for a picture");
            prop_assert!(e.to_string().starts_with("rubbish.jpg: "));
        }
    }
}
