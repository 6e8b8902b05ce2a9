//! Clips: what the frames of a set come from, looked at as a whole, and the repair that lives in it ([`repair`]),
//! seen along its time ([`slit`]).
//!
//! A clip is looked at once, frame by frame ([`Survey`]), and some of its frames are kept as they are beside that, so that an area's
//! usual look is at hand whenever what is covered changes. All of it lies in `cache/clips/CONTENT/` and is made anew when it was deleted.

mod repair;
mod slit;

use crate::assets::Assets;
use crate::error::StudioError;
use crate::model::{ClipRemark, ClipState, Laid, Moment, MovedAt};
use crate::scenes::Scenes;
use crate::sets::{FrameRow, Sets};
use crate::store::Store;
use evanu_core::clip::{Crossing, Repair};
use evanu_core::progress::Cancelled;
use evanu_media::MediaError;
use evanu_media::clip::{Clip, Survey, Y4mWriter, Yuv, is_clip};
use moka::sync::Cache;
pub(crate) use repair::Laying;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use std::sync::Arc;

/// Clips of sets. Cheap to clone.
#[derive(Clone)]
pub struct Clips(Arc<Inner>);

struct Inner {
    store: Arc<Store>,
    sets: Sets,
    assets: Assets,
    scenes: Scenes,
    /// Clips that were looked at, by content.
    looked: Cache<String, Arc<Looked>>,
    /// What is covered, by its key.
    repairs: Cache<String, Arc<Laying>>,
    /// The patches, by what is covered.
    made: Cache<String, Arc<Repair>>,
    /// Encoded frames.
    frames: Cache<String, Arc<Vec<u8>>>,
}

/// A clip that was looked at.
pub(crate) struct Looked {
    pub clip: Clip,
    pub found: Found,
    /// Where what is derived from it is kept.
    folder: PathBuf,
}

/// What was found in a clip, as it is kept.
#[derive(Serialize, Deserialize)]
pub(crate) struct Found {
    version: u32,
    pub survey: Survey,
    /// Numbers of the frames that are kept.
    pub sampled: Vec<usize>,
}

/// Version of what is kept.
const VERSION: u32 = 1;
/// Frames that are kept at most, and bytes that they may take.
const SAMPLES: usize = 41;
const SAMPLE_BYTES: u64 = 600 << 20;
/// Points of a curve.
const POINTS: usize = 400;

impl Clips {
    pub(crate) fn new(store: Arc<Store>, sets: Sets, assets: Assets, scenes: Scenes) -> Self {
        Self(Arc::new(Inner {
            store,
            sets,
            assets,
            scenes,
            looked: Cache::new(8),
            repairs: Cache::new(16),
            made: Cache::new(3),
            frames: Cache::builder()
                .max_capacity(96 << 20)
                .weigher(|_: &String, bytes: &Arc<Vec<u8>>| u32::try_from(bytes.len()).unwrap_or(u32::MAX))
                .build(),
        }))
    }

    /// The frame of a set that stands for the clip all of its frames come from; `None` where they come from elsewhere.
    pub(crate) fn of(&self, set: i64) -> Result<Option<FrameRow>, StudioError> {
        let rows = self.0.sets.joined(set)?;
        let Some(first) = rows.first() else { return Ok(None) };
        let one = rows.len() > 1 && rows.iter().all(|r| r.hash == first.hash);
        Ok((one && is_clip(&self.0.assets.original(first))).then(|| first.clone()))
    }

    /// Whether the frames of a set come from a clip that was looked at.
    pub(crate) fn is_looked_at(&self, set: i64) -> Result<bool, StudioError> {
        let found = |row: FrameRow| self.0.store.path(&["cache", "clips", &row.hash, "found.json"]).exists();
        Ok(self.of(set)?.is_some_and(found))
    }

    /// Looks at the clip of a set, if that has one, unless that was done before.
    pub(crate) fn look(
        &self,
        set: i64,
        at: &dyn Fn(f32) -> Result<(), Cancelled>,
    ) -> Result<Option<Arc<Looked>>, StudioError> {
        let Some(row) = self.of(set)? else { return Ok(None) };
        if let Some(looked) = self.0.looked.get(&row.hash) {
            return Ok(Some(looked));
        }
        let folder = self.0.store.path(&["cache", "clips", &row.hash]);
        std::fs::create_dir_all(&folder).map_err(|e| MediaError::writing(&folder, &e))?;
        let mut clip = Clip::open(&self.0.assets.original(&row))?;
        let kept = std::fs::read(folder.join("found.json")).ok();
        let kept = kept.and_then(|text| serde_json::from_slice::<Found>(&text).ok());
        let whole = |f: &Found| f.version == VERSION && folder.join("sampled.y4m").exists();
        let found = match kept.filter(whole) {
            Some(found) => found,
            None => survey(&clip, &folder, at)?,
        };
        let read = found.survey.frames;
        if read > 0 {
            // What the file tells and cannot be read is not there, and what it tells nothing of goes at its pace.
            clip.seconds = (0..read).map(|k| clip.second(k)).collect();
        }
        let looked = Arc::new(Looked { clip, found, folder });
        self.0.looked.insert(row.hash, looked.clone());
        Ok(Some(looked))
    }

    /// The clip of a set; an error where it has none or it was not looked at yet.
    fn looked(&self, set: i64) -> Result<Arc<Looked>, StudioError> {
        let Some(row) = self.of(set)? else {
            return Err(StudioError::NotFound("the frames of this set come from no clip".into()));
        };
        match self.0.looked.get(&row.hash) {
            Some(looked) => Ok(looked),
            None if self.0.store.path(&["cache", "clips", &row.hash, "found.json"]).exists() => {
                let found = self.look(set, &|_| Ok(()))?;
                found.ok_or_else(|| StudioError::NotFound("the frames of this set come from no clip".into()))
            }
            None => Err(StudioError::Conflict("the clip is still being looked at".into())),
        }
    }

    /// Everything about the clip of a set.
    ///
    /// # Errors
    /// When its frames come from no clip, or it was not looked at yet.
    pub fn state(&self, set: i64) -> Result<ClipState, StudioError> {
        let looked = self.looked(set)?;
        let (clip, survey) = (&looked.clip, &looked.found.survey);
        let info = &clip.info;
        let name = self.of(set)?.map(|row| row.name).unwrap_or_default();
        let moments = self.moments(set, clip)?;
        let shots = self.shots(&looked, &moments);
        let laying = self.laying(set, &looked)?;
        let shown = info.shown();
        let mut remarks: Vec<ClipRemark> = Vec::new();
        for &[first, last] in &shots {
            let told = survey.remarks((first, last));
            remarks.extend(told.into_iter().map(|r| ClipRemark {
                frame: r.frame().or(Some(first)),
                words: r.words(|k| clock(clip.second(k))),
            }));
        }
        if let Some(why) = &survey.stopped {
            let words = format!("{why}: {} frames are whole, what follows is lost", survey.frames);
            remarks.push(ClipRemark { frame: survey.frames.checked_sub(1), words });
        }
        if survey.each.is_empty() {
            let words =
                "It is longer than twenty minutes: only moments of it were looked at, no shake, no cuts"
                    .into();
            remarks.push(ClipRemark { frame: None, words });
        }
        if info.is_hdr() {
            let words = "Its light is coded for brighter screens (HLG or PQ): it is covered in its own codes, and shown here as they are".into();
            remarks.push(ClipRemark { frame: None, words });
        }
        let step = survey.each.len().div_ceil(POINTS).max(1);
        let each = survey.each.iter().enumerate().step_by(step);
        let moved = each.map(|(frame, moved)| MovedAt { frame, moved: *moved }).collect();
        Ok(ClipState {
            name,
            size: [shown.width, shown.height],
            rate: f64::from(info.rate.0) / f64::from(info.rate.1),
            codec: format!("{}, {} bit", info.codec, info.layout.bits),
            sound: info.sound,
            seconds: (0..clip.count()).map(|k| clip.second(k) - clip.second(0)).collect(),
            shots,
            of: survey.shots.len().max(1),
            remarks,
            moved,
            moments,
            areas: laying.boxes.clone(),
            covered: laying.covered,
            laid: self.laid(&looked, &laying.key),
            crossings: crossings(&looked, &laying.covers),
            key: laying.key.clone(),
        })
    }

    /// Which frame of the clip each frame of a set is.
    fn moments(&self, set: i64, clip: &Clip) -> Result<Vec<Moment>, StudioError> {
        let start = clip.second(0);
        let at = |row: &FrameRow| clip.at(start + row.camera.seconds().unwrap_or(0.0));
        Ok(self.0.sets.joined(set)?.iter().map(|row| Moment { frame: row.id, at: at(row) }).collect())
    }

    /// First and last frame of the shots that a set shows.
    fn shots(&self, looked: &Looked, moments: &[Moment]) -> Vec<[usize; 2]> {
        let survey = &looked.found.survey;
        let last = looked.clip.count().saturating_sub(1);
        if survey.shots.is_empty() {
            return vec![[0, last]];
        }
        let mut shots: Vec<[usize; 2]> =
            moments.iter().map(|m| survey.shot(m.at)).map(|(a, b)| [a, b]).collect();
        shots.sort_unstable();
        shots.dedup();
        shots
    }

    /// What laying the patch found, where that was done.
    fn laid(&self, looked: &Looked, key: &str) -> Option<Laid> {
        let text = std::fs::read(looked.folder.join(format!("{key}.json"))).ok()?;
        serde_json::from_slice(&text).ok().filter(|_| looked.folder.join(format!("{key}.mp4")).exists())
    }

    /// A file that laying the patch made under a key: what is played (`mp4`), or the patch over time (`png`).
    ///
    /// # Errors
    /// When the patch was not laid yet.
    pub fn made(&self, set: i64, key: &str, ending: &str) -> Result<PathBuf, StudioError> {
        let looked = self.looked(set)?;
        let plain = !key.is_empty() && key.chars().all(|c| c.is_ascii_hexdigit());
        let path = looked.folder.join(format!("{key}.{ending}"));
        match plain && path.exists() {
            true => Ok(path),
            false => Err(StudioError::NotFound("it is not ready to be played; lay the patch first".into())),
        }
    }
}

/// Looks at all of a clip and keeps some frames; of a long one, moments alone.
fn survey(
    clip: &Clip,
    folder: &std::path::Path,
    at: &dyn Fn(f32) -> Result<(), Cancelled>,
) -> Result<Found, StudioError> {
    let count = clip.count().max(1);
    let one: u64 = 2 * clip.info.size.pixels() * if clip.info.layout.bits > 8 { 2 } else { 1 };
    let most = (SAMPLE_BYTES / one.max(1)).clamp(5, SAMPLES as u64) as usize;
    let step = count.div_ceil(most).max(1);
    let mut sampled = Vec::new();
    let mut kept = Y4mWriter::create(&folder.join("sampled.y4m"), &clip.info)?;
    let mut keep = |k: usize, frame: &Yuv, share: f32| -> Result<(), StudioError> {
        // A file may tell of fewer frames than it holds, or of none.
        if k.is_multiple_of(step) && sampled.len() < 2 * most {
            kept.push(frame)?;
            sampled.push(k);
        }
        at(share.min(1.0)).map_err(|_| StudioError::Cancelled)
    };
    let survey = if clip.info.seconds.unwrap_or(0.0) > Survey::LONGEST {
        for k in (0..count).step_by(step) {
            match clip.frame(k) {
                Ok(frame) => keep(k, &frame, k as f32 / count as f32)?,
                Err(_) if k > 0 => break,
                Err(e) => return Err(e.into()),
            }
        }
        Survey { frames: 0, shots: Vec::new(), each: Vec::new(), stopped: None }
    } else {
        Survey::of(clip, &mut keep)?
    };
    kept.finish()?;
    let found = Found { version: VERSION, survey, sampled };
    let path = folder.join("found.json");
    std::fs::write(&path, serde_json::to_vec(&found)?).map_err(|e| MediaError::writing(&path, &e))?;
    Ok(found)
}

/// The crossings that were found when what is covered was last laid, whatever was brushed.
fn crossings(looked: &Looked, covers: &str) -> Vec<Crossing> {
    let kept = std::fs::read(looked.folder.join(format!("{covers}.crossings.json"))).ok();
    kept.and_then(|text| serde_json::from_slice(&text).ok()).unwrap_or_default()
}

/// A time as people write it.
fn clock(seconds: f64) -> String {
    format!("{:02}:{:04.1}", (seconds / 60.0) as u32, seconds % 60.0)
}
