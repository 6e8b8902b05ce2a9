//! The resampling kernel over rows of samples, a plane a channel: six samples along a row, six down a column, or 6×6.
//!
//! Sixteen samples are made at a time. Their weights are polynomials of where they lie between two pixels, so nothing is
//! looked up, and neighbours nearly always read neighbours: those that do are made by the same loads, and where the place
//! skips a pixel or a row the others follow in a second turn. Every loop is over the sixteen, which the compiler turns
//! into vectors; multiplications are fused (IEEE 754), so every processor gives the same bits.

use crate::geometry::Point;
use multiversion::multiversion;
use std::f64::consts::PI;
use std::sync::LazyLock;

/// Source pixels along a side of the kernel.
pub(super) const TAPS: usize = 6;
/// Samples that are made at a time; planes have as many values to spare at both ends.
pub(super) const CHUNK: usize = 16;
/// How far beyond the nearest samples a peak between them may rise, of what the two stand out by.
const PEAK: f32 = 0.5;
/// Coefficients of the even and of the odd part of a weight.
const TERMS: usize = 4;

/// A value for each sample of a chunk.
pub(super) type Lanes = [f32; CHUNK];

/// Weights of the first three taps around the middle between two pixels, as an even part in the square of the distance from
/// there, and an odd part; the last three are their mirror image.
pub(super) struct Weights {
    even: [[f32; TERMS]; TAPS / 2],
    odd: [[f32; TERMS]; TAPS / 2],
}

/// Lanczos' kernel with three lobes, its weights brought to a sum of one.
pub(super) static LANCZOS: LazyLock<Weights> = LazyLock::new(|| {
    let part = |k: usize, sign: f64| {
        fitted(|t| {
            let (here, there) = (exact(t)[k], exact(-t)[k]);
            if sign > 0.0 { 0.5 * (here + there) } else { 0.5 * (here - there) / t }
        })
    };
    Weights { even: std::array::from_fn(|k| part(k, 1.0)), odd: std::array::from_fn(|k| part(k, -1.0)) }
});

/// The weights at a distance of −½ to ½ from the middle between two pixels.
fn exact(t: f64) -> [f64; TAPS] {
    let sinc = |x: f64| if x.abs() < 1e-9 { 1.0 } else { (x * PI).sin() / (x * PI) };
    let w: [f64; TAPS] = std::array::from_fn(|k| {
        let x = k as f64 - 2.5 - t;
        if x.abs() < 3.0 { sinc(x) * sinc(x / 3.0) } else { 0.0 }
    });
    let sum: f64 = w.iter().sum();
    w.map(|v| v / sum)
}

/// The polynomial in `t²`, lowest power first, that meets an even function of `t` at Chebyshev's places.
fn fitted(of: impl Fn(f64) -> f64) -> [f32; TERMS] {
    let at = |i: usize| 0.125 * (1.0 + (PI * (i as f64 + 0.5) / TERMS as f64).cos());
    // Newton's divided differences, multiplied out from the last.
    let mut d: [f64; TERMS] = std::array::from_fn(|i| of(at(i).sqrt()));
    for k in 1..TERMS {
        for i in (k..TERMS).rev() {
            d[i] = (d[i] - d[i - 1]) / (at(i) - at(i - k));
        }
    }
    let mut out = [0.0; TERMS];
    for k in (0..TERMS).rev() {
        for i in (1..TERMS).rev() {
            out[i] = out[i - 1] - at(k) * out[i];
        }
        out[0] = d[k] - at(k) * out[0];
    }
    out.map(|v| v as f32)
}

impl Weights {
    #[inline(always)]
    fn at(&self, t: &Lanes) -> [Lanes; TAPS] {
        let mut out = [[0.0; CHUNK]; TAPS];
        for i in 0..CHUNK {
            let square = t[i] * t[i];
            let by =
                |&[a, b, c, d]: &[f32; TERMS]| d.mul_add(square, c).mul_add(square, b).mul_add(square, a);
            // The even parts are half of the weights' sum, which is one.
            let (outer, next) = (by(&self.even[0]), by(&self.even[1]));
            let even = [outer, next, 0.5 - outer - next];
            for k in 0..TAPS / 2 {
                let odd = by(&self.odd[k]);
                out[k][i] = odd.mul_add(t[i], even[k]);
                out[TAPS - 1 - k][i] = odd.mul_add(-t[i], even[k]);
            }
        }
        out
    }
}

/// A piece of a frame in linear light, with a border of repeated pixels.
pub(super) struct Window {
    pub origin: (i64, i64),
    pub width: usize,
    pub height: usize,
    /// Planes of `height` rows, with a chunk to spare at both ends.
    pub planes: [Vec<f32>; 3],
}

/// Positions along a line of pixels: a quotient of two straight lines, as a plane transform gives it.
pub(super) struct Along {
    /// Numerator: its rise a pixel, its value at pixel 0.
    pub top: (f64, f64),
    /// Denominator, likewise.
    pub bottom: (f64, f64),
    /// The first pixel; a whole number of chunks from pixel 0, so that regions that overlap work out the same.
    pub first: i64,
}

/// Samples of a chunk, by channel.
pub(super) type Chunk = [Lanes; 3];

/// The last rows that the first pass made; older ones are overwritten, so that they stay in the nearest cache.
pub(super) struct Ring<'a> {
    rows: &'a mut [Chunk],
    /// Chunks from row to row.
    stride: usize,
    held: usize,
    /// The frame's row that row 0 is, and how many rows there are in all.
    origin: i64,
    height: usize,
}

impl<'a> Ring<'a> {
    /// Room in `memory` for at least `reach` rows of `width` pixels at a time.
    pub(super) fn new(
        memory: &'a mut Vec<Chunk>,
        width: usize,
        reach: usize,
        origin: i64,
        height: usize,
    ) -> Self {
        let (stride, held) = (width.div_ceil(CHUNK), reach.next_power_of_two());
        memory.resize(stride * held, [[0.0; CHUNK]; 3]);
        Self { rows: &mut memory[..], stride, held, origin, height }
    }

    /// Row `k`, to be written.
    pub(super) fn row(&mut self, k: usize) -> &mut [Chunk] {
        &mut self.rows[self.stride * (k % self.held)..][..self.stride]
    }
}

/// The whole pixel below a position, and how far from the middle between that and the next it lies, −½ to ½.
#[inline(always)]
fn parts(position: f64) -> (i32, f32) {
    /// Added to a number, its mantissa ends in the whole number nearest to it, negative ones in two's complement.
    const WHOLE: f64 = 1.5 * (1u64 << 52) as f64;
    let middle = position - 0.5;
    let whole = middle + WHOLE;
    (whole.to_bits() as i32, (middle - (whole - WHOLE)) as f32)
}

impl Along {
    /// Where the kernel begins, in pixels from `origin`, and where between two pixels each sample lies, from `skip` on.
    ///
    /// The quotient is worked out in the middle of the chunk and continued to both sides by the first terms of its Taylor series; the
    /// next is below a thousandth of a pixel while the denominator changes by less than a thousandth of itself from pixel to pixel.
    /// Places that lie beyond are brought to the end of `length` pixels: what comes of them is not used.
    #[inline(always)]
    fn starts(&self, skip: usize, origin: i64, length: usize) -> ([i32; CHUNK], Lanes) {
        const MIDDLE: f64 = 0.5 * (CHUNK - 1) as f64;
        let mut out = ([0; CHUNK], [0.0; CHUNK]);
        let (origin, last) = (origin as i32 + 2, (length - TAPS) as i32);
        let x = (self.first + skip as i64) as f64 + MIDDLE;
        let over = 1.0 / self.bottom.0.mul_add(x, self.bottom.1);
        let at = self.top.0.mul_add(x, self.top.1) * over;
        let rise = at.mul_add(-self.bottom.0, self.top.0) * over;
        let bend = -rise * self.bottom.0 * over;
        for i in 0..CHUNK {
            let x = f64::from(i as u32) - MIDDLE;
            let (whole, t) = parts(bend.mul_add(x, rise).mul_add(x, at));
            out.0[i] = whole.wrapping_sub(origin).clamp(0, last);
            out.1[i] = t;
        }
        out
    }
}

/// All bits set for each sample that is meant.
type Mask = [u32; CHUNK];

/// Whether all samples of a chunk begin at the same place.
#[inline(always)]
fn together(at: &[i32; CHUNK]) -> bool {
    at.iter().fold(0, |differ, a| differ | (a ^ at[0])) == 0
}

/// Makes the samples of a chunk that begin at the first place, then those at the next, and so on to the last. `make` gets the place
/// and the samples that begin there; it may be called for places that have none.
#[inline(always)]
fn by_place(at: &[i32; CHUNK], next: impl Fn(i32) -> i32, mut make: impl FnMut(i32, &Mask)) {
    let (mut place, last) = at.iter().fold((i32::MAX, i32::MIN), |(l, h), &a| (l.min(a), h.max(a)));
    loop {
        make(place, &at.map(|a| if a == place { u32::MAX } else { 0 }));
        if place == last {
            break;
        }
        place = next(place);
    }
}

/// Along a line hardly any place is left out.
#[inline(always)]
fn following(place: i32) -> i32 {
    place + 1
}

/// Each sample's six values by its weights. The sum is brought into the range of the middle four, which goes on as far as the
/// inner two stand out from the outer two: a peak between samples stays, a step gets no rim.
#[inline(always)]
fn weighted(v: [&Lanes; TAPS], w: &[Lanes; TAPS]) -> Lanes {
    // Not those of the standard library, which look for what is not a number.
    let max = |a: f32, b: f32| if a > b { a } else { b };
    let min = |a: f32, b: f32| if a < b { a } else { b };
    let mut out = [0.0; CHUNK];
    for i in 0..CHUNK {
        let sum = (1..TAPS).fold(w[0][i] * v[0][i], |sum, k| w[k][i].mul_add(v[k][i], sum));
        let [a, b, c, d] = [v[1][i], v[2][i], v[3][i], v[4][i]];
        let (rise, fall) = (b - a, c - d);
        let (peak, dip) = (max(min(rise, fall), 0.0), min(max(rise, fall), 0.0));
        let (high, low) = (max(max(a, b), max(c, d)), min(min(a, b), min(c, d)));
        out[i] = min(max(sum, PEAK.mul_add(dip, low)), PEAK.mul_add(peak, high));
    }
    out
}

#[inline(always)]
fn keep(out: &mut Lanes, made: &Lanes, which: &Mask) {
    for i in 0..CHUNK {
        out[i] = f32::from_bits((made[i].to_bits() & which[i]) | (out[i].to_bits() & !which[i]));
    }
}

/// The chunks that begin at each of the first six of some values.
#[inline(always)]
fn steps(values: &[f32]) -> [&Lanes; TAPS] {
    let values: &[f32; CHUNK + TAPS - 1] = values.first_chunk().unwrap_or(&[0.0; CHUNK + TAPS - 1]);
    std::array::from_fn(|k| values[k..].first_chunk().unwrap_or(&[0.0; CHUNK]))
}

/// First pass: the planes of a row, with a chunk to spare at both ends, become chunks with a sample for each of `along`.
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512dq+avx512vl+avx2+fma", "x86_64+avx2+fma"))]
pub(super) fn across(row: [&[f32]; 3], origin: i64, along: &Along, kernel: &Weights, out: &mut [Chunk]) {
    let length = row[0].len() - 2 * CHUNK;
    for (n, made) in out.iter_mut().enumerate() {
        let (mut at, t) = along.starts(n * CHUNK, origin, length);
        // Where a chunk of loads begins that has this sample in its place.
        at.iter_mut().enumerate().for_each(|(i, a)| *a += (CHUNK - i) as i32);
        let weights = kernel.at(&t);
        if together(&at) {
            for (made, plane) in made.iter_mut().zip(row) {
                *made = weighted(steps(&plane[at[0] as usize..]), &weights);
            }
            continue;
        }
        by_place(&at, following, |at, same| {
            for (made, plane) in made.iter_mut().zip(row) {
                keep(made, &weighted(steps(&plane[at as usize..]), &weights), same);
            }
        });
    }
}

/// Second pass: rows of the first become a row of output, whose first pixel stands in column `column` of theirs.
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512dq+avx512vl+avx2+fma", "x86_64+avx2+fma"))]
pub(super) fn down(rows: &Ring<'_>, column: usize, along: &Along, kernel: &Weights, out: [&mut [f32]; 3]) {
    let end = column + out[0].len();
    for n in column / CHUNK..end.div_ceil(CHUNK) {
        let (at, t) = along.starts(n * CHUNK, rows.origin, rows.height);
        let weights = kernel.at(&t);
        let mut made = [[0.0; CHUNK]; 3];
        let taps = |at: i32| -> [&Chunk; TAPS] {
            std::array::from_fn(|k| &rows.rows[rows.stride * ((at as usize + k) & (rows.held - 1)) + n])
        };
        if together(&at) {
            let taps = taps(at[0]);
            for (c, made) in made.iter_mut().enumerate() {
                *made = weighted(taps.map(|r| &r[c]), &weights);
            }
        } else {
            by_place(&at, following, |at, same| {
                let taps = taps(at);
                for (c, made) in made.iter_mut().enumerate() {
                    keep(made, &weighted(taps.map(|r| &r[c]), &weights), same);
                }
            });
        }
        let (from, to) = ((n * CHUNK).max(column), (n * CHUNK + CHUNK).min(end));
        for c in 0..3 {
            let out = &mut out[c][from - column..to - column];
            match out.first_chunk_mut() {
                Some(whole) => *whole = made[c],
                None => out.copy_from_slice(&made[c][from - n * CHUNK..to - n * CHUNK]),
            }
        }
    }
}

/// Samples the window at places given one by one: down each of six columns, then across.
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512dq+avx512vl+avx2+fma", "x86_64+avx2+fma"))]
pub(super) fn at_places(places: &[Point], kernel: &Weights, window: &Window, out: [&mut [f32]; 3]) {
    // A bend may lead a place within a covered run a hair beyond the border that the window has.
    let start = |v: f64, from: i64, n: usize| {
        let (whole, t) = parts(v.clamp((from + 2) as f64, (from + n as i64 - 4) as f64));
        (whole - 2 - from as i32, t)
    };
    for (n, places) in places.chunks(CHUNK).enumerate() {
        let (mut at, mut u, mut v) = ([0; CHUNK], [0.0; CHUNK], [0.0; CHUNK]);
        for i in 0..CHUNK {
            let p = places[i.min(places.len() - 1)];
            let (column, s) = start(p.x, window.origin.0, window.width);
            let (row, t) = start(p.y, window.origin.1, window.height);
            (u[i], v[i]) = (s, t);
            at[i] = row * window.width as i32 + column + (CHUNK - i) as i32;
        }
        let (across, down) = (kernel.at(&u), kernel.at(&v));
        let mut made = [[0.0; CHUNK]; 3];
        let next = |place| at.iter().fold(i32::MAX, |m, &a| if a > place { m.min(a) } else { m });
        by_place(&at, next, |at, same| {
            for (made, plane) in made.iter_mut().zip(&window.planes) {
                let rows: [[&Lanes; TAPS]; TAPS] =
                    std::array::from_fn(|k| steps(&plane[at as usize + k * window.width..]));
                let columns: [Lanes; TAPS] = std::array::from_fn(|x| weighted(rows.map(|r| r[x]), &down));
                keep(made, &weighted(columns.each_ref(), &across), same);
            }
        });
        for c in 0..3 {
            out[c][n * CHUNK..][..places.len()].copy_from_slice(&made[c][..places.len()]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;

    /// One sample of six values, by the kernel itself.
    fn plain(v: [f64; TAPS], t: f64) -> f64 {
        let w = exact(t);
        let sum: f64 = v.iter().zip(w).map(|(v, w)| v * w).sum();
        let [a, b, c, d] = [v[1], v[2], v[3], v[4]];
        let (peak, dip) = ((b - a).min(c - d).max(0.0), (a - b).min(d - c).max(0.0));
        let (high, low) = (a.max(b).max(c.max(d)), a.min(b).min(c.min(d)));
        sum.max(low - f64::from(PEAK) * dip).min(high + f64::from(PEAK) * peak)
    }

    /// Six values around a position, and how far from the middle between two it lies.
    fn around(position: f64, value: impl Fn(i64) -> f64) -> f64 {
        let whole = position.floor();
        plain(std::array::from_fn(|k| value(whole as i64 + k as i64 - 2)), position - whole - 0.5)
    }

    #[test]
    fn weights_are_those_of_the_kernel() {
        for i in 0..=1000 {
            let t = f64::from(i) / 1000.0 - 0.5;
            let found = LANCZOS.at(&[t as f32; CHUNK]);
            for (found, wanted) in found.iter().zip(exact(t)) {
                // Less than half a code of sixteen bits.
                assert!((f64::from(found[7]) - wanted).abs() < 6e-6, "{t}: {} for {wanted}", found[7]);
            }
        }
    }

    #[test]
    fn samples_are_those_of_the_kernel_wherever_they_lie() {
        let mut random = Random::new(1);
        for turn in 0..60 {
            let (width, height) = (60 + random.below(9), 40 + random.below(5));
            let mut plane =
                || -> Vec<f32> { (0..width * height + 2 * CHUNK).map(|_| random.unit() as f32).collect() };
            let window = Window { origin: (-2, 3), width, height, planes: [plane(), plane(), plane()] };
            let value = |c: usize, x: i64, y: i64| {
                f64::from(window.planes[c][CHUNK + (y - 3) as usize * width + (x + 2) as usize])
            };
            let near = |found: f32, wanted: f64| {
                assert!((f64::from(found) - wanted).abs() < 1.2e-5, "{found} for {wanted}");
            };

            let at = |i: usize| {
                let i = i as f64;
                Point::new(1.0 + i * random_step(turn), 8.0 + i * 0.4)
            };
            let places: Vec<Point> = (0..30).map(at).collect();
            let mut out = [vec![0.0; 30], vec![0.0; 30], vec![0.0; 30]];
            at_places(&places, &LANCZOS, &window, out.each_mut().map(|p| &mut p[..]));
            for (i, p) in places.iter().enumerate() {
                near(out[1][i], around(p.x, |x| around(p.y, |y| value(1, x, y))));
            }

            // In the second, steps are longer than a pixel first and shorter then: a place comes before and after another.
            for top in [(1.07, -0.3), (1.0024, -0.0112)] {
                let along = Along { top, bottom: (4e-5, 1.0), first: 4 };
                let row = &window.planes[2][..width + 2 * CHUNK];
                let mut made = [[[0.0; CHUNK]; 3]; 2];
                across([row; 3], -2, &along, &LANCZOS, &mut made);
                for i in 0..32usize {
                    let x = (4 + i) as f64;
                    let at = (top.0 * x + top.1) / (4e-5 * x + 1.0);
                    near(made[i / CHUNK][0][i % CHUNK], around(at, |x| value(2, x, 3)));
                }
            }

            let along = Along { top: (0.02, 8.0), bottom: (4e-5, 1.0), first: 4 };
            let mut memory = Vec::new();
            let mut ring = Ring::new(&mut memory, 40, 10, 3, 40);
            for k in 0..14 {
                let row = &window.planes[0][CHUNK + k * width..];
                for (n, chunk) in ring.row(k).iter_mut().enumerate() {
                    *chunk = [row[CHUNK * n..][..CHUNK].try_into().unwrap(); 3];
                }
            }
            let mut out = [vec![0.0; 30], vec![0.0; 30], vec![0.0; 30]];
            down(&ring, 5, &along, &LANCZOS, out.each_mut().map(|p| &mut p[..]));
            for (i, found) in out[0].iter().enumerate() {
                let x = (4 + 5 + i) as f64;
                let at = (0.02 * x + 8.0) / (4e-5 * x + 1.0);
                near(*found, around(at, |y| value(0, 5 + i as i64 - 2, y)));
            }
        }
    }

    /// From pixel to pixel: as long, shorter and longer steps.
    fn random_step(turn: usize) -> f64 {
        [1.0, 0.93, 1.31][turn % 3]
    }
}
