//! Which frames each pixel of the plate comes from, as pictures, on the reduced picture that the choice was made on. Read off
//! the choice and the patches' masks; cost: a few operations a pixel and frame.

use super::PlacedPatch;
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
}

/// For each pixel of a choice, where it comes from; `moments` are the moments of the set's frames.
pub fn origins(choice: &LabelMap, moments: &[u32], patches: &[PlacedPatch]) -> Vec<Origin> {
    let (w, up) = (choice.size.width as usize, f64::from(1u32 << choice.level));
    let mut out = vec![Origin { only: None, frames: 0, moments: 0 }; choice.labels.len()];
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
            *o = Origin { only, frames: frames.len(), moments: seen.len() };
        }
        let from = Point::new((up - 1.0) / 2.0, up * y as f64 + (up - 1.0) / 2.0);
        for patch in patches {
            let Some(weights) = patch.fit.mask.row(from, up, w) else { continue };
            for (o, _) in line.iter_mut().zip(weights).filter(|(_, v)| v * patch.strength >= 0.5) {
                let one = usize::from(patch.source.frame().is_some());
                *o = Origin { only: patch.source.frame(), frames: one, moments: one };
            }
        }
    });
    out
}

/// The origins as a picture of eight bits a channel: red is the number of the only frame, from 1, or 0 for several; green
/// the number of frames; blue the number of moments. Greater numbers than 255 are told as 255.
pub fn picture(choice: &LabelMap, origins: &[Origin]) -> Raster {
    let code = |v: usize| 257 * v.min(255) as u16;
    let mut out = Raster::new(choice.size);
    for (o, v) in origins.iter().zip(out.data.chunks_exact_mut(3)) {
        v.copy_from_slice(&[code(o.only.map_or(0, |i| i + 1)), code(o.frames), code(o.moments)]);
    }
    out
}

/// White where an origin is of this kind, black elsewhere.
pub fn stencil(choice: &LabelMap, origins: &[Origin], kind: impl Fn(&Origin) -> bool) -> Raster {
    let mut out = Raster::new(choice.size);
    for (o, v) in origins.iter().zip(out.data.chunks_exact_mut(3)) {
        v.fill(if kind(o) { u16::MAX } else { 0 });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::patch::{FittedPatch, Noticed, Source, mask::Mask};
    use std::sync::Arc;

    #[test]
    fn moments_are_counted_and_patches_lie_on_top() {
        let size = Size::new(20, 10);
        let choice = LabelMap {
            corner: (0, 0),
            level: 1,
            size,
            frames: vec![2, 0, 1],
            labels: vec![0; 200],
            words: 1,
            inliers: (0..200).map(|p| if p < 100 { 0b011 } else { 0b100 }).collect(),
            crowd: vec![0; 200],
        };
        // Frames 0 and 2 show the same moment.
        let moments = [5, 6, 5];
        let outline = [(20.0, 0.0), (40.0, 0.0), (40.0, 20.0), (20.0, 20.0)].map(|(x, y)| Point::new(x, y));
        let mask = Mask::drawn(&outline, 0.0, 0.0, Size::new(40, 20)).unwrap();
        let fit = Arc::new(FittedPatch {
            mask,
            tone: None,
            back: None,
            together: None,
            noticed: Noticed::default(),
        });
        let patch = PlacedPatch { key: 0, index: 0, source: Source::Frame(2), strength: 1.0, fit };
        let found = origins(&choice, &moments, &[patch]);
        assert_eq!(found[0], Origin { only: None, frames: 2, moments: 1 });
        assert_eq!(found[120], Origin { only: Some(1), frames: 1, moments: 1 });
        assert_eq!(found[15], Origin { only: Some(2), frames: 1, moments: 1 });
        let picture = picture(&choice, &found);
        assert_eq!(picture.data[..3], [0, 2 * 257, 257]);
        assert_eq!(picture.data[3 * 120..][..3], [2 * 257, 257, 257]);
        assert_eq!(stencil(&choice, &found, |o| o.frames == 1).data[3 * 15], u16::MAX);
    }
}
