//! Pixels from another place: as they are, or in the tone of what is around (Pérez, Gangnet and Blake 2003).
//!
//! A move by whole pixels copies them; else they are interpolated by cubic convolution (Keys 1981).

use super::{Around, Only, Plane, Plate, Touch, TouchError};
use crate::geometry::{Homography, Point, Size};
use crate::patch::{PatchTransform, middle};
use crate::pixel::distance::distances_within;
use crate::pixel::poisson::{Poisson, Value};
use rayon::prelude::*;

/// Share of an area whose source may be missing: there it stays as it is.
const MISSING: f32 = 0.5;
/// Difference at the rim from which on it is taken for something else, in root codes.
const OTHER: f32 = 8.0 * 655.35;

/// Where each pixel's source lies, by pixels of what is around.
struct Sources<'a> {
    around: &'a Around<'a>,
    hole: &'a [bool],
    plane: Option<Plane>,
    /// From a place to its source, seen from the front where there is a plane.
    back: Homography,
}

impl<'a> Sources<'a> {
    fn new(
        around: &'a Around<'a>,
        hole: &'a [bool],
        transform: &PatchTransform,
        touch: &Touch,
    ) -> Result<Self, TouchError> {
        let plane = touch.seen()?;
        let back = transform.onto(middle(&touch.outline)).inverse().ok_or(TouchError::Source)?;
        let sources = Self { around, hole, plane, back };
        let holes = || (0..hole.len()).filter(|&p| hole[p]);
        let missing = holes().filter(|&p| sources.value(p).is_none()).count();
        if missing as f32 > MISSING * holes().count() as f32 {
            return Err(TouchError::Source);
        }
        Ok(sources)
    }

    /// Where a place of the canvas's pixels is taken from.
    fn source(&self, column: f64, row: f64) -> Option<Point> {
        let grid = &self.around.grid;
        let place = grid.place(column, row);
        let Some(plane) = &self.plane else { return Some(grid.within(self.back.apply(place))) };
        let from = plane.back.apply(self.back.apply(plane.front.apply(place)));
        (from.x.is_finite() && from.y.is_finite() && plane.sees(from, place)).then(|| grid.within(from))
    }

    /// What a pixel is given; `None` where that is to go itself, or is not there.
    fn value(&self, p: usize) -> Option<Value> {
        let w = self.around.grid.rect.width as usize;
        let (x, y) = ((p % w) as f64, (p / w) as f64);
        let at = self.source(x, y)?;
        // As many places as its pixels are smaller, so that none is passed over.
        let (right, down) = (self.source(x + 1.0, y)?, self.source(x, y + 1.0)?);
        let count = (at.distance(right).max(at.distance(down)) - 0.1).ceil().clamp(1.0, MOST_PLACES);
        if count <= 1.0 {
            return self.at(at);
        }
        let places = count as usize;
        let off = |k: usize| (k as f64 + 0.5) / count - 0.5;
        let mut sum = [0.0; 4];
        for (i, j) in (0..places).flat_map(|i| (0..places).map(move |j| (i, j))) {
            let value = self.at(self.source(x + off(i), y + off(j))?)?;
            (0..4).for_each(|c| sum[c] += value[c]);
        }
        Some(sum.map(|v| v / (places * places) as f32))
    }

    /// What the source shows at a place.
    fn at(&self, at: Point) -> Option<Value> {
        let allowed = |i: usize| !self.hole[i] && !self.around.barred.get(i).is_some_and(|b| *b);
        interpolated(self.around.source.unwrap_or(self.around.plate), self.around.size(), at, allowed)
    }
}

/// Places along a side of a pixel at most, where its source is larger than it.
const MOST_PLACES: f64 = 6.0;

/// What a picture shows at a place between its pixels; `None` where one of those that are asked may not be, or is not there.
pub(super) fn interpolated(
    plate: &Plate,
    size: Size,
    at: Point,
    allowed: impl Fn(usize) -> bool,
) -> Option<Value> {
    let (w, h) = (i64::from(size.width), i64::from(size.height));
    let (x, y) = ((at.x + 1e-6).floor(), (at.y + 1e-6).floor());
    let (u, v) = ((at.x - x).clamp(0.0, 1.0) as f32, (at.y - y).clamp(0.0, 1.0) as f32);
    let (x, y) = (x as i64, y as i64);
    let whole = u < 1e-4 && v < 1e-4;
    let (low, high) = if whole { (0, 0) } else { (-1, 2) };
    if x + low < 0 || y + low < 0 || x + high >= w || y + high >= h {
        return None;
    }
    let index = |dx: i64, dy: i64| ((y + dy) * w + x + dx) as usize;
    if !(low..=high).all(|dy| (low..=high).all(|dx| allowed(index(dx, dy)))) {
        return None;
    }
    let code = |c: usize, i: usize| f32::from(plate[c][i]);
    if whole {
        let i = index(0, 0);
        return Some([code(0, i), code(1, i), code(2, i), 0.0]);
    }
    let (across, down) = (weights(u), weights(v));
    let channel = |c: usize| {
        let row =
            |dy: i64| -> f32 { (-1..=2).map(|dx| across[(dx + 1) as usize] * code(c, index(dx, dy))).sum() };
        (-1..=2).map(|dy| down[(dy + 1) as usize] * row(dy)).sum::<f32>()
    };
    Some([channel(0), channel(1), channel(2), 0.0])
}

/// Of cubic convolution, for the four samples around a place.
fn weights(t: f32) -> [f32; 4] {
    let (t2, t3) = (t * t, t * t * t);
    [-0.5 * t3 + t2 - 0.5 * t, 1.5 * t3 - 2.5 * t2 + 1.0, -1.5 * t3 + 2.0 * t2 + 0.5 * t, 0.5 * t3 - 0.5 * t2]
}

/// How far the source lies from the area that goes on best from the area's rim, across and down, and whether the edges at the rim go on
/// in it; `None` when there is no room for one.
///
/// Lines that meet the rim then meet what continues them: both sides are compared at once, by all places on a smaller picture first.
pub(super) fn proposed(
    plate: &Plate,
    hole: &[bool],
    barred: &[bool],
    size: Size,
) -> Option<([f64; 2], bool)> {
    /// Pixels along the longer side of the smaller picture.
    const SMALL: usize = 240;
    /// Pixels of the rim that are compared, and pixels around the best that are looked at closer.
    const RIM: usize = 300;
    const NEAR: i64 = 4;
    let (w, h) = (size.width as usize, size.height as usize);
    let up = w.max(h).div_ceil(SMALL);
    let (sw, sh) = (w / up, h / up);
    let bright = |p: usize| {
        let of = |c: usize| f32::from(plate[c][p]);
        [of(0), of(1), of(2)]
    };
    let pixels = |x: usize, y: usize| (0..up * up).map(move |k| (y * up + k / up) * w + x * up + k % up);
    let small = |x: usize, y: usize| {
        let mut sum = [0.0; 3];
        pixels(x, y).for_each(|p| (0..3).for_each(|c| sum[c] += bright(p)[c]));
        sum.map(|v| v / (up * up) as f32)
    };
    let cells = || (0..sh).flat_map(move |y| (0..sw).map(move |x| (x, y)));
    let picture: Vec<[f32; 3]> = cells().map(|(x, y)| small(x, y)).collect();
    let coarse = |set: &[bool]| -> Vec<bool> {
        cells().map(|(x, y)| pixels(x, y).any(|p| set.get(p).is_some_and(|s| *s))).collect()
    };
    let (open, closed) = (coarse(hole), coarse(barred));
    let (x, y) = best((&picture, &open, &closed, sw), 2, RIM, |_, _| true)?;
    // Closer, at full size.
    let full: Vec<[f32; 3]> = (0..w * h).map(bright).collect();
    let (x, y) = (x * up as i64, y * up as i64);
    let reach = NEAR.max(up as i64 + 1);
    let near = |dx: i64, dy: i64| (dx - x).abs() <= reach && (dy - y).abs() <= reach;
    let (x, y) = best((&full, hole, barred, w), 3, 2 * RIM, near).unwrap_or((x, y));
    Some(([x as f64, y as f64], edges_meet(&full, hole, w, (x, y))))
}

/// Whether most of the strong edges that end at a hole's rim go on at the place that a move leads to.
fn edges_meet(picture: &[[f32; 3]], hole: &[bool], w: usize, (dx, dy): (i64, i64)) -> bool {
    /// A difference between neighbours that is an edge, in root codes, and how much of it the place may miss.
    const EDGE: f32 = 3.0 * 655.35;
    const MISSED: f32 = 0.6;
    let near = distances_within(hole, w, 2);
    let bright = |p: usize| picture[p].iter().sum::<f32>() / 3.0;
    let moved = |p: usize| {
        let (x, y) = ((p % w) as i64 + dx, (p / w) as i64 + dy);
        let there = x >= 0 && y >= 0 && x < w as i64 && ((y as usize) * w) < picture.len();
        there.then(|| y as usize * w + x as usize)
    };
    let (mut edges, mut missed) = (0, 0);
    for p in (0..hole.len()).filter(|&p| !hole[p] && near[p] <= 2.0) {
        // Along the rim, to the right or below.
        for q in [(p % w + 1 < w).then_some(p + 1), Some(p + w)].into_iter().flatten() {
            if q >= hole.len() || hole[q] || near[q] > 2.0 || (bright(p) - bright(q)).abs() < EDGE {
                continue;
            }
            let (Some(a), Some(b)) = (moved(p), moved(q)) else { continue };
            if b >= picture.len() {
                continue;
            }
            edges += 1;
            let (own, other) = (bright(p) - bright(q), bright(a) - bright(b));
            missed += usize::from((own - other).abs() > MISSED * own.abs());
        }
    }
    edges < 12 || 2 * missed < edges
}

/// The move among those that are allowed whose place shows most nearly what the rim of a hole shows, and nothing of the hole.
fn best(
    (picture, hole, barred, w): (&[[f32; 3]], &[bool], &[bool], usize),
    reach: usize,
    most: usize,
    allowed: impl Fn(i64, i64) -> bool + Sync,
) -> Option<(i64, i64)> {
    let h = (picture.len() / w.max(1)) as i64;
    let w = w as i64;
    let near = distances_within(hole, w as usize, reach);
    let known = |p: usize| !hole[p] && !barred.get(p).is_some_and(|b| *b);
    let rim: Vec<usize> = (0..hole.len()).filter(|&p| known(p) && near[p].is_finite()).collect();
    let rim: Vec<usize> = rim.iter().copied().step_by(rim.len().div_ceil(most).max(1)).collect();
    let inside: Vec<usize> = (0..hole.len()).filter(|&p| hole[p]).collect();
    if rim.is_empty() || inside.is_empty() {
        return None;
    }
    let asked: Vec<usize> =
        inside.iter().copied().step_by(inside.len().div_ceil(most)).chain(rim.iter().copied()).collect();
    let moved = |p: usize, dx: i64, dy: i64| {
        let (x, y) = (p as i64 % w + dx, p as i64 / w + dy);
        (x >= 0 && y >= 0 && x < w && y < h).then(|| (y * w + x) as usize)
    };
    let free = |q: usize| !hole[q] && !barred.get(q).is_some_and(|b| *b);
    let rows: Vec<Option<(f32, i64, i64)>> = (1 - h..h)
        .into_par_iter()
        .map(|dy| {
            let mut found: Option<(f32, i64, i64)> = None;
            for dx in 1 - w..w {
                if !allowed(dx, dy) || !asked.iter().all(|&p| moved(p, dx, dy).is_some_and(free)) {
                    continue;
                }
                let mut sum = 0.0;
                for &p in &rim {
                    let Some(q) = moved(p, dx, dy) else { continue };
                    sum += (0..3).map(|c| (picture[p][c] - picture[q][c]).powi(2)).sum::<f32>();
                    if found.is_some_and(|f| sum > f.0) {
                        break;
                    }
                }
                if found.is_none_or(|f| sum < f.0) {
                    found = Some((sum, dx, dy));
                }
            }
            found
        })
        .collect();
    let found =
        rows.into_iter().flatten().min_by(|a, b| a.0.total_cmp(&b.0).then((a.2, a.1).cmp(&(b.2, b.1))));
    found.map(|(_, dx, dy)| (dx, dy))
}

fn put(plate: &mut Plate, p: usize, value: Value) {
    for (plane, v) in plate.iter_mut().zip(value) {
        plane[p] = v.round().clamp(0.0, 65535.0) as u16;
    }
}

/// The picture with the area as its source shows it.
pub(super) fn copied(
    around: &Around<'_>,
    hole: &[bool],
    transform: &PatchTransform,
    touch: &Touch,
) -> Result<Plate, TouchError> {
    let sources = Sources::new(around, hole, transform, touch)?;
    let mut out = around.plate.clone();
    for p in (0..hole.len()).filter(|&p| hole[p]) {
        if let Some(value) = sources.value(p) {
            put(&mut out, p, value);
        }
    }
    Ok(out)
}

/// The same in the tone of what is around the area.
pub(super) fn mended(
    around: &Around<'_>,
    hole: &[bool],
    transform: &PatchTransform,
    touch: &Touch,
    only: Only,
) -> Result<Plate, TouchError> {
    let sources = Sources::new(around, hole, transform, touch)?;
    let w = around.grid.rect.width as usize;
    let h = around.grid.rect.height as usize;
    let own = |p: usize| -> Value {
        let code = |c: usize| f32::from(around.plate[c][p]);
        [code(0), code(1), code(2), 0.0]
    };
    // Only the part that may change is solved for, however far away the source is.
    let (all, part) = (around.grid.rect, around.part);
    let (left, top) = ((part.x - all.x) as usize, (part.y - all.y) as usize);
    let (pw, ph) = (part.width as usize, part.height as usize);
    let at = |k: usize| (top + k / pw) * w + left + k % pw;
    // What has no source holds what it shows.
    let values: Vec<Option<Value>> =
        (0..pw * ph).map(|k| if hole[at(k)] { sources.value(at(k)) } else { None }).collect();
    let inside: Vec<bool> = values.iter().map(Option::is_some).collect();
    let near = |p: usize| {
        let (x, y) = (p % w, p / w);
        let all =
            [(x > 0, p.wrapping_sub(1)), (x + 1 < w, p + 1), (y > 0, p.wrapping_sub(w)), (y + 1 < h, p + w)];
        all.into_iter().filter(|(there, _)| *there).map(|(_, q)| q)
    };
    // By how much the rim differs from what the source shows there, and how strongly it holds.
    let rim = |k: usize| -> (f32, Value) {
        let (mut held, mut wanted) = (0.0, [0.0; 4]);
        for q in near(at(k)).filter(|&q| !hole[q]) {
            let Some(there) = sources.value(q).or(values[k]) else { continue };
            let off: Value = std::array::from_fn(|c| own(q)[c] - there[c]);
            let most = off.iter().fold(0.0f32, |m, v| m.max(v.abs()));
            let weight = 1.0 / (1.0 + (most / (4.0 * OTHER)).powi(4));
            held += weight;
            (0..4).for_each(|c| wanted[c] += weight * off[c]);
        }
        (held, wanted)
    };
    let rims: Vec<(f32, Value)> =
        (0..pw * ph).map(|k| if inside[k] { rim(k) } else { (0.0, [0.0; 4]) }).collect();
    let equation = Poisson::new(&inside, pw, |k| rims[k].0);
    let more = equation.solve(&rims.iter().map(|r| r.1).collect::<Vec<_>>());
    let mut out = around.plate.clone();
    for k in 0..pw * ph {
        let Some(value) = values[k] else { continue };
        let (p, before) = (at(k), own(at(k)));
        let bright = |v: Value| v[0] + 2.0 * v[1] + v[2];
        let new: Value = std::array::from_fn(|c| value[c] + more[k][c]);
        let changes = match only {
            Only::Both => true,
            Only::Lighten => bright(new) > bright(before),
            Only::Darken => bright(new) < bright(before),
        };
        if changes {
            put(&mut out, p, new);
        }
    }
    Ok(out)
}
