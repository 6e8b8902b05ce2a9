//! Assets: the files that frames come from. Where their originals are, how they come in ([`incoming`], [`folders`]), and the
//! pyramids that their frames are read into ([`reading`]). Beside them, pixels that were made once and must stay ([`rasters`]).

mod folders;
mod incoming;
mod rasters;
mod reading;

use crate::error::StudioError;
use crate::sets::{FrameRow, Sets};
use crate::store::{Store, lock};
use evanu_media::{MediaError, Reader, TiledFrame, path_of};
pub use incoming::{Added, Incoming};
use moka::policy::EvictionPolicy;
use moka::sync::Cache;
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::Instant;

/// The assets of a data folder. Cheap to clone.
#[derive(Clone)]
pub struct Assets(Arc<Inner>);

struct Inner {
    store: Arc<Store>,
    sets: Sets,
    reader: Reader,
    /// Pyramids that are open, by their file's name.
    pyramids: Cache<String, Arc<TiledFrame>>,
    /// Assets that are being read, by set and content.
    reading: Mutex<HashSet<(i64, String)>>,
    /// Of which set it was last told that a frame was read, and when.
    told_read: Mutex<Option<(i64, Instant)>>,
    background: rayon::ThreadPool,
}

/// Pyramids that stay open: as many files as a program may have open without asking.
const OPEN: u64 = 512;

impl Assets {
    pub(crate) fn new(store: Arc<Store>, sets: Sets, reader: Reader) -> Result<Self, StudioError> {
        Ok(Self(Arc::new(Inner {
            store,
            sets,
            reader,
            pyramids: Cache::builder().max_capacity(OPEN).eviction_policy(EvictionPolicy::lru()).build(),
            reading: Mutex::default(),
            told_read: Mutex::default(),
            background: background_pool()?,
        })))
    }

    /// Threads for long work, so that what is looked at does not wait behind it.
    pub(crate) fn background(&self) -> &rayon::ThreadPool {
        &self.0.background
    }

    /// Where a frame's original is.
    pub(crate) fn original(&self, frame: &FrameRow) -> PathBuf {
        let copied = || self.0.store.path(&["originals", &frame.hash]);
        frame.source.as_deref().map_or_else(copied, path_of)
    }

    /// A frame's pyramid; made anew from the original when the cache was deleted.
    pub(crate) fn pyramid(&self, frame: &FrameRow) -> Result<Arc<TiledFrame>, StudioError> {
        self.opened(&pyramid_name(&frame.hash, frame.position), |store| self.store_again(frame, store))
    }

    /// A pyramid by its file's name, made when it is not there.
    fn opened(
        &self,
        name: &str,
        make: impl FnOnce(&Path) -> Result<(), StudioError>,
    ) -> Result<Arc<TiledFrame>, StudioError> {
        if let Some(open) = self.0.pyramids.get(name) {
            return Ok(open);
        }
        let folder = self.0.store.path(&["cache", "pyramids"]);
        let store = folder.join(name);
        let open = match TiledFrame::open(&store) {
            Ok(open) => open,
            Err(_) => {
                std::fs::create_dir_all(&folder).map_err(|e| MediaError::writing(&folder, &e))?;
                make(&store)?;
                TiledFrame::open(&store)?
            }
        };
        let open = Arc::new(open);
        self.0.pyramids.insert(name.to_owned(), open.clone());
        Ok(open)
    }
}

/// The file of the pyramid of an asset's frame. The first goes by the asset's name alone, as it did when there was one.
fn pyramid_name(hash: &str, position: u32) -> String {
    if position == 0 { hash.to_owned() } else { format!("{hash}.{position}") }
}

/// As many threads as there are processors, which give way to those that make what is looked at.
///
/// They do computations only: while one waits for another, it may take up any other work of theirs, and must hold nothing then
/// that this waits for.
fn background_pool() -> Result<rayon::ThreadPool, StudioError> {
    /// How much they give way, 0 not at all and 19 entirely.
    const NICE: i32 = 5;
    rayon::ThreadPoolBuilder::new()
        .thread_name(|k| format!("background {k}"))
        .start_handler(|_| {
            // Without it they share the processors evenly, which is no fault.
            let _ = rustix::process::setpriority_process(None, NICE);
        })
        .build()
        .map_err(|e| StudioError::Storage(format!("no threads for background work: {e}")))
}

impl Inner {
    /// Says that nobody reads an asset any more.
    fn done_reading(&self, claim: &(i64, String)) {
        lock(&self.reading).remove(claim);
    }
}
