//! Files that are sent: written to the data folder as they arrive, then added to their set.

use super::Assets;
use super::originals::holds;
use crate::error::StudioError;
use evanu_media::MediaError;
use rustix::fs::{Advice, fadvise};
use std::fs::File;
use std::io::Write;
use std::num::NonZeroU64;
use std::path::PathBuf;

/// A file that is being brought in.
pub struct Incoming {
    name: String,
    file: tempfile::NamedTempFile,
    hasher: blake3::Hasher,
    path: PathBuf,
    /// Bytes that arrived, and those of them that are on their way to the disk.
    written: u64,
    on_its_way: u64,
}

/// A file that was added and is on its way to the disk, to be [settled](Assets::settle); nothing where its content was there.
pub struct Added(Option<File>);

/// Bytes after which what arrived is sent to the disk.
const AHEAD: u64 = 1 << 20;

impl Incoming {
    /// Takes the next bytes.
    ///
    /// # Errors
    /// When the disk is full.
    pub fn take(&mut self, bytes: &[u8]) -> Result<(), StudioError> {
        self.hasher.update(bytes);
        self.file.write_all(bytes).map_err(|e| MediaError::writing(&self.path, &e))?;
        self.written += bytes.len() as u64;
        if self.written - self.on_its_way >= AHEAD {
            self.begin_writing();
        }
        Ok(())
    }

    /// Has what arrived go to the disk while more comes in, so that nothing is left to wait for in the end.
    fn begin_writing(&mut self) {
        let new = NonZeroU64::new(self.written - self.on_its_way);
        // Pages that are not on the disk yet are written, not dropped. Where the system does not take the hint, they are synced later.
        let _ = fadvise(self.file.as_file(), self.on_its_way, new, Advice::DontNeed);
        self.on_its_way = self.written;
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
            written: 0,
            on_its_way: 0,
        })
    }

    /// Adds a file that has arrived to its set. A file that the set already has is not added twice. What was added outlasts a power
    /// cut once it is [settled](Self::settle).
    ///
    /// # Errors
    /// When the disk or the database cannot be written.
    pub fn add(&self, set: i64, mut incoming: Incoming) -> Result<Added, StudioError> {
        incoming.begin_writing();
        let hash = incoming.hasher.finalize().to_hex().to_string();
        let target = self.0.store.path(&["originals", &hash]);
        let mut added = Added(None);
        if !holds(&target, &hash) {
            let file = incoming.file.persist(&target).map_err(|e| MediaError::writing(&target, &e.error))?;
            added = Added(Some(file));
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
            // Side by side they wait for the file system's journal once.
            std::thread::scope(|scope| {
                let files = added.iter().filter_map(|added| added.0.as_ref());
                let syncing: Vec<_> = files.map(|file| scope.spawn(|| file.sync_all())).collect();
                syncing.into_iter().try_for_each(|file| {
                    file.join().unwrap_or_else(|_| Err(std::io::ErrorKind::Other.into()))
                })
            })?;
            File::open(&folder)?.sync_all()
        };
        Ok(synced().map_err(|e| MediaError::writing(&folder, &e))?)
    }
}
