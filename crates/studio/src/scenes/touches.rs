//! Touches before and after they are laid: what one would look like, in variants; where a copy is best taken from; how much is made up.

use super::Scenes;
use super::opened::{Loaded, Opened};
use super::patches::part_picture;
use crate::error::{StudioError, invalid};
use crate::model::{TouchInfo, TouchTry, VariantInfo};
use base64::Engine;
use evanu_core::patch::PatchTransform;
use evanu_core::prepare::{PlaceError, Variants, propose_source, variants};
use evanu_core::progress::no_progress;
use evanu_core::recipe::{Act, FrameId, Touch};
use evanu_core::render::{Scene, Stage};
use evanu_core::touch::{MOST_VARIANTS, PlacedTouch};
use std::sync::Arc;

/// Pixels along the longer side of a variant's picture.
const SIDE: u32 = 420;

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
        let count = usize::from(wanted.variants.clamp(1, MOST_VARIANTS));
        let invents = matches!(touch.act, Act::Invent { .. });
        loaded.below(wanted.at.unwrap_or(usize::MAX), |scene| {
            let least = if invents { count } else { 1 };
            let made = variants(scene, &touch, least, &self.keeping(), &no_progress).map_err(refused)?;
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

    /// The move from the source that goes on best from a touch's rim.
    ///
    /// # Errors
    /// When the frames are not ready, the touch makes no sense, or there is no room for a source.
    pub fn touch_source(&self, set: i64, wanted: &TouchTry) -> Result<PatchTransform, StudioError> {
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
        let loaded = self.at_hand(opened)?;
        let canvas = opened.with(|s| s.canvas()).size().pixels() as f32;
        let area = |touch: &PlacedTouch| {
            let step = touch.made.mask.grid().step() as f32;
            touch.made.mask.weights().iter().filter(|w| **w >= 0.5).count() as f32 * step * step
        };
        let all: f32 = loaded.touches.iter().filter(|t| t.invented).map(area).sum();
        Some((all / canvas.max(1.0)).min(1.0))
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
        PlaceError::Touch(e) => StudioError::Conflict(e.to_string()),
    }
}
