//! Whether touches can still be seen: by what their rim and their inside show beside what is around, and copies that stand close to
//! their like.
//!
//! Told by rules that each name what mends it; none tells how plausible a touch is, which no rule knows.
//! Thresholds were set on holes of real photographs (docs/measurements.md). Cost: a few passes over the area and a rim of 14 pixels.

use super::{Act, Plate, Touch};
use crate::geometry::{Point, Size, ends};
use crate::patch::middle;
use crate::pixel::distance::distances_within;
use serde::Serialize;

/// What makes a touch seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Fault {
    /// Its border is a line.
    Border,
    /// It is brighter or darker than what is around it, all along.
    Tone,
    /// It is softer than what is around it.
    Soft,
    /// It is rougher.
    Rough,
    /// It shows what another touch beside it shows, too.
    Repeats,
}

impl Fault {
    /// In words, with what would mend it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Border => "its border can be seen: let it fade farther, mend it, or take another variant",
            Self::Tone => "its tone differs from what is around it: mend it, or take another variant",
            Self::Soft => "it is softer than what is around it: take another source or variant",
            Self::Rough => "it is rougher than what is around it: take another source or variant",
            Self::Repeats => "it shows the same as another touch beside it: take another source",
        }
    }
}

/// What makes a touch seen, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// What it is.
    pub fault: Fault,
    /// The pixels that show it, in order: parts of the border, or the whole area.
    pub pixels: Vec<usize>,
}

/// Pixels on each side of the border that are compared, and those of the band beyond that tell how much the ground varies anyway.
const NEAR: f32 = 4.0;
const BEYOND: f32 = 9.0;
/// Parts that the border is looked at in.
const PARTS: usize = 24;
/// A step across the border is seen when it is so many times what the ground varies by beside it, and so much in root codes.
const STEP: (f32, f32) = (2.5, 1800.0);
/// Share of its parts from which on a border is seen.
const SHARE: f32 = 0.2;
/// A difference in tone is seen when it is so much in root codes and goes one way in so large a share of the parts.
const TONE: (f32, f32) = (1300.0, 0.8);
/// Roughness, as a share of that of the surroundings, beyond which it is seen.
const ROUGH: (f32, f32) = (0.55, 1.8);
/// Pixels on each side of the border whose roughness is compared.
const BESIDE: f32 = 12.0;
/// Fewest pixels that say anything, of a band of one part and of a side.
const FEWEST: (usize, usize) = (10, 60);

/// What of an area can be seen on a picture of root codes: plate and `hole` by rows, as many pixels as `size` has. Nothing for an area of
/// which fewer than 60 neighbours on either side of the border can be compared.
pub fn faults(plate: &Plate, hole: &[bool], size: Size) -> Vec<Found> {
    let w = size.width as usize;
    let bright: Vec<f32> = (0..hole.len())
        .map(|p| {
            let of = |c: usize| f32::from(plate[c][p]);
            (of(0) + 2.0 * of(1) + of(2)) / 4.0
        })
        .collect();
    let reach = BESIDE as usize + 2;
    let outside = distances_within(hole, w, reach);
    let not: Vec<bool> = hole.iter().map(|h| !h).collect();
    let inside = distances_within(&not, w, reach);
    let place = |p: usize| Point::new((p % w) as f64, (p / w) as f64);
    let centre = middle(&(0..hole.len()).filter(|&p| hole[p]).map(place).collect::<Vec<_>>());
    let part = |p: usize| {
        let (x, y) = ((p % w) as f64 - centre.x, (p / w) as f64 - centre.y);
        let turn = (y.atan2(x) / std::f64::consts::TAU + 0.5) * PARTS as f64;
        (turn as usize).min(PARTS - 1)
    };
    // Beyond the border, just outside, just inside, farther inside.
    let mut bands = [[Mean::default(); 4]; PARTS];
    let (mut rough_in, mut rough_out) = (Mean::default(), Mean::default());
    for p in 0..hole.len() {
        let distance = if hole[p] { inside[p] } else { outside[p] };
        if distance > BESIDE {
            continue;
        }
        if distance <= BEYOND {
            let band = match (hole[p], distance <= NEAR) {
                (false, false) => 0,
                (false, true) => 1,
                (true, true) => 2,
                (true, false) => 3,
            };
            bands[part(p)][band].add(bright[p]);
        }
        let next = [(p % w + 1 < w, p + 1), (p + w < hole.len(), p + w)];
        for (_, q) in next.into_iter().filter(|(there, q)| *there && hole[*q] == hole[p]) {
            let step = (bright[p] - bright[q]).abs();
            if hole[p] { rough_in.add(step) } else { rough_out.add(step) }
        }
    }
    let mut out = Vec::new();
    if rough_in.count < FEWEST.1 || rough_out.count < FEWEST.1 {
        return out;
    }
    let means = bands.map(|part| {
        let enough = part[1].count >= FEWEST.0 && part[2].count >= FEWEST.0;
        enough.then(|| part.map(|band| band.mean()))
    });
    let steps = means.map(|part| {
        part.is_some_and(|[beyond, outer, inner, deep]| {
            let ground = (beyond - outer).abs().max((deep - inner).abs());
            (outer - inner).abs() > STEP.1.max(STEP.0 * ground)
        })
    });
    let told: Vec<[f32; 4]> = means.into_iter().flatten().collect();
    let seen = steps.iter().filter(|step| **step).count() as f32;
    let distance = |p: usize| if hole[p] { inside[p] } else { outside[p] };
    let of = |holds: &dyn Fn(usize) -> bool| (0..hole.len()).filter(|&p| holds(p)).collect::<Vec<usize>>();
    let whole = |fault| Found { fault, pixels: of(&|p| hole[p]) };
    if seen >= 2.0 && seen > SHARE * told.len() as f32 {
        let along = |p: usize| distance(p) <= NEAR && steps[part(p)];
        out.push(Found { fault: Fault::Border, pixels: of(&along) });
    }
    let off = told.iter().map(|part| part[2] - part[1]).sum::<f32>() / told.len().max(1) as f32;
    let alike = told.iter().filter(|part| (part[2] - part[1]).signum() == off.signum()).count() as f32;
    if off.abs() > TONE.0 && alike >= TONE.1 * told.len() as f32 {
        out.push(whole(Fault::Tone));
    }
    let noise = 40.0;
    let rough = (rough_in.mean() + noise) / (rough_out.mean() + noise);
    if rough < ROUGH.0 {
        out.push(whole(Fault::Soft));
    } else if rough > ROUGH.1 {
        out.push(whole(Fault::Rough));
    }
    out
}

#[derive(Clone, Copy, Default)]
struct Mean {
    sum: f32,
    count: usize,
}

impl Mean {
    fn add(&mut self, v: f32) {
        self.sum += v;
        self.count += 1;
    }

    fn mean(&self) -> f32 {
        self.sum / self.count.max(1) as f32
    }
}

/// For each touch, whether it copies what a touch before it that lies beside it copies, too.
///
/// ```
/// use evanu_core::geometry::Point;
/// use evanu_core::patch::PatchTransform;
/// use evanu_core::touch::{Act, Touch, repeats};
///
/// let square = |x: f64| [(0.0, 0.0), (20.0, 0.0), (20.0, 20.0), (0.0, 20.0)].map(|(u, v)| Point::new(x + u, v)).to_vec();
/// let from = |x: f64, to: f64| {
///     let transform = PatchTransform { shift: [to - x, 0.0], ..PatchTransform::UNMOVED };
///     Touch::new(0, square(to), Act::Copy { transform })
/// };
/// // The same place is copied to two places side by side, and to one far away.
/// assert_eq!(repeats(&[from(0.0, 100.0), from(2.0, 130.0), from(0.0, 900.0)]), [false, true, false]);
/// ```
pub fn repeats<F: Copy + PartialEq>(touches: &[Touch<F>]) -> Vec<bool> {
    let places: Vec<Option<[(Point, Point); 2]>> = touches.iter().map(copied).collect();
    let alike = |k: usize, j: usize| {
        let (Some([own, from]), Some([other, other_from])) = (places[k], places[j]) else { return false };
        touches[k].shown == touches[j].shown
            && touches[k].on == touches[j].on
            && overlap(from, other_from) > SAME
            && apart(own, other) < BESIDE_LIKE * longer(own).max(longer(other))
    };
    (0..touches.len()).map(|k| (0..k).any(|j| alike(k, j))).collect()
}

/// Share of the smaller of two sources from which on they are the same.
const SAME: f64 = 0.5;
/// How many times as long as they are copies of it are beside each other.
const BESIDE_LIKE: f64 = 4.0;

/// The boxes of a touch's area and of its source, of one that is laid and has one.
fn copied<F: Copy>(touch: &Touch<F>) -> Option<[(Point, Point); 2]> {
    let (Act::Copy { transform } | Act::Mend { transform, .. }) = touch.act else { return None };
    let back = transform.onto(middle(&touch.outline)).inverse()?;
    let source: Vec<Point> = touch.outline.iter().map(|&p| back.apply(p)).collect();
    (!touch.disabled).then(|| [ends(&touch.outline), ends(&source)])
}

fn longer((low, high): (Point, Point)) -> f64 {
    (high.x - low.x).max(high.y - low.y)
}

fn apart(a: (Point, Point), b: (Point, Point)) -> f64 {
    let middle = |(low, high): (Point, Point)| Point::new((low.x + high.x) / 2.0, (low.y + high.y) / 2.0);
    middle(a).distance(middle(b))
}

fn overlap(a: (Point, Point), b: (Point, Point)) -> f64 {
    let area = |(low, high): (Point, Point)| (high.x - low.x).max(0.0) * (high.y - low.y).max(0.0);
    let both =
        (Point::new(a.0.x.max(b.0.x), a.0.y.max(b.0.y)), Point::new(a.1.x.min(b.1.x), a.1.y.min(b.1.y)));
    let sides = (both.1.x - both.0.x).max(0.0) * (both.1.y - both.0.y).max(0.0);
    sides / area(a).min(area(b)).max(1e-9)
}
