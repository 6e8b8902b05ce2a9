//! One frame after another with the patch on it.

use super::area::{Area, Planes};
use super::brush::Stroke;
use super::front::front;
use super::light::Light;
use super::motion::Motion;
use super::sides::{Passing, Sides};
use super::usual::{HELD, Usual};
use crate::pixel::blur::boxed;
use rayon::prelude::*;
use serde::Serialize;

/// Pixels over which a shadow is slow, in the part.
const SLOW: usize = 5;

/// What became of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Told {
    /// How the frame was brighter than usual, as a factor.
    pub gain: f64,
    /// Share of the area that somebody covers, 0..=1.
    pub contact: f64,
    /// How far it was moved, in pixels to the right and down.
    pub shift: [f64; 2],
    /// How far what is around the area is from what it usually is, in deviations of its noise: about one where the camera stands.
    pub around: f64,
}

impl Told {
    /// Of a frame that is left as it is.
    pub const UNTOUCHED: Self = Self { gain: 1.0, contact: 0.0, shift: [0.0; 2], around: 0.0 };
}

/// A patch that is laid on frames.
pub struct Cover {
    area: Area,
    usual: Usual,
    /// What stands there at some times, each with the frame in their middle; none where it is the same all the time.
    then: Vec<(usize, [Vec<f32>; 3])>,
    /// What is behind, in the usual light.
    behind: [Vec<f32>; 3],
    sides: Sides,
    covered: f64,
    /// The greatest code.
    most: f32,
}

impl Cover {
    /// Of an area, its part of some frames of all of the time, of which there is at least one, and what is behind, by planes of the part and
    /// between codes, to whose place all frames are brought; `center` are the codes of no light and of no colour, `most` is the greatest code. What is to go
    /// stands there all the time, or, where their numbers are given, at some times only.
    pub fn new(
        area: Area,
        frames: &[Planes],
        mut behind: [Vec<f32>; 3],
        (center, most): ([f64; 3], u16),
        standing: Option<&[usize]>,
    ) -> Self {
        let (frames, moves) = aligned(&area, frames, &behind[0]);
        let mut usual = Usual::of(&area, &frames, center);
        if moves {
            // Between samples noise is calmer than in them.
            usual.noise = usual.noise.map(|n| 1.3 * n);
        }
        // What was brought from elsewhere may be a little brighter: at the rim both show the same.
        for (c, behind) in behind.iter_mut().enumerate().filter(|(c, _)| !usual.planes[*c].is_empty()) {
            let codes: Vec<u16> = behind.iter().map(|v| v.round().max(0.0) as u16).collect();
            let plane = &area.planes[c];
            let light =
                Light::of(plane, (&usual.planes[c], &codes), usual.center[c], (1.0, HELD[c]), usual.noise[c]);
            for (p, v) in behind.iter_mut().enumerate() {
                *v -= light.lit(plane, p, usual.planes[c][p], usual.center[c]) - usual.planes[c][p];
            }
        }
        let then = match standing {
            Some(numbers) => standing_then(&area, &usual, &frames, numbers),
            None => {
                usual.cleared(&area, &frames, &behind);
                Vec::new()
            }
        };
        let covered = area.weights().iter().map(|w| f64::from(*w)).sum();
        let sides = Sides::of(&area);
        Self { area, usual, then, behind, sides, covered, most: most.into() }
    }

    /// What is usual there when a frame is shown.
    fn usual_at(&self, number: usize) -> &[Vec<f32>; 3] {
        let nearest = self.then.iter().min_by_key(|(at, _)| at.abs_diff(number));
        nearest.map_or(&self.usual.planes, |(_, planes)| planes)
    }

    /// Where it lies.
    pub fn area(&self) -> &Area {
        &self.area
    }

    /// Pixels of brightness that it covers, by their weights.
    pub fn covered(&self) -> f64 {
        self.covered
    }

    /// Lays the patch on the part of a frame, where what was brushed in it has the last word, and tells what was found there. The patch is what
    /// another frame shows there, as it is but for its light, where one is given. `number` is the frame's.
    pub fn lay(&self, number: usize, part: &mut Planes, brushed: &[Stroke], other: Option<&Planes>) -> Told {
        let (area, usually) = (&self.area, self.usual_at(number));
        let bright: Vec<f32> = part.planes[0].iter().map(|v| f32::from(*v)).collect();
        let motion = Motion::of(area, &usually[0], &bright);
        let still = motion.is_none(area);
        let here =
            |of: &Vec<f32>, c: usize| if still { of.clone() } else { motion.moved(area, c, of, false) };
        let places = |of: &[Vec<f32>; 3]| -> [Vec<f32>; 3] { std::array::from_fn(|c| here(&of[c], c)) };
        let (usual, behind) = rayon::join(|| places(usually), || places(&self.behind));
        let weights: [Vec<f32>; 3] = std::array::from_fn(|c| {
            let mut all = here(&area.planes[c].weights, c);
            all.iter_mut().for_each(|v| *v = if *v < 1e-3 { 0.0 } else { v.min(1.0) });
            all
        });
        let light = |c: usize, near: f64| {
            let (noise, center) = (self.usual.noise[c], self.usual.center[c]);
            match part.planes[c].is_empty() {
                true => Light::USUAL,
                false => {
                    let sides = (&usual[c][..], &part.planes[c][..]);
                    Light::of(&area.planes[c], sides, center, (near, HELD[c]), noise)
                }
            }
        };
        let first = light(0, 1.0);
        let lights = [first, light(1, first.gain()), light(2, first.gain())];
        let lit = |of: &[Vec<f32>; 3]| -> [Vec<f32>; 3] {
            std::array::from_fn(|c| {
                let (plane, center) = (&area.planes[c], self.usual.center[c]);
                of[c].par_iter().enumerate().map(|(p, v)| lights[c].lit(plane, p, *v, center)).collect()
            })
        };
        let (mut usual_lit, behind_lit) = rayon::join(
            || lit(&usual),
            || other.map_or_else(|| lit(&behind), |other| self.lived(other, part)),
        );
        if !self.then.is_empty() {
            // What stands there at times is gone where the frame shows what is behind.
            let shown = self.usual.same(area, &part.planes, &behind_lit);
            for c in 0..3 {
                for (p, usual) in
                    usual_lit[c].iter_mut().enumerate().filter(|(p, _)| shown[area.bright(c, *p)])
                {
                    *usual = behind_lit[c][p];
                }
            }
        }
        let [black, middle, _] = self.usual.center.map(|c| c as f32);
        let known = (self.usual.noise, &self.usual.spread);
        let mut front = front(area, &part.planes, &usual_lit, known, (black, middle));
        brushed.iter().for_each(|stroke| stroke.paint(area, &mut front));
        // Where the camera moved, the gaps are where they were: by less than is seen.
        let passing = if other.is_none() { self.sides.behind(&front) } else { Vec::new() };
        let made: Vec<Vec<u16>> = (0..3)
            .into_par_iter()
            .map(|c| {
                let grain = other.is_none();
                let (frame, lit) = ((&part.planes[c][..], grain), (&usual_lit[c][..], &behind_lit[c][..]));
                let mut made = self.plane(c, frame, lit, (&front, &weights[c]));
                self.pass_behind(c, &part.planes[c], &mut made, (&passing, &weights[c]));
                made
            })
            .collect();
        let contact = weights[0].iter().zip(&front).map(|(w, f)| f64::from(w * f)).sum::<f64>()
            + passing.iter().map(|p| f64::from(weights[0][p.sample] * p.share)).sum::<f64>();
        let rim = (&usual[0][..], &part.planes[0][..]);
        let around = first.left(&area.planes[0], rim, self.usual.center[0]) / self.usual.noise[0];
        for (plane, made) in part.planes.iter_mut().zip(made) {
            *plane = made;
        }
        let shift = if still { [0.0; 2] } else { motion.shift() };
        Told { gain: first.gain(), contact: contact / self.covered.max(1.0), shift, around }
    }

    /// What another frame shows, in the light of this one.
    fn lived(&self, other: &Planes, part: &Planes) -> [Vec<f32>; 3] {
        std::array::from_fn(|c| {
            let (plane, center) = (&self.area.planes[c], self.usual.center[c]);
            let own: Vec<f32> = other.planes[c].iter().map(|v| f32::from(*v)).collect();
            if own.is_empty() {
                return own;
            }
            let sides = (&own[..], &part.planes[c][..]);
            let light = Light::of(plane, sides, center, (1.0, HELD[c]), self.usual.noise[c]);
            own.iter().enumerate().map(|(p, v)| light.lit(plane, p, *v, center)).collect()
        })
    }

    /// A plane with the patch: what is behind with the frame's own grain (unless it has its own), and its shadows; the frame itself where
    /// somebody is in front.
    fn plane(
        &self,
        c: usize,
        (frame, grain): (&[u16], bool),
        (usual, behind): (&[f32], &[f32]),
        (front, weights): (&[f32], &[f32]),
    ) -> Vec<u16> {
        if frame.is_empty() {
            return Vec::new();
        }
        let plane = &self.area.planes[c];
        let (w, h) = (plane.width, plane.height);
        let own: Vec<f32> = frame.iter().zip(usual).map(|(f, u)| f32::from(*f) - u).collect();
        // The frame's somebody is no shadow of the wall.
        let in_front: Vec<f32> = (0..own.len()).map(|p| front[self.area.bright(c, p)]).collect();
        let open: Vec<f32> = in_front.iter().map(|f| 1.0 - f).collect();
        let center = self.usual.center[c] as f32;
        let weighed = |of: &dyn Fn(usize) -> f32, reach: usize| -> Vec<f32> {
            let all: Vec<f32> = (0..own.len()).map(of).collect();
            boxed(&all, w, h, reach)
        };
        let (off, count) = (weighed(&|p| own[p] * open[p], SLOW), weighed(&|p| open[p], SLOW));
        // A thin thing has shade of its own, which is not that of what is behind: its sides tell that.
        let tells: Vec<f32> = (0..own.len())
            .map(|p| {
                let bright = self.area.bright(c, p);
                open[p] * if plane.weights[p] > 0.0 { self.sides.own[bright] } else { 1.0 }
            })
            .collect();
        let shades: Vec<[Vec<f32>; 3]> = if c == 0 {
            let of = |reach: usize| {
                let light = |p: usize| (usual[p] - center).abs() * tells[p];
                [
                    weighed(&|p| own[p] * tells[p], reach),
                    weighed(&light, reach),
                    weighed(&|p| tells[p], reach),
                ]
            };
            [SLOW, 2 * SLOW, 4 * SLOW].map(of).into()
        } else {
            Vec::new()
        };
        // What a mean of so many samples of noise may be off by.
        let calm = 3.0 * self.usual.noise[c] as f32 / SLOW as f32;
        let beyond_grain = |mean: f32| mean.signum() * (mean.abs() - calm).max(0.0);
        let share = |p: usize| -> f32 {
            let enough = |[_, _, count]: &&[Vec<f32>; 3]| count[p] > 0.12;
            let Some([off, light, count]) = shades.iter().find(enough).or(shades.last()) else { return 0.0 };
            beyond_grain(off[p] / count[p].max(1e-3)) / (light[p] / count[p].max(1e-3)).max(1.0)
        };
        (0..own.len())
            .map(|p| {
                let weight = weights[p];
                if weight == 0.0 {
                    return frame[p];
                }
                // Shade takes its share of what is behind; grain is as it is, and what is no more than grain is no shade.
                let slow = beyond_grain(off[p] / count[p].max(1e-3));
                let shaded = share(p).clamp(-0.9, 1.0) * (behind[p] - center).max(0.0);
                let own = if grain { (own[p] - slow) * open[p] } else { 0.0 };
                let patch = behind[p] + shaded + own;
                let shown = weight * open[p];
                (f32::from(frame[p]) + shown * (patch - f32::from(frame[p]))).round().clamp(0.0, self.most)
                    as u16
            })
            .collect()
    }

    /// Shows who passes behind what is covered, by what is seen of them on its sides.
    fn pass_behind(
        &self,
        c: usize,
        frame: &[u16],
        made: &mut [u16],
        (passing, weights): (&[Passing], &[f32]),
    ) {
        if frame.is_empty() {
            return;
        }
        let at = |p: usize| if c == 0 { p } else { self.area.coarse(p) };
        for Passing { sample, share, from, to, mix } in passing {
            let p = at(*sample);
            // A coarser sample is set by the one that lies on it.
            if c > 0 && self.area.bright(c, p) != *sample {
                continue;
            }
            let (a, b) = (f32::from(frame[at(*from)]), f32::from(frame[at(*to)]));
            let theirs = a + mix * (b - a);
            let own = f32::from(made[p]);
            made[p] = (own + share * weights[p] * (theirs - own)).round().clamp(0.0, self.most) as u16;
        }
    }
}

/// What stands in an area at one time and not at others: the median of the frames nearest in time. Who passes more quickly has no say.
fn standing_then(
    area: &Area,
    usual: &Usual,
    frames: &[Planes],
    numbers: &[usize],
) -> Vec<(usize, [Vec<f32>; 3])> {
    /// Frames whose median stands for a time, and times at most.
    const NEAR: usize = 7;
    const TIMES: usize = 21;
    let n = frames.len();
    let step = n.div_ceil(TIMES).max(1);
    let middles: Vec<usize> = (0..n).step_by(step).collect();
    middles
        .into_par_iter()
        .map(|middle| {
            let from = middle.saturating_sub(NEAR / 2).min(n.saturating_sub(NEAR));
            (numbers[middle], usual.near(area, frames, from..(from + NEAR).min(n)))
        })
        .collect()
}

/// Frames brought to the place of the plate, and whether any of them was elsewhere.
fn aligned(area: &Area, frames: &[Planes], plate: &[f32]) -> (Vec<Planes>, bool) {
    let floats = |plane: &Vec<u16>| plane.iter().map(|v| f32::from(*v)).collect::<Vec<f32>>();
    let brought = |frame: &Planes| -> (Planes, bool) {
        let motion = Motion::of(area, plate, &floats(&frame.planes[0]));
        if motion.is_none(area) {
            return (frame.clone(), false);
        }
        let planes = std::array::from_fn(|c| {
            let moved = motion.moved(area, c, &floats(&frame.planes[c]), true);
            moved.into_iter().map(|v| v.round().clamp(0.0, 65535.0) as u16).collect()
        });
        (Planes { planes }, true)
    };
    let all: Vec<(Planes, bool)> = frames.par_iter().map(brought).collect();
    let moves = all.iter().any(|(_, moved)| *moved);
    (all.into_iter().map(|(frame, _)| frame).collect(), moves)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;

    #[test]
    fn nothing_is_brighter_than_the_greatest_code() {
        // A dark post before a sheet that is all but white; grain goes beyond white on it.
        let (w, n, size) = (80, 80 * 60, Size::new(80, 60));
        let post = |p: usize| (36..44).contains(&(p % w));
        let mask: Vec<f32> = (0..n).map(|p| if post(p) { 1.0 } else { 0.0 }).collect();
        let area = Area::new(&mask, size, (0, 0)).unwrap();
        let code = |p: usize, k: usize| if post(p) { 60 } else { 250 } + ((p * 7919 + 131 * k) % 9) as u16;
        let frame = |k: usize| [(0..n).map(|p| code(p, k).min(255)).collect(), vec![128; n], vec![128; n]];
        let seen: Vec<Planes> = (0..9).map(|k| area.cut(&frame(k), size)).collect();
        let pixels = area.part.size().pixels() as usize;
        let behind = [vec![254.0; pixels], vec![128.0; pixels], vec![128.0; pixels]];
        let cover = Cover::new(area, &seen, behind, ([0.0, 128.0, 128.0], 255), None);
        for mut part in seen {
            cover.lay(0, &mut part, &[], None);
            assert!(part.planes.iter().flatten().all(|v| *v <= 255));
            assert!(part.planes[0].contains(&255), "the sheet is not shown");
        }
    }
}
