//! The resampling kernel along a row, in 256-bit vectors where the processor has them.
//!
//! Left to the compiler the same loop took five times as long, hence this one module with `unsafe`: only the loads
//! are, and each is from an array whose length is checked first. Both ways add in the same order with fused
//! multiplications (IEEE 754) and give the same bits; a test holds them together.

use crate::geometry::{Homography, Point};

/// Source pixels along a side of the kernel.
pub(super) const TAPS: usize = 6;
/// Values in a row of the kernel: four lanes a pixel.
const LANES: usize = 4 * TAPS;
/// Phases of the kernel between two pixels.
pub(super) const PHASES: usize = 256;

/// The weights of one phase; the last two are zero.
pub(super) type Weights = [f32; 8];

/// A piece of a frame in linear light, four lanes a pixel (the last unused), with a border of repeated pixels.
pub(super) struct Window {
    pub origin: (i64, i64),
    pub width: usize,
    pub data: Vec<f32>,
}

/// A run of output pixels in a row, and where they lie in the frame.
pub(super) struct Run<'a> {
    pub to_frame: &'a Homography,
    pub from: (i64, i64),
    pub weights: &'a [Weights; PHASES],
}

/// A run of output pixels whose positions in the frame are given one by one.
pub(super) struct Listed<'a> {
    pub places: &'a [Point],
    pub weights: &'a [Weights; PHASES],
}

/// Pixels whose positions are worked out together.
const CHUNK: usize = 16;

/// Where the kernel's first value is in the window, and its phases, for a chunk of pixels.
type Chunk = ([u32; CHUNK], [u32; CHUNK], [u32; CHUNK]);

/// Anything that knows the positions of its pixels.
trait Positions {
    /// Of the pixels from `skip` on.
    fn chunk(&self, window: &Window, skip: usize) -> Chunk;
}

impl Run<'_> {
    /// Samples the window at every pixel of the run.
    pub fn sample(&self, window: &Window, out: [&mut [f32]; 3]) {
        sample(self, self.weights, window, out);
    }
}

impl Listed<'_> {
    /// Samples the window at every place.
    pub fn sample(&self, window: &Window, out: [&mut [f32]; 3]) {
        sample(self, self.weights, window, out);
    }
}

fn sample(places: &impl Positions, weights: &[Weights; PHASES], window: &Window, out: [&mut [f32]; 3]) {
    #[cfg(target_arch = "x86_64")]
    if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma") {
        return vector::sample(places, weights, window, out);
    }
    each(places, weights, window, out, plain);
}

/// Positions first, then the kernel at each.
#[inline(always)]
fn each(
    places: &impl Positions,
    weights: &[Weights; PHASES],
    window: &Window,
    out: [&mut [f32]; 3],
    kernel: impl Fn(&[f32], usize, &Weights, &Weights) -> [f32; 3],
) {
    let [red, green, blue] = out;
    let stride = 4 * window.width;
    let length = (TAPS - 1) * stride + LANES;
    let chunks = red.chunks_mut(CHUNK).zip(green.chunks_mut(CHUNK)).zip(blue.chunks_mut(CHUNK));
    for (n, ((red, green), blue)) in chunks.enumerate() {
        let (at, u, v) = places.chunk(window, n * CHUNK);
        for (i, ((r, g), b)) in red.iter_mut().zip(green).zip(blue).enumerate() {
            // Covered positions have their whole kernel in the window: its border is as wide.
            let under = &window.data[at[i] as usize..][..length];
            let weights = |phase: u32| &weights[phase as usize % PHASES];
            [*r, *g, *b] = kernel(under, stride, weights(u[i]), weights(v[i]));
        }
    }
}

/// Added to a number, its mantissa ends in the whole number nearest to it, negative ones in two's complement.
const WHOLE: f64 = 1.5 * (1u64 << 52) as f64;

impl Window {
    /// The kernel's first value and phases at a place given in phases.
    #[inline(always)]
    fn start(&self, across: f64, down: f64) -> (u32, u32, u32) {
        // Phases come from frame coordinates, so that they do not depend on how the picture is cut up.
        let (u, v) = ((across + WHOLE).to_bits() as u32, (down + WHOLE).to_bits() as u32);
        let whole = |q: u32| q as i32 >> PHASES.trailing_zeros();
        let (ox, oy) = (self.origin.0 as i32 + 2, self.origin.1 as i32 + 2);
        let (row, column) = (whole(v).wrapping_sub(oy) as u32, whole(u).wrapping_sub(ox) as u32);
        let at = row.wrapping_mul(self.width as u32).wrapping_add(column).wrapping_mul(4);
        (at, u % PHASES as u32, v % PHASES as u32)
    }
}

impl Positions for Run<'_> {
    #[inline(always)]
    fn chunk(&self, window: &Window, skip: usize) -> Chunk {
        let (m, x0, y) = (&self.to_frame.0, (self.from.0 + skip as i64) as f64, self.from.1 as f64);
        let (bx, by, bw) = (m[1] * y + m[2], m[4] * y + m[5], m[7] * y + m[8]);
        let mut out = ([0; CHUNK], [0; CHUNK], [0; CHUNK]);
        for i in 0..CHUNK {
            let x = x0 + f64::from(i as u32);
            let d = PHASES as f64 / (m[6] * x + bw);
            (out.0[i], out.1[i], out.2[i]) = window.start((m[0] * x + bx) * d, (m[3] * x + by) * d);
        }
        out
    }
}

impl Positions for Listed<'_> {
    #[inline(always)]
    fn chunk(&self, window: &Window, skip: usize) -> Chunk {
        let mut out = ([0; CHUNK], [0; CHUNK], [0; CHUNK]);
        for (i, p) in self.places[skip..].iter().take(CHUNK).enumerate() {
            // A bend may lead a place within a covered run a hair beyond the border that the window has.
            let inside =
                |v: f64, from: i64, n: usize| v.clamp((from + 2) as f64, (from + n as i64 - 4) as f64);
            let x = inside(p.x, window.origin.0, window.width);
            let y = inside(p.y, window.origin.1, window.data.len() / (4 * window.width));
            (out.0[i], out.1[i], out.2[i]) = window.start(PHASES as f64 * x, PHASES as f64 * y);
        }
        out
    }
}

fn row(window: &[f32], stride: usize, j: usize) -> &[f32; LANES] {
    match window[j * stride..].first_chunk() {
        Some(row) => row,
        None => &[0.0; LANES], // not reached: the caller hands over as much as the kernel takes
    }
}

/// Weighted sum of 6×6 pixels, clamped to the range of the middle 4×4, in the order of the vector one.
///
/// `window` starts at the first row's first pixel; rows are `stride` values apart.
fn plain(window: &[f32], stride: usize, across: &Weights, down: &Weights) -> [f32; 3] {
    let mut acc = [0.0f32; LANES];
    let (mut low, mut high) = ([f32::MAX; 16], [f32::MIN; 16]);
    for (j, weight) in down.iter().enumerate().take(TAPS) {
        let row = row(window, stride, j);
        for k in 0..LANES {
            acc[k] = weight.mul_add(row[k], acc[k]);
        }
        if (1..5).contains(&j) {
            for k in 0..16 {
                low[k] = low[k].min(row[k + 4]);
                high[k] = high[k].max(row[k + 4]);
            }
        }
    }
    let weighted = |k: usize| across[k / 4] * acc[k];
    let part = |k: usize| {
        across[(16 + k) / 4].mul_add(acc[16 + k], across[(8 + k) / 4].mul_add(acc[8 + k], weighted(k)))
    };
    std::array::from_fn(|c| {
        let lo = (0..4).map(|i| low[4 * i + c]).fold(f32::MAX, f32::min);
        let hi = (0..4).map(|i| high[4 * i + c]).fold(f32::MIN, f32::max);
        (part(c) + part(c + 4)).max(lo).min(hi)
    })
}

#[cfg(target_arch = "x86_64")]
#[allow(unsafe_code)]
mod vector {
    use super::{LANES, PHASES, Positions, TAPS, Weights, Window};
    use std::arch::x86_64::*;

    /// Eight values from place `at` on.
    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn load(values: &[f32], at: usize) -> __m256 {
        debug_assert!(at + 8 <= values.len());
        // SAFETY: the eight values lie inside the slice, see the assertion in `kernel`; this load needs no alignment.
        unsafe { _mm256_loadu_ps(values.as_ptr().add(at)) }
    }

    pub fn sample(
        places: &impl Positions,
        weights: &[Weights; PHASES],
        window: &Window,
        out: [&mut [f32]; 3],
    ) {
        // SAFETY: the caller has made sure that the processor has AVX2 and FMA.
        unsafe { inner(places, weights, window, out) }
    }

    #[target_feature(enable = "avx2,fma")]
    fn inner(places: &impl Positions, weights: &[Weights; PHASES], window: &Window, out: [&mut [f32]; 3]) {
        super::each(places, weights, window, out, |w, stride, across, down| kernel(w, stride, across, down));
    }

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    pub fn kernel(window: &[f32], stride: usize, across: &Weights, down: &Weights) -> [f32; 3] {
        // Every load below lies within this length.
        assert!(window.len() >= (TAPS - 1) * stride + LANES);
        let mut acc = [_mm256_setzero_ps(); 3];
        let (mut low, mut high) = (_mm256_set1_ps(f32::MAX), _mm256_set1_ps(f32::MIN));
        for (j, weight) in down.iter().enumerate().take(TAPS) {
            let w = _mm256_broadcast_ss(weight);
            let part = [0, 8, 16].map(|k| load(window, j * stride + k));
            for k in 0..3 {
                acc[k] = _mm256_fmadd_ps(w, part[k], acc[k]);
            }
            if (1..5).contains(&j) {
                // The second and the fifth pixel.
                let ends = _mm256_permute2f128_ps::<0x21>(part[0], part[2]);
                low = _mm256_min_ps(low, _mm256_min_ps(ends, part[1]));
                high = _mm256_max_ps(high, _mm256_max_ps(ends, part[1]));
            }
        }
        let across = load(across, 0);
        // Each weight four times: once for every lane of its pixel.
        let weight = |k: i32| {
            _mm256_permutevar8x32_ps(across, _mm256_setr_epi32(k, k, k, k, k + 1, k + 1, k + 1, k + 1))
        };
        let sum = _mm256_mul_ps(weight(0), acc[0]);
        let sum = _mm256_fmadd_ps(weight(2), acc[1], sum);
        let sum = _mm256_fmadd_ps(weight(4), acc[2], sum);
        let total = _mm_add_ps(_mm256_castps256_ps128(sum), _mm256_extractf128_ps::<1>(sum));
        let lo = _mm_min_ps(_mm256_castps256_ps128(low), _mm256_extractf128_ps::<1>(low));
        let hi = _mm_max_ps(_mm256_castps256_ps128(high), _mm256_extractf128_ps::<1>(high));
        let clamped = _mm_min_ps(_mm_max_ps(total, lo), hi);
        let mut out = [0.0f32; 4];
        // SAFETY: four values are written to an array of four; the store needs no alignment.
        unsafe { _mm_storeu_ps(out.as_mut_ptr(), clamped) };
        [out[0], out[1], out[2]]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;

    #[test]
    fn both_ways_give_the_same_bits() {
        let mut random = Random::new(1);
        for _ in 0..60 {
            let (width, height) = (40 + random.below(9), 20 + random.below(5));
            let data = (0..4 * width * height).map(|_| random.unit() as f32).collect();
            let window = Window { origin: (-2, 3), width, data };
            let weights: [Weights; PHASES] = std::array::from_fn(|_| {
                std::array::from_fn(|k| if k < TAPS { random.within(-0.3, 0.9) as f32 } else { 0.0 })
            });
            let to_frame = Homography::new([1.01, -0.02, 2.3, 0.03, 0.98, 1.7, 1e-4, 1e-4, 1.0]);
            let run = Run { to_frame: &to_frame, from: (2, random.below(9) as i64 + 5), weights: &weights };
            let (mut a, mut b) = ([[0.0f32; 30]; 3], [[0.0f32; 30]; 3]);
            run.sample(&window, a.each_mut().map(|p| &mut p[..]));
            each(&run, &weights, &window, b.each_mut().map(|p| &mut p[..]), plain);
            assert_eq!(a.map(|p| p.map(f32::to_bits)), b.map(|p| p.map(f32::to_bits)));
        }
    }
}
