//! What is done in the clip that a set's frames come from.

use crate::clip::Stroke;
use crate::geometry::Point;
use crate::patch::drawable;
use serde::{Deserialize, Serialize};

/// An area of the clip that is covered, beside all that is lifted or retouched on the plate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Held {
    /// A closed outline, in pixels of the reference.
    pub outline: Vec<Point>,
    /// By the same clip so many seconds later, where something lives there; by the plate without it.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub later: Option<f64>,
    /// By a still that came back from elsewhere, by the name of its content; by the plate without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(required = false))]
    pub still: Option<String>,
}

/// The repair of a clip.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClipRepair {
    /// Areas that are covered, beside all that is lifted or retouched on the plate.
    pub held: Vec<Held>,
    /// Seconds from which on it lies; from the first frame without.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub from: Option<f64>,
    /// Seconds until which it lies; to the last frame without.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub to: Option<f64>,
    /// What was brushed in single frames, later over earlier.
    pub strokes: Vec<Stroke>,
}

impl ClipRepair {
    /// Strokes that a recipe holds at most.
    const STROKES: usize = 5000;

    /// Whether every number in it is within reason.
    pub(super) fn is_valid(&self) -> bool {
        let seconds = |s: &f64| (0.0..1e6).contains(s);
        let later = |h: &Held| {
            h.later.is_none_or(|l| l.abs() > 0.0 && l.abs() < 1e6)
                && h.still.as_ref().is_none_or(|s| s.len() == 64 && s.bytes().all(|b| b.is_ascii_hexdigit()))
        };
        self.held.len() <= 100
            && self.held.iter().all(|h| drawable(&h.outline) && later(h))
            && self.from.iter().chain(&self.to).all(seconds)
            && self.from.zip(self.to).is_none_or(|(from, to)| from < to)
            && self.strokes.len() <= Self::STROKES
            && self.strokes.iter().all(Stroke::is_valid)
    }

    /// Corners of all that is drawn.
    pub(super) fn corners(&self) -> usize {
        self.held.iter().map(|h| h.outline.len()).sum::<usize>()
            + self.strokes.iter().map(|s| s.path.len()).sum::<usize>()
    }
}
