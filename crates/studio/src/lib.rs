//! The application without HTTP: sets, what is decided about them, their assets, scenes and runs, storage.
//!
//! One data folder holds everything: `evanu.sqlite` (sets, frames, recipes, plans, runs), `originals/` (copied
//! files by content hash, written once; others stay where they are), `exports/`, and `cache/`, which may be deleted at any time.
//!
//! Each service knows those before it in this list and none after it: the store; [`Sets`] and what is decided about them; the
//! [`Queue`] of runs; [`Assets`]; [`Scenes`]; [`Clips`]; and the jobs that take runs from the queue. [`Studio`] holds them all, and the acts
//! that need more than one.
//!
//! ```
//! use evanu_studio::Studio;
//!
//! let folder = tempfile::tempdir().unwrap();
//! let studio = Studio::open(folder.path())?;
//! let set = studio.sets.create("Forecourt")?;
//! studio.sets.rename(set, "Forecourt at noon")?;
//! assert_eq!(studio.set(set)?.name, "Forecourt at noon");
//! # Ok::<(), evanu_studio::StudioError>(())
//! ```
#![forbid(unsafe_code)]

mod assets;
mod clips;
mod error;
mod jobs;
mod model;
mod queue;
mod scenes;
mod sets;
mod store;

pub use assets::{Added, Assets, Incoming, Pyramid};
pub use clips::Clips;
pub use error::StudioError;
pub use jobs::{ExportFormat, ExportRequest};
pub use model::*;
pub use queue::Queue;
pub use scenes::{Evidence, Pixels, Scenes, TILE};
pub use sets::Sets;

use evanu_core::recipe::FrameId;
use evanu_media::{FORMATS, Reader};
use jobs::Jobs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use store::Store;
use tokio::sync::broadcast;

/// The application. Cheap to clone; all clones share one state.
#[derive(Clone)]
pub struct Studio {
    /// Sets, their frames and their history.
    pub sets: Sets,
    /// The files that frames come from.
    pub assets: Assets,
    /// Sets as pictures.
    pub scenes: Scenes,
    /// Clips that frames come from.
    pub clips: Clips,
    /// Background work.
    pub queue: Queue,
    jobs: Arc<Jobs>,
}

impl Studio {
    /// Opens a data folder, making it when it is not there, and takes up runs that were interrupted.
    ///
    /// # Errors
    /// When the folder cannot be written or its database is of a newer version.
    pub fn open(folder: &Path) -> Result<Self, StudioError> {
        Self::open_with(folder, Reader::Here(FORMATS))
    }

    /// The same with another reader of files.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub fn open_with(folder: &Path, reader: Reader) -> Result<Self, StudioError> {
        let store = Arc::new(Store::open(folder)?);
        let sets = Sets { store: store.clone() };
        sets.sweep()?;
        let queue = Queue::open(store.clone())?;
        let assets = Assets::new(store.clone(), sets.clone(), reader)?;
        let scenes = Scenes::new(store.clone(), sets.clone(), queue.clone(), assets.clone());
        let clips = Clips::new(store.clone(), sets.clone(), assets.clone(), scenes.clone());
        let jobs = Jobs {
            store,
            clips: clips.clone(),
            sets: sets.clone(),
            queue: queue.clone(),
            assets: assets.clone(),
            scenes: scenes.clone(),
        };
        let studio = Self { sets, assets, scenes, clips, queue, jobs: Arc::new(jobs) };
        studio.jobs.start()?;
        Ok(studio)
    }

    /// Everything that changes from now on.
    pub fn events(&self) -> broadcast::Receiver<Event> {
        self.jobs.store.listen()
    }

    /// Everything about a set.
    ///
    /// # Errors
    /// When there is no such set.
    pub fn set(&self, set: i64) -> Result<SetDetail, StudioError> {
        let mut detail = self.scenes.detail(set)?;
        detail.clip = self.clips.is_looked_at(set)?;
        Ok(detail)
    }

    /// Puts a change in force that was made from a revision; what had been undone stays, as a branch beside it.
    ///
    /// # Errors
    /// [`StudioError::Outdated`] when another revision is in force; when there is no such set or the change makes no sense.
    pub fn change(&self, set: i64, change: &Change, revision: Option<i64>) -> Result<(), StudioError> {
        self.sets.change(set, change, revision)?;
        self.shown_anew(set, &change.looking)
    }

    /// Moves one step back (`-1`) or forth (`1`) along the branch.
    ///
    /// # Errors
    /// [`StudioError::Outdated`] as for a change; when there is nothing to undo or redo.
    pub fn step(&self, set: i64, by: i64, revision: Option<i64>) -> Result<(), StudioError> {
        self.sets.step(set, by, revision)?;
        self.shown_anew(set, &[])
    }

    /// Returns to a state, on whatever branch; undo and redo then walk along that one.
    ///
    /// # Errors
    /// [`StudioError::Outdated`] as for a change; when there is no such state.
    pub fn go_to(&self, set: i64, seq: i64, revision: Option<i64>) -> Result<(), StudioError> {
        self.sets.go_to(set, seq, revision)?;
        self.shown_anew(set, &[])
    }

    fn shown_anew(&self, set: i64, looking: &[Spot]) -> Result<(), StudioError> {
        self.scenes.reopen(set, looking)?;
        self.jobs.store.tell(Event::Set { id: set });
        Ok(())
    }

    /// Reads a file once more that could not be read.
    ///
    /// # Errors
    /// When there is no such frame or it did not fail.
    pub fn read_again(&self, set: i64, frame: FrameId) -> Result<(), StudioError> {
        self.sets.frame_again(set, frame)?;
        self.prepare(set)
    }

    /// Takes the file that took the place of a frame's original as a new frame.
    ///
    /// # Errors
    /// When there is no such frame, or its original is not there or is what came in.
    pub fn renew(&self, set: i64, frame: FrameId) -> Result<(), StudioError> {
        self.sets.check(set)?;
        self.assets.renew(set, frame)?;
        self.prepare(set)
    }

    /// Notes that the program is about to end as it was told to: what is cut off by that is not to blame.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub fn leave(&self) -> Result<(), StudioError> {
        self.sets.none_begun()?;
        self.queue.none_begun()
    }

    /// Begins reading and aligning what has arrived.
    ///
    /// # Errors
    /// When the set does not exist.
    pub fn prepare(&self, set: i64) -> Result<(), StudioError> {
        self.sets.check(set)?;
        self.queue.enqueue(set, RunKind::Prepare, "{}")?;
        self.jobs.store.tell(Event::Sets);
        self.jobs.store.tell(Event::Set { id: set });
        Ok(())
    }

    /// Deletes a set, or brings a deleted one back.
    ///
    /// # Errors
    /// When there is no such set.
    pub fn delete(&self, set: i64, delete: bool) -> Result<(), StudioError> {
        self.sets.delete(set, delete)?;
        if delete { self.queue.cancel_last(set) } else { Ok(()) }
    }

    /// Copies a set with its frames, history and plans; originals are shared.
    ///
    /// # Errors
    /// When there is no such set.
    pub fn duplicate(&self, set: i64) -> Result<i64, StudioError> {
        let copy = self.sets.duplicate(set)?;
        if self.sets.frames(copy)?.iter().any(|f| f.state == FrameState::Reading) {
            self.queue.enqueue(copy, RunKind::Prepare, "{}")?;
        }
        Ok(copy)
    }

    /// Moves frames to another set, or to a new one; what is left of their set keeps its decisions. A set that loses its
    /// last frame is deleted. Returns the set they are in now.
    ///
    /// # Errors
    /// When a set or a frame does not exist.
    pub fn move_frames(&self, set: i64, frames: &[FrameId], to: Option<i64>) -> Result<i64, StudioError> {
        let name = self.sets.check(set)?;
        let rows = self.sets.frames(set)?;
        if frames.is_empty() || !frames.iter().all(|id| rows.iter().any(|r| r.id == *id)) {
            return Err(StudioError::NotFound("these frames are not in this set; look again".into()));
        }
        if to == Some(set) {
            return Err(StudioError::Invalid("the frames are in this set already".into()));
        }
        let target = match to {
            Some(to) => {
                self.sets.check(to)?;
                to
            }
            None => self.sets.create(&format!("{name}, part"))?,
        };
        self.sets.hand_over(set, frames, target)?;
        self.scenes.forget(set);
        self.scenes.forget(target);
        if self.sets.frames(set)?.is_empty() {
            self.delete(set, true)?;
        } else {
            self.prepare(set)?;
        }
        self.prepare(target)?;
        Ok(target)
    }

    /// Looks for the lost originals of a set in a folder and the folders below it. Those of other sets that are found on
    /// the way are linked too, but not counted.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn relink(&self, set: i64, folder: &str) -> Result<RelinkInfo, StudioError> {
        let (found, owners) = self.assets.find_originals(set, folder)?;
        for owner in owners {
            if self.sets.frames(owner)?.iter().any(|f| f.state == FrameState::Reading) {
                self.prepare(owner)?;
            }
            self.jobs.store.tell(Event::Set { id: owner });
        }
        Ok(found)
    }

    /// Queues writing the plate; the run's message is the file's name when it is done.
    ///
    /// # Errors
    /// When the plate is not ready or the request is out of range.
    pub fn export(&self, set: i64, request: &ExportRequest) -> Result<i64, StudioError> {
        self.jobs.start_export(set, request)
    }

    /// Queues laying the patch on all frames of a set's clip, to be looked at.
    ///
    /// # Errors
    /// When the set has no clip or its plate is not ready.
    pub fn lay_clip(&self, set: i64) -> Result<i64, StudioError> {
        self.clips.state(set)?;
        self.queue.enqueue(set, RunKind::Clip, "{}")
    }

    /// Queues writing a finished clip or what goes with it; the run's message is the file's name when it is done.
    ///
    /// # Errors
    /// When the set has no clip or its plate is not ready.
    pub fn export_clip(&self, set: i64, file: ClipFile) -> Result<i64, StudioError> {
        self.clips.state(set)?;
        self.queue.enqueue(set, RunKind::ClipExport, &serde_json::to_string(&file)?)
    }

    /// The file that an export wrote, and its name.
    ///
    /// # Errors
    /// When the run wrote none.
    pub fn exported(&self, run: i64) -> Result<(PathBuf, String), StudioError> {
        self.jobs.exported(run)
    }
}
