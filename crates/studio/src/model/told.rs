//! What is told of places: doubts, lifts, seams, crops, fits.

use super::{AreaInfo, PointShape};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a frame's fit rests on; places are canvas pixels, x then y.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct FitInfo {
    /// Places that lead.
    pub points: Vec<[f64; 2]>,
    /// Places found again that moved otherwise.
    pub refused: Vec<[f64; 2]>,
    /// Where most is left.
    pub worst: Option<[f64; 2]>,
    /// The frame's border, where it lies over the plate.
    pub outline: Vec<[f64; 2]>,
}

/// How well frames support the plate.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct AgreementFact {
    /// Mean share of agreeing frames, 0..=1.
    pub mean: f64,
    /// Share of the picture that no majority of frames supports, 0..=1.
    pub unsupported_fraction: f64,
}

/// A place that the consensus does not settle by itself.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct DoubtInfo {
    /// Where, in plate pixels.
    pub place: AreaInfo,
    /// The same in pixels of the reference, as it is named when it is settled.
    pub bbox: AreaInfo,
    /// Why, in words.
    pub reason: String,
    /// Whether nothing competes there, but it looks like somebody who stood still.
    pub still: bool,
    /// How sure the proposal is, 0..=1.
    pub confidence: f32,
    /// What is to be seen there, best first: indices of the frames that show the same.
    pub stories: Vec<Vec<usize>>,
    /// Who settled it; nobody yet when absent.
    pub settled: Option<SettledBy>,
    /// The frame it was settled by; `None` when the proposal was accepted.
    pub frame: Option<usize>,
}

/// Who settled a doubt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SettledBy {
    /// The evidence.
    Evanu,
    /// The set's owner.
    You,
}

/// An area that moves and belongs.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct MovingInfo {
    /// Its outline in reference pixels.
    #[schema(value_type = Vec<PointShape>)]
    pub outline: Vec<evanu_core::geometry::Point>,
    /// What moves, in words.
    pub what: String,
    /// Share of the picture, 0..=1.
    pub share: f32,
    /// Index of the frame that is proposed for one moment whole.
    pub frame: usize,
    /// Whether a lift covers it already.
    pub settled: bool,
}

/// When highlights that a lift takes off come back.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct GlareInfo {
    /// Strength, 0..=1, below which half of them are back; null when there are none.
    pub returns: Option<f32>,
}

/// Where a pixel of the plate comes from.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct OriginInfo {
    /// Moments that agree, and moments in all.
    pub agree: usize,
    /// Moments of the frames in use that reach the place.
    pub moments: usize,
    /// Indices of the frames that make the pixel, in the set's order.
    pub frames: Vec<usize>,
    /// The lift that covers it: its place in the recipe's list.
    pub lift: Option<usize>,
}

/// One crop of the look-through.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct CropInfo {
    /// The frame's index.
    pub index: usize,
    /// Whether the frame shows the same as the plate in the middle of the crop; `None` where it does not reach.
    pub agrees: Option<bool>,
    /// Share of the middle in which it does, 0..=1.
    pub share: Option<f32>,
}

/// The same place in every frame, side by side.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Look {
    /// Width of each crop in pixels.
    pub width: u32,
    /// Height of each crop in pixels.
    pub height: u32,
    /// One entry a crop, from left to right.
    pub crops: Vec<CropInfo>,
    /// Where the pixel in the middle comes from, when the plate is made by consensus.
    pub origin: Option<OriginInfo>,
    /// All crops in one JPEG, as a data address.
    pub strip: String,
}

/// What a lift does, all places in reference pixels.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LiftInfo {
    /// Its border as it was found: closed outlines.
    #[schema(value_type = Vec<Vec<PointShape>>)]
    pub border: Vec<Vec<evanu_core::geometry::Point>>,
    /// What it brings in: closed outlines.
    #[schema(value_type = Vec<Vec<PointShape>>)]
    pub brings: Vec<Vec<evanu_core::geometry::Point>>,
    /// How many things it takes away.
    pub takes: usize,
    /// Whether it shows anything else than the plate.
    pub differs: bool,
    /// What it does, in words.
    pub words: String,
    /// Whether the words are a warning.
    pub warns: bool,
}

/// A place that is to be taken from somewhere.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct Wanted {
    /// A place in it, in reference pixels.
    #[schema(value_type = PointShape)]
    pub at: evanu_core::geometry::Point,
    /// A closed outline around it, in reference pixels; without one, how far the thing there reaches is found.
    #[serde(default)]
    #[schema(value_type = Option<Vec<PointShape>>)]
    pub outline: Option<Vec<evanu_core::geometry::Point>>,
}

/// A frame that a place can be taken from.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Proposal {
    /// Its index.
    pub frame: usize,
    /// What would be taken: a closed outline in reference pixels.
    #[schema(value_type = Vec<PointShape>)]
    pub outline: Vec<evanu_core::geometry::Point>,
    /// What that would do.
    pub told: LiftInfo,
}

/// What the plate is for, and so how closely it is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Purpose {
    /// At most 2048 pixels along its longer side.
    Web,
    /// At most 3840 pixels.
    Screen,
    /// Every pixel.
    Print,
}

impl Purpose {
    /// Most pixels along the longer side.
    pub fn side(self) -> u32 {
        match self {
            Self::Web => 2048,
            Self::Screen => 3840,
            Self::Print => u32::MAX,
        }
    }
}

/// A place where a lift can be seen.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SeamInfo {
    /// Place of the lift in the recipe's list.
    pub lift: usize,
    /// Where, in reference pixels.
    pub place: AreaInfo,
    /// How far the light steps, or its grain stands over that around, as a share.
    pub step: f32,
    /// What there is, in words.
    pub words: String,
    /// What would help: `seek`, `tone`, `grain`, `fade` or `wider`.
    #[schema(value_type = String)]
    pub mend: evanu_core::composite::seams::Mend,
}

/// How far a thing reaches.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ExtentInfo {
    /// Its outline in reference pixels; null when the frame shows the same as the plate there.
    #[schema(value_type = Option<Vec<PointShape>>)]
    pub outline: Option<Vec<evanu_core::geometry::Point>>,
}
