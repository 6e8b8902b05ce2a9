//! Why there are no pixels.

use crate::pixel::SourceError;

/// Why nothing could be rendered.
#[derive(Debug, Clone, thiserror::Error)]
pub enum RenderError {
    /// A frame could not be read.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// Every frame is set aside.
    #[error("every frame is set aside: bring at least one back")]
    NoFrames,
    /// There is no decision for the frames in use.
    #[error("the consensus of these frames has not been decided yet: try again when they are combined")]
    Undecided,
}
