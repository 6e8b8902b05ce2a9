//! What is told about a set whose frames come from a clip.

use super::AreaInfo;
use evanu_core::clip::{Crossing, Moved, Stroke};
use evanu_core::recipe::FrameId;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A clip, and how far its repair is.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ClipState {
    /// File name.
    pub name: String,
    /// Columns and rows as it is shown.
    pub size: [u32; 2],
    /// Frames a second.
    pub rate: f64,
    /// What it is coded in, and how its samples lie.
    pub codec: String,
    /// Whether it has sound.
    pub sound: bool,
    /// The times of its frames, in seconds.
    pub seconds: Vec<f64>,
    /// First and last frame of each shot that this set shows.
    pub shots: Vec<[usize; 2]>,
    /// How many shots the clip has in all.
    pub of: usize,
    /// Things to know about it.
    pub remarks: Vec<ClipRemark>,
    /// How frames differ from the first of their shot; at most some hundreds of them.
    pub moved: Vec<MovedAt>,
    /// The frames of the set, by which frames of the clip they are.
    pub moments: Vec<Moment>,
    /// Boxes around what is covered, in reference pixels.
    pub areas: Vec<AreaInfo>,
    /// Share of the picture that is covered, 0..=1.
    pub covered: f64,
    /// Changes whenever what is covered, or by what, does.
    pub key: String,
    /// What was found when the patch was last laid on all frames as it is now; `None` until it was.
    pub laid: Option<Laid>,
    /// Who touches the area, the one that covers most first, as it was last found, whatever was brushed since.
    pub crossings: Vec<Crossing>,
}

/// How a frame differs from the first of its shot.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct MovedAt {
    /// Its number, from 0.
    pub frame: usize,
    /// How it differs.
    pub moved: Moved,
}

/// A moment of a clip that is a frame of the set.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct Moment {
    /// The frame of the set.
    pub frame: FrameId,
    /// Which frame of the clip it is.
    pub at: usize,
}

/// Something to know about a clip.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ClipRemark {
    /// The frame from which on it holds.
    pub frame: Option<usize>,
    /// In words.
    pub words: String,
}

/// What laying the patch on all frames found.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Laid {
    /// Who touches the area, the one that covers most first.
    pub crossings: Vec<Crossing>,
    /// For each frame, how much of the area somebody covers.
    pub contact: Vec<f32>,
    /// The same of how much brighter it is than usual, as a factor.
    pub gain: Vec<f32>,
    /// Where the line of pixels lies that the strip over time shows, in pixels of the clip.
    pub slit: Option<AreaInfo>,
    /// What is not well.
    pub remarks: Vec<ClipRemark>,
}

/// A stroke in a frame, and over how many frames to each side it is to be followed.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct CarryRequest {
    /// The stroke.
    pub stroke: Stroke,
    /// Frames to each side, 0..=50.
    pub frames: u32,
}

/// What of a clip is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ClipFile {
    /// The finished clip, coded as its source is, near its quality.
    Clip,
    /// The finished clip without any loss, FFV1.
    Lossless,
    /// The patch with transparency, ProRes 4444.
    OverlayMov,
    /// The patch with transparency, VP9.
    OverlayWebm,
    /// What is covered, white in black, of the clip's size.
    Mask,
    /// The plate without its look, 16 bits, of the clip's size: to be retouched elsewhere.
    Plate,
}

/// A still that came back from elsewhere: what was changed in it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Returned {
    /// The name of its content, which what covers is named by.
    pub still: String,
    /// Outlines of what was changed, in reference pixels.
    pub outlines: Vec<Vec<evanu_core::geometry::Point>>,
    /// Share of the picture, 0..=1.
    pub share: f64,
}
