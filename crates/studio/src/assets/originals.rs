//! Originals: where they are, and whether they still are what came in. Those that were left where they are may be replaced by another
//! file, those in the data folder be damaged: the content decides, each time that pixels are read from it.

use super::{Assets, pyramid_name};
use crate::error::StudioError;
use crate::model::Event;
use crate::sets::FrameRow;
use evanu_core::recipe::FrameId;
use evanu_media::{MediaError, TiledFrame, path_of};
use std::path::{Path, PathBuf};

/// A file's hash and length, read piece by piece.
pub(super) fn fingerprint(path: &Path) -> Result<(String, u64), MediaError> {
    let failed = |e: std::io::Error| MediaError::reading(path, &e);
    let mut file = std::fs::File::open(path).map_err(failed)?;
    let mut hasher = blake3::Hasher::new();
    let length = std::io::copy(&mut file, &mut hasher).map_err(failed)?;
    Ok((hasher.finalize().to_hex().to_string(), length))
}

/// Whether a file is there and has this content.
pub(super) fn holds(path: &Path, hash: &str) -> bool {
    path.exists() && fingerprint(path).is_ok_and(|(own, _)| own == hash)
}

impl Assets {
    /// Where a frame's original is.
    pub(crate) fn original(&self, frame: &FrameRow) -> PathBuf {
        let copied = || self.0.store.path(&["originals", &frame.hash]);
        frame.source.as_deref().map_or_else(copied, path_of)
    }

    /// Whether a frame's original is there, and whether it is another file than came in, as far as that can be seen at a glance.
    pub(crate) fn stands(&self, frame: &FrameRow) -> (bool, bool) {
        let length = self.original(frame).metadata().map(|m| m.len());
        let other = |length: u64| frame.bytes > 0 && length != frame.bytes || frame.changed;
        (length.is_ok(), length.is_ok_and(other))
    }

    /// Makes sure that a frame's original is what came in.
    ///
    /// # Errors
    /// When it is not, which is noted, or cannot be read.
    pub(super) fn verify(&self, frame: &FrameRow) -> Result<(), StudioError> {
        let original = self.original(frame);
        let same = fingerprint(&original)?.0 == frame.hash;
        self.0.sets.frame_changed(frame.row, !same)?;
        if same {
            return Ok(());
        }
        let (reason, remedy) = match frame.source {
            Some(_) => (
                "it is another file than the one that was brought in",
                "take it as a new frame, or put the old one back",
            ),
            None => ("it was damaged in the data folder", "bring the same file in again"),
        };
        Err(MediaError::new(&original, reason, remedy).into())
    }

    /// Takes the file that is now where a frame's original was as a new frame. The old one stays as long as its pixels are kept.
    ///
    /// # Errors
    /// When there is no such frame, or its original is not there or is what came in.
    pub(crate) fn renew(&self, set: i64, frame: FrameId) -> Result<(), StudioError> {
        let rows = self.0.sets.frames(set)?;
        let old = rows.iter().find(|f| f.id == frame);
        let old = old.ok_or_else(|| StudioError::NotFound("there is no such frame in this set".into()))?;
        let nothing = |why: &str| Err(StudioError::Conflict(format!("{}: {why}", old.name)));
        let Some(source) = &old.source else {
            return nothing("it was copied into the data folder, where no other file takes its place");
        };
        let (hash, bytes) = fingerprint(&self.original(old))?;
        if hash == old.hash {
            self.0.sets.frame_changed(old.row, false)?;
            return nothing("its original is the file that was brought in");
        }
        self.0.sets.add_frame(set, &old.name, &hash, Some(source), bytes)?;
        for row in rows.iter().filter(|f| f.source.as_ref() == Some(source) && f.hash == old.hash) {
            let name = pyramid_name(&row.hash, row.position);
            match TiledFrame::open(&self.0.store.path(&["cache", "pyramids", &name])) {
                Ok(_) => self.0.sets.frame_parted(row.row)?,
                Err(_) => {
                    let reason = format!(
                        "{}: its original is gone, another file took its place; leave it out",
                        row.name
                    );
                    self.0.sets.frame_gone(row.row, &reason)?;
                }
            }
        }
        self.0.store.tell(Event::Set { id: set });
        Ok(())
    }
}
