//! Decisions that are one of a few: which transforms are allowed, what the plate covers, whether tone is matched.

use crate::geometry::Model;
use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, VariantNames};

/// Which transforms frames may be given.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Default,
    Serialize,
    Deserialize,
    EnumString,
    Display,
    VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
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
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Default,
    Serialize,
    Deserialize,
    EnumString,
    Display,
    VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Canvas {
    /// Exactly the reference frame's pixel grid.
    #[default]
    Reference,
    /// The largest rectangle that all used frames cover.
    Common,
    /// All that the used frames show together, up to a quarter of the reference's sides beyond it.
    Whole,
}

impl Canvas {
    /// What is decided on and fitted to: the common area is only cut from the reference in the end.
    pub fn before_cutting(self) -> Self {
        match self {
            Self::Reference | Self::Common => Self::Reference,
            Self::Whole => Self::Whole,
        }
    }
}

/// Whether frames are matched in exposure and colour.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Default,
    Serialize,
    Deserialize,
    EnumString,
    Display,
    VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Matching {
    /// Matched, unless their light was varied on purpose.
    #[default]
    Auto,
    /// Matched in any case.
    On,
    /// Left as shot.
    Off,
}
