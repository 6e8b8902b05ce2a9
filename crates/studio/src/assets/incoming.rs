//! Files that are sent: written to the data folder as they arrive, then added to their set.

use super::Assets;
use crate::error::StudioError;
use evanu_media::MediaError;
use std::io::Write;
use std::path::PathBuf;

/// A file that is being brought in.
pub struct Incoming {
    name: String,
    file: tempfile::NamedTempFile,
    hasher: blake3::Hasher,
    path: PathBuf,
}

impl Incoming {
    /// Takes the next bytes.
    ///
    /// # Errors
    /// When the disk is full.
    pub fn take(&mut self, bytes: &[u8]) -> Result<(), StudioError> {
        self.hasher.update(bytes);
        Ok(self.file.write_all(bytes).map_err(|e| MediaError::writing(&self.path, &e))?)
    }
}

impl Assets {
    /// Begins to bring a file in.
    ///
    /// # Errors
    /// When the set does not exist or the disk cannot be written.
    pub fn incoming(&self, set: i64, name: &str) -> Result<Incoming, StudioError> {
        self.0.sets.check(set)?;
        let folder = self.0.store.path(&["originals"]);
        let file = tempfile::Builder::new()
            .prefix(".incoming-")
            .tempfile_in(&folder)
            .map_err(|e| MediaError::writing(&folder, &e))?;
        // Folder pickers send paths; the last part is the name.
        let name = name.rsplit(['/', '\\']).next().filter(|n| !n.is_empty()).unwrap_or("frame");
        Ok(Incoming {
            name: name.chars().take(200).collect(),
            file,
            hasher: blake3::Hasher::new(),
            path: folder,
        })
    }

    /// Adds a file that has arrived to its set. A file that the set already has is not added twice.
    ///
    /// # Errors
    /// When the disk or the database cannot be written.
    pub fn add(&self, set: i64, incoming: Incoming) -> Result<(), StudioError> {
        let hash = incoming.hasher.finalize().to_hex().to_string();
        let target = self.0.store.path(&["originals", &hash]);
        if !target.exists() {
            incoming.file.persist(&target).map_err(|e| MediaError::writing(&target, &e.error))?;
        }
        let bytes = target.metadata().map_or(0, |m| m.len());
        self.0.sets.add_frame(set, &incoming.name, &hash, None, bytes)?;
        self.read_ahead(set, hash);
        Ok(())
    }
}
