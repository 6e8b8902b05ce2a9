//! The areas of a mask, each of which is made up by itself.

use crate::geometry::{Rect, Size};
use crate::pixel::distance::distances_within;
use crate::pixel::flood::parts;

/// What lies nearer together is one area, in pixels.
const NEAR: usize = 12;

/// Pixels of a picture that are made up together.
#[derive(Debug, Clone)]
pub struct Area {
    /// The box around them.
    pub bbox: Rect,
    /// How many there are.
    pub pixels: usize,
    /// By rows of the picture, in order.
    list: Vec<usize>,
}

impl Area {
    /// Which pixels of a part of the picture, whose rows are `width` long, are among them.
    pub fn within(&self, part: Rect, width: u32) -> Vec<bool> {
        let mut out = vec![false; part.size().pixels() as usize];
        for p in &self.list {
            let (x, y) = ((p % width as usize) as i64 - part.x, (p / width as usize) as i64 - part.y);
            if (0..i64::from(part.width)).contains(&x) && (0..i64::from(part.height)).contains(&y) {
                out[y as usize * part.width as usize + x as usize] = true;
            }
        }
        out
    }
}

/// The areas of a mask over a picture of this size, from the top.
pub fn areas(mask: &[bool], size: Size) -> Vec<Area> {
    let width = size.width as usize;
    let mut grown: Vec<bool> =
        distances_within(mask, width, NEAR / 2).into_iter().map(|d| d.is_finite()).collect();
    let all = 0..grown.len();
    let mut out: Vec<Area> = parts(&mut grown, width, all, 1)
        .into_iter()
        .map(|part| {
            let mut list: Vec<usize> = part.into_iter().filter(|&p| mask[p]).collect();
            list.sort_unstable();
            let (mut left, mut right) = (usize::MAX, 0);
            for p in &list {
                left = left.min(p % width);
                right = right.max(p % width);
            }
            let (top, bottom) = (list[0] / width, list[list.len() - 1] / width);
            let bbox =
                Rect::new(left as i64, top as i64, (right - left + 1) as u32, (bottom - top + 1) as u32);
            Area { bbox, pixels: list.len(), list }
        })
        .collect();
    out.sort_by_key(|a| a.list[0]);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn each_pixel_of_the_mask_is_in_one_area(w in 1u32..90, h in 1u32..60, places in prop::collection::vec(any::<usize>(), 0..40)) {
            let size = Size::new(w, h);
            let mut mask = vec![false; size.pixels() as usize];
            let n = mask.len();
            places.iter().for_each(|p| mask[p % n] = true);
            let found = areas(&mask, size);
            let all: Vec<Vec<bool>> = found.iter().map(|a| a.within(size.rect(), w)).collect();
            for (p, set) in mask.iter().enumerate() {
                prop_assert_eq!(all.iter().filter(|a| a[p]).count(), usize::from(*set));
            }
            prop_assert_eq!(found.iter().map(|a| a.pixels).sum::<usize>(), mask.iter().filter(|m| **m).count());
        }
    }
}
