//! The stages of what is looked at beside the plate: how a frame differs, and how many frames agree.

use super::error::RenderError;
use super::plate::Plate;
use super::stage::{Below, Frames, Stage};
use crate::geometry::{Grid, Rect};

/// How the second of two frames differs from the first.
pub(super) struct Difference;

impl Stage for Difference {
    fn name(&self) -> String {
        "difference".into()
    }

    fn needs(&self, _grid: &Grid, _whole: Rect) -> Vec<Grid> {
        Vec::new()
    }

    fn apply(&self, grid: &Grid, _below: Vec<Below>, frames: &dyn Frames) -> Result<Plate, RenderError> {
        Ok(frames.over(grid)?.difference())
    }
}

/// The share of frames that show the same as the plate.
pub(super) struct Agreement;

impl Stage for Agreement {
    fn name(&self) -> String {
        "agreement".into()
    }

    fn needs(&self, grid: &Grid, whole: Rect) -> Vec<Grid> {
        // The slope of the plate tells what may differ.
        vec![grid.grown(1, whole)]
    }

    fn reads_frames(&self) -> bool {
        true
    }

    fn apply(&self, grid: &Grid, below: Vec<Below>, frames: &dyn Frames) -> Result<Plate, RenderError> {
        let Below { grid: wide, plate } = &below[0];
        let (shares, _) = frames.over(wide)?.agreement(plate, grid, frames.noise());
        let codes: Vec<u16> = shares.iter().map(|share| (share * 65535.0).round() as u16).collect();
        Ok([codes.clone(), codes.clone(), codes])
    }
}
