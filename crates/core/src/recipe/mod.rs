//! The decisions of a set: an ordered, versioned, serialisable value from which the plate follows.
//!
//! A recipe never holds derived numbers; those are in the [`crate::plan::Plan`]. Every change makes a new recipe,
//! and undo moves along the list of them.

use crate::combine::Method;
use crate::composite::drawable;
pub use crate::composite::{Keep, Lift, Source};
use crate::develop::Develop;
use crate::geometry::{Correspondence, Homography, Model, Point, Rect, Size, fit};
pub use crate::register::{Area, Guide};
use serde::{Deserialize, Deserializer, Serialize};

/// Which transforms frames may be given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Align {
    /// The fewest parameters that the evidence asks for.
    #[default]
    Auto,
    /// Frames are laid over each other as they are.
    Off,
    /// Shift only.
    Shift,
    /// Shift and turn.
    Rigid,
    /// Shift, turn and zoom.
    Similarity,
    /// A full homography.
    Perspective,
}

impl Align {
    /// The families to choose from, from few to many parameters.
    pub fn models(self) -> &'static [Model] {
        match self {
            Self::Off => &[Model::Identity],
            Self::Auto => &Model::ALL,
            Self::Shift => &[Model::Shift],
            Self::Rigid => &[Model::Rigid],
            Self::Similarity => &[Model::Similarity],
            Self::Perspective => &[Model::Perspective],
        }
    }
}

/// What the plate covers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Canvas {
    /// Exactly the reference frame's pixel grid.
    #[default]
    Reference,
    /// The largest rectangle that all used frames cover.
    Common,
}

/// Whether frames are matched in exposure and colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Matching {
    /// Matched, unless their light was varied on purpose.
    #[default]
    Auto,
    /// Matched in any case.
    On,
    /// Left as shot.
    Off,
}

impl<'de> Deserialize<'de> for Matching {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        // Recipes of the first version hold a yes or no.
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Stored {
            Switch(bool),
            Name(String),
        }
        match Stored::deserialize(from)? {
            Stored::Switch(true) => Ok(Self::Auto),
            Stored::Switch(false) => Ok(Self::Off),
            Stored::Name(n) if n == "auto" => Ok(Self::Auto),
            Stored::Name(n) if n == "on" => Ok(Self::On),
            Stored::Name(n) if n == "off" => Ok(Self::Off),
            Stored::Name(n) => Err(serde::de::Error::custom(format!("\"{n}\" is not auto, on or off"))),
        }
    }
}

/// The same thing seen in two frames.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Pair {
    /// In the frame's pixels.
    pub from: Point,
    /// In the other frame's pixels.
    pub to: Point,
}

/// A frame laid by hand over the frame that was the reference then.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Hand {
    /// Index of the frame.
    pub frame: usize,
    /// Index of the frame it is laid over.
    pub on: usize,
    /// Places named in both; none takes the frame where the alignment put it, or as shot.
    #[serde(default)]
    pub pairs: Vec<Pair>,
    /// Then shifted, in pixels to the right and down.
    #[serde(default)]
    pub shift: [f64; 2],
    /// Turned about the picture's middle, in degrees clockwise.
    #[serde(default)]
    pub turn: f64,
    /// And made larger about it.
    #[serde(default = "unchanged")]
    pub scale: f64,
    /// And brought to the best fit near there.
    #[serde(default)]
    pub snap: bool,
}

fn unchanged() -> f64 {
    1.0
}

impl Hand {
    /// The transform that the pairs tell: one shifts, two turn and zoom too, four and more give perspective. `None`
    /// without pairs, or when they lie in one place.
    pub fn by_pairs(&self) -> Option<Homography> {
        let model = match self.pairs.len() {
            0 => return None,
            1 => Model::Shift,
            2 | 3 => Model::Similarity,
            _ => Model::Perspective,
        };
        let pairs: Vec<Correspondence> =
            self.pairs.iter().map(|p| Correspondence { from: p.from, to: p.to, weight: 1.0 }).collect();
        fit(model, &pairs).or_else(|| fit(Model::Similarity, &pairs)).or_else(|| fit(Model::Shift, &pairs))
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

    /// Whether its numbers make sense.
    fn is_valid(&self, frames: usize) -> bool {
        let near = |v: f64, most: f64| v.is_finite() && v.abs() <= most;
        self.frame < frames
            && self.on < frames
            && self.frame != self.on
            && self.pairs.len() <= 100
            && self.pairs.iter().all(|p| [p.from.x, p.from.y, p.to.x, p.to.y].iter().all(|&v| near(v, 1e6)))
            && self.shift.iter().all(|&v| near(v, 1e5))
            && near(self.turn, 180.0)
            && (0.2..=5.0).contains(&self.scale)
    }
}

/// How its owner answered a doubt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Settled {
    /// The doubt's place, in pixels of the reference.
    pub bbox: Rect,
    /// Index of the frame that is right there; `None` accepts what was proposed.
    pub frame: Option<usize>,
    /// It is asked again, though the evidence settles it.
    #[serde(default)]
    pub open: bool,
}

/// The version written by this program.
pub const VERSION: u32 = 1;

/// All decisions of a set.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Recipe {
    /// Version of this shape.
    pub version: u32,
    /// One entry a frame, in the set's order: false when its owner set it aside.
    pub used: Vec<bool>,
    /// Allowed transforms.
    pub align: Align,
    /// Index of the chosen reference frame; `None` lets the program propose it.
    pub reference: Option<usize>,
    /// Whether frames are matched in exposure and colour.
    pub match_exposure: Matching,
    /// The one development of all frames.
    #[serde(default)]
    pub develop: Develop,
    /// Areas that guide the alignment.
    #[serde(default)]
    pub areas: Vec<Area>,
    /// Frames laid by hand; at most one entry a frame.
    #[serde(default)]
    pub hands: Vec<Hand>,
    /// Doubts that were settled by hand.
    #[serde(default)]
    pub settled: Vec<Settled>,
    /// Areas that come from one frame or by another method, later ones over earlier ones.
    #[serde(default)]
    pub lifts: Vec<Lift>,
    /// Areas that no lift changes.
    #[serde(default)]
    pub keeps: Vec<Keep>,
    /// How frames become one.
    pub method: Method,
    /// What the plate covers.
    pub canvas: Canvas,
}

impl Recipe {
    /// The recipe a new set of `frames` frames starts with.
    pub fn new(frames: usize) -> Self {
        Self {
            version: VERSION,
            used: vec![true; frames],
            align: Align::Auto,
            reference: None,
            match_exposure: Matching::Auto,
            develop: Develop::default(),
            areas: Vec::new(),
            hands: Vec::new(),
            settled: Vec::new(),
            lifts: Vec::new(),
            keeps: Vec::new(),
            method: Method::Consensus,
            canvas: Canvas::Reference,
        }
    }

    /// Whether every number in it lies in its range for this many frames; else what is wrong, in words.
    ///
    /// # Errors
    /// With the reason.
    pub fn check(&self, frames: usize) -> Result<(), String> {
        if self.reference.is_some_and(|r| r >= frames) {
            return Err("there is no such reference frame".into());
        }
        if !self.develop.is_valid() {
            return Err(
                "the development is out of range: exposure goes from -5 to 5 stops, the rest from -1 to 1"
                    .into(),
            );
        }
        let drawn = |a: &Area| a.on < frames && drawable(&a.outline);
        if self.areas.len() > 50 || !self.areas.iter().all(drawn) {
            return Err("an area has three to a thousand corners, on a frame of this set, and there are at most fifty".into());
        }
        let single = |h: &Hand| self.hands.iter().filter(|o| o.frame == h.frame).count() == 1;
        if !self.hands.iter().all(|h| h.is_valid(frames) && single(h)) {
            return Err("a frame is laid by hand over another one, by numbers within reason".into());
        }
        if self.settled.len() > 10_000 || self.settled.iter().any(|s| s.frame.is_some_and(|f| f >= frames)) {
            return Err("a doubt is settled by a frame of this set".into());
        }
        if self.lifts.len() > 1000 || !self.lifts.iter().all(|l| l.is_valid(frames)) {
            return Err("a lift has three to a thousand corners and comes from a frame of this set or by a method; its border fades over at most 5000 pixels and its strength goes from 0 to 1".into());
        }
        if self.keeps.len() > 100 || !self.keeps.iter().all(|k| k.is_valid(frames)) {
            return Err("an area to keep has three to a thousand corners, on a frame of this set, and there are at most a hundred".into());
        }
        Ok(())
    }

    /// The recipe of a set that frame `gone` has left.
    pub fn without(&self, gone: usize) -> Self {
        let left = |i: usize| if i > gone { i - 1 } else { i };
        let mut used = self.used.clone();
        if gone < used.len() {
            used.remove(gone);
        }
        Self {
            used,
            reference: self.reference.filter(|&r| r != gone).map(left),
            areas: self
                .areas
                .iter()
                .filter(|a| a.on != gone)
                .map(|a| Area { on: left(a.on), ..a.clone() })
                .collect(),
            hands: self
                .hands
                .iter()
                .filter(|h| h.frame != gone && h.on != gone)
                .map(|h| Hand { frame: left(h.frame), on: left(h.on), ..h.clone() })
                .collect(),
            settled: self
                .settled
                .iter()
                .filter(|s| s.frame != Some(gone))
                .map(|s| Settled { frame: s.frame.map(left), ..*s })
                .collect(),
            lifts: self
                .lifts
                .iter()
                .filter(|l| l.on != gone && l.source.frame() != Some(gone))
                .map(|l| Lift { on: left(l.on), source: l.source.renumbered(left), ..l.clone() })
                .collect(),
            keeps: self
                .keeps
                .iter()
                .filter(|k| k.on != gone)
                .map(|k| Keep { on: left(k.on), ..k.clone() })
                .collect(),
            ..self.clone()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_recipe() -> impl Strategy<Value = Recipe> {
        let align = prop::sample::select(vec![
            Align::Auto,
            Align::Off,
            Align::Shift,
            Align::Rigid,
            Align::Similarity,
            Align::Perspective,
        ]);
        let method = prop_oneof![
            Just(Method::Consensus),
            Just(Method::Median),
            Just(Method::Mean),
            Just(Method::Darkest),
            Just(Method::Lightest),
            (0u8..=100).prop_map(Method::Rank),
        ];
        let canvas = prop::sample::select(vec![Canvas::Reference, Canvas::Common]);
        let matching = prop::sample::select(vec![Matching::Auto, Matching::On, Matching::Off]);
        let hand = (0usize..4, 4usize..8, prop::array::uniform4(-500.0..500.0f64), any::<bool>()).prop_map(
            |(frame, on, v, snap)| Hand {
                frame,
                on,
                pairs: vec![Pair { from: Point::new(v[0], v[1]), to: Point::new(v[2], v[3]) }],
                shift: [v[1], v[2]],
                turn: v[0] / 3.0,
                scale: 1.0 + v[3] / 1000.0,
                snap,
            },
        );
        let area =
            (0usize..9, any::<bool>(), prop::array::uniform6(0.0..900.0f64)).prop_map(|(on, fit, v)| Area {
                on,
                guide: if fit { Guide::Fit } else { Guide::Ignore },
                outline: v.chunks(2).map(|p| Point::new(p[0], p[1])).collect(),
            });
        let exposure = -5.0..5.0f32;
        (
            prop::collection::vec(any::<bool>(), 1..9),
            align,
            prop::option::of(0usize..9),
            matching,
            method,
            canvas,
            exposure,
            prop::option::of(hand),
            prop::collection::vec(area, 0..3),
        )
            .prop_map(
                |(used, align, reference, match_exposure, method, canvas, exposure, hand, areas)| Recipe {
                    version: VERSION,
                    used,
                    align,
                    reference,
                    match_exposure,
                    method,
                    canvas,
                    develop: Develop { exposure, ..Develop::default() },
                    settled: vec![Settled { bbox: Rect::new(3, 4, 5, 6), frame: reference, open: false }],
                    lifts: areas
                        .iter()
                        .map(|a| Lift {
                            soft: f64::from(exposure.abs()),
                            follow: a.guide == Guide::Fit,
                            seek: a.guide == Guide::Fit,
                            strength: 0.25,
                            ..Lift::new(
                                a.on,
                                a.outline.clone(),
                                reference.map_or(Source::Method(method), Source::Calm),
                            )
                        })
                        .collect(),
                    keeps: areas.iter().map(|a| Keep { on: a.on, outline: a.outline.clone() }).collect(),
                    areas,
                    hands: hand.into_iter().collect(),
                },
            )
    }

    #[test]
    fn a_recipe_of_the_first_version_is_still_read() {
        let text = r#"{"version":1,"used":[true,false],"align":"auto","reference":null,"match_exposure":false,
            "method":"median","canvas":"reference"}"#;
        let recipe: Recipe = serde_json::from_str(text).unwrap();
        let expected = Recipe {
            used: vec![true, false],
            match_exposure: Matching::Off,
            method: Method::Median,
            ..Recipe::new(2)
        };
        assert_eq!(recipe, expected);
    }

    #[test]
    fn what_makes_no_sense_is_told() {
        let hand =
            Hand { frame: 0, on: 1, pairs: vec![], shift: [0.0; 2], turn: 0.0, scale: 1.0, snap: false };
        let with = |hands: Vec<Hand>| Recipe { hands, ..Recipe::new(2) }.check(2);
        assert_eq!(with(vec![hand.clone()]), Ok(()));
        assert!(with(vec![hand.clone(), hand.clone()]).is_err());
        assert!(with(vec![Hand { on: 2, ..hand.clone() }]).is_err());
        assert!(with(vec![Hand { scale: 0.0, ..hand.clone() }]).is_err());
        assert!(with(vec![Hand { turn: f64::NAN, ..hand }]).is_err());
    }

    #[test]
    fn pairs_tell_as_much_as_they_can() {
        let truth = Homography::new([1.1, -0.2, 30.0, 0.2, 1.1, -9.0, 0.0, 0.0, 1.0]);
        let pair = |x: f64, y: f64| Pair { from: Point::new(x, y), to: truth.apply(Point::new(x, y)) };
        let mut hand =
            Hand { frame: 0, on: 1, pairs: vec![], shift: [0.0; 2], turn: 0.0, scale: 1.0, snap: false };
        assert_eq!(hand.by_pairs(), None);
        hand.pairs = vec![pair(10.0, 10.0)];
        let shift = hand.by_pairs().unwrap();
        assert!(shift.apply(hand.pairs[0].from).distance(hand.pairs[0].to) < 1e-9);
        assert_eq!(shift.scale_at(Point::default()), 1.0);
        hand.pairs.push(pair(300.0, 100.0));
        assert!(hand.by_pairs().unwrap().grid_distance(&truth, Size::new(300, 200)) < 1e-9);
        // Twice the same place says no more than once.
        hand.pairs = vec![pair(10.0, 10.0); 2];
        assert!(hand.by_pairs().is_some());
    }

    proptest! {
        #[test]
        fn a_recipe_survives_the_round_trip(recipe in any_recipe()) {
            let text = serde_json::to_string(&recipe).unwrap();
            prop_assert_eq!(serde_json::from_str::<Recipe>(&text).unwrap(), recipe);
        }

        #[test]
        fn what_is_left_when_a_frame_leaves_still_makes_sense(recipe in any_recipe(), gone in 0usize..9) {
            let frames = 9;
            let whole = Recipe { used: vec![true; frames], ..recipe };
            prop_assume!(whole.check(frames).is_ok());
            let rest = whole.without(gone);
            prop_assert_eq!(rest.used.len(), frames - 1);
            prop_assert_eq!(rest.check(frames - 1), Ok(()));
        }
    }
}
