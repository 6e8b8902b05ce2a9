//! How the computation reaches a frame's pixels without holding them: regions of a pyramid, on demand.

use crate::geometry::{Rect, Size};

/// Bits a sample of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// Eight-bit sRGB codes.
    Eight,
    /// Sixteen-bit sRGB codes.
    Sixteen,
}

/// Interleaved RGB samples in the working space: sRGB primaries and transfer curve (IEC 61966-2-1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Samples {
    /// Codes 0..=255.
    Eight(Vec<u8>),
    /// Codes 0..=65535.
    Sixteen(Vec<u16>),
}

impl Samples {
    /// `pixels` black pixels.
    pub fn black(depth: Depth, pixels: usize) -> Self {
        match depth {
            Depth::Eight => Self::Eight(vec![0; 3 * pixels]),
            Depth::Sixteen => Self::Sixteen(vec![0; 3 * pixels]),
        }
    }

    /// Bits a sample.
    pub fn depth(&self) -> Depth {
        match self {
            Self::Eight(_) => Depth::Eight,
            Self::Sixteen(_) => Depth::Sixteen,
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

    /// Reads `region`, which must lie inside the level, row by row without gaps.
    ///
    /// # Errors
    /// When the pixels cannot be read; the text names the file and the reason.
    fn read(&self, level: u32, region: Rect) -> Result<Samples, SourceError>;
}
