//! What is derived from which fields of a recipe: the one place that says so.
//!
//! Each derived value has a view of exactly the fields that it depends on, beside the values that it is derived from. The
//! keys that caches and addresses are made of are these views, serialised, and nothing else. [`Inputs::of`] takes the recipe
//! apart whole: a new field does not compile until somebody decides here whose key it enters.
//!
//! | derived value | from | fields |
//! |---|---|---|
//! | alignment, tone and noise | the frames' pixels | [`AlignmentInputs`] |
//! | placement of each frame | the alignment | [`PlacementInputs`] |
//! | decision of the consensus | the placement | [`DecisionInputs`] |
//! | aligned samples | the placement | [`SampleInputs`] |
//! | fit of a patch | the decision, aligned samples | [`PlateInputs`], [`crate::patch::FitInputs`] |
//! | the plate without patches | the decision, aligned samples | [`PlateInputs`] |
//! | its look | the plate | [`LookInputs`] |
//!
//! ```
//! use evanu_core::combine::Method;
//! use evanu_core::recipe::{Align, FrameId, Inputs, Recipe};
//!
//! let recipe: Recipe<FrameId> = Recipe::new();
//! let by_mean = Recipe { method: Method::Mean, ..recipe.clone() };
//! let aligned_otherwise = Recipe { align: Align::Off, ..recipe.clone() };
//! let key = |recipe| format!("{:?}", Inputs::of(recipe).alignment);
//! assert_eq!(key(&recipe), key(&by_mean), "another method needs no other alignment");
//! assert_ne!(key(&recipe), key(&aligned_otherwise));
//! ```

use super::{Align, Area, Canvas, ManualAlignment, Matching, Patch, Protected, Recipe, Settled, Touch};
use crate::combine::Method;
use crate::develop::Develop;
use serde::Serialize;
use std::collections::BTreeSet;
use std::fmt;

/// A recipe by what is derived from it.
#[derive(Debug, Clone, Copy)]
pub struct Inputs<'a, F> {
    /// Of the alignment.
    pub alignment: AlignmentInputs<'a, F>,
    /// Of where each frame lies.
    pub placement: PlacementInputs<'a, F>,
    /// Of the consensus.
    pub decision: DecisionInputs<'a, F>,
    /// Of aligned samples.
    pub samples: SampleInputs<'a, F>,
    /// Of the plate without patches.
    pub plate: PlateInputs<'a, F>,
    /// Of how light becomes a picture.
    pub look: LookInputs<'a>,
    /// The patches, each with [`Patch::fit_inputs`] of its own.
    pub patches: &'a [Patch<F>],
    /// The touches, which lie above the patches.
    pub touches: &'a [Touch<F>],
}

/// What an alignment depends on.
#[derive(Debug, Clone, Copy)]
pub struct AlignmentInputs<'a, F> {
    align: Align,
    reference: &'a Option<F>,
    areas: &'a [Area<F>],
}

/// What the place of each frame depends on beside the alignment.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct PlacementInputs<'a, F> {
    manual_alignments: &'a [ManualAlignment<F>],
}

/// What the decision of the consensus depends on beside the placement.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct DecisionInputs<'a, F> {
    excluded: &'a BTreeSet<F>,
    match_exposure: Matching,
    /// Where it is decided on, other than the reference.
    #[serde(skip_serializing_if = "Option::is_none")]
    beyond: Option<Canvas>,
}

/// What aligned samples depend on beside the placement.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct SampleInputs<'a, F> {
    match_exposure: Matching,
    canvas: Canvas,
    /// Other areas than the reference's follow the frames in use, and so do their frames' tiles.
    common_to: Option<&'a BTreeSet<F>>,
}

/// What the plate without patches depends on beside the decision.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct PlateInputs<'a, F> {
    method: Method,
    settled: &'a [Settled<F>],
    /// No patch changes these: what a patch is laid over depends on them, and so do its fit and its tiles.
    protected: &'a [Protected<F>],
}

/// What the way from light to a picture depends on.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct LookInputs<'a> {
    develop: &'a Develop,
}

impl<F: fmt::Debug> fmt::Display for AlignmentInputs<'_, F> {
    /// As plans were kept by from the beginning, so that those of older programs are found.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { align, reference, areas } = self;
        write!(f, "{align:?} {reference:?} {areas:?}")
    }
}

impl<'a, F> Inputs<'a, F> {
    /// Those of a recipe.
    pub fn of(recipe: &'a Recipe<F>) -> Self {
        let Recipe {
            version: _,
            excluded,
            align,
            reference,
            match_exposure,
            develop,
            areas,
            manual_alignments,
            settled,
            patches,
            touches,
            protected,
            method,
            canvas,
            // No pixel of the plate depends on what is done in the clip.
            clip: _,
        } = recipe;
        Self {
            alignment: AlignmentInputs { align: *align, reference, areas },
            placement: PlacementInputs { manual_alignments },
            decision: DecisionInputs {
                excluded,
                match_exposure: *match_exposure,
                beyond: Some(canvas.before_cutting()).filter(|c| *c != Canvas::Reference),
            },
            samples: SampleInputs {
                match_exposure: *match_exposure,
                canvas: *canvas,
                common_to: (*canvas != Canvas::Reference).then_some(excluded),
            },
            plate: PlateInputs { method: *method, settled, protected },
            look: LookInputs { develop },
            patches,
            touches,
        }
    }
}
