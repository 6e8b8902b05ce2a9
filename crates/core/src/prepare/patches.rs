//! Patches made ready: fitted into the plate, their highlights and seams, and a geometry of their own.
//!
//! A patch is fitted on a picture around its outline, of the finest level that has few enough pixels; where something that is taken is cut
//! off by that picture's end, once more on one that reaches farther to that side. Patches that reach each other are fitted in the order of
//! the list, others side by side, to the same bytes. Cost: one layer of each frame over that picture, and [`patch::fit`].

use crate::combine::consensus::LayerData;
use crate::develop::Develop;
use crate::geometry::{Grid, Homography, Point, Rect, Size, ends, meets};
use crate::patch::locate::{Grey, Template};
use crate::patch::mask::{self, Mask};
use crate::patch::seams::{self, Pictures, Seam};
use crate::patch::{self, FittedPatch, Noticed, Patch, PatchTransform, PlacedPatch, Sides, Source};
use crate::recipe::Recipe;
use crate::render::{RenderError, Scene, View};
use rayon::prelude::*;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;

/// Makes the recipe's patches ready over a scene, whose own are not looked at, by `fit`, which may remember them and is told the scene
/// with those that come before; those that are off, lie outside the reference or were drawn on a frame that does not fit are left out.
///
/// # Errors
/// When a frame cannot be read.
pub fn place_patches(
    scene: &Scene<'_>,
    fit: impl Fn(&Scene<'_>, &Patch) -> Result<Option<Arc<FittedPatch>>, RenderError> + Sync,
) -> Result<Vec<PlacedPatch>, RenderError> {
    let mut patches: Vec<PlacedPatch> = Vec::new();
    let on = scene.recipe.patches.iter().enumerate().filter(|(_, patch)| !patch.disabled);
    let mut waiting: Vec<Pending<'_>> = on.map(|patch| Pending::new(scene, patch)).collect();
    // Side by side go those that lie over none that is still to be fitted.
    while !waiting.is_empty() {
        let free = |k: usize| waiting[..k].iter().all(|before| !waiting[k].lies_over(before));
        let frees: Vec<bool> = (0..waiting.len()).map(free).collect();
        let (now, later): (Vec<_>, Vec<_>) = waiting.into_iter().zip(frees).partition(|(_, free)| *free);
        let scene = Scene { patches: &patches, ..*scene };
        let placed = now.par_iter().map(|(pending, _)| {
            let (index, patch) = pending.patch;
            let key = fit_key(&scene, patch);
            let fit = fit(&scene, patch)?;
            Ok(fit.map(|fit| PlacedPatch { index, key, source: patch.source, strength: patch.strength, fit }))
        });
        let placed: Vec<Option<PlacedPatch>> = placed.collect::<Result<_, RenderError>>()?;
        patches.extend(placed.into_iter().flatten());
        patches.sort_by_key(|patch| patch.index);
        waiting = later.into_iter().map(|(pending, _)| pending).collect();
    }
    Ok(patches)
}

/// The recipe of all that patches may lie in, undeveloped.
fn whole(recipe: &Recipe) -> Recipe {
    Recipe { canvas: recipe.canvas.before_cutting(), develop: Develop::default(), ..recipe.clone() }
}

/// Moves a mask's border to the edges of a view of the whole reference.
pub(super) fn follow(
    mask: &mut Mask,
    scene: &Scene<'_>,
    view: View,
    feather: f64,
) -> Result<(), RenderError> {
    let recipe = whole(scene.recipe);
    let Grid { rect, level, .. } = mask.grid();
    let seen = Scene { recipe: &recipe, ..*scene }.render(view, rect, level)?;
    let light = |p: &[u16]| p.iter().map(|&v| f32::from(v)).sum::<f32>() / (3.0 * 65535.0);
    let guide: Vec<f32> = seen.data.chunks_exact(3).map(light).collect();
    mask.follow(&guide, (2.0 * feather).max(f64::from(8u32 << level)));
    Ok(())
}

/// Most pixels of a patch whose picture has grown.
const GROWN: u64 = 2 * mask::MOST_PIXELS;

/// How much farther a patch's picture reaches where what is taken goes on beyond it: as far as a figure is tall.
fn farther(outline: &[Point]) -> f64 {
    let (low, high) = ends(outline);
    (high.x - low.x).max(high.y - low.y)
}

/// A patch that is to be fitted, with its place in the recipe's list.
struct Pending<'a> {
    patch: (usize, &'a Patch),
    /// The box that it may cover, once it is fitted.
    reach: Option<(Point, Point)>,
    /// The box in which it looks at the plate.
    seen: (Point, Point),
}

impl<'a> Pending<'a> {
    fn new(scene: &Scene<'_>, patch: (usize, &'a Patch)) -> Self {
        let (outline, _) = placed(scene, patch.1);
        let (feather, margin) = border(&outline, patch.1);
        let margin = if patch.1.optimal_seam { margin + farther(&outline) } else { margin };
        let area = mask::area(&outline, feather, [margin; 4], scene.extent(), GROWN);
        Self { patch, reach: area.as_ref().map(mask::reach), seen: seen(&outline, patch.1) }
    }

    /// Whether it may be fitted to another one.
    fn lies_over(&self, other: &Self) -> bool {
        let (from, to) = self.seen;
        other.reach.is_some_and(|reach| meets(reach, (from, to)))
    }
}

/// The box in which a patch looks at the plate, in pixels of the reference.
fn seen(outline: &[Point], patch: &Patch) -> (Point, Point) {
    let far = patch::margin(outline, patch.feather);
    let (low, high) = ends(outline);
    (Point::new(low.x - far, low.y - far), Point::new(high.x + far, high.y + far))
}

/// Over how many pixels the border of a part that is given back fades: as the patch's own, or a little.
fn given_back(patch: &Patch, outline: &[Point]) -> f64 {
    /// Share of its longer side, and least and most pixels of the reference.
    const LITTLE: (f64, f64, f64) = (0.015, 1.0, 8.0);
    let (low, high) = ends(outline);
    let little = LITTLE.0 * (high.x - low.x).max(high.y - low.y);
    if patch.feather > 0.0 {
        patch.feather.min(little.max(LITTLE.1))
    } else {
        little.clamp(LITTLE.1, LITTLE.2)
    }
}

/// Over how many pixels the border of a patch fades as it is drawn, and how many around it may be covered.
fn border(outline: &[Point], patch: &Patch) -> (f64, f64) {
    if patch.optimal_seam { (0.0, patch::margin(outline, patch.feather)) } else { (patch.feather, 0.0) }
}

/// Patches of a scene that a patch is laid over: those before it in the list, or all when it is not there, as far as they reach it.
fn below(scene: &Scene<'_>, patch: &Patch) -> Vec<PlacedPatch> {
    let listed = &scene.recipe.patches;
    let own = listed.iter().position(|l| l.fit_inputs() == patch.fit_inputs()).unwrap_or(usize::MAX);
    let (outline, _) = placed(scene, patch);
    let (from, to) = seen(&outline, patch);
    let touches = |l: &&PlacedPatch| l.fit.mask.touches(from, to);
    scene.patches.iter().filter(|l| l.index < own).filter(touches).cloned().collect()
}

/// Where a patch's outline lies on the reference, and what leads back from there when it has a geometry of its own.
fn placed(scene: &Scene<'_>, patch: &Patch) -> (Vec<Point>, Option<Homography>) {
    let drawn = drawn(scene, patch.on, &patch.outline);
    // With a geometry of its own it lies where what it shows is moved to.
    let moved = patch.transform.map(|p| p.about(patch::middle(&drawn)));
    let outline = drawn.iter().map(|&p| moved.map_or(p, |m| m.apply(p))).collect();
    (outline, moved.and_then(|m| m.inverse()))
}

/// Where an outline that was drawn on a frame lies on the reference.
pub(super) fn drawn(scene: &Scene<'_>, on: usize, outline: &[Point]) -> Vec<Point> {
    let frame = scene.geometry.projection(on);
    outline.iter().map(|&p| frame.back(p)).collect()
}

/// A number that is the same for patches of the same shape over the same others, for keeping what [`fit`] made.
pub fn fit_key(scene: &Scene<'_>, patch: &Patch) -> u64 {
    let mut hash = DefaultHasher::new();
    format!("{:?}", patch.fit_inputs()).hash(&mut hash);
    below(scene, patch).iter().for_each(|l| (l.key, l.strength.to_bits()).hash(&mut hash));
    hash.finish()
}

/// How many stops the highlights stand over the plate, with the patches before it, that a [`Source::HighlightSuppressed`] patch takes off: their median;
/// `None` where there are none.
///
/// # Errors
/// When a frame cannot be read.
pub fn glare(scene: &Scene<'_>, patch: &PlacedPatch) -> Result<Option<f32>, RenderError> {
    /// What is this many stops over the plate is a highlight.
    const HIGHLIGHT: f32 = 0.3;
    let Source::HighlightSuppressed(_) = patch.source else { return Ok(None) };
    let recipe = whole(scene.recipe);
    let scene = Scene { recipe: &recipe, ..*scene };
    let patches = scene.patches;
    let before = &patches[..patches.partition_point(|l| l.index < patch.index)];
    let sides = scene.sides(patch.source, patch.fit.back.as_ref(), before, &patch.fit.mask.grid())?;
    // Planes hold roots of light.
    let light = |layer: &LayerData, p: usize| {
        layer.planes.iter().map(|c| (f32::from(c[p]) / 65535.0).powi(2)).sum::<f32>() + 3e-3
    };
    let covered = patch.fit.mask.weights().iter().enumerate().filter(|(_, weight)| **weight > 0.5);
    let mut stops: Vec<f32> = covered
        .map(|(p, _)| (light(&sides.source, p) / light(&sides.plate, p)).log2())
        .filter(|s| *s > HIGHLIGHT)
        .collect();
    stops.sort_unstable_by(f32::total_cmp);
    Ok(stops.get(stops.len() / 2).copied())
}

/// Fits a patch into the plate; `None` where it lies outside, or where it was drawn on or comes from a frame that does not fit.
///
/// It is fitted to the plate with the scene's patches that come before it. It depends on the plan, the frames in use, the method, the areas
/// to keep and what [`fit_key`] tells apart.
///
/// # Errors
/// When a frame cannot be read.
pub fn fit(scene: &Scene<'_>, patch: &Patch) -> Result<Option<FittedPatch>, RenderError> {
    let near = fit_by(scene, patch, [0.0; 4], mask::MOST_PIXELS)?;
    let size = scene.extent().size();
    let Some(near) = near else { return Ok(None) };
    // A shadow may be longer than what is around a loop: there it is looked at once more.
    let cut = near.mask.cut_off(size);
    if !patch.optimal_seam || cut == [0; 4] {
        return Ok(Some(near));
    }
    let far = farther(&placed(scene, patch).0);
    let whole = fit_by(scene, patch, cut.map(|c| if c > 0 { far } else { 0.0 }), GROWN)?;
    // Other light has no end in sight, and what hangs together with too much is left out.
    let counted = |fit| cut_counted(fit, size);
    let near = counted(near);
    let better = |whole: &FittedPatch| {
        whole.noticed.torn <= near.noticed.torn && whole.mask.covers(&near.mask) > STILL
    };
    Ok(Some(whole.map(counted).filter(better).unwrap_or(near)))
}

/// Share of what was taken that must still be when a patch's picture has grown.
const STILL: f32 = 0.95;

/// With the end of its picture as a torn part of its border.
fn cut_counted(mut fit: FittedPatch, reference: Size) -> FittedPatch {
    let (cut, length) = (fit.mask.cut_off(reference).iter().sum::<u32>() as f32, fit.mask.length() as f32);
    fit.noticed.torn = (fit.noticed.torn * length + cut) / (length + cut).max(1.0);
    fit
}

/// The same on a quarter of the pixels, which tells as well what a patch would take away and bring in: for choosing among many.
///
/// # Errors
/// When a frame cannot be read.
pub fn weigh(scene: &Scene<'_>, patch: &Patch) -> Result<Option<FittedPatch>, RenderError> {
    fit_by(scene, patch, [0.0; 4], mask::MOST_PIXELS / 4)
}

/// Fits a patch with so many pixels more around it, to the left, above, to the right and below, on at most so many pixels.
fn fit_by(
    scene: &Scene<'_>,
    patch: &Patch,
    more: [f64; 4],
    most: u64,
) -> Result<Option<FittedPatch>, RenderError> {
    let (geometry, all) = (scene.geometry, scene.extent());
    if !geometry.fits(patch.on) || patch.source.frame().is_some_and(|i| !geometry.fits(i)) {
        return Ok(None);
    }
    let (outline, back) = placed(scene, patch);
    let (feather, margin) = border(&outline, patch);
    let margins = more.map(|more| margin + more);
    let mask = Mask::drawn_by(&outline, feather, margins, all, most);
    let Some(mut mask) = mask else { return Ok(None) };
    let recipe = whole(scene.recipe);
    let scene = Scene { recipe: &recipe, ..*scene };
    let grid = mask.grid();
    let Grid { rect, level, .. } = grid;
    if patch.snap_to_edges && !patch.optimal_seam {
        follow(&mut mask, &scene, View::By(recipe.method), patch.feather)?;
    }
    let together = || {
        let (true, Source::Frame(frame), None) = (patch.grain, patch.source, patch.transform) else {
            return Ok(None);
        };
        // Half as fine: what shows the same does so over more than a pixel.
        let (x, y) = (rect.x >> 1, rect.y >> 1);
        let half = Rect::new(x, y, (rect.right() / 2 + 1 - x) as u32, (rect.bottom() / 2 + 1 - y) as u32);
        let half = half.intersect(all.size().at_level(level + 1).rect());
        scene.together(frame, &Grid::new(half, level + 1))
    };
    let fitted = || -> Result<FittedPatch, RenderError> {
        if !patch.optimal_seam && !patch.tone {
            return Ok(FittedPatch { mask, tone: None, back, together: None, noticed: Noticed::default() });
        }
        let below = below(&scene, patch);
        let sides = scene.sides(patch.source, back.as_ref(), &below, &grid)?;
        Ok(patch::fit(patch, mask, back, sides, &scene.plan.tones.noise))
    };
    let (fitted, together) = rayon::join(fitted, together);
    let mut fitted = fitted?;
    fitted.together = together?.map(Arc::new);
    for keep in &recipe.protected {
        if geometry.fits(keep.on) {
            // Nothing of it may change, so that it ends hard.
            fitted.noticed.kept += fitted.spare(&drawn(&scene, keep.on, &keep.outline), 0.0, all);
        }
    }
    for outline in &patch.exclusions {
        let outline = drawn(&scene, patch.on, outline);
        fitted.give_back(&outline, given_back(patch, &outline), all);
    }
    Ok(Some(fitted))
}

/// Where a patch of a scene can be seen, strongest first, in pixels of the reference; judged on a picture whose longer side has at
/// most `side` pixels.
///
/// # Errors
/// When a frame cannot be read.
pub fn seams(scene: &Scene<'_>, laid: &PlacedPatch, side: u32) -> Result<Vec<Seam>, RenderError> {
    /// Most pixels that are looked at.
    const MOST_PIXELS: u64 = 600_000;
    let full = scene.extent();
    let Grid { rect, level: coarse, .. } = laid.fit.mask.grid();
    let patch = &scene.recipe.patches[laid.index];
    let region = |level: u32| {
        let scaled = |v: i64| (v << coarse) >> level;
        let (x, y) = (scaled(rect.x), scaled(rect.y));
        let (right, bottom) = (scaled(rect.right()) + 1, scaled(rect.bottom()) + 1);
        let all = full.size().at_level(level).rect();
        Rect::new(x - 16, y - 16, (right - x) as u32 + 32, (bottom - y) as u32 + 32).intersect(all)
    };
    let fits =
        |k: &u32| full.width.max(full.height) >> k <= side && region(*k).size().pixels() <= MOST_PIXELS;
    let level = (0..16).find(fits).unwrap_or(coarse);
    let grid = Grid::of_canvas(full, level).cut(region(level));
    let area = grid.rect;
    let recipe = whole(scene.recipe);
    let scene = Scene { recipe: &recipe, ..*scene };
    let (before, after) = scene.patches.split_at(scene.patches.partition_point(|l| l.index < laid.index));
    let Sides { plate, source } = scene.sides(laid.source, laid.fit.back.as_ref(), before, &grid)?;
    let width = area.width as usize;
    let weights = |laid: &PlacedPatch| -> Vec<f32> {
        let row = |y| laid.fit.mask.row(&grid, y).unwrap_or_else(|| vec![0.0; width]);
        (0..area.height as usize).flat_map(row).collect()
    };
    let mut hidden = vec![false; area.size().pixels() as usize];
    for above in after.iter().skip(1) {
        hidden.iter_mut().zip(weights(above)).for_each(|(h, w)| *h |= w > 0.0);
    }
    let planes = scene.laid(&grid)?.1;
    let result = LayerData { planes, spans: vec![(0, area.width); area.height as usize] };
    let pictures = Pictures { result, plate, source, weights: weights(laid), hidden };
    let mut found = seams::find(&pictures, patch, area.size(), &scene.plan.tones.noise, grid.shrink());
    for seam in &mut found {
        let place = Rect { x: seam.place.x + area.x, y: seam.place.y + area.y, ..seam.place };
        seam.place = grid.cut(place).full().intersect(full);
    }
    Ok(found)
}

/// The geometry of its own with which what a patch shows lies best on what the plate shows near there; `None` when nothing
/// alike is found, or the patch comes from no frame that fits.
///
/// # Errors
/// When a frame cannot be read.
pub fn place(scene: &Scene<'_>, patch: &Patch) -> Result<Option<PatchTransform>, RenderError> {
    /// How far around it is searched, as a share of its longer side, and at least, in pixels of the reference.
    const AROUND: (f64, f64) = (0.75, 32.0);
    let Some(frame) = patch.source.frame() else { return Ok(None) };
    if !scene.geometry.fits(patch.on) || !scene.geometry.fits(frame) {
        return Ok(None);
    }
    let drawn = drawn(scene, patch.on, &patch.outline);
    let extent = scene.extent();
    let size = extent.size();
    let Some(mask) = Mask::drawn(&drawn, 0.0, 0.0, extent) else { return Ok(None) };
    let grid = mask.grid();
    let (Grid { rect, level, .. }, up) = (grid, grid.step());
    let start = patch.transform.unwrap_or(PatchTransform::UNMOVED);
    let recipe = whole(scene.recipe);
    let scene = Scene { recipe: &recipe, ..*scene };
    let grey = |layer: &LayerData, rect: Rect| Grey {
        width: rect.width as usize,
        height: rect.height as usize,
        corner: Point::new(rect.x as f64, rect.y as f64),
        values: (0..layer.planes[0].len())
            .map(|i| layer.planes.iter().map(|p| f32::from(p[i])).sum::<f32>() / 3.0)
            .collect(),
    };
    let all = grid.cut(size.at_level(level).rect());
    let middle = patch::middle(&drawn);
    let picture = grey(&scene.sides(patch.source, None, &[], &grid)?.source, rect);
    let inside = mask.weights().iter().map(|w| *w > 0.9).collect();
    let thing = Template { picture, inside, middle: all.within(middle) };
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
    let below = below(&scene, patch);
    let plate = grey(&scene.sides(patch.source, None, &below, &grid.cut(around))?.plate, around);
    let scaled = |p: PatchTransform, by: f64| PatchTransform { shift: p.shift.map(|v| by * v), ..p };
    Ok(patch::locate::find(thing, plate, scaled(start, 1.0 / up)).map(|p| scaled(p, up)))
}
