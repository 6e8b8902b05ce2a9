//! One moment for an area that moves and belongs: cloud that is joined from several frames is torn.
//!
//! In the middle of such an area only the labels of that moment are left; one move of alpha expansion (as in [`labels`]) then finds how
//! far around it they are best taken, so that the border runs where frames look the same. Cost: a minimum cut over the
//! area, and a look at all frames there.

use super::costs::Cost;
use super::{Decided, LabelMap, inliers, labels};

/// What votes against the moment may cost around an area.
const LITTLE: f32 = 0.5;

/// What pixels of a choice were before they were taken from one frame.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Before {
    pixels: Vec<u32>,
    labels: Vec<u16>,
    inliers: Vec<u64>,
}

impl Before {
    /// Gives the pixels back what they had.
    pub fn restore(&self, choice: &mut LabelMap) {
        for (i, &p) in self.pixels.iter().enumerate() {
            let (p, words) = (p as usize, choice.words);
            choice.labels[p] = self.labels[i];
            choice.inliers[p * words..][..words].copy_from_slice(&self.inliers[i * words..][..words]);
        }
    }
}

impl Decided {
    /// Takes the `core` of an area, and as much of its other `pixels` as joins best, from one frame of the set; returns what was
    /// there before.
    pub(crate) fn take_whole(&mut self, (pixels, core): (&[u32], &[u32]), frame: usize) -> Before {
        let Some(k) = self.choice.frames.iter().position(|&f| f == frame) else { return Before::default() };
        for &p in core.iter().filter(|p| self.field.covered(k, **p as usize)) {
            let other = |j: &usize| *j != k;
            (0..self.costs.planes.len()).filter(other).for_each(|j| {
                self.costs.planes[j][p as usize] = Cost::NOWHERE;
            });
        }
        // Around it that moment is as likely as any, and the border may run where it shows least.
        for &p in pixels.iter().filter(|p| self.field.covered(k, **p as usize)) {
            let own = self.costs.planes[usize::from(self.choice.labels[p as usize])][p as usize].value();
            let cost = &mut self.costs.planes[k][p as usize];
            *cost = Cost::of(own + LITTLE).min(*cost);
        }
        let part = pixels.iter().map(|p| *p as usize).collect();
        let taken = labels::taken(&self.field, &self.costs, &self.choice.labels, k, part);
        let old = self.choice.labels.clone();
        for p in taken {
            self.choice.labels[p] = k as u16;
            self.field.relabel(&mut self.labelled, p, k as u16);
        }
        let words = self.choice.words;
        let found = inliers::find(&self.field, (&self.choice.labels, &self.labelled), words);
        let mut before = Before::default();
        for &p in pixels {
            let at = p as usize * words..(p as usize + 1) * words;
            before.pixels.push(p);
            before.labels.push(old[p as usize]);
            before.inliers.extend(&self.choice.inliers[at.clone()]);
            self.choice.inliers[at.clone()].copy_from_slice(&found[at]);
        }
        before
    }
}
