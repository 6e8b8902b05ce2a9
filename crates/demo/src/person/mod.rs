//! Somebody: a body with hands and a face, clothes that hang from it, hair, a bag, and a way to walk or stand.
//!
//! A signed distance to a union of rounded cones, ellipsoids and boxes, blended where cloth would blend them, with folds as noise; all
//! lengths are in metres of somebody 1.76 m tall. Cost: some fifty solids a place; for head, hands and feet a ball stands from afar.

mod look;
mod shape;
mod stance;

pub(crate) use look::look;
pub(crate) use shape::distance;
pub(crate) use stance::Stance;

use evanu_core::random::Random;
use glam::Vec3;

/// Parts of a person, for their look.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Part {
    Skin,
    Face,
    Hair,
    Hat,
    Top,
    Shirt,
    Legs,
    Shoes,
    Bag,
    Phone,
}

/// What is worn above the waist.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Top {
    /// Sleeves that end above the elbow.
    Short,
    /// Sleeves to the wrists.
    Long,
    /// Open in front over a shirt, with a collar, and longer.
    Jacket,
}

/// What is worn below.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Below {
    Trousers,
    Shorts,
    Skirt,
    /// A skirt of the same cloth as the top.
    Gown,
}

/// How hair is worn, or what is worn on it.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Hair {
    Short,
    Long,
    Bun,
    Hat,
}

/// What is carried.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Bag {
    None,
    Back,
    Shoulder,
}

/// What somebody wears and carries, and how stout they are. Colours are linear.
#[derive(Clone, Copy)]
pub(crate) struct Dress {
    pub skin: Vec3,
    pub hair: Vec3,
    pub top: Vec3,
    pub legs: Vec3,
    pub bag: Vec3,
    pub shoes: Vec3,
    pub over: Top,
    pub below: Below,
    pub worn: Hair,
    pub carried: Bag,
    pub striped: bool,
    /// 1 is usual.
    pub girth: f32,
}

/// By how much a child's head is larger for its body, and the height from which it grows.
const CHILD: (f32, f32) = (1.16, 1.53);

/// A place of a child's head as that of a grown person's.
fn grown(q: Vec3) -> Vec3 {
    let from = Vec3::Y * CHILD.1;
    (q - from) / CHILD.0 + from
}

impl Dress {
    /// Some dress, by chance.
    pub(crate) fn random(r: &mut Random) -> Self {
        let colour = |list: &[[f32; 3]], r: &mut Random| Vec3::from(list[r.below(list.len())]);
        let tops = [
            [0.34, 0.05, 0.045],
            [0.045, 0.075, 0.16],
            [0.62, 0.60, 0.55],
            [0.05, 0.05, 0.06],
            [0.42, 0.33, 0.12],
            [0.07, 0.22, 0.13],
            [0.20, 0.08, 0.11],
            [0.15, 0.20, 0.25],
            [0.42, 0.36, 0.28],
            [0.36, 0.22, 0.14],
        ];
        let legs = [
            [0.05, 0.07, 0.13],
            [0.10, 0.10, 0.11],
            [0.34, 0.28, 0.19],
            [0.03, 0.03, 0.035],
            [0.11, 0.15, 0.24],
        ];
        let skins = [[0.52, 0.31, 0.21], [0.42, 0.24, 0.15], [0.24, 0.13, 0.08], [0.56, 0.36, 0.27]];
        let hairs = [
            [0.03, 0.02, 0.015],
            [0.10, 0.05, 0.02],
            [0.26, 0.17, 0.08],
            [0.30, 0.29, 0.28],
            [0.015, 0.014, 0.014],
        ];
        let bags = [[0.10, 0.07, 0.04], [0.03, 0.03, 0.03], [0.40, 0.10, 0.06], [0.10, 0.16, 0.10]];
        let shoes = [[0.05, 0.04, 0.035], [0.02, 0.02, 0.022], [0.09, 0.045, 0.025], [0.36, 0.35, 0.33]];
        Self {
            skin: colour(&skins, r),
            hair: colour(&hairs, r),
            top: colour(&tops, r),
            legs: colour(&legs, r),
            bag: colour(&bags, r),
            shoes: colour(&shoes, r),
            over: [Top::Short, Top::Long, Top::Jacket, Top::Long][r.below(4)],
            below: [
                Below::Trousers,
                Below::Trousers,
                Below::Trousers,
                Below::Shorts,
                Below::Skirt,
                Below::Gown,
            ][r.below(6)],
            worn: [Hair::Short, Hair::Short, Hair::Long, Hair::Bun, Hair::Hat][r.below(5)],
            carried: [Bag::None, Bag::None, Bag::Back, Bag::Shoulder][r.below(4)],
            striped: r.unit() < 0.2,
            girth: r.within(0.9, 1.16) as f32,
        }
    }

    fn skirted(&self) -> bool {
        matches!(self.below, Below::Skirt | Below::Gown)
    }
}
