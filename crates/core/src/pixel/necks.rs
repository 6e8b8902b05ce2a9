//! Connected places taken apart where they hang together by a neck: two people by their shadows.
//!
//! The distance to the border is flooded from its peaks down (Vincent and Soille 1991). Where two basins meet at a
//! height that is small beside both peaks, a neck is found (the dynamics of Grimaud 1992, as a ratio); what is much smaller than what it
//! hangs on is a part of it, such as a bag. Cost: a sort of the pixels.

use super::distance::distances;

/// Width of a neck over that of the thinner of what it joins, up to which they come apart.
const NECK: f32 = 0.2;
/// Share of the larger part's pixels from which on the smaller one is something of its own.
const OWN: f32 = 0.2;

/// The parts of a connected place, largest first; `pixels` are of rows of `width`, and lie at most `gap` apart.
pub(crate) fn parts_at_necks(pixels: Vec<usize>, width: usize, gap: usize) -> Vec<Vec<usize>> {
    let Some(ground) = Ground::of(&pixels, width, gap) else { return vec![pixels] };
    let mut basins = ground.flooded();
    basins.join_small();
    let mut parts: Vec<Vec<usize>> = vec![Vec::new(); basins.peaks.len()];
    for p in pixels {
        parts[basins.of(ground.at(p, width))].push(p);
    }
    parts.retain(|part| !part.is_empty());
    parts.sort_by_key(|part| (usize::MAX - part.len(), part[0]));
    parts
}

/// A place in the box around it, with a free border.
struct Ground {
    corner: (usize, usize),
    width: usize,
    /// How far each pixel is from the border, less than what closes gaps; zero outside.
    depth: Vec<f32>,
    margin: usize,
}

impl Ground {
    fn of(pixels: &[usize], width: usize, gap: usize) -> Option<Self> {
        let (xs, ys) = (|| pixels.iter().map(|p| p % width), || pixels.iter().map(|p| p / width));
        let (corner, far) = ((xs().min()?, ys().min()?), (xs().max()?, ys().max()?));
        // Gaps are closed from both sides.
        let closing = gap.saturating_sub(1).div_ceil(2);
        let margin = closing + 1;
        let (w, h) = (far.0 - corner.0 + 1 + 2 * margin, far.1 - corner.1 + 1 + 2 * margin);
        let mut ground = Self { corner, width: w, depth: Vec::new(), margin };
        let mut set = vec![false; w * h];
        pixels.iter().for_each(|&p| set[ground.at(p, width)] = true);
        if closing > 0 {
            set = distances(&set, w).into_iter().map(|d| d <= closing as f32).collect();
        }
        let outside: Vec<bool> = set.iter().map(|s| !s).collect();
        let less = |d: f32| if d > 0.0 { (d - closing as f32).max(0.25) } else { 0.0 };
        ground.depth = distances(&outside, w).into_iter().map(less).collect();
        Some(ground)
    }

    fn at(&self, p: usize, width: usize) -> usize {
        (p / width - self.corner.1 + self.margin) * self.width + p % width - self.corner.0 + self.margin
    }

    /// From the peaks down; basins become one where nothing narrow joins them.
    fn flooded(&self) -> Basins {
        let mut order: Vec<usize> = (0..self.depth.len()).filter(|&p| self.depth[p] > 0.0).collect();
        order.sort_unstable_by(|&a, &b| self.depth[b].total_cmp(&self.depth[a]).then(a.cmp(&b)));
        let mut basins = Basins { label: vec![usize::MAX; self.depth.len()], ..Basins::default() };
        let w = self.width;
        for p in order {
            let around = [p - w - 1, p - w, p - w + 1, p - 1, p + 1, p + w - 1, p + w, p + w + 1];
            let mut met: Vec<usize> =
                around.into_iter().filter(|&q| basins.label[q] != usize::MAX).map(|q| basins.of(q)).collect();
            met.sort_unstable_by(|&a, &b| basins.peaks[b].total_cmp(&basins.peaks[a]).then(a.cmp(&b)));
            met.dedup();
            let Some((&first, others)) = met.split_first() else {
                basins.begin(p, self.depth[p]);
                continue;
            };
            basins.label[p] = first;
            basins.sizes[first] += 1;
            for &other in others {
                if self.depth[p] > NECK * basins.peaks[other] {
                    basins.join(first, other);
                } else {
                    basins.meetings.push((first, other));
                }
            }
        }
        basins
    }
}

/// What was flooded, as a forest: each basin is one, or a part of another.
#[derive(Default)]
struct Basins {
    label: Vec<usize>,
    within: Vec<usize>,
    peaks: Vec<f32>,
    sizes: Vec<usize>,
    /// Basins that meet at necks.
    meetings: Vec<(usize, usize)>,
}

impl Basins {
    fn begin(&mut self, p: usize, peak: f32) {
        self.label[p] = self.peaks.len();
        self.within.push(self.peaks.len());
        self.peaks.push(peak);
        self.sizes.push(1);
    }

    fn root(&self, mut basin: usize) -> usize {
        while self.within[basin] != basin {
            basin = self.within[basin];
        }
        basin
    }

    /// The basin of a pixel.
    fn of(&self, p: usize) -> usize {
        self.root(self.label[p])
    }

    /// The second becomes a part of the first, which has the higher peak.
    fn join(&mut self, first: usize, second: usize) {
        self.within[second] = first;
        self.sizes[first] += self.sizes[second];
    }

    /// What is much smaller than what it meets becomes a part of that, the smallest first.
    fn join_small(&mut self) {
        loop {
            let roots = self.meetings.iter().map(|&(a, b)| (self.root(a), self.root(b)));
            let sorted = roots
                .filter(|(a, b)| a != b)
                .map(|(a, b)| if (self.sizes[a], b) > (self.sizes[b], a) { (a, b) } else { (b, a) });
            let small = sorted
                .filter(|&(large, small)| (self.sizes[small] as f32) < OWN * self.sizes[large] as f32)
                .min_by_key(|&(large, small)| (self.sizes[small], usize::MAX - self.sizes[large], large));
            let Some((large, small)) = small else { return };
            self.join(large, small);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const W: usize = 120;

    /// The pixels of boxes: first column and row, columns and rows.
    fn of(boxes: &[[usize; 4]]) -> Vec<usize> {
        let inside = |p: &usize| {
            boxes.iter().any(|[x, y, w, h]| (*x..x + w).contains(&(p % W)) && (*y..y + h).contains(&(p / W)))
        };
        (0..W * 80).filter(inside).collect()
    }

    fn widths(parts: &[Vec<usize>]) -> Vec<(usize, usize)> {
        parts.iter().map(|p| p.iter().fold((W, 0), |(l, r), p| (l.min(p % W), r.max(p % W)))).collect()
    }

    #[test]
    fn two_figures_that_their_shadows_join_come_apart_and_each_keeps_its_own() {
        let (left, right) = ([10, 10, 22, 50], [70, 12, 20, 46]);
        let parts = parts_at_necks(of(&[left, right, [30, 56, 42, 2]]), W, 1);
        assert_eq!(parts.len(), 2, "{:?}", widths(&parts));
        assert_eq!((widths(&parts)[0].0, widths(&parts)[1].1), (10, 89));
        // A figure with a shadow is one, and so is what a wide band joins.
        assert_eq!(parts_at_necks(of(&[left, [30, 56, 80, 2]]), W, 1).len(), 1);
        assert_eq!(parts_at_necks(of(&[left, right, [30, 40, 42, 8]]), W, 1).len(), 1);
    }

    #[test]
    fn limbs_and_bags_stay_and_gaps_are_no_necks() {
        let (head, neck, body, arm) = ([18, 2, 8, 9], [20, 10, 4, 4], [12, 13, 20, 40], [30, 20, 12, 2]);
        assert_eq!(parts_at_necks(of(&[head, neck, body, arm]), W, 1).len(), 1);
        let bag = [41, 16, 12, 12];
        assert_eq!(parts_at_necks(of(&[head, neck, body, arm, bag]), W, 1).len(), 1);
        // A belt that looks like the wall.
        let legs = [12, 56, 20, 20];
        assert_eq!(parts_at_necks(of(&[body, legs]), W, 4).len(), 1);
        assert_eq!(parts_at_necks(Vec::new(), W, 4), [Vec::<usize>::new()]);
    }
}
