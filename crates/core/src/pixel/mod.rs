//! Buffers, sources, pyramids, resampling and tone: what every other part works on.
//!
//! ```
//! use evanu_core::geometry::{Rect, Size};
//! use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
//!
//! let frame = MemoryFrame::new(Size::new(200, 100), Samples::Eight(vec![77; 3 * 200 * 100]));
//! assert!(frame.levels() > 1);
//! // Two pixels of the second level, where each stands for two by two.
//! assert_eq!(frame.read(1, Rect::new(10, 20, 2, 1))?, Samples::Eight(vec![77; 6]));
//! # Ok::<(), evanu_core::pixel::SourceError>(())
//! ```

pub(crate) mod blur;
pub mod curve;
pub mod distance;
pub mod flood;
pub(crate) mod gradient;
mod kernel;
mod memory;
pub(crate) mod necks;
pub mod poisson;
mod pyramid;
mod raster;
pub mod resample;
mod source;
pub mod tone;

pub use memory::MemoryFrame;
pub use pyramid::halve;
pub use raster::{Plane, Raster};
pub use source::{Depth, FrameSource, Samples, SourceError};
