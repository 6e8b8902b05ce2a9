//! How far a place is from a person, and which part is nearest.

use super::stance::{Leg, Stance};
use super::{Bag, Below, CHILD, Dress, Hair, Part, Top, grown};
use crate::solid::{blend, cone, ellipsoid, slab};
use crate::texture::{fbm, step};
use glam::{Vec2, Vec3};

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
    let (p, large) = if child { (grown(q), CHILD.0) } else { (q, 1.0) };
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

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::random::Random;

    #[test]
    fn people_stand_on_the_ground_within_the_ball_that_rays_are_asked_about() {
        let mut random = Random::new(8);
        for k in 0..60 {
            let dress = Dress::random(&mut random);
            let way = random.within(-3.0, 3.0) as f32;
            let stance = if k % 2 == 0 { Stance::Walks(way) } else { Stance::Stands(way) };
            let of = |p: Vec3| distance(p, &dress, stance, k % 5 == 0).0;
            assert!(
                of(Vec3::new(0.0, 1.2, 0.0)) < 0.0 && of(Vec3::new(0.0, 1.66, 0.0)) < 0.0,
                "it has a body and a head"
            );
            let mut low = false;
            for _ in 0..4000 {
                let mut at = |reach: f64| random.within(-reach, reach) as f32;
                let p = Vec3::new(at(1.3), 0.92 + at(1.3), at(1.3));
                let inside = of(p) < 0.0;
                assert!(!inside || p.distance(Vec3::Y * 0.92) < 1.02, "{p} is outside the ball");
                assert!(!inside || p.y > -0.03, "{p} is in the ground");
                let foot = Vec3::new(at(0.2), 0.03, at(0.5));
                low |= of(foot) < 0.0;
            }
            assert!(low, "a foot is on the ground");
        }
    }
}
