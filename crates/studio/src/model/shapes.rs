//! The shapes of what is decided, for the description of the interface; the core's own types are what is read and written.

use super::AreaInfo;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a doubt was answered by hand.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Settled)]
pub struct SettledShape {
    /// The doubt's place, in reference pixels.
    pub bbox: AreaInfo,
    /// Index of the frame that is right there; null accepts the proposal.
    pub frame: Option<usize>,
    /// It is asked again, though the evidence settles it.
    #[serde(default)]
    pub open: bool,
}

/// How a recipe looks to clients; the core's type serialises to it, and a test holds the two together.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Recipe)]
pub struct RecipeShape {
    /// Version of this shape.
    pub version: u32,
    /// One entry a frame: false when its owner set it aside.
    pub used: Vec<bool>,
    /// `auto`, `off`, `shift`, `rigid`, `similarity` or `perspective`.
    pub align: String,
    /// Index of the chosen reference frame; null lets the program propose it.
    pub reference: Option<usize>,
    /// `auto`, `on` or `off`.
    pub match_exposure: String,
    /// The one development of all frames.
    pub develop: DevelopShape,
    /// Areas that guide the alignment.
    pub areas: Vec<AreaShape>,
    /// Frames laid by hand.
    pub hands: Vec<HandShape>,
    /// Doubts settled by hand.
    #[serde(default)]
    pub settled: Vec<SettledShape>,
    /// Areas with a source of their own, later ones over earlier ones.
    #[serde(default)]
    pub lifts: Vec<LiftShape>,
    /// Areas that no lift changes.
    #[serde(default)]
    pub keeps: Vec<KeepShape>,
    /// `consensus`, `median`, `mean`, `clipped`, `everybody`, `darkest`, `lightest` or `rank:P`.
    pub method: String,
    /// `reference` or `common`.
    pub canvas: String,
}

/// How light becomes a picture.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Develop)]
pub struct DevelopShape {
    /// Stops, -5..=5.
    pub exposure: f32,
    /// Warmer above zero, -1..=1.
    pub warmth: f32,
    /// More magenta above zero, -1..=1.
    pub tint: f32,
    /// -1..=1.
    pub highlights: f32,
    /// -1..=1.
    pub shadows: f32,
}

/// A point in pixels.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Point)]
pub struct PointShape {
    /// To the right.
    pub x: f64,
    /// Down.
    pub y: f64,
}

/// An area drawn by hand.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Area)]
pub struct AreaShape {
    /// Index of the frame it was drawn on.
    pub on: usize,
    /// `ignore` or `fit`.
    pub guide: String,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<PointShape>,
}

/// Where the pixels of a lift come from.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Source)]
#[serde(rename_all = "lowercase")]
pub enum SourceShape {
    /// One frame, by its index.
    Frame(usize),
    /// All frames, by a method.
    Method(String),
    /// One frame as it was lit, without its highlights.
    Calm(usize),
}

/// An area that no lift changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Keep)]
pub struct KeepShape {
    /// Index of the frame it was drawn on.
    pub on: usize,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<PointShape>,
}

/// What a lift shows is mirrored, enlarged and turned about its middle, then moved.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Place)]
pub struct PlaceShape {
    /// To the right and down, in reference pixels.
    pub shift: [f64; 2],
    /// In degrees clockwise.
    pub turn: f64,
    /// Enlarged.
    pub scale: f64,
    /// Left for right.
    pub mirror: bool,
}

/// An area of the plate with a source of its own.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Lift)]
pub struct LiftShape {
    /// Index of the frame it was drawn on.
    pub on: usize,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<PointShape>,
    /// Where its pixels come from.
    pub source: SourceShape,
    /// How far the border fades to both sides, in reference pixels.
    pub soft: f64,
    /// Whether the border moves to edges of the picture near it.
    pub follow: bool,
    /// Whether the border moves to where both sides show the same.
    #[serde(default)]
    pub seek: bool,
    /// Whether what the frame brings in beside what it takes away is left out.
    #[serde(default)]
    pub trim: bool,
    /// Whether its tone is matched along the border.
    #[serde(default)]
    pub tone: bool,
    /// Whether frames that show the same as its own are averaged, so that its grain is that of what is around.
    #[serde(default)]
    pub grain: bool,
    /// A geometry of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<PlaceShape>,
    /// Parts that were given back: closed outlines in the frame's pixels.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub less: Vec<Vec<PointShape>>,
    /// How much of it shows, 0..=1; for `calm`, how small a highlight is taken off.
    pub strength: f32,
    /// Kept without being laid.
    pub off: bool,
}

/// The same thing seen in two frames.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Pair)]
pub struct PairShape {
    /// In the frame's pixels.
    pub from: PointShape,
    /// In the other frame's pixels.
    pub to: PointShape,
}

/// A frame laid by hand.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Hand)]
pub struct HandShape {
    /// Index of the frame.
    pub frame: usize,
    /// Index of the frame it is laid over.
    pub on: usize,
    /// Places named in both.
    pub pairs: Vec<PairShape>,
    /// Then shifted, in pixels to the right and down.
    pub shift: [f64; 2],
    /// Turned, in degrees clockwise.
    pub turn: f64,
    /// Made larger.
    pub scale: f64,
    /// Brought to the best fit near there.
    pub snap: bool,
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::composite::{Keep, Place};
    use evanu_core::geometry::{Point, Rect};
    use evanu_core::recipe::{Area, Guide, Hand, Lift, Pair, Recipe, Settled, Source};

    #[test]
    fn the_described_recipe_is_the_real_one() {
        let p = |x: f64, y: f64| Point::new(x, y);
        let area = Area { on: 0, guide: Guide::Fit, outline: vec![p(1.0, 2.0), p(3.5, 4.0), p(5.0, 6.0)] };
        let pairs = vec![Pair { from: p(1.0, 2.0), to: p(3.0, 4.5) }];
        let hand = Hand { frame: 0, on: 1, pairs, shift: [1.0, 2.0], turn: 0.5, scale: 1.5, snap: true };
        let settled = vec![Settled { bbox: Rect::new(1, 2, 3, 4), frame: Some(2), open: false }];
        let lift = |source| Lift {
            on: 1,
            outline: vec![p(1.0, 2.0), p(3.5, 4.0), p(5.0, 6.0)],
            source,
            soft: 4.5,
            follow: true,
            seek: true,
            trim: true,
            tone: false,
            grain: true,
            less: vec![vec![p(1.0, 2.0), p(3.5, 4.0), p(5.0, 6.5)]],
            place: Some(Place { shift: [1.5, 2.0], turn: 3.0, scale: 1.5, mirror: true }),
            strength: 0.5,
            off: false,
        };
        let lifts = [Source::Frame(2), Source::Method(evanu_core::combine::Method::Mean), Source::Calm(0)]
            .map(lift)
            .into();
        let recipe = Recipe {
            reference: Some(1),
            areas: vec![area],
            hands: vec![hand],
            settled,
            lifts,
            keeps: vec![Keep { on: 2, outline: vec![p(1.0, 2.0), p(3.5, 4.0), p(5.0, 6.0)] }],
            ..Recipe::new(3)
        };
        let value = serde_json::to_value(&recipe).unwrap();
        let shape: RecipeShape = serde_json::from_value(value.clone()).unwrap();
        assert_eq!(serde_json::to_value(shape).unwrap(), value);
    }
}
