//! The evidence of shade: movers cast shadows that look alike, and where many pass, shaded ground may outvote lit ground.
//!
//! A frame shows a place in the shade of another when all channels are darker by nearly the same share (Cucchiara et al. 2003). Glare is
//! light that is added, so it takes a larger share of dark channels than of bright ones, and it is elsewhere in every frame: what is lit
//! counts only when three moments or more agree on it, or when it goes on beside the place as the shade does not
//! ([`surroundings`](super::surroundings)): before a queue only the frame with a gap in it shows the paving lit. Cost: one look a
//! pair of frames where frames differ.

use super::costs::{Cost, Costs};
use super::field::{DIFFER, Field};
use super::surroundings::{Surroundings, farther};
use super::votes::{ALIKE, DIFFERENT, LEAST_VOTE};
use rayon::prelude::*;

/// What shade costs, beside as many votes for what is lit.
const SHADE: f32 = 8.0;
/// Moments that must agree on what is lit.
const AGREE: f32 = 3.0;
/// Shares of the root codes that shade leaves.
const LEAVES: std::ops::Range<f32> = 0.4..0.95;
/// What the channels may differ by: as a share of what shade takes, and beyond that.
const EVEN: (f32, f32) = (1.3, 0.008);

/// What shade costs at most that does not go on beside it where something lit does.
const ENDS: f32 = 30.0;
/// By how much worse the surroundings must explain it, and how far it must be from them, in deviations.
const WORSE: f32 = 0.15;
const FAR: f32 = 10.0;
/// [`EVEN`] where nobody need agree: most glare falls out by it.
const STRICTLY: (f32, f32) = (1.05, 0.008);

/// Adds what it costs to show a place in the shade of another frame that goes on beside it.
pub(super) fn add(field: &Field, surroundings: &Surroundings, costs: &mut Costs) {
    let Costs { planes, changed, .. } = costs;
    planes.par_iter_mut().enumerate().for_each(|(k, plane)| {
        let here = |(p, cost): &(usize, &mut Cost)| changed[*p] && **cost < Cost::NOWHERE;
        for (p, cost) in plane.iter_mut().enumerate().filter(here) {
            let Some(own) = surroundings.apart(k, p).filter(|own| *own >= FAR) else { continue };
            let worse = |j: usize| surroundings.apart(j, p).map_or(0.0, |other| farther(own, other));
            let lit =
                |j: &usize| takes_evenly(field.ratios(k, *j, p), STRICTLY) && field.chi2(k, *j, p) > DIFFER;
            // Whatever is no better than what was found need not be looked at.
            let best = (0..field.count())
                .fold(WORSE, |best, j| if worse(j) > best && lit(&j) { worse(j) } else { best });
            if best > WORSE {
                *cost = Cost::of(cost.value() + ENDS * best);
            }
        }
    });
}

/// What it costs that frame `k` shows a pixel in the shade; `worth` is what a frame's vote counts there, `votes` those for what it
/// shows, and `apart` tells of two frames.
pub(super) fn cost(
    field: &Field,
    p: usize,
    k: usize,
    (worth, votes): (impl Fn(usize) -> f32, impl Fn(usize) -> f32),
    apart: impl Fn(usize, usize) -> u8,
) -> f32 {
    let n = field.count();
    // Most are no shade by their green alone.
    let green = u32::from(field.code(k, 1, p));
    let darker = |j: usize| {
        let lit = u32::from(field.code(j, 1, p));
        20 * green < 19 * lit && 5 * green > 2 * lit
    };
    let differ = |j: usize| j != k && apart(j, k) == DIFFERENT;
    let lit = |j: usize| differ(j) && darker(j) && is_shade(field.ratios(k, j, p));
    let agree = |j: usize| -> f32 {
        let alike = |m: &usize| *m == j || apart(*m, j) == ALIKE && differ(*m);
        (0..n).filter(|m| field.covered(*m, p)).filter(alike).map(&worth).sum()
    };
    // Those who agree give most of their votes: whoever has fewer than that need not be looked at, nor anybody once they are enough.
    let enough = votes(k).max(1.0);
    let mut best = 0.0f32;
    for j in 0..n {
        // A little less than whole moments, for sums of their shares.
        if votes(j) > LEAST_VOTE * best.max(AGREE - 0.1) && lit(j) {
            best = best.max(Some(agree(j)).filter(|a| *a > AGREE - 0.1).unwrap_or(0.0));
        }
        if best >= enough {
            break;
        }
    }
    SHADE * (best / enough).min(1.0)
}

/// Whether these shares of root codes, by channel, are what shade leaves.
pub(super) fn is_shade(ratios: [f32; 3]) -> bool {
    takes_evenly(ratios, EVEN)
}

fn takes_evenly(ratios: [f32; 3], even: (f32, f32)) -> bool {
    let (low, high) = ratios.iter().fold((f32::MAX, 0.0f32), |(l, h), r| (l.min(*r), h.max(*r)));
    LEAVES.contains(&low) && LEAVES.contains(&high) && 1.0 - low < even.0 * (1.0 - high) + even.1
}

#[cfg(test)]
mod tests {
    use super::super::field::SAME;
    use super::*;
    use crate::combine::consensus::LayerData;
    use crate::geometry::Size;
    use crate::noise::NoiseModel;

    /// Frames of even colours.
    fn field(colours: &[[u16; 3]]) -> Field {
        let (w, h) = (12usize, 8usize);
        let layer =
            |c: &[u16; 3]| LayerData { planes: c.map(|v| vec![v; w * h]), spans: vec![(0, w as u32); h] };
        let layers = colours.iter().map(layer).collect();
        Field::new(Size::new(w as u32, h as u32), layers, &NoiseModel::default(), 1.0)
    }

    const LIT: [u16; 3] = [30_000, 28_000, 24_000];

    fn shaded(by: f32) -> [u16; 3] {
        LIT.map(|v| (f32::from(v) * by) as u16)
    }

    #[test]
    fn shade_takes_the_same_share_of_all_channels_and_light_that_is_added_does_not() {
        assert!(is_shade([0.7, 0.7, 0.7]) && is_shade([0.62, 0.66, 0.7]), "the sky still lights it");
        assert!(!is_shade([0.98, 0.98, 0.98]), "too little");
        assert!(!is_shade([0.3, 0.3, 0.3]), "too much");
        let glare = LIT.map(|v| f32::from(v) / (f32::from(v).powi(2) + 1.5e8).sqrt());
        assert!(!is_shade(glare), "{glare:?}");
    }

    #[test]
    fn shade_costs_where_three_moments_show_the_same_lit() {
        let five = [shaded(0.7), shaded(0.7), LIT, LIT, LIT];
        let cost_of = |colours: &[[u16; 3]], k, worth: f32| {
            let field = field(colours);
            let apart = |a: usize, b: usize| match field.chi2(a, b, 40) {
                chi2 if chi2 < SAME => ALIKE,
                chi2 => ALIKE + 1 + u8::from(chi2 > DIFFER),
            };
            cost(&field, 40, k, (|_| worth, |_| 4.0), apart)
        };
        assert_eq!(cost_of(&five, 0, 1.0), SHADE * 3.0 / 4.0);
        assert_eq!(cost_of(&five, 2, 1.0), 0.0, "what is lit costs nothing");
        assert_eq!(cost_of(&five[..4], 0, 1.0), 0.0, "two are too few");
        assert_eq!(cost_of(&five, 0, 0.5), 0.0, "three files of a moment and a half");
        let person = [[9_000, 12_000, 22_000], LIT, LIT, LIT];
        assert_eq!(cost_of(&person, 0, 1.0), 0.0, "another colour is no shade");
    }

    #[test]
    fn the_lit_ground_in_the_gap_of_a_queue_is_found_though_all_other_frames_show_the_shade() {
        use crate::combine::consensus::{Known, Lamps, decide};
        use crate::geometry::{Grid, Rect};
        let (w, h, n) = (72usize, 40usize, 9usize);
        // A strip of shade with a gap that moves on, and paving of uneven tone.
        let lit_in = |k: usize, x: usize| (8 + 6 * k..17 + 6 * k).contains(&x);
        let strip = |x: usize, y: usize| (8..65).contains(&x) && (16..24).contains(&y);
        let layer = |k: usize| {
            let value = |c: u16, x: usize, y: usize| {
                let paving = c + 300 * ((x / 7 + y / 5) % 2) as u16;
                if strip(x, y) && !lit_in(k, x) { (0.6 * f32::from(paving)) as u16 } else { paving }
            };
            let plane = |c: u16| (0..w * h).map(|p| value(c, p % w, p / w)).collect::<Vec<u16>>();
            LayerData { planes: LIT.map(plane), spans: vec![(0, w as u32); h] }
        };
        let (frames, moments): (Vec<usize>, Vec<u32>) = ((0..n).collect(), (0..n as u32).collect());
        let grid = Grid::new(Rect::new(0, 0, w as u32, h as u32), 1);
        let layers = (0..n).map(layer).collect();
        let choice =
            decide(grid, layers, (&frames, &moments), &NoiseModel::default(), Known::of(Lamps::Still)).choice;
        let places: Vec<usize> = (0..w * h).filter(|p| strip(p % w, p / w)).collect();
        let lit = |p: &&usize| lit_in(choice.frames[usize::from(choice.labels[**p])], **p % w);
        let share = places.iter().filter(lit).count() as f32 / places.len() as f32;
        assert!(share > 0.97, "{share}");
    }
}
