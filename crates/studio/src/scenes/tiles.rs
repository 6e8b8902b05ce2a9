//! Tiles of any view, and what they are called by.
//!
//! A plate's tile is the same as long as the patches are that reach it, so it can be named after them: a patch then gives new
//! addresses to the tiles it reaches, and undoing it gives them back those they had.

use super::Scenes;
use super::opened::{Loaded, Opened, TILE};
use super::views::{Pixels, encode};
use crate::error::{StudioError, invalid};
use crate::model::{Reach, Spot, TileNames};
use evanu_core::combine::consensus::LayerData;
use evanu_core::geometry::{Grid, Rect};
use evanu_core::patch::mask::Mask;
use evanu_core::patch::{FittedPatch, Patch};
use evanu_core::pixel::Raster;
use evanu_core::recipe::{Canvas, FrameId};
use evanu_core::render::{Aligned, Kept, RenderError, Scene, Stage, View};
use std::sync::Arc;

/// Levels of a pyramid that are ever asked for.
const LEVELS: u32 = 25;

/// Where a tile lies on its level, which may be beyond the picture.
fn area((column, row): (u32, u32)) -> Rect {
    let side = i64::from(TILE);
    Rect::new(i64::from(column) * side, i64::from(row) * side, TILE, TILE)
}

/// The name that the samples of a plate's tile are kept under.
fn samples_name(opened: &Opened, level: u32, place: (u32, u32)) -> String {
    format!("{}-{}-{:?}-{level}-{place:?}", opened.set, opened.keys.samples, opened.recipe.excluded)
}

/// The samples of the tiles last looked at, for a scene of a whole reference.
pub(crate) struct KeptTiles<'a> {
    pub scenes: &'a Scenes,
    pub opened: &'a Opened,
}

impl KeptTiles<'_> {
    /// Those that a block lies on, when all of them are there.
    fn under(&self, grid: &Grid) -> Option<Vec<Arc<Aligned>>> {
        // Tiles of the common area lie elsewhere.
        if self.opened.recipe.canvas == Canvas::Common {
            return None;
        }
        let (side, Grid { rect: block, level, .. }) = (i64::from(TILE), *grid);
        let along = |from: i64, end: i64| (from / side) as u32..=((end - 1) / side) as u32;
        let rows = along(block.y, block.bottom());
        let places = rows.flat_map(|y| along(block.x, block.right()).map(move |x| (x, y)));
        let kept = |place| self.scenes.0.aligned.get(&samples_name(self.opened, level, place));
        places.map(kept).collect()
    }
}

impl Kept for KeptTiles<'_> {
    fn layer(&self, frame: usize, grid: &Grid) -> Option<LayerData> {
        Aligned::layer(&self.under(grid)?, frame, grid)
    }

    fn plate(&self, stages: &[String], grid: &Grid) -> Option<LayerData> {
        Aligned::plate(&self.under(grid)?, stages, grid)
    }
}

/// A key of a part of the plate: the names of the stages that its pixels come from.
pub(crate) fn content_key(scene: &Scene<'_>, grid: &Grid) -> Result<String, RenderError> {
    Ok(scene.stages(View::Plate)?.names(grid).join("-"))
}

/// The same of a plate's tile.
fn tile_key(loaded: &Loaded, level: u32, place: (u32, u32)) -> Result<String, RenderError> {
    loaded.with(|scene| content_key(scene, &scene.grid(View::Plate, level).cut(area(place))))
}

impl Scenes {
    /// What the tiles of a plate are called by; `None` while its patches are being fitted.
    pub(super) fn tile_names(&self, opened: &Arc<Opened>) -> Option<TileNames> {
        let loaded = self.at_hand(opened)?;
        let canvas = loaded.with(|s| s.canvas());
        let (x, y) = (canvas.x as f64, canvas.y as f64);
        let reach = |mask: &Mask, name: String| {
            let (from, to) = mask.reach();
            Reach { name, left: from.x - x, top: from.y - y, right: to.x - x, bottom: to.y - y }
        };
        let touches = loaded.touches.iter().map(|t| reach(&t.made.mask, t.name()));
        Some(TileNames {
            bare: loaded.keys.bare.clone(),
            patches: loaded.patches.iter().map(|l| reach(&l.fit.mask, l.name())).chain(touches).collect(),
        })
    }

    /// The plate that a tile's address means, and the name of the tile: the set as it stands, or a state that is looked at.
    fn meant(
        &self,
        set: i64,
        key: &str,
        level: u32,
        place: (u32, u32),
    ) -> Result<(Loaded, String), StudioError> {
        let now = self.shown(set)?;
        let whole = if key == now.keys.plate { Some(now.clone()) } else { self.0.states.get(key) };
        if let Some(opened) = whole {
            let loaded = self.patched(&opened)?;
            let content = tile_key(&loaded, level, place)?;
            return Ok((loaded, content));
        }
        let states: Vec<_> = self.0.states.iter().map(|(_, state)| state).collect();
        for opened in std::iter::once(now).chain(states).filter(|o| key.starts_with(&o.keys.bare)) {
            let loaded = self.patched(&opened)?;
            let content = tile_key(&loaded, level, place)?;
            if content == key {
                return Ok((loaded, content));
            }
        }
        Err(outdated())
    }

    /// A tile of a view: encoded bytes and a tag that changes whenever they do.
    ///
    /// `level` is that of the pyramid, with the tile's column and row. With a `part`, only that of it is given, in its own pixels: as
    /// its corners lie on the squares of eight pixels that a picture is coded by, what is decoded is the same as in the whole tile.
    /// With `key` the caller says which state it means, for a plate also by the tile's own name; an outdated one is refused, so that
    /// an address always means the same bytes.
    ///
    /// # Errors
    /// When the tile does not exist, is outdated, or the frames are not ready; when the part lies off those squares or beyond the tile.
    pub fn tile(
        &self,
        set: i64,
        key: &str,
        view: View<FrameId>,
        (level, place): (u32, (u32, u32)),
        part: Option<Rect>,
        kind: Pixels,
    ) -> Result<(Arc<Vec<u8>>, String), StudioError> {
        if level >= LEVELS {
            return Err(no_tile());
        }
        if part.is_some_and(|p| !is_coded_alone(p)) {
            return Err(invalid(
                "a part of a tile begins and ends at multiples of 8 of its pixels, within its 512",
            ));
        }
        let (loaded, content) = match view {
            View::Plate | View::By(_) | View::Agreement => self.meant(set, key, level, place)?,
            View::Frame(_) | View::Shot(_) | View::Difference(_) => {
                let opened = self.shown(set)?;
                if key != opened.keys.frames {
                    return Err(outdated());
                }
                (opened.bare(), key.to_owned())
            }
        };
        let view = view.map_frame(|frame| loaded.index(frame))?;
        let Some(part) = part else { return self.drawn(&loaded, content, view, (level, place), kind) };
        let raster = self.pixels(&loaded, view, (level, place), |region| {
            Rect::new(part.x + region.x, part.y + region.y, part.width, part.height).intersect(region)
        })?;
        let tag = format!("{}-{part:?}", tag(&loaded, &content, view, (level, place), kind));
        Ok((Arc::new(encode(&raster, kind)?), tag))
    }

    /// The same of what `content` is the name of.
    fn drawn(
        &self,
        loaded: &Loaded,
        content: String,
        view: View,
        at: (u32, (u32, u32)),
        kind: Pixels,
    ) -> Result<(Arc<Vec<u8>>, String), StudioError> {
        let tag = tag(loaded, &content, view, at, kind);
        // Who asks for the same meanwhile waits for it. None of these is a thread of the pools.
        let made = self.0.tiles.try_get_with_by_ref(&tag, || -> Result<_, StudioError> {
            let raster = self.pixels(loaded, view, at, |region| region)?;
            Ok(Arc::new(encode(&raster, kind)?))
        });
        Ok((made.map_err(StudioError::shared)?, tag))
    }

    /// A part of a tile of a view, which is told the area of the tile.
    fn pixels(
        &self,
        loaded: &Loaded,
        view: View,
        (level, place): (u32, (u32, u32)),
        part: impl Fn(Rect) -> Rect,
    ) -> Result<Raster, StudioError> {
        let region = loaded.with(|scene| area(place).intersect(scene.size(view).at_level(level).rect()));
        let part = part(region);
        if part.is_empty() {
            return Err(no_tile());
        }
        if !matches!(view, View::Plate | View::By(_)) {
            return Ok(loaded.with(|scene| scene.render(view, part, level))?);
        }
        let name = samples_name(loaded, level, place);
        let kept = self.0.aligned.try_get_with(name, || -> Result<_, StudioError> {
            Ok(Arc::new(loaded.with(|scene| scene.aligned(region, level))?))
        });
        let aligned = kept.map_err(StudioError::shared)?;
        Ok(loaded.with(|scene| aligned.combined(scene, view, part))?)
    }

    /// A patch fitted to the plate of a scene, or what is kept of that.
    pub(crate) fn fitted(
        &self,
        opened: &Opened,
        scene: &Scene<'_>,
        patch: &Patch,
    ) -> Result<Option<Arc<FittedPatch>>, RenderError> {
        let name = format!("{} {:x}", opened.keys.patched, evanu_core::prepare::fit_key(scene, patch));
        if let Some(fit) = self.0.fits.get(&name) {
            return Ok(fit);
        }
        let scene = Scene { kept: Some(&KeptTiles { scenes: self, opened }), ..*scene };
        let fit = evanu_core::prepare::fit(&scene, patch)?.map(Arc::new);
        self.0.fits.insert(name, fit.clone());
        Ok(fit)
    }

    /// Combines tiles of a plate that are looked at, so that they are there, or on their way, when a page asks for them or for
    /// what has changed of them; not when the set has changed again meanwhile.
    pub(crate) fn look_ahead(&self, loaded: &Loaded, looking: &[Spot]) {
        /// As many as a large window has.
        const MOST_TILES: usize = 60;
        let draw = |spot: &Spot| {
            let at = (spot.level, (spot.x, spot.y));
            if spot.level < LEVELS && self.shows(loaded) {
                // A pixel has all of it combined. Who asks for it hears what is wrong.
                let _ = self.pixels(loaded, View::Plate, at, |r| Rect::new(r.x, r.y, 1, 1));
            }
        };
        std::thread::scope(|threads| {
            for spot in looking.iter().take(MOST_TILES) {
                threads.spawn(move || draw(spot));
            }
        });
    }
}

/// Whether a part of a tile lies on the squares that a picture is coded by.
fn is_coded_alone(part: Rect) -> bool {
    let end = |from: i64, size: u32| {
        (0..i64::from(TILE)).contains(&from) && from + i64::from(size) <= i64::from(TILE)
    };
    let on = |v: i64| v % 8 == 0;
    end(part.x, part.width)
        && end(part.y, part.height)
        && [part.x, part.y, part.right(), part.bottom()].map(on) == [true; 4]
}

/// What a tile's bytes are known by.
fn tag(
    loaded: &Loaded,
    content: &str,
    view: View,
    (level, place): (u32, (u32, u32)),
    kind: Pixels,
) -> String {
    format!("{}-{content}-{view:?}-{level}-{}-{}-{kind:?}", loaded.set, place.0, place.1)
}

fn no_tile() -> StudioError {
    StudioError::NotFound("there is no such tile".into())
}

fn outdated() -> StudioError {
    StudioError::Conflict("the set has changed meanwhile; ask for its state again".into())
}
