//! Areas drawn by hand that guide the alignment.

use crate::geometry::{Homography, Point, Size, around, inside, level_to_full};
use serde::{Deserialize, Serialize};

/// What an area drawn by hand means for the alignment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Guide {
    /// Nothing in it leads the alignment.
    Ignore,
    /// It alone leads: a prop, a product.
    Fit,
}

/// An area drawn by hand, on the frame that was the reference then.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = Area))]
pub struct Area<F = usize> {
    /// The frame it was drawn on.
    pub on: F,
    /// What it means.
    pub guide: Guide,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<Point>,
}

/// Areas drawn by hand, as closed outlines in full-size reference pixels.
#[derive(Debug, Default)]
pub(super) struct Guides {
    /// Nothing in these leads.
    pub ignore: Vec<Vec<Point>>,
    /// If any, only what is in these leads.
    pub fit: Vec<Vec<Point>>,
}

impl Guides {
    /// The areas in full-size pixels of the reference, by the frames' coarse transforms to it; those drawn on a frame
    /// that does not fit are left out.
    pub(super) fn new(areas: &[Area], coarse: &[Option<Homography>]) -> Self {
        let mut guides = Self::default();
        for area in areas {
            let Some(h) = coarse.get(area.on).copied().flatten() else { continue };
            let outline = area.outline.iter().map(|&p| h.apply(p)).collect();
            match area.guide {
                Guide::Ignore => guides.ignore.push(outline),
                Guide::Fit => guides.fit.push(outline),
            }
        }
        guides
    }

    /// Corner and sides of the box that leads, in pixels of a level of the reference, which is of this `size` there.
    pub(super) fn led(&self, size: Size, level: u32) -> (Point, Point) {
        let all = (Point::default(), Point::new(f64::from(size.width), f64::from(size.height)));
        let down = level_to_full(level).inverse().unwrap_or(Homography::IDENTITY);
        let own: Vec<Vec<Point>> =
            self.fit.iter().map(|o| o.iter().map(|&p| down.apply(p)).collect()).collect();
        around(&own, size.rect()).unwrap_or(all)
    }

    /// Whether a place of the reference leads.
    pub(super) fn lead(&self, p: Point) -> bool {
        let within = |all: &[Vec<Point>]| all.iter().any(|o| inside(o, p));
        !within(&self.ignore) && (self.fit.is_empty() || within(&self.fit))
    }
}
