//! The stage of a patch: a part of the plate that comes from one frame, or by another method.

use super::error::RenderError;
use super::plate::Plate;
use super::stack::Stack;
use super::stage::{Below, Frames, Made, Stage};
use crate::combine::Row;
use crate::combine::consensus::{LabelMap, LayerData};
use crate::geometry::{Grid, Homography, Point};
use crate::patch::{self, PlacedPatch, Source};

/// White, as the square of its root code.
const WHITE: f32 = 65535.0 * 65535.0;

/// A patch over what lies below it.
pub(super) struct Lay<'a> {
    /// The patch.
    pub patch: &'a PlacedPatch,
    /// What the consensus chose, for a patch by a method that rests on it.
    pub choice: Option<&'a LabelMap>,
}

impl Stage for Lay<'_> {
    fn name(&self) -> String {
        self.patch.name()
    }

    fn reach(&self) -> Option<(Point, Point)> {
        Some(self.patch.fit.mask.reach())
    }

    fn reads_frames(&self) -> bool {
        true
    }

    fn apply(&self, grid: &Grid, mut below: Vec<Below>, frames: &dyn Frames) -> Result<Plate, RenderError> {
        let mut plate = below.swap_remove(0).plate;
        let stack = frames.over(grid)?;
        // Its frame may take no part otherwise, or have a geometry of its own.
        let fit = &self.patch.fit;
        let single = |frame: usize| {
            let mask = fit.mask.grid();
            let moved: Option<(&Homography, &Grid)> = fit.back.as_ref().map(|back| (back, &mask));
            frames.frame(frame, grid, moved)
        };
        let apart = |frame: &usize| fit.back.is_some() || stack.layer(*frame).is_none();
        let own = self.patch.source.frame().filter(apart).map(single).transpose()?;
        self.lay(&mut plate, &stack, own.as_ref());
        Ok(plate)
    }

    fn share(&self, from: Point, step: f64, count: usize) -> Option<Vec<f32>> {
        let mut weights = self.patch.fit.mask.along(from, step, count)?;
        weights.iter_mut().for_each(|v| *v *= self.patch.strength);
        Some(weights)
    }

    fn origin(&self) -> Made {
        Made { frame: self.patch.source.frame(), patch: Some(self.patch.index), ..Made::default() }
    }
}

impl Lay<'_> {
    /// Lays it over the plate; where its frame does not reach, the plate stays.
    fn lay(&self, plate: &mut Plate, stack: &Stack, own: Option<&LayerData>) {
        let Self { patch, choice } = *self;
        let grid = stack.grid();
        let (from, up) = (grid.first(), grid.step());
        let (w, h) = (grid.rect.width as usize, grid.rect.height as usize);
        let layer = own.or_else(|| patch.source.frame().and_then(|frame| stack.layer(frame)));
        let rows: Vec<(usize, Vec<f32>)> =
            (0..h).filter_map(|y| Some((y, patch.fit.mask.row(grid, y)?))).collect();
        let (Some((first, _)), Some((last, _))) = (rows.first(), rows.last()) else { return };
        let columns = rows.iter().fold((w, 0), |(left, right), (_, weights)| {
            let (from, to) = (weights.iter().position(|v| *v > 0.0), weights.iter().rposition(|v| *v > 0.0));
            (left.min(from.unwrap_or(w)), right.max(to.map_or(0, |x| x + 1)))
        });
        let covered = (*first..*last + 1, columns.0..columns.1);
        let mut combined = None;
        for (y, weights) in rows {
            let (row, span): (Row<'_>, _) = match (patch.source, layer, &patch.fit.together) {
                (Source::Method(method), ..) => {
                    let other = &*combined.get_or_insert_with(|| stack.by(method, choice));
                    (std::array::from_fn(|c| &other[c][y * w..][..w]), (0, w as u32))
                }
                (_, Some(layer), Some(with)) => {
                    let other = &*combined
                        .get_or_insert_with(|| stack.chosen(with, &with.inliers, covered.clone(), None));
                    (std::array::from_fn(|c| &other[c][y * w..][..w]), layer.spans[y])
                }
                (_, Some(layer), None) => {
                    (std::array::from_fn(|c| &layer.planes[c][y * w..][..w]), layer.spans[y])
                }
                (_, None, _) => continue,
            };
            let tone = patch.fit.tone.as_ref().map(|t| [0, 1, 2].map(|c| t[c].row(grid.y(y as f64))));
            for x in span.0 as usize..(span.1 as usize).min(w) {
                if weights[x] <= 0.0 {
                    continue;
                }
                let light = |v: u16| f32::from(v).powi(2);
                let old = [0, 1, 2].map(|c| light(plate[c][y * w + x]));
                let mut new = [0, 1, 2].map(|c| light(row[c][x]));
                if let Some(tone) = &tone {
                    let at = from.x + up * x as f64;
                    (0..3).for_each(|c| new[c] = (new[c] * tone[c].get(at)).min(WHITE));
                }
                let share = match patch.source {
                    Source::HighlightSuppressed(_) => {
                        weights[x] * (1.0 - patch::calmed(stops(new, old), patch.strength))
                    }
                    _ => weights[x] * patch.strength,
                };
                for c in 0..3 {
                    plate[c][y * w + x] = ((old[c] + share * (new[c] - old[c])).sqrt() + 0.5) as u16;
                }
            }
        }
    }
}

/// How much brighter the first colour is than the second, in stops.
fn stops(first: [f32; 3], second: [f32; 3]) -> f32 {
    /// Light below which nothing is told, in squared root codes: a thousandth of white.
    const DARK: f32 = 4.3e6;
    ((first.iter().sum::<f32>() / 3.0 + DARK) / (second.iter().sum::<f32>() / 3.0 + DARK)).log2()
}
