//! Sets as they are opened: recipe, plan and frames together, their consensus decided and their patches fitted.
//!
//! What takes long is not waited for where it need not be: a set whose consensus is not at hand is shown as a draft, by the
//! median, until it is decided; and its patches are fitted when pixels are asked for, or beside the answer to a change.

use super::Scenes;
use super::keys::{Keys, plan_key};
use crate::assets::Pyramid;
use crate::error::StudioError;
use crate::model::{AgreementFact, CanvasInfo, Event, RunKind, Spot};
use crate::sets::FrameRow;
use crate::store::lock;
use evanu_core::combine::Method;
use evanu_core::patch::{Patch, PlacedPatch, Source};
use evanu_core::pixel::FrameSource;
use evanu_core::plan::{Decision, Plan};
use evanu_core::recipe::{FrameId, Recipe, Settled};
use evanu_core::render::{RenderError, Scene, Stage};
use evanu_core::touch::PlacedTouch;
use std::collections::HashMap;
use std::ops::Deref;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, TryLockError, mpsc};
use std::time::Duration;

/// Side of a tile in pixels.
pub const TILE: u32 = 512;

/// How long the answer to a change waits for patches that are being fitted, so that it can tell which tiles they change.
const FITTED: Duration = Duration::from_millis(200);

/// What lies over the combined frames of a set, fitted.
#[derive(Clone, Default)]
struct Fitted {
    patches: Arc<Vec<PlacedPatch>>,
    touches: Arc<Vec<PlacedTouch>>,
}

/// A set that is opened: everything about it but how its patches fit.
pub(crate) struct Opened {
    pub set: i64,
    /// The identities of the frames, in the order of everything that counts them.
    pub frames: Vec<FrameId>,
    /// The other way round.
    places: HashMap<FrameId, usize>,
    /// By the frames' indices.
    pub recipe: Recipe,
    pub plan: Arc<Plan>,
    /// What its consensus decided, with what was settled by hand; `None` for a draft, and when no frame takes part.
    pub decision: Option<Arc<Decision>>,
    pub sources: Vec<Arc<Pyramid>>,
    pub keys: Keys,
    /// For each of the decision's doubts, how it was settled.
    pub settled: Vec<Option<Settled>>,
    /// Whether its consensus was not at hand, and the median stands for it.
    pub draft: bool,
    pub agreement: Mutex<Option<AgreementFact>>,
    /// Its patches; held while they are being fitted.
    patched: Mutex<Option<Fitted>>,
}

impl Opened {
    /// Calls `f` with the scene, which has no patches.
    pub(crate) fn with<T>(&self, f: impl FnOnce(&Scene<'_>) -> T) -> T {
        self.scene(&[], &[], f)
    }

    /// The same to be rendered without patches.
    pub(crate) fn bare(self: &Arc<Self>) -> Loaded {
        Loaded::new(self.clone(), Fitted::default())
    }

    fn scene<T>(
        &self,
        patches: &[PlacedPatch],
        touches: &[PlacedTouch],
        f: impl FnOnce(&Scene<'_>) -> T,
    ) -> T {
        let touches: Vec<&dyn Stage> = touches.iter().map(|t| t as &dyn Stage).collect();
        f(&Scene {
            label_map: self.decision.as_ref().map(|decision| &decision.label_map),
            patches,
            touches: &touches,
            name: &self.keys.bare,
            ..Scene::new(&self.recipe, &self.plan, &open(&self.sources))
        })
    }

    /// Whether nothing lies over its combined frames.
    fn is_bare(&self) -> bool {
        self.recipe.patches.is_empty() && self.recipe.touches.is_empty()
    }

    /// The index of a frame.
    pub(crate) fn index(&self, frame: FrameId) -> Result<usize, StudioError> {
        let found = self.places.get(&frame).copied();
        found.ok_or_else(|| StudioError::NotFound(format!("there is no frame {} in this set", frame.0)))
    }

    /// The identities of frames.
    pub(crate) fn ids(&self, indices: &[usize]) -> Vec<FrameId> {
        indices.iter().map(|&i| self.frames[i]).collect()
    }

    pub(crate) fn canvas_info(&self) -> CanvasInfo {
        let c = self.with(|s| s.canvas());
        let levels = (0..)
            .find(|&k| {
                let s = c.size().at_level(k);
                s.width.max(s.height) <= 64
            })
            .unwrap_or(0)
            + 1;
        CanvasInfo { x: c.x, y: c.y, width: c.width, height: c.height, levels, tile: TILE }
    }
}

/// An opened set whose patches are fitted, ready to be rendered.
#[derive(Clone)]
pub(crate) struct Loaded {
    opened: Arc<Opened>,
    /// In the order in which they lie.
    pub patches: Arc<Vec<PlacedPatch>>,
    /// The same.
    pub touches: Arc<Vec<PlacedTouch>>,
}

impl Deref for Loaded {
    type Target = Opened;

    fn deref(&self) -> &Opened {
        &self.opened
    }
}

impl Loaded {
    fn new(opened: Arc<Opened>, fitted: Fitted) -> Self {
        let Fitted { patches, touches } = fitted;
        Self { opened, patches, touches }
    }

    /// Calls `f` with the scene as it lies below a touch of the list; all of it beyond its end.
    pub(crate) fn below<T>(&self, touch: usize, f: impl FnOnce(&Scene<'_>) -> T) -> T {
        let count = self.touches.partition_point(|t| t.index < touch);
        self.opened.scene(&self.patches, &self.touches[..count], f)
    }

    /// Calls `f` with the scene.
    pub(crate) fn with<T>(&self, f: impl FnOnce(&Scene<'_>) -> T) -> T {
        self.opened.scene(&self.patches, &self.touches, f)
    }
}

fn open(sources: &[Arc<Pyramid>]) -> Vec<&dyn FrameSource> {
    sources.iter().map(|s| &**s as &dyn FrameSource).collect()
}

/// What a consensus decided; `None` when no frame takes part.
pub(crate) type Decided = Option<Arc<Decision>>;

/// A set that is shown without its consensus, once its plan is there; and which of those who decide it goes last.
pub(crate) struct Draft {
    turn: u64,
    shown: Option<Arc<Opened>>,
}

impl Draft {
    /// What is shown, once it is known.
    pub(super) fn shown(&self) -> Option<Arc<Opened>> {
        self.shown.clone()
    }
}

/// A set is shown without its consensus as long as this lives, or one that was made later, whatever happens.
pub(crate) struct Drafting {
    scenes: Scenes,
    set: i64,
    turn: u64,
}

impl Drop for Drafting {
    fn drop(&mut self) {
        let mut drafts = lock(&self.scenes.0.drafts);
        if drafts.get(&self.set).is_some_and(|d| d.turn == self.turn) {
            drafts.remove(&self.set);
        }
    }
}

impl Scenes {
    /// The set as it stands, ready to be rendered; an error when its plan is not there yet.
    pub(crate) fn loaded(&self, set: i64) -> Result<Loaded, StudioError> {
        self.patched(&self.opened(set)?)
    }

    /// The set as it stands, whatever its patches look like.
    pub(super) fn opened(&self, set: i64) -> Result<Arc<Opened>, StudioError> {
        if let Some(opened) = lock(&self.0.opened).get(&set) {
            return Ok(opened.clone());
        }
        loop {
            let stored = self.0.sets.in_force(set)?.recipe;
            let opened = self.open_set(set, &stored, false)?;
            if self.keep(set, &stored, &opened)? {
                return Ok(opened);
            }
        }
    }

    /// Keeps a set as it stands, unless its recipe has changed meanwhile.
    fn keep(&self, set: i64, stored: &Recipe<FrameId>, opened: &Arc<Opened>) -> Result<bool, StudioError> {
        // Looked at under the lock: whoever changes the recipe takes what is kept out after that.
        let mut all = lock(&self.0.opened);
        let current = self.0.sets.in_force(set)?.recipe == *stored;
        if current {
            all.insert(set, opened.clone());
        }
        Ok(current)
    }

    /// Whether this is how its set stands.
    pub(super) fn shows(&self, loaded: &Loaded) -> bool {
        lock(&self.0.opened).get(&loaded.set).is_some_and(|o| Arc::ptr_eq(o, &loaded.opened))
    }

    /// Opens a set anew when it is next asked for.
    pub(crate) fn close(&self, set: i64) {
        lock(&self.0.opened).remove(&set);
    }

    /// The same, also when it was shown as a draft.
    pub(crate) fn forget(&self, set: i64) {
        self.close(set);
        lock(&self.0.drafts).remove(&set);
    }

    /// The same with its patches fitted; who asks while that is being done waits for it.
    pub(super) fn patched(&self, opened: &Arc<Opened>) -> Result<Loaded, StudioError> {
        let mut patched = lock(&opened.patched);
        let fitted = match &*patched {
            Some(fitted) => fitted.clone(),
            None if opened.is_bare() => Fitted::default(),
            None => {
                let fit = |scene: &Scene<'_>, patch: &Patch| self.fitted(opened, scene, patch);
                let patches = opened.with(|scene| evanu_core::prepare::place_patches(scene, fit))?;
                let place = |scene: &Scene<'_>| evanu_core::prepare::place_touches(scene, &self.keeping());
                let touches = opened.scene(&patches, &[], place)?;
                patched.insert(Fitted { patches: Arc::new(patches), touches: Arc::new(touches) }).clone()
            }
        };
        Ok(Loaded::new(opened.clone(), fitted))
    }

    /// The same when nobody has to wait for it.
    pub(super) fn at_hand(&self, opened: &Arc<Opened>) -> Option<Loaded> {
        let patched = match opened.patched.try_lock() {
            Ok(patched) => patched.clone(),
            Err(TryLockError::Poisoned(patched)) => patched.into_inner().clone(),
            Err(TryLockError::WouldBlock) => None,
        };
        let fitted = patched.or_else(|| opened.is_bare().then(Fitted::default))?;
        Some(Loaded::new(opened.clone(), fitted))
    }

    /// Opens a set with a recipe. When it has to be `quick`, a consensus that is not at hand is not decided: the median
    /// stands for it.
    pub(super) fn open_set(
        &self,
        set: i64,
        stored: &Recipe<FrameId>,
        quick: bool,
    ) -> Result<Arc<Opened>, StudioError> {
        let rows = self.0.sets.joined(set)?;
        let key = plan_key(&rows, stored);
        let text = self
            .0
            .sets
            .plan(set, &key)?
            .ok_or_else(|| StudioError::Conflict("the frames are still being read and aligned".into()))?;
        self.open_by(set, stored, &rows, (&key, serde_json::from_str(&text)?), quick)
    }

    /// The same by a plan, which has a key.
    fn open_by(
        &self,
        set: i64,
        stored: &Recipe<FrameId>,
        rows: &[FrameRow],
        (key, mut plan): (&str, Plan),
        quick: bool,
    ) -> Result<Arc<Opened>, StudioError> {
        let sources = rows.iter().map(|r| self.0.assets.pyramid(r)).collect::<Result<Vec<_>, _>>()?;
        let frames: Vec<FrameId> = rows.iter().map(|r| r.id).collect();
        let mut recipe = stored.at_hand(&frames);
        if !recipe.manual_alignments.is_empty() {
            evanu_core::prepare::lay_by_hand(&mut plan, &recipe, &open(&sources))?;
        }
        let name = Keys::of(key, &recipe)?.decision;
        let draft = quick && !self.0.decided.contains_key(&name);
        let mut decision = None;
        if draft {
            if recipe.method == Method::Consensus {
                recipe.method = Method::Median;
            }
            recipe.patches.retain(|l| l.source != Source::Method(Method::Consensus));
        } else {
            decision = self.decision(&name, &plan, &recipe, &sources)?;
        }
        let settled = decision.as_mut().map_or_else(Vec::new, |d| evanu_core::prepare::settle(d, &recipe));
        Ok(Arc::new(Opened {
            set,
            places: frames.iter().copied().zip(0..).collect(),
            frames,
            // Of a draft as it is shown: its pixels are others.
            keys: Keys::of(key, &recipe)?,
            recipe,
            plan: Arc::new(plan),
            decision,
            sources,
            settled,
            draft,
            agreement: Mutex::new(None),
            patched: Mutex::new(None),
        }))
    }

    /// The set as it can be shown at once: while its consensus is being decided, with the median in its place.
    pub(crate) fn shown(&self, set: i64) -> Result<Arc<Opened>, StudioError> {
        let shown = lock(&self.0.drafts).get(&set).map(Draft::shown);
        match shown {
            None => self.opened(set),
            Some(Some(draft)) => Ok(draft),
            Some(None) => self.open_set(set, &self.0.sets.in_force(set)?.recipe, true),
        }
    }

    /// From now until what this gives is dropped, a set is shown without its consensus, as `shown` once it is known.
    pub(crate) fn drafting(&self, set: i64, shown: Option<Arc<Opened>>) -> Drafting {
        /// Never counted twice, so that what is dropped late takes no newer draft with it.
        static TURNS: AtomicU64 = AtomicU64::new(0);
        let turn = TURNS.fetch_add(1, Ordering::Relaxed);
        if let Some(draft) = &shown {
            // Its tiles may be asked for a little longer than it is shown.
            self.0.states.insert(draft.keys.plate.clone(), draft.clone());
        }
        lock(&self.0.drafts).insert(set, Draft { turn, shown });
        Drafting { scenes: self.clone(), set, turn }
    }

    /// Shows a set by a plan that is not exact yet, until what this gives is dropped.
    pub(crate) fn show_early(
        &self,
        set: i64,
        stored: &Recipe<FrameId>,
        rows: &[FrameRow],
        plan: Plan,
    ) -> Result<Drafting, StudioError> {
        let key = format!("{} early", plan_key(rows, stored));
        let draft = self.open_by(set, stored, rows, (&key, plan), true)?;
        let drafting = self.drafting(set, Some(draft));
        self.0.store.tell(Event::Set { id: set });
        Ok(drafting)
    }

    /// Decides the consensus of a set; meanwhile it is shown without.
    pub(crate) fn decide(&self, set: i64) -> Result<(), StudioError> {
        let draft = self.open_set(set, &self.0.sets.in_force(set)?.recipe, true)?;
        let _drafting = self.drafting(set, Some(draft));
        self.0.store.tell(Event::Set { id: set });
        self.agreement(set)?;
        Ok(())
    }

    /// After a set's recipe has changed, while some tiles of its plate are looked at: what is at hand is shown, and what takes long is begun.
    pub(crate) fn reopen(&self, set: i64, looking: &[Spot]) -> Result<(), StudioError> {
        self.close(set);
        let stored = self.0.sets.in_force(set)?.recipe;
        if self.0.sets.joined_ids(set)?.is_empty() {
            return Ok(());
        }
        let Ok(opened) = self.open_set(set, &stored, true) else {
            lock(&self.0.drafts).remove(&set);
            self.0.queue.enqueue(set, RunKind::Prepare, "{}")?;
            return Ok(());
        };
        let drafting = opened.draft.then(|| self.drafting(set, Some(opened.clone())));
        if drafting.is_none() {
            lock(&self.0.drafts).remove(&set);
            self.keep(set, &stored, &opened)?;
        }
        let draft = drafting.is_some();
        let (scenes, looking, (fitted, ready)) = (self.clone(), looking.to_vec(), mpsc::channel());
        let work = move || -> Result<(), StudioError> {
            let Some(drafting) = drafting else {
                let loaded = scenes.patched(&opened)?;
                let _nobody_waits = fitted.send(());
                scenes.look_ahead(&loaded, &looking);
                return Ok(());
            };
            // One after another: what was changed again meanwhile is not decided.
            let _turn = lock(&scenes.0.deciding);
            let weighed = scenes.opened(set).map(|_| ());
            // Also told when it could not be done: the page must not wait for ever.
            drop(drafting);
            scenes.0.store.tell(Event::Set { id: set });
            weighed
        };
        // On a thread of its own: those of the pools must not wait for what others of theirs are at.
        std::thread::spawn(move || {
            if let Err(e) = work() {
                tracing::warn!("set {set} cannot be shown: {e}");
            }
        });
        if !draft {
            let _in_time = ready.recv_timeout(FITTED);
        }
        Ok(())
    }

    /// Decides the consensus, or takes what was decided for the same frames before; who asks while it is being decided waits
    /// for it.
    fn decision(
        &self,
        key: &str,
        plan: &Plan,
        recipe: &Recipe,
        sources: &[Arc<Pyramid>],
    ) -> Result<Decided, StudioError> {
        let decide = || evanu_core::prepare::decide(&Scene::new(recipe, plan, &open(sources)));
        let decided = self.0.decided.try_get_with_by_ref(key, || -> Result<Decided, StudioError> {
            match self.0.assets.background().install(decide) {
                Err(RenderError::NoFrames) => Ok(None),
                decided => Ok(Some(Arc::new(decided?))),
            }
        });
        decided.map_err(StudioError::shared)
    }
}
