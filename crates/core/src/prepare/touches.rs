//! Touches made ready: each from what the patches and the touches before it show around its area.

use super::patches::drawn;
use crate::fill::search_area;
use crate::geometry::{Grid, Point, Rect, ends};
use crate::patch::PatchTransform;
use crate::patch::mask::Mask;
use crate::render::{RenderError, Scene, Stage, View};
use crate::touch::{self, Act, Around, PlacedTouch, Touch, TouchError, make, propose};
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
        let made = match variants(&scene, touch, 1, kept) {
            Ok(made) => made,
            Err(PlaceError::Render(e)) => return Err(e),
            Err(PlaceError::Touch(_)) => None,
        };
        if let Some((key, made)) = made {
            let at = chosen(touch).min(made.made.len() - 1);
            let key = format!("{key}.{at}");
            let invented = touch.act.invents();
            placed.push(PlacedTouch {
                index,
                key,
                strength: touch.strength,
                invented,
                made: made.made[at].clone(),
            });
        }
    }
    Ok(placed)
}

/// Which of its variants a touch shows.
fn chosen(touch: &Touch) -> usize {
    match touch.act {
        Act::Invent { variant, .. } => variant.into(),
        _ => 0,
    }
}

/// The variants of a touch, at least so many of an invention, with their key; `None` when it lies outside the canvas.
///
/// # Errors
/// When a frame cannot be read or the touch cannot be made.
pub fn variants(
    scene: &Scene<'_>,
    touch: &Touch,
    least: usize,
    kept: Keep<'_>,
) -> Result<Option<(String, Variants)>, PlaceError> {
    let Some(place) = Place::of(scene, touch) else { return Ok(None) };
    let names = scene.stages(View::Plate)?.names(&place.grid).join("-");
    let act = match touch.act {
        Act::Invent { seed, .. } => format!("invent {seed}"),
        other => format!("{other:?}"),
    };
    let key = digits(&format!("{names} {:?} {act} {:?}", place.touch.outline, touch.feather));
    let least = least.max(chosen(touch) + 1);
    let made = kept(&key, least, &|| {
        let plate = scene.codes(place.grid.rect)?;
        let around = Around { grid: place.grid, plate: &plate, mask: &place.mask, part: place.part };
        Ok(Arc::new(make(&place.touch, &around, least, &crate::progress::no_progress)?))
    })?;
    Ok(Some((key, made)))
}

/// The move from a source that goes on best from a touch's rim; `None` when it lies outside the canvas, or there is none.
///
/// # Errors
/// When a frame cannot be read.
pub fn propose_source(scene: &Scene<'_>, touch: &Touch) -> Result<Option<PatchTransform>, RenderError> {
    let touch = Touch { act: Act::Invent { seed: 0, variant: 0 }, ..touch.clone() };
    let Some(place) = Place::of(scene, &touch) else { return Ok(None) };
    let plate = scene.codes(place.grid.rect)?;
    Ok(propose(&Around { grid: place.grid, plate: &plate, mask: &place.mask, part: place.part }))
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
        let outline: Vec<Point> = drawn(scene, touch.on, &touch.outline);
        let touch = Touch { outline, ..touch.clone() };
        let mask = Mask::drawn(&touch.outline, touch.feather, 0.0, scene.reference_size())?;
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
        if let Act::Copy { transform } | Act::Mend { transform, .. } = touch.act
            && let Some(back) = transform.about(crate::patch::middle(&touch.outline)).inverse()
        {
            let (low, high) = ends(&touch.outline);
            let far = touch.feather + 6.0;
            let (low, high) = (Point::new(low.x - far, low.y - far), Point::new(high.x + far, high.y + far));
            let corners = [low, high, Point::new(low.x, high.y), Point::new(high.x, low.y)];
            let moved: Vec<Point> = corners.iter().map(|&p| all.within(back.apply(p))).collect();
            let (low, high) = ends(&moved);
            let (x, y) = (low.x.floor() as i64, low.y.floor() as i64);
            let size = ((high.x.ceil() as i64 - x + 1) as u32, (high.y.ceil() as i64 - y + 1) as u32);
            let source = Rect::new(x, y, size.0, size.1).intersect(all.rect);
            search = if source.is_empty() { part } else { part.union(source) };
        }
        Some(Self { touch, mask, grid: all.cut(search), part })
    }
}
