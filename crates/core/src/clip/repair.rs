//! All areas of a clip's repair together: each with a patch of its own where they lie apart, so that each follows the light around it.

use super::area::{Area, Planes};
use super::brush::Stroke;
use super::cover::{Cover, Told};
use crate::geometry::Size;
use rayon::prelude::*;

/// The patches of a clip.
pub struct Repair {
    /// Each with how many frames later its pixels are taken from, where something lives there.
    covers: Vec<(Cover, Option<i64>)>,
    size: Size,
}

/// A whole frame's planes.
pub type Frame = [Vec<u16>; 3];

impl Repair {
    /// Of covers of frames of this size, which lie apart.
    pub fn new(covers: Vec<(Cover, Option<i64>)>, size: Size) -> Self {
        Self { covers, size }
    }

    /// Where it lies.
    pub fn areas(&self) -> impl Iterator<Item = &Area> {
        self.covers.iter().map(|(cover, _)| cover.area())
    }

    /// How many frames later pieces are taken from.
    pub fn later(&self) -> Vec<i64> {
        let mut all: Vec<i64> = self.covers.iter().filter_map(|(_, later)| *later).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Lays all patches on a whole frame's planes, with what was brushed in it; `piece` is the frame so many frames later, where there is one.
    /// Tells the most that was found: contact by shares of all that is covered.
    pub fn lay<'a>(
        &self,
        (number, frame): (usize, &mut Frame),
        brushed: &[Stroke],
        piece: &(dyn Fn(i64) -> Option<&'a Frame> + Sync),
    ) -> Told {
        let parts: Vec<(Planes, Told)> = self
            .covers
            .par_iter()
            .map(|(cover, later)| {
                let mut part = cover.area().cut(frame, self.size);
                let other = later.and_then(piece).map(|other| cover.area().cut(other, self.size));
                let told = cover.lay(number, &mut part, brushed, other.as_ref());
                (part, told)
            })
            .collect();
        let weight = |k: usize| self.covers[k].0.covered().max(1.0);
        let all: f64 = (0..parts.len()).map(weight).sum();
        let mut told = Told::UNTOUCHED;
        for (k, (part, own)) in parts.iter().enumerate() {
            self.covers[k].0.area().put(part, frame, self.size);
            told.contact += own.contact * weight(k) / all;
        }
        // Of light and movement the largest area tells most.
        if let Some(k) = (0..parts.len()).max_by(|&a, &b| weight(a).total_cmp(&weight(b))) {
            (told.gain, told.shift) = (parts[k].1.gain, parts[k].1.shift);
        }
        told.around = parts.iter().map(|(_, own)| own.around).fold(0.0, f64::max);
        told
    }
}
