//! Recipes over time, as a tree: changing, undoing, redoing, going to any state. Nothing is forgotten, also not by a restart:
//! what is changed after an undo begins a branch beside what was undone.
//!
//! Every change of what is in force counts up the set's revision. Who changes a set says which revision that follows from, and
//! is told what came between when it is another one.

use super::{Sets, gone, now};
use crate::error::StudioError;
use crate::model::{Change, RecipePart, StateInfo};
use evanu_core::recipe::{FrameId, Recipe, migrate};
use rusqlite::{Connection, OptionalExtension, params};

/// A set's recipe as it is in force.
pub(crate) struct InForce {
    pub recipe: Recipe<FrameId>,
    /// Counts the changes of what is in force.
    pub revision: i64,
}

impl Sets {
    /// What is in force: without what rests on frames that have left.
    pub(crate) fn in_force(&self, set: i64) -> Result<InForce, StudioError> {
        let row: Option<(i64, i64)> = self
            .store
            .reading()?
            .query_row("SELECT cursor, revision FROM sets WHERE id = ?1", params![set], |r| {
                Ok((r.get(0)?, r.get(1)?))
            })
            .optional()?;
        let (cursor, revision) = row.ok_or_else(gone)?;
        Ok(InForce { recipe: self.recipe_at(set, cursor)?, revision })
    }

    /// The recipe of a state, without what rests on frames that have left.
    pub(crate) fn recipe_at(&self, set: i64, seq: i64) -> Result<Recipe<FrameId>, StudioError> {
        let text: Option<String> = self
            .store
            .reading()?
            .query_row("SELECT recipe FROM recipes WHERE set_id = ?1 AND seq = ?2", params![set, seq], |r| {
                r.get(0)
            })
            .optional()?;
        let frames = self.joined_ids(set)?;
        let recipe = migrate::read(&text.ok_or_else(no_state)?, &frames);
        let recipe = recipe.map_err(|e| StudioError::Storage(format!("set {set}, state {seq}: {e}")))?;
        Ok(recipe.of_frames(&frames))
    }

    /// Why an act that was made from another revision than the one in force was not done: with what came between.
    fn outdated(&self, set: i64, wanted: i64) -> Result<StudioError, StudioError> {
        let states = self.states(set)?;
        let since = states.iter().filter(|s| s.revision.is_some_and(|r| r > wanted));
        // An undo makes no state of its own: where the set stands now says that.
        Ok(StudioError::Outdated {
            between: since.map(|s| s.label.clone()).collect(),
            stands: states.iter().find(|s| s.current).map(|s| s.label.clone()).unwrap_or_default(),
        })
    }

    /// Refuses what was made from another revision than the one in force.
    fn follows(&self, set: i64, revision: Option<i64>) -> Result<(), StudioError> {
        match revision {
            Some(wanted) if wanted != self.in_force(set)?.revision => Err(self.outdated(set, wanted)?),
            _ => Ok(()),
        }
    }

    /// Does an act on what is in force, whole or not at all, unless it was made from another revision.
    fn act(
        &self,
        set: i64,
        revision: Option<i64>,
        act: impl FnOnce(&Connection) -> Result<(), StudioError>,
    ) -> Result<(), StudioError> {
        {
            let mut db = self.store.db();
            let t = db.transaction()?;
            let count =
                "UPDATE sets SET revision = revision + 1 WHERE id = ?1 AND revision = ifnull(?2, revision)";
            if t.execute(count, params![set, revision])? == 1 {
                act(&t)?;
                return Ok(t.commit()?);
            }
        }
        Err(match revision {
            Some(wanted) => self.outdated(set, wanted)?,
            None => gone(),
        })
    }

    /// Puts a change in force; what had been undone stays, as a branch beside it.
    pub(crate) fn change(&self, set: i64, change: &Change, revision: Option<i64>) -> Result<(), StudioError> {
        self.check(set)?;
        self.meanwhile(revision, || {
            let in_force = self.in_force(set)?;
            let frames = self.joined_ids(set)?;
            let recipe = merged(&in_force.recipe, &change.recipe)?;
            recipe.check(&frames).map_err(StudioError::Invalid)?;
            if !frames.is_empty() && frames.iter().all(|f| recipe.excluded.contains(f)) {
                return Err(StudioError::Conflict(
                    "one frame must take part: bring another back first".into(),
                ));
            }
            self.put(set, change, &recipe, revision.unwrap_or(in_force.revision))
        })
    }

    /// Does an act again that names no revision, as long as somebody else's comes between its reading and its writing.
    fn meanwhile(
        &self,
        revision: Option<i64>,
        act: impl Fn() -> Result<(), StudioError>,
    ) -> Result<(), StudioError> {
        loop {
            match act() {
                Err(StudioError::Outdated { .. }) if revision.is_none() => {}
                done => return done,
            }
        }
    }

    /// Puts a recipe in force that was made from a revision.
    fn put(
        &self,
        set: i64,
        change: &Change,
        recipe: &Recipe<FrameId>,
        revision: i64,
    ) -> Result<(), StudioError> {
        let text = serde_json::to_string(recipe)?;
        let label: String = change.label.chars().take(120).collect();
        self.act(set, Some(revision), |t| {
            // Only the newest state can go on, so that no branch loses the one it began at.
            let same = change.goes_on
                && t.execute(
                    "UPDATE recipes SET recipe = ?3, made = ?4, revision = (SELECT revision FROM sets WHERE id = ?1) WHERE set_id = ?1 AND label = ?2
                     AND seq = (SELECT cursor FROM sets WHERE id = ?1) AND seq = (SELECT max(seq) FROM recipes WHERE set_id = ?1)",
                    params![set, label, text, now()],
                )? == 1;
            if !same {
                t.execute(
                    "INSERT INTO recipes (set_id, seq, label, recipe, parent, made, revision)
                     SELECT id, (SELECT max(seq) + 1 FROM recipes WHERE set_id = ?1), ?2, ?3, cursor, ?4, revision FROM sets WHERE id = ?1",
                    params![set, label, text, now()],
                )?;
                t.execute(
                    "UPDATE sets SET (cursor, tip) = (SELECT max(seq), max(seq) FROM recipes WHERE set_id = ?1) WHERE id = ?1",
                    params![set],
                )?;
            }
            Ok(())
        })
    }

    /// Moves one step back (`-1`) or forth (`1`) along the branch.
    pub(crate) fn step(&self, set: i64, by: i64, revision: Option<i64>) -> Result<(), StudioError> {
        self.check(set)?;
        // Told first: what there is to undo may be another thing than who asks has seen.
        self.follows(set, revision)?;
        let what = if by < 0 { "undo" } else { "redo" };
        self.meanwhile(revision, || {
            let from = self.in_force(set)?.revision;
            let (undo, redo) = self.beside(set)?;
            let seq = if by < 0 { undo } else { redo };
            let seq = seq.ok_or_else(|| StudioError::Conflict(format!("there is nothing to {what}")))?;
            self.act(set, Some(revision.unwrap_or(from)), |t| {
                t.execute("UPDATE sets SET cursor = ?2 WHERE id = ?1", params![set, seq])?;
                Ok(())
            })
        })
    }

    /// Returns to a state, on whatever branch; undo and redo then walk along that one.
    pub(crate) fn go_to(&self, set: i64, seq: i64, revision: Option<i64>) -> Result<(), StudioError> {
        self.check(set)?;
        self.act(set, revision, |t| {
            let found = t.execute(
                "UPDATE sets SET cursor = ?2, tip = ?2 WHERE id = ?1 AND EXISTS (SELECT 1 FROM recipes WHERE set_id = ?1 AND seq = ?2)",
                params![set, seq],
            )?;
            if found == 0 { Err(no_state()) } else { Ok(()) }
        })
    }

    /// All states of a set, oldest first.
    ///
    /// # Errors
    /// When there is no such set.
    pub fn states(&self, set: i64) -> Result<Vec<StateInfo>, StudioError> {
        self.check(set)?;
        let db = self.store.reading()?;
        let mut query = db.prepare_cached(
            "SELECT r.seq, r.parent, r.label, r.made, r.seq = s.cursor, r.revision FROM recipes r JOIN sets s ON s.id = r.set_id
             WHERE s.id = ?1 ORDER BY r.seq",
        )?;
        let rows = query.query_map(params![set], |r| {
            Ok(StateInfo {
                seq: r.get(0)?,
                parent: r.get(1)?,
                label: r.get(2)?,
                made: r.get(3)?,
                current: r.get(4)?,
                revision: r.get(5)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// The states that undo and redo lead to: the one it was made from, and the one on the way to where the set last was.
    fn beside(&self, set: i64) -> Result<(Option<i64>, Option<i64>), StudioError> {
        let states = self.states(set)?;
        let cursor = states.iter().find(|s| s.current).map(|s| s.seq);
        let parent = |seq: i64| states.iter().find(|s| s.seq == seq).and_then(|s| s.parent);
        let tip: Option<i64> =
            self.store
                .reading()?
                .query_row("SELECT tip FROM sets WHERE id = ?1", params![set], |r| r.get(0))?;
        let on_the_way = std::iter::successors(tip, |&s| parent(s)).find(|&s| parent(s) == cursor);
        let newest = states.iter().rev().find(|s| s.parent.is_some() && s.parent == cursor).map(|s| s.seq);
        Ok((cursor.and_then(parent), on_the_way.filter(|_| cursor.is_some()).or(newest)))
    }

    /// What undo would take back and redo would do again.
    pub(crate) fn undo_redo(&self, set: i64) -> Result<(Option<String>, Option<String>), StudioError> {
        let states = self.states(set)?;
        let (undo, redo) = self.beside(set)?;
        let current = states.iter().find(|s| s.current && undo.is_some()).map(|s| s.label.clone());
        Ok((current, states.iter().find(|s| Some(s.seq) == redo).map(|s| s.label.clone())))
    }
}

/// A recipe with some of its fields replaced.
fn merged(recipe: &Recipe<FrameId>, part: &RecipePart) -> Result<Recipe<FrameId>, StudioError> {
    let mut all = serde_json::to_value(recipe)?;
    if let (Some(all), Some(part)) = (all.as_object_mut(), part.0.as_object()) {
        for (field, value) in part {
            all.insert(field.clone(), value.clone());
        }
    }
    migrate::read(&all.to_string(), &[]).map_err(|e| StudioError::Invalid(e.to_string()))
}

fn no_state() -> StudioError {
    StudioError::NotFound("there is no such state in the history".into())
}
