//! What is decided about a patch: its outline, where its pixels come from, and how it is fitted. Frames are named by `F`: their
//! stable identity in what is stored, their index among the frames at hand in what is computed.

use crate::combine::Method;
use crate::geometry::{Homography, Point, ends};
use serde::{Deserialize, Serialize};
use std::fmt::Debug;

/// Where the pixels of a patch come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = Source))]
pub enum Source<F = usize> {
    /// One frame.
    Frame(F),
    /// All frames, by a method.
    Method(Method),
    /// One frame as it was lit, but where it is brighter than the plate by more than the strength allows, the plate.
    HighlightSuppressed(F),
}

impl<F: Copy> Source<F> {
    /// The frame it rests on.
    pub fn frame(self) -> Option<F> {
        match self {
            Self::Frame(f) | Self::HighlightSuppressed(f) => Some(f),
            Self::Method(_) => None,
        }
    }

    /// The same with its frame named otherwise; `None` when that has no other name.
    pub fn map_frame<G>(self, name: impl Fn(F) -> Option<G>) -> Option<Source<G>> {
        Some(match self {
            Self::Frame(f) => Source::Frame(name(f)?),
            Self::HighlightSuppressed(f) => Source::HighlightSuppressed(name(f)?),
            Self::Method(method) => Source::Method(method),
        })
    }
}

/// An area that no patch changes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = Protected))]
pub struct Protected<F = usize> {
    /// The frame it was drawn on, the reference then.
    pub on: F,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<Point>,
}

impl<F> Protected<F> {
    /// Whether its numbers make sense.
    pub fn is_valid(&self) -> bool {
        drawable(&self.outline)
    }
}

/// Whether an outline has three to a thousand corners within reason.
pub(crate) fn drawable(outline: &[Point]) -> bool {
    let point = |p: &Point| p.x.is_finite() && p.y.is_finite() && p.x.abs() < 1e6 && p.y.abs() < 1e6;
    (3..=1000).contains(&outline.len()) && outline.iter().all(point)
}

/// A geometry of its own: what a patch shows is mirrored, enlarged and turned about its middle, then moved.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PatchTransform {
    /// To the right and down, in pixels of the reference.
    pub shift: [f64; 2],
    /// In degrees clockwise.
    pub turn: f64,
    /// Enlarged.
    pub scale: f64,
    /// Left for right.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub mirror: bool,
}

impl PatchTransform {
    /// Where it was.
    pub const UNMOVED: Self = Self { shift: [0.0; 2], turn: 0.0, scale: 1.0, mirror: false };

    pub(crate) fn is_valid(&self) -> bool {
        let near = |v: f64, most: f64| v.is_finite() && v.abs() <= most;
        self.shift.iter().all(|&v| near(v, 1e5))
            && near(self.turn, 180.0)
            && (0.1..=10.0).contains(&self.scale)
    }

    /// From where something was to where it is shown, about a middle.
    pub fn about(&self, middle: Point) -> Homography {
        let (s, c) = self.turn.to_radians().sin_cos();
        let (s, c, m) = (s * self.scale, c * self.scale, if self.mirror { -1.0 } else { 1.0 });
        Homography::shift(middle.x + self.shift[0], middle.y + self.shift[1])
            .after(&Homography::new([m * c, -s, 0.0, m * s, c, 0.0, 0.0, 0.0, 1.0]))
            .after(&Homography::shift(-middle.x, -middle.y))
    }

    /// From a source to the area that it is laid in, about that area's middle: moved first, then mirrored, enlarged and turned, so that
    /// the source's middle stays where it is whatever is done about it.
    pub fn onto(&self, middle: Point) -> Homography {
        let about = Self { shift: [0.0; 2], ..*self }.about(middle);
        about.after(&Homography::shift(self.shift[0], self.shift[1]))
    }
}

/// The middle of the box around an outline.
pub fn middle(outline: &[Point]) -> Point {
    let (low, high) = ends(outline);
    Point::new((low.x + high.x) / 2.0, (low.y + high.y) / 2.0)
}

/// An area of the plate with a source of its own.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = Patch))]
pub struct Patch<F = usize> {
    /// The frame it was drawn on, the reference then.
    pub on: F,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<Point>,
    /// Where its pixels come from.
    pub source: Source<F>,
    /// How far the border fades to both sides, in pixels of the reference.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub feather: f64,
    /// Whether the border moves to edges of the picture near it, such as a skyline.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub snap_to_edges: bool,
    /// Whether the border moves to where both sides show the same; goes before `snap_to_edges`. It then fades as the content
    /// asks for, unless `feather` says how far.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub optimal_seam: bool,
    /// Whether what the frame brings in beside what it takes away is left out.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub exclude_introduced: bool,
    /// Whether its tone is matched along the border.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub tone: bool,
    /// Whether its grain is that of what is around: where other frames show the same as its own, all of them are averaged.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub grain: bool,
    /// Where what it shows is moved to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transform: Option<PatchTransform>,
    /// Parts that were given back: closed outlines, as the patch's own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exclusions: Vec<Vec<Point>>,
    /// How much of it shows, 0..=1; for [`Source::HighlightSuppressed`], how small a highlight is taken off.
    #[serde(default = "whole")]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub strength: f32,
    /// Kept in the list without being laid.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub disabled: bool,
}

/// Parts that can be given back of a patch.
const MOST_EXCLUSIONS: usize = 200;

fn whole() -> f32 {
    1.0
}

impl<F: Copy> Patch<F> {
    /// A place taken from somewhere as it is done unless told otherwise: the border found, the tone matched.
    pub fn new(on: F, outline: Vec<Point>, source: Source<F>) -> Self {
        Self {
            on,
            outline,
            source,
            feather: 0.0,
            snap_to_edges: false,
            optimal_seam: true,
            exclude_introduced: false,
            tone: true,
            grain: true,
            transform: None,
            exclusions: Vec::new(),
            strength: 1.0,
            disabled: false,
        }
    }

    /// Whether its numbers make sense.
    pub fn is_valid(&self) -> bool {
        drawable(&self.outline)
            && self.exclusions.len() <= MOST_EXCLUSIONS
            && self.exclusions.iter().all(|o| drawable(o))
            && (0.0..=5000.0).contains(&self.feather)
            && (0.0..=1.0).contains(&self.strength)
            && self.transform.is_none_or(|p| p.is_valid() && self.source.frame().is_some())
    }

    /// The frames that it names.
    pub fn frames(&self) -> impl Iterator<Item = F> {
        std::iter::once(self.on).chain(self.source.frame())
    }

    /// The same with its frames named otherwise; `None` when one of them has no other name.
    pub fn map_frames<G>(&self, name: impl Fn(F) -> Option<G>) -> Option<Patch<G>> {
        let Self {
            on,
            outline,
            source,
            feather,
            snap_to_edges,
            optimal_seam,
            exclude_introduced,
            tone,
            grain,
            transform,
            exclusions,
            strength,
            disabled,
        } = self;
        Some(Patch {
            on: name(*on)?,
            outline: outline.clone(),
            source: source.map_frame(name)?,
            feather: *feather,
            snap_to_edges: *snap_to_edges,
            optimal_seam: *optimal_seam,
            exclude_introduced: *exclude_introduced,
            tone: *tone,
            grain: *grain,
            transform: *transform,
            exclusions: exclusions.clone(),
            strength: *strength,
            disabled: *disabled,
        })
    }
}

/// Everything that the fit of a patch depends on: all of it but its strength and being disabled.
#[derive(Debug, PartialEq)]
pub struct FitInputs<'a, F> {
    on: &'a F,
    outline: &'a [Point],
    source: &'a Source<F>,
    feather: f64,
    snap_to_edges: bool,
    optimal_seam: bool,
    exclude_introduced: bool,
    tone: bool,
    grain: bool,
    transform: Option<PatchTransform>,
    exclusions: &'a [Vec<Point>],
}

impl<F> Patch<F> {
    /// What its fit depends on. A new field does not compile until it is decided here whether it is among it.
    pub fn fit_inputs(&self) -> FitInputs<'_, F> {
        let Self {
            on,
            outline,
            source,
            feather,
            snap_to_edges,
            optimal_seam,
            exclude_introduced,
            tone,
            grain,
            transform,
            exclusions,
            strength: _,
            disabled: _,
        } = self;
        FitInputs {
            on,
            outline,
            source,
            feather: *feather,
            snap_to_edges: *snap_to_edges,
            optimal_seam: *optimal_seam,
            exclude_introduced: *exclude_introduced,
            tone: *tone,
            grain: *grain,
            transform: *transform,
            exclusions,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fit_depends_on_the_shape_and_not_on_how_strongly_it_is_laid() {
        let corners = [(1.0, 1.0), (9.0, 1.0), (5.0, 9.0)].map(|(x, y)| Point::new(x, y)).to_vec();
        let patch = Patch::new(0, corners.clone(), Source::Frame(2));
        assert_eq!(patch.fit_inputs(), Patch { strength: 0.3, disabled: true, ..patch.clone() }.fit_inputs());
        let transform = Some(PatchTransform { turn: 1.0, ..PatchTransform::UNMOVED });
        for other in [
            Patch { on: 1, ..patch.clone() },
            Patch { outline: vec![corners[1], corners[2], corners[0]], ..patch.clone() },
            Patch { source: Source::HighlightSuppressed(2), ..patch.clone() },
            Patch { feather: 2.0, ..patch.clone() },
            Patch { snap_to_edges: true, ..patch.clone() },
            Patch { optimal_seam: false, ..patch.clone() },
            Patch { exclude_introduced: true, ..patch.clone() },
            Patch { tone: false, ..patch.clone() },
            Patch { grain: false, ..patch.clone() },
            Patch { transform, ..patch.clone() },
            Patch { exclusions: vec![corners.clone()], ..patch.clone() },
        ] {
            assert_ne!(patch.fit_inputs(), other.fit_inputs());
        }
    }
}
