//! The queue of background work: kept in the database, so that it survives a restart. Who does the work is in [`crate::jobs`].

use crate::error::StudioError;
use crate::model::{Event, RunInfo, RunKind, RunState, StepInfo};
use crate::store::{Store, lock};
use evanu_core::progress::Cancelled;
use rusqlite::{Connection, OptionalExtension, Row, params};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex, OnceLock};
use std::time::{Duration, Instant};

/// How often a run is begun by itself: what ends the program may end it again.
const TIMES: i64 = 3;

/// The queue. Cheap to clone.
#[derive(Clone)]
pub struct Queue(Arc<Inner>);

struct Inner {
    store: Arc<Store>,
    wake: OnceLock<Sender<()>>,
    current: Mutex<Option<Current>>,
    /// Ends of runs that could not be written down yet.
    unnoted: Mutex<Vec<Ended>>,
}

/// What came of a run.
#[derive(Clone)]
struct Ended {
    run: i64,
    state: RunState,
    message: Option<String>,
}

/// What the worker is at.
struct Current {
    run: i64,
    step: StepInfo,
    began: Instant,
    told: Instant,
    stop: Arc<AtomicBool>,
}

/// A run that was taken from the queue, as who does it sees it.
pub(crate) struct Work {
    queue: Queue,
    pub set: i64,
    pub run: i64,
    pub kind: RunKind,
    pub request: String,
    stop: Arc<AtomicBool>,
}

impl Work {
    /// Begins a step.
    pub(crate) fn step(&self, name: &str) {
        if let Some(c) = lock(&self.queue.0.current).as_mut() {
            c.step = StepInfo { name: name.into(), share: 0.0, seconds_left: None };
            c.began = Instant::now();
        }
        self.queue.tell_run(self.run);
    }

    /// Tells the share of the step that is done; an error means "stop".
    pub(crate) fn at(&self, share: f32) -> Result<(), Cancelled> {
        let tell = lock(&self.queue.0.current).as_mut().is_some_and(|c| {
            c.step.share = c.step.share.max(share);
            let spent = c.began.elapsed().as_secs_f32();
            c.step.seconds_left = (share > 0.05 && spent > 0.5).then(|| spent * (1.0 - share) / share);
            let due = c.told.elapsed() > Duration::from_millis(250);
            if due {
                c.told = Instant::now();
            }
            due
        });
        if tell {
            self.queue.tell_run(self.run);
        }
        if self.stop.load(Ordering::Relaxed) { Err(Cancelled) } else { Ok(()) }
    }
}

/// A run, or the name of its kind or state that this program does not know.
fn run_row(r: &Row<'_>) -> rusqlite::Result<Result<RunInfo, String>> {
    let (kind, state): (String, String) = (r.get(2)?, r.get(3)?);
    let (Ok(kind), Ok(state)) = (kind.parse::<RunKind>(), state.parse::<RunState>()) else {
        return Ok(Err(format!("{kind}, {state}")));
    };
    Ok(Ok(RunInfo { id: r.get(0)?, set: r.get(1)?, kind, state, step: None, message: r.get(4)? }))
}

impl Queue {
    /// The queue of a data folder; runs that were cut off wait again, but none that was so [`TIMES`] times.
    pub(crate) fn open(store: Arc<Store>) -> Result<Self, StudioError> {
        let told =
            format!("Evanu ended {TIMES} times while it was at this, and does not begin it again by itself");
        let db = store.db();
        db.execute(
            "UPDATE runs SET state = 'failed', message = ?1 WHERE state = 'running' AND begun >= ?2",
            params![told, TIMES],
        )?;
        db.execute("UPDATE runs SET state = 'queued' WHERE state = 'running'", [])?;
        drop(db);
        let (wake, current, unnoted) = (OnceLock::new(), Mutex::default(), Mutex::default());
        Ok(Self(Arc::new(Inner { store, wake, current, unnoted })))
    }

    /// From now on, new work is told here.
    pub(crate) fn wakes(&self, worker: Sender<()>) {
        let _ = self.0.wake.set(worker); // there is one worker
    }

    /// Puts work in the queue; the same preparation is not queued twice.
    pub(crate) fn enqueue(&self, set: i64, kind: RunKind, request: &str) -> Result<i64, StudioError> {
        let id = {
            let db = self.0.store.db();
            let waiting = db
                .query_row(
                    "SELECT id FROM runs WHERE set_id = ?1 AND kind = ?2 AND state = 'queued'",
                    params![set, RunKind::Prepare.to_string()],
                    |r| r.get(0),
                )
                .optional()?;
            match waiting {
                Some(id) if kind == RunKind::Prepare => id,
                _ => {
                    db.execute(
                        "INSERT INTO runs (set_id, kind, state, request) VALUES (?1, ?2, 'queued', ?3)",
                        params![set, kind.to_string(), request],
                    )?;
                    db.last_insert_rowid()
                }
            }
        };
        if let Some(wake) = self.0.wake.get() {
            let _ = wake.send(()); // the worker ends only with the program
        }
        self.tell_run(id);
        Ok(id)
    }

    /// Takes the oldest waiting run, if any. One of a kind that this program does not know is told to have failed, and is never
    /// taken for another.
    pub(crate) fn take(&self) -> Result<Option<Work>, StudioError> {
        loop {
            let next: Option<(i64, i64, String, String)> = self
                .0
                .store
                .reading()?
                .query_row(
                    "SELECT r.id, r.set_id, r.kind, r.request FROM runs r JOIN sets s ON s.id = r.set_id
                     WHERE r.state = 'queued' AND s.deleted IS NULL ORDER BY r.id LIMIT 1",
                    [],
                    |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)),
                )
                .optional()?;
            let Some((run, set, kind, request)) = next else { return Ok(None) };
            let Ok(kind) = kind.parse::<RunKind>() else {
                let told =
                    format!("this Evanu does not know work of the kind \"{kind}\": use the newest Evanu");
                self.finish(run, RunState::Failed, Some(&told))?;
                continue;
            };
            let begun = "UPDATE runs SET state = 'running', message = NULL, begun = begun + 1 WHERE id = ?1";
            self.written(|db| db.execute(begun, params![run]))?;
            let stop = Arc::new(AtomicBool::new(false));
            let step = StepInfo { name: "begin".into(), share: 0.0, seconds_left: None };
            *lock(&self.0.current) =
                Some(Current { run, step, began: Instant::now(), told: Instant::now(), stop: stop.clone() });
            self.tell_run(run);
            return Ok(Some(Work { queue: self.clone(), set, run, kind, request, stop }));
        }
    }

    /// Forgets that a run was begun, when it is cut off on purpose.
    pub(crate) fn none_begun(&self) -> Result<(), StudioError> {
        self.0.store.db().execute("UPDATE runs SET begun = 0 WHERE state = 'running'", [])?;
        Ok(())
    }

    /// Notes what came of a run that was taken; as soon as it can be, when it cannot be now.
    pub(crate) fn ended(&self, run: i64, done: Result<Option<String>, StudioError>) {
        *lock(&self.0.current) = None;
        let (state, message) = match done {
            Ok(message) => (RunState::Done, message),
            Err(StudioError::Cancelled) => (RunState::Cancelled, None),
            Err(e) => (RunState::Failed, Some(e.to_string())),
        };
        let written = self.finish(run, state, message.as_deref());
        if let Err(e) = written {
            tracing::error!("run {run} has ended and could not be noted yet: {e}");
            lock(&self.0.unnoted).push(Ended { run, state, message });
            self.tell_run(run);
        }
    }

    /// Notes the ends of runs that could not be noted before.
    pub(crate) fn note_ended(&self) -> Result<(), StudioError> {
        loop {
            let Some(ended) = lock(&self.0.unnoted).first().cloned() else { return Ok(()) };
            self.finish(ended.run, ended.state, ended.message.as_deref())?;
            lock(&self.0.unnoted).remove(0);
        }
    }

    fn finish(&self, run: i64, state: RunState, message: Option<&str>) -> Result<(), StudioError> {
        let ended = "UPDATE runs SET state = ?2, message = ?3 WHERE id = ?1";
        self.written(|db| db.execute(ended, params![run, state.to_string(), message]))?;
        self.tell_run(run);
        Ok(())
    }

    /// Writes what must be noted of a run that was promised, on a full disk by the room that is kept for it.
    fn written(&self, write: impl Fn(&Connection) -> rusqlite::Result<usize>) -> Result<(), StudioError> {
        let once = || write(&self.0.store.db()).map_err(StudioError::from);
        match once() {
            Err(StudioError::Full(_)) if self.0.store.give_up_reserve() => once()?,
            done => done?,
        };
        Ok(())
    }

    /// A run as it stands.
    ///
    /// # Errors
    /// When there is no such run.
    pub fn run(&self, id: i64) -> Result<RunInfo, StudioError> {
        let row = self
            .0
            .store
            .reading()?
            .query_row(
                "SELECT id, set_id, kind, state, message FROM runs WHERE id = ?1",
                params![id],
                run_row,
            )
            .optional()?;
        let run = row.ok_or_else(|| StudioError::NotFound("there is no such run".into()))?;
        let mut run = run.map_err(|other| {
            StudioError::Conflict(format!("this run is of a kind that this Evanu does not know ({other})"))
        })?;
        if let Some(ended) = lock(&self.0.unnoted).iter().find(|ended| ended.run == id) {
            (run.state, run.message) = (ended.state, ended.message.clone());
        }
        if let Some(c) = lock(&self.0.current).as_ref().filter(|c| c.run == id) {
            run.step = Some(c.step.clone());
        }
        Ok(run)
    }

    /// The set's last run of a known kind.
    pub(crate) fn last_run(&self, set: i64) -> Result<Option<RunInfo>, StudioError> {
        let ids: Vec<i64> = {
            let db = self.0.store.reading()?;
            let mut query =
                db.prepare_cached("SELECT id FROM runs WHERE set_id = ?1 ORDER BY id DESC LIMIT 5")?;
            query.query_map(params![set], |r| r.get(0))?.collect::<Result<_, _>>()?
        };
        Ok(ids.into_iter().find_map(|id| self.run(id).ok()))
    }

    /// Stops a run; what it has done so far stays usable.
    ///
    /// # Errors
    /// When there is no such run or it has ended.
    pub fn cancel(&self, id: i64) -> Result<(), StudioError> {
        match self.run(id)?.state {
            RunState::Queued => self.finish(id, RunState::Cancelled, None),
            RunState::Running => {
                if let Some(c) = lock(&self.0.current).as_ref().filter(|c| c.run == id) {
                    c.stop.store(true, Ordering::Relaxed);
                }
                Ok(())
            }
            _ => Err(StudioError::Conflict("this run has already ended".into())),
        }
    }

    pub(crate) fn cancel_last(&self, set: i64) -> Result<(), StudioError> {
        match self.last_run(set)? {
            Some(run) if matches!(run.state, RunState::Queued | RunState::Running) => self.cancel(run.id),
            _ => Ok(()),
        }
    }

    fn tell_run(&self, id: i64) {
        if let Ok(run) = self.run(id) {
            self.0.store.tell(Event::Run { run });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_that_was_cut_off_three_times_is_not_begun_again() {
        let folder = tempfile::tempdir().unwrap();
        let open = || Queue::open(Arc::new(Store::open(folder.path()).unwrap())).unwrap();
        let queue = open();
        queue.0.store.db().execute("INSERT INTO sets (id, name, created) VALUES (1, 'a', 0)", []).unwrap();
        let id = queue.enqueue(1, RunKind::Prepare, "{}").unwrap();
        drop(queue);
        // Cut off on purpose it counts for nothing.
        for _ in 0..2 * TIMES {
            let queue = open();
            assert!(queue.take().unwrap().is_some());
            queue.none_begun().unwrap();
        }
        // Dropped without an end, as when the program is killed.
        for _ in 0..TIMES {
            assert_eq!(open().take().unwrap().map(|work| work.run), Some(id));
        }
        let queue = open();
        assert!(queue.take().unwrap().is_none());
        let run = queue.run(id).unwrap();
        assert_eq!(run.state, RunState::Failed);
        assert!(run.message.unwrap().starts_with("Evanu ended 3 times"));
        // Asked for again it is another run.
        assert!(queue.enqueue(1, RunKind::Prepare, "{}").unwrap() > id);
    }

    #[test]
    fn an_end_that_cannot_be_noted_is_known_and_noted_later() {
        let folder = tempfile::tempdir().unwrap();
        let store = Arc::new(Store::open(folder.path()).unwrap());
        store.db().execute("INSERT INTO sets (id, name, created) VALUES (1, 'a', 0)", []).unwrap();
        let queue = Queue::open(store.clone()).unwrap();
        let id = queue.enqueue(1, RunKind::Prepare, "{}").unwrap();
        assert!(queue.take().unwrap().is_some());
        // As on a full disk: the database may have no further page.
        let pages: i64 = store.db().pragma_query_value(None, "page_count", |r| r.get(0)).unwrap();
        let limit = |pages: i64| {
            store.db().pragma_update_and_check(None, "max_page_count", pages, |_| Ok(())).unwrap();
        };
        limit(pages);
        let long = "a".repeat(1 << 20);
        assert!(matches!(
            store.db().execute("UPDATE sets SET note = ?1", [&long]).map_err(StudioError::from),
            Err(StudioError::Full(told)) if told.starts_with("the disk is full")
        ));
        let reserve = store.path(&["evanu.reserve"]);
        assert!(reserve.metadata().unwrap().len() == 1 << 20);
        queue.ended(id, Ok(Some(long.clone())));
        assert!(!reserve.exists() && queue.note_ended().is_err());
        assert_eq!(queue.run(id).unwrap().state, RunState::Done);
        let written = || {
            let read = "SELECT state FROM runs WHERE id = ?1";
            store.reading().unwrap().query_row(read, [id], |r| r.get::<_, String>(0)).unwrap()
        };
        assert_eq!(written(), "running");
        limit(1 << 30);
        queue.note_ended().unwrap();
        store.keep_reserve();
        assert!(written() == "done" && reserve.exists());
        assert_eq!(queue.run(id).unwrap().message, Some(long));
    }

    #[test]
    fn work_of_an_unknown_kind_is_told_and_not_taken_for_another() {
        let folder = tempfile::tempdir().unwrap();
        let store = Arc::new(Store::open(folder.path()).unwrap());
        store.db().execute("INSERT INTO sets (name, created) VALUES ('a', 1)", []).unwrap();
        let queue = Queue::open(store.clone()).unwrap();
        let add = "INSERT INTO runs (set_id, kind, state, request) VALUES (1, 'stabilise', 'queued', '{}')";
        store.db().execute(add, []).unwrap();
        let known = queue.enqueue(1, RunKind::Export, "{}").unwrap();
        let work = queue.take().unwrap().unwrap();
        assert_eq!((work.run, work.kind), (known, RunKind::Export));
        let told: (String, String) = store
            .db()
            .query_row("SELECT state, message FROM runs WHERE kind = 'stabilise'", [], |r| {
                Ok((r.get(0)?, r.get(1)?))
            })
            .unwrap();
        assert!(told.0 == "failed" && told.1.contains("stabilise"), "{told:?}");
        assert_eq!(queue.last_run(1).unwrap().map(|r| r.id), Some(known));
    }
}
