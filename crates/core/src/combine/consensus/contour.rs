//! The evidence of contours: where two frames differ at a place but agree beside it, the frame that holds the object
//! has a step across that border and the clear one has not.
//!
//! Each connected place that differs between two frames is asked as a whole: the mean over its border of
//! `(sᵢ − sⱼ) / (sᵢ + sⱼ + 4)` with s the step in deviations. Where an edge of what is behind runs just outside, the clear frame
//! has the larger step: a vote that turns around when each frame is compared with the nearest colour that it has outside counts
//! little. A border that votes both ways, as that of two movers grown together does, decides only near to where it votes, and while
//! votes are few for a quarter only: the surroundings tell more of it. Things without an edge (glare, smoke) have no step and say nothing.
//! While frames are few, a place is asked in parts by which of the two the others agree with, and what holds something itself is a poor
//! witness. Cost: a few operations a pixel and pair, and there as many for each further frame; with many frames, each is compared with
//! some of the others only.

use super::costs::{Cost, Costs};
use super::field::{DIFFER, Field, SAME};
use super::votes::FEW_FRAMES;
use crate::pixel::blur::boxed;
use crate::pixel::flood::flood;
use crate::pixel::necks::parts_at_necks;
use rayon::prelude::*;
use std::collections::HashMap;

/// What evidence that is certain costs.
const WEIGHT: f32 = 20.0;
/// Pixels from the border at which the surroundings are looked at.
const BESIDE: i64 = 3;
/// Other places outside that are looked at, along the way out and across it: what is behind goes on somewhere.
const OUTSIDE: [(i64, i64); 7] = [(5, 0), (3, 2), (3, -2), (4, 4), (4, -4), (2, 6), (2, -6)];
/// What a vote counts that they contradict.
const CONTRADICTED: f32 = 0.3;
/// Differences that belong to a place that surely differs, squared.
const BELONGS: f32 = 3.5 * 3.5;
/// Smaller places are noise.
const LEAST_PIXELS: usize = 12;
/// Votes of a border at one in this share or more decide for the whole place.
const AT_ONE: f32 = 0.6;
/// Share of its evidence that a border which votes both ways leaves to the surroundings where there are no votes.
const BOTH_WAYS: f32 = 0.75;
/// How far a vote reaches into a place whose border votes both ways, first and then, in squares of so many pixels.
const NEAR: [usize; 3] = [2, 4, 10];
const SQUARE: usize = 2;
/// What the word of a frame counts at least that surely holds something itself.
const LEAST_BELIEVED: f32 = 1e-3;
/// Others that each of many frames is compared with.
const PARTNERS: usize = 10;

/// What one pair says of the pixels `from..end`.
struct Said {
    from: u32,
    end: u32,
    /// How surely the first of the pair holds the object there, in [`Said::ONE`]: -100 to 100, below 0 the second.
    surely: i8,
}

impl Said {
    /// Certainty.
    const ONE: f32 = 100.0;
}

/// Adds the evidence of all pairs to the costs; `few`, 0..=1, is what the votes leave to other evidence.
pub(super) fn add(field: &Field, costs: &mut Costs, few: f32) {
    let n = field.count();
    let pairs: Vec<(usize, usize)> = (0..n)
        .flat_map(|a| (a + 1..n).map(move |b| (a, b)))
        .filter(|&(a, b)| n <= PARTNERS + 1 || (b - a).min(n + a - b) <= PARTNERS / 2)
        .collect();
    let said: Vec<Vec<Said>> = pairs.par_iter().map(|&(a, b)| ask(field, a, b, few)).collect();
    let against = |k: usize, believed: &(dyn Fn(usize, usize) -> f32 + Sync)| -> Vec<f32> {
        let (mut sum, mut weight) = (vec![0.0f32; field.pixels()], vec![0.0f32; field.pixels()]);
        for (pair, said) in pairs.iter().zip(&said).filter(|(pair, _)| pair.0 == k || pair.1 == k) {
            let (sign, other) = if pair.0 == k { (1.0, pair.1) } else { (-1.0, pair.0) };
            for run in said {
                let surely = (sign * f32::from(run.surely) / Said::ONE).max(0.0);
                for p in run.from as usize..run.end as usize {
                    let believed = believed(other, p);
                    sum[p] += believed * surely;
                    weight[p] += believed;
                }
            }
        }
        sum.iter_mut().zip(weight).for_each(|(sum, weight)| *sum /= weight.max(f32::MIN_POSITIVE));
        sum
    };
    // What holds something itself is no witness for another that it hides.
    let first: Option<Vec<Vec<f32>>> =
        (few > 0.0).then(|| (0..n).into_par_iter().map(|k| against(k, &|_, _| 1.0)).collect());
    costs.planes.par_iter_mut().enumerate().for_each(|(k, plane)| {
        let against = first.as_ref().map_or_else(
            || against(k, &|_, _| 1.0),
            |first| against(k, &|other, p| (1.0 - first[other][p]).max(0.0).powi(2) + LEAST_BELIEVED),
        );
        for (cost, against) in plane.iter_mut().zip(against) {
            if against > 0.0 && *cost < Cost::NOWHERE {
                *cost = Cost::of(cost.value() + WEIGHT * against);
            }
        }
    });
}

fn ask(field: &Field, a: usize, b: usize, few: f32) -> Vec<Said> {
    let mut said = Vec::new();
    let sides = sides(field, a, b, few);
    for ChangedRegion { pixels, votes } in things_by(field, a, b, &sides) {
        if votes.is_empty() {
            continue;
        }
        let sum: f32 = votes.iter().map(|v| v.1).sum();
        let all: f32 = votes.iter().map(|v| v.1.abs()).sum();
        if sum.abs() > AT_ONE * all {
            let mean = sum / votes.len() as f32;
            say(pixels.into_iter().map(|p| (p, mean)).collect(), &mut said);
        } else {
            let share = 1.0 - BOTH_WAYS * few;
            let near = spread(&pixels, &votes, field.width).into_iter().map(|(p, v)| (p, share * v));
            say(near.collect(), &mut said);
        }
    }
    said
}

/// Adds what is said pixel by pixel, in runs.
fn say(mut each: Vec<(usize, f32)>, said: &mut Vec<Said>) {
    each.sort_unstable_by_key(|(p, _)| *p);
    let begin = said.len();
    for (p, surely) in each {
        let surely = (surely * Said::ONE).round() as i8;
        match said[begin..].last_mut() {
            Some(last) if last.end == p as u32 && last.surely == surely => last.end += 1,
            _ => said.push(Said { from: p as u32, end: p as u32 + 1, surely }),
        }
    }
}

/// A connected place that differs between two frames.
pub(crate) struct ChangedRegion {
    pub pixels: Vec<usize>,
    /// Pixels of its border, and how surely the first frame holds an object there (-1..=1).
    votes: Vec<(usize, f32)>,
}

impl ChangedRegion {
    /// How surely the first frame holds it, -1..=1; 0 where no border tells.
    pub(crate) fn held_by_first(&self) -> f32 {
        self.votes.iter().map(|v| v.1).sum::<f32>() / self.votes.len().max(1) as f32
    }
}

impl ChangedRegion {
    /// It in parts where it hangs together by a neck, in rows of `width` pixels.
    pub(crate) fn parts(self, width: usize) -> Vec<Self> {
        let mut parts: Vec<Self> = parts_at_necks(self.pixels, width, 1)
            .into_iter()
            .map(|pixels| Self { pixels, votes: Vec::new() })
            .collect();
        if let [whole] = &mut parts[..] {
            whole.votes = self.votes;
            return parts;
        }
        let own: HashMap<usize, usize> =
            parts.iter().enumerate().flat_map(|(k, part)| part.pixels.iter().map(move |&p| (p, k))).collect();
        for vote in self.votes {
            parts[own[&vote.0]].votes.push(vote);
        }
        parts
    }
}

/// With which of two frames the others agree at each pixel: more with the first, with neither, or more with the second; empty where
/// votes decide. What stands in one of the two touches what stands in the other, and the others tell them apart.
fn sides(field: &Field, a: usize, b: usize, few: f32) -> Vec<i8> {
    /// Pixels to each side over which it is meant, and what share of them must be for one.
    const AROUND: usize = 2;
    const SHARE: f32 = 0.3;
    /// The same where the others do not reach.
    const WIDE: usize = 12;
    const SLIGHT: f32 = 0.01;
    if few == 0.0 || !(3..=FEW_FRAMES).contains(&field.count()) {
        return Vec::new();
    }
    let (mut agree, mut chi2) = (vec![0.0f32; field.pixels()], vec![0.0; field.pixels()]);
    for k in (0..field.count()).filter(|k| *k != a && *k != b) {
        for (own, sign) in [(a, 1.0), (b, -1.0)] {
            field.chi2_row(own, k, 0, &mut chi2);
            for (p, (agree, chi2)) in agree.iter_mut().zip(&chi2).enumerate() {
                *agree += if *chi2 < SAME && field.covered(k, p) { sign } else { 0.0 };
            }
        }
    }
    agree.iter_mut().for_each(|agree| *agree = agree.clamp(-1.0, 1.0));
    let mean = boxed(&agree, field.width, field.height, AROUND);
    let wide = boxed(&agree, field.width, field.height, WIDE);
    let side = |mean: f32, share: f32| i8::from(mean > share) - i8::from(mean < -share);
    let reached = |p: usize| (0..field.count()).any(|k| k != a && k != b && field.covered(k, p));
    let each = mean.into_iter().zip(wide).enumerate();
    each.map(|(p, (mean, wide))| if reached(p) { side(mean, SHARE) } else { side(wide, SLIGHT) }).collect()
}

/// What differs between two frames, place by place.
pub(crate) fn things(field: &Field, a: usize, b: usize) -> Vec<ChangedRegion> {
    things_by(field, a, b, &[])
}

/// The same in parts that are on one of the [`sides`].
fn things_by(field: &Field, a: usize, b: usize, sides: &[i8]) -> Vec<ChangedRegion> {
    let (w, h) = (field.width as i64, field.height as i64);
    let mut chi2 = vec![0.0; field.pixels()];
    field.chi2_row(a, b, 0, &mut chi2);
    let belongs: Vec<bool> = chi2.iter().map(|v| *v > BELONGS).collect();
    let mut open = belongs.clone();
    let mut place = vec![0u32; chi2.len()];
    let mut things = Vec::new();
    let all: &[i8] = if sides.is_empty() { &[0] } else { &[-1, 0, 1] };
    for (&side, start) in all.iter().flat_map(|side| (0..chi2.len()).map(move |p| (side, p))) {
        if start == 0 && !sides.is_empty() {
            open = belongs.iter().zip(sides).map(|(belongs, own)| *belongs && *own == side).collect();
        }
        if !open[start] || chi2[start] < DIFFER {
            continue;
        }
        let inside = flood(&mut open, field.width, start, 1);
        if inside.len() < LEAST_PIXELS {
            continue;
        }
        let number = things.len() as u32 + 1;
        inside.iter().for_each(|&p| place[p] = number);
        let mut votes: Vec<(usize, f32)> = Vec::new();
        for &p in &inside {
            let (x, y) = (p as i64 % w, p as i64 / w);
            for (dx, dy) in [(1, 0), (-1, 0), (0, 1), (0, -1)] {
                let at = |k: i64| {
                    let (x, y) = (x + k * dx, y + k * dy);
                    (x >= 0 && y >= 0 && x < w && y < h).then(|| (y * w + x) as usize)
                };
                let (Some(rim), Some(beside)) = (at(1), at(BESIDE)) else { continue };
                if place[rim] == number || place[beside] == number || chi2[beside] > SAME {
                    continue;
                }
                if !(field.covered(a, beside) && field.covered(b, beside)) {
                    continue;
                }
                // A pixel farther in, where the blur of the border has ended.
                let inner = at(-1).filter(|&q| place[q] == number).unwrap_or(p);
                let squares = [a, b].map(|k| field.step_square(k, inner, beside));
                let outside = OUTSIDE.iter().filter_map(|(along, across)| {
                    let (x, y) = (x + along * dx + across * dy, y + along * dy + across * dx);
                    let q = (x >= 0 && y >= 0 && x < w && y < h).then(|| (y * w + x) as usize)?;
                    let same = place[q] != number && chi2[q] < SAME;
                    (same && field.covered(a, q) && field.covered(b, q)).then_some(q)
                });
                let least = outside.fold(squares, |[of_a, of_b], q| {
                    [of_a.min(field.step_square(a, inner, q)), of_b.min(field.step_square(b, inner, q))]
                });
                let [plain, least] = [squares, least].map(|squares| vote(squares.map(f32::sqrt)));
                let contradicted = plain * least < 0.0;
                votes.push((p, if contradicted { CONTRADICTED * plain } else { plain }));
            }
        }
        things.push(ChangedRegion { pixels: inside, votes });
    }
    things
}

/// How surely the first of two frames holds an object whose border has these steps in them, -1..=1.
fn vote([first, second]: [f32; 2]) -> f32 {
    (first - second) / (first + second + 4.0)
}

/// Carries votes a little way into the place around them.
fn spread(inside: &[usize], votes: &[(usize, f32)], w: usize) -> Vec<(usize, f32)> {
    let (xs, ys) = (inside.iter().map(|p| p % w), inside.iter().map(|p| p / w));
    let (x0, x1) = (xs.clone().min().unwrap_or(0), xs.max().unwrap_or(0));
    let (y0, y1) = (ys.clone().min().unwrap_or(0), ys.max().unwrap_or(0));
    let (bw, bh) = ((x1 - x0) / SQUARE + 1, (y1 - y0) / SQUARE + 1);
    let at = |p: usize| (p / w - y0) / SQUARE * bw + (p % w - x0) / SQUARE;
    let (mut sum, mut count) = (vec![0.0f32; bw * bh], vec![0.0f32; bw * bh]);
    for &(p, v) in votes {
        sum[at(p)] += v;
        count[at(p)] += 1.0;
    }
    /// Votes a square below which there are none.
    const LEAST_COUNT: f32 = 0.008;
    // From near to far: the nearest votes speak.
    let mut out: Vec<(usize, f32)> = inside.iter().map(|&p| (p, f32::NAN)).collect();
    for reach in NEAR {
        if !out.iter().any(|(_, s)| s.is_nan()) {
            break;
        }
        for _ in 0..2 {
            sum = boxed(&sum, bw, bh, reach);
            count = boxed(&count, bw, bh, reach);
        }
        for (p, said) in out.iter_mut().filter(|(_, s)| s.is_nan()) {
            let k = at(*p);
            if count[k] > LEAST_COUNT {
                *said = sum[k] / count[k];
            }
        }
    }
    out.retain(|(_, s)| !s.is_nan());
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_said_in_runs_is_what_was_said_of_each_pixel() {
        let each: Vec<(usize, f32)> =
            [9, 3, 4, 5, 20, 6, 7].map(|p| (p, if p < 6 { 0.724 } else { -1.0 })).to_vec();
        let mut said = vec![Said { from: 1, end: 3, surely: 72 }];
        say(each.clone(), &mut said);
        // What was said before is another place's and does not go on.
        let runs: Vec<(u32, u32)> = said.iter().map(|s| (s.from, s.end)).collect();
        assert_eq!(runs, [(1, 3), (3, 6), (6, 8), (9, 10), (20, 21)]);
        for (p, surely) in each {
            let run = said[1..].iter().find(|s| (s.from as usize..s.end as usize).contains(&p)).unwrap();
            assert!((f32::from(run.surely) / Said::ONE - surely).abs() <= 0.5 / Said::ONE);
        }
    }

    #[test]
    fn an_edge_of_what_is_behind_just_outside_does_not_make_the_clear_frame_hold_the_object() {
        use crate::combine::consensus::LayerData;
        use crate::geometry::Size;
        use crate::noise::NoiseModel;
        let (w, h) = (48usize, 60usize);
        // A bright wall with a dark post on either side of where the first frame holds something, nearly as dark as the posts.
        let layer = |held: bool| {
            let value = |x: usize, y: usize| match x {
                20..28 if held && (12..48).contains(&y) => 16_000,
                16..18 | 30..32 => 10_000,
                _ => 30_000u16,
            };
            let plane: Vec<u16> = (0..w * h).map(|p| value(p % w, p / w)).collect();
            LayerData { planes: [plane.clone(), plane.clone(), plane], spans: vec![(0, w as u32); h] }
        };
        let layers = vec![layer(true), layer(false)];
        let field = Field::new(Size::new(w as u32, h as u32), layers, &NoiseModel::default(), 1.0);
        let things = things(&field, 0, 1);
        assert_eq!(things.len(), 1);
        let sum: f32 = things[0].votes.iter().map(|v| v.1).sum();
        assert!(sum > 0.0, "{sum}");
    }
}
