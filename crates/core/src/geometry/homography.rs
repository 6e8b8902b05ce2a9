//! Plane projective transforms as 3×3 matrices, row-major, acting on column vectors `(x, y, 1)`.

use super::{Point, Size};
use serde::{Deserialize, Serialize};

/// A plane projective transform. The last element is kept at one wherever that is possible.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Homography(pub [f64; 9]);

impl Homography {
    /// Leaves every point where it is.
    pub const IDENTITY: Self = Self([1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0]);

    /// From nine row-major elements, scaled so that the last is one.
    pub fn new(m: [f64; 9]) -> Self {
        let s = if m[8].abs() > 1e-12 { m[8] } else { 1.0 };
        Self(m.map(|v| v / s))
    }

    /// A pure shift, in pixels.
    pub fn shift(dx: f64, dy: f64) -> Self {
        Self([1.0, 0.0, dx, 0.0, 1.0, dy, 0.0, 0.0, 1.0])
    }

    /// Where a point goes. Points on the horizon line go to infinity.
    pub fn apply(&self, p: Point) -> Point {
        let m = &self.0;
        let w = m[6] * p.x + m[7] * p.y + m[8];
        Point::new((m[0] * p.x + m[1] * p.y + m[2]) / w, (m[3] * p.x + m[4] * p.y + m[5]) / w)
    }

    /// The transform that first does `first`, then `self`.
    pub fn after(&self, first: &Self) -> Self {
        let (a, b) = (&self.0, &first.0);
        let mut m = [0.0; 9];
        for r in 0..3 {
            for c in 0..3 {
                m[3 * r + c] = (0..3).map(|k| a[3 * r + k] * b[3 * k + c]).sum();
            }
        }
        Self::new(m)
    }

    /// The transform that undoes this one, or `None` when it is singular.
    pub fn inverse(&self) -> Option<Self> {
        let m = &self.0;
        let cof = [
            m[4] * m[8] - m[5] * m[7],
            m[2] * m[7] - m[1] * m[8],
            m[1] * m[5] - m[2] * m[4],
            m[5] * m[6] - m[3] * m[8],
            m[0] * m[8] - m[2] * m[6],
            m[2] * m[3] - m[0] * m[5],
            m[3] * m[7] - m[4] * m[6],
            m[1] * m[6] - m[0] * m[7],
            m[0] * m[4] - m[1] * m[3],
        ];
        let det = m[0] * cof[0] + m[1] * cof[3] + m[2] * cof[6];
        (det.abs() > 1e-12 && det.is_finite()).then(|| Self::new(cof.map(|v| v / det)))
    }

    /// Whole-pixel shift, when the transform is nothing else (to a thousandth of a pixel over `size`).
    pub fn as_whole_shift(&self, size: Size) -> Option<(i64, i64)> {
        let d = self.apply(Point::default());
        let (dx, dy) = (d.x.round(), d.y.round());
        let off = |p: &Point| self.apply(*p).distance(Point::new(p.x + dx, p.y + dy));
        size.corners().iter().all(|p| off(p) < 1e-3).then_some((dx as i64, dy as i64))
    }

    /// Linear magnification at a point: the square root of the local area change.
    pub fn scale_at(&self, p: Point) -> f64 {
        let (o, e) = (self.apply(p), 0.5);
        let (a, b) = (self.apply(Point::new(p.x + e, p.y)), self.apply(Point::new(p.x, p.y + e)));
        (((a.x - o.x) * (b.y - o.y) - (a.y - o.y) * (b.x - o.x)).abs() / (e * e)).sqrt()
    }

    /// How far a small step to the right at a point is turned, in radians clockwise.
    pub fn turn_at(&self, p: Point) -> f64 {
        let (a, b) = (self.apply(Point::new(p.x - 0.5, p.y)), self.apply(Point::new(p.x + 0.5, p.y)));
        (b.y - a.y).atan2(b.x - a.x)
    }

    /// Root mean square distance between where two transforms send a 16×16 grid over `size`, in pixels.
    pub fn grid_distance(&self, other: &Self, size: Size) -> f64 {
        let at = |i: u32, n: u32| (f64::from(i) + 0.5) / 16.0 * f64::from(n) - 0.5;
        let sum: f64 = (0..256u32)
            .map(|k| Point::new(at(k % 16, size.width), at(k / 16, size.height)))
            .map(|p| self.apply(p).distance(other.apply(p)).powi(2))
            .sum();
        (sum / 256.0).sqrt()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn mild() -> impl Strategy<Value = Homography> {
        (-0.1..0.1f64, 0.8..1.2f64, -300.0..300.0f64, -300.0..300.0f64, -1e-5..1e-5f64, -1e-5..1e-5f64)
            .prop_map(|(t, s, x, y, g, h)| {
                Homography::new([s * t.cos(), -s * t.sin(), x, s * t.sin(), s * t.cos(), y, g, h, 1.0])
            })
    }

    proptest! {
        #[test]
        fn transform_and_inverse_cancel(h in mild(), x in 0.0..4000.0f64, y in 0.0..3000.0f64) {
            let p = Point::new(x, y);
            let back = h.inverse().unwrap().apply(h.apply(p));
            prop_assert!(back.distance(p) < 1e-6, "{back:?} {p:?}");
        }

        #[test]
        fn composition_is_application_in_turn(a in mild(), b in mild(), x in 0.0..4000.0f64, y in 0.0..3000.0f64) {
            let p = Point::new(x, y);
            prop_assert!(a.after(&b).apply(p).distance(a.apply(b.apply(p))) < 1e-6);
        }

        #[test]
        fn only_whole_shifts_count_as_such(dx in -40i64..40, dy in -40i64..40, f in 0.01..0.49f64) {
            let size = Size::new(640, 480);
            let whole = Homography::shift(dx as f64, dy as f64);
            prop_assert_eq!(whole.as_whole_shift(size), Some((dx, dy)));
            prop_assert_eq!(Homography::shift(dx as f64 + f, dy as f64).as_whole_shift(size), None);
        }
    }

    #[test]
    fn scale_of_a_zoom_is_the_zoom() {
        let zoom = Homography::new([1.12, 0.0, 5.0, 0.0, 1.12, -3.0, 0.0, 0.0, 1.0]);
        assert!((zoom.scale_at(Point::new(100.0, 50.0)) - 1.12).abs() < 1e-9);
    }
}
