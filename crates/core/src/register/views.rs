//! Which frames of a shoot show the same view.
//!
//! Frames are taken in order of time. One joins the view whose last frame, or first, it can be laid over by the same
//! consensus that aligns frames ([`super::consensus`]), with at least [`SHARED`] of the picture in common; else it
//! begins a view. Views are tried latest first, and only the latest [`TRIED`]: people seldom go back far. Cost: 0.1 s a
//! frame and core for the corners, some milliseconds a trial.

use super::features::{self, Features};
use super::guides::Guides;
use super::{RegisterError, consensus, corners_of};
use crate::geometry::{Homography, Point};
use crate::pixel::FrameSource;
use crate::progress::{Counter, ProgressFn};
use rayon::prelude::*;

/// Two frames of one view share this much of the smaller picture.
const SHARED: f64 = 0.4;
/// Views that a frame is compared with.
const TRIED: usize = 16;

/// The number of each frame's view, from 0 in order of appearance; frames must be in order of time.
///
/// # Errors
/// When a frame cannot be read or the work is cancelled.
pub fn views(sources: &[&dyn FrameSource], watch: ProgressFn<'_>) -> Result<Vec<usize>, RegisterError> {
    let counter = Counter::new(sources.len(), watch);
    let features = corners_of(sources, &counter)?;
    let mut members: Vec<Vec<usize>> = Vec::new();
    let mut out = Vec::with_capacity(sources.len());
    for i in 0..features.len() {
        let mut known: Vec<usize> = (0..members.len()).collect();
        known.sort_by_key(|&v| std::cmp::Reverse(members[v].last().copied()));
        let fits = |&v: &usize| {
            let m = &members[v];
            let mut tried: Vec<usize> = m.last().into_iter().chain(m.first()).copied().collect();
            tried.dedup();
            tried.iter().any(|&k| same(&features[i], &features[k]))
        };
        let view = known.par_iter().take(TRIED).copied().find_first(fits).unwrap_or(members.len());
        if view == members.len() {
            members.push(Vec::new());
        }
        members[view].push(i);
        out.push(view);
    }
    Ok(out)
}

/// Whether two frames show the same view.
fn same(a: &Features, b: &Features) -> bool {
    let found = consensus::find(&features::matches(a, b), b.size, Guides::default().led(b.size, b.level));
    found.is_some_and(|h| shared(a, b, &h) >= SHARED)
}

/// Share of the smaller picture that both show.
fn shared(a: &Features, b: &Features, to_b: &Homography) -> f64 {
    let at = |i: u32, n: u32| (f64::from(i) + 0.5) / 16.0 * f64::from(n) - 0.5;
    let inside = (0..256u32).filter(|k| {
        b.size.holds(to_b.apply(Point::new(at(k % 16, a.size.width), at(k / 16, a.size.height))))
    });
    let share = inside.count() as f64 / 256.0;
    // In pixels of b the part of a has its own size; the smaller picture counts.
    let scale =
        to_b.scale_at(Point::new(f64::from(a.size.width) / 2.0, f64::from(a.size.height) / 2.0)).powi(2);
    let area = scale * a.size.pixels() as f64 / b.size.pixels() as f64;
    share * area.max(1.0)
}
