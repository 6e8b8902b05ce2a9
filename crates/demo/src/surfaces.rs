//! What the places are made of: colour, relief and gloss of each surface, and the sky.

use crate::texture::{blocks, cell, fbm, noise, step};
use crate::trace::{Hit, Stuff};
use glam::{Vec2, Vec3};

/// Where the round tower stands, its radius and height.
pub(crate) const TOWER: (Vec3, f32, f32) = (Vec3::new(4.2, 0.0, 25.0), 5.4, 5.6);

/// Surface colour, bumped normal and share of mirror-like light.
pub(crate) struct Look {
    /// Linear colour.
    pub colour: Vec3,
    /// Bumped unit normal.
    pub normal: Vec3,
    /// 0..=1.
    pub gloss: f32,
}

/// Sky, clouds and far hills in a direction.
pub(crate) fn sky(d: Vec3, sun: Vec3, drift: f32) -> Vec3 {
    let height = d.y.max(0.0);
    let azimuth = d.x.atan2(d.z);
    for (k, (base, haze)) in [(0.012, 0.25), (0.033, 0.5), (0.055, 0.72)].into_iter().enumerate() {
        let k = k as f32;
        let ridge = base + 0.05 * (fbm(Vec3::new(azimuth * (5.0 - k), 3.0 * k, 0.0), 6) - 0.45);
        if d.y < ridge {
            let depth = (ridge - d.y) * 30.0;
            let trees = fbm(Vec3::new(azimuth * 160.0, d.y * 320.0, k), 5);
            let green = Vec3::new(0.075, 0.10, 0.045) * (0.5 + trees) + Vec3::splat(0.01 * depth);
            return green.lerp(Vec3::new(0.52, 0.61, 0.70), haze);
        }
    }
    let clear =
        Vec3::new(0.66, 0.74, 0.80).lerp(Vec3::new(0.16, 0.31, 0.60), (height * 2.0).powf(0.55).min(1.0));
    let glow = d.dot(sun).max(0.0).powi(12) * 0.25;
    let clear = clear + Vec3::new(1.0, 0.9, 0.75) * glow;
    let plane = Vec3::new(d.x, 0.0, d.z) / (height + 0.10);
    let p = plane * 1.7 + Vec3::new(3.2 + drift, 0.0, 1.1 + 0.4 * drift);
    let density = fbm(p, 7) + 0.12 * fbm(p * 0.35, 2) - 0.06;
    let cover = step(0.50, 0.72, density) * step(0.02, 0.14, height);
    // Denser parts are seen from below: greyer.
    let shade = fbm(p + Vec3::new(0.07, 0.0, 0.05), 6) - fbm(p - Vec3::new(0.07, 0.0, 0.05), 6);
    let bright = (0.93 - 0.42 * step(0.58, 0.85, density) + 0.8 * shade).clamp(0.45, 1.05);
    clear.lerp(Vec3::new(0.97, 0.98, 1.0) * bright, cover)
}

/// Light that a surface gives by itself, as far as the eye sees it: so bright that brass mirrors it blown out.
pub(crate) fn emitted(stuff: Stuff) -> Option<Vec3> {
    (stuff == Stuff::Sheet).then_some(Vec3::new(12.0, 11.5, 10.5))
}

/// The share of it that lights other things: a sheet whose light falls off as none does, so that a mirrored one may be blown out
/// beside a table that is not.
pub(crate) const THROWN: f32 = 0.25;

/// Average colours, for light that bounced.
pub(crate) fn look_flat(hit: &Hit) -> Vec3 {
    match hit.stuff {
        Stuff::Ground => Vec3::new(0.30, 0.27, 0.23),
        Stuff::Leaf => Vec3::new(0.05, 0.09, 0.03),
        Stuff::Dark | Stuff::Glass | Stuff::Iron | Stuff::Bark => Vec3::splat(0.06),
        Stuff::Tiles => Vec3::new(0.22, 0.11, 0.08),
        Stuff::Door => Vec3::new(0.06, 0.13, 0.13),
        Stuff::Dome => Vec3::new(0.34, 0.36, 0.37),
        Stuff::Brass => Vec3::new(0.4, 0.28, 0.12),
        Stuff::Cloth => Vec3::new(0.060, 0.072, 0.078),
        _ => Vec3::new(0.42, 0.38, 0.32),
    }
}

/// Colour, normal and gloss where a ray met something at `p`, so far from the eye.
pub(crate) fn look(hit: &Hit, p: Vec3, distance: f32) -> Look {
    let n = hit.normal;
    let plain = |colour: Vec3| Look { colour, normal: n, gloss: 0.0 };
    // A bump fades where it would be smaller than a pixel.
    let fine = 1.0 / (1.0 + distance * 0.04);
    match hit.stuff {
        Stuff::Ground => ground(p, fine),
        Stuff::Ashlar => {
            let angle = (p.x - TOWER.0.x).atan2(p.z - TOWER.0.z);
            stone(Vec2::new(angle * TOWER.1, p.y), p, n, (0.78, 0.36), Vec3::new(0.50, 0.43, 0.33), fine)
        }
        Stuff::Trim => {
            let stain = fbm(p * 1.7, 5);
            let grain = fbm(p * 23.0, 3);
            plain(Vec3::new(0.52, 0.47, 0.39) * (0.62 + 0.45 * stain + 0.22 * grain))
        }
        Stuff::Plaster => {
            let streak = fbm(Vec3::new(p.x * 2.4, p.y * 0.35, p.z * 2.4), 5);
            let damp = step(0.9, 0.1, p.y + 0.5 * fbm(p * 1.1, 4));
            let grain = fbm(p * 34.0, 3);
            let colour = Vec3::new(0.60, 0.51, 0.38) * (0.70 + 0.30 * streak + 0.18 * grain);
            let bump = Vec3::new(noise(p * 28.0), noise(p * 28.0 + 9.0), noise(p * 28.0 + 5.0)) - 0.5;
            Look {
                colour: colour * (1.0 - 0.45 * damp),
                normal: (n + 0.22 * fine * bump).normalize(),
                gloss: 0.0,
            }
        }
        Stuff::Dome => {
            let q = p - (TOWER.0 + Vec3::Y * (TOWER.2 + 0.5));
            let (angle, rise) = (q.x.atan2(q.z), (q.y / (TOWER.1 - 0.2)).asin());
            let (u, v) = (angle * 28.0 / std::f32::consts::TAU, rise * 6.0);
            let seam = (u - u.floor() - 0.5).abs().max((v - v.floor() - 0.5).abs() * 0.97);
            let panel = cell(u, v, 3);
            let weather = fbm(Vec3::new(angle * 9.0, rise * 2.5, 1.0), 5);
            let colour = Vec3::new(0.36, 0.385, 0.39) * (0.72 + 0.22 * panel + 0.35 * weather);
            let tilt = Vec3::new(panel - 0.5, cell(u, v, 8) - 0.5, cell(u, v, 9) - 0.5) * 0.05;
            let dark = 1.0 - 0.55 * step(0.478, 0.495, seam);
            Look { colour: colour * dark, normal: (n + tilt).normalize(), gloss: 0.16 }
        }
        Stuff::Tiles => {
            let (c, joint) = blocks(Vec2::new(p.x, p.y * 1.7), 0.24, 0.19);
            let shade = 0.65 + 0.5 * cell(c.x, c.y, 2) + 0.3 * (fbm(p * 2.0, 4) - 0.5);
            let moss = step(0.55, 0.75, fbm(p * 1.3, 5));
            let row = (p.y * 1.7 / 0.19).fract();
            let colour = Vec3::new(0.33, 0.155, 0.10).lerp(Vec3::new(0.14, 0.14, 0.07), 0.6 * moss);
            plain(colour * shade * (0.55 + 0.45 * step(0.0, 0.02, joint)) * (0.75 + 0.35 * row))
        }
        Stuff::Glass => Look {
            colour: Vec3::new(0.02, 0.024, 0.027),
            normal: (n + 0.012 * (noise(p * 1.5) - 0.5)).normalize(),
            gloss: 0.28,
        },
        Stuff::Door => {
            let plank = p.x * 5.5 - (p.x * 5.5).floor();
            let gap = step(0.03, 0.07, plank.min(1.0 - plank));
            let worn = fbm(Vec3::new(p.x * 9.0, p.y * 1.2, 0.0), 4);
            Look {
                colour: Vec3::new(0.055, 0.125, 0.12) * (0.7 + 0.6 * worn) * (0.4 + 0.6 * gap),
                normal: n,
                gloss: 0.03,
            }
        }
        Stuff::Leaf => {
            let tint = cell(p.x * 7.0, p.y * 7.0, (p.z * 7.0) as i32);
            let young = fbm(p * 0.8, 3);
            plain(Vec3::new(0.085, 0.135, 0.032) * (0.5 + 0.9 * tint) + Vec3::new(0.05, 0.04, 0.0) * young)
        }
        Stuff::Bark => {
            plain(Vec3::new(0.13, 0.10, 0.075) * (0.5 + fbm(Vec3::new(p.x * 14.0, p.y * 2.5, p.z * 14.0), 5)))
        }
        Stuff::Brass => Look { colour: Vec3::new(0.45, 0.29, 0.10), normal: n, gloss: 0.55 },
        Stuff::Iron => Look {
            colour: Vec3::new(0.07, 0.08, 0.085) * (0.8 + 0.4 * noise(p * 30.0)),
            normal: n,
            gloss: 0.05,
        },
        Stuff::Dark => plain(Vec3::splat(0.018)),
        Stuff::Board => board(p, n),
        Stuff::Sheet => plain(Vec3::ONE),
        Stuff::Cloth => {
            let folds = fbm(Vec3::new(p.x * 1.6, p.y * 0.5, p.z * 1.6), 4);
            let weave = 0.8 + 0.4 * noise(p * 160.0);
            plain(Vec3::new(0.060, 0.072, 0.078) * (0.45 + 1.1 * folds) * weave)
        }
    }
}

fn ground(p: Vec3, fine: f32) -> Look {
    let q = Vec2::new(p.x, p.z);
    let wander = 0.5 * (fbm(p * 0.35, 4) - 0.5);
    let edge = (q.x.abs() - 12.5 - 1.2 * wander).max(q.y - 23.5);
    if edge < 0.0 {
        let (c, joint) = blocks(Vec2::new(q.x * 0.995 + 0.1 * q.y, q.y - 0.1 * q.x), 0.92, 0.58);
        let tone = 0.60 + 0.46 * cell(c.x, c.y, 21);
        let warm = cell(c.x, c.y, 22);
        let wear = fbm(p * 0.55, 5);
        let grain = fbm(p * 19.0, 4);
        let spots = step(0.66, 0.74, fbm(p * 6.0, 4));
        let stone = Vec3::new(0.345, 0.316, 0.275).lerp(Vec3::new(0.37, 0.30, 0.235), warm * 0.7);
        let colour = stone * tone * (0.36 + 0.70 * wear + 0.50 * grain) * (1.0 - 0.35 * spots);
        let rough = 0.012 * (noise(p * 9.0) - 0.5);
        let gap = step(0.002, 0.013, joint + rough);
        let moss = Vec3::new(0.085, 0.085, 0.045)
            .lerp(Vec3::new(0.06, 0.085, 0.03), step(0.5, 0.65, fbm(p * 0.9, 3)));
        let bump = Vec3::new(noise(p * 22.0) - 0.5, 0.0, noise(p * 22.0 + 7.0) - 0.5);
        let tilt = Vec3::new(cell(c.x, c.y, 31) - 0.5, 0.0, cell(c.x, c.y, 32) - 0.5) * 0.05;
        return Look {
            colour: moss.lerp(colour, gap),
            normal: (Vec3::Y + 0.30 * fine * bump + tilt).normalize(),
            gloss: 0.0,
        };
    }
    let gravel = step(1.6, 1.2, edge + 0.3 * wander);
    let stones = noise(p * 30.0) * 0.6 + noise(p * 55.0) * 0.4;
    let pebbles = Vec3::new(0.40, 0.36, 0.30) * (0.45 + 0.75 * stones);
    let blades = fbm(Vec3::new(p.x * 26.0, 0.0, p.z * 9.0), 4);
    let dry = fbm(p * 0.25, 4);
    let grass =
        Vec3::new(0.105, 0.135, 0.045).lerp(Vec3::new(0.22, 0.19, 0.09), dry * 0.7) * (0.35 + 1.15 * blades);
    let bump = Vec3::new(noise(p * 33.0) - 0.5, 0.0, noise(p * 33.0 + 3.0) - 0.5);
    Look {
        colour: grass.lerp(pebbles, gravel),
        normal: (Vec3::Y + 0.9 * fine * bump).normalize(),
        gloss: 0.0,
    }
}

fn stone(uv: Vec2, p: Vec3, n: Vec3, (w, h): (f32, f32), base: Vec3, fine: f32) -> Look {
    let (c, joint) = blocks(uv, w, h);
    let rough = 0.014 * (noise(p * 11.0) - 0.5);
    let face = step(0.006, 0.024, joint + rough);
    let tone = 0.66 + 0.42 * cell(c.x, c.y, 41);
    let warm = cell(c.x, c.y, 42) - 0.5;
    let grain = fbm(p * 16.0, 4);
    let stain = fbm(Vec3::new(p.x * 0.8, p.y * 0.25, p.z * 0.8), 5);
    let colour = (base + Vec3::new(0.05, 0.0, -0.05) * warm) * tone * (0.55 + 0.42 * grain + 0.42 * stain);
    let bump = Vec3::new(noise(p * 14.0), noise(p * 14.0 + 9.0), noise(p * 14.0 + 5.0)) - 0.5;
    let mortar = Vec3::new(0.36, 0.33, 0.28) * (0.5 + 0.5 * grain);
    Look { colour: mortar.lerp(colour, face), normal: (n + 0.5 * fine * bump).normalize(), gloss: 0.0 }
}

/// A notice board: lines of something like writing, and a round emblem.
fn board(p: Vec3, n: Vec3) -> Look {
    let (u, v) = (p.x + 5.6, p.y);
    let emblem =
        (Vec2::new(u, v - 1.12).length() - 0.12).abs() < 0.018 || Vec2::new(u, v - 1.12).length() < 0.045;
    let line = ((v - 0.42) / 0.085).fract();
    let text = (0.42..0.93).contains(&v)
        && (0.25..0.68).contains(&line)
        && u.abs() < 0.27
        && noise(Vec3::new(u * 60.0, (v / 0.085).floor() * 7.0, 0.0)) > 0.42;
    let ink = emblem || text;
    let paper = Vec3::new(0.74, 0.71, 0.62) * (0.92 + 0.1 * noise(p * 8.0));
    Look { colour: if ink { Vec3::new(0.07, 0.09, 0.16) } else { paper }, normal: n, gloss: 0.01 }
}
