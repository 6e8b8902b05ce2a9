//! How far a thing reaches that was pointed at: what differs between a frame and the plate, joined to the place.
//!
//! Region growing over gaps of a few pixels (Adams and Bischof 1994), widened a little, its border traced and thinned out.

use crate::geometry::{Point, simplified_to, trace};
use crate::pixel::flood::flood;

/// Pixels from the pointer within which a thing is meant.
const NEAR: i64 = 12;
/// Parts of one thing may lie this far apart.
const GAP: usize = 4;
/// The outline keeps this much off what differs.
const OFF: i64 = 3;

/// The outline of what differs around a place of a picture `w` pixels wide; `None` when nothing near it differs.
///
/// Cost: linear in the picture, times the square of the gap that is bridged.
pub fn extent(differs: &[bool], w: usize, at: (i64, i64)) -> Option<Vec<Point>> {
    let h = differs.len() / w;
    let inside = |x: i64, y: i64| x >= 0 && y >= 0 && x < w as i64 && y < h as i64;
    let index = |x: i64, y: i64| y as usize * w + x as usize;
    // A speck is noise.
    let firm = |x: i64, y: i64| {
        let near = (-1..=1).flat_map(|dy| (-1..=1).map(move |dx| (x + dx, y + dy)));
        differs[index(x, y)] && near.filter(|&(x, y)| inside(x, y) && differs[index(x, y)]).count() >= 4
    };
    let around = |reach: i64| (-reach..=reach).flat_map(move |dy| (-reach..=reach).map(move |dx| (dx, dy)));
    let start = around(NEAR)
        .filter(|&(dx, dy)| inside(at.0 + dx, at.1 + dy) && firm(at.0 + dx, at.1 + dy))
        .min_by_key(|(dx, dy)| (dx * dx + dy * dy, *dy, *dx))
        .map(|(dx, dy)| (at.0 + dx, at.1 + dy))?;
    let mut open: Vec<bool> = (0..differs.len()).map(|i| firm((i % w) as i64, (i / w) as i64)).collect();
    let thing = flood(&mut open, w, index(start.0, start.1), GAP);
    let mut wide = vec![false; differs.len()];
    for (x, y) in thing.into_iter().map(|i| ((i % w) as i64, (i / w) as i64)) {
        for (dx, dy) in around(OFF).filter(|(dx, dy)| dx * dx + dy * dy <= OFF * OFF + 1) {
            if inside(x + dx, y + dy) {
                wide[index(x + dx, y + dy)] = true;
            }
        }
    }
    let first = wide.iter().position(|v| *v)?;
    let outline = trace(w, first, |x, y| inside(x, y) && wide[index(x, y)]);
    // A recipe's outline has a thousand corners at most.
    Some(simplified_to(&outline, 0.7, 1000))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::inside;

    #[test]
    fn a_figure_is_taken_whole_and_its_neighbour_is_not() {
        let (w, h) = (80usize, 60usize);
        let figure = |x: i64, y: i64| (20..30).contains(&x) && (10..50).contains(&y) && y != 28;
        let other = |x: i64, y: i64| (60..70).contains(&x) && (10..50).contains(&y);
        let differs: Vec<bool> = (0..w * h)
            .map(|i| {
                let (x, y) = ((i % w) as i64, (i / w) as i64);
                figure(x, y) || other(x, y) || (x, y) == (45, 30)
            })
            .collect();
        let outline = extent(&differs, w, (33, 20)).unwrap();
        let holds = |x: f64, y: f64| inside(&outline, Point::new(x, y));
        assert!(holds(20.0, 10.0) && holds(29.0, 49.0), "the figure, also below its belt");
        assert!(!holds(60.0, 30.0) && !holds(40.0, 30.0));
        assert_eq!(extent(&differs, w, (45, 30)), None, "a speck is nothing");
    }
}
