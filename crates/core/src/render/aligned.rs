//! A part of the plate that is looked at: its samples are kept, so that a change of method or one more patch shows at once, and
//! what is fitted there need not read the frames.

use super::stack::{Plate, Stack, Way, encoded};
use super::{RenderError, Scene, View, blocks, join, rows_of};
use crate::combine::consensus::LayerData;
use crate::geometry::{Point, Rect};
use crate::patch::PlacedPatch;
use crate::pixel::Raster;
use rayon::prelude::*;
use std::sync::{Arc, Mutex, PoisonError};

/// Aligned samples that are kept somewhere; the same that a scene would make from its frames.
pub trait Kept: Sync {
    /// Those of a frame over a block of the canvas, in pixels of a level; `None` where some are missing.
    fn layer(&self, frame: usize, block: Rect, level: u32) -> Option<LayerData>;

    /// Those of the plate with the patches that reach the block, which has these corners in the reference.
    fn plate(
        &self,
        patches: &[&PlacedPatch],
        block: Rect,
        level: u32,
        corners: (Point, Point),
    ) -> Option<LayerData>;
}

/// Aligned samples of a region, kept so that another method needs no resampling.
pub struct Aligned {
    region: Rect,
    level: u32,
    stacks: Vec<Stack>,
    last: Mutex<Option<Last>>,
    /// Memory that the samples and the plate take, in bytes.
    pub bytes: u64,
}

/// The plate as it was combined last, so that one more patch is laid over it and nothing else is done again.
struct Last {
    /// What the plate without patches depends on.
    base: String,
    /// The patches that reach the region, in order.
    patches: Vec<PlacedPatch>,
    plates: Vec<Plate>,
}

/// Whether these are the same patches, laid as strongly.
fn same<'a>(
    a: impl IntoIterator<Item = &'a PlacedPatch>,
    b: impl IntoIterator<Item = &'a PlacedPatch>,
) -> bool {
    let key = |l: &'a PlacedPatch| (l.key, l.strength.to_bits());
    a.into_iter().map(key).eq(b.into_iter().map(key))
}

/// Takes a part of a block's planes from those of another block.
fn paste(planes: &mut Plate, block: Rect, others: &Plate, theirs: Rect, part: Rect) {
    let width = part.width as usize;
    let at =
        |block: Rect, y: i64| (y - block.y) as usize * block.width as usize + (part.x - block.x) as usize;
    for y in part.y..part.bottom() {
        for (plane, other) in planes.iter_mut().zip(others) {
            plane[at(block, y)..][..width].copy_from_slice(&other[at(theirs, y)..][..width]);
        }
    }
}

impl Aligned {
    /// The samples of a frame over a block, put together from regions of the same level; `None` where some are missing.
    pub fn layer(regions: &[Arc<Self>], frame: usize, block: Rect) -> Option<LayerData> {
        let mut layer = empty(block);
        let mut found = 0;
        for stack in regions.iter().flat_map(|r| &r.stacks) {
            let (own, part) = (stack.block(), stack.block().intersect(block));
            if part.is_empty() {
                continue;
            }
            let frame = stack.layer(frame)?;
            paste(&mut layer.planes, block, &frame.planes, own, part);
            for y in part.y..part.bottom() {
                let span = &mut layer.spans[(y - block.y) as usize];
                let (from, to) = frame.spans[(y - own.y) as usize];
                let column = |x: u32| (i64::from(x) + own.x).clamp(part.x, part.right()) - block.x;
                let (from, to) = (column(from) as u32, column(to) as u32);
                // A frame covers each row without a gap.
                if from < to {
                    *span = if span.0 < span.1 { (span.0.min(from), span.1.max(to)) } else { (from, to) };
                }
            }
            found += part.size().pixels();
        }
        (found == block.size().pixels()).then_some(layer)
    }

    /// The same of the plate, as it was combined last: on `base`, with the patches that reach the block between these corners;
    /// `None` also while it is being combined.
    pub fn plate(
        regions: &[Arc<Self>],
        (base, patches): (&str, &[&PlacedPatch]),
        block: Rect,
        (from, to): (Point, Point),
    ) -> Option<LayerData> {
        let mut layer = empty(block);
        let mut found = 0;
        for region in regions {
            // Who combines it needs the pool that this may be a thread of.
            let last = region.last.try_lock().ok()?;
            let last = last.as_ref().filter(|l| l.base == base)?;
            if !same(last.patches.iter().filter(|l| l.fit.mask.touches(from, to)), patches.iter().copied()) {
                return None;
            }
            for (stack, plate) in region.stacks.iter().zip(&last.plates) {
                let part = stack.block().intersect(block);
                if !part.is_empty() {
                    paste(&mut layer.planes, block, plate, stack.block(), part);
                    found += part.size().pixels();
                }
            }
        }
        layer.spans.fill((0, block.width));
        (found == block.size().pixels()).then_some(layer)
    }

    /// A part of the plate of a scene with the same frames, by a view's method: the same pixels as [`Scene::render`] gives.
    ///
    /// `base` names everything that the plate without patches depends on: from one call to the next only patches that are new on
    /// top of the same others are laid. Not to be called on a thread of the pool: who asks for the same region meanwhile waits.
    ///
    /// # Errors
    /// When a frame that only a patch needs cannot be read, or the consensus has not been decided.
    pub fn combined(
        &self,
        scene: &Scene<'_>,
        view: View,
        base: &str,
        part: Rect,
    ) -> Result<Raster, RenderError> {
        let (part, tables) = (part.intersect(self.region), scene.tables(view));
        let shown = |(stack, plate): (&Stack, &Plate)| {
            let own = stack.block().intersect(part);
            if own.is_empty() {
                return None;
            }
            let mut planes = empty(own).planes;
            paste(&mut planes, own, plate, stack.block(), own);
            Some((own, encoded(own.size(), &planes, &tables)))
        };
        let shown = |plates: &[Plate]| -> Raster {
            let parts = self.stacks.par_iter().zip(plates).filter_map(shown);
            let (blocks, parts): (Vec<Rect>, Vec<Raster>) = parts.collect();
            join(part, &blocks, &parts)
        };
        // Another method, looked at in between, leaves the plate as it is.
        if view != View::Plate {
            return Ok(shown(&self.laid(scene, view, base, None)?.plates));
        }
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        let begun = last.take();
        Ok(shown(&last.insert(self.laid(scene, view, base, begun)?).plates))
    }

    /// The plate with the patches that reach the region, from what was combined before as far as that is the same.
    fn laid(
        &self,
        scene: &Scene<'_>,
        view: View,
        base: &str,
        begun: Option<Last>,
    ) -> Result<Last, RenderError> {
        let way = scene.way(view)?;
        let (from, to) = scene.corners(self.region, self.level);
        let patches: Vec<PlacedPatch> =
            way.patches.iter().filter(|l| l.fit.mask.touches(from, to)).cloned().collect();
        let begun = begun
            .filter(|l| l.base == base && same(&l.patches, &patches[..l.patches.len().min(patches.len())]));
        let there = begun.as_ref().map_or(0, |l| l.patches.len());
        let bare = || self.stacks.par_iter().map(|s| s.bare(way)).collect();
        let mut plates: Vec<Plate> = begun.map_or_else(bare, |l| l.plates);
        let way = Way { patches: &patches[there..], ..way };
        self.stacks.par_iter().zip(&mut plates).try_for_each(|(s, plate)| {
            s.lay_all(plate, way, &scene.extras(way.patches, s, self.level)?);
            Ok::<_, RenderError>(())
        })?;
        Ok(Last { base: base.to_owned(), patches, plates })
    }
}

/// Nothing over a block.
fn empty(block: Rect) -> LayerData {
    let planes = [0; 3].map(|_| vec![0; block.size().pixels() as usize]);
    LayerData { planes, spans: vec![(0, 0); block.height as usize] }
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
        Ok(Aligned { region, level, stacks, last: Mutex::default(), bytes })
    }
}
