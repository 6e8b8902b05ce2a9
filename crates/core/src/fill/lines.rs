//! Straight edges that meet the rim of a hole, and which of them go on on its other side.
//!
//! An edge is found by the structure tensor (Bigün and Granlund 1987) of what is known beside the rim, and followed outwards on the finest
//! level, where its place and its way are known to a part of a pixel. Two ends are of one line when each
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
/// The same where both are known closely.
const SURE: f32 = 0.07;
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
    /// Whether place and way are known to a part of a pixel.
    sure: bool,
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
            sure: false,
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
    let limit = if a.sure && b.sure { SURE } else { TURN }.max(1.5 / long);
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
    let finest = &levels[0];
    let ends: Vec<End> = ends
        .into_iter()
        .map(|end| {
            let whole = End { x: full(end.x), y: full(end.y), ..end };
            closer(finest, &whole, up).unwrap_or(whole)
        })
        .collect();
    let line = |(a, b): (usize, usize)| Line { from: (ends[a].x, ends[a].y), to: (ends[b].x, ends[b].y) };
    pairs(&ends).into_iter().map(line).collect()
}

/// The same end where its edge lies on the finest level, to a part of a pixel, and which way it runs there; `None` where that is not seen
/// clearly. `up` is how many pixels it may be off.
fn closer(level: &Level, end: &End, up: f32) -> Option<End> {
    let scale = (1u32 << level.shrunk) as f32;
    let own = |v: f32| (v + 0.5) / scale - 0.5;
    let at = (own(end.x), own(end.y));
    let (c, s) = (end.angle.cos(), end.angle.sin());
    let seen = |way: f32| {
        (2..10)
            .filter(|&t| level.bright_at(at.0 + way * t as f32 * c, at.1 + way * t as f32 * s).is_some())
            .count()
    };
    let way = if seen(1.0) >= seen(-1.0) { 1.0 } else { -1.0 };
    let (off, slope) = edge_at(level, at, (way * c, way * s), up / scale + 1.5)?;
    // Where it meets the rim.
    let (x, y) = (at.0 - off * way * s, at.1 + off * way * c);
    let angle = (way * s + slope * way * c).atan2(way * c - slope * way * s).rem_euclid(std::f32::consts::PI);
    let full = |v: f32| (v + 0.5) * scale - 0.5;
    Some(End { x: full(x), y: full(y), angle, sure: true, ..*end })
}

/// Pixels beyond an end along which its edge is looked at closely.
const BEYOND: usize = 18;
/// Fewest places of an edge that tell where it runs, and how far they may lie off it.
const FEWEST: usize = 6;
const OFF: f32 = 0.8;

impl Line {
    /// How far off a pixel of a level lies, and how far along, from 0 to 1 between its ends.
    pub(super) fn at(&self, level: &Level, x: f32, y: f32) -> (f32, f32) {
        let up = (1u32 << level.shrunk) as f32;
        let own = |v: f32| (v + 0.5) / up - 0.5;
        let (ax, ay) = (own(self.from.0), own(self.from.1));
        let (dx, dy) = (own(self.to.0) - ax, own(self.to.1) - ay);
        let long = dx.hypot(dy).max(1e-3);
        let (px, py) = (x - ax, y - ay);
        ((px * dy - py * dx) / long, (px * dx + py * dy) / (long * long))
    }
}

/// How far beside a place the edge lies that runs on from it one way, and by how much it turns; `None` where it is not seen clearly.
fn edge_at(level: &Level, end: (f32, f32), (dx, dy): (f32, f32), wide: f32) -> Option<(f32, f32)> {
    let at = |t: f32, s: f32| (end.0 + t * dx - s * dy, end.1 + t * dy + s * dx);
    let steps = (4.0 * wide).ceil() as i32;
    // The change across it at each place beyond the end, for either way of it.
    let mut found: [Vec<(f32, f32, f32)>; 2] = [Vec::new(), Vec::new()];
    for t in 1..=BEYOND {
        let t = t as f32;
        let profile: Option<Vec<f32>> = (-steps - 1..=steps + 1)
            .map(|k| {
                let (x, y) = at(t, 0.5 * k as f32);
                level.bright_at(x, y)
            })
            .collect();
        let Some(profile) = profile else { continue };
        let change: Vec<f32> = (1..profile.len() - 1).map(|k| profile[k + 1] - profile[k - 1]).collect();
        for (way, found) in [1.0, -1.0].into_iter().zip(&mut found) {
            let best = (1..change.len() - 1).max_by(|&a, &b| (way * change[a]).total_cmp(&(way * change[b])));
            let Some(k) = best.filter(|&k| way * change[k] > EDGE) else { continue };
            let (l, m, r) = (way * change[k - 1], way * change[k], way * change[k + 1]);
            let bend = l - 2.0 * m + r;
            let off = if bend < -1e-6 { (0.5 * (l - r) / bend).clamp(-0.5, 0.5) } else { 0.0 };
            found.push((t, 0.5 * (k as f32 - steps as f32 + off), m));
        }
    }
    let [up, down] = found;
    let strength = |f: &[(f32, f32, f32)]| f.iter().map(|v| v.2).sum::<f32>();
    let mut kept = if strength(&up) >= strength(&down) { up } else { down };
    // A straight line through them, without those that lie off it.
    let mut fit = None;
    for _ in 0..4 {
        if kept.len() < FEWEST {
            return None;
        }
        let n = kept.len() as f32;
        let (mt, ms) = (kept.iter().map(|v| v.0).sum::<f32>() / n, kept.iter().map(|v| v.1).sum::<f32>() / n);
        let (mut tt, mut ts) = (0.0, 0.0);
        for v in &kept {
            tt += (v.0 - mt).powi(2);
            ts += (v.0 - mt) * (v.1 - ms);
        }
        let slope = ts / tt.max(1e-6);
        let off = |v: &(f32, f32, f32)| (v.1 - ms - slope * (v.0 - mt)).abs();
        fit = Some((mt, ms, slope));
        let worst = kept.iter().map(off).fold(0.0, f32::max);
        if worst <= OFF {
            break;
        }
        let limit = OFF.max(0.6 * worst);
        kept.retain(|v| off(v) <= limit);
    }
    let (t, s, slope) = fit?;
    // An edge that turns away is not this one.
    (slope.abs() < 0.3).then_some((s - slope * t, slope))
}
