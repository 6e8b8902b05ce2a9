//! What every step of the list that makes pixels has in common.
//!
//! The picture runs through the stages in order: the first combines the frames, each further one changes what lies below it. A stage
//! says which pixels below it needs for those it makes, so that a part of the picture is made from parts only; what it makes depends
//! on a pixel's place, never on the part that is asked for. To add a kind of stage, implement [`Stage`] in a file of its own and put it
//! into the list ([`Scene::stages`](super::Scene::stages), or [`Scene::touches`](super::Scene::touches) from outside).

use super::error::RenderError;
use super::plate::Plate;
use super::stack::Stack;
use crate::combine::consensus::LayerData;
use crate::geometry::{Grid, Homography, Point, Rect, meets};
use crate::noise::NoiseModel;
use std::sync::Arc;

/// A step of the list that makes pixels.
pub trait Stage: Sync {
    /// A name that changes whenever what the stage makes of the same pixels below it does.
    fn name(&self) -> String;

    /// The corners of the box outside which it changes nothing, in reference pixels; `None` when it may change all of the picture.
    fn reach(&self) -> Option<(Point, Point)> {
        None
    }

    /// The pixels below that it needs for these, within the `whole` picture; each as large as is wanted. The same ones when it changes
    /// each pixel by itself.
    fn needs(&self, grid: &Grid, whole: Rect) -> Vec<Grid> {
        let _ = whole;
        vec![*grid]
    }

    /// Whether it reads the frames over the pixels that it needs: then their samples are kept from the first stage on.
    fn reads_frames(&self) -> bool {
        false
    }

    /// Makes pixels from those below, which come in the order in which [`needs`](Self::needs) asked for them.
    ///
    /// # Errors
    /// When a frame cannot be read.
    fn apply(&self, grid: &Grid, below: Vec<Below>, frames: &dyn Frames) -> Result<Plate, RenderError>;

    /// How much of each of `count` places in a row is of its own making, 0..=1; they lie `step` reference pixels apart, from a place
    /// on. `None` for nothing.
    fn share(&self, from: Point, step: f64, count: usize) -> Option<Vec<f32>> {
        let _ = (from, step, count);
        None
    }

    /// What its own pixels come from.
    fn origin(&self) -> Made {
        Made::default()
    }
}

/// Pixels that the stages below made.
pub struct Below {
    /// Which.
    pub grid: Grid,
    /// The pixels.
    pub plate: Plate,
}

/// What the pixels of a stage come from.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Made {
    /// The frame, as an index of the set; `None` when it is not a single one.
    pub frame: Option<usize>,
    /// The place of its patch in the recipe's list.
    pub patch: Option<usize>,
    /// The place of its touch in the recipe's list.
    pub touch: Option<usize>,
    /// Whether they are made up, so that no frame shows them.
    pub invented: bool,
}

/// The frames of a set, aligned and matched, for stages that read them.
pub trait Frames {
    /// The samples of all frames in use over pixels; made once for each part that is asked for.
    ///
    /// # Errors
    /// When a frame cannot be read.
    fn over(&self, grid: &Grid) -> Result<Arc<Stack>, RenderError>;

    /// Those of one frame, in use or not. `moved` leads from places of the reference to where they are sampled, for pixels of a grid.
    ///
    /// # Errors
    /// When the frame cannot be read.
    fn frame(
        &self,
        frame: usize,
        grid: &Grid,
        moved: Option<(&Homography, &Grid)>,
    ) -> Result<LayerData, RenderError>;

    /// Whether a stage reads the frames over pixels, so that [`over`](Self::over) costs nothing further.
    fn are_wanted(&self, grid: &Grid) -> bool;

    /// How much samples of the same thing differ.
    fn noise(&self) -> &NoiseModel;
}

/// Whether a stage may change any of these pixels.
pub(super) fn touches(stage: &dyn Stage, grid: &Grid) -> bool {
    stage.reach().is_none_or(|reach| meets(reach, grid.bounds()))
}

impl<S: Stage + ?Sized> Stage for &S {
    fn name(&self) -> String {
        (**self).name()
    }

    fn reach(&self) -> Option<(Point, Point)> {
        (**self).reach()
    }

    fn needs(&self, grid: &Grid, whole: Rect) -> Vec<Grid> {
        (**self).needs(grid, whole)
    }

    fn reads_frames(&self) -> bool {
        (**self).reads_frames()
    }

    fn apply(&self, grid: &Grid, below: Vec<Below>, frames: &dyn Frames) -> Result<Plate, RenderError> {
        (**self).apply(grid, below, frames)
    }

    fn share(&self, from: Point, step: f64, count: usize) -> Option<Vec<f32>> {
        (**self).share(from, step, count)
    }

    fn origin(&self) -> Made {
        (**self).origin()
    }
}
