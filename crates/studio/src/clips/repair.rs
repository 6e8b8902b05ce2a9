//! What is covered in a clip, made from the set's decisions; single frames with the patch; and the patch laid on all of them.

use super::slit::Slit;
use super::{Clips, Looked, clock};
use crate::error::StudioError;
use crate::model::{AreaInfo, CarryRequest, ClipFile, ClipRemark, Laid, Returned};
use evanu_core::clip::{Repair, Stroke, Told, carried, changed, crossings, moves_far};
use evanu_core::develop::Develop;
use evanu_core::geometry::{Grid, Point, Rect, Size};
use evanu_core::patch::mask::Mask;
use evanu_core::pixel::{FrameSource, Raster, Samples};
use evanu_core::progress::Cancelled;
use evanu_core::recipe::{ClipRepair, Recipe};
use evanu_core::render::{Scene, View};
use evanu_media::clip::{Clip, ClipReader, ClipWriter, Codec, Seen, Wanted, Yuv, as_coded, softened, turned};
use evanu_media::{Format, MediaError, Output, encode_jpeg};
use std::path::Path;
use std::sync::Arc;

/// A repair that is ready to be laid.
pub(crate) struct Laying {
    /// Changes whenever any frame of it would.
    pub key: String,
    /// The same whatever was brushed.
    pub covers: String,
    /// Share of the picture that is covered.
    pub covered: f64,
    /// Boxes around what is covered, in reference pixels.
    pub boxes: Vec<AreaInfo>,
    /// What is covered, by what is laid over it.
    masks: Vec<Covering>,
    /// Frames that it is laid on: first and last of each run.
    pub runs: Vec<[usize; 2]>,
    strokes: Vec<Stroke>,
}

/// What is covered in one way.
struct Covering {
    /// Which pixels, as it is shown.
    mask: Vec<bool>,
    /// By the same clip so many seconds later; by a picture without.
    later: Option<f64>,
    /// By a still of this name; by the plate without.
    still: Option<String>,
    /// Whether what is to go stands there at some times only.
    sometimes: bool,
}

impl Laying {
    fn lies_on(&self, k: usize) -> bool {
        self.runs.iter().any(|[first, last]| (*first..=*last).contains(&k))
    }

    /// What was brushed, in pixels of the clip as it is coded.
    fn brushed(&self, clip: &Clip) -> Vec<Stroke> {
        let shown = clip.info.shown();
        let (w, h) = (f64::from(shown.width) - 1.0, f64::from(shown.height) - 1.0);
        let coded = |p: &Point| match clip.info.rotation {
            90 => Point::new(p.y, w - p.x),
            180 => Point::new(w - p.x, h - p.y),
            270 => Point::new(h - p.y, p.x),
            _ => *p,
        };
        let of = |s: &Stroke| Stroke { path: s.path.iter().map(coded).collect(), ..s.clone() };
        self.strokes.iter().map(of).collect()
    }
}

/// Files that are kept for playing at most.
const PLAYS: usize = 12;
/// Columns of what is played.
const WIDE: u32 = 1280;

impl Clips {
    /// The repair of a set as it stands.
    pub(super) fn laying(&self, set: i64, looked: &Looked) -> Result<Arc<Laying>, StudioError> {
        let clip = &looked.clip;
        let moments = self.moments(set, clip)?;
        let loaded = self.0.scenes.loaded(set)?;
        let ClipRepair { held, from, to, strokes } = &loaded.recipe.clip;
        let shown = clip.info.shown();
        let runs: Vec<[usize; 2]> = self
            .shots(looked, &moments)
            .into_iter()
            .filter_map(|[first, last]| {
                let start = clip.second(0);
                let inside = |k: &usize| {
                    let s = clip.second(*k) - start;
                    from.is_none_or(|from| s >= from - 1e-6) && to.is_none_or(|to| s <= to + 1e-6)
                };
                Some([(first..=last).find(inside)?, (first..=last).rev().find(inside)?])
            })
            .collect();
        // What its pixels follow from: the plate without its look, what is covered, and when; and what was brushed.
        let covered = serde_json::to_string(&(held, &runs, &loaded.recipe.touches, &loaded.recipe.patches))?;
        let covered = format!("clip 1 {} {} {covered}", loaded.keys.patched, loaded.draft);
        let name = |text: &str| blake3::hash(text.as_bytes()).to_hex()[..16].to_owned();
        let covers = name(&covered);
        let key = name(&format!("{covered} {}", serde_json::to_string(strokes)?));
        if let Some(kept) = self.0.repairs.get(&key) {
            return Ok(kept);
        }
        let mut plate = vec![false; shown.pixels() as usize];
        for touch in loaded.touches.iter().filter(|t| t.strength > 0.0) {
            cover(&mut plate, shown, &touch.made.mask);
        }
        for patch in loaded.patches.iter().filter(|p| p.strength > 0.0) {
            cover(&mut plate, shown, &patch.fit.mask);
        }
        let mut masks = vec![Covering { mask: plate, later: None, still: None, sometimes: false }];
        for held in held {
            let Some(mask) = Mask::drawn(&held.outline, 0.0, 2.0, shown) else { continue };
            let same = |c: &Covering| c.later == held.later && c.still == held.still;
            // The plate shows what comes and goes otherwise than what is there all the time, as a still does.
            let sometimes = held.still.is_none();
            let k = masks.iter().position(|c| same(c) && c.sometimes == sometimes).unwrap_or_else(|| {
                let mask = vec![false; shown.pixels() as usize];
                masks.push(Covering { mask, later: held.later, still: held.still.clone(), sometimes });
                masks.len() - 1
            });
            cover(&mut masks[k].mask, shown, &mask);
        }
        // Where two lie over each other, what lives goes before what stands.
        let mut taken = vec![false; shown.pixels() as usize];
        for Covering { mask, .. } in masks.iter_mut().rev() {
            for (own, taken) in mask.iter_mut().zip(&mut taken) {
                *own &= !*taken;
                *taken |= *own;
            }
        }
        masks.retain(|c| c.mask.contains(&true));
        let covered = taken.iter().filter(|c| **c).count() as f64 / taken.len().max(1) as f64;
        let boxes = masks.iter().flat_map(|c| boxes(&c.mask, shown)).collect();
        let strokes = strokes.clone();
        let laying = Arc::new(Laying { key: key.clone(), covers, covered, boxes, masks, runs, strokes });
        self.0.repairs.insert(key, laying.clone());
        Ok(laying)
    }

    /// The patches themselves, made from the frames that were kept.
    fn repair(&self, set: i64, looked: &Looked, laying: &Laying) -> Result<Arc<Repair>, StudioError> {
        if let Some(made) = self.0.made.get(&laying.covers) {
            return Ok(made);
        }
        let clip = &looked.clip;
        let (size, shown, turn) = (clip.info.size, clip.info.shown(), clip.info.rotation);
        let mut stills: Vec<&String> = laying.masks.iter().filter_map(|c| c.still.as_ref()).collect();
        stills.dedup();
        let wanted: Vec<Wanted> = laying
            .masks
            .iter()
            .map(|c| Wanted {
                mask: softened(&as_coded(c.mask.clone(), shown, turn), size),
                later: c.later,
                sometimes: c.sometimes,
                picture: c
                    .still
                    .as_ref()
                    .and_then(|own| stills.iter().position(|s| *s == own))
                    .map_or(0, |k| k + 1),
            })
            .collect();
        let areas = clip.areas(&wanted);
        let mut seen = Seen::default();
        if !areas.is_empty() {
            let kept = ClipReader::kept(&looked.folder.join("sampled.y4m"))?;
            for (k, frame) in
                looked.found.sampled.iter().copied().zip(kept).filter(|(k, _)| laying.lies_on(*k))
            {
                seen.push(k, &frame?, (&areas, size));
            }
            if seen.numbers.is_empty() {
                // A range so short that none of them lies in it.
                let first = laying.runs.first().map_or(0, |r| r[0]);
                seen.push(first, &clip.frame(first)?, (&areas, size));
            }
        }
        let mut pictures = Vec::new();
        if !areas.is_empty() {
            pictures.push(as_coded(self.plate(set, shown)?, shown, turn));
            for still in stills {
                pictures.push(as_coded(self.still(still, shown)?, shown, turn));
            }
        }
        let repair = Arc::new(clip.repair(areas, &pictures, &seen));
        self.0.made.insert(laying.covers.clone(), repair.clone());
        Ok(repair)
    }

    /// The plate without its look, red, green and blue from 0 to 1, over the reference.
    fn plate(&self, set: i64, shown: Size) -> Result<Vec<f32>, StudioError> {
        let loaded = self.0.scenes.loaded(set)?;
        let (canvas, plate) = loaded.with(|scene| {
            let plain = Recipe { develop: Develop::default(), ..scene.recipe.clone() };
            let scene = Scene { recipe: &plain, ..*scene };
            let canvas = scene.canvas();
            scene.render(View::Plate, canvas.size().rect(), 0).map(|plate| (canvas, plate))
        })?;
        let mut out = vec![0.0; 3 * shown.pixels() as usize];
        let common = canvas.intersect(shown.rect());
        for y in common.y..common.bottom() {
            let from = 3 * ((y - canvas.y) as usize * canvas.width as usize + (common.x - canvas.x) as usize);
            let to = 3 * (y as usize * shown.width as usize + common.x as usize);
            let n = 3 * common.width as usize;
            for (o, v) in out[to..to + n].iter_mut().zip(&plate.data[from..from + n]) {
                *o = f32::from(*v) / 65535.0;
            }
        }
        Ok(out)
    }

    /// A still that is kept, red, green and blue from 0 to 1.
    fn still(&self, name: &str, shown: Size) -> Result<Vec<f32>, StudioError> {
        let kept = self.0.assets.raster(name)?;
        let samples = kept.read(0, shown.rect()).map_err(|e| StudioError::Storage(e.to_string()))?;
        Ok(match samples {
            Samples::Eight(data) => data.into_iter().map(|v| f32::from(v) / 255.0).collect(),
            Samples::Sixteen(data) | Samples::Wide(data) => {
                data.into_iter().map(|v| f32::from(v) / 65535.0).collect()
            }
        })
    }

    /// Takes a still that was retouched elsewhere: it is kept, and where it was changed is told.
    ///
    /// # Errors
    /// When it cannot be read, has another size than the clip, or nothing in it was changed.
    pub fn take_back(&self, set: i64, name: &str, bytes: &[u8]) -> Result<Returned, StudioError> {
        let looked = self.looked(set)?;
        let shown = looked.clip.info.shown();
        let (size, samples) = self.0.assets.read_still(name, bytes)?;
        if size != shown {
            return Err(StudioError::Invalid(format!(
                "{name}: it has {} × {} pixels and the clip has {} × {}; save it at the size it went out with",
                size.width, size.height, shown.width, shown.height
            )));
        }
        let data: Vec<u16> = match samples {
            Samples::Eight(data) => data.into_iter().map(|v| u16::from(v) * 257).collect(),
            Samples::Sixteen(data) => data,
            Samples::Wide(_) => {
                return Err(StudioError::Invalid(format!(
                    "{name}: its light goes beyond white; save it as TIFF or PNG"
                )));
            }
        };
        let back: Vec<f32> = data.iter().map(|v| f32::from(*v) / 65535.0).collect();
        let found = changed(&self.plate(set, shown)?, &back, shown);
        let count = found.iter().filter(|f| **f).count();
        if count == 0 {
            return Err(StudioError::Invalid(format!("{name}: nothing in it was changed beside the plate")));
        }
        let grid = Grid::new(shown.rect(), 0);
        let outlines = Mask::outlines_of(&grid, &found);
        let still = self.0.assets.keep_raster(set, &Raster { size: shown, data })?;
        Ok(Returned { still, outlines, share: count as f64 / found.len() as f64 })
    }

    /// A frame of the clip, as it was or with the patch, as a picture.
    ///
    /// # Errors
    /// When there is no such frame or it cannot be read.
    pub fn frame(&self, set: i64, k: usize, repaired: bool) -> Result<Arc<Vec<u8>>, StudioError> {
        let looked = self.looked(set)?;
        let laying = self.laying(set, &looked)?;
        let covered = repaired && laying.lies_on(k) && !laying.masks.is_empty();
        let name =
            if covered { format!("{}-{k}", laying.key) } else { format!("{}-{k}", looked.folder.display()) };
        if let Some(kept) = self.0.frames.get(&name) {
            return Ok(kept);
        }
        let clip = &looked.clip;
        if k >= clip.count() {
            return Err(StudioError::NotFound(format!("the clip has {} frames", clip.count())));
        }
        let mut frame = None;
        if covered {
            let repair = self.repair(set, &looked, &laying)?;
            clip.lay(&repair, (k..=k, &|_| true), &laying.brushed(clip), &mut |_, _, made, _| {
                frame = Some(made.clone());
                Ok::<_, StudioError>(())
            })?;
        }
        let frame = match frame {
            Some(frame) => frame,
            None => clip.frame(k)?,
        };
        let bytes = Arc::new(
            encode_jpeg(&picture(clip, &frame), 94).map_err(|e| MediaError::writing(&clip.path, &e))?,
        );
        self.0.frames.insert(name, bytes.clone());
        Ok(bytes)
    }

    /// The stroke of a frame, and where what lies under it goes in the frames beside it, for as long as it can be followed.
    ///
    /// # Errors
    /// When the stroke makes no sense or frames cannot be read.
    pub fn carry(&self, set: i64, wanted: &CarryRequest) -> Result<Vec<Stroke>, StudioError> {
        let looked = self.looked(set)?;
        let laying = self.laying(set, &looked)?;
        let clip = &looked.clip;
        let stroke = &wanted.stroke;
        let k = stroke.frame as usize;
        if !stroke.is_valid() || k >= clip.count() || wanted.frames > 50 {
            return Err(crate::error::invalid(
                "a stroke lies in a frame of the clip and is followed over 50 frames at most",
            ));
        }
        let far = wanted.frames as usize;
        let [first, last] =
            laying.runs.iter().copied().find(|[first, last]| (*first..=*last).contains(&k)).unwrap_or([k, k]);
        let (from, to) = (k.saturating_sub(far).max(first), (k + far).min(last));
        let shown = clip.info.shown();
        let mut bright: Vec<Vec<u16>> = Vec::new();
        for frame in ClipReader::open_at(&clip.path, &clip.info, clip.second(from))?.take(to + 1 - from) {
            let [y, _, _] = frame?.planes;
            bright.push(turned(y, clip.info.size, clip.info.rotation));
        }
        let mut all = vec![stroke.clone()];
        for way in [-1i64, 1] {
            let mut now = stroke.clone();
            loop {
                let (at, next) = (now.frame as usize, i64::from(now.frame) + way);
                let inside = next >= from as i64 && next <= to as i64;
                let frames = inside.then(|| (bright.get(at - from), bright.get(next as usize - from)));
                let Some((Some(a), Some(b))) = frames else { break };
                let Some(off) = carried(&now, (a, b), shown.width as usize) else { break };
                now = now.moved(next as u32, off);
                all.push(now.clone());
            }
        }
        Ok(all)
    }

    /// Lays the patch on all frames of what a set shows: what was found, and a small clip of before and after to be played.
    pub(crate) fn lay(&self, set: i64, at: &dyn Fn(f32) -> Result<(), Cancelled>) -> Result<(), StudioError> {
        let looked = self.looked(set)?;
        let laying = self.laying(set, &looked)?;
        let clip = &looked.clip;
        let repair = self.repair(set, &looked, &laying)?;
        let path = looked.folder.join(format!("{}.mp4", laying.key));
        let mut writer = ClipWriter::create(&path, &clip.path, &clip.info, Codec::Pairs(WIDE))?;
        let (start, count) = (clip.second(0), clip.count().max(1) as f32);
        let mut told: Vec<Told> = Vec::new();
        let mut slit = repair.areas().next().map(|area| Slit::of(area, clip));
        let stopped = clip.lay(
            &repair,
            (0..=usize::MAX, &|k| laying.lies_on(k)),
            &laying.brushed(clip),
            &mut |k, before, after, found| {
                writer.push_pair((before, after), clip.info.size, clip.second(k) - start)?;
                told.push(found);
                if let Some(slit) = &mut slit {
                    slit.push(k, after);
                }
                at((k as f32 / count).min(1.0)).map_err(|_| StudioError::Cancelled)
            },
        )?;
        writer.finish()?;
        let mut remarks = Vec::new();
        if let Some(k) = moves_far(&told) {
            let words = format!(
                "What is around the area differs from what it usually is, as at {}: the camera moves farther than is followed, or the view changes",
                clock(clip.second(k) - start)
            );
            remarks.push(ClipRemark { frame: Some(k), words });
        }
        if let Some(why) = stopped {
            let words = format!("{why}: what follows is lost");
            remarks.push(ClipRemark { frame: told.len().checked_sub(1), words });
        }
        let found = Laid {
            crossings: if laying.masks.is_empty() { Vec::new() } else { crossings(&told) },
            contact: told.iter().map(|t| t.contact as f32).collect(),
            gain: told.iter().map(|t| t.gain as f32).collect(),
            slit: slit.as_ref().map(|slit| slit.place),
            remarks,
        };
        if let Some(slit) = slit {
            let (path, png) = (looked.folder.join(format!("{}.png", laying.key)), slit.png());
            let written = png.and_then(|png| std::fs::write(&path, png));
            written.map_err(|e| MediaError::writing(&path, &e))?;
        }
        let list = looked.folder.join(format!("{}.crossings.json", laying.covers));
        let text = serde_json::to_vec(&found.crossings)?;
        std::fs::write(&list, text).map_err(|e| MediaError::writing(&list, &e))?;
        let text = serde_json::to_vec(&found)?;
        let list = looked.folder.join(format!("{}.json", laying.key));
        std::fs::write(&list, text).map_err(|e| MediaError::writing(&list, &e))?;
        forget_old(&looked.folder);
        Ok(())
    }

    /// Writes what is wanted of a finished clip.
    pub(crate) fn write(
        &self,
        set: i64,
        (file, path): (ClipFile, &Path),
        at: &dyn Fn(f32) -> Result<(), Cancelled>,
    ) -> Result<(), StudioError> {
        let looked = self.looked(set)?;
        let laying = self.laying(set, &looked)?;
        let clip = &looked.clip;
        let info = &clip.info;
        if file == ClipFile::Plate {
            let shown = info.shown();
            let plate = self.plate(set, shown)?;
            let output = Output { format: Format::Png { sixteen: true }, size: shown, camera: None };
            evanu_media::write(path, &output, |band| {
                let row = 3 * shown.width as usize;
                let rows = &plate[band.y as usize * row..][..band.height as usize * row];
                let data = rows.iter().map(|v| (65535.0 * v).round() as u16).collect();
                Ok::<_, StudioError>(Raster { size: band.size(), data })
            })?;
            return Ok(());
        }
        let repair = self.repair(set, &looked, &laying)?;
        let mut shares = vec![0u8; info.size.pixels() as usize];
        for area in repair.areas() {
            let part = area.part;
            for (p, weight) in area.weights().iter().enumerate() {
                let (x, y) = (p % part.width as usize, p / part.width as usize);
                let share =
                    &mut shares[(y + part.y as usize) * info.size.width as usize + x + part.x as usize];
                *share = (*share).max((255.0 * weight) as u8);
            }
        }
        if file == ClipFile::Mask {
            let upright = turned(shares, info.size, info.rotation);
            let png = evanu_media::encode_grey_png(info.shown(), &upright)
                .map_err(|e| MediaError::writing(path, &e))?;
            return Ok(std::fs::write(path, png).map_err(|e| MediaError::writing(path, &e))?);
        }
        let codec = match file {
            ClipFile::Lossless => Codec::Lossless,
            ClipFile::OverlayMov | ClipFile::OverlayWebm => Codec::Overlay,
            ClipFile::Clip | ClipFile::Mask | ClipFile::Plate => Codec::Like,
        };
        let opacity = info.opacity(&shares);
        let mut writer = ClipWriter::create(path, &clip.path, info, codec)?;
        let count = clip.count().max(1) as f32;
        clip.lay(
            &repair,
            (0..=usize::MAX, &|k| laying.lies_on(k)),
            &laying.brushed(clip),
            &mut |k, _, frame, _| {
                match codec {
                    Codec::Overlay => writer.push_pair((frame, &opacity), info.size, clip.second(k))?,
                    _ => writer.push(frame, clip.second(k))?,
                }
                at((k as f32 / count).min(1.0)).map_err(|_| StudioError::Cancelled)
            },
        )?;
        Ok(writer.finish()?)
    }

    /// What the name of a finished file ends with.
    pub(crate) fn ending(&self, set: i64, file: ClipFile) -> Result<String, StudioError> {
        let looked = self.looked(set)?;
        let own = self.of(set)?.map(|row| row.name).unwrap_or_default();
        let own = own.rsplit_once('.').map_or("", |(_, e)| e).to_ascii_lowercase();
        let known = matches!(own.as_str(), "mp4" | "mov" | "m4v" | "mkv" | "webm" | "avi");
        Ok(match file {
            ClipFile::Lossless => "-lossless.mkv".into(),
            ClipFile::OverlayMov => "-overlay.mov".into(),
            ClipFile::OverlayWebm => "-overlay.webm".into(),
            ClipFile::Mask => "-mask.png".into(),
            ClipFile::Plate => "-plate.png".into(),
            ClipFile::Clip if known => format!("-clean.{own}"),
            ClipFile::Clip if looked.clip.info.codec == "ffv1" => "-clean.mkv".into(),
            ClipFile::Clip => "-clean.mp4".into(),
        })
    }
}

/// A frame as it is shown.
fn picture(clip: &Clip, frame: &Yuv) -> Raster {
    let info = &clip.info;
    let data = match info.colour.picture(frame, info.size, info.layout) {
        Samples::Eight(data) => data.into_iter().map(|v| u16::from(v) * 257).collect(),
        Samples::Sixteen(data) | Samples::Wide(data) => data,
    };
    Raster { size: info.shown(), data: turned(data, info.size, info.rotation) }
}

/// Adds what a mask covers.
fn cover(covered: &mut [bool], size: Size, mask: &Mask) {
    let (low, high) = mask.reach();
    let area = Rect::new(
        low.x.floor() as i64,
        low.y.floor() as i64,
        (high.x - low.x).ceil().max(0.0) as u32 + 2,
        (high.y - low.y).ceil().max(0.0) as u32 + 2,
    );
    let area = area.intersect(size.rect());
    for y in area.y..area.bottom() {
        for x in area.x..area.right() {
            // Also where its border fades: below it lies what is to go.
            if mask.at(Point::new(x as f64, y as f64)) > 0.02 {
                covered[y as usize * size.width as usize + x as usize] = true;
            }
        }
    }
}

/// Boxes around the parts of a mask.
fn boxes(mask: &[bool], size: Size) -> Vec<AreaInfo> {
    let w = size.width as usize;
    let mut open = mask.to_vec();
    let parts = evanu_core::pixel::flood::parts(&mut open, w, 0..mask.len(), 3);
    let of = |part: Vec<usize>| {
        let (mut low, mut high) = ((usize::MAX, usize::MAX), (0, 0));
        for p in part {
            low = (low.0.min(p % w), low.1.min(p / w));
            high = (high.0.max(p % w), high.1.max(p / w));
        }
        AreaInfo {
            x: low.0 as i64,
            y: low.1 as i64,
            width: (high.0 + 1 - low.0) as u32,
            height: (high.1 + 1 - low.1) as u32,
        }
    };
    parts.into_iter().map(of).collect()
}

/// Lets go of the oldest files for playing.
fn forget_old(folder: &Path) {
    let files = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut plays: Vec<_> = files
        .map(|f| f.path())
        .filter(|p| p.extension().is_some_and(|e| e == "mp4"))
        .filter_map(|p| Some((p.metadata().ok()?.modified().ok()?, p)))
        .collect();
    plays.sort();
    let gone = plays.len().saturating_sub(PLAYS);
    for (_, path) in plays.into_iter().take(gone) {
        let _ = std::fs::remove_file(path); // it is made anew when it is asked for
    }
}
