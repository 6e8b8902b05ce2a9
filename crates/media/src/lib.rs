//! Files: decoding to the working space, encoding with profile and camera data, and frames as tiled pyramids.
//!
//! The working space has sRGB's primaries (IEC 61966-2-1): its codes in 8 or 16 bits, or for raw files and floats the
//! root codes of light up to a headroom. Files are recognised by content, never by name.
#![forbid(unsafe_code)]

mod camera;
mod colour;
mod decode;
mod encode;
mod error;
mod exr;
mod profile;
#[cfg(feature = "raw")]
mod raw;
mod store;

pub use camera::CameraData;
pub use decode::{Decoded, FileKind, MAX_PIXELS, READS, camera_of, decode, decode_bytes, kind_of};
pub use encode::{Format, Output, WriteError, encode_jpeg, encode_png, write, write_grey, write_light};
pub use error::MediaError;
pub use store::{TiledFrame, import};
