//! Somebody: a body with hands and a face, clothes that hang from it, hair, a bag, and a way to walk or stand.
//!
//! Legs and arms are two bones each whose ends are set by the step, and whose middle follows (Hodgins, Wooten,
//! Brogan and O'Brien 1995 give such angles over a step). All lengths are in metres of somebody 1.76 m tall.

use crate::solid::{blend, cone, ellipsoid, slab};
use crate::texture::{fbm, noise, step};
use evanu_core::random::Random;
use glam::{Vec2, Vec3};

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

/// How somebody holds themselves.
#[derive(Clone, Copy)]
pub(crate) enum Stance {
    /// Walking; where in the step, in radians.
    Walks(f32),
    /// Standing; a number that chooses among ways to.
    Stands(f32),
}

/// Height of the hips' joints.
const HIP: f32 = 0.90;
const THIGH: f32 = 0.435;
const SHIN: f32 = 0.415;
/// From the ground to the ankle.
const ANKLE: f32 = 0.075;

/// Where the middle joint of two bones lies between their ends, bent towards `way`; the far end is drawn
/// in where the bones cannot reach it.
fn joint(from: Vec3, to: Vec3, first: f32, second: f32, way: Vec3) -> (Vec3, Vec3) {
    let out = to - from;
    let far = out.length().clamp(1e-3, 0.995 * (first + second));
    let out = out.normalize_or(Vec3::NEG_Y);
    let along = (far * far + first * first - second * second) / (2.0 * far);
    let beside = (first * first - along * along).max(0.0).sqrt();
    let side = (way - way.dot(out) * out).normalize_or(Vec3::X);
    (from + along * out + beside * side, from + far * out)
}

/// One leg's joints, and how far its heel is off the ground relative to its toes.
struct Leg {
    hip: Vec3,
    knee: Vec3,
    ankle: Vec3,
    heel: f32,
}

impl Stance {
    fn leg(&self, side: f32) -> Leg {
        let hip = Vec3::new(0.088 * side, HIP, 0.0);
        let (ankle, heel) = match *self {
            Self::Walks(phase) => {
                let phase = if side > 0.0 { phase } else { phase + std::f32::consts::PI };
                let (ahead, forth) = phase.sin_cos();
                // On the ground the foot goes back; in the air it comes forth.
                let lift = 0.10 * forth.max(0.0) * (1.0 - 0.4 * ahead);
                let heel = 0.09 * (-ahead - 0.35).max(0.0) / 0.65;
                (
                    Vec3::new(0.075 * side, ANKLE + lift + heel, 0.31 * ahead - 0.04),
                    heel - 0.03 * ahead.max(0.0),
                )
            }
            Self::Stands(way) => {
                let ahead = 0.07 * side * (3.0 * way).sin();
                (Vec3::new(side * (0.10 + 0.03 * (5.0 * way).cos()), ANKLE, ahead - 0.03), 0.0)
            }
        };
        let (knee, ankle) = joint(hip, ankle, THIGH, SHIN, Vec3::new(0.12 * side, 0.0, 1.0));
        Leg { hip, knee, ankle, heel }
    }

    /// Shoulder, elbow and wrist, where the fingers go, and whether a phone is held.
    fn arm(&self, side: f32) -> ([Vec3; 3], Vec3, bool) {
        let shoulder = Vec3::new(0.165 * side, 1.385, -0.01);
        let hanging = Vec3::new(0.03 * side, -1.0, 0.15).normalize();
        let (wrist, fingers, phone) = match *self {
            Self::Walks(phase) => {
                let swing = -side * phase.sin();
                let way = Vec3::new(0.06 * side, -0.52 + 0.05 * swing.max(0.0), 0.02 + 0.20 * swing);
                (shoulder + way, (hanging + 0.5 * swing * Vec3::Z).normalize(), false)
            }
            Self::Stands(way) => match ((way.abs() * 7.3) as i32 % 3, side > 0.0) {
                // Something held before the chest and looked at.
                (0, true) => (Vec3::new(0.09, 1.20, 0.25), Vec3::new(-0.55, 0.55, 0.62).normalize(), true),
                // A hand on the hip.
                (1, false) => (Vec3::new(-0.205, 1.03, 0.03), Vec3::new(0.25, -0.75, 0.6).normalize(), false),
                _ => (shoulder + Vec3::new(0.055 * side, -0.525, 0.04), hanging, false),
            },
        };
        let out = Vec3::new(0.8 * side, -0.2, -1.0);
        let (elbow, wrist) = joint(shoulder, wrist, 0.285, 0.255, out);
        ([shoulder, elbow, wrist], fingers, phone)
    }
}

/// The nearest of solids, and whose it is.
struct Nearest(f32, Part);

impl Nearest {
    fn put(&mut self, d: f32, part: Part) {
        if d < self.0 {
            *self = Self(d, part);
        }
    }
}

/// Beyond this from a ball around something small, the ball stands for it.
const COARSE: f32 = 0.06;

/// Distance from a person on the ground at the origin, looking along z, and the part that is nearest.
pub(crate) fn distance(q: Vec3, dress: &Dress, stance: Stance, child: bool) -> (f32, Part) {
    let mut best = Nearest(f32::MAX, Part::Skin);
    legs(q, dress, stance, &mut best);
    torso(q, dress, stance, &mut best);
    // A child's head is large for its body.
    let large = if child { 1.16 } else { 1.0 };
    let p = (q - Vec3::new(0.0, 1.53, 0.0)) / large + Vec3::new(0.0, 1.53, 0.0);
    let bound = (p - Vec3::new(0.0, 1.60, -0.02)).length() - 0.30;
    if bound > COARSE {
        best.put(bound * large, Part::Hair);
    } else {
        let mut own = Nearest(f32::MAX, Part::Skin);
        head(p, dress, &mut own);
        best.put(own.0 * large, own.1);
    }
    (best.0, best.1)
}

/// Cloth in folds: so much in or out.
fn folds(p: Vec3, d: f32, deep: f32, grain: Vec3) -> f32 {
    if d < 0.05 { d + deep * (fbm(p * grain, 3) - 0.45) } else { d }
}

fn legs(p: Vec3, dress: &Dress, stance: Stance, best: &mut Nearest) {
    let v = Vec3::new;
    let g = dress.girth;
    let bare = dress.skirted() || dress.below == Below::Shorts;
    let mut cloth = f32::MAX;
    for side in [-1.0f32, 1.0] {
        let Leg { hip, knee, ankle, heel } = stance.leg(side);
        let calf = knee.lerp(ankle, 0.35) - v(0.0, 0.0, 0.012);
        if bare {
            let mut skin = cone(p, hip, knee, 0.082 * g, 0.054);
            skin = blend(skin, cone(p, knee, calf, 0.053, 0.056 * g), 0.03);
            skin = blend(skin, cone(p, calf, ankle, 0.055 * g, 0.036), 0.02);
            best.put(skin, Part::Skin);
        }
        if !bare {
            cloth = blend(cloth, cone(p, hip, knee, 0.094 * g, 0.072), 0.05);
            cloth = blend(cloth, cone(p, knee, ankle + v(0.0, 0.015, 0.0), 0.072, 0.062), 0.03);
        } else if dress.below == Below::Shorts {
            cloth = blend(cloth, cone(p, hip, hip.lerp(knee, 0.88), 0.100 * g, 0.092), 0.05);
        }
        let (at, toe) = (ankle - v(0.0, 0.045, 0.035), ankle + v(0.02 * side, -0.05 - 0.9 * heel, 0.145));
        let bound = (p - (at + toe) * 0.5).length() - 0.15;
        if bound > COARSE {
            best.put(bound, Part::Shoes);
        } else {
            let mut shoe = cone(p, at, toe, 0.036, 0.029);
            shoe = blend(shoe, cone(p, ankle + v(0.0, 0.01, -0.005), at.lerp(toe, 0.5), 0.044, 0.036), 0.04);
            // The sole is flat between heel and toes.
            let along = ((p.z - at.z) / (toe.z - at.z)).clamp(0.0, 1.0);
            let sole = at.y + (toe.y - at.y) * along - 0.028;
            best.put(shoe.max(sole - p.y), Part::Shoes);
        }
    }
    let seat = cone(p, v(-0.048, 0.93, -0.012), v(0.048, 0.93, -0.012), 0.104 * g, 0.104 * g);
    cloth = blend(cloth, seat, 0.06);
    cloth = folds(p, cloth, 0.020, v(10.0, 7.0, 10.0));
    if dress.skirted() {
        let hem = if dress.below == Below::Gown { 0.40 } else { 0.50 };
        let sway = match stance {
            Stance::Walks(phase) => 0.03 * phase.sin().abs(),
            Stance::Stands(_) => 0.0,
        };
        let down = ((1.0 - p.y) / (1.0 - hem)).clamp(0.0, 1.3);
        let around = p.x.atan2(p.z);
        let pleats =
            0.012 * down * ((9.0 * around + 2.0 * fbm(p * 2.0, 2)).sin() + 0.6 * (5.0 * around).sin());
        // Wider than deep, and narrow at the waist.
        let round = Vec2::new(p.x, p.z * (1.22 - 0.12 * down)).length();
        let wide = 0.150 * g + (0.100 + sway) * down * (1.6 - 0.6 * down.min(1.0)) + pleats;
        cloth = cloth.min(((round - wide) * 0.82).max(hem - p.y).max(p.y - 1.06));
    } else {
        cloth = cloth.max(p.y - 1.02);
        if dress.below == Below::Shorts {
            cloth = cloth.max(0.50 - p.y);
        }
    }
    best.put(cloth, if dress.below == Below::Gown { Part::Top } else { Part::Legs });
}

fn torso(p: Vec3, dress: &Dress, stance: Stance, best: &mut Nearest) {
    let v = Vec3::new;
    let g = dress.girth;
    // Wider than deep.
    let flat = v(p.x, p.y, p.z * 1.32);
    let mut body = cone(flat, v(0.0, 1.10, 0.005), v(0.0, 1.29, 0.0), 0.136 * g, 0.160 * g);
    body = blend(body, cone(flat, v(0.0, 1.10, 0.005), v(0.0, 0.97, 0.0), 0.138 * g, 0.152 * g), 0.06);
    body = blend(body, cone(flat, v(-0.115, 1.375, -0.01), v(0.115, 1.375, -0.01), 0.070, 0.070), 0.08);
    for side in [-1.0f32, 1.0] {
        // From the neck to the shoulder.
        body = blend(
            body,
            cone(p, v(0.02 * side, 1.455, -0.02), v(0.15 * side, 1.392, -0.012), 0.042, 0.052),
            0.04,
        );
    }
    body = blend(body, cone(p, v(0.0, 1.42, -0.02), v(0.0, 1.49, -0.01), 0.075, 0.056), 0.05);
    let jacket = dress.over == Top::Jacket;
    if jacket {
        best.put(folds(p, body, 0.012, v(8.0, 9.0, 8.0)).max(p.y - 1.475), Part::Shirt);
        body = blend(body, cone(flat, v(0.0, 1.02, 0.0), v(0.0, 0.80, 0.0), 0.150 * g, 0.182 * g), 0.04);
        body = (body - 0.018).max(0.80 - p.y);
        // Open in front, wider at the chest, with a collar.
        let gap = 0.02 + 0.20 * (p.y - 1.18).max(0.0) + 0.10 * (1.0 - p.y).max(0.0);
        body = body.max((gap - p.x.abs()).min(p.z + 0.02));
        body =
            body.min(cone(p, v(0.05, 1.47, 0.035), v(-0.05, 1.47, 0.035), 0.02, 0.02).max(0.03 - p.x.abs()));
    } else {
        body = body.max(0.93 - 0.03 * g - p.y);
    }
    for side in [-1.0f32, 1.0] {
        let ([shoulder, elbow, wrist], fingers, phone) = stance.arm(side);
        let cuff = if dress.over == Top::Short { shoulder.lerp(elbow, 0.62) } else { elbow };
        let wide = if jacket { 0.010 } else { 0.0 };
        body = blend(body, cone(p, shoulder, cuff, 0.057 * g + wide, 0.048 + wide), 0.03);
        if dress.over == Top::Short {
            let mut skin = cone(p, shoulder, elbow, 0.050, 0.038);
            skin = blend(skin, cone(p, elbow, wrist, 0.040, 0.026), 0.015);
            best.put(skin, Part::Skin);
        } else {
            body = blend(body, cone(p, elbow, elbow.lerp(wrist, 0.94), 0.048 + wide, 0.036 + wide), 0.02);
        }
        hand(p, wrist, fingers, side, best);
        if phone {
            let held = p - (wrist + 0.13 * fingers);
            best.put(slab(held, v(0.036, 0.072, 0.006), 0.006), Part::Phone);
        }
    }
    best.put(folds(p, body, 0.022, v(9.0, 7.0, 9.0)), Part::Top);
    if dress.over != Top::Jacket {
        best.put(cone(p, v(0.0, 1.42, -0.01), v(0.0, 1.56, 0.005), 0.055, 0.052), Part::Skin);
    } else {
        best.put(cone(p, v(0.0, 1.48, -0.01), v(0.0, 1.56, 0.005), 0.052, 0.052), Part::Skin);
    }
    match dress.carried {
        Bag::None => {}
        Bag::Back => {
            let sack = slab(p - v(0.0, 1.19, -0.225), v(0.145, 0.215, 0.085), 0.07);
            best.put(blend(sack, slab(p - v(0.0, 1.10, -0.30), v(0.10, 0.10, 0.05), 0.04), 0.02), Part::Bag);
            for side in [-0.105f32, 0.105] {
                let over = v(side, 1.465, -0.02);
                let mut strap = cone(p, v(side, 1.36, -0.17), over, 0.018, 0.018);
                strap = strap.min(cone(p, over, v(side * 1.1, 1.30, 0.118), 0.018, 0.018));
                best.put(
                    strap.min(cone(p, v(side * 1.1, 1.30, 0.118), v(side * 1.5, 1.10, 0.02), 0.018, 0.015)),
                    Part::Bag,
                );
            }
        }
        Bag::Shoulder => {
            let at = v(0.235 * g, 0.94, -0.03);
            best.put(slab(p - at, v(0.045, 0.12, 0.15), 0.03), Part::Bag);
            let over = v(0.09, 1.46, -0.02);
            let strap = cone(p, at + v(0.0, 0.11, -0.07), over - v(0.0, 0.01, 0.05), 0.011, 0.011);
            best.put(
                strap.min(cone(p, at + v(0.0, 0.11, 0.09), over + v(0.03, -0.06, 0.10), 0.011, 0.011)),
                Part::Bag,
            );
        }
    }
}

/// A palm, four fingers a little bent, and a thumb.
fn hand(p: Vec3, wrist: Vec3, fingers: Vec3, side: f32, best: &mut Nearest) {
    let bound = (p - (wrist + 0.09 * fingers)).length() - 0.12;
    if bound > COARSE {
        best.put(bound, Part::Skin);
        return;
    }
    // The palm looks inwards; across it lie the fingers, the first one ahead.
    let inward = (Vec3::new(-side, 0.0, 0.0) + side * fingers.x * fingers).normalize_or(Vec3::X);
    let across = fingers.cross(inward) * side;
    let across = if across.z < 0.0 { -across } else { across };
    let knuckle = wrist + 0.085 * fingers;
    let mut d = cone(p, wrist, wrist + 0.03 * fingers, 0.024, 0.025);
    for k in 0..4 {
        let off = (1.5 - k as f32) * 0.0185 * across;
        let long = [0.068, 0.076, 0.070, 0.054][k];
        let base = knuckle + off - 0.006 * ((k as f32) - 1.0).abs() * fingers;
        let middle = base + 0.5 * long * (fingers + 0.25 * inward).normalize();
        let tip = middle + 0.5 * long * (fingers + 0.8 * inward).normalize();
        d = blend(d, cone(p, wrist + 0.02 * fingers + 0.6 * off, base, 0.015, 0.011), 0.012);
        d = d.min(cone(p, base, middle, 0.0095, 0.0085)).min(cone(p, middle, tip, 0.0085, 0.0070));
    }
    let base = wrist + 0.035 * fingers + 0.030 * across;
    let tip = base + 0.062 * (fingers + 0.55 * across + 0.35 * inward).normalize();
    best.put(blend(d, cone(p, base, tip, 0.013, 0.009), 0.010), Part::Skin);
}

/// Where a head of hair ends in front and behind: above nothing.
fn hairline(p: Vec3) -> f32 {
    let temple = 0.022 * step(0.035, 0.07, p.x.abs()) * step(-0.03, 0.04, p.z);
    1.638 + 0.78 * p.z - temple - 0.03 * step(0.0, -0.04, p.z) - p.y
}

fn head(p: Vec3, dress: &Dress, best: &mut Nearest) {
    let v = Vec3::new;
    let skull = ellipsoid(p - v(0.0, 1.668, -0.006), v(0.0745, 0.094, 0.094));
    let jaw = cone(v(p.x * 0.93, p.y, p.z), v(0.0, 1.618, 0.038), v(0.0, 1.560, 0.066), 0.058, 0.028);
    let mut face = blend(skull, jaw, 0.045);
    face = blend(face, cone(p, v(-0.03, 1.686, 0.077), v(0.03, 1.686, 0.077), 0.012, 0.012), 0.02);
    // Hollows of the eyes, nose, lips.
    for side in [-0.031f32, 0.031] {
        let eye = (p - v(side, 1.662, 0.098)).length() - 0.016;
        face = -blend(-face, eye, 0.014);
    }
    face = blend(face, cone(p, v(0.0, 1.668, 0.086), v(0.0, 1.632, 0.108), 0.007, 0.011), 0.012);
    for side in [-0.009f32, 0.009] {
        face = blend(face, (p - v(side, 1.627, 0.100)).length() - 0.007, 0.006);
    }
    face = blend(face, cone(p, v(-0.015, 1.600, 0.0885), v(0.015, 1.600, 0.0885), 0.006, 0.006), 0.010);
    best.put(face, Part::Face);
    let ear = v(p.x.abs() - 0.076, p.y - 1.640, p.z + 0.008);
    best.put(ellipsoid(ear, v(0.010, 0.030, 0.018)), Part::Skin);
    let strands = if skull < 0.06 {
        0.010 * (fbm(p * v(55.0, 16.0, 55.0), 2) - 0.4) + 0.008 * (fbm(p * 18.0, 2) - 0.4)
    } else {
        0.0
    };
    if dress.worn == Hair::Hat {
        let crown = ellipsoid(p - v(0.0, 1.700, -0.006), v(0.088, 0.085, 0.105)).max(1.700 - p.y);
        let q = v(p.x, p.y - 1.704 + 0.25 * p.x * p.x, p.z + 0.004);
        let rim = v(q.x, 0.0, q.z * 0.94).length() - 0.155;
        best.put((crown.min(rim.max(q.y.abs() - 0.004) * 0.8)) * 0.9, Part::Hat);
    }
    // Thin where it begins, fuller above, parted at one side.
    let below = hairline(p);
    let full = if dress.worn == Hair::Hat { 0.006 } else { 0.004 + 0.014 * step(0.0, -0.045, below) };
    let parting = 0.006 * (-(p.x - 0.025) * (p.x - 0.025) / 4e-5).exp() * step(-0.02, 0.02, p.z);
    let mut hair = (skull - full - strands + parting).max(below * 0.75);
    match dress.worn {
        Hair::Long => {
            // Down the back and beside the face.
            let fall = v(p.x, p.y, p.z * 1.5);
            hair = blend(
                hair,
                cone(fall, v(0.0, 1.68, -0.06), v(0.0, 1.40, -0.135), 0.080, 0.072) - strands,
                0.03,
            );
            for side in [-1.0f32, 1.0] {
                let lock = cone(p, v(0.066 * side, 1.70, -0.01), v(0.088 * side, 1.45, 0.005), 0.024, 0.022);
                hair = blend(hair, lock - strands, 0.025);
            }
        }
        Hair::Bun => hair = blend(hair, (p - v(0.0, 1.715, -0.115)).length() - 0.042 - strands, 0.015),
        Hair::Short | Hair::Hat => {}
    }
    best.put(hair * 0.8, Part::Hair);
}

/// Colour and gloss of a part at a place of it.
pub(crate) fn look(q: Vec3, part: Part, dress: &Dress, child: bool) -> (Vec3, f32) {
    let weave = 0.88 + 0.24 * noise(q * 90.0);
    let worn = 0.72 + 0.5 * fbm(q * Vec3::new(12.0, 5.0, 12.0), 3);
    let skin = || dress.skin * 0.8 * (0.9 + 0.2 * noise(q * 25.0));
    match part {
        Part::Skin => (skin(), 0.03),
        Part::Face => (face_look(q, skin(), dress, child), 0.03),
        Part::Hair => (dress.hair * (0.45 + 1.1 * noise(q * Vec3::new(240.0, 18.0, 240.0))), 0.02),
        Part::Hat => (Vec3::new(0.52, 0.44, 0.29) * weave, 0.0),
        Part::Top => {
            let light = Vec3::new(0.6, 0.6, 0.58);
            let plain = !dress.striped || dress.over == Top::Jacket || (q.y * 17.0).fract() >= 0.45;
            (if plain { dress.top } else { light } * weave * worn * 0.85, 0.0)
        }
        Part::Shirt => (Vec3::new(0.55, 0.55, 0.56) * weave * worn, 0.0),
        Part::Legs => {
            // Faded over the thighs, darker along the seams.
            let fade = 1.0 + 0.25 * step(0.05, 0.12, q.z) * step(0.5, 0.65, q.y) * step(0.9, 0.75, q.y);
            (dress.legs * weave * worn * fade * 0.9, 0.0)
        }
        Part::Shoes => (if q.y < 0.016 { 0.45 * dress.shoes + Vec3::splat(0.03) } else { dress.shoes }, 0.04),
        Part::Bag => (dress.bag * weave * if (q.y * 9.0).fract() < 0.03 { 0.6 } else { 1.0 }, 0.02),
        Part::Phone => (Vec3::splat(0.012), 0.2),
    }
}

fn face_look(q: Vec3, skin: Vec3, dress: &Dress, child: bool) -> Vec3 {
    let p = if child { (q - Vec3::new(0.0, 1.53, 0.0)) / 1.16 + Vec3::new(0.0, 1.53, 0.0) } else { q };
    if p.z < 0.05 {
        return skin;
    }
    let flushed = skin * Vec3::new(1.06, 0.90, 0.88);
    let cheek = (-Vec2::new(p.x.abs() - 0.042, p.y - 1.622).length_squared() / 0.0006).exp();
    let mut colour = skin.lerp(flushed, cheek);
    let lips = Vec2::new(p.x / 0.023, (p.y - 1.600) / 0.0085).length();
    let mouth = Vec2::new(p.x / 0.022, (p.y - 1.601) / 0.0016).length();
    colour = colour.lerp(skin * Vec3::new(0.85, 0.55, 0.52), step(1.1, 0.8, lips));
    colour *= 1.0 - 0.6 * step(1.2, 0.7, mouth);
    let brow =
        Vec2::new((p.x.abs() - 0.033) / 0.020, (p.y - 1.687 + 0.12 * (p.x.abs() - 0.033)) / 0.0045).length();
    colour = colour.lerp(dress.hair * 0.8, 0.8 * step(1.2, 0.7, brow));
    let at = Vec2::new(p.x.abs() - 0.031, p.y - 1.662);
    let open = Vec2::new(at.x / 0.0130, at.y / 0.0047).length();
    if open < 1.25 {
        // The upper lid covers some of the iris.
        let iris = step(0.0066, 0.0050, Vec2::new(at.x, at.y - 0.0012).length());
        let eye = (skin * 0.5 + Vec3::splat(0.16)).lerp(Vec3::new(0.045, 0.03, 0.02), iris);
        // Lashes: the edge of an eye is dark.
        colour = (skin * 0.35).lerp(eye, step(1.05, 0.80, open));
    }
    colour
}
