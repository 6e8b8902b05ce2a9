//! What can be read: kinds of files, recognised by content and never by name, and their frames.
//!
//! Each kind is a file of this folder and an entry of [`FORMATS`]. A picture holds one frame; a kind whose files hold many gives
//! them one after another from one opened file. One whole frame is in memory while it is decoded, and nowhere else.
//!
//! ```no_run
//! use evanu_media::{FORMATS, open_asset};
//!
//! for frame in open_asset(FORMATS, std::path::Path::new("a.jpg"))? {
//!     let frame = frame?;
//!     println!("{} × {} pixels", frame.size.width, frame.size.height);
//! }
//! # Ok::<(), evanu_media::MediaError>(())
//! ```

mod coded;
mod directories;
pub(crate) mod exr;
mod heif;
mod jpeg;
mod jxl;
mod picture;
mod png;
pub(crate) mod profile;
#[cfg(feature = "raw")]
mod raw;
mod sensor;
mod tiff;
mod webp;

use crate::clip;
use crate::error::MediaError;
pub use picture::{Decoded, MAX_PIXELS};
use std::io::Read;
use std::path::Path;

/// The frames of an opened file, one after another.
pub type Frames = Box<dyn Iterator<Item = Result<Decoded, MediaError>> + Send>;

/// A function from a file's content to its picture; the path is only for messages.
pub type DecodePicture = fn(&Path, &[u8]) -> Result<Decoded, MediaError>;

/// A kind of file that holds frames.
pub trait AssetFormat: Send + Sync {
    /// Whether a file is one, by its content: sixteen bytes or all of them. The first of the list that says so reads it.
    fn recognises(&self, bytes: &[u8]) -> bool;

    /// Opens a file.
    ///
    /// # Errors
    /// When it cannot be read at all; a frame that is damaged is told when its turn comes.
    fn open(&self, path: &Path) -> Result<Frames, MediaError>;

    /// How a picture is decoded from its bytes; `None` for files of many frames.
    fn picture(&self) -> Option<DecodePicture> {
        None
    }
}

/// A kind of file that holds one picture.
pub(crate) struct PictureFormat {
    recognises: fn(&[u8]) -> bool,
    decode: DecodePicture,
}

impl AssetFormat for PictureFormat {
    fn recognises(&self, bytes: &[u8]) -> bool {
        (self.recognises)(bytes)
    }

    fn open(&self, path: &Path) -> Result<Frames, MediaError> {
        let bytes = std::fs::read(path).map_err(|e| MediaError::reading(path, &e))?;
        let (decode, path) = (self.decode, path.to_owned());
        Ok(Box::new(std::iter::once_with(move || decode(&path, &bytes))))
    }

    fn picture(&self) -> Option<DecodePicture> {
        Some(self.decode)
    }
}

/// What Evanu reads.
pub static FORMATS: &[&dyn AssetFormat] = &[
    &jpeg::FORMAT,
    &png::FORMAT,
    &heif::FORMAT,
    &sensor::FORMAT,
    &tiff::FORMAT,
    &webp::FORMAT,
    &jxl::FORMAT,
    &exr::FORMAT,
    &clip::Y4M,
    &clip::FORMAT,
];

/// The same for messages.
pub const READS: &str = "JPEG, PNG, HEIC, AVIF, TIFF, WebP, JPEG XL, EXR, camera raw, or a clip";

/// Whether a file that begins like this is of one of these kinds.
pub fn recognised(formats: &[&dyn AssetFormat], head: &[u8]) -> bool {
    formats.iter().any(|f| f.recognises(head))
}

/// Opens a file of one of these kinds.
///
/// # Errors
/// Of no such kind, empty, or not readable: the error names the file, the reason and the way out.
pub fn open_asset(formats: &[&dyn AssetFormat], path: &Path) -> Result<Frames, MediaError> {
    let failed = |e: std::io::Error| MediaError::reading(path, &e);
    check_regular(path)?;
    // A directory that says what a file is may lie at its end.
    let mut file = std::fs::File::open(path).map_err(failed)?;
    let mut bytes = vec![0; 16];
    let read = file.read(&mut bytes).map_err(failed)?;
    bytes.truncate(read);
    if recognised(&[&tiff::FORMAT], &bytes) {
        file.read_to_end(&mut bytes).map_err(failed)?;
    }
    known(formats, path, &bytes)?.open(path)
}

/// Opening a pipe would wait for whoever writes into it, for ever.
fn check_regular(path: &Path) -> Result<(), MediaError> {
    if std::fs::metadata(path).map_err(|e| MediaError::reading(path, &e))?.is_file() {
        return Ok(());
    }
    Err(MediaError::new(path, "it is no regular file", "name a file with a picture"))
}

/// The kind that a file's content is of.
fn known<'a>(
    formats: &[&'a dyn AssetFormat],
    path: &Path,
    bytes: &[u8],
) -> Result<&'a dyn AssetFormat, MediaError> {
    if bytes.is_empty() {
        return Err(MediaError::new(path, "the file is empty (0 bytes)", "copy it from the camera again"));
    }
    let found = formats.iter().copied().find(|f| f.recognises(bytes));
    found.ok_or_else(|| MediaError::new(path, "it is not a picture Evanu can read", format!("use {READS}")))
}

/// Reads and decodes a picture.
///
/// # Errors
/// Not a picture, damaged, too large, or not readable: the error names the file, the reason and the way out.
pub fn decode(path: &Path) -> Result<Decoded, MediaError> {
    check_regular(path)?;
    let bytes = std::fs::read(path).map_err(|e| MediaError::reading(path, &e))?;
    decode_bytes(path, &bytes)
}

/// Decodes a picture's content; `path` is only for messages.
///
/// # Errors
/// See [`decode`].
pub fn decode_bytes(path: &Path, bytes: &[u8]) -> Result<Decoded, MediaError> {
    match known(FORMATS, path, bytes)?.picture() {
        Some(decode) => decode(path, bytes),
        None => Err(MediaError::new(path, "it holds more than a picture", "bring it in as a set")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn rubbish_is_refused_without_a_panic(
            head in prop::sample::select(vec![&b""[..], b"\xFF\xD8\xFF\xE0", b"\x89PNG\r\n\x1a\n", b"II*\0\x08\0\0\0", b"MM\0*\0\0\0\x08", b"\x76\x2F\x31\x01\x02\0\0\0", b"FUJIFILMCCD-RAW ", b"\0\0\0\x18ftypcrx ", b"II*\0\x10\0\0\0CR\x02\0", b"\0\0\0\x18ftypheic\0\0\0\0", b"\0\0\0\x18ftypavif\0\0\0\0", b"\xFF\x0A", b"\0\0\0\x0CJXL \x0D\x0A\x87\x0A"]),
            bytes in prop::collection::vec(any::<u8>(), 0..400)
        ) {
            let all = [head, &bytes].concat();
            let e = decode_bytes(Path::new("rubbish.jpg"), &all).err().expect("rubbish was taken for a picture");
            prop_assert!(e.to_string().starts_with("rubbish.jpg: "));
        }
    }
}
