//! Noise by place: how much samples of the same thing differ here and there, beyond what brightness tells.
//!
//! Cameras and clips that code what they saw change from frame to frame most where there is texture and least where it is flat;
//! a [`NoiseModel`](crate::noise::NoiseModel), which must not be led by movers, is measured where it is flat. So the frames tell
//! themselves, at each place: the shortest interval that holds half of the samples (the shorth; Rousseeuw and Leroy 1988) is the spread
//! of those that show the same thing as long as half of them do. Its square, over what the model expects, is averaged over a
//! neighbourhood. Where movers stand in more than half of the frames that is too much; it is bounded by what places of as much
//! texture have in the middle. And coding takes off a part of what there is: noise is bounded by the contrast of what stands still,
//! which leaves that tremble have not. Cost: sorts of some samples at a quarter of the places.

use super::field::Layer;
use crate::random::Random;
use rayon::prelude::*;
use std::sync::LazyLock;

/// Every so many pixels along both axes, a place is looked at.
const STEP: usize = 2;
/// Places to each side that a neighbourhood reaches.
const AROUND: usize = 4;
/// Frames that tell, at most and at least.
const FRAMES: (usize, usize) = (16, 3);
/// Classes of texture.
const CLASSES: usize = 12;
/// A neighbourhood may have so many times the variance of the middle of its class, and no place more than that over the model's.
const OVER_CLASS: f32 = 3.0;
const OVER_MODEL: f32 = 40.0;
/// Noise may have this many times the variance that the middles of the samples have over a neighbourhood, and so many times the
/// model's anyway.
const OF_CONTRAST: f32 = 1.0;
const ANYWAY: f32 = 9.0;

/// The mean square of the shorth of so many normal samples, in variances.
static SHORTH: LazyLock<[f32; FRAMES.0 + 1]> = LazyLock::new(|| {
    std::array::from_fn(|n| {
        if n < FRAMES.1 {
            return 1.0;
        }
        let mut random = Random::new(n as u64);
        let mut sum = 0.0;
        const TRIES: usize = 2000;
        for _ in 0..TRIES {
            let mut values: Vec<f32> = (0..n).map(|_| random.normal() as f32).collect();
            values.sort_unstable_by(f32::total_cmp);
            sum += shorth(&values).powi(2);
        }
        sum / TRIES as f32
    })
});

/// The length of the shortest interval that holds half of some sorted values, or one more.
fn shorth(sorted: &[f32]) -> f32 {
    let half = sorted.len() / 2;
    sorted.iter().zip(&sorted[half..]).map(|(a, b)| b - a).fold(f32::INFINITY, f32::min)
}

/// What a place tells: the variance over the model's, its texture, and how light it is in the middle, in deviations of the model.
#[derive(Clone, Copy)]
struct Told {
    over: f32,
    class: usize,
    light: f32,
}

/// By how much the variance of the model has to be multiplied at each pixel, from 1 on; `None` where frames are too few to tell.
pub(super) fn noise(layers: &[Layer], (width, height): (usize, usize)) -> Option<Vec<f32>> {
    if layers.len() < FRAMES.1 {
        return None;
    }
    let count = layers.len().min(FRAMES.0);
    let chosen: Vec<&Layer> = (0..count).map(|k| &layers[k * layers.len() / count]).collect();
    let (columns, rows) = (width.div_ceil(STEP), height.div_ceil(STEP));
    let look = |i: usize| told(&chosen, i / columns * STEP * width + i % columns * STEP);
    let mut places: Vec<Option<Told>> = (0..columns * rows).into_par_iter().map(look).collect();
    let mut classes: Vec<Vec<f32>> = vec![Vec::new(); CLASSES];
    places.iter().flatten().for_each(|t| classes[t.class].push(t.over));
    let usual: Vec<f32> = classes
        .iter_mut()
        .map(|of| {
            let middle = of.len() / 2;
            if of.is_empty() { 1.0 } else { *of.select_nth_unstable_by(middle, f32::total_cmp).1 }
        })
        .collect();
    // A mover's rim, where hardly half of the samples are alike, must not tell for a whole neighbourhood.
    let most = |class: usize| (OVER_CLASS * usual[class].max(1.0)).min(OVER_MODEL);
    places.iter_mut().flatten().for_each(|t| t.over = t.over.min(2.0 * most(t.class)));
    let around = |i: usize| {
        let (x, y) = (i % columns, i / columns);
        let (mut over, mut light, mut square, mut n) = (0.0, 0.0, 0.0, 0.0f32);
        for row in y.saturating_sub(AROUND)..(y + AROUND + 1).min(rows) {
            let line = &places[row * columns..][..columns];
            for told in line[x.saturating_sub(AROUND)..(x + AROUND + 1).min(columns)].iter().flatten() {
                (over, light, square) =
                    (over + told.over, light + told.light, square + told.light * told.light);
                n += 1.0;
            }
        }
        let n = n.max(1.0);
        let contrast = OF_CONTRAST * (square / n - (light / n).powi(2)).max(0.0);
        let class = places[i].map_or(0, |t| t.class);
        (over / n).min(most(class)).min(contrast.max(ANYWAY)).max(1.0)
    };
    let coarse: Vec<f32> = (0..columns * rows).into_par_iter().map(around).collect();
    let at = |p: usize| coarse[p / width / STEP * columns + p % width / STEP];
    Some((0..width * height).into_par_iter().map(at).collect())
}

/// What some frames tell at a pixel; `None` where too few reach.
fn told(layers: &[&Layer], p: usize) -> Option<Told> {
    let mut values = [0.0f32; FRAMES.0];
    let mut variance = 0.0;
    let (mut model, mut slack, mut light) = (0.0, f32::INFINITY, 0.0);
    let mut n = 0;
    for c in 0..3 {
        n = 0;
        for layer in layers.iter().filter(|l| l.reaches(p)) {
            values[n] = f32::from(layer.code(c, p));
            n += 1;
            if c == 0 {
                model += layer.noise(p).powi(2);
                slack = slack.min(layer.forgiven(p));
            }
        }
        if n < FRAMES.1 {
            return None;
        }
        let values = &mut values[..n];
        values.sort_unstable_by(f32::total_cmp);
        variance += shorth(values).powi(2) / SHORTH[n] / 3.0;
        light += values[n / 2] / 3.0;
    }
    // What is forgiven anyway is no noise.
    let model = model / n as f32;
    let over = (variance - slack * slack).max(0.0) / model;
    let class = ((slack * slack / model + 1.0).log2() * 1.5) as usize;
    Some(Told { over, class: class.min(CLASSES - 1), light: light / model.sqrt() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shorth_knows_the_deviation_of_any_number_of_samples_and_few_others_do_not_lead_it() {
        let mut random = Random::new(77);
        for n in [3, 5, 8, 12, 16] {
            let others = if n < 5 { 0 } else { n / 4 };
            let mut square = |others: usize| {
                let mut sum = 0.0;
                for _ in 0..4000 {
                    let mut v: Vec<f32> =
                        (0..n)
                            .map(|k| {
                                if k < others {
                                    900.0 + 50.0 * k as f32
                                } else {
                                    20.0 * random.normal() as f32
                                }
                            })
                            .collect();
                    v.sort_unstable_by(f32::total_cmp);
                    sum += shorth(&v).powi(2) / SHORTH[n] / 4000.0;
                }
                (sum.sqrt() / 20.0) as f64
            };
            assert!((square(0) - 1.0).abs() < 0.06, "{n}: {}", square(0));
            assert!(square(others) < 2.2, "{n}: {}", square(others));
        }
    }
}
