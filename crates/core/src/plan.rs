//! What follows from frames and recipe, stage by stage; each stage is a value that is made once and only read afterwards.
//!
//! 1. [`Alignment`]: where each frame lies over the reference. It depends on the frames alone and on how they are to be aligned.
//! 2. [`Tones`]: how the light of each frame is matched, and the noise of the set. It is measured on aligned frames.
//! 3. [`Survey`]: what each frame shows: its moment, and what only it shows.
//! 4. [`Decision`]: which frames the consensus takes at each place, and where that is in doubt. It depends on the frames in use.
//! 5. [`PlacedPatch`](crate::patch::PlacedPatch): the recipe's patches, fitted to the plate.
//!
//! The first three are made by one run over the frames and are stored together, as a [`Plan`].
//!
//! ```
//! use evanu_core::geometry::Size;
//! use evanu_core::plan::{FrameAlignment, Plan};
//!
//! // Three frames of a tripod set that need no moving.
//! let plan = Plan::of(vec![FrameAlignment::untouched(Size::new(600, 400)); 3]);
//! assert_eq!(plan.alignment.reference_size(), Size::new(600, 400));
//! assert_eq!(plan.tones.frames[2].gain, [1.0; 3]);
//! ```

use crate::combine::consensus::LabelMap;
use crate::evidence::doubts::Doubt;
use crate::evidence::moving::Moving;
use crate::geometry::{Bend, Geometry, Homography, Point, Projection, Rect, Size, Surface, Warp};
use crate::noise::NoiseModel;
use crate::pixel::FrameSource;
use crate::pixel::curve::ToneCurve;
use serde::{Deserialize, Serialize};

/// How the light of a set behaved.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Light {
    /// The same in all frames.
    #[default]
    Steady,
    /// Brighter or darker, warmer or cooler as a whole.
    Drifts,
    /// Slowly uneven over the picture.
    Uneven,
    /// Changed here and there by somebody: a lamp, a card. Matching would destroy it.
    Varied,
}

impl Light {
    /// Whether it is the same all over the picture, however bright; what drifts there is no change of light.
    pub fn is_even(self) -> bool {
        matches!(self, Self::Steady | Self::Drifts)
    }
}

/// The place of a fit where most is left.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct WorstResidual {
    /// In reference coordinates.
    pub at: Point,
    /// What is left there, in reference pixels.
    pub off: f64,
}

/// What only one frame shows as the plate does.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct SoleCoverage {
    /// Share of the plate, 0..=1.
    pub share: f64,
    /// The largest such place, in reference pixels.
    pub largest: Rect,
}

/// Where one frame lies over the reference, and how well it fits there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FrameAlignment {
    /// Full size in pixels.
    pub size: Size,
    /// Why the frame cannot be laid over the others, in words; `None` when it can.
    pub misfit: Option<String>,
    /// Frame to reference coordinates.
    pub transform: Homography,
    /// What the transform leaves where depth or the lens displaces places, over the reference: a place `p` of the
    /// reference lies in the frame where the inverse transform sends `p` and its displacement.
    pub bend: Option<Bend>,
    /// Root mean square of what is left between matched places, in reference pixels; `None` for a misfit.
    pub residual_px: Option<f64>,
    /// Detail against the others at the same places: 1 is the median of the set, 0.5 half as strong gradients; `None`
    /// where there is too little to compare.
    pub sharpness: Option<f32>,
    /// Places the fit rests on, in reference coordinates.
    pub points: Vec<Point>,
    /// Places that were found again but moved otherwise, in reference coordinates.
    pub refused: Vec<Point>,
    /// Where the fit leaves most.
    pub worst: Option<WorstResidual>,
    /// Frames with the same number were taken from the same camera position.
    pub position: u32,
    /// Laid by hand.
    pub by_hand: bool,
}

impl FrameAlignment {
    /// A frame that stays as it is.
    pub fn untouched(size: Size) -> Self {
        Self {
            size,
            misfit: None,
            transform: Homography::IDENTITY,
            bend: None,
            residual_px: Some(0.0),
            sharpness: None,
            points: Vec::new(),
            refused: Vec::new(),
            worst: None,
            position: 0,
            by_hand: false,
        }
    }

    /// The same for a source.
    pub fn of(source: &dyn FrameSource) -> Self {
        Self::untouched(source.size())
    }

    /// Reference to frame coordinates.
    pub fn to_frame(&self) -> Warp<'_> {
        let inverse = self.transform.inverse().unwrap_or(Homography::IDENTITY);
        Warp { bend: self.bend.as_ref(), ..Warp::from(&inverse) }
    }
}

impl Projection for FrameAlignment {
    fn apply(&self, reference: Point) -> Point {
        self.to_frame().apply(reference)
    }

    fn back(&self, frame: Point) -> Point {
        self.transform.apply(frame)
    }

    fn warp(&self) -> Option<Warp<'_>> {
        Some(self.to_frame())
    }
}

/// Where the frames of a set lie.
#[derive(Debug, Clone, PartialEq)]
pub struct Alignment {
    /// Index of the frame whose geometry the plate keeps.
    pub reference: usize,
    /// How far the lens moves the corners, as a share of the half diagonal, when that could be told and was repaired.
    pub lens: Option<f64>,
    /// One entry a frame, in the set's order.
    pub frames: Vec<FrameAlignment>,
}

impl Alignment {
    /// Size of the reference frame.
    pub fn reference_size(&self) -> Size {
        self.frames[self.reference].size
    }
}

impl Geometry for Alignment {
    fn reference(&self) -> usize {
        self.reference
    }

    fn size(&self, frame: usize) -> Size {
        self.frames[frame].size
    }

    fn fits(&self, frame: usize) -> bool {
        self.frames[frame].misfit.is_none()
    }

    fn projection(&self, frame: usize) -> &dyn Projection {
        &self.frames[frame]
    }
}

/// How the light of one frame is matched to the reference.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FrameTone {
    /// Multiplies the frame's linear light, by channel, to match the reference.
    pub gain: [f32; 3],
    /// Light that a full sample stands for.
    pub headroom: f32,
    /// Further stops to brighten by, over the reference, where the light fell unevenly.
    pub field: Option<Surface>,
    /// Further stops by brightness, where the exposure changed more than a gain.
    #[serde(default)]
    pub curve: Option<ToneCurve>,
}

impl Default for FrameTone {
    fn default() -> Self {
        Self { gain: [1.0; 3], headroom: 1.0, field: None, curve: None }
    }
}

impl FrameTone {
    /// Of a source that is as bright as the reference.
    pub fn of(source: &dyn FrameSource) -> Self {
        Self { headroom: source.headroom(), ..Self::default() }
    }

    /// What stored samples are multiplied with to match stored samples of the reference.
    pub fn multiplier(&self, reference: &Self) -> [f32; 3] {
        self.gain.map(|g| g * self.headroom / reference.headroom)
    }
}

/// The light of a set, and its noise.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Tones {
    /// How the light behaved.
    pub light: Light,
    /// How much samples of the same thing differ.
    pub noise: NoiseModel,
    /// One entry a frame, in the set's order.
    pub frames: Vec<FrameTone>,
}

/// What one frame shows, beside the others.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct FrameSurvey {
    /// Share of the frame whose light is clipped, 0..=1.
    pub clipped: f32,
    /// Frames with the same number show the same moment: the same silhouettes.
    pub moment: u32,
    /// What would be lost without this frame.
    pub sole: Option<SoleCoverage>,
}

/// What the frames of a set show; one entry a frame, in the set's order.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Survey {
    /// One entry a frame.
    pub frames: Vec<FrameSurvey>,
}

impl Survey {
    /// The moment of each frame.
    pub fn moments(&self) -> Vec<u32> {
        self.frames.iter().map(|f| f.moment).collect()
    }

    /// How many moments these frames show.
    pub fn moments_of(&self, frames: &[usize]) -> usize {
        let mut all: Vec<u32> = frames.iter().map(|&i| self.frames[i].moment).collect();
        all.sort_unstable();
        all.dedup();
        all.len()
    }
}

/// The alignment of a set with its tones and survey, stored beside its recipe.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(from = "Stored", into = "Stored")]
pub struct Plan {
    /// Where the frames lie.
    pub alignment: Alignment,
    /// How their light is matched.
    pub tones: Tones,
    /// What they show.
    pub survey: Survey,
}

impl Plan {
    /// Of frames with the same light, each of its own moment, the first being the reference.
    pub fn of(frames: Vec<FrameAlignment>) -> Self {
        let count = frames.len();
        let shows = |k: usize| FrameSurvey { moment: k as u32, ..FrameSurvey::default() };
        Self {
            alignment: Alignment { reference: 0, lens: None, frames },
            tones: Tones { frames: vec![FrameTone::default(); count], ..Tones::default() },
            survey: Survey { frames: (0..count).map(shows).collect() },
        }
    }
}

/// What the consensus decided for the frames in use.
#[derive(Debug, Clone, PartialEq)]
pub struct Decision {
    /// Which frames it takes at each place.
    pub label_map: LabelMap,
    /// The places that it does not settle by itself.
    pub doubts: Vec<Doubt>,
    /// The areas that move and belong.
    pub moving: Vec<Moving>,
}

/// A plan as it is stored: each frame with all that is known of it.
#[derive(Clone, Serialize, Deserialize)]
struct Stored {
    reference: usize,
    frames: Vec<StoredFrame>,
    noise: NoiseModel,
    #[serde(default)]
    light: Light,
    #[serde(default)]
    lens: Option<f64>,
}

/// A frame of a stored plan.
#[derive(Clone, Serialize, Deserialize)]
struct StoredFrame {
    #[serde(flatten)]
    alignment: FrameAlignment,
    #[serde(flatten)]
    tone: FrameTone,
    #[serde(flatten)]
    survey: FrameSurvey,
}

impl From<Plan> for Stored {
    fn from(plan: Plan) -> Self {
        let Plan { alignment, tones, survey } = plan;
        let frames = alignment.frames.into_iter().zip(tones.frames).zip(survey.frames);
        Self {
            reference: alignment.reference,
            frames: frames
                .map(|((alignment, tone), survey)| StoredFrame { alignment, tone, survey })
                .collect(),
            noise: tones.noise,
            light: tones.light,
            lens: alignment.lens,
        }
    }
}

impl From<Stored> for Plan {
    fn from(stored: Stored) -> Self {
        let Stored { reference, frames, noise, light, lens } = stored;
        let mut plan = Self {
            alignment: Alignment { reference, lens, frames: Vec::new() },
            tones: Tones { light, noise, frames: Vec::new() },
            survey: Survey::default(),
        };
        for StoredFrame { alignment, tone, survey } in frames {
            plan.alignment.frames.push(alignment);
            plan.tones.frames.push(tone);
            plan.survey.frames.push(survey);
        }
        plan
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Grid, Sampling, common_area};
    use proptest::prelude::*;

    #[test]
    fn a_plan_is_stored_frame_by_frame_and_read_again() {
        let mut plan = Plan::of(vec![FrameAlignment::untouched(Size::new(400, 300)); 2]);
        plan.alignment.frames[1].transform = Homography::shift(3.25, -1.0);
        plan.tones.frames[1].gain = [1.25, 1.0, 0.1];
        plan.survey.frames[1].sole = Some(SoleCoverage { share: 0.25, largest: Rect::new(1, 2, 3, 4) });
        let text = serde_json::to_string(&plan).unwrap();
        assert!(text.contains("\"frames\":[{\"size\":"), "{text}");
        assert_eq!(serde_json::from_str::<Plan>(&text).unwrap(), plan);
    }

    proptest! {
        #[test]
        fn the_common_area_is_covered_and_cannot_grow(shifts in proptest::collection::vec((-90.0..90.0f64, -60.0..60.0f64), 1..6)) {
            let size = Size::new(400, 300);
            let mut frames = vec![FrameAlignment::untouched(size)];
            for (x, y) in &shifts {
                frames.push(FrameAlignment { transform: Homography::shift(*x, *y), ..FrameAlignment::untouched(size) });
            }
            let used: Vec<usize> = (0..frames.len()).collect();
            let alignment = Alignment { reference: 0, lens: None, frames };
            let side = |f: &dyn Fn(&(f64, f64)) -> f64, low: bool| shifts.iter().map(f)
                .fold(0.0f64, |m, v| if low { m.max((v - 0.5).ceil()) } else { m.min((v + 0.5).floor()) });
            let (x0, y0) = (side(&|s| s.0, true), side(&|s| s.1, true));
            let (x1, y1) = (399.0 + side(&|s| s.0, false), 299.0 + side(&|s| s.1, false));
            let want = Rect::new(x0 as i64, y0 as i64, (x1 - x0) as u32 + 1, (y1 - y0) as u32 + 1);
            prop_assert_eq!(common_area(&alignment, &used), want);
        }

        #[test]
        fn a_plane_and_the_same_rule_without_a_warp_lead_to_the_same_places(
            x in -50.0..50.0f64, y in -50.0..50.0f64, turn in -0.2..0.2f64, level in 0u32..4, p in (0.0..90.0f64, 0.0..90.0f64)
        ) {
            struct Hidden(FrameAlignment);
            impl Projection for Hidden {
                fn apply(&self, p: Point) -> Point { self.0.apply(p) }
                fn back(&self, p: Point) -> Point { self.0.back(p) }
            }
            let transform = Homography::new([turn.cos(), -turn.sin(), x, turn.sin(), turn.cos(), y, 1e-5, 0.0, 1.0]);
            let frame = FrameAlignment { transform, ..FrameAlignment::untouched(Size::new(400, 300)) };
            let grid = Grid { origin: (7, -3), level, rect: Rect::new(0, 0, 90, 90) };
            let hidden = Hidden(frame.clone());
            let (plane, each) = (Sampling::of(&frame, &grid), Sampling::of(&hidden, &grid));
            let p = Point::new(p.0, p.1);
            prop_assert!(plane.apply(p).distance(each.apply(p)) < 1e-6);
            prop_assert!((plane.scale_at(p) - each.scale_at(p)).abs() < 1e-6 * plane.scale_at(p));
            let back = Homography::shift(4.0, 9.0);
            let at = Point::default();
            prop_assert!(plane.moved(&back, at).apply(p).distance(each.moved(&back, at).apply(p)) < 1e-6);
        }
    }
}
