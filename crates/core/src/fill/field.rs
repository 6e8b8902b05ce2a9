//! Which place of the surroundings each place of a hole looks like, and what the hole looks like by these: PatchMatch (Barnes et al.
//! 2009) and voting by turns.
//!
//! A sweep takes its neighbours' places moved along, and random ones around the best so far; rows are swept in bands beside each other,
//! which see their neighbours as they were before the sweep, so that the result does not depend on the number of threads.

use super::level::{Feature, Level};
use super::lines::Line;
use super::{Ground, REACH};
use crate::random::Random;
use multiversion::multiversion;
use rayon::prelude::*;

/// Rows that are swept one after another.
const BAND: usize = 24;
/// No place.
const NOWHERE: u32 = u32::MAX;
/// Weight of a place that is smoother or rougher than is wanted, for each unit of the logarithm squared, beside the differences.
const ROUGH: f32 = 800.0;
/// By how much it may be so, as a logarithm.
const ALIKE: f32 = 0.15;
/// Pixels beside a line that are laid with it.
const LINE: f32 = 1.5;
/// How far from a line as it is itself a pixel beside it may be taken from, and the weight of what is more, squared.
const EXACT: f32 = 0.35;
const BESIDE: f32 = 600.0;
/// Around a place of the rim where the first ones are looked for.
const NEAR: usize = 40;
/// The same where it begins on a finer level.
const NEARER: usize = 26;

/// The places of a level.
pub(super) struct Field {
    /// For each pixel of the level the place it looks like, by pixels with sides; [`NOWHERE`] but for targets.
    pub places: Vec<u32>,
    /// How unlike they are.
    pub costs: Vec<f32>,
    /// The hole's looks by now.
    pub features: Vec<Feature>,
}

impl Field {
    /// On the coarsest level: from the rim inwards, each pixel is the middle of the place that looks most like what is known around it.
    pub(super) fn begun(level: &Level, allowed: &[bool], lines: &[Line], random: &mut Random) -> Self {
        let n = level.hole.len();
        let mut field = Self {
            places: vec![NOWHERE; n],
            costs: vec![f32::INFINITY; n],
            features: level.features.clone(),
        };
        // Lines come first, from both ends. Those as deep are taken by chance: what begins where decides how things go on.
        let mut order: Vec<(u32, u64, usize, Option<usize>)> = (0..n)
            .filter(|&p| level.hole[p])
            .map(|p| {
                let (x, y) = level.place(p);
                let on = |line: &&Line| {
                    let (off, along) = line.at(level, x, y);
                    off.abs() <= LINE && (0.0..=1.0).contains(&along)
                };
                let line = lines.iter().position(|line| on(&line));
                let rank = match line {
                    Some(k) => {
                        let along = lines[k].at(level, x, y).1;
                        (200.0 * along.min(1.0 - along)) as u32
                    }
                    None => 1000 + (2.0 * level.depth[p]) as u32,
                };
                (rank, random.bits(), p, line)
            })
            .collect();
        order.sort_unstable();
        let mut shown = Shown { level, features: level.features.clone(), weights: level.weights.clone() };
        order.iter().for_each(|o| shown.weights[o.2] = 0.0);
        let beside: Vec<Vec<usize>> = lines.iter().map(|line| sources_on(level, allowed, line)).collect();
        for (_, _, p, line) in order {
            let laid = line.and_then(|k| shown.along(p, &beside[k], &lines[k]));
            let near = if lines.is_empty() { NEAR } else { NEARER };
            let Some(found) = laid.or_else(|| shown.nearest(p, near, allowed, random)) else { continue };
            shown.features[p] = level.features[found];
            shown.weights[p] = level.weights[p];
            field.places[p] = found as u32;
        }
        field.features = shown.features;
        field.fill_places(level, allowed, random);
        field
    }

    /// Gives targets without a place one by chance.
    fn fill_places(&mut self, level: &Level, allowed: &[bool], random: &mut Random) {
        let sources: Vec<u32> = (0..allowed.len() as u32).filter(|&p| allowed[p as usize]).collect();
        for &p in &level.targets {
            let place = &mut self.places[p as usize];
            if *place == NOWHERE || !allowed[*place as usize] {
                *place = sources[random.below(sources.len())];
            }
        }
    }

    /// The same on the next finer level.
    pub(super) fn finer(self, own: &Level, finer: &Level, allowed: &[bool], random: &mut Random) -> Self {
        let n = finer.hole.len();
        let mut places = vec![NOWHERE; n];
        for &p in &finer.targets {
            let (x, y) = (p as usize % finer.stride - REACH, p as usize / finer.stride - REACH);
            let above = (y / 2 + REACH) * own.stride + x / 2 + REACH;
            let place = self.places.get(above).copied().unwrap_or(NOWHERE);
            if place == NOWHERE {
                continue;
            }
            let (u, v) = (place as usize % own.stride - REACH, place as usize / own.stride - REACH);
            let (u, v) = ((2 * u + x % 2).min(finer.width - 1), (2 * v + y % 2).min(finer.height - 1));
            places[p as usize] = ((v + REACH) * finer.stride + u + REACH) as u32;
        }
        let mut out = Self { places, costs: vec![f32::INFINITY; n], features: finer.features.clone() };
        out.fill_places(finer, allowed, random);
        out.vote(finer);
        out
    }

    /// Searches and votes by turns; the last search is not voted on, since its places are copied.
    pub(super) fn rounds(&mut self, level: &Level, allowed: &[bool], rounds: usize, random: &mut Random) {
        for round in 0..rounds {
            let fresh = random.bits();
            self.costs.par_iter_mut().for_each(|c| *c = f32::INFINITY);
            self.sweep(level, allowed, false, fresh);
            self.sweep(level, allowed, true, fresh ^ 1);
            if round + 1 < rounds || level.shrunk > 0 {
                self.vote(level);
            }
        }
    }

    /// How unlike all places are, a pixel.
    pub(super) fn energy(&self) -> f32 {
        let (mut sum, mut count) = (0.0f64, 0u32);
        for c in self.costs.iter().filter(|c| c.is_finite()) {
            sum += f64::from(*c);
            count += 1;
        }
        (sum / f64::from(count.max(1))) as f32
    }

    fn sweep(&mut self, level: &Level, allowed: &[bool], back: bool, seed: u64) {
        let before = self.places.clone();
        let (stride, features) = (level.stride, &self.features);
        let places = self.places.par_chunks_mut(BAND * stride);
        places.zip(self.costs.par_chunks_mut(BAND * stride)).enumerate().for_each(|(k, (places, costs))| {
            let mut random = Random::new(seed.wrapping_add((k as u64) << 20));
            let shown = Looks { level, features, allowed, before: &before, from: k * BAND * stride, back };
            sweep(&shown, places, costs, &mut random);
        });
    }

    /// Each pixel of the hole becomes the mean of what the places around it say, those nearer to the rim having more say.
    fn vote(&mut self, level: &Level) {
        let (stride, places) = (level.stride, &self.places);
        let known = &level.features;
        self.features.par_chunks_mut(stride).enumerate().for_each(|(y, row)| {
            for (x, feature) in row.iter_mut().enumerate() {
                let p = y * stride + x;
                if !level.hole[p] {
                    continue;
                }
                let (mut sums, mut all) = ([0.0; 8], 0.0);
                for dy in 0..2 * REACH + 1 {
                    for dx in 0..2 * REACH + 1 {
                        let off = dy * stride + dx;
                        let middle = REACH * stride + REACH;
                        let Some(place) = places.get(p + off - middle).filter(|q| **q != NOWHERE) else {
                            continue;
                        };
                        let weight = level.weights[p + off - middle];
                        let from = &known[*place as usize + middle - off];
                        (0..8).for_each(|c| sums[c] += weight * from[c]);
                        all += weight;
                    }
                }
                if all > 0.0 {
                    *feature = sums.map(|s| s / all);
                }
            }
        });
    }

    /// For each pixel of the whole picture the pixel that it is copied from, itself outside the hole.
    pub(super) fn full_size(&self, level: &Level, ground: &Ground<'_>) -> Vec<u32> {
        let (w, h) = (ground.size.width as usize, ground.size.height as usize);
        let set = |mask: &[bool], p: usize| mask.get(p).is_some_and(|s| *s);
        let clear = |p: usize| !ground.hole[p] && !set(ground.void, p) && !set(ground.barred, p);
        let mut from: Vec<u32> = (0..(w * h) as u32).collect();
        let place = |p: usize| -> Option<usize> {
            let (x, y) = (p % w, p / w);
            let at = ((y >> level.shrunk) + REACH) * level.stride + (x >> level.shrunk) + REACH;
            let place = *self.places.get(at)? as usize;
            if place == NOWHERE as usize {
                return None;
            }
            let rest = (1usize << level.shrunk) - 1;
            let u = ((place % level.stride - REACH) << level.shrunk) + (x & rest);
            let v = ((place / level.stride - REACH) << level.shrunk) + (y & rest);
            (u < w && v < h && clear(v * w + u)).then_some(v * w + u)
        };
        let mut late = Vec::new();
        for p in (0..w * h).filter(|&p| ground.hole[p]) {
            match place(p) {
                Some(q) => from[p] = q as u32,
                None => late.push(p),
            }
        }
        // As their neighbours do, where that can be copied; else as whoever comes first.
        let any = (0..w * h).find(|&p| clear(p)).unwrap_or(0);
        for p in late {
            let (x, y) = (p % w, p / w);
            let near = [
                (x > 0, p.wrapping_sub(1)),
                (y > 0, p.wrapping_sub(w)),
                (x + 1 < w, p + 1),
                (y + 1 < h, p + w),
            ];
            let moved = near.iter().filter(|(there, _)| *there).find_map(|&(_, q)| {
                let place = i64::from(from[q]) + p as i64 - q as i64;
                let place = usize::try_from(place).ok().filter(|&s| s < w * h && clear(s))?;
                Some(place)
            });
            from[p] = moved.unwrap_or(any) as u32;
        }
        from
    }
}

/// What one band of a sweep sees.
struct Looks<'a> {
    level: &'a Level,
    features: &'a [Feature],
    allowed: &'a [bool],
    before: &'a [u32],
    /// The band's first pixel.
    from: usize,
    back: bool,
}

#[multiversion(targets("x86_64+avx2+fma"))]
fn sweep(shown: &Looks<'_>, places: &mut [u32], costs: &mut [f32], random: &mut Random) {
    let Looks { level, features, allowed, before, from, back } = *shown;
    let (stride, end) = (level.stride, from + places.len());
    let first = level.targets.partition_point(|t| (*t as usize) < from);
    let last = level.targets.partition_point(|t| (*t as usize) < end);
    let longest = level.width.max(level.height);
    for k in 0..last - first {
        let p = level.targets[if back { last - 1 - k } else { first + k }] as usize;
        let (mut best, mut cost) = (places[p - from] as usize, costs[p - from]);
        if cost == f32::INFINITY {
            cost = unlike(level, features, p, best, f32::INFINITY);
        }
        let step = |off: usize| if back { p + off } else { p - off };
        for off in [1, stride] {
            let q = step(off);
            let near = if (from..end).contains(&q) { places[q - from] } else { before[q] };
            if near == NOWHERE {
                continue;
            }
            let moved = if back { near as usize - off } else { near as usize + off };
            if moved != best && allowed[moved] {
                let other = unlike(level, features, p, moved, cost);
                if other < cost {
                    (best, cost) = (moved, other);
                }
            }
        }
        let mut reach = longest;
        while reach >= 1 {
            let (x, y) = (best % stride, best / stride);
            let (across, down) = (random.below(2 * reach + 1), random.below(2 * reach + 1));
            let (x, y) = ((x + across).wrapping_sub(reach), (y + down).wrapping_sub(reach));
            if x < stride && y < level.height + 2 * REACH && allowed[y * stride + x] {
                let other = unlike(level, features, p, y * stride + x, cost);
                if other < cost {
                    (best, cost) = (y * stride + x, other);
                }
            }
            reach /= 2;
        }
        (places[p - from], costs[p - from]) = (best as u32, cost);
    }
}

/// How unlike a place of the hole another one is, up to a limit.
#[inline(always)]
pub(super) fn unlike(level: &Level, features: &[Feature], p: usize, place: usize, limit: f32) -> f32 {
    let (low, high) = level.wanted[p];
    let rough = level.rough[place];
    let off = (low - ALIKE - rough).max(rough - high - ALIKE).max(0.0);
    let mut penalty = ROUGH * off * off * level.weights[p];
    if let Some(guide) = level.guide(p) {
        let (x, y) = level.place(place);
        let beside =
            ((guide.off - guide.line.0 * x - guide.line.1 * y - guide.line.2).abs() - EXACT).max(0.0);
        penalty += BESIDE * beside.min(3.0).powi(2) * level.weights[p];
    }
    if penalty > limit {
        return penalty;
    }
    penalty + level.distance(features, p, place, limit - penalty)
}

/// Places that lie on a line, beyond its ends.
fn sources_on(level: &Level, allowed: &[bool], line: &Line) -> Vec<usize> {
    let on = |&p: &usize| {
        let (x, y) = level.place(p);
        let (off, along) = line.at(level, x, y);
        allowed[p] && off.abs() <= LINE + 1.0 && !(0.0..=1.0).contains(&along)
    };
    (0..allowed.len()).filter(on).collect()
}

/// A level while it is filled from the rim.
struct Shown<'a> {
    level: &'a Level,
    features: Vec<Feature>,
    weights: Vec<f32>,
}

impl Shown<'_> {
    /// The place that looks most like what is known around a pixel, near it if there are any.
    fn nearest(&self, p: usize, near: usize, allowed: &[bool], random: &mut Random) -> Option<usize> {
        let level = self.level;
        let (x, y) = (p % level.stride, p / level.stride);
        let mut near = near;
        loop {
            let rows = y.saturating_sub(near)..(y + near + 1).min(level.height + 2 * REACH);
            let columns = x.saturating_sub(near)..(x + near + 1).min(level.stride);
            let mut best: Option<(f32, usize)> = None;
            for v in rows.clone() {
                for q in columns.clone().map(|u| v * level.stride + u).filter(|&q| allowed[q]) {
                    // Nearly as good ones are taken by chance.
                    let worse = 1.0 + 0.1 * random.unit() as f32;
                    let limit = best.map_or(f32::INFINITY, |b| b.0 / worse);
                    let cost = worse * self.cost(p, q, limit);
                    if best.is_none_or(|b| cost < b.0) {
                        best = Some((cost, q));
                    }
                }
            }
            if best.is_some() || near > level.stride + level.height {
                return best.map(|b| b.1);
            }
            near *= 2;
        }
    }

    /// The place on a line, as far off it and beyond its ends, that looks most like what is known around a pixel.
    fn along(&self, p: usize, sources: &[usize], line: &Line) -> Option<usize> {
        let level = self.level;
        let (x, y) = level.place(p);
        let off = line.at(level, x, y).0;
        let mut best: Option<(f32, usize)> = None;
        for &q in sources {
            let (u, v) = level.place(q);
            let other = line.at(level, u, v).0;
            if (other - off).abs() > 1.0 {
                continue;
            }
            let cost = self.cost(p, q, best.map_or(f32::INFINITY, |b| b.0));
            if best.is_none_or(|b| cost < b.0) {
                best = Some((cost, q));
            }
        }
        best.map(|b| b.1)
    }

    fn cost(&self, p: usize, q: usize, limit: f32) -> f32 {
        let level = self.level;
        let corner = REACH * level.stride + REACH;
        let mut sum = 0.0;
        for row in 0..=2 * REACH {
            for k in row * level.stride..row * level.stride + 2 * REACH + 1 {
                let (a, b) = (p + k - corner, q + k - corner);
                if self.weights[a] > 0.0 {
                    let (a, b, weight) = (&self.features[a], &level.features[b], self.weights[a]);
                    sum += weight * (0..5).map(|c| (a[c] - b[c]).powi(2)).sum::<f32>();
                }
            }
            if sum > limit {
                break;
            }
        }
        sum
    }
}
