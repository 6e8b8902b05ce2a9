//! Planes found by the edges around an area: the two points in which most of them meet when they are drawn on, by random pairs (RANSAC of
//! Fischler and Bolles 1981 over edges as Rother 2002 has them). Cost: some ten milliseconds.

use super::{Plane, Plate};
use crate::geometry::{Point, Size, ends};
use crate::pixel::distance::distances_within;
use crate::random::Random;

/// Pixels along the longer side of what is looked at.
const SMALL: usize = 700;
/// Edges that are asked, and pairs that are tried.
const EDGES: usize = 2000;
const PAIRS: usize = 1200;
/// Least change of brightness of an edge, in root codes, and how much of it goes one way.
const CHANGE: f32 = 400.0;
const STRAIGHT: f32 = 0.75;
/// How far from the area edges have half as much say, in parts of its longer side.
const NEAR: f64 = 0.4;
/// How far an edge may point beside what it is taken to meet, in radians; and beside it to be left for the other.
const BESIDE: f64 = 0.035;
const LEFT: f64 = 0.12;
/// Least share of the edges that meet in the first point, how much of it does for the second, and least angle between the ways to both.
const SHARE: f64 = 0.08;
const SECOND: f64 = 0.5;
const APART: f64 = 0.30;
/// How many times as long as the side across from it one may be.
const UNLIKE: f64 = 2.0;

/// An edge: where it is, which way it runs, and how strongly.
#[derive(Clone, Copy)]
struct Edge {
    at: Point,
    way: (f64, f64),
    weight: f64,
}

/// A point, perhaps without end away.
type Far = [f64; 3];

impl Edge {
    fn line(&self) -> Far {
        let (c, s) = self.way;
        [-s, c, s * self.at.x - c * self.at.y]
    }

    /// By how much it points beside a far point, in radians.
    fn beside(&self, far: Far) -> f64 {
        let (x, y) = way(far, self.at);
        (self.way.0 * y - self.way.1 * x).abs().min(1.0).asin()
    }
}

/// The way from a place to a far point.
fn way(far: Far, from: Point) -> (f64, f64) {
    let (x, y) = (far[0] - from.x * far[2], far[1] - from.y * far[2]);
    let long = x.hypot(y).max(1e-12);
    (x / long, y / long)
}

fn cross(a: Far, b: Far) -> Far {
    [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
}

/// The corners of a rectangle of the world around the area, by the picture's pixels; `None` where edges run in no two ways.
pub(super) fn found(plate: &Plate, hole: &[bool], size: Size) -> Option<[Point; 4]> {
    let w = size.width as usize;
    let mut edges = edges(plate, hole, size);
    let place = |p: usize| Point::new((p % w) as f64, (p / w) as f64);
    let inside: Vec<Point> = (0..hole.len()).filter(|&p| hole[p]).map(place).collect();
    let (low, high) = (!inside.is_empty()).then(|| ends(&inside))?;
    // What is near has most say: farther off another plane may begin.
    let longer = (high.x - low.x).max(high.y - low.y);
    for edge in &mut edges {
        let beyond = |v: f64, from: f64, to: f64| (from - v).max(v - to).max(0.0);
        let far = beyond(edge.at.x, low.x, high.x).hypot(beyond(edge.at.y, low.y, high.y));
        edge.weight /= 1.0 + (far / (NEAR * longer + 4.0)).powi(2);
    }
    edges.sort_by(|a, b| b.weight.total_cmp(&a.weight));
    edges.truncate(EDGES);
    let middle = Point::new((low.x + high.x) / 2.0, (low.y + high.y) / 2.0);
    let all: f64 = edges.iter().map(|e| e.weight).sum();
    let first = meeting(&edges, SHARE * all, |_| true)?;
    let rest: Vec<Edge> = edges.iter().copied().filter(|e| e.beside(first) > LEFT).collect();
    let (a, b) = way(first, middle);
    let apart = |far: Far| {
        let (x, y) = way(far, middle);
        (a * y - b * x).abs() > APART.sin()
    };
    let second = meeting(&rest, SECOND * SHARE * all, apart)?;
    // Lines to both far points, past the area on both sides.
    let reach = 0.75 * longer + 4.0;
    let (c, d) = way(second, middle);
    let off = |(x, y): (f64, f64), by: f64| Point::new(middle.x + by * x, middle.y + by * y);
    let towards = |from: Point, far: Far| cross([from.x, from.y, 1.0], far);
    let [p, q] = [-reach, reach].map(|by| towards(off((c, d), by), first));
    let [r, s] = [-reach, reach].map(|by| towards(off((a, b), by), second));
    let corner = |a: Far, b: Far| {
        let [x, y, t] = cross(a, b);
        (t.abs() > 1e-12).then(|| Point::new(x / t, y / t))
    };
    let corners = [corner(p, r)?, corner(p, s)?, corner(q, s)?, corner(q, r)?];
    let side = |k: usize| corners[k].distance(corners[(k + 1) % 4]).max(1e-9);
    let alike = |a: f64, b: f64| a < UNLIKE * b && b < UNLIKE * a;
    if !alike(side(0), side(2)) || !alike(side(1), side(3)) {
        return None;
    }
    let plane = Plane::new(&corners, middle)?;
    inside.iter().step_by(17).all(|&p| plane.sees(p, middle)).then_some(corners)
}

/// The point in which most edges meet, of those that are allowed and have enough of them.
fn meeting(edges: &[Edge], least: f64, allowed: impl Fn(Far) -> bool) -> Option<Far> {
    if edges.len() < 8 {
        return None;
    }
    let mut random = Random::new(0x9A1E);
    let mut best: Option<(f64, Far)> = None;
    for _ in 0..PAIRS {
        let (a, b) = (edges[random.below(edges.len())], edges[random.below(edges.len())]);
        let far = cross(a.line(), b.line());
        if far.iter().all(|v| v.abs() < 1e-9) || !allowed(far) {
            continue;
        }
        let score: f64 = edges.iter().filter(|e| e.beside(far) < BESIDE).map(|e| e.weight).sum();
        if best.is_none_or(|b| score > b.0) {
            best = Some((score, far));
        }
    }
    best.filter(|b| b.0 > least).map(|b| b.1)
}

/// Straight edges around an area.
fn edges(plate: &Plate, hole: &[bool], size: Size) -> Vec<Edge> {
    let (w, h) = (size.width as usize, size.height as usize);
    let up = w.max(h).div_ceil(SMALL).max(1);
    let (sw, sh) = (w / up, h / up);
    let mut bright = vec![0.0f32; sw * sh];
    let mut open = vec![false; sw * sh];
    for (q, (b, o)) in bright.iter_mut().zip(&mut open).enumerate() {
        for k in 0..up * up {
            let p = ((q / sw) * up + k / up) * w + (q % sw) * up + k % up;
            *b += (0..3).map(|c| f32::from(plate[c][p])).sum::<f32>() / (3 * up * up) as f32;
            *o |= hole[p];
        }
    }
    let near = distances_within(&open, sw.max(1), 3);
    let change = |q: usize| [(bright[q + 1] - bright[q - 1]) / 2.0, (bright[q + sw] - bright[q - sw]) / 2.0];
    let mut found = Vec::new();
    for y in 3..sh.saturating_sub(3) {
        for x in 3..sw.saturating_sub(3) {
            let q = y * sw + x;
            if near[q] <= 3.0 {
                continue;
            }
            let [gx, gy] = change(q);
            let strength = gx.hypot(gy);
            if strength < CHANGE {
                continue;
            }
            // The strongest across the edge.
            let (dx, dy) = ((gx / strength).round() as i64, (gy / strength).round() as i64);
            let beside = |s: i64| {
                let [u, v] = change((q as i64 + s * (dy * sw as i64 + dx)) as usize);
                u.hypot(v)
            };
            if beside(1) > strength || beside(-1) >= strength {
                continue;
            }
            let (mut xx, mut xy, mut yy) = (0.0f32, 0.0f32, 0.0f32);
            for v in -2i64..=2 {
                for u in -2i64..=2 {
                    let [a, b] = change((q as i64 + v * sw as i64 + u) as usize);
                    (xx, xy, yy) = (xx + a * a, xy + a * b, yy + b * b);
                }
            }
            let spread = ((xx - yy).powi(2) + 4.0 * xy * xy).sqrt();
            if spread < STRAIGHT * (xx + yy) {
                continue;
            }
            // Along the edge, across which the change is.
            let across = f64::from(0.5 * (2.0 * xy).atan2(xx - yy));
            let at = Point::new((x as f64 + 0.5) * up as f64 - 0.5, (y as f64 + 0.5) * up as f64 - 0.5);
            let weight = f64::from(strength.min(3.0 * CHANGE)).sqrt();
            found.push(Edge { at, way: (-across.sin(), across.cos()), weight });
        }
    }
    found
}
