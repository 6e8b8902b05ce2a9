//! Areas drawn by hand: closed outlines over a picture.

use super::{Point, Rect};

/// Whether a point lies inside a closed outline (even-odd rule; cf. Shimrat 1962). Cost: linear in its corners.
pub fn inside(outline: &[Point], p: Point) -> bool {
    let mut odd = false;
    let Some(&(mut last)) = outline.last() else { return false };
    for &q in outline {
        if (q.y > p.y) != (last.y > p.y) && p.x < (last.x - q.x) * (p.y - q.y) / (last.y - q.y) + q.x {
            odd = !odd;
        }
        last = q;
    }
    odd
}

/// The upper left and the lower right corner of the box around places; the wrong way round when there are none.
pub fn ends<'a>(places: impl IntoIterator<Item = &'a Point>) -> (Point, Point) {
    let none = (Point::new(f64::MAX, f64::MAX), Point::new(f64::MIN, f64::MIN));
    places.into_iter().fold(none, |(low, high), p| {
        (Point::new(low.x.min(p.x), low.y.min(p.y)), Point::new(high.x.max(p.x), high.y.max(p.y)))
    })
}

/// The corner and the sides of the box around outlines, cut to a picture's pixels; `None` when nothing of it is left.
pub fn around(outlines: &[Vec<Point>], all: Rect) -> Option<(Point, Point)> {
    let (low, high) = ends(outlines.iter().flatten());
    let (x, y) = (low.x.max(all.x as f64), low.y.max(all.y as f64));
    let (w, h) = (high.x.min(all.right() as f64) - x, high.y.min(all.bottom() as f64) - y);
    (w > 1.0 && h > 1.0).then_some((Point::new(x, y), Point::new(w, h)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_box_around_places_holds_each_and_touches_some(
            places in prop::collection::vec((-90.0..90.0f64, -90.0..90.0f64), 1..20)
        ) {
            let places: Vec<Point> = places.into_iter().map(|(x, y)| Point::new(x, y)).collect();
            let (low, high) = ends(&places);
            prop_assert!(places.iter().all(|p| p.x >= low.x && p.x <= high.x && p.y >= low.y && p.y <= high.y));
            prop_assert!(places.iter().any(|p| p.x == low.x) && places.iter().any(|p| p.y == high.y));
        }

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
        assert_eq!(around(&[vec![]], Rect::new(0, 0, 5, 5)), None);
    }
}
