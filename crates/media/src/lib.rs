//! Files: decoding to the working space, encoding with profile and camera data, and frames as tiled pyramids.
//!
//! The working space has sRGB's primaries (IEC 61966-2-1): its codes in 8 or 16 bits, or for raw files and floats the
//! root codes of light up to a headroom. Files are recognised by content, never by name.
#![deny(unsafe_code)]

mod camera;
pub mod clip;
mod colour;
mod encode;
mod error;
mod exr;
mod mask;
mod name;
mod read;
mod reader;
mod store;

pub use camera::CameraData;
pub use encode::{
    Format, Output, WriteError, encode_grey_png, encode_jpeg, encode_png, write, write_grey, write_light,
    write_transparent_png,
};
pub use error::MediaError;
pub use exr::rewrite_light;
pub use mask::{Mask, read_mask};
pub use name::{path_of, path_text};
pub use read::{
    AssetFormat, DecodePicture, Decoded, FORMATS, Frames, MAX_PIXELS, READS, decode, decode_bytes,
    open_asset, recognised,
};
pub use reader::{Heard, READ_COMMAND, ReadFrame, Reader, read_apart};
pub use store::{TiledFrame, store_frame};
