//! Patches before and after they are laid: what one does, in words and outlines; which frames a place is best taken from; where it
//! can be seen.

use super::Scenes;
use super::opened::Loaded;
use super::tiles::content_key;
use super::views::{Pixels, encode};
use crate::error::{StudioError, invalid};
use crate::model::{ExtentInfo, PatchInfo, Proposal, ProposalRequest, Purpose, SeamInfo};
use evanu_core::geometry::{Geometry, Grid, Point, Rect, ends};
use evanu_core::patch::seams::{Mend, Seam};
use evanu_core::patch::{FittedPatch, Patch, PatchTransform, Source};
use evanu_core::recipe::FrameId;
use evanu_core::render::{Scene, View};
use rayon::prelude::*;
use std::sync::Arc;

/// Share of its border that may cut through something unnoticed.
const TORN: f32 = 0.04;
/// Share of it that may be cut off unnoticed.
const KEPT: f32 = 0.01;

impl Scenes {
    /// What a patch would do, before it is laid.
    ///
    /// # Errors
    /// When the frames are not ready or the patch makes no sense.
    pub fn try_patch(&self, set: i64, patch: &Patch<FrameId>) -> Result<PatchInfo, StudioError> {
        let loaded = self.loaded(set)?;
        let patch = &checked(&loaded, patch)?;
        let fit = loaded.with(|s| self.fitted(&loaded, s, patch))?;
        Ok(fit.map_or_else(PatchInfo::nowhere, |fit| PatchInfo::of(&fit, patch)))
    }

    /// The geometry with which what a patch shows lies best on what the plate shows near there.
    ///
    /// # Errors
    /// When the frames are not ready, the patch makes no sense, or nothing alike is found.
    pub fn place_patch(&self, set: i64, patch: &Patch<FrameId>) -> Result<PatchTransform, StudioError> {
        let loaded = self.loaded(set)?;
        let patch = &checked(&loaded, patch)?;
        let found = loaded.with(|s| evanu_core::prepare::place(s, patch))?;
        found.ok_or_else(|| {
            StudioError::Conflict(
                "nothing like it was found near there: move it closer by hand and try again".into(),
            )
        })
    }

    /// How far what frame `frame` shows around a place of the plate, in its pixels, reaches.
    ///
    /// # Errors
    /// When the frames are not ready or there is no such frame.
    pub fn extent(&self, set: i64, (x, y): (f64, f64), frame: FrameId) -> Result<ExtentInfo, StudioError> {
        let loaded = self.loaded(set)?;
        let frame = loaded.index(frame)?;
        if !loaded.plan.alignment.fits(frame) {
            return Err(StudioError::NotFound("this frame does not fit over the others".into()));
        }
        check_place(Point::new(x, y))?;
        let outline = loaded.with(|scene| {
            let canvas = scene.canvas();
            scene.extents(&[frame], Point::new(x + canvas.x as f64, y + canvas.y as f64))
        })?;
        Ok(ExtentInfo { outline: outline.into_iter().next().flatten() })
    }

    /// The outline of what stands at a place of the plate, by its look alone.
    ///
    /// # Errors
    /// When the frames are not ready.
    pub fn thing(&self, set: i64, (x, y): (f64, f64)) -> Result<ExtentInfo, StudioError> {
        let loaded = self.loaded(set)?;
        check_place(Point::new(x, y))?;
        let outline = loaded.with(|scene| {
            let canvas = scene.canvas();
            scene.thing(Point::new(x + canvas.x as f64, y + canvas.y as f64))
        })?;
        Ok(ExtentInfo { outline })
    }

    /// The frames that a place can be taken from, the one that most surely leaves it clear first.
    ///
    /// # Errors
    /// When the frames are not ready or the place makes no sense.
    pub fn proposals(&self, set: i64, wanted: &ProposalRequest) -> Result<Vec<Proposal>, StudioError> {
        let loaded = self.loaded(set)?;
        let (reference, mut frames) = loaded.with(|s| (s.reference(), s.used()));
        if wanted.aside {
            let more = |i: &usize| !frames.contains(i) && loaded.plan.alignment.fits(*i);
            frames = frames.iter().copied().chain((0..loaded.frames.len()).filter(more)).collect();
        }
        check_place(wanted.at)?;
        let patch_from = |frame: usize, outline: Option<Vec<Point>>| -> Option<Patch> {
            let outline = match &wanted.outline {
                Some(outline) => Some(outline.clone()),
                None => outline,
            };
            // What it brings and takes does not depend on its grain.
            outline
                .map(|outline| Patch { grain: false, ..Patch::new(reference, outline, Source::Frame(frame)) })
        };
        let extents = match wanted.outline {
            Some(_) => vec![None; frames.len()],
            None => loaded.with(|scene| scene.extents(&frames, wanted.at))?,
        };
        let all = frames.par_iter().zip(extents).map(|(&frame, extent)| -> Result<_, StudioError> {
            let Some(patch) = patch_from(frame, extent) else { return Ok(None) };
            if !patch.is_valid() {
                return Err(invalid("a place has three to a thousand corners"));
            }
            let fit = loaded.with(|s| evanu_core::prepare::weigh(s, &patch))?;
            // Where no edge tells what it would do, a closer look may.
            let fit = match fit.map(Arc::new) {
                Some(fit) if fit.noticed.undecided => loaded.with(|s| self.fitted(&loaded, s, &patch))?,
                fit => fit,
            };
            let Some(fit) = fit else { return Ok(None) };
            let told = PatchInfo::of(&fit, &patch);
            let proposal = Proposal { frame: loaded.frames[frame], outline: patch.outline, told };
            Ok(Some((fit.doubtful(), frame, proposal)))
        });
        let all: Vec<_> = all.collect::<Result<_, _>>()?;
        let mut all: Vec<_> = all.into_iter().flatten().collect();
        all.sort_by(|(a, p, _), (b, q, _)| a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)).then(p.cmp(q)));
        Ok(all.into_iter().map(|(.., proposal)| proposal).collect())
    }

    /// The plate where a patch lies, at most about `side` pixels wide and high.
    ///
    /// # Errors
    /// When the frames are not ready, there is no such patch, or it lies outside.
    pub fn patch_picture(&self, set: i64, patch: usize, side: u32) -> Result<Vec<u8>, StudioError> {
        let loaded = self.loaded(set)?;
        let none = || StudioError::NotFound("there is no such lift on the plate".into());
        let patch = loaded.recipe.patches.get(patch).ok_or_else(none)?;
        loaded.with(|scene| {
            part_picture(scene, (patch.on, &patch.outline), side)?.map(|(jpeg, _)| jpeg).ok_or_else(none)
        })
    }
}

/// The plate around an outline that was drawn on a frame, at most about `side` pixels wide and high, as JPEG, and which part of the
/// reference it is; `None` outside of it.
pub(super) fn part_picture(
    scene: &Scene<'_>,
    (on, outline): (usize, &[Point]),
    side: u32,
) -> Result<Option<(Vec<u8>, Rect)>, StudioError> {
    let (on, canvas) = (scene.geometry.projection(on), scene.canvas());
    let outline: Vec<Point> = outline.iter().map(|&p| on.back(p)).collect();
    let (low, high) = ends(&outline);
    let ((x0, x1), (y0, y1)) = ((low.x, high.x), (low.y, high.y));
    let (wide, around) = ((x1 - x0).max(y1 - y0), 0.2 * (x1 - x0).max(y1 - y0) + 8.0);
    let level = (0..16).find(|k| (wide + 2.0 * around) / f64::from(1u32 << k) <= f64::from(side));
    let up = f64::from(1u32 << level.unwrap_or(0));
    let at = |v: f64, from: i64| ((v - from as f64) / up) as i64;
    let (x, y) = (at(x0 - around, canvas.x), at(y0 - around, canvas.y));
    let (right, bottom) = (at(x1 + around, canvas.x), at(y1 + around, canvas.y));
    let region = Rect::new(x, y, (right - x).max(1) as u32, (bottom - y).max(1) as u32);
    let level = level.unwrap_or(0);
    let region = region.intersect(canvas.size().at_level(level).rect());
    if region.is_empty() {
        return Ok(None);
    }
    let full = Grid { level, ..scene.grid(View::Plate, 0) }.cut(region).full();
    Ok(Some((encode(&scene.render(View::Plate, region, level)?, Pixels::Jpeg)?, full)))
}

impl Scenes {
    /// Where patches can be seen when the plate is used for a purpose, strongest first.
    ///
    /// # Errors
    /// When the frames are not ready.
    pub fn seams(&self, set: i64, purpose: Purpose) -> Result<Vec<SeamInfo>, StudioError> {
        let loaded = self.loaded(set)?;
        let of = |laid: &evanu_core::patch::PlacedPatch| {
            // The same as long as the patches are that reach it, wherever in the list it stands.
            let content = loaded.with(|s| content_key(s, &laid.fit.mask.grid()))?;
            let name = format!("{set}-{content}-{purpose:?}-{:x}", laid.key);
            let found = match self.0.seams.get(&name) {
                Some(found) => found,
                None => {
                    let side = purpose.side();
                    let found = loaded.with(|s| evanu_core::prepare::seams(s, laid, side))?;
                    self.0.seams.insert(name, found.clone());
                    found
                }
            };
            Ok(found.iter().map(|seam| SeamInfo::of(laid.index, seam)).collect())
        };
        let all: Vec<Vec<SeamInfo>> =
            loaded.patches.par_iter().map(of).collect::<Result<_, StudioError>>()?;
        let mut all: Vec<SeamInfo> = all.into_iter().flatten().collect();
        all.sort_by(|a, b| b.step.total_cmp(&a.step).then(a.patch.cmp(&b.patch)));
        Ok(all)
    }
}

/// A patch by the frames' indices, when its numbers make sense and its frames are there.
fn checked(loaded: &Loaded, patch: &Patch<FrameId>) -> Result<Patch, StudioError> {
    let by_index = patch.map_frames(|f| loaded.index(f).ok()).filter(Patch::is_valid);
    by_index.ok_or_else(|| invalid("a lift has three to a thousand corners on a frame of this set"))
}

/// Whether a place may lie in a picture.
pub(super) fn check_place(p: Point) -> Result<(), StudioError> {
    if p.x.is_finite() && p.y.is_finite() && p.x.abs() < 1e6 && p.y.abs() < 1e6 {
        return Ok(());
    }
    Err(invalid("a place is two numbers within the picture"))
}

impl SeamInfo {
    fn of(patch: usize, seam: &Seam) -> Self {
        let percent = (100.0 * seam.step).max(1.0);
        let words = match seam.mend {
            Mend::Grain => format!("Its grain is {percent:.0} % coarser than the plate around it."),
            Mend::Wider => "Its border cuts through something: draw wider there.".to_owned(),
            Mend::Seek | Mend::Tone | Mend::Fade => {
                format!("The light steps by {percent:.0} % at its border.")
            }
        };
        Self { patch, place: seam.place.into(), step: seam.step, words, mend: seam.mend }
    }
}

impl PatchInfo {
    /// Of a patch that lies outside, or whose frame does not fit.
    pub fn nowhere() -> Self {
        let words = "It covers nothing of the plate.".to_owned();
        Self { border: Vec::new(), brings: Vec::new(), takes: 0, differs: false, words, warns: true }
    }

    /// Of one that was fitted.
    pub fn of(fit: &FittedPatch, patch: &Patch) -> Self {
        let mask = &fit.mask;
        let on: Vec<bool> = mask.weights().iter().map(|w| *w >= 0.5).collect();
        let brings = fit.noticed.things.iter().filter(|t| t.brought).flat_map(|t| {
            let mut thing = vec![false; on.len()];
            t.pixels.iter().for_each(|&p| thing[p] = true);
            mask.outlines(&thing)
        });
        let brings: Vec<_> = brings.collect();
        let brought = fit.noticed.things.iter().filter(|t| t.brought).count();
        let takes = fit.noticed.things.len() - brought;
        let torn = fit.noticed.torn > TORN;
        let kept = fit.noticed.kept > KEPT;
        let mut told = words(patch, (brought, takes), fit.noticed.undecided, torn);
        if kept {
            told.push_str(" An area that you keep cuts a part off.");
        }
        let border = mask.outlines(&on);
        let differs = fit.noticed.undecided || brought + takes > 0;
        Self { border, brings, takes, differs, words: told, warns: torn || kept || brought > 0 && takes > 0 }
    }
}

fn words(patch: &Patch, (brought, takes): (usize, usize), undecided: bool, torn: bool) -> String {
    let count = |n: usize| if n == 1 { "one thing".to_owned() } else { format!("{n} things") };
    let does = match (brought, takes) {
        _ if !patch.optimal_seam => "It is laid as drawn.".to_owned(),
        (0, 0) if undecided => "It shows something else; whether more or less, no edge tells.".to_owned(),
        (0, 0) => "It shows the same as the plate.".to_owned(),
        (0, n) => format!("It takes {} away.", count(n)),
        (n, 0) => format!("It brings {} in.", count(n)),
        (n, m) => format!("It takes {} away, but brings {} along.", count(m), count(n)),
    };
    if torn {
        return format!("{does} Its border cuts through something: draw wider.");
    }
    does
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::patch::Source;

    #[test]
    fn what_it_does_is_said_with_what_would_help() {
        let patch = Patch::new(0, Vec::new(), Source::Frame(1));
        assert!(words(&patch, (0, 0), true, false).contains("something else"));
        assert_eq!(words(&patch, (0, 1), false, false), "It takes one thing away.");
        assert_eq!(words(&patch, (2, 0), false, false), "It brings 2 things in.");
        assert!(words(&patch, (1, 1), false, false).contains("brings one thing along"));
        assert!(words(&patch, (0, 1), false, true).contains("cuts through something"));
        assert_eq!(
            words(&Patch { optimal_seam: false, ..patch }, (0, 0), false, false),
            "It is laid as drawn."
        );
    }
}
