//! A part of the plate that is looked at: its samples are kept, so that a change of method or one more lift shows at once.

use super::stack::{Plate, Stack, Way, encoded};
use super::{RenderError, Scene, View, blocks, end, join, rows_of};
use crate::composite::Laid;
use crate::geometry::Rect;
use crate::pixel::Raster;
use rayon::prelude::*;
use std::sync::{Mutex, PoisonError};

/// Aligned samples of a region, kept so that another method needs no resampling.
pub struct Aligned {
    region: Rect,
    level: u32,
    blocks: Vec<Rect>,
    stacks: Vec<Stack>,
    last: Mutex<Option<Last>>,
    /// Memory that the samples and the plate take, in bytes.
    pub bytes: u64,
}

/// The plate as it was combined last, so that one more lift is laid over it and nothing else is done again.
struct Last {
    /// What the plate without lifts depends on.
    base: String,
    /// The lifts that reach the region, in order: key and strength.
    lifts: Vec<(u64, u32)>,
    plates: Vec<Plate>,
}

impl Aligned {
    /// The plate of a scene with the same frames, by a view's method: the same pixels as [`Scene::render`] gives.
    ///
    /// `base` names everything that the plate without lifts depends on: from one call to the next only lifts that are new on
    /// top of the same others are laid.
    ///
    /// # Errors
    /// When a frame that only a lift needs cannot be read, or the consensus has not been decided.
    pub fn combined(&self, scene: &Scene<'_>, view: View, base: &str) -> Result<Raster, RenderError> {
        let (way, tables) = (scene.way(view)?, scene.tables(view));
        let place = scene.corner(self.region, self.level);
        let (from, to) = (place.0, end(self.region.size(), place));
        let lifts: Vec<Laid> = way.lifts.iter().filter(|l| l.fit.mask.touches(from, to)).cloned().collect();
        let keys: Vec<(u64, u32)> = lifts.iter().map(|l| (l.key, l.strength.to_bits())).collect();
        // Another method, looked at in between, leaves the plate as it is.
        let keeps = view == View::Plate;
        let hold = || self.last.lock().unwrap_or_else(PoisonError::into_inner);
        let last = if keeps { hold().take() } else { None };
        let last = last.filter(|l| l.base == base && keys.starts_with(&l.lifts));
        let begun = last.as_ref().map_or(0, |l| l.lifts.len());
        let bare = || self.stacks.par_iter().map(|s| s.bare(way)).collect();
        let mut plates: Vec<Plate> = last.map_or_else(bare, |l| l.plates);
        let way = Way { lifts: &lifts[begun..], ..way };
        let part = |(s, plate): (&Stack, &mut Plate)| {
            s.lay_all(plate, way, &scene.extras(way.lifts, s, self.level)?);
            Ok(encoded(s.block().size(), plate, &tables))
        };
        let parts: Vec<Raster> =
            self.stacks.par_iter().zip(&mut plates).map(part).collect::<Result<_, RenderError>>()?;
        if keeps {
            *hold() = Some(Last { base: base.to_owned(), lifts: keys, plates });
        }
        Ok(join(self.region, &self.blocks, &parts))
    }
}

impl Scene<'_> {
    /// The aligned samples of the used frames over `region` of the plate: what every method starts from.
    ///
    /// Takes six bytes a pixel and frame, six more for the plate that is kept, and four for its detail; for parts of the picture, such as a tile of the screen.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn aligned(&self, region: Rect, level: u32) -> Result<Aligned, RenderError> {
        let region = region.intersect(self.size(View::Plate).at_level(level).rect());
        let frames = self.used();
        if frames.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let blocks = blocks(region, rows_of(frames.len()));
        let stack = |&block: &Rect| self.stack(View::Plate, &frames, block, level);
        let stacks = blocks.par_iter().map(stack).collect::<Result<_, _>>()?;
        // One more for the plate as it was combined last, and its detail.
        let bytes = region.size().pixels() * (6 * (frames.len() as u64 + 1) + 4);
        Ok(Aligned { region, level, blocks, stacks, last: Mutex::default(), bytes })
    }
}
