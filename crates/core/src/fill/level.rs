//! A hole and its surroundings at one size: what is compared there.
//!
//! Each pixel has brightness, two colours, and how strongly brightness changes across and down around it (means over 5 × 5 pixels,
//! doubled; Newson et al. 2014): by colour alone texture of the wrong direction would be taken. Pixels of the hole weigh the less the
//! further they are from its rim. Rows have [`REACH`] pixels more at each side that weigh nothing, so that places may hang over the
//! border.

use super::lines::Line;
use super::{Ground, PATCH, REACH};
use crate::pixel::blur::boxed;
use crate::pixel::distance::distances;

/// What is compared of a pixel: brightness, two colours, changes across and down, and three times nothing.
pub(super) type Feature = [f32; 8];

/// What pixels of the hole weigh, for each pixel from the rim.
const FADES: f32 = 1.4;
/// What they weigh at least.
const LEAST: f32 = 0.02;
/// Weight of the changes.
const CHANGES: f32 = 2.0;
/// Pixels around a place that were used which a further variant does not use.
const USED: usize = 4;
/// Roughness below which nothing is told apart: a twentieth of a hundredth of white.
const SMOOTHEST: f32 = 0.05;
/// The share of its places that a further variant must have.
const ENOUGH: f32 = 0.3;

/// One size.
pub(super) struct Level {
    /// How often the picture was halved.
    pub shrunk: u32,
    /// Of the picture itself.
    pub width: usize,
    pub height: usize,
    /// Of a row with what is at its sides.
    pub stride: usize,
    /// What each pixel looks like; of the hole as it is known by now.
    pub features: Vec<Feature>,
    /// What each pixel weighs in a comparison.
    pub weights: Vec<f32>,
    pub hole: Vec<bool>,
    /// Pixels that may be the middle of what is copied.
    pub source: Vec<bool>,
    /// Pixels whose surroundings have a part in the hole.
    pub targets: Vec<u32>,
    /// Pixels from the rim, 0 outside the hole.
    pub depth: Vec<f32>,
    /// How rough it is around each pixel, as a logarithm.
    pub rough: Vec<f32>,
    /// Between which roughness a place for each pixel of the hole should lie.
    pub wanted: Vec<(f32, f32)>,
    /// For each pixel the number of its guide, from 1; 0 for none.
    guided: Vec<u32>,
    guides: Vec<Guide>,
}

/// A line that a pixel of the hole lies beside: what it is copied from should lie as far beside it.
pub(super) struct Guide {
    /// How far.
    pub off: f32,
    /// What is that far from it: a place's columns and rows by the first two, and the third.
    pub line: (f32, f32, f32),
}

/// Pixels beside a line that are led by it.
const GUIDED: f32 = 4.0;

/// An edge at a pixel, by pixels without sides.
pub(super) struct Edge {
    pub x: f32,
    pub y: f32,
    /// Which way it runs, from 0 to π.
    pub angle: f32,
    /// How much of the change of brightness goes one way, 0..=1.
    pub straight: f32,
    /// Mean change a pixel.
    pub strength: f32,
}

/// A picture while it is halved.
struct Picture {
    width: usize,
    height: usize,
    colours: Vec<[f32; 3]>,
    kind: Vec<Kind>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Known,
    Barred,
    Hole,
    Void,
}

impl Picture {
    fn of(ground: &Ground<'_>) -> Self {
        const UP: f32 = 100.0 / 65535.0;
        let n = ground.hole.len();
        let colour = |p: usize| {
            let [r, g, b] = [0, 1, 2].map(|c| f32::from(ground.planes[c][p]) * UP);
            [0.25 * r + 0.5 * g + 0.25 * b, 0.5 * (r - g), 0.25 * (r + g) - 0.5 * b]
        };
        let is = |set: &[bool], p: usize| set.get(p).is_some_and(|s| *s);
        let kind = |p: usize| match () {
            () if ground.hole[p] => Kind::Hole,
            () if is(ground.void, p) => Kind::Void,
            () if is(ground.barred, p) => Kind::Barred,
            () => Kind::Known,
        };
        Self {
            width: ground.size.width as usize,
            height: ground.size.height as usize,
            colours: (0..n).map(colour).collect(),
            kind: (0..n).map(kind).collect(),
        }
    }

    /// Half as large: means of what is known.
    fn halved(&self) -> Self {
        let (width, height) = (self.width.div_ceil(2), self.height.div_ceil(2));
        let (mut colours, mut kinds) = (Vec::new(), Vec::new());
        for y in 0..height {
            for x in 0..width {
                let mut sum = [0.0; 3];
                let (mut known, mut holes, mut voids, mut barred) = (0.0f32, 0, 0, 0);
                for (dx, dy) in [(0, 0), (1, 0), (0, 1), (1, 1)] {
                    let (u, v) = (2 * x + dx, 2 * y + dy);
                    if u >= self.width || v >= self.height {
                        continue;
                    }
                    let p = v * self.width + u;
                    match self.kind[p] {
                        Kind::Hole => holes += 1,
                        Kind::Void => voids += 1,
                        other => {
                            known += 1.0;
                            barred += usize::from(other == Kind::Barred);
                            (0..3).for_each(|c| sum[c] += self.colours[p][c]);
                        }
                    }
                }
                colours.push(sum.map(|v| v / known.max(1.0)));
                kinds.push(match () {
                    () if holes > 1 || holes > 0 && known == 0.0 => Kind::Hole,
                    () if known == 0.0 || voids > 2 => Kind::Void,
                    () if barred > 0 => Kind::Barred,
                    () => Kind::Known,
                });
            }
        }
        Self { width, height, colours, kind: kinds }
    }

    fn holes(&self) -> usize {
        self.kind.iter().filter(|k| **k == Kind::Hole).count()
    }
}

impl Level {
    /// All sizes, the finest first: from where at most `most` pixels of the hole are left to where none is further than `depth` from
    /// the rim.
    pub(super) fn all(ground: &Ground<'_>, depth: f32, most: usize) -> Vec<Self> {
        let mut picture = Picture::of(ground);
        let mut shrunk = 0;
        while picture.holes() > most {
            picture = picture.halved();
            shrunk += 1;
        }
        let mut out = Vec::new();
        loop {
            let level = Self::of(&picture, shrunk);
            let deepest = level.depth.iter().copied().fold(0.0, f32::max);
            out.push(level);
            let next = picture.halved();
            if deepest <= depth || next.holes() < 4 || next.width.min(next.height) < 3 * PATCH {
                return out;
            }
            picture = next;
            shrunk += 1;
        }
    }

    /// The sizes at which at most so many pixels of the hole are left; `most` falls.
    pub(super) fn with_holes<const N: usize>(ground: &Ground<'_>, most: [usize; N]) -> [Self; N] {
        let mut picture = Picture::of(ground);
        let mut shrunk = 0;
        most.map(|most| {
            while picture.holes() > most {
                picture = picture.halved();
                shrunk += 1;
            }
            Self::of(&picture, shrunk)
        })
    }

    fn of(picture: &Picture, shrunk: u32) -> Self {
        let (width, height) = (picture.width, picture.height);
        let stride = width + 2 * REACH;
        let n = stride * (height + 2 * REACH);
        let at = |x: usize, y: usize| (y + REACH) * stride + x + REACH;
        let all = || (0..height).flat_map(move |y| (0..width).map(move |x| (x, y)));
        let mut kind = vec![Kind::Void; n];
        let mut features = vec![[0.0; 8]; n];
        for (x, y) in all() {
            kind[at(x, y)] = picture.kind[y * width + x];
            features[at(x, y)][..3].copy_from_slice(&picture.colours[y * width + x]);
        }
        let there: Vec<bool> = kind.iter().map(|k| matches!(k, Kind::Known | Kind::Barred)).collect();
        let hole: Vec<bool> = kind.iter().map(|k| *k == Kind::Hole).collect();
        changes(&mut features, &there, stride);
        let outside: Vec<bool> = hole.iter().zip(&there).map(|(h, t)| !*h && *t).collect();
        let depth = distances(&outside, stride);
        let depth: Vec<f32> = depth.iter().zip(&hole).map(|(d, h)| if *h { *d } else { 0.0 }).collect();
        let weights = (0..n).map(|p| match () {
            () if hole[p] => FADES.powf(-depth[p]).max(LEAST),
            () if there[p] => 1.0,
            () => 0.0,
        });
        let copied: Vec<bool> = kind.iter().map(|k| *k == Kind::Known).collect();
        let source = around(&copied, stride, REACH, true);
        let touched = around(&hole, stride, REACH, false);
        let inside = |p: usize| {
            let (x, y) = (p % stride, p / stride);
            (REACH..REACH + width).contains(&x) && (REACH..REACH + height).contains(&y)
        };
        let targets = (0..n).filter(|&p| touched[p] && inside(p)).map(|p| p as u32).collect();
        let rough = roughness(&features, &there, stride);
        let mut level = Self {
            shrunk,
            width,
            height,
            stride,
            weights: weights.collect(),
            features,
            hole,
            source,
            targets,
            depth,
            rough,
            wanted: Vec::new(),
            guided: vec![0; stride * (height + 2 * REACH)],
            guides: Vec::new(),
        };
        level.wanted = level.wanted_roughness(&there);
        level
    }

    /// How many places can be copied.
    pub(super) fn sources(&self) -> usize {
        self.source.iter().filter(|s| **s).count()
    }

    /// Places that can be copied and are not near those of the whole picture that were used; all of them where too few would be left.
    pub(super) fn allowed(&self, used: &[(u32, u32)]) -> Vec<bool> {
        if used.is_empty() {
            return self.source.clone();
        }
        let mut taken = vec![false; self.source.len()];
        for &(x, y) in used {
            let (x, y) = ((x >> self.shrunk) as usize, (y >> self.shrunk) as usize);
            taken[(y + REACH) * self.stride + x + REACH] = true;
        }
        let near = around(&taken, self.stride, USED >> self.shrunk.min(4), false);
        let left: Vec<bool> = self.source.iter().zip(&near).map(|(s, n)| *s && !*n).collect();
        let enough = left.iter().filter(|l| **l).count() as f32 >= ENOUGH * self.sources() as f32;
        if enough { left } else { self.source.clone() }
    }

    /// What makes unlikeness at a place that of one pixel.
    #[inline(always)]
    pub(super) fn scale(&self, p: usize) -> f32 {
        1.0 / ((PATCH * PATCH) as f32 * self.weights[p])
    }

    /// How unlike two places are, the first as the hole looks by now, up to a limit; it may hang over the border.
    #[inline(always)]
    pub(super) fn distance(&self, looks: &[Feature], a: usize, b: usize, limit: f32) -> f32 {
        let mut sums = [0.0f32; 8];
        let corner = REACH * self.stride + REACH;
        let (a, b) = (a - corner, b - corner);
        let mut sum = 0.0;
        for row in 0..PATCH {
            let (a, b) = (a + row * self.stride, b + row * self.stride);
            let (first, second) = (&looks[a..a + PATCH], &self.features[b..b + PATCH]);
            let weights = &self.weights[a..a + PATCH];
            for k in 0..PATCH {
                for c in 0..8 {
                    let d = first[k][c] - second[k][c];
                    sums[c] += weights[k] * d * d;
                }
            }
            if row % 2 == 1 || row + 1 == PATCH {
                sum = sums.iter().sum();
                if sum > limit {
                    return sum;
                }
            }
        }
        sum
    }

    /// Pixels that are there, beside the hole but not touched by its own blur.
    pub(super) fn rim(&self) -> Vec<u32> {
        let near = around(&self.hole, self.stride, REACH, false);
        let beside = around(&self.hole, self.stride, 1, false);
        (0..near.len() as u32)
            .filter(|&p| near[p as usize] && !beside[p as usize] && self.weights[p as usize] == 1.0)
            .collect()
    }

    /// Along lines any roughness will do: they are few beside what the rim shows.
    pub(super) fn free(&mut self, lines: &[Line]) {
        for k in 0..self.targets.len() {
            let p = self.targets[k] as usize;
            let (x, y) = self.place(p);
            if lines.iter().any(|line| line.at(self, x, y).0.abs() <= (2 * REACH) as f32) {
                self.wanted[p] = (f32::NEG_INFINITY, f32::INFINITY);
            }
            let nearest = lines
                .iter()
                .map(|line| (line, line.at(self, x, y)))
                .filter(|(_, (off, along))| off.abs() <= GUIDED && (-0.05..=1.05).contains(along))
                .min_by(|a, b| a.1.0.abs().total_cmp(&b.1.0.abs()));
            if let Some((line, (off, _))) = nearest {
                // Distance from the line is linear in place.
                let (zero, right, below) =
                    (line.at(self, 0.0, 0.0).0, line.at(self, 1.0, 0.0).0, line.at(self, 0.0, 1.0).0);
                self.guides.push(Guide { off, line: (right - zero, below - zero, zero) });
                self.guided[p] = self.guides.len() as u32;
            }
        }
    }

    /// The line that a pixel lies beside.
    #[inline(always)]
    pub(super) fn guide(&self, p: usize) -> Option<&Guide> {
        let number = self.guided[p];
        if number == 0 { None } else { self.guides.get(number as usize - 1) }
    }

    /// Brightness at a place, by pixels without sides; `None` where it is not known.
    pub(super) fn bright_at(&self, x: f32, y: f32) -> Option<f32> {
        let (left, top) = (x.floor(), y.floor());
        if left < 0.0 || top < 0.0 || left + 1.0 >= self.width as f32 || top + 1.0 >= self.height as f32 {
            return None;
        }
        let (u, v) = (x - left, y - top);
        let p = (top as usize + REACH) * self.stride + left as usize + REACH;
        let four = [p, p + 1, p + self.stride, p + self.stride + 1];
        if four.iter().any(|&q| self.hole[q]) {
            return None;
        }
        let bright = |q: usize| (self.features[q][0] + self.features[q][1] + self.features[q][2]) / 3.0;
        let [a, b, c, d] = four.map(bright);
        Some((a * (1.0 - u) + b * u) * (1.0 - v) + (c * (1.0 - u) + d * u) * v)
    }

    /// Where a pixel lies, by pixels without sides.
    pub(super) fn place(&self, p: usize) -> (f32, f32) {
        ((p % self.stride) as f32 - REACH as f32, (p / self.stride) as f32 - REACH as f32)
    }

    /// What a place looks like, by pixels without sides.
    pub(super) fn feature_at(&self, x: f32, y: f32) -> Feature {
        let at = |v: f32, most: usize| (v.round().max(0.0) as usize).min(most - 1) + REACH;
        self.features[at(y, self.height) * self.stride + at(x, self.width)]
    }

    /// The edge at a pixel, by what is known around it; `None` where that is too little.
    pub(super) fn edge(&self, p: usize) -> Option<Edge> {
        let (mut xx, mut xy, mut yy, mut count) = (0.0f32, 0.0f32, 0.0f32, 0.0f32);
        for dy in 0..=2 * REACH {
            for dx in 0..=2 * REACH {
                let q = (p + dy * self.stride + dx).checked_sub(REACH * self.stride + REACH)?;
                let known = |q: usize| self.weights.get(q) == Some(&1.0);
                if !known(q) || !known(q + 1) || !known(q + self.stride) {
                    continue;
                }
                let across = self.features[q + 1][0] - self.features[q][0];
                let down = self.features[q + self.stride][0] - self.features[q][0];
                xx += across * across;
                xy += across * down;
                yy += down * down;
                count += 1.0;
            }
        }
        if count < 12.0 {
            return None;
        }
        let (half, rest) = ((xx + yy) / 2.0, ((xx - yy) / 2.0).hypot(xy));
        let straight = if half > 0.0 { rest / half } else { 0.0 };
        // The change goes across the edge.
        let angle = 0.5 * (2.0 * xy).atan2(xx - yy) + std::f32::consts::FRAC_PI_2;
        Some(Edge {
            x: (p % self.stride) as f32 - REACH as f32,
            y: (p / self.stride) as f32 - REACH as f32,
            angle: angle.rem_euclid(std::f32::consts::PI),
            straight,
            strength: (2.0 * half / count).sqrt(),
        })
    }

    /// For each pixel near the hole, between which roughness its place should lie: that of the rim around it, nearer parts having more
    /// say.
    fn wanted_roughness(&self, there: &[bool]) -> Vec<(f32, f32)> {
        /// Pixels of the rim that are asked at most.
        const ASKED: usize = 240;
        /// Shares of the rim that are smoother, and rougher, than is wanted.
        const SMOOTHER: f32 = 0.4;
        const ROUGHER: f32 = 0.9;
        /// Pixels along a side of what is decided together.
        const CELL: usize = 8;
        let rim = around(&self.hole, self.stride, 2 * REACH, false);
        let clear = around(there, self.stride, 2, true);
        let rim: Vec<usize> = (0..rim.len()).filter(|&p| rim[p] && there[p] && clear[p]).collect();
        let mut out = vec![(f32::NEG_INFINITY, f32::INFINITY); self.hole.len()];
        if rim.is_empty() {
            return out;
        }
        let asked: Vec<usize> = rim.iter().copied().step_by(rim.len().div_ceil(ASKED)).collect();
        let mut cells = std::collections::HashMap::new();
        for &target in &self.targets {
            let p = target as usize;
            let (x, y) = (p % self.stride / CELL, p / self.stride / CELL);
            out[p] = *cells.entry((x, y)).or_insert_with(|| {
                let (x, y) = ((x * CELL + CELL / 2) as f32, (y * CELL + CELL / 2) as f32);
                let mut say: Vec<(f32, f32)> = asked
                    .iter()
                    .map(|&q| {
                        let off = ((q % self.stride) as f32 - x).hypot((q / self.stride) as f32 - y);
                        (self.rough[q], 1.0 / (off * off + 16.0))
                    })
                    .collect();
                say.sort_by(|a, b| a.0.total_cmp(&b.0));
                let all: f32 = say.iter().map(|s| s.1).sum();
                let at = |share: f32| {
                    let mut sum = 0.0;
                    let found = say.iter().find(|s| {
                        sum += s.1;
                        sum >= share * all
                    });
                    found.map_or(0.0, |s| s.0)
                };
                (at(SMOOTHER), at(ROUGHER))
            });
        }
        out
    }
}

/// Pixels around which all, or any, of the pixels up to a reach away are set.
pub(super) fn around(set: &[bool], stride: usize, reach: usize, all: bool) -> Vec<bool> {
    let values: Vec<f32> = set.iter().map(|s| f32::from(u8::from(*s))).collect();
    let one = 0.5 / ((2 * reach + 1) * (2 * reach + 1)) as f32;
    let least = if all { 1.0 - one } else { one };
    boxed(&values, stride, set.len() / stride, reach).into_iter().map(|share| share > least).collect()
}

/// Means over boxes of what is there.
fn means(values: &[Option<f32>], stride: usize, reach: usize) -> Vec<f32> {
    let shares: Vec<f32> = values.iter().map(|v| f32::from(u8::from(v.is_some()))).collect();
    let values: Vec<f32> = values.iter().map(|v| v.unwrap_or(0.0)).collect();
    let rows = values.len() / stride;
    let (sums, shares) = (boxed(&values, stride, rows, reach), boxed(&shares, stride, rows, reach));
    sums.iter().zip(&shares).map(|(sum, share)| if *share > 1e-4 { sum / share } else { 0.0 }).collect()
}

/// How strongly brightness changes across and down around each pixel that is there.
fn changes(features: &mut [Feature], there: &[bool], stride: usize) {
    let n = features.len();
    let bright: Vec<f32> = features.iter().map(|f| f[0]).collect();
    let step = |p: usize, q: usize| (q < n && there[p] && there[q]).then(|| (bright[q] - bright[p]).abs());
    for (channel, off) in [(3, 1), (4, stride)] {
        let steps: Vec<Option<f32>> = (0..n).map(|p| step(p, p + off)).collect();
        let means = means(&steps, stride, 2);
        for p in (0..n).filter(|&p| there[p]) {
            features[p][channel] = CHANGES * means[p];
        }
    }
}

/// How rough brightness is around each pixel that is there: the logarithm of how much pixels differ from their neighbours' mean.
fn roughness(features: &[Feature], there: &[bool], stride: usize) -> Vec<f32> {
    let n = features.len();
    let detail = |p: usize| {
        let near = [p.wrapping_sub(1), p + 1, p.wrapping_sub(stride), p + stride];
        if !there[p] || near.iter().any(|&q| q >= n || !there[q]) {
            return None;
        }
        Some((features[p][0] - near.iter().map(|&q| features[q][0]).sum::<f32>() / 4.0).abs())
    };
    let details: Vec<Option<f32>> = (0..n).map(detail).collect();
    means(&details, stride, REACH).into_iter().map(|mean| mean.max(SMOOTHEST).ln()).collect()
}
