//! What differs from the rest in a frame, in words: whether it matters, and what Evanu does about it by itself.

use crate::Recipe;
use crate::model::{Finding, FrameRow};
use crate::views::{Loaded, middle_of};
use evanu_core::plan::FramePlan;

/// Detail below this share of the others' is told; below the second it is a reason to look.
const SOFT: (f32, f32) = (0.85, 0.7);
/// Smallest differences that are told: in size, in stops of exposure, in stops between red and blue.
const LARGER: f64 = 0.02;
const STOPS: f32 = 0.2;
const TINT: f32 = 0.08;

/// The findings about one frame, the weightiest first.
pub(crate) fn findings(row: &FrameRow, recipe: &Recipe, loaded: &Loaded) -> Vec<Finding> {
    let Some(plan) = row.index.and_then(|i| loaded.plan.frames.get(i)) else { return Vec::new() };
    if plan.misfit.is_some() {
        return Vec::new(); // its reason says it all
    }
    let mut out = Vec::new();
    let mut tell = |matters: bool, text: String| out.push(Finding { matters, text });
    if let Some(s) = plan.sharpness.filter(|&s| s < SOFT.0) {
        let percent = (100.0 * s).round();
        if s < SOFT.1 {
            tell(
                true,
                format!(
                    "soft: {percent} % of the others' detail, shaken or out of focus; set it aside unless it alone shows a place clear"
                ),
            );
        } else {
            tell(false, format!("a little soft: {percent} % of the others' detail"));
        }
    }
    if row.index != Some(loaded.plan.reference) {
        light(plan, recipe.match_exposure, &mut tell);
        let reference = &loaded.plan.frames[loaded.plan.reference];
        let zoom = 1.0 / plan.transform.scale_at(middle_of(row)) - 1.0;
        if plan.transform.turn_at(middle_of(row)).abs() > std::f64::consts::FRAC_PI_4 {
            tell(false, "lay on its side: turned upright".into());
        } else if plan.size != reference.size {
            tell(
                false,
                format!(
                    "another size, {} × {} px: brought to the reference's",
                    plan.size.width, plan.size.height
                ),
            );
        } else if zoom.abs() >= LARGER {
            let way = if zoom > 0.0 { "in" } else { "out" };
            tell(false, format!("zoomed {way} by {:.0} %: repaired", 100.0 * zoom.abs()));
        }
    }
    out
}

/// Exposure and colour against the reference.
fn light(plan: &FramePlan, matched: bool, tell: &mut impl FnMut(bool, String)) {
    let done = if matched { "matched" } else { "left as shot" };
    let stops = plan.gain[1].log2();
    if stops.abs() >= STOPS {
        let way = if stops > 0.0 { "darker" } else { "lighter" };
        tell(!matched, format!("{:.1} stops {way}: {done}", stops.abs()));
    }
    let tint = (plan.gain[0] / plan.gain[2]).log2();
    if tint.abs() >= TINT {
        let way = if tint > 0.0 { "bluer" } else { "redder" };
        tell(!matched, format!("{way}: {done}"));
    }
}
