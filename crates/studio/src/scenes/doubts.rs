//! What the consensus leaves open, in words, and where pixels of the plate come from.

use super::Scenes;
use super::opened::Loaded;
use crate::error::StudioError;
use crate::model::{DoubtInfo, GlareInfo, MovingInfo, OriginInfo, SettledBy};
use evanu_core::combine::Method;
use evanu_core::combine::consensus::LabelMap;
use evanu_core::evidence::doubts::{Doubt, Reason};
use evanu_core::evidence::moving::{Motion, Moving};
use evanu_core::geometry::{Geometry, Point, Rect, Sampling};
use evanu_core::patch::PlacedPatch;
use evanu_core::plan::Decision;
use evanu_core::recipe::FrameId;
use evanu_core::render::{View, origin};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Pictures about where the plate's pixels come from, over the reference, at the size that the consensus is decided on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Evidence {
    /// Numbers of frames and moments, by channel.
    Origin,
    /// White where a single moment shows what was chosen.
    Alone,
    /// White where several do, but less than half.
    Few,
    /// White where it is made up: no frame shows it.
    Invented,
}

impl Scenes {
    /// The doubts of a set, largest first, and after them what the evidence settles; none when the plate is not made by consensus.
    ///
    /// # Errors
    /// When the frames are not ready.
    pub fn doubts(&self, set: i64) -> Result<Vec<DoubtInfo>, StudioError> {
        let loaded = self.loaded(set)?;
        let Some(decision) = loaded.decision.as_ref().filter(|_| loaded.recipe.method == Method::Consensus)
        else {
            return Ok(Vec::new());
        };
        let canvas = loaded.with(|s| s.canvas());
        let numbers = self.numbers(&loaded)?;
        let one = |(doubt, settled): (&Doubt, &Option<evanu_core::recipe::Settled>)| {
            let inside = doubt.bbox.intersect(canvas);
            // What was taken by hand needs no answer any more.
            let patched = loaded.patches.iter().rev().find(|l| covers(l, doubt, decision));
            DoubtInfo {
                place: Rect { x: inside.x - canvas.x, y: inside.y - canvas.y, ..inside }.into(),
                bbox: doubt.bbox.into(),
                reason: reason(doubt, &numbers),
                still: doubt.reason == Reason::Still,
                confidence: doubt.confidence,
                stories: doubt.stories.iter().map(|story| loaded.ids(story)).collect(),
                settled: if settled.is_some_and(|s| !s.open) || patched.is_some() {
                    Some(SettledBy::You)
                } else {
                    (doubt.settled && settled.is_none()).then_some(SettledBy::Evanu)
                },
                frame: settled
                    .and_then(|s| s.frame)
                    .or(patched.and_then(|l| l.source.frame()))
                    .map(|i| loaded.frames[i]),
            }
        };
        Ok(decision
            .doubts
            .iter()
            .zip(&loaded.settled)
            .filter(|(d, _)| !d.bbox.intersect(canvas).is_empty())
            .map(one)
            .collect())
    }

    /// The strength below which half of the glare that a patch takes off is back; `None` when it takes none off.
    ///
    /// # Errors
    /// When the frames are not ready or there is no such patch.
    pub fn glare(&self, set: i64, patch: usize) -> Result<GlareInfo, StudioError> {
        let loaded = self.loaded(set)?;
        if patch >= loaded.recipe.patches.len() {
            return Err(StudioError::NotFound("there is no such lift".into()));
        }
        let Some(laid) = loaded.patches.iter().find(|l| l.index == patch) else {
            return Ok(GlareInfo { returns: None });
        };
        let stops = loaded.with(|s| evanu_core::prepare::glare(s, laid))?;
        Ok(GlareInfo { returns: stops.map(evanu_core::patch::returns) })
    }

    /// The areas of a set that move and belong, largest first.
    ///
    /// # Errors
    /// When the frames are not ready.
    pub fn moving(&self, set: i64) -> Result<Vec<MovingInfo>, StudioError> {
        let loaded = self.loaded(set)?;
        let one = |m: &Moving| {
            let what = match m.motion {
                Motion::Drifting => "drifts, like cloud or smoke",
                Motion::Trembling => "trembles, like leaves or water",
            };
            let covered = |l: &PlacedPatch| {
                let on = m.outline.iter().filter(|p| l.fit.mask.at(**p) >= 0.4).count();
                2 * on > m.outline.len()
            };
            MovingInfo {
                outline: m.outline.clone(),
                what: what.to_owned(),
                share: m.share,
                bbox: m.bbox().into(),
                frame: loaded.frames[m.frame],
                by_itself: m.motion == Motion::Drifting && loaded.plan.tones.light.is_even(),
                whole: m.before.is_some(),
                settled: loaded.patches.iter().any(covered),
            }
        };
        Ok(loaded.decision.iter().flat_map(|decision| &decision.moving).map(one).collect())
    }

    /// A picture about where the plate's pixels come from, as PNG.
    ///
    /// # Errors
    /// When the frames are not ready or the plate does not rest on a consensus.
    pub fn evidence(&self, set: i64, what: Evidence) -> Result<Vec<u8>, StudioError> {
        let loaded = self.loaded(set)?;
        let choice = loaded.chosen().ok_or_else(|| {
            StudioError::Conflict(
                "only the consensus knows where each pixel comes from: choose it at Combine".into(),
            )
        })?;
        let moments = loaded.plan.survey.moments();
        let origins = loaded.with(|scene| {
            Ok::<_, StudioError>(origin::origins(choice, &moments, &scene.stages(View::Plate)?))
        })?;
        let mut all: Vec<u32> = choice.frames.iter().map(|&i| moments[i]).collect();
        all.sort_unstable();
        all.dedup();
        let picture = match what {
            Evidence::Origin => origin::picture(choice, &origins),
            Evidence::Alone => {
                origin::stencil(choice, &origins, |o| o.moments == 1 && all.len() > 1 && !o.invented)
            }
            Evidence::Invented => origin::stencil(choice, &origins, |o| o.invented),
            Evidence::Few => {
                origin::stencil(choice, &origins, |o| o.moments > 1 && 2 * o.moments < all.len())
            }
        };
        evanu_media::encode_png(&picture)
            .map_err(|e| StudioError::Storage(format!("the picture could not be encoded: {e}")))
    }

    /// The numbers that frames are shown with, by their index.
    fn numbers(&self, loaded: &Loaded) -> Result<Vec<usize>, StudioError> {
        let rows = self.0.sets.frames(loaded.set)?;
        let number = |frame: &FrameId| rows.iter().position(|r| r.id == *frame).map_or(0, |n| n + 1);
        Ok(loaded.frames.iter().map(number).collect())
    }
}

impl Loaded {
    /// What the consensus chose, where the plate is made by it.
    fn chosen(&self) -> Option<&LabelMap> {
        let decision = self.decision.as_ref().filter(|_| self.recipe.method == Method::Consensus);
        decision.map(|decision| &decision.label_map)
    }

    /// Where a place of the plate comes from, in plate pixels.
    pub(crate) fn origin(&self, x: f64, y: f64) -> Option<OriginInfo> {
        let canvas = self.with(|s| s.canvas());
        let place = Point::new(x + canvas.x as f64, y + canvas.y as f64);
        let made_by = self.with(|s| Some(origin::made_by(&s.stages(View::Plate).ok()?, place)));
        if let Some(origin::Made { frame, patch, touch, .. }) = made_by? {
            let frames = frame.into_iter().map(|i| self.frames[i]).collect();
            return Some(OriginInfo { agree: 1, moments: 1, frames, patch, touch });
        }
        let choice = self.chosen()?;
        let pixel = choice.pixel(place)?;
        let survey = &self.plan.survey;
        let mut frames: Vec<usize> =
            (0..choice.frames.len()).filter(|&k| choice.holds(pixel, k)).map(|k| choice.frames[k]).collect();
        frames.sort_unstable();
        let geometry = &self.plan.alignment;
        let reaches = |i: &usize| {
            let frame = Sampling::full(geometry.projection(*i));
            frame.holds(geometry.size(*i), frame.apply(place))
        };
        let there: Vec<usize> = choice.frames.iter().copied().filter(reaches).collect();
        let (agree, moments) = (survey.moments_of(&frames), survey.moments_of(&there));
        let frames = self.ids(&frames);
        Some(OriginInfo { agree, moments, frames, patch: None, touch: None })
    }
}

/// Whether a patch lies over most of a doubt.
fn covers(patch: &PlacedPatch, doubt: &Doubt, decision: &Decision) -> bool {
    let grid = decision.label_map.grid;
    let w = grid.rect.width;
    let on = |p: &&u32| patch.fit.mask.at(grid.place(f64::from(**p % w), f64::from(**p / w))) >= 0.5;
    10 * doubt.pixels.iter().filter(on).count() > 7 * doubt.pixels.len()
}

fn reason(doubt: &Doubt, numbers: &[usize]) -> String {
    let count = |n: usize| if n == 1 { "one frame".to_owned() } else { format!("{n} frames") };
    let best = doubt.stories.first().map_or(0, Vec::len);
    let first = doubt.stories.first().and_then(|s| s.first()).and_then(|&i| numbers.get(i));
    let number = first.map_or(String::new(), |n| format!(" {n}"));
    match doubt.reason {
        Reason::Alone => format!("Only frame{number} shows what is proposed here."),
        Reason::Compete => {
            let other = doubt.stories.get(1).map_or(0, Vec::len);
            format!("Two stories compete: {} against {}.", count(best), count(other))
        }
        Reason::Still => {
            "This looks like somebody who stood here all the time, so no frame shows what is behind. Keep it if it belongs \
             here; otherwise lay a piece from beside it over it, or take one more frame without it."
                .to_owned()
        }
        Reason::Torn => {
            "Nothing joins its surroundings here: perhaps no frame shows this place clear. Another frame would help, or a \
             place taken by hand."
                .to_owned()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::evidence::doubts::Signs;

    #[test]
    fn reasons_name_frames_as_they_are_shown() {
        let doubt = |reason| Doubt {
            bbox: Rect::new(0, 0, 4, 4),
            pixels: vec![0],
            reason,
            confidence: 0.5,
            stories: vec![vec![2], vec![0, 1]],
            settled: false,
            signs: Signs::default(),
        };
        let numbers = [4, 1, 3];
        assert_eq!(reason(&doubt(Reason::Alone), &numbers), "Only frame 3 shows what is proposed here.");
        assert_eq!(
            reason(&doubt(Reason::Compete), &numbers),
            "Two stories compete: one frame against 2 frames."
        );
        assert!(reason(&doubt(Reason::Torn), &numbers).contains("no frame shows this place clear"));
        assert!(reason(&doubt(Reason::Still), &numbers).contains("stood here all the time"));
    }
}
