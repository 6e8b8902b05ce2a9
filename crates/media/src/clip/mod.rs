//! Clips: what is known of one, its frames in its own samples, and a finished one written.
//!
//! Files are read and written by the program `ffmpeg` where it is there; Y4M is read without it. Frames stay in the clip's own
//! brightness and colour differences, so that what nobody changes keeps its samples; pictures come from them and go back by the
//! clip's own matrix and range (ITU-R BT.601, BT.709, BT.2020).

mod colour;
mod ffmpeg;
mod matroska;
mod repairing;
mod survey;
mod y4m;

pub use colour::{Colour, Matrix};
pub use ffmpeg::{
    CONFINE_COMMAND, ClipReader, ClipWriter, Codec, become_confined, confined, probe, seconds_of_frames,
};
pub(crate) use ffmpeg::{FORMAT, runs};
pub use repairing::{ClipArea, Seen, Take, Wanted, as_coded, softened, turned};
pub use survey::{Clip, Survey};
pub(crate) use y4m::FORMAT as Y4M;
pub use y4m::{Y4mReader, Y4mWriter, write_y4m};

use crate::camera::CameraData;
use crate::error::MediaError;
use crate::read::AssetFormat;
use evanu_core::geometry::Size;
use std::path::Path;

/// How samples of a frame lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Layout {
    /// Bits of a sample, 8..=16.
    pub bits: u8,
    /// How often colour differences are halved across.
    pub across: u8,
    /// How often they are halved down.
    pub down: u8,
    /// Brightness alone.
    pub grey: bool,
}

impl Layout {
    /// Columns and rows of the colour differences.
    pub fn chroma(self, size: Size) -> Size {
        if self.grey {
            return Size::new(0, 0);
        }
        Size::new(size.width.div_ceil(1 << self.across), size.height.div_ceil(1 << self.down))
    }

    /// Columns and rows of a plane.
    pub fn plane(self, size: Size, plane: usize) -> Size {
        if plane == 0 { size } else { self.chroma(size) }
    }

    /// The greatest code.
    pub fn most(self) -> u16 {
        ((1u32 << self.bits) - 1) as u16
    }

    /// By its name in ffmpeg; `None` for one that Evanu does not take. The second is whether the name says full range.
    fn of_name(name: &str) -> Option<(Self, bool)> {
        let full = name.starts_with("yuvj");
        // Transparency is let go.
        let plain = name.replace("yuvj", "yuv").replace("yuva", "yuv");
        let plain = plain.trim_end_matches("le");
        let of = |bits, across, down| Self { bits, across, down, grey: false };
        let bits = |rest: &str| {
            if rest.is_empty() { Some(8) } else { rest.parse().ok().filter(|b| (9..=16).contains(b)) }
        };
        let found = match plain {
            "nv12" | "nv21" => of(8, 1, 1),
            "p010" => of(10, 1, 1),
            "gray" => Self { grey: true, ..of(8, 0, 0) },
            name if name.starts_with("gray") => Self { grey: true, ..of(bits(&name[4..])?, 0, 0) },
            name if name.starts_with("yuv420p") => of(bits(&name[7..])?, 1, 1),
            name if name.starts_with("yuv422p") => of(bits(&name[7..])?, 1, 0),
            name if name.starts_with("yuv444p") => of(bits(&name[7..])?, 0, 0),
            name if name.starts_with("yuv411p") => of(bits(&name[7..])?, 2, 0),
            _ => return None,
        };
        Some((found, full))
    }

    /// Its name in ffmpeg.
    pub(crate) fn name(self) -> String {
        let end = if self.bits > 8 { format!("{}le", self.bits) } else { String::new() };
        match (self.grey, self.across, self.down) {
            (true, ..) => format!("gray{end}"),
            (_, 0, 0) => format!("yuv444p{end}"),
            (_, 1, 0) => format!("yuv422p{end}"),
            (_, 2, 0) => format!("yuv411p{end}"),
            _ => format!("yuv420p{end}"),
        }
    }
}

/// A frame as the clip holds it: brightness and two colour differences, by rows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Yuv {
    /// The three planes; the last two are empty where there is brightness alone.
    pub planes: [Vec<u16>; 3],
}

/// What is known of a clip.
#[derive(Debug, Clone)]
pub struct ClipInfo {
    /// Columns and rows as they are coded, before any turning.
    pub size: Size,
    /// Frames a second, as a fraction.
    pub rate: (u32, u32),
    /// About how many frames there are; 0 when that is not known before they are read.
    pub frames: u64,
    /// Seconds, where known.
    pub seconds: Option<f64>,
    /// How samples lie.
    pub layout: Layout,
    /// What they mean.
    pub colour: Colour,
    /// Degrees that it is turned by when it is shown, clockwise.
    pub rotation: i32,
    /// What it is coded in, in ffmpeg's words.
    pub codec: String,
    /// Bits a second of the picture, where known.
    pub bits_a_second: Option<u64>,
    /// Whether there is sound.
    pub sound: bool,
    /// The words of its colours in ffmpeg's names: space, primaries, transfer; empty where not told.
    pub tags: [String; 3],
    /// Parts of a second in which its time stamps are counted.
    pub scale: u32,
}

impl ClipInfo {
    /// The time of a frame among those that are known, in seconds, also where fewer are known than there are.
    pub fn second(&self, known: &[f64], k: usize) -> f64 {
        let pace = f64::from(self.rate.1) / f64::from(self.rate.0);
        let beyond = match known.last() {
            Some(last) => last + pace * (k + 1 - known.len().min(k + 1)) as f64,
            None => k as f64 * pace,
        };
        known.get(k).copied().unwrap_or(beyond)
    }

    /// How much of each pixel is there, in 255ths, as a frame whose brightness tells it.
    pub fn opacity(&self, shares: &[u8]) -> Yuv {
        let most = u32::from(self.layout.most());
        let chroma = self.layout.chroma(self.size).pixels() as usize;
        let none = vec![1u16 << (self.layout.bits - 1); chroma];
        let code = |s: &u8| (u32::from(*s) * most / 255) as u16;
        Yuv { planes: [shares.iter().map(code).collect(), none.clone(), none] }
    }

    /// Columns and rows as it is shown.
    pub fn shown(&self) -> Size {
        if matches!(self.rotation, 90 | 270) {
            Size::new(self.size.height, self.size.width)
        } else {
            self.size
        }
    }

    /// Whether it is read without any other program.
    fn is_y4m(&self, path: &Path) -> bool {
        self.codec == "rawvideo" && Y4M.recognises(&ffmpeg::first(path))
    }

    /// Whether its light is coded for screens that are brighter than others.
    pub fn is_hdr(&self) -> bool {
        matches!(self.tags[2].as_str(), "smpte2084" | "arib-std-b67")
    }
}

/// What is known of a moment of a clip: how long after its beginning it is, as a time of the first day that clocks know.
fn moment(seconds: f64) -> CameraData {
    let (minutes, rest) = ((seconds / 60.0) as u64, seconds % 60.0);
    let time = format!("1970-01-01T{:02}:{:02}:{rest:06.3}", minutes / 60 % 24, minutes % 60);
    CameraData { time: Some(time), ..CameraData::default() }
}

/// Whether a file is a clip, by how it begins.
pub fn is_clip(path: &Path) -> bool {
    let head = ffmpeg::first(path);
    runs(&head) || Y4M.recognises(&head)
}

/// A size that a clip may have.
pub(crate) fn check_size(path: &Path, size: Size) -> Result<(), MediaError> {
    /// Pixels a side.
    const MOST: u32 = 16_384;
    if size.width == 0 || size.height == 0 || size.width > MOST || size.height > MOST {
        return Err(MediaError::new(
            path,
            format!("its frames are {} × {} pixels, which is no size of a clip", size.width, size.height),
            "export it anew",
        ));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_layouts_are_read_and_written() {
        for name in ["yuv420p", "yuv422p10le", "yuv444p12le", "gray", "gray10le", "yuv411p", "yuv420p16le"] {
            let (layout, full) = Layout::of_name(name).unwrap();
            assert_eq!((layout.name().as_str(), full), (name, false));
        }
        assert_eq!(Layout::of_name("yuvj420p").map(|f| f.1), Some(true));
        assert_eq!(Layout::of_name("p010le").unwrap().0.name(), "yuv420p10le");
        assert!(
            ["rgb24", "pal8", "gbrp", "yuv410p", "yuv420p99le", ""]
                .iter()
                .all(|n| Layout::of_name(n).is_none())
        );
        let odd = Layout::of_name("yuv420p").unwrap().0;
        assert_eq!(odd.chroma(Size::new(5, 3)), Size::new(3, 2));
    }
}
