//! Touches: areas of the plate that no frame shows clear, copied, mended, evened out or made up.
//!
//! A touch is drawn on a frame and lies above all patches, in the order of the list. Its pixels are made once, at full size, from what
//! lies below it around its area, and laid with a soft border; where its [`Mask`] is nothing, no pixel changes. Nothing is ever taken
//! from the area itself, which is what is to go.
//!
//! ```
//! use evanu_core::geometry::Point;
//! use evanu_core::touch::{Act, Touch};
//!
//! let outline = [(10.0, 10.0), (30.0, 10.0), (30.0, 50.0)].map(|(x, y)| Point::new(x, y)).to_vec();
//! let touch = Touch::new(0, outline, Act::Invent { seed: 1, variant: 0 });
//! assert!(touch.is_valid() && touch.act.invents());
//! ```

mod copy;
mod even;

use crate::fill::{FillError, Ground, Hint, Wish, hints, invent};
use crate::geometry::{Grid, Point, Rect, Size};
use crate::patch::mask::Mask;
use crate::patch::{PatchTransform, drawable};
use crate::progress::ProgressFn;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Root codes, red, green and blue.
pub type Plate = [Vec<u16>; 3];

/// Which way a mend may change what lies below it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Only {
    /// Both ways.
    #[default]
    Both,
    /// What is darker than the mend.
    Lighten,
    /// What is brighter than it.
    Darken,
}

/// What a touch does.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Act {
    /// Lays pixels from another place, in their own tone: from where the transform leads to the area.
    Copy {
        /// From the source to where it is laid, about the area's middle.
        transform: PatchTransform,
    },
    /// The same in the tone of what is around.
    Mend {
        /// From the source to where it is laid, about the area's middle.
        transform: PatchTransform,
        /// Which way it may change.
        only: Only,
    },
    /// Evens out blotches and veils: tone goes slowly from rim to rim, texture stays.
    Even {
        /// Pixels over which tone is slow.
        slow: f64,
    },
    /// Makes it up from what is around.
    Invent {
        /// Where chance begins.
        seed: u32,
        /// Which of the results, from 0.
        variant: u8,
    },
}

impl Act {
    /// Whether its pixels are made up rather than a change of what is there.
    pub fn invents(self) -> bool {
        !matches!(self, Self::Even { .. })
    }
}

/// An area that is retouched.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = Touch))]
pub struct Touch<F = usize> {
    /// The frame it was drawn on, the reference then.
    pub on: F,
    /// A closed outline in that frame's pixels.
    pub outline: Vec<Point>,
    /// What it does.
    pub act: Act,
    /// How far the border fades to both sides, in pixels of the reference; the area grows by it.
    pub feather: f64,
    /// How much of it shows, 0..=1.
    pub strength: f32,
    /// Kept in the list without being laid.
    pub disabled: bool,
}

/// Variants of one invention at most.
pub const MOST_VARIANTS: u8 = 16;

impl<F: Copy> Touch<F> {
    /// As it begins: a border of two pixels, so that what is blurred around an edge goes with it.
    pub fn new(on: F, outline: Vec<Point>, act: Act) -> Self {
        Self { on, outline, act, feather: 2.0, strength: 1.0, disabled: false }
    }

    /// Whether its numbers make sense.
    pub fn is_valid(&self) -> bool {
        drawable(&self.outline)
            && (0.0..=500.0).contains(&self.feather)
            && (0.0..=1.0).contains(&self.strength)
            && match self.act {
                Act::Copy { transform } | Act::Mend { transform, .. } => transform.is_valid(),
                Act::Even { slow } => (2.0..=2000.0).contains(&slow),
                Act::Invent { variant, .. } => variant < MOST_VARIANTS,
            }
    }

    /// The same with its frame named otherwise; `None` when that has no other name.
    pub fn map_frames<G>(&self, name: impl Fn(F) -> Option<G>) -> Option<Touch<G>> {
        let Self { on, outline, act, feather, strength, disabled } = self;
        Some(Touch {
            on: name(*on)?,
            outline: outline.clone(),
            act: *act,
            feather: *feather,
            strength: *strength,
            disabled: *disabled,
        })
    }
}

/// Why a touch cannot be made.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TouchError {
    /// What it copies lies in its own area, or outside the picture.
    #[error(
        "the source lies in the area itself or outside the picture: move it farther away, so that nothing that is to go is copied"
    )]
    Source,
    /// Nothing could be made up.
    #[error(transparent)]
    Fill(#[from] FillError),
}

/// The pixels of a touch.
#[derive(Debug)]
pub struct MadeTouch {
    /// Where it lies, and how strongly.
    pub mask: Mask,
    /// The pixels of the canvas that its own lie on, for each level the picture is shown at.
    levels: Vec<(Grid, Plate)>,
}

/// Levels at which a touch's pixels are at hand; beyond, it is smaller than a pixel.
const LEVELS: u32 = 12;

impl MadeTouch {
    /// From full-size pixels over a part of the canvas, which begins at whole pixels of some levels.
    fn new(mask: Mask, grid: Grid, plate: Plate) -> Self {
        let mut levels = vec![(grid, plate)];
        for _ in 0..LEVELS {
            let (grid, plate) = &levels[levels.len() - 1];
            levels.push(halved(grid, plate));
        }
        Self { mask, levels }
    }

    /// Its pixels at a level.
    pub fn at(&self, level: u32) -> Option<&(Grid, Plate)> {
        self.levels.get(level as usize)
    }

    /// About how much memory it takes.
    pub fn bytes(&self) -> u64 {
        10 * self.levels[0].0.rect.size().pixels() + 4096
    }
}

/// Means of light of two by two pixels, as far as they are there.
fn halved(grid: &Grid, plate: &Plate) -> (Grid, Plate) {
    let r = grid.rect;
    let (left, top) = (r.x.div_euclid(2), r.y.div_euclid(2));
    let (right, bottom) = ((r.right() + 1).div_euclid(2), (r.bottom() + 1).div_euclid(2));
    let rect = Rect::new(left, top, (right - left) as u32, (bottom - top) as u32);
    let mean = |plane: &Vec<u16>| -> Vec<u16> {
        let mut out = Vec::with_capacity(rect.size().pixels() as usize);
        for y in rect.y..rect.bottom() {
            for x in rect.x..rect.right() {
                let (mut sum, mut count) = (0u64, 0u64);
                for v in (2 * y).max(r.y)..(2 * y + 2).min(r.bottom()) {
                    for u in (2 * x).max(r.x)..(2 * x + 2).min(r.right()) {
                        let code =
                            u64::from(plane[(v - r.y) as usize * r.width as usize + (u - r.x) as usize]);
                        sum += code * code;
                        count += 1;
                    }
                }
                out.push((sum as f64 / count.max(1) as f64).sqrt().round() as u16);
            }
        }
        out
    };
    (Grid { level: grid.level + 1, rect, ..*grid }, [mean(&plate[0]), mean(&plate[1]), mean(&plate[2])])
}

/// A touch ready to be laid.
#[derive(Debug, Clone)]
pub struct PlacedTouch {
    /// Its place in the recipe's list.
    pub index: usize,
    /// Changes whenever its pixels do.
    pub key: String,
    /// As in [`Touch`].
    pub strength: f32,
    /// Whether its pixels are made up.
    pub invented: bool,
    /// Its pixels.
    pub made: Arc<MadeTouch>,
}

/// What lies below a touch, over a part of the canvas at full size.
pub struct Around<'a> {
    /// Which pixels.
    pub grid: Grid,
    /// Root codes.
    pub plate: &'a Plate,
    /// Where the touch lies.
    pub mask: &'a Mask,
    /// The part of it that is kept: all of the mask lies inside.
    pub part: Rect,
}

impl Around<'_> {
    fn size(&self) -> Size {
        self.grid.rect.size()
    }

    /// What is to go: all pixels that the touch changes.
    fn hole(&self) -> Vec<bool> {
        let w = self.grid.rect.width as usize;
        let mut out = vec![false; self.size().pixels() as usize];
        for (y, row) in out.chunks_mut(w.max(1)).enumerate() {
            if let Some(weights) = self.mask.row(&self.grid, y) {
                row.iter_mut().zip(weights).for_each(|(o, v)| *o = v > 0.0);
            }
        }
        out
    }

    /// The part that is kept, of a picture like this one.
    fn made(&self, plate: &Plate) -> MadeTouch {
        let (all, part) = (self.grid.rect, self.part);
        let cut = |plane: &Vec<u16>| -> Vec<u16> {
            (part.y..part.bottom())
                .flat_map(|y| {
                    let from = (y - all.y) as usize * all.width as usize + (part.x - all.x) as usize;
                    plane[from..from + part.width as usize].iter().copied()
                })
                .collect()
        };
        let planes = [cut(&plate[0]), cut(&plate[1]), cut(&plate[2])];
        MadeTouch::new(self.mask.clone(), self.grid.cut(part), planes)
    }
}

/// What a touch may look like.
#[derive(Debug)]
pub struct Variants {
    /// One, or of an invention as many as were asked for.
    pub made: Vec<Arc<MadeTouch>>,
    /// What is hard about an invention.
    pub hints: Vec<Hint>,
}

/// Makes a touch; of an invention all variants up to the one that is wanted, and at least `variants`.
///
/// # Errors
/// When its source is not there, there is nothing to make it up from, or the watcher stops it.
pub fn make(
    touch: &Touch,
    around: &Around<'_>,
    variants: usize,
    watch: ProgressFn<'_>,
) -> Result<Variants, TouchError> {
    let hole = around.hole();
    let one = |plate: Plate| Ok(Variants { made: vec![Arc::new(around.made(&plate))], hints: Vec::new() });
    match touch.act {
        Act::Copy { transform } => one(copy::copied(around, &hole, &transform, touch)?),
        Act::Mend { transform, only } => one(copy::mended(around, &hole, &transform, touch, only)?),
        Act::Even { slow } => one(even::evened(around, &hole, slow)),
        Act::Invent { seed, variant } => {
            let ground =
                Ground { size: around.size(), planes: around.plate, hole: &hole, barred: &[], void: &[] };
            let wish = Wish { seed: seed.into(), variants: variants.max(usize::from(variant) + 1) };
            let filled = invent(&ground, &wish, watch)?;
            let made = filled.iter().map(|f| Arc::new(around.made(&f.planes))).collect();
            Ok(Variants { made, hints: hints(&ground) })
        }
    }
}

/// The move from the source that goes on best from the area's rim; `None` when there is no room for one.
pub fn propose(around: &Around<'_>) -> Option<PatchTransform> {
    let [x, y] = copy::proposed(around, &around.hole())?;
    Some(PatchTransform { shift: [-x, -y], ..PatchTransform::UNMOVED })
}
