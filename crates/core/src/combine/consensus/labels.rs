//! Labels for all places at once: alpha expansion (Boykov, Veksler and Zabih 2001) over the costs and over what a border
//! between two frames would show (Kwatra et al. 2003).
//!
//! Only places where frames differ are nodes, and of those only the ones for which the label on offer is within reach:
//! the rest could not change. Cost: a minimum cut over those nodes for each label and round.

use super::field::{Costs, Field};
use crate::combine::maxflow::Graph;
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
const ALIKE: f32 = 4.0;
const ROUNDS: usize = 3;
/// Costs are counted in hundredths.
const UNIT: f32 = 100.0;

pub(super) fn solve(field: &Field, costs: &Costs) -> Vec<u16> {
    let n = field.count();
    let mut labels: Vec<u16> = (0..field.pixels())
        .into_par_iter()
        .map(|p| {
            let best = (0..n).min_by(|&a, &b| costs.planes[a][p].total_cmp(&costs.planes[b][p]));
            best.unwrap_or(0) as u16
        })
        .collect();
    if n < 2 {
        return labels;
    }
    let changed: Vec<u32> = (0..labels.len() as u32).filter(|&p| costs.changed[p as usize]).collect();
    for _ in 0..ROUNDS {
        let mut moved = 0;
        for alpha in 0..n {
            moved += expand(field, costs, &changed, &mut labels, alpha as u16);
        }
        if moved == 0 {
            break;
        }
    }
    labels
}

fn seam(field: &Field, a: u16, b: u16, p: usize, q: usize) -> f32 {
    if a == b {
        return 0.0;
    }
    let (a, b) = (usize::from(a), usize::from(b));
    let seen = |p: usize| (field.chi2(a, b, p).sqrt() - UNSEEN).max(0.0);
    (seen(p) + seen(q) + LENGTH).min(CAP)
}

/// Lets every place that gains by it take label `alpha`; how many did.
fn expand(field: &Field, costs: &Costs, changed: &[u32], labels: &mut [u16], alpha: u16) -> usize {
    let offered = &costs.planes[usize::from(alpha)];
    let w = field.width;
    let open = |p: usize| {
        let (label, own) = (labels[p], costs.planes[usize::from(labels[p])][p]);
        if label == alpha || offered[p] >= own + REACH {
            return false;
        }
        // What looks the same, also right beside it, need not change hands.
        let unlike = |q: usize| field.chi2(usize::from(label), usize::from(alpha), q) > ALIKE;
        offered[p] < own - 0.5
            || unlike(p)
            || [
                p.saturating_sub(1),
                (p + 1).min(labels.len() - 1),
                p.saturating_sub(w),
                (p + w).min(labels.len() - 1),
            ]
            .into_iter()
            .any(unlike)
    };
    let mut node = vec![u32::MAX; labels.len()];
    let places: Vec<u32> = changed.par_iter().copied().filter(|&p| open(p as usize)).collect();
    for (i, &p) in places.iter().enumerate() {
        node[p as usize] = i as u32;
    }
    if places.is_empty() {
        return 0;
    }
    let whole = |v: f32| (UNIT * v).round() as i32;
    let mut graph = Graph::new(places.len(), 2 * places.len());
    for (i, &p) in places.iter().enumerate() {
        let p = p as usize;
        // The source's side keeps its label, the sink's takes alpha.
        graph.cost(i, whole(costs.planes[usize::from(labels[p])][p]), whole(offered[p]));
        let (x, y) = (p % w, p / w);
        let mut beside = [None; 4];
        beside[0] = (x + 1 < w).then_some(p + 1);
        beside[1] = (y + 1 < field.height).then(|| p + w);
        beside[2] = (x > 0).then(|| p - 1);
        beside[3] = (y > 0).then(|| p - w);
        for (side, q) in beside.into_iter().enumerate() {
            let Some(q) = q else { continue };
            if node[q] == u32::MAX {
                let keeps = seam(field, labels[p], labels[q], p, q);
                let takes = seam(field, alpha, labels[q], p, q);
                graph.cost(i, whole(keeps), whole(takes));
            } else if side < 2 {
                let j = node[q] as usize;
                let both = whole(seam(field, labels[p], labels[q], p, q));
                let (first, second) =
                    (whole(seam(field, alpha, labels[q], p, q)), whole(seam(field, labels[p], alpha, p, q)));
                // Keep and keep: both; take and keep: first; keep and take: second; take and take: nothing. As
                // costs of the two nodes and one link (Kolmogorov and Zabih 2004).
                graph.cost(i, 0, first - both);
                graph.cost(j, 0, -first);
                graph.link(i, j, (first + second - both).max(0), 0);
            }
        }
    }
    let cut = graph.cut();
    let mut moved = 0;
    for (&p, takes) in places.iter().zip(cut) {
        if takes {
            labels[p as usize] = alpha;
            moved += 1;
        }
    }
    moved
}
