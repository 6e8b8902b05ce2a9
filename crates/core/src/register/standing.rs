//! A camera that stood still: told from one that moved by a little, so that its frames are not resampled.
//!
//! A fit follows the errors of the places it rests on. Files of a camera change from frame to frame by noise and coding, which moves
//! places by some tenths of a pixel, and not each by itself: a shift of some hundredths, or corners that are off by half a pixel, are
//! significant by the count of places and yet nothing. So the hypothesis that nothing moved is kept unless what it leaves is worse
//! than what the fit leaves by more than such errors make; medians tell, which movers do not lead. Cost: two medians a frame.

use super::verdict::Judged;
use crate::geometry::{Correspondence, Homography};
use crate::plan::FrameAlignment;

/// The median distance that is left may be so many times that of the fit, and so many pixels beside it: resampling costs more than a
/// fit gains below that.
const WORSE: f64 = 1.2;
const PIXELS: f64 = 0.06;
/// Places farther off than this, in pixels, are movers; of those that agree with the fit so many must agree with standing still.
const NEAR: f64 = 1.0;
const AGREE: f64 = 0.9;

/// Whether a frame that was laid by a fit shows no movement of the camera.
fn stands(judged: &Judged, reference: &FrameAlignment) -> bool {
    let plan = &judged.plan;
    if plan.misfit.is_some() || plan.size != reference.size || judged.places.is_empty() {
        return false;
    }
    let left = |h: &Homography| {
        let mut left: Vec<f64> =
            judged.places.iter().map(|c: &Correspondence| h.apply(c.from).distance(c.to)).collect();
        left.sort_unstable_by(f64::total_cmp);
        left.truncate(left.partition_point(|d| *d < NEAR));
        left
    };
    let (fitted, still) = (left(&plan.transform), left(&Homography::IDENTITY));
    let median = |v: &[f64]| v.get(v.len() / 2).copied().unwrap_or(f64::INFINITY);
    still.len() as f64 >= AGREE * fitted.len() as f64
        && median(&still) <= (WORSE * median(&fitted)).hypot(PIXELS)
}

/// Leaves frames where they are whose camera stood still since the reference; returns which do.
pub(super) fn hold(all: &mut [Judged], reference: usize) -> Vec<bool> {
    let of = all[reference].plan.clone();
    all.iter_mut()
        .enumerate()
        .map(|(i, judged)| {
            let stood = i == reference || stands(judged, &of);
            if stood && i != reference && judged.plan.transform != Homography::IDENTITY {
                judged.plan.transform = Homography::IDENTITY;
                let places = judged.places.clone();
                judged.settle(&places, |c| c.from.distance(c.to), NEAR);
            }
            stood
        })
        .collect()
}
