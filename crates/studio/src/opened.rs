//! Sets as they are opened: recipe, plan and frames together, their consensus decided and their lifts fitted.
//!
//! What takes long is not waited for where it need not be: a set whose consensus is not at hand is shown as a draft, by the
//! median, until it is decided; and its lifts are fitted when pixels are asked for, or beside the answer to a change.

use crate::error::StudioError;
use crate::model::{AgreementFact, CanvasInfo, Event, FrameRow, Spot};
use crate::prepare::plan_key;
use crate::tiles::{KeptTiles, TILE};
use crate::{Method, Recipe, Studio, lock};
use evanu_core::combine::consensus::Choice;
use evanu_core::composite::{Fitted, Lift, Source};
use evanu_core::evidence::doubts::Doubt;
use evanu_core::evidence::moving::Moving;
use evanu_core::pixel::FrameSource;
use evanu_core::plan::Plan;
use evanu_core::recipe::{Canvas, Settled};
use evanu_core::render::{RenderError, Scene};
use evanu_media::{CameraData, TiledFrame};
use std::ops::Deref;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, TryLockError, mpsc};
use std::time::Duration;

/// How long the answer to a change waits for lifts that are being fitted, so that it can tell which tiles they change.
const FITTED: Duration = Duration::from_millis(200);

/// A set that is opened: everything about it but how its lifts fit.
pub(crate) struct Opened {
    pub set: i64,
    pub recipe: Recipe,
    /// Without lifts.
    pub plan: Arc<Plan>,
    pub sources: Vec<Arc<TiledFrame>>,
    pub cameras: Vec<CameraData>,
    /// Changes whenever the plate does.
    pub plate_key: String,
    /// Changes whenever frames look otherwise.
    pub frame_key: String,
    /// Changes whenever aligned samples do; development lies on top of them.
    pub stack_key: String,
    /// Changes whenever the plate without lifts does.
    pub bare_key: String,
    /// Changes whenever what lifts are fitted to does.
    pub lift_state: String,
    /// For each of the plan's doubts, how it was settled.
    pub settled: Vec<Option<Settled>>,
    /// Whether its consensus was not at hand, and the median stands for it.
    pub draft: bool,
    pub agreement: Mutex<Option<AgreementFact>>,
    /// The plan with its lifts; held while they are being fitted.
    lifted: Mutex<Option<Arc<Plan>>>,
}

impl Opened {
    /// Calls `f` with the scene, which has no lifts.
    pub fn with<T>(&self, f: impl FnOnce(&Scene<'_>) -> T) -> T {
        self.scene(&self.plan, f)
    }

    /// The same to be rendered without lifts.
    pub fn bare(self: &Arc<Self>) -> Loaded {
        Loaded { opened: self.clone(), plan: self.plan.clone() }
    }

    fn scene<T>(&self, plan: &Plan, f: impl FnOnce(&Scene<'_>) -> T) -> T {
        f(&Scene::new(&self.recipe, plan, &open(&self.sources)))
    }

    pub fn canvas_info(&self) -> CanvasInfo {
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

/// An opened set whose lifts are fitted, ready to be rendered.
#[derive(Clone)]
pub(crate) struct Loaded {
    opened: Arc<Opened>,
    pub plan: Arc<Plan>,
}

impl Deref for Loaded {
    type Target = Opened;

    fn deref(&self) -> &Opened {
        &self.opened
    }
}

impl Loaded {
    /// Calls `f` with the scene.
    pub fn with<T>(&self, f: impl FnOnce(&Scene<'_>) -> T) -> T {
        self.opened.scene(&self.plan, f)
    }
}

fn open(sources: &[Arc<TiledFrame>]) -> Vec<&dyn FrameSource> {
    sources.iter().map(|s| &**s as &dyn FrameSource).collect()
}

/// A choice, its doubts, and the areas that move.
type Chosen = (Arc<Choice>, Arc<Vec<Doubt>>, Arc<Vec<Moving>>);

/// The same, when it is decided.
pub(crate) type Deciding = Arc<Mutex<Option<Chosen>>>;

/// A set that is shown without its consensus, once its plan is there; and which of those who decide it goes last.
pub(crate) struct Draft {
    turn: u64,
    shown: Option<Arc<Opened>>,
}

/// A set is shown without its consensus as long as this lives, or one that was made later, whatever happens.
pub(crate) struct Drafting {
    studio: Studio,
    set: i64,
    turn: u64,
}

impl Drop for Drafting {
    fn drop(&mut self) {
        let mut drafts = lock(&self.studio.0.drafts);
        if drafts.get(&self.set).is_some_and(|d| d.turn == self.turn) {
            drafts.remove(&self.set);
        }
    }
}

impl Studio {
    /// The set as it stands, ready to be rendered; an error when its plan is not there yet.
    pub(crate) fn loaded(&self, set: i64) -> Result<Loaded, StudioError> {
        self.lifted(&self.opened(set)?)
    }

    /// The set as it stands, whatever its lifts look like.
    fn opened(&self, set: i64) -> Result<Arc<Opened>, StudioError> {
        if let Some(opened) = lock(&self.0.opened).get(&set) {
            return Ok(opened.clone());
        }
        loop {
            let recipe = self.recipe(set)?;
            let opened = self.open_set(set, recipe.clone(), false)?;
            if self.keep(set, &recipe, &opened)? {
                return Ok(opened);
            }
        }
    }

    /// Keeps a set as it stands, unless its recipe has changed meanwhile.
    fn keep(&self, set: i64, recipe: &Recipe, opened: &Arc<Opened>) -> Result<bool, StudioError> {
        // Looked at under the lock: whoever changes the recipe takes what is kept out after that.
        let mut all = lock(&self.0.opened);
        let current = self.recipe(set)? == *recipe;
        if current {
            all.insert(set, opened.clone());
        }
        Ok(current)
    }

    /// Whether this is how its set stands.
    pub(crate) fn shows(&self, loaded: &Loaded) -> bool {
        lock(&self.0.opened).get(&loaded.set).is_some_and(|o| Arc::ptr_eq(o, &loaded.opened))
    }

    /// The same with its lifts fitted; who asks while that is being done waits for it.
    pub(crate) fn lifted(&self, opened: &Arc<Opened>) -> Result<Loaded, StudioError> {
        let mut lifted = lock(&opened.lifted);
        let plan = match &*lifted {
            Some(plan) => plan.clone(),
            None if opened.recipe.lifts.is_empty() => opened.plan.clone(),
            None => {
                let mut plan = (*opened.plan).clone();
                self.lift(&mut plan, opened)?;
                lifted.insert(Arc::new(plan)).clone()
            }
        };
        Ok(Loaded { opened: opened.clone(), plan })
    }

    /// The same when nobody has to wait for it.
    pub(crate) fn at_hand(&self, opened: &Arc<Opened>) -> Option<Loaded> {
        let lifted = match opened.lifted.try_lock() {
            Ok(lifted) => lifted.clone(),
            Err(TryLockError::Poisoned(lifted)) => lifted.into_inner().clone(),
            Err(TryLockError::WouldBlock) => None,
        };
        let plan = lifted.or_else(|| opened.recipe.lifts.is_empty().then(|| opened.plan.clone()))?;
        Some(Loaded { opened: opened.clone(), plan })
    }

    /// Opens a set with a recipe. When it has to be `quick`, a consensus that is not at hand is not decided: the median
    /// stands for it.
    pub(crate) fn open_set(&self, set: i64, recipe: Recipe, quick: bool) -> Result<Arc<Opened>, StudioError> {
        let rows = self.placed(set)?;
        let key = plan_key(&rows, &recipe);
        let text = self
            .plan_text(set, &key)?
            .ok_or_else(|| StudioError::Conflict("the frames are still being read and aligned".into()))?;
        self.open_by(set, recipe, &rows, (&key, serde_json::from_str(&text)?), quick)
    }

    /// The same by a plan, which has a key.
    fn open_by(
        &self,
        set: i64,
        mut recipe: Recipe,
        rows: &[FrameRow],
        (key, mut plan): (&str, Plan),
        quick: bool,
    ) -> Result<Arc<Opened>, StudioError> {
        let sources = rows.iter().map(|r| self.pyramid(r)).collect::<Result<Vec<_>, _>>()?;
        if !recipe.hands.is_empty() {
            evanu_core::prepare::lay_by_hand(&mut plan, &recipe, &open(&sources))?;
        }
        let hash = |text: String| blake3::hash(text.as_bytes()).to_hex()[..16].to_owned();
        let state = format!("{set} {key} {:?} {:?} {:?}", recipe.hands, recipe.used, recipe.match_exposure);
        let draft = quick && !self.is_decided(&state);
        if draft {
            if recipe.method == Method::Consensus {
                recipe.method = Method::Median;
            }
            recipe.lifts.retain(|l| l.source != Source::Method(Method::Consensus));
        } else {
            self.choose(&state, &mut plan, &recipe, &sources)?;
        }
        let settled = evanu_core::prepare::settle(&mut plan, &recipe);
        let lift_state = format!("{state} {} {:?} {:?}", recipe.method, recipe.settled, recipe.keeps);
        // The common area follows the frames in use, so its frames' tiles do too.
        let common = (recipe.canvas == Canvas::Common).then_some(&recipe.used);
        let stack_key = hash(format!(
            "{key} {:?} {:?} {:?} {common:?}",
            recipe.match_exposure, recipe.canvas, recipe.hands
        ));
        let frame_key = hash(format!("{stack_key} {:?}", recipe.develop));
        let bare_key = hash(format!(
            "{frame_key} {:?} {} {:?} {:?}",
            recipe.used, recipe.method, recipe.settled, recipe.keeps
        ));
        let plate_key = hash(format!("{bare_key} {:?}", recipe.lifts));
        let cameras = rows.iter().map(|r| r.camera.clone()).collect();
        Ok(Arc::new(Opened {
            set,
            recipe,
            plan: Arc::new(plan),
            sources,
            cameras,
            plate_key,
            frame_key,
            stack_key,
            bare_key,
            lift_state,
            settled,
            draft,
            agreement: Mutex::new(None),
            lifted: Mutex::new(None),
        }))
    }

    /// The set as it can be shown at once: while its consensus is being decided, with the median in its place.
    pub(crate) fn shown(&self, set: i64) -> Result<Arc<Opened>, StudioError> {
        let shown = lock(&self.0.drafts).get(&set).map(|d| d.shown.clone());
        match shown {
            None => self.opened(set),
            Some(Some(draft)) => Ok(draft),
            Some(None) => self.open_set(set, self.recipe(set)?, true),
        }
    }

    /// From now until what this gives is dropped, a set is shown without its consensus, as `shown` once it is known.
    pub(crate) fn drafting(&self, set: i64, shown: Option<Arc<Opened>>) -> Drafting {
        /// Never counted twice, so that what is dropped late takes no newer draft with it.
        static TURNS: AtomicU64 = AtomicU64::new(0);
        let turn = TURNS.fetch_add(1, Ordering::Relaxed);
        if let Some(draft) = &shown {
            // Its tiles may be asked for a little longer than it is shown.
            lock(&self.0.states).put(draft.plate_key.clone(), draft.clone());
        }
        lock(&self.0.drafts).insert(set, Draft { turn, shown });
        Drafting { studio: self.clone(), set, turn }
    }

    /// Shows a set by a plan that is not exact yet, until what this gives is dropped.
    pub(crate) fn show_early(
        &self,
        set: i64,
        recipe: &Recipe,
        rows: &[FrameRow],
        plan: Plan,
    ) -> Result<Drafting, StudioError> {
        let key = format!("{} early", plan_key(rows, recipe));
        let draft = self.open_by(set, recipe.clone(), rows, (&key, plan), true)?;
        let drafting = self.drafting(set, Some(draft));
        self.tell(Event::Set { id: set });
        Ok(drafting)
    }

    /// Decides the consensus of a set; meanwhile it is shown without.
    pub(crate) fn decide(&self, set: i64) -> Result<(), StudioError> {
        let draft = self.open_set(set, self.recipe(set)?, true)?;
        let _drafting = self.drafting(set, Some(draft));
        self.tell(Event::Set { id: set });
        self.agreement(set)?;
        Ok(())
    }

    /// After a set's recipe has changed, while some tiles of its plate are looked at: what is at hand is shown, and what takes long is begun.
    pub(crate) fn reopen(&self, set: i64, looking: &[Spot]) -> Result<(), StudioError> {
        lock(&self.0.opened).remove(&set);
        let recipe = self.recipe(set)?;
        if recipe.used.is_empty() {
            return Ok(());
        }
        let Ok(opened) = self.open_set(set, recipe.clone(), true) else {
            lock(&self.0.drafts).remove(&set);
            self.enqueue(set, crate::RunKind::Prepare, "{}")?;
            return Ok(());
        };
        let drafting = opened.draft.then(|| self.drafting(set, Some(opened.clone())));
        if drafting.is_none() {
            lock(&self.0.drafts).remove(&set);
            self.keep(set, &recipe, &opened)?;
        }
        let draft = drafting.is_some();
        let (studio, looking, (fitted, ready)) = (self.clone(), looking.to_vec(), mpsc::channel());
        let work = move || -> Result<(), StudioError> {
            let Some(drafting) = drafting else {
                let loaded = studio.lifted(&opened)?;
                let _nobody_waits = fitted.send(());
                studio.look_ahead(&loaded, &looking);
                return Ok(());
            };
            // One after another: what was changed again meanwhile is not decided.
            let _turn = lock(&studio.0.deciding);
            let weighed = studio.opened(set).map(|_| ());
            // Also told when it could not be done: the page must not wait for ever.
            drop(drafting);
            studio.tell(Event::Set { id: set });
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

    fn is_decided(&self, state: &str) -> bool {
        let deciding = lock(&self.0.chosen).peek(state).cloned();
        deciding.is_some_and(|d| d.try_lock().is_ok_and(|decided| decided.is_some()))
    }

    /// Decides the consensus, or takes what was decided for the same frames before.
    fn choose(
        &self,
        state: &str,
        plan: &mut Plan,
        recipe: &Recipe,
        sources: &[Arc<TiledFrame>],
    ) -> Result<(), StudioError> {
        let deciding = lock(&self.0.chosen).get_or_insert(state.to_owned(), Deciding::default).clone();
        // Held to the end: who asks for the same meanwhile waits for it.
        let mut decided = lock(&deciding);
        if let Some((choice, doubts, moving)) = &*decided {
            (plan.choice, plan.doubts, plan.moving) = (Some(choice.clone()), doubts.clone(), moving.clone());
            return Ok(());
        }
        match self.0.behind.install(|| evanu_core::prepare::choose(plan, recipe, &open(sources))) {
            Err(RenderError::NoFrames) => return Ok(()),
            other => other?,
        }
        if let Some(choice) = &plan.choice {
            *decided = Some((choice.clone(), plan.doubts.clone(), plan.moving.clone()));
        }
        Ok(())
    }

    /// Makes the recipe's lifts ready.
    fn lift(&self, plan: &mut Plan, opened: &Opened) -> Result<(), RenderError> {
        let (recipe, open) = (&opened.recipe, open(&opened.sources));
        evanu_core::prepare::lift(plan, recipe, |plan, lift| {
            self.fitted(opened, &Scene::new(recipe, plan, &open), lift)
        })
    }

    /// A lift fitted to the plate of a scene, or what is kept of that.
    pub(crate) fn fitted(
        &self,
        opened: &Opened,
        scene: &Scene<'_>,
        lift: &Lift,
    ) -> Result<Option<Arc<Fitted>>, RenderError> {
        let name = format!(
            "{} {:x}",
            opened.lift_state,
            evanu_core::prepare::fit_key(scene.plan, scene.recipe, lift)
        );
        if let Some(fit) = lock(&self.0.fits).get(&name) {
            return Ok(fit.clone());
        }
        let scene = Scene { kept: Some(&KeptTiles { studio: self, opened }), ..*scene };
        let fit = evanu_core::prepare::fit(&scene, lift)?.map(Arc::new);
        lock(&self.0.fits).put(name, fit.clone());
        Ok(fit)
    }
}
