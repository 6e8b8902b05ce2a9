//! A plane of the world, such as a facade or the ground, seen from the front: by the picture of a rectangle on it (Criminisi, Reid and
//! Zisserman 2000).
//!
//! ```
//! use evanu_core::geometry::Point;
//! use evanu_core::touch::Plane;
//!
//! // A floor that runs away from the camera.
//! let corners = [(100.0, 100.0), (200.0, 100.0), (300.0, 300.0), (0.0, 300.0)].map(|(x, y)| Point::new(x, y));
//! let plane = Plane::new(&corners, Point::new(150.0, 200.0)).expect("it is seen from one side");
//! // About the middle nothing is moved; what is farther away is enlarged.
//! assert!(plane.front.apply(Point::new(150.0, 200.0)).distance(Point::new(150.0, 200.0)) < 1e-6);
//! assert!(plane.front.scale_at(Point::new(150.0, 120.0)) > 1.2);
//! ```

use crate::geometry::{Correspondence, Homography, Model, Point, fit};

/// A plane and the way to see it from the front.
#[derive(Debug, Clone, Copy)]
pub struct Plane {
    /// From places of the picture to those seen from the front; about the middle of the area it moves nothing.
    pub front: Homography,
    /// From there to the picture.
    pub back: Homography,
}

impl Plane {
    /// By the corners of what is a rectangle in the world, in turn; `None` when they are no such picture, or the middle of the area lies
    /// where the plane is not seen.
    pub fn new(corners: &[Point; 4], middle: Point) -> Option<Self> {
        /// Least area of a corner's triangle, in pixels.
        const LEAST: f64 = 4.0;
        let finite = |p: &Point| p.x.is_finite() && p.y.is_finite() && p.x.abs() < 1e6 && p.y.abs() < 1e6;
        if !corners.iter().all(finite) {
            return None;
        }
        // All corners turn the same way.
        let bend = |k: usize| {
            let (a, b, c) = (corners[k], corners[(k + 1) % 4], corners[(k + 2) % 4]);
            (b.x - a.x) * (c.y - b.y) - (b.y - a.y) * (c.x - b.x)
        };
        if !((0..4).all(|k| bend(k) > LEAST) || (0..4).all(|k| bend(k) < -LEAST)) {
            return None;
        }
        let square = [(0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0)].map(|(x, y)| Point::new(x, y));
        let pairs: Vec<Correspondence> =
            corners.iter().zip(square).map(|(&from, to)| Correspondence { from, to, weight: 1.0 }).collect();
        let flat = fit(Model::Perspective, &pairs)?;
        let plane = Self { front: flat, back: flat };
        if !corners.iter().chain([&middle]).all(|&p| plane.sees(p, corners[0])) {
            return None;
        }
        // As if nothing were done about the middle.
        let at = flat.apply(middle);
        let step = 1e-3;
        let (right, down) = (
            flat.apply(Point::new(middle.x + step, middle.y)),
            flat.apply(Point::new(middle.x, middle.y + step)),
        );
        let (a, c) = ((right.x - at.x) / step, (right.y - at.y) / step);
        let (b, d) = ((down.x - at.x) / step, (down.y - at.y) / step);
        let det = a * d - b * c;
        if !det.is_finite() || det.abs() < 1e-15 {
            return None;
        }
        let upright = Homography::new([d / det, -b / det, 0.0, -c / det, a / det, 0.0, 0.0, 0.0, 1.0]);
        let front = Homography::shift(middle.x, middle.y)
            .after(&upright)
            .after(&Homography::shift(-at.x, -at.y))
            .after(&flat);
        Some(Self { front, back: front.inverse()? })
    }

    /// Whether a place lies on the same side of the horizon as another, and not all but on it.
    pub fn sees(&self, p: Point, other: Point) -> bool {
        let m = &self.front.0;
        let depth = |p: Point| m[6] * p.x + m[7] * p.y + m[8];
        depth(p) * depth(other).signum() > 0.02 * depth(other).abs()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::patch::PatchTransform;
    use serde::Deserialize;

    #[derive(Deserialize)]
    struct Case {
        plane: Option<[Point; 4]>,
        #[serde(rename = "move")]
        transform: PatchTransform,
        middle: Point,
        at: Point,
        source: Point,
    }

    #[test]
    fn the_page_takes_from_the_same_places() {
        // The page's own test reads the same cases.
        let cases: Vec<Case> = serde_json::from_str(include_str!("../../tests/moves.json")).unwrap();
        assert!(cases.len() > 20);
        for Case { plane, transform, middle, at, source } in cases {
            let back = transform.onto(middle).inverse().unwrap();
            let found = match plane.map(|corners| Plane::new(&corners, middle).unwrap()) {
                None => back.apply(at),
                Some(plane) => plane.back.apply(back.apply(plane.front.apply(at))),
            };
            assert!(found.distance(source) < 0.01, "{found:?} instead of {source:?}");
        }
    }
}
