//! What was changed in a still that came back from somebody else's hands: all else of it is let go.
//!
//! Files lose a little on the way, and a whole picture may have become a touch brighter: that is taken off first, by medians, and sets how
//! much counts. A change is where something surely differs, and all that differs and hangs together with it (hysteresis, Canny 1986),
//! with what it encloses. Cost: some tens of operations a pixel.

use crate::geometry::Size;
use crate::pixel::blur::boxed;
use crate::pixel::distance::distances_within;
use crate::pixel::flood::parts;

/// Deviations from which on something differs, and surely does.
const DIFFERS: (f32, f32) = (4.0, 9.0);
/// The least deviation of what a file loses, in shares of white.
const LOSS: f32 = 0.0016;
/// Fewer pixels are chance.
const SPECK: usize = 10;
/// Pixels between parts of one change, and across gaps in it.
const APART: usize = 2;
const MORE: usize = 2;

/// For each pixel whether it was changed; both pictures red, green and blue by rows, 0..=1.
///
/// ```
/// use evanu_core::clip::changed;
/// use evanu_core::geometry::Size;
///
/// let size = Size::new(60, 40);
/// let own: Vec<f32> = (0..3 * 2400).map(|p| 0.4 + 0.2 * ((p as f32) / 50.0).sin()).collect();
/// let mut back = own.clone();
/// for y in 10..20 {
///     for x in 30..40 {
///         back[3 * (y * 60 + x)] += 0.2;
///     }
/// }
/// let found = changed(&own, &back, size);
/// assert!(found[15 * 60 + 35] && !found[15 * 60 + 10]);
/// ```
pub fn changed(own: &[f32], back: &[f32], size: Size) -> Vec<bool> {
    let (w, h) = (size.width as usize, size.height as usize);
    let (mut strength, mut single) = (vec![0.0f32; w * h], vec![0.0f32; w * h]);
    let share = boxed(&vec![1.0; w * h], w, h, 1);
    for c in 0..3 {
        let off: Vec<f32> = (0..w * h).map(|p| back[3 * p + c] - own[3 * p + c]).collect();
        let some: Vec<f32> = off.iter().copied().step_by((w * h).div_ceil(40_000).max(1)).collect();
        let middle = median(some.clone());
        let near = boxed(&off, w, h, 1);
        let spread = median(some.iter().map(|v| (v - middle).abs()).collect());
        // Of a mean over nine samples, a third; but what codecs lose comes in blocks.
        let sigma = (1.48 * spread * 0.6).max(LOSS);
        let own_sigma = (1.48 * spread).max(LOSS);
        for p in 0..w * h {
            strength[p] = strength[p].max((near[p] / share[p] - middle).abs() / sigma);
            single[p] = single[p].max((off[p] - middle).abs() / own_sigma);
        }
    }
    let mut open: Vec<bool> = strength.iter().map(|s| *s > DIFFERS.0).collect();
    let mut found = vec![false; w * h];
    for part in parts(&mut open, w, 0..w * h, APART) {
        if part.len() >= SPECK && part.iter().any(|&p| strength[p] > DIFFERS.1) {
            part.iter().for_each(|&p| found[p] = true);
        }
    }
    let mut whole: Vec<bool> = distances_within(&found, w, MORE).iter().map(|d| d.is_finite()).collect();
    enclose(&mut whole, w);
    let depth = |set: &[bool]| -> Vec<f32> {
        let out: Vec<bool> = set.iter().map(|s| !s).collect();
        distances_within(&out, w, MORE + 1)
    };
    whole = depth(&whole).iter().map(|d| *d > MORE as f32).collect();
    // Means reach a pixel farther than what they are of: at its border a pixel speaks for itself.
    let inner = depth(&whole);
    (0..w * h).map(|p| whole[p] && (inner[p] > 1.5 || single[p] > DIFFERS.0 / 2.0)).collect()
}

/// Adds what is enclosed: all that does not hang together with the picture's border.
fn enclose(set: &mut [bool], w: usize) {
    let h = set.len() / w.max(1);
    let mut open: Vec<bool> = set.iter().map(|s| !s).collect();
    let border =
        (0..w).chain((0..w).map(|x| (h - 1) * w + x)).chain((0..h).flat_map(|y| [y * w, y * w + w - 1]));
    parts(&mut open, w, border, 1);
    for (set, left) in set.iter_mut().zip(open) {
        *set |= left;
    }
}

fn median(mut all: Vec<f32>) -> f32 {
    let middle = all.len() / 2;
    if all.is_empty() { 0.0 } else { *all.select_nth_unstable_by(middle, f32::total_cmp).1 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn what_was_changed_is_found_whole_and_little_else(
            x in 10usize..140, y in 10usize..90, wide in 8usize..50, tall in 8usize..40, strong in 0.04f32..0.4, lighter in -0.01f32..0.01, seed in 0u64..999
        ) {
            let (w, h) = (200usize, 140usize);
            let mut random = Random::new(seed);
            let own: Vec<f32> = (0..3 * w * h).map(|p| {
                let (u, v) = ((p / 3 % w) as f32, (p / 3 / w) as f32);
                0.45 + 0.15 * (u / 9.0).sin() * (v / 7.0).cos() + 0.02 * random.normal() as f32
            }).collect();
            let inside = |p: usize| (x..x + wide).contains(&(p % w)) && (y..y + tall).contains(&(p / w));
            // Eight bits and a codec's loss on the way.
            let back: Vec<f32> = own.iter().enumerate().map(|(p, v)| {
                let changed = if inside(p / 3) { strong * if (p / 3) % 5 < 4 { 1.0 } else { 0.5 } } else { 0.0 };
                ((v + lighter + changed + 0.004 * random.normal() as f32) * 255.0).round() / 255.0
            }).collect();
            let found = changed(&own, &back, Size::new(w as u32, h as u32));
            let truth = (0..w * h).filter(|&p| inside(p)).count() as f32;
            let hit = (0..w * h).filter(|&p| inside(p) && found[p]).count() as f32;
            let all = found.iter().filter(|f| **f).count() as f32;
            prop_assert!(hit >= 0.99 * truth, "{hit} of {truth}");
            // Chance at the border weighs more where a change is small.
            let border = 2.0 * (wide + tall) as f32;
            prop_assert!(all <= 1.03 * truth + 0.25 * border, "{all} of {truth}");
        }
    }

    #[test]
    fn the_same_picture_has_no_change() {
        let mut random = Random::new(4);
        let own: Vec<f32> = (0..3 * 4000).map(|_| 0.5 + 0.1 * random.normal() as f32).collect();
        let back: Vec<f32> = own.iter().map(|v| v + 0.003 * random.normal() as f32).collect();
        assert!(!changed(&own, &back, Size::new(80, 50)).contains(&true));
    }
}
