//! Everything about a set, and about all sets, as the screen shows it.

use super::Scenes;
use super::findings::{before_aligning, findings, light_words, middle_of, moments, positions, verdict};
use super::opened::Opened;
use super::views::outline;
use crate::error::StudioError;
use crate::model::{AreaInfo, FrameInfo, SetDetail, SetSummary};
use crate::sets::FrameRow;
use evanu_core::geometry::common_area;
use evanu_core::recipe::{FrameId, Recipe};

impl Scenes {
    /// All sets, newest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn summaries(&self) -> Result<Vec<SetSummary>, StudioError> {
        let summary = |row: crate::sets::SetRow| {
            let cover = self.cover_name(&row);
            let run = self.0.queue.last_run(row.id)?;
            let crate::sets::SetRow { id, name, created, frames, note, .. } = row;
            Ok(SetSummary { id, name, frames, created, cover, run, note })
        };
        self.0.sets.rows()?.into_iter().map(summary).collect()
    }

    /// Everything about a set.
    ///
    /// # Errors
    /// When there is no such set.
    pub fn detail(&self, id: i64) -> Result<SetDetail, StudioError> {
        let name = self.0.sets.check(id)?;
        let rows = self.0.sets.frames(id)?;
        let in_force = self.0.sets.in_force(id)?;
        // Before what is shown: a run that has ended leaves no draft behind.
        let run = self.0.queue.last_run(id)?;
        let loaded = self.shown(id).ok();
        let originals: Vec<(bool, bool)> = rows.iter().map(|r| self.0.assets.stands(r)).collect();
        let frames: Vec<FrameInfo> = frame_infos(&rows, &in_force.recipe, loaded.as_deref(), &originals);
        let (undo, redo) = self.0.sets.undo_redo(id)?;
        let of = loaded.as_ref();
        Ok(SetDetail {
            id,
            name,
            frames,
            recipe: in_force.recipe,
            revision: in_force.revision,
            reference: of.map(|l| l.frames[l.plan.alignment.reference]),
            canvas: of.map(|l| l.canvas_info()),
            plate_key: of.map(|l| l.keys.plate.clone()),
            tile_names: of.and_then(|l| self.tile_names(l)),
            invented: of.and_then(|l| self.invented(l)),
            draft: of.is_some_and(|l| l.draft),
            frame_key: of.map(|l| l.keys.frames.clone()),
            light: of.map(|l| light_words(l)),
            matched: of.map(|l| l.with(|s| s.matched())),
            lens_percent: of.and_then(|l| l.plan.alignment.lens).map(|k| 100.0 * k),
            reference_size: of.map(|l| {
                let size = l.plan.alignment.reference_size();
                [size.width, size.height]
            }),
            common: of.map(|l| l.with(|s| AreaInfo::from(common_area(s.geometry, &s.used())))),
            positions: of.map_or(0, |l| positions(l)),
            moments: of.map_or(0, |l| moments(l)),
            note: self.0.sets.note(id)?,
            undo,
            redo,
            run,
            clip: false,
        })
    }
}

/// What the screen shows of frames: camera data, part in the plate, and how they were moved.
fn frame_infos(
    rows: &[FrameRow],
    recipe: &Recipe<FrameId>,
    loaded: Option<&Opened>,
    originals: &[(bool, bool)],
) -> Vec<FrameInfo> {
    let canvas = loaded.map(|l| l.with(|s| s.canvas()));
    rows.iter()
        .zip(originals)
        .map(|(r, &(there, changed))| {
            let index = loaded.and_then(|l| Some((&l.plan, l.index(r.id).ok()?)));
            let plan = index.map(|(plan, i)| &plan.alignment.frames[i]);
            let shows = index.map(|(plan, i)| &plan.survey.frames[i]);
            let fits = plan.filter(|p| p.misfit.is_none());
            let sole = fits.and(shows).and_then(|s| s.sole);
            let set_aside = recipe.excluded.contains(&r.id);
            let middle = middle_of(r);
            let moved = fits.map(|p| p.transform.apply(middle));
            FrameInfo {
                id: r.id,
                position: r.position,
                joined: r.index.is_some(),
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
                gain: fits.and(index).map(|(plan, i)| plan.tones.frames[i].gain),
                findings: loaded.map_or_else(|| before_aligning(r, rows), |l| findings(r, rows, l)),
                verdict: plan.map(|p| verdict(p).0),
                doubtful: plan.is_some_and(|p| verdict(p).1),
                worst_px: fits.and_then(|p| p.worst).map(|w| w.off),
                by_hand: plan.is_some_and(|p| p.by_hand),
                camera_position: plan.map_or(0, |p| p.position),
                moment: shows.map_or(0, |s| s.moment),
                seconds: r.camera.seconds(),
                sole: sole.map(|s| s.share),
                sole_at: sole.map(|s| s.largest.into()),
                outline: fits.zip(canvas).map(|(p, c)| outline(p, c)).unwrap_or_default(),
                missing: !there,
                changed,
                source: r.source.clone(),
            }
        })
        .collect()
}
