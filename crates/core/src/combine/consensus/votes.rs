//! Votes: each frame speaks for those that show the same, as a whole colour.
//!
//! A moment has one vote, however many files show it; a clipped sample counts a tenth, so that glare that moves is
//! outvoted even where it is in most frames. Votes weigh less while frames are few: two or three cannot outvote
//! the contour. Cost: one comparison a pixel and pair of frames, and a byte a pair for each pixel of the rows at work.

use super::costs::{Cost, Costs};
use super::field::{DIFFER, Field, SAME};
use super::parallax::Parallax;
use super::shade;
use rayon::prelude::*;

/// Differences beyond this many deviations speak for nobody, squared.
const FARTHEST: f32 = 36.0;
/// What one who shows the same gives at least of a vote.
pub(super) const LEAST_VOTE: f32 = (1.0 - SAME / FARTHEST) * (1.0 - SAME / FARTHEST);
/// What a clipped sample counts.
const CLIPPED: f32 = 0.1;
/// What votes of e to one cost: a little lead is no evidence against a contour, a large one is.
const LEAD: f32 = 3.0;
/// Greatest cost that votes give.
const GREATEST_COST: f32 = 18.0;

/// Frames up to which each is asked of all others and of all their pairs, where votes leave much open.
pub(super) const FEW_FRAMES: usize = 12;

/// How much votes weigh, by the number of moments.
pub(super) fn weight(moments: &[u32]) -> f32 {
    let mut different: Vec<u32> = moments.to_vec();
    different.sort_unstable();
    different.dedup();
    weight_of(different.len() as f32)
}

/// How much so many votes weigh: half from five on, and all of it from eleven on. While they are fewer, three who show the same
/// person are soon as many as those who show the place.
pub(super) fn weight_of(votes: f32) -> f32 {
    (((votes - 2.0) / 6.0).min(0.5 + (votes - 5.0) / 12.0) + 0.02).clamp(0.0, 1.0)
}

pub(super) fn costs(field: &Field, moments: &[u32], parallax: Option<&Parallax>) -> Costs {
    let n = field.count();
    let shares: Vec<f32> =
        moments.iter().map(|m| 1.0 / moments.iter().filter(|o| *o == m).count() as f32).collect();
    let weight = weight(moments);
    let width = field.width;
    let mut planes = vec![vec![Cost::NOWHERE; field.pixels()]; n];
    let mut sure = vec![false; field.pixels()];
    let mut greatest = vec![0u8; field.pixels()];
    // Row by row, all frames at once.
    let mut rows: Vec<Vec<&mut [Cost]>> = (0..field.height).map(|_| Vec::with_capacity(n)).collect();
    for plane in &mut planes {
        rows.iter_mut().zip(plane.chunks_exact_mut(width)).for_each(|(row, part)| row.push(part));
    }
    let told = sure.par_chunks_exact_mut(width).zip(greatest.par_chunks_exact_mut(width));
    rows.into_par_iter().zip(told).enumerate().for_each(|(y, (mut costs, (sure, greatest)))| {
        let base = y * width;
        let mut most = vec![0.0f32; width];
        let each = (0..n).flat_map(|k| (0..width).map(move |x| (k, x)));
        let voice = |k: usize, x: usize| parallax.map_or(1.0, |parallax| parallax.voice(k, base + x));
        let worths: Vec<f32> =
            each.map(|(k, x)| shares[k] * worth(field, k, base + x) * voice(k, x)).collect();
        let mut votes = worths.clone();
        let mut chi2 = vec![0.0; width];
        // How far each pair of frames is apart at each pixel of the row.
        let mut apart = vec![ALIKE; width * (n * n.saturating_sub(1) / 2)];
        for a in 0..n {
            for b in a + 1..n {
                field.chi2_row(a, b, base, &mut chi2);
                let (low, high) = votes.split_at_mut(b * width);
                vector::exchange(
                    &chi2,
                    (&mut low[a * width..][..width], &mut high[..width]),
                    (&worths[a * width..][..width], &worths[b * width..][..width]),
                    (&mut most, &mut apart[pair(a, b) * width..][..width]),
                );
            }
        }
        for (x, (sure, most)) in sure.iter_mut().zip(&most).enumerate() {
            *sure = *most > DIFFER && most * field.by_place(base + x) > DIFFER;
        }
        for x in 0..width {
            let most = (0..n).map(|k| votes[k * width + x]).fold(1e-3, f32::max);
            greatest[x] = (Costs::VOTE * most).min(255.0) as u8;
            for k in 0..n {
                let v = votes[k * width + x];
                if field.covered(k, base + x) {
                    let lead = (LEAD * (most / v.max(1e-3)).ln().powi(2)).min(GREATEST_COST);
                    let worth = |m: usize| worths[m * width + x];
                    let votes = |m: usize| votes[m * width + x];
                    let apart = |a: usize, b: usize| apart[pair(a, b) * width + x];
                    let shade =
                        if sure[x] { shade::cost(field, base + x, k, (worth, votes), apart) } else { 0.0 };
                    let beside = parallax.map_or(0.0, |parallax| parallax.cost(k, base + x));
                    costs[k][x] = Cost::of(weight * (lead + shade) + beside);
                }
            }
        }
    });
    Costs { planes, changed: widened(&sure, (width, field.height), 3), votes: greatest }
}

/// How far two frames are apart at a pixel: nothing, too little to tell, or surely.
pub(super) const ALIKE: u8 = 0;
pub(super) const DIFFERENT: u8 = 2;

/// The number of a pair of different frames, in either order.
fn pair(a: usize, b: usize) -> usize {
    let (low, high) = (a.min(b), a.max(b));
    high * (high - 1) / 2 + low
}

#[allow(unsafe_code)] // the dispatch to the processor's vector width is the macro's
mod vector {
    use super::{DIFFER, FARTHEST, SAME};

    /// Two frames vote for one another as far as they are alike; keeps the greatest difference, and how far they are apart.
    #[multiversion::multiversion(targets("x86_64+avx2"))]
    pub(super) fn exchange(
        chi2: &[f32],
        votes: (&mut [f32], &mut [f32]),
        worths: (&[f32], &[f32]),
        told: (&mut [f32], &mut [u8]),
    ) {
        let n = chi2.len();
        let (first, second) = (&mut votes.0[..n], &mut votes.1[..n]);
        let (a, b) = (&worths.0[..n], &worths.1[..n]);
        let (most, apart) = (&mut told.0[..n], &mut told.1[..n]);
        for x in 0..n {
            let alike = (1.0 - chi2[x] * (1.0 / FARTHEST)).max(0.0);
            first[x] += b[x] * alike * alike;
            second[x] += a[x] * alike * alike;
            most[x] = most[x].max(chi2[x]);
            // Same, unsure or different, counted without a branch.
            apart[x] = u8::from(chi2[x] >= SAME) + u8::from(chi2[x] > DIFFER);
        }
    }
}

fn worth(field: &Field, k: usize, p: usize) -> f32 {
    match (field.covered(k, p), field.clipped(k, p)) {
        (false, _) => 0.0,
        (true, true) => CLIPPED,
        (true, false) => 1.0,
    }
}

/// Places within `reach` pixels of those that are set.
pub(super) fn widened(set: &[bool], (width, height): (usize, usize), reach: usize) -> Vec<bool> {
    let mut across = vec![false; set.len()];
    for (row, out) in set.chunks_exact(width).zip(across.chunks_exact_mut(width)) {
        for x in (0..width).filter(|&x| row[x]) {
            out[x.saturating_sub(reach)..(x + reach + 1).min(width)].fill(true);
        }
    }
    let mut out = vec![false; set.len()];
    for y in 0..height {
        for near in y.saturating_sub(reach)..(y + reach + 1).min(height) {
            for x in 0..width {
                out[y * width + x] |= across[near * width + x];
            }
        }
    }
    out
}
