//! Files that are sent: written to the data folder as they arrive, then added to their set.

use super::Assets;
use super::originals::holds;
use crate::error::StudioError;
use evanu_media::MediaError;
use std::fs::File;
use std::io::Write;
use std::path::PathBuf;
use std::thread::JoinHandle;

/// A file that is being brought in.
pub struct Incoming {
    name: String,
    file: tempfile::NamedTempFile,
    hasher: blake3::Hasher,
    path: PathBuf,
}

/// A file that was added and is on its way to the disk, to be [settled](Assets::settle).
pub struct Added(Option<JoinHandle<std::io::Result<()>>>);

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

    /// Adds a file that has arrived to its set. A file that the set already has is not added twice. What was added outlasts a power
    /// cut once it is [settled](Self::settle).
    ///
    /// # Errors
    /// When the disk or the database cannot be written.
    pub fn add(&self, set: i64, incoming: Incoming) -> Result<Added, StudioError> {
        let hash = incoming.hasher.finalize().to_hex().to_string();
        let target = self.0.store.path(&["originals", &hash]);
        let mut added = Added(None);
        if !holds(&target, &hash) {
            let file = incoming.file.persist(&target).map_err(|e| MediaError::writing(&target, &e.error))?;
            // While the next one comes in.
            added = Added(Some(std::thread::spawn(move || file.sync_all())));
            self.0.sets.content_again(&hash)?;
        }
        let bytes = target.metadata().map_or(0, |m| m.len());
        self.0.sets.add_frame(set, &incoming.name, &hash, None, bytes)?;
        self.read_ahead(set, hash);
        Ok(added)
    }

    /// Waits until files that were added, and their names, are on the disk.
    ///
    /// # Errors
    /// When the disk cannot be written.
    pub fn settle(&self, added: Vec<Added>) -> Result<(), StudioError> {
        let folder = self.0.store.path(&["originals"]);
        let synced = || {
            let mut syncing = added.into_iter().filter_map(|added| added.0);
            syncing
                .try_for_each(|file| file.join().unwrap_or_else(|_| Err(std::io::ErrorKind::Other.into())))?;
            File::open(&folder)?.sync_all()
        };
        Ok(synced().map_err(|e| MediaError::writing(&folder, &e))?)
    }
}
