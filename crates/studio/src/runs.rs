//! Background work: a queue in the database, one worker, progress, cancelling, going on after a restart.

use crate::error::StudioError;
use crate::model::{Event, RunInfo, RunKind, RunState, StepInfo};
use crate::{Studio, lock};
use evanu_core::progress::Cancelled;
use rusqlite::{OptionalExtension, Row, params};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Mutex, OnceLock};
use std::time::{Duration, Instant};

/// What the worker is at.
#[derive(Default)]
pub(crate) struct Queue {
    wake: OnceLock<Sender<()>>,
    current: Mutex<Option<Current>>,
}

struct Current {
    run: i64,
    step: StepInfo,
    began: Instant,
    told: Instant,
    stop: Arc<AtomicBool>,
}

/// A running piece of work as its code sees it.
pub(crate) struct Work<'a> {
    studio: &'a Studio,
    pub set: i64,
    pub run: i64,
    stop: Arc<AtomicBool>,
}

impl Work<'_> {
    /// Begins a step.
    pub fn step(&self, name: &str) {
        if let Some(c) = lock(&self.studio.0.queue.current).as_mut() {
            c.step = StepInfo { name: name.into(), share: 0.0, seconds_left: None };
            c.began = Instant::now();
        }
        self.studio.tell_run(self.run);
    }

    /// Tells the share of the step that is done; an error means "stop".
    pub fn at(&self, share: f32) -> Result<(), Cancelled> {
        let tell = lock(&self.studio.0.queue.current).as_mut().is_some_and(|c| {
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
            self.studio.tell_run(self.run);
        }
        if self.stop.load(Ordering::Relaxed) { Err(Cancelled) } else { Ok(()) }
    }
}

/// As many threads as there are processors, which give way to those that make what is looked at.
///
/// They do computations only: while one waits for another, it may take up any other work of theirs, and must hold nothing then
/// that this waits for.
pub(crate) fn threads_behind() -> Result<rayon::ThreadPool, StudioError> {
    /// How much they give way, 0 not at all and 19 entirely.
    const NICE: i32 = 5;
    rayon::ThreadPoolBuilder::new()
        .thread_name(|k| format!("behind {k}"))
        .start_handler(|_| {
            // Without it they share the processors evenly, which is no fault.
            let _ = rustix::process::setpriority_process(None, NICE);
        })
        .build()
        .map_err(|e| StudioError::Storage(format!("no threads for background work: {e}")))
}

fn kind_name(kind: RunKind) -> &'static str {
    match kind {
        RunKind::Prepare => "prepare",
        RunKind::Export => "export",
    }
}

fn run_row(r: &Row<'_>) -> rusqlite::Result<RunInfo> {
    let (kind, state): (String, String) = (r.get(2)?, r.get(3)?);
    Ok(RunInfo {
        id: r.get(0)?,
        set: r.get(1)?,
        kind: if kind == "export" { RunKind::Export } else { RunKind::Prepare },
        state: match state.as_str() {
            "queued" => RunState::Queued,
            "running" => RunState::Running,
            "done" => RunState::Done,
            "cancelled" => RunState::Cancelled,
            _ => RunState::Failed,
        },
        step: None,
        message: r.get(4)?,
    })
}

impl Studio {
    /// Puts work in the queue; the same preparation is not queued twice.
    pub(crate) fn enqueue(&self, set: i64, kind: RunKind, request: &str) -> Result<i64, StudioError> {
        let id = {
            let db = self.db();
            let waiting = db
                .query_row(
                    "SELECT id FROM runs WHERE set_id = ?1 AND kind = 'prepare' AND state = 'queued'",
                    params![set],
                    |r| r.get(0),
                )
                .optional()?;
            match waiting {
                Some(id) if kind == RunKind::Prepare => id,
                _ => {
                    db.execute(
                        "INSERT INTO runs (set_id, kind, state, request) VALUES (?1, ?2, 'queued', ?3)",
                        params![set, kind_name(kind), request],
                    )?;
                    db.last_insert_rowid()
                }
            }
        };
        self.wake();
        self.tell_run(id);
        Ok(id)
    }

    fn wake(&self) {
        if let Some(wake) = self.0.queue.wake.get() {
            let _ = wake.send(()); // the worker ends only with the program
        }
    }

    /// Starts the worker; runs that were cut off go back into the queue.
    pub(crate) fn start_worker(&self) -> Result<(), StudioError> {
        self.db().execute("UPDATE runs SET state = 'queued' WHERE state = 'running'", [])?;
        let (send, receive) = channel();
        let _ = self.0.queue.wake.set(send);
        let weak = Arc::downgrade(&self.0);
        std::thread::Builder::new()
            .name("runs".into())
            .spawn(move || {
                loop {
                    let Some(inner) = weak.upgrade() else { return };
                    let more = Studio(inner).work_once().unwrap_or_else(|e| {
                        tracing::error!("a run could not be taken from the queue: {e}");
                        false
                    });
                    // Woken by new work; otherwise looks now and then whether the application is still there.
                    if !more
                        && receive.recv_timeout(Duration::from_secs(2))
                            == Err(std::sync::mpsc::RecvTimeoutError::Disconnected)
                    {
                        return;
                    }
                }
            })
            .map_err(|e| StudioError::Storage(format!("no thread for background work: {e}")))?;
        Ok(())
    }

    /// Does the oldest waiting run, if any.
    fn work_once(&self) -> Result<bool, StudioError> {
        let next: Option<(i64, i64, String, String)> = self
            .db()
            .query_row(
                "SELECT r.id, r.set_id, r.kind, r.request FROM runs r JOIN sets s ON s.id = r.set_id
                 WHERE r.state = 'queued' AND s.deleted IS NULL ORDER BY r.id LIMIT 1",
                [],
                |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)),
            )
            .optional()?;
        let Some((run, set, kind, request)) = next else { return Ok(false) };
        let stop = Arc::new(AtomicBool::new(false));
        let step = StepInfo { name: "begin".into(), share: 0.0, seconds_left: None };
        *lock(&self.0.queue.current) =
            Some(Current { run, step, began: Instant::now(), told: Instant::now(), stop: stop.clone() });
        self.finish(run, "running", None)?;
        let work = Work { studio: self, set, run, stop };
        let done = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| match kind.as_str() {
            "export" => self.export(&work, &request),
            _ => self.prepare(&work),
        }))
        .unwrap_or_else(|_| {
            Err(StudioError::Storage("the work ended unexpectedly; please try again".into()))
        });
        *lock(&self.0.queue.current) = None;
        match done {
            Ok(message) => self.finish(run, "done", message.as_deref())?,
            Err(StudioError::Cancelled) => self.finish(run, "cancelled", None)?,
            Err(e) => self.finish(run, "failed", Some(&e.to_string()))?,
        }
        self.tell(Event::Set { id: set });
        self.tell(Event::Sets);
        Ok(true)
    }

    fn finish(&self, run: i64, state: &str, message: Option<&str>) -> Result<(), StudioError> {
        self.db().execute(
            "UPDATE runs SET state = ?2, message = ?3 WHERE id = ?1",
            params![run, state, message],
        )?;
        self.tell_run(run);
        Ok(())
    }

    /// A run as it stands.
    ///
    /// # Errors
    /// When there is no such run.
    pub fn run(&self, id: i64) -> Result<RunInfo, StudioError> {
        let row = self
            .db()
            .query_row(
                "SELECT id, set_id, kind, state, message FROM runs WHERE id = ?1",
                params![id],
                run_row,
            )
            .optional()?;
        let mut run = row.ok_or_else(|| StudioError::NotFound("there is no such run".into()))?;
        if let Some(c) = lock(&self.0.queue.current).as_ref().filter(|c| c.run == id) {
            run.step = Some(c.step.clone());
        }
        Ok(run)
    }

    /// The set's last run.
    pub(crate) fn last_run(&self, set: i64) -> Result<Option<RunInfo>, StudioError> {
        let id: Option<i64> =
            self.db().query_row("SELECT max(id) FROM runs WHERE set_id = ?1", params![set], |r| r.get(0))?;
        id.map(|id| self.run(id)).transpose()
    }

    /// Stops a run; what it has done so far stays usable.
    ///
    /// # Errors
    /// When there is no such run or it has ended.
    pub fn cancel(&self, id: i64) -> Result<(), StudioError> {
        let run = self.run(id)?;
        match run.state {
            RunState::Queued => self.finish(id, "cancelled", None),
            RunState::Running => {
                if let Some(c) = lock(&self.0.queue.current).as_ref().filter(|c| c.run == id) {
                    c.stop.store(true, Ordering::Relaxed);
                }
                Ok(())
            }
            _ => Err(StudioError::Conflict("this run has already ended".into())),
        }
    }

    pub(crate) fn cancel_runs_of(&self, set: i64) -> Result<(), StudioError> {
        match self.last_run(set)? {
            Some(run) if matches!(run.state, RunState::Queued | RunState::Running) => self.cancel(run.id),
            _ => Ok(()),
        }
    }

    fn tell_run(&self, id: i64) {
        if let Ok(run) = self.run(id) {
            self.tell(Event::Run { run });
        }
    }
}
