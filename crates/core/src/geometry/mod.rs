//! Points, rectangles and plane transforms, and the one convention they follow.
//!
//! Pixel centres lie at integer coordinates, x runs right, y down; a frame of width `w` covers
//! `[-0.5, w - 0.5)`. A frame's transform maps *frame* coordinates to *reference* coordinates. Pyramid level `k`
//! halves the size `k` times: its pixel `u` has the full-size coordinate `2^k u + (2^k - 1) / 2`.

mod area;
mod bend;
mod fit;
mod grid;
mod homography;
mod projection;
pub(crate) mod surface;
mod trace;
mod warp;

pub use area::{around, ends, inside};

pub use bend::Bend;
pub(crate) use bend::taps;
pub(crate) use fit::solve;
pub use fit::{Correspondence, Model, fit};
pub use grid::{Grid, level_to_full, meets};
pub use homography::Homography;
pub use projection::{Each, Geometry, Projection, Sampling, common_area, whole_area};
pub use surface::Surface;
pub use trace::{simplified, simplified_to, trace};
pub use warp::Warp;

use serde::{Deserialize, Serialize};

/// A point or a displacement, in pixels.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Point {
    /// To the right.
    pub x: f64,
    /// Down.
    pub y: f64,
}

impl Point {
    /// A point from its coordinates.
    pub const fn new(x: f64, y: f64) -> Self {
        Self { x, y }
    }

    /// Euclidean distance to another point, in pixels.
    pub fn distance(self, other: Self) -> f64 {
        (self.x - other.x).hypot(self.y - other.y)
    }
}

/// Width and height in pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
pub struct Size {
    /// Columns.
    pub width: u32,
    /// Rows.
    pub height: u32,
}

impl Size {
    /// A size from its sides.
    pub const fn new(width: u32, height: u32) -> Self {
        Self { width, height }
    }

    /// Number of pixels.
    pub fn pixels(self) -> u64 {
        u64::from(self.width) * u64::from(self.height)
    }

    /// The size of pyramid level `level`: each level halves, rounding up, never below one.
    pub fn at_level(self, level: u32) -> Self {
        let shrink = |v: u32| (u64::from(v).div_ceil(1 << level.min(32)) as u32).max(1);
        Self { width: shrink(self.width), height: shrink(self.height) }
    }

    /// Whole area as a rectangle at the origin.
    pub fn rect(self) -> Rect {
        Rect { x: 0, y: 0, width: self.width, height: self.height }
    }

    /// The four corner pixel centres, clockwise from the top left.
    pub fn corners(self) -> [Point; 4] {
        let (w, h) = (f64::from(self.width) - 1.0, f64::from(self.height) - 1.0);
        [Point::new(0.0, 0.0), Point::new(w, 0.0), Point::new(w, h), Point::new(0.0, h)]
    }

    /// Whether a point lies on the picture, borders included.
    pub fn holds(self, p: Point) -> bool {
        p.x >= -0.5
            && p.y >= -0.5
            && p.x <= f64::from(self.width) - 0.5
            && p.y <= f64::from(self.height) - 0.5
    }

    /// Length of the diagonal, in pixels.
    pub fn diagonal(self) -> f64 {
        f64::from(self.width).hypot(f64::from(self.height))
    }
}

impl From<Size> for Rect {
    fn from(size: Size) -> Self {
        size.rect()
    }
}

/// A rectangle of whole pixels; it may lie outside the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Rect {
    /// First column.
    pub x: i64,
    /// First row.
    pub y: i64,
    /// Columns.
    pub width: u32,
    /// Rows.
    pub height: u32,
}

impl Rect {
    /// A rectangle from its corner and sides.
    pub const fn new(x: i64, y: i64, width: u32, height: u32) -> Self {
        Self { x, y, width, height }
    }

    /// First column to the right of the rectangle.
    pub fn right(self) -> i64 {
        self.x + i64::from(self.width)
    }

    /// First row below the rectangle.
    pub fn bottom(self) -> i64 {
        self.y + i64::from(self.height)
    }

    /// True when it holds no pixel.
    pub fn is_empty(self) -> bool {
        self.width == 0 || self.height == 0
    }

    /// Its sides.
    pub fn size(self) -> Size {
        Size::new(self.width, self.height)
    }

    /// The smallest rectangle that holds both.
    pub fn union(self, other: Self) -> Self {
        let (x, y) = (self.x.min(other.x), self.y.min(other.y));
        let (right, bottom) = (self.right().max(other.right()), self.bottom().max(other.bottom()));
        Self { x, y, width: (right - x) as u32, height: (bottom - y) as u32 }
    }

    /// What is common to both; empty when nothing is.
    pub fn intersect(self, other: Self) -> Self {
        let (x, y) = (self.x.max(other.x), self.y.max(other.y));
        let width = (self.right().min(other.right()) - x).max(0) as u32;
        let height = (self.bottom().min(other.bottom()) - y).max(0) as u32;
        Self { x, y, width, height }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn intersection_lies_in_both_and_commutes(
            a in (-50i64..50, -50i64..50, 0u32..60, 0u32..60), b in (-50i64..50, -50i64..50, 0u32..60, 0u32..60)
        ) {
            let (a, b) = (Rect::new(a.0, a.1, a.2, a.3), Rect::new(b.0, b.1, b.2, b.3));
            let c = a.intersect(b);
            prop_assert_eq!(c.size(), b.intersect(a).size());
            let inside = |r: Rect, x: i64, y: i64| x >= r.x && x < r.right() && y >= r.y && y < r.bottom();
            let both = (-60..120).flat_map(|y| (-60..120).map(move |x| (x, y)))
                .filter(|&(x, y)| inside(a, x, y) && inside(b, x, y)).count();
            prop_assert_eq!(both as u64, c.size().pixels());
        }

        #[test]
        fn levels_halve_and_never_vanish(w in 1u32..5000, h in 1u32..5000, k in 0u32..14) {
            let s = Size::new(w, h).at_level(k);
            prop_assert!(s.width >= 1 && s.height >= 1);
            prop_assert_eq!(s.at_level(1), Size::new(w, h).at_level(k + 1));
        }
    }
}
