//! Patches: areas of the plate that come from one frame, or by another method than the rest.
//!
//! A patch is drawn on a frame, as an outline, and stays with what it was drawn around when another frame becomes the
//! reference. It is laid over the combined picture with a soft border, later ones over earlier ones; outside its
//! [`mask`] no pixel changes. Its border ([`border`]) and its tone along it ([`rim`]) are fitted to what
//! is around, as is the [`light`] of a lamp that only one side was lit by.
//!
//! ```
//! use evanu_core::geometry::Point;
//! use evanu_core::patch::{Patch, Source, middle};
//!
//! // A square around somebody in frame 0, to be covered with what frame 2 shows.
//! let outline = [(10.0, 10.0), (30.0, 10.0), (30.0, 50.0), (10.0, 50.0)].map(|(x, y)| Point::new(x, y)).to_vec();
//! let patch = Patch::new(0, outline, Source::Frame(2));
//! assert_eq!(middle(&patch.outline), Point::new(20.0, 30.0));
//! assert!(patch.tone && patch.optimal_seam && patch.strength == 1.0);
//! ```

mod border;
mod exclusions;
mod extent;
mod light;
pub(crate) mod locate;
pub mod mask;
mod rim;
pub mod seams;
mod spec;

pub use extent::extent;
pub(crate) use spec::drawable;
pub use spec::{FitInputs, Patch, PatchTransform, Protected, Source, middle};

use crate::combine::consensus::{DIFFER, Field, LabelMap, LayerData};
use crate::geometry::{Homography, Point, ends};
use crate::noise::NoiseModel;
use crate::pixel::distance::distances_within;
pub use border::ChangedObject;
use light::Light;
use mask::{Mask, Sheet};
use std::sync::Arc;

/// Pixels around an outline that fitting a patch looks at, where its border is sought.
pub fn margin(outline: &[Point], feather: f64) -> f64 {
    let (low, high) = ends(outline);
    border::margin((high.x - low.x).max(high.y - low.y)).max(2.0 * feather + 2.0)
}

/// A patch fitted into the plate around it.
#[derive(Debug, Clone, PartialEq)]
pub struct FittedPatch {
    /// Where it lies, and how strongly.
    pub mask: Mask,
    /// What its light is multiplied by, by channel.
    pub tone: Option<[Sheet; 3]>,
    /// From places of the plate to where they are sampled, for one with a geometry of its own.
    pub back: Option<Homography>,
    /// Which frames show the same as its own, where they are averaged.
    pub together: Option<Arc<LabelMap>>,
    /// What was noticed about it; nothing where the border was not sought.
    pub noticed: Noticed,
}

impl FittedPatch {
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

/// What a patch does.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Noticed {
    /// What it brings in and takes away, largest first; pixels of the mask's picture.
    pub things: Vec<ChangedObject>,
    /// Whether something else differs too, of which no edge tells on which side it is.
    pub undecided: bool,
    /// Share of its border that cuts through something or is the end of its picture, 0..=1.
    pub torn: f32,
    /// Share of it that an area cuts off which is to be kept, 0..=1.
    pub kept: f32,
}

/// A patch ready to be laid.
#[derive(Debug, Clone, PartialEq)]
pub struct PlacedPatch {
    /// Its place in the recipe's list.
    pub index: usize,
    /// The same for patches of the same shape over the same others.
    pub key: u64,
    /// Where its pixels come from.
    pub source: Source,
    /// As in [`Patch`].
    pub strength: f32,
    /// Where, and in which tone.
    pub fit: Arc<FittedPatch>,
}

impl PlacedPatch {
    /// A name for what it does to what lies below it: by its shape, what it lies over, and how much of it shows.
    pub fn name(&self) -> String {
        format!("{:x}.{:x}", self.key, self.strength.to_bits())
    }
}

/// The plate and a patch's source over the patch's surroundings.
pub struct Sides {
    /// Of the plate.
    pub plate: LayerData,
    /// Of the source.
    pub source: LayerData,
}

/// Pixels around what was drawn that tell how bright the source is beside the plate.
const AROUND: f32 = 20.0;

/// Fits a patch, drawn as a hard-edged mask, into the plate.
pub fn fit(
    patch: &Patch,
    mut mask: Mask,
    back: Option<Homography>,
    sides: Sides,
    noise: &NoiseModel,
) -> FittedPatch {
    let grid = mask.grid();
    let (rect, up) = (grid.rect, grid.shrink());
    let Sides { plate, source } = sides;
    let drawn: Vec<bool> = mask.weights().iter().map(|w| *w >= 0.5).collect();
    let w = rect.width as usize;
    let matched = patch.tone && matches!(patch.source, Source::Frame(_));
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
    let (taken, widths, noticed) = if patch.optimal_seam {
        let feather = (patch.feather > 0.0).then_some(patch.feather as f32 / up);
        let (found, widths) = rayon::join(
            || border::optimal_seam(&ground, patch.exclude_introduced),
            || border::widths(&field, &chi, feather, up),
        );
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
            rim::membrane((&plate, &source), (&distance, &clear), tone, &grid)
        },
    );
    if let Some(weights) = weights {
        mask.set(weights);
    }
    let tone = match light {
        Some(light) => Some(light.with(tone, &grid)),
        None => tone,
    };
    FittedPatch { mask, tone, back, together: None, noticed }
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
            let shown = |brought| ChangedObject { pixels: vec![0], brought };
            let things = [vec![shown(true); brought], vec![shown(false); takes]].concat();
            let noticed = Noticed { things, undecided, torn, ..Noticed::default() };
            FittedPatch { mask: mask.clone(), tone: None, back: None, together: None, noticed }
        };
        let best_first = [
            fitted(0, 2, false, 0.0),
            fitted(0, 1, true, 0.1),
            fitted(1, 3, false, 0.0),
            fitted(0, 0, true, 0.0),
            fitted(2, 0, false, 0.0),
            fitted(0, 0, false, 0.0),
        ];
        let order = |a: &FittedPatch, b: &FittedPatch| {
            let (a, b) = (a.doubtful(), b.doubtful());
            a.0.cmp(&b.0).then(a.1.total_cmp(&b.1))
        };
        assert!(best_first.windows(2).all(|pair| order(&pair[0], &pair[1]).is_lt()));
    }
}
