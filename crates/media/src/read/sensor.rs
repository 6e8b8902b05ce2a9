//! Camera raw: told from other files by its first bytes, or by a TIFF's first directory; decoded by [`super::raw`] where that is
//! built in.

use super::PictureFormat;
use super::directories::Directories;
use super::picture::{Decoded, Wide};
use super::tiff;
use crate::camera::CameraData;
use crate::error::MediaError;
use std::path::Path;

/// Its place in the list of what can be read, before TIFF: DNG and others look like TIFF until they are opened.
pub(super) static FORMAT: PictureFormat = PictureFormat {
    recognises: |bytes| is_raw(bytes) || (tiff::FORMAT.recognises)(bytes) && holds_raw(bytes),
    decode: |path, bytes| camera_raw(path, bytes).map(|(wide, camera)| Decoded::of_light(&wide, camera)),
};

fn is_raw(bytes: &[u8]) -> bool {
    match bytes {
        [_, _, _, _, b'f', b't', b'y', b'p', b'c', b'r', b'x', ..] => true,
        [b'I', b'I', b'R', b'O' | b'S', ..] | [b'M', b'M', b'O', b'R', ..] | [b'I', b'I', b'U', 0, ..] => {
            true
        }
        _ => bytes.starts_with(b"FUJIFILMCCD-RAW") || bytes.starts_with(b"\0MRM"),
    }
}

#[cfg(feature = "raw")]
fn camera_raw(path: &Path, bytes: &[u8]) -> Result<(Wide, CameraData), MediaError> {
    super::raw::raw(path, bytes)
}

#[cfg(not(feature = "raw"))]
fn camera_raw(path: &Path, _: &[u8]) -> Result<(Wide, CameraData), MediaError> {
    Err(MediaError::new(
        path,
        "this Evanu was built without camera raw",
        "build it with the feature raw, or use TIFF",
    ))
}

/// Whether a TIFF holds a sensor's mosaic, or only a preview of one: DNG and its kin.
fn holds_raw(bytes: &[u8]) -> bool {
    const DNG_VERSION: u16 = 50_706;
    const SUBFILE_TYPE: u16 = 254;
    const PHOTOMETRIC: u16 = 262;
    const MAKE: u16 = 271;
    const SUB_DIRECTORIES: u16 = 330;
    const MOSAIC: u32 = 32_803;
    let entries = Directories::of(bytes).first();
    let value = |tag: u16| entries.iter().find(|e| e.tag == tag).map(|e| e.value);
    let preview = value(SUBFILE_TYPE) == Some(1) && value(SUB_DIRECTORIES).is_some() && value(MAKE).is_some();
    bytes.get(8..10) == Some(b"CR")
        || value(DNG_VERSION).is_some()
        || value(PHOTOMETRIC) == Some(MOSAIC)
        || preview
}
