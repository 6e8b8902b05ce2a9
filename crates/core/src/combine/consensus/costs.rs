//! What each label costs at each place, in two bytes a pixel and frame.

use super::field::{DIFFER, Field, Layer};
use rayon::prelude::*;

/// A cost, in thousandths.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Cost(u16);

impl Cost {
    /// What a frame costs where it does not reach: more than any that does.
    pub(super) const NOWHERE: Self = Self(u16::MAX);

    /// The nearest cost to a value of at least 0.
    #[inline]
    pub(super) fn of(value: f32) -> Self {
        Self((value * 1000.0 + 0.5).min(65534.0) as u16)
    }

    /// The cost in what labels and borders are weighed in; 65.535 for nowhere.
    #[inline]
    pub(super) fn value(self) -> f32 {
        f32::from(self.0) * 0.001
    }
}

/// What each label costs at each place.
pub(super) struct Costs {
    /// Frame after frame, a cost a pixel.
    pub planes: Vec<Vec<Cost>>,
    /// Places where any two frames surely differ, by the noise of the place, and their surroundings.
    pub changed: Vec<bool>,
    /// Votes for what most show at each place, in [`Costs::VOTE`] of a moment.
    pub votes: Vec<u8>,
}

impl Costs {
    /// Parts of a moment that votes are kept in.
    pub(super) const VOTE: f32 = 8.0;

    /// What a label costs at a pixel.
    #[inline]
    pub(super) fn at(&self, label: usize, p: usize) -> f32 {
        self.planes[label][p].value()
    }

    /// For each pixel, the best label that shows something else, and how much more it costs.
    pub(super) fn rivals(
        &self,
        field: &Field,
        (labels, labelled): (&[u16], &Layer),
    ) -> Vec<Option<(f32, u16)>> {
        let rows = |y: usize| {
            let (from, mut chi2) = (y * field.width, vec![0.0; field.width]);
            let mut best: Vec<Option<(f32, u16)>> = vec![None; field.width];
            for k in 0..field.count() {
                field.chi2_against(k, labelled, y, &mut chi2);
                for (x, best) in best.iter_mut().enumerate().filter(|(x, _)| self.changed[from + x]) {
                    let p = from + x;
                    let more = self.at(k, p) - self.at(usize::from(labels[p]), p);
                    let differs = field.covered(k, p) && chi2[x] > DIFFER;
                    if differs && best.is_none_or(|(least, _)| more < least) {
                        *best = Some((more, k as u16));
                    }
                }
            }
            best
        };
        (0..field.height).into_par_iter().flat_map_iter(rows).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn costs_are_kept_to_a_thousandth_and_none_reaches_that_of_nowhere() {
        for i in 0..4000 {
            let value = i as f32 * 0.01;
            assert!((Cost::of(value).value() - value).abs() < 6e-4, "{value}");
        }
        assert!(Cost::of(1e9) < Cost::NOWHERE);
    }
}
