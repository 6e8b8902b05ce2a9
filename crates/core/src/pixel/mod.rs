//! Buffers, sources, pyramids, resampling and tone: what every other part works on.

pub mod blur;
pub mod distance;
pub mod flood;
pub mod gradient;
mod kernel;
mod memory;
pub mod necks;
mod pyramid;
mod raster;
pub mod resample;
mod source;
pub mod tone;

pub use memory::MemoryFrame;
pub use pyramid::halve;
pub use raster::{Plane, Raster};
pub use source::{Depth, FrameSource, Samples, SourceError};
