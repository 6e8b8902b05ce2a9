//! A pyramid that mends itself: what is damaged on the disk is made anew from the original, and whoever reads does not notice.

use crate::store::lock;
use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::{Depth, FrameSource, Samples, SourceError};
use evanu_media::TiledFrame;
use std::sync::{Arc, Mutex, PoisonError, RwLock};

/// Makes a pyramid anew; why not is told in words.
pub(super) type Mend = Box<dyn Fn() -> Result<TiledFrame, String> + Send + Sync>;

/// A frame's pixels, or others that are kept, as long as what they were made from is there.
pub struct Pyramid {
    open: RwLock<Arc<TiledFrame>>,
    mend: Mend,
    mending: Mutex<()>,
}

impl Pyramid {
    pub(super) fn new(open: TiledFrame, mend: Mend) -> Self {
        Self { open: RwLock::new(Arc::new(open)), mend, mending: Mutex::default() }
    }

    fn open(&self) -> Arc<TiledFrame> {
        self.open.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The pyramid that stands in for a damaged one; whoever comes second takes what the first has made.
    fn mended(&self, damaged: &Arc<TiledFrame>) -> Result<Arc<TiledFrame>, String> {
        let _one_at_a_time = lock(&self.mending);
        let open = self.open();
        if !Arc::ptr_eq(&open, damaged) {
            return Ok(open);
        }
        // On threads of its own: one of a pool would take up other work while it waits, perhaps what waits here, and all of the pool's
        // may be waiting here.
        let pool = rayon::ThreadPoolBuilder::new().num_threads(1).build().map_err(|e| e.to_string())?;
        let made = std::thread::scope(|scope| scope.spawn(|| pool.install(&self.mend)).join());
        let made = Arc::new(made.map_err(|_| "making it anew ended unexpectedly".to_owned())??);
        if (made.size(), made.depth()) != (damaged.size(), damaged.depth()) {
            return Err("its original gives another picture now".into());
        }
        *self.open.write().unwrap_or_else(PoisonError::into_inner) = made.clone();
        Ok(made)
    }
}

impl FrameSource for Pyramid {
    fn size(&self) -> Size {
        self.open().size()
    }

    fn levels(&self) -> u32 {
        self.open().levels()
    }

    fn depth(&self) -> Depth {
        self.open().depth()
    }

    fn headroom(&self) -> f32 {
        self.open().headroom()
    }

    fn read(&self, level: u32, region: Rect) -> Result<Samples, SourceError> {
        let open = self.open();
        open.read(level, region).or_else(|damage| {
            let mended = self.mended(&open);
            mended.map_err(|why| SourceError(format!("{damage}; {why}")))?.read(level, region)
        })
    }
}
