//! Touches made ready: each from what the patches and the touches before it show around its area.

use super::patches::{drawn, follow};
use crate::fill::search_area;
use crate::geometry::{Grid, Point, Rect, ends};
use crate::patch::PatchTransform;
use crate::patch::mask::Mask;
use crate::pixel::distance::distances_within;
use crate::pixel::flood::parts;
use crate::progress::{ProgressFn, no_progress};
use crate::recipe::{Part, Shown};
use crate::render::{RenderError, Scene, Stage, View};
use crate::touch::{
    self, Act, Around, Fault, MadeTouch, PlacedTouch, Proposed, Touch, TouchError, compose, faults, make,
    propose,
};
use std::sync::Arc;

/// Why touches cannot be made ready.
#[derive(Debug, Clone, thiserror::Error)]
pub enum PlaceError {
    /// A frame cannot be read, or none takes part.
    #[error(transparent)]
    Render(#[from] RenderError),
    /// The touch itself.
    #[error(transparent)]
    Touch(#[from] TouchError),
}

/// The variants of a touch, as they are kept.
pub type Variants = Arc<touch::Variants>;

/// What remembers the variants of a touch by a key, at least so many of them, and makes them by what it is given.
pub type Keep<'a> =
    &'a dyn Fn(&str, usize, &dyn Fn() -> Result<Variants, PlaceError>) -> Result<Variants, PlaceError>;

/// Makes the recipe's touches ready over a scene with its patches; those that are off, lie outside the canvas, were drawn on a frame that does not fit, or cannot be made are left out.
///
/// # Errors
/// When a frame cannot be read.
pub fn place_touches(scene: &Scene<'_>, kept: Keep<'_>) -> Result<Vec<PlacedTouch>, RenderError> {
    let mut placed: Vec<PlacedTouch> = Vec::new();
    for (index, touch) in scene.recipe.touches.iter().enumerate().filter(|(_, t)| !t.disabled) {
        let below: Vec<&dyn Stage> = placed.iter().map(|t| t as &dyn Stage).collect();
        let scene = Scene { touches: &below, ..*scene };
        let made = match chosen(&scene, touch, kept) {
            Ok(made) => made,
            Err(PlaceError::Render(e)) => return Err(e),
            Err(PlaceError::Touch(_)) => None,
        };
        if let Some((key, made)) = made {
            let (strength, invented) = (touch.strength, touch.act.invents());
            placed.push(PlacedTouch { index, key, strength, invented, made });
        }
    }
    Ok(placed)
}

/// What a touch shows, with its key; `None` when it lies outside the canvas.
fn chosen(
    scene: &Scene<'_>,
    touch: &Touch,
    kept: Keep<'_>,
) -> Result<Option<(String, Arc<MadeTouch>)>, PlaceError> {
    let (at, _) = touch.variants();
    if touch.parts.is_empty() {
        let Some((key, made)) = variants(scene, touch, 1, kept, &no_progress)? else { return Ok(None) };
        let at = at.min(made.made.len() - 1);
        return Ok(Some((format!("{key}.{at}"), made.made[at].clone())));
    }
    let Some(place) = Place::of(scene, touch) else { return Ok(None) };
    let Some((key, all)) = variants(scene, touch, 1, kept, &no_progress)? else { return Ok(None) };
    let key = digits(&format!("{key} {at} {:?}", place.touch.parts));
    let made = kept(&key, 1, &|| {
        let made = place.looked_at(scene, |around| Ok(compose(&place.touch, around, &all)?))?;
        Ok(Arc::new(touch::Variants::from(made)))
    })?;
    Ok(Some((key, made.made[0].clone())))
}

/// The variants of a touch, at least so many of an invention, with their key; `None` when it lies outside the canvas.
///
/// # Errors
/// When a frame cannot be read, the touch cannot be made, or the watcher stops it.
pub fn variants(
    scene: &Scene<'_>,
    touch: &Touch,
    least: usize,
    kept: Keep<'_>,
    watch: ProgressFn<'_>,
) -> Result<Option<(String, Variants)>, PlaceError> {
    let Some(place) = Place::of(scene, touch) else { return Ok(None) };
    let names = scene.stages(View::Plate)?.names(&place.grid).join("-");
    let act = match touch.act {
        Act::Invent { seed, .. } => format!("invent {seed}"),
        other => format!("{other:?} {} {:?}", place.source_names(scene)?, touch.shown),
    };
    let drawn = &place.touch;
    let key = digits(&format!(
        "{names} {:?} {act} {:?} {:?} {:?} {}",
        drawn.outline, touch.feather, drawn.plane, drawn.barred, touch.snap_to_edges
    ));
    let least = least.max(touch.variants().1 + 1);
    let made = kept(&key, least, &|| {
        Ok(Arc::new(place.looked_at(scene, |around| Ok(make(drawn, around, least, watch)?))?))
    })?;
    Ok(Some((key, made)))
}

/// The move from a source that goes on best from a touch's rim; `None` when it lies outside the canvas, or there is none.
///
/// # Errors
/// When a frame cannot be read.
pub fn propose_source(scene: &Scene<'_>, touch: &Touch) -> Result<Option<Proposed>, RenderError> {
    let touch = Touch { act: Act::Invent { seed: 0, variant: 0 }, ..touch.clone() };
    let Some(place) = Place::of(scene, &touch) else { return Ok(None) };
    let found = place.looked_at(scene, |around| Ok(propose(&place.touch, around)));
    found.map_err(unmade)
}

/// Looking alone makes nothing that could not be made.
fn unmade(error: PlaceError) -> RenderError {
    match error {
        PlaceError::Render(e) => e,
        PlaceError::Touch(_) => RenderError::NoFrames,
    }
}

/// The corners of a plane that a touch lies in, in pixels of the reference; `None` when it lies outside the canvas, or none is found.
///
/// # Errors
/// When a frame cannot be read.
pub fn propose_plane(scene: &Scene<'_>, touch: &Touch) -> Result<Option<[Point; 4]>, RenderError> {
    let touch = Touch { act: Act::Invent { seed: 0, variant: 0 }, plane: None, ..touch.clone() };
    let Some(place) = Place::of(scene, &touch) else { return Ok(None) };
    let found = place.looked_at(scene, |around| Ok(touch::propose_plane(around)));
    found.map_err(unmade)
}

/// What of a touch can be seen on the plate of a scene, it and all others laid, each with an outline of where in pixels of the reference;
/// nothing when it lies outside the canvas.
///
/// # Errors
/// When a frame cannot be read.
pub fn touch_faults(scene: &Scene<'_>, touch: &Touch) -> Result<Vec<(Fault, Vec<Point>)>, RenderError> {
    /// Pixels around it that are looked at.
    const AROUND: u32 = 16;
    let plain = Touch { act: Act::Even { slow: 2.0 }, ..touch.clone() };
    let Some(mut place) = Place::of(scene, &plain) else { return Ok(Vec::new()) };
    let all = scene.grid(View::Plate, 0);
    place.grid = all.cut(place.part).grown(AROUND, all.rect);
    let plate = scene.codes(place.grid.rect)?;
    let (mask, grid, part) = (place.followed(scene)?, place.grid, place.part);
    let around = Around { grid, plate: &plate, source: None, barred: &[], void: &[], mask: &mask, part };
    let found = faults(&plate, &around.hole(), grid.rect.size());
    Ok(found.into_iter().map(|found| (found.fault, outlined(&found.pixels, &grid))).collect())
}

/// The outline of the largest part of some pixels, in pixels of the reference; empty for none.
fn outlined(pixels: &[usize], grid: &Grid) -> Vec<Point> {
    let (w, h) = (grid.rect.width as i64, grid.rect.height as i64);
    let mut open = vec![false; (w * h) as usize];
    pixels.iter().for_each(|&p| open[p] = true);
    let Some(part) = parts(&mut open, w as usize, pixels.iter().copied(), 2).into_iter().max_by_key(Vec::len)
    else {
        return Vec::new();
    };
    // Pixels that touch belong together, and where it is thin it must stay one.
    let mut own = vec![false; open.len()];
    part.iter().for_each(|&p| own[p] = true);
    let near: Vec<bool> = distances_within(&own, w as usize, 2).into_iter().map(f32::is_finite).collect();
    grid.outline(&near, 200)
}

/// Digits for a text.
fn digits(text: &str) -> String {
    use std::hash::{DefaultHasher, Hash, Hasher};
    let half = |salt: u8| {
        let mut hash = DefaultHasher::new();
        (salt, text).hash(&mut hash);
        hash.finish()
    };
    format!("{:016x}{:016x}", half(0), half(1))
}

/// Where a touch lies.
struct Place {
    /// As it lies on the reference.
    touch: Touch,
    mask: Mask,
    /// What of the canvas is looked at, at full size.
    grid: Grid,
    /// The part that may change, with room for whole pixels of coarser levels.
    part: Rect,
}

impl Place {
    fn of(scene: &Scene<'_>, touch: &Touch) -> Option<Self> {
        /// Pixels that the changing part is a multiple of, as far as the canvas goes.
        const WHOLE: i64 = 64;
        let on_reference = |outline: &[Point]| drawn(scene, touch.on, outline);
        let touch = Touch {
            outline: on_reference(&touch.outline),
            plane: touch.plane.map(|corners| {
                let moved = on_reference(&corners);
                std::array::from_fn(|k| moved[k])
            }),
            barred: touch.barred.iter().map(|outline| on_reference(outline)).collect(),
            parts: touch
                .parts
                .iter()
                .map(|part| Part { outline: on_reference(&part.outline), ..part.clone() })
                .collect(),
            ..touch.clone()
        };
        let mask = Mask::drawn(&touch.outline, touch.feather, 0.0, scene.extent())?;
        let all = scene.grid(View::Plate, 0);
        let (low, high) = mask.reach();
        let (low, high) = (all.within(low), all.within(high));
        let (left, top) = (low.x.floor() as i64 - 1, low.y.floor() as i64 - 1);
        let (right, bottom) = (high.x.ceil() as i64 + 2, high.y.ceil() as i64 + 2);
        let hole = Rect::new(left, top, (right - left) as u32, (bottom - top) as u32).intersect(all.rect);
        if hole.is_empty() {
            return None;
        }
        let (x, y) = (left.div_euclid(WHOLE) * WHOLE, top.div_euclid(WHOLE) * WHOLE);
        let (to_x, to_y) = (-(-right).div_euclid(WHOLE) * WHOLE, -(-bottom).div_euclid(WHOLE) * WHOLE);
        let part = Rect::new(x, y, (to_x - x) as u32, (to_y - y) as u32).intersect(all.rect);
        let mut search = search_area(hole, all.rect).union(part);
        if let Act::Copy { transform } | Act::Mend { transform, .. } = touch.act {
            search = match source_box(&touch, &transform, &all) {
                Some(source) => part.union(source),
                None => part,
            };
        }
        Some(Self { touch, mask, grid: all.cut(search), part })
    }

    /// Calls with what lies around it, and what it may take from.
    fn looked_at<T>(
        &self,
        scene: &Scene<'_>,
        f: impl FnOnce(&Around<'_>) -> Result<T, PlaceError>,
    ) -> Result<T, PlaceError> {
        let rect = self.grid.rect;
        let plate = scene.codes(rect)?;
        let source = match self.touch.shown {
            _ if !self.touch.act.copies() => None,
            Shown::Plate => None,
            Shown::Bare => Some(Scene { touches: &[], ..*scene }.codes(rect)?),
            Shown::Frame(frame) => Some(scene.codes_of(View::Frame(frame), rect)?),
        };
        let (mask, void) = (self.followed(scene)?, self.void(scene));
        let barred = self.barred(scene, &void);
        let Self { grid, part, .. } = *self;
        f(&Around {
            grid,
            plate: &plate,
            source: source.as_ref(),
            barred: &barred,
            void: &void,
            mask: &mask,
            part,
        })
    }

    /// Where it lies, with its border at edges of the picture where that is wanted.
    fn followed(&self, scene: &Scene<'_>) -> Result<Mask, RenderError> {
        let mut mask = self.mask.clone();
        if self.touch.snap_to_edges {
            follow(&mut mask, scene, View::Plate, self.touch.feather)?;
        }
        Ok(mask)
    }

    /// What no frame shows beyond its area, and no touch below it has made up; empty for nothing.
    fn void(&self, scene: &Scene<'_>) -> Vec<bool> {
        let mut out = scene.uncovered(&self.grid);
        if !out.contains(&true) {
            return Vec::new();
        }
        let w = self.grid.rect.width as usize;
        for (y, row) in out.chunks_mut(w.max(1)).enumerate() {
            let made = scene.touches.iter().filter_map(|t| t.share(self.grid.place(0.0, y as f64), 1.0, w));
            for shares in made {
                row.iter_mut().zip(shares).for_each(|(void, share)| *void &= share < 1.0);
            }
            if let Some(weights) = self.mask.row(&self.grid, y) {
                row.iter_mut().zip(weights).for_each(|(void, weight)| *void &= weight == 0.0);
            }
        }
        out
    }

    /// What must not be taken from: what no frame shows, what its owner barred, where other touches lie that its source does not show, and
    /// where the frame that it takes from does not reach.
    fn barred(&self, scene: &Scene<'_>, void: &[bool]) -> Vec<bool> {
        let bare = self.touch.act.copies() && self.touch.shown != Shown::Plate;
        let others = scene.recipe.touches.iter().filter(|t| bare && !t.disabled && t.act.invents());
        let mut areas: Vec<(Vec<Point>, f64)> =
            others.map(|t| (drawn(scene, t.on, &t.outline), t.feather)).collect();
        areas.extend(self.touch.barred.iter().map(|outline| (outline.clone(), 0.0)));
        let frame = match self.touch.shown {
            Shown::Frame(frame) if bare => Some(frame),
            _ => None,
        };
        if areas.is_empty() && frame.is_none() {
            return void.to_vec();
        }
        let w = self.grid.rect.width as usize;
        let mut out = void.to_vec();
        out.resize(self.grid.rect.size().pixels() as usize, false);
        for (outline, feather) in areas {
            let Some(mask) = Mask::drawn(&outline, feather, 0.0, scene.extent()) else { continue };
            for (y, row) in out.chunks_mut(w.max(1)).enumerate() {
                if let Some(weights) = mask.row(&self.grid, y) {
                    row.iter_mut().zip(weights).for_each(|(o, v)| *o |= v > 0.0);
                }
            }
        }
        if let Some(frame) = frame {
            let (projection, size) = (scene.geometry.projection(frame), scene.geometry.size(frame));
            for (p, barred) in out.iter_mut().enumerate() {
                let at = projection.apply(self.grid.place((p % w) as f64, (p / w) as f64));
                *barred |= !size.holds(at);
            }
        }
        out
    }

    /// Names what it takes from, where that is not the plate.
    fn source_names(&self, scene: &Scene<'_>) -> Result<String, RenderError> {
        let names = |scene: &Scene<'_>, view| -> Result<String, RenderError> {
            Ok(scene.stages(view)?.names(&self.grid).join("-"))
        };
        let others = || {
            let others = scene.recipe.touches.iter().filter(|t| !t.disabled && t.act.invents());
            format!("{:?}", others.map(|t| (&t.outline, t.feather)).collect::<Vec<_>>())
        };
        match self.touch.shown {
            _ if !self.touch.act.copies() => Ok(String::new()),
            Shown::Plate => Ok(String::new()),
            Shown::Bare => Ok(names(&Scene { touches: &[], ..*scene }, View::Plate)? + &others()),
            Shown::Frame(frame) => Ok(names(scene, View::Frame(frame))? + scene.name + &others()),
        }
    }
}

/// The part of the canvas that a touch takes its pixels from.
fn source_box(touch: &Touch, transform: &PatchTransform, all: &Grid) -> Option<Rect> {
    let middle = crate::patch::middle(&touch.outline);
    let back = transform.onto(middle).inverse()?;
    let plane = touch.seen().ok()?;
    let (low, high) = ends(&touch.outline);
    let far = touch.feather + 6.0;
    let (low, high) = (Point::new(low.x - far, low.y - far), Point::new(high.x + far, high.y + far));
    let corners = [low, high, Point::new(low.x, high.y), Point::new(high.x, low.y)];
    let moved: Vec<Point> = corners
        .iter()
        .map(|&p| match &plane {
            None => back.apply(p),
            Some(plane) => plane.back.apply(back.apply(plane.front.apply(p))),
        })
        .map(|p| all.within(p))
        .collect();
    if !moved.iter().all(|p| p.x.is_finite() && p.y.is_finite() && p.x.abs() < 1e7 && p.y.abs() < 1e7) {
        return None;
    }
    let (low, high) = ends(&moved);
    let (x, y) = (low.x.floor() as i64 - 2, low.y.floor() as i64 - 2);
    let size = ((high.x.ceil() as i64 - x + 3) as u32, (high.y.ceil() as i64 - y + 3) as u32);
    let source = Rect::new(x, y, size.0, size.1).intersect(all.rect);
    (!source.is_empty()).then_some(source)
}
