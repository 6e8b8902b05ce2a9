//! Lens flare taken off: the light that a disc adds is told from the texture below it, and subtracted.
//!
//! A reflection between lenses adds light that depends on the distance from its middle alone, while texture runs every way: the median
//! over all directions of how light changes outwards is the flare's own change (a robust mean, as for intrinsic images: Weiss 2001). Summed from
//! outside it is the flare's light. Its middle is where that change is strongest. Cost: some hundred thousand samples a middle that is tried.

use super::{Around, Plate, TouchError};
use crate::geometry::Point;
use rayon::prelude::*;

/// Directions in which a disc is looked at.
const WAYS: usize = 72;
/// Middles that are tried along each side, and how often closer around the best.
const TRIED: i64 = 8;
const CLOSER: usize = 4;
/// A change of light counts beyond so many of its own deviations where a middle is looked for, and all of them together where it is
/// decided whether there is a flare.
const SURE: (f32, f32) = (1.5, 4.0);
/// Least light of a flare, as a share of white.
const LEAST: f32 = 0.004;

/// Light by channel.
type Light = [f32; 3];

/// Light of a pixel's root codes, white being one.
fn light(plate: &Plate, p: usize) -> Light {
    std::array::from_fn(|c| (f32::from(plate[c][p]) / 65535.0).powi(2))
}

/// The picture with what a flare within the area adds taken off.
pub(super) fn without(around: &Around<'_>, hole: &[bool]) -> Result<Plate, TouchError> {
    let w = around.grid.rect.width as usize;
    let place = |p: usize| Point::new((p % w) as f64, (p / w) as f64);
    let inside: Vec<Point> = (0..hole.len()).filter(|&p| hole[p]).map(place).collect();
    let (low, high) = crate::geometry::ends(&inside);
    let mut best = Point::new((low.x + high.x) / 2.0, (low.y + high.y) / 2.0);
    let half = (high.x - low.x).min(high.y - low.y) / 2.0;
    // Rows of light, so that a place between pixels is found at once.
    let lights: Vec<Light> = (0..hole.len()).map(|p| light(around.plate, p)).collect();
    let picture = Picture { lights: &lights, w, h: hole.len() / w.max(1) };
    let mut step = half / (2.0 * TRIED as f64) * 1.2;
    let mut tried = TRIED;
    for _ in 0..=CLOSER {
        let middles: Vec<Point> = (-tried..=tried)
            .flat_map(|y| (-tried..=tried).map(move |x| (x as f64, y as f64)))
            .map(|(x, y)| Point::new(best.x + step * x, best.y + step * y))
            .collect();
        let scores: Vec<f32> = middles.par_iter().map(|&m| picture.changes(m, reach(m, &inside)).1).collect();
        let most = (0..scores.len()).max_by(|&a, &b| scores[a].total_cmp(&scores[b]).then(b.cmp(&a)));
        best = most.map_or(best, |k| middles[k]);
        (tried, step) = (2, (step / 2.5).max(0.2));
    }
    let (changes, _) = picture.changes(best, reach(best, &inside));
    // From outside, where it adds nothing, inwards: it never gets weaker.
    let mut adds = vec![[0.0f32; 3]; changes.len() + 1];
    let mut sure = false;
    for c in 0..3 {
        let mut sum = 0.0;
        let outwards: Vec<f32> = changes
            .iter()
            .rev()
            .map(|ring| {
                sum -= ring[c].0;
                sum
            })
            .collect();
        let rising = rising(&outwards);
        let spread = changes.iter().map(|ring| ring[c].1.powi(2)).sum::<f32>().sqrt();
        sure |= rising.last().is_some_and(|v| *v > LEAST.max(SURE.1 * spread));
        for (r, v) in rising.into_iter().rev().enumerate() {
            adds[r][c] = v.max(0.0);
        }
    }
    if !sure {
        return Err(TouchError::Flare);
    }
    let mut out = around.plate.clone();
    for p in (0..hole.len()).filter(|&p| hole[p]) {
        let far = place(p).distance(best) as f32;
        let (r, share) = (far as usize, far.fract());
        let at = |r: usize| adds.get(r).copied().unwrap_or_default();
        let (a, b, own) = (at(r), at(r + 1), lights[p]);
        for (c, plane) in out.iter_mut().enumerate() {
            let added = (a[c] + share * (b[c] - a[c])).max(0.0);
            plane[p] = (65535.0 * (own[c] - added).max(0.0).sqrt()).round().min(65535.0) as u16;
        }
    }
    Ok(out)
}

/// How far an area goes from a middle.
fn reach(middle: Point, inside: &[Point]) -> usize {
    inside.iter().map(|p| p.distance(middle)).fold(0.0, f64::max).ceil() as usize + 2
}

struct Picture<'a> {
    lights: &'a [Light],
    w: usize,
    h: usize,
}

impl Picture<'_> {
    fn at(&self, x: f64, y: f64) -> Option<Light> {
        let (left, top) = (x.floor(), y.floor());
        if left < 0.0 || top < 0.0 || left + 1.0 >= self.w as f64 || top + 1.0 >= self.h as f64 {
            return None;
        }
        let (u, v) = ((x - left) as f32, (y - top) as f32);
        let p = top as usize * self.w + left as usize;
        let [a, b, c, d] = [p, p + 1, p + self.w, p + self.w + 1].map(|p| self.lights[p]);
        Some(std::array::from_fn(|k| {
            (a[k] * (1.0 - u) + b[k] * u) * (1.0 - v) + (c[k] * (1.0 - u) + d[k] * u) * v
        }))
    }

    /// By how much light changes from each distance to the next in most directions, with its deviation; and how strongly all in all.
    fn changes(&self, middle: Point, reach: usize) -> (Vec<[(f32, f32); 3]>, f32) {
        let ways: Vec<(f64, f64)> =
            (0..WAYS).map(|k| (k as f64 / WAYS as f64 * std::f64::consts::TAU).sin_cos()).collect();
        let sample = |r: f64| -> Vec<Option<Light>> {
            ways.iter().map(|(s, c)| self.at(middle.x + r * c, middle.y + r * s)).collect()
        };
        let rings: Vec<Vec<Option<Light>>> = (0..reach + 2).map(|r| sample(r as f64)).collect();
        let mut score = 0.0;
        let changes = (0..reach)
            .map(|r| {
                let mut change = [(0.0, 0.0); 3];
                // Close to the middle all directions look at the same pixels.
                if r < 3 {
                    return change;
                }
                for (c, change) in change.iter_mut().enumerate() {
                    // Over two pixels, so that grain says less.
                    let mut all: Vec<f32> = rings[r - 1]
                        .iter()
                        .zip(&rings[r + 1])
                        .filter_map(|(a, b)| Some((b.as_ref()?[c] - a.as_ref()?[c]) / 2.0))
                        .collect();
                    if all.len() < WAYS / 3 {
                        continue;
                    }
                    let middle = median(&mut all);
                    let mut off: Vec<f32> = all.iter().map(|v| (v - middle).abs()).collect();
                    let spread = 1.86 * median(&mut off) / (all.len() as f32).sqrt();
                    *change = (middle, spread);
                    score += (middle + SURE.0 * spread).min(0.0).powi(2) * r as f32;
                }
                change
            })
            .collect();
        (changes, score)
    }
}

fn median(values: &mut [f32]) -> f32 {
    let k = values.len() / 2;
    *values.select_nth_unstable_by(k, f32::total_cmp).1
}

/// The rising values nearest to these (pool adjacent violators).
fn rising(values: &[f32]) -> Vec<f32> {
    let mut pools: Vec<(f32, usize)> = Vec::new();
    for &value in values {
        pools.push((value, 1));
        while let [.., (a, n), (b, m)] = pools[..]
            && a > b
        {
            pools.truncate(pools.len() - 2);
            pools.push(((a * n as f32 + b * m as f32) / (n + m) as f32, n + m));
        }
    }
    pools.into_iter().flat_map(|(value, count)| std::iter::repeat_n(value, count)).collect()
}

#[cfg(test)]
mod tests {
    use super::rising;

    #[test]
    fn the_nearest_rising_values() {
        assert_eq!(rising(&[1.0, 3.0, 2.0, 4.0]), [1.0, 2.5, 2.5, 4.0]);
        assert_eq!(rising(&[3.0, 2.0, 1.0]), [2.0, 2.0, 2.0]);
        assert!(rising(&[]).is_empty());
    }
}
