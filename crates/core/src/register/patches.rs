//! Small patches of the reference found again in a frame, to a few hundredths of a pixel.
//!
//! Each patch is tracked by inverse-compositional least squares over a shift (Baker and Matthews 2004) between the
//! reference and the frame already resampled by the current transform; brightness is normalised by mean and
//! deviation. What does not correlate (movers, covered places) drops out by itself.
//!
//! When a bend is looked for, an even grid of patches stands in for them, down from a much reduced level that shows even
//! the sky's clouds: less exact where there are no corners, and weighted by how exact they are.

use super::features::Features;
use super::guides::Guides;
use super::{RegisterError, part};
use crate::geometry::{Correspondence, Homography, Point, Rect, Size, Warp, level_to_full};
use crate::pixel::resample::resample;
use crate::pixel::{FrameSource, Plane, SourceError};
use rayon::prelude::*;

/// Half the side of a patch and how far it may have moved, in pixels of the level.
const HALF: i64 = 10;
const REACH: i64 = 5;
const SIDE: usize = (2 * HALF + 1) as usize;
/// Parts of the picture across that give two patches each.
const ACROSS: usize = 14;
/// Least correlation of a patch found again.
const LEAST_CORRELATION: f32 = 0.8;
/// Least deviation of a patch's values, in grey steps, and least roundness of its structure; for a soft patch.
const LEAST_STRUCTURE: (f32, f64) = (1.5, 0.05);
const LEAST_STRUCTURE_SOFT: (f32, f64) = (0.35, 0.02);
/// For a dense patch: what lies along an edge is known badly, and its weight says so.
const LEAST_STRUCTURE_DENSE: (f32, f64) = (1.2, 0.003);
/// Longest side of the level that soft patches are cut from, and number of dense patches along the longer side.
const SOFT_SIDE: u32 = 320;
const DENSE_ACROSS: usize = 40;
/// What a corner's patch is known to, in pixels: weights are relative to it.
const KNOWN: f64 = 0.05;

/// The reference's patches, at each level they are looked for in, coarse first.
pub(super) struct Anchors {
    pub size: Size,
    /// Corner and sides of the part that leads: all of the reference, or what its owner wants to fit.
    led: (Point, Point),
    pub levels: Vec<(u32, Vec<Template>)>,
}

/// What stands in for the anchors when a bend is looked for: patches on an even grid, wherever there is anything to
/// hold on to, at each level they are looked for in, coarse first.
pub(super) struct Dense {
    pub levels: Vec<(u32, Vec<Template>)>,
    /// Those of the coarsest level that have none at full size.
    pub lone: (u32, Vec<Template>),
}

/// One patch of the reference: its place in pixels of its level, normalised values and gradients.
pub(super) struct Template {
    x: i64,
    y: i64,
    values: Vec<f32>,
    gradients: Vec<[f32; 2]>,
    hessian: [f64; 3],
}

impl Anchors {
    /// Which of `across`² parts of what leads a place of the reference lies in.
    pub(super) fn part(&self, p: Point, across: usize) -> usize {
        part(p, self.led, across)
    }

    /// Places of the finest patches in full-size reference pixels.
    pub(super) fn positions(&self) -> Vec<Point> {
        let place =
            |(level, p): (u32, &Template)| level_to_full(level).apply(Point::new(p.x as f64, p.y as f64));
        self.levels.last().map(|(l, v)| v.iter().map(|p| place((*l, p))).collect()).unwrap_or_default()
    }
}

/// Cuts patches out of the reference around its best corners, evenly over what leads.
pub(super) fn anchors(
    source: &dyn FrameSource,
    features: &Features,
    guides: &Guides,
) -> Result<Anchors, RegisterError> {
    let whole = source.size();
    let led = guides.led(whole, 0);
    let full = level_to_full(features.level);
    let mut cells: Vec<Vec<usize>> = vec![Vec::new(); ACROSS * ACROSS];
    for (i, f) in features.points.iter().enumerate().filter(|(_, f)| f.fine) {
        let p = full.apply(f.at());
        if guides.lead(p) {
            cells[part(p, led, ACROSS)].push(i);
        }
    }
    let mut places = Vec::new();
    for c in &mut cells {
        c.sort_by(|&a, &b| features.points[b].strength.total_cmp(&features.points[a].strength));
        places.extend(c.iter().take(2).map(|&i| features.points[i].at()));
    }
    // From the feature level straight to half and full size: each start is well within reach.
    let mut levels: Vec<u32> = [features.level, 1, 0].into_iter().filter(|&l| l <= features.level).collect();
    levels.dedup();
    let mut out = Vec::new();
    for level in levels {
        let size = source.size().at_level(level);
        let from_full = level_to_full(level).inverse().unwrap_or(Homography::IDENTITY);
        let mut patches = Vec::new();
        for &p in &places {
            let q = from_full.apply(full.apply(p));
            if let Some(patch) = cut(source, level, size, q, LEAST_STRUCTURE)? {
                patches.push(patch);
            }
        }
        out.push((level, patches));
    }
    Ok(Anchors { size: whole, led, levels: out })
}

/// Cuts all patches that a bend can rest on.
pub(super) fn dense(source: &dyn FrameSource, guides: &Guides) -> Result<Dense, RegisterError> {
    let full = source.size();
    let side = |level: u32| full.width.max(full.height) >> level;
    let soft = (0..source.levels()).find(|&k| side(k) <= SOFT_SIDE).unwrap_or(source.levels() - 1);
    let step = f64::from(full.width.max(full.height)) / DENSE_ACROSS as f64;
    let count = |n: u32| (f64::from(n) / step).round().max(1.0) as usize;
    let (across, down) = (count(full.width), count(full.height));
    let at = |i: usize, of: usize, n: u32| (i as f64 + 0.5) / of as f64 * f64::from(n) - 0.5;
    let places: Vec<Point> = (0..across * down)
        .map(|k| Point::new(at(k % across, across, full.width), at(k / across, down, full.height)))
        .filter(|&p| guides.lead(p))
        .collect();
    let cuts = |level: u32, least: (f32, f64)| -> Result<Vec<Option<Template>>, SourceError> {
        let (size, down) = (full.at_level(level), level_to_full(level).inverse());
        let down = down.unwrap_or(Homography::IDENTITY);
        places.par_iter().map(|&p| cut(source, level, size, down.apply(p), least)).collect()
    };
    let mut levels = Vec::new();
    let mut lone = Vec::new();
    for level in (0..=soft).rev() {
        let patches = cuts(level, LEAST_STRUCTURE_DENSE)?;
        if level == 0 {
            // Only the coarsest level shows what is almost even; below it, noise would be followed.
            let almost = cuts(soft, LEAST_STRUCTURE_SOFT)?;
            lone = almost
                .into_iter()
                .zip(&patches)
                .filter(|(_, p)| p.is_none())
                .filter_map(|(a, _)| a)
                .collect();
        }
        levels.push((level, patches.into_iter().flatten().collect()));
    }
    Ok(Dense { levels, lone: (soft, lone) })
}

fn cut(
    source: &dyn FrameSource,
    level: u32,
    size: Size,
    at: Point,
    least: (f32, f64),
) -> Result<Option<Template>, SourceError> {
    let (x, y) = (at.x.round() as i64, at.y.round() as i64);
    let side = SIDE as u32 + 2;
    let region = Rect::new(x - HALF - 1, y - HALF - 1, side, side);
    if region.intersect(size.rect()) != region {
        return Ok(None);
    }
    let grey = super::grey(source, level, region)?;
    let mut values = Vec::with_capacity(SIDE * SIDE);
    let mut gradients = Vec::with_capacity(SIDE * SIDE);
    for j in 1..=SIDE as i64 {
        for i in 1..=SIDE as i64 {
            values.push(grey.at(i, j));
            let gx = (grey.at(i + 1, j) - grey.at(i - 1, j)) * 0.5;
            let gy = (grey.at(i, j + 1) - grey.at(i, j - 1)) * 0.5;
            gradients.push([gx, gy]);
        }
    }
    let Some(deviation) = normalise(&mut values, least.0) else { return Ok(None) };
    let mut hessian = [0.0f64; 3];
    for g in &mut gradients {
        *g = g.map(|v| v / deviation);
        let [gx, gy] = g.map(f64::from);
        hessian[0] += gx * gx;
        hessian[1] += gx * gy;
        hessian[2] += gy * gy;
    }
    // A place that constrains one direction only would slide along its edge.
    let (small, half) = (smaller_eigenvalue(&hessian), (hessian[0] + hessian[2]) / 2.0);
    Ok((small > least.1 * half && small > 1e-6).then_some(Template { x, y, values, gradients, hessian }))
}

fn smaller_eigenvalue(h: &[f64; 3]) -> f64 {
    let (half, det) = ((h[0] + h[2]) / 2.0, h[0] * h[2] - h[1] * h[1]);
    half - (half * half - det).max(0.0).sqrt()
}

/// Brings values to mean 0 and deviation 1; returns the deviation, or `None` for a flat place.
fn normalise(values: &mut [f32], least: f32) -> Option<f32> {
    let n = values.len() as f32;
    let mean = values.iter().sum::<f32>() / n;
    let deviation = (values.iter().map(|v| (v - mean).powi(2)).sum::<f32>() / n).sqrt();
    if deviation < least {
        return None;
    }
    values.iter_mut().for_each(|v| *v = (*v - mean) / deviation);
    Some(deviation)
}

/// Finds the patches of one level in a frame; places in full-size frame and reference pixels, weighted by how exactly
/// they are known.
///
/// `warp` leads from the reference to the frame as far as it is known.
pub(super) fn track(
    frame: &dyn FrameSource,
    level: u32,
    patches: &[Template],
    warp: &Warp<'_>,
) -> Result<Vec<Correspondence>, SourceError> {
    let up = level_to_full(level);
    let to_frame = warp.between_levels(level, level);
    let mut found = Vec::new();
    for p in patches {
        let margin = HALF + REACH + 2;
        let side = (2 * margin + 1) as u32;
        let region = Rect::new(p.x - margin, p.y - margin, side, side);
        let cut = resample(frame, level, to_frame, region)?;
        if cut.spans.iter().any(|&(a, b)| a > 0 || b < side) {
            continue; // the frame does not reach all of it
        }
        let [r, g, b] = &cut.planes;
        let light = |i: usize| crate::pixel::tone::luminance([r[i], g[i], b[i]]).max(0.0);
        let data = (0..r.len()).map(|i| 255.0 * light(i).sqrt()).collect();
        let window = Plane { size: Size::new(side, side), data };
        if let Some(((dx, dy), alike)) = shift(p, &window, margin) {
            let to = up.apply(Point::new(p.x as f64, p.y as f64));
            let seen = up.apply(Point::new(p.x as f64 + dx, p.y as f64 + dy));
            // What is unlike, over how steep the patch is: the variance of a shift found by least squares.
            let pixel = f64::from(1u32 << level);
            let variance = pixel * pixel * 2.0 * f64::from(1.0 - alike) / smaller_eigenvalue(&p.hessian);
            let weight = KNOWN * KNOWN / (KNOWN * KNOWN + variance);
            found.push(Correspondence { from: warp.apply(seen), to, weight });
        }
    }
    Ok(found)
}

/// How far the patch lies from the middle of the window and how alike it is, or `None` when it is not there.
fn shift(patch: &Template, window: &Plane, margin: i64) -> Option<((f64, f64), f32)> {
    let [a, b, c] = patch.hessian;
    let det = a * c - b * b;
    let (mut dx, mut dy) = (0.0f64, 0.0f64);
    let mut values = vec![0.0f32; SIDE * SIDE];
    let mut settled = false;
    for _ in 0..20 {
        let (wx, wy) = (cubic(dx - dx.floor()), cubic(dy - dy.floor()));
        let (ox, oy) = (dx.floor() as i64 + margin - HALF, dy.floor() as i64 + margin - HALF);
        gather(window, (ox, oy), &wx, &wy, &mut values);
        normalise(&mut values, LEAST_STRUCTURE_SOFT.0)?;
        if settled {
            break;
        }
        let (mut bx, mut by) = (0.0f64, 0.0f64);
        for ((v, t), g) in values.iter().zip(&patch.values).zip(&patch.gradients) {
            let e = f64::from(v - t);
            bx += f64::from(g[0]) * e;
            by += f64::from(g[1]) * e;
        }
        let (sx, sy) = ((c * bx - b * by) / det, (a * by - b * bx) / det);
        dx -= sx;
        dy -= sy;
        if dx.abs().max(dy.abs()) > REACH as f64 - 0.5 {
            return None;
        }
        settled = sx.hypot(sy) < 0.003;
    }
    let alike = values.iter().zip(&patch.values).map(|(v, t)| v * t).sum::<f32>() / (SIDE * SIDE) as f32;
    (settled && alike > LEAST_CORRELATION).then_some(((dx, dy), alike.min(1.0)))
}

/// Weights of the cubic convolution kernel (Keys 1981) at a fraction of a pixel.
fn cubic(f: f64) -> [f32; 4] {
    let (f2, f3) = (f * f, f * f * f);
    [-0.5 * f3 + f2 - 0.5 * f, 1.5 * f3 - 2.5 * f2 + 1.0, -1.5 * f3 + 2.0 * f2 + 0.5 * f, 0.5 * f3 - 0.5 * f2]
        .map(|v| v as f32)
}

fn gather(window: &Plane, (ox, oy): (i64, i64), wx: &[f32; 4], wy: &[f32; 4], out: &mut [f32]) {
    let mut across = [[0.0f32; SIDE]; SIDE + 3];
    for (j, line) in across.iter_mut().enumerate() {
        let y = (oy - 1 + j as i64).clamp(0, i64::from(window.size.height) - 1) as u32;
        let start = (ox - 1).clamp(0, i64::from(window.size.width) - SIDE as i64 - 3) as usize;
        let row = &window.row(y)[start..start + SIDE + 3];
        for (i, o) in line.iter_mut().enumerate() {
            *o = (0..4).map(|k| wx[k] * row[i + k]).sum();
        }
    }
    for (j, line) in out.chunks_exact_mut(SIDE).enumerate() {
        for (i, o) in line.iter_mut().enumerate() {
            *o = (0..4).map(|k| wy[k] * across[j + k][i]).sum();
        }
    }
}
