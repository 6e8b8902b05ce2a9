//! What an area looks like most of the time, and how much its samples tremble.

use super::area::{Area, Planes};
use super::light::Light;
use crate::pixel::blur::boxed;
use rayon::prelude::*;

/// How strongly the gain of a plane is held to the likely one, and its offset to none: the gain of colours, of which a rim may have few, to
/// that of brightness.
pub(super) const HELD: [(f64, f64); 3] = [(0.01, 0.02), (20.0, 0.0), (20.0, 0.0)];

/// What an area looks like most of the time: the median of frames brought to one light.
#[derive(Debug, Clone)]
pub(super) struct Usual {
    /// By planes.
    pub planes: [Vec<f32>; 3],
    /// The deviation of a sample around it, by planes.
    pub noise: [f64; 3],
    /// What stays where only the gain changes: black, and the middle of colour differences.
    pub(super) center: [f64; 3],
    /// The light of each frame, by planes.
    lights: [Vec<Light>; 3],
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
        let of = |c: usize| -> (Vec<f32>, f64, Vec<Light>) {
            let n = frames[0].planes[c].len();
            if n == 0 {
                return (Vec::new(), 1.0, Vec::new());
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
            (usual, (1.48 * f64::from(off[off.len() / 2])).max(0.4), lights)
        };
        let mut all: Vec<(Vec<f32>, f64, Vec<Light>)> = (0..3).into_par_iter().map(of).collect();
        let noise = [all[0].1, all[1].1, all[2].1];
        let planes = std::array::from_fn(|c| std::mem::take(&mut all[c].0));
        let lights = std::array::from_fn(|c| std::mem::take(&mut all[c].2));
        Self { planes, noise, center, lights }
    }

    /// Where some of the frames show what is behind, that is what is usual: who stands there for long only passes, too.
    pub(super) fn cleared(&mut self, area: &Area, frames: &[Planes], behind: &[Vec<f32>; 3]) {
        /// Share of the frames, and how many at least.
        const SOME: (f32, usize) = (0.12, 3);
        /// Deviations of a mean over nine samples within which it is the same.
        const SAME: f32 = 4.0;
        let least = ((SOME.0 * frames.len() as f32).ceil() as usize).max(SOME.1);
        let planes: Vec<usize> = (0..3).filter(|&c| !self.planes[c].is_empty()).collect();
        let shown = |k: usize| -> Vec<bool> {
            let same: Vec<Vec<bool>> = planes
                .iter()
                .map(|&c| {
                    let plane = &area.planes[c];
                    let lit = |p: usize| self.lights[c][k].lit(plane, p, behind[c][p], self.center[c]);
                    let n = behind[c].len();
                    let off: Vec<f32> = (0..n).map(|p| f32::from(frames[k].planes[c][p]) - lit(p)).collect();
                    let count = boxed(&vec![1.0; n], plane.width, plane.height, 1);
                    let sums = boxed(&off, plane.width, plane.height, 1);
                    let sigma = (self.noise[c] as f32 / 2.0).max(0.5);
                    (0..n).map(|p| (sums[p] / count[p]).abs() < SAME * sigma).collect()
                })
                .collect();
            (0..same[0].len()).map(|p| same[0][p] && same[1..].iter().all(|c| c[area.coarse(p)])).collect()
        };
        let all: Vec<Vec<bool>> = (0..frames.len()).into_par_iter().map(shown).collect();
        for &c in &planes {
            for (p, usual) in self.planes[c].iter_mut().enumerate() {
                let bright = area.bright(c, p);
                let often = all.iter().filter(|shown| shown[bright]).count();
                if often >= least {
                    *usual = behind[c][p];
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
