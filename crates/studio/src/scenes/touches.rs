//! Touches before and after they are laid: what one would look like, in variants; where a copy is best taken from; what of them can still
//! be seen; how much is made up, and where.

use super::Scenes;
use super::opened::{Loaded, Opened};
use super::patches::part_picture;
use crate::error::{StudioError, invalid};
use crate::model::{FaultInfo, MissingInfo, PlaneInfo, SeenTouch, TouchInfo, TouchTry, VariantInfo};
use crate::store::lock;
use base64::Engine;
use evanu_core::fill::FillError;
use evanu_core::geometry::{Grid, Point, whole_area};
use evanu_core::patch::middle;
use evanu_core::prepare::{PlaceError, Variants, propose_plane, propose_source, touch_faults, variants};
use evanu_core::progress::Cancelled;
use evanu_core::recipe::{Act, FrameId, Touch};
use evanu_core::render::{Scene, Stage, View};
use evanu_core::touch::{Fault, MOST_VARIANTS, PlacedTouch, Proposed, TouchError, repeats};
use evanu_media::MediaError;
use rayon::prelude::*;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};

/// Pixels along the longer side of a variant's picture.
const SIDE: u32 = 420;

/// An invention that is being tried: how far it is, and whether it shall stop.
#[derive(Default)]
pub(super) struct Trying {
    share: AtomicU32,
    stopped: AtomicBool,
}

impl Trying {
    fn watch(&self, share: f32) -> Result<(), Cancelled> {
        self.share.store(share.to_bits(), Ordering::Relaxed);
        if self.stopped.load(Ordering::Relaxed) { Err(Cancelled) } else { Ok(()) }
    }
}

impl Scenes {
    /// What remembers the variants of touches.
    pub(super) fn keeping(
        &self,
    ) -> impl Fn(&str, usize, &dyn Fn() -> Result<Variants, PlaceError>) -> Result<Variants, PlaceError> + '_
    {
        |key, least, make| {
            // Only as many as are there may be asked for of what is no invention.
            if let Some(made) = self.0.made.get(key).filter(|kept| kept.made.len() >= least) {
                return Ok(made);
            }
            let made = make()?;
            self.0.made.insert(key.to_owned(), made.clone());
            Ok(made)
        }
    }

    /// What a touch would look like, before it is laid: an invention in variants.
    ///
    /// # Errors
    /// When the frames are not ready, the touch makes no sense, or it cannot be made: with the reason and the way out.
    pub fn try_touch(&self, set: i64, wanted: &TouchTry) -> Result<TouchInfo, StudioError> {
        let loaded = self.loaded(set)?;
        let touch = checked(&loaded, &wanted.touch)?;
        let trying = self.begin_trying(set);
        let _over = Over(self, set, trying.clone());
        let count = usize::from(wanted.variants.clamp(1, MOST_VARIANTS));
        let invents = matches!(touch.act, Act::Invent { .. });
        loaded.below(wanted.at.unwrap_or(usize::MAX), |scene| {
            let least = if invents { count } else { 1 };
            let made = variants(scene, &touch, least, &self.keeping(), &|share| trying.watch(share))
                .map_err(refused)?;
            let Some((key, made)) = made else {
                return Err(invalid("the area lies outside the plate: draw it on the picture"));
            };
            let picture = |k: usize| -> Result<VariantInfo, StudioError> {
                let own = PlacedTouch {
                    index: 0,
                    key: format!("{key}.{k}"),
                    strength: touch.strength,
                    invented: touch.act.invents(),
                    made: made.made[k].clone(),
                };
                let mut stages: Vec<&dyn Stage> = scene.touches.to_vec();
                stages.push(&own);
                let scene = Scene { touches: &stages, ..*scene };
                let outside = || invalid("the area lies outside the plate: draw it on the picture");
                let (jpeg, place) =
                    part_picture(&scene, (touch.on, &touch.outline), SIDE)?.ok_or_else(outside)?;
                let picture = format!(
                    "data:image/jpeg;base64,{}",
                    base64::engine::general_purpose::STANDARD.encode(jpeg)
                );
                Ok(VariantInfo { variant: k as u8, picture, place: place.into() })
            };
            let shown = (0..made.made.len().min(least)).map(picture).collect::<Result<_, _>>()?;
            Ok(TouchInfo {
                variants: shown,
                hints: made.hints.iter().map(|h| h.words().to_owned()).collect(),
            })
        })
    }

    /// Begins to try an area of a set; what was tried there before stops.
    fn begin_trying(&self, set: i64) -> Arc<Trying> {
        let trying = Arc::new(Trying::default());
        if let Some(before) = lock(&self.0.trying).insert(set, trying.clone()) {
            before.stopped.store(true, Ordering::Relaxed);
        }
        trying
    }

    /// How far the invention is that is being tried in a set, 0..=1; `None` when there is none.
    pub fn tried(&self, set: i64) -> Option<f32> {
        lock(&self.0.trying).get(&set).map(|trying| f32::from_bits(trying.share.load(Ordering::Relaxed)))
    }

    /// Stops the invention that is being tried in a set.
    pub fn stop_trying(&self, set: i64) {
        if let Some(trying) = lock(&self.0.trying).get(&set) {
            trying.stopped.store(true, Ordering::Relaxed);
        }
    }

    /// The touches of a set that can still be seen, with what would mend each.
    ///
    /// # Errors
    /// When the frames are not ready.
    pub fn touches_seen(&self, set: i64) -> Result<Vec<SeenTouch>, StudioError> {
        let loaded = self.loaded(set)?;
        let repeats = repeats(&loaded.recipe.touches);
        let seen = loaded.touches.par_iter().map(|placed| -> Result<_, StudioError> {
            let touch = &loaded.recipe.touches[placed.index];
            let mut found = loaded.with(|scene| touch_faults(scene, touch))?;
            if repeats[placed.index] {
                found.push((Fault::Repeats, Vec::new()));
            }
            let told = |(fault, outline): (Fault, Vec<Point>)| {
                let words = fault.words().to_owned();
                FaultInfo { fault, words, outline }
            };
            let faults = found.into_iter().map(told).collect();
            Ok(SeenTouch { touch: placed.index, faults })
        });
        let seen: Vec<SeenTouch> = seen.collect::<Result<_, _>>()?;
        Ok(seen.into_iter().filter(|s| !s.faults.is_empty()).collect())
    }

    /// What no frame shows of a set's plate and no touch covers yet.
    ///
    /// # Errors
    /// When the frames are not ready.
    pub fn missing(&self, set: i64) -> Result<MissingInfo, StudioError> {
        /// Seen from so far that it costs nothing.
        const LEVEL: u32 = 3;
        let loaded = self.loaded(set)?;
        let grid = loaded.with(|scene| scene.grid(View::Plate, LEVEL));
        let (mut missing, mut outlines) = loaded.with(|scene| (scene.uncovered(&grid), scene.missing()));
        let canvas = loaded.with(|scene| scene.canvas());
        let covers = |p: Point| loaded.touches.iter().any(|t| t.invented && t.made.mask.at(p) > 0.5);
        outlines.retain(|outline| !covers(middle(outline)));
        let w = grid.rect.width as usize;
        for (p, missing) in missing.iter_mut().enumerate() {
            let at = grid.place((p % w) as f64, (p / w) as f64);
            // The last pixels lie half beyond the canvas.
            let at =
                Point::new(at.x.min(canvas.right() as f64 - 1.0), at.y.min(canvas.bottom() as f64 - 1.0));
            *missing &= !covers(at);
        }
        let share = missing.iter().filter(|m| **m).count() as f32 / missing.len().max(1) as f32;
        let (own, all) = loaded.with(|s| (s.reference_size(), whole_area(s.geometry, &s.used())));
        let right = all.right() - i64::from(own.width);
        let below = all.bottom() - i64::from(own.height);
        let beyond = (-all.x).max(-all.y).max(right).max(below) as u32;
        Ok(MissingInfo { outlines, share, beyond })
    }

    /// Where the plate is made up, white, as PNG of its size.
    ///
    /// # Errors
    /// When the frames are not ready.
    pub fn invented_mask(&self, set: i64) -> Result<Vec<u8>, StudioError> {
        let loaded = self.loaded(set)?;
        let grid = loaded.with(|scene| scene.grid(View::Plate, 0));
        let png = evanu_media::encode_grey_png(grid.rect.size(), &shares(&loaded.touches, &grid));
        png.map_err(|e| MediaError::writing(Path::new("the mask"), &e).into())
    }

    /// The plane that a touch lies in, by the edges around it.
    ///
    /// # Errors
    /// When the frames are not ready or the touch makes no sense.
    pub fn touch_plane(&self, set: i64, wanted: &TouchTry) -> Result<PlaneInfo, StudioError> {
        let loaded = self.loaded(set)?;
        let touch = checked(&loaded, &wanted.touch)?;
        let corners = loaded.below(wanted.at.unwrap_or(usize::MAX), |scene| propose_plane(scene, &touch))?;
        Ok(PlaneInfo { corners: corners.map(|c| c.to_vec()) })
    }

    /// The source that goes on best from a touch's rim.
    ///
    /// # Errors
    /// When the frames are not ready, the touch makes no sense, or there is no room for a source.
    pub fn touch_source(&self, set: i64, wanted: &TouchTry) -> Result<Proposed, StudioError> {
        let loaded = self.loaded(set)?;
        let touch = checked(&loaded, &wanted.touch)?;
        let found = loaded.below(wanted.at.unwrap_or(usize::MAX), |scene| propose_source(scene, &touch))?;
        found.ok_or_else(|| {
            StudioError::Conflict(
                "there is no room around the area for a source as large as it: draw a smaller one".into(),
            )
        })
    }

    /// The plate where a touch lies, at most about `side` pixels wide and high.
    ///
    /// # Errors
    /// When the frames are not ready or there is no such touch on the plate.
    pub fn touch_picture(&self, set: i64, touch: usize, side: u32) -> Result<Vec<u8>, StudioError> {
        let loaded = self.loaded(set)?;
        let none = || StudioError::NotFound("there is no such touch on the plate".into());
        let touch = loaded.recipe.touches.get(touch).ok_or_else(none)?;
        loaded.with(|scene| {
            part_picture(scene, (touch.on, &touch.outline), side)?.map(|(jpeg, _)| jpeg).ok_or_else(none)
        })
    }

    /// Share of the plate that is made up, where that is known at once.
    pub(super) fn invented(&self, opened: &Arc<Opened>) -> Option<f32> {
        /// Seen from so far that it costs nothing.
        const LEVEL: u32 = 3;
        let loaded = self.at_hand(opened)?;
        let grid = opened.with(|scene| scene.grid(View::Plate, LEVEL));
        let shares = shares(&loaded.touches, &grid);
        let all: f32 = shares.iter().map(|v| f32::from(*v) / 255.0).sum();
        Some(all / shares.len().max(1) as f32)
    }
}

/// How much of each pixel is made up, 0..=255.
fn shares(touches: &[PlacedTouch], grid: &Grid) -> Vec<u8> {
    let w = grid.rect.width as usize;
    let mut out = vec![0u8; grid.rect.size().pixels() as usize];
    for touch in touches.iter().filter(|t| t.invented) {
        for (y, row) in out.chunks_mut(w.max(1)).enumerate() {
            let Some(weights) = touch.made.mask.row(grid, y) else { continue };
            for (v, weight) in row.iter_mut().zip(weights) {
                *v = (*v).max((255.0 * weight * touch.strength).round() as u8);
            }
        }
    }
    out
}

/// Forgets what was tried when it is over, however that comes.
struct Over<'a>(&'a Scenes, i64, Arc<Trying>);

impl Drop for Over<'_> {
    fn drop(&mut self) {
        let mut all = lock(&self.0.0.trying);
        if all.get(&self.1).is_some_and(|now| Arc::ptr_eq(now, &self.2)) {
            all.remove(&self.1);
        }
    }
}

/// The touch by the indices of frames, when it makes sense.
fn checked(loaded: &Loaded, touch: &Touch<FrameId>) -> Result<Touch, StudioError> {
    let by_index = touch.map_frames(|f| loaded.index(f).ok()).filter(Touch::is_valid);
    by_index.ok_or_else(|| {
        invalid("a touch has three to a thousand corners on a frame of this set, and numbers within reason")
    })
}

fn refused(error: PlaceError) -> StudioError {
    match error {
        PlaceError::Render(e) => e.into(),
        PlaceError::Touch(TouchError::Fill(FillError::Cancelled(_))) => StudioError::Cancelled,
        PlaceError::Touch(e) => StudioError::Conflict(e.to_string()),
    }
}
