//! Whether touches can still be seen: by what their rim and their inside show beside what is around, and copies that stand close to
//! their like.
//!
//! Told by rules that each name what mends it; none tells how plausible a touch is, which no rule knows.

use super::{Act, Around, Touch};
use crate::geometry::{Point, ends};
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
            Self::Border => "its border can be seen: let it fade farther, or mend instead of copy",
            Self::Tone => "its tone differs from what is around it: mend instead of copy",
            Self::Soft => "it is softer than what is around it: take another source or variant",
            Self::Rough => "it is rougher than what is around it: take another source or variant",
            Self::Repeats => "it shows the same as another touch beside it: take another source",
        }
    }
}

/// A step along the border is seen when it is so many times those around it.
const STEP: f32 = 1.5;
/// A difference in tone is seen when it is so many times those along the surroundings, and so much in root codes.
const TONE: (f32, f32) = (3.0, 900.0);
/// Roughness, as a share of that of the surroundings, beyond which it is seen.
const ROUGH: (f32, f32) = (0.6, 1.7);
/// Pixels on each side of the border that are looked at.
const BESIDE: f32 = 12.0;
/// Fewest pixels on each side that say anything.
const FEWEST: usize = 60;
/// Parts that the border is looked at in.
const PARTS: usize = 12;

/// What of a touch can be seen on the picture that it lies on: `around` is that picture with the touch.
pub fn faults(around: &Around<'_>) -> Vec<Fault> {
    let hole = around.hole();
    let w = around.grid.rect.width as usize;
    let bright: Vec<f32> = (0..hole.len())
        .map(|p| {
            let of = |c: usize| f32::from(around.plate[c][p]);
            (of(0) + 2.0 * of(1) + of(2)) / 4.0
        })
        .collect();
    let outside = distances_within(&hole, w, BESIDE as usize + 2);
    let not: Vec<bool> = hole.iter().map(|h| !h).collect();
    let inside = distances_within(&not, w, BESIDE as usize + 2);
    let next = |p: usize| {
        [(p % w + 1 < w, p + 1), (p + w < hole.len(), p + w)].into_iter().filter(|n| n.0).map(|n| n.1)
    };
    let centre = middle(
        &(0..hole.len())
            .filter(|&p| hole[p])
            .map(|p| Point::new((p % w) as f64, (p / w) as f64))
            .collect::<Vec<_>>(),
    );
    let part = |p: usize| {
        let (x, y) = ((p % w) as f64 - centre.x, (p / w) as f64 - centre.y);
        let turn = (y.atan2(x) / std::f64::consts::TAU + 0.5) * PARTS as f64;
        (turn as usize).min(PARTS - 1)
    };
    // Steps across the border, and between neighbours on either side of it.
    let (mut border, mut beside) = (Mean::default(), Mean::default());
    let (mut rough_in, mut rough_out) = (Mean::default(), Mean::default());
    let mut tones = [[Mean::default(); 2]; PARTS];
    for p in 0..hole.len() {
        let near_in = hole[p] && inside[p] <= BESIDE;
        let near_out = !hole[p] && outside[p] <= BESIDE;
        if !near_in && !near_out {
            continue;
        }
        tones[part(p)][usize::from(near_out)].add(bright[p]);
        for q in next(p) {
            let step = (bright[p] - bright[q]).abs();
            if hole[p] != hole[q] {
                border.add(step);
            } else {
                beside.add(step);
                if hole[p] { rough_in.add(step) } else { rough_out.add(step) }
            }
        }
    }
    let mut out = Vec::new();
    if border.count < FEWEST / 2 || rough_in.count < FEWEST || rough_out.count < FEWEST {
        return out;
    }
    let noise = 40.0;
    if border.mean() > STEP * (beside.mean() + noise) {
        out.push(Fault::Border);
    }
    // In most parts the same way, and more than the surroundings differ among themselves.
    let told: Vec<(f32, f32)> = tones
        .iter()
        .filter(|t| t[0].count > 8 && t[1].count > 8)
        .map(|t| (t[0].mean() - t[1].mean(), t[1].mean()))
        .collect();
    let off = told.iter().map(|t| t.0).sum::<f32>() / told.len().max(1) as f32;
    let level = told.iter().map(|t| t.1).sum::<f32>() / told.len().max(1) as f32;
    let spread = (told.iter().map(|t| (t.1 - level).powi(2)).sum::<f32>() / told.len().max(1) as f32).sqrt();
    let alike = told.iter().filter(|t| t.0.signum() == off.signum()).count();
    if told.len() > PARTS / 2 && 4 * alike >= 3 * told.len() && off.abs() > TONE.1.max(TONE.0 * spread) {
        out.push(Fault::Tone);
    }
    let rough = (rough_in.mean() + noise) / (rough_out.mean() + noise);
    if rough < ROUGH.0 {
        out.push(Fault::Soft);
    } else if rough > ROUGH.1 {
        out.push(Fault::Rough);
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
            && apart(own, other) < NEAR * longer(own).max(longer(other))
    };
    (0..touches.len()).map(|k| (0..k).any(|j| alike(k, j))).collect()
}

/// Share of the smaller of two sources from which on they are the same.
const SAME: f64 = 0.5;
/// How many times as long as they are copies of it are beside each other.
const NEAR: f64 = 4.0;

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
