//! Assets: the files that frames come from. Where their originals are and whether they are what came in ([`originals`]), how they
//! come in ([`incoming`], [`folders`]), and the
//! pyramids that their frames are read into ([`reading`], [`pyramid`]). Beside them, pixels that were made once and must stay ([`rasters`]).

mod folders;
mod incoming;
mod originals;
mod pyramid;
mod rasters;
mod reading;

use crate::error::StudioError;
use crate::model::Event;
use crate::sets::{FrameRow, Sets};
use crate::store::{Store, lock};
use evanu_media::{MediaError, Reader, TiledFrame};
pub use incoming::{Added, Incoming};
use moka::policy::EvictionPolicy;
use moka::sync::Cache;
use pyramid::Mend;
pub use pyramid::Pyramid;
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, Weak};
use std::time::Instant;

/// The assets of a data folder. Cheap to clone.
#[derive(Clone)]
pub struct Assets(Arc<Inner>);

struct Inner {
    store: Arc<Store>,
    sets: Sets,
    reader: Reader,
    /// Pyramids that are open, by their file's name.
    pyramids: Cache<String, Arc<Pyramid>>,
    /// Assets that are being read, by set and content.
    reading: Mutex<HashSet<(i64, String)>>,
    /// Of which set it was last told that a frame was read, and when.
    told_read: Mutex<Option<(i64, Instant)>>,
    /// Whether it was told that pixels were damaged.
    told_damage: AtomicBool,
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
            told_damage: AtomicBool::new(false),
            background: background_pool()?,
        })))
    }

    /// Threads for long work, so that what is looked at does not wait behind it.
    pub(crate) fn background(&self) -> &rayon::ThreadPool {
        &self.0.background
    }

    /// A frame's pyramid; made anew from the original when the cache was deleted or damaged.
    pub(crate) fn pyramid(&self, frame: &FrameRow) -> Result<Arc<Pyramid>, StudioError> {
        let row = frame.clone();
        self.opened(&pyramid_name(&frame.hash, frame.position), move |assets, store| {
            assets.store_again(&row, store)
        })
    }

    /// A pyramid by its file's name, made when it is not there.
    fn opened(
        &self,
        name: &str,
        make: impl Fn(&Self, &Path) -> Result<(), StudioError> + Send + Sync + 'static,
    ) -> Result<Arc<Pyramid>, StudioError> {
        if let Some(open) = self.0.pyramids.get(name) {
            return Ok(open);
        }
        let folder = self.0.store.path(&["cache", "pyramids"]);
        let store = folder.join(name);
        let open = match TiledFrame::open(&store) {
            Ok(open) => open,
            Err(e) => {
                if store.exists() && e.reason != TiledFrame::OTHER_VERSION {
                    self.tell_damage(&e.to_string());
                }
                std::fs::create_dir_all(&folder).map_err(|e| MediaError::writing(&folder, &e))?;
                make(self, &store)?;
                TiledFrame::open(&store)?
            }
        };
        let weak = Arc::downgrade(&self.0);
        let open = Arc::new(Pyramid::new(open, mend(weak, store, make)));
        self.0.pyramids.insert(name.to_owned(), open.clone());
        Ok(open)
    }

    /// Tells, once, that something that was kept was damaged and is made anew.
    fn tell_damage(&self, what: &str) {
        tracing::warn!("{what}; it is made anew");
        if !self.0.told_damage.swap(true, Ordering::Relaxed) {
            let text = "Pixels that Evanu keeps were damaged on the disk; they are made anew from the originals, and nothing is lost. \
                        Should you read this more often, check the disk.";
            self.0.store.tell(Event::Note { text: text.into() });
        }
    }
}

/// Makes a damaged pyramid anew, as it was made.
fn mend(
    assets: Weak<Inner>,
    store: PathBuf,
    make: impl Fn(&Assets, &Path) -> Result<(), StudioError> + Send + Sync + 'static,
) -> Mend {
    Box::new(move || {
        let assets = Assets(assets.upgrade().ok_or("Evanu is about to end")?);
        assets.tell_damage(&store.display().to_string());
        make(&assets, &store).map_err(|e| e.to_string())?;
        TiledFrame::open(&store).map_err(|e| e.to_string())
    })
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
