//! The resampling kernels, in 256-bit vectors where the processor has them: one over 6×6 pixels at any place, and two
//! of six pixels along a row and down a column, which are the same kernel in two passes.
//!
//! Left to the compiler the loops took five times as long, hence this one module with `unsafe`: only the loads
//! are, and each is from an array whose length is checked first. Both ways add in the same order with fused
//! multiplications (IEEE 754) and give the same bits; a test holds them together.

use crate::geometry::Point;

/// Source pixels along a side of the kernel.
pub(super) const TAPS: usize = 6;
/// Values in a row of the kernel: four lanes a pixel.
const LANES: usize = 4 * TAPS;
/// How far beyond the nearest samples a peak between them may rise, of what the two stand out by.
const PEAK: f32 = 0.5;
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

/// Positions along a line of pixels: a quotient of two straight lines, as a plane transform gives it.
pub(super) struct Along {
    /// Numerator: its rise a pixel, its value at pixel 0.
    pub top: (f64, f64),
    /// Denominator, likewise.
    pub bottom: (f64, f64),
    /// The first pixel.
    pub first: i64,
}

/// The last rows that the first pass made, four lanes a pixel; older ones are overwritten, so that they stay in the
/// nearest cache. Each stands twice, so that as many as are held follow one another from any of them on.
pub(super) struct Ring<'a> {
    rows: &'a mut [f32],
    /// Values from row to row, and in a row.
    stride: usize,
    width: usize,
    held: usize,
    /// The frame's row that row 0 is, and how many rows there are in all.
    origin: i64,
    height: usize,
}

impl<'a> Ring<'a> {
    /// Room in `memory` for at least `reach` rows of `width` pixels at a time.
    pub fn new(memory: &'a mut Vec<f32>, width: usize, reach: usize, origin: i64, height: usize) -> Self {
        // Longer than the width, so that rows do not fall upon the same lines of the cache.
        let (stride, held) = (4 * (width + 20), reach.next_power_of_two());
        memory.resize(2 * stride * held, 0.0);
        Self { rows: &mut memory[..], stride, width: 4 * width, held, origin, height }
    }

    /// Puts row `k` in; `make` writes it.
    pub fn put(&mut self, k: usize, make: impl FnOnce(&mut [f32])) {
        let at = k % self.held * self.stride;
        make(&mut self.rows[at..][..self.width]);
        self.rows.copy_within(at..at + self.width, at + self.held * self.stride);
    }
}

/// Pixels whose positions are worked out together.
const CHUNK: usize = 16;

/// Added to a number, its mantissa ends in the whole number nearest to it, negative ones in two's complement.
const WHOLE: f64 = 1.5 * (1u64 << 52) as f64;

/// A position in whole pixels and the phase from there on.
#[inline(always)]
fn parts(position: f64) -> (i32, usize) {
    // Phases come from frame coordinates, so that they do not depend on how the picture is cut up.
    let q = (PHASES as f64 * position + WHOLE).to_bits() as u32;
    (q as i32 >> PHASES.trailing_zeros(), q as usize % PHASES)
}

impl Along {
    /// Where the kernel begins, in pixels from `origin`, and its phase, for a chunk of pixels from `skip` on.
    ///
    /// Places that lie beyond are brought to the end of `length` pixels: what comes of them is not used.
    #[inline(always)]
    fn starts(&self, skip: usize, origin: i64, length: usize) -> ([u32; CHUNK], [usize; CHUNK]) {
        let mut out = ([0; CHUNK], [0; CHUNK]);
        let (origin, last) = (origin as i32 + 2, (length - TAPS) as i32);
        for i in 0..CHUNK {
            let x = (self.first + skip as i64) as f64 + f64::from(i as u32);
            let at = (self.top.0 * x + self.top.1) / (self.bottom.0 * x + self.bottom.1);
            let (whole, phase) = parts(at);
            out.0[i] = whole.wrapping_sub(origin).clamp(0, last) as u32;
            out.1[i] = phase;
        }
        out
    }
}

/// Hands a loop to its vector form where the processor has it.
macro_rules! dispatch {
    ($($name:ident)::+ ( $($arg:expr),* ), $plain:expr) => {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma") {
            return $($name)::+($($arg),*);
        }
        $plain
    };
}

/// Samples the window at places given one by one.
pub(super) fn at_places(
    places: &[Point],
    weights: &[Weights; PHASES],
    window: &Window,
    out: [&mut [f32]; 3],
) {
    dispatch!(
        vector::at_places(places, weights, window, out),
        each_place(places, weights, window, out, plain)
    );
}

/// First pass: a row of a window becomes a row with a pixel for each of `along`; four lanes a pixel in both.
pub(super) fn across(row: &[f32], origin: i64, along: &Along, weights: &[Weights; PHASES], out: &mut [f32]) {
    dispatch!(
        vector::across(row, origin, along, weights, out),
        each_across(row, origin, along, weights, out, plain_row)
    );
}

/// Second pass: rows of the first become a row of output, whose first pixel stands in column `column` of theirs.
pub(super) fn down(
    rows: &Ring<'_>,
    column: usize,
    along: &Along,
    weights: &[Weights; PHASES],
    out: [&mut [f32]; 3],
) {
    dispatch!(
        vector::down(rows, column, along, weights, out),
        each_down(rows, column, along, weights, out, plain_column)
    );
}

#[inline(always)]
fn each_place(
    places: &[Point],
    weights: &[Weights; PHASES],
    window: &Window,
    out: [&mut [f32]; 3],
    kernel: impl Fn(&[f32], usize, &Weights, &Weights) -> [f32; 3],
) {
    let [red, green, blue] = out;
    let stride = 4 * window.width;
    let length = (TAPS - 1) * stride + LANES;
    // A bend may lead a place within a covered run a hair beyond the border that the window has.
    let start = |v: f64, from: i64, n: usize| {
        let (whole, phase) = parts(v.clamp((from + 2) as f64, (from + n as i64 - 4) as f64));
        ((i64::from(whole) - 2 - from) as usize, phase)
    };
    for (((r, g), b), p) in red.iter_mut().zip(green).zip(blue).zip(places) {
        let (column, u) = start(p.x, window.origin.0, window.width);
        let (row, v) = start(p.y, window.origin.1, window.data.len() / stride);
        let under = &window.data[row * stride + 4 * column..][..length];
        [*r, *g, *b] = kernel(under, stride, &weights[u], &weights[v]);
    }
}

#[inline(always)]
fn each_across(
    row: &[f32],
    origin: i64,
    along: &Along,
    weights: &[Weights; PHASES],
    out: &mut [f32],
    kernel: impl Fn(&[f32; LANES], &Weights) -> [f32; 4],
) {
    for (n, chunk) in out.chunks_mut(4 * CHUNK).enumerate() {
        let (at, phase) = along.starts(n * CHUNK, origin, row.len() / 4);
        for ((o, at), phase) in chunk.chunks_exact_mut(4).zip(at).zip(phase) {
            o.copy_from_slice(&kernel(run(row, 4 * at as usize), &weights[phase]));
        }
    }
}

#[inline(always)]
fn each_down(
    rows: &Ring<'_>,
    column: usize,
    along: &Along,
    weights: &[Weights; PHASES],
    out: [&mut [f32]; 3],
    kernel: impl Fn(&[f32], usize, &Weights) -> [f32; 4],
) {
    let [red, green, blue] = out;
    let (stride, last) = (rows.stride, rows.held - 1);
    let length = (TAPS - 1) * stride + 4;
    let chunks = red.chunks_mut(CHUNK).zip(green.chunks_mut(CHUNK)).zip(blue.chunks_mut(CHUNK));
    for (n, ((red, green), blue)) in chunks.enumerate() {
        let (at, phase) = along.starts(n * CHUNK, rows.origin, rows.height);
        for (i, ((r, g), b)) in red.iter_mut().zip(green).zip(blue).enumerate() {
            let x = 4 * (column + n * CHUNK + i);
            let under = &rows.rows[(at[i] as usize & last) * stride + x..][..length];
            [*r, *g, *b, _] = kernel(under, stride, &weights[phase[i]]);
        }
    }
}

/// The kernel's row of values from place `at` on.
#[inline(always)]
fn run(row: &[f32], at: usize) -> &[f32; LANES] {
    match row[at..].first_chunk() {
        Some(run) => run,
        None => &[0.0; LANES], // not reached: the caller hands over as much as the kernel takes
    }
}

/// Adds the six pixels of a row by their weights, in the order of the vector one.
fn weighted(row: &[f32; LANES], across: &Weights) -> [f32; 4] {
    let first = |k: usize| across[k / 4] * row[k];
    let part = |k: usize| {
        across[(16 + k) / 4].mul_add(row[16 + k], across[(8 + k) / 4].mul_add(row[8 + k], first(k)))
    };
    std::array::from_fn(|c| part(c) + part(c + 4))
}

/// A sum brought into the range of the middle four values, which goes on as far as the inner two stand out from the outer
/// two: a peak between samples stays, a step gets no rim.
fn limited(sum: f32, [a, b, c, d]: [f32; 4]) -> f32 {
    let (peak, dip) = ((b - a).min(c - d).max(0.0), (a - b).min(d - c).max(0.0));
    let (high, low) = (a.max(b).max(c.max(d)), a.min(b).min(c.min(d)));
    sum.max((-PEAK).mul_add(dip, low)).min(PEAK.mul_add(peak, high))
}

/// Weighted sum of six pixels of a row.
fn plain_row(row: &[f32; LANES], across: &Weights) -> [f32; 4] {
    let sum = weighted(row, across);
    std::array::from_fn(|c| limited(sum[c], [1, 2, 3, 4].map(|p| row[4 * p + c])))
}

/// The same down a column of rows `stride` values apart.
fn plain_column(rows: &[f32], stride: usize, down: &Weights) -> [f32; 4] {
    std::array::from_fn(|c| {
        let v: [f32; TAPS] = std::array::from_fn(|j| rows[j * stride + c]);
        let sum = (1..TAPS).fold(down[0] * v[0], |sum, j| down[j].mul_add(v[j], sum));
        limited(sum, [v[1], v[2], v[3], v[4]])
    })
}

/// Weighted sum of 6×6 pixels: down each column, then across.
///
/// `window` starts at the first row's first pixel; rows are `stride` values apart.
fn plain(window: &[f32], stride: usize, across: &Weights, down: &Weights) -> [f32; 3] {
    let mut row = [0.0; LANES];
    for (k, pixel) in row.chunks_exact_mut(4).enumerate() {
        pixel.copy_from_slice(&plain_column(&window[4 * k..], stride, down));
    }
    let [r, g, b, _] = plain_row(&row, across);
    [r, g, b]
}

#[cfg(target_arch = "x86_64")]
#[allow(unsafe_code)]
mod vector {
    use super::{Along, LANES, PEAK, PHASES, Point, Ring, TAPS, Weights, Window};
    use std::arch::x86_64::*;

    /// Eight values from place `at` on.
    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn load(values: &[f32], at: usize) -> __m256 {
        debug_assert!(at + 8 <= values.len());
        // SAFETY: the eight values lie inside the slice, see the assertions in the kernels; this load needs no alignment.
        unsafe { _mm256_loadu_ps(values.as_ptr().add(at)) }
    }

    /// Four values from place `at` on.
    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn load4(values: &[f32], at: usize) -> __m128 {
        debug_assert!(at + 4 <= values.len());
        // SAFETY: as above.
        unsafe { _mm_loadu_ps(values.as_ptr().add(at)) }
    }

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn stored(v: __m128) -> [f32; 4] {
        let mut out = [0.0f32; 4];
        // SAFETY: four values are written to an array of four; the store needs no alignment.
        unsafe { _mm_storeu_ps(out.as_mut_ptr(), v) };
        out
    }

    pub fn at_places(places: &[Point], weights: &[Weights; PHASES], window: &Window, out: [&mut [f32]; 3]) {
        #[target_feature(enable = "avx2,fma")]
        fn inner(places: &[Point], weights: &[Weights; PHASES], window: &Window, out: [&mut [f32]; 3]) {
            super::each_place(places, weights, window, out, |w, s, across, down| square(w, s, across, down));
        }
        // SAFETY: the caller has made sure that the processor has AVX2 and FMA.
        unsafe { inner(places, weights, window, out) }
    }

    pub fn across(row: &[f32], origin: i64, along: &Along, weights: &[Weights; PHASES], out: &mut [f32]) {
        #[target_feature(enable = "avx2,fma")]
        fn inner(row: &[f32], origin: i64, along: &Along, weights: &[Weights; PHASES], out: &mut [f32]) {
            super::each_across(row, origin, along, weights, out, |r, w| across_row(r, w));
        }
        // SAFETY: as above.
        unsafe { inner(row, origin, along, weights, out) }
    }

    pub fn down(
        rows: &Ring<'_>,
        column: usize,
        along: &Along,
        weights: &[Weights; PHASES],
        out: [&mut [f32]; 3],
    ) {
        #[target_feature(enable = "avx2,fma")]
        fn inner(
            rows: &Ring<'_>,
            column: usize,
            along: &Along,
            weights: &[Weights; PHASES],
            out: [&mut [f32]; 3],
        ) {
            super::each_down(rows, column, along, weights, out, |r, s, w| down_column(r, s, w));
        }
        // SAFETY: as above.
        unsafe { inner(rows, column, along, weights, out) }
    }

    /// Adds the pixels of a row, two a vector, by their weights.
    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn weighted(row: [__m256; 3], across: &Weights) -> __m128 {
        let across = load(across, 0);
        // Each weight four times: once for every lane of its pixel.
        let weight = |k: i32| {
            _mm256_permutevar8x32_ps(across, _mm256_setr_epi32(k, k, k, k, k + 1, k + 1, k + 1, k + 1))
        };
        let sum = _mm256_mul_ps(weight(0), row[0]);
        let sum = _mm256_fmadd_ps(weight(2), row[1], sum);
        let sum = _mm256_fmadd_ps(weight(4), row[2], sum);
        _mm_add_ps(_mm256_castps256_ps128(sum), _mm256_extractf128_ps::<1>(sum))
    }

    /// As in the other way.
    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn limited(sum: __m128, [a, b, c, d]: [__m128; 4]) -> __m128 {
        let (zero, share) = (_mm_setzero_ps(), _mm_set1_ps(PEAK));
        let peak = _mm_max_ps(_mm_min_ps(_mm_sub_ps(b, a), _mm_sub_ps(c, d)), zero);
        let dip = _mm_max_ps(_mm_min_ps(_mm_sub_ps(a, b), _mm_sub_ps(d, c)), zero);
        let high = _mm_fmadd_ps(share, peak, _mm_max_ps(_mm_max_ps(a, b), _mm_max_ps(c, d)));
        let low = _mm_fnmadd_ps(share, dip, _mm_min_ps(_mm_min_ps(a, b), _mm_min_ps(c, d)));
        _mm_min_ps(_mm_max_ps(sum, low), high)
    }

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn across_row(row: &[f32; LANES], across: &Weights) -> [f32; 4] {
        let sum = weighted([0, 8, 16].map(|k| load(row, k)), across);
        stored(limited(sum, [4, 8, 12, 16].map(|k| load4(row, k))))
    }

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn down_column(rows: &[f32], stride: usize, down: &Weights) -> [f32; 4] {
        // Every load below lies within this length.
        assert!(rows.len() >= (TAPS - 1) * stride + 4);
        let v: [__m128; TAPS] = std::array::from_fn(|j| load4(rows, j * stride));
        let w: [__m128; TAPS] = std::array::from_fn(|j| _mm_broadcast_ss(&down[j]));
        let sum = _mm_mul_ps(w[0], v[0]);
        let sum = (1..TAPS).fold(sum, |sum, j| _mm_fmadd_ps(w[j], v[j], sum));
        stored(limited(sum, [v[1], v[2], v[3], v[4]]))
    }

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn square(window: &[f32], stride: usize, across: &Weights, down: &Weights) -> [f32; 3] {
        let mut row = [0.0f32; LANES];
        for (k, pixel) in row.chunks_exact_mut(4).enumerate() {
            pixel.copy_from_slice(&down_column(&window[4 * k..], stride, down));
        }
        let [r, g, b, _] = across_row(&row, across);
        [r, g, b]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;

    fn bits<const N: usize>(v: [Vec<f32>; N]) -> [Vec<u32>; N] {
        v.map(|p| p.into_iter().map(f32::to_bits).collect())
    }

    #[test]
    fn both_ways_give_the_same_bits() {
        let mut random = Random::new(1);
        for _ in 0..60 {
            let (width, height) = (40 + random.below(9), 20 + random.below(5));
            let data: Vec<f32> = (0..4 * width * height).map(|_| random.unit() as f32).collect();
            let window = Window { origin: (-2, 3), width, data };
            let weights: [Weights; PHASES] = std::array::from_fn(|_| {
                std::array::from_fn(|k| if k < TAPS { random.within(-0.3, 0.9) as f32 } else { 0.0 })
            });
            let empty = || [vec![0.0f32; 30], vec![0.0f32; 30], vec![0.0f32; 30]];
            let places: Vec<Point> =
                (0..30).map(|i| Point::new(f64::from(i) * 1.01, random.within(4.0, 15.0))).collect();
            let (mut a, mut b) = (empty(), empty());
            at_places(&places, &weights, &window, a.each_mut().map(|p| &mut p[..]));
            each_place(&places, &weights, &window, b.each_mut().map(|p| &mut p[..]), plain);
            assert_eq!(bits(a), bits(b));

            let along = Along { top: (1.01, random.within(-9.0, 9.0)), bottom: (1e-4, 1.0), first: 4 };
            let (mut a, mut b) = ([vec![0.0; 120]], [vec![0.0; 120]]);
            let row = &window.data[..4 * width];
            across(row, -2, &along, &weights, &mut a[0]);
            each_across(row, -2, &along, &weights, &mut b[0], plain_row);
            assert_eq!(bits(a), bits(b));

            let along = Along { top: (0.02, random.within(5.0, 9.0)), bottom: (1e-4, 1.0), first: 4 };
            let (mut a, mut b, mut memory) = (empty(), empty(), Vec::new());
            let mut ring = Ring::new(&mut memory, 36, 8, 3, 16);
            (0..8).for_each(|k| ring.put(k, |row| row.copy_from_slice(&window.data[4 * k * width..][..144])));
            down(&ring, 2, &along, &weights, a.each_mut().map(|p| &mut p[..]));
            each_down(&ring, 2, &along, &weights, b.each_mut().map(|p| &mut p[..]), plain_column);
            assert_eq!(bits(a), bits(b));
        }
    }
}
