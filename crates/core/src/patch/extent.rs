//! How far a thing reaches that was pointed at: what differs between a frame and the plate, joined to the place.
//!
//! Region growing over gaps of a few pixels (Adams and Bischof 1994) as far as no neck leads to somebody else, widened a
//! little, its border traced and thinned out. A mirror
//! image below it, in a wet floor or a pane, goes along where it does not touch it: something of its width whose outline is its own
//! upside down.

use crate::geometry::{Point, simplified_to, trace};
use crate::pixel::flood::{flood, parts};
use crate::pixel::necks::parts_at_necks;

/// Pixels from the pointer within which a thing is meant.
const NEAR: i64 = 12;
/// Parts of one thing may lie this far apart.
const GAP: usize = 4;
/// The outline keeps this much off what differs.
const OFF: i64 = 3;

/// Share of its height that a mirror image may lie below a thing, and its least and greatest size in that of the thing.
const BELOW: f64 = 0.25;
const MIRROR_SIZE: (f64, f64) = (0.5, 1.4);
/// How well the widths of its rows follow those of the thing upside down, as a correlation; and by how much better than upright.
const MIRRORED: (f64, f64) = (0.6, 0.2);

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
    let start = index(start.0, start.1);
    let whole = flood(&mut open, w, start, GAP);
    let mut thing = parts_at_necks(whole, w, GAP).into_iter().find(|part| part.contains(&start))?;
    if let Some(image) = mirror_image(&thing, &mut open, w) {
        // One outline holds both: joined by the shortest way down.
        let foot = (thing.iter().map(|p| p / w).max()?, image.iter().map(|p| p / w).min()?);
        let column = image.iter().map(|p| p % w).sum::<usize>() / image.len();
        thing.extend((foot.0..foot.1).map(|y| y * w + column));
        thing.extend(image);
    }
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

/// A box: first and last column, first and last row.
fn bounds(pixels: &[usize], w: usize) -> [usize; 4] {
    pixels.iter().fold([usize::MAX, 0, usize::MAX, 0], |[x0, x1, y0, y1], p| {
        [x0.min(p % w), x1.max(p % w), y0.min(p / w), y1.max(p / w)]
    })
}

/// What differs below a thing and looks like it upside down, of what is still open.
fn mirror_image(thing: &[usize], open: &mut [bool], w: usize) -> Option<Vec<usize>> {
    let own = bounds(thing, w);
    let (wide, high) = ((own[1] - own[0] + 1) as f64, (own[3] - own[2] + 1) as f64);
    let from = (own[3] + 1) * w;
    let until = (from + (BELOW * high).ceil() as usize * w).min(open.len());
    // Of what reaches the strip below it; what begins higher up stands beside it.
    let candidates = parts(open, w, from.min(until)..until, GAP);
    let profile = rows(thing, w);
    candidates.into_iter().find(|image| {
        let its = bounds(image, w);
        let (width, height) = ((its[1] - its[0] + 1) as f64, (its[3] - its[2] + 1) as f64);
        let alike = |v: f64| (MIRROR_SIZE.0..=MIRROR_SIZE.1).contains(&v);
        let shared = (its[1].min(own[1]) + 1).saturating_sub(its[0].max(own[0])) as f64;
        let below = its[2] > own[3];
        if !below || !alike(width / wide) || !alike(height / high) || shared < 0.7 * width.min(wide) {
            return false;
        }
        let upright = rows(image, w);
        let turned: Vec<f64> = upright.iter().rev().copied().collect();
        let (mirrored, same) = (correlation(&profile, &turned), correlation(&profile, &upright));
        mirrored > MIRRORED.0 && mirrored > same + MIRRORED.1
    })
}

/// How many pixels each row of a thing has, from top to bottom.
fn rows(pixels: &[usize], w: usize) -> Vec<f64> {
    let [_, _, top, bottom] = bounds(pixels, w);
    let mut rows = vec![0.0; bottom - top + 1];
    pixels.iter().for_each(|p| rows[p / w - top] += 1.0);
    rows
}

/// Correlation of two rows of numbers, brought to one length.
fn correlation(a: &[f64], b: &[f64]) -> f64 {
    /// As many are compared.
    const PLACES: usize = 24;
    let brought = |v: &[f64]| -> Vec<f64> {
        let at = |k: usize| k * v.len() / PLACES;
        let mean = |k: usize| {
            let part = &v[at(k)..at(k + 1).max(at(k) + 1)];
            part.iter().sum::<f64>() / part.len() as f64
        };
        let all: Vec<f64> = (0..PLACES).map(mean).collect();
        let middle = all.iter().sum::<f64>() / PLACES as f64;
        all.into_iter().map(|v| v - middle).collect()
    };
    let (a, b) = (brought(a), brought(b));
    let product = |a: &[f64], b: &[f64]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f64>();
    product(&a, &b) / (product(&a, &a) * product(&b, &b)).sqrt().max(1e-9)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::inside;

    /// Half the width of somebody by the share of the way from head to foot.
    fn figure(down: f64) -> i64 {
        match down {
            v if v < 0.15 => 3,
            v if v < 0.55 => 8,
            v if v < 0.9 => 5,
            _ => 7,
        }
    }

    /// A picture of 80 columns and 140 rows with somebody from row 10 to 59, and below him from `top` on what `half` has for each row.
    fn with_below(top: i64, height: i64, half: impl Fn(f64) -> i64, shift: i64) -> Vec<bool> {
        let share = |y: i64, from: i64, n: i64| (y - from) as f64 / n as f64;
        (0..80 * 140)
            .map(|i| {
                let (x, y): (i64, i64) = (i % 80, i / 80);
                let own = (10..60).contains(&y) && (x - 40).abs() <= figure(share(y, 10, 50));
                let other =
                    (top..top + height).contains(&y) && (x - 40 - shift).abs() <= half(share(y, top, height));
                own || other
            })
            .collect()
    }

    #[test]
    fn a_mirror_image_goes_along_though_it_does_not_touch() {
        let turned = |v: f64| figure(0.999 - v);
        let holds = |differs: &[bool], x: f64, y: f64| {
            let outline = extent(differs, 80, (40, 30)).unwrap();
            assert!(inside(&outline, Point::new(40.0, 30.0)), "the one who was pointed at, in any case");
            inside(&outline, Point::new(x, y))
        };
        let mirrored = with_below(68, 44, turned, 1);
        assert!(holds(&mirrored, 41.0, 80.0) && holds(&mirrored, 41.0, 108.0));
        // Somebody who stands in front of him is upright; others are too far down, or beside.
        assert!(!holds(&with_below(68, 44, figure, 1), 41.0, 80.0));
        assert!(!holds(&with_below(90, 44, turned, 1), 41.0, 110.0));
        assert!(!holds(&with_below(68, 44, turned, 20), 60.0, 90.0));
        assert!(!holds(&with_below(68, 12, turned, 0), 40.0, 74.0), "a bag is no image");
    }

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
        // By a shadow they hang together.
        let joined = |i: usize| differs[i] || ((46..48).contains(&(i / w)) && (25..65).contains(&(i % w)));
        let joined: Vec<bool> = (0..w * h).map(joined).collect();
        let outline = extent(&joined, w, (25, 20)).unwrap();
        let holds = |x: f64, y: f64| inside(&outline, Point::new(x, y));
        assert!(
            holds(21.0, 11.0) && holds(28.0, 49.0) && holds(33.0, 47.0),
            "with what is near of the shadow"
        );
        assert!(!holds(62.0, 20.0) && !holds(68.0, 48.0));
    }
}
