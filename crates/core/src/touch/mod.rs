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
mod flare;
mod found;
mod invent;
mod plane;
mod pointed;
mod watch;

use crate::fill::{FillError, Hint};
use crate::geometry::{Grid, Point, Rect, Size};
use crate::patch::mask::Mask;
use crate::patch::{PatchTransform, drawable, middle};
use crate::progress::ProgressFn;
pub use plane::Plane;
pub(crate) use pointed::pointed;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
pub use watch::{Fault, Found, faults, repeats};

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
        /// From the source to where it is laid, [onto](PatchTransform::onto) the area's middle.
        transform: PatchTransform,
    },
    /// The same in the tone of what is around.
    Mend {
        /// From the source to where it is laid, [onto](PatchTransform::onto) the area's middle.
        transform: PatchTransform,
        /// Which way it may change.
        only: Only,
    },
    /// Evens out blotches and veils: tone goes slowly from rim to rim, texture stays.
    Even {
        /// Pixels over which tone is slow.
        slow: f64,
    },
    /// Takes off the light that a lens flare adds; texture stays.
    Flare,
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
        matches!(self, Self::Copy { .. } | Self::Mend { .. } | Self::Invent { .. })
    }

    /// Whether it takes its pixels from another place, as they are.
    pub(crate) fn copies(self) -> bool {
        matches!(self, Self::Copy { .. } | Self::Mend { .. })
    }
}

/// What a copy or a mend takes its pixels from.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = TouchSource))]
pub enum Shown<F = usize> {
    /// The plate as it is below the touch.
    #[default]
    Plate,
    /// The plate without touches; the areas of those are not taken from.
    Bare,
    /// One frame, matched to the plate.
    Frame(F),
}

impl<F> Shown<F> {
    fn is_plate(&self) -> bool {
        matches!(self, Self::Plate)
    }
}

/// A part of an invention that shows another variant than the rest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = VariantPart))]
pub struct Part {
    /// A closed outline, in the pixels of the touch's own.
    pub outline: Vec<Point>,
    /// Which variant it shows.
    pub variant: u8,
}

/// Parts of variants, and areas that nothing is taken from, that a touch holds at most.
pub const MOST_PARTS: usize = 50;

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
    /// What a copy or a mend takes its pixels from.
    #[serde(default = "Shown::default", skip_serializing_if = "Shown::is_plate")]
    pub shown: Shown<F>,
    /// The plane that it lies in, by the corners of what is a rectangle in the world, in the outline's pixels and in turn: what it copies
    /// is enlarged and foreshortened with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plane: Option<[Point; 4]>,
    /// Outlines, in the same pixels, of what nothing is taken from.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub barred: Vec<Vec<Point>>,
    /// Its border moves to edges of the picture near it, so that it does not cross them.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub snap_to_edges: bool,
    /// Parts of an invention that show other variants, later ones over earlier ones.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Part>,
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
        Self {
            on,
            outline,
            act,
            shown: Shown::Plate,
            plane: None,
            barred: Vec::new(),
            snap_to_edges: false,
            parts: Vec::new(),
            feather: 2.0,
            strength: 1.0,
            disabled: false,
        }
    }

    /// Whether its numbers make sense.
    pub fn is_valid(&self) -> bool {
        let parts = self.parts.len() <= MOST_PARTS && self.barred.len() <= MOST_PARTS;
        drawable(&self.outline)
            && parts
            && self.barred.iter().all(|outline| drawable(outline))
            && self.parts.iter().all(|part| drawable(&part.outline) && part.variant < MOST_VARIANTS)
            && self.plane.is_none_or(|corners| Plane::new(&corners, middle(&self.outline)).is_some())
            && (0.0..=500.0).contains(&self.feather)
            && (0.0..=1.0).contains(&self.strength)
            && match self.act {
                Act::Copy { transform } | Act::Mend { transform, .. } => transform.is_valid(),
                Act::Even { slow } => (2.0..=2000.0).contains(&slow),
                Act::Flare => true,
                Act::Invent { variant, .. } => variant < MOST_VARIANTS,
            }
    }

    /// The frames that it names.
    pub fn frames(&self) -> impl Iterator<Item = F> {
        let source = match self.shown {
            Shown::Frame(frame) => Some(frame),
            _ => None,
        };
        [Some(self.on), source].into_iter().flatten()
    }

    /// Corners of all its outlines.
    pub fn corners(&self) -> usize {
        let more = self.barred.iter().chain(self.parts.iter().map(|part| &part.outline));
        self.outline.len() + more.map(Vec::len).sum::<usize>()
    }

    /// The plane that it lies in, where it has one.
    pub(crate) fn seen(&self) -> Result<Option<Plane>, TouchError> {
        let Some(corners) = &self.plane else { return Ok(None) };
        let plane = Plane::new(corners, middle(&self.outline)).ok_or(TouchError::Plane)?;
        let all = self.outline.iter().all(|&p| plane.sees(p, middle(&self.outline)));
        if all { Ok(Some(plane)) } else { Err(TouchError::Plane) }
    }

    /// Which variant it shows where no part shows another, and the last one that it needs.
    pub(crate) fn variants(&self) -> (usize, usize) {
        let Act::Invent { variant, .. } = self.act else { return (0, 0) };
        let last = self.parts.iter().map(|part| part.variant).fold(variant, u8::max);
        (variant.into(), last.into())
    }

    /// The same with its frame named otherwise; `None` when that has no other name.
    pub fn map_frames<G>(&self, name: impl Fn(F) -> Option<G>) -> Option<Touch<G>> {
        let Self {
            on,
            outline,
            act,
            shown,
            plane,
            barred,
            snap_to_edges,
            parts,
            feather,
            strength,
            disabled,
        } = self;
        let shown = match shown {
            Shown::Plate => Shown::Plate,
            Shown::Bare => Shown::Bare,
            Shown::Frame(frame) => Shown::Frame(name(*frame)?),
        };
        Some(Touch {
            on: name(*on)?,
            outline: outline.clone(),
            act: *act,
            shown,
            plane: *plane,
            barred: barred.clone(),
            snap_to_edges: *snap_to_edges,
            parts: parts.clone(),
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
        "the source lies in the area itself, where nothing is to be taken from, or outside the picture: move it farther away, so that nothing that is to go is copied"
    )]
    Source,
    /// Its plane turns away within its area.
    #[error("the plane ends within the area: draw its lines farther around, or the area smaller")]
    Plane,
    /// Nothing in its area adds light as a flare does.
    #[error("no flare is found in the area: draw around the whole of its disc, or even the area out")]
    Flare,
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
    /// What a copy or a mend takes its pixels from, where that is not the plate itself.
    pub source: Option<&'a Plate>,
    /// What is there but is not taken from; empty for nothing.
    pub barred: &'a [bool],
    /// What no frame shows, beyond the area itself; empty for nothing.
    pub void: &'a [bool],
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
    pub(crate) fn hole(&self) -> Vec<bool> {
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
    /// For each variant of an invention what each of its pixels was copied from, to draw parts of several together.
    from: Vec<Vec<u32>>,
}

impl From<MadeTouch> for Variants {
    fn from(made: MadeTouch) -> Self {
        Self { made: vec![Arc::new(made)], hints: Vec::new(), from: Vec::new() }
    }
}

impl Variants {
    /// About how much memory they take.
    pub fn bytes(&self) -> u64 {
        self.made.iter().map(|made| made.bytes()).sum::<u64>()
            + self.from.iter().map(|from| 4 * from.len() as u64).sum::<u64>()
    }
}

/// Makes a touch; of an invention all variants up to the last that is wanted, and at least `variants`.
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
    let one = |plate: Plate| Ok(around.made(&plate).into());
    match touch.act {
        Act::Copy { transform } => one(copy::copied(around, &hole, &transform, touch)?),
        Act::Mend { transform, only } => one(copy::mended(around, &hole, &transform, touch, only)?),
        Act::Even { slow } => one(even::evened(around, &hole, slow)),
        Act::Flare => one(flare::without(around, &hole)?),
        Act::Invent { seed, .. } => {
            let count = variants.max(touch.variants().1 + 1);
            invent::invented(touch, around, &hole, (seed.into(), count), watch)
        }
    }
}

/// Parts of several variants of an invention drawn together and joined.
///
/// # Errors
/// When the plane of the touch does not fit its area.
pub fn compose(touch: &Touch, around: &Around<'_>, variants: &Variants) -> Result<MadeTouch, TouchError> {
    invent::composed(touch, around, &around.hole(), &variants.from)
}

/// The plane that an area lies in, by the edges around it: corners of what is a rectangle in the world, in pixels of the canvas's grid;
/// `None` where edges run in no two ways.
pub fn propose_plane(around: &Around<'_>) -> Option<[Point; 4]> {
    let corners = found::found(around.plate, &around.hole(), around.size())?;
    Some(corners.map(|p| around.grid.place(p.x, p.y)))
}

/// A source for a copy.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Proposed {
    /// From it to the area.
    pub transform: PatchTransform,
    /// Whether the edges at the area's rim go on in it.
    pub meets: bool,
}

/// The source that goes on best from the area's rim; `None` when there is no room for one.
///
/// In a plane it lies along that plane.
pub fn propose(touch: &Touch, around: &Around<'_>) -> Option<Proposed> {
    let hole = around.hole();
    let ([x, y], meets) = match touch.plane {
        None => copy::proposed(around.plate, &hole, around.barred, around.size())?,
        Some(_) => {
            let front = invent::Front::new(touch, around, &hole).ok()?;
            let ground = front.ground();
            copy::proposed(ground.planes, ground.hole, ground.barred, ground.size)?
        }
    };
    Some(Proposed { transform: PatchTransform { shift: [-x, -y], ..PatchTransform::UNMOVED }, meets })
}
