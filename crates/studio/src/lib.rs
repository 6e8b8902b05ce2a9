//! The application without HTTP: sets, their recipes and plans, runs, views of pixels, storage.
//!
//! One data folder holds everything: `evanu.sqlite` (sets, frames, recipes, plans, runs), `originals/` (copied
//! files by content hash, written once; others stay where they are), `exports/`, and `cache/`, which may be deleted at any time.
#![forbid(unsafe_code)]

mod doubts;
mod error;
mod export;
mod findings;
mod history;
mod lifts;
mod model;
mod opened;
mod prepare;
mod runs;
mod sets;
mod shoots;
mod store;
mod tiles;
mod views;

pub use doubts::Evidence;
pub use error::StudioError;
pub use evanu_core::combine::Method;
pub use evanu_core::composite::{Lift, Place};
pub use evanu_core::develop::Develop;
pub use evanu_core::geometry::Rect;
pub use evanu_core::recipe::{Align, Area, Canvas, Guide, Hand, Matching, Pair, Recipe};
pub use evanu_core::render::View;
pub use export::{ExportFormat, ExportRequest};
pub use model::{
    AgreementFact, AreaInfo, CanvasInfo, Change, CropInfo, DoubtInfo, Event, ExtentInfo, Finding, FitInfo,
    FolderInfo, FrameInfo, FrameState, GlareInfo, LiftInfo, LiftShape, LightInfo, Look, MovingInfo,
    OriginInfo, PlaceShape, Proposal, Purpose, Reach, RelinkInfo, RunInfo, RunKind, RunState, SeamInfo,
    SetDetail, SetSummary, Spot, StateInfo, StateKey, StepInfo, TileNames, Wanted,
};
pub use sets::Incoming;
pub use tiles::TILE;
pub use views::Pixels;

use evanu_media::TiledFrame;
use lru::LruCache;
use rusqlite::Connection;
use std::collections::{HashMap, HashSet};
use std::num::NonZeroUsize;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::broadcast;

/// The application. Cheap to clone; all clones share one state.
#[derive(Clone)]
pub struct Studio(Arc<Inner>);

struct Inner {
    folder: PathBuf,
    db: Mutex<Connection>,
    pyramids: Mutex<LruCache<String, Arc<TiledFrame>>>,
    opened: Mutex<HashMap<i64, Arc<opened::Opened>>>,
    tiles: Mutex<LruCache<String, tiles::Encoded>>,
    aligned: Mutex<tiles::AlignedTiles>,
    /// Sets whose consensus is being decided, as they are shown meanwhile; nothing yet while the plan is on its way.
    drafts: Mutex<HashMap<i64, opened::Draft>>,
    /// What the consensus chose, for the states last looked at; each is held while it is being decided.
    chosen: Mutex<LruCache<String, opened::Deciding>>,
    /// Held by who decides after a change.
    deciding: Mutex<()>,
    /// States of the history that are looked at, by their key.
    states: Mutex<LruCache<String, Arc<opened::Opened>>>,
    /// Lifts as they were last fitted; `None` where one covers nothing.
    fits: Mutex<LruCache<String, Option<Arc<evanu_core::composite::Fitted>>>>,
    /// Where lifts can be seen, by what reaches them, purpose and lift.
    seams: Mutex<LruCache<String, Vec<evanu_core::composite::seams::Seam>>>,
    /// Frames that are being read into their pyramids.
    reading: Mutex<HashSet<i64>>,
    /// Of which set it was last told that one was read, and when.
    told_read: Mutex<Option<(i64, std::time::Instant)>>,
    events: broadcast::Sender<Event>,
    queue: runs::Queue,
    /// Threads for long work, so that what is looked at does not wait behind it.
    behind: rayon::ThreadPool,
}

/// A lock that was held by a thread that panicked is still good: every change under it is whole.
fn lock<T>(m: &Mutex<T>) -> MutexGuard<'_, T> {
    m.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Studio {
    /// Opens a data folder, making it when it is not there, and takes up runs that were interrupted.
    ///
    /// # Errors
    /// When the folder cannot be written or its database is of a newer version.
    pub fn open(folder: &Path) -> Result<Self, StudioError> {
        let connection = store::open(folder)?;
        let capacity = |n: usize| NonZeroUsize::new(n).unwrap_or(NonZeroUsize::MIN);
        let (events, _) = broadcast::channel(512);
        let studio = Self(Arc::new(Inner {
            folder: folder.to_owned(),
            db: Mutex::new(connection),
            pyramids: Mutex::new(LruCache::new(capacity(512))),
            opened: Mutex::new(HashMap::new()),
            drafts: Mutex::new(HashMap::new()),
            tiles: Mutex::new(LruCache::new(capacity(1200))),
            aligned: Mutex::new(tiles::AlignedTiles::new()),
            chosen: Mutex::new(LruCache::new(capacity(6))),
            deciding: Mutex::new(()),
            states: Mutex::new(LruCache::new(capacity(4))),
            fits: Mutex::new(LruCache::new(capacity(200))),
            seams: Mutex::new(LruCache::new(capacity(400))),
            reading: Mutex::new(HashSet::new()),
            told_read: Mutex::new(None),
            events,
            queue: runs::Queue::default(),
            behind: runs::threads_behind()?,
        }));
        studio.sweep()?;
        studio.start_worker()?;
        Ok(studio)
    }

    /// Everything that changes from now on.
    pub fn events(&self) -> broadcast::Receiver<Event> {
        self.0.events.subscribe()
    }

    fn tell(&self, event: Event) {
        let _ = self.0.events.send(event); // nobody listening is fine
    }

    fn db(&self) -> MutexGuard<'_, Connection> {
        lock(&self.0.db)
    }

    fn path(&self, parts: &[&str]) -> PathBuf {
        parts.iter().fold(self.0.folder.clone(), |p, s| p.join(s))
    }
}
