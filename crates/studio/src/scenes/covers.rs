//! Small pictures of sets for lists, kept on the disk: a list of many sets opens none of them. What is missing or shows an earlier state
//! is made behind, one after another, and told when it is there.

use super::Scenes;
use super::opened::Draft;
use super::views::{Pixels, encode, small_plate};
use crate::error::StudioError;
use crate::model::Event;
use crate::sets::SetRow;
use crate::store::lock;
use evanu_media::MediaError;
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;

/// Pixels at most in width and height: as large as a list shows them on a fine screen.
const SIDE: u32 = 600;

/// Sets whose small pictures are to be made.
#[derive(Default)]
pub(super) struct Wanted {
    sets: BTreeSet<i64>,
    /// Whether somebody is at it.
    at_it: bool,
}

impl Scenes {
    fn cover_path(&self, set: i64) -> PathBuf {
        self.0.store.path(&["cache", "covers", &set.to_string()])
    }

    /// The name of a set's picture in a list; what is missing or of an earlier state is made behind.
    pub(super) fn cover_name(&self, row: &SetRow) -> Option<String> {
        let draft = lock(&self.0.drafts).get(&row.id).and_then(Draft::shown);
        let at_hand = draft.or_else(|| lock(&self.0.opened).get(&row.id).cloned());
        let at_hand = at_hand.map(|opened| opened.keys.plate.clone());
        let kept = row.cover.clone().filter(|_| self.cover_path(row.id).exists());
        if row.joined > 0 && (kept.is_none() || row.cover_revision != Some(row.revision)) {
            self.make_cover(row.id);
        }
        at_hand.or(kept)
    }

    /// The picture that is kept of a set that is not opened.
    pub(super) fn kept_cover(&self, set: i64) -> Option<Vec<u8>> {
        let opened = lock(&self.0.opened).contains_key(&set) || lock(&self.0.drafts).contains_key(&set);
        if opened { None } else { std::fs::read(self.cover_path(set)).ok() }
    }

    /// Begins to make the picture of a set.
    pub(crate) fn make_cover(&self, set: i64) {
        let mut wanted = lock(&self.0.covers);
        wanted.sets.insert(set);
        if std::mem::replace(&mut wanted.at_it, true) {
            return;
        }
        // It ends with the application.
        let weak = Arc::downgrade(&self.0);
        let work = move || {
            while let Some(scenes) = weak.upgrade().map(Scenes) {
                let Some(set) = scenes.next_cover() else { return };
                // A set that cannot be opened is told where it is looked at.
                if let Err(e) = scenes.cover(set) {
                    tracing::debug!("no small picture of set {set}: {e}");
                }
            }
        };
        if std::thread::Builder::new().name("covers".into()).spawn(work).is_err() {
            wanted.at_it = false;
        }
    }

    fn next_cover(&self) -> Option<i64> {
        let mut wanted = lock(&self.0.covers);
        let next = wanted.sets.pop_first();
        wanted.at_it = next.is_some();
        next
    }

    /// Makes the picture of a set as it stands, without keeping it open.
    fn cover(&self, set: i64) -> Result<(), StudioError> {
        let in_force = self.0.sets.in_force(set)?;
        let at_hand = lock(&self.0.opened).get(&set).cloned();
        let opened = match at_hand {
            Some(opened) => opened,
            None => self.open_set(set, &in_force.recipe, false)?,
        };
        let picture = encode(&small_plate(&self.patched(&opened)?, SIDE)?, Pixels::Jpeg)?;
        let path = self.cover_path(set);
        let folder = self.0.store.path(&["cache", "covers"]);
        let failed = |e: std::io::Error| MediaError::writing(&path, &e);
        std::fs::create_dir_all(&folder).map_err(failed)?;
        let part = folder.join(format!(".{set}"));
        std::fs::write(&part, picture).and_then(|()| std::fs::rename(&part, &path)).map_err(failed)?;
        self.0.sets.keep_cover(set, &opened.keys.plate, in_force.revision)?;
        self.0.store.tell(Event::Sets);
        Ok(())
    }
}
