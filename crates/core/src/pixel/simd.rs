//! The resampling kernel for one pixel, in 256-bit vectors where the processor has them.
//!
//! Left to the compiler the same loop took five times as long, hence this one module with `unsafe`: only the loads
//! are, and each is from an array whose length is checked first. Both ways add in the same order and give the same
//! bits; a test holds them together.

/// Source pixels along a side of the kernel.
pub(super) const TAPS: usize = 6;
/// Values in a row of the kernel: four lanes a pixel.
pub(super) const LANES: usize = 4 * TAPS;

/// Weighted sum of 6×6 pixels, clamped to the range of the middle 4×4.
///
/// `window` starts at the first row's first pixel, rows are `stride` values apart. `across` holds each column's
/// weight for four lanes, `down` each row's weight at every fourth place.
#[inline]
pub(super) fn kernel(window: &[f32], stride: usize, across: &[f32; LANES], down: &[f32; LANES]) -> [f32; 3] {
    #[cfg(target_arch = "x86_64")]
    if std::arch::is_x86_feature_detected!("avx") {
        return vector::kernel(window, stride, across, down);
    }
    plain(window, stride, across, down)
}

fn row(window: &[f32], stride: usize, j: usize) -> &[f32; LANES] {
    match window[j * stride..].first_chunk() {
        Some(row) => row,
        None => &[0.0; LANES], // not reached: windows hold a border of a kernel's reach
    }
}

/// The kernel in plain arithmetic, in the order of the vector one.
fn plain(window: &[f32], stride: usize, across: &[f32; LANES], down: &[f32; LANES]) -> [f32; 3] {
    let mut acc = [0.0f32; LANES];
    let (mut low, mut high) = ([f32::MAX; 16], [f32::MIN; 16]);
    for j in 0..TAPS {
        let row = row(window, stride, j);
        for k in 0..LANES {
            acc[k] += down[4 * j] * row[k];
        }
        if (1..5).contains(&j) {
            for k in 0..16 {
                low[k] = low[k].min(row[k + 4]);
                high[k] = high[k].max(row[k + 4]);
            }
        }
    }
    let part = |k: usize| (across[k] * acc[k] + across[8 + k] * acc[8 + k]) + across[16 + k] * acc[16 + k];
    std::array::from_fn(|c| {
        let lo = (0..4).map(|i| low[4 * i + c]).fold(f32::MAX, f32::min);
        let hi = (0..4).map(|i| high[4 * i + c]).fold(f32::MIN, f32::max);
        (part(c) + part(c + 4)).max(lo).min(hi)
    })
}

#[cfg(target_arch = "x86_64")]
#[allow(unsafe_code)]
mod vector {
    use super::{LANES, TAPS, row};
    use std::arch::x86_64::*;

    /// Eight values of a row from place `AT` on.
    #[inline(always)]
    fn load<const AT: usize>(row: &[f32; LANES]) -> __m256 {
        const { assert!(AT + 8 <= LANES) };
        // SAFETY: the eight values lie inside the array, and this load needs no alignment. It is only called from
        // `inner`, which runs when the processor has AVX.
        unsafe { _mm256_loadu_ps(row.as_ptr().add(AT)) }
    }

    pub fn kernel(window: &[f32], stride: usize, across: &[f32; LANES], down: &[f32; LANES]) -> [f32; 3] {
        // SAFETY: the caller has made sure that the processor has AVX.
        unsafe { inner(window, stride, across, down) }
    }

    #[target_feature(enable = "avx")]
    fn inner(window: &[f32], stride: usize, across: &[f32; LANES], down: &[f32; LANES]) -> [f32; 3] {
        let mut acc = [_mm256_setzero_ps(); 3];
        let (mut low, mut high) = (_mm256_set1_ps(f32::MAX), _mm256_set1_ps(f32::MIN));
        for j in 0..TAPS {
            let row = row(window, stride, j);
            let w = _mm256_set1_ps(down[4 * j]);
            acc[0] = _mm256_add_ps(acc[0], _mm256_mul_ps(w, load::<0>(row)));
            acc[1] = _mm256_add_ps(acc[1], _mm256_mul_ps(w, load::<8>(row)));
            acc[2] = _mm256_add_ps(acc[2], _mm256_mul_ps(w, load::<16>(row)));
            if (1..5).contains(&j) {
                let (near, far) = (load::<4>(row), load::<12>(row));
                low = _mm256_min_ps(low, _mm256_min_ps(near, far));
                high = _mm256_max_ps(high, _mm256_max_ps(near, far));
            }
        }
        let parts = [
            _mm256_mul_ps(load::<0>(across), acc[0]),
            _mm256_mul_ps(load::<8>(across), acc[1]),
            _mm256_mul_ps(load::<16>(across), acc[2]),
        ];
        let sum = _mm256_add_ps(_mm256_add_ps(parts[0], parts[1]), parts[2]);
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
        for _ in 0..500 {
            let stride = 4 * (6 + random.below(5));
            let window: Vec<f32> = (0..6 * stride).map(|_| random.unit() as f32).collect();
            let weights = |random: &mut Random| {
                let w: [f32; 6] = std::array::from_fn(|_| random.within(-0.3, 0.9) as f32);
                std::array::from_fn::<f32, LANES, _>(|i| w[i / 4])
            };
            let (across, down) = (weights(&mut random), weights(&mut random));
            let (a, b) = (kernel(&window, stride, &across, &down), plain(&window, stride, &across, &down));
            assert_eq!(a.map(f32::to_bits), b.map(f32::to_bits));
        }
    }
}
