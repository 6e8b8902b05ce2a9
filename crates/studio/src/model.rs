//! What the application tells about itself: plain values for the API and the screen.

use evanu_media::CameraData;
use serde::{Deserialize, Serialize};
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

/// How a doubt was answered by hand.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Settled)]
pub struct SettledShape {
    /// The doubt's place, in reference pixels.
    pub bbox: AreaInfo,
    /// Index of the frame that is right there; null accepts the proposal.
    pub frame: Option<usize>,
    /// It is asked again, though the evidence settles it.
    #[serde(default)]
    pub open: bool,
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

/// How far a frame is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
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
    /// Identity.
    pub id: i64,
    /// Place in the recipe's lists; `None` until it is read.
    pub index: Option<usize>,
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
    pub position: u32,
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
/// `bare`, followed by a hyphen and the name of each lift whose box it touches, borders included.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct TileNames {
    /// The plate without lifts.
    pub bare: String,
    /// Its lifts in the order in which they are laid.
    pub lifts: Vec<Reach>,
}

/// A lift and the box that it may change.
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
    #[schema(value_type = RecipeShape)]
    pub recipe: evanu_core::recipe::Recipe,
    /// Index of the reference frame; `None` until frames are aligned.
    pub reference: Option<usize>,
    /// The plate's grid; `None` until frames are aligned.
    pub canvas: Option<CanvasInfo>,
    /// Changes whenever the plate's pixels do.
    pub plate_key: Option<String>,
    /// What the plate's tiles may be called by instead; `None` while its lifts are being fitted.
    pub tile_names: Option<TileNames>,
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

/// Kinds of background work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum RunKind {
    /// Reading and aligning frames.
    Prepare,
    /// Writing a file.
    Export,
}

/// How a run stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
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
}

/// A new recipe, with the words undo will use.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct Change {
    /// What was done, for example "set frame 7 aside".
    pub label: String,
    /// Whether it goes on with the last act, when that has the same words and nothing was made from it: one nudge after another.
    #[serde(default)]
    pub goes_on: bool,
    /// All decisions.
    #[schema(value_type = RecipeShape)]
    pub recipe: evanu_core::recipe::Recipe,
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

/// What is kept of a frame beside its file.
pub(crate) struct FrameRow {
    pub id: i64,
    pub index: Option<usize>,
    pub name: String,
    pub hash: String,
    pub state: FrameState,
    pub reason: Option<String>,
    pub width: u32,
    pub height: u32,
    pub camera: CameraData,
    /// Where the original is, when it was left there.
    pub source: Option<String>,
    /// Length of the original.
    pub bytes: u64,
}

/// How a recipe looks to clients; the core's type serialises to it, and a test holds the two together.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Recipe)]
pub struct RecipeShape {
    /// Version of this shape.
    pub version: u32,
    /// One entry a frame: false when its owner set it aside.
    pub used: Vec<bool>,
    /// `auto`, `off`, `shift`, `rigid`, `similarity` or `perspective`.
    pub align: String,
    /// Index of the chosen reference frame; null lets the program propose it.
    pub reference: Option<usize>,
    /// `auto`, `on` or `off`.
    pub match_exposure: String,
    /// The one development of all frames.
    pub develop: DevelopShape,
    /// Areas that guide the alignment.
    pub areas: Vec<AreaShape>,
    /// Frames laid by hand.
    pub hands: Vec<HandShape>,
    /// Doubts settled by hand.
    #[serde(default)]
    pub settled: Vec<SettledShape>,
    /// Areas with a source of their own, later ones over earlier ones.
    #[serde(default)]
    pub lifts: Vec<LiftShape>,
    /// Areas that no lift changes.
    #[serde(default)]
    pub keeps: Vec<KeepShape>,
    /// `consensus`, `median`, `mean`, `clipped`, `everybody`, `darkest`, `lightest` or `rank:P`.
    pub method: String,
    /// `reference` or `common`.
    pub canvas: String,
}

/// How light becomes a picture.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Develop)]
pub struct DevelopShape {
    /// Stops, -5..=5.
    pub exposure: f32,
    /// Warmer above zero, -1..=1.
    pub warmth: f32,
    /// More magenta above zero, -1..=1.
    pub tint: f32,
    /// -1..=1.
    pub highlights: f32,
    /// -1..=1.
    pub shadows: f32,
}

/// A point in pixels.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Point)]
pub struct PointShape {
    /// To the right.
    pub x: f64,
    /// Down.
    pub y: f64,
}

/// An area drawn by hand.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Area)]
pub struct AreaShape {
    /// Index of the frame it was drawn on.
    pub on: usize,
    /// `ignore` or `fit`.
    pub guide: String,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<PointShape>,
}

/// Where the pixels of a lift come from.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Source)]
#[serde(rename_all = "lowercase")]
pub enum SourceShape {
    /// One frame, by its index.
    Frame(usize),
    /// All frames, by a method.
    Method(String),
    /// One frame as it was lit, without its highlights.
    Calm(usize),
}

/// An area that no lift changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Keep)]
pub struct KeepShape {
    /// Index of the frame it was drawn on.
    pub on: usize,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<PointShape>,
}

/// What a lift shows is mirrored, enlarged and turned about its middle, then moved.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Place)]
pub struct PlaceShape {
    /// To the right and down, in reference pixels.
    pub shift: [f64; 2],
    /// In degrees clockwise.
    pub turn: f64,
    /// Enlarged.
    pub scale: f64,
    /// Left for right.
    pub mirror: bool,
}

/// An area of the plate with a source of its own.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Lift)]
pub struct LiftShape {
    /// Index of the frame it was drawn on.
    pub on: usize,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<PointShape>,
    /// Where its pixels come from.
    pub source: SourceShape,
    /// How far the border fades to both sides, in reference pixels.
    pub soft: f64,
    /// Whether the border moves to edges of the picture near it.
    pub follow: bool,
    /// Whether the border moves to where both sides show the same.
    #[serde(default)]
    pub seek: bool,
    /// Whether what the frame brings in beside what it takes away is left out.
    #[serde(default)]
    pub trim: bool,
    /// Whether its tone is matched along the border.
    #[serde(default)]
    pub tone: bool,
    /// Whether frames that show the same as its own are averaged, so that its grain is that of what is around.
    #[serde(default)]
    pub grain: bool,
    /// A geometry of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<PlaceShape>,
    /// Parts that were given back: closed outlines in the frame's pixels.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub less: Vec<Vec<PointShape>>,
    /// How much of it shows, 0..=1; for `calm`, how small a highlight is taken off.
    pub strength: f32,
    /// Kept without being laid.
    pub off: bool,
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
}

/// How the pixels of a state are asked for.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct StateKey {
    /// In the place of the set's own.
    pub plate_key: String,
    /// What its plate covers.
    pub canvas: CanvasInfo,
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

/// The same thing seen in two frames.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Pair)]
pub struct PairShape {
    /// In the frame's pixels.
    pub from: PointShape,
    /// In the other frame's pixels.
    pub to: PointShape,
}

/// A frame laid by hand.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Hand)]
pub struct HandShape {
    /// Index of the frame.
    pub frame: usize,
    /// Index of the frame it is laid over.
    pub on: usize,
    /// Places named in both.
    pub pairs: Vec<PairShape>,
    /// Then shifted, in pixels to the right and down.
    pub shift: [f64; 2],
    /// Turned, in degrees clockwise.
    pub turn: f64,
    /// Made larger.
    pub scale: f64,
    /// Brought to the best fit near there.
    pub snap: bool,
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::composite::{Keep, Place};
    use evanu_core::geometry::{Point, Rect};
    use evanu_core::recipe::{Area, Guide, Hand, Lift, Pair, Recipe, Settled, Source};

    #[test]
    fn the_described_recipe_is_the_real_one() {
        let p = |x: f64, y: f64| Point::new(x, y);
        let area = Area { on: 0, guide: Guide::Fit, outline: vec![p(1.0, 2.0), p(3.5, 4.0), p(5.0, 6.0)] };
        let pairs = vec![Pair { from: p(1.0, 2.0), to: p(3.0, 4.5) }];
        let hand = Hand { frame: 0, on: 1, pairs, shift: [1.0, 2.0], turn: 0.5, scale: 1.5, snap: true };
        let settled = vec![Settled { bbox: Rect::new(1, 2, 3, 4), frame: Some(2), open: false }];
        let lift = |source| Lift {
            on: 1,
            outline: vec![p(1.0, 2.0), p(3.5, 4.0), p(5.0, 6.0)],
            source,
            soft: 4.5,
            follow: true,
            seek: true,
            trim: true,
            tone: false,
            grain: true,
            less: vec![vec![p(1.0, 2.0), p(3.5, 4.0), p(5.0, 6.5)]],
            place: Some(Place { shift: [1.5, 2.0], turn: 3.0, scale: 1.5, mirror: true }),
            strength: 0.5,
            off: false,
        };
        let lifts = [Source::Frame(2), Source::Method(evanu_core::combine::Method::Mean), Source::Calm(0)]
            .map(lift)
            .into();
        let recipe = Recipe {
            reference: Some(1),
            areas: vec![area],
            hands: vec![hand],
            settled,
            lifts,
            keeps: vec![Keep { on: 2, outline: vec![p(1.0, 2.0), p(3.5, 4.0), p(5.0, 6.0)] }],
            ..Recipe::new(3)
        };
        let value = serde_json::to_value(&recipe).unwrap();
        let shape: RecipeShape = serde_json::from_value(value.clone()).unwrap();
        assert_eq!(serde_json::to_value(shape).unwrap(), value);
    }
}
