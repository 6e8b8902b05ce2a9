//! Corners with binary descriptors, over a few scales.
//!
//! Corners by the smaller eigenvalue of the structure tensor (Shi and Tomasi 1994), thinned so that every part of
//! the picture keeps its strongest. Each gets a direction from its intensity centroid and 256 brightness
//! comparisons turned to it (Calonder et al. 2010; Rublee et al. 2011). Matches are mutual nearest neighbours by
//! Hamming distance that are clearly better than the second (Lowe 2004).

use crate::geometry::{Correspondence, Point, Size};
use crate::pixel::Plane;
use crate::random::Random;
use multiversion::multiversion;
use std::sync::LazyLock;

/// One corner: place, strength and descriptor. Kept small: every frame's stay in memory until all are matched.
#[derive(Debug, Clone)]
pub(super) struct Feature {
    /// In pixels of the feature level.
    at: [f32; 2],
    /// Smaller eigenvalue of the structure tensor.
    pub strength: f32,
    /// Found at the finest scale.
    pub fine: bool,
    bits: [u64; 4],
}

impl Feature {
    /// Where it is, in pixels of the feature level.
    pub(super) fn at(&self) -> Point {
        Point::new(f64::from(self.at[0]), f64::from(self.at[1]))
    }

    fn distance(&self, other: &Self) -> f32 {
        (self.at[0] - other.at[0]).hypot(self.at[1] - other.at[1])
    }
}

/// The corners of one frame.
pub(super) struct Features {
    pub size: Size,
    pub level: u32,
    pub points: Vec<Feature>,
}

impl Features {
    /// A number from the content alone, to break ties without regard to the order of frames.
    pub(super) fn fingerprint(&self) -> u64 {
        self.points.iter().fold(0, |h, f| h ^ f.bits[0].rotate_left(f.at[0] as u32 % 64))
    }
}

/// Scales relative to the feature level, and how many corners each may keep.
const SCALES: [(f64, usize); 3] = [(1.0, 900), (0.75, 500), (0.5625, 300)];
/// Corners fainter than this, in grey steps squared, are noise where the picture has better ones.
const LEAST_CORNER: f32 = 2.0;
/// Radius that a descriptor needs around its corner.
const RADIUS: i64 = 15;
/// Distance that the second best match must exceed, relative to the best.
const RATIO: f32 = 0.86;

static PAIRS: LazyLock<Vec<[(f32, f32); 2]>> = LazyLock::new(|| {
    let mut random = Random::new(0x5EED);
    let mut point = || loop {
        let (x, y) = (random.normal() * 5.2, random.normal() * 5.2);
        if f64::hypot(x, y) < RADIUS as f64 - 2.0 {
            return (x as f32, y as f32);
        }
    };
    (0..256).map(|_| [point(), point()]).collect()
});

/// Finds the corners of a grey picture; `level` is only passed on.
pub(super) fn find(grey: &Plane, level: u32) -> Features {
    let mut points = Vec::new();
    let soft = grey.blurred();
    for (scale, limit) in SCALES {
        let small = (scale != 1.0).then(|| reduced(&soft, scale).blurred());
        let picture = small.as_ref().unwrap_or(&soft);
        for (x, y, strength) in corners(picture, limit) {
            let bits = describe(picture, x, y);
            let full = |v: u32| ((f64::from(v) + 0.5) / scale - 0.5) as f32;
            points.push(Feature { at: [full(x), full(y)], strength, fine: scale == 1.0, bits });
        }
    }
    points.shrink_to_fit();
    Features { size: grey.size, level, points }
}

/// A blurred picture, reduced by bilinear interpolation.
fn reduced(soft: &Plane, scale: f64) -> Plane {
    let side = |v: u32| ((f64::from(v) * scale) as u32).max(1);
    let mut out = Plane::new(Size::new(side(soft.size.width), side(soft.size.height)));
    // Where each column or row lies: the pixels before and after, and the share of the second.
    let places = |count: u32, of: u32| -> Vec<(usize, usize, f32)> {
        let place = |v: u32| {
            let at = (f64::from(v) + 0.5) / scale - 0.5;
            let kept = |v: f64| v.clamp(0.0, f64::from(of - 1)) as usize;
            (kept(at.floor()), kept(at.floor() + 1.0), (at - at.floor()) as f32)
        };
        (0..count).map(place).collect()
    };
    let across = places(out.size.width, soft.size.width);
    let down = places(out.size.height, soft.size.height);
    let line = out.size.width as usize;
    for (row, &(top, low, v)) in out.data.chunks_exact_mut(line).zip(&down) {
        let (top, low) = (soft.row(top as u32), soft.row(low as u32));
        for (o, &(a, b, u)) in row.iter_mut().zip(&across) {
            *o = (top[a] * (1.0 - u) + top[b] * u) * (1.0 - v) + (low[a] * (1.0 - u) + low[b] * u) * v;
        }
    }
    out
}

/// Strongest local maxima of the smaller eigenvalue, the same number from each part of the picture.
fn corners(picture: &Plane, limit: usize) -> Vec<(u32, u32, f32)> {
    let (w, h) = (picture.size.width as usize, picture.size.height as usize);
    if (w.min(h) as i64) < 2 * RADIUS + 3 {
        return Vec::new();
    }
    let response = responses(picture);
    // A frame several stops darker has its corners too, only fainter.
    let mut sample: Vec<f32> = response.iter().copied().step_by(7).collect();
    let strong = sample.len() * 99 / 100;
    let least = LEAST_CORNER.min(0.05 * *sample.select_nth_unstable_by(strong, f32::total_cmp).1);
    let whole = (Point::default(), Point::new(w as f64, h as f64));
    const ACROSS: usize = 12;
    let mut cells: Vec<Vec<(u32, u32, f32)>> = vec![Vec::new(); ACROSS * ACROSS];
    let r = RADIUS as usize;
    for y in r..h - r {
        for x in r..w - r {
            let v = response[y * w + x];
            if v < least {
                continue;
            }
            let around = [
                (y - 1, x - 1),
                (y - 1, x),
                (y - 1, x + 1),
                (y, x - 1),
                (y, x + 1),
                (y + 1, x - 1),
                (y + 1, x),
                (y + 1, x + 1),
            ];
            if around.iter().all(|&(b, a)| response[b * w + a] < v) {
                let cell = super::part(Point::new(x as f64, y as f64), whole, ACROSS);
                cells[cell].push((x as u32, y as u32, v));
            }
        }
    }
    let each = limit.div_ceil(ACROSS * ACROSS) * 2;
    let mut kept: Vec<_> = cells
        .into_iter()
        .flat_map(|mut c| {
            c.sort_by(|a, b| b.2.total_cmp(&a.2).then(a.cmp_place(b)));
            c.truncate(each);
            c
        })
        .collect();
    kept.sort_by(|a, b| b.2.total_cmp(&a.2).then(a.cmp_place(b)));
    kept.truncate(limit);
    kept
}

trait Place {
    fn cmp_place(&self, other: &Self) -> std::cmp::Ordering;
}

impl Place for (u32, u32, f32) {
    fn cmp_place(&self, other: &Self) -> std::cmp::Ordering {
        (self.1, self.0).cmp(&(other.1, other.0))
    }
}

/// Smaller eigenvalue of the structure tensor over 5×5 pixels, in grey steps squared; nothing at the rim.
fn responses(picture: &Plane) -> Vec<f32> {
    let (w, h) = (picture.size.width as usize, picture.size.height as usize);
    let mut out = vec![0.0; w * h];
    let mut products = [0; 3].map(|_| vec![0.0; w]);
    // Sums along the last five rows.
    let mut sums = [0; 5].map(|_| [0; 3].map(|_| vec![0.0; w]));
    for y in 1..h - 1 {
        let row = |y: usize| picture.row(y as u32);
        vector::products(row(y - 1), row(y), row(y + 1), &mut products);
        for (sum, products) in sums[y % 5].iter_mut().zip(&products) {
            vector::along(products, sum);
        }
        if y >= 4 {
            let five = std::array::from_fn(|k| &sums[(y + 1 + k) % 5]);
            vector::smaller(five, &mut out[(y - 2) * w..][..w]);
        }
    }
    out
}

#[allow(unsafe_code)] // the dispatch to the processor's vector width is the macro's
mod vector {
    use multiversion::multiversion;

    /// Products of a row's gradients, but at its ends.
    #[multiversion(targets("x86_64+avx2"))]
    pub(super) fn products(up: &[f32], own: &[f32], low: &[f32], out: &mut [Vec<f32>; 3]) {
        let n = own.len() - 2;
        let (left, right, up, low) = (&own[..n], &own[2..][..n], &up[1..][..n], &low[1..][..n]);
        let [xx, xy, yy] = out.each_mut().map(|o| &mut o[1..][..n]);
        for i in 0..n {
            let (x, y) = ((right[i] - left[i]) * 0.5, (low[i] - up[i]) * 0.5);
            (xx[i], xy[i], yy[i]) = (x * x, x * y, y * y);
        }
    }

    /// Sums of five in turn.
    #[multiversion(targets("x86_64+avx2"))]
    pub(super) fn along(values: &[f32], out: &mut [f32]) {
        let n = values.len() - 4;
        let v: [&[f32]; 5] = std::array::from_fn(|k| &values[k..][..n]);
        let out = &mut out[2..][..n];
        for i in 0..n {
            out[i] = v[0][i] + v[1][i] + v[2][i] + v[3][i] + v[4][i];
        }
    }

    /// The smaller eigenvalue, from sums along five rows.
    #[multiversion(targets("x86_64+avx2"))]
    pub(super) fn smaller(rows: [&[Vec<f32>; 3]; 5], out: &mut [f32]) {
        let n = out.len() - 4;
        let v: [[&[f32]; 5]; 3] = std::array::from_fn(|c| rows.map(|r| &r[c][2..][..n]));
        let out = &mut out[2..][..n];
        let [a, b, c] = &v;
        for i in 0..n {
            // Written out: a closure would not be compiled for the wide vectors.
            let a = (a[0][i] + a[1][i] + a[2][i] + a[3][i] + a[4][i]) / 25.0;
            let b = (b[0][i] + b[1][i] + b[2][i] + b[3][i] + b[4][i]) / 25.0;
            let c = (c[0][i] + c[1][i] + c[2][i] + c[3][i] + c[4][i]) / 25.0;
            out[i] = (a + c) * 0.5 - ((a - c) * (a - c) * 0.25 + b * b).sqrt();
        }
    }
}

fn describe(picture: &Plane, x: u32, y: u32) -> [u64; 4] {
    let (cx, cy) = (i64::from(x), i64::from(y));
    let (mut mx, mut my) = (0.0f32, 0.0f32);
    for dy in -12i64..=12 {
        for dx in -12i64..=12 {
            if dx * dx + dy * dy <= 144 {
                let v = picture.at(cx + dx, cy + dy);
                mx += dx as f32 * v;
                my += dy as f32 * v;
            }
        }
    }
    let norm = mx.hypot(my).max(1e-6);
    let (c, s) = (mx / norm, my / norm);
    let value = |(px, py): (f32, f32)| {
        let (u, v) = (c * px - s * py, s * px + c * py);
        // Numbers from zero on are rounded without a call.
        let whole = |v: f32| (v + RADIUS as f32 + 0.5) as i64 - RADIUS;
        picture.at(cx + whole(u), cy + whole(v))
    };
    let mut bits = [0u64; 4];
    for (i, [a, b]) in PAIRS.iter().enumerate() {
        if value(*a) < value(*b) {
            bits[i / 64] |= 1 << (i % 64);
        }
    }
    bits
}

/// Matches of `from` in `to`, in pixels of their feature levels.
#[multiversion(targets("x86_64+popcnt"))]
pub(super) fn matches(from: &Features, to: &Features) -> Vec<Correspondence> {
    let distance = |a: &Feature, b: &Feature| -> u32 {
        a.bits.iter().zip(&b.bits).map(|(p, q)| (p ^ q).count_ones()).sum()
    };
    let mut back = vec![(u32::MAX, 0usize); to.points.len()];
    let mut forth = Vec::with_capacity(from.points.len());
    for (i, a) in from.points.iter().enumerate() {
        let (mut best, mut second) = ((u32::MAX, 0), u32::MAX);
        for (j, b) in to.points.iter().enumerate() {
            let d = distance(a, b);
            if d < best.0 {
                // The same corner at a neighbouring scale is no rival.
                if best.0 < u32::MAX && to.points[best.1].distance(b) > 4.0 {
                    second = best.0;
                }
                best = (d, j);
            } else if d < second && to.points[best.1].distance(b) > 4.0 {
                second = d;
            }
            if d < back[j].0 {
                back[j] = (d, i);
            }
        }
        forth.push((best, second));
    }
    forth
        .iter()
        .enumerate()
        .filter(|&(i, &((d, j), second))| d < 72 && (d as f32) < RATIO * second as f32 && back[j].1 == i)
        .map(|(i, &((_, j), _))| Correspondence {
            from: from.points[i].at(),
            to: to.points[j].at(),
            weight: 1.0,
        })
        .collect()
}
