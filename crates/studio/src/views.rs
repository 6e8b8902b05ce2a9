//! Pixels for the screen: tiles of any view, crops of one place in every frame, thumbnails, agreement.

use crate::error::StudioError;
use crate::findings::{before_aligning, findings, verdict};
use crate::model::{AgreementFact, CropInfo, FitInfo, FrameInfo, FrameRow, Look};
use crate::opened::{Loaded, Opened};
use crate::{Method, Recipe, Studio, View, lock};
use base64::Engine;
use evanu_core::develop::Develop;
use evanu_core::geometry::{Point, Rect, Size};
use evanu_core::pixel::{FrameSource, Raster};
use evanu_core::plan::{FramePlan, Plan};
use evanu_core::render::{RenderError, Scene};
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

fn small_plate(loaded: &Loaded, side: u32) -> Result<Raster, RenderError> {
    loaded.with(|scene| {
        let size = scene.size(View::Plate);
        let level = level_within(size, side);
        scene.render(View::Plate, size.at_level(level).rect(), level)
    })
}

pub(crate) fn invalid(text: &str) -> StudioError {
    StudioError::Invalid(text.into())
}

impl Studio {
    /// A frame as shot, or the plate, at most `side` pixels wide and high.
    ///
    /// # Errors
    /// When there is no such frame or the plate is not ready.
    pub fn thumbnail(&self, set: i64, frame: Option<i64>, side: u32) -> Result<Vec<u8>, StudioError> {
        let side = side.clamp(16, 2048);
        let raster = match frame {
            None => small_plate(&self.lifted(&self.shown(set)?)?, side)?,
            Some(id) => {
                let rows = self.frame_rows(set)?;
                let row = rows
                    .iter()
                    .find(|r| r.id == id)
                    .ok_or_else(|| StudioError::NotFound("there is no such frame".into()))?;
                if row.width == 0 {
                    return Err(StudioError::Conflict("the frame is still being read".into()));
                }
                let source = self.pyramid(row)?;
                let level = level_within(source.size(), side);
                shot(&*source, level, self.recipe(set)?.develop)?
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
        let loaded = self.lifted(&self.open_set(set, self.recipe_at(set, seq)?, true)?)?;
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
    ) -> Result<Look, StudioError> {
        if !(16..=400).contains(&size.width)
            || !(16..=400).contains(&size.height)
            || level > 16
            || !x.is_finite()
            || !y.is_finite()
        {
            return Err(invalid("crops are 16 to 400 pixels a side"));
        }
        let loaded = self.loaded(set)?;
        let order: Vec<usize> = self
            .frame_rows(set)?
            .iter()
            .filter_map(|r| r.index)
            .filter(|&i| i < loaded.sources.len())
            .collect();
        let scale = f64::from(1u32 << level);
        let at = |v: f64, n: u32| ((v - (scale - 1.0) / 2.0) / scale).round() as i64 - i64::from(n / 2);
        let region = Rect::new(at(x, size.width), at(y, size.height), size.width, size.height);
        let views: Vec<View> = if methods {
            Method::SHOWN.map(View::By).to_vec()
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
                views
                    .iter()
                    .enumerate()
                    .map(|(index, _)| CropInfo { index, agrees: None, share: None })
                    .collect()
            } else {
                let same = if spot.pixels() < LARGE { SAME.0 } else { SAME.1 };
                let shares = scene.agreement_of(&order, middle, level)?;
                order
                    .iter()
                    .zip(shares)
                    .map(|(&index, s)| CropInfo { index, agrees: s.map(|s| s > same), share: s })
                    .collect()
            };
            let jpeg = encode(&strip, Pixels::Jpeg)?;
            let strip =
                format!("data:image/jpeg;base64,{}", base64::engine::general_purpose::STANDARD.encode(jpeg));
            let origin = loaded.origin(x, y);
            Ok(Look { width: size.width, height: size.height, crops, origin, strip })
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
    let plan = Plan::of(vec![evanu_core::plan::FramePlan::of(source)]);
    let recipe = Recipe { develop, ..Recipe::new(1) };
    let size = source.size().at_level(level);
    Ok(Scene::new(&recipe, &plan, &[source]).render(View::Shot(0), size.rect(), level)?)
}

fn paste(onto: &mut Raster, part: &Raster, x: u32, y: u32) {
    let stride = 3 * onto.size.width as usize;
    for (r, row) in part.data.chunks_exact(3 * part.size.width as usize).enumerate() {
        onto.data[(y as usize + r) * stride + 3 * x as usize..][..row.len()].copy_from_slice(row);
    }
}

/// What the screen shows of frames: camera data, part in the plate, and how they were moved.
pub(crate) fn frame_infos(
    rows: &[FrameRow],
    recipe: &Recipe,
    loaded: Option<&Opened>,
    missing: &[bool],
) -> Vec<FrameInfo> {
    let canvas = loaded.map(|l| l.with(|s| s.canvas()));
    rows.iter()
        .zip(missing)
        .map(|(r, &missing)| {
            let plan = r.index.zip(loaded).and_then(|(i, l)| l.plan.frames.get(i));
            let fits = plan.filter(|p| p.misfit.is_none());
            let set_aside = r.index.is_some_and(|i| !recipe.used.get(i).copied().unwrap_or(true));
            let middle = middle_of(r);
            let moved = fits.map(|p| p.transform.apply(middle));
            FrameInfo {
                id: r.id,
                index: r.index,
                name: r.name.clone(),
                state: r.state,
                width: r.width,
                height: r.height,
                time: r.camera.time.clone(),
                exposure_s: r.camera.exposure_s,
                aperture: r.camera.aperture,
                iso: r.camera.iso,
                focal_mm: r.camera.focal_mm,
                camera: r.camera.camera.clone(),
                used: r.index.is_some() && !set_aside && plan.is_none_or(|p| p.misfit.is_none()),
                set_aside,
                reason: r.reason.clone().or_else(|| plan.and_then(|p| p.misfit.clone())),
                residual_px: fits.and_then(|p| p.residual_px),
                moved: moved.map(|m| [m.x - middle.x, m.y - middle.y]),
                turned_deg: fits.map(|p| p.transform.turn_at(middle).to_degrees()),
                scaled: fits.map(|p| p.transform.scale_at(middle)),
                gain: fits.map(|p| p.gain),
                findings: loaded.map_or_else(|| before_aligning(r, rows), |l| findings(r, rows, recipe, l)),
                verdict: plan.map(|p| verdict(p).0),
                doubtful: plan.is_some_and(|p| verdict(p).1),
                worst_px: fits.and_then(|p| p.worst).map(|w| w.off),
                by_hand: plan.is_some_and(|p| p.by_hand),
                position: plan.map_or(0, |p| p.position),
                moment: plan.map_or(0, |p| p.moment),
                seconds: r.camera.seconds(),
                sole: fits.and_then(|p| p.sole).map(|s| s.share),
                sole_at: fits.and_then(|p| p.sole).map(|s| s.largest.into()),
                outline: fits.zip(canvas).map(|(p, c)| outline(p, c)).unwrap_or_default(),
                missing,
                source: r.source.clone(),
            }
        })
        .collect()
}

/// A frame's border where it lies over the canvas.
fn outline(plan: &FramePlan, canvas: Rect) -> Vec<[f64; 2]> {
    let (w, h) = (f64::from(plan.size.width) - 0.5, f64::from(plan.size.height) - 0.5);
    [(-0.5, -0.5), (w, -0.5), (w, h), (-0.5, h)]
        .map(|(x, y)| plan.transform.apply(Point::new(x, y)))
        .map(|p| [p.x - canvas.x as f64, p.y - canvas.y as f64])
        .to_vec()
}

impl Studio {
    /// What a frame's fit rests on.
    ///
    /// # Errors
    /// When the frames are not ready or there is no such frame.
    pub fn fit(&self, set: i64, index: usize) -> Result<FitInfo, StudioError> {
        let loaded = self.loaded(set)?;
        let plan = loaded.plan.frames.get(index);
        let plan = plan.ok_or_else(|| StudioError::NotFound(format!("there is no frame {index}")))?;
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

/// The middle of a frame, in its own pixels.
pub(crate) fn middle_of(row: &FrameRow) -> Point {
    Point::new((f64::from(row.width) - 1.0) / 2.0, (f64::from(row.height) - 1.0) / 2.0)
}
