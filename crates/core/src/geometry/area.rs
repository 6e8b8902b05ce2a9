//! Areas drawn by hand: closed outlines over a picture.

use super::{Point, Size};

/// Whether a point lies inside a closed outline (even-odd rule; cf. Shimrat 1962). Cost: linear in its corners.
pub fn inside(outline: &[Point], p: Point) -> bool {
    let mut odd = false;
    let mut last = match outline.last() {
        Some(&last) => last,
        None => return false,
    };
    for &q in outline {
        if (q.y > p.y) != (last.y > p.y) && p.x < (last.x - q.x) * (p.y - q.y) / (last.y - q.y) + q.x {
            odd = !odd;
        }
        last = q;
    }
    odd
}

/// The corner and the sides of the box around outlines, cut to the picture; `None` when nothing of it is left.
pub fn around(outlines: &[Vec<Point>], size: Size) -> Option<(Point, Point)> {
    let mut ends = (f64::MAX, f64::MAX, f64::MIN, f64::MIN);
    for p in outlines.iter().flatten() {
        ends = (ends.0.min(p.x), ends.1.min(p.y), ends.2.max(p.x), ends.3.max(p.y));
    }
    let (x, y) = (ends.0.max(0.0), ends.1.max(0.0));
    let (w, h) = (ends.2.min(f64::from(size.width)) - x, ends.3.min(f64::from(size.height)) - y);
    (w > 1.0 && h > 1.0).then_some((Point::new(x, y), Point::new(w, h)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_circle_holds_what_is_nearer_than_its_radius(x in -60.0..60.0f64, y in -60.0..60.0f64) {
            let circle: Vec<Point> = (0..720)
                .map(|k| (f64::from(k) / 2.0).to_radians())
                .map(|a| Point::new(40.0 * a.cos(), 40.0 * a.sin()))
                .collect();
            let r = x.hypot(y);
            prop_assume!((r - 40.0).abs() > 0.01);
            prop_assert_eq!(inside(&circle, Point::new(x, y)), r < 40.0);
        }
    }

    #[test]
    fn an_empty_outline_holds_nothing() {
        assert!(!inside(&[], Point::default()));
        assert_eq!(around(&[vec![]], Size::new(5, 5)), None);
    }
}
