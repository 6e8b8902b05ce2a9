//! Consensus: for every place, which of the frames show what is behind, decided for the whole picture at once.
//!
//! Background initialisation by labelling (Agarwala et al. 2004; Cohen 2005), on a reduced picture of the aligned
//! frames:
//!
//! 1. [`field`]: how far two frames differ at a place, in deviations of the set's noise.
//! 2. [`votes`]: whole colours vote for one another, moments and not files; what is lit counts more than its [`shade`].
//!    Where the camera moved, who shows things beside where the reference has them counts less ([`parallax`]).
//! 3. [`contour`]: where two frames differ, the one that holds the object has a step across the border of what
//!    differs, and the clear one has none. This settles pairs, and a minority against a majority.
//! 4. [`surroundings`]: what is behind goes on beside a changed place; while votes are few, this tells of every pixel by itself,
//!    and however many there are it tells what is lit from its [`shade`].
//!    Where the light was varied on purpose ([`varied`]), the darkest counts instead of all of these.
//! 5. [`labels`]: each place takes its label together with its neighbours, by alpha expansion (Boykov, Veksler and
//!    Zabih 2001), borders running where both frames agree (Kwatra et al. 2003).
//! 6. The plate is the average of all frames but those that surely show something else ([`inliers`]), by the noise of the place
//!    ([`local`]), so noise falls as far as it can.
//!
//! Everything is decided once and kept as a [`LabelMap`]; rendering only reads it. Frames are put in an order that
//! follows from what they show, so that the order they came in changes no byte.
//!
//! ```
//! use evanu_core::combine::consensus::LabelMap;
//! use evanu_core::geometry::{Grid, Point, Rect};
//!
//! // Two pixels that the second of three frames makes; the third shows the same in the first pixel only.
//! let grid = Grid::new(Rect::new(0, 0, 2, 1), 0);
//! let (frames, inliers) = (vec![0, 1, 2], vec![0b110, 0b010]);
//! let mut map = LabelMap { grid, frames, labels: vec![1, 1], words: 1, inliers, crowd: Vec::new() };
//! assert_eq!(map.pixel(Point::new(1.2, 0.0)), Some(1));
//! assert!(map.holds(0, 2) && !map.holds(1, 2));
//! // An answer takes a place from one frame alone.
//! map.take(&[0], 0);
//! assert!(map.holds(0, 0) && !map.holds(0, 1));
//! ```

mod contour;
mod costs;
mod field;
mod inliers;
mod labels;
mod local;
mod parallax;
mod shade;
mod surroundings;
mod varied;
mod votes;
mod whole;

pub(crate) use contour::{ChangedRegion, things};
use costs::Costs;
use field::Layer;
pub(crate) use field::{DIFFER, SAME};
pub use field::{Field, LayerData};
use parallax::Parallax;
use surroundings::Surroundings;
pub use varied::Lamps;
pub use whole::Before;

use crate::geometry::{Grid, Point};
use crate::noise::NoiseModel;
use crate::pixel::Plane;

/// Frames that one word of a [`LabelMap`] holds.
pub const WORD: usize = 64;

/// Which frames make the plate at each place of a reduced picture.
#[derive(Debug, Clone, PartialEq)]
pub struct LabelMap {
    /// The pixels of the reference that it covers, at a level.
    pub grid: Grid,
    /// The frames that took part: indices in the set.
    pub frames: Vec<usize>,
    /// For each pixel, the place in `frames` of the one that was chosen.
    pub labels: Vec<u16>,
    /// Words a pixel takes in `members`.
    pub words: usize,
    /// For each pixel, a bit for each of `frames` that shows the same as the chosen one.
    pub inliers: Vec<u64>,
    /// The opposite, in the same shape: where any frame shows something else, the one that differs most.
    pub crowd: Vec<u64>,
}

impl LabelMap {
    /// Whether the frame at place `k` of `frames` shows the plate at a pixel.
    pub fn holds(&self, pixel: usize, k: usize) -> bool {
        held(&self.inliers[pixel * self.words..][..self.words], k)
    }

    /// The pixel that a place of the reference lies in.
    pub fn pixel(&self, place: Point) -> Option<usize> {
        let at = |v: f64, n: u32| {
            let v = (v + 0.5).floor();
            (v >= 0.0 && v < f64::from(n)).then_some(v as usize)
        };
        let size = self.grid.size();
        let p = self.grid.within(place);
        Some(at(p.y, size.height)? * size.width as usize + at(p.x, size.width)?)
    }

    /// Takes a place from one frame of the set alone; nothing happens when it takes no part.
    pub fn take(&mut self, pixels: &[u32], frame: usize) {
        let Some(k) = self.frames.iter().position(|&f| f == frame) else { return };
        for &p in pixels {
            let p = p as usize;
            self.labels[p] = k as u16;
            let bits = &mut self.inliers[p * self.words..][..self.words];
            bits.fill(0);
            bits[k / WORD] = 1 << (k % WORD);
        }
    }
}

/// Which of some layers show the same as the first at each place of a part of the reference: a choice of its average. `frames`
/// are those of the layers, `grid` is the part.
pub fn together(grid: Grid, layers: Vec<LayerData>, frames: Vec<usize>, noise: &NoiseModel) -> LabelMap {
    let field = Field::new(grid.size(), layers, noise, grid.shrink());
    let (labels, words) = (vec![0; field.pixels()], frames.len().div_ceil(WORD));
    let inliers = inliers::find(&field, (&labels, &field.labelled(&labels)), words);
    LabelMap { grid, frames, labels, words, inliers, crowd: Vec::new() }
}

/// Whether bit `k` is set in the words of a pixel.
#[inline]
pub fn held(words: &[u64], k: usize) -> bool {
    words[k / WORD] >> (k % WORD) & 1 == 1
}

/// Pixels of a reduced picture that the decision is made on, for a number of frames: fine where few frames leave
/// much to the borders, coarser where many vote. Frames and pixels together stay below a bound, and with them memory.
pub fn room(frames: usize) -> u64 {
    /// Pixels of all frames together up to which the picture may be fine, and up to which it may be as fine as a limb asks.
    const FINE: u64 = 12_000_000;
    const FINEST: u64 = 20_000_000;
    const LIMBS: u64 = 200_000;
    let frames = frames.max(1) as u64;
    (FINE / frames).max(LIMBS.min(FINEST / frames)).min(1_600_000)
}

/// A choice with what it was made from.
pub struct Decided {
    /// What was chosen.
    pub choice: LabelMap,
    /// The frames on the reduced picture.
    field: Field,
    costs: Costs,
    surroundings: Surroundings,
    /// What was chosen, as one of them.
    labelled: Layer,
}

impl Decided {
    /// For each pixel, how much more the best story costs that shows something else than what was chosen, and whose it
    /// is (a place in the choice's frames); `None` where nobody shows anything else.
    pub fn rivals(&self) -> Vec<Option<(f32, u16)>> {
        self.costs.rivals(&self.field, (&self.choice.labels, &self.labelled))
    }

    /// By how much worse its surroundings explain what was chosen than frame `k` at a pixel, -1..=1.
    pub fn foreign(&self, k: usize, p: usize) -> f32 {
        self.surroundings.against(usize::from(self.choice.labels[p]), k, p)
    }

    /// Whether a border between two choices runs between these pixels where both frames surely differ on both sides.
    pub fn torn(&self, p: usize, q: usize) -> bool {
        let (a, b) = (usize::from(self.choice.labels[p]), usize::from(self.choice.labels[q]));
        a != b && self.costs.changed[p] && [p, q].iter().all(|&p| self.field.chi2(a, b, p) > DIFFER)
    }

    /// How far the mean colours of two of the choice's frames over a place differ, in deviations of one pixel. What only
    /// trembles, such as leaves, has the same mean.
    pub fn apart(&self, a: usize, b: usize, place: &[usize]) -> f32 {
        self.field.apart(a, b, place)
    }

    /// How many frames reach each pixel, and how many of them show the same as what was chosen.
    pub fn support(&self) -> Vec<(u32, u32)> {
        self.field.support(&self.labelled)
    }

    /// Whether one of the choice's frames reaches a pixel.
    pub fn covered(&self, k: usize, p: usize) -> bool {
        self.field.covered(k, p)
    }

    /// How far two neighbouring pixels of one frame differ, in deviations.
    pub fn step(&self, k: usize, p: usize, q: usize) -> f32 {
        self.field.step(k, p, q)
    }

    /// How far two of the choice's frames differ at a pixel, in squared deviations.
    pub fn difference(&self, a: usize, b: usize, p: usize) -> f32 {
        self.field.chi2(a, b, p)
    }

    /// How far frame `k` and what was chosen differ at a pixel, in squared deviations.
    pub fn from_plate(&self, k: usize, p: usize) -> f32 {
        self.field.chi2(k, usize::from(self.choice.labels[p]), p)
    }

    /// Whether frame `k` shows what was chosen at a pixel.
    pub fn shows_plate(&self, k: usize, p: usize) -> bool {
        self.alike(k, usize::from(self.choice.labels[p]), p)
    }

    /// Whether frame `k` shows a pixel as what was chosen is in the shade.
    pub fn shades(&self, k: usize, p: usize) -> bool {
        shade::is_shade(self.field.ratios(k, usize::from(self.choice.labels[p]), p))
    }

    /// Whether frame `k` or what was chosen is clipped at a pixel, and not both.
    pub fn glares(&self, k: usize, p: usize) -> bool {
        self.field.clipped(k, p) != self.field.clipped(usize::from(self.choice.labels[p]), p)
    }

    /// Whether frame `k` shows a pixel as what was chosen with white light added, as a reflection adds it.
    pub fn adds_light(&self, k: usize, p: usize) -> bool {
        let label = usize::from(self.choice.labels[p]);
        let light = |k: usize, c: usize| f32::from(self.field.code(k, c, p)).powi(2);
        let added = [0, 1, 2].map(|c| light(k, c) - light(label, c));
        let (low, high) = added.iter().fold((f32::MAX, f32::MIN), |(l, h), a| (l.min(*a), h.max(*a)));
        low > 0.0 && high < 2.0 * low
    }

    /// The opposite: whether what was chosen shows a pixel as frame `k` is in the shade.
    pub fn is_shaded(&self, k: usize, p: usize) -> bool {
        shade::is_shade(self.field.ratios(usize::from(self.choice.labels[p]), k, p))
    }

    /// Brightness of frame `k`, or of what was chosen, as roots of light, 0..=255.
    pub fn grey(&self, k: Option<usize>) -> Plane {
        self.field.grey(k, &self.labelled)
    }

    /// Whether two of the choice's frames show the same at a pixel.
    pub fn alike(&self, a: usize, b: usize, p: usize) -> bool {
        self.field.covered(a, p) && self.field.covered(b, p) && self.field.chi2(a, b, p) < SAME
    }
}

/// What is known of a set before its frames are compared.
#[derive(Debug, Clone, Copy)]
pub struct Known {
    /// What is known of its light.
    pub lamps: Lamps,
    /// The frame whose geometry the plate has, where the camera moved so that others cannot have it everywhere.
    pub lead: Option<usize>,
}

impl Known {
    /// Nothing but what is known of the light.
    pub fn of(lamps: Lamps) -> Self {
        Self { lamps, lead: None }
    }
}

/// Decides for all places. `moments` are the frames' moments, in the order of the layers; `grid` is the whole reference, at a level;
/// `known` says what is known besides.
pub fn decide(
    grid: Grid,
    layers: Vec<LayerData>,
    (frames, moments): (&[usize], &[u32]),
    noise: &NoiseModel,
    known: Known,
) -> Decided {
    // In an order that follows from what they show.
    let mut order: Vec<(u64, usize)> = layers.iter().map(LayerData::fingerprint).zip(0..).collect();
    order.sort_unstable();
    let mut slots: Vec<Option<LayerData>> = layers.into_iter().map(Some).collect();
    let sorted: Vec<LayerData> = order.iter().filter_map(|&(_, i)| slots[i].take()).collect();
    let frames: Vec<usize> = order.iter().map(|&(_, i)| frames[i]).collect();
    let moments: Vec<u32> = order.iter().map(|&(_, i)| moments[i]).collect();
    let field = Field::new(grid.size(), sorted, noise, grid.shrink());
    let lead = known.lead.and_then(|lead| frames.iter().position(|f| *f == lead));
    let parallax = lead.map(|lead| Parallax::find(&field, lead));
    let mut costs = votes::costs(&field, &moments, parallax.as_ref());
    let few = 1.0 - votes::weight(&moments);
    contour::add(&field, &mut costs, few);
    let mut surroundings = Surroundings::find(&field, &costs.changed, few);
    surroundings.add(&field, &moments, &mut costs);
    shade::add(&field, &surroundings, &mut costs);
    surroundings.spend();
    match known.lamps {
        Lamps::Still => {}
        Lamps::Uneven => varied::add_glare(&field, &mut costs),
        Lamps::Moved => varied::weigh(&field, &mut costs),
    }
    let (labels, labelled) = labels::solve(&field, &costs);
    let words = frames.len().div_ceil(WORD);
    let inliers = inliers::find(&field, (&labels, &labelled), words);
    let crowd = field.crowd(&labelled, &inliers, words, &costs.changed);
    let choice = LabelMap { grid, frames, labels, words, inliers, crowd };
    Decided { choice, field, costs, surroundings, labelled }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_decision_is_fine_for_few_frames_and_bounded_for_any_number() {
        assert_eq!(room(1), 1_600_000);
        assert_eq!(room(12), 1_000_000);
        assert_eq!(room(100), 200_000);
        for frames in 1..3000usize {
            assert!(room(frames) * frames as u64 <= 20_000_000, "{frames}");
            assert!(room(frames + 1) <= room(frames), "{frames}");
        }
    }
}
