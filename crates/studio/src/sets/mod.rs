//! Sets and what is decided about them: making, naming, duplicating, deleting and bringing back; their frames ([`frames`]) and
//! their history ([`history`]). Nothing here knows pixels.

mod frames;
mod history;

use crate::error::StudioError;
use crate::model::Event;
use crate::store::Store;
use evanu_core::recipe::{FrameId, Recipe};
use evanu_media::MediaError;
pub(crate) use frames::FrameRow;
use rusqlite::{OptionalExtension, params};
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

/// The sets of a data folder. Cheap to clone.
#[derive(Clone)]
pub struct Sets {
    pub(crate) store: Arc<Store>,
}

/// A set as a list shows it.
pub(crate) struct SetRow {
    pub id: i64,
    pub name: String,
    pub created: i64,
    pub frames: usize,
    /// Frames that take part.
    pub joined: usize,
    pub note: Option<String>,
    pub revision: i64,
    /// The name of the small picture that is kept of it, and the revision that it shows.
    pub cover: Option<String>,
    pub cover_revision: Option<i64>,
}

pub(crate) fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs() as i64)
}

/// Deleted sets are kept this long.
const KEPT_SECONDS: i64 = 30 * 24 * 3600;

fn gone() -> StudioError {
    StudioError::NotFound("there is no such set; it may have been deleted".into())
}

impl Sets {
    /// All sets, newest first.
    pub(crate) fn rows(&self) -> Result<Vec<SetRow>, StudioError> {
        let db = self.store.reading()?;
        let mut query = db.prepare(
            "SELECT id, name, created, (SELECT count(*) FROM frames f WHERE f.set_id = s.id AND f.state != 'failed'),
                (SELECT count(place) FROM frames f WHERE f.set_id = s.id), note, revision, cover, cover_revision
             FROM sets s WHERE deleted IS NULL ORDER BY id DESC",
        )?;
        let row = |r: &rusqlite::Row<'_>| {
            let (frames, joined): (i64, i64) = (r.get(3)?, r.get(4)?);
            Ok(SetRow {
                id: r.get(0)?,
                name: r.get(1)?,
                created: r.get(2)?,
                frames: frames as usize,
                joined: joined as usize,
                note: r.get(5)?,
                revision: r.get(6)?,
                cover: r.get(7)?,
                cover_revision: r.get(8)?,
            })
        };
        Ok(query.query_map([], row)?.collect::<Result<_, _>>()?)
    }

    /// Makes an empty set.
    ///
    /// # Errors
    /// When the name is empty or the database cannot be written.
    pub fn create(&self, name: &str) -> Result<i64, StudioError> {
        let name = checked_name(name)?;
        let id = {
            let mut db = self.store.db();
            let t = db.transaction()?;
            t.execute("INSERT INTO sets (name, created) VALUES (?1, ?2)", params![name, now()])?;
            let id = t.last_insert_rowid();
            let recipe = serde_json::to_string(&Recipe::<FrameId>::new())?;
            t.execute(
                "INSERT INTO recipes (set_id, seq, label, recipe) VALUES (?1, 0, 'made the set', ?2)",
                params![id, recipe],
            )?;
            t.commit()?;
            id
        };
        self.store.tell(Event::Sets);
        Ok(id)
    }

    /// Makes an empty set whose frames, once read, are told apart by view.
    ///
    /// # Errors
    /// When the name is empty or the database cannot be written.
    pub fn create_shoot(&self, name: &str) -> Result<i64, StudioError> {
        let id = self.create(name)?;
        self.store.db().execute("UPDATE sets SET sorted = 0 WHERE id = ?1", params![id])?;
        Ok(id)
    }

    /// Gives a set another name.
    ///
    /// # Errors
    /// When there is no such set or the name is empty.
    pub fn rename(&self, id: i64, name: &str) -> Result<(), StudioError> {
        let name = checked_name(name)?;
        let n = self
            .store
            .db()
            .execute("UPDATE sets SET name = ?2 WHERE id = ?1 AND deleted IS NULL", params![id, name])?;
        if n == 0 {
            return Err(gone());
        }
        self.store.tell(Event::Sets);
        self.store.tell(Event::Set { id });
        Ok(())
    }

    /// Deletes a set, or brings a deleted one back.
    pub(crate) fn delete(&self, id: i64, delete: bool) -> Result<(), StudioError> {
        let when = delete.then(now);
        if self.store.db().execute("UPDATE sets SET deleted = ?2 WHERE id = ?1", params![id, when])? == 0 {
            return Err(gone());
        }
        self.store.tell(Event::Sets);
        Ok(())
    }

    /// Copies a set with its frames, history, plans and what was made for it; originals are shared, and frames keep their identities.
    pub(crate) fn duplicate(&self, id: i64) -> Result<i64, StudioError> {
        let copy = {
            let mut db = self.store.db();
            let t = db.transaction()?;
            let made = t.execute(
                "INSERT INTO sets (name, created, cursor, tip) SELECT name || ' (copy)', ?2, cursor, tip FROM sets WHERE id = ?1 AND deleted IS NULL",
                params![id, now()],
            )?;
            if made == 0 {
                return Err(gone());
            }
            let copy = t.last_insert_rowid();
            for (table, columns) in [
                (
                    "frames",
                    "place, name, hash, state, reason, width, height, camera, exif, source, bytes, key, position",
                ),
                ("recipes", "seq, label, recipe, parent, made"),
                ("plans", "key, plan"),
                ("rasters", "hash"),
            ] {
                t.execute(&format!("INSERT INTO {table} (set_id, {columns}) SELECT ?2, {columns} FROM {table} WHERE set_id = ?1"), params![id, copy])?;
            }
            t.commit()?;
            copy
        };
        self.store.tell(Event::Sets);
        Ok(copy)
    }

    /// Removes what was deleted long ago, and originals that no set needs.
    pub(crate) fn sweep(&self) -> Result<(), StudioError> {
        let old: usize =
            self.store.db().execute("DELETE FROM sets WHERE deleted < ?1", params![now() - KEPT_SECONDS])?;
        if old == 0 {
            return Ok(());
        }
        self.sweep_covers()?;
        let known: Vec<String> = {
            let db = self.store.reading()?;
            let mut query = db.prepare("SELECT hash FROM frames UNION SELECT hash FROM rasters")?;
            query.query_map([], |r| r.get(0))?.collect::<Result<_, _>>()?
        };
        for folder in [self.store.path(&["originals"]), self.store.path(&["cache", "pyramids"])] {
            for file in std::fs::read_dir(&folder).map_err(|e| MediaError::reading(&folder, &e))?.flatten() {
                // Pyramids of one asset share the beginning of their names.
                let name = file.file_name();
                if !known.iter().any(|h| name.to_string_lossy().starts_with(h)) {
                    let _ = std::fs::remove_file(file.path()); // a leftover costs space, nothing else
                }
            }
        }
        Ok(())
    }

    /// Removes the small pictures of sets that are gone for good.
    fn sweep_covers(&self) -> Result<(), StudioError> {
        let db = self.store.reading()?;
        let mut query = db.prepare("SELECT id FROM sets")?;
        let known: Vec<String> =
            query.query_map([], |r| Ok(r.get::<_, i64>(0)?.to_string()))?.collect::<Result<_, _>>()?;
        let covers = std::fs::read_dir(self.store.path(&["cache", "covers"]));
        for file in covers.into_iter().flatten().flatten() {
            if !known.iter().any(|id| **id == *file.file_name()) {
                let _ = std::fs::remove_file(file.path()); // a leftover costs space, nothing else
            }
        }
        Ok(())
    }

    /// The name of a set that is there.
    pub(crate) fn check(&self, id: i64) -> Result<String, StudioError> {
        let name = self
            .store
            .reading()?
            .query_row("SELECT name FROM sets WHERE id = ?1 AND deleted IS NULL", params![id], |r| r.get(0))
            .optional()?;
        name.ok_or_else(gone)
    }

    /// Something to know about a set.
    pub(crate) fn note(&self, id: i64) -> Result<Option<String>, StudioError> {
        Ok(self
            .store
            .reading()?
            .query_row("SELECT note FROM sets WHERE id = ?1", params![id], |r| r.get(0))?)
    }

    /// Notes that a small picture of a set is kept, under the name of its plate, of a revision.
    pub(crate) fn keep_cover(&self, set: i64, name: &str, revision: i64) -> Result<(), StudioError> {
        self.store.db().execute(
            "UPDATE sets SET cover = ?2, cover_revision = ?3 WHERE id = ?1",
            params![set, name, revision],
        )?;
        Ok(())
    }

    /// A plan that was kept for a set.
    pub(crate) fn plan(&self, set: i64, key: &str) -> Result<Option<String>, StudioError> {
        let text = self.store.reading()?.query_row(
            "SELECT plan FROM plans WHERE set_id = ?1 AND key = ?2",
            params![set, key],
            |r| r.get(0),
        );
        Ok(text.optional()?)
    }

    /// Keeps a plan.
    pub(crate) fn keep_plan(&self, set: i64, key: &str, plan: &str) -> Result<(), StudioError> {
        self.store.db().execute(
            "INSERT OR REPLACE INTO plans (set_id, key, plan) VALUES (?1, ?2, ?3)",
            params![set, key, plan],
        )?;
        Ok(())
    }
}

fn checked_name(name: &str) -> Result<String, StudioError> {
    let name: String = name.trim().chars().take(120).collect();
    if name.is_empty() { Err(StudioError::Invalid("a set needs a name".into())) } else { Ok(name) }
}
