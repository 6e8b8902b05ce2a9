//! Light that was varied on purpose, by a lamp or a card that is moved from frame to frame: each place as it is without.
//!
//! What a lamp adds and a reflection lays over something only makes it lighter, so where the owner moved them the darkest frame is
//! the one without (layers from their least sum: Szeliski, Avidan and Anandan 2000). It costs a frame what it is lighter than the
//! darkest, so borders between labels fall where two frames are equally dark and none is seen. Of most places the lamp may be in most
//! frames: votes do not count against it. Cost: a look a pixel and frame.

use super::costs::{Cost, Costs};
use super::field::{Field, SAME};
use super::votes::widened;
use rayon::prelude::*;

/// What a deviation costs by which a frame is lighter, and what light costs at most.
const LIGHTER: f32 = 0.5;
const MOST: f32 = 40.0;

/// What is known of a set's light.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lamps {
    /// As bright everywhere, or brighter and darker as a whole.
    Still,
    /// It falls otherwise from frame to frame: reflections move, too.
    Uneven,
    /// Somebody moved them on purpose.
    Moved,
}

/// Frames that must show the same without clipped glare.
const AGREE: usize = 2;

/// Pixels around glare that may be half of it.
const RIM: usize = 6;
/// Root codes from which on all channels are glare: it is clipped in its file, and darker than that where it was matched.
const WHITE: u16 = 50_000;

/// Adds what clipped glare costs where some frames agree on what is under it.
pub(super) fn add_glare(field: &Field, costs: &mut Costs) {
    let Costs { planes, changed, .. } = costs;
    let n = field.count();
    let white = |k: usize, p: usize| (0..3).all(|c| field.code(k, c, p) > WHITE);
    let hidden = |p: usize| {
        let clear: Vec<usize> = (0..n).filter(|&k| field.covered(k, p) && !white(k, p)).collect();
        let same = |j: usize| clear.iter().filter(|&&k| field.chi2(j, k, p) < SAME).count();
        clear.iter().any(|&j| same(j) >= AGREE)
    };
    let glares: Vec<bool> = (0..field.pixels())
        .into_par_iter()
        .map(|p| changed[p] && (0..n).any(|k| white(k, p)) && hidden(p))
        .collect();
    // Its rim is only half white.
    let around = widened(&glares, (field.width, field.height), RIM);
    let there: Vec<bool> =
        around.iter().zip(changed.iter()).map(|(around, changed)| *around && *changed).collect();
    add_lighter(field, planes, &there);
}

/// Adds what frames cost that are lighter than the darkest at some places.
fn add_lighter(field: &Field, planes: &mut [Vec<Cost>], there: &[bool]) {
    let light = |k: usize, p: usize| (0..3).map(|c| f32::from(field.code(k, c, p))).sum::<f32>() / 3.0;
    let darkest: Vec<f32> = (0..field.pixels())
        .into_par_iter()
        .map(|p| {
            let all = (0..field.count()).filter(|k| there[p] && field.covered(*k, p));
            all.map(|k| light(k, p)).fold(f32::INFINITY, f32::min)
        })
        .collect();
    planes.par_iter_mut().enumerate().for_each(|(k, plane)| {
        let here = |(p, cost): &(usize, &mut Cost)| there[*p] && **cost < Cost::NOWHERE;
        for (p, cost) in plane.iter_mut().enumerate().filter(here) {
            let lighter = (light(k, p) - darkest[p]) / field.noise(k, p);
            *cost = Cost::of(cost.value() + (LIGHTER * lighter).min(MOST));
        }
    });
}

/// Makes frames cost what they are lighter than the darkest at each changed place, instead of anything else.
pub(super) fn weigh(field: &Field, costs: &mut Costs) {
    let Costs { planes, changed, .. } = costs;
    planes.par_iter_mut().for_each(|plane| {
        let counts = |(p, cost): &(usize, &mut Cost)| changed[*p] && **cost < Cost::NOWHERE;
        plane.iter_mut().enumerate().filter(counts).for_each(|(_, cost)| *cost = Cost::of(0.0));
    });
    add_lighter(field, planes, changed);
}

#[cfg(test)]
mod tests {
    use crate::combine::consensus::{Known, Lamps, LayerData, decide};
    use crate::geometry::{Grid, Rect};
    use crate::noise::NoiseModel;
    use crate::random::Random;

    #[test]
    fn a_soft_light_that_moves_is_gone_without_a_border_where_it_is_in_most_frames() {
        let (w, h, n) = (96usize, 40usize, 5usize);
        // A card keeps the light off a fifth of the picture in each frame; it fades in from there.
        let layer = |k: usize| {
            let mut random = Random::new(k as u64);
            let value = |x: usize| {
                let away = (x as f32 - (10.0 + 19.0 * k as f32)).abs() - 12.0;
                24_000.0 + 900.0 * away.clamp(0.0, 12.0)
            };
            let plane: Vec<u16> =
                (0..w * h).map(|p| (value(p % w) + 150.0 * random.normal() as f32) as u16).collect();
            LayerData { planes: [plane.clone(), plane.clone(), plane], spans: vec![(0, w as u32); h] }
        };
        let layers: Vec<LayerData> = (0..n).map(layer).collect();
        let grid = Grid::new(Rect::new(0, 0, w as u32, h as u32), 0);
        let (frames, moments): (Vec<usize>, Vec<u32>) = ((0..n).collect(), (0..n as u32).collect());
        let noise = NoiseModel { sigma: vec![150.0; crate::noise::BINS], ..NoiseModel::default() };
        let choice =
            decide(grid, layers.clone(), (&frames, &moments), &noise, Known::of(Lamps::Moved)).choice;
        // Every label is as dark as the darkest, within noise, and so is what is averaged.
        for p in 0..w * h {
            let of = |k: usize| f32::from(layers[choice.frames[k]].planes[0][p]);
            let darkest = (0..n).map(of).fold(f32::INFINITY, f32::min);
            assert!(of(usize::from(choice.labels[p])) < darkest + 1500.0, "{} {}", p % w, p / w);
        }
    }

    #[test]
    fn white_glare_that_most_frames_have_gives_way_where_two_show_what_is_under_it() {
        let (w, h, n) = (64usize, 48usize, 12usize);
        // A soft spot, white in its middle, at the same place in most frames.
        let far = |p: usize| (p % w).abs_diff(32).pow(2) + (p / w).abs_diff(24).pow(2);
        let layer = |glares: bool| {
            let spot = |p: usize| if glares { 37_000.0 * (-(far(p) as f32) / 90.0).exp() } else { 0.0 };
            let value = |p: usize| 26_000 + 900 * ((p / 5) % 2) as u16 + spot(p) as u16;
            let plane: Vec<u16> = (0..w * h).map(value).collect();
            LayerData { planes: [plane.clone(), plane.clone(), plane], spans: vec![(0, w as u32); h] }
        };
        let clear_by = |lamps: Lamps| {
            let layers: Vec<LayerData> = (0..n).map(|k| layer(k >= 2)).collect();
            let grid = Grid::new(Rect::new(0, 0, w as u32, h as u32), 0);
            let (frames, moments): (Vec<usize>, Vec<u32>) = ((0..n).collect(), (0..n as u32).collect());
            let choice =
                decide(grid, layers, (&frames, &moments), &NoiseModel::default(), Known::of(lamps)).choice;
            let middle: Vec<usize> = (0..w * h).filter(|p| far(*p) < 36).collect();
            let clear = middle.iter().filter(|p| choice.frames[usize::from(choice.labels[**p])] < 2).count();
            clear as f32 / middle.len() as f32
        };
        assert_eq!(clear_by(Lamps::Uneven), 1.0);
        assert_eq!(clear_by(Lamps::Still), 0.0, "it is outvoted where light fell evenly");
    }
}
