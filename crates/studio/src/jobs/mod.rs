//! The worker: takes runs from the queue, one after another, and does them. Each kind of work is a file of this folder and a
//! line in [`Jobs::perform`].

mod clip;
mod export;
mod prepare;
mod views;

use crate::assets::Assets;
use crate::clips::Clips;
use crate::error::StudioError;
use crate::model::{Event, RunKind};
use crate::queue::{Queue, Work};
use crate::scenes::Scenes;
use crate::sets::Sets;
use crate::store::Store;
pub use export::{ExportFormat, ExportRequest};
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

/// What runs are done with.
pub(crate) struct Jobs {
    pub store: Arc<Store>,
    pub sets: Sets,
    pub queue: Queue,
    pub assets: Assets,
    pub scenes: Scenes,
    pub clips: Clips,
}

impl Jobs {
    /// Starts the worker, which ends when nobody else holds the jobs.
    pub(crate) fn start(self: &Arc<Self>) -> Result<(), StudioError> {
        let (send, receive) = channel();
        self.queue.wakes(send);
        let weak = Arc::downgrade(self);
        std::thread::Builder::new()
            .name("runs".into())
            .spawn(move || {
                loop {
                    let Some(jobs) = weak.upgrade() else { return };
                    let more = jobs.work_once().unwrap_or_else(|e| {
                        tracing::error!("a run could not be taken from the queue: {e}");
                        false
                    });
                    drop(jobs);
                    // Woken by new work; otherwise looks now and then whether the application is still there.
                    if !more
                        && receive.recv_timeout(Duration::from_secs(2)) == Err(RecvTimeoutError::Disconnected)
                    {
                        return;
                    }
                }
            })
            .map_err(|e| StudioError::Storage(format!("no thread for background work: {e}")))?;
        Ok(())
    }

    /// Does the oldest waiting run, if any.
    fn work_once(&self) -> Result<bool, StudioError> {
        self.queue.note_ended()?;
        let Some(work) = self.queue.take()? else {
            self.store.keep_reserve();
            return Ok(false);
        };
        let done = std::panic::catch_unwind(AssertUnwindSafe(|| self.perform(&work))).unwrap_or_else(|_| {
            Err(StudioError::Storage("the work ended unexpectedly; please try again".into()))
        });
        self.queue.ended(work.run, done);
        self.store.tell(Event::Set { id: work.set });
        self.store.tell(Event::Sets);
        Ok(true)
    }

    /// What each kind of work is.
    fn perform(&self, work: &Work) -> Result<Option<String>, StudioError> {
        match work.kind {
            RunKind::Prepare => self.prepare(work),
            RunKind::Export => self.export(work),
            RunKind::Clip => self.lay_clip(work),
            RunKind::ClipExport => self.export_clip(work),
        }
    }
}
