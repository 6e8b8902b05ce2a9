//! Sets as pictures: opened with everything that is derived for them ([`opened`]), rendered ([`tiles`], [`views`]; small ones for
//! lists, [`covers`]), and told about
//! ([`detail`], [`doubts`], [`patches`]).

mod covers;
mod detail;
mod doubts;
mod findings;
pub(crate) mod keys;
mod opened;
mod patches;
mod tiles;
mod views;

use crate::assets::Assets;
use crate::queue::Queue;
use crate::sets::Sets;
use crate::store::Store;
pub use doubts::Evidence;
use evanu_core::patch::FittedPatch;
use evanu_core::patch::seams::Seam;
use evanu_core::render::Aligned;
use moka::policy::EvictionPolicy;
use moka::sync::Cache;
pub use opened::TILE;
use opened::{Decided, Draft, Opened};
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
pub use views::Pixels;

/// Scenes of sets. Cheap to clone.
#[derive(Clone)]
pub struct Scenes(Arc<Inner>);

struct Inner {
    store: Arc<Store>,
    sets: Sets,
    queue: Queue,
    assets: Assets,
    /// Sets as they stand.
    opened: Mutex<HashMap<i64, Arc<Opened>>>,
    /// Sets whose consensus is being decided, as they are shown meanwhile; nothing yet while the plan is on its way.
    drafts: Mutex<HashMap<i64, Draft>>,
    /// Small pictures that are to be made.
    covers: Mutex<covers::Wanted>,
    /// Held by who decides after a change.
    deciding: Mutex<()>,
    /// What the consensus decided, for the states last looked at.
    decided: Cache<String, Decided>,
    /// States of the history that are looked at, by their plate's key.
    states: Cache<String, Arc<Opened>>,
    /// Patches as they were last fitted; `None` where one covers nothing.
    fits: Cache<String, Option<Arc<FittedPatch>>>,
    /// Where patches can be seen, by what reaches them, purpose and patch.
    seams: Cache<String, Vec<Seam>>,
    /// Encoded tiles.
    tiles: Cache<String, Arc<Vec<u8>>>,
    /// Aligned samples of the tiles last looked at, so that a change of method shows at once.
    aligned: Cache<String, Arc<Aligned>>,
}

/// A cache of the entries last used, at most so many.
fn last_used<V: Clone + Send + Sync + 'static>(most: u64) -> Cache<String, V> {
    Cache::builder().max_capacity(most).eviction_policy(EvictionPolicy::lru()).build()
}

/// The same bounded in bytes.
fn last_used_bytes<V: Clone + Send + Sync + 'static>(
    most: u64,
    bytes: impl Fn(&V) -> u64 + Send + Sync + 'static,
) -> Cache<String, V> {
    let weight = move |_: &String, value: &V| u32::try_from(bytes(value)).unwrap_or(u32::MAX);
    Cache::builder().max_capacity(most).weigher(weight).eviction_policy(EvictionPolicy::lru()).build()
}

impl Scenes {
    pub(crate) fn new(store: Arc<Store>, sets: Sets, queue: Queue, assets: Assets) -> Self {
        Self(Arc::new(Inner {
            store,
            sets,
            queue,
            assets,
            opened: Mutex::default(),
            drafts: Mutex::default(),
            covers: Mutex::default(),
            deciding: Mutex::default(),
            decided: last_used(6),
            states: last_used(4),
            fits: last_used(200),
            seams: last_used(400),
            tiles: last_used_bytes(128 << 20, |bytes: &Arc<Vec<u8>>| bytes.len() as u64),
            aligned: last_used_bytes(288 << 20, |aligned: &Arc<Aligned>| aligned.bytes),
        }))
    }

    /// Opens a state to be looked at; the set stays where it is. Gives the key that its tiles are asked for by.
    ///
    /// # Errors
    /// When there is no such state, or its frames were aligned otherwise than any plan that is there.
    pub fn state_key(&self, set: i64, seq: i64) -> Result<crate::model::StateKey, crate::StudioError> {
        self.0.sets.check(set)?;
        let recipe = self.0.sets.recipe_at(set, seq)?;
        let opened = self.open_set(set, &recipe, false)?;
        self.0.states.insert(opened.keys.plate.clone(), opened.clone());
        Ok(crate::model::StateKey { plate_key: opened.keys.plate.clone(), canvas: opened.canvas_info() })
    }
}
