//! What needs the whole set and is computed once: fits, gains, noise, the canvas. Rendering only reads it.

use crate::combine::consensus::LabelMap;
use crate::evidence::doubts::Doubt;
use crate::evidence::moving::Moving;
use crate::geometry::{Bend, Homography, Point, Rect, Size, Surface, Warp};
use crate::noise::NoiseModel;
use crate::patch::PlacedPatch;
use crate::pixel::FrameSource;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

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

/// What alignment and matching found out about one frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FramePlan {
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
    /// Multiplies the frame's linear light, by channel, to match the reference.
    pub gain: [f32; 3],
    /// Light that a full sample stands for.
    pub headroom: f32,
    /// Further stops to brighten by, over the reference, where the light fell unevenly.
    pub field: Option<Surface>,
    /// Detail against the others at the same places: 1 is the median of the set, 0.5 half as strong gradients; `None`
    /// where there is too little to compare.
    pub sharpness: Option<f32>,
    /// Share of the frame whose light is clipped, 0..=1.
    pub clipped: f32,
    /// Places the fit rests on, in reference coordinates.
    pub points: Vec<Point>,
    /// Places that were found again but moved otherwise, in reference coordinates.
    pub refused: Vec<Point>,
    /// Where the fit leaves most.
    pub worst: Option<WorstResidual>,
    /// Frames with the same number were taken from the same camera position.
    pub position: u32,
    /// Frames with the same number show the same moment: the same silhouettes.
    pub moment: u32,
    /// What would be lost without this frame.
    pub sole: Option<SoleCoverage>,
    /// Laid by hand.
    pub by_hand: bool,
}

impl FramePlan {
    /// A frame that stays as it is.
    pub fn untouched(size: Size) -> Self {
        Self {
            size,
            misfit: None,
            transform: Homography::IDENTITY,
            bend: None,
            residual_px: Some(0.0),
            gain: [1.0; 3],
            headroom: 1.0,
            field: None,
            sharpness: None,
            clipped: 0.0,
            points: Vec::new(),
            refused: Vec::new(),
            worst: None,
            position: 0,
            moment: 0,
            sole: None,
            by_hand: false,
        }
    }

    /// The same for a source, with its headroom.
    pub fn of(source: &dyn FrameSource) -> Self {
        Self { headroom: source.headroom(), ..Self::untouched(source.size()) }
    }

    /// What stored samples are multiplied with to match stored samples of the reference.
    pub fn multiplier(&self, reference: &Self) -> [f32; 3] {
        self.gain.map(|g| g * self.headroom / reference.headroom)
    }

    /// Reference to frame coordinates.
    pub fn to_frame(&self) -> Warp<'_> {
        let inverse = self.transform.inverse().unwrap_or(Homography::IDENTITY);
        Warp { bend: self.bend.as_ref(), ..Warp::from(&inverse) }
    }
}

/// The derived part of a set, stored beside its recipe.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Plan {
    /// Index of the frame whose geometry the plate keeps.
    pub reference: usize,
    /// One entry a frame, in the set's order.
    pub frames: Vec<FramePlan>,
    /// How much samples of the same thing differ.
    pub noise: NoiseModel,
    /// How the light behaved.
    #[serde(default)]
    pub light: Light,
    /// How far the lens moves the corners, as a share of the half diagonal, when that could be told and was repaired.
    #[serde(default)]
    pub lens: Option<f64>,
    /// Which frames the consensus takes at each place; kept apart, for it follows from the frames in use.
    #[serde(skip)]
    pub label_map: Option<Arc<LabelMap>>,
    /// The places that the consensus does not settle by itself.
    #[serde(skip)]
    pub doubts: Arc<Vec<Doubt>>,
    /// The areas that move and belong.
    #[serde(skip)]
    pub moving: Arc<Vec<Moving>>,
    /// The recipe's patches, ready to be laid over the plate in this order.
    #[serde(skip)]
    pub patches: Arc<Vec<PlacedPatch>>,
}

impl Plan {
    /// A plan of these frames, the first being the reference.
    pub fn of(frames: Vec<FramePlan>) -> Self {
        Self {
            reference: 0,
            frames,
            noise: NoiseModel::default(),
            light: Light::Steady,
            lens: None,
            label_map: None,
            doubts: Arc::default(),
            moving: Arc::default(),
            patches: Arc::default(),
        }
    }

    /// Size of the reference frame.
    pub fn reference_size(&self) -> Size {
        self.frames[self.reference].size
    }

    /// The largest rectangle found that every listed frame covers, in reference pixels; the reference's own
    /// area when there is no such rectangle.
    pub fn common_area(&self, used: &[usize]) -> Rect {
        let whole = self.reference_size().rect();
        let warps: Vec<(Warp<'_>, Size)> =
            used.iter().map(|&i| (self.frames[i].to_frame(), self.frames[i].size)).collect();
        let covered =
            |x: i64, y: i64| warps.iter().all(|(w, s)| w.covers(Point::new(x as f64, y as f64), *s));
        let fits = |r: Rect| {
            !r.is_empty()
                && [(r.x, r.y), (r.right() - 1, r.y), (r.x, r.bottom() - 1), (r.right() - 1, r.bottom() - 1)]
                    .iter()
                    .all(|&(x, y)| covered(x, y))
        };
        // The common area is convex but for bends of some pixels: corners suffice. Shrink evenly until it fits, then push each side out again.
        let mut area = whole;
        let shrink = |n: i64| {
            let inset = |v: u32| i64::from(v) * n / 512;
            let (dx, dy) = (inset(whole.width), inset(whole.height));
            let side = |v: u32, d: i64| (i64::from(v) - 2 * d).max(0) as u32;
            Rect::new(dx, dy, side(whole.width, dx), side(whole.height, dy))
        };
        match (0..256).map(shrink).find(|&r| fits(r)) {
            None => return whole,
            Some(r) => area = if area.is_empty() { area } else { r },
        }
        let mut step = i64::from(whole.width.max(whole.height)) / 2;
        while step > 0 {
            let mut grew = false;
            for (l, t, r, b) in [(step, 0, 0, 0), (0, step, 0, 0), (0, 0, step, 0), (0, 0, 0, step)] {
                let wide = Rect::new(
                    area.x - l,
                    area.y - t,
                    (i64::from(area.width) + l + r) as u32,
                    (i64::from(area.height) + t + b) as u32,
                );
                if wide.intersect(whole) == wide && fits(wide) {
                    area = wide;
                    grew = true;
                }
            }
            if !grew {
                step /= 2;
            }
        }
        area
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_common_area_is_covered_and_cannot_grow(shifts in proptest::collection::vec((-90.0..90.0f64, -60.0..60.0f64), 1..6)) {
            let size = Size::new(400, 300);
            let mut frames = vec![FramePlan::untouched(size)];
            for (x, y) in &shifts {
                frames.push(FramePlan { transform: Homography::shift(*x, *y), ..FramePlan::untouched(size) });
            }
            let used: Vec<usize> = (0..frames.len()).collect();
            let plan = Plan::of(frames);
            let side = |f: &dyn Fn(&(f64, f64)) -> f64, low: bool| shifts.iter().map(f)
                .fold(0.0f64, |m, v| if low { m.max((v - 0.5).ceil()) } else { m.min((v + 0.5).floor()) });
            let (x0, y0) = (side(&|s| s.0, true), side(&|s| s.1, true));
            let (x1, y1) = (399.0 + side(&|s| s.0, false), 299.0 + side(&|s| s.1, false));
            let want = Rect::new(x0 as i64, y0 as i64, (x1 - x0) as u32 + 1, (y1 - y0) as u32 + 1);
            prop_assert_eq!(plan.common_area(&used), want);
        }
    }
}
