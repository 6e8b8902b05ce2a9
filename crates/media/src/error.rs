//! What went wrong with a file, and what to do about it.

use std::path::{Path, PathBuf};

/// A file could not be read or written.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{}: {reason}; {remedy}", path.display())]
pub struct MediaError {
    /// The file.
    pub path: PathBuf,
    /// What happened, in words.
    pub reason: String,
    /// What to do.
    pub remedy: String,
}

const FULL: &str = "the disk is full";
const REMEDY: &str = "free some space and try again; nothing was overwritten";
/// Of the system (`ENOSPC`).
const NO_SPACE: i32 = 28;

impl MediaError {
    /// Whether the disk is full.
    pub fn is_full(&self) -> bool {
        self.reason == FULL
    }

    /// An error from its parts.
    pub fn new(path: &Path, reason: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self { path: path.to_owned(), reason: reason.into(), remedy: remedy.into() }
    }

    /// The error for a failed read.
    pub fn reading(path: &Path, e: &std::io::Error) -> Self {
        use std::io::ErrorKind as K;
        match e.kind() {
            K::NotFound => Self::new(path, "there is no such file", "check the name"),
            K::PermissionDenied => Self::new(path, "it may not be read", "change its permissions"),
            K::IsADirectory => Self::new(path, "it is a folder", "name the files in it or the folder alone"),
            _ => Self::new(path, format!("it cannot be read ({e})"), "check the disk or copy it again"),
        }
    }

    /// The error for a failed write.
    pub fn writing(path: &Path, e: &std::io::Error) -> Self {
        use std::io::ErrorKind as K;
        // An encoder may hand the disk's answer on as one of its own; its words remain.
        let no_space = std::io::Error::from_raw_os_error(NO_SPACE).to_string();
        match e.kind() {
            K::StorageFull | K::QuotaExceeded => Self::new(path, FULL, REMEDY),
            _ if e.to_string().contains(&no_space) => Self::new(path, FULL, REMEDY),
            K::NotFound | K::NotADirectory => {
                Self::new(path, "its folder does not exist", "create the folder or choose another one")
            }
            K::PermissionDenied | K::ReadOnlyFilesystem => {
                Self::new(path, "its folder may not be written to", "choose another folder")
            }
            _ => Self::new(path, format!("it cannot be written ({e})"), "choose another place"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Error, ErrorKind};

    #[test]
    fn a_full_disk_is_known_whoever_tells_of_it() {
        let full = || Error::from_raw_os_error(NO_SPACE);
        for e in
            [full(), Error::other(full().to_string()), Error::other(format!("encoding failed: {}", full()))]
        {
            assert!(MediaError::writing(Path::new("a.png"), &e).is_full(), "{e}");
        }
        assert!(!MediaError::writing(Path::new("a.png"), &ErrorKind::NotFound.into()).is_full());
    }
}
