//! What the parts of a person look like.

use super::{Dress, Part, Top, grown};
use crate::texture::{fbm, noise, step};
use glam::{Vec2, Vec3};

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
    let p = if child { grown(q) } else { q };
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
