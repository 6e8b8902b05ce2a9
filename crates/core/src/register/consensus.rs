//! A homography from matches of which many are wrong.
//!
//! Random samples of four (Fischler and Bolles 1981) scored by truncated squared distance (MSAC, Torr and
//! Zisserman 2000), where each match counts by how few others share its part of the picture: a crowd full of
//! corners has no more say than the wall behind it. The best is polished by iterated least squares.

use super::part;
use crate::geometry::{Correspondence, Homography, Model, Point, Size, fit};
use crate::random::Random;

/// A match farther off than this, in pixels of the feature level, does not support a transform.
const INLIER_DISTANCE: f64 = 3.0;
const TRIES: usize = 2500;
/// Fewest supporting matches, and fewest of 8×8 parts of the picture they must lie in.
const LEAST_SUPPORT: (usize, usize) = (12, 6);

/// The transform that most parts of the box that leads (its corner and sides) support, or `None` when too few do;
/// `size` is that of the whole picture.
pub(super) fn find(matches: &[Correspondence], size: Size, led: (Point, Point)) -> Option<Homography> {
    if matches.len() < LEAST_SUPPORT.0 {
        return None;
    }
    const ACROSS: usize = 8;
    let cells: Vec<usize> = matches.iter().map(|m| part(m.to, led, ACROSS)).collect();
    let mut crowd = [0.0f64; ACROSS * ACROSS];
    cells.iter().for_each(|&c| crowd[c] += 1.0);
    let weights: Vec<f64> = cells.iter().map(|&c| 1.0 / crowd[c].sqrt()).collect();
    let cost = |h: &Homography| -> f64 {
        let one = |m: &Correspondence| {
            h.apply(m.from).distance(m.to).powi(2).min(INLIER_DISTANCE * INLIER_DISTANCE)
        };
        matches.iter().zip(&weights).map(|(m, w)| w * one(m)).sum()
    };
    let total: f64 = weights.iter().sum();
    let mut random = Random::new(matches.len() as u64);
    let mut best: Option<(f64, Homography)> = None;
    let mut tries = TRIES;
    let mut done = 0;
    while done < tries {
        done += 1;
        let sample: [Correspondence; 4] = std::array::from_fn(|_| matches[random.below(matches.len())]);
        let Some(h) = fit(Model::Perspective, &sample).filter(|h| plausible(h, size)) else { continue };
        let c = cost(&h);
        if best.as_ref().is_none_or(|b| c < b.0) {
            best = Some((c, h));
            // Enough tries to have met four good matches with 99.9 % certainty.
            let share = (1.0 - c / (total * INLIER_DISTANCE * INLIER_DISTANCE)).clamp(0.05, 0.999);
            tries = TRIES.min((-6.9 / (1.0 - share.powi(4)).ln()).ceil() as usize + 50);
        }
    }
    let mut h = best?.1;
    for limit in [2.0 * INLIER_DISTANCE, INLIER_DISTANCE, INLIER_DISTANCE, INLIER_DISTANCE] {
        let near: Vec<Correspondence> = matches
            .iter()
            .zip(&weights)
            .map(|(m, w)| (m, w, h.apply(m.from).distance(m.to) / limit))
            .filter(|(_, _, d)| *d < 1.0)
            .map(|(m, w, d)| Correspondence { weight: w * (1.0 - d * d).powi(2), ..*m })
            .collect();
        h = fit(Model::Perspective, &near).filter(|h| plausible(h, size))?;
    }
    let support: Vec<usize> = (0..matches.len())
        .filter(|&i| h.apply(matches[i].from).distance(matches[i].to) < INLIER_DISTANCE)
        .collect();
    let mut parts: Vec<usize> = support.iter().map(|&i| cells[i]).collect();
    parts.sort_unstable();
    parts.dedup();
    (support.len() >= LEAST_SUPPORT.0 && parts.len() >= LEAST_SUPPORT.1).then_some(h)
}

/// Two frames of one view never differ by more than a factor of three, a fold or a mirror image.
pub(super) fn plausible(h: &Homography, size: Size) -> bool {
    let m = &h.0;
    size.corners().iter().all(|&p| {
        let w = m[6] * p.x + m[7] * p.y + m[8];
        let s = h.scale_at(p);
        w > 0.2 && s.is_finite() && (0.33..3.0).contains(&s)
    }) && m[0] * m[4] - m[1] * m[3] > 0.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_coherent_crowd_does_not_lead_the_fit() {
        let size = Size::new(1000, 700);
        let truth = Homography::new([1.01, -0.01, 12.0, 0.012, 1.01, -7.0, 1e-6, 2e-6, 1.0]);
        let mut random = Random::new(5);
        let mut matches = Vec::new();
        for _ in 0..150 {
            let p = Point::new(random.within(0.0, 1000.0), random.within(0.0, 700.0));
            matches.push(Correspondence { from: p, to: truth.apply(p), weight: 1.0 });
        }
        for _ in 0..260 {
            // A procession: more corners than the place has, moving as one.
            let p = Point::new(random.within(300.0, 600.0), random.within(400.0, 650.0));
            matches.push(Correspondence { from: p, to: Point::new(p.x + 40.0, p.y + 3.0), weight: 1.0 });
        }
        for _ in 0..200 {
            let mut p = || Point::new(random.within(0.0, 1000.0), random.within(0.0, 700.0));
            matches.push(Correspondence { from: p(), to: p(), weight: 1.0 });
        }
        let found = find(&matches, size, (Point::default(), Point::new(1000.0, 700.0))).unwrap();
        assert!(found.grid_distance(&truth, size) < 0.3);
    }

    #[test]
    fn chance_matches_give_no_transform() {
        let mut random = Random::new(9);
        let mut p = || Point::new(random.within(0.0, 1000.0), random.within(0.0, 700.0));
        let matches: Vec<_> = (0..60).map(|_| Correspondence { from: p(), to: p(), weight: 1.0 }).collect();
        let whole = (Point::default(), Point::new(1000.0, 700.0));
        assert_eq!(find(&matches, Size::new(1000, 700), whole), None);
    }
}
