//! A set ready to be rendered: the recipe, what was derived from it, and the frames.

use super::stage::Stage;
use crate::combine::Method;
use crate::combine::consensus::{LabelMap, LayerData};
use crate::geometry::{Geometry, Grid, Rect, Size, common_area, whole_area};
use crate::patch::PlacedPatch;
use crate::pixel::FrameSource;
use crate::plan::{Decision, Light, Plan};
use crate::recipe::{Canvas, Matching, Recipe};
use serde::{Deserialize, Serialize};

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

/// Aligned samples and plates that are kept somewhere; the same that a scene would make from its frames.
pub trait Kept: Sync {
    /// The samples of a frame over pixels of the canvas; `None` where some are missing.
    fn layer(&self, frame: usize, grid: &Grid) -> Option<LayerData>;

    /// The pixels of the plate as stages of these names make them, of those that reach the pixels.
    fn plate(&self, stages: &[String], grid: &Grid) -> Option<LayerData>;
}

/// A set ready to be rendered. Whatever is derived is there or not; a scene holds no half-made values.
#[derive(Clone, Copy)]
pub struct Scene<'a> {
    /// What is wanted.
    pub recipe: &'a Recipe,
    /// Alignment, tones and survey.
    pub plan: &'a Plan,
    /// How frames lie over the reference: the plan's alignment, or another geometry.
    pub geometry: &'a dyn Geometry,
    /// The frames, in the set's order.
    pub sources: &'a [&'a dyn FrameSource],
    /// What the consensus decided.
    pub label_map: Option<&'a LabelMap>,
    /// The recipe's patches, fitted, in the order in which they lie.
    pub patches: &'a [PlacedPatch],
    /// Further stages above the patches, in order.
    pub touches: &'a [&'a dyn Stage],
    /// Names everything that the combined frames depend on, where [`Kept`] plates are told apart.
    pub name: &'a str,
    /// Samples that frames need not be read for.
    pub kept: Option<&'a dyn Kept>,
}

impl<'a> Scene<'a> {
    /// A set by its plan alone: no consensus, no patches, nothing kept.
    pub fn new(recipe: &'a Recipe, plan: &'a Plan, sources: &'a [&'a dyn FrameSource]) -> Self {
        Self {
            recipe,
            plan,
            geometry: &plan.alignment,
            sources,
            label_map: None,
            patches: &[],
            touches: &[],
            name: "",
            kept: None,
        }
    }

    /// The same with a decision of the consensus.
    pub fn decided(self, decision: &'a Decision) -> Self {
        Self { label_map: Some(&decision.label_map), ..self }
    }

    /// Indices of the frames that take part: not set aside by their owner, and fitting.
    pub fn used(&self) -> Vec<usize> {
        let takes_part = |i: &usize| !self.recipe.excluded.contains(i) && self.geometry.fits(*i);
        (0..self.sources.len()).filter(takes_part).collect()
    }

    /// Index of the reference frame.
    pub fn reference(&self) -> usize {
        self.geometry.reference()
    }

    /// Size of the reference frame.
    pub fn reference_size(&self) -> Size {
        self.geometry.size(self.reference())
    }

    /// The area that the plate covers, in reference pixels.
    pub fn canvas(&self) -> Rect {
        match self.recipe.canvas {
            Canvas::Reference => self.reference_size().rect(),
            Canvas::Common => common_area(self.geometry, &self.used()),
            Canvas::Whole => whole_area(self.geometry, &self.used()),
        }
    }

    /// The area that is decided on and that patches and touches may lie in, in reference pixels.
    pub fn extent(&self) -> Rect {
        match self.recipe.canvas.before_cutting() {
            Canvas::Whole => self.canvas(),
            _ => self.reference_size().rect(),
        }
    }

    /// Full size of a view, in pixels.
    pub fn size(&self, view: View) -> Size {
        match view {
            View::Shot(i) => self.sources[i].size(),
            _ => self.canvas().size(),
        }
    }

    /// All pixels of a view at a level.
    pub fn grid(&self, view: View, level: u32) -> Grid {
        match view {
            View::Shot(i) => Grid::new(self.sources[i].size().at_level(level).rect(), level),
            _ => Grid::of_canvas(self.canvas(), level),
        }
    }

    /// Whether frames are matched in exposure and colour.
    pub fn matched(&self) -> bool {
        match self.recipe.match_exposure {
            Matching::Auto => self.plan.tones.light != Light::Varied,
            Matching::On => true,
            Matching::Off => false,
        }
    }
}
