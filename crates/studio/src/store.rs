//! The data folder: its layout, the database and its versions, and what is told to whoever listens.

use crate::error::StudioError;
use crate::model::Event;
use evanu_core::recipe::{FrameId, Recipe, migrate};
use evanu_media::MediaError;
use rusqlite::{Connection, OpenFlags, Transaction, params};
use rusqlite_migration::{HookError, M, Migrations};
use std::fs::{File, TryLockError};
use std::io::Write;
use std::ops::Deref;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::broadcast;

/// A lock that was held by a thread that panicked is still good: every change under it is whole.
pub(crate) fn lock<T>(m: &Mutex<T>) -> MutexGuard<'_, T> {
    m.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The versions of the database, each brought about from the one before.
fn versions() -> Migrations<'static> {
    Migrations::new(vec![
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
        // A frame is an asset at a position, with an identity of its own that recipes name it by; `place` is only the order in
        // which frames joined. Each set counts its changes.
        M::up_with_hook(
            "ALTER TABLE frames ADD COLUMN key INTEGER;
            ALTER TABLE frames ADD COLUMN position INTEGER NOT NULL DEFAULT 0;
            ALTER TABLE sets ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
            ALTER TABLE recipes ADD COLUMN revision INTEGER;
            UPDATE frames SET key = id;",
            name_frames_by_identity,
        ),
        // Pixels that were made once and are kept among the originals.
        M::up(
            "CREATE TABLE rasters (
                set_id INTEGER NOT NULL REFERENCES sets(id) ON DELETE CASCADE, hash TEXT NOT NULL,
                PRIMARY KEY (set_id, hash));",
        ),
        // How often runs, and the reading of files, were begun without coming to an end.
        M::up(
            "ALTER TABLE runs ADD COLUMN begun INTEGER NOT NULL DEFAULT 0;
            ALTER TABLE frames ADD COLUMN begun INTEGER NOT NULL DEFAULT 0;",
        ),
        // Camera data as they are written with a plate: also when the original is gone. Whether the original is another file now.
        M::up(
            "ALTER TABLE frames ADD COLUMN exif BLOB;
            ALTER TABLE frames ADD COLUMN changed INTEGER NOT NULL DEFAULT 0;",
        ),
        // Small pictures for lists: the name of the plate that one shows, and the set's revision then.
        M::up(
            "ALTER TABLE sets ADD COLUMN cover TEXT;
            ALTER TABLE sets ADD COLUMN cover_revision INTEGER;
            CREATE INDEX runs_of_set ON runs(set_id);",
        ),
        // A kill between two statements left frames without an identity, and sets without a first state.
        M::up_with_hook("UPDATE frames SET key = id WHERE key IS NULL;", begin_sets_without_a_state),
    ])
}

/// Brings recipes of version 1, which name frames by their place, to those that name them by identity.
fn name_frames_by_identity(t: &Transaction<'_>) -> Result<(), HookError> {
    let recipes: Vec<(i64, i64, String)> = {
        let mut query = t.prepare("SELECT set_id, seq, recipe FROM recipes")?;
        query.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<Result<_, _>>()?
    };
    for (set, seq, text) in recipes {
        let mut query = t.prepare_cached(
            "SELECT key FROM frames WHERE set_id = ?1 AND place IS NOT NULL ORDER BY place",
        )?;
        let frames: Vec<FrameId> =
            query.query_map([set], |r| Ok(FrameId(r.get(0)?)))?.collect::<Result<_, _>>()?;
        let told = |e: &dyn std::fmt::Display| HookError::Hook(format!("set {set}, state {seq}: {e}"));
        let recipe = migrate::read(&text, &frames).map_err(|e| told(&e))?;
        let text = serde_json::to_string(&recipe).map_err(|e| told(&e))?;
        t.execute("UPDATE recipes SET recipe = ?3 WHERE set_id = ?1 AND seq = ?2", params![set, seq, text])?;
    }
    Ok(())
}

/// Gives sets that were cut off while they were made the state that all begin with.
fn begin_sets_without_a_state(t: &Transaction<'_>) -> Result<(), HookError> {
    let recipe =
        serde_json::to_string(&Recipe::<FrameId>::new()).map_err(|e| HookError::Hook(e.to_string()))?;
    t.execute(
        "INSERT INTO recipes (set_id, seq, label, recipe) SELECT id, 0, 'made the set', ?1 FROM sets s
         WHERE NOT EXISTS (SELECT 1 FROM recipes WHERE set_id = s.id)",
        params![recipe],
    )?;
    Ok(())
}

/// Opens the folder's database and brings it to this version.
fn database(folder: &Path) -> Result<Connection, StudioError> {
    for part in ["", "originals", "exports", "cache", "cache/pyramids"] {
        let path = folder.join(part);
        std::fs::create_dir_all(&path).map_err(|e| MediaError::writing(&path, &e))?;
    }
    let mut db = Connection::open(folder.join("evanu.sqlite"))?;
    db.pragma_update(None, "journal_mode", "WAL")?;
    // What was answered outlasts a power cut.
    db.pragma_update(None, "synchronous", "FULL")?;
    db.pragma_update(None, "foreign_keys", "ON")?;
    versions().to_latest(&mut db).map_err(|e| {
        StudioError::Storage(format!(
            "{}: the database cannot be brought to this version ({e}); use the newest Evanu",
            folder.display()
        ))
    })?;
    Ok(db)
}

/// Holds a folder for this process until that ends, however it does; `None` while another holds it.
fn held(folder: &Path) -> Result<Option<File>, StudioError> {
    /// A program that was just told to end, or this one's own last work, is waited for.
    const WAIT: Duration = Duration::from_secs(3);
    let path = folder.join("evanu.lock");
    let failed = |e: std::io::Error| StudioError::from(MediaError::writing(&path, &e));
    let mut file =
        File::options().create(true).truncate(false).read(true).write(true).open(&path).map_err(failed)?;
    let begin = Instant::now();
    loop {
        match file.try_lock() {
            Ok(()) => break,
            Err(TryLockError::WouldBlock) if begin.elapsed() < WAIT => {
                std::thread::sleep(Duration::from_millis(20));
            }
            Err(TryLockError::WouldBlock) => return Ok(None),
            Err(TryLockError::Error(e)) => return Err(failed(e)),
        }
    }
    file.set_len(0).map_err(failed)?;
    write!(file, "{}", std::process::id()).map_err(failed)?;
    Ok(Some(file))
}

/// Takes away what was being written when the program ended. Nobody else writes here.
fn sweep(folder: &Path) {
    let entries = |folder: PathBuf| std::fs::read_dir(folder).into_iter().flatten().flatten();
    let exports = entries(folder.join("exports")).map(|run| run.path());
    for part in [folder.join("originals"), folder.join("cache/pyramids"), folder.join("cache/covers")]
        .into_iter()
        .chain(exports)
    {
        for file in entries(part).filter(|file| file.file_name().to_string_lossy().starts_with('.')) {
            let is_folder = file.file_type().is_ok_and(|kind| kind.is_dir());
            let remove = if is_folder { std::fs::remove_dir_all } else { std::fs::remove_file };
            let _ = remove(file.path()); // a leftover costs space, nothing else
        }
    }
}

/// Room on the disk that is kept for what must be noted.
const RESERVE: &str = "evanu.reserve";
const RESERVE_BYTES: usize = 1 << 20;

/// A connection that only reads, given back for the next one.
pub(crate) struct Reading<'a> {
    store: &'a Store,
    db: Option<Connection>,
}

impl Deref for Reading<'_> {
    type Target = Connection;

    fn deref(&self) -> &Connection {
        self.db.as_ref().unwrap_or_else(|| unreachable!("it is given back only when this is dropped"))
    }
}

impl Drop for Reading<'_> {
    fn drop(&mut self) {
        lock(&self.store.readers).extend(self.db.take());
    }
}

/// A data folder that is open.
pub(crate) struct Store {
    /// Given back when it is closed.
    _held: File,
    folder: PathBuf,
    db: Mutex<Connection>,
    /// Connections that only read, and wait for nobody who writes.
    readers: Mutex<Vec<Connection>>,
    events: broadcast::Sender<Event>,
}

impl Store {
    /// Opens a folder, making it when it is not there.
    ///
    /// # Errors
    /// When it cannot be written, is of a newer version, or another process has it open.
    pub(crate) fn open(folder: &Path) -> Result<Self, StudioError> {
        std::fs::create_dir_all(folder).map_err(|e| MediaError::writing(folder, &e))?;
        let Some(held) = held(folder)? else {
            let by = std::fs::read_to_string(folder.join("evanu.lock")).unwrap_or_default();
            return Err(StudioError::Conflict(format!(
                "{}: process {by} has this folder open; end that one, or name another folder with --data",
                folder.display()
            )));
        };
        sweep(folder);
        let (events, _) = broadcast::channel(512);
        let db = Mutex::new(database(folder)?);
        let store = Self { _held: held, folder: folder.to_owned(), db, readers: Mutex::default(), events };
        store.keep_reserve();
        Ok(store)
    }

    /// The database to write to, which nobody else has meanwhile.
    pub(crate) fn db(&self) -> MutexGuard<'_, Connection> {
        lock(&self.db)
    }

    /// The database as it was last committed; nobody waits for it.
    pub(crate) fn reading(&self) -> Result<Reading<'_>, StudioError> {
        let free = lock(&self.readers).pop();
        let open = || {
            let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            Connection::open_with_flags(self.folder.join("evanu.sqlite"), flags)
        };
        Ok(Reading { store: self, db: Some(free.map_or_else(open, Ok)?) })
    }

    /// Gives up the room that is kept, so that what has been done can be noted on a full disk; whether there was any.
    pub(crate) fn give_up_reserve(&self) -> bool {
        std::fs::remove_file(self.path(&[RESERVE])).is_ok()
    }

    /// Keeps room for that, when there is some.
    pub(crate) fn keep_reserve(&self) {
        let path = self.path(&[RESERVE]);
        if !path.exists() && std::fs::write(&path, vec![1; RESERVE_BYTES]).is_err() {
            let _ = std::fs::remove_file(&path); // part of it is of no use, and it was written now
        }
    }

    /// A place in the folder.
    pub(crate) fn path(&self, parts: &[&str]) -> PathBuf {
        parts.iter().fold(self.folder.clone(), |p, s| p.join(s))
    }

    /// Tells whoever listens.
    pub(crate) fn tell(&self, event: Event) {
        let _ = self.events.send(event); // nobody listening is fine
    }

    /// Everything that is told from now on.
    pub(crate) fn listen(&self) -> broadcast::Receiver<Event> {
        self.events.subscribe()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::combine::Method;

    #[test]
    fn versions_follow_each_other_and_a_folder_opens_twice() {
        versions().validate().unwrap();
        let folder = tempfile::tempdir().unwrap();
        let first = database(folder.path()).unwrap();
        first.execute("INSERT INTO sets (name, created) VALUES ('a', 1)", []).unwrap();
        drop(first);
        let again = database(folder.path()).unwrap();
        let n: i64 = again.query_row("SELECT count(*) FROM sets", [], |r| r.get(0)).unwrap();
        assert_eq!(n, 1);
    }

    #[test]
    fn a_folder_is_held_by_one_and_swept_of_what_was_being_written() {
        let folder = tempfile::tempdir().unwrap();
        let first = Store::open(folder.path()).unwrap();
        let refused = Store::open(folder.path()).err().unwrap().to_string();
        assert!(
            refused.contains(&format!("process {} has this folder open", std::process::id())),
            "{refused}"
        );
        std::fs::create_dir(first.path(&["exports", "7"])).unwrap();
        let left = [".incoming-a", ".raster-b"].map(|name| first.path(&["originals", name]));
        let left = [
            left[0].clone(),
            left[1].clone(),
            first.path(&["cache", "pyramids", ".pyramid-c"]),
            first.path(&["exports", "7", ".evanu-d"]),
        ];
        let kept = [first.path(&["originals", "e"]), first.path(&["exports", "7", "plate.tif"])];
        left.iter().chain(&kept).for_each(|path| std::fs::write(path, "x").unwrap());
        // What was being read apart goes with its folder.
        let folder_left = first.path(&["cache", "pyramids", ".reading-f"]);
        std::fs::create_dir(&folder_left).unwrap();
        std::fs::write(folder_left.join("0"), "x").unwrap();
        drop(first);
        Store::open(folder.path()).unwrap();
        assert!(!folder_left.exists());
        assert!(left.iter().all(|path| !path.exists()) && kept.iter().all(|path| path.exists()));
    }

    #[test]
    fn what_a_kill_left_half_made_is_made_whole() {
        let folder = tempfile::tempdir().unwrap();
        {
            std::fs::create_dir_all(folder.path()).unwrap();
            let mut old = Connection::open(folder.path().join("evanu.sqlite")).unwrap();
            versions().to_version(&mut old, 8).unwrap();
            old.execute("INSERT INTO sets (id, name, created) VALUES (1, 'half', 1)", []).unwrap();
            let frame = "INSERT INTO frames (set_id, name, hash, state, reason) VALUES (1, 'a.jpg', '', 'failed', 'b')";
            old.execute(frame, []).unwrap();
        }
        let studio = crate::Studio::open(folder.path()).unwrap();
        let set = studio.set(1).unwrap();
        assert!(set.frames.len() == 1 && set.undo.is_none());
    }

    #[test]
    fn a_folder_of_the_first_version_keeps_its_sets_and_their_history() {
        let folder = tempfile::tempdir().unwrap();
        {
            let mut old = Connection::open(folder.path().join("evanu.sqlite")).unwrap();
            versions().to_version(&mut old, 1).unwrap();
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
                old.execute("INSERT INTO recipes VALUES (1, ?1, ?2, ?3)", params![seq, label, text]).unwrap();
            }
        }
        let studio = crate::Studio::open(folder.path()).unwrap();
        let set = studio.set(1).unwrap();
        assert_eq!((set.name.as_str(), set.frames.len()), ("old", 1));
        assert_eq!(set.recipe.method, Method::Mean);
        assert_eq!(set.frames[0].name, "a.jpg");
        // Where it stood, and one after another as they were.
        assert_eq!((set.undo.as_deref(), set.redo.as_deref()), (Some("combine by mean"), Some("set aside")));
        let parents: Vec<_> = studio.sets.states(1).unwrap().iter().map(|s| s.parent).collect();
        assert_eq!(parents, [None, Some(0), Some(1)]);
        studio.step(1, 1, None).unwrap();
        assert_eq!(studio.set(1).unwrap().recipe.excluded, [set.frames[0].id].into());
    }
}
