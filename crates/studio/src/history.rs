//! Recipes over time: changing, undoing, redoing. The list survives a restart.

use crate::error::StudioError;
use crate::model::{Change, Event, RunKind};
use crate::sets::gone;
use crate::{Recipe, Studio};
use rusqlite::{OptionalExtension, params};

impl Studio {
    /// The recipe in force, with one entry a frame.
    pub(crate) fn recipe(&self, set: i64) -> Result<Recipe, StudioError> {
        let db = self.db();
        let text: Option<String> = db
            .query_row("SELECT recipe FROM recipes r JOIN sets s ON s.id = r.set_id WHERE s.id = ?1 AND r.seq = s.cursor", params![set], |r| r.get(0))
            .optional()?;
        let mut recipe: Recipe = serde_json::from_str(&text.ok_or_else(gone)?)?;
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

    /// Puts a new recipe in force; what had been undone is forgotten.
    ///
    /// # Errors
    /// When there is no such set or the recipe is for another version or number of frames.
    pub fn change(&self, set: i64, change: &Change) -> Result<(), StudioError> {
        self.check_set(set)?;
        let now = self.recipe(set)?;
        if change.recipe.version != now.version {
            return Err(StudioError::Invalid(format!(
                "this version writes recipes of version {}",
                now.version
            )));
        }
        if change.recipe.used.len() != now.used.len() {
            return Err(StudioError::Conflict(
                "frames have been added meanwhile; look again and repeat".into(),
            ));
        }
        change.recipe.check(now.used.len()).map_err(StudioError::Invalid)?;
        if !now.used.is_empty() && !change.recipe.used.contains(&true) {
            return Err(StudioError::Conflict("one frame must take part: bring another back first".into()));
        }
        let text = serde_json::to_string(&change.recipe)?;
        {
            let mut db = self.db();
            let t = db.transaction()?;
            t.execute(
                "DELETE FROM recipes WHERE set_id = ?1 AND seq > (SELECT cursor FROM sets WHERE id = ?1)",
                params![set],
            )?;
            t.execute("UPDATE sets SET cursor = cursor + 1 WHERE id = ?1", params![set])?;
            let label: String = change.label.chars().take(120).collect();
            t.execute("INSERT INTO recipes (set_id, seq, label, recipe) SELECT id, cursor, ?2, ?3 FROM sets WHERE id = ?1", params![set, label, text])?;
            t.commit()?;
        }
        self.after_change(set)
    }

    /// Moves one step back (`-1`) or forth (`1`) along the list of recipes.
    ///
    /// # Errors
    /// When there is nothing to undo or redo.
    pub fn step(&self, set: i64, by: i64) -> Result<(), StudioError> {
        self.check_set(set)?;
        let n = self.db().execute(
            "UPDATE sets SET cursor = cursor + ?2 WHERE id = ?1 AND EXISTS (SELECT 1 FROM recipes r WHERE r.set_id = ?1 AND r.seq = cursor + ?2)",
            params![set, by],
        )?;
        if n == 0 {
            let what = if by < 0 { "undo" } else { "redo" };
            return Err(StudioError::Conflict(format!("there is nothing to {what}")));
        }
        self.after_change(set)
    }

    fn after_change(&self, set: i64) -> Result<(), StudioError> {
        self.forget(set);
        if !self.recipe(set)?.used.is_empty() && self.loaded(set).is_err() {
            self.enqueue(set, RunKind::Prepare, "{}")?;
        }
        self.tell(Event::Set { id: set });
        Ok(())
    }

    /// What undo would take back and redo would do again.
    pub(crate) fn history(&self, set: i64) -> Result<(Option<String>, Option<String>), StudioError> {
        let db = self.db();
        let label = |offset: i64| {
            db.query_row(
                "SELECT label FROM recipes r JOIN sets s ON s.id = r.set_id WHERE s.id = ?1 AND r.seq = s.cursor + ?2 AND r.seq > 0",
                params![set, offset],
                |r| r.get(0),
            )
            .optional()
        };
        Ok((label(0)?, label(1)?))
    }
}
