//! Which pixels of which grid: a rectangle of pixels of a pyramid level, and where they lie in full size. All arithmetic with half
//! pixels is here.
//!
//! Level `k` halves a picture `k` times: its pixel `u` has the full-size coordinate `2^k u + (2^k - 1) / 2`. A picture may begin at a
//! whole place of the reference, as a canvas does that is cut from it.
//!
//! ```
//! use evanu_core::geometry::{Grid, Point, Rect};
//!
//! // Pixels 10 to 29 of every row, at a quarter of the size.
//! let grid = Grid::new(Rect::new(10, 5, 20, 8), 2);
//! assert_eq!(grid.first(), Point::new(41.5, 21.5));
//! assert_eq!(grid.within(grid.place(3.0, 2.0)), Point::new(3.0, 2.0));
//! ```

use super::{Homography, Point, Rect, Size};

/// A rectangle of pixels of a level of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Grid {
    /// The full-size pixel of the reference that the picture's first one is.
    pub origin: (i64, i64),
    /// The level.
    pub level: u32,
    /// Its pixels, counted in the picture at that level.
    pub rect: Rect,
}

/// Full-size pixels along a side of one pixel of a level.
fn side(level: u32) -> f64 {
    f64::from(1u32 << level.min(30))
}

impl Grid {
    /// Pixels of a level of the reference itself.
    pub const fn new(rect: Rect, level: u32) -> Self {
        Self { origin: (0, 0), level, rect }
    }

    /// A whole canvas, which lies in the reference, at a level.
    pub fn of_canvas(canvas: Rect, level: u32) -> Self {
        Self { origin: (canvas.x, canvas.y), level, rect: canvas.size().at_level(level).rect() }
    }

    /// Other pixels of the same picture and level.
    pub fn cut(&self, rect: Rect) -> Self {
        Self { rect, ..*self }
    }

    /// The same with so many pixels more around it, as far as `whole` goes on.
    pub fn grown(&self, by: u32, whole: Rect) -> Self {
        let Rect { x, y, width, height } = self.rect;
        let more = i64::from(by);
        self.cut(Rect::new(x - more, y - more, width + 2 * by, height + 2 * by).intersect(whole))
    }

    /// Columns and rows.
    pub fn size(&self) -> Size {
        self.rect.size()
    }

    /// Full-size pixels along a side of one of its pixels.
    pub fn step(&self) -> f64 {
        side(self.level)
    }

    /// The same for noise, which it lowers.
    pub fn shrink(&self) -> f32 {
        (1u32 << self.level.min(16)) as f32
    }

    /// The place in the reference of one of its pixels, counted from its own first; fractions lie between.
    pub fn place(&self, column: f64, row: f64) -> Point {
        Point::new(self.x(column), self.y(row))
    }

    /// The coordinate in the reference of one of its columns.
    pub fn x(&self, column: f64) -> f64 {
        self.full_size(column, self.rect.x, self.origin.0)
    }

    /// The coordinate in the reference of one of its rows.
    pub fn y(&self, row: f64) -> f64 {
        self.full_size(row, self.rect.y, self.origin.1)
    }

    fn full_size(&self, v: f64, first: i64, from: i64) -> f64 {
        let up = self.step();
        from as f64 + up * (first as f64 + v) + (up - 1.0) / 2.0
    }

    /// The place of its first pixel.
    pub fn first(&self) -> Point {
        self.place(0.0, 0.0)
    }

    /// Where a place of the reference lies, in its pixels counted from its own first.
    pub fn within(&self, p: Point) -> Point {
        Point::new(self.column(p.x), self.row(p.y))
    }

    /// The column of a place of the reference.
    pub fn column(&self, x: f64) -> f64 {
        self.along(x - self.origin.0 as f64, self.rect.x)
    }

    /// The row of a place of the reference.
    pub fn row(&self, y: f64) -> f64 {
        self.along(y - self.origin.1 as f64, self.rect.y)
    }

    fn along(&self, v: f64, first: i64) -> f64 {
        (v + 0.5) / self.step() - 0.5 - first as f64
    }

    /// The middle of the full-size pixels that its pixels are made of, their left and upper borders lying at whole numbers.
    pub fn middle(&self) -> Point {
        let (up, Rect { x, y, width, height }) = (self.step(), self.rect);
        let at = |first: i64, n: u32, from: i64| from as f64 + up * (first as f64 + f64::from(n) / 2.0);
        Point::new(at(x, width, self.origin.0), at(y, height, self.origin.1))
    }

    /// The corners of the box of full-size pixels that its pixels are made of.
    pub fn bounds(&self) -> (Point, Point) {
        let up = self.step();
        let at = |x: i64, y: i64| {
            Point::new(self.origin.0 as f64 + up * x as f64, self.origin.1 as f64 + up * y as f64)
        };
        (at(self.rect.x, self.rect.y), at(self.rect.right(), self.rect.bottom()))
    }

    /// The full-size pixels of the reference that its pixels are made of.
    pub fn full(&self) -> Rect {
        let Rect { x, y, width, height } = self.rect;
        let at = |v: i64, from: i64| (v << self.level) + from;
        Rect::new(at(x, self.origin.0), at(y, self.origin.1), width << self.level, height << self.level)
    }
}

/// The transform from pyramid level `level` to full size.
pub fn level_to_full(level: u32) -> Homography {
    let s = side(level);
    let o = (s - 1.0) / 2.0;
    Homography::new([s, 0.0, o, 0.0, s, o, 0.0, 0.0, 1.0])
}

/// Whether two boxes, each given by its corners, touch.
pub fn meets(a: (Point, Point), b: (Point, Point)) -> bool {
    b.0.x <= a.1.x && b.1.x >= a.0.x && b.0.y <= a.1.y && b.1.y >= a.0.y
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn pixels_lie_where_the_convention_says(
            canvas in (-40i64..400, -40i64..400), x in -50i64..500, y in -50i64..500, level in 0u32..8, column in 0u32..90, row in 0u32..90
        ) {
            let grid = Grid { origin: canvas, level, rect: Rect::new(x, y, 90, 90) };
            let p = grid.place(f64::from(column), f64::from(row));
            // The middle of the full-size pixels that it is the mean of.
            let middle = |first: i64, k: u32, from: i64| {
                let low = (first + i64::from(k)) << level;
                from as f64 + (low + low + (1 << level) - 1) as f64 / 2.0
            };
            prop_assert_eq!((p.x, p.y), (middle(x, column, canvas.0), middle(y, row, canvas.1)));
            prop_assert_eq!(grid.within(p), Point::new(f64::from(column), f64::from(row)));
            // Of the reference itself it is what the transform of the level says.
            let own = Grid::new(grid.rect, level);
            let there = level_to_full(level).apply(Point::new((x + i64::from(column)) as f64, (y + i64::from(row)) as f64));
            prop_assert_eq!(own.place(f64::from(column), f64::from(row)), there);
            let full = grid.full();
            prop_assert!(p.x >= full.x as f64 && p.x < full.right() as f64);
            prop_assert_eq!(grid.bounds().0, Point::new(full.x as f64, full.y as f64));
        }
    }

    #[test]
    fn a_part_grows_as_far_as_the_picture_goes() {
        let whole = Grid::of_canvas(Rect::new(7, 3, 100, 60), 1);
        assert_eq!((whole.size(), whole.first()), (Size::new(50, 30), Point::new(7.5, 3.5)));
        assert_eq!(whole.cut(Rect::new(0, 10, 8, 20)).grown(2, whole.rect).rect, Rect::new(0, 8, 10, 22));
    }
}
