//! The tone curve between two aligned pictures of a place.
//!
//! Joint samples are sorted by how bright they are in both (so that noise draws no slope), and each class tells its stops by the
//! densest of them, which movers do not lead: comparametric estimation (Mann 2000), made robust as the gain is. Classes
//! with too few samples go along with their neighbours.

use super::{BIN, RANGE, WINDOW};
use crate::pixel::curve::{KNOTS, ToneCurve};

/// Fewest samples of a class, and the share of them that must agree.
const LEAST_SAMPLES: usize = 150;
const AGREE: f32 = 0.5;
/// Stops considered, either way.
const REACH: f32 = 0.6;
/// Fewest classes that tell something.
const LEAST_CLASSES: usize = 4;

/// The curve that brings `seen`, times a gain by channel, to `wanted`; `None` where too little can be compared.
pub(super) fn between(seen: &[Vec<f32>; 3], wanted: &[Vec<f32>; 3], gain: [f32; 3]) -> Option<ToneCurve> {
    let channel = |c: usize| one(&seen[c], &wanted[c], gain[c]);
    Some(ToneCurve::new([channel(0)?, channel(1)?, channel(2)?]))
}

fn one(seen: &[f32], wanted: &[f32], gain: f32) -> Option<[f32; KNOTS]> {
    let mut classes: [Vec<f32>; KNOTS] = std::array::from_fn(|_| Vec::new());
    for (s, w) in seen.iter().map(|s| s * gain).zip(wanted) {
        if RANGE.contains(&s) && RANGE.contains(w) {
            let stops = (w / s).log2();
            if stops.abs() < REACH {
                let class = (s * w).sqrt().sqrt() * (KNOTS - 1) as f32;
                classes[(class.round() as usize).min(KNOTS - 1)].push(stops);
            }
        }
    }
    let told: Vec<(usize, f32, f32)> = classes
        .iter_mut()
        .enumerate()
        .filter_map(|(k, of)| Some((k, densest(of)?, (of.len() as f32).sqrt())))
        .collect();
    if told.len() < LEAST_CLASSES {
        return None;
    }
    // Evenly between classes that tell, and beyond them as the last one.
    let at = |k: usize| {
        let above = told.iter().position(|t| t.0 >= k);
        match above {
            None => told[told.len() - 1].1,
            Some(0) => told[0].1,
            Some(i) => {
                let (a, b) = (told[i - 1], told[i]);
                a.1 + (b.1 - a.1) * (k - a.0) as f32 / (b.0 - a.0) as f32
            }
        }
    };
    let plain: [f32; KNOTS] = std::array::from_fn(at);
    Some(std::array::from_fn(|k| {
        0.25 * plain[k.saturating_sub(1)] + 0.5 * plain[k] + 0.25 * plain[(k + 1).min(KNOTS - 1)]
    }))
}

/// The mean of the densest window of some stops; `None` where they are few or do not agree.
fn densest(of: &mut [f32]) -> Option<f32> {
    if of.len() < LEAST_SAMPLES {
        return None;
    }
    let mut bins = vec![0u32; (2.0 * REACH / BIN) as usize + 1];
    of.iter().for_each(|v| bins[((v + REACH) / BIN) as usize] += 1);
    let width = (2.0 * WINDOW / BIN) as usize;
    let best = (0..bins.len() - width).max_by_key(|&i| bins[i..i + width].iter().sum::<u32>())?;
    let low = best as f32 * BIN - REACH;
    let within = |v: &&f32| (low..low + 2.0 * WINDOW).contains(*v);
    let (sum, count) = of.iter().filter(within).fold((0.0f64, 0usize), |s, v| (s.0 + f64::from(*v), s.1 + 1));
    (count as f32 >= AGREE * of.len() as f32).then(|| (sum / count as f64) as f32)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;

    #[test]
    fn a_curve_is_found_although_a_third_is_movers_and_noise_draws_none() {
        let mut random = Random::new(5);
        for bends in [0.0f32, 0.15] {
            let (mut seen, mut wanted) = (Vec::new(), Vec::new());
            for k in 0..60_000 {
                let light = random.within(0.02, 0.7) as f32;
                let noise = |r: &mut Random| 1.0 + 0.03 * r.normal() as f32;
                seen.push(if k % 3 == 0 {
                    random.within(0.01, 0.7) as f32
                } else {
                    light * noise(&mut random)
                });
                wanted.push(light * noise(&mut random) * (bends * light.sqrt()).exp2());
            }
            let knots = one(&seen, &wanted, 1.0).unwrap();
            for (k, found) in knots.iter().enumerate().take(13).skip(4) {
                let truth = bends * k as f32 / (KNOTS - 1) as f32;
                assert!((found - truth).abs() < 0.02, "{found} instead of {truth} at {k}");
            }
        }
    }
}
