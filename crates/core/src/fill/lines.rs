//! Straight edges that meet the rim of a hole, and which of them go on on its other side.
//!
//! An edge is found by the structure tensor (Bigün and Granlund 1987) of what is known beside the rim. Two ends are of one line when each
//! points at the other and both sides of it look alike; each end belongs to one line at most, the straightest first.

use super::level::{Feature, Level};

/// Mean change of brightness a pixel from which on it is an edge, in hundredths.
const EDGE: f32 = 2.0;
/// How much of the change goes one way, of an edge that is straight.
const STRAIGHT: f32 = 0.75;
/// Between two ends, in pixels.
const APART: f32 = 4.0;
/// Ends at most.
const MOST: usize = 40;
/// How far directions of one line's ends differ from the way between them, in radians.
const TURN: f32 = 0.16;
/// How unlike the sides of a line may be at its ends, in hundredths.
const UNLIKE: f32 = 12.0;

/// An edge at the rim.
#[derive(Clone, Copy)]
pub(super) struct End {
    /// By pixels of the level, without sides.
    pub x: f32,
    pub y: f32,
    /// Along which direction it runs, from 0 to π.
    angle: f32,
    strength: f32,
    /// What is on either side of it.
    sides: [Feature; 2],
}

/// The edges that meet the rim, strongest first.
pub(super) fn ends(level: &Level) -> Vec<End> {
    let found = level.rim().into_iter().filter_map(|p| {
        let edge = level.edge(p as usize)?;
        (edge.straight > STRAIGHT && edge.strength > EDGE).then_some(edge)
    });
    let mut found: Vec<End> = found
        .map(|edge| End {
            x: edge.x,
            y: edge.y,
            angle: edge.angle,
            strength: edge.strength,
            sides: [3.0, -3.0].map(|off| {
                level.feature_at(edge.x - off * edge.angle.sin(), edge.y + off * edge.angle.cos())
            }),
        })
        .collect();
    found.sort_by(|a, b| b.strength.total_cmp(&a.strength));
    let mut kept: Vec<End> = Vec::new();
    for end in found {
        if kept.len() < MOST && kept.iter().all(|k| (k.x - end.x).hypot(k.y - end.y) > APART) {
            kept.push(end);
        }
    }
    kept
}

/// The difference of two directions.
fn turned(a: f32, b: f32) -> f32 {
    let off = (a - b).abs() % std::f32::consts::PI;
    off.min(std::f32::consts::PI - off)
}

/// How little two ends are of one line; `None` when they are not.
fn bent(a: &End, b: &End) -> Option<f32> {
    let (dx, dy) = (b.x - a.x, b.y - a.y);
    let (long, along) = (dx.hypot(dy), dy.atan2(dx));
    let limit = TURN.max(1.5 / long);
    let off = turned(a.angle, along).max(turned(b.angle, along));
    // An angle of nearly π turns the sides round.
    let round = (a.angle - b.angle).abs() > std::f32::consts::FRAC_PI_2;
    let other = |k: usize| if round { 1 - k } else { k };
    let unlike = |k: usize| {
        let (first, second) = (&a.sides[k], &b.sides[other(k)]);
        (0..3).map(|c| (first[c] - second[c]).powi(2)).sum::<f32>().sqrt()
    };
    let unlike = unlike(0).max(unlike(1));
    (long > 2.0 * APART && off < limit && unlike < UNLIKE).then_some(off / limit + unlike / UNLIKE)
}

/// Which ends are of one line.
pub(super) fn pairs(ends: &[End]) -> Vec<(usize, usize)> {
    let all = (0..ends.len()).flat_map(|a| (a + 1..ends.len()).map(move |b| (a, b)));
    let mut bends: Vec<(f32, usize, usize)> =
        all.filter_map(|(a, b)| Some((bent(&ends[a], &ends[b])?, a, b))).collect();
    bends.sort_by(|a, b| a.0.total_cmp(&b.0).then((a.1, a.2).cmp(&(b.1, b.2))));
    let mut free = vec![true; ends.len()];
    let mut out = Vec::new();
    for (_, a, b) in bends {
        if free[a] && free[b] {
            (free[a], free[b]) = (false, false);
            out.push((a, b));
        }
    }
    out
}

/// A line through a hole, from rim to rim, in pixels of the whole picture.
#[derive(Debug, Clone, Copy)]
pub(super) struct Line {
    from: (f32, f32),
    to: (f32, f32),
}

/// The lines through a hole.
pub(super) fn lines(levels: &[Level]) -> Vec<Line> {
    /// Most pixels of a hole on the level that is looked at.
    const HOLE: usize = 20_000;
    let fits = |level: &&Level| level.hole.iter().filter(|h| **h).count() <= HOLE;
    let Some(level) = levels.iter().find(fits).or(levels.last()) else { return Vec::new() };
    let up = (1u32 << level.shrunk) as f32;
    let full = |v: f32| up * v + (up - 1.0) / 2.0;
    let ends = ends(level);
    let line = |(a, b): (usize, usize)| Line {
        from: (full(ends[a].x), full(ends[a].y)),
        to: (full(ends[b].x), full(ends[b].y)),
    };
    pairs(&ends).into_iter().map(line).collect()
}

impl Line {
    /// How far off a pixel of a level lies, and how far along, from 0 to 1 between its ends.
    pub(super) fn at(&self, level: &Level, x: f32, y: f32) -> (f32, f32) {
        let up = (1u32 << level.shrunk) as f32;
        let own = |v: f32| (v + 0.5) / up - 0.5;
        let (ax, ay) = (own(self.from.0), own(self.from.1));
        let (dx, dy) = (own(self.to.0) - ax, own(self.to.1) - ay);
        let long = dx.hypot(dy).max(1e-3);
        let (px, py) = (x - ax, y - ay);
        (((px * dy - py * dx) / long).abs(), (px * dx + py * dy) / (long * long))
    }
}
