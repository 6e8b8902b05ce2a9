//! One pyramid step: the mean of 2×2 pixels in linear light. Cost: one table look-up a sample.

use super::Samples;
use super::tone::{CODE_OF_ROOT, LINEAR_OF_U8, LINEAR_OF_U16, linear_of_root, root};
use crate::geometry::Size;
use rayon::prelude::*;
use std::sync::LazyLock;

/// Linear light of an 8-bit code in 1/16383, so that four add up in 16 bits.
static SMALL_OF_U8: LazyLock<[u16; 256]> =
    LazyLock::new(|| std::array::from_fn(|i| (LINEAR_OF_U8[i] * 16383.0).round() as u16));

/// 8-bit code of a sum of four such values.
static U8_OF_SUM: LazyLock<Box<[u8; 65536]>> = LazyLock::new(|| {
    let code = |s: usize| super::tone::to_code((s as f64 / (4.0 * 16383.0)).min(1.0));
    Box::new(std::array::from_fn(|s| (code(s) * 255.0).round() as u8))
});

/// The next level: half the size, rounded up; an odd last row or column is averaged with itself.
pub fn halve(size: Size, samples: &Samples) -> Samples {
    match samples {
        Samples::Eight(d) => {
            let (small, code) = (&*SMALL_OF_U8, &**U8_OF_SUM);
            Samples::Eight(halve_with(size, d, |q| {
                // Four times 16383 stay below 65536: the sum cannot overflow, and needs no look at the table's end.
                let sum = q.iter().fold(0u16, |sum, &v| sum.wrapping_add(small[usize::from(v)]));
                code[usize::from(sum)]
            }))
        }
        Samples::Sixteen(d) => {
            let (linear, code) = (&*LINEAR_OF_U16, &*CODE_OF_ROOT);
            Samples::Sixteen(halve_with(size, d, |q| {
                let mean = q.iter().map(|&v| linear[usize::from(v)]).sum::<f32>() / 4.0;
                code[usize::from(root(mean))]
            }))
        }
        Samples::Wide(d) => Samples::Wide(halve_with(size, d, |q| {
            root(q.iter().map(|&v| linear_of_root(v)).sum::<f32>() / 4.0)
        })),
    }
}

fn halve_with<T: Copy + Default + Send + Sync>(
    size: Size,
    data: &[T],
    mean: impl Fn([T; 4]) -> T + Sync,
) -> Vec<T> {
    let (w, h) = (size.width as usize, size.height as usize);
    let half = size.at_level(1);
    let (hw, hh) = (half.width as usize, half.height as usize);
    /// Rows that are worth another thread.
    const ROWS: usize = 64;
    let mut out = vec![T::default(); 3 * hw * hh];
    let rows = out.par_chunks_exact_mut(3 * hw).with_min_len(ROWS).enumerate();
    rows.for_each(|(y, row)| {
        let top = &data[3 * w * (2 * y)..][..3 * w];
        let low = &data[3 * w * (2 * y + 1).min(h - 1)..][..3 * w];
        let whole = row.chunks_exact_mut(3).zip(top.chunks_exact(6)).zip(low.chunks_exact(6));
        for ((o, t), l) in whole {
            for c in 0..3 {
                o[c] = mean([t[c], t[c + 3], l[c], l[c + 3]]);
            }
        }
        if w % 2 == 1 {
            let last = 3 * (w - 1);
            for c in 0..3 {
                row[3 * (hw - 1) + c] = mean([top[last + c], top[last + c], low[last + c], low[last + c]]);
            }
        }
    });
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_flat_picture_stays_flat(w in 1u32..9, h in 1u32..9, v in any::<u8>(), u in any::<u16>()) {
            let n = (3 * w * h) as usize;
            let size = Size::new(w, h);
            let Samples::Eight(e) = halve(size, &Samples::Eight(vec![v; n])) else { panic!() };
            prop_assert!(e.iter().all(|&x| x == v));
            prop_assert_eq!(e.len() as u64, 3 * size.at_level(1).pixels());
            let Samples::Sixteen(s) = halve(size, &Samples::Sixteen(vec![u; n])) else { panic!() };
            prop_assert!(s.iter().all(|&x| x.abs_diff(u) <= 2));
            let Samples::Wide(s) = halve(size, &Samples::Wide(vec![u; n])) else { panic!() };
            prop_assert!(s.iter().all(|&x| x.abs_diff(u) <= 1));
        }
    }

    #[test]
    fn the_mean_is_of_light_not_of_codes() {
        let Samples::Eight(d) = halve(Size::new(2, 1), &Samples::Eight(vec![0, 0, 0, 255, 255, 255])) else {
            panic!()
        };
        assert_eq!(d, [188; 3]);
    }
}
