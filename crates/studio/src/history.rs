//! Recipes over time, as a tree: changing, undoing, redoing, going to any state. Nothing is forgotten, also not by a restart:
//! what is changed after an undo begins a branch beside what was undone.

use crate::error::StudioError;
use crate::model::{Change, Event, Spot, StateInfo, StateKey};
use crate::opened::Opened;
use crate::sets::{gone, now};
use crate::{Recipe, Studio, lock};
use rusqlite::{OptionalExtension, params};
use std::sync::Arc;

impl Studio {
    /// The recipe in force, with one entry a frame.
    pub(crate) fn recipe(&self, set: i64) -> Result<Recipe, StudioError> {
        let cursor: Option<i64> = self
            .db()
            .query_row("SELECT cursor FROM sets WHERE id = ?1", params![set], |r| r.get(0))
            .optional()?;
        self.recipe_at(set, cursor.ok_or_else(gone)?)
    }

    /// The recipe of a state.
    pub(crate) fn recipe_at(&self, set: i64, seq: i64) -> Result<Recipe, StudioError> {
        let db = self.db();
        let text: Option<String> = db
            .query_row("SELECT recipe FROM recipes WHERE set_id = ?1 AND seq = ?2", params![set, seq], |r| {
                r.get(0)
            })
            .optional()?;
        let mut recipe: Recipe = serde_json::from_str(&text.ok_or_else(no_state)?)?;
        let frames: i64 = db.query_row(
            "SELECT count(*) FROM frames WHERE set_id = ?1 AND place IS NOT NULL",
            params![set],
            |r| r.get(0),
        )?;
        // Frames that came later take part until they are set aside.
        recipe.used.resize(frames as usize, true);
        recipe.reference = recipe.reference.filter(|&r| r < frames as usize);
        Ok(recipe)
    }

    /// Puts a new recipe in force; what had been undone stays, as a branch beside it.
    ///
    /// # Errors
    /// When there is no such set or the recipe is for another version or number of frames.
    pub fn change(&self, set: i64, change: &Change) -> Result<(), StudioError> {
        self.check_set(set)?;
        let own = self.recipe(set)?;
        if change.recipe.version != own.version {
            return Err(StudioError::Invalid(format!(
                "this version writes recipes of version {}",
                own.version
            )));
        }
        if change.recipe.used.len() != own.used.len() {
            return Err(StudioError::Conflict(
                "frames have been added meanwhile; look again and repeat".into(),
            ));
        }
        change.recipe.check(own.used.len()).map_err(StudioError::Invalid)?;
        if !own.used.is_empty() && !change.recipe.used.contains(&true) {
            return Err(StudioError::Conflict("one frame must take part: bring another back first".into()));
        }
        let text = serde_json::to_string(&change.recipe)?;
        {
            let mut db = self.db();
            let t = db.transaction()?;
            let label: String = change.label.chars().take(120).collect();
            // Only the newest state can go on, so that no branch loses the one it began at.
            let same = change.goes_on
                && t.execute(
                    "UPDATE recipes SET recipe = ?3, made = ?4 WHERE set_id = ?1 AND label = ?2
                     AND seq = (SELECT cursor FROM sets WHERE id = ?1) AND seq = (SELECT max(seq) FROM recipes WHERE set_id = ?1)",
                    params![set, label, text, now()],
                )? == 1;
            if !same {
                t.execute(
                "INSERT INTO recipes (set_id, seq, label, recipe, parent, made)
                 SELECT id, (SELECT max(seq) + 1 FROM recipes WHERE set_id = ?1), ?2, ?3, cursor, ?4 FROM sets WHERE id = ?1",
                params![set, label, text, now()],
            )?;
                t.execute(
                "UPDATE sets SET (cursor, tip) = (SELECT max(seq), max(seq) FROM recipes WHERE set_id = ?1) WHERE id = ?1",
                params![set],
            )?;
            }
            t.commit()?;
        }
        self.after_change(set, &change.looking)
    }

    /// Moves one step back (`-1`) or forth (`1`) along the branch.
    ///
    /// # Errors
    /// When there is nothing to undo or redo.
    pub fn step(&self, set: i64, by: i64) -> Result<(), StudioError> {
        self.check_set(set)?;
        let (undo, redo) = self.beside(set)?;
        let what = if by < 0 { "undo" } else { "redo" };
        let seq = if by < 0 { undo } else { redo };
        let seq = seq.ok_or_else(|| StudioError::Conflict(format!("there is nothing to {what}")))?;
        self.db().execute("UPDATE sets SET cursor = ?2 WHERE id = ?1", params![set, seq])?;
        self.after_change(set, &[])
    }

    /// Returns to a state, on whatever branch; undo and redo then walk along that one.
    ///
    /// # Errors
    /// When there is no such state.
    pub fn go_to(&self, set: i64, seq: i64) -> Result<(), StudioError> {
        self.check_set(set)?;
        let found = self.db().execute(
            "UPDATE sets SET cursor = ?2, tip = ?2 WHERE id = ?1 AND EXISTS (SELECT 1 FROM recipes WHERE set_id = ?1 AND seq = ?2)",
            params![set, seq],
        )?;
        if found == 0 {
            return Err(no_state());
        }
        self.after_change(set, &[])
    }

    /// All states of a set, oldest first.
    ///
    /// # Errors
    /// When there is no such set.
    pub fn states(&self, set: i64) -> Result<Vec<StateInfo>, StudioError> {
        self.check_set(set)?;
        let db = self.db();
        let mut query = db.prepare(
            "SELECT r.seq, r.parent, r.label, r.made, r.seq = s.cursor FROM recipes r JOIN sets s ON s.id = r.set_id
             WHERE s.id = ?1 ORDER BY r.seq",
        )?;
        let rows = query.query_map(params![set], |r| {
            Ok(StateInfo {
                seq: r.get(0)?,
                parent: r.get(1)?,
                label: r.get(2)?,
                made: r.get(3)?,
                current: r.get(4)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Opens a state to be looked at; the set stays where it is.
    ///
    /// # Errors
    /// When there is no such state, or its frames were aligned otherwise than any plan that is there.
    pub(crate) fn state(&self, set: i64, seq: i64) -> Result<Arc<Opened>, StudioError> {
        self.check_set(set)?;
        let recipe = self.recipe_at(set, seq)?;
        let opened = self.open_set(set, recipe, false)?;
        lock(&self.0.states).put(opened.plate_key.clone(), opened.clone());
        Ok(opened)
    }

    /// The key that a state's tiles are asked for by.
    ///
    /// # Errors
    /// As for a state's picture.
    pub fn state_key(&self, set: i64, seq: i64) -> Result<StateKey, StudioError> {
        let loaded = self.state(set, seq)?;
        Ok(StateKey { plate_key: loaded.plate_key.clone(), canvas: loaded.canvas_info() })
    }

    /// The states that undo and redo lead to: the one it was made from, and the one on the way to where the set last was.
    fn beside(&self, set: i64) -> Result<(Option<i64>, Option<i64>), StudioError> {
        let states = self.states(set)?;
        let cursor = states.iter().find(|s| s.current).map(|s| s.seq);
        let parent = |seq: i64| states.iter().find(|s| s.seq == seq).and_then(|s| s.parent);
        let tip: Option<i64> =
            self.db().query_row("SELECT tip FROM sets WHERE id = ?1", params![set], |r| r.get(0))?;
        let on_the_way = std::iter::successors(tip, |&s| parent(s)).find(|&s| parent(s) == cursor);
        let newest = states.iter().rev().find(|s| s.parent.is_some() && s.parent == cursor).map(|s| s.seq);
        Ok((cursor.and_then(parent), on_the_way.filter(|_| cursor.is_some()).or(newest)))
    }

    fn after_change(&self, set: i64, looking: &[Spot]) -> Result<(), StudioError> {
        self.reopen(set, looking)?;
        self.tell(Event::Set { id: set });
        Ok(())
    }

    /// What undo would take back and redo would do again.
    pub(crate) fn history(&self, set: i64) -> Result<(Option<String>, Option<String>), StudioError> {
        let states = self.states(set)?;
        let (undo, redo) = self.beside(set)?;
        let current = states.iter().find(|s| s.current && undo.is_some()).map(|s| s.label.clone());
        Ok((current, states.iter().find(|s| Some(s.seq) == redo).map(|s| s.label.clone())))
    }
}

fn no_state() -> StudioError {
    StudioError::NotFound("there is no such state in the history".into())
}
