//! What can go wrong, by what its caller can do about it.

use rusqlite::ErrorCode;
use std::sync::Arc;

/// An act that could not be done. Every text says what happened and what to do.
#[derive(Debug, Clone, thiserror::Error)]
pub enum StudioError {
    /// There is no such thing.
    #[error("{0}")]
    NotFound(String),
    /// The request does not make sense.
    #[error("{0}")]
    Invalid(String),
    /// Not now: something else must happen first.
    #[error("{0}")]
    Conflict(String),
    /// The act was made from another state than the one in force: something was done meanwhile.
    #[error(
        "the set has changed meanwhile{}; this was not done: look at it and do it again",
        told_between(between, stands)
    )]
    Outdated {
        /// What was done since, oldest first.
        between: Vec<String>,
        /// The state that it is in.
        stands: String,
    },
    /// The work was stopped by its owner.
    #[error("cancelled")]
    Cancelled,
    /// A file could not be read or written.
    #[error(transparent)]
    Media(evanu_media::MediaError),
    /// The disk is full.
    #[error("{0}")]
    Full(String),
    /// Another program holds the data folder's database.
    #[error("{0}")]
    Busy(String),
    /// The data folder could not be used.
    #[error("{0}")]
    Storage(String),
}

fn told_between(between: &[String], stands: &str) -> String {
    match between {
        [] if stands.is_empty() => String::new(),
        [] => format!(" (it is back at \"{stands}\")"),
        all => {
            format!(" ({})", all.iter().map(|label| format!("\"{label}\"")).collect::<Vec<_>>().join(", "))
        }
    }
}

/// A request that makes no sense.
pub(crate) fn invalid(text: &str) -> StudioError {
    StudioError::Invalid(text.into())
}

impl StudioError {
    /// From what several waited for.
    pub(crate) fn shared(e: Arc<Self>) -> Self {
        Arc::unwrap_or_clone(e)
    }
}

impl From<evanu_media::MediaError> for StudioError {
    fn from(e: evanu_media::MediaError) -> Self {
        if e.is_full() { Self::Full(e.to_string()) } else { Self::Media(e) }
    }
}

impl From<rusqlite::Error> for StudioError {
    fn from(e: rusqlite::Error) -> Self {
        // What SQLite says of a disk that has no room for its log or its index is less than that it is full.
        const NO_ROOM: [i32; 3] = [
            rusqlite::ffi::SQLITE_IOERR_WRITE,
            rusqlite::ffi::SQLITE_IOERR_SHMSIZE,
            rusqlite::ffi::SQLITE_IOERR_SHMOPEN,
        ];
        match e.sqlite_error() {
            Some(f) if f.code == ErrorCode::DiskFull || NO_ROOM.contains(&f.extended_code) => {
                Self::Full("the disk is full: this was not done; free some space and do it again".into())
            }
            Some(f) if matches!(f.code, ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
                Self::Busy("another program holds Evanu's database: this was not done; do it again".into())
            }
            _ => Self::Storage(format!(
                "the data folder's database could not be used ({e}); check the disk and its space"
            )),
        }
    }
}

impl From<serde_json::Error> for StudioError {
    fn from(e: serde_json::Error) -> Self {
        Self::Storage(format!("the data folder holds something this version cannot read ({e})"))
    }
}

impl From<evanu_core::render::RenderError> for StudioError {
    fn from(e: evanu_core::render::RenderError) -> Self {
        match e {
            evanu_core::render::RenderError::NoFrames | evanu_core::render::RenderError::Undecided => {
                Self::Conflict(e.to_string())
            }
            evanu_core::render::RenderError::Source(e) => Self::Storage(e.to_string()),
        }
    }
}

impl From<evanu_core::register::RegisterError> for StudioError {
    fn from(e: evanu_core::register::RegisterError) -> Self {
        match e {
            evanu_core::register::RegisterError::Cancelled(_) => Self::Cancelled,
            evanu_core::register::RegisterError::Source(e) => Self::Storage(e.to_string()),
        }
    }
}

impl<E: Into<StudioError>> From<evanu_media::WriteError<E>> for StudioError {
    fn from(e: evanu_media::WriteError<E>) -> Self {
        match e {
            evanu_media::WriteError::Media(e) => e.into(),
            evanu_media::WriteError::Pixels(e) => e.into(),
        }
    }
}
