//! Files: decoding to the working space, encoding with profile and camera data, and frames as tiled pyramids.
//!
//! The working space is sRGB (IEC 61966-2-1) in 8 or 16 bits. Files are recognised by content, never by name.
#![forbid(unsafe_code)]

mod camera;
mod decode;
mod encode;
mod error;
mod profile;
mod store;

pub use camera::CameraData;
pub use decode::{Decoded, FileKind, MAX_PIXELS, camera_of, decode, decode_bytes, kind_of};
pub use encode::{Format, Output, WriteError, encode_jpeg, encode_png, write, write_grey};
pub use error::MediaError;
pub use store::{TiledFrame, import};
