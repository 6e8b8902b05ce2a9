//! Lifts: areas of the plate that come from one frame, or by another method than the rest.
//!
//! A lift is drawn on a frame, as an outline, and stays with what it was drawn around when another frame becomes the
//! reference. It is laid over the combined picture with a soft border, later ones over earlier ones; outside its
//! [`mask`] no pixel changes.

mod extent;
pub mod mask;
pub mod origin;

pub use extent::extent;

use crate::combine::Method;
use crate::geometry::Point;
use mask::Mask;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Where the pixels of a lift come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Source {
    /// One frame, by its index.
    Frame(usize),
    /// All frames, by a method.
    Method(Method),
    /// One frame as it was lit, but where it is brighter than the plate by more than the strength allows, the plate.
    Calm(usize),
}

impl Source {
    /// The frame it rests on.
    pub fn frame(self) -> Option<usize> {
        match self {
            Self::Frame(i) | Self::Calm(i) => Some(i),
            Self::Method(_) => None,
        }
    }

    /// The same with its frame under another index.
    pub fn renumbered(self, number: impl Fn(usize) -> usize) -> Self {
        match self {
            Self::Frame(i) => Self::Frame(number(i)),
            Self::Calm(i) => Self::Calm(number(i)),
            Self::Method(_) => self,
        }
    }
}

/// An area of the plate with a source of its own.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Lift {
    /// Index of the frame it was drawn on, the reference then.
    pub on: usize,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<Point>,
    /// Where its pixels come from.
    pub source: Source,
    /// How far the border fades to both sides, in pixels of the reference.
    #[serde(default)]
    pub soft: f64,
    /// Whether the border moves to edges of the picture near it, such as a skyline.
    #[serde(default)]
    pub follow: bool,
    /// How much of it shows, 0..=1; for [`Source::Calm`], how small a highlight is taken off.
    #[serde(default = "whole")]
    pub strength: f32,
    /// Kept in the list without being laid.
    #[serde(default)]
    pub off: bool,
}

fn whole() -> f32 {
    1.0
}

impl Lift {
    /// Whether its numbers make sense for this many frames.
    pub fn is_valid(&self, frames: usize) -> bool {
        let point = |p: &Point| p.x.is_finite() && p.y.is_finite() && p.x.abs() < 1e6 && p.y.abs() < 1e6;
        self.on < frames
            && self.source.frame().is_none_or(|i| i < frames)
            && (3..=1000).contains(&self.outline.len())
            && self.outline.iter().all(point)
            && (0.0..=5000.0).contains(&self.soft)
            && (0.0..=1.0).contains(&self.strength)
    }
}

/// A lift ready to be laid.
#[derive(Debug, Clone, PartialEq)]
pub struct Laid {
    /// Its place in the recipe's list.
    pub index: usize,
    /// Where its pixels come from.
    pub source: Source,
    /// As in [`Lift`].
    pub strength: f32,
    /// Where, and how strongly.
    pub mask: Arc<Mask>,
}

/// Stops over the plate from which a highlight is taken off at a strength; without end at none.
pub fn allowed(strength: f32) -> f32 {
    2.0 * (1.0 - strength) / strength.max(1e-6)
}

/// The strength at which a highlight of so many stops returns.
pub fn returns(stops: f32) -> f32 {
    2.0 / (2.0 + stops.max(0.0))
}

/// The share of the plate where a frame is brighter than it by so many stops.
pub fn calmed(stops: f32, strength: f32) -> f32 {
    /// A highlight begins here, in stops, and is one for certain this much later.
    const BEGINS: f32 = 0.08;
    const RAMP: f32 = 0.25;
    let v = ((stops - BEGINS - allowed(strength)) / RAMP).clamp(0.0, 1.0);
    v * v * (3.0 - 2.0 * v)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn highlights_return_as_the_strength_falls() {
        assert_eq!(calmed(0.02, 1.0), 0.0, "noise is no highlight");
        assert_eq!(calmed(1.0, 1.0), 1.0);
        assert_eq!(calmed(1.0, 0.0), 0.0);
        let threshold = returns(1.0);
        assert!(calmed(1.0, threshold - 0.02) < 0.01 && calmed(1.0, threshold + 0.2) > 0.5);
    }
}
