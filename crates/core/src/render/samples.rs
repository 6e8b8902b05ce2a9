//! What lies under a block: where a view's pixels are in each frame, and the aligned samples of frames there.

use super::detail::Detail;
use super::error::RenderError;
use super::scene::{Scene, View};
use super::stack::Stack;
use super::stage::Frames;
use crate::combine::consensus::LayerData;
use crate::geometry::{Grid, Homography, Point, Rect, Sampling, Surface, level_to_full};
use crate::noise::NoiseModel;
use crate::pixel::curve::ToneCurve;
use crate::pixel::resample::{Sink, reach, resample_rows};
use crate::pixel::tone::append_roots;
use crate::pixel::{FrameSource, SourceError};
use rayon::prelude::*;
use std::cell::RefCell;
use std::sync::Arc;

/// How a frame's light is matched to the reference.
#[derive(Debug, Clone, Copy)]
pub(super) struct Tone<'a> {
    /// Multiplies stored light, by channel.
    pub gain: [f32; 3],
    /// Further stops over the reference.
    pub field: Option<&'a Surface>,
    /// Further stops by brightness.
    pub curve: Option<&'a ToneCurve>,
}

impl Default for Tone<'_> {
    fn default() -> Self {
        Self { gain: [1.0; 3], field: None, curve: None }
    }
}

/// Where a view's pixels lie in a frame.
pub(super) struct Placement<'a> {
    /// From the view's pixels at a level to those of the frame's.
    pub sampling: Sampling<'a>,
    /// The level of the frame.
    pub level: u32,
    /// How its light is matched.
    pub tone: Tone<'a>,
}

/// Resamples a block of a frame, row by row, and brightens it by as many stops as its curve and its field say. The sink gets linear light; returned are the columns that each row covers.
pub(super) fn resampled(
    source: &dyn FrameSource,
    placement: &Placement<'_>,
    block: Rect,
    sink: Sink<'_>,
) -> Result<Vec<(u32, u32)>, SourceError> {
    let Placement { sampling, level, tone } = *placement;
    if tone.field.is_none() && tone.curve.is_none() {
        return resample_rows(source, level, sampling, block, sink);
    }
    let table = tone.curve.map(ToneCurve::table);
    resample_rows(source, level, sampling, block, &mut |row, from, mut run| {
        if let Some(table) = &table {
            run.iter_mut().enumerate().for_each(|(c, light)| table.apply(c, tone.gain[c], light));
        }
        let Some(field) = tone.field else { return sink(row, from, run) };
        let y = (block.y + row as i64) as f64;
        let at = |x: usize| Point::new((block.x + (from + x) as i64) as f64, y);
        for x in 0..run[0].len() {
            let gain = field.at(sampling.reference(at(x))).exp2() as f32;
            run.iter_mut().for_each(|channel| channel[x] *= gain);
        }
        sink(row, from, run);
    })
}

/// The samples of a frame over a block, made as [`resampled`] does.
fn layer(source: &dyn FrameSource, placement: &Placement<'_>, block: Rect) -> Result<LayerData, SourceError> {
    let (w, n) = (block.width as usize, block.size().pixels() as usize);
    let mut planes = [0; 3].map(|_| Vec::with_capacity(n));
    let spans = resampled(source, placement, block, &mut |row, from, run| {
        for ((plane, light), gain) in planes.iter_mut().zip(run).zip(placement.tone.gain) {
            plane.resize(row * w + from, 0);
            append_roots(light, gain, plane);
        }
    })?;
    planes.iter_mut().for_each(|plane| plane.resize(n, 0));
    Ok(LayerData { planes, spans })
}

/// The columns of each row of some pixels of the canvas that a frame reaches: first and one past the last, from the left.
pub(super) fn covered(scene: &Scene<'_>, frame: usize, grid: &Grid) -> Vec<(u32, u32)> {
    let placed = scene.placement(View::Plate, frame, grid.level);
    reach(scene.sources[frame].size().at_level(placed.level), &placed.sampling, grid.rect)
}

impl<'a> Scene<'a> {
    /// Where a view's pixels at a level lie in a frame, and how its light is matched.
    pub(super) fn placement(&self, view: View, frame: usize, level: u32) -> Placement<'a> {
        let source = self.sources[frame];
        let grid = self.grid(view, level);
        let (sampling, tone) = if matches!(view, View::Shot(_)) {
            (Sampling::from(&level_to_full(level)), Tone::default())
        } else {
            let tones = &self.plan.tones;
            let (own, reference) = (&tones.frames[frame], &tones.frames[self.reference()]);
            let tone = if self.matched() {
                Tone { gain: own.multiplier(reference), field: own.field.as_ref(), curve: own.curve.as_ref() }
            } else {
                Tone { gain: [own.headroom / reference.headroom; 3], ..Tone::default() }
            };
            (Sampling::of(self.geometry.projection(frame), &grid), tone)
        };
        // A frame of another size is read at the level whose pixels are nearest to the output's.
        let size = grid.size();
        let middle = Point::new(f64::from(size.width) / 2.0, f64::from(size.height) / 2.0);
        let scale = sampling.scale_at(middle);
        let own = ((scale.log2() + 0.3).floor().max(0.0) as u32).min(source.levels() - 1);
        let down = level_to_full(own).inverse().unwrap_or(Homography::IDENTITY);
        Placement { sampling: sampling.then(&down), level: own, tone }
    }

    /// The samples of one frame over pixels.
    pub(super) fn layer(&self, view: View, frame: usize, grid: &Grid) -> Result<LayerData, RenderError> {
        let kept = self.kept.filter(|_| view == View::Plate);
        if let Some(layer) = kept.and_then(|kept| kept.layer(frame, grid)) {
            return Ok(layer);
        }
        Ok(layer(self.sources[frame], &self.placement(view, frame, grid.level), grid.rect)?)
    }

    /// Frames over pixels, side by side.
    pub(super) fn layers(&self, frames: &[usize], grid: &Grid) -> Result<Vec<LayerData>, RenderError> {
        frames.par_iter().map(|&i| self.layer(View::Plate, i, grid)).collect()
    }

    /// One frame over pixels, sampled where `back` leads to, if it does; it comes with the pixels of what is moved.
    pub(super) fn moved(
        &self,
        frame: usize,
        grid: &Grid,
        back: Option<(&Homography, &Grid)>,
    ) -> Result<LayerData, RenderError> {
        let Some((back, whole)) = back else { return self.layer(View::Plate, frame, grid) };
        let Placement { sampling, level, tone } = self.placement(View::Plate, frame, grid.level);
        let sampling = sampling.moved(back, whole.middle());
        let placement = Placement { sampling, level, tone: Tone { field: None, ..tone } };
        Ok(layer(self.sources[frame], &placement, grid.rect)?)
    }

    /// What gives the average of these frames over pixels its detail: the reference, with its place among them. `None` where it is not
    /// among them, or less sharp than they are, or where frames differ by nothing but noise.
    pub(super) fn detail(
        &self,
        frames: &[usize],
        grid: &Grid,
    ) -> Result<Option<(usize, Detail)>, RenderError> {
        /// Detail of a reference that may stand for all, in that of the set.
        const SHARP: f32 = 0.9;
        let (reference, noise) = (self.reference(), &self.plan.tones.noise);
        let sharp = self.plan.alignment.frames[reference].sharpness.is_none_or(|s| s > SHARP);
        let place = frames.iter().position(|&i| i == reference);
        let counts = frames.len() > 1 && sharp && noise.slip > 0.0;
        let Some(place) = place.filter(|_| counts) else { return Ok(None) };
        let wide = grid.grown(1, self.grid(View::Plate, grid.level).rect);
        let inner = Rect { x: grid.rect.x - wide.rect.x, y: grid.rect.y - wide.rect.y, ..grid.rect };
        let layer = self.layer(View::Plate, reference, &wide)?;
        Ok(Some((place, Detail::new(layer, wide.rect.width, inner, noise, grid.shrink()))))
    }
}

/// The aligned samples that the stages of a block read.
pub(super) struct Samples<'s, 'a> {
    scene: &'s Scene<'a>,
    view: View,
    frames: &'s [usize],
    /// Whether frames are resampled side by side: for a single block.
    alone: bool,
    made: RefCell<Vec<Arc<Stack>>>,
    wanted: RefCell<Vec<Grid>>,
}

impl<'s, 'a> Samples<'s, 'a> {
    /// Of these frames, for a view.
    pub(super) fn new(scene: &'s Scene<'a>, view: View, frames: &'s [usize]) -> Self {
        Self { scene, view, frames, alone: false, made: RefCell::default(), wanted: RefCell::default() }
    }

    /// The same for a single block.
    pub(super) fn alone(scene: &'s Scene<'a>, view: View, frames: &'s [usize]) -> Self {
        Self { alone: true, ..Self::new(scene, view, frames) }
    }

    /// The same with samples that are there.
    pub(super) fn with(self, stack: &Arc<Stack>) -> Self {
        self.made.borrow_mut().push(stack.clone());
        self
    }

    /// Says that a stage will read the frames over pixels.
    pub(super) fn want(&self, grid: &Grid) {
        self.wanted.borrow_mut().push(*grid);
    }

    fn made(&self, grid: &Grid) -> Option<Arc<Stack>> {
        self.made.borrow().iter().find(|stack| stack.grid() == grid).cloned()
    }
}

impl Frames for Samples<'_, '_> {
    fn over(&self, grid: &Grid) -> Result<Arc<Stack>, RenderError> {
        if let Some(stack) = self.made(grid) {
            return Ok(stack);
        }
        let layers = if self.alone {
            self.scene.layers(self.frames, grid)?
        } else {
            let layer = |&i: &usize| self.scene.layer(self.view, i, grid);
            self.frames.iter().map(layer).collect::<Result<_, _>>()?
        };
        let detail = match self.view {
            View::Plate | View::By(_) | View::Agreement => self.scene.detail(self.frames, grid)?,
            View::Frame(_) | View::Shot(_) | View::Difference(_) => None,
        };
        let stack = Arc::new(Stack::new(*grid, self.frames, layers, detail));
        self.made.borrow_mut().push(stack.clone());
        Ok(stack)
    }

    fn frame(
        &self,
        frame: usize,
        grid: &Grid,
        moved: Option<(&Homography, &Grid)>,
    ) -> Result<LayerData, RenderError> {
        self.scene.moved(frame, grid, moved)
    }

    fn are_wanted(&self, grid: &Grid) -> bool {
        self.wanted.borrow().contains(grid) || self.made(grid).is_some()
    }

    fn noise(&self) -> &NoiseModel {
        &self.scene.plan.tones.noise
    }
}
