//! Camera data (EXIF): read from any file, cleaned, and written again with the plate.

use exif::{Context, Field, In, Reader, Tag, Value};
use serde::{Deserialize, Serialize};

/// What a camera wrote about a frame. Fields it did not write are `None`.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct CameraData {
    /// Local clock time as `2026-05-16T14:03:22.150`.
    pub time: Option<String>,
    /// Exposure time in seconds.
    pub exposure_s: Option<f64>,
    /// Aperture number.
    pub aperture: Option<f64>,
    /// Sensitivity.
    pub iso: Option<u32>,
    /// Focal length in millimetres.
    pub focal_mm: Option<f64>,
    /// Maker and model.
    pub camera: Option<String>,
    /// EXIF orientation, 1..=8.
    pub orientation: u8,
    /// The cleaned EXIF block (a little TIFF file): upright, without thumbnail and maker's notes.
    #[serde(skip)]
    pub block: Option<Vec<u8>>,
}

const KEPT: [Tag; 9] = [
    Tag::Make,
    Tag::Model,
    Tag::DateTime,
    Tag::Artist,
    Tag::Copyright,
    Tag::ImageDescription,
    Tag::XResolution,
    Tag::YResolution,
    Tag::ResolutionUnit,
];
const DROPPED: [Tag; 4] =
    [Tag::MakerNote, Tag::PixelXDimension, Tag::PixelYDimension, Tag::InteroperabilityIndex];

impl CameraData {
    /// Reads an EXIF block (a little TIFF file, or a whole one); damaged data count as none.
    pub fn parse(block: &[u8]) -> Self {
        let Ok(exif) = Reader::new()
            .continue_on_error(true)
            .read_raw(block.to_vec())
            .or_else(|e| e.distill_partial_result(|_| {}))
        else {
            return Self { orientation: 1, ..Self::default() };
        };
        let field = |t: Tag| exif.get_field(t, In::PRIMARY);
        let number = |t: Tag| match &field(t)?.value {
            Value::Rational(v) => v.first().map(|r| r.to_f64()).filter(|v| v.is_finite()),
            v => v.get_uint(0).map(f64::from),
        };
        let text = |t: Tag| match &field(t)?.value {
            Value::Ascii(v) => {
                let s = String::from_utf8_lossy(v.first()?).trim_matches(['\0', ' ']).to_owned();
                (!s.is_empty()).then_some(s)
            }
            _ => None,
        };
        let camera = match (text(Tag::Make), text(Tag::Model)) {
            (Some(a), Some(b)) if !b.starts_with(&a) => Some(format!("{a} {b}")),
            (a, b) => b.or(a),
        };
        let time =
            text(Tag::DateTimeOriginal).or_else(|| text(Tag::DateTime)).and_then(|t| clock(&t)).map(|t| {
                match text(Tag::SubSecTimeOriginal).filter(|s| s.chars().all(|c| c.is_ascii_digit())) {
                    Some(s) => format!("{t}.{s}"),
                    None => t,
                }
            });
        Self {
            time,
            exposure_s: number(Tag::ExposureTime).filter(|v| *v > 0.0),
            aperture: number(Tag::FNumber).filter(|v| *v > 0.0),
            iso: number(Tag::PhotographicSensitivity).map(|v| v as u32),
            focal_mm: number(Tag::FocalLength).filter(|v| *v > 0.0),
            camera,
            orientation: number(Tag::Orientation).map_or(1, |v| v as u8).clamp(1, 8),
            block: cleaned(exif.fields()),
        }
    }

    /// Clock time in seconds since 1970, in whatever zone the camera was set to (days by Hinnant's civil calendar).
    pub fn seconds(&self) -> Option<f64> {
        let t = self.time.as_deref()?;
        let number = |r: std::ops::Range<usize>| t.get(r)?.parse::<i64>().ok();
        let (y, m, d) = (number(0..4)?, number(5..7)?, number(8..10)?);
        let y = if m <= 2 { y - 1 } else { y };
        let era = y.div_euclid(400);
        let year = y - era * 400;
        let day = (153 * (m + if m > 2 { -3 } else { 9 }) + 2) / 5 + d - 1;
        let days = era * 146_097 + year * 365 + year / 4 - year / 100 + day - 719_468;
        let whole = days * 86_400 + number(11..13)? * 3600 + number(14..16)? * 60 + number(17..19)?;
        let part = t.get(19..).and_then(|p| p.parse::<f64>().ok()).unwrap_or(0.0);
        Some(whole as f64 + part)
    }

    /// The same data with a block made from the fields: for pictures that no camera took.
    pub fn with_block(self) -> Self {
        let field = |tag, value| Field { tag, ifd_num: In::PRIMARY, value };
        let ratio = |v: f64, denom: u32| {
            Value::Rational(vec![exif::Rational { num: (v * f64::from(denom)).round() as u32, denom }])
        };
        let ascii = |s: &str| Value::Ascii(vec![s.as_bytes().to_vec()]);
        let mut fields = Vec::new();
        if let Some(c) = &self.camera {
            fields.push(field(Tag::Model, ascii(c)));
        }
        if let Some(t) = &self.time {
            let (whole, part) = t.split_once('.').unwrap_or((t, ""));
            let stamp = whole.replace('-', ":").replace('T', " ");
            fields.push(field(Tag::DateTime, ascii(&stamp)));
            fields.push(field(Tag::DateTimeOriginal, ascii(&stamp)));
            if !part.is_empty() {
                fields.push(field(Tag::SubSecTimeOriginal, ascii(part)));
            }
        }
        if let Some(s) = self.exposure_s {
            let (num, denom) =
                if s < 1.0 { (1, (1.0 / s).round() as u32) } else { ((10.0 * s).round() as u32, 10) };
            fields.push(field(Tag::ExposureTime, Value::Rational(vec![exif::Rational { num, denom }])));
        }
        if let Some(a) = self.aperture {
            fields.push(field(Tag::FNumber, ratio(a, 10)));
        }
        if let Some(i) = self.iso {
            fields.push(field(Tag::PhotographicSensitivity, Value::Short(vec![i as u16])));
        }
        if let Some(f) = self.focal_mm {
            fields.push(field(Tag::FocalLength, ratio(f, 10)));
        }
        Self { block: cleaned(fields.iter()), ..self }
    }

    /// Fields of the cleaned block.
    pub(crate) fn fields(&self) -> Vec<Field> {
        let read =
            |b: &Vec<u8>| Reader::new().read_raw(b.clone()).ok().map(|e| e.fields().cloned().collect());
        self.block.as_ref().and_then(read).unwrap_or_default()
    }
}

/// `2026:05:16 14:03:22` as `2026-05-16T14:03:22`, when it is a time at all.
pub(crate) fn clock(text: &str) -> Option<String> {
    let b = text.as_bytes();
    let digits = |r: std::ops::Range<usize>| b.get(r).is_some_and(|s| s.iter().all(u8::is_ascii_digit));
    let whole =
        digits(0..4) && digits(5..7) && digits(8..10) && digits(11..13) && digits(14..16) && digits(17..19);
    (whole && &text[0..4] != "0000")
        .then(|| format!("{}-{}-{}T{}", &text[0..4], &text[5..7], &text[8..10], &text[11..19]))
}

fn cleaned<'a>(fields: impl Iterator<Item = &'a Field>) -> Option<Vec<u8>> {
    let upright = Field { tag: Tag::Orientation, ifd_num: In::PRIMARY, value: Value::Short(vec![1]) };
    let kept: Vec<&Field> = fields
        .filter(|f| f.ifd_num == In::PRIMARY)
        .filter(|f| match f.tag.context() {
            Context::Tiff => KEPT.contains(&f.tag),
            Context::Exif | Context::Gps => !DROPPED.contains(&f.tag),
            _ => false,
        })
        .filter(|f| !matches!(f.value, Value::Unknown(..)))
        .collect();
    if kept.is_empty() {
        return None;
    }
    let mut writer = exif::experimental::Writer::new();
    kept.into_iter().for_each(|f| writer.push_field(f));
    writer.push_field(&upright);
    let mut out = std::io::Cursor::new(Vec::new());
    writer.write(&mut out, true).ok()?;
    Some(out.into_inner())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_was_written_is_read_and_orientation_is_made_upright() {
        let field = |tag, value| Field { tag, ifd_num: In::PRIMARY, value };
        let ratio = |num, denom| Value::Rational(vec![exif::Rational { num, denom }]);
        let fields = [
            field(Tag::Model, Value::Ascii(vec![b"Hilltop 1".to_vec()])),
            field(Tag::Orientation, Value::Short(vec![6])),
            field(Tag::DateTimeOriginal, Value::Ascii(vec![b"2026:05:16 14:03:22".to_vec()])),
            field(Tag::ExposureTime, ratio(1, 250)),
            field(Tag::FNumber, ratio(56, 10)),
            field(Tag::MakerNote, Value::Undefined(vec![1, 2, 3], 0)),
        ];
        let mut w = exif::experimental::Writer::new();
        fields.iter().for_each(|f| w.push_field(f));
        let mut out = std::io::Cursor::new(Vec::new());
        w.write(&mut out, false).unwrap();
        let first = CameraData::parse(out.get_ref());
        assert_eq!(first.orientation, 6);
        assert_eq!(first.time.as_deref(), Some("2026-05-16T14:03:22"));
        let again = CameraData::parse(first.block.as_ref().unwrap());
        assert_eq!((again.orientation, again.exposure_s, again.aperture), (1, Some(0.004), Some(5.6)));
        assert!(again.fields().iter().all(|f| f.tag != Tag::MakerNote));
    }

    #[test]
    fn a_made_up_camera_reads_back_as_it_was_written() {
        let data = CameraData {
            time: Some("2026-05-16T14:03:22.150".into()),
            exposure_s: Some(0.004),
            aperture: Some(8.0),
            iso: Some(200),
            focal_mm: Some(29.0),
            camera: Some("Hilltop One".into()),
            orientation: 1,
            block: None,
        };
        let block = data.clone().with_block().block.unwrap();
        assert_eq!(CameraData { block: None, ..CameraData::parse(&block) }, data);
    }

    #[test]
    fn clocks_count_seconds() {
        let at = |t: &str| CameraData { time: Some(t.into()), ..CameraData::default() }.seconds();
        assert_eq!(at("1970-01-01T00:00:00"), Some(0.0));
        assert_eq!(at("2026-05-16T14:31:07.250"), Some(1_778_941_867.25));
        assert_eq!(at("2024-03-01T00:00:00").unwrap() - at("2024-02-28T00:00:00").unwrap(), 2.0 * 86_400.0);
        assert_eq!(CameraData::default().seconds(), None);
    }

    proptest! {
        #[test]
        fn damaged_blocks_never_panic(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let mut block = b"II*\0\x08\0\0\0".to_vec();
            block.extend(bytes);
            prop_assert!((1..=8).contains(&CameraData::parse(&block).orientation));
        }
    }
}
