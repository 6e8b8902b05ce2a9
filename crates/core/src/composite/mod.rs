//! Lifts: areas of the plate that come from one frame, or by another method than the rest.
//!
//! A lift is drawn on a frame, as an outline, and stays with what it was drawn around when another frame becomes the
//! reference. It is laid over the combined picture with a soft border, later ones over earlier ones; outside its
//! [`mask`] no pixel changes. Its border ([`border`]) and its tone along it ([`rim`]) are fitted to what
//! is around, as is the [`light`] of a lamp that only one side was lit by.

mod border;
mod extent;
mod less;
mod light;
pub mod mask;
pub mod origin;
pub(crate) mod place;
mod rim;
pub mod seams;

pub use extent::extent;

use crate::combine::Method;
use crate::combine::consensus::{Choice, DIFFER, Field, LayerData};
use crate::geometry::{Homography, Point, ends};
use crate::noise::NoiseModel;
use crate::pixel::distance::distances_within;
pub use border::Shown;
use light::Light;
use mask::{Mask, Sheet};
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

/// An area that no lift changes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Keep {
    /// Index of the frame it was drawn on, the reference then.
    pub on: usize,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<Point>,
}

impl Keep {
    /// Whether its numbers make sense for this many frames.
    pub fn is_valid(&self, frames: usize) -> bool {
        self.on < frames && drawable(&self.outline)
    }
}

/// Whether an outline has three to a thousand corners within reason.
pub(crate) fn drawable(outline: &[Point]) -> bool {
    let point = |p: &Point| p.x.is_finite() && p.y.is_finite() && p.x.abs() < 1e6 && p.y.abs() < 1e6;
    (3..=1000).contains(&outline.len()) && outline.iter().all(point)
}

/// A geometry of its own: what a lift shows is mirrored, enlarged and turned about its middle, then moved.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Place {
    /// To the right and down, in pixels of the reference.
    pub shift: [f64; 2],
    /// In degrees clockwise.
    pub turn: f64,
    /// Enlarged.
    pub scale: f64,
    /// Left for right.
    #[serde(default)]
    pub mirror: bool,
}

impl Place {
    /// Where it was.
    pub const UNMOVED: Self = Self { shift: [0.0; 2], turn: 0.0, scale: 1.0, mirror: false };

    fn is_valid(&self) -> bool {
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
}

/// The middle of the box around an outline.
pub fn middle(outline: &[Point]) -> Point {
    let (low, high) = ends(outline);
    Point::new((low.x + high.x) / 2.0, (low.y + high.y) / 2.0)
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
    /// Whether the border moves to where both sides show the same; goes before `follow`. It then fades as the content asks
    /// for, unless `soft` says how far.
    #[serde(default)]
    pub seek: bool,
    /// Whether what the frame brings in beside what it takes away is left out.
    #[serde(default)]
    pub trim: bool,
    /// Whether its tone is matched along the border.
    #[serde(default)]
    pub tone: bool,
    /// Whether its grain is that of what is around: where other frames show the same as its own, all of them are averaged.
    #[serde(default)]
    pub grain: bool,
    /// Where what it shows is moved to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<Place>,
    /// Parts that were given back: closed outlines, as the lift's own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub less: Vec<Vec<Point>>,
    /// How much of it shows, 0..=1; for [`Source::Calm`], how small a highlight is taken off.
    #[serde(default = "whole")]
    pub strength: f32,
    /// Kept in the list without being laid.
    #[serde(default)]
    pub off: bool,
}

/// Parts that can be given back of a lift.
const MOST_LESS: usize = 200;

fn whole() -> f32 {
    1.0
}

impl Lift {
    /// Whether its numbers make sense for this many frames.
    pub fn is_valid(&self, frames: usize) -> bool {
        self.on < frames
            && self.source.frame().is_none_or(|i| i < frames)
            && drawable(&self.outline)
            && self.less.len() <= MOST_LESS
            && self.less.iter().all(|o| drawable(o))
            && (0.0..=5000.0).contains(&self.soft)
            && (0.0..=1.0).contains(&self.strength)
            && self.place.is_none_or(|p| p.is_valid() && self.source.frame().is_some())
    }
}

impl Lift {
    /// Whether its fit depends on the same as another's: on all but strength and being off.
    pub fn is_shaped_as(&self, other: &Self) -> bool {
        // Taken apart whole, so that what a lift may have one day is not forgotten here.
        let Self {
            on,
            outline,
            source,
            soft,
            follow,
            seek,
            trim,
            tone,
            grain,
            place,
            less,
            strength: _,
            off: _,
        } = self;
        (on, source, soft, place) == (&other.on, &other.source, &other.soft, &other.place)
            && (follow, seek, trim) == (&other.follow, &other.seek, &other.trim)
            && (tone, grain) == (&other.tone, &other.grain)
            && (outline, less) == (&other.outline, &other.less)
    }

    /// Everything that its fit depends on, as text.
    pub fn shape(&self) -> String {
        let Self {
            on,
            outline,
            source,
            soft,
            follow,
            seek,
            trim,
            tone,
            grain,
            place,
            less,
            strength: _,
            off: _,
        } = self;
        format!("{on} {outline:?} {source:?} {soft} {follow} {seek} {trim} {tone} {grain} {place:?} {less:?}")
    }

    /// A place taken from somewhere as it is done unless told otherwise: the border found, the tone matched.
    pub fn new(on: usize, outline: Vec<Point>, source: Source) -> Self {
        Self {
            on,
            outline,
            source,
            soft: 0.0,
            follow: false,
            seek: true,
            trim: false,
            tone: true,
            grain: true,
            place: None,
            less: Vec::new(),
            strength: 1.0,
            off: false,
        }
    }
}

/// Pixels around an outline that fitting a lift looks at, where its border is sought.
pub fn margin(outline: &[Point], soft: f64) -> f64 {
    let (low, high) = ends(outline);
    border::margin((high.x - low.x).max(high.y - low.y)).max(2.0 * soft + 2.0)
}

/// A lift fitted into the plate around it.
#[derive(Debug, Clone, PartialEq)]
pub struct Fitted {
    /// Where it lies, and how strongly.
    pub mask: Mask,
    /// What its light is multiplied by, by channel.
    pub tone: Option<[Sheet; 3]>,
    /// From places of the plate to where they are sampled, for one with a geometry of its own.
    pub back: Option<Homography>,
    /// Which frames show the same as its own, where they are averaged.
    pub together: Option<Arc<Choice>>,
    /// What was noticed about it; nothing where the border was not sought.
    pub noticed: Noticed,
}

impl Fitted {
    /// How little it promises to leave the place clear, for comparing frames to take it from: by what it brings and takes,
    /// then by how much its border cuts through.
    pub fn doubtful(&self) -> (u8, f32) {
        let brought = self.noticed.things.iter().filter(|t| t.brought).count();
        let class = match (brought, self.noticed.things.len() - brought) {
            (0, 0) if self.noticed.undecided => 2,
            (0, 0) => 4,
            (0, _) => 0,
            (_, 0) => 3,
            _ => 1,
        };
        (class, self.noticed.torn)
    }
}

/// What a lift does.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Noticed {
    /// What it brings in and takes away, largest first; pixels of the mask's picture.
    pub things: Vec<Shown>,
    /// Whether something else differs too, of which no edge tells on which side it is.
    pub undecided: bool,
    /// Share of its border that cuts through something or is the end of its picture, 0..=1.
    pub torn: f32,
    /// Share of it that an area cuts off which is to be kept, 0..=1.
    pub kept: f32,
}

/// A lift ready to be laid.
#[derive(Debug, Clone, PartialEq)]
pub struct Laid {
    /// Its place in the recipe's list.
    pub index: usize,
    /// The same for lifts of the same shape over the same others.
    pub key: u64,
    /// Where its pixels come from.
    pub source: Source,
    /// As in [`Lift`].
    pub strength: f32,
    /// Where, and in which tone.
    pub fit: Arc<Fitted>,
}

/// The plate and a lift's source over the lift's surroundings.
pub struct Sides {
    /// Of the plate.
    pub plate: LayerData,
    /// Of the source.
    pub source: LayerData,
}

/// Pixels around what was drawn that tell how bright the source is beside the plate.
const AROUND: f32 = 20.0;

/// Fits a lift, drawn as a hard-edged mask, into the plate.
pub fn fit(
    lift: &Lift,
    mut mask: Mask,
    back: Option<Homography>,
    sides: Sides,
    noise: &NoiseModel,
) -> Fitted {
    let (rect, level) = mask.guide();
    let up = (1u32 << level) as f32;
    let Sides { plate, source } = sides;
    let drawn: Vec<bool> = mask.weights().iter().map(|w| *w >= 0.5).collect();
    let w = rect.width as usize;
    let matched = lift.tone && matches!(lift.source, Source::Frame(_));
    let (outside, light) = rayon::join(
        || distances_within(&drawn, w, border::OUTSIDE),
        || if matched { Light::find(&plate, &source, rect.size()) } else { None },
    );
    let source = match &light {
        Some(light) => light.lit(&source, rect.size()),
        None => source,
    };
    let tone = if matched && light.is_none() {
        rim::level(&plate, &source, |p| (1.0..=AROUND).contains(&outside[p]) && source.reaches(p, w))
    } else {
        [1.0; 3]
    };
    let layers = vec![plate.clone(), source.times(tone)];
    let field = Field::new(rect.size(), layers, noise, up);
    let chi = border::differences(&field);
    let differs: Vec<bool> = chi.iter().map(|v| *v > DIFFER).collect();
    let clear = distances_within(&differs, w, border::CLEAR);
    let ground = border::Ground { field: &field, chi: &chi, clear: &clear, drawn: &drawn, outside: &outside };
    let (taken, widths, noticed) = if lift.seek {
        let soft = (lift.soft > 0.0).then_some(lift.soft as f32 / up);
        let (found, widths) =
            rayon::join(|| border::seek(&ground, lift.trim), || border::widths(&field, &chi, soft, up));
        let border::Border { things, undecided, torn, .. } = found;
        let noticed = Noticed { things, undecided, torn, ..Noticed::default() };
        (found.taken, Some(widths), noticed)
    } else {
        (drawn, None, Noticed::default())
    };
    let (weights, tone) = rayon::join(
        || widths.map(|widths| border::fade(&taken, w, &widths)),
        || {
            let distance = matched.then(|| distances_within(&rim_of(&taken, w), w, rim::RIM as usize))?;
            rim::membrane((&plate, &source), (&distance, &clear), tone, (rect, level))
        },
    );
    if let Some(weights) = weights {
        mask.set(weights);
    }
    let tone = match light {
        Some(light) => Some(light.with(tone, (rect, level))),
        None => tone,
    };
    Fitted { mask, tone, back, together: None, noticed }
}

/// Pixels that have one of another kind beside them.
fn rim_of(taken: &[bool], w: usize) -> Vec<bool> {
    let differs = |p: usize, q: usize| taken.get(q).is_some_and(|t| *t != taken[p]);
    (0..taken.len())
        .map(|p| {
            let x = p % w;
            x > 0 && differs(p, p - 1)
                || x + 1 < w && differs(p, p + 1)
                || differs(p, p + w)
                || p >= w && differs(p, p - w)
        })
        .collect()
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
    use crate::geometry::Size;

    #[test]
    fn highlights_return_as_the_strength_falls() {
        assert_eq!(calmed(0.02, 1.0), 0.0, "noise is no highlight");
        assert_eq!(calmed(1.0, 1.0), 1.0);
        assert_eq!(calmed(1.0, 0.0), 0.0);
        let threshold = returns(1.0);
        assert!(calmed(1.0, threshold - 0.02) < 0.01 && calmed(1.0, threshold + 0.2) > 0.5);
    }

    #[test]
    fn the_frame_that_most_surely_leaves_a_place_clear_comes_first() {
        let square = [(4.0, 4.0), (20.0, 4.0), (20.0, 20.0), (4.0, 20.0)].map(|(x, y)| Point::new(x, y));
        let mask = Mask::drawn(&square, 0.0, 0.0, Size::new(40, 30)).expect("it lies inside");
        let fitted = |brought: usize, takes: usize, undecided: bool, torn: f32| {
            let shown = |brought| Shown { pixels: vec![0], brought };
            let things = [vec![shown(true); brought], vec![shown(false); takes]].concat();
            let noticed = Noticed { things, undecided, torn, ..Noticed::default() };
            Fitted { mask: mask.clone(), tone: None, back: None, together: None, noticed }
        };
        let best_first = [
            fitted(0, 2, false, 0.0),
            fitted(0, 1, true, 0.1),
            fitted(1, 3, false, 0.0),
            fitted(0, 0, true, 0.0),
            fitted(2, 0, false, 0.0),
            fitted(0, 0, false, 0.0),
        ];
        let order = |a: &Fitted, b: &Fitted| {
            let (a, b) = (a.doubtful(), b.doubtful());
            a.0.cmp(&b.0).then(a.1.total_cmp(&b.1))
        };
        assert!(best_first.windows(2).all(|pair| order(&pair[0], &pair[1]).is_lt()));
    }

    #[test]
    fn a_fit_depends_on_the_shape_and_not_on_how_strongly_it_is_laid() {
        let corners = [(1.0, 1.0), (9.0, 1.0), (5.0, 9.0)].map(|(x, y)| Point::new(x, y)).to_vec();
        let lift = Lift::new(0, corners.clone(), Source::Frame(2));
        assert!(lift.is_shaped_as(&Lift { strength: 0.3, off: true, ..lift.clone() }));
        let place = Some(Place { turn: 1.0, ..Place::UNMOVED });
        for other in [
            Lift { on: 1, ..lift.clone() },
            Lift { outline: vec![corners[1], corners[2], corners[0]], ..lift.clone() },
            Lift { source: Source::Calm(2), ..lift.clone() },
            Lift { soft: 2.0, ..lift.clone() },
            Lift { follow: true, ..lift.clone() },
            Lift { seek: false, ..lift.clone() },
            Lift { trim: true, ..lift.clone() },
            Lift { tone: false, ..lift.clone() },
            Lift { grain: false, ..lift.clone() },
            Lift { place, ..lift.clone() },
            Lift { less: vec![corners.clone()], ..lift.clone() },
        ] {
            assert!(!lift.is_shaped_as(&other), "{other:?}");
            assert_ne!(lift.shape(), other.shape());
        }
    }
}
