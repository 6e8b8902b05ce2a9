//! Which frames each pixel of the plate comes from, as pictures, on the reduced picture that the choice was made on. Read off
//! the choice and what the stages above it make of their own; cost: a few operations a pixel and frame.
//!
//! ```
//! use evanu_core::combine::consensus::LabelMap;
//! use evanu_core::combine::Method;
//! use evanu_core::geometry::{Grid, Size};
//! use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
//! use evanu_core::plan::{FrameAlignment, Plan};
//! use evanu_core::recipe::Recipe;
//! use evanu_core::render::{Scene, View, origin::origins};
//!
//! // Two pixels: the first from both frames, which show two moments, the second from the first frame alone.
//! let size = Size::new(2, 1);
//! let frames = [70, 71].map(|code| MemoryFrame::new(size, Samples::Eight(vec![code; 6])));
//! let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
//! let plan = Plan::of(vec![FrameAlignment::untouched(size); 2]);
//! let recipe = Recipe { method: Method::Median, ..Recipe::new() };
//! let stages = Scene::new(&recipe, &plan, &sources).stages(View::Plate)?;
//! let (grid, inliers) = (Grid::new(size.rect(), 0), vec![0b11, 0b01]);
//! let map = LabelMap { grid, frames: vec![0, 1], labels: vec![0, 0], words: 1, inliers, crowd: Vec::new() };
//! let found = origins(&map, &[0, 1], &stages);
//! assert_eq!((found[0].only, found[0].moments), (None, 2));
//! assert_eq!((found[1].only, found[1].frames), (Some(0), 1));
//! # Ok::<(), evanu_core::render::RenderError>(())
//! ```

use super::list::Stages;
pub use super::stage::Made;
use super::stage::Stage;
use crate::combine::consensus::LabelMap;
use crate::geometry::Point;
use crate::pixel::Raster;
use rayon::prelude::*;

/// Where one pixel of a choice comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Origin {
    /// The only frame that makes it, as an index of the set; `None` when there are several.
    pub only: Option<usize>,
    /// Frames that make it; 0 where a patch takes it by another method.
    pub frames: usize,
    /// Moments that these frames show.
    pub moments: usize,
    /// Whether it is made up: no frame shows it.
    pub invented: bool,
}

/// A stage's pixels are of its own making where this share of them is, at least.
const OWN: f32 = 0.5;

/// The uppermost stage that makes a place of the reference, where that is not the consensus.
pub fn made_by(stages: &Stages<'_>, place: Point) -> Option<Made> {
    let own = |stage: &&dyn Stage| stage.share(place, 1.0, 1).is_some_and(|share| share[0] >= OWN);
    stages.iter().rev().find(own).map(Stage::origin)
}

/// For each pixel of a choice, where it comes from; `moments` are the moments of the set's frames.
pub fn origins(choice: &LabelMap, moments: &[u32], stages: &Stages<'_>) -> Vec<Origin> {
    let w = choice.grid.rect.width as usize;
    let mut out = vec![Origin { only: None, frames: 0, moments: 0, invented: false }; choice.labels.len()];
    out.par_chunks_mut(w.max(1)).enumerate().for_each(|(y, line)| {
        let mut seen: Vec<u32> = Vec::new();
        for (x, o) in line.iter_mut().enumerate() {
            let held = (0..choice.frames.len()).filter(|&k| choice.holds(y * w + x, k));
            let frames: Vec<usize> = held.map(|k| choice.frames[k]).collect();
            seen.clear();
            seen.extend(frames.iter().map(|&i| moments[i]));
            seen.sort_unstable();
            seen.dedup();
            let only = (frames.len() == 1).then(|| frames[0]);
            *o = Origin { only, frames: frames.len(), moments: seen.len(), invented: false };
        }
        for stage in stages.iter() {
            let from = choice.grid.place(0.0, y as f64);
            let Some(share) = stage.share(from, choice.grid.step(), w) else { continue };
            let made = stage.origin();
            let only = made.frame;
            // What is only evened out keeps its frames.
            if made.touch.is_some() && !made.invented {
                continue;
            }
            for (o, _) in line.iter_mut().zip(share).filter(|(_, share)| *share >= OWN) {
                let one = usize::from(only.is_some());
                *o = Origin { only, frames: one, moments: one, invented: made.invented };
            }
        }
    });
    out
}

/// The origins as a picture of eight bits a channel: red is the number of the only frame, from 1, or 0 for several; green
/// the number of frames; blue the number of moments. Greater numbers than 255 are told as 255.
pub fn picture(choice: &LabelMap, origins: &[Origin]) -> Raster {
    let code = |v: usize| 257 * v.min(255) as u16;
    let mut out = Raster::new(choice.grid.size());
    for (o, v) in origins.iter().zip(out.data.chunks_exact_mut(3)) {
        v.copy_from_slice(&[code(o.only.map_or(0, |i| i + 1)), code(o.frames), code(o.moments)]);
    }
    out
}

/// White where an origin is of this kind, black elsewhere.
pub fn stencil(choice: &LabelMap, origins: &[Origin], kind: impl Fn(&Origin) -> bool) -> Raster {
    let mut out = Raster::new(choice.grid.size());
    for (o, v) in origins.iter().zip(out.data.chunks_exact_mut(3)) {
        v.fill(if kind(o) { u16::MAX } else { 0 });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::combine::Method;
    use crate::geometry::{Grid, Rect, Size};
    use crate::patch::{FittedPatch, Noticed, PlacedPatch, Source, mask::Mask};
    use crate::pixel::{FrameSource, MemoryFrame, Samples};
    use crate::plan::{FrameAlignment, Plan};
    use crate::recipe::Recipe;
    use crate::render::{Scene, View};
    use std::sync::Arc;

    #[test]
    fn moments_are_counted_and_patches_lie_on_top() {
        let choice = LabelMap {
            grid: Grid::new(Rect::new(0, 0, 20, 10), 1),
            frames: vec![2, 0, 1],
            labels: vec![0; 200],
            words: 1,
            inliers: (0..200).map(|p| if p < 100 { 0b011 } else { 0b100 }).collect(),
            crowd: vec![0; 200],
        };
        // Frames 0 and 2 show the same moment.
        let moments = [5, 6, 5];
        let size = Size::new(40, 20);
        let outline = [(20.0, 0.0), (40.0, 0.0), (40.0, 20.0), (20.0, 20.0)].map(|(x, y)| Point::new(x, y));
        let mask = Mask::drawn(&outline, 0.0, 0.0, size).unwrap();
        let fit = FittedPatch { mask, tone: None, back: None, together: None, noticed: Noticed::default() };
        let patch =
            PlacedPatch { key: 0, index: 3, source: Source::Frame(2), strength: 1.0, fit: Arc::new(fit) };
        let frame = MemoryFrame::new(size, Samples::Eight(vec![90; 2400]));
        let sources: [&dyn FrameSource; 3] = [&frame; 3];
        let plan = Plan::of(vec![FrameAlignment::untouched(size); 3]);
        let recipe = Recipe { method: Method::Consensus, ..Recipe::new() };
        let patches = [patch];
        let scene =
            Scene { label_map: Some(&choice), patches: &patches, ..Scene::new(&recipe, &plan, &sources) };
        let stages = scene.stages(View::Plate).unwrap();
        let found = origins(&choice, &moments, &stages);
        assert_eq!(found[0], Origin { only: None, frames: 2, moments: 1, invented: false });
        assert_eq!(found[120], Origin { only: Some(1), frames: 1, moments: 1, invented: false });
        assert_eq!(found[15], Origin { only: Some(2), frames: 1, moments: 1, invented: false });
        assert_eq!(made_by(&stages, Point::new(30.5, 4.0)).and_then(|o| o.patch), Some(3));
        assert_eq!(made_by(&stages, Point::new(3.0, 4.0)), None);
        let picture = picture(&choice, &found);
        assert_eq!(picture.data[..3], [0, 2 * 257, 257]);
        assert_eq!(picture.data[3 * 120..][..3], [2 * 257, 257, 257]);
        assert_eq!(stencil(&choice, &found, |o| o.frames == 1).data[3 * 15], u16::MAX);
    }
}
