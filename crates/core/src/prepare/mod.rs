//! From recipe and sources to the plan: registration, gains, noise, moments. Everything that needs the whole set, once.
//!
//! ```
//! use evanu_core::plan::Light;
//! use evanu_core::prepare::{plan, why_consensus};
//! use evanu_core::progress::no_progress;
//! use evanu_core::recipe::{Align, Recipe};
//! // Five noisy frames of a wall from a tripod; somebody walks along it.
//! # use evanu_core::geometry::Size;
//! # use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
//! # use evanu_core::random::Random;
//! # let size = Size::new(240, 160);
//! # let frame = |k: u32| {
//! #     let mut random = Random::new(u64::from(k));
//! #     let code = |i: u32| {
//! #         let (x, y) = (i % 240, i / 240);
//! #         let who = (30 * k + 20..30 * k + 45).contains(&x) && (50..120).contains(&y);
//! #         let wall = 120.0 + 30.0 * (f64::from(x) / 9.0).sin() + 20.0 * (f64::from(y) / 7.0).cos();
//! #         [(if who { 20.0 } else { wall } + random.normal()) as u8; 3]
//! #     };
//! #     MemoryFrame::new(size, Samples::Eight((0..240 * 160).flat_map(code).collect()))
//! # };
//! # let frames: Vec<MemoryFrame> = (0..5).map(frame).collect();
//! let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
//! let recipe = Recipe { align: Align::Off, ..Recipe::new() };
//! let plan = plan(&recipe, &sources, &[None; 5], &no_progress)?;
//! assert_eq!((plan.tones.light, plan.survey.moments_of(&[0, 1, 2, 3, 4])), (Light::Steady, 5));
//! assert!(why_consensus(&plan).starts_with("each place comes from the moments that agree"));
//! # Ok::<(), evanu_core::register::RegisterError>(())
//! ```

mod hand;
mod look;
mod patches;
mod touches;

pub use hand::lay_by_hand;
pub use patches::{fit, fit_key, glare, place, place_patches, seams, weigh};
pub use touches::{
    Keep, PlaceError, Variants, place_touches, propose_plane, propose_source, touch_faults, variants,
};

use crate::combine::consensus::Decided;
use crate::evidence::moving::{Motion, Moving};
use crate::evidence::{doubts, moving, still};
use crate::geometry::{Geometry, Homography, Rect};
use crate::matching;
use crate::pixel::FrameSource;
use crate::plan::{Alignment, Decision, FrameAlignment, FrameTone, Light, Plan, Survey, Tones};
use crate::progress::ProgressFn;
use crate::recipe::{Recipe, Settled};
use crate::register::{Coarse, RegisterError, Wishes, positions, register};
use crate::render::{RenderError, Scene};
use std::sync::Arc;

/// Makes the plan of a set. It covers all frames, also those set aside by their owner, so that bringing one back
/// needs no new plan; it depends on the recipe's `align`, `reference` and `areas` only. What was laid by hand comes on
/// top ([`lay_by_hand`]).
///
/// `clocks` are seconds, where known; frames without one count as taken in the given order.
///
/// # Errors
/// When a frame cannot be read or the work is cancelled.
pub fn plan(
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
    clocks: &[Option<f64>],
    watch: ProgressFn<'_>,
) -> Result<Plan, RegisterError> {
    plan_with(recipe, sources, clocks, &|_| (), watch)
}

/// The same, and calls `early` with a plan that is good to a pixel or two when about half of the time has passed: for a
/// first look, where most frames fit. Reasons for what does not, positions, bends and noise come with the final one.
///
/// # Errors
/// When a frame cannot be read or the work is cancelled.
pub fn plan_early(
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
    clocks: &[Option<f64>],
    early: &(dyn Fn(Plan) + Sync),
    watch: ProgressFn<'_>,
) -> Result<Plan, RegisterError> {
    let shown = |coarse: &Coarse| {
        // What cannot be read is told by what comes after.
        if let Ok(Some(plan)) = rough(coarse, sources, clocks) {
            early(plan);
        }
    };
    plan_with(recipe, sources, clocks, &shown, watch)
}

/// What corners tell, as a plan; `None` when they tell too little.
fn rough(
    coarse: &Coarse,
    sources: &[&dyn FrameSource],
    clocks: &[Option<f64>],
) -> Result<Option<Plan>, RegisterError> {
    if 2 * coarse.fits.iter().flatten().count() <= sources.len() {
        return Ok(None);
    }
    let placed = |(source, fit): (&&dyn FrameSource, &Option<Homography>)| {
        let frame = FrameAlignment::of(*source);
        match fit {
            Some(transform) => FrameAlignment { transform: *transform, ..frame },
            None => FrameAlignment { misfit: Some("it is still being aligned".into()), ..frame },
        }
    };
    let frames = sources.iter().zip(&coarse.fits).map(placed).collect();
    let alignment = Alignment { reference: coarse.reference, lens: None, frames };
    let mut tones = tones_of(sources);
    tones.light = matching::match_gains(sources, &alignment, &mut tones.frames, None, matching::QUICK_SIDE)?;
    let clocks = every(clocks, sources.len());
    let survey = look::look(sources, &alignment, &tones.frames, &by_time(&clocks), &clocks)?;
    Ok(Some(Plan { alignment, tones, survey }))
}

/// Frames that are as bright as the reference, as far as is known.
fn tones_of(sources: &[&dyn FrameSource]) -> Tones {
    Tones { frames: sources.iter().map(|s| FrameTone::of(*s)).collect(), ..Tones::default() }
}

/// A clock a frame, where known.
fn every(clocks: &[Option<f64>], count: usize) -> Vec<Option<f64>> {
    (0..count).map(|i| clocks.get(i).copied().flatten()).collect()
}

fn plan_with(
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
    clocks: &[Option<f64>],
    early: &(dyn Fn(&Coarse) + Sync),
    watch: ProgressFn<'_>,
) -> Result<Plan, RegisterError> {
    if sources.is_empty() {
        return Ok(Plan::of(Vec::new()));
    }
    let wishes = Wishes {
        reference: recipe.reference.filter(|&r| r < sources.len()),
        models: recipe.align.models(),
        areas: &recipe.areas,
    };
    let most = |share: f32| watch(0.85 * share);
    let mut alignment = register(sources, wishes, early, &most)?;
    let clocks = every(clocks, sources.len());
    let order = by_time(&clocks);
    positions::number(&mut alignment.frames, &order, alignment.reference);
    let mut tones = tones_of(sources);
    tones.light = matching::match_gains(sources, &alignment, &mut tones.frames, None, matching::SIDE)?;
    watch(0.92)?;
    tones.noise = matching::measure_noise(sources, &alignment, &tones.frames)?;
    watch(0.95)?;
    let survey: Survey = look::look(sources, &alignment, &tones.frames, &order, &clocks)?;
    watch(1.0)?;
    Ok(Plan { alignment, tones, survey })
}

/// Decides the consensus of a scene's frames in use.
///
/// It depends on the plan, on the frames in use and on whether they are matched. Takes a second or two.
///
/// # Errors
/// When a frame cannot be read or none takes part.
pub fn decide(scene: &Scene<'_>) -> Result<Decision, RenderError> {
    let mut decided = decided(scene)?;
    let (mut doubts, mut moving) = rayon::join(|| doubts::find(&decided), || moving::find(&decided));
    // Cloud that is joined from several moments is torn: it comes from one. Where the light itself changed here and there, what seems
    // to drift may be that.
    let even = scene.plan.tones.light.is_even();
    let drifts = |m: &&mut Moving| even && m.motion == Motion::Drifting;
    let drifting: Vec<&mut Moving> = moving.iter_mut().filter(drifts).collect();
    if !drifting.is_empty() {
        for area in drifting {
            area.before = Some(decided.take_whole((&area.pixels.0, &area.pixels.1), area.frame));
        }
        doubts = doubts::find(&decided);
    }
    Ok(Decision { label_map: decided.choice, doubts, moving })
}

/// The same with what it was made from, over all that is decided on.
fn decided(scene: &Scene<'_>) -> Result<Decided, RenderError> {
    let recipe = Recipe { canvas: scene.recipe.canvas.before_cutting(), ..scene.recipe.clone() };
    Scene { recipe: &recipe, ..*scene }.decide()
}

/// What those who pass look like to what finds who stood still, decided as by [`decide`]: for making its figure.
///
/// # Errors
/// When a frame cannot be read or none takes part.
pub fn looks(scene: &Scene<'_>) -> Result<Vec<still::Descriptor>, RenderError> {
    Ok(still::looks_of_passing(&decided(scene)?))
}

/// Why the consensus is the method for a set such as this, in words. It was ahead of every other method on all kinds of sets
/// that were measured.
pub fn why_consensus(plan: &Plan) -> &'static str {
    let fits = |i: &usize| plan.alignment.fits(*i);
    let fitting: Vec<usize> = (0..plan.alignment.frames.len()).filter(fits).collect();
    match (plan.survey.moments_of(&fitting), plan.tones.light) {
        (0 | 1, _) => "the frames show one moment, which is averaged",
        (_, Light::Varied) => {
            "the light was varied: each place comes from the frames that show it without the lamp or the glare"
        }
        (2, _) => "there are two moments: contours tell which of them is clear at each place",
        (3 | 4, _) => "there are few moments: votes alone would not do, contours decide with them",
        _ => "each place comes from the moments that agree, also where they are the minority",
    }
}

/// Which doubts of a decision the recipe settles, and how; those it settles by a frame are taken from there. An area that was taken
/// whole and is settled as open is given back to the frames that the method chose.
///
/// What is settled is found again by its place, also when another decision has drawn it a little otherwise.
pub fn settle(decision: &mut Arc<Decision>, recipe: &Recipe) -> Vec<Option<Settled>> {
    let same = |a: Rect, b: Rect| {
        let both = a.intersect(b).size().pixels() as f64;
        2.0 * both > (a.size().pixels() + b.size().pixels()) as f64 / 2.0
    };
    let settled = |at: Rect| recipe.settled.iter().rev().find(|s| same(s.bbox, at)).copied();
    let found: Vec<Option<Settled>> = decision.doubts.iter().map(|d| settled(d.bbox)).collect();
    let given_back = |m: &Moving| m.before.is_some() && settled(m.bbox()).is_some_and(|s| s.open);
    if decision.moving.iter().any(given_back) {
        let Decision { label_map, moving, .. } = Arc::make_mut(decision);
        for area in moving.iter_mut().filter(|m| given_back(m)) {
            if let Some(before) = area.before.take() {
                before.restore(label_map);
            }
        }
    }
    if found.iter().flatten().any(|s| s.frame.is_some()) {
        let Decision { label_map, doubts, .. } = Arc::make_mut(decision);
        for (doubt, settled) in doubts.iter().zip(&found) {
            if let Some(frame) = settled.and_then(|s| s.frame) {
                label_map.take(&doubt.pixels, frame);
            }
        }
    }
    found
}

/// Indices in order of time; a frame without a clock stays behind the one before it.
fn by_time(clocks: &[Option<f64>]) -> Vec<usize> {
    let mut last = f64::MIN;
    let keys: Vec<f64> = clocks
        .iter()
        .map(|c| {
            last = c.unwrap_or(last);
            last
        })
        .collect();
    let mut order: Vec<usize> = (0..clocks.len()).collect();
    order.sort_by(|&a, &b| keys[a].total_cmp(&keys[b]).then(a.cmp(&b)));
    order
}
