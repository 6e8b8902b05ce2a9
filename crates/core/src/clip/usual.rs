//! What an area looks like most of the time, and how much its samples tremble.

use super::area::{Area, Planes};
use super::light::Light;
use crate::pixel::blur::boxed;
use rayon::prelude::*;

/// How strongly the gain of a plane is held to the likely one, and its offset to none: the gain of colours, of which a rim may have few, to
/// that of brightness.
pub(super) const HELD: [(f64, f64); 3] = [(0.01, 0.02), (20.0, 0.0), (20.0, 0.0)];

/// A sample trembles at most so many times as much as most of them.
const MOST: f32 = 3.0;

/// What an area looks like most of the time: the median of frames brought to one light.
#[derive(Debug, Clone)]
pub(super) struct Usual {
    /// By planes.
    pub planes: [Vec<f32>; 3],
    /// The deviation of a sample around it, by planes.
    pub noise: [f64; 3],
    /// The same at each sample: near edges codecs leave more.
    pub spread: [Vec<f32>; 3],
    /// What stays where only the gain changes: black, and the middle of colour differences.
    pub(super) center: [f64; 3],
    /// The light of each frame, by planes.
    lights: [Vec<Light>; 3],
}

/// The same of one plane.
#[derive(Default)]
struct UsualPlane {
    usual: Vec<f32>,
    noise: f64,
    lights: Vec<Light>,
    spread: Vec<f32>,
}

impl Usual {
    /// Of the same part of several frames, of which there is at least one, whose codes stand for no light and for no
    /// colour at `center`.
    pub(super) fn of(area: &Area, frames: &[Planes], center: [f64; 3]) -> Self {
        let median = |of: &dyn Fn(usize, usize) -> f32, n: usize| -> Vec<f32> {
            let mut out = Vec::with_capacity(n);
            let mut values = Vec::with_capacity(frames.len());
            for p in 0..n {
                values.clear();
                values.extend((0..frames.len()).map(|k| of(k, p)));
                let at = values.len() / 2;
                let (_, middle, _) = values.select_nth_unstable_by(at, f32::total_cmp);
                out.push(*middle);
            }
            out
        };
        // First as they are, then each in the light of that.
        let of = |c: usize| -> UsualPlane {
            let n = frames[0].planes[c].len();
            if n == 0 {
                return UsualPlane { noise: 1.0, ..UsualPlane::default() };
            }
            let plane = &area.planes[c];
            let center = center[c];
            let first = median(&|k, p| f32::from(frames[k].planes[c][p]), n);
            let noise = trembling(&first, &frames[frames.len() / 2].planes[c]);
            let lights: Vec<Light> = frames
                .iter()
                .map(|frame| Light::of(plane, (&first, &frame.planes[c]), center, (1.0, HELD[c]), noise))
                .collect();
            // Back from each frame's light to the first median's.
            let back = |k: usize, p: usize| {
                let lit = lights[k].lit(plane, p, first[p], center);
                first[p] + (f32::from(frames[k].planes[c][p]) - lit) / lights[k].gain().clamp(0.2, 5.0) as f32
            };
            let usual = median(&back, n);
            let mut off: Vec<f32> =
                (0..n).step_by(n.div_ceil(20_000)).map(|p| (back(0, p) - usual[p]).abs()).collect();
            off.sort_by(f32::total_cmp);
            let at = frames.len() / 2;
            let mut values = Vec::with_capacity(frames.len());
            let mut spread = |p: usize| {
                values.clear();
                values.extend((0..frames.len()).map(|k| (back(k, p) - usual[p]).abs()));
                *values.select_nth_unstable_by(at, f32::total_cmp).1
            };
            let spread: Vec<f32> = (0..n).map(&mut spread).collect();
            let noise = (1.48 * f64::from(off[off.len() / 2])).max(0.4);
            // Where people pass all the time it tells nothing.
            let most = MOST * noise as f32;
            let calm = boxed(&spread, plane.width, plane.height, 1);
            let spread = calm.into_iter().map(|s| (1.48 * s).min(most)).collect();
            UsualPlane { usual, noise, lights, spread }
        };
        let mut all: Vec<UsualPlane> = (0..3).into_par_iter().map(of).collect();
        let noise = [all[0].noise, all[1].noise, all[2].noise];
        let planes = std::array::from_fn(|c| std::mem::take(&mut all[c].usual));
        let lights = std::array::from_fn(|c| std::mem::take(&mut all[c].lights));
        let spread = std::array::from_fn(|c| std::mem::take(&mut all[c].spread));
        Self { planes, noise, spread, center, lights }
    }

    /// For each sample of brightness whether a frame shows the same as this, which is in its light: by means over nine samples, in all planes.
    pub(super) fn same(&self, area: &Area, frame: &[Vec<u16>; 3], lit: &[Vec<f32>; 3]) -> Vec<bool> {
        /// Deviations of such a mean within which it is.
        const SAME: f32 = 4.0;
        let planes: Vec<usize> = (0..3).filter(|&c| !frame[c].is_empty()).collect();
        let same: Vec<Vec<bool>> = planes
            .iter()
            .map(|&c| {
                let (w, h) = (area.planes[c].width, area.planes[c].height);
                let off: Vec<f32> = frame[c].iter().zip(&lit[c]).map(|(f, l)| f32::from(*f) - l).collect();
                let count = boxed(&vec![1.0; off.len()], w, h, 1);
                let sums = boxed(&off, w, h, 1);
                let sigma = (self.noise[c] as f32 / 2.0).max(0.5);
                (0..off.len()).map(|p| (sums[p] / count[p]).abs() < SAME * sigma).collect()
            })
            .collect();
        (0..same[0].len()).map(|p| same[0][p] && same[1..].iter().all(|c| c[area.coarse(p)])).collect()
    }

    /// The same near some of these frames alone, in the usual light: what stands there then.
    pub(super) fn near(&self, area: &Area, frames: &[Planes], some: std::ops::Range<usize>) -> [Vec<f32>; 3] {
        std::array::from_fn(|c| {
            let (plane, center) = (&area.planes[c], self.center[c]);
            let mut values = Vec::with_capacity(some.len());
            let mut of = |p: usize| {
                let usual = self.planes[c][p];
                values.clear();
                values.extend(some.clone().map(|k| {
                    let light = self.lights[c][k];
                    let lit = light.lit(plane, p, usual, center);
                    usual + (f32::from(frames[k].planes[c][p]) - lit) / light.gain().clamp(0.2, 5.0) as f32
                }));
                let at = values.len() / 2;
                *values.select_nth_unstable_by(at, f32::total_cmp).1
            };
            (0..self.planes[c].len()).map(&mut of).collect()
        })
    }

    /// Where some of the frames show what is behind, that is what is usual: who stands there for long only passes, too.
    pub(super) fn cleared(&mut self, area: &Area, frames: &[Planes], behind: &[Vec<f32>; 3]) {
        /// Share of the frames, and how many at least.
        const SOME: (f32, usize) = (0.12, 3);
        let least = ((SOME.0 * frames.len() as f32).ceil() as usize).max(SOME.1);
        let shown = |k: usize| {
            let lit: [Vec<f32>; 3] = std::array::from_fn(|c| {
                let (plane, light) = (&area.planes[c], self.lights[c].get(k));
                let in_light =
                    |(p, v): (usize, &f32)| light.map_or(*v, |l| l.lit(plane, p, *v, self.center[c]));
                behind[c].iter().enumerate().map(in_light).collect()
            });
            self.same(area, &frames[k].planes, &lit)
        };
        let all: Vec<Vec<bool>> = (0..frames.len()).into_par_iter().map(shown).collect();
        for (c, behind) in behind.iter().enumerate() {
            for (p, usual) in self.planes[c].iter_mut().enumerate() {
                let bright = area.bright(c, p);
                let often = all.iter().filter(|shown| shown[bright]).count();
                if often >= least {
                    *usual = behind[p];
                }
            }
        }
    }
}

/// The deviation of a frame's samples around the median.
fn trembling(usual: &[f32], frame: &[u16]) -> f64 {
    let mut off: Vec<f32> = (0..usual.len())
        .step_by(usual.len().div_ceil(20_000).max(1))
        .map(|p| (f32::from(frame[p]) - usual[p]).abs())
        .collect();
    off.sort_by(f32::total_cmp);
    (1.48 * f64::from(off[off.len() / 2])).max(0.4)
}
