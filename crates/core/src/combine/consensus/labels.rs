//! Labels for all places at once: alpha expansion (Boykov, Veksler and Zabih 2001) over the costs and over what a border
//! between two frames would show (Kwatra et al. 2003).
//!
//! Only places where frames differ are nodes, and of those only the ones for which the label on offer is within reach:
//! the rest could not change. They fall into connected parts that are solved at the same time; a part about which nothing
//! has changed since the label was last on offer is left out. Cost: a minimum cut over those nodes for each label and round.

use super::costs::{Cost, Costs};
use super::field::{Field, Layer};
use crate::combine::maxflow::Graph;
use crate::pixel::flood::flood_where;
use rayon::prelude::*;

/// Greatest cost of a border between two neighbouring pixels.
const CAP: f32 = 12.0;
/// What every border costs, so that none is drawn for nothing.
const LENGTH: f32 = 0.05;
/// Deviations within which a border shows nothing.
const UNSEEN: f32 = 1.5;
/// A label that costs this much more cannot pay by its borders.
const REACH: f32 = 16.0;
/// Differences within which two labels look the same, squared.
const SAME_LOOK: f32 = 4.0;
const ROUNDS: usize = 3;
/// Costs are counted in hundredths.
const UNIT: f32 = 100.0;

/// The labels, and what the frames they name show.
pub(super) fn solve(field: &Field, costs: &Costs) -> (Vec<u16>, Layer) {
    let (n, w) = (field.count(), field.width);
    let mut labels: Vec<u16> = (0..field.pixels())
        .into_par_iter()
        .map(|p| {
            // The first of those that are no worse than a border costs: neighbours mostly begin with the same.
            let best = costs.planes.iter().map(|c| c[p]).min().map_or(0.0, Cost::value);
            costs.planes.iter().position(|c| c[p] <= Cost::of(best + LENGTH)).unwrap_or(0) as u16
        })
        .collect();
    let mut labelled = field.labelled(&labels);
    if n < 2 {
        return (labels, labelled);
    }
    let changed: Vec<usize> = (0..labels.len()).filter(|&p| costs.changed[p]).collect();
    // Rows at which places may change hands.
    let busy: Vec<bool> = (0..field.height)
        .map(|y| costs.changed[w * y.saturating_sub(1)..w * (y + 2).min(field.height)].contains(&true))
        .collect();
    // When each place or one right beside it last changed hands, and when each label was last on offer.
    let (mut now, mut stirred) = (1u32, vec![1u32; labels.len()]);
    let mut offered = vec![0u32; n];
    let mut open = vec![false; labels.len()];
    let mut unlike = vec![false; labels.len()];
    for _ in 0..ROUNDS {
        let begin = now;
        for (alpha, last) in offered.iter_mut().enumerate() {
            let rows = unlike.par_chunks_mut(w).enumerate().filter(|(y, _)| busy[*y]);
            rows.for_each_init(
                || vec![0.0; w],
                |chi2, (y, row)| {
                    field.chi2_against(alpha, &labelled, y, chi2);
                    row.iter_mut().zip(chi2).for_each(|(unlike, chi2)| *unlike = *chi2 > SAME_LOOK);
                },
            );
            let offer = Offer { field, costs, labels: &labels, alpha: alpha as u16, unlike: &unlike };
            let since = *last;
            let news = |p: usize| stirred[p] > since;
            // Parts are gone through from where there is news; whether other places open is only asked when they are reached.
            let asked: Vec<(bool, bool)> =
                changed.par_iter().map(|&p| (news(p), news(p) && offer.opens(p))).collect();
            changed.iter().zip(&asked).for_each(|(&p, &(new, opens))| open[p] = opens || !new);
            let mut parts = Vec::new();
            for (&p, &(_, opens)) in changed.iter().zip(&asked) {
                if opens && open[p] {
                    parts.push(flood_where(&mut open, w, p, 1, |q| news(q) || offer.opens(q)));
                }
            }
            let taken: Vec<usize> = parts.into_par_iter().flat_map_iter(|part| offer.taken(part)).collect();
            if !taken.is_empty() {
                now += 1;
            }
            for p in taken {
                labels[p] = alpha as u16;
                field.relabel(&mut labelled, p, alpha as u16);
                field.beside(p).into_iter().flatten().chain([p]).for_each(|q| stirred[q] = now);
            }
            *last = now;
        }
        if now == begin {
            break;
        }
    }
    (labels, labelled)
}

/// Those of a part's places that gain by taking a label instead of their own.
pub(super) fn taken(
    field: &Field,
    costs: &Costs,
    labels: &[u16],
    label: usize,
    part: Vec<usize>,
) -> Vec<usize> {
    let offer = Offer { field, costs, labels, alpha: label as u16, unlike: &[] };
    let others = part.into_iter().filter(|&p| labels[p] != offer.alpha && field.covered(label, p));
    offer.taken(others.collect())
}

/// A label that places may take instead of their own.
struct Offer<'a> {
    field: &'a Field,
    costs: &'a Costs,
    labels: &'a [u16],
    alpha: u16,
    /// Where it does not look the same as the label that a place has.
    unlike: &'a [bool],
}

impl Offer<'_> {
    fn seam(&self, a: u16, b: u16, p: usize, q: usize) -> f32 {
        if a == b {
            return 0.0;
        }
        let (a, b) = (usize::from(a), usize::from(b));
        let seen = |p: usize| (self.field.chi2(a, b, p).sqrt() - UNSEEN).max(0.0);
        (seen(p) + seen(q) + LENGTH).min(CAP)
    }

    fn cost(&self, label: u16, p: usize) -> f32 {
        self.costs.at(usize::from(label), p)
    }

    /// Whether it may be worth while at a place.
    fn opens(&self, p: usize) -> bool {
        let label = self.labels[p];
        let (own, offered) = (self.cost(label, p), self.cost(self.alpha, p));
        if label == self.alpha || offered >= own + REACH {
            return false;
        }
        // What looks the same, also right beside it, need not change hands.
        let unlike = |q: usize| match self.labels[q] == label {
            true => self.unlike[q],
            false => self.field.chi2(usize::from(label), usize::from(self.alpha), q) > SAME_LOOK,
        };
        offered < own - 0.5 || self.unlike[p] || self.field.beside(p).iter().any(|q| q.is_some_and(unlike))
    }

    /// Those of a part's places that gain by taking it.
    fn taken(&self, mut part: Vec<usize>) -> Vec<usize> {
        if part.is_empty() {
            return part;
        }
        part.sort_unstable();
        let nodes = Nodes::new(&part, self.field.width);
        let whole = |v: f32| (UNIT * v).round() as i32;
        let (labels, alpha) = (self.labels, self.alpha);
        let mut graph = Graph::new(part.len());
        for (i, &p) in part.iter().enumerate() {
            // The source's side keeps its label, the sink's takes alpha.
            graph.cost(i, whole(self.cost(labels[p], p)), whole(self.cost(alpha, p)));
            for (side, q) in self.field.beside(p).into_iter().enumerate() {
                let Some(q) = q else { continue };
                match nodes.of(q) {
                    None => {
                        let keeps = self.seam(labels[p], labels[q], p, q);
                        let takes = self.seam(alpha, labels[q], p, q);
                        graph.cost(i, whole(keeps), whole(takes));
                    }
                    Some(j) if side < 2 => {
                        let both = whole(self.seam(labels[p], labels[q], p, q));
                        let first = whole(self.seam(alpha, labels[q], p, q));
                        let second = whole(self.seam(labels[p], alpha, p, q));
                        // Keep and keep: both; take and keep: first; keep and take: second; take and take: nothing. As
                        // costs of the two nodes and one link (Kolmogorov and Zabih 2004).
                        graph.cost(i, 0, first - both);
                        graph.cost(j, 0, -first);
                        graph.link(i, side, j, (first + second - both).max(0));
                    }
                    Some(_) => {}
                }
            }
        }
        part.into_iter().zip(graph.cut()).filter(|(_, takes)| *takes).map(|(p, _)| p).collect()
    }
}

/// The numbers of a part's places, in the box around them.
struct Nodes {
    width: usize,
    corner: (usize, usize),
    size: (usize, usize),
    numbers: Vec<u32>,
}

impl Nodes {
    const NONE: u32 = u32::MAX;

    /// `part` is in order.
    fn new(part: &[usize], width: usize) -> Self {
        let (x0, x1) = part.iter().map(|p| p % width).fold((width, 0), |e, x| (e.0.min(x), e.1.max(x)));
        let (y0, y1) = (part[0] / width, part[part.len() - 1] / width);
        let size = (x1 + 1 - x0, y1 + 1 - y0);
        let mut nodes = Self { width, corner: (x0, y0), size, numbers: vec![Self::NONE; size.0 * size.1] };
        for (i, &p) in part.iter().enumerate() {
            nodes.numbers[(p / width - y0) * size.0 + p % width - x0] = i as u32;
        }
        nodes
    }

    fn of(&self, p: usize) -> Option<usize> {
        let x = (p % self.width).checked_sub(self.corner.0).filter(|x| *x < self.size.0)?;
        let y = (p / self.width).checked_sub(self.corner.1).filter(|y| *y < self.size.1)?;
        let number = self.numbers[y * self.size.0 + x];
        (number != Self::NONE).then_some(number as usize)
    }
}
