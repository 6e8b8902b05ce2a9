//! Views as pictures, and figures about them: what leaves the list of stages.
//!
//! Work runs block by block; a block holds the aligned samples of all frames for a small region, so memory does not grow with the size
//! of frames and hardly with their number.

use super::error::RenderError;
use super::list::Stages;
use super::plate::{Plate, blocks, encoded, join, layer_of, place, rows_of};
use super::samples::Samples;
use super::scene::{Scene, View};
use super::stack::Stack;
use super::stage::Frames;
use crate::combine::consensus::{self, Decided, Known, LabelMap, Lamps};
use crate::evidence::Support;
use crate::geometry::{Grid, Homography, Point, Rect};
use crate::patch::{self, PlacedPatch, Sides, Source};
use crate::pixel::Raster;
use crate::pixel::tone::linear_of_root;
use crate::plan::Light;
use crate::touch;
use rayon::prelude::*;
use std::sync::Arc;

impl<'a> Scene<'a> {
    /// Renders `region` of a view, in pixels of `level`; it is cut to the view's area.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn render(&self, view: View, region: Rect, level: u32) -> Result<Raster, RenderError> {
        let stages = self.stages(view)?;
        let tables = stages.finish(self);
        let finished = |grid: &Grid, plate: Plate| encoded(grid.size(), &plate, tables.as_ref());
        let (region, blocks, parts) = self.blockwise(&stages, (region, level), finished)?;
        Ok(join(region, &blocks, &parts))
    }

    /// Light of the plate, interleaved, undeveloped and beyond white where frames hold it: for float files.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn light(&self, region: Rect) -> Result<Vec<f32>, RenderError> {
        let headroom = self.sources[self.reference()].headroom();
        let gains = self.recipe.develop.gains().map(|g| g * headroom);
        let finished = |_: &Grid, plate: Plate| -> Vec<f32> {
            let light = |i| [0, 1, 2].map(|c| gains[c] * linear_of_root(plate[c][i]));
            (0..plate[0].len()).flat_map(light).collect()
        };
        let (region, blocks, parts) = self.blockwise(&self.stages(View::Plate)?, (region, 0), finished)?;
        let mut out = vec![0.0; 3 * region.size().pixels() as usize];
        place(&mut out, region, &blocks, &parts);
        Ok(out)
    }

    /// Root codes of the plate at full size, undeveloped, over a part of it.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub(crate) fn codes(&self, region: Rect) -> Result<Plate, RenderError> {
        self.codes_of(View::Plate, region)
    }

    /// The same of another view that lies over the canvas.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub(crate) fn codes_of(&self, view: View, region: Rect) -> Result<Plate, RenderError> {
        let codes = |grid: &Grid, plate: Plate| encoded(grid.size(), &plate, None);
        let (region, blocks, parts) = self.blockwise(&self.stages(view)?, (region, 0), codes)?;
        let data = join(region, &blocks, &parts).data;
        Ok([0, 1, 2].map(|c| data.iter().skip(c).step_by(3).copied().collect()))
    }

    /// Makes a region block by block: what of it lies on the view, and its blocks with what becomes of them.
    fn blockwise<T: Send>(
        &self,
        stages: &Stages<'_>,
        (region, level): (Rect, u32),
        finished: impl Fn(&Grid, Plate) -> T + Sync,
    ) -> Result<(Rect, Vec<Rect>, Vec<T>), RenderError> {
        let all = self.grid(stages.view, level);
        let region = region.intersect(all.rect);
        let blocks = blocks(region, stages.rows);
        let made = |block: &Rect| {
            let grid = all.cut(*block);
            let samples = Samples::new(self, stages.view, &stages.frames);
            Ok(finished(&grid, stages.made(&grid, &samples)?))
        };
        let parts = blocks.par_iter().map(made).collect::<Result<_, RenderError>>()?;
        Ok((region, blocks, parts))
    }

    /// How well the frames support the plate, over `region` at `level`.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn support(&self, region: Rect, level: u32) -> Result<Support, RenderError> {
        let stages = self.stages(View::Plate)?;
        let all = self.grid(View::Plate, level);
        let support = |block: &Rect| {
            let (grid, samples) = (all.cut(*block), Samples::new(self, View::Plate, &stages.frames));
            let (stack, plate) = both(&stages, &grid.grown(1, all.rect), &samples)?;
            Ok(stack.agreement(&plate, &grid, &self.plan.tones.noise).1)
        };
        let blocks = blocks(region.intersect(all.rect), rows_of(stages.frames.len()));
        let each: Vec<Support> = blocks.par_iter().map(support).collect::<Result<_, RenderError>>()?;
        let mut total = Support::default();
        each.into_iter().for_each(|s| total.add(s));
        Ok(total)
    }

    /// For the listed frames, the share of `region` in which each shows the same as the plate (0..=1), and
    /// whether it reaches the region at all.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn agreement_of(
        &self,
        listed: &[usize],
        region: Rect,
        level: u32,
    ) -> Result<Vec<Option<f32>>, RenderError> {
        let all = self.grid(View::Plate, level);
        let grid = all.cut(region.intersect(all.rect));
        if grid.rect.is_empty() {
            return Ok(vec![None; listed.len()]);
        }
        let stages = self.stages(View::Plate)?;
        let samples = Samples::new(self, View::Plate, &stages.frames);
        let (_, plate) = both(&stages, &grid, &samples)?;
        let others = Samples::new(self, View::Plate, listed).over(&grid)?;
        Ok(others.shares(&plate, &self.plan.tones.noise))
    }

    /// The outlines of what frames show instead of the plate around a place, all in reference pixels; `None` for one that shows
    /// the same there. A third of the picture around the place is looked at.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn extents(&self, frames: &[usize], at: Point) -> Result<Vec<Option<Vec<Point>>>, RenderError> {
        /// Pixels along a side of what is looked at.
        const SIDE: u32 = 400;
        let canvas = self.canvas();
        let level =
            (f64::from(canvas.width.max(canvas.height)) / f64::from(3 * SIDE)).log2().round().max(0.0) as u32;
        let all = self.grid(View::Plate, level);
        let (x, y) = (all.column(at.x).round() as i64, all.row(at.y).round() as i64);
        let half = i64::from(SIDE / 2);
        let grid = all.cut(Rect::new(x - half, y - half, SIDE, SIDE).intersect(all.rect));
        if grid.rect.is_empty() {
            return Ok(vec![None; frames.len()]);
        }
        let (stack, plate) = self.laid(&grid)?;
        let of = |&frame: &usize| {
            let own = match stack.layer(frame) {
                Some(own) => own,
                None => &self.layers(&[frame], &grid)?.remove(0),
            };
            let unlike = stack.unlike(own, &plate, &self.plan.tones.noise);
            let found = patch::extent(&unlike, grid.rect.width as usize, (x - grid.rect.x, y - grid.rect.y));
            Ok(found.map(|outline| outline.iter().map(|p| grid.place(p.x, p.y)).collect()))
        };
        frames.par_iter().map(of).collect()
    }

    /// The outline of what stands at a place of the plate, by its look alone, in reference pixels; `None` where nothing stands out.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn thing(&self, at: Point) -> Result<Option<Vec<Point>>, RenderError> {
        /// Pixels along the longer side of what is looked at.
        const SIDE: u32 = 1400;
        let canvas = self.canvas();
        let longer = f64::from(canvas.width.max(canvas.height));
        let level = (longer / f64::from(SIDE)).log2().ceil().max(0.0) as u32;
        let grid = self.grid(View::Plate, level);
        let place = (grid.column(at.x).round() as i64, grid.row(at.y).round() as i64);
        let plate = self.render(View::Plate, grid.rect, level)?;
        let found = touch::pointed(&plate.data, plate.size, place);
        Ok(found.map(|set| grid.outline(&set, 400)).filter(|outline| outline.len() >= 3))
    }

    /// What a patch covers, with the patches `below` it, and what it comes from, undeveloped, over pixels; the canvas must be the
    /// reference's. A patch with a geometry of its own comes with what leads `back`.
    pub(crate) fn sides(
        &self,
        source: Source,
        back: Option<&Homography>,
        below: &[PlacedPatch],
        grid: &Grid,
    ) -> Result<Sides, RenderError> {
        let scene = Scene { patches: below, touches: &[], ..*self };
        let stages = scene.stages(View::Plate)?;
        let samples = Samples::alone(&scene, View::Plate, &stages.frames);
        let kept = self.kept.and_then(|kept| kept.plate(&stages.names(grid), grid));
        let plate = match kept {
            Some(plate) => plate,
            None => layer_of(both(&stages, grid, &samples)?.1, grid.size()),
        };
        let source = match source {
            Source::Method(method) => {
                let stages = scene.stages(View::By(method))?;
                layer_of(both(&stages, grid, &samples)?.1, grid.size())
            }
            Source::Frame(i) | Source::HighlightSuppressed(i) => {
                self.moved(i, grid, back.map(|back| (back, grid)))?
            }
        };
        Ok(Sides { plate, source })
    }

    /// The frames over pixels of the canvas, and the plate with its patches, undeveloped.
    pub(crate) fn laid(&self, grid: &Grid) -> Result<(Arc<Stack>, Plate), RenderError> {
        let stages = self.stages(View::Plate)?;
        both(&stages, grid, &Samples::alone(self, View::Plate, &stages.frames))
    }

    /// Which frames in use show the same as one of them over pixels of the reference; `None` when it takes no part or nobody else
    /// does. The canvas must be the reference's.
    pub(crate) fn together(&self, frame: usize, grid: &Grid) -> Result<Option<LabelMap>, RenderError> {
        let mut frames = self.used();
        let Some(own) = frames.iter().position(|&i| i == frame) else { return Ok(None) };
        if frames.len() < 2 {
            return Ok(None);
        }
        frames.swap(0, own);
        let layers = self.layers(&frames, grid)?;
        Ok(Some(consensus::together(*grid, layers, frames, &self.plan.tones.noise)))
    }

    /// Decides the consensus of the frames in use; the canvas must be the reference's.
    pub(crate) fn decide(&self) -> Result<Decided, RenderError> {
        let frames = self.used();
        if frames.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let full = self.size(View::Plate);
        let room = consensus::room(frames.len());
        let level = (0..16).find(|&k| full.at_level(k).pixels() <= room).unwrap_or(16);
        let grid = self.grid(View::Plate, level);
        let layers = self.layers(&frames, &grid)?;
        let moments: Vec<u32> = frames.iter().map(|&i| self.plan.survey.frames[i].moment).collect();
        let lamps = match self.plan.tones.light {
            Light::Steady | Light::Drifts => Lamps::Still,
            Light::Uneven => Lamps::Uneven,
            Light::Varied => Lamps::Moved,
        };
        let alignment = &self.plan.alignment;
        let bent = frames.iter().any(|&i| alignment.frames[i].bend.is_some());
        let known = Known { lamps, lead: bent.then_some(alignment.reference) };
        Ok(consensus::decide(grid, layers, (&frames, &moments), &self.plan.tones.noise, known))
    }
}

/// The frames of a view over pixels, and the picture that its stages make of them.
fn both(
    stages: &Stages<'_>,
    grid: &Grid,
    samples: &Samples<'_, '_>,
) -> Result<(Arc<Stack>, Plate), RenderError> {
    let stack = samples.over(grid)?;
    Ok((stack, stages.made(grid, samples)?))
}
