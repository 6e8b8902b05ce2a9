//! How the camera moved between two frames of a clip, by the rim of the area: shift, turn and zoom, found robustly together with a gain and an
//! offset of light (Lucas and Kanade 1981; Baker and Matthews 2004), from coarse to fine.

use super::area::{Area, AreaPlane};
use crate::geometry::solve;
use crate::pixel::blur::boxed;

/// A shift, a turn and a zoom about the middle of the part, in pixels of brightness; from places of one frame to those of another.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct Motion {
    right: f64,
    down: f64,
    zoom: f64,
    turn: f64,
    middle: (f64, f64),
}

/// Samples of the rim that are asked at most.
const ASKED: usize = 4000;
/// Pixels over which both are blurred, from coarse to fine, and rounds of each.
const BLURS: [(usize, usize); 3] = [(4, 8), (2, 6), (1, 6)];
/// A smaller step ends a level, in pixels.
const SETTLED: f64 = 0.004;
/// Less than this anywhere is none, in pixels.
const NONE: f64 = 0.06;
/// More than this is no small movement.
const FAR: f64 = 16.0;

impl Motion {
    /// From places of what is usual to those of a frame, whose brightness both are; none where it cannot be told.
    pub(super) fn of(area: &Area, usual: &[f32], frame: &[f32]) -> Self {
        let plane = &area.planes[0];
        let (w, h) = (plane.width, plane.height);
        let step = plane.rim.len().div_ceil(ASKED).max(1);
        let rim: Vec<usize> = plane.rim.iter().copied().step_by(step).collect();
        let none = Self { middle: (w as f64 / 2.0, h as f64 / 2.0), ..Self::default() };
        if rim.len() < 200 {
            return none;
        }
        let scale = 2.0 / w.max(h) as f64;
        let (mut motion, mut light) = (none, (1.0, 0.0));
        for (reach, rounds) in BLURS {
            let count = boxed(&vec![1.0; w * h], w, h, reach);
            let calm = |of: &[f32]| -> Vec<f32> {
                boxed(of, w, h, reach).iter().zip(&count).map(|(v, n)| v / n).collect()
            };
            let (base, seen) = (calm(usual), calm(frame));
            for _ in 0..rounds {
                let rows: Vec<([f64; 6], f64)> = rim
                    .iter()
                    .filter_map(|&p| {
                        let (x, y) = ((p % w) as f64, (p / w) as f64);
                        let (u, v) = motion.to(x, y);
                        let at = |u: f64, v: f64| linear(&seen, plane, u, v);
                        let (own, r, l) = (at(u, v)?, at(u + 1.0, v)?, at(u - 1.0, v)?);
                        let (gx, gy) = ((r - l) / 2.0, (at(u, v + 1.0)? - at(u, v - 1.0)?) / 2.0);
                        let (a, b) = ((x - none.middle.0) * scale, (y - none.middle.1) * scale);
                        let bright = f64::from(base[p]);
                        let row = [gx, gy, gx * a + gy * b, gy * a - gx * b, -bright, -1.0];
                        Some((row, light.0 * bright + light.1 - own))
                    })
                    .collect();
                if rows.len() < rim.len() / 2 {
                    return none;
                }
                let mut off: Vec<f64> = rows.iter().map(|(_, r)| r.abs()).collect();
                off.sort_by(f64::total_cmp);
                let wide = 4.0 * (1.48 * off[off.len() / 2]).max(0.3);
                let (mut a, mut b) = ([[0.0; 6]; 6], [0.0; 6]);
                for (row, left) in &rows {
                    let weight = (1.0 - (left / wide).powi(2)).max(0.0).powi(2);
                    for i in 0..6 {
                        (0..6).for_each(|j| a[i][j] += weight * row[i] * row[j]);
                        b[i] += weight * row[i] * left;
                    }
                }
                (0..4).for_each(|k| a[k][k] += 1e-3 * rows.len() as f64);
                let Some(step) = solve(a, b).filter(|s| s.iter().all(|v| v.is_finite())) else { return none };
                motion.right += step[0];
                motion.down += step[1];
                motion.zoom += step[2] * scale;
                motion.turn += step[3] * scale;
                light = (light.0 + step[4], light.1 + step[5]);
                if motion.most(plane) > FAR {
                    return none;
                }
                // As near as this level tells.
                if step[..2].iter().all(|s| s.abs() < SETTLED) && step[2].abs() + step[3].abs() < SETTLED {
                    break;
                }
            }
        }
        motion
    }

    /// Where a place of what is usual lies in the frame.
    fn to(self, x: f64, y: f64) -> (f64, f64) {
        let (a, b) = (x - self.middle.0, y - self.middle.1);
        let (k, t) = (1.0 + self.zoom, self.turn);
        (self.middle.0 + k * a - t * b + self.right, self.middle.1 + t * a + k * b + self.down)
    }

    /// Where a place of the frame lies in what is usual.
    fn from(self, u: f64, v: f64) -> (f64, f64) {
        let (a, b) = (u - self.middle.0 - self.right, v - self.middle.1 - self.down);
        let (k, t) = (1.0 + self.zoom, self.turn);
        let length = k * k + t * t;
        (self.middle.0 + (k * a + t * b) / length, self.middle.1 + (k * b - t * a) / length)
    }

    /// How far it moves what lies at the middle, in pixels to the right and down.
    pub(super) fn shift(self) -> [f64; 2] {
        [self.right, self.down]
    }

    /// How much larger it makes.
    pub(super) fn zoom(self) -> f64 {
        self.zoom
    }

    /// The farthest that it moves any corner.
    fn most(self, plane: &AreaPlane) -> f64 {
        let (w, h) = (plane.width as f64, plane.height as f64);
        [(0.0, 0.0), (w, 0.0), (0.0, h), (w, h)]
            .map(|(x, y)| {
                let (u, v) = self.to(x, y);
                (u - x).hypot(v - y)
            })
            .into_iter()
            .fold(0.0, f64::max)
    }

    /// Whether it moves nothing by as much as can be seen.
    pub(super) fn is_none(self, area: &Area) -> bool {
        self.most(&area.planes[0]) < NONE
    }

    /// What lies at places of the frame, of a plane of what is usual; `back` the other way around.
    pub(super) fn moved(self, area: &Area, plane: usize, values: &[f32], back: bool) -> Vec<f32> {
        if values.is_empty() {
            return Vec::new();
        }
        let own = &area.planes[plane];
        let (across, down) = if plane == 0 { (0, 0) } else { area.halved };
        let (kx, ky) = (f64::from(1u16 << across), f64::from(1u16 << down));
        // Down, a coarse sample lies between the rows that it stands for.
        let half = (ky - 1.0) / 2.0;
        (0..values.len())
            .map(|p| {
                let (x, y) = (kx * (p % own.width) as f64, ky * (p / own.width) as f64 + half);
                let (u, v) = if back { self.to(x, y) } else { self.from(x, y) };
                cubic(values, own, u / kx, (v - half) / ky)
            })
            .collect()
    }
}

/// Between four samples; `None` beyond the part.
fn linear(of: &[f32], plane: &AreaPlane, x: f64, y: f64) -> Option<f64> {
    let (left, top) = (x.floor(), y.floor());
    if left < 0.0 || top < 0.0 || left + 1.0 >= plane.width as f64 || top + 1.0 >= plane.height as f64 {
        return None;
    }
    let (u, v, p) = (x - left, y - top, top as usize * plane.width + left as usize);
    let at = |p: usize| f64::from(of[p]);
    let row = |p: usize| at(p) + u * (at(p + 1) - at(p));
    Some(row(p) + v * (row(p + plane.width) - row(p)))
}

/// Between sixteen samples (Keys 1981); at the border they go on.
fn cubic(of: &[f32], plane: &AreaPlane, x: f64, y: f64) -> f32 {
    let weights = |t: f64| {
        let (t2, t3) = (t * t, t * t * t);
        [
            -0.5 * t3 + t2 - 0.5 * t,
            1.5 * t3 - 2.5 * t2 + 1.0,
            -1.5 * t3 + 2.0 * t2 + 0.5 * t,
            0.5 * t3 - 0.5 * t2,
        ]
    };
    let (left, top) = (x.floor(), y.floor());
    let (across, down) = (weights(x - left), weights(y - top));
    let at = |v: f64, off: usize, n: usize| (v + off as f64 - 1.0).clamp(0.0, n as f64 - 1.0) as usize;
    let mut sum = 0.0;
    for (j, weight) in down.iter().enumerate() {
        let row = at(top, j, plane.height) * plane.width;
        let line: f64 =
            across.iter().enumerate().map(|(i, w)| w * f64::from(of[row + at(left, i, plane.width)])).sum();
        sum += weight * line;
    }
    sum as f32
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn a_small_movement_is_found_to_a_twentieth_of_a_pixel_in_another_light(
            right in -4.0..4.0f64, down in -4.0..4.0f64, turn in -0.01..0.01f64, gain in 0.8..1.2f64
        ) {
            let size = Size::new(220, 160);
            let mask: Vec<f32> = (0..220 * 160).map(|p| f32::from(u8::from((90..130).contains(&(p % 220)) && (50..110).contains(&(p / 220))))).collect();
            let area = Area::new(&mask, size, (1, 1)).unwrap();
            let plane = &area.planes[0];
            let wanted = Motion { right, down, zoom: 0.003, turn, middle: (plane.width as f64 / 2.0, plane.height as f64 / 2.0) };
            let scene = |x: f64, y: f64| 110.0 + 30.0 * (x / 6.0).sin() * (y / 9.0).cos() + 25.0 * ((x + 2.0 * y) / 17.0).sin();
            let n = plane.width * plane.height;
            let place = |p: usize| ((p % plane.width) as f64, (p / plane.width) as f64);
            let usual: Vec<f32> = (0..n).map(|p| { let (x, y) = place(p); scene(x, y) as f32 }).collect();
            let frame: Vec<f32> = (0..n)
                .map(|p| { let (u, v) = place(p); let (x, y) = wanted.from(u, v); (gain * scene(x, y) + 3.0 + ((p * 7919) % 5) as f64 - 2.0) as f32 })
                .collect();
            let found = Motion::of(&area, &usual, &frame);
            for (x, y) in [(30.0, 30.0), (70.0, 60.0)] {
                let ((a, b), (c, d)) = (found.to(x, y), wanted.to(x, y));
                prop_assert!((a - c).hypot(b - d) < 0.05, "{:?} instead of {:?}", found, wanted);
            }
            // There and back again.
            let (u, v) = wanted.to(12.0, 34.0);
            let (x, y) = wanted.from(u, v);
            prop_assert!((x - 12.0).hypot(y - 34.0) < 1e-9);
            let shown = found.moved(&area, 0, &usual, false);
            let inner = |p: &usize| (20..plane.width - 20).contains(&(p % plane.width)) && (20..plane.height - 20).contains(&(p / plane.width));
            let off = (0..n).filter(inner).map(|p| (f64::from(shown[p]) * gain + 3.0 - f64::from(frame[p])).abs()).fold(0.0, f64::max);
            prop_assert!(off < 5.0, "{off}");
        }
    }
}
