//! What is told of places: doubts, patches, seams, crops, fits.

use super::AreaInfo;
use evanu_core::geometry::Point;
use evanu_core::recipe::{FrameId, Touch};
use evanu_core::touch::Fault;
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
    /// What is to be seen there, best first: the frames that show the same.
    pub stories: Vec<Vec<FrameId>>,
    /// Who settled it; nobody yet when absent.
    pub settled: Option<SettledBy>,
    /// The frame it was settled by; `None` when the proposal was accepted.
    pub frame: Option<FrameId>,
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
    pub outline: Vec<Point>,
    /// What moves, in words.
    pub what: String,
    /// Share of the picture, 0..=1.
    pub share: f32,
    /// The box around it in reference pixels, as it is named when it is given back to the method.
    pub bbox: AreaInfo,
    /// The frame that one moment whole is taken from.
    pub frame: FrameId,
    /// Whether it comes from one moment by itself, unless its owner gives it back to the method: it drifts under even light.
    pub by_itself: bool,
    /// Whether it does come from one moment.
    pub whole: bool,
    /// Whether a patch covers it already.
    pub settled: bool,
}

/// When highlights that a patch takes off come back.
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
    /// The frames that make the pixel, in the order in which they joined.
    pub frames: Vec<FrameId>,
    /// The patch that covers it: its place in the recipe's list.
    pub patch: Option<usize>,
    /// The touch that covers it.
    pub touch: Option<usize>,
}

/// One crop of the look-through.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct CropInfo {
    /// The frame; null where each crop is by another method.
    pub frame: Option<FrameId>,
    /// Whether the frame shows the same as the plate in the middle of the crop; `None` where it does not reach.
    pub agrees: Option<bool>,
    /// Share of the middle in which it does, 0..=1.
    pub share: Option<f32>,
}

/// The same place in every frame, side by side.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LookThrough {
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

/// What a patch does, all places in reference pixels.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct PatchInfo {
    /// Its border as it was found: closed outlines.
    pub border: Vec<Vec<Point>>,
    /// What it brings in: closed outlines.
    pub brings: Vec<Vec<Point>>,
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
pub struct ProposalRequest {
    /// A place in it, in reference pixels.
    pub at: Point,
    /// A closed outline around it, in reference pixels; without one, how far the thing there reaches is found.
    #[serde(default)]
    pub outline: Option<Vec<Point>>,
    /// Frames that are set aside are looked at, too.
    #[serde(default)]
    pub aside: bool,
}

/// A frame that a place can be taken from.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Proposal {
    /// Its identity.
    pub frame: FrameId,
    /// What would be taken: a closed outline in reference pixels.
    pub outline: Vec<Point>,
    /// What that would do.
    pub told: PatchInfo,
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

/// A place where a patch can be seen.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SeamInfo {
    /// Place of the patch in the recipe's list.
    pub patch: usize,
    /// Where, in reference pixels.
    pub place: AreaInfo,
    /// How far the light steps, or its grain stands over that around, as a share.
    pub step: f32,
    /// What there is, in words.
    pub words: String,
    /// What would help: `seek`, `tone`, `grain`, `fade` or `wider`.
    #[schema(value_type = String)]
    pub mend: evanu_core::patch::seams::Mend,
}

/// How far a thing reaches.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ExtentInfo {
    /// Its outline in reference pixels; null when the frame shows the same as the plate there, or nothing stands out.
    pub outline: Option<Vec<Point>>,
}

/// A touch that is not laid yet, and where it would lie.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TouchTry {
    /// The touch.
    pub touch: Touch<FrameId>,
    /// Its place in the list; those from there on are not looked at. Absent for above all others.
    pub at: Option<usize>,
    /// How many variants of an invention are wanted, 1..=16.
    pub variants: u8,
}

/// What a touch would look like.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct TouchInfo {
    /// Its variants; one but for an invention.
    pub variants: Vec<VariantInfo>,
    /// What will be hard, and what helps, in words.
    pub hints: Vec<String>,
}

/// A touch that can still be seen.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SeenTouch {
    /// Its place in the recipe's list.
    pub touch: usize,
    /// By what.
    pub faults: Vec<FaultInfo>,
}

/// What makes a touch seen.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct FaultInfo {
    /// Its kind.
    pub fault: Fault,
    /// In words, with what would mend it.
    pub words: String,
    /// Where, in pixels of the reference: an area that can be retouched next. Empty for the whole touch.
    pub outline: Vec<Point>,
}

/// What no frame shows of a plate.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct MissingInfo {
    /// Areas to be made up, in pixels of the reference; none where all is shown.
    pub outlines: Vec<Vec<Point>>,
    /// Share of the plate, 0..=1.
    pub share: f32,
    /// The most by which the frames in use reach beyond the reference to any side, in its pixels.
    pub beyond: u32,
}

/// A plane of the world.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct PlaneInfo {
    /// Four corners in turn of what is a rectangle in the world, in pixels of the reference; absent where none is found.
    pub corners: Option<Vec<Point>>,
}

/// How far an invention is that is being tried.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct TriedInfo {
    /// 0..=1; absent when none is.
    pub share: Option<f32>,
}

/// One variant in its place.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct VariantInfo {
    /// Its number, from 0.
    pub variant: u8,
    /// The plate around it, as the address of a JPEG that holds it.
    pub picture: String,
    /// The part of the reference that it shows.
    pub place: AreaInfo,
}
