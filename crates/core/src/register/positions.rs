//! Camera positions: runs of frames between which the camera did not move. A kicked tripod shows as a new position.
//!
//! Frames are taken in order of time; one joins the nearest position known whose first frame it fits to within
//! [`STILL`] of the diagonal, so that a camera put back finds its old position again. Cost: a distance of two
//! transforms for each frame and position.

use crate::plan::FrameAlignment;

/// A camera on a tripod moves by less than this share of the diagonal (0.6 px at 12 megapixels).
const STILL: f64 = 1.2e-4;
/// And never by less than this many pixels, what a fit is known to.
const STILL_PIXELS: f64 = 0.35;

/// Numbers the camera positions of the frames that fit, in the given order of time; others keep 0.
pub(crate) fn number(frames: &mut [FrameAlignment], order: &[usize], reference: usize) {
    let size = frames[reference].size;
    let still = (STILL * size.diagonal()).max(STILL_PIXELS);
    let mut firsts: Vec<usize> = Vec::new();
    for &i in order {
        if frames[i].misfit.is_some() {
            continue;
        }
        let off = |k: usize| frames[firsts[k]].transform.grid_distance(&frames[i].transform, size);
        let nearest = (0..firsts.len()).map(|k| (off(k), k)).min_by(|a, b| a.0.total_cmp(&b.0));
        let same = nearest.filter(|&(d, k)| d < still && frames[firsts[k]].size == frames[i].size);
        let number = same.map_or(firsts.len(), |(_, k)| k);
        if same.is_none() {
            firsts.push(i);
        }
        frames[i].position = number as u32;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Homography, Size};

    fn numbers(shifts: &[f64]) -> Vec<u32> {
        let plain = FrameAlignment::untouched(Size::new(1600, 1067));
        let mut frames: Vec<FrameAlignment> = shifts
            .iter()
            .map(|&x| FrameAlignment { transform: Homography::shift(x, 0.0), ..plain.clone() })
            .collect();
        let order: Vec<usize> = (0..frames.len()).collect();
        number(&mut frames, &order, 0);
        frames.iter().map(|f| f.position).collect()
    }

    #[test]
    fn a_kick_begins_a_position_and_going_back_finds_the_old_one() {
        assert_eq!(numbers(&[0.0, 0.05, -0.08, 9.0, 9.1, 0.02]), [0, 0, 0, 1, 1, 0]);
    }

    #[test]
    fn every_frame_by_hand_has_its_own() {
        assert_eq!(numbers(&[0.0, 20.0, -13.0]), [0, 1, 2]);
    }
}
