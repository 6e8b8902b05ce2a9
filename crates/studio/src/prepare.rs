//! The run that makes a set ready: reading every frame into its pyramid, then the plan.

use crate::error::StudioError;
use crate::model::{Event, FrameRow, FrameState};
use crate::runs::Work;
use crate::{Recipe, Studio, lock};
use evanu_core::pixel::FrameSource;
use evanu_core::prepare;
use evanu_media::{MediaError, TiledFrame, import};
use rayon::prelude::*;
use rusqlite::{OptionalExtension, params};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

impl Studio {
    /// Reads and aligns; what is already there is not done again.
    pub(crate) fn prepare(&self, work: &Work<'_>) -> Result<Option<String>, StudioError> {
        let set = work.set;
        work.step("Reading frames");
        self.read_frames(work)?;
        self.sort_shoot(work)?;
        self.give_places(set)?;
        self.forget(set);
        self.tell(Event::Set { id: set });
        let rows: Vec<FrameRow> = self.placed(set)?;
        if rows.is_empty() {
            return Err(StudioError::Invalid(format!(
                "none of these files could be read; add photographs as {}",
                evanu_media::READS
            )));
        }
        let recipe = self.recipe(set)?;
        let key = plan_key(&rows, &recipe);
        work.step("Aligning frames");
        // Who asks the moment the plan is there does not wait for the decision.
        let drafting = Mutex::new(self.drafting(set, None));
        if self.plan_text(set, &key)?.is_none() {
            let open: Vec<Arc<TiledFrame>> =
                rows.iter().map(|f| self.pyramid(f)).collect::<Result<_, _>>()?;
            let sources: Vec<&dyn FrameSource> = open.iter().map(|f| &**f as &dyn FrameSource).collect();
            let clocks: Vec<Option<f64>> = rows.iter().map(|f| f.camera.seconds()).collect();
            let early = |plan| match self.show_early(set, &recipe, &rows, plan) {
                Ok(shown) => *lock(&drafting) = shown,
                Err(e) => tracing::warn!("set {set} cannot be shown before it is aligned: {e}"),
            };
            let planned = || prepare::plan_early(&recipe, &sources, &clocks, &early, &|share| work.at(share));
            let plan = self.0.behind.install(planned)?;
            self.db().execute(
                "INSERT OR REPLACE INTO plans (set_id, key, plan) VALUES (?1, ?2, ?3)",
                params![set, key, serde_json::to_string(&plan)?],
            )?;
        }
        work.step("Combining");
        lock(&self.0.opened).remove(&set);
        self.decide(set)?;
        Ok(None)
    }

    /// Reads what is not read yet, also what is being read ahead.
    fn read_frames(&self, work: &Work<'_>) -> Result<(), StudioError> {
        let mut total = None;
        loop {
            let mut unread = self.frame_rows(work.set)?;
            unread.retain(|f| f.state == FrameState::Reading);
            let total = *total.get_or_insert(unread.len().max(1));
            if unread.is_empty() {
                return Ok(());
            }
            let done = AtomicUsize::new(total.saturating_sub(unread.len()));
            let share = |n: usize| work.at(n as f32 / total as f32).map_err(|_| StudioError::Cancelled);
            let read = |frame: &FrameRow| {
                share(done.load(Ordering::Relaxed))?;
                if self.read_once(work.set, frame)? {
                    share(done.fetch_add(1, Ordering::Relaxed) + 1)?;
                }
                Ok::<_, StudioError>(())
            };
            self.0.behind.install(|| unread.par_iter().try_for_each(read))?;
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Begins to read a frame that has arrived while more are on their way. Whatever goes wrong is told by the run that
    /// reads what is left.
    pub(crate) fn read_ahead(&self, set: i64, hash: String) {
        let studio = self.clone();
        let read = move || -> Result<(), StudioError> {
            let rows = studio.frame_rows(set)?;
            let mut arrived = rows.iter().filter(|f| f.hash == hash && f.state == FrameState::Reading);
            arrived.try_for_each(|frame| studio.read_once(set, frame).map(|_| ()))
        };
        self.0.behind.spawn(move || match std::panic::catch_unwind(std::panic::AssertUnwindSafe(read)) {
            Ok(Ok(())) => {}
            Ok(Err(e)) => tracing::warn!("a frame could not be read ahead: {e}"),
            Err(_) => tracing::warn!("a frame could not be read ahead"),
        });
    }

    /// Reads a frame unless somebody else is at it; returns whether it is read now.
    fn read_once(&self, set: i64, frame: &FrameRow) -> Result<bool, StudioError> {
        /// Gives the frame back, whatever happens.
        struct Claim<'a>(&'a Studio, i64);
        impl Drop for Claim<'_> {
            fn drop(&mut self) {
                lock(&self.0.0.reading).remove(&self.1);
            }
        }
        if !lock(&self.0.reading).insert(frame.id) {
            return Ok(false);
        }
        let _claim = Claim(self, frame.id);
        let state: Option<String> = self
            .db()
            .query_row("SELECT state FROM frames WHERE id = ?1", params![frame.id], |r| r.get(0))
            .optional()?;
        if state.as_deref() == Some("reading") {
            self.read_frame(frame)?;
            self.tell_read(set);
        }
        Ok(true)
    }

    /// Tells that a frame was read, but not each of a dozen that come in at once: a page that draws itself anew takes the time
    /// that they are read in.
    fn tell_read(&self, set: i64) {
        const SELDOM: Duration = Duration::from_millis(400);
        // The one that is read now is among them.
        let last = lock(&self.0.reading).len() <= 1;
        let mut told = lock(&self.0.told_read);
        if last || told.is_none_or(|(of, at)| of != set || at.elapsed() > SELDOM) {
            *told = Some((set, Instant::now()));
            self.tell(Event::Set { id: set });
        }
    }

    /// Decodes one frame into its pyramid and notes what came of it.
    fn read_frame(&self, frame: &FrameRow) -> Result<(), StudioError> {
        let (original, store) = (self.original(frame), self.path(&["cache", "pyramids", &frame.hash]));
        match import(&original, &store) {
            Ok((size, camera)) => {
                self.db().execute(
                    "UPDATE frames SET state = 'ready', reason = NULL, width = ?2, height = ?3, camera = ?4 WHERE id = ?1",
                    params![frame.id, size.width, size.height, serde_json::to_string(&camera)?],
                )?;
            }
            // A full disk is no fault of the frame: the run fails and can be repeated.
            Err(e) if e.path != original => return Err(e.into()),
            Err(e) => {
                let named = MediaError { path: Path::new(&frame.name).to_owned(), ..e };
                self.db().execute(
                    "UPDATE frames SET state = 'failed', reason = ?2 WHERE id = ?1",
                    params![frame.id, named.to_string()],
                )?;
            }
        }
        Ok(())
    }

    /// Gives newly read frames their places in the recipe's lists, by clock time.
    fn give_places(&self, set: i64) -> Result<(), StudioError> {
        let rows = self.frame_rows(set)?;
        let first = rows.iter().filter_map(|f| f.index).map(|i| i + 1).max().unwrap_or(0);
        let new = rows.iter().filter(|f| f.state == FrameState::Ready && f.index.is_none());
        let db = self.db();
        for (place, frame) in (first..).zip(new) {
            db.execute("UPDATE frames SET place = ?2 WHERE id = ?1", params![frame.id, place as i64])?;
        }
        Ok(())
    }

    /// Frames that have a place, in the recipe's order.
    pub(crate) fn placed(&self, set: i64) -> Result<Vec<FrameRow>, StudioError> {
        let mut rows: Vec<FrameRow> =
            self.frame_rows(set)?.into_iter().filter(|f| f.index.is_some()).collect();
        rows.sort_by_key(|f| f.index);
        Ok(rows)
    }

    pub(crate) fn plan_text(&self, set: i64, key: &str) -> Result<Option<String>, StudioError> {
        Ok(self
            .db()
            .query_row("SELECT plan FROM plans WHERE set_id = ?1 AND key = ?2", params![set, key], |r| {
                r.get(0)
            })
            .optional()?)
    }

    /// A frame's pyramid; made anew from the original when the cache was deleted.
    pub(crate) fn pyramid(&self, frame: &FrameRow) -> Result<Arc<TiledFrame>, StudioError> {
        if let Some(open) = lock(&self.0.pyramids).get(&frame.hash) {
            return Ok(open.clone());
        }
        let store = self.path(&["cache", "pyramids", &frame.hash]);
        let open = match TiledFrame::open(&store) {
            Ok(open) => open,
            Err(_) => {
                let folder = self.path(&["cache", "pyramids"]);
                std::fs::create_dir_all(&folder).map_err(|e| MediaError::writing(&folder, &e))?;
                import(&self.original(frame), &store)?;
                TiledFrame::open(&store)?
            }
        };
        let open = Arc::new(open);
        lock(&self.0.pyramids).put(frame.hash.clone(), open.clone());
        Ok(open)
    }
}

/// What a plan depends on.
pub(crate) fn plan_key(rows: &[FrameRow], recipe: &Recipe) -> String {
    let mut hasher = blake3::Hasher::new();
    rows.iter().for_each(|f| {
        hasher.update(f.hash.as_bytes());
    });
    hasher.update(format!("plan 3 {:?} {:?} {:?}", recipe.align, recipe.reference, recipe.areas).as_bytes());
    hasher.finalize().to_hex()[..16].to_owned()
}
