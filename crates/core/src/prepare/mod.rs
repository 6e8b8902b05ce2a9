//! From recipe and sources to the plan: registration, gains, noise, moments. Everything that needs the whole set, once.

mod hand;
mod look;
mod patches;

pub use hand::lay_by_hand;
pub use patches::{fit, fit_key, glare, patch, place, seams, weigh};

use crate::combine::consensus::LabelMap;
use crate::evidence::{doubts, moving, still};
use crate::geometry::{Homography, Rect};
use crate::matching;
use crate::pixel::FrameSource;
use crate::plan::{FramePlan, Light, Plan};
use crate::progress::ProgressFn;
use crate::recipe::{Canvas, Recipe, Settled};
use crate::register::{Coarse, RegisterError, Registration, Wishes, positions, register};
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
        let plan = FramePlan::of(*source);
        match fit {
            Some(transform) => FramePlan { transform: *transform, ..plan },
            None => FramePlan { misfit: Some("it is still being aligned".into()), ..plan },
        }
    };
    let mut frames: Vec<FramePlan> = sources.iter().zip(&coarse.fits).map(placed).collect();
    let reference = coarse.reference;
    let light = matching::match_gains(sources, reference, &mut frames, None, matching::QUICK_SIDE)?;
    let clocks = every(clocks, sources.len());
    look::look(sources, reference, &mut frames, &by_time(&clocks), &clocks)?;
    Ok(Some(Plan { reference, light, ..Plan::of(frames) }))
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
    let Registration { reference, mut frames, lens } = register(sources, wishes, early, &most)?;
    let light = matching::match_gains(sources, reference, &mut frames, None, matching::SIDE)?;
    watch(0.92)?;
    let noise = matching::measure_noise(sources, reference, &frames)?;
    watch(0.95)?;
    let clocks = every(clocks, sources.len());
    let order = by_time(&clocks);
    positions::number(&mut frames, &order, reference);
    look::look(sources, reference, &mut frames, &order, &clocks)?;
    watch(1.0)?;
    Ok(Plan { reference, noise, light, lens, ..Plan::of(frames) })
}

/// Decides the consensus of the frames in use, and keeps it and its doubts in the plan.
///
/// It depends on the plan, on the frames in use and on whether they are matched. Takes a second or two.
///
/// # Errors
/// When a frame cannot be read or none takes part.
pub fn choose(plan: &mut Plan, recipe: &Recipe, sources: &[&dyn FrameSource]) -> Result<(), RenderError> {
    let recipe = Recipe { canvas: Canvas::Reference, ..recipe.clone() };
    let scene = Scene::new(&recipe, plan, sources);
    let decided = scene.decide()?;
    let (doubts, moving) = rayon::join(|| doubts::find(&decided), || moving::find(&decided));
    (plan.doubts, plan.moving) = (Arc::new(doubts), Arc::new(moving));
    plan.label_map = Some(Arc::new(decided.choice));
    Ok(())
}

/// What those who pass look like to what finds who stood still, decided as by [`choose`]: for making its figure.
///
/// # Errors
/// When a frame cannot be read or none takes part.
pub fn looks(
    plan: &Plan,
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
) -> Result<Vec<still::Descriptor>, RenderError> {
    Ok(still::looks_of_passing(&Scene::new(recipe, plan, sources).decide()?))
}

/// Why the consensus is the method for a set such as this, in words. It was ahead of every other method on all kinds of sets
/// that were measured.
pub fn why_consensus(plan: &Plan) -> &'static str {
    let fit: Vec<&FramePlan> = plan.frames.iter().filter(|f| f.misfit.is_none()).collect();
    let mut moments: Vec<u32> = fit.iter().map(|f| f.moment).collect();
    moments.sort_unstable();
    moments.dedup();
    match (moments.len(), plan.light) {
        (0 | 1, _) => "the frames show one moment, which is averaged",
        (_, Light::Varied) => {
            "the light was varied: each place comes from the frames that show it without the lamp or the glare"
        }
        (2, _) => "there are two moments: contours tell which of them is clear at each place",
        (3 | 4, _) => "there are few moments: votes alone would not do, contours decide with them",
        _ => "each place comes from the moments that agree, also where they are the minority",
    }
}

/// Which doubts of the plan the recipe settles, and how; those it settles by a frame are taken from there.
///
/// A settled doubt is found again by its place, also when another plan has drawn it a little otherwise.
pub fn settle(plan: &mut Plan, recipe: &Recipe) -> Vec<Option<Settled>> {
    let same = |a: Rect, b: Rect| {
        let both = a.intersect(b).size().pixels() as f64;
        2.0 * both > (a.size().pixels() + b.size().pixels()) as f64 / 2.0
    };
    let found: Vec<Option<Settled>> = plan
        .doubts
        .iter()
        .map(|d| recipe.settled.iter().rev().find(|s| same(s.bbox, d.bbox)).copied())
        .collect();
    if let Some(choice) = &plan.label_map
        && found.iter().flatten().any(|s| s.frame.is_some())
    {
        let mut choice = LabelMap::clone(choice);
        for (doubt, settled) in plan.doubts.iter().zip(&found) {
            if let Some(frame) = settled.and_then(|s| s.frame) {
                choice.take(&doubt.pixels, frame);
            }
        }
        plan.label_map = Some(Arc::new(choice));
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
