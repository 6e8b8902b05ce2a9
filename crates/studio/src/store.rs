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
}
