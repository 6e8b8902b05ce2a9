//! The frames of a set. A frame is an asset (a file, by its content) at a position in it, with an identity that it keeps.

use super::Sets;
use crate::error::StudioError;
use crate::model::{Event, FrameState};
use evanu_core::recipe::FrameId;
use evanu_media::{CameraData, ReadFrame};
use rusqlite::{OptionalExtension, Row, Transaction, params};

/// What is kept of a frame beside its file.
#[derive(Clone)]
pub(crate) struct FrameRow {
    /// Its row in the database.
    pub row: i64,
    /// Its identity in its set.
    pub id: FrameId,
    /// Its index among the frames that have joined, in the order in which they did; `None` until it has.
    pub index: Option<usize>,
    pub name: String,
    /// The asset: the file's content.
    pub hash: String,
    /// The position in it: a picture has one, a clip many.
    pub position: u32,
    pub state: FrameState,
    pub reason: Option<String>,
    pub width: u32,
    pub height: u32,
    pub camera: CameraData,
    /// Where the original is, when it was left there.
    pub source: Option<String>,
    /// Length of the original.
    pub bytes: u64,
    /// How often it was begun to be read without coming to an end.
    pub begun: i64,
    /// Whether its original was found to be another file when it was last looked at.
    pub changed: bool,
}

const COLUMNS: &str = "id, key, place, name, hash, position, state, reason, width, height, camera, source, bytes, begun, changed";

fn frame_row(r: &Row<'_>) -> rusqlite::Result<FrameRow> {
    let state: String = r.get(6)?;
    let camera: String = r.get(10)?;
    Ok(FrameRow {
        row: r.get(0)?,
        id: FrameId(r.get(1)?),
        index: r.get::<_, Option<i64>>(2)?.map(|v| v as usize),
        name: r.get(3)?,
        hash: r.get(4)?,
        position: r.get(5)?,
        state: state.parse().unwrap_or(FrameState::Reading),
        reason: r.get(7)?,
        width: r.get(8)?,
        height: r.get(9)?,
        camera: serde_json::from_str(&camera).unwrap_or_default(),
        source: r.get(11)?,
        bytes: r.get::<_, i64>(12)? as u64,
        begun: r.get(13)?,
        changed: r.get(14)?,
    })
}

/// Names the frame that was added last by its row, within the same transaction: one without an identity makes its set unreadable.
fn name_by_row(t: &Transaction<'_>) -> rusqlite::Result<usize> {
    t.execute("UPDATE frames SET key = id WHERE id = ?1", params![t.last_insert_rowid()])
}

impl Sets {
    /// All frames of a set by clock time, then by name; those without a clock come last.
    pub(crate) fn frames(&self, set: i64) -> Result<Vec<FrameRow>, StudioError> {
        let mut rows: Vec<FrameRow> = {
            let db = self.store.reading()?;
            let mut query = db.prepare_cached(&format!("SELECT {COLUMNS} FROM frames WHERE set_id = ?1"))?;
            query.query_map(params![set], frame_row)?.collect::<Result<_, _>>()?
        };
        // Numbers have gaps where frames have left.
        let mut joined: Vec<usize> = rows.iter().filter_map(|r| r.index).collect();
        joined.sort_unstable();
        for row in &mut rows {
            row.index = row.index.and_then(|number| joined.binary_search(&number).ok());
        }
        let key = |r: &FrameRow| (r.camera.time.is_none(), r.camera.time.clone(), r.name.clone(), r.row);
        rows.sort_by_cached_key(key);
        Ok(rows)
    }

    /// The frames that have joined, by index.
    pub(crate) fn joined(&self, set: i64) -> Result<Vec<FrameRow>, StudioError> {
        let mut rows: Vec<FrameRow> = self.frames(set)?.into_iter().filter(|f| f.index.is_some()).collect();
        rows.sort_by_key(|f| f.index);
        Ok(rows)
    }

    /// Their identities.
    pub(crate) fn joined_ids(&self, set: i64) -> Result<Vec<FrameId>, StudioError> {
        let db = self.store.reading()?;
        let mut query = db.prepare_cached(
            "SELECT key FROM frames WHERE set_id = ?1 AND place IS NOT NULL ORDER BY place",
        )?;
        Ok(query.query_map(params![set], |r| Ok(FrameId(r.get(0)?)))?.collect::<Result<_, _>>()?)
    }

    /// Lets frames that are read take part, by clock time, after those that already do.
    pub(crate) fn join_ready(&self, set: i64) -> Result<(), StudioError> {
        let rows = self.frames(set)?;
        let new = rows.iter().filter(|f| f.state == FrameState::Ready && f.index.is_none());
        let mut db = self.store.db();
        let t = db.transaction()?;
        let first: i64 = t.query_row(
            "SELECT ifnull(max(place) + 1, 0) FROM frames WHERE set_id = ?1",
            params![set],
            |r| r.get(0),
        )?;
        for (place, frame) in (first..).zip(new) {
            t.execute("UPDATE frames SET place = ?2 WHERE id = ?1", params![frame.row, place])?;
            t.execute("UPDATE sets SET cover_revision = NULL WHERE id = ?1", params![set])?;
        }
        Ok(t.commit()?)
    }

    /// Notes a file that has come in, unless the set already has it.
    pub(crate) fn add_frame(
        &self,
        set: i64,
        name: &str,
        hash: &str,
        source: Option<&str>,
        bytes: u64,
    ) -> Result<(), StudioError> {
        let mut db = self.store.db();
        let t = db.transaction()?;
        let known: Option<i64> = t
            .query_row(
                "SELECT id FROM frames WHERE set_id = ?1 AND hash = ?2 AND name = ?3",
                params![set, hash, name],
                |r| r.get(0),
            )
            .optional()?;
        if known.is_none() {
            t.execute(
                "INSERT INTO frames (set_id, name, hash, state, source, bytes) VALUES (?1, ?2, ?3, 'reading', ?4, ?5)",
                params![set, name, hash, source, bytes as i64],
            )?;
            name_by_row(&t)?;
        }
        Ok(t.commit()?)
    }

    /// Notes whether a frame's original was found to be another file.
    pub(crate) fn frame_changed(&self, row: i64, changed: bool) -> Result<(), StudioError> {
        self.store.db().execute(
            "UPDATE frames SET changed = ?2 WHERE id = ?1 AND changed <> ?2",
            params![row, changed],
        )?;
        Ok(())
    }

    /// A frame whose original is gone for good takes part no more.
    pub(crate) fn frame_gone(&self, row: i64, reason: &str) -> Result<(), StudioError> {
        self.store.db().execute(
            "UPDATE frames SET state = 'failed', reason = ?2, place = NULL WHERE id = ?1",
            params![row, reason],
        )?;
        Ok(())
    }

    /// A frame keeps its pixels, and what lies at its place is another frame's.
    pub(crate) fn frame_parted(&self, row: i64) -> Result<(), StudioError> {
        self.store
            .db()
            .execute("UPDATE frames SET source = NULL, changed = 0 WHERE id = ?1", params![row])?;
        Ok(())
    }

    /// Files with this content that could not be read are tried once more.
    pub(crate) fn content_again(&self, hash: &str) -> Result<(), StudioError> {
        self.store.db().execute(
            "UPDATE frames SET state = 'reading', reason = NULL, begun = 0 WHERE hash = ?1 AND state = 'failed'",
            params![hash],
        )?;
        Ok(())
    }

    /// Notes a further frame of an asset, after its first.
    pub(crate) fn add_position(&self, first: &FrameRow, position: u32) -> Result<FrameRow, StudioError> {
        let mut db = self.store.db();
        let t = db.transaction()?;
        let known = format!(
            "SELECT {COLUMNS} FROM frames WHERE set_id = (SELECT set_id FROM frames WHERE id = ?1) AND hash = ?2 AND name = ?3 AND position = ?4"
        );
        let wanted = params![first.row, first.hash, first.name, position];
        if let Some(row) = t.query_row(&known, wanted, frame_row).optional()? {
            return Ok(row);
        }
        t.execute(
            "INSERT INTO frames (set_id, name, hash, state, source, bytes, position)
             SELECT set_id, name, hash, 'reading', source, bytes, ?2 FROM frames WHERE id = ?1",
            params![first.row, position],
        )?;
        name_by_row(&t)?;
        let row = t.query_row(&known, wanted, frame_row)?;
        t.commit()?;
        Ok(row)
    }

    /// Notes a file that cannot be read.
    pub(crate) fn add_unreadable(&self, set: i64, name: &str, reason: &str) -> Result<(), StudioError> {
        let mut db = self.store.db();
        let t = db.transaction()?;
        t.execute(
            "INSERT INTO frames (set_id, name, hash, state, reason) VALUES (?1, ?2, '', 'failed', ?3)",
            params![set, name, reason],
        )?;
        name_by_row(&t)?;
        Ok(t.commit()?)
    }

    /// How far a frame is, when it is there.
    pub(crate) fn frame_state(&self, row: i64) -> Result<Option<FrameState>, StudioError> {
        let state: Option<String> = self
            .store
            .reading()?
            .query_row("SELECT state FROM frames WHERE id = ?1", params![row], |r| r.get(0))
            .optional()?;
        Ok(state.and_then(|s| s.parse().ok()))
    }

    /// Notes that a frame is being read, which is known until it was or could not be.
    pub(crate) fn frame_begun(&self, row: i64) -> Result<(), StudioError> {
        self.store.db().execute("UPDATE frames SET begun = begun + 1 WHERE id = ?1", params![row])?;
        Ok(())
    }

    /// Notes that it came to an end otherwise.
    pub(crate) fn frame_not_begun(&self, row: i64) -> Result<(), StudioError> {
        self.store.db().execute("UPDATE frames SET begun = 0 WHERE id = ?1", params![row])?;
        Ok(())
    }

    /// The same of all that are being read.
    pub(crate) fn none_begun(&self) -> Result<(), StudioError> {
        self.store.db().execute("UPDATE frames SET begun = 0 WHERE state = 'reading'", [])?;
        Ok(())
    }

    /// A frame that could not be read is to be tried once more.
    ///
    /// # Errors
    /// When there is no such frame or it did not fail.
    pub(crate) fn frame_again(&self, set: i64, frame: FrameId) -> Result<(), StudioError> {
        let changed = self.store.db().execute(
            "UPDATE frames SET state = 'reading', reason = NULL, begun = 0
             WHERE set_id = ?1 AND key = ?2 AND state = 'failed' AND hash <> ''",
            params![set, frame.0],
        )?;
        match changed {
            0 => Err(StudioError::Conflict(
                "only a file that is there and could not be read is read again".into(),
            )),
            _ => Ok(()),
        }
    }

    /// A frame was read.
    pub(crate) fn frame_read(&self, row: i64, read: &ReadFrame) -> Result<(), StudioError> {
        let ReadFrame { size, camera } = read;
        self.store.db().execute(
            "UPDATE frames SET state = 'ready', reason = NULL, begun = 0, width = ?2, height = ?3, camera = ?4, exif = ?5
             WHERE id = ?1",
            params![
                row,
                size.width,
                size.height,
                serde_json::to_string(camera)?,
                camera.block.as_deref().unwrap_or_default()
            ],
        )?;
        Ok(())
    }

    /// A frame's camera data as they are written with a plate, empty when it has none; `None` when it was read before they were kept.
    pub(crate) fn exif(&self, row: i64) -> Result<Option<Vec<u8>>, StudioError> {
        Ok(self
            .store
            .reading()?
            .query_row("SELECT exif FROM frames WHERE id = ?1", params![row], |r| r.get(0))?)
    }

    /// A frame cannot be read.
    pub(crate) fn frame_failed(&self, row: i64, reason: &str) -> Result<(), StudioError> {
        self.store
            .db()
            .execute("UPDATE frames SET state = 'failed', reason = ?2 WHERE id = ?1", params![row, reason])?;
        Ok(())
    }

    /// A frame's original was found again; what could not be read is tried once more.
    pub(crate) fn frame_found(&self, row: i64, source: &str) -> Result<(), StudioError> {
        self.store.db().execute(
            "UPDATE frames SET source = ?2, state = CASE WHEN state = 'failed' THEN 'reading' ELSE state END, reason = NULL, begun = 0 WHERE id = ?1",
            params![row, source],
        )?;
        Ok(())
    }

    /// Takes a frame that cannot be read off the list.
    ///
    /// # Errors
    /// When there is no such frame, or it can be read (it is then set aside instead).
    pub fn dismiss_frame(&self, set: i64, frame: FrameId) -> Result<(), StudioError> {
        let n = self.store.db().execute(
            "DELETE FROM frames WHERE key = ?2 AND set_id = ?1 AND state = 'failed'",
            params![set, frame.0],
        )?;
        if n == 0 {
            return Err(StudioError::Conflict(
                "only a frame that cannot be read is taken off the list; set others aside".into(),
            ));
        }
        self.store.tell(Event::Set { id: set });
        Ok(())
    }

    /// Hands frames over to another set, which they have yet to join. Recipes stay as they are: they name frames by identity.
    pub(crate) fn hand_over(&self, set: i64, frames: &[FrameId], target: i64) -> Result<(), StudioError> {
        let mut db = self.store.db();
        let t = db.transaction()?;
        for id in frames {
            // Its owner may have moved it meanwhile.
            t.execute(
                "UPDATE frames SET set_id = ?3, place = NULL WHERE set_id = ?1 AND key = ?2",
                params![set, id.0, target],
            )?;
        }
        // The same frame twice in a set would vote twice.
        t.execute(
            "DELETE FROM frames WHERE set_id = ?1 AND id NOT IN (SELECT min(id) FROM frames WHERE set_id = ?1 GROUP BY hash, name, position)",
            params![target],
        )?;
        Ok(t.commit()?)
    }

    /// Whether a set's frames are to be told apart by view.
    pub(crate) fn is_unsorted(&self, set: i64) -> Result<bool, StudioError> {
        Ok(self.store.reading()?.query_row(
            "SELECT sorted = 0 FROM sets WHERE id = ?1",
            params![set],
            |r| r.get(0),
        )?)
    }

    /// A set's frames were told apart; it may have another name and a note now.
    pub(crate) fn sorted(&self, set: i64, name: &str, note: Option<&str>) -> Result<(), StudioError> {
        self.store.db().execute(
            "UPDATE sets SET sorted = 1, name = ?2, note = ifnull(?3, note) WHERE id = ?1",
            params![set, name, note],
        )?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::Store;
    use std::sync::Arc;

    #[test]
    fn a_file_that_was_given_up_and_is_found_again_is_tried_as_if_new() {
        let folder = tempfile::tempdir().unwrap();
        let sets = Sets { store: Arc::new(Store::open(folder.path()).unwrap()) };
        let set = sets.create("a").unwrap();
        sets.add_frame(set, "a.jpg", "x", Some("/gone/a.jpg"), 1).unwrap();
        let row = sets.frames(set).unwrap()[0].row;
        (0..2).for_each(|_| sets.frame_begun(row).unwrap());
        sets.frame_failed(row, "Evanu ended").unwrap();
        assert_eq!(sets.frames(set).unwrap()[0].begun, 2);
        sets.frame_found(row, "/here/a.jpg").unwrap();
        let found = &sets.frames(set).unwrap()[0];
        assert_eq!((found.begun, found.state), (0, FrameState::Reading));
    }
}
