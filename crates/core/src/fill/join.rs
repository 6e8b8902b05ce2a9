//! What was chosen, copied at full size and joined by its differences, so that no border is seen (Pérez, Gangnet and Blake 2003;
//! weights at the rim as by an M-estimator: Geman and McClure 1987).
//!
//! Where a pixel and its neighbour are copied from places side by side, their difference is that of these; else it is the mean of what
//! both places say. A pixel of the rim holds what is copied the less the more it differs: what the area cuts off, such as somebody's
//! foot, does not bleed into it.

use super::Ground;
use crate::pixel::poisson::{Poisson, Value};

/// Difference at the rim from which on it is taken for something else, in hundredths of white's root code.
const OTHER: f32 = 8.0;

/// The picture with its hole filled by pixels from these places.
pub(super) fn joined(ground: &Ground<'_>, from: &[u32]) -> [Vec<u16>; 3] {
    let (w, h) = (ground.size.width as usize, ground.size.height as usize);
    let mut planes = ground.planes.clone();
    let void = |p: usize| ground.void.get(p).is_some_and(|v| *v);
    let Some(part) = part(ground.hole, w) else { return planes };
    let (left, top, pw, ph) = part;
    let at = |p: usize| (p / pw + top) * w + p % pw + left;
    let inside: Vec<bool> = (0..pw * ph).map(|p| ground.hole[at(p)]).collect();
    let value = |p: usize| -> Value {
        let code = |c: usize| f32::from(ground.planes[c][p]);
        [code(0), code(1), code(2), 0.0]
    };
    let near = |p: usize| {
        let (x, y) = (p % w, p / w);
        let all: [(bool, i64, i64); 4] =
            [(x > 0, -1, 0), (x + 1 < w, 1, 0), (y > 0, 0, -1), (y + 1 < h, 0, 1)];
        let there = all.into_iter().filter(|(there, ..)| *there);
        there.map(move |(_, dx, dy)| ((y as i64 + dy) as usize * w + (x as i64 + dx) as usize, dx, dy))
    };
    let moved = |p: usize, dx: i64, dy: i64| -> Option<usize> {
        let (x, y) = ((p % w) as i64 + dx, (p / w) as i64 + dy);
        let there = x >= 0 && y >= 0 && x < w as i64 && y < h as i64;
        let q = y as usize * w + x as usize;
        (there && !ground.hole[q] && !void(q)).then_some(q)
    };
    let minus = |a: Value, b: Value| -> Value { std::array::from_fn(|c| a[c] - b[c]) };
    // How strongly a rim pixel holds, by how much it differs from what is copied beside it.
    let holds = |p: usize, q: usize, dx: i64, dy: i64| -> f32 {
        if ground.hole[q] || void(q) {
            return 0.0;
        }
        let beside = moved(from[p] as usize, dx, dy).map_or(value(from[p] as usize), value);
        let off = minus(beside, value(q)).iter().map(|d| d.abs()).fold(0.0, f32::max) * 100.0 / 65535.0;
        1.0 / (1.0 + (off / OTHER).powi(4))
    };
    let held = |p: usize| near(at(p)).map(|(q, dx, dy)| holds(at(p), q, dx, dy)).sum();
    let equation = Poisson::new(&inside, pw, held);
    // Solved for what is added to the copied pixels.
    let wanted: Vec<Value> = (0..pw * ph)
        .map(|k| {
            if !inside[k] {
                return [0.0; 4];
            }
            let p = at(k);
            let own = value(from[p] as usize);
            let mut sum = [0.0; 4];
            for (q, dx, dy) in near(p) {
                if ground.hole[q] {
                    let other = value(from[q] as usize);
                    let first = moved(from[p] as usize, dx, dy).map(|s| minus(own, value(s)));
                    let second = moved(from[q] as usize, -dx, -dy).map(|s| minus(value(s), other));
                    let wanted: Value = match (first, second) {
                        (Some(a), Some(b)) => {
                            if p < q {
                                a
                            } else {
                                b
                            }
                        }
                        (Some(a), None) => a,
                        (None, Some(b)) => b,
                        (None, None) => [0.0; 4],
                    };
                    let copied = minus(own, other);
                    (0..4).for_each(|c| sum[c] += wanted[c] - copied[c]);
                } else {
                    let weight = holds(p, q, dx, dy);
                    let beside = moved(from[p] as usize, dx, dy).map_or(own, value);
                    // What is copied goes on beyond the rim as it does where it comes from.
                    let more = minus(value(q), beside);
                    (0..4).for_each(|c| sum[c] += weight * more[c]);
                }
            }
            sum
        })
        .collect();
    let more = equation.solve(&wanted);
    for k in (0..pw * ph).filter(|&k| inside[k]) {
        let p = at(k);
        for (c, plane) in planes.iter_mut().enumerate() {
            let v = f32::from(ground.planes[c][from[p] as usize]) + more[k][c];
            plane[p] = v.round().clamp(0.0, 65535.0) as u16;
        }
    }
    planes
}

/// The box around what is set: left, top, width and height.
fn part(set: &[bool], w: usize) -> Option<(usize, usize, usize, usize)> {
    let rows = set.chunks(w).map(|row| row.contains(&true));
    let top = rows.clone().position(|r| r)?;
    let bottom = rows.clone().rposition(|r| r)?;
    let columns = |x: usize| (top..=bottom).any(|y| set[y * w + x]);
    let left = (0..w).find(|&x| columns(x))?;
    let right = (0..w).rev().find(|&x| columns(x))?;
    Some((left, top, right - left + 1, bottom - top + 1))
}
