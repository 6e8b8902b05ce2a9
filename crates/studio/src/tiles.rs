//! Tiles of any view, and what they are called by.
//!
//! A plate's tile is the same as long as the lifts are that reach it, so it can be named after them: a lift then gives new
//! addresses to the tiles it reaches, and undoing it gives them back those they had.

use crate::error::StudioError;
use crate::model::{Reach, Spot, TileNames};
use crate::opened::{Loaded, Opened};
use crate::views::{Pixels, encode, invalid};
use crate::{Studio, View, lock};
use evanu_core::combine::consensus::LayerData;
use evanu_core::composite::Laid;
use evanu_core::geometry::{Point, Rect};
use evanu_core::pixel::Raster;
use evanu_core::recipe::Canvas;
use evanu_core::render::{Aligned, Kept, Scene};
use lru::LruCache;
use std::sync::{Arc, Mutex};

/// Side of a tile in pixels.
pub const TILE: u32 = 512;

/// Levels of a pyramid that are ever asked for.
const LEVELS: u32 = 25;

/// An encoded tile; held while it is being made.
pub(crate) type Encoded = Arc<Mutex<Option<Arc<Vec<u8>>>>>;

/// Aligned samples of the tiles last looked at, so that a change of method shows at once; bounded in bytes.
pub(crate) struct AlignedTiles {
    tiles: LruCache<String, Arc<Aligned>>,
    bytes: u64,
}

impl AlignedTiles {
    const BUDGET: u64 = 256 << 20;

    pub fn new() -> Self {
        Self { tiles: LruCache::unbounded(), bytes: 0 }
    }

    fn get(&mut self, name: &str) -> Option<Arc<Aligned>> {
        self.tiles.get(name).cloned()
    }

    fn put(&mut self, name: String, aligned: Arc<Aligned>) {
        self.bytes += aligned.bytes;
        if let Some(old) = self.tiles.put(name, aligned) {
            self.bytes -= old.bytes;
        }
        while self.bytes > Self::BUDGET {
            let Some((_, old)) = self.tiles.pop_lru() else { break };
            self.bytes -= old.bytes;
        }
    }
}

/// Where a tile lies on its level, which may be beyond the picture.
fn area((column, row): (u32, u32)) -> Rect {
    let side = i64::from(TILE);
    Rect::new(i64::from(column) * side, i64::from(row) * side, TILE, TILE)
}

/// The name that the samples of a plate's tile are kept under.
fn samples_name(opened: &Opened, level: u32, place: (u32, u32)) -> String {
    format!("{}-{}-{:?}-{level}-{place:?}", opened.set, opened.stack_key, opened.recipe.used)
}

/// The samples of the tiles last looked at, for a scene of a whole reference.
pub(crate) struct KeptTiles<'a> {
    pub studio: &'a Studio,
    pub opened: &'a Opened,
}

impl KeptTiles<'_> {
    /// Those that a block lies on, when all of them are there.
    fn under(&self, block: Rect, level: u32) -> Option<Vec<Arc<Aligned>>> {
        // Tiles of another canvas lie elsewhere.
        if self.opened.recipe.canvas != Canvas::Reference {
            return None;
        }
        let side = i64::from(TILE);
        let along = |from: i64, end: i64| (from / side) as u32..=((end - 1) / side) as u32;
        let rows = along(block.y, block.bottom());
        let places = rows.flat_map(|y| along(block.x, block.right()).map(move |x| (x, y)));
        let mut kept = lock(&self.studio.0.aligned);
        places.map(|place| kept.get(&samples_name(self.opened, level, place))).collect()
    }
}

impl Kept for KeptTiles<'_> {
    fn layer(&self, frame: usize, block: Rect, level: u32) -> Option<LayerData> {
        Aligned::layer(&self.under(block, level)?, frame, block)
    }

    fn plate(&self, lifts: &[&Laid], block: Rect, level: u32, corners: (Point, Point)) -> Option<LayerData> {
        Aligned::plate(&self.under(block, level)?, (&self.opened.bare_key, lifts), block, corners)
    }
}

/// What a lift is called: by its shape, what it lies over, and how much of it shows.
fn name_of(lift: &Laid) -> String {
    format!("{:x}.{:x}", lift.key, lift.strength.to_bits())
}

/// A key of a part of the plate, between two corners in reference pixels: that of the plate without lifts, and the lifts that
/// reach the part.
pub(crate) fn content_key(bare: &str, scene: &Scene<'_>, from: Point, to: Point) -> String {
    let reach = scene.plan.lifts.iter().filter(|l| l.fit.mask.touches(from, to));
    reach.fold(bare.to_owned(), |key, l| format!("{key}-{}", name_of(l)))
}

/// The same of a plate's tile.
fn tile_key(loaded: &Loaded, level: u32, place: (u32, u32)) -> String {
    loaded.with(|scene| {
        let (up, canvas, area) = (f64::from(1u32 << level), scene.canvas(), area(place));
        let at =
            |x: i64, y: i64| Point::new(canvas.x as f64 + up * x as f64, canvas.y as f64 + up * y as f64);
        content_key(&loaded.bare_key, scene, at(area.x, area.y), at(area.right(), area.bottom()))
    })
}

impl Studio {
    /// What the tiles of a plate are called by; `None` while its lifts are being fitted.
    pub(crate) fn tile_names(&self, opened: &Arc<Opened>) -> Option<TileNames> {
        let loaded = self.at_hand(opened)?;
        let canvas = loaded.with(|s| s.canvas());
        let (x, y) = (canvas.x as f64, canvas.y as f64);
        let reach = |l: &Laid| {
            let (from, to) = l.fit.mask.reach();
            Reach { name: name_of(l), left: from.x - x, top: from.y - y, right: to.x - x, bottom: to.y - y }
        };
        Some(TileNames {
            bare: loaded.bare_key.clone(),
            lifts: loaded.plan.lifts.iter().map(reach).collect(),
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
        let whole =
            if key == now.plate_key { Some(now.clone()) } else { lock(&self.0.states).get(key).cloned() };
        if let Some(opened) = whole {
            let loaded = self.lifted(&opened)?;
            let content = tile_key(&loaded, level, place);
            return Ok((loaded, content));
        }
        let states: Vec<_> = lock(&self.0.states).iter().map(|(_, state)| state.clone()).collect();
        for opened in std::iter::once(now).chain(states).filter(|o| key.starts_with(&o.bare_key)) {
            let loaded = self.lifted(&opened)?;
            let content = tile_key(&loaded, level, place);
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
        view: View,
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
        let (loaded, content) = if matches!(view, View::Plate | View::By(_) | View::Agreement) {
            self.meant(set, key, level, place)?
        } else {
            let opened = self.shown(set)?;
            if key != opened.frame_key {
                return Err(outdated());
            }
            (opened.bare(), key.to_owned())
        };
        if let View::Frame(i) | View::Shot(i) | View::Difference(i) = view
            && i >= loaded.sources.len()
        {
            return Err(StudioError::NotFound(format!("there is no frame {i}")));
        }
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
        let tile = lock(&self.0.tiles).get_or_insert(tag.clone(), Encoded::default).clone();
        // Held to the end: who asks for the same meanwhile waits for it. None of these is a thread of the pools.
        let mut encoded = lock(&tile);
        if let Some(bytes) = &*encoded {
            return Ok((bytes.clone(), tag));
        }
        let raster = self.pixels(loaded, view, at, |region| region)?;
        let bytes = Arc::new(encode(&raster, kind)?);
        *encoded = Some(bytes.clone());
        Ok((bytes, tag))
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
        let kept = lock(&self.0.aligned).get(&name);
        let aligned = match kept {
            Some(aligned) => aligned,
            None => {
                let aligned = Arc::new(loaded.with(|scene| scene.aligned(region, level))?);
                lock(&self.0.aligned).put(name, aligned.clone());
                aligned
            }
        };
        Ok(loaded.with(|scene| aligned.combined(scene, view, &loaded.bare_key, part))?)
    }

    /// Combines tiles of a plate that are looked at, so that they are there, or on their way, when a page asks for them or for
    /// what has changed of them; not when the set has changed again meanwhile.
    pub(crate) fn look_ahead(&self, loaded: &Loaded, looking: &[Spot]) {
        /// As many as a large window has.
        const MOST: usize = 60;
        let draw = |spot: &Spot| {
            let at = (spot.level, (spot.x, spot.y));
            if spot.level < LEVELS && self.shows(loaded) {
                // A pixel has all of it combined. Who asks for it hears what is wrong.
                let _ = self.pixels(loaded, View::Plate, at, |r| Rect::new(r.x, r.y, 1, 1));
            }
        };
        std::thread::scope(|threads| {
            for spot in looking.iter().take(MOST) {
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
