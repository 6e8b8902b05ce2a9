//! The data folder: its layout and the database's versions.

use crate::error::StudioError;
use evanu_media::MediaError;
use rusqlite::Connection;
use rusqlite_migration::{M, Migrations};
use std::path::Path;

const VERSIONS: &[M<'static>] = &[
    M::up(
    "CREATE TABLE sets (
        id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, created INTEGER NOT NULL,
        deleted INTEGER, cursor INTEGER NOT NULL DEFAULT 0);
    CREATE TABLE frames (
        id INTEGER PRIMARY KEY AUTOINCREMENT, set_id INTEGER NOT NULL REFERENCES sets(id) ON DELETE CASCADE,
        place INTEGER, name TEXT NOT NULL, hash TEXT NOT NULL, state TEXT NOT NULL, reason TEXT,
        width INTEGER NOT NULL DEFAULT 0, height INTEGER NOT NULL DEFAULT 0, camera TEXT NOT NULL DEFAULT '{}');
    CREATE INDEX frames_of_set ON frames(set_id);
    CREATE TABLE recipes (
        set_id INTEGER NOT NULL REFERENCES sets(id) ON DELETE CASCADE, seq INTEGER NOT NULL,
        label TEXT NOT NULL, recipe TEXT NOT NULL, PRIMARY KEY (set_id, seq));
    CREATE TABLE plans (
        set_id INTEGER NOT NULL REFERENCES sets(id) ON DELETE CASCADE, key TEXT NOT NULL, plan TEXT NOT NULL,
        PRIMARY KEY (set_id, key));
    CREATE TABLE runs (
        id INTEGER PRIMARY KEY AUTOINCREMENT, set_id INTEGER NOT NULL REFERENCES sets(id) ON DELETE CASCADE,
        kind TEXT NOT NULL, state TEXT NOT NULL, request TEXT NOT NULL, message TEXT);",
    ),
    // Originals left where they are, with the length they are found again by; shoots that are to be told apart.
    M::up(
        "ALTER TABLE frames ADD COLUMN source TEXT;
    ALTER TABLE frames ADD COLUMN bytes INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE sets ADD COLUMN sorted INTEGER NOT NULL DEFAULT 1;
    ALTER TABLE sets ADD COLUMN note TEXT;",
    ),
    // History as a tree: each state knows the one it was made from, each set the state it was last led to.
    M::up(
        "ALTER TABLE recipes ADD COLUMN parent INTEGER;
    ALTER TABLE recipes ADD COLUMN made INTEGER;
    ALTER TABLE sets ADD COLUMN tip INTEGER;
    UPDATE recipes SET parent = seq - 1 WHERE seq > 0;
    UPDATE sets SET tip = (SELECT max(seq) FROM recipes WHERE set_id = id);",
    ),
];

/// Opens the folder and brings its database to this version.
pub(crate) fn open(folder: &Path) -> Result<Connection, StudioError> {
    for part in ["", "originals", "exports", "cache", "cache/pyramids"] {
        let path = folder.join(part);
        std::fs::create_dir_all(&path).map_err(|e| MediaError::writing(&path, &e))?;
    }
    let mut db = Connection::open(folder.join("evanu.sqlite"))?;
    db.pragma_update(None, "journal_mode", "WAL")?;
    db.pragma_update(None, "synchronous", "NORMAL")?;
    db.pragma_update(None, "foreign_keys", "ON")?;
    Migrations::from_slice(VERSIONS).to_latest(&mut db).map_err(|e| {
        StudioError::Storage(format!(
            "{}: the database cannot be brought to this version ({e}); use the newest Evanu",
            folder.display()
        ))
    })?;
    Ok(db)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_follow_each_other_and_a_folder_opens_twice() {
        Migrations::from_slice(VERSIONS).validate().unwrap();
        let folder = tempfile::tempdir().unwrap();
        open(folder.path()).unwrap().execute("INSERT INTO sets (name, created) VALUES ('a', 1)", []).unwrap();
        let n: i64 =
            open(folder.path()).unwrap().query_row("SELECT count(*) FROM sets", [], |r| r.get(0)).unwrap();
        assert_eq!(n, 1);
    }

    #[test]
    fn a_folder_of_the_first_version_keeps_its_sets_and_their_history() {
        let folder = tempfile::tempdir().unwrap();
        {
            let mut old = Connection::open(folder.path().join("evanu.sqlite")).unwrap();
            Migrations::from_slice(&VERSIONS[..1]).to_latest(&mut old).unwrap();
            let mean = |used: &str| {
                format!(
                    r#"{{"version":1,"used":[{used}],"align":"auto","reference":null,"match_exposure":true,"method":"mean","canvas":"reference"}}"#
                )
            };
            old.execute("INSERT INTO sets (name, created, cursor) VALUES ('old', 1, 1)", []).unwrap();
            old.execute(
                "INSERT INTO frames (set_id, place, name, hash, state) VALUES (1, 0, 'a.jpg', 'x', 'ready')",
                [],
            )
            .unwrap();
            for (seq, label) in [(0, ""), (1, "combine by mean"), (2, "set aside")] {
                let text = mean(if seq == 2 { "false" } else { "true" });
                old.execute(
                    "INSERT INTO recipes VALUES (1, ?1, ?2, ?3)",
                    rusqlite::params![seq, label, text],
                )
                .unwrap();
            }
        }
        let studio = crate::Studio::open(folder.path()).unwrap();
        let set = studio.set(1).unwrap();
        assert_eq!((set.name.as_str(), set.frames.len()), ("old", 1));
        assert_eq!(set.recipe.method, crate::Method::Mean);
        assert_eq!(set.frames[0].name, "a.jpg");
        // Where it stood, and one after another as they were.
        assert_eq!((set.undo.as_deref(), set.redo.as_deref()), (Some("combine by mean"), Some("set aside")));
        let parents: Vec<_> = studio.states(1).unwrap().iter().map(|s| s.parent).collect();
        assert_eq!(parents, [None, Some(0), Some(1)]);
        studio.step(1, 1).unwrap();
        assert_eq!(studio.set(1).unwrap().recipe.used, [false]);
    }
}
