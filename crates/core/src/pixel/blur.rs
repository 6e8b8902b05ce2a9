//! Means over squares, in time that does not grow with their size.

/// Mean over a square of `reach` pixels each way; beyond the border lies nothing.
pub(crate) fn boxed(plane: &[f32], w: usize, h: usize, reach: usize) -> Vec<f32> {
    if plane.is_empty() {
        return Vec::new();
    }
    let side = (2 * reach + 1) as f64;
    // What enters ahead is added to a running sum, what leaves behind is taken from it.
    let mut across = vec![0.0f32; plane.len()];
    for (row, out) in plane.chunks_exact(w).zip(across.chunks_exact_mut(w)) {
        let mut sum: f64 = row[..reach.min(w)].iter().map(|v| f64::from(*v)).sum();
        for (x, o) in out.iter_mut().enumerate() {
            sum += row.get(x + reach).map_or(0.0, |v| f64::from(*v));
            *o = (sum / side) as f32;
            sum -= if x >= reach { f64::from(row[x - reach]) } else { 0.0 };
        }
    }
    let row = |y: usize| &across[y * w..][..w];
    let mut sums = vec![0.0f64; w];
    let mut out = vec![0.0f32; plane.len()];
    for y in 0..reach.min(h) {
        sums.iter_mut().zip(row(y)).for_each(|(s, v)| *s += f64::from(*v));
    }
    for (y, line) in out.chunks_exact_mut(w).enumerate() {
        if y + reach < h {
            sums.iter_mut().zip(row(y + reach)).for_each(|(s, v)| *s += f64::from(*v));
        }
        line.iter_mut().zip(&sums).for_each(|(o, s)| *o = (s / side) as f32);
        if y >= reach {
            sums.iter_mut().zip(row(y - reach)).for_each(|(s, v)| *s -= f64::from(*v));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_mean_is_that_of_its_square(w in 1usize..12, h in 1usize..12, reach in 0usize..15, seed: u64) {
            let mut random = crate::random::Random::new(seed);
            let plane: Vec<f32> = (0..w * h).map(|_| random.unit() as f32).collect();
            let found = boxed(&plane, w, h, reach);
            for (i, v) in found.iter().enumerate() {
                let (x, y) = (i % w, i / w);
                let within = |p: usize, q: usize| p.abs_diff(q) <= reach;
                let sum: f32 = (0..w * h).filter(|j| within(j % w, x) && within(j / w, y)).map(|j| plane[j]).sum();
                let side = (2 * reach + 1) as f32;
                prop_assert!((v - sum / (side * side)).abs() < 1e-5);
            }
        }
    }
}
