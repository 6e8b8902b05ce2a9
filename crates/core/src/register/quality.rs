//! How sharp and how bright each frame is against the others, at the same places.
//!
//! At places spread over the picture, the gradient energy of each frame's own pixels (unresampled, so that alignment
//! takes nothing away) over their squared brightness is divided by the median over frames; a frame's sharpness is the
//! median over places of the ratio's root, and its light that of the brightness alone. Both medians keep movers out: at
//! each place most frames show the same. Noise adds to every difference of neighbours, so its share is taken off
//! first, and places with little else are left out. (Gradient energy as a focus measure: Krotkov 1988; Pertuz et al.
//! 2013.)
//!
//! Cost: reads of 96 small squares a frame, some milliseconds.

use super::{RegisterError, grey};
use crate::geometry::{Homography, Point, Rect, Size};
use crate::pixel::{FrameSource, Plane};
use rayon::prelude::*;

/// A frame against the others.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Quality {
    /// Strength of gradients; 1 is the median of the set.
    pub sharpness: f32,
    /// Light in stops; 0 is the median of the set.
    pub stops: f32,
}

impl Quality {
    /// Fit to be the frame that the others are measured by.
    pub(super) fn usual(&self) -> bool {
        self.sharpness > 0.85 && self.stops.abs() < 0.4
    }
}

/// Half a square's side in pixels, and squares across and down.
const HALF: i64 = 20;
const ACROSS: i64 = 12;
const DOWN: i64 = 8;
/// Fewest places that tell something.
const LEAST_PLACES: usize = 8;
/// Places with less detail than this show little but noise, those with less light nothing.
const LEAST_DETAIL_AND_LIGHT: (f32, f32) = (5e-5, 4.0);

/// Compares frames by their transforms to a frame of `size`; `None` where a frame has no transform or shows too little.
pub(super) fn compare(
    sources: &[&dyn FrameSource],
    size: Size,
    fits: &[Option<Homography>],
) -> Result<Vec<Option<Quality>>, RegisterError> {
    let places: Vec<Point> = (0..ACROSS * DOWN)
        .map(|k| {
            let at = |i: i64, n: i64, side: u32| (i as f64 + 0.5) / n as f64 * f64::from(side);
            Point::new(at(k % ACROSS, ACROSS, size.width), at(k / ACROSS, DOWN, size.height))
        })
        .collect();
    let seen: Vec<Vec<Option<Seen>>> = sources
        .par_iter()
        .zip(fits)
        .map(|(&source, fit)| match fit {
            Some(h) => places.iter().map(|&p| look(source, h, p)).collect::<Result<_, RegisterError>>(),
            None => Ok(vec![None; places.len()]),
        })
        .collect::<Result<_, RegisterError>>()?;
    let middles = |of: fn(&Seen) -> f32, least: f32| -> Vec<Option<f32>> {
        (0..places.len())
            .map(|k| {
                median(seen.iter().filter_map(|s| s[k].as_ref().map(of)).collect()).filter(|&m| m > least)
            })
            .collect()
    };
    let (detail, light) =
        (middles(|s| s.detail, LEAST_DETAIL_AND_LIGHT.0), middles(|s| s.light, LEAST_DETAIL_AND_LIGHT.1));
    let ratio = |own: &[Option<Seen>], middles: &[Option<f32>], of: fn(&Seen) -> f32| {
        let both = own.iter().zip(middles).filter_map(|(s, m)| s.as_ref().zip(*m));
        let ratios: Vec<f32> = both.map(|(s, m)| of(s).max(0.0) / m).collect();
        if ratios.len() < LEAST_PLACES { None } else { median(ratios) }
    };
    let quality = |own: &Vec<Option<Seen>>| {
        let sharpness = ratio(own, &detail, |s| s.detail)?.sqrt();
        // Brightness is on a square-root scale.
        let stops = 2.0 * ratio(own, &light, |s| s.light)?.max(1e-3).log2();
        Some(Quality { sharpness, stops })
    };
    Ok(seen.iter().map(quality).collect())
}

/// One place in one frame.
#[derive(Clone, Copy)]
struct Seen {
    /// Gradient energy over squared brightness, for differences between pixels of the common frame.
    detail: f32,
    /// Mean brightness on the square-root scale.
    light: f32,
}

/// Looks at a place of the common frame in a frame's own pixels; `None` where it does not reach.
fn look(source: &dyn FrameSource, to_common: &Homography, at: Point) -> Result<Option<Seen>, RegisterError> {
    let p = to_common.inverse().unwrap_or(Homography::IDENTITY).apply(at);
    let scale = to_common.scale_at(p);
    let half = (HALF as f64 / scale).round().clamp(4.0, 200.0) as i64;
    let (x, y) = (p.x.round() as i64, p.y.round() as i64);
    let side = 2 * half as u32 + 1;
    let region = Rect::new(x - half, y - half, side, side);
    if region.intersect(source.size().rect()) != region {
        return Ok(None);
    }
    let picture = grey(source, 0, region)?;
    let light = picture.data.iter().sum::<f32>() / picture.data.len() as f32;
    let energy = (gradients(&picture) - noise(&picture)) / (scale * scale) as f32;
    Ok(Some(Seen { detail: energy / (light * light).max(1.0), light }))
}

/// Mean squared difference over two pixels, both directions together.
fn gradients(picture: &Plane) -> f32 {
    let (w, h) = (i64::from(picture.size.width), i64::from(picture.size.height));
    let mut sum = 0.0f64;
    for y in 1..h - 1 {
        for x in 1..w - 1 {
            let gx = picture.at(x + 1, y) - picture.at(x - 1, y);
            let gy = picture.at(x, y + 1) - picture.at(x, y - 1);
            sum += f64::from(gx * gx + gy * gy);
        }
    }
    (sum / ((w - 2) * (h - 2)) as f64) as f32
}

/// What noise adds to [`gradients`]: four variances, estimated by a mask that planes do not touch (Immerkær 1996),
/// in the quietest quarter of the rows.
fn noise(picture: &Plane) -> f32 {
    let (w, h) = (i64::from(picture.size.width), i64::from(picture.size.height));
    let mut rows: Vec<f32> = (1..h - 1)
        .map(|y| {
            let sum: f32 = (1..w - 1)
                .map(|x| {
                    let at = |i: i64, j: i64| picture.at(x + i, y + j);
                    let corners = at(-1, -1) + at(1, -1) + at(-1, 1) + at(1, 1);
                    let sides = at(0, -1) + at(-1, 0) + at(1, 0) + at(0, 1);
                    (corners - 2.0 * sides + 4.0 * at(0, 0)).powi(2)
                })
                .sum();
            sum / (w - 2) as f32 / 36.0
        })
        .collect();
    let quarter = rows.len() / 4;
    rows.select_nth_unstable_by(quarter, f32::total_cmp);
    4.0 * rows[quarter]
}

fn median(mut values: Vec<f32>) -> Option<f32> {
    let middle = values.len() / 2;
    (!values.is_empty()).then(|| *values.select_nth_unstable_by(middle, f32::total_cmp).1)
}
