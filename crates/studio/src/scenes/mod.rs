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
mod touches;
mod views;

use crate::assets::Assets;
use crate::queue::Queue;
use crate::sets::Sets;
use crate::store::Store;
pub use doubts::Evidence;
use evanu_core::patch::FittedPatch;
use evanu_core::patch::seams::Seam;
use evanu_core::prepare::Variants;
use evanu_core::recipe::MOST_PATCHES;
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
    /// The variants of touches as they were last made.
    made: Cache<String, Variants>,
    /// Inventions that are being tried, by set.
    trying: Mutex<HashMap<i64, Arc<touches::Trying>>>,
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

/// About as much as a fitted patch takes: its weights, and as much again where it has sheets and labels.
fn bytes_of_fit(fit: &Option<Arc<FittedPatch>>) -> u64 {
    /// Of its name and what was noticed.
    const FEW: u64 = 2048;
    fit.as_ref().map_or(FEW, |fit| FEW + 8 * fit.mask.grid().rect.size().pixels())
}

/// About as much as the variants of a touch take.
fn bytes_of_variants(variants: &Variants) -> u64 {
    variants.bytes()
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
            fits: last_used_bytes(256 << 20, bytes_of_fit),
            made: last_used_bytes(384 << 20, bytes_of_variants),
            trying: Mutex::default(),
            seams: last_used(4 * MOST_PATCHES as u64),
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

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::geometry::{Point, Size};
    use evanu_core::patch::Noticed;
    use evanu_core::patch::mask::Mask;

    #[test]
    fn as_many_fits_are_kept_as_a_recipe_holds_patches() {
        let folder = tempfile::tempdir().unwrap();
        let fits = crate::Studio::open(folder.path()).unwrap().scenes.0.fits.clone();
        let corners = [(0.0, 0.0), (150.0, 0.0), (150.0, 150.0)].map(|(x, y)| Point::new(x, y));
        let mask = Mask::drawn(&corners, 4.0, 8.0, Size::new(4000, 3000)).unwrap();
        let fit = FittedPatch { mask, tone: None, back: None, together: None, noticed: Noticed::default() };
        let fit = Some(Arc::new(fit));
        // Looked for before, as who fits does: what is asked for seldom is let in last.
        for k in 0..MOST_PATCHES {
            let name = k.to_string();
            assert!(fits.get(&name).is_none());
            fits.insert(name, fit.clone());
        }
        fits.run_pending_tasks();
        assert!((0..MOST_PATCHES).all(|k| fits.contains_key(&k.to_string())));
    }
}
