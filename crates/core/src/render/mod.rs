//! The one way pixels are made: a region of a view at a scale, from a recipe, its plan and the sources.
//!
//! Work runs block by block; a block holds the aligned samples of all frames for a small region, so memory does
//! not grow with the size of frames and hardly with their number. Every pixel depends only on its place, never on
//! how the picture is cut into blocks: a preview at full scale is the export, byte for byte.

mod aligned;
mod average;
mod detail;
mod samples;
mod stack;

use crate::combine::Method;
use crate::combine::consensus::{self, Decided, LabelMap, LayerData};
use crate::evidence::Support;
use crate::geometry::{Homography, Point, Rect, Size, Warp};
use crate::patch::{self, PlacedPatch, Sides, Source};
use crate::pixel::resample::reach;
use crate::pixel::tone::linear_of_root;
use crate::pixel::{FrameSource, Raster, SourceError};
use crate::plan::{Light, Plan};
use crate::recipe::{Canvas, Matching, Recipe};
pub use aligned::{Aligned, Kept};
use average::Average;
use rayon::prelude::*;
use samples::{end, shrink};
use serde::{Deserialize, Serialize};
pub use stack::{Extras, Stack, Tone, Way};
use stack::{Plate, averaged, encoded, resampled};
use std::borrow::Cow;

/// For each channel, the code that each root code becomes.
pub type Tables = [Cow<'static, [u16]>; 3];

/// What is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum View<F = usize> {
    /// The clean picture by the recipe's method.
    Plate,
    /// The clean picture by another method, for comparing.
    By(Method),
    /// One frame laid over the reference and matched to it; black where it does not reach.
    Frame(F),
    /// One frame as it was shot, on its own pixel grid.
    Shot(F),
    /// How one frame, laid over the reference, differs from it: middle grey where it does not.
    Difference(F),
    /// Share of frames that show the same as the plate, black to white.
    Agreement,
}

impl<F> View<F> {
    /// The same with its frame named otherwise.
    ///
    /// # Errors
    /// When the frame has no other name.
    pub fn map_frame<G, E>(self, name: impl FnOnce(F) -> Result<G, E>) -> Result<View<G>, E> {
        Ok(match self {
            Self::Plate => View::Plate,
            Self::By(method) => View::By(method),
            Self::Frame(f) => View::Frame(name(f)?),
            Self::Shot(f) => View::Shot(name(f)?),
            Self::Difference(f) => View::Difference(name(f)?),
            Self::Agreement => View::Agreement,
        })
    }
}

/// Why nothing could be rendered.
#[derive(Debug, Clone, thiserror::Error)]
pub enum RenderError {
    /// A frame could not be read.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// Every frame is set aside.
    #[error("every frame is set aside: bring at least one back")]
    NoFrames,
    /// The plan holds no decision for the frames in use.
    #[error("the consensus of these frames has not been decided yet: try again when they are combined")]
    Undecided,
}

/// A set ready to be rendered.
#[derive(Clone, Copy)]
pub struct Scene<'a> {
    /// The decisions.
    pub recipe: &'a Recipe,
    /// What follows from them and was computed once.
    pub plan: &'a Plan,
    /// The frames, in the set's order.
    pub sources: &'a [&'a dyn FrameSource],
    /// Samples that frames need not be read for.
    pub kept: Option<&'a dyn Kept>,
}

/// Widest block, in pixels.
const BLOCK: u32 = 256;
/// Rows of a block of which no samples are kept: the fewer blocks, the fewer rows are made twice.
const TALL: i64 = 192;
/// Bytes that the aligned samples of one block may take.
const BUDGET: usize = 5 << 20;

impl<'a> Scene<'a> {
    /// A set of which no samples are kept.
    pub fn new(recipe: &'a Recipe, plan: &'a Plan, sources: &'a [&'a dyn FrameSource]) -> Self {
        Self { recipe, plan, sources, kept: None }
    }

    /// Indices of the frames that take part: not set aside by their owner, and fitting.
    pub fn used(&self) -> Vec<usize> {
        let fits = |i: usize| self.plan.frames[i].misfit.is_none();
        (0..self.sources.len()).filter(|&i| !self.recipe.excluded.contains(&i) && fits(i)).collect()
    }

    /// The area that the plate covers, in reference pixels.
    pub fn canvas(&self) -> Rect {
        match self.recipe.canvas {
            Canvas::Reference => self.plan.reference_size().rect(),
            Canvas::Common => self.plan.common_area(&self.used()),
        }
    }

    /// Full size of a view, in pixels.
    pub fn size(&self, view: View) -> Size {
        match view {
            View::Shot(i) => self.sources[i].size(),
            _ => self.canvas().size(),
        }
    }

    /// Renders `region` of a view, in pixels of `level`; it is cut to the view's area.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn render(&self, view: View, region: Rect, level: u32) -> Result<Raster, RenderError> {
        let region = region.intersect(self.size(view).at_level(level).rect());
        let frames = match view {
            View::Frame(i) | View::Shot(i) => vec![i],
            View::Difference(i) => vec![self.plan.reference, i],
            _ => self.used(),
        };
        if frames.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let tables = self.tables(view);
        let way = self.way(view)?;
        let blocks = blocks(region, self.rows(view, way, frames.len()));
        let parts: Vec<Raster> = blocks
            .par_iter()
            .map(|&block| {
                if let View::Difference(_) = view {
                    return Ok(self.stack(view, &frames, block, level)?.difference());
                }
                if view == View::Agreement {
                    let (stack, inner) = self.padded(&frames, block, level)?;
                    let extras = self.extras(way.patches, &stack, level)?;
                    return Ok(stack.agreement(inner, (way, &extras), &self.plan.noise, shrink(level)).0);
                }
                Ok(encoded(block.size(), &self.plate(view, way, &frames, (block, level))?, &tables))
            })
            .collect::<Result<_, RenderError>>()?;
        Ok(join(region, &blocks, &parts))
    }

    /// The codes that combined samples become: the development, and for wide samples their headroom.
    pub fn tables(&self, view: View) -> Tables {
        let headroom = match view {
            View::Shot(i) => self.sources[i].headroom(),
            _ => self.sources[self.plan.reference].headroom(),
        };
        self.recipe.develop.tables(headroom)
    }

    /// Light of the plate, interleaved, undeveloped and beyond white where frames hold it: for float files.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn light(&self, region: Rect) -> Result<Vec<f32>, RenderError> {
        let region = region.intersect(self.size(View::Plate).rect());
        let frames = self.used();
        if frames.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let headroom = self.sources[self.plan.reference].headroom();
        let gains = self.recipe.develop.gains().map(|g| g * headroom);
        let way = self.way(View::Plate)?;
        let blocks = blocks(region, self.rows(View::Plate, way, frames.len()));
        let parts: Vec<Vec<f32>> = blocks
            .par_iter()
            .map(|&block| {
                let plate = self.plate(View::Plate, way, &frames, (block, 0))?;
                let light = |i| [0, 1, 2].map(|c| gains[c] * linear_of_root(plate[c][i]));
                Ok((0..plate[0].len()).flat_map(light).collect())
            })
            .collect::<Result<_, RenderError>>()?;
        let mut out = vec![0.0; 3 * region.size().pixels() as usize];
        place(&mut out, region, &blocks, &parts);
        Ok(out)
    }

    /// Whether frames are matched in exposure and colour.
    pub fn matched(&self) -> bool {
        match self.recipe.match_exposure {
            Matching::Auto => self.plan.light != Light::Varied,
            Matching::On => true,
            Matching::Off => false,
        }
    }

    /// How well the frames support the plate, over `region` at `level`.
    ///
    /// # Errors
    /// When a frame cannot be read or none takes part.
    pub fn support(&self, region: Rect, level: u32) -> Result<Support, RenderError> {
        let region = region.intersect(self.size(View::Plate).at_level(level).rect());
        let frames = self.used();
        if frames.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let way = self.way(View::Plate)?;
        let each: Vec<Support> = blocks(region, rows_of(frames.len()))
            .par_iter()
            .map(|&block| {
                let (stack, inner) = self.padded(&frames, block, level)?;
                let extras = self.extras(way.patches, &stack, level)?;
                Ok(stack.agreement(inner, (way, &extras), &self.plan.noise, shrink(level)).1)
            })
            .collect::<Result<_, RenderError>>()?;
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
        let region = region.intersect(self.size(View::Plate).at_level(level).rect());
        if region.is_empty() {
            return Ok(vec![None; listed.len()]);
        }
        let used = self.used();
        if used.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let plate = self.stack(View::Plate, &used, region, level)?;
        let others = self.stack(View::Plate, listed, region, level)?;
        let way = self.way(View::Plate)?;
        let extras = self.extras(way.patches, &plate, level)?;
        Ok(others.shares(&plate, (way, &extras), &self.plan.noise, shrink(level)))
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
        let up = f64::from(1u32 << level);
        let down = |v: f64, from: i64| ((v - from as f64 + 0.5) / up - 0.5).round() as i64;
        let (x, y) = (down(at.x, canvas.x), down(at.y, canvas.y));
        let half = i64::from(SIDE / 2);
        let region =
            Rect::new(x - half, y - half, SIDE, SIDE).intersect(canvas.size().at_level(level).rect());
        if region.is_empty() {
            return Ok(vec![None; frames.len()]);
        }
        let (stack, plate) = self.laid(region, level)?;
        let full = |v: f64, first: i64, from: i64| (v + first as f64 + 0.5) * up - 0.5 + from as f64;
        let of = |&frame: &usize| {
            let own = match stack.layer(frame) {
                Some(own) => own,
                None => &self.layers(&[frame], region, level)?.remove(0),
            };
            let unlike = stack.unlike(own, &plate, &self.plan.noise, shrink(level));
            let found = patch::extent(&unlike, region.width as usize, (x - region.x, y - region.y));
            let place = |p: &Point| Point::new(full(p.x, region.x, canvas.x), full(p.y, region.y, canvas.y));
            Ok(found.map(|outline| outline.iter().map(place).collect()))
        };
        frames.par_iter().map(of).collect()
    }

    /// How a view is combined. The patches lie on the plate; another method is compared without them.
    ///
    /// # Errors
    /// When it rests on a consensus that has not been decided for the frames in use.
    pub fn way(&self, view: View) -> Result<Way<'a>, RenderError> {
        let (method, patches): (Method, &'a [PlacedPatch]) = match view {
            View::By(method) => (method, &[]),
            View::Plate | View::Agreement => (self.recipe.method, self.plan.patches.as_slice()),
            _ => (Method::Mean, &[]),
        };
        let rests = |m: Method| matches!(m, Method::Consensus | Method::Everybody);
        let patched = patches.iter().any(|l| matches!(l.source, Source::Method(m) if rests(m)));
        if !rests(method) && !patched {
            return Ok(Way { method, choice: None, patches });
        }
        let decided = self.plan.label_map.as_deref().filter(|c| {
            let mut frames = c.frames.clone();
            frames.sort_unstable();
            frames == self.used()
        });
        Ok(Way { method, choice: Some(decided.ok_or(RenderError::Undecided)?), patches })
    }

    /// What a patch covers, other patches `below` it included, and what it comes from, undeveloped, over a part of the reference at a level; the canvas must be the
    /// reference's.
    pub(crate) fn sides(
        &self,
        source: Source,
        back: Option<&Homography>,
        below: &[PlacedPatch],
        (region, level): (Rect, u32),
    ) -> Result<Sides, RenderError> {
        let used = self.used();
        if used.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let stack = || self.stack_of(&used, region, level);
        let corners = self.corners(region, level);
        let reach: Vec<&PlacedPatch> =
            below.iter().filter(|l| l.fit.mask.touches(corners.0, corners.1)).collect();
        let kept = self.kept.and_then(|kept| kept.plate(&reach, region, level, corners));
        let (plate, all) = match kept {
            Some(plate) => (plate, None),
            None => {
                let all = stack()?;
                let way = Way { patches: below, ..self.way(View::Plate)? };
                (all.laid(way, &self.extras(below, &all, level)?), Some(all))
            }
        };
        let source = match source {
            Source::Method(method) => {
                all.map_or_else(stack, Ok)?.by_method(method, self.way(View::By(method))?.choice)
            }
            Source::Frame(i) | Source::HighlightSuppressed(i) => {
                self.moved(i, back.map(|b| (b, region, level)), region, level)?
            }
        };
        Ok(Sides { plate, source })
    }

    /// The frames over a part of the canvas, and the plate with its patches, undeveloped.
    pub(crate) fn laid(&self, region: Rect, level: u32) -> Result<(Stack, LayerData), RenderError> {
        let (used, way) = (self.used(), self.way(View::Plate)?);
        if used.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let stack = self.stack_of(&used, region, level)?;
        let laid = stack.laid(way, &self.extras(way.patches, &stack, level)?);
        Ok((stack, laid))
    }

    /// Which frames in use show the same as one of them over a part of the reference at a level; `None` when it takes no part or
    /// nobody else does. The canvas must be the reference's.
    pub(crate) fn together(
        &self,
        frame: usize,
        region: Rect,
        level: u32,
    ) -> Result<Option<LabelMap>, RenderError> {
        let mut frames = self.used();
        let Some(own) = frames.iter().position(|&i| i == frame) else { return Ok(None) };
        if frames.len() < 2 {
            return Ok(None);
        }
        frames.swap(0, own);
        let layers = self.layers(&frames, region, level)?;
        let place = (level, (region.x, region.y));
        Ok(Some(consensus::together(region.size(), layers, frames, &self.plan.noise, place)))
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
        let size = full.at_level(level);
        let layers = self.layers(&frames, size.rect(), level)?;
        let moments: Vec<u32> = frames.iter().map(|&i| self.plan.frames[i].moment).collect();
        Ok(consensus::decide(size, layers, (&frames, &moments), &self.plan.noise, level))
    }

    /// The frames combined over a block, with the patches. An average that no patch touches is made frame by frame, without keeping
    /// their samples.
    fn plate(
        &self,
        view: View,
        way: Way<'_>,
        frames: &[usize],
        (block, level): (Rect, u32),
    ) -> Result<Plate, RenderError> {
        let place = self.corner(block, level);
        let Some(averaged) = averaged(way.method, way.choice).filter(|_| !touched(way.patches, block, place))
        else {
            let stack = self.stack(view, frames, block, level)?;
            return Ok(stack.plate(way, &self.extras(way.patches, &stack, level)?));
        };
        let placed: Vec<_> = frames.iter().map(|&i| self.placement(view, i, level)).collect();
        let reach = |(&i, (warp, own, _)): (&usize, &(Warp<'_>, u32, Tone<'_>))| {
            reach(self.sources[i].size().at_level(*own), warp, block)
        };
        let spans: Vec<Vec<(u32, u32)>> = frames.iter().zip(&placed).map(reach).collect();
        let spans: Vec<&[(u32, u32)]> = spans.iter().map(Vec::as_slice).collect();
        let whole = (0..block.height as usize, 0..block.width as usize);
        let mut average = Average::new(averaged, frames, &spans, (block.size(), place), whole);
        let detail = match way.method {
            Method::Consensus => self.detail(frames, block, level)?,
            _ => None,
        };
        for k in average.layers() {
            let (warp, own, tone) = placed[k];
            resampled(self.sources[frames[k]], own, warp, tone.field, block, &mut |row, from, run| {
                average.add_light(k, (row, from), run.map(|r| &*r), tone.gain);
            })?;
        }
        if let Some((k, detail)) = detail {
            (0..block.height as usize).for_each(|y| average.keep(k, y, detail.row(y), detail.weights(y)));
        }
        Ok(average.plate())
    }

    /// Rows of the blocks that a view is made in.
    fn rows(&self, view: View, way: Way<'_>, frames: usize) -> i64 {
        let streams = averaged(way.method, way.choice).is_some() && view != View::Agreement;
        if streams && way.patches.is_empty() { TALL } else { rows_of(frames) }
    }
}

/// Rows of a block that holds the samples of this many frames.
fn rows_of(frames: usize) -> i64 {
    (BUDGET / (6 * BLOCK as usize * frames.max(1))).clamp(8, 96) as i64
}

/// Whether a patch touches a block.
fn touched(patches: &[PlacedPatch], block: Rect, place: (Point, f64)) -> bool {
    let to = end(block.size(), place);
    patches.iter().any(|l| l.fit.mask.touches(place.0, to))
}

/// Cuts a region into blocks of some rows.
fn blocks(region: Rect, rows: i64) -> Vec<Rect> {
    let mut out = Vec::new();
    let mut y = region.y;
    while y < region.bottom() {
        let mut x = region.x;
        while x < region.right() {
            out.push(Rect::new(x, y, BLOCK, rows as u32).intersect(region));
            x += i64::from(BLOCK);
        }
        y += rows;
    }
    out
}

fn join(region: Rect, blocks: &[Rect], parts: &[Raster]) -> Raster {
    let mut out = Raster::new(region.size());
    let parts: Vec<&[u16]> = parts.iter().map(|p| &p.data[..]).collect();
    place(&mut out.data, region, blocks, &parts);
    out
}

/// Puts interleaved blocks in their places.
fn place<T: Copy, P: AsRef<[T]>>(out: &mut [T], region: Rect, blocks: &[Rect], parts: &[P]) {
    let stride = 3 * region.width as usize;
    for (block, part) in blocks.iter().zip(parts) {
        let (x, y) = (3 * (block.x - region.x) as usize, (block.y - region.y) as usize);
        for (r, row) in part.as_ref().chunks_exact(3 * block.width as usize).enumerate() {
            out[(y + r) * stride + x..][..row.len()].copy_from_slice(row);
        }
    }
}
