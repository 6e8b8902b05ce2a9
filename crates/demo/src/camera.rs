//! A camera as people carry it: a mosaic of colours, demosaicing, denoising, sharpening, a tone curve and coding with loss.
//!
//! Demosaicing by five-by-five linear filters (Malvar, He and Cutler 2004), denoising by a bilateral filter of brightness (Tomasi and
//! Manduchi 1998) and a blur of colour, sharpening by an unsharp mask, then 8×8 blocks of cosines, quantised, with colour at
//! half resolution: as JPEG by the tables of its standard (ITU-T T.81, annex K), as a clip by steps that differ from frame to frame.
//! Cost: some hundred operations a pixel.

use crate::shoot::noisy;
use evanu_core::geometry::Size;
use evanu_core::pixel::{Raster, tone};
use evanu_core::random::Random;
use glam::Vec3;
use rayon::prelude::*;
use std::f32::consts::PI;
use std::sync::LazyLock;

/// How a camera codes its pictures.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Coding {
    /// As JPEG of a quality, 1..=100.
    Jpeg(u32),
    /// As a frame of a clip: about this step, in codes of 8 bits.
    Clip(f32),
}

/// What a camera makes of light.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Camera {
    /// How far brightness may differ to be taken for noise, in deviations.
    pub denoise: f32,
    /// What is added of what a blur takes away.
    pub sharpen: f32,
    /// By how much steeper the curve is in the middle.
    pub contrast: f32,
    /// How pictures are coded.
    pub coding: Coding,
}

/// Noise of roots of light, which is nearly the same from dark to bright.
const NOISE: f32 = 5.3e-3;
/// Weights of red, green and blue in brightness (ITU-R BT.601).
const LUMA: Vec3 = Vec3::new(0.299, 0.587, 0.114);

impl Camera {
    /// One of many: three of four code JPEG, the others clips.
    pub fn by_chance(seed: u64) -> Self {
        let mut r = Random::new(seed ^ 0xCA3E);
        let mut within = |a: f64, b: f64| r.within(a, b) as f32;
        let (denoise, sharpen, contrast) = (within(0.0, 2.5), within(0.2, 1.1), within(0.0, 0.5));
        let coding = if within(0.0, 1.0) < 0.75 {
            Coding::Jpeg(within(75.0, 95.5) as u32)
        } else {
            Coding::Clip(within(6.0, 18.0))
        };
        Self { denoise, sharpen, contrast, coding }
    }

    /// A frame of interleaved 8-bit codes in 16 bits, of linear light row by row, where one is white: noise and coding follow from `seed`.
    pub fn picture(&self, light: &[Vec3], size: Size, seed: u64) -> Raster {
        let mut random = Random::new(seed);
        let colours = self.developed(light, size, Some(&mut random));
        let tables = match self.coding {
            Coding::Jpeg(quality) => [0, 1].map(|kind| jpeg_table(kind, quality)),
            Coding::Clip(step) => {
                let own = step * random.within(0.7, 1.4) as f32;
                let rising = |i: usize| own * (0.7 + 0.12 * (i % 8 + i / 8) as f32);
                [std::array::from_fn(rising), std::array::from_fn(|i| 1.2 * rising(i))]
            }
        };
        let coded = coded(&colours, size, &tables);
        let code = |v: f32| (v.clamp(0.0, 1.0) * 255.0).round() as u16 * 257;
        Raster { size, data: coded.iter().flat_map(|c| c.to_array().map(code)).collect() }
    }

    /// The same without mosaic, noise and coding, in codes of 16 bits: what frames of it are compared with.
    pub fn clean(&self, light: &[Vec3], size: Size) -> Raster {
        let code = |v: f32| (v.clamp(0.0, 1.0) * 65535.0).round() as u16;
        let colours = self.developed(light, size, None);
        Raster { size, data: colours.iter().flat_map(|c| c.to_array().map(code)).collect() }
    }

    /// Display codes, 0..=1.
    fn developed(&self, light: &[Vec3], size: Size, noise: Option<&mut Random>) -> Vec<Vec3> {
        let w = size.width as usize;
        let site = |i: usize| [[0, 1], [1, 2]][i / w % 2][i % w % 2];
        // The truth has all colours at every site: what demosaicing makes of edges is an error of a frame.
        let mut roots = noise.map_or_else(
            || light.to_vec(),
            |random| {
                let seen = light.iter().enumerate().map(|(i, v)| noisy(v[site(i)], random));
                demosaiced(&seen.collect::<Vec<f32>>(), size)
            },
        );
        roots.par_iter_mut().for_each(|v| *v = v.max(Vec3::ZERO).map(f32::sqrt));
        let brightness: Vec<f32> = roots.par_iter().map(|v| v.dot(LUMA)).collect();
        let smooth = self.denoised(&brightness, size);
        let colour: Vec<Vec3> = roots.iter().zip(&brightness).map(|(v, b)| *v - *b).collect();
        let colour = if self.denoise > 0.0 { blurred(&colour, size) } else { colour };
        let soft = blurred(&smooth, size);
        let sharp = smooth.iter().zip(&soft).map(|(v, soft)| v + self.sharpen * (v - soft));
        let root = sharp.zip(&colour).map(|(b, c)| (*c + b).max(Vec3::ZERO));
        root.map(|v| v.map(|root| self.curve(display_code(root * root)))).collect()
    }

    /// Steeper in the middle and flatter at the ends.
    fn curve(&self, code: f32) -> f32 {
        let c = code.clamp(0.0, 1.0);
        c + self.contrast * c * (1.0 - c) * (2.0 * c - 1.0)
    }

    fn denoised(&self, plane: &[f32], size: Size) -> Vec<f32> {
        if self.denoise == 0.0 {
            return plane.to_vec();
        }
        let (w, h) = (size.width as i64, size.height as i64);
        let far = self.denoise * NOISE;
        let pixel = |i: usize| {
            let (x, y) = (i as i64 % w, i as i64 / w);
            let (mut sum, mut weights) = (0.0, 0.0);
            for (dx, dy) in (-2..=2).flat_map(|dy| (-2..=2).map(move |dx| (dx, dy))) {
                let v = plane[((y + dy).clamp(0, h - 1) * w + (x + dx).clamp(0, w - 1)) as usize];
                let apart = (v - plane[i]) / far;
                let weight = (-0.5 * apart * apart - 0.15 * (dx * dx + dy * dy) as f32).exp();
                sum += weight * v;
                weights += weight;
            }
            sum / weights
        };
        (0..plane.len()).into_par_iter().map(pixel).collect()
    }
}

/// Display code, 0..=1, of light.
fn display_code(light: f32) -> f32 {
    tone::to_code(f64::from(light.clamp(0.0, 1.0))) as f32
}

/// Malvar's filters, in eighths, over the five by five sites around one.
#[rustfmt::skip]
const GREEN: [f32; 25] = [
    0.0, 0.0, -1.0, 0.0, 0.0,
    0.0, 0.0, 2.0, 0.0, 0.0,
    -1.0, 2.0, 4.0, 2.0, -1.0,
    0.0, 0.0, 2.0, 0.0, 0.0,
    0.0, 0.0, -1.0, 0.0, 0.0,
];
#[rustfmt::skip]
const ALONG: [f32; 25] = [
    0.0, 0.0, 0.5, 0.0, 0.0,
    0.0, -1.0, 0.0, -1.0, 0.0,
    -1.0, 4.0, 5.0, 4.0, -1.0,
    0.0, -1.0, 0.0, -1.0, 0.0,
    0.0, 0.0, 0.5, 0.0, 0.0,
];
#[rustfmt::skip]
const ACROSS: [f32; 25] = [
    0.0, 0.0, -1.0, 0.0, 0.0,
    0.0, -1.0, 4.0, -1.0, 0.0,
    0.5, 0.0, 5.0, 0.0, 0.5,
    0.0, -1.0, 4.0, -1.0, 0.0,
    0.0, 0.0, -1.0, 0.0, 0.0,
];
#[rustfmt::skip]
const OPPOSITE: [f32; 25] = [
    0.0, 0.0, -1.5, 0.0, 0.0,
    0.0, 2.0, 0.0, 2.0, 0.0,
    -1.5, 0.0, 6.0, 0.0, -1.5,
    0.0, 2.0, 0.0, 2.0, 0.0,
    0.0, 0.0, -1.5, 0.0, 0.0,
];

/// Red, green and blue at each site of a mosaic of red, green, green, blue.
fn demosaiced(mosaic: &[f32], size: Size) -> Vec<Vec3> {
    let (w, h) = (size.width as i64, size.height as i64);
    // Mirrored at the border, so that a site beyond it has the colour it should.
    let mirror = |v: i64, n: i64| {
        if v < 0 {
            -v
        } else if v >= n {
            2 * n - 2 - v
        } else {
            v
        }
    };
    let pixel = |i: usize| {
        let (x, y) = (i as i64 % w, i as i64 / w);
        let by = |filter: &[f32; 25]| -> f32 {
            let each = (0..25i64).map(|k| {
                let (sx, sy) = (mirror(x + k % 5 - 2, w), mirror(y + k / 5 - 2, h));
                filter[k as usize] * mosaic[(sy * w + sx) as usize]
            });
            each.sum::<f32>() / 8.0
        };
        let own = mosaic[i];
        match (y % 2, x % 2) {
            (0, 0) => Vec3::new(own, by(&GREEN), by(&OPPOSITE)),
            (0, _) => Vec3::new(by(&ALONG), own, by(&ACROSS)),
            (_, 0) => Vec3::new(by(&ACROSS), own, by(&ALONG)),
            _ => Vec3::new(by(&OPPOSITE), by(&GREEN), own),
        }
    };
    (0..mosaic.len()).into_par_iter().map(pixel).collect()
}

/// Binomial blur over 5×5.
fn blurred<T>(plane: &[T], size: Size) -> Vec<T>
where
    T: Copy + Send + Sync + std::ops::Mul<f32, Output = T> + std::ops::Add<Output = T>,
{
    let (w, h) = (size.width as i64, size.height as i64);
    let pass = |from: &[T], step: (i64, i64)| -> Vec<T> {
        let pixel = |i: usize| {
            let (x, y) = (i as i64 % w, i as i64 / w);
            let at = |k: i64| {
                let (x, y) = ((x + k * step.0).clamp(0, w - 1), (y + k * step.1).clamp(0, h - 1));
                from[(y * w + x) as usize]
            };
            at(0) * 0.375 + (at(-1) + at(1)) * 0.25 + (at(-2) + at(2)) * 0.0625
        };
        (0..from.len()).into_par_iter().map(pixel).collect()
    };
    pass(&pass(plane, (1, 0)), (0, 1))
}

/// Steps of JPEG's example tables at quality 50.
#[rustfmt::skip]
const STEPS: [[u16; 64]; 2] = [
    [
        16, 11, 10, 16, 24, 40, 51, 61, 12, 12, 14, 19, 26, 58, 60, 55,
        14, 13, 16, 24, 40, 57, 69, 56, 14, 17, 22, 29, 51, 87, 80, 62,
        18, 22, 37, 56, 68, 109, 103, 77, 24, 35, 55, 64, 81, 104, 113, 92,
        49, 64, 78, 87, 103, 121, 120, 101, 72, 92, 95, 98, 112, 100, 103, 99,
    ],
    [
        17, 18, 24, 47, 99, 99, 99, 99, 18, 21, 26, 66, 99, 99, 99, 99,
        24, 26, 56, 99, 99, 99, 99, 99, 47, 66, 99, 99, 99, 99, 99, 99,
        99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
        99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
    ],
];

fn jpeg_table(kind: usize, quality: u32) -> [f32; 64] {
    let scale = if quality < 50 { 50.0 / quality.max(1) as f32 } else { 2.0 - quality as f32 / 50.0 };
    STEPS[kind].map(|step| (f32::from(step) * scale).round().max(1.0))
}

/// Display codes after coding: brightness and two differences of colour, these at half resolution, by tables of steps in 8 bits.
fn coded(colours: &[Vec3], size: Size, tables: &[[f32; 64]; 2]) -> Vec<Vec3> {
    let (w, h) = (size.width as usize, size.height as usize);
    let plane = |of: fn(Vec3) -> f32| -> Vec<f32> { colours.iter().map(|c| 255.0 * of(*c)).collect() };
    let luma = plane(|c| c.dot(LUMA));
    let (cb, cr) = (plane(|c| (c.z - c.dot(LUMA)) / 1.772), plane(|c| (c.x - c.dot(LUMA)) / 1.402));
    let half = (w.div_ceil(2), h.div_ceil(2));
    let down = |plane: &[f32]| -> Vec<f32> {
        let pixel = |i: usize| {
            let (x, y) = (2 * (i % half.0), 2 * (i / half.0));
            let at = |x: usize, y: usize| plane[y.min(h - 1) * w + x.min(w - 1)];
            (at(x, y) + at(x + 1, y) + at(x, y + 1) + at(x + 1, y + 1)) / 4.0
        };
        (0..half.0 * half.1).map(pixel).collect()
    };
    let luma = quantised(&luma, (w, h), &tables[0]);
    let [cb, cr] = [cb, cr].map(|c| quantised(&down(&c), half, &tables[1]));
    // Three parts of the nearest and one of the next, each way.
    let up = |plane: &[f32], x: usize, y: usize| {
        let near = |v: usize, n: usize| {
            let next = if v % 2 == 1 { v / 2 + 1 } else { (v / 2).saturating_sub(1) };
            (v / 2, next.min(n - 1))
        };
        let ((x0, x1), (y0, y1)) = (near(x, half.0), near(y, half.1));
        let row = |y: usize| 0.75 * plane[y * half.0 + x0] + 0.25 * plane[y * half.0 + x1];
        0.75 * row(y0) + 0.25 * row(y1)
    };
    let pixel = |i: usize| {
        let (b, r) = (up(&cb, i % w, i / w), up(&cr, i % w, i / w));
        let (red, blue) = (luma[i] + 1.402 * r, luma[i] + 1.772 * b);
        let green = (luma[i] - LUMA.x * red - LUMA.z * blue) / LUMA.y;
        Vec3::new(red, green, blue) / 255.0
    };
    (0..w * h).into_par_iter().map(pixel).collect()
}

/// A plane whose blocks keep whole steps of each cosine.
fn quantised(plane: &[f32], (w, h): (usize, usize), table: &[f32; 64]) -> Vec<f32> {
    /// Value of cosine `u` at sample `x`, at `8 u + x`.
    static COSINES: LazyLock<[f32; 64]> = LazyLock::new(|| {
        std::array::from_fn(|i| {
            let (u, x) = ((i / 8) as f32, (i % 8) as f32);
            let norm = if i < 8 { (1.0f32 / 8.0).sqrt() } else { 0.5 };
            norm * ((2.0 * x + 1.0) * u * PI / 16.0).cos()
        })
    });
    let cosines = &*COSINES;
    let across = w.div_ceil(8);
    let block = |k: usize| -> [f32; 64] {
        let (x0, y0) = (8 * (k % across), 8 * (k / across));
        let own: [f32; 64] =
            std::array::from_fn(|i| plane[(y0 + i / 8).min(h - 1) * w + (x0 + i % 8).min(w - 1)]);
        // Along rows, then along columns, and back the same way.
        let turn = |v: &[f32; 64], forth: bool| -> [f32; 64] {
            std::array::from_fn(|i| {
                let (row, k) = (i % 8, i / 8);
                (0..8).map(|n| v[8 * row + n] * cosines[if forth { 8 * k + n } else { 8 * n + k }]).sum()
            })
        };
        let mut waves = turn(&turn(&own, true), true);
        waves.iter_mut().zip(table).for_each(|(v, step)| *v = (*v / step).round() * step);
        turn(&turn(&waves, false), false)
    };
    let blocks: Vec<[f32; 64]> = (0..across * h.div_ceil(8)).into_par_iter().map(block).collect();
    (0..w * h).map(|i| blocks[i / w / 8 * across + i % w / 8][8 * (i / w % 8) + i % w % 8]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIZE: Size = Size { width: 52, height: 37 };

    /// A ramp with a soft line on it.
    fn light() -> Vec<Vec3> {
        let pixel = |i: u32| {
            let (x, y) = ((i % SIZE.width) as f32, (i / SIZE.width) as f32);
            let line = 0.2 * (-(x - 0.4 * y - 16.0).powi(2) / 8.0).exp();
            Vec3::new(0.1 + 0.004 * x + line, 0.12 + 0.003 * y + line, 0.3 - 0.003 * x)
        };
        (0..SIZE.width * SIZE.height).map(pixel).collect()
    }

    fn off(a: &Raster, b: &Raster) -> f64 {
        let squares = a.data.iter().zip(&b.data).map(|(a, b)| (f64::from(*a) - f64::from(*b)).powi(2));
        (squares.sum::<f64>() / a.data.len() as f64).sqrt() / 257.0
    }

    #[test]
    fn a_plain_camera_shows_the_light_and_each_further_step_changes_it_a_little() {
        let plain = Camera { denoise: 0.0, sharpen: 0.0, contrast: 0.0, coding: Coding::Jpeg(95) };
        let clean = plain.clean(&light(), SIZE);
        let code = |v: f32| (display_code(v) * 65535.0) as u16;
        let seen = Raster { size: SIZE, data: light().iter().flat_map(|v| v.to_array().map(code)).collect() };
        assert!(off(&clean, &seen) < 1.5, "{}", off(&clean, &seen));
        let (fine, coarse) = (plain.picture(&light(), SIZE, 1), {
            Camera { coding: Coding::Jpeg(40), ..plain }.picture(&light(), SIZE, 1)
        });
        assert!(off(&fine, &clean) > 0.3 && off(&fine, &clean) < 3.0, "{}", off(&fine, &clean));
        assert!(off(&coarse, &fine) > 0.7, "{}", off(&coarse, &fine));
        let smooth = Camera { denoise: 2.5, ..plain };
        let noise = off(&smooth.picture(&light(), SIZE, 1), &smooth.clean(&light(), SIZE));
        assert!(noise < 0.8 * off(&fine, &clean), "denoising takes noise off");
        let edge = |r: &Raster| {
            r.data
                .chunks_exact(3)
                .zip(r.data.chunks_exact(3).skip(1))
                .map(|(a, b)| f64::from(a[1].abs_diff(b[1])))
                .sum::<f64>()
        };
        assert!(edge(&Camera { sharpen: 1.0, ..plain }.clean(&light(), SIZE)) > 1.05 * edge(&clean));
    }

    #[test]
    fn frames_of_a_clip_differ_in_their_coding_and_follow_from_their_seed() {
        let clip = Camera { coding: Coding::Clip(12.0), ..Camera::by_chance(3) };
        assert_eq!(clip.picture(&light(), SIZE, 5), clip.picture(&light(), SIZE, 5));
        assert!(off(&clip.picture(&light(), SIZE, 5), &clip.picture(&light(), SIZE, 6)) > 0.5);
        assert_eq!(Camera::by_chance(9), Camera::by_chance(9));
        let coded = (0..40).filter(|&s| matches!(Camera::by_chance(s).coding, Coding::Clip(_))).count();
        assert!((4..20).contains(&coded), "{coded}");
    }
}
