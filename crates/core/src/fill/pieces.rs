//! Fewer, larger pieces: neighbours come from places side by side unless what is gained by parting them is worth the border between.
//!
//! Iterated conditional modes (Besag 1986) over the places found: a pixel takes over its neighbours' move when unlikeness and borders
//! together become less. A border costs what both moves show differently on either side of it (Kwatra et al. 2003).

use super::field::{Field, unlike};
use super::level::Level;
use rayon::prelude::*;

/// Weight of a border beside unlikeness.
const BORDER: f32 = 12.0;
/// How much more one at the rim counts.
const RIM: f32 = 4.0;
/// What any border costs.
const ANY: f32 = 1.0;
/// Times that all pixels are asked.
const TURNS: usize = 8;
/// Rows that are asked one after another.
const BAND: usize = 24;
const NOWHERE: u32 = u32::MAX;

/// Makes pieces of the places of a level.
pub(super) fn gather(field: &mut Field, level: &Level, allowed: &[bool]) {
    let stride = level.stride;
    for turn in 0..TURNS {
        let before = field.places.clone();
        let features = &field.features;
        let places = field.places.par_chunks_mut(BAND * stride);
        places.zip(field.costs.par_chunks_mut(BAND * stride)).enumerate().for_each(|(k, (places, costs))| {
            let from = k * BAND * stride;
            let end = from + places.len();
            let first = level.targets.partition_point(|t| (*t as usize) < from);
            let last = level.targets.partition_point(|t| (*t as usize) < end);
            for k in 0..last - first {
                let p = level.targets[if turn % 2 == 1 { last - 1 - k } else { first + k }] as usize;
                if !level.hole[p] {
                    continue;
                }
                let own = places[p - from] as usize;
                let near = [p - 1, p + 1, p - stride, p + stride].map(|q| {
                    let place = if (from..end).contains(&q) { places[q - from] } else { before[q] };
                    (q, if level.hole[q] { place as usize } else { q })
                });
                let borders = |place: usize| -> f32 {
                    near.iter()
                        .filter(|(_, other)| *other != NOWHERE as usize)
                        .map(|&(q, other)| {
                            let weight = if level.hole[q] { 1.0 } else { RIM };
                            weight * border(level, (p, place), (q, other))
                        })
                        .sum()
                };
                let mut best = (own, costs[p - from], costs[p - from] * level.scale(p) + borders(own));
                for &(q, other) in &near {
                    if other == NOWHERE as usize || other == q {
                        continue;
                    }
                    let moved = (other + p).wrapping_sub(q);
                    if moved == best.0 || moved == own || moved >= allowed.len() || !allowed[moved] {
                        continue;
                    }
                    let edge = borders(moved);
                    let limit = (best.2 - edge) / level.scale(p);
                    if limit <= 0.0 {
                        continue;
                    }
                    let cost = unlike(level, features, p, moved, limit);
                    if cost < limit {
                        best = (moved, cost, cost * level.scale(p) + edge);
                    }
                }
                (places[p - from], costs[p - from]) = (best.0 as u32, best.1);
            }
        });
    }
}

/// What a border between two neighbours costs, each with the place it comes from.
#[inline(always)]
fn border(level: &Level, (p, from_p): (usize, usize), (q, from_q): (usize, usize)) -> f32 {
    // What the other's place shows where this one lies.
    let (beside_q, beside_p) = ((from_q + p).wrapping_sub(q), (from_p + q).wrapping_sub(p));
    if beside_q == from_p {
        return 0.0;
    }
    let off = |a: usize, b: usize| -> f32 {
        match (level.features.get(a), level.features.get(b)) {
            (Some(a), Some(b)) => (0..3).map(|c| (a[c] - b[c]).powi(2)).sum(),
            _ => 1000.0,
        }
    };
    ANY + BORDER * (off(from_p, beside_q) + off(from_q, beside_p))
}
