//! From recipe and sources to the plan: registration, gains, noise, moments. Everything that needs the whole set, once.

use crate::combine::consensus::{Choice, LayerData};
use crate::composite::mask::Mask;
use crate::composite::place::{Grey, Thing};
use crate::composite::seams::{self, Pictures, Seam};
use crate::composite::{self, Fitted, Laid, Lift, Noticed, Place, Sides, Source};
use crate::develop::Develop;
use crate::evidence::moments::{self, Small};
use crate::evidence::{doubts, moving, still};
use crate::geometry::{Homography, Point, Rect, Size, ends};
use crate::matching;
use crate::pixel::FrameSource;
use crate::pixel::resample::resample;
use crate::pixel::tone::{luminance, to_linear};
use crate::plan::{FramePlan, Light, Plan, Sole};
use crate::progress::Watch;
use crate::recipe::{Canvas, Hand, Recipe, Settled};
use crate::register::{self, Coarse, RegisterError, Registration, Wishes, positions, register};
use crate::render::{RenderError, Scene, View};
use rayon::prelude::*;
use std::hash::{DefaultHasher, Hash, Hasher};
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
    watch: Watch<'_>,
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
    watch: Watch<'_>,
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
    look(sources, reference, &mut frames, &by_time(&clocks), &clocks)?;
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
    watch: Watch<'_>,
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
    look(sources, reference, &mut frames, &order, &clocks)?;
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
    let scene = Scene { recipe: &recipe, plan, sources };
    let decided = scene.decide()?;
    let (doubts, moving) = rayon::join(|| doubts::find(&decided), || moving::find(&decided));
    (plan.doubts, plan.moving) = (Arc::new(doubts), Arc::new(moving));
    plan.choice = Some(Arc::new(decided.choice));
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
) -> Result<Vec<still::Look>, RenderError> {
    Ok(still::looks_of_passing(&Scene { recipe, plan, sources }.decide()?))
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
    if let Some(choice) = &plan.choice
        && found.iter().flatten().any(|s| s.frame.is_some())
    {
        let mut choice = Choice::clone(choice);
        for (doubt, settled) in plan.doubts.iter().zip(&found) {
            if let Some(frame) = settled.and_then(|s| s.frame) {
                choice.take(&doubt.pixels, frame);
            }
        }
        plan.choice = Some(Arc::new(choice));
    }
    found
}

/// Makes the recipe's lifts ready, by `fit`, which may remember them; those that are off, lie outside the reference or
/// were drawn on a frame that does not fit are left out.
///
/// # Errors
/// When a frame cannot be read.
pub fn lift(
    plan: &mut Plan,
    recipe: &Recipe,
    mut fit: impl FnMut(&Plan, &Lift) -> Result<Option<Arc<Fitted>>, RenderError>,
) -> Result<(), RenderError> {
    plan.lifts = Arc::default();
    for (index, lift) in recipe.lifts.iter().enumerate().filter(|(_, l)| !l.off) {
        let key = fit_key(plan, recipe, lift);
        if let Some(fit) = fit(plan, lift)? {
            let laid = Laid { index, key, source: lift.source, strength: lift.strength, fit };
            Arc::make_mut(&mut plan.lifts).push(laid);
        }
    }
    Ok(())
}

/// Lifts of the plan that a lift is laid over: those before it in the list, or all when it is not there, as far as they reach it.
fn below(plan: &Plan, recipe: &Recipe, lift: &Lift) -> Vec<Laid> {
    let own = recipe.lifts.iter().position(|l| l.is_shaped_as(lift)).unwrap_or(usize::MAX);
    let (outline, _) = placed(plan, lift);
    let far = composite::margin(&outline, lift.soft);
    let (low, high) = ends(&outline);
    let (from, to) = (Point::new(low.x - far, low.y - far), Point::new(high.x + far, high.y + far));
    let touches = |l: &&Laid| l.fit.mask.touches(from, to);
    plan.lifts.iter().filter(|l| l.index < own).filter(touches).cloned().collect()
}

/// Where a lift's outline lies on the reference, and what leads back from there when it has a geometry of its own.
fn placed(plan: &Plan, lift: &Lift) -> (Vec<Point>, Option<Homography>) {
    let on = &plan.frames[lift.on].transform;
    let drawn: Vec<Point> = lift.outline.iter().map(|&p| on.apply(p)).collect();
    // With a geometry of its own it lies where what it shows is moved to.
    let moved = lift.place.map(|p| p.about(composite::middle(&drawn)));
    let outline = drawn.iter().map(|&p| moved.map_or(p, |m| m.apply(p))).collect();
    (outline, moved.and_then(|m| m.inverse()))
}

/// A number that is the same for lifts of the same shape over the same others, for keeping what [`fit`] made.
pub fn fit_key(plan: &Plan, recipe: &Recipe, lift: &Lift) -> u64 {
    let mut hash = DefaultHasher::new();
    lift.shape().hash(&mut hash);
    below(plan, recipe, lift).iter().for_each(|l| (l.key, l.strength.to_bits()).hash(&mut hash));
    hash.finish()
}

/// How many stops the highlights stand over the plate that a [`Source::Calm`] lift takes off: their median; `None` where there
/// are none.
///
/// # Errors
/// When a frame cannot be read.
pub fn glare(
    plan: &Plan,
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
    lift: &Laid,
) -> Result<Option<f32>, RenderError> {
    /// What is this many stops over the plate is a highlight.
    const HIGHLIGHT: f32 = 0.3;
    let Source::Calm(frame) = lift.source else { return Ok(None) };
    let recipe = Recipe { canvas: Canvas::Reference, develop: Develop::default(), ..recipe.clone() };
    let scene = Scene { recipe: &recipe, plan, sources };
    let (rect, level) = lift.fit.mask.guide();
    let plate = scene.render(View::By(recipe.method), rect, level)?;
    let shown = scene.render(View::Frame(frame), rect, level)?;
    let light = |p: &[u16]| p.iter().map(|&v| to_linear(f64::from(v) / 65535.0)).sum::<f64>() + 3e-3;
    let pairs = plate.data.chunks_exact(3).zip(shown.data.chunks_exact(3)).zip(lift.fit.mask.weights());
    let mut stops: Vec<f32> = pairs
        .filter(|(_, weight)| **weight > 0.5)
        .map(|((p, s), _)| (light(s) / light(p)).log2() as f32)
        .filter(|s| *s > HIGHLIGHT)
        .collect();
    stops.sort_unstable_by(f32::total_cmp);
    Ok(stops.get(stops.len() / 2).copied())
}

/// Fits a lift into the plate; `None` where it lies outside, or where it was drawn on or comes from a frame that does not fit.
///
/// It is fitted to the plate with the plan's lifts that come before it. It depends on the plan, the frames in use, the method, the areas
/// to keep and what [`fit_key`] tells apart.
///
/// # Errors
/// When a frame cannot be read.
pub fn fit(
    plan: &Plan,
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
    lift: &Lift,
) -> Result<Option<Fitted>, RenderError> {
    let on = &plan.frames[lift.on];
    if on.misfit.is_some() || lift.source.frame().is_some_and(|i| plan.frames[i].misfit.is_some()) {
        return Ok(None);
    }
    let (outline, back) = placed(plan, lift);
    let soft = if lift.seek { 0.0 } else { lift.soft };
    let margin = if lift.seek { composite::margin(&outline, lift.soft) } else { 0.0 };
    let Some(mut mask) = Mask::drawn(&outline, soft, margin, plan.reference_size()) else { return Ok(None) };
    let recipe = Recipe { canvas: Canvas::Reference, develop: Develop::default(), ..recipe.clone() };
    let scene = Scene { recipe: &recipe, plan, sources };
    let (rect, level) = mask.guide();
    if lift.follow && !lift.seek {
        let seen = scene.render(View::By(recipe.method), rect, level)?;
        let light = |p: &[u16]| p.iter().map(|&v| f32::from(v)).sum::<f32>() / (3.0 * 65535.0);
        let guide: Vec<f32> = seen.data.chunks_exact(3).map(light).collect();
        mask.follow(&guide, (2.0 * lift.soft).max(f64::from(8u32 << level)));
    }
    let together = || {
        let (true, Source::Frame(frame), None) = (lift.grain, lift.source, lift.place) else {
            return Ok(None);
        };
        // Half as fine: what shows the same does so over more than a pixel.
        let (x, y) = (rect.x >> 1, rect.y >> 1);
        let half = Rect::new(x, y, (rect.right() / 2 + 1 - x) as u32, (rect.bottom() / 2 + 1 - y) as u32);
        let half = half.intersect(plan.reference_size().at_level(level + 1).rect());
        scene.together(frame, half, level + 1)
    };
    let fitted = || -> Result<Fitted, RenderError> {
        if !lift.seek && !lift.tone {
            return Ok(Fitted { mask, tone: None, back, together: None, noticed: Noticed::default() });
        }
        let below = below(plan, &recipe, lift);
        let sides = scene.sides(lift.source, back.as_ref(), &below, (rect, level))?;
        Ok(composite::fit(lift, mask, back, sides, &plan.noise))
    };
    let (fitted, together) = rayon::join(fitted, together);
    let mut fitted = fitted?;
    fitted.together = together?.map(Arc::new);
    for keep in &recipe.keeps {
        let on = &plan.frames[keep.on];
        if on.misfit.is_none() {
            let outline: Vec<Point> = keep.outline.iter().map(|&p| on.transform.apply(p)).collect();
            fitted.noticed.kept += fitted.spare(&outline, plan.reference_size());
        }
    }
    for outline in &lift.less {
        let outline: Vec<Point> = outline.iter().map(|&p| on.transform.apply(p)).collect();
        fitted.spare(&outline, plan.reference_size());
    }
    Ok(Some(fitted))
}

/// Where a lift of the plan can be seen, strongest first, in pixels of the reference; judged on a picture whose longer side has at
/// most `side` pixels.
///
/// # Errors
/// When a frame cannot be read.
pub fn seams(
    plan: &Plan,
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
    laid: &Laid,
    side: u32,
) -> Result<Vec<Seam>, RenderError> {
    /// Most pixels that are looked at.
    const MOST: u64 = 600_000;
    let full = plan.reference_size();
    let (rect, coarse) = laid.fit.mask.guide();
    let lift = &recipe.lifts[laid.index];
    let region = |level: u32| {
        let scaled = |v: i64| (v << coarse) >> level;
        let (x, y) = (scaled(rect.x), scaled(rect.y));
        let (right, bottom) = (scaled(rect.right()) + 1, scaled(rect.bottom()) + 1);
        let all = full.at_level(level).rect();
        Rect::new(x - 16, y - 16, (right - x) as u32 + 32, (bottom - y) as u32 + 32).intersect(all)
    };
    let fits = |k: &u32| full.width.max(full.height) >> k <= side && region(*k).size().pixels() <= MOST;
    let level = (0..16).find(fits).unwrap_or(coarse);
    let area = region(level);
    let recipe = Recipe { canvas: Canvas::Reference, develop: Develop::default(), ..recipe.clone() };
    let scene = Scene { recipe: &recipe, plan, sources };
    let (before, after) = plan.lifts.split_at(plan.lifts.partition_point(|l| l.index < laid.index));
    let Sides { plate, source } = scene.sides(laid.source, laid.fit.back.as_ref(), before, (area, level))?;
    let up = f64::from(1u32 << level);
    let at = |v: i64| (v as f64 + 0.5) * up - 0.5;
    let width = area.width as usize;
    let weights = |laid: &Laid| -> Vec<f32> {
        let row = |y| laid.fit.mask.row(Point::new(at(area.x), at(y)), up, width);
        (area.y..area.bottom()).flat_map(|y| row(y).unwrap_or_else(|| vec![0.0; width])).collect()
    };
    let mut hidden = vec![false; area.size().pixels() as usize];
    for above in after.iter().skip(1) {
        hidden.iter_mut().zip(weights(above)).for_each(|(h, w)| *h |= w > 0.0);
    }
    let result = scene.laid(area, level)?.1;
    let pictures = Pictures { result, plate, source, weights: weights(laid), hidden };
    let mut found = seams::find(&pictures, lift, area.size(), &plan.noise, up as f32);
    for seam in &mut found {
        let p = seam.place;
        let place =
            Rect::new((p.x + area.x) << level, (p.y + area.y) << level, p.width << level, p.height << level);
        seam.place = place.intersect(full.rect());
    }
    Ok(found)
}

/// The geometry of its own with which what a lift shows lies best on what the plate shows near there; `None` when nothing
/// alike is found, or the lift comes from no frame that fits.
///
/// # Errors
/// When a frame cannot be read.
pub fn place(
    plan: &Plan,
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
    lift: &Lift,
) -> Result<Option<Place>, RenderError> {
    /// How far around it is searched, as a share of its longer side, and at least, in pixels of the reference.
    const AROUND: (f64, f64) = (0.75, 32.0);
    let on = &plan.frames[lift.on];
    let Some(frame) = lift.source.frame() else { return Ok(None) };
    if on.misfit.is_some() || plan.frames[frame].misfit.is_some() {
        return Ok(None);
    }
    let drawn: Vec<Point> = lift.outline.iter().map(|&p| on.transform.apply(p)).collect();
    let size = plan.reference_size();
    let Some(mask) = Mask::drawn(&drawn, 0.0, 0.0, size) else { return Ok(None) };
    let (rect, level) = mask.guide();
    let up = f64::from(1u32 << level);
    let start = lift.place.unwrap_or(Place::UNMOVED);
    let recipe = Recipe { canvas: Canvas::Reference, develop: Develop::default(), ..recipe.clone() };
    let scene = Scene { recipe: &recipe, plan, sources };
    let grey = |layer: &LayerData, rect: Rect| Grey {
        width: rect.width as usize,
        height: rect.height as usize,
        corner: Point::new(rect.x as f64, rect.y as f64),
        values: (0..layer.planes[0].len())
            .map(|i| layer.planes.iter().map(|p| f32::from(p[i])).sum::<f32>() / 3.0)
            .collect(),
    };
    let low = |v: f64| (v + 0.5) / up - 0.5;
    let middle = composite::middle(&drawn);
    let picture = grey(&scene.sides(lift.source, None, &[], (rect, level))?.source, rect);
    let inside = mask.weights().iter().map(|w| *w > 0.9).collect();
    let thing = Thing { picture, inside, middle: Point::new(low(middle.x), low(middle.y)) };
    let reach = ((AROUND.0 * f64::from(rect.width.max(rect.height))).max(AROUND.1 / up)) as i64;
    let shift = start.shift.map(|v| (v / up).round() as i64);
    let around = Rect::new(
        rect.x + shift[0] - reach,
        rect.y + shift[1] - reach,
        rect.width + 2 * reach as u32,
        rect.height + 2 * reach as u32,
    );
    let around = around.intersect(size.at_level(level).rect());
    if around.width < 16 || around.height < 16 {
        return Ok(None);
    }
    let below = below(plan, &recipe, lift);
    let plate = grey(&scene.sides(lift.source, None, &below, (around, level))?.plate, around);
    let scaled = |p: Place, by: f64| Place { shift: p.shift.map(|v| by * v), ..p };
    Ok(composite::place::find(thing, plate, scaled(start, 1.0 / up)).map(|p| scaled(p, up)))
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

/// Moments, and what hangs on single frames.
fn look(
    sources: &[&dyn FrameSource],
    reference: usize,
    frames: &mut [FramePlan],
    order: &[usize],
    clocks: &[Option<f64>],
) -> Result<(), RegisterError> {
    let full = frames[reference].size;
    let level = (0..16).find(|&k| (full.width.max(full.height) >> k) <= moments::SIDE).unwrap_or(0);
    let size = full.at_level(level);
    let pictures = (0..sources.len())
        .into_par_iter()
        .map(|i| small(sources[i], &frames[i], &frames[reference], level, size))
        .collect::<Result<Vec<_>, RegisterError>>()?;
    let (pictures, clipped): (Vec<_>, Vec<f32>) = pictures.into_iter().unzip();
    let small = Small { size, frames: pictures };
    frames.iter_mut().zip(clipped).for_each(|(f, c)| f.clipped = c);
    let numbers = moments::moments(&small, order, clocks);
    let sole = moments::sole(&small);
    let up = i64::from(1u32 << level);
    for ((frame, moment), sole) in frames.iter_mut().zip(numbers).zip(sole) {
        frame.moment = moment;
        frame.sole = sole.map(|(share, r)| {
            let largest = Rect::new(r.x * up, r.y * up, r.width << level, r.height << level);
            Sole { share, largest: largest.intersect(full.rect()) }
        });
    }
    Ok(())
}

/// A sample this near its end holds clipped light.
const CLIPPED: f32 = 0.97;

/// A small grey picture of an aligned frame, and the share of it that is clipped.
fn small(
    source: &dyn FrameSource,
    frame: &FramePlan,
    reference: &FramePlan,
    level: u32,
    size: Size,
) -> Result<(Vec<u8>, f32), RegisterError> {
    if frame.misfit.is_some() {
        return Ok((Vec::new(), 0.0));
    }
    let own = level.min(source.levels() - 1);
    let patch = resample(source, own, frame.to_frame().between_levels(level, own), size.rect())?;
    let gain = frame.multiplier(reference);
    let w = size.width as usize;
    let mut out = vec![0; w * size.height as usize];
    let (mut clipped, mut seen) = (0u32, 0u32);
    for (y, &(from, to)) in patch.spans.iter().enumerate() {
        for x in from as usize..to as usize {
            let light = luminance([0, 1, 2].map(|c| gain[c] * patch.planes[c][y * w + x]));
            out[y * w + x] = (255.0 * light.max(0.0).sqrt()).clamp(1.0, 255.0) as u8;
            clipped += u32::from(patch.planes.iter().any(|p| p[y * w + x] > CLIPPED));
            seen += 1;
        }
    }
    Ok((out, clipped as f32 / seen.max(1) as f32))
}

/// Lays frames where their owner put them; what the alignment found out about the others stays.
///
/// # Errors
/// When a frame cannot be read.
pub fn lay_by_hand(
    plan: &mut Plan,
    recipe: &Recipe,
    sources: &[&dyn FrameSource],
) -> Result<(), RegisterError> {
    let found = plan.frames.clone();
    for hand in &recipe.hands {
        if hand.frame >= found.len() || hand.on >= found.len() || hand.frame == plan.reference {
            continue; // the reference is never moved
        }
        // What the hand was laid over has itself a place over the reference.
        let on = &found[hand.on];
        if on.misfit.is_some() && hand.on != plan.reference {
            continue;
        }
        let transform = on.transform.after(&laid(hand, &found));
        let mut frame = FramePlan {
            transform,
            misfit: None,
            bend: None,
            residual_px: hand_residual(hand),
            points: Vec::new(),
            refused: Vec::new(),
            worst: None,
            by_hand: true,
            ..found[hand.frame].clone()
        };
        if transform.inverse().is_none() {
            continue;
        }
        if hand.snap {
            let [reference, own] = [plan.reference, hand.frame].map(|i| sources[i]);
            if let Some(better) = register::snap(reference, own, &transform)? {
                let FramePlan { transform, residual_px, points, refused, worst, .. } = better;
                frame = FramePlan { transform, residual_px, points, refused, worst, ..frame };
            }
        }
        plan.frames[hand.frame] = frame;
        matching::match_gains(sources, plan.reference, &mut plan.frames, Some(hand.frame), matching::SIDE)?;
        // A frame that lies only roughly says nothing about where its light fell.
        plan.frames[hand.frame].field = None;
    }
    Ok(())
}

/// Where a hand lays its frame, over the frame it was laid over.
fn laid(hand: &Hand, found: &[FramePlan]) -> Homography {
    let (own, on) = (&found[hand.frame], &found[hand.on]);
    let start = hand.by_pairs().unwrap_or_else(|| {
        let back = on.transform.inverse().unwrap_or(Homography::IDENTITY);
        if own.misfit.is_none() { back.after(&own.transform) } else { Homography::IDENTITY }
    });
    hand.nudge(on.size).after(&start)
}

/// What the pairs leave before the nudge; `None` where they determine the fit exactly.
fn hand_residual(hand: &Hand) -> Option<f64> {
    let h = hand.by_pairs()?;
    let n = hand.pairs.len();
    let spare = n > 2 && n != 4;
    let square: f64 = hand.pairs.iter().map(|p| h.apply(p.from).distance(p.to).powi(2)).sum();
    spare.then(|| (square / n as f64).sqrt())
}
