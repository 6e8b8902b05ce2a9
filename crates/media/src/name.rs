//! Names of files as text and back: what is not UTF-8 in a name is written as `\xFF`, byte by byte.
//!
//! ```
//! use evanu_media::{path_of, path_text};
//! use std::path::Path;
//!
//! assert_eq!(path_text(Path::new("tower.jpg")), "tower.jpg");
//! assert_eq!(path_of("tower.jpg"), Path::new("tower.jpg"));
//! ```

use std::ffi::OsString;
use std::path::{Path, PathBuf};

/// Begins the two hexadecimal digits of a byte.
const ESCAPE: &str = "\\x";

/// A path as text from which [`path_of`] makes it again.
pub fn path_text(path: &Path) -> String {
    let mut out = String::new();
    for chunk in path.as_os_str().as_encoded_bytes().utf8_chunks() {
        out += &chunk.valid().replace(ESCAPE, "\\x5Cx");
        chunk.invalid().iter().for_each(|byte| out += &format!("{ESCAPE}{byte:02X}"));
    }
    out
}

/// The path that a text stands for; a text that names a file as it is written names that one. Every text stands for some path, whether or
/// not a file is there.
pub fn path_of(text: &str) -> PathBuf {
    let plain = PathBuf::from(text);
    if !text.contains(ESCAPE) || plain.exists() {
        return plain;
    }
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(ESCAPE) {
        bytes.extend(rest[..at].bytes());
        let digits = rest.get(at + 2..at + 4).and_then(|d| u8::from_str_radix(d, 16).ok());
        bytes.push(digits.unwrap_or(b'\\'));
        rest = &rest[at + if digits.is_some() { 4 } else { 1 }..];
    }
    bytes.extend(rest.bytes());
    os_string(bytes).map_or(plain, PathBuf::from)
}

#[cfg(unix)]
fn os_string(bytes: Vec<u8>) -> Option<OsString> {
    Some(std::os::unix::ffi::OsStringExt::from_vec(bytes))
}

#[cfg(not(unix))]
fn os_string(bytes: Vec<u8>) -> Option<OsString> {
    String::from_utf8(bytes).ok().map(OsString::from)
}

#[cfg(all(test, unix))]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_name_comes_back(bytes in prop::collection::vec(prop::sample::select(vec![b'a', b'\\', b'x', b'F', b'5', 0xFF, 0xC3, 0xA9, b'/']), 0..24)) {
            let path = PathBuf::from(os_string(bytes).unwrap());
            let text = path_text(&path);
            prop_assert_eq!(path_of(&text), path, "{}", text);
        }
    }

    #[test]
    fn what_is_not_text_is_escaped() {
        let path = PathBuf::from(os_string(b"tor\xE9.jpg".to_vec()).unwrap());
        assert_eq!(path_text(&path), "tor\\xE9.jpg");
    }
}
