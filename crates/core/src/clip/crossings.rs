//! When somebody touches the area: runs of frames, the one that covers most first; and when the camera moves farther than is followed.

use super::cover::Told;
use serde::{Deserialize, Serialize};

/// Somebody crosses.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Crossing {
    /// Number of its first frame, from 0.
    pub first: usize,
    /// Of its last.
    pub last: usize,
    /// Of the one in which most is covered.
    pub worst: usize,
    /// Share of the area that is covered there, 0..=1.
    pub most: f64,
}

/// Share of the area from which on somebody touches it.
const CONTACT: f64 = 0.002;
/// Frames between two that belong to one crossing.
const CROSSING: usize = 5;

/// The crossings among what was told of all frames.
///
/// ```
/// use evanu_core::clip::{Told, crossings};
///
/// let contact = [0.0, 0.1, 0.3, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.5];
/// let told: Vec<Told> = contact.into_iter().map(|contact| Told { contact, ..Told::UNTOUCHED }).collect();
/// let found = crossings(&told);
/// assert_eq!((found[0].first, found[0].most), (9, 0.5));
/// assert_eq!((found[1].first, found[1].last, found[1].worst), (1, 2, 2));
/// ```
pub fn crossings(each: &[Told]) -> Vec<Crossing> {
    let touched: Vec<usize> = (0..each.len()).filter(|&k| each[k].contact > CONTACT).collect();
    let mut found: Vec<Crossing> = touched
        .chunk_by(|a, b| b - a <= CROSSING)
        .map(|run| {
            let worst = run.iter().copied().max_by(|&a, &b| each[a].contact.total_cmp(&each[b].contact));
            let worst = worst.unwrap_or(run[0]);
            Crossing { first: run[0], last: run[run.len() - 1], worst, most: each[worst].contact }
        })
        .collect();
    found.sort_by(|a, b| b.most.total_cmp(&a.most));
    found
}

/// The first frame in which what is around the area is not what it usually is, where that is so in many.
pub fn moves_far(each: &[Told]) -> Option<usize> {
    /// Deviations from which on it moves, in so large a share of the frames.
    const MOVES: f64 = 4.0;
    const SHARE: f64 = 0.2;
    let first = each.iter().position(|f| f.around > MOVES)?;
    let moving = each.iter().filter(|f| f.around > MOVES).count();
    (moving as f64 > SHARE * each.len() as f64).then_some(first)
}
