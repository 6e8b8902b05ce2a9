//! Frames laid by hand: by pairs of places, by nudges, and brought to the best fit near there.

use crate::geometry::{Correspondence, Homography, Model, Point, Size, fit};
use serde::{Deserialize, Serialize};

/// The same thing seen in two frames.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pair {
    /// In the frame's pixels.
    pub from: Point,
    /// In the other frame's pixels.
    pub to: Point,
}

/// A frame laid by hand over the frame that was the reference then.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = ManualAlignment))]
pub struct ManualAlignment<F = usize> {
    /// The frame.
    pub frame: F,
    /// The frame it is laid over.
    pub on: F,
    /// Places named in both; none takes the frame where the alignment put it, or as shot.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub pairs: Vec<Pair>,
    /// Then shifted, in pixels to the right and down.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub shift: [f64; 2],
    /// Turned about the picture's middle, in degrees clockwise.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub turn: f64,
    /// And made larger about it.
    #[serde(default = "unchanged")]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub scale: f64,
    /// And brought to the best fit near there.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub snap: bool,
}

fn unchanged() -> f64 {
    1.0
}

impl<F: Copy + PartialEq> ManualAlignment<F> {
    /// Whether its numbers make sense.
    pub fn is_valid(&self) -> bool {
        let near = |v: f64, most: f64| v.is_finite() && v.abs() <= most;
        self.frame != self.on
            && self.pairs.len() <= 100
            && self.pairs.iter().all(|p| [p.from.x, p.from.y, p.to.x, p.to.y].iter().all(|&v| near(v, 1e6)))
            && self.shift.iter().all(|&v| near(v, 1e5))
            && near(self.turn, 180.0)
            && (0.2..=5.0).contains(&self.scale)
    }

    /// The same with its frames named otherwise; `None` when one of them has no other name.
    pub fn map_frames<G>(&self, name: impl Fn(F) -> Option<G>) -> Option<ManualAlignment<G>> {
        let Self { frame, on, pairs, shift, turn, scale, snap } = self;
        Some(ManualAlignment {
            frame: name(*frame)?,
            on: name(*on)?,
            pairs: pairs.clone(),
            shift: *shift,
            turn: *turn,
            scale: *scale,
            snap: *snap,
        })
    }
}

impl<F> ManualAlignment<F> {
    /// The transform that the pairs tell of a frame of `size`: one shifts, two turn and zoom too, four and more give perspective; less
    /// than that where they lie too close together to tell so much. `None` without pairs.
    pub fn by_pairs(&self, size: Size) -> Option<Homography> {
        let models: &[Model] = match self.pairs.len() {
            0 => return None,
            1 => &[Model::Shift],
            2 | 3 => &[Model::Similarity, Model::Shift],
            _ => &[Model::Perspective, Model::Similarity, Model::Shift],
        };
        let pairs: Vec<Correspondence> =
            self.pairs.iter().map(|p| Correspondence { from: p.from, to: p.to, weight: 1.0 }).collect();
        models.iter().filter_map(|&model| fit(model, &pairs)).find(|told| is_of_a_place(told, size))
    }

    /// Shift, turn and scale over a picture of `size`.
    pub fn nudge(&self, size: Size) -> Homography {
        let (x, y) = (f64::from(size.width) / 2.0 - 0.5, f64::from(size.height) / 2.0 - 0.5);
        let (s, c) = self.turn.to_radians().sin_cos();
        let (s, c) = (s * self.scale, c * self.scale);
        let about = Homography::new([c, -s, 0.0, s, c, 0.0, 0.0, 0.0, 1.0]);
        Homography::shift(x + self.shift[0], y + self.shift[1])
            .after(&about)
            .after(&Homography::shift(-x, -y))
    }
}

/// Whether a transform may be one between two frames of a place: no part of the picture lies beyond its horizon, is a tenth as large
/// as it was or less, or ten times as large or more.
fn is_of_a_place(transform: &Homography, size: Size) -> bool {
    let [.., a, b, c] = transform.0;
    let depth = |p: Point| a * p.x + b * p.y + c;
    let middle = Point::new(f64::from(size.width) / 2.0, f64::from(size.height) / 2.0);
    let sound = |p: Point| depth(p) * depth(middle) > 0.0 && (0.1..=10.0).contains(&transform.scale_at(p));
    sound(middle) && size.corners().into_iter().all(sound)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pairs_tell_as_much_as_they_can() {
        let truth = Homography::new([1.1, -0.2, 30.0, 0.2, 1.1, -9.0, 0.0, 0.0, 1.0]);
        let pair = |x: f64, y: f64| Pair { from: Point::new(x, y), to: truth.apply(Point::new(x, y)) };
        let mut manual = ManualAlignment {
            frame: 0,
            on: 1,
            pairs: vec![],
            shift: [0.0; 2],
            turn: 0.0,
            scale: 1.0,
            snap: false,
        };
        let size = Size::new(600, 400);
        assert_eq!(manual.by_pairs(size), None);
        manual.pairs = vec![pair(10.0, 10.0)];
        let shift = manual.by_pairs(size).unwrap();
        assert!(shift.apply(manual.pairs[0].from).distance(manual.pairs[0].to) < 1e-9);
        assert_eq!(shift.scale_at(Point::default()), 1.0);
        manual.pairs.push(pair(300.0, 100.0));
        assert!(manual.by_pairs(size).unwrap().grid_distance(&truth, Size::new(300, 200)) < 1e-9);
        // Twice the same place says no more than once.
        manual.pairs = vec![pair(10.0, 10.0); 2];
        assert!(manual.by_pairs(size).is_some());
        // Nor do places beside each other that were named a hand's breadth off, or on a line.
        let near =
            |k: f64| Pair { from: Point::new(200.0 + k, 100.0), to: Point::new(90.0 * k, 40.0 * k * k) };
        for n in [2, 4] {
            manual.pairs = (0..n).map(|k| near(f64::from(k))).collect();
            let told = manual.by_pairs(size).unwrap();
            assert_eq!(told.scale_at(Point::default()), 1.0, "{n}: {told:?}");
        }
    }
}
