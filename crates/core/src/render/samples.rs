//! What lies under a block: where a view's pixels are in each frame, and the aligned samples of frames there.

use super::detail::Detail;
use super::stack::{self, Extras, Stack, Tone};
use super::{RenderError, Scene, View};
use crate::combine::consensus::LayerData;
use crate::geometry::{Homography, Point, Rect, Size, Warp, level_to_full};
use crate::patch::PlacedPatch;
use rayon::prelude::*;

impl Scene<'_> {
    /// Where a view's pixels lie in a frame, in pixels of its pyramid level; the level, and how its light is matched.
    pub(super) fn placement(&self, view: View, frame: usize, level: u32) -> (Warp<'_>, u32, Tone<'_>) {
        let source = self.sources[frame];
        let plan = &self.plan.frames[frame];
        let (warp, tone) = if matches!(view, View::Shot(_)) {
            (Warp::from(&level_to_full(level)), Tone::default())
        } else {
            let canvas = self.canvas();
            let origin = Point::new(canvas.x as f64, canvas.y as f64);
            let warp = Warp { origin, ..plan.to_frame() }.between_levels(level, 0);
            let reference = &self.plan.frames[self.plan.reference];
            let tone = if self.matched() {
                Tone { gain: plan.multiplier(reference), field: plan.field.as_ref() }
            } else {
                Tone { gain: [plan.headroom / reference.headroom; 3], field: None }
            };
            (warp, tone)
        };
        // A frame of another size is read at the level whose pixels are nearest to the output's.
        let middle = self.size(view).at_level(level);
        let middle = Point::new(f64::from(middle.width) / 2.0, f64::from(middle.height) / 2.0);
        let scale = warp.plane().scale_at(middle);
        let own = ((scale.log2() + 0.3).floor().max(0.0) as u32).min(source.levels() - 1);
        let down = level_to_full(own).inverse().unwrap_or(Homography::IDENTITY);
        (warp.then(&down), own, tone)
    }

    /// The samples of one frame over a block.
    pub(super) fn layer(
        &self,
        view: View,
        frame: usize,
        block: Rect,
        level: u32,
    ) -> Result<LayerData, RenderError> {
        let kept = self.kept.filter(|_| view == View::Plate);
        if let Some(layer) = kept.and_then(|kept| kept.layer(frame, block, level)) {
            return Ok(layer);
        }
        let (to_frame, own, tone) = self.placement(view, frame, level);
        Ok(stack::layer(self.sources[frame], own, to_frame, tone, block)?)
    }

    /// Frames over a region, side by side.
    pub(super) fn layers(
        &self,
        frames: &[usize],
        region: Rect,
        level: u32,
    ) -> Result<Vec<LayerData>, RenderError> {
        frames.par_iter().map(|&i| self.layer(View::Plate, i, region, level)).collect()
    }

    /// One frame over a block, sampled where `back` leads to; it comes with the region and level of what is moved.
    pub(super) fn moved(
        &self,
        frame: usize,
        back: Option<(&Homography, Rect, u32)>,
        block: Rect,
        level: u32,
    ) -> Result<LayerData, RenderError> {
        let Some((back, whole, coarse)) = back else {
            return self.layer(View::Plate, frame, block, level);
        };
        let (mut warp, own, tone) = self.placement(View::Plate, frame, level);
        // It is shifted by what the frame is bent by in the middle of where it comes from.
        let up = f64::from(1u32 << coarse);
        let middle = back.apply(Point::new(
            up * (whole.x as f64 + f64::from(whole.width) / 2.0),
            up * (whole.y as f64 + f64::from(whole.height) / 2.0),
        ));
        let bent = warp.bend.take().map_or(Point::default(), |b| b.at(middle));
        warp.last = warp.last.after(&Homography::shift(bent.x, bent.y)).after(back);
        Ok(stack::layer(self.sources[frame], own, warp, Tone { field: None, ..tone }, block)?)
    }

    /// The layers over a stack's block that patches need beside its own.
    pub(super) fn extras(
        &self,
        patches: &[PlacedPatch],
        stack: &Stack,
        level: u32,
    ) -> Result<Extras, RenderError> {
        let ((from, to), used) = (stack.extent(), self.used());
        let needed = |l: &PlacedPatch| l.source.frame().filter(|i| l.fit.back.is_some() || !used.contains(i));
        patches
            .iter()
            .enumerate()
            .filter(|(_, l)| l.fit.mask.touches(from, to))
            .filter_map(|(k, l)| Some((k, l, needed(l)?)))
            .map(|(k, l, i)| {
                let (rect, coarse) = l.fit.mask.guide();
                Ok((k, self.moved(i, l.fit.back.as_ref().map(|b| (b, rect, coarse)), stack.block(), level)?))
            })
            .collect()
    }

    /// The aligned samples of `frames` over `block`.
    pub(super) fn stack(
        &self,
        view: View,
        frames: &[usize],
        block: Rect,
        level: u32,
    ) -> Result<Stack, RenderError> {
        let layers = frames.iter().map(|&i| self.layer(view, i, block, level)).collect::<Result<_, _>>()?;
        let detail = match view {
            View::Plate | View::By(_) | View::Agreement => self.detail(frames, block, level)?,
            View::Frame(_) | View::Shot(_) | View::Difference(_) => None,
        };
        Ok(Stack::new((block, self.corner(block, level)), frames, layers, detail))
    }

    /// The aligned samples of frames over a block, each made by itself; for a single block.
    pub(super) fn stack_of(&self, frames: &[usize], block: Rect, level: u32) -> Result<Stack, RenderError> {
        let layers = self.layers(frames, block, level)?;
        let detail = self.detail(frames, block, level)?;
        Ok(Stack::new((block, self.corner(block, level)), frames, layers, detail))
    }

    /// What gives the average of these frames over a block its detail: the reference, with its place among them. `None` where it is
    /// not among them, or less sharp than they are, or where frames differ by nothing but noise.
    pub(super) fn detail(
        &self,
        frames: &[usize],
        block: Rect,
        level: u32,
    ) -> Result<Option<(usize, Detail)>, RenderError> {
        /// Detail of a reference that may stand for all, in that of the set.
        const SHARP: f32 = 0.9;
        let reference = self.plan.reference;
        let sharp = self.plan.frames[reference].sharpness.is_none_or(|s| s > SHARP);
        let place = frames.iter().position(|&i| i == reference);
        let counts = frames.len() > 1 && sharp && self.plan.noise.slip > 0.0;
        let Some(place) = place.filter(|_| counts) else { return Ok(None) };
        let (wide, inner) = self.around(block, level);
        let layer = self.layer(View::Plate, reference, wide, level)?;
        Ok(Some((place, Detail::new(&layer, wide.width, inner, &self.plan.noise, shrink(level)))))
    }

    /// The aligned samples of frames over a block with one pixel around it where the canvas goes on, and the block's place within.
    pub(super) fn padded(
        &self,
        frames: &[usize],
        block: Rect,
        level: u32,
    ) -> Result<(Stack, Rect), RenderError> {
        let (wide, inner) = self.around(block, level);
        Ok((self.stack(View::Plate, frames, wide, level)?, inner))
    }

    /// A block with one pixel around it where the canvas goes on, and the block's place within.
    pub(super) fn around(&self, block: Rect, level: u32) -> (Rect, Rect) {
        let wide = Rect::new(block.x - 1, block.y - 1, block.width + 2, block.height + 2)
            .intersect(self.size(View::Plate).at_level(level).rect());
        (wide, Rect { x: block.x - wide.x, y: block.y - wide.y, ..block })
    }

    /// Where a block's first pixel lies in the reference, and how many of its pixels one is along a side.
    pub(super) fn corner(&self, block: Rect, level: u32) -> (Point, f64) {
        let (up, canvas) = (f64::from(1u32 << level), self.canvas());
        let at = |v: i64, from: i64| from as f64 + up * v as f64 + (up - 1.0) / 2.0;
        (Point::new(at(block.x, canvas.x), at(block.y, canvas.y)), up)
    }

    /// Where a block begins and ends in the reference.
    pub(super) fn corners(&self, block: Rect, level: u32) -> (Point, Point) {
        let place = self.corner(block, level);
        (place.0, end(block.size(), place))
    }
}

/// Full-size pixels along a side of one pixel of a level.
pub(super) fn shrink(level: u32) -> f32 {
    (1u32 << level.min(16)) as f32
}

/// One past the last pixel of a block of this size, in the reference: its first pixel lies at a place there, and is as many of its
/// pixels along a side.
pub(super) fn end(size: Size, (from, up): (Point, f64)) -> Point {
    Point::new(from.x + up * f64::from(size.width), from.y + up * f64::from(size.height))
}
