//! Where places of the reference lie in a frame.
//!
//! A [`Projection`] says it for one frame: a plane transform, bent or not, or any other rule, such as a turned sphere. A [`Geometry`]
//! says it for all frames of a set. Everything that needs to know where a pixel comes from goes through these: what is covered, which
//! part of a frame is read, and resampling, which has fast paths for planes. A [`Sampling`] is a projection between two pixel grids.
//!
//! ```
//! use evanu_core::geometry::{Homography, Grid, Point, Projection, Rect, Sampling, Warp};
//!
//! // A frame that lies ten pixels to the right over the reference.
//! struct Beside;
//!
//! impl Projection for Beside {
//!     fn apply(&self, p: Point) -> Point {
//!         Point::new(p.x - 10.0, p.y)
//!     }
//!     fn back(&self, p: Point) -> Point {
//!         Point::new(p.x + 10.0, p.y)
//!     }
//! }
//!
//! // The first pixel at half size is the mean of four, whose middle lies at (0.5, 0.5).
//! let half = Grid::new(Rect::new(0, 0, 20, 20), 1);
//! assert_eq!(Sampling::of(&Beside, &half).apply(Point::new(0.0, 0.0)), Point::new(-9.5, 0.5));
//! ```

use super::{Grid, Homography, Point, Rect, Size, Warp};

/// Where places of the reference lie in a frame.
pub trait Projection: Sync {
    /// The place in the frame, in its full-size pixels; not finite where the frame cannot have it.
    ///
    /// The places that a row of the plate covers in the frame follow each other without a gap. Where the frame [wraps](Self::wraps),
    /// columns are taken modulo its width.
    fn apply(&self, reference: Point) -> Point;

    /// The place of the reference that a place of the frame lies over; to a few pixels, for outlines that were drawn on the frame.
    fn back(&self, frame: Point) -> Point;

    /// Whether the frame goes on at its left where it ends at its right.
    fn wraps(&self) -> bool {
        false
    }

    /// The same as a plane transform with a bend, when it is one.
    fn warp(&self) -> Option<Warp<'_>> {
        None
    }
}

/// How the frames of a set lie over its reference.
pub trait Geometry: Sync {
    /// Index of the frame whose geometry the plate keeps.
    fn reference(&self) -> usize;

    /// Full size of a frame.
    fn size(&self, frame: usize) -> Size;

    /// Whether a frame can be laid over the reference at all.
    fn fits(&self, frame: usize) -> bool;

    /// Where places of the reference lie in a frame that fits.
    fn projection(&self, frame: usize) -> &dyn Projection;
}

/// Where the pixels of an output lie in a level of a frame.
#[derive(Clone, Copy)]
pub enum Sampling<'a> {
    /// By a plane transform and a bend.
    Plane(Warp<'a>),
    /// By any projection.
    Each(Each<'a>),
}

/// Output pixels through a projection.
#[derive(Clone, Copy)]
pub struct Each<'a> {
    projection: &'a dyn Projection,
    /// Reference pixels along one output pixel.
    scale: f64,
    /// The reference place of the output's origin.
    origin: Point,
    /// Moves places of the reference first.
    before: Option<Homography>,
    /// From full size to the level of the frame.
    down: Homography,
}

impl Each<'_> {
    fn reference(&self, p: Point) -> Point {
        Point::new(self.scale * p.x + self.origin.x, self.scale * p.y + self.origin.y)
    }

    fn apply(&self, p: Point) -> Point {
        let q = self.reference(p);
        self.down.apply(self.projection.apply(self.before.map_or(q, |h| h.apply(q))))
    }
}

impl<'a> From<Warp<'a>> for Sampling<'a> {
    fn from(warp: Warp<'a>) -> Self {
        Self::Plane(warp)
    }
}

impl From<&Homography> for Sampling<'static> {
    fn from(h: &Homography) -> Self {
        Self::Plane(Warp::from(h))
    }
}

impl<'a> Sampling<'a> {
    /// From places of the reference to full-size pixels of a frame.
    pub fn full(projection: &'a dyn Projection) -> Self {
        let each = || Each {
            projection,
            scale: 1.0,
            origin: Point::default(),
            before: None,
            down: Homography::IDENTITY,
        };
        projection.warp().map_or_else(|| Self::Each(each()), Self::Plane)
    }

    /// From pixels of a grid's picture and level to full-size pixels of a frame.
    pub fn of(projection: &'a dyn Projection, grid: &Grid) -> Self {
        let origin = Point::new(grid.origin.0 as f64, grid.origin.1 as f64);
        match Self::full(projection) {
            Self::Plane(warp) => Self::Plane(Warp { origin, ..warp }.between_levels(grid.level, 0)),
            Self::Each(each) => {
                let (scale, half) = (grid.step(), (grid.step() - 1.0) / 2.0);
                Self::Each(Each { scale, origin: Point::new(origin.x + half, origin.y + half), ..each })
            }
        }
    }

    /// Where an output place lies in the frame.
    pub fn apply(&self, p: Point) -> Point {
        match self {
            Self::Plane(warp) => warp.apply(p),
            Self::Each(each) => each.apply(p),
        }
    }

    /// The reference place of an output place.
    pub fn reference(&self, p: Point) -> Point {
        match self {
            Self::Plane(warp) => warp.reference(p),
            Self::Each(each) => each.reference(p),
        }
    }

    /// The same with another plane transform after it.
    pub fn then(&self, h: &Homography) -> Self {
        match self {
            Self::Plane(warp) => Self::Plane(warp.then(h)),
            Self::Each(each) => Self::Each(Each { down: h.after(&each.down), ..*each }),
        }
    }

    /// The same of what was moved over the reference: `back` leads from there to where it is sampled. It is shifted by what the frame
    /// is bent by where a place of the reference comes from.
    pub fn moved(&self, back: &Homography, place: Point) -> Self {
        match *self {
            Self::Plane(mut warp) => {
                let bent = warp.bend.take().map_or(Point::default(), |b| b.at(back.apply(place)));
                warp.last = warp.last.after(&Homography::shift(bent.x, bent.y)).after(back);
                Self::Plane(warp)
            }
            Self::Each(each) => {
                let before = each.before.map_or(*back, |h| h.after(back));
                Self::Each(Each { before: Some(before), ..each })
            }
        }
    }

    /// Frame pixels along one output pixel at a place; of a bent frame as if it were not.
    pub fn scale_at(&self, p: Point) -> f64 {
        match self {
            Self::Plane(warp) => warp.plane().scale_at(p),
            Self::Each(each) => {
                let (o, e) = (each.apply(p), 0.5);
                let (a, b) = (each.apply(Point::new(p.x + e, p.y)), each.apply(Point::new(p.x, p.y + e)));
                (((a.x - o.x) * (b.y - o.y) - (a.y - o.y) * (b.x - o.x)).abs() / (e * e)).sqrt()
            }
        }
    }

    /// Whether the frame goes on at its left where it ends at its right.
    pub fn wraps(&self) -> bool {
        matches!(self, Self::Each(each) if each.projection.wraps())
    }

    /// Whether a frame of this size has a place that this leads to.
    pub fn holds(&self, size: Size, p: Point) -> bool {
        if self.wraps() { p.x.is_finite() && size.holds(Point::new(0.0, p.y)) } else { size.holds(p) }
    }
}

/// The box around all that these frames show together with the reference, in reference pixels, up to a quarter of the reference's sides
/// beyond it.
pub fn whole_area(geometry: &dyn Geometry, used: &[usize]) -> Rect {
    let own = geometry.size(geometry.reference());
    let far = Rect::new(0, 0, own.width / 4, own.height / 4);
    let (mut low, mut high) =
        (Point::default(), Point::new(f64::from(own.width) - 1.0, f64::from(own.height) - 1.0));
    for &i in used {
        let size = geometry.size(i);
        let (right, below) = (f64::from(size.width) - 1.0, f64::from(size.height) - 1.0);
        let corners = [(0.0, 0.0), (right, 0.0), (0.0, below), (right, below)];
        for p in corners.map(|(x, y)| geometry.projection(i).back(Point::new(x, y))) {
            if p.x.is_finite() && p.y.is_finite() {
                (low.x, low.y) = (low.x.min(p.x), low.y.min(p.y));
                (high.x, high.y) = (high.x.max(p.x), high.y.max(p.y));
            }
        }
    }
    let begin = |v: f64, most: u32| -(((-v).floor() as i64).clamp(0, i64::from(most)));
    let end = |v: f64, side: u32, most: u32| {
        (v.floor() as i64 + 1).clamp(side.into(), i64::from(side) + i64::from(most))
    };
    let (x, y) = (begin(low.x, far.width), begin(low.y, far.height));
    let (right, bottom) = (end(high.x, own.width, far.width), end(high.y, own.height, far.height));
    Rect::new(x, y, (right - x) as u32, (bottom - y) as u32)
}

/// The largest rectangle found that all of these frames cover, in reference pixels; the reference's own area when there is no such
/// rectangle.
pub fn common_area(geometry: &dyn Geometry, used: &[usize]) -> Rect {
    let whole = geometry.size(geometry.reference()).rect();
    let frames: Vec<(Sampling<'_>, Size)> =
        used.iter().map(|&i| (Sampling::full(geometry.projection(i)), geometry.size(i))).collect();
    let covered = |x: i64, y: i64| {
        let p = Point::new(x as f64, y as f64);
        frames.iter().all(|(frame, size)| frame.holds(*size, frame.apply(p)))
    };
    let fits = |r: Rect| {
        !r.is_empty()
            && [(r.x, r.y), (r.right() - 1, r.y), (r.x, r.bottom() - 1), (r.right() - 1, r.bottom() - 1)]
                .iter()
                .all(|&(x, y)| covered(x, y))
    };
    // The common area is convex but for bends of some pixels: corners suffice. Shrink evenly until it fits, then push each side out
    // again.
    let mut area = whole;
    let shrink = |n: i64| {
        let inset = |v: u32| i64::from(v) * n / 512;
        let (dx, dy) = (inset(whole.width), inset(whole.height));
        let side = |v: u32, d: i64| (i64::from(v) - 2 * d).max(0) as u32;
        Rect::new(dx, dy, side(whole.width, dx), side(whole.height, dy))
    };
    match (0..256).map(shrink).find(|&r| fits(r)) {
        None => return whole,
        Some(r) => area = if area.is_empty() { area } else { r },
    }
    let mut step = i64::from(whole.width.max(whole.height)) / 2;
    while step > 0 {
        let mut grew = false;
        for (l, t, r, b) in [(step, 0, 0, 0), (0, step, 0, 0), (0, 0, step, 0), (0, 0, 0, step)] {
            let wide = Rect::new(
                area.x - l,
                area.y - t,
                (i64::from(area.width) + l + r) as u32,
                (i64::from(area.height) + t + b) as u32,
            );
            if wide.intersect(whole) == wide && fits(wide) {
                area = wide;
                grew = true;
            }
        }
        if !grew {
            step /= 2;
        }
    }
    area
}
