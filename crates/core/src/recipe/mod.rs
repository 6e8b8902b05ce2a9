//! The decisions of a set: an ordered, versioned, serialisable value from which the plate follows.
//!
//! A recipe never holds derived numbers. Every change makes a new recipe, and undo moves along the tree of them. Frames are
//! named by `F`: a [`FrameId`] in what is stored and sent, so that a frame may join, leave or change its place and no history
//! has to be rewritten; an index among the frames at hand in what is computed ([`Recipe::map_frames`] leads from one to the
//! other). What is derived from which fields is in [`inputs`], older versions are in [`migrate`].
//!
//! ```
//! use evanu_core::recipe::{Canvas, FrameId, Recipe};
//!
//! let recipe = Recipe { reference: Some(FrameId(7)), canvas: Canvas::Common, ..Recipe::new() };
//! assert_eq!(recipe.check(&[FrameId(3), FrameId(7)]), Ok(()));
//! // Frames 3 and 7 are at hand, in this order: the reference is the second.
//! assert_eq!(recipe.at_hand(&[FrameId(3), FrameId(7)]).reference, Some(1));
//! // Frame 7 has left the set: nothing names it any more.
//! assert_eq!(recipe.at_hand(&[FrameId(3)]).reference, None);
//! ```

mod clip;
pub mod inputs;
mod manual;
pub mod migrate;
mod options;

pub use crate::clip::Stroke;
use crate::combine::Method;
use crate::develop::Develop;
use crate::geometry::Rect;
use crate::patch::drawable;
pub use crate::patch::{Patch, Protected, Source};
pub use crate::register::{Area, Guide};
pub use crate::touch::{Act, Only, Part, Shown, Touch};
pub use clip::{ClipRepair, Held};
pub use inputs::Inputs;
pub use manual::{ManualAlignment, Pair};
pub use migrate::RecipeError;
pub use options::{Align, Canvas, Matching};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Patches that a recipe holds at most.
pub const MOST_PATCHES: usize = 1000;

/// Touches that a recipe holds at most.
pub const MOST_TOUCHES: usize = 500;

/// Corners that all loops of a recipe may have together.
const CORNERS: usize = 100_000;
/// Bytes that a recipe within its bounds takes as JSON at most.
pub const MOST_BYTES: usize = 8 << 20;

/// The identity of a frame in its set, which it keeps as long as the set lives.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FrameId(pub i64);

/// How its owner answered a doubt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = Settled))]
pub struct Settled<F = usize> {
    /// The doubt's place, in pixels of the reference.
    pub bbox: Rect,
    /// The frame that is right there; `None` accepts what was proposed.
    #[cfg_attr(feature = "schema", schema(required = true, value_type = Option<FrameId>))]
    pub frame: Option<F>,
    /// It is asked again, though the evidence settles it.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub open: bool,
}

/// The version of the shape that this program writes.
pub const VERSION: u32 = 4;

/// All decisions of a set. Stored ones are read by [`migrate::read`], which knows earlier versions.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, bound(deserialize = "F: Deserialize<'de> + Ord"))]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = Recipe))]
pub struct Recipe<F = usize> {
    /// Version of this shape.
    pub version: u32,
    /// Frames that their owner set aside.
    pub excluded: BTreeSet<F>,
    /// Allowed transforms.
    pub align: Align,
    /// The chosen reference frame; `None` lets the program propose it.
    #[cfg_attr(feature = "schema", schema(required = true, value_type = Option<FrameId>))]
    pub reference: Option<F>,
    /// Whether frames are matched in exposure and colour.
    pub match_exposure: Matching,
    /// The one development of all frames.
    pub develop: Develop,
    /// Areas that guide the alignment.
    pub areas: Vec<Area<F>>,
    /// Frames laid by hand; at most one entry a frame.
    pub manual_alignments: Vec<ManualAlignment<F>>,
    /// Doubts that were settled by hand.
    pub settled: Vec<Settled<F>>,
    /// Areas that come from one frame or by another method, later ones over earlier ones.
    pub patches: Vec<Patch<F>>,
    /// Areas that are retouched, above all patches, later ones over earlier ones.
    pub touches: Vec<Touch<F>>,
    /// Areas that no patch changes.
    pub protected: Vec<Protected<F>>,
    /// How frames become one.
    pub method: Method,
    /// What the plate covers.
    pub canvas: Canvas,
    /// What is done in the clip that the frames come from.
    pub clip: ClipRepair,
}

impl<F> Default for Recipe<F> {
    fn default() -> Self {
        Self::new()
    }
}

impl<F> Recipe<F> {
    /// The recipe that a new set starts with.
    pub fn new() -> Self {
        Self {
            version: VERSION,
            excluded: BTreeSet::new(),
            align: Align::Auto,
            reference: None,
            match_exposure: Matching::Auto,
            develop: Develop::default(),
            areas: Vec::new(),
            manual_alignments: Vec::new(),
            settled: Vec::new(),
            patches: Vec::new(),
            touches: Vec::new(),
            protected: Vec::new(),
            method: Method::Consensus,
            canvas: Canvas::Reference,
            clip: ClipRepair::default(),
        }
    }
}

impl<F: Copy + Ord> Recipe<F> {
    /// Whether every number in it lies in its range and every frame that it names is one of these; else what is wrong, in words.
    ///
    /// # Errors
    /// With the reason.
    pub fn check(&self, frames: &[F]) -> Result<(), String> {
        let known = |f: F| frames.contains(&f);
        if self.reference.is_some_and(|r| !known(r)) {
            return Err("there is no such reference frame".into());
        }
        if !self.excluded.iter().all(|&f| known(f)) {
            return Err("only frames of this set are set aside".into());
        }
        if !self.develop.is_valid() {
            return Err(
                "the development is out of range: exposure goes from -5 to 5 stops, the rest from -1 to 1"
                    .into(),
            );
        }
        let drawn = |a: &Area<F>| known(a.on) && drawable(&a.outline);
        if self.areas.len() > 50 || !self.areas.iter().all(drawn) {
            return Err("an area has three to a thousand corners, on a frame of this set, and there are at most fifty".into());
        }
        let single = |h: &ManualAlignment<F>| {
            self.manual_alignments.iter().filter(|o| o.frame == h.frame).count() == 1
        };
        let laid = |h: &ManualAlignment<F>| h.is_valid() && known(h.frame) && known(h.on) && single(h);
        if !self.manual_alignments.iter().all(laid) {
            return Err("a frame is laid by hand over another one, by numbers within reason".into());
        }
        if self.settled.len() > 10_000 || self.settled.iter().any(|s| s.frame.is_some_and(|f| !known(f))) {
            return Err("a doubt is settled by a frame of this set".into());
        }
        if self.patches.len() > MOST_PATCHES
            || !self.patches.iter().all(|p| p.is_valid() && p.frames().all(known))
        {
            return Err("a lift has three to a thousand corners and comes from a frame of this set or by a method; its border fades over at most 5000 pixels and its strength goes from 0 to 1".into());
        }
        if self.touches.len() > MOST_TOUCHES
            || !self.touches.iter().all(|t| t.is_valid() && t.frames().all(known))
        {
            return Err(format!(
                "a touch has three to a thousand corners on a frame of this set, its border fades over at most 500 pixels, its strength goes from 0 to 1, its plane is seen from one side, and there are at most {MOST_TOUCHES}"
            ));
        }
        if self.protected.len() > 100 || !self.protected.iter().all(|k| k.is_valid() && known(k.on)) {
            return Err("an area to keep has three to a thousand corners, on a frame of this set, and there are at most a hundred".into());
        }
        if !self.clip.is_valid() {
            return Err("what is done in a clip has loops of three to a thousand corners, times that follow each other, and brushes of half a pixel to 2000 pixels".into());
        }
        if self.corners() > CORNERS {
            return Err(format!("all loops together have at most {CORNERS} corners; draw them more simply"));
        }
        Ok(())
    }

    /// Corners of all that is drawn.
    fn corners(&self) -> usize {
        let of_patch = |p: &Patch<F>| p.outline.len() + p.exclusions.iter().map(Vec::len).sum::<usize>();
        self.patches.iter().map(of_patch).sum::<usize>()
            + self.touches.iter().map(Touch::corners).sum::<usize>()
            + self.protected.iter().map(|kept| kept.outline.len()).sum::<usize>()
            + self.areas.iter().map(|area| area.outline.len()).sum::<usize>()
            + self.clip.corners()
    }

    /// The same recipe with its frames named otherwise; what rests on a frame that has no other name is left out.
    pub fn map_frames<G: Ord>(&self, name: impl Fn(F) -> Option<G>) -> Recipe<G> {
        // Taken apart whole, so that a new field cannot be forgotten here.
        let Self {
            version,
            excluded,
            align,
            reference,
            match_exposure,
            develop,
            areas,
            manual_alignments,
            settled,
            patches,
            touches,
            protected,
            method,
            canvas,
            clip,
        } = self;
        let name = &name;
        Recipe {
            version: *version,
            excluded: excluded.iter().filter_map(|&f| name(f)).collect(),
            align: *align,
            reference: reference.and_then(name),
            match_exposure: *match_exposure,
            develop: *develop,
            areas: areas
                .iter()
                .filter_map(|a| Some(Area { on: name(a.on)?, guide: a.guide, outline: a.outline.clone() }))
                .collect(),
            manual_alignments: manual_alignments.iter().filter_map(|h| h.map_frames(name)).collect(),
            settled: settled
                .iter()
                .filter_map(|s| {
                    let frame = match s.frame {
                        Some(f) => Some(name(f)?),
                        None => None,
                    };
                    Some(Settled { bbox: s.bbox, frame, open: s.open })
                })
                .collect(),
            patches: patches.iter().filter_map(|p| p.map_frames(name)).collect(),
            touches: touches.iter().filter_map(|t| t.map_frames(name)).collect(),
            protected: protected
                .iter()
                .filter_map(|k| Some(Protected { on: name(k.on)?, outline: k.outline.clone() }))
                .collect(),
            method: *method,
            canvas: *canvas,
            clip: clip.clone(),
        }
    }

    /// The recipe by the indices of these frames, for computing; what rests on a frame that is not among them is left out.
    pub fn at_hand(&self, frames: &[F]) -> Recipe {
        self.map_frames(|f| frames.iter().position(|&g| g == f))
    }

    /// The recipe without what rests on frames that are not among these.
    pub fn of_frames(&self, frames: &[F]) -> Self {
        self.map_frames(|f| Some(f).filter(|f| frames.contains(f)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Point;
    use proptest::prelude::*;

    #[test]
    fn all_loops_together_are_bounded_and_what_is_within_can_be_sent() {
        let frames: Vec<FrameId> = (0..3).map(FrameId).collect();
        // Numbers that take as many digits as any.
        let corner = |k: usize| Point::new(-(k as f64) * 31.0 - 1.0 / 3.0, (k as f64) * 17.0 + 2.0 / 3.0);
        let lift = || Patch::new(FrameId(0), (0..1000).map(corner).collect(), Source::Frame(FrameId(1)));
        let with = |lifts: usize| Recipe { patches: vec![lift(); lifts], ..Recipe::new() };
        let settled =
            Settled { bbox: Rect::new(60_000, 60_000, 10_000, 10_000), frame: Some(FrameId(2)), open: true };
        let full = Recipe { settled: vec![settled; 10_000], ..with(100) };
        assert_eq!(full.check(&frames), Ok(()));
        let bytes = serde_json::to_string(&full).unwrap().len();
        assert!(bytes < MOST_BYTES, "{bytes}");
        assert!(with(101).check(&frames).unwrap_err().contains("at most 100000 corners"));
    }

    fn any_recipe() -> impl Strategy<Value = Recipe<FrameId>> {
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
        let manual = (0i64..4, 4i64..8, prop::array::uniform4(-500.0..500.0f64), any::<bool>()).prop_map(
            |(frame, on, v, snap)| ManualAlignment {
                frame: FrameId(frame),
                on: FrameId(on),
                pairs: vec![Pair { from: Point::new(v[0], v[1]), to: Point::new(v[2], v[3]) }],
                shift: [v[1], v[2]],
                turn: v[0] / 3.0,
                scale: 1.0 + v[3] / 1000.0,
                snap,
            },
        );
        let area =
            (0i64..9, any::<bool>(), prop::array::uniform6(0.0..900.0f64)).prop_map(|(on, fit, v)| Area {
                on: FrameId(on),
                guide: if fit { Guide::Fit } else { Guide::Ignore },
                outline: v.chunks(2).map(|p| Point::new(p[0], p[1])).collect(),
            });
        let exposure = -5.0..5.0f32;
        let frame = || (0i64..9).prop_map(FrameId);
        (
            prop::collection::btree_set(frame(), 0..5),
            align,
            prop::option::of(frame()),
            matching,
            method,
            canvas,
            exposure,
            prop::option::of(manual),
            prop::collection::vec(area, 0..3),
        )
            .prop_map(
                |(excluded, align, reference, match_exposure, method, canvas, exposure, manual, areas)| {
                    Recipe {
                        version: VERSION,
                        excluded,
                        align,
                        reference,
                        match_exposure,
                        method,
                        canvas,
                        develop: Develop { exposure, ..Develop::default() },
                        settled: vec![Settled { bbox: Rect::new(3, 4, 5, 6), frame: reference, open: false }],
                        patches: areas
                            .iter()
                            .map(|a| Patch {
                                feather: f64::from(exposure.abs()),
                                snap_to_edges: a.guide == Guide::Fit,
                                optimal_seam: a.guide == Guide::Fit,
                                strength: 0.25,
                                ..Patch::new(
                                    a.on,
                                    a.outline.clone(),
                                    reference.map_or(Source::Method(method), Source::HighlightSuppressed),
                                )
                            })
                            .collect(),
                        touches: areas
                            .iter()
                            .map(|a| Touch::new(a.on, a.outline.clone(), Act::Invent { seed: 7, variant: 2 }))
                            .collect(),
                        protected: areas
                            .iter()
                            .map(|a| Protected { on: a.on, outline: a.outline.clone() })
                            .collect(),
                        clip: ClipRepair {
                            held: areas
                                .iter()
                                .map(|a| Held { outline: a.outline.clone(), later: Some(-1.5), still: None })
                                .collect(),
                            from: Some(0.5),
                            ..ClipRepair::default()
                        },
                        areas,
                        manual_alignments: manual.into_iter().collect(),
                    }
                },
            )
    }

    #[test]
    fn what_makes_no_sense_is_told() {
        let frames = [FrameId(4), FrameId(9)];
        let manual = ManualAlignment {
            frame: FrameId(4),
            on: FrameId(9),
            pairs: vec![],
            shift: [0.0; 2],
            turn: 0.0,
            scale: 1.0,
            snap: false,
        };
        let with = |manual_alignments: Vec<_>| Recipe { manual_alignments, ..Recipe::new() }.check(&frames);
        assert_eq!(with(vec![manual.clone()]), Ok(()));
        assert!(with(vec![manual.clone(), manual.clone()]).is_err());
        assert!(with(vec![ManualAlignment { on: FrameId(2), ..manual.clone() }]).is_err());
        assert!(with(vec![ManualAlignment { scale: 0.0, ..manual.clone() }]).is_err());
        assert!(with(vec![ManualAlignment { turn: f64::NAN, ..manual }]).is_err());
    }

    proptest! {
        #[test]
        fn a_recipe_survives_the_round_trip(recipe in any_recipe()) {
            let text = serde_json::to_string(&recipe).unwrap();
            prop_assert_eq!(migrate::read(&text, &[]).unwrap(), recipe);
        }

        #[test]
        fn what_is_left_without_a_frame_makes_sense_and_comes_back_with_it(recipe in any_recipe(), gone in 0i64..9) {
            let all: Vec<FrameId> = (0..9).map(FrameId).collect();
            prop_assume!(recipe.check(&all).is_ok());
            let rest: Vec<FrameId> = all.iter().copied().filter(|f| f.0 != gone).collect();
            prop_assert_eq!(recipe.of_frames(&rest).check(&rest), Ok(()));
            prop_assert_eq!(&recipe.of_frames(&all), &recipe);
            // By index it is the same recipe, in whatever order the frames are at hand.
            let turned: Vec<FrameId> = rest.iter().rev().copied().collect();
            let back = recipe.at_hand(&turned).map_frames(|i| turned.get(i).copied());
            prop_assert_eq!(back, recipe.of_frames(&rest));
        }
    }
}
