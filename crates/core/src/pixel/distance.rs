//! How far each pixel is from the nearest of some.
//!
//! ```
//! use evanu_core::pixel::distance::{distances, distances_within};
//!
//! // Two rows of three pixels, one of which is set.
//! let set = [true, false, false, false, false, false];
//! assert_eq!(distances(&set, 3), [0.0, 1.0, 2.0, 1.0, 2.0f32.sqrt(), 5.0f32.sqrt()]);
//! assert_eq!(distances_within(&set, 3, 1), [0.0, 1.0, f32::INFINITY, 1.0, f32::INFINITY, f32::INFINITY]);
//! ```

use rayon::prelude::*;

/// Distances in pixels to the nearest pixel that is set, exact (Felzenszwalb and Huttenlocher 2012); without end where none is.
///
/// `set` holds rows of `width` pixels. Cost: some operations a pixel, on all cores.
pub fn distances(set: &[bool], width: usize) -> Vec<f32> {
    let height = set.len().checked_div(width).unwrap_or(0);
    if height == 0 {
        return vec![f32::INFINITY; set.len()];
    }
    // Squared, along the rows only.
    let mut along = vec![0.0; set.len()];
    along.par_chunks_mut(width).zip(set.par_chunks(width)).for_each(|(along, set)| along_row(set, along));
    // The picture lies on its side, so that each task has a column to itself.
    let mut columns = vec![0.0; set.len()];
    columns.par_chunks_mut(height).enumerate().for_each_init(
        || (vec![0.0; height], Envelope::default()),
        |(line, envelope), (x, column)| {
            line.iter_mut().zip(along[x..].iter().step_by(width)).for_each(|(l, v)| *l = *v);
            envelope.of(line, column);
        },
    );
    along.par_chunks_mut(width).enumerate().for_each(|(y, out)| {
        out.iter_mut().zip(columns[y..].iter().step_by(height)).for_each(|(o, v)| *o = v.sqrt());
    });
    along
}

/// The same up to `reach` pixels, and without end beyond: much quicker where that is little.
///
/// Cost: `reach` operations a pixel, on all cores.
pub fn distances_within(set: &[bool], width: usize, reach: usize) -> Vec<f32> {
    let height = set.len().checked_div(width).unwrap_or(0);
    if height == 0 {
        return vec![f32::INFINITY; set.len()];
    }
    let mut along = vec![0.0; set.len()];
    along.par_chunks_mut(width).zip(set.par_chunks(width)).for_each(|(along, set)| along_row(set, along));
    let mut out = vec![f32::INFINITY; set.len()];
    out.par_chunks_mut(width).enumerate().for_each(|(y, out)| {
        for from in y.saturating_sub(reach)..(y + reach + 1).min(height) {
            let off = y.abs_diff(from) as f32;
            vector::lower(out, &along[from * width..][..width], off * off);
        }
        vector::roots(out, (reach * reach) as f32);
    });
    out
}

/// Squared distances along a row to the nearest pixel that is set.
fn along_row(set: &[bool], along: &mut [f32]) {
    let mut far = f32::INFINITY;
    for (a, s) in along.iter_mut().zip(set) {
        far = if *s { 0.0 } else { far + 1.0 };
        *a = far;
    }
    far = f32::INFINITY;
    for a in along.iter_mut().rev() {
        far = a.min(far + 1.0);
        *a = far * far;
    }
}

/// Loops that are compiled for wide vectors.
mod vector {
    use multiversion::multiversion;

    /// Lowers each value to another one and `more`.
    #[multiversion(targets("x86_64+avx2"))]
    pub fn lower(values: &mut [f32], others: &[f32], more: f32) {
        for (v, o) in values.iter_mut().zip(others) {
            let other = *o + more;
            *v = if other < *v { other } else { *v };
        }
    }

    /// Roots of values up to a limit; without end beyond.
    #[multiversion(targets("x86_64+avx2"))]
    pub fn roots(values: &mut [f32], limit: f32) {
        for v in values {
            *v = if *v <= limit { v.sqrt() } else { f32::INFINITY };
        }
    }
}

/// The lowest of parabolas that stand on each place of a line.
#[derive(Default)]
struct Envelope {
    /// Places whose parabolas are lowest somewhere, and where each begins to be.
    feet: Vec<(usize, f32)>,
}

impl Envelope {
    fn of(&mut self, line: &[f32], out: &mut [f32]) {
        self.feet.clear();
        for (x, &height) in line.iter().enumerate().filter(|(_, v)| v.is_finite()) {
            let own = height + (x * x) as f32;
            let mut from = f32::NEG_INFINITY;
            while let Some(&(foot, begin)) = self.feet.last() {
                from = (own - line[foot] - (foot * foot) as f32) / (2 * (x - foot)) as f32;
                if from > begin {
                    break;
                }
                self.feet.pop();
                from = f32::NEG_INFINITY;
            }
            self.feet.push((x, from));
        }
        let mut k = 0;
        for (x, o) in out.iter_mut().enumerate() {
            while self.feet.get(k + 1).is_some_and(|f| f.1 <= x as f32) {
                k += 1;
            }
            *o = self.feet.get(k).map_or(f32::INFINITY, |&(foot, _)| {
                let off = x as f32 - foot as f32;
                off * off + line[foot]
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn each_is_that_to_the_nearest(w in 1usize..14, h in 1usize..14, places in prop::collection::vec(0usize..196, 0..6)) {
            let mut set = vec![false; w * h];
            places.iter().for_each(|p| set[p % (w * h)] = true);
            for (i, d) in distances(&set, w).into_iter().enumerate() {
                let to = |j: usize| ((i % w) as f32 - (j % w) as f32).hypot((i / w) as f32 - (j / w) as f32);
                let nearest = (0..w * h).filter(|&j| set[j]).map(to).fold(f32::INFINITY, f32::min);
                prop_assert!(d == nearest || (d - nearest).abs() < 1e-3);
            }
        }

        #[test]
        fn up_to_a_reach_they_are_the_same(w in 1usize..20, h in 1usize..20, reach in 0usize..12, places in prop::collection::vec(0usize..400, 0..6)) {
            let mut set = vec![false; w * h];
            places.iter().for_each(|p| set[p % (w * h)] = true);
            for (near, far) in distances_within(&set, w, reach).into_iter().zip(distances(&set, w)) {
                prop_assert_eq!(near, if far <= reach as f32 { far } else { f32::INFINITY });
            }
        }
    }
}
