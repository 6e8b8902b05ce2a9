//! Assets read into pyramids: each is opened once, and its frames come one after another.

use super::{Assets, pyramid_name};
use crate::error::StudioError;
use crate::model::{Event, FrameState};
use crate::sets::FrameRow;
use crate::store::lock;
use evanu_core::progress::Cancelled;
use evanu_media::{MediaError, ReadFrame};
use rayon::prelude::*;
use std::panic::AssertUnwindSafe;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

/// How often a file is read by itself while the program ends at it.
const TIMES: i64 = 2;

impl Assets {
    /// Reads what a set has not read yet, also what is being read ahead.
    pub(crate) fn read_frames(
        &self,
        set: i64,
        at: &(dyn Fn(f32) -> Result<(), Cancelled> + Sync),
    ) -> Result<(), StudioError> {
        let mut total = None;
        loop {
            let mut unread = self.0.sets.frames(set)?;
            // Further frames of an asset are read with its first.
            unread.retain(|f| f.state == FrameState::Reading && f.position == 0);
            let total = *total.get_or_insert(unread.len().max(1));
            if unread.is_empty() {
                return Ok(());
            }
            let done = AtomicUsize::new(total.saturating_sub(unread.len()));
            let share = |n: usize| at(n as f32 / total as f32).map_err(|_| StudioError::Cancelled);
            let read = |frame: &FrameRow| {
                share(done.load(Ordering::Relaxed))?;
                if self.read_once(set, frame)? {
                    share(done.fetch_add(1, Ordering::Relaxed) + 1)?;
                }
                Ok::<_, StudioError>(())
            };
            // What was being read when the program ended is read by itself: should it end again, it is known by what.
            let (suspect, others): (Vec<FrameRow>, _) = unread.into_iter().partition(|f| f.begun > 0);
            suspect.iter().try_for_each(read)?;
            self.0.background.install(|| others.par_iter().try_for_each(read))?;
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Begins to read a file that has arrived while more are on their way. Whatever goes wrong is told by the run that
    /// reads what is left.
    pub(super) fn read_ahead(&self, set: i64, hash: String) {
        let assets = self.clone();
        let read = move || -> Result<(), StudioError> {
            let rows = assets.0.sets.frames(set)?;
            let arrived = |f: &&FrameRow| f.hash == hash && f.state == FrameState::Reading && f.position == 0;
            rows.iter().filter(arrived).try_for_each(|frame| assets.read_once(set, frame).map(|_| ()))
        };
        self.0.background.spawn(move || match std::panic::catch_unwind(AssertUnwindSafe(read)) {
            Ok(Ok(())) => {}
            Ok(Err(e)) => tracing::warn!("a frame could not be read ahead: {e}"),
            Err(_) => tracing::warn!("a frame could not be read ahead"),
        });
    }

    /// Reads an asset by its first frame unless somebody else is at it; returns whether it is read now.
    fn read_once(&self, set: i64, first: &FrameRow) -> Result<bool, StudioError> {
        /// Gives the asset back, whatever happens.
        struct Claim<'a>(&'a Assets, (i64, String));
        impl Drop for Claim<'_> {
            fn drop(&mut self) {
                self.0.0.done_reading(&self.1);
            }
        }
        let claim = (first.row, first.hash.clone());
        if !lock(&self.0.reading).insert(claim.clone()) {
            return Ok(false);
        }
        let _claim = Claim(self, claim);
        if self.0.sets.frame_state(first.row)? == Some(FrameState::Reading) {
            let read = self.read_asset(set, first);
            // A full disk, or a run that was stopped, is not the file's fault either.
            if read.is_err() {
                self.0.sets.frame_not_begun(first.row)?;
            }
            read?;
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
            self.0.store.tell(Event::Set { id: set });
        }
    }

    /// Decodes the frames of an asset into their pyramids and notes what came of each. The first is noted last: until then the
    /// asset counts as unread, and is read again after an interruption.
    fn read_asset(&self, set: i64, first: &FrameRow) -> Result<(), StudioError> {
        let original = self.original(first);
        if first.begun >= TIMES {
            let ends = MediaError::new(
                &original,
                format!("Evanu ended {TIMES} times while it was reading it"),
                "leave it out, or convert it and add it again",
            );
            return self.note(first, Err(ends), &original);
        }
        // What was copied has come in just now; another file may have taken the place of one that was left there.
        if first.source.is_some()
            && let Err(e) = self.verify(first)
        {
            return match e {
                StudioError::Media(e) => self.note(first, Err(e), &original),
                other => Err(other),
            };
        }
        self.0.sets.frame_begun(first.row)?;
        let (mut read, mut noted, mut heard) = (None, Ok::<_, StudioError>(()), 0);
        let store =
            |position| self.0.store.path(&["cache", "pyramids", &pyramid_name(&first.hash, position)]);
        let ended = self.0.reader.read(&original, None, &store, &mut |position, stored| {
            heard = position + 1;
            if position == 0 {
                read = Some(stored);
            } else if noted.is_ok() {
                noted = self.note_further(set, first, position, stored);
            }
        });
        noted?;
        let none = || Err(MediaError::new(&original, "there is no frame in it", "leave it out"));
        match (ended, read) {
            // What is damaged further on leaves the frames before it.
            (Err(e), Some(Ok(read))) => {
                self.note_further(set, first, heard, Err(e))?;
                self.note(first, Ok(read), &original)
            }
            (Err(e), _) => self.note(first, Err(e), &original),
            (Ok(()), read) => self.note(first, read.unwrap_or_else(none), &original),
        }
    }

    /// Notes what came of reading a further frame of an asset.
    fn note_further(
        &self,
        set: i64,
        first: &FrameRow,
        position: u32,
        read: Result<ReadFrame, MediaError>,
    ) -> Result<(), StudioError> {
        let row = self.0.sets.add_position(first, position)?;
        self.note(&row, read, &self.original(first))?;
        self.tell_read(set);
        Ok(())
    }

    /// Notes what came of reading a frame.
    fn note(
        &self,
        frame: &FrameRow,
        read: Result<ReadFrame, MediaError>,
        original: &Path,
    ) -> Result<(), StudioError> {
        match read {
            Ok(read) => self.0.sets.frame_read(frame.row, &read),
            // A full disk is no fault of the frame: the run fails and can be repeated.
            Err(e) if e.path != original => Err(e.into()),
            Err(e) => {
                let named = MediaError { path: Path::new(&frame.name).to_owned(), ..e };
                self.0.sets.frame_failed(frame.row, &named.to_string())
            }
        }
    }

    /// A frame's camera data as they are written with a plate; from its original when they were not kept yet.
    pub(crate) fn exif(&self, frame: &FrameRow) -> Result<Vec<u8>, StudioError> {
        if let Some(kept) = self.0.sets.exif(frame.row)? {
            return Ok(kept);
        }
        let pyramid = self.0.store.path(&["cache", "pyramids", &pyramid_name(&frame.hash, frame.position)]);
        if self.store_again(frame, &pyramid).is_err() {
            return Ok(Vec::new()); // its original is not there, as it was never asked for
        }
        Ok(self.0.sets.exif(frame.row)?.unwrap_or_default())
    }

    /// Makes the pyramid of a frame anew.
    pub(super) fn store_again(&self, frame: &FrameRow, store: &Path) -> Result<(), StudioError> {
        let original = self.original(frame);
        self.verify(frame)?;
        let mut read = None;
        self.0.reader.read(&original, Some(frame.position), &|_| store.to_owned(), &mut |_, again| {
            read = Some(again);
        })?;
        let gone = || MediaError::new(&original, "a frame that was in it is gone", "bring it in again");
        self.0.sets.frame_read(frame.row, &read.ok_or_else(gone)??)
    }
}
