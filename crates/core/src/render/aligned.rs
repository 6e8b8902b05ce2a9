//! A part of the plate that is looked at: its samples are kept, so that a change of method or one more patch shows at once, and
//! what is fitted there need not read the frames.

use super::error::RenderError;
use super::list::Stages;
use super::plate::{Plate, Tables, black, blocks, empty, encoded, join, paste, rows_of};
use super::samples::Samples;
use super::scene::{Scene, View};
use super::stack::Stack;
use super::stage::{Frames, touches};
use crate::combine::consensus::LayerData;
use crate::geometry::{Grid, Point, Rect, meets};
use crate::pixel::Raster;
use rayon::prelude::*;
use std::sync::{Arc, Mutex, PoisonError};

/// Aligned samples of a region, kept so that another method needs no resampling.
pub struct Aligned {
    grid: Grid,
    stacks: Vec<Arc<Stack>>,
    last: Mutex<Option<Last>>,
    /// Memory that the samples and the plates take, in bytes.
    pub bytes: u64,
}

/// The plate as it was made last, so that only stages that are others are run again, and those above them.
struct Last {
    /// The stages that reach the region, in order.
    stages: Vec<Ran>,
    /// What all of them made, block by block.
    plates: Vec<Plate>,
    /// What the first so many of them made.
    before: Option<(usize, Vec<Plate>)>,
}

/// A stage that was run.
#[derive(PartialEq)]
struct Ran {
    name: String,
    /// The names of the stages that it sees beyond the pixels that it makes, where it does.
    sees: Vec<String>,
    reach: Option<(Point, Point)>,
}

impl Aligned {
    /// The samples of a frame over pixels, put together from regions of the same level; `None` where some are missing.
    pub fn layer(regions: &[Arc<Self>], frame: usize, grid: &Grid) -> Option<LayerData> {
        let block = grid.rect;
        let mut layer = empty(block);
        let mut found = 0;
        for stack in regions.iter().flat_map(|r| &r.stacks) {
            let own = stack.grid().rect;
            let part = own.intersect(block);
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

    /// The same of the plate, as stages of these names made it last, of those that reach the pixels; `None` also while it is being made.
    pub fn plate(regions: &[Arc<Self>], stages: &[String], grid: &Grid) -> Option<LayerData> {
        let block = grid.rect;
        let mut layer = empty(block);
        let mut found = 0;
        for region in regions {
            // Who makes it needs the pool that this may be a thread of.
            let last = region.last.try_lock().ok()?;
            let last = last.as_ref()?;
            let reaches = |ran: &&Ran| ran.reach.is_none_or(|reach| meets(reach, grid.bounds()));
            let ran: Vec<&Ran> = last.stages.iter().filter(reaches).collect();
            if !ran.iter().map(|ran| &ran.name).eq(stages) || ran.iter().any(|ran| !ran.sees.is_empty()) {
                return None;
            }
            for (stack, plate) in region.stacks.iter().zip(&last.plates) {
                let own = stack.grid().rect;
                let part = own.intersect(block);
                if !part.is_empty() {
                    paste(&mut layer.planes, block, plate, own, part);
                    found += part.size().pixels();
                }
            }
        }
        layer.spans.fill((0, block.width));
        (found == block.size().pixels()).then_some(layer)
    }

    /// A part of the plate of a scene with the same frames, by a view's method: the same pixels as [`Scene::render`] gives.
    ///
    /// From one call to the next only stages are run whose names are others, and those above them. Not to be called on a thread of
    /// the pool: who asks for the same region meanwhile waits.
    ///
    /// # Errors
    /// When a frame that only a patch needs cannot be read, or the consensus has not been decided.
    pub fn combined(&self, scene: &Scene<'_>, view: View, part: Rect) -> Result<Raster, RenderError> {
        let stages = scene.stages(view)?;
        let (part, tables) = (part.intersect(self.grid.rect), stages.finish(scene));
        // Another method, looked at in between, leaves the plate as it is.
        if view != View::Plate {
            return Ok(self.shown(&self.run(scene, &stages, None)?.plates, part, tables.as_ref()));
        }
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        let begun = last.take();
        let made = last.insert(self.run(scene, &stages, begun)?);
        Ok(self.shown(&made.plates, part, tables.as_ref()))
    }

    /// A part of plates, encoded.
    fn shown(&self, plates: &[Plate], part: Rect, tables: Option<&Tables>) -> Raster {
        let shown = |(stack, plate): (&Arc<Stack>, &Plate)| {
            let block = stack.grid().rect;
            let own = block.intersect(part);
            if own.is_empty() {
                return None;
            }
            let mut planes = black(own.size());
            paste(&mut planes, own, plate, block, own);
            Some((own, encoded(own.size(), &planes, tables)))
        };
        let parts = self.stacks.par_iter().zip(plates).filter_map(shown);
        let (blocks, parts): (Vec<Rect>, Vec<Raster>) = parts.collect();
        join(part, &blocks, &parts)
    }

    /// The plate by stages, from what was made before as far as that is the same.
    fn run(&self, scene: &Scene<'_>, stages: &Stages<'_>, begun: Option<Last>) -> Result<Last, RenderError> {
        let reaching: Vec<usize> =
            stages.iter().enumerate().filter(|(_, s)| touches(*s, &self.grid)).map(|(k, _)| k).collect();
        let ran = |&k: &usize| {
            let stage = stages.get(k);
            Ran { name: stage.name(), sees: stages.seen_by(k, &self.grid), reach: stage.reach() }
        };
        let ran: Vec<Ran> = reaching.iter().map(ran).collect();
        let common =
            begun.as_ref().map_or(0, |last| last.stages.iter().zip(&ran).take_while(|(a, b)| a == b).count());
        // What lies below the first stage that is another: kept, as the same is likely to be changed again.
        let (from, mut plates) = match begun {
            Some(last) if common == ran.len() && common == last.stages.len() => return Ok(last),
            Some(last) if common == last.stages.len() => (common, Some(last.plates)),
            Some(last) => match last.before.filter(|(count, _)| *count <= common) {
                Some((count, plates)) => (count, Some(plates)),
                None => (0, None),
            },
            None => (0, None),
        };
        let kept_below = (1..ran.len()).contains(&common).then_some(common);
        let mut before = None;
        for count in from..=ran.len() {
            if kept_below == Some(count) {
                before = plates.clone().map(|plates| (count, plates));
            }
            let Some(&k) = reaching.get(count) else { break };
            let below = plates.take();
            plates = Some(self.run_one(scene, stages, k, below)?);
        }
        let plates = plates.unwrap_or_else(|| self.stacks.iter().map(|s| black(s.grid().size())).collect());
        Ok(Last { stages: ran, plates, before })
    }

    /// One stage, over what those below it made.
    fn run_one(
        &self,
        scene: &Scene<'_>,
        stages: &Stages<'_>,
        k: usize,
        below: Option<Vec<Plate>>,
    ) -> Result<Vec<Plate>, RenderError> {
        let stage = stages.get(k);
        let below: Vec<Option<Plate>> = match below {
            Some(plates) => plates.into_iter().map(Some).collect(),
            None => self.stacks.iter().map(|_| None).collect(),
        };
        let one = |(stack, below): (&Arc<Stack>, Option<Plate>)| {
            let grid = stack.grid();
            match below {
                Some(plate) if !touches(stage, grid) => Ok(plate),
                below => {
                    let samples = Samples::new(scene, View::Plate, &stages.frames).with(stack);
                    stages.made_over(k, grid, below, &samples)
                }
            }
        };
        self.stacks.par_iter().zip(below).map(one).collect()
    }
}

impl Scene<'_> {
    /// The aligned samples of the used frames over `region` of the plate: what every method starts from.
    ///
    /// Takes six bytes a pixel and frame, twelve more for the plates that are kept, and four for its detail; for parts of the picture,
    /// such as a tile of the screen.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn aligned(&self, region: Rect, level: u32) -> Result<Aligned, RenderError> {
        let all = self.grid(View::Plate, level);
        let grid = all.cut(region.intersect(all.rect));
        let frames = self.used();
        if frames.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let blocks = blocks(grid.rect, rows_of(frames.len()));
        let stack = |&block: &Rect| Samples::new(self, View::Plate, &frames).over(&all.cut(block));
        let stacks = blocks.par_iter().map(stack).collect::<Result<_, _>>()?;
        let bytes = grid.size().pixels() * (6 * (frames.len() as u64 + 2) + 4);
        Ok(Aligned { grid, stacks, last: Mutex::default(), bytes })
    }
}
