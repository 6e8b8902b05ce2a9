//! What the application tells about itself: plain values for the API and the screen.

mod clip;
mod told;

pub use clip::*;
pub use told::*;

use evanu_core::recipe::{FrameId, Recipe};
use serde::{Deserialize, Serialize};
use strum::{Display, EnumString};
use utoipa::ToSchema;

/// A set on the home page.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SetSummary {
    /// Identity.
    pub id: i64,
    /// Its owner's name for it.
    pub name: String,
    /// Number of frames.
    pub frames: usize,
    /// When it was made, seconds since 1970.
    pub created: i64,
    /// Changes whenever its picture does; `None` while there is none.
    pub cover: Option<String>,
    /// What is being done with it.
    pub run: Option<RunInfo>,
    /// Something to know about it.
    pub note: Option<String>,
}

/// A folder of this computer.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct FolderInfo {
    /// Where it is.
    pub path: String,
    /// The folder it is in.
    pub parent: Option<String>,
    /// Names of the folders in it.
    pub folders: Vec<String>,
    /// Number of pictures in it.
    pub pictures: usize,
}

/// What a search for lost originals found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct RelinkInfo {
    /// Found again.
    pub found: usize,
    /// Still missing.
    pub missing: usize,
}

/// A rectangle, in reference pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AreaInfo {
    /// First column.
    pub x: i64,
    /// First row.
    pub y: i64,
    /// Columns.
    pub width: u32,
    /// Rows.
    pub height: u32,
}

impl From<evanu_core::geometry::Rect> for AreaInfo {
    fn from(r: evanu_core::geometry::Rect) -> Self {
        Self { x: r.x, y: r.y, width: r.width, height: r.height }
    }
}

/// How far a frame is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema, Display, EnumString)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum FrameState {
    /// Being decoded.
    Reading,
    /// Can be used.
    Ready,
    /// Cannot be read.
    Failed,
}

/// A frame of a set.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct FrameInfo {
    /// Identity, which it keeps as long as the set lives.
    pub id: FrameId,
    /// Where in its file it is: 0 for a picture.
    pub position: u32,
    /// Whether it is among the frames that are aligned, which is when all that came in with it are read.
    pub joined: bool,
    /// File name.
    pub name: String,
    /// How far it is.
    pub state: FrameState,
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// Clock time as `2026-05-16T14:03:22.150`.
    pub time: Option<String>,
    /// Exposure time in seconds.
    pub exposure_s: Option<f64>,
    /// Aperture number.
    pub aperture: Option<f64>,
    /// Sensitivity.
    pub iso: Option<u32>,
    /// Focal length in millimetres.
    pub focal_mm: Option<f64>,
    /// Maker and model.
    pub camera: Option<String>,
    /// Whether it takes part in the plate.
    pub used: bool,
    /// Whether its owner set it aside.
    pub set_aside: bool,
    /// Why it does not take part, when that was not its owner's choice.
    pub reason: Option<String>,
    /// What is left between matched places, in pixels.
    pub residual_px: Option<f64>,
    /// How far its middle moved, in reference pixels to the right and down.
    pub moved: Option<[f64; 2]>,
    /// How it was turned, in degrees clockwise.
    pub turned_deg: Option<f64>,
    /// How much larger it was made.
    pub scaled: Option<f64>,
    /// What its light is multiplied with, by channel.
    pub gain: Option<[f32; 3]>,
    /// What differs from the rest, the weightiest first.
    pub findings: Vec<Finding>,
    /// How it fits, in words.
    pub verdict: Option<String>,
    /// Whether the fit asks for a look.
    pub doubtful: bool,
    /// The largest deviation at any place that leads, in pixels.
    pub worst_px: Option<f64>,
    /// Laid by hand.
    pub by_hand: bool,
    /// Number of the camera position it was taken from.
    pub camera_position: u32,
    /// Number of the moment it shows; frames with the same one show the same silhouettes.
    pub moment: u32,
    /// Clock time in seconds, for an axis.
    pub seconds: Option<f64>,
    /// Share of the plate that this frame alone shows clear, 0..=1.
    pub sole: Option<f64>,
    /// The largest such place, in reference pixels.
    pub sole_at: Option<AreaInfo>,
    /// The frame's border over the canvas, x then y, in canvas pixels.
    pub outline: Vec<[f64; 2]>,
    /// Whether its original is not where it was.
    pub missing: bool,
    /// Whether another file is there instead, as far as is known.
    pub changed: bool,
    /// Where its original is, when it was left there.
    pub source: Option<String>,
}

/// Something that differs in a frame.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Finding {
    /// Whether it asks for a look; otherwise Evanu has taken care of it.
    pub matters: bool,
    /// What it is and what is done about it.
    pub text: String,
}

/// How a set's light behaved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct LightInfo {
    /// `steady`, `drifts`, `uneven` or `varied`.
    pub kind: String,
    /// In words, with what is done about it.
    pub text: String,
}

/// The plate's grid.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct CanvasInfo {
    /// First column, in reference pixels.
    pub x: i64,
    /// First row, in reference pixels.
    pub y: i64,
    /// Columns.
    pub width: u32,
    /// Rows.
    pub height: u32,
    /// Number of pyramid levels, each half of the one before.
    pub levels: u32,
    /// Side of a tile in pixels.
    pub tile: u32,
}

/// What a plate's tiles are called by, so that their addresses stay while nothing changes that reaches them: a tile is called
/// `bare`, followed by a hyphen and the name of each patch whose box it touches, borders included.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct TileNames {
    /// The plate without patches.
    pub bare: String,
    /// Its patches in the order in which they are laid.
    pub patches: Vec<Reach>,
}

/// A patch and the box that it may change.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Reach {
    /// Its name.
    pub name: String,
    /// Its first column, in plate pixels.
    pub left: f64,
    /// Its first row.
    pub top: f64,
    /// Its last column.
    pub right: f64,
    /// Its last row.
    pub bottom: f64,
}

/// Everything about an open set.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SetDetail {
    /// Identity.
    pub id: i64,
    /// Its owner's name for it.
    pub name: String,
    /// All frames by clock time.
    pub frames: Vec<FrameInfo>,
    /// Its decisions.
    pub recipe: Recipe<FrameId>,
    /// Counts the changes of what is in force: an act says which it follows from.
    pub revision: i64,
    /// The reference frame; `None` until frames are aligned.
    pub reference: Option<FrameId>,
    /// The plate's grid; `None` until frames are aligned.
    pub canvas: Option<CanvasInfo>,
    /// Changes whenever the plate's pixels do.
    pub plate_key: Option<String>,
    /// What the plate's tiles may be called by instead; `None` while its patches are being fitted.
    pub tile_names: Option<TileNames>,
    /// Share of the plate that is made up, 0..=1; `None` while touches are being made.
    pub invented: Option<f32>,
    /// Whether the median is shown while the consensus is being decided.
    pub draft: bool,
    /// Changes whenever aligned frames do.
    pub frame_key: Option<String>,
    /// How the light behaved, in words.
    pub light: Option<LightInfo>,
    /// Whether frames are matched in exposure and colour.
    pub matched: Option<bool>,
    /// How far the lens moved the corners, in percent of the half diagonal, when it was repaired.
    pub lens_percent: Option<f64>,
    /// Columns and rows of the reference frame.
    pub reference_size: Option<[u32; 2]>,
    /// What all used frames share, in reference pixels.
    pub common: Option<AreaInfo>,
    /// Number of camera positions.
    pub positions: usize,
    /// Number of moments.
    pub moments: usize,
    /// Something to know about the set.
    pub note: Option<String>,
    /// What undo would take back.
    pub undo: Option<String>,
    /// What redo would do again.
    pub redo: Option<String>,
    /// What is being done with it, or was last.
    pub run: Option<RunInfo>,
    /// Whether its frames come from a clip that was looked at.
    pub clip: bool,
}

/// Kinds of background work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema, Display, EnumString)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum RunKind {
    /// Reading and aligning frames.
    Prepare,
    /// Writing a file.
    Export,
    /// Laying the patch on all frames of a clip, to be looked at.
    Clip,
    /// Writing a finished clip, or what goes with it.
    ClipExport,
}

/// How a run stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema, Display, EnumString)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum RunState {
    /// Waits for its turn.
    Queued,
    /// Works.
    Running,
    /// Did it.
    Done,
    /// Could not.
    Failed,
    /// Was stopped by its owner.
    Cancelled,
}

/// One step of a run.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct StepInfo {
    /// What is done.
    pub name: String,
    /// Share done, 0..=1.
    pub share: f32,
    /// Seconds left in this step, once that can be told.
    pub seconds_left: Option<f32>,
}

/// A piece of background work.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct RunInfo {
    /// Identity.
    pub id: i64,
    /// The set it works on.
    pub set: i64,
    /// What it does.
    pub kind: RunKind,
    /// How it stands.
    pub state: RunState,
    /// Where it is.
    pub step: Option<StepInfo>,
    /// Why it failed, or what it made.
    pub message: Option<String>,
}

/// Something changed.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(tag = "type", rename_all = "lowercase")]
pub enum Event {
    /// The list of sets.
    Sets,
    /// One set.
    Set {
        /// Its identity.
        id: i64,
    },
    /// A run made progress or ended.
    Run {
        /// The run.
        run: RunInfo,
    },
    /// Something to know about the data folder.
    Note {
        /// In words.
        text: String,
    },
}

/// Some fields of a recipe, by their names; the others stay as they are.
#[derive(Debug, Clone, Deserialize)]
#[serde(transparent)]
pub struct RecipePart(pub serde_json::Value);

impl utoipa::PartialSchema for RecipePart {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
        let fields = utoipa::openapi::ObjectBuilder::new()
            .additional_properties(Some(utoipa::openapi::schema::AdditionalProperties::FreeForm(true)));
        fields
            .description(Some("Some fields of a recipe, by their names; the others stay as they are."))
            .into()
    }
}

impl ToSchema for RecipePart {}

impl RecipePart {
    /// All fields of a recipe.
    ///
    /// # Errors
    /// When it holds what JSON has no word for, such as infinity.
    pub fn whole(recipe: &Recipe<FrameId>) -> Result<Self, serde_json::Error> {
        Ok(Self(serde_json::to_value(recipe)?))
    }
}

/// A change of a recipe, with the words undo will use.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct Change {
    /// What was done, for example "set frame 7 aside".
    pub label: String,
    /// Whether it goes on with the last act, when that has the same words and nothing was made from it: one nudge after another.
    #[serde(default)]
    pub goes_on: bool,
    /// The decisions that change.
    pub recipe: RecipePart,
    /// The tiles of the plate that are looked at: they are combined at once.
    #[serde(default)]
    pub looking: Vec<Spot>,
}

/// A tile of a view.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
pub struct Spot {
    /// Level of the pyramid, 0 being full size.
    pub level: u32,
    /// Column.
    pub x: u32,
    /// Row.
    pub y: u32,
}

/// A state of a set: what was decided then.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct StateInfo {
    /// Its number; later ones are larger.
    pub seq: i64,
    /// The state it was made from; null for the first.
    pub parent: Option<i64>,
    /// What was done, in words.
    pub label: String,
    /// When, in seconds since 1970; null where it was not written down.
    pub made: Option<i64>,
    /// Whether the set is in it.
    pub current: bool,
    /// The revision that it was made in; null where it was not written down.
    pub revision: Option<i64>,
}

/// How the pixels of a state are asked for.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct StateKey {
    /// In the place of the set's own.
    pub plate_key: String,
    /// What its plate covers.
    pub canvas: CanvasInfo,
}
