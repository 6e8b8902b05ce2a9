//! Where a frame shows things beside where the reference has them, because the camera moved and no smooth fit follows the step
//! from what stands near to what lies behind it.
//!
//! Blocks of a frame that are found again a few pixels further on in the reference (block matching: Barnea and Silverman 1972)
//! tell how far it is off. Within that reach, a place that differs from the reference, but whose colours are each found close by in
//! the other, on both sides, shows no other thing: it shows the same from elsewhere. Somebody's colours are not found in the frame
//! in which they have left. Such a frame has little to say about that place and costs more there, as one does whose viewpoint is
//! far: so the reference shows itself wherever it is clear, and elsewhere the frame whose viewpoint is nearest.
//!
//! Cost: for blocks that differ a comparison with 289 places, for pixels that differ one with up to 338; frames side by side.

use super::field::{Field, SAME};
use crate::pixel::blur::boxed;
use rayon::prelude::*;

/// Pixels along a side of a block, and from one to the next.
const SIDE: usize = 8;
const STEP: usize = 4;
/// Farthest that a block is looked for, in pixels each way.
const FAR: i32 = 8;
/// Greatest mean χ² of a block that shows the same, and how many times that it must be where the frame lies.
const ALIKE: f32 = 1.6;
const WORSE: f32 = 2.5;
/// Blocks that tell something about a frame.
const LEAST_BLOCKS: usize = 8;
/// Share of the offsets found that are within reach, and the farthest reach in pixels.
const WITHIN: f32 = 0.9;
const FARTHEST_REACH: f32 = 6.0;
/// Pixels to each side over which what differs must be found beside, and the share of it that must.
const AROUND: usize = 2;
const FOUND: f32 = 0.95;
/// What is left of a frame's voice where it shows things beside, what its pixels cost there, and what they cost anywhere for each pixel
/// that it is typically off.
const VOICE: f32 = 0.2;
const BESIDE: f32 = 3.0;
const VIEWPOINT: f32 = 0.3;

/// Where each frame shows what the leading one does a little beside it.
pub(super) struct Parallax {
    frames: Vec<Frame>,
}

/// What is known of one frame.
#[derive(Default)]
struct Frame {
    /// How far it typically is off where it is, in pixels.
    off: f32,
    /// Pixel by pixel; empty where it fits.
    beside: Vec<bool>,
}

impl Parallax {
    /// Of each frame against the one whose geometry counts.
    pub(super) fn find(field: &Field, lead: usize) -> Self {
        let frame = |k: usize| if k == lead { Frame::default() } else { Frame::new(field, k, lead) };
        Self { frames: (0..field.count()).into_par_iter().map(frame).collect() }
    }

    /// What is left of a frame's voice at a pixel, 0..=1.
    #[inline]
    pub(super) fn voice(&self, k: usize, p: usize) -> f32 {
        if self.frames[k].beside(p) { VOICE } else { 1.0 }
    }

    /// What it costs to take a pixel from a frame.
    #[inline]
    pub(super) fn cost(&self, k: usize, p: usize) -> f32 {
        let frame = &self.frames[k];
        VIEWPOINT * frame.off + if frame.beside(p) { BESIDE } else { 0.0 }
    }
}

impl Frame {
    fn new(field: &Field, k: usize, lead: usize) -> Self {
        let mut offsets = offsets(field, k, lead);
        if offsets.len() < LEAST_BLOCKS {
            return Self::default();
        }
        offsets.sort_unstable_by(f32::total_cmp);
        let at = |share: f32| offsets[(share * (offsets.len() - 1) as f32) as usize];
        let reach = (at(WITHIN) + 0.5).min(FARTHEST_REACH) as i32;
        Self { off: at(0.5), beside: beside(field, (k, lead), reach) }
    }

    fn beside(&self, p: usize) -> bool {
        self.beside.get(p).is_some_and(|beside| *beside)
    }
}

/// Places at which a frame differs from the leading one and all colours around are found in the other within `reach`.
fn beside(field: &Field, (k, lead): (usize, usize), reach: i32) -> Vec<bool> {
    let (w, h) = (field.width, field.height);
    let found = |p: usize, own: usize, other: usize| {
        let (x, y) = ((p % w) as i32, (p / w) as i32);
        let columns = (x - reach).max(0)..=(x + reach).min(w as i32 - 1);
        let mut rows = (y - reach).max(0)..=(y + reach).min(h as i32 - 1);
        let same = |q: usize| field.chi2_between((own, p), (other, q)).is_some_and(|chi2| chi2 < SAME);
        rows.any(|y| columns.clone().any(|x| same(y as usize * w + x as usize)))
    };
    let (mut differs, mut elsewhere) = (vec![0.0f32; w * h], vec![0.0f32; w * h]);
    let mut chi2 = vec![0.0; w];
    for y in 0..h {
        field.chi2_row(k, lead, y * w, &mut chi2);
        for x in (0..w).filter(|&x| chi2[x] >= SAME) {
            let p = y * w + x;
            differs[p] = 1.0;
            elsewhere[p] = f32::from(u8::from(found(p, lead, k) && found(p, k, lead)));
        }
    }
    let (all, those) = (boxed(&differs, w, h, AROUND), boxed(&elsewhere, w, h, AROUND));
    (0..w * h).map(|p| differs[p] > 0.0 && those[p] >= FOUND * all[p]).collect()
}

/// How far off each block of a frame is that is found again, in pixels.
fn offsets(field: &Field, k: usize, lead: usize) -> Vec<f32> {
    let starts = |n: usize| (0..=n.saturating_sub(SIDE)).step_by(STEP);
    let blocks = starts(field.height).flat_map(|y| starts(field.width).map(move |x| (x, y)));
    blocks.filter_map(|at| offset(field, (k, lead), at)).collect()
}

/// How far from a block of the leading frame another shows the same; `None` where it shows that in place, or nowhere near.
fn offset(field: &Field, (k, lead): (usize, usize), (x, y): (usize, usize)) -> Option<f32> {
    let pixels = (SIDE * SIDE) as f32;
    // The mean χ² of both blocks, as long as it is below `most`.
    let apart = |dx: i32, dy: i32, most: f32| -> Option<f32> {
        let (sx, sy) = (x.checked_add_signed(dx as isize)?, y.checked_add_signed(dy as isize)?);
        if sx + SIDE > field.width || sy + SIDE > field.height {
            return None;
        }
        let mut sum = 0.0;
        for row in 0..SIDE {
            let (own, other) = ((y + row) * field.width + x, (sy + row) * field.width + sx);
            for i in 0..SIDE {
                sum += field.chi2_between((lead, own + i), (k, other + i))?;
            }
            if sum >= most * pixels {
                return None;
            }
        }
        Some(sum / pixels)
    };
    let here = apart(0, 0, f32::MAX).filter(|here| *here > ALIKE)?;
    let mut best = (ALIKE.min(here / WORSE), None);
    for (dy, dx) in (-FAR..=FAR).flat_map(|dy| (-FAR..=FAR).map(move |dx| (dy, dx))) {
        if let Some(there) = apart(dx, dy, best.0) {
            best = (there, Some((dx as f32).hypot(dy as f32)));
        }
    }
    best.1
}

#[cfg(test)]
mod tests {
    use crate::combine::consensus::{Known, Lamps, LayerData, decide};
    use crate::geometry::{Grid, Rect};
    use crate::noise::NoiseModel;
    use crate::random::Random;

    #[test]
    fn a_post_stays_where_the_reference_has_it_though_every_other_frame_has_it_elsewhere() {
        let (w, h, n) = (96usize, 72usize, 7usize);
        // Walls are as rough as walls are; a post stands before one, in the frames from -3 to 3 pixels beside its place in frame 0, and
        // somebody crosses behind it.
        let mut random = Random::new(3);
        let rough: Vec<f64> = (0..w * h).map(|_| 1500.0 * random.normal()).collect();
        let post = |k: usize| 46.0 + [0.0, 2.0, -2.0, 3.0, 2.0, -3.0, 3.0][k];
        let someone = |k: usize| (12 * k)..(12 * k + 10);
        let value = |k: usize, x: usize, y: usize| match x as f64 - post(k) {
            0.0..7.0 => [14_000.0, 16_000.0, 17_000.0],
            _ if someone(k).contains(&x) && (20..60).contains(&y) => [36_000.0, 9_000.0, 8_000.0],
            _ => [30_000.0, 27_000.0, 22_000.0].map(|v| v + rough[y * w + x]),
        };
        let layers = |random: &mut Random| -> Vec<LayerData> {
            (0..n)
                .map(|k| {
                    let mut plane = |c: usize| -> Vec<u16> {
                        (0..w * h)
                            .map(|p| (value(k, p % w, p / w)[c] + 150.0 * random.normal()) as u16)
                            .collect()
                    };
                    LayerData { planes: [plane(0), plane(1), plane(2)], spans: vec![(0, w as u32); h] }
                })
                .collect()
        };
        let grid = Grid::new(Rect::new(0, 0, w as u32, h as u32), 0);
        let frames: Vec<usize> = (0..n).collect();
        let moments: Vec<u32> = (0..n as u32).collect();
        let beside_the_reference = |lead: Option<usize>| {
            let known = Known { lead, ..Known::of(Lamps::Still) };
            let made = layers(&mut Random::new(5));
            let map = decide(grid, made, (&frames, &moments), &NoiseModel::default(), known).choice;
            let off = |p: &usize| {
                let (x, y) = (p % w, p / w);
                let shown = value(map.frames[usize::from(map.labels[*p])], x, y);
                (0..3).any(|c| (shown[c] - value(0, x, y)[c]).abs() > 3000.0)
            };
            // Where nobody is in the reference, and the blur of its own edges aside.
            (0..w * h).filter(|p| p % w > 14 && off(p)).count()
        };
        let (led, not) = (beside_the_reference(Some(0)), beside_the_reference(None));
        assert!(led == 0 && not > 30, "{led} pixels off where the reference leads, {not} without");
    }
}
