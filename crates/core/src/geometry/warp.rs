//! Where the pixels of an output lie in a frame: a scale and shift to reference pixels, a bend there, and a plane
//! transform from there to the frame.

use super::{Bend, Homography, Point, level_to_full};

/// Output pixels to frame pixels.
#[derive(Debug, Clone, Copy)]
pub struct Warp<'a> {
    /// Reference pixels along one output pixel.
    pub scale: f64,
    /// The reference place of the output's origin.
    pub origin: Point,
    /// Displaces places of the reference.
    pub bend: Option<&'a Bend>,
    /// From displaced reference places to the frame.
    pub last: Homography,
}

impl From<&Homography> for Warp<'static> {
    fn from(h: &Homography) -> Self {
        Self { scale: 1.0, origin: Point::default(), bend: None, last: *h }
    }
}

impl Warp<'_> {
    /// Where an output place lies in the frame.
    pub fn apply(&self, p: Point) -> Point {
        let q = self.reference(p);
        let d = self.bend.map_or(Point::default(), |b| b.at(q));
        self.last.apply(Point::new(q.x + d.x, q.y + d.y))
    }

    /// The reference place of an output place.
    pub fn reference(&self, p: Point) -> Point {
        Point::new(self.scale * p.x + self.origin.x, self.scale * p.y + self.origin.y)
    }

    /// The whole as one plane transform, the bend left out.
    pub fn plane(&self) -> Homography {
        let s = self.scale;
        self.last.after(&Homography::new([s, 0.0, self.origin.x, 0.0, s, self.origin.y, 0.0, 0.0, 1.0]))
    }

    /// The same with another plane transform after it.
    pub fn then(&self, h: &Homography) -> Self {
        Self { last: h.after(&self.last), ..*self }
    }

    /// From pixels of level `level` of the output to those of level `own` of the frame.
    pub fn between_levels(&self, level: u32, own: u32) -> Self {
        let up = f64::from(1u32 << level.min(30));
        let origin = self.reference(Point::new((up - 1.0) / 2.0, (up - 1.0) / 2.0));
        let down = level_to_full(own).inverse().unwrap_or(Homography::IDENTITY);
        Self { scale: self.scale * up, origin, ..self.then(&down) }
    }

    /// Where the output places lie that follow `from` to the right, by how many pixels they do.
    pub(crate) fn line(&self, from: Point) -> impl Fn(u32) -> Point {
        let row = self.bend.map(|b| b.row(self.reference(from).y));
        move |i| {
            let q = self.reference(Point::new(from.x + f64::from(i), from.y));
            let d = row.as_ref().map_or(Point::default(), |r| r.at(q.x));
            self.last.apply(Point::new(q.x + d.x, q.y + d.y))
        }
    }
}
