//! The empty place as a camera sees it from one spot: light, share of sunlight and distance of every pixel.

use crate::place::Place;
use crate::trace::Ray;
use evanu_core::geometry::Size;
use evanu_core::pixel::{MemoryFrame, Samples, tone};
use evanu_core::random::Random;
use glam::{Mat3, Vec3, Vec4};
use rayon::prelude::*;

/// The empty place on the wider grid, seen from one spot.
pub(crate) struct Backdrop {
    /// Before lens and exposure.
    pub light: MemoryFrame,
    /// Share of the light that comes straight from the sun, in 255ths.
    pub sunlit: Vec<u8>,
    /// In metres; infinite for the sky.
    pub distance: Vec<f32>,
}

/// The camera's tone: bright light rolls off a little before it clips.
pub(crate) fn exposure(v: f32) -> f32 {
    let v = v * 0.86;
    if v < 0.6 { v } else { 0.6 + 0.4 * (1.0 - (-(v - 0.6) / 0.4).exp()) }
}

impl Backdrop {
    /// Renders it: from a seed for what is left to chance (if `same`, of every pixel by itself, so that it is the same where nothing is
    /// elsewhere), the way the camera looks and its eye, the grid and its focal length.
    pub(crate) fn new(
        model: &Place,
        (seed, same): (u64, bool),
        (base, eye): (&Mat3, Vec3),
        (wide, focal): (Size, f64),
    ) -> Self {
        // Larger pictures have smaller pixels: fewer rays each do.
        let rays = (16.0e6 / wide.pixels() as f64).clamp(2.0, 12.0) as usize;
        let w = wide.width as usize;
        let rows: Vec<Row> = (0..wide.height)
            .into_par_iter()
            .map(|y| {
                let mut random = Random::new(seed ^ (u64::from(y) << 20));
                let mut row = Row::new(w);
                for x in 0..wide.width {
                    if same {
                        random = Random::new(seed ^ (u64::from(y) << 20) ^ (u64::from(x) << 42));
                    }
                    row.pixel(model, (base, eye), (wide, focal), (x, y), rays, &mut random);
                }
                row
            })
            .collect();
        let near = |y: usize, from: usize| Some(&rows.get((y + from).checked_sub(1)?)?.film[2 - from]);
        let light = |i: usize| {
            let (x, y) = (i % w, i / w);
            // What this row's rays and those of the rows beside it gave the pixel.
            let sum: Vec4 = (0..3).filter_map(|from| Some(near(y, from)?[x])).sum();
            sum.truncate() / sum.w.max(1e-6)
        };
        let code = |v: f32| tone::CODE_OF_ROOT[usize::from(tone::root(exposure(v)))];
        let samples = (0..wide.pixels() as usize).flat_map(|i| light(i).to_array().map(code)).collect();
        Self {
            light: MemoryFrame::new(wide, Samples::Sixteen(samples)),
            sunlit: rows.iter().flat_map(|r| &r.sunlit).copied().collect(),
            distance: rows.iter().flat_map(|r| &r.distance).copied().collect(),
        }
    }
}

/// What the rays through one row of pixels saw.
struct Row {
    /// Light times weight, and the weight, on the pixels of the row above, of this one, and of the one below.
    film: [Vec<Vec4>; 3],
    sunlit: Vec<u8>,
    distance: Vec<f32>,
}

impl Row {
    fn new(width: usize) -> Self {
        let line = || vec![Vec4::ZERO; width];
        Self { film: [line(), line(), line()], sunlit: Vec::new(), distance: Vec::new() }
    }

    /// Sends rays through a pixel. Each counts for all pixels around it by a tent two pixels wide, the softness of a good
    /// lens, so that what is left of the rays' chance is as soft as the picture (Pharr, Jakob and Humphreys 2016, 7.8).
    fn pixel(
        &mut self,
        model: &Place,
        (base, eye): (&Mat3, Vec3),
        (wide, focal): (Size, f64),
        (x, y): (u32, u32),
        rays: usize,
        random: &mut Random,
    ) {
        let (mut sun, mut nearest) = (0.0, f32::INFINITY);
        for _ in 0..rays {
            let (right, down) = ((random.unit() - 0.5) as f32, (random.unit() - 0.5) as f32);
            let u = (x as f32 + right - (wide.width as f32 - 1.0) / 2.0) / focal as f32;
            let v = (y as f32 + down - (wide.height as f32 - 1.0) / 2.0) / focal as f32;
            let d = *base * Vec3::new(u, v, 1.0);
            let ray = Ray { origin: eye, direction: Vec3::new(d.x, -d.y, d.z).normalize() };
            let seen = model.see(&ray, random);
            // One very bright ray must not make a whole pixel glow.
            let light = seen.light.min(Vec3::splat(1.6)).extend(1.0);
            for (j, line) in self.film.iter_mut().enumerate() {
                for i in 0..3 {
                    let weight = (1.0 - (i as f32 - 1.0 - right).abs()).max(0.0)
                        * (1.0 - (j as f32 - 1.0 - down).abs()).max(0.0);
                    if let Some(v) = (x as usize + i).checked_sub(1).and_then(|k| line.get_mut(k)) {
                        *v += weight * light;
                    }
                }
            }
            sun += seen.sunlit;
            nearest = nearest.min(seen.distance);
        }
        self.sunlit.push((255.0 * sun / rays as f32).round() as u8);
        self.distance.push(nearest);
    }
}
