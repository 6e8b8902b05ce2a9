//! Where something that a patch brings is to be found in the plate: the geometry of its own that fits best.
//!
//! A search over whole pixels by correlation on a coarse picture, then Gauss-Newton steps from coarse to fine for shift, turn
//! and size with gain and offset left free (Lucas and Kanade 1981; Baker and Matthews 2004), robust against what covers a part
//! (Huber 1964). Cost: some operations for each pixel of the outline's inside and step.

use super::PatchTransform;
use crate::geometry::{Point, solve};
use crate::pixel::blur::boxed;

/// A picture in grey root codes over a part of the plate's pixels.
pub(crate) struct Grey {
    pub width: usize,
    pub height: usize,
    /// Its first pixel, in pixels of the level that both pictures are.
    pub corner: Point,
    pub values: Vec<f32>,
}

/// Longest side of the picture that is searched, in pixels.
const SEARCHED: usize = 40;
/// What correlation a place as far away as is looked must have over one right here.
const FAR: f32 = 0.15;
/// Steps on each level.
const STEPS: usize = 14;
/// Correlation below which nothing alike was found.
const LEAST_CORRELATION: f32 = 0.5;
/// Most turn and change of size that is found by itself, in degrees and as a ratio.
const MOST_TURN_AND_SCALE: (f64, f64) = (20.0, 1.35);

impl Grey {
    fn at(&self, p: Point) -> Option<f32> {
        let (x, y) = (p.x - self.corner.x, p.y - self.corner.y);
        if x < 0.0 || y < 0.0 || x > (self.width - 1) as f64 || y > (self.height - 1) as f64 {
            return None;
        }
        let (left, top) =
            ((x as usize).min(self.width.saturating_sub(2)), (y as usize).min(self.height.saturating_sub(2)));
        let (right, down) = ((x - left as f64) as f32, (y - top as f64) as f32);
        let v = |x: usize, y: usize| self.values[y.min(self.height - 1) * self.width + x.min(self.width - 1)];
        let mix = |y| v(left, y) * (1.0 - right) + v(left + 1, y) * right;
        Some(mix(top) * (1.0 - down) + mix(top + 1) * down)
    }

    /// What differs from its surroundings, in deviations and limited, so that what covers a part has no more say than the part.
    fn detail(&self) -> Self {
        const AROUND: usize = 4;
        const MOST_DEVIATIONS: f32 = 2.0;
        let (w, h) = (self.width, self.height);
        let mean = boxed(&self.values, w, h, AROUND);
        let count = boxed(&vec![1.0; w * h], w, h, AROUND);
        let deviation: Vec<f32> = (0..w * h).map(|i| self.values[i] - mean[i] / count[i]).collect();
        let squares = boxed(&deviation.iter().map(|v| v * v).collect::<Vec<_>>(), w, h, AROUND);
        let floor = deviation.iter().map(|v| v * v).sum::<f32>() / (w * h).max(1) as f32 * 0.05;
        let even = |i: usize| {
            (deviation[i] / (squares[i] / count[i] + floor).sqrt().max(1e-3))
                .clamp(-MOST_DEVIATIONS, MOST_DEVIATIONS)
        };
        Self { width: w, height: h, corner: self.corner, values: (0..w * h).map(even).collect() }
    }

    /// Half as large; each pixel the mean of four.
    fn halved(&self) -> Self {
        let (w, h) = (self.width / 2, self.height / 2);
        let v = |x: usize, y: usize| self.values[y * self.width + x];
        let mean = |i: usize| {
            let (x, y) = (2 * (i % w), 2 * (i / w));
            (v(x, y) + v(x + 1, y) + v(x, y + 1) + v(x + 1, y + 1)) / 4.0
        };
        // Coordinates are halved; the first pixel's middle lies between the first two of the larger picture.
        let half = |v: f64| v / 2.0 + 0.25;
        Self {
            width: w,
            height: h,
            corner: Point::new(half(self.corner.x), half(self.corner.y)),
            values: (0..w * h).map(mean).collect(),
        }
    }
}

/// What is to be found: its pixels, where `inside` holds, about a middle.
pub(crate) struct Template {
    pub picture: Grey,
    pub inside: Vec<bool>,
    pub middle: Point,
}

impl Template {
    fn halved(&self) -> Self {
        let picture = self.picture.halved();
        let w = self.picture.width;
        let inside = (0..picture.values.len())
            .map(|i| {
                let (x, y) = (2 * (i % picture.width), 2 * (i / picture.width));
                [y * w + x, y * w + x + 1, (y + 1) * w + x, (y + 1) * w + x + 1]
                    .iter()
                    .all(|&p| self.inside[p])
            })
            .collect();
        Self { picture, inside, middle: Point::new(self.middle.x / 2.0, self.middle.y / 2.0) }
    }

    /// Places relative to the middle, with the values of its picture or of another of the same size.
    fn samples(&self, g: &Grey) -> Vec<(Point, f32)> {
        (0..g.values.len())
            .filter(|&i| self.inside[i])
            .map(|i| {
                let p = Point::new(g.corner.x + (i % g.width) as f64, g.corner.y + (i / g.width) as f64);
                (Point::new(p.x - self.middle.x, p.y - self.middle.y), g.values[i])
            })
            .collect()
    }
}

/// Turn and size as two numbers, and the shift.
#[derive(Clone, Copy)]
struct Motion {
    a: f64,
    b: f64,
    shift: Point,
}

impl Motion {
    fn apply(&self, p: Point, middle: Point) -> Point {
        Point::new(
            middle.x + self.shift.x + self.a * p.x - self.b * p.y,
            middle.y + self.shift.y + self.b * p.x + self.a * p.y,
        )
    }
}

/// The place near `start` at which the plate shows the thing; `None` when nothing there is alike.
pub(crate) fn find(thing: Template, plate: Grey, start: PatchTransform) -> Option<PatchTransform> {
    let mirror = if start.mirror { -1.0 } else { 1.0 };
    let mut levels = vec![(thing, plate)];
    while let Some((thing, plate)) = levels.last()
        && thing.picture.width.max(thing.picture.height) > SEARCHED
        && thing.picture.width.min(thing.picture.height) > 12
    {
        let next = (thing.halved(), plate.halved());
        levels.push(next);
    }
    let turn = start.turn.to_radians();
    let coarse = f64::from(1u32 << (levels.len() - 1));
    let mut motion = Motion {
        a: start.scale * turn.cos(),
        b: start.scale * turn.sin(),
        shift: Point::new(start.shift[0] / coarse, start.shift[1] / coarse),
    };
    let mut alike = 0.0;
    for (k, (thing, plate)) in levels.iter().enumerate().rev() {
        let mirrored = |grey: &Grey| -> Vec<(Point, f32)> {
            let samples = thing.samples(grey).into_iter();
            samples.map(|(p, v)| (Point::new(mirror * p.x, p.y), v)).collect()
        };
        let samples = mirrored(&thing.picture);
        let (detail, around) = (mirrored(&thing.picture.detail()), plate.detail());
        let starts = if k + 1 == levels.len() {
            searched(&detail, thing.middle, &around, motion)
        } else {
            vec![motion]
        };
        let worth = |m: Motion| {
            let far = m.shift.distance(motion.shift) / (around.width.max(around.height) as f64 / 2.0);
            Some((m, correlation(&detail, thing.middle, &around, m)?, far as f32))
        };
        let ends = starts.into_iter().filter_map(|m| worth(refined(&samples, thing.middle, plate, m)?));
        (motion, alike, _) = ends.max_by(|a, b| (a.1 - FAR * a.2).total_cmp(&(b.1 - FAR * b.2)))?;
        if k > 0 {
            motion.shift = Point::new(2.0 * motion.shift.x, 2.0 * motion.shift.y);
        }
    }
    let scale = motion.a.hypot(motion.b);
    let turn = motion.b.atan2(motion.a).to_degrees();
    let ratio = scale / start.scale;
    let near = (turn - start.turn).abs() <= MOST_TURN_AND_SCALE.0
        && (1.0 / MOST_TURN_AND_SCALE.1..=MOST_TURN_AND_SCALE.1).contains(&ratio);
    (alike >= LEAST_CORRELATION && near).then_some(PatchTransform {
        shift: [motion.shift.x, motion.shift.y],
        turn,
        scale,
        mirror: start.mirror,
    })
}

/// Correlation of the samples with the plate under a motion; `None` where most of them fall outside.
fn correlation(samples: &[(Point, f32)], middle: Point, plate: &Grey, motion: Motion) -> Option<f32> {
    let (mut n, mut t, mut p, mut tt, mut pp, mut tp) = (0.0f64, 0.0, 0.0, 0.0, 0.0, 0.0);
    for &(at, v) in samples {
        let Some(seen) = plate.at(motion.apply(at, middle)) else { continue };
        let (v, seen) = (f64::from(v), f64::from(seen));
        n += 1.0;
        t += v;
        p += seen;
        tt += v * v;
        pp += seen * seen;
        tp += v * seen;
    }
    if n < 0.8 * samples.len() as f64 || n < 30.0 {
        return None;
    }
    let (tt, pp, tp) = (tt - t * t / n, pp - p * p / n, tp - t * p / n);
    (tt > 0.0 && pp > 0.0).then(|| (tp / (tt * pp).sqrt()) as f32)
}

/// Steps until nothing moves any more.
fn refined(samples: &[(Point, f32)], middle: Point, plate: &Grey, start: Motion) -> Option<Motion> {
    let mut motion = start;
    for _ in 0..STEPS {
        let next = step(samples, middle, plate, motion)?;
        let moved = next.shift.distance(motion.shift);
        motion = next;
        if moved < 1e-3 {
            break;
        }
    }
    Some(motion)
}

/// The best shifts over whole pixels, each apart from the others.
fn searched(samples: &[(Point, f32)], middle: Point, plate: &Grey, start: Motion) -> Vec<Motion> {
    /// Shifts that are followed up, and how far they lie apart in pixels.
    const KEPT: (usize, f64) = (8, 3.0);
    let reach = (plate.width.max(plate.height) / 2) as i64;
    let mut all: Vec<(f32, Point)> = Vec::new();
    for dy in -reach..=reach {
        for dx in -reach..=reach {
            let shift = Point::new(start.shift.x + dx as f64, start.shift.y + dy as f64);
            let Some(alike) = correlation(samples, middle, plate, Motion { shift, ..start }) else {
                continue;
            };
            // Of two that are alike the nearer is meant.
            all.push((alike - FAR * ((dx * dx + dy * dy) as f32).sqrt() / reach as f32, shift));
        }
    }
    all.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut kept: Vec<Point> = Vec::new();
    for (_, shift) in all {
        if kept.len() < KEPT.0 && kept.iter().all(|k| k.distance(shift) >= KEPT.1) {
            kept.push(shift);
        }
    }
    kept.into_iter().map(|shift| Motion { shift, ..start }).collect()
}

/// One step towards the best fit.
fn step(samples: &[(Point, f32)], middle: Point, plate: &Grey, motion: Motion) -> Option<Motion> {
    // Each sample with what the plate shows and how that changes.
    let seen: Vec<(Point, f64, f64, f64, f64)> = samples
        .iter()
        .filter_map(|&(at, v)| {
            let q = motion.apply(at, middle);
            let near = |dx: f64, dy: f64| plate.at(Point::new(q.x + dx, q.y + dy)).map(f64::from);
            let gx = (near(0.5, 0.0)? - near(-0.5, 0.0)?, near(0.0, 0.5)? - near(0.0, -0.5)?);
            Some((at, f64::from(v), near(0.0, 0.0)?, gx.0, gx.1))
        })
        .collect();
    if 2 * seen.len() < samples.len() || seen.len() < 30 {
        return None;
    }
    let n = seen.len() as f64;
    let (mt, mp) = (seen.iter().map(|s| s.1).sum::<f64>() / n, seen.iter().map(|s| s.2).sum::<f64>() / n);
    let (tt, tp) =
        seen.iter().fold((0.0, 0.0), |(a, b), s| (a + (s.1 - mt).powi(2), b + (s.1 - mt) * (s.2 - mp)));
    let gain = if tt > 0.0 { tp / tt } else { 1.0 };
    let residual = |s: &(Point, f64, f64, f64, f64)| gain * (s.1 - mt) + mp - s.2;
    let mut sizes: Vec<f64> = seen.iter().map(|s| residual(s).abs()).collect();
    let k = sizes.len() / 2;
    let (_, middle_size, _) = sizes.select_nth_unstable_by(k, f64::total_cmp);
    let limit = (2.0 * 1.4826 * *middle_size).max(1.0);
    let (mut normal, mut right) = ([[0.0f64; 4]; 4], [0.0f64; 4]);
    for s in &seen {
        let r = residual(s);
        let weight = if r.abs() > limit { limit / r.abs() } else { 1.0 };
        let j = [s.3, s.4, s.3 * s.0.x + s.4 * s.0.y, s.4 * s.0.x - s.3 * s.0.y];
        for (row, a) in j.iter().enumerate() {
            right[row] += weight * r * a;
            j.iter().enumerate().for_each(|(column, b)| normal[row][column] += weight * a * b);
        }
    }
    let d = solve(normal, right)?;
    let shift = Point::new(motion.shift.x + d[0], motion.shift.y + d[1]);
    Some(Motion { a: motion.a + d[2], b: motion.b + d[3], shift })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;

    /// A texture that repeats nowhere: waves whose lengths change from place to place.
    fn texture(x: f64, y: f64) -> f64 {
        let wave = |a: f64, b: f64, c: f64| (a * x + b * y + c * x * y * 4e-4 + c * x * x * 3e-4).sin();
        20_000.0
            + 3000.0
                * (wave(0.31, 0.11, 0.4)
                    + wave(-0.17, 0.37, 2.0)
                    + wave(0.07, -0.05, 1.0)
                    + wave(0.2, 0.29, 0.7))
    }

    #[test]
    fn a_thing_that_was_moved_and_turned_is_found_to_a_fifth_of_a_pixel() {
        let mut random = Random::new(9);
        let middle = Point::new(140.0, 110.0);
        for _ in 0..8 {
            let truth = PatchTransform {
                shift: [random.within(-30.0, 30.0), random.within(-20.0, 20.0)],
                turn: random.within(-4.0, 4.0),
                scale: random.within(0.96, 1.05),
                mirror: random.unit() < 0.5,
            };
            let back = truth.about(middle).inverse().unwrap();
            let mut grey = |corner: Point, w: usize, h: usize, of: &dyn Fn(f64, f64) -> f64| Grey {
                width: w,
                height: h,
                corner,
                values: (0..w * h)
                    .map(|i| {
                        let v = of(corner.x + (i % w) as f64, corner.y + (i / w) as f64);
                        (v + 150.0 * random.normal()) as f32
                    })
                    .collect(),
            };
            // Darker in the plate, and a corner of it covered.
            let plate = grey(Point::new(40.0, 20.0), 200, 180, &|x, y| {
                let p = back.apply(Point::new(x, y));
                if p.x > 165.0 && p.y > 130.0 { 30_000.0 } else { 0.85 * texture(p.x, p.y) + 900.0 }
            });
            let picture = grey(Point::new(100.0, 80.0), 81, 61, &texture);
            let thing = Template { inside: vec![true; picture.values.len()], picture, middle };
            let found =
                find(thing, plate, PatchTransform { mirror: truth.mirror, ..PatchTransform::UNMOVED })
                    .unwrap();
            let (f, t) = (found.about(middle), truth.about(middle));
            for (x, y) in [(105.0, 85.0), (175.0, 85.0), (105.0, 135.0), (140.0, 110.0)] {
                let p = Point::new(x, y);
                assert!(f.apply(p).distance(t.apply(p)) < 0.2, "{truth:?} was found as {found:?}");
            }
        }
    }

    #[test]
    fn nothing_alike_is_nothing_found() {
        let mut random = Random::new(4);
        let mut noise = |corner, w: usize, h: usize| Grey {
            width: w,
            height: h,
            corner,
            values: (0..w * h).map(|_| random.normal() as f32 * 900.0).collect(),
        };
        let picture = noise(Point::new(20.0, 20.0), 40, 40);
        let thing = Template { inside: vec![true; 1600], picture, middle: Point::new(40.0, 40.0) };
        assert!(find(thing, noise(Point::new(0.0, 0.0), 90, 90), PatchTransform::UNMOVED).is_none());
    }
}
