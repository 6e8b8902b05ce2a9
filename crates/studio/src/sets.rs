//! Sets and their frames: making, listing, naming, duplicating, deleting and bringing back.

use crate::error::StudioError;
use crate::findings::{light_words, moments, positions};
use crate::model::{AreaInfo, Event, FrameInfo, FrameRow, FrameState, RunKind, SetDetail, SetSummary};
use crate::views::frame_infos;
use crate::{Recipe, Studio, lock};
use evanu_media::MediaError;
use rusqlite::{OptionalExtension, Row, params};
use std::io::Write;
use std::path::PathBuf;
use std::time::{SystemTime, UNIX_EPOCH};

/// A file that is being brought in: written to the data folder as it arrives, then added to its set.
pub struct Incoming {
    name: String,
    file: tempfile::NamedTempFile,
    hasher: blake3::Hasher,
    path: PathBuf,
}

impl Incoming {
    /// Takes the next bytes.
    ///
    /// # Errors
    /// When the disk is full.
    pub fn take(&mut self, bytes: &[u8]) -> Result<(), StudioError> {
        self.hasher.update(bytes);
        Ok(self.file.write_all(bytes).map_err(|e| MediaError::writing(&self.path, &e))?)
    }
}

pub(crate) fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs() as i64)
}

/// Deleted sets are kept this long.
const KEPT_SECONDS: i64 = 30 * 24 * 3600;

pub(crate) fn gone() -> StudioError {
    StudioError::NotFound("there is no such set; it may have been deleted".into())
}

impl Studio {
    /// All sets, newest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn sets(&self) -> Result<Vec<SetSummary>, StudioError> {
        type Row = (i64, String, i64, i64, Option<String>);
        let rows: Vec<Row> = {
            let db = self.db();
            let mut query = db.prepare(
                "SELECT id, name, created, (SELECT count(*) FROM frames f WHERE f.set_id = s.id AND f.state != 'failed'), note
                 FROM sets s WHERE deleted IS NULL ORDER BY id DESC")?;
            query
                .query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?)))?
                .collect::<Result<_, _>>()?
        };
        rows.into_iter()
            .map(|(id, name, created, frames, note)| {
                let cover = self.shown(id).ok().map(|o| o.plate_key.clone());
                let run = self.last_run(id)?;
                Ok(SetSummary { id, name, frames: frames as usize, created, cover, run, note })
            })
            .collect()
    }

    pub(crate) fn set_ids(&self) -> Result<Vec<i64>, StudioError> {
        let db = self.db();
        let mut query = db.prepare("SELECT id FROM sets WHERE deleted IS NULL")?;
        Ok(query.query_map([], |r| r.get(0))?.collect::<Result<_, _>>()?)
    }

    /// Makes an empty set.
    ///
    /// # Errors
    /// When the name is empty or the database cannot be written.
    pub fn create_set(&self, name: &str) -> Result<i64, StudioError> {
        let name = checked_name(name)?;
        let id = {
            let db = self.db();
            db.execute("INSERT INTO sets (name, created) VALUES (?1, ?2)", params![name, now()])?;
            let id = db.last_insert_rowid();
            let recipe = serde_json::to_string(&Recipe::new(0))?;
            db.execute(
                "INSERT INTO recipes (set_id, seq, label, recipe) VALUES (?1, 0, 'made the set', ?2)",
                params![id, recipe],
            )?;
            id
        };
        self.tell(Event::Sets);
        Ok(id)
    }

    /// Gives a set another name.
    ///
    /// # Errors
    /// When there is no such set or the name is empty.
    pub fn rename_set(&self, id: i64, name: &str) -> Result<(), StudioError> {
        let name = checked_name(name)?;
        let n = self
            .db()
            .execute("UPDATE sets SET name = ?2 WHERE id = ?1 AND deleted IS NULL", params![id, name])?;
        if n == 0 {
            return Err(gone());
        }
        self.tell(Event::Sets);
        self.tell(Event::Set { id });
        Ok(())
    }

    /// Deletes a set, or brings a deleted one back.
    ///
    /// # Errors
    /// When there is no such set.
    pub fn delete_set(&self, id: i64, delete: bool) -> Result<(), StudioError> {
        let when = delete.then(now);
        if self.db().execute("UPDATE sets SET deleted = ?2 WHERE id = ?1", params![id, when])? == 0 {
            return Err(gone());
        }
        if delete {
            self.cancel_runs_of(id)?;
        }
        self.tell(Event::Sets);
        Ok(())
    }

    /// Copies a set with its frames, history and plans; originals are shared.
    ///
    /// # Errors
    /// When there is no such set.
    pub fn duplicate_set(&self, id: i64) -> Result<i64, StudioError> {
        let copy = {
            let mut db = self.db();
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
                ("frames", "place, name, hash, state, reason, width, height, camera, source, bytes"),
                ("recipes", "seq, label, recipe, parent, made"),
                ("plans", "key, plan"),
            ] {
                t.execute(&format!("INSERT INTO {table} (set_id, {columns}) SELECT ?2, {columns} FROM {table} WHERE set_id = ?1"), params![id, copy])?;
            }
            t.commit()?;
            copy
        };
        if self.frame_rows(copy)?.iter().any(|f| f.state == FrameState::Reading) {
            self.enqueue(copy, RunKind::Prepare, "{}")?;
        }
        self.tell(Event::Sets);
        Ok(copy)
    }

    /// Removes what was deleted long ago, and originals that no set needs.
    pub(crate) fn sweep(&self) -> Result<(), StudioError> {
        let old: usize =
            self.db().execute("DELETE FROM sets WHERE deleted < ?1", params![now() - KEPT_SECONDS])?;
        if old == 0 {
            return Ok(());
        }
        let known: Vec<String> = {
            let db = self.db();
            let mut query = db.prepare("SELECT DISTINCT hash FROM frames")?;
            query.query_map([], |r| r.get(0))?.collect::<Result<_, _>>()?
        };
        for folder in [self.path(&["originals"]), self.path(&["cache", "pyramids"])] {
            for file in std::fs::read_dir(&folder).map_err(|e| MediaError::reading(&folder, &e))?.flatten() {
                if !known.iter().any(|h| file.file_name().to_string_lossy() == *h) {
                    let _ = std::fs::remove_file(file.path()); // a leftover costs space, nothing else
                }
            }
        }
        Ok(())
    }

    /// Begins to bring a file in.
    ///
    /// # Errors
    /// When the set does not exist or the disk cannot be written.
    pub fn incoming(&self, set: i64, name: &str) -> Result<Incoming, StudioError> {
        self.check_set(set)?;
        let folder = self.path(&["originals"]);
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
        })
    }

    /// Adds a file that has arrived to its set. A file that the set already has is not added twice.
    ///
    /// # Errors
    /// When the disk or the database cannot be written.
    pub fn add_frame(&self, set: i64, incoming: Incoming) -> Result<(), StudioError> {
        let hash = incoming.hasher.finalize().to_hex().to_string();
        let target = self.path(&["originals", &hash]);
        if !target.exists() {
            incoming.file.persist(&target).map_err(|e| MediaError::writing(&target, &e.error))?;
        }
        let bytes = target.metadata().map_or(0, |m| m.len());
        self.add_row(set, &incoming.name, &hash, None, bytes)?;
        self.read_ahead(set, hash);
        Ok(())
    }

    /// Begins reading and aligning what has arrived.
    ///
    /// # Errors
    /// When the set does not exist.
    pub fn prepare_set(&self, set: i64) -> Result<(), StudioError> {
        self.check_set(set)?;
        self.enqueue(set, RunKind::Prepare, "{}")?;
        self.tell(Event::Sets);
        self.tell(Event::Set { id: set });
        Ok(())
    }

    /// Takes a frame that cannot be read off the list.
    ///
    /// # Errors
    /// When there is no such frame, or it can be read (it is then set aside instead).
    pub fn dismiss_frame(&self, set: i64, frame: i64) -> Result<(), StudioError> {
        let n = self.db().execute(
            "DELETE FROM frames WHERE id = ?2 AND set_id = ?1 AND state = 'failed'",
            params![set, frame],
        )?;
        if n == 0 {
            return Err(StudioError::Conflict(
                "only a frame that cannot be read is taken off the list; set others aside".into(),
            ));
        }
        self.tell(Event::Set { id: set });
        Ok(())
    }

    pub(crate) fn check_set(&self, id: i64) -> Result<String, StudioError> {
        let name = self
            .db()
            .query_row("SELECT name FROM sets WHERE id = ?1 AND deleted IS NULL", params![id], |r| r.get(0))
            .optional()?;
        name.ok_or_else(gone)
    }

    /// All frames of a set by clock time, then by name; those without a clock come last.
    pub(crate) fn frame_rows(&self, set: i64) -> Result<Vec<FrameRow>, StudioError> {
        let db = self.db();
        let mut query = db.prepare("SELECT id, place, name, hash, state, reason, width, height, camera, source, bytes FROM frames WHERE set_id = ?1")?;
        let mut rows: Vec<FrameRow> = query.query_map(params![set], frame_row)?.collect::<Result<_, _>>()?;
        let key = |r: &FrameRow| (r.camera.time.is_none(), r.camera.time.clone(), r.name.clone(), r.id);
        rows.sort_by_cached_key(key);
        Ok(rows)
    }

    /// Everything about a set.
    ///
    /// # Errors
    /// When there is no such set.
    pub fn set(&self, id: i64) -> Result<SetDetail, StudioError> {
        let name = self.check_set(id)?;
        let rows = self.frame_rows(id)?;
        let recipe = self.recipe(id)?;
        // Before what is shown: a run that has ended leaves no draft behind.
        let run = self.last_run(id)?;
        let loaded = self.shown(id).ok();
        let missing: Vec<bool> = rows.iter().map(|r| !self.original(r).exists()).collect();
        let frames: Vec<FrameInfo> = frame_infos(&rows, &recipe, loaded.as_deref(), &missing);
        let note = self.db().query_row("SELECT note FROM sets WHERE id = ?1", params![id], |r| r.get(0))?;
        let (undo, redo) = self.history(id)?;
        Ok(SetDetail {
            id,
            name,
            frames,
            recipe,
            reference: loaded.as_ref().map(|l| l.plan.reference),
            canvas: loaded.as_ref().map(|l| l.canvas_info()),
            plate_key: loaded.as_ref().map(|l| l.plate_key.clone()),
            tile_names: loaded.as_ref().and_then(|l| self.tile_names(l)),
            draft: loaded.as_ref().is_some_and(|l| l.draft),
            frame_key: loaded.as_ref().map(|l| l.frame_key.clone()),
            light: loaded.as_ref().map(|l| light_words(l)),
            matched: loaded.as_ref().map(|l| l.with(|s| s.matched())),
            lens_percent: loaded.as_ref().and_then(|l| l.plan.lens).map(|k| 100.0 * k),
            reference_size: loaded.as_ref().map(|l| {
                let size = l.plan.reference_size();
                [size.width, size.height]
            }),
            common: loaded.as_ref().map(|l| l.with(|s| AreaInfo::from(l.plan.common_area(&s.used())))),
            positions: loaded.as_ref().map_or(0, |l| positions(l)),
            moments: loaded.as_ref().map_or(0, |l| moments(l)),
            note,
            undo,
            redo,
            run,
        })
    }

    pub(crate) fn forget(&self, set: i64) {
        lock(&self.0.opened).remove(&set);
        lock(&self.0.drafts).remove(&set);
    }
}

fn checked_name(name: &str) -> Result<String, StudioError> {
    let name: String = name.trim().chars().take(120).collect();
    if name.is_empty() { Err(StudioError::Invalid("a set needs a name".into())) } else { Ok(name) }
}

fn frame_row(r: &Row<'_>) -> rusqlite::Result<FrameRow> {
    let state: String = r.get(4)?;
    let camera: String = r.get(8)?;
    Ok(FrameRow {
        id: r.get(0)?,
        index: r.get::<_, Option<i64>>(1)?.map(|v| v as usize),
        name: r.get(2)?,
        hash: r.get(3)?,
        state: match state.as_str() {
            "ready" => FrameState::Ready,
            "failed" => FrameState::Failed,
            _ => FrameState::Reading,
        },
        reason: r.get(5)?,
        width: r.get(6)?,
        height: r.get(7)?,
        camera: serde_json::from_str(&camera).unwrap_or_default(),
        source: r.get(9)?,
        bytes: r.get::<_, i64>(10)? as u64,
    })
}
