//! Pixels for the screen: tiles of any view, crops of one place in every frame, thumbnails, agreement.

use super::Scenes;
use super::opened::Loaded;
use super::patches::check_place;
use crate::error::{StudioError, invalid};
use crate::model::{AgreementFact, CropInfo, FitInfo, LookThrough};
use crate::store::lock;
use base64::Engine;
use evanu_core::combine::Method;
use evanu_core::develop::Develop;
use evanu_core::geometry::{Point, Rect, Size};
use evanu_core::pixel::{FrameSource, Raster};
use evanu_core::plan::{FrameAlignment, FrameTone, Plan};
use evanu_core::recipe::{FrameId, Recipe};
use evanu_core::render::{RenderError, Scene, View};
use evanu_media::{encode_jpeg, encode_png};

/// A frame that shows the same as the plate in more than this share of a spot agrees with it there; of a larger one, in which
/// somebody small may stand, in more than the second.
const SAME: (f32, f32) = (0.7, 0.85);
/// Pixels from which on a spot is large.
const LARGE: u64 = 1500;

/// Encodings for the screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Pixels {
    /// Small and quick.
    Jpeg,
    /// Exact in eight bits.
    Png,
}

/// The first pyramid level that is at most `side` pixels wide and high.
fn level_within(size: Size, side: u32) -> u32 {
    let fits = |&k: &u32| {
        let s = size.at_level(k);
        s.width.max(s.height) <= side
    };
    (0..31).find(fits).unwrap_or(0)
}

pub(super) fn small_plate(loaded: &Loaded, side: u32) -> Result<Raster, RenderError> {
    loaded.with(|scene| {
        let size = scene.size(View::Plate);
        let level = level_within(size, side);
        scene.render(View::Plate, size.at_level(level).rect(), level)
    })
}

impl Scenes {
    /// A frame as shot, or the plate, at most `side` pixels wide and high; of a set that is not opened, the picture that is kept for lists.
    ///
    /// # Errors
    /// When there is no such frame or the plate is not ready.
    pub fn thumbnail(&self, set: i64, frame: Option<FrameId>, side: u32) -> Result<Vec<u8>, StudioError> {
        let side = side.clamp(16, 2048);
        if let Some(kept) = self.kept_cover(set).filter(|_| frame.is_none()) {
            return Ok(kept);
        }
        let raster = match frame {
            None => small_plate(&self.patched(&self.shown(set)?)?, side)?,
            Some(id) => {
                let rows = self.0.sets.frames(set)?;
                let row = rows
                    .iter()
                    .find(|r| r.id == id)
                    .ok_or_else(|| StudioError::NotFound("there is no such frame".into()))?;
                if row.width == 0 {
                    return Err(StudioError::Conflict("the frame is still being read".into()));
                }
                let source = self.0.assets.pyramid(row)?;
                let level = level_within(source.size(), side);
                shot(&*source, level, self.0.sets.in_force(set)?.recipe.develop)?
            }
        };
        encode(&raster, Pixels::Jpeg)
    }

    /// The plate of a state of the history, at most `side` pixels wide and high; by the median where its consensus is not at
    /// hand, so that a long list of pictures keeps nobody waiting.
    ///
    /// # Errors
    /// When there is no such state, or its frames were aligned otherwise than any plan that is there.
    pub fn state_picture(&self, set: i64, seq: i64, side: u32) -> Result<Vec<u8>, StudioError> {
        let loaded = self.patched(&self.open_set(set, &self.0.sets.recipe_at(set, seq)?, true)?)?;
        encode(&small_plate(&loaded, side.clamp(16, 2048))?, Pixels::Jpeg)
    }

    /// The place around a canvas point in every frame by clock time, or by every method.
    ///
    /// `x` and `y` are canvas pixels; each crop is `size` pixels of pyramid level `level`, of which `spot` in the middle
    /// are compared with the plate.
    ///
    /// # Errors
    /// When the frames are not ready or the size is out of range.
    pub fn look(
        &self,
        set: i64,
        (x, y): (f64, f64),
        level: u32,
        (size, spot): (Size, Size),
        methods: bool,
    ) -> Result<LookThrough, StudioError> {
        if !(16..=400).contains(&size.width) || !(16..=400).contains(&size.height) || level > 16 {
            return Err(invalid("crops are 16 to 400 pixels a side"));
        }
        check_place(Point::new(x, y))?;
        let loaded = self.loaded(set)?;
        let rows = self.0.sets.frames(set)?;
        let order: Vec<usize> = rows.iter().filter_map(|r| loaded.index(r.id).ok()).collect();
        let scale = f64::from(1u32 << level);
        let at = |v: f64, n: u32| ((v - (scale - 1.0) / 2.0) / scale).round() as i64 - i64::from(n / 2);
        let region = Rect::new(at(x, size.width), at(y, size.height), size.width, size.height);
        let views: Vec<View> = if methods {
            Method::COMPARED.map(View::By).to_vec()
        } else {
            order.iter().map(|&i| View::Frame(i)).collect()
        };
        loaded.with(|scene| {
            let mut strip = Raster::new(Size::new(size.width * views.len().max(1) as u32, size.height));
            for (k, &view) in views.iter().enumerate() {
                let inside = region.intersect(scene.size(view).at_level(level).rect());
                if inside.is_empty() {
                    continue;
                }
                let crop = scene.render(view, inside, level)?;
                paste(
                    &mut strip,
                    &crop,
                    k as u32 * size.width + (inside.x - region.x) as u32,
                    (inside.y - region.y) as u32,
                );
            }
            // The spot itself, not what else the crop shows.
            let centre = |from: i64, n: u32, side: u32| from + i64::from(n / 2) - i64::from(side / 2);
            let middle = Rect::new(
                centre(region.x, size.width, spot.width),
                centre(region.y, size.height, spot.height),
                spot.width,
                spot.height,
            );
            let crops = if methods {
                views.iter().map(|_| CropInfo { frame: None, agrees: None, share: None }).collect()
            } else {
                let same = if spot.pixels() < LARGE { SAME.0 } else { SAME.1 };
                let shares = scene.agreement_of(&order, middle, level)?;
                order
                    .iter()
                    .zip(shares)
                    .map(|(&i, share)| CropInfo {
                        frame: Some(loaded.frames[i]),
                        agrees: share.map(|s| s > same),
                        share,
                    })
                    .collect()
            };
            let jpeg = encode(&strip, Pixels::Jpeg)?;
            let strip =
                format!("data:image/jpeg;base64,{}", base64::engine::general_purpose::STANDARD.encode(jpeg));
            let origin = loaded.origin(x, y);
            Ok(LookThrough { width: size.width, height: size.height, crops, origin, strip })
        })
    }

    /// How well the frames support the plate, measured on about half a megapixel.
    ///
    /// # Errors
    /// When the frames are not ready.
    pub fn agreement(&self, set: i64) -> Result<AgreementFact, StudioError> {
        let loaded = self.loaded(set)?;
        if let Some(fact) = *lock(&loaded.agreement) {
            return Ok(fact);
        }
        let fact = loaded.with(|scene| {
            let size = scene.canvas().size();
            let level = (0..16).find(|&k| size.at_level(k).pixels() <= 600_000).unwrap_or(0);
            let s = scene.support(size.at_level(level).rect(), level)?;
            Ok::<_, StudioError>(AgreementFact {
                mean: s.mean(),
                unsupported_fraction: s.unsupported_fraction(),
            })
        })?;
        *lock(&loaded.agreement) = Some(fact);
        Ok(fact)
    }
}

pub(crate) fn encode(raster: &Raster, kind: Pixels) -> Result<Vec<u8>, StudioError> {
    let bytes = match kind {
        Pixels::Jpeg => encode_jpeg(raster, 90),
        Pixels::Png => encode_png(raster),
    };
    bytes.map_err(|e| StudioError::Storage(format!("a tile could not be encoded: {e}")))
}

fn shot(source: &dyn FrameSource, level: u32, develop: Develop) -> Result<Raster, StudioError> {
    let mut plan = Plan::of(vec![FrameAlignment::of(source)]);
    plan.tones.frames = vec![FrameTone::of(source)];
    let recipe = Recipe { develop, ..Recipe::new() };
    let size = source.size().at_level(level);
    Ok(Scene::new(&recipe, &plan, &[source]).render(View::Shot(0), size.rect(), level)?)
}

fn paste(onto: &mut Raster, part: &Raster, x: u32, y: u32) {
    let stride = 3 * onto.size.width as usize;
    for (r, row) in part.data.chunks_exact(3 * part.size.width as usize).enumerate() {
        onto.data[(y as usize + r) * stride + 3 * x as usize..][..row.len()].copy_from_slice(row);
    }
}

/// A frame's border where it lies over the canvas.
pub(super) fn outline(plan: &FrameAlignment, canvas: Rect) -> Vec<[f64; 2]> {
    let (w, h) = (f64::from(plan.size.width) - 0.5, f64::from(plan.size.height) - 0.5);
    [(-0.5, -0.5), (w, -0.5), (w, h), (-0.5, h)]
        .map(|(x, y)| plan.transform.apply(Point::new(x, y)))
        .map(|p| [p.x - canvas.x as f64, p.y - canvas.y as f64])
        .to_vec()
}

impl Scenes {
    /// What a frame's fit rests on.
    ///
    /// # Errors
    /// When the frames are not ready or there is no such frame.
    pub fn fit(&self, set: i64, frame: FrameId) -> Result<FitInfo, StudioError> {
        let loaded = self.loaded(set)?;
        let plan = &loaded.plan.alignment.frames[loaded.index(frame)?];
        let canvas = loaded.with(|s| s.canvas());
        let on = |p: &Point| [p.x - canvas.x as f64, p.y - canvas.y as f64];
        Ok(FitInfo {
            points: plan.points.iter().map(on).collect(),
            refused: plan.refused.iter().map(on).collect(),
            worst: plan.worst.map(|w| on(&w.at)),
            outline: outline(plan, canvas),
        })
    }
}
