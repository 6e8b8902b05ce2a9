//! The decisions of a set: an ordered, versioned, serialisable value from which the plate follows.
//!
//! A recipe never holds derived numbers; those are in the [`crate::plan::Plan`]. Every change makes a new recipe,
//! and undo moves along the list of them.

use crate::combine::Method;
use crate::geometry::Model;
use serde::{Deserialize, Serialize};

/// Which transforms frames may be given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Align {
    /// The fewest parameters that the evidence asks for.
    #[default]
    Auto,
    /// Frames are laid over each other as they are.
    Off,
    /// Shift only.
    Shift,
    /// Shift and turn.
    Rigid,
    /// Shift, turn and zoom.
    Similarity,
    /// A full homography.
    Perspective,
}

impl Align {
    /// The families to choose from, from few to many parameters.
    pub fn models(self) -> &'static [Model] {
        match self {
            Self::Off => &[Model::Identity],
            Self::Auto => &Model::ALL,
            Self::Shift => &[Model::Shift],
            Self::Rigid => &[Model::Rigid],
            Self::Similarity => &[Model::Similarity],
            Self::Perspective => &[Model::Perspective],
        }
    }
}

/// What the plate covers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Canvas {
    /// Exactly the reference frame's pixel grid.
    #[default]
    Reference,
    /// The largest rectangle that all used frames cover.
    Common,
}

/// The version written by this program.
pub const VERSION: u32 = 1;

/// All decisions of a set.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Recipe {
    /// Version of this shape.
    pub version: u32,
    /// One entry a frame, in the set's order: false when its owner set it aside.
    pub used: Vec<bool>,
    /// Allowed transforms.
    pub align: Align,
    /// Index of the chosen reference frame; `None` lets the program propose it.
    pub reference: Option<usize>,
    /// Whether frames are matched in exposure and colour.
    pub match_exposure: bool,
    /// How frames become one.
    pub method: Method,
    /// What the plate covers.
    pub canvas: Canvas,
}

impl Recipe {
    /// The recipe a new set of `frames` frames starts with.
    pub fn new(frames: usize) -> Self {
        Self {
            version: VERSION,
            used: vec![true; frames],
            align: Align::Auto,
            reference: None,
            match_exposure: true,
            method: Method::Median,
            canvas: Canvas::Reference,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_recipe() -> impl Strategy<Value = Recipe> {
        let align = prop::sample::select(vec![
            Align::Auto,
            Align::Off,
            Align::Shift,
            Align::Rigid,
            Align::Similarity,
            Align::Perspective,
        ]);
        let method = prop_oneof![
            Just(Method::Median),
            Just(Method::Mean),
            Just(Method::Darkest),
            Just(Method::Lightest),
            (0u8..=100).prop_map(Method::Rank),
        ];
        let canvas = prop::sample::select(vec![Canvas::Reference, Canvas::Common]);
        (
            prop::collection::vec(any::<bool>(), 1..9),
            align,
            prop::option::of(0usize..9),
            any::<bool>(),
            method,
            canvas,
        )
            .prop_map(|(used, align, reference, match_exposure, method, canvas)| Recipe {
                version: VERSION,
                used,
                align,
                reference,
                match_exposure,
                method,
                canvas,
            })
    }

    proptest! {
        #[test]
        fn a_recipe_survives_the_round_trip(recipe in any_recipe()) {
            let text = serde_json::to_string(&recipe).unwrap();
            prop_assert_eq!(serde_json::from_str::<Recipe>(&text).unwrap(), recipe);
        }
    }
}
