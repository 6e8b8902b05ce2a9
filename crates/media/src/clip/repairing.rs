//! The frames of a clip through a repair: what is covered and by what, in the clip's own samples, and each frame with the patch on it.

use super::{Clip, ClipReader, Yuv};
use crate::error::MediaError;
use evanu_core::clip::{Area, Cover, Planes, Repair, Stroke, Told};
use evanu_core::geometry::Size;
use evanu_core::pixel::distance::distances_within;
use rayon::prelude::*;
use std::ops::RangeInclusive;

/// Frames that tell what an area looks like, and memory that they may take together.
const SAMPLES: usize = 41;
const SAMPLE_BYTES: usize = 400 << 20;
/// Width of the border that fades, in pixels.
const SOFT: f32 = 2.0;

/// A mask with a border that fades outwards, so that all that is set is covered.
pub fn softened(mask: &[bool], size: Size) -> Vec<f32> {
    let near = distances_within(mask, size.width as usize, SOFT.ceil() as usize);
    near.into_iter().map(|d| if d.is_finite() { (1.0 - d / (SOFT + 1.0)).max(0.0) } else { 0.0 }).collect()
}

/// Values of a picture as it is shown, so many a pixel, turned back to how the clip is coded.
pub fn as_coded<T: Copy>(values: Vec<T>, shown: Size, rotation: i32) -> Vec<T> {
    turned(values, shown, (360 - rotation).rem_euclid(360))
}

/// Values of a picture turned clockwise.
pub fn turned<T: Copy>(values: Vec<T>, size: Size, by: i32) -> Vec<T> {
    if by == 0 {
        return values;
    }
    let (w, h) = (size.width as usize, size.height as usize);
    let each = values.len() / (w * h).max(1);
    let (tw, th) = if matches!(by, 90 | 270) { (h, w) } else { (w, h) };
    let mut out = Vec::with_capacity(values.len());
    for y in 0..th {
        for x in 0..tw {
            let (u, v) = match by {
                90 => (y, h - 1 - x),
                180 => (w - 1 - x, h - 1 - y),
                _ => (w - 1 - y, x),
            };
            out.extend_from_slice(&values[each * (v * w + u)..][..each]);
        }
    }
    out
}

/// Hears of each frame: its number, as it was, as it is, and what was told of it.
pub type Take<'a, E> = &'a mut dyn FnMut(usize, &Yuv, &Yuv, Told) -> Result<(), E>;

/// What is covered in a clip.
pub struct Wanted {
    /// How strongly each pixel is covered, as the clip is coded, 0..=1.
    pub mask: Vec<f32>,
    /// By the same clip so many seconds later; by a picture without.
    pub later: Option<f64>,
    /// Whether what is to go stands there at some times only.
    pub sometimes: bool,
    /// Which picture covers it, of those that the repair is made with.
    pub picture: usize,
}

/// An area of a clip, and how it is covered.
pub struct ClipArea {
    /// Where.
    pub area: Area,
    later: Option<f64>,
    sometimes: bool,
    picture: usize,
}

/// The parts of some frames: their numbers, and each area's in all of them.
#[derive(Default)]
pub struct Seen {
    /// Numbers of the frames.
    pub numbers: Vec<usize>,
    /// By area.
    pub parts: Vec<Vec<Planes>>,
}

impl Seen {
    /// Adds those of a frame.
    pub fn push(&mut self, number: usize, frame: &Yuv, (areas, size): (&[ClipArea], Size)) {
        self.numbers.push(number);
        self.parts.resize(areas.len(), Vec::new());
        for (of, parts) in areas.iter().zip(&mut self.parts) {
            parts.push(of.area.cut(&frame.planes, size));
        }
    }
}

impl Clip {
    fn halved(&self) -> (u8, u8) {
        let layout = self.info.layout;
        if layout.grey { (0, 0) } else { (layout.across, layout.down) }
    }

    /// The areas of what is wanted.
    pub fn areas(&self, wanted: &[Wanted]) -> Vec<ClipArea> {
        let of = |w: &Wanted| {
            let Wanted { later, sometimes, picture, .. } = *w;
            let areas = Area::each(&w.mask, self.info.size, self.halved()).into_iter();
            areas.map(move |area| ClipArea { area, later, sometimes, picture })
        };
        wanted.iter().flat_map(of).collect()
    }

    /// Numbers of the frames that tell what areas look like, of those in a range.
    pub fn sampled(&self, range: RangeInclusive<usize>, areas: &[ClipArea]) -> Vec<usize> {
        let one: usize = areas.iter().map(|a| 4 * a.area.part.size().pixels() as usize).sum();
        let most = (SAMPLE_BYTES / one.max(1)).clamp(5, SAMPLES);
        let step = (range.end() + 1 - range.start()).div_ceil(most).max(1);
        range.step_by(step).collect()
    }

    /// The repair of areas by pictures, red, green and blue from 0 to 1 as the clip is coded, with their parts of some frames.
    pub fn repair(&self, areas: Vec<ClipArea>, pictures: &[Vec<f32>], seen: &Seen) -> Repair {
        let layout = self.info.layout;
        let range = (self.info.colour.centers(layout.bits), layout.most());
        let cover = |(of, parts): (ClipArea, &Vec<Planes>)| {
            let behind = self.behind(&pictures[of.picture], &of.area);
            let standing = of.sometimes.then_some(&seen.numbers[..]);
            let later = of.later.map(|s| self.frames_later(s));
            (Cover::new(of.area, parts, behind, range, standing), later)
        };
        Repair::new(areas.into_iter().zip(&seen.parts).map(cover).collect(), self.info.size)
    }

    /// A time as a number of frames.
    fn frames_later(&self, seconds: f64) -> i64 {
        (seconds * f64::from(self.info.rate.0) / f64::from(self.info.rate.1)).round() as i64
    }

    /// What is behind, in the clip's samples, over an area's part.
    fn behind(&self, picture: &[f32], area: &Area) -> [Vec<f32>; 3] {
        let (w, part) = (self.info.size.width as usize, area.part);
        let rows = part.y as usize..part.bottom() as usize;
        let cut: Vec<f32> = rows
            .flat_map(|y| picture[3 * (y * w + part.x as usize)..][..3 * part.width as usize].iter().copied())
            .collect();
        let mut planes = self.info.colour.planes(&cut, part.size(), self.info.layout);
        if self.info.layout.grey {
            planes[1].clear();
            planes[2].clear();
        }
        planes
    }

    /// Lays a repair on every frame of a range from `first` on, and hands each on. Frames that are not `repaired` are handed on as they are. Returns why frames at the end could not be
    /// read.
    ///
    /// # Errors
    /// When not one frame can be read, and that of `take`, which ends this.
    pub fn lay<E: From<MediaError>>(
        &self,
        repair: &Repair,
        (shown, repaired): (RangeInclusive<usize>, &dyn Fn(usize) -> bool),
        brushed: &[Stroke],
        take: Take<'_, E>,
    ) -> Result<Option<String>, E> {
        let first = *shown.start();
        let reader = match first {
            0 => ClipReader::open(&self.path, &self.info)?,
            k => ClipReader::open_at(&self.path, &self.info, self.second(k))?,
        };
        let mut others: Vec<Later> = repair.later().into_iter().map(Later::new).collect();
        // Some at once: each by a processor of its own.
        let at_once = rayon::current_num_threads().clamp(1, 8);
        let mut frames = reader.zip(shown);
        let mut stopped = None;
        while stopped.is_none() {
            let mut batch: Vec<(usize, Yuv, Pieces)> = Vec::new();
            for (frame, k) in frames.by_ref().take(at_once) {
                let frame = match frame {
                    Ok(frame) => frame,
                    Err(e) if k > first => {
                        stopped = Some(e.to_string());
                        break;
                    }
                    Err(e) => return Err(e.into()),
                };
                let mut pieces = Pieces::new();
                for other in others.iter_mut().filter(|_| repaired(k)) {
                    pieces.push((other.by, other.frame(self, k)?));
                }
                batch.push((k, frame, pieces));
            }
            if batch.is_empty() {
                break;
            }
            let wanted: Vec<bool> = batch.iter().map(|(k, ..)| repaired(*k)).collect();
            let made: Vec<(Yuv, Told)> = batch
                .par_iter()
                .zip(wanted)
                .map(|((k, before, pieces), wanted)| {
                    let mut frame = before.clone();
                    let piece = |by: i64| {
                        pieces.iter().find(|(b, _)| *b == by).and_then(|(_, f)| f.as_ref().map(|f| &f.planes))
                    };
                    let own: Vec<Stroke> =
                        brushed.iter().filter(|s| s.frame as usize == *k).cloned().collect();
                    let told = match wanted {
                        true => repair.lay((*k, &mut frame.planes), &own, &piece),
                        false => Told::UNTOUCHED,
                    };
                    (frame, told)
                })
                .collect();
            for ((k, before, _), (frame, told)) in batch.iter().zip(&made) {
                take(*k, before, frame, *told)?;
            }
        }
        Ok(stopped)
    }
}

/// What goes with a frame from other times: how many frames later, and the frame where there is one.
type Pieces = Vec<(i64, Option<Yuv>)>;

/// The same clip so many frames later, read beside it.
struct Later {
    by: i64,
    reader: Option<ClipReader>,
}

impl Later {
    fn new(by: i64) -> Self {
        Self { by, reader: None }
    }

    /// The frame that goes with frame `k`; `None` where the clip does not reach.
    fn frame(&mut self, clip: &Clip, k: usize) -> Result<Option<Yuv>, MediaError> {
        let Some(wanted) = k.checked_add_signed(self.by as isize).filter(|w| *w < clip.count()) else {
            return Ok(None);
        };
        if self.reader.is_none() {
            self.reader = Some(ClipReader::open_at(&clip.path, &clip.info, clip.second(wanted))?);
        }
        self.reader.as_mut().and_then(Iterator::next).transpose()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_picture_that_is_turned_comes_back() {
        let size = Size::new(5, 3);
        let picture: Vec<u8> = (0..30).collect();
        for by in [0, 90, 180, 270] {
            let shown = if by % 180 == 90 { Size::new(3, 5) } else { size };
            let seen = turned(picture.clone(), size, by);
            assert_eq!(as_coded(seen, shown, by), picture);
        }
        // Clockwise: what was at the left below comes to the left above.
        assert_eq!(turned(vec![1, 2, 3, 4], Size::new(2, 2), 90), [3, 1, 4, 2]);
    }

    #[test]
    fn a_border_fades_outwards() {
        let mask: Vec<bool> = (0..9).map(|p| p == 4).collect();
        let soft = softened(&mask, Size::new(9, 1));
        assert!(soft[4] == 1.0 && soft[5] > soft[6] && soft[6] > 0.0 && soft[7] == 0.0);
    }
}
