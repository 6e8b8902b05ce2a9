//! How long work tells how far it is and learns that it should stop.
//!
//! ```
//! use evanu_core::progress::{Cancelled, Counter};
//!
//! // Its owner stops the work when half of it is done.
//! let watch = |share: f32| if share < 0.5 { Ok(()) } else { Err(Cancelled) };
//! let counter = Counter::new(4, &watch);
//! assert_eq!(counter.tick(), Ok(()));
//! assert_eq!(counter.tick(), Err(Cancelled));
//! ```

use std::sync::atomic::{AtomicUsize, Ordering};

/// Work was stopped by its owner.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("cancelled")]
pub struct Cancelled;

/// Called with the share done (0..=1); an error stops the work soon.
pub type ProgressFn<'a> = &'a (dyn Fn(f32) -> Result<(), Cancelled> + Sync);

/// Watches nothing and never stops.
pub fn no_progress(_: f32) -> Result<(), Cancelled> {
    Ok(())
}

/// Counts parts done by several threads and reports the share.
pub struct Counter<'a> {
    done: AtomicUsize,
    total: usize,
    watch: ProgressFn<'a>,
}

impl<'a> Counter<'a> {
    /// `total` parts are to be done.
    pub fn new(total: usize, watch: ProgressFn<'a>) -> Self {
        Self { done: AtomicUsize::new(0), total: total.max(1), watch }
    }

    /// One more part is done.
    ///
    /// # Errors
    /// When the work should stop.
    pub fn tick(&self) -> Result<(), Cancelled> {
        let done = self.done.fetch_add(1, Ordering::Relaxed) + 1;
        (self.watch)(done as f32 / self.total as f32)
    }
}
