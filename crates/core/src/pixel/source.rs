//! How the computation reaches a frame's pixels without holding them: regions of a pyramid, on demand.

use crate::geometry::{Rect, Size};

/// Bits a sample of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u32)]
pub enum Depth {
    /// Eight-bit sRGB codes.
    Eight = 0,
    /// Sixteen-bit sRGB codes.
    Sixteen = 1,
    /// Sixteen-bit root codes of light up to a headroom: what raw files and floats hold.
    Wide = 2,
}

/// Interleaved RGB samples in the working space: sRGB primaries; sRGB's transfer curve (IEC 61966-2-1) or root codes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Samples {
    /// Codes 0..=255.
    Eight(Vec<u8>),
    /// Codes 0..=65535.
    Sixteen(Vec<u16>),
    /// `65535 · sqrt(light / headroom)`, see [`FrameSource::headroom`].
    Wide(Vec<u16>),
}

impl Samples {
    /// `pixels` black pixels.
    pub fn black(depth: Depth, pixels: usize) -> Self {
        match depth {
            Depth::Eight => Self::Eight(vec![0; 3 * pixels]),
            Depth::Sixteen => Self::Sixteen(vec![0; 3 * pixels]),
            Depth::Wide => Self::Wide(vec![0; 3 * pixels]),
        }
    }

    /// Parts of the same depth and so many rows, each with its columns, from left to right.
    pub fn beside(parts: Vec<(Self, usize)>, rows: usize) -> Self {
        fn joined<T: Copy>(parts: &[(&[T], usize)], rows: usize) -> Vec<T> {
            (0..rows)
                .flat_map(|y| parts.iter().flat_map(move |(d, w)| d[3 * w * y..][..3 * w].iter().copied()))
                .collect()
        }
        let mut eight = Vec::new();
        let mut wide = Vec::new();
        for (part, columns) in &parts {
            match part {
                Self::Eight(d) => eight.push((&d[..], *columns)),
                Self::Sixteen(d) | Self::Wide(d) => wide.push((&d[..], *columns)),
            }
        }
        match parts.first().map_or(Depth::Eight, |(part, _)| part.depth()) {
            Depth::Eight => Self::Eight(joined(&eight, rows)),
            Depth::Sixteen => Self::Sixteen(joined(&wide, rows)),
            Depth::Wide => Self::Wide(joined(&wide, rows)),
        }
    }

    /// Bits a sample.
    pub fn depth(&self) -> Depth {
        match self {
            Self::Eight(_) => Depth::Eight,
            Self::Sixteen(_) => Depth::Sixteen,
            Self::Wide(_) => Depth::Wide,
        }
    }
}

/// Why a frame's pixels could not be had.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{0}")]
pub struct SourceError(pub String);

/// A frame as a pyramid of regions. Level 0 is full size, each further level half of the one before.
pub trait FrameSource: Send + Sync {
    /// Full size in pixels.
    fn size(&self) -> Size;

    /// Number of levels, at least one.
    fn levels(&self) -> u32;

    /// Bits a sample.
    fn depth(&self) -> Depth;

    /// Light that a full sample stands for; 1 is the white of the working space. More than one for raw files and
    /// floats, whose highlights go on beyond it.
    fn headroom(&self) -> f32 {
        1.0
    }

    /// Reads `region`, which must lie inside the level, row by row without gaps.
    ///
    /// # Errors
    /// When the pixels cannot be read; the text names the file and the reason.
    fn read(&self, level: u32, region: Rect) -> Result<Samples, SourceError>;
}
