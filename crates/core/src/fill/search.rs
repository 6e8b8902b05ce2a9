//! How far around a hole is looked.

use crate::geometry::Rect;

/// Share of the longer side of a hole that is looked at beyond it, and the least and most pixels of that.
const AROUND: f64 = 1.2;
const LEAST: i64 = 64;
const MOST: i64 = 700;

/// The part of a picture that a hole within a box is filled from: as much again around it as it is long.
pub fn search_area(hole: Rect, whole: Rect) -> Rect {
    let longer = f64::from(hole.width.max(hole.height));
    let more = ((AROUND * longer) as i64).clamp(LEAST, MOST);
    let (w, h) = (i64::from(hole.width) + 2 * more, i64::from(hole.height) + 2 * more);
    // What is missing on one side of a border is looked at on the other.
    let shifted = |low: i64, long: i64, from: i64, to: i64| {
        let long = long.min(to - from);
        (low.clamp(from, to - long), long as u32)
    };
    let (x, width) = shifted(hole.x - more, w, whole.x, whole.right());
    let (y, height) = shifted(hole.y - more, h, whole.y, whole.bottom());
    Rect::new(x, y, width, height)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn it_holds_the_hole_and_lies_in_the_picture(
            w in 1u32..3000, h in 1u32..3000, x in 0u32..3000, y in 0u32..3000, dw in 1u32..900, dh in 1u32..900
        ) {
            let whole = Rect::new(0, 0, w, h);
            let hole = Rect::new(i64::from(x % w), i64::from(y % h), dw, dh).intersect(whole);
            let area = search_area(hole, whole);
            prop_assert_eq!(area.intersect(whole), area);
            prop_assert_eq!(area.intersect(hole), hole);
        }
    }
}
