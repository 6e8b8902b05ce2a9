//! What is taken off a patch again: areas that nothing may change, and parts that are given back.
//!
//! A part that is given back takes along what it cuts off of the same things, when that is little beside it: connected pieces of the mask,
//! weighed by the pixels of things that they hold. Cost: some operations for each pixel of the mask and area.

use super::FittedPatch;
use super::mask::Mask;
use crate::geometry::{Point, Rect};
use crate::pixel::flood::parts;

impl FittedPatch {
    /// Takes it off an area, in pixels of a whole picture, with a border that fades over `feather` of them to both sides; the
    /// share of it that this takes away.
    pub fn spare(&mut self, outline: &[Point], feather: f64, all: Rect) -> f32 {
        let Some(kept) = Mask::drawn(outline, feather, 0.0, all) else { return 0.0 };
        let grid = self.mask.grid();
        let w = grid.rect.width as usize;
        let before: f32 = self.mask.weights().iter().sum();
        let weights: Vec<f32> = self
            .mask
            .weights()
            .iter()
            .enumerate()
            .map(|(i, weight)| weight * (1.0 - kept.at(grid.place((i % w) as f64, (i / w) as f64))))
            .collect();
        let after: f32 = weights.iter().sum();
        self.mask.set(weights);
        (before - after) / before.max(1.0)
    }

    /// Gives an area back, with a border that fades over `feather` pixels of a whole picture, and with it what hung on it: the end of
    /// a shadow whose owner goes stays nowhere alone.
    pub fn give_back(&mut self, outline: &[Point], feather: f64, all: Rect) {
        /// Share of the things that are given back, below which what is cut off of them goes too.
        const SMALL: f32 = 0.25;
        let w = self.mask.grid().rect.width as usize;
        let covered = |mask: &Mask| -> Vec<bool> { mask.weights().iter().map(|v| *v > 0.5).collect() };
        let mut thing = vec![false; self.mask.weights().len()];
        self.noticed.things.iter().flat_map(|t| &t.pixels).for_each(|&p| thing[p] = true);
        let mut before = covered(&self.mask);
        self.spare(outline, feather, all);
        let mut after = covered(&self.mask);
        let given = (0..thing.len()).filter(|&p| thing[p] && before[p] && !after[p]).count();
        let mut faint: Vec<bool> = self.mask.weights().iter().map(|v| *v > 0.0).collect();
        let mut weights = self.mask.weights().to_vec();
        let share = |piece: &Vec<usize>| piece.iter().filter(|p| thing[**p]).count() as f32 / given as f32;
        for part in parts(&mut before, w, 0..weights.len(), 1) {
            let (left, stays): (Vec<_>, Vec<_>) =
                parts(&mut after, w, part, 1).into_iter().partition(|piece| share(piece) < SMALL);
            // Not along what fades around the others.
            stays.iter().flatten().for_each(|&p| faint[p] = false);
            for piece in left {
                parts(&mut faint, w, piece, 1).into_iter().flatten().for_each(|p| weights[p] = 0.0);
            }
        }
        self.mask.set(weights);
    }
}
