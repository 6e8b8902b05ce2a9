//! The stage of a touch: pixels that were made once, laid over what lies below them.

use super::error::RenderError;
use super::plate::Plate;
use super::stage::{Below, Frames, Made, Stage};
use crate::geometry::{Grid, Point};
use crate::touch::PlacedTouch;

impl Stage for PlacedTouch {
    fn name(&self) -> String {
        format!("t{}.{:x}", self.key, self.strength.to_bits())
    }

    fn reach(&self) -> Option<(Point, Point)> {
        Some(self.made.mask.reach())
    }

    fn apply(&self, grid: &Grid, mut below: Vec<Below>, _: &dyn Frames) -> Result<Plate, RenderError> {
        let mut plate = below.swap_remove(0).plate;
        let Some((own, pixels)) = self.made.at(grid.level) else { return Ok(plate) };
        let width = grid.rect.width as usize;
        let light = |v: u16| f32::from(v).powi(2);
        for (y, row) in (grid.rect.y..grid.rect.bottom()).enumerate() {
            if row < own.rect.y || row >= own.rect.bottom() {
                continue;
            }
            let Some(weights) = self.made.mask.row(grid, y) else { continue };
            let line = (row - own.rect.y) as usize * own.rect.width as usize;
            let (from, to) = (own.rect.x.max(grid.rect.x), own.rect.right().min(grid.rect.right()));
            for x in from..to {
                let (here, there) = ((x - grid.rect.x) as usize, line + (x - own.rect.x) as usize);
                let share = weights[here] * self.strength;
                if share <= 0.0 {
                    continue;
                }
                for (plane, made) in plate.iter_mut().zip(pixels) {
                    let code = &mut plane[y * width + here];
                    *code = if share >= 1.0 {
                        made[there]
                    } else {
                        let (old, new) = (light(*code), light(made[there]));
                        ((old + share * (new - old)).sqrt() + 0.5) as u16
                    };
                }
            }
        }
        Ok(plate)
    }

    fn share(&self, from: Point, step: f64, count: usize) -> Option<Vec<f32>> {
        let mut weights = self.made.mask.along(from, step, count)?;
        weights.iter_mut().for_each(|v| *v *= self.strength);
        Some(weights)
    }

    fn origin(&self) -> Made {
        Made { touch: Some(self.index), invented: self.invented, ..Made::default() }
    }
}
