//! Where a clip is repaired: the mask, the part of the frame around it, and the rim that tells its light.

use crate::geometry::{Rect, Size};
use crate::pixel::distance::distances_within;
use crate::pixel::flood::parts;

/// Samples of a part of a frame, by planes: brightness, and two colour differences that may be coarser.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Planes {
    /// By rows.
    pub planes: [Vec<u16>; 3],
}

/// Pixels around the mask that tell its light.
const RIM: usize = 28;
/// Pixels right beside the mask that do not: they may have some of what is to go.
const BESIDE: f32 = 3.0;

/// Where a clip is repaired.
#[derive(Debug, Clone)]
pub struct Area {
    /// The part of the frame that is looked at; it begins and ends with whole colour differences.
    pub part: Rect,
    /// How often colour differences are halved, across and down.
    pub halved: (u8, u8),
    /// For each plane its sides, how strongly the patch covers, and which samples tell its light.
    pub(super) planes: [AreaPlane; 3],
}

/// The same of one plane.
#[derive(Debug, Clone, Default)]
pub(super) struct AreaPlane {
    pub width: usize,
    pub height: usize,
    pub weights: Vec<f32>,
    pub rim: Vec<usize>,
}

impl Area {
    /// By a mask of the whole frame, 0..=1, by rows; `None` when it covers nothing.
    pub fn new(mask: &[f32], size: Size, halved: (u8, u8)) -> Option<Self> {
        let (w, h) = (size.width as usize, size.height as usize);
        let covered = |p: &usize| mask[*p] > 0.0;
        let (mut low, mut high) = ((usize::MAX, usize::MAX), (0, 0));
        for p in (0..w * h).filter(covered) {
            low = (low.0.min(p % w), low.1.min(p / w));
            high = (high.0.max(p % w), high.1.max(p / w));
        }
        if low.0 == usize::MAX {
            return None;
        }
        let whole = |v: usize, by: u8| v >> by << by;
        let more = RIM + BESIDE as usize;
        let (left, top) =
            (whole(low.0.saturating_sub(more), halved.0), whole(low.1.saturating_sub(more), halved.1));
        let end = |v: usize, by: u8, most: usize| (whole(v + more, by) + (1 << by)).min(most);
        let (right, bottom) = (end(high.0, halved.0, w), end(high.1, halved.1, h));
        let part = Rect::new(left as i64, top as i64, (right - left) as u32, (bottom - top) as u32);
        let bright: Vec<f32> =
            (top..bottom).flat_map(|y| mask[y * w + left..y * w + right].iter().copied()).collect();
        let (pw, ph) = (right - left, bottom - top);
        let (cw, ch) = (pw.div_ceil(1 << halved.0), ph.div_ceil(1 << halved.1));
        let mut coarse = vec![0.0; cw * ch];
        let mut count = vec![0.0f32; cw * ch];
        for (p, weight) in bright.iter().enumerate() {
            let q = ((p / pw) >> halved.1) * cw + ((p % pw) >> halved.0);
            coarse[q] += weight;
            count[q] += 1.0;
        }
        coarse.iter_mut().zip(&count).for_each(|(v, n)| *v /= n);
        let colour = AreaPlane::of(coarse, cw, ch, RIM.div_ceil(1 << halved.0));
        Some(Self { part, halved, planes: [AreaPlane::of(bright, pw, ph, RIM), colour.clone(), colour] })
    }

    /// By a mask as [`Self::new`], but what lies so far apart that no part reaches another is an area of its own. The largest come first; a
    /// mask of very many pieces is one area.
    pub fn each(mask: &[f32], size: Size, halved: (u8, u8)) -> Vec<Self> {
        /// Pieces beyond which all are one.
        const MOST: usize = 12;
        let w = size.width as usize;
        let mut open: Vec<bool> = mask.iter().map(|m| *m > 0.0).collect();
        let near = distances_within(&open, w, RIM + BESIDE as usize + 2);
        open = near.iter().map(|d| d.is_finite()).collect();
        let mut pieces = parts(&mut open, w, 0..mask.len(), 1);
        if pieces.len() > MOST {
            return Self::new(mask, size, halved).into_iter().collect();
        }
        pieces.sort_by_key(|piece| std::cmp::Reverse(piece.len()));
        let own = |piece: &Vec<usize>| {
            let mut own = vec![0.0; mask.len()];
            piece.iter().for_each(|&p| own[p] = mask[p]);
            Self::new(&own, size, halved)
        };
        pieces.iter().filter_map(own).collect()
    }

    /// All of a frame, nothing of which is covered and all of which tells how the camera moves.
    pub(super) fn whole(size: Size) -> Self {
        let rim = (0..size.pixels() as usize).collect();
        let (width, height) = (size.width as usize, size.height as usize);
        let bright = AreaPlane { width, height, weights: Vec::new(), rim };
        Self {
            part: size.rect(),
            halved: (0, 0),
            planes: [bright, AreaPlane::default(), AreaPlane::default()],
        }
    }

    /// Columns and rows of a plane of the part.
    pub fn plane(&self, plane: usize) -> Size {
        Size::new(self.planes[plane].width as u32, self.planes[plane].height as u32)
    }

    /// The sample of colour differences that a pixel of brightness has.
    pub(super) fn coarse(&self, p: usize) -> usize {
        let w = self.planes[0].width;
        ((p / w) >> self.halved.1) * self.planes[1].width + ((p % w) >> self.halved.0)
    }

    /// A pixel of brightness that a sample of a plane lies on.
    pub(super) fn bright(&self, plane: usize, p: usize) -> usize {
        let (across, down) = if plane == 0 { (0, 0) } else { self.halved };
        let (w, all) = (self.planes[plane].width, &self.planes[0]);
        let (x, y) = ((p % w) << across, (p / w) << down);
        y.min(all.height - 1) * all.width + x.min(all.width - 1)
    }

    /// How strongly the patch covers each sample of brightness of the part, 0..=1.
    pub fn weights(&self) -> &[f32] {
        &self.planes[0].weights
    }

    /// The part of a whole frame's planes.
    pub fn cut(&self, frame: &[Vec<u16>; 3], size: Size) -> Planes {
        let planes = std::array::from_fn(|k| {
            if frame[k].is_empty() {
                return Vec::new();
            }
            let (from, wide) = self.place(k, size);
            let own = &self.planes[k];
            (0..own.height).flat_map(|y| frame[k][from + y * wide..][..own.width].iter().copied()).collect()
        });
        Planes { planes }
    }

    /// Puts the part back into a whole frame.
    pub fn put(&self, part: &Planes, frame: &mut [Vec<u16>; 3], size: Size) {
        for (k, frame) in frame.iter_mut().enumerate().filter(|(_, plane)| !plane.is_empty()) {
            let (from, wide) = self.place(k, size);
            let own = &self.planes[k];
            for (y, row) in part.planes[k].chunks(own.width).enumerate() {
                frame[from + y * wide..][..own.width].copy_from_slice(row);
            }
        }
    }

    /// Where the part begins in a plane, and how long its rows are.
    fn place(&self, plane: usize, size: Size) -> (usize, usize) {
        let (across, down) = if plane == 0 { (0, 0) } else { self.halved };
        let wide = (size.width as usize).div_ceil(1 << across);
        ((self.part.y as usize >> down) * wide + (self.part.x as usize >> across), wide)
    }
}

impl AreaPlane {
    fn of(weights: Vec<f32>, width: usize, height: usize, reach: usize) -> Self {
        let covered: Vec<bool> = weights.iter().map(|w| *w > 0.0).collect();
        let near = distances_within(&covered, width, reach);
        let beside = BESIDE * reach as f32 / RIM as f32;
        let rim = (0..near.len()).filter(|&p| near[p].is_finite() && near[p] > beside).collect();
        Self { width, height, weights, rim }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_part_is_cut_and_put_where_it_was(
            w in 20u32..90, h in 20u32..70, x in 0usize..60, y in 0usize..50, halved in prop::sample::select(vec![(0u8, 0u8), (1, 0), (1, 1)])
        ) {
            let size = Size::new(w, h);
            let inside = |p: usize| (x..x + 9).contains(&(p % w as usize)) && (y..y + 7).contains(&(p / w as usize));
            let mask: Vec<f32> = (0..(w * h) as usize).map(|p| if inside(p) { 1.0 } else { 0.0 }).collect();
            let Some(area) = Area::new(&mask, size, halved) else {
                prop_assert!(mask.iter().all(|m| *m == 0.0));
                return Ok(());
            };
            let chroma = (w.div_ceil(1 << halved.0) * h.div_ceil(1 << halved.1)) as usize;
            let codes = |n: usize| (0..n).map(|p| (p * 31 % 251) as u16).collect::<Vec<u16>>();
            let frame = [codes((w * h) as usize), codes(chroma), codes(chroma)];
            let part = area.cut(&frame, size);
            let mut again = frame.clone();
            again.iter_mut().flatten().for_each(|v| *v += 1);
            let before = again.clone();
            area.put(&part, &mut again, size);
            for (k, (plane, before)) in again.iter().zip(&before).enumerate() {
                let changed = plane.iter().zip(before).filter(|(a, b)| a != b).count();
                prop_assert_eq!(changed as u64, area.plane(k).pixels());
                prop_assert!(plane.iter().zip(&frame[k]).zip(before).all(|((a, f), b)| a == f || a == b));
            }
            // All that is covered lies in it.
            let covered = area.weights().iter().filter(|m| **m > 0.0).count();
            prop_assert_eq!(covered, mask.iter().filter(|m| **m > 0.0).count());
            prop_assert!(area.planes[0].rim.iter().all(|&p| area.planes[0].weights[p] == 0.0));
        }
    }
}
