//! The forecourt of an invented observatory on a hill, without people: shapes, materials, sky and light.
//!
//! Metres; x to the right, y up, z ahead; the camera stands at eye height above the origin. Light is the sun as a
//! small disc, the sky's ambient light gathered by a few cosine-distributed rays, and one bounce of it.

use crate::texture::{blocks, cell, fbm, noise, step};
use crate::trace::{Hit, Ray, Shape, Stuff, Thing, Things};
use evanu_core::random::Random;
use glam::{Vec2, Vec3};

/// The still part of the forecourt.
pub struct Place {
    things: Things,
    /// Unit direction to the sun.
    pub sun: Vec3,
}

/// What a ray from the camera sees.
#[derive(Clone, Copy)]
pub struct Seen {
    /// Linear light.
    pub light: Vec3,
    /// Share of it that comes straight from the sun, 0..=1.
    pub sunlit: f32,
    /// Distance; infinite for the sky.
    pub distance: f32,
}

/// Light of the sun and of the clear sky overhead.
pub const SUN: Vec3 = Vec3::new(1.72, 1.54, 1.26);
const SKY: Vec3 = Vec3::new(0.225, 0.285, 0.40);
/// Radius of the sun's disc in radians, a little hazy.
const DISC: f32 = 0.008;
/// Where the round tower stands, its radius and height.
const TOWER: (Vec3, f32, f32) = (Vec3::new(4.2, 0.0, 25.0), 5.4, 5.6);

/// Surface colour, bumped normal and share of mirror-like light.
struct Look {
    colour: Vec3,
    normal: Vec3,
    gloss: f32,
}

impl Place {
    /// Builds the place; `seed` settles leaves and stones.
    pub fn new(seed: u64) -> Self {
        let mut random = Random::new(seed);
        let mut things = buildings();
        things.extend(furniture());
        for (x, z, size, leaves) in
            [(-14.5, 25.0, 3.4, 30_000), (15.5, 31.0, 3.9, 30_000), (-21.0, 34.0, 4.2, 18_000)]
        {
            things.extend(tree(&mut random, Vec3::new(x, 0.0, z), size, leaves));
        }
        for (x, z) in [(-2.1, 19.2), (-9.8, 20.2), (10.6, 17.0)] {
            things.extend(shrub(&mut random, Vec3::new(x, 0.62, z), 0.62));
            let (a, b) = (Vec3::new(x - 0.55, 0.0, z - 0.55), Vec3::new(x + 0.55, 0.62, z + 0.55));
            things.push(Thing { shape: Shape::Box(a, b), stuff: Stuff::Trim });
        }
        for k in 0..9 {
            let x = 10.2 + 1.35 * k as f32;
            things.extend(shrub(&mut random, Vec3::new(x, 0.35, 20.3 + 0.25 * (k % 3) as f32), 0.75));
        }
        Self { things: Things::new(things), sun: Vec3::new(-0.62, 0.66, -0.44).normalize() }
    }

    fn hit(&self, ray: &Ray, far: f32) -> Option<Hit> {
        let ground = (ray.direction.y < -1e-4).then(|| -ray.origin.y / ray.direction.y).filter(|t| *t < far);
        let thing = self.things.nearest(ray, ground.unwrap_or(far));
        thing.or(ground.map(|t| Hit { t, normal: Vec3::Y, stuff: Stuff::Ground }))
    }

    /// Whether a point sees one random point of the sun's disc.
    pub fn sunny(&self, p: Vec3, random: &mut Random) -> bool {
        !self.things.blocked(&Ray { origin: p, direction: self.towards_sun(random) }, 120.0)
    }

    /// The sky in a direction when its clouds have drifted so far, in their own size.
    pub fn sky(&self, direction: Vec3, drift: f32) -> Vec3 {
        sky(direction, self.sun, drift)
    }

    /// A random direction to the sun's disc.
    pub fn towards_sun(&self, random: &mut Random) -> Vec3 {
        (self.sun + DISC * sphere(random)).normalize()
    }

    /// Traces one ray.
    pub fn see(&self, ray: &Ray, random: &mut Random) -> Seen {
        let Some(hit) = self.hit(ray, 400.0) else {
            return Seen { light: sky(ray.direction, self.sun, 0.0), sunlit: 0.0, distance: f32::INFINITY };
        };
        let p = ray.at(hit.t);
        let look = look(&hit, p, hit.t);
        let n = look.normal;
        let start = p + 2e-3 * hit.normal;
        let mut facing = n.dot(self.sun);
        if hit.stuff == Stuff::Leaf {
            facing = facing.max(-0.55 * facing); // light shines through leaves
        }
        let lit = if facing > 0.0 && self.sunny(start, random) { facing } else { 0.0 };
        const RAYS: u32 = 3;
        let mut ambient = Vec3::ZERO;
        for _ in 0..RAYS {
            let d = (hit.normal + 0.999 * sphere(random)).normalize();
            let r = Ray { origin: start, direction: d };
            ambient += match self.hit(&r, 25.0) {
                None => SKY * (0.55 + 0.75 * d.y.max(0.0)),
                Some(h) => {
                    let base = look_flat(&h);
                    let sun = h.normal.dot(self.sun).max(0.0);
                    let seen = sun > 0.0 && random.unit() < 0.6;
                    base * (SKY * 0.45 + if seen { SUN * sun } else { Vec3::ZERO })
                }
            };
        }
        ambient /= RAYS as f32;
        let mut direct = look.colour * SUN * lit;
        let mut other = look.colour * ambient;
        if look.gloss > 0.0 {
            let mirrored = ray.direction - 2.0 * ray.direction.dot(n) * n;
            let grazing = (1.0 + ray.direction.dot(n)).clamp(0.0, 1.0).powi(5);
            let share = look.gloss + (1.0 - look.gloss) * grazing * 0.8;
            let seen = match self.hit(&Ray { origin: start, direction: mirrored }, 80.0) {
                None => sky(mirrored, self.sun, 0.0),
                Some(h) => look_flat(&h) * (SKY + SUN * 0.35 * h.normal.dot(self.sun).max(0.0)),
            };
            let tint = if hit.stuff == Stuff::Brass { Vec3::new(1.0, 0.74, 0.38) } else { Vec3::ONE };
            other = other.lerp(seen * tint, share);
            direct *= 1.0 - share;
            if lit > 0.0 {
                direct += SUN * tint * mirrored.dot(self.sun).max(0.0).powi(90) * look.gloss * 6.0;
            }
        }
        // Air between here and there.
        let haze = 1.0 - (-hit.t / 1400.0).exp();
        let light = (direct + other).lerp(Vec3::new(0.55, 0.62, 0.70), haze);
        let sunlit = (luminance(direct) * (1.0 - haze) / luminance(light).max(1e-6)).clamp(0.0, 1.0);
        Seen { light, sunlit, distance: hit.t }
    }
}

/// Luminance of linear light.
pub fn luminance(v: Vec3) -> f32 {
    v.dot(Vec3::new(0.2126, 0.7152, 0.0722))
}

/// A random unit vector.
pub fn sphere(random: &mut Random) -> Vec3 {
    let (z, a) = (random.within(-1.0, 1.0) as f32, random.within(0.0, std::f64::consts::TAU) as f32);
    let r = (1.0 - z * z).sqrt();
    Vec3::new(r * a.cos(), z, r * a.sin())
}

/// Sky, clouds and far hills in a direction.
fn sky(d: Vec3, sun: Vec3, drift: f32) -> Vec3 {
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

/// Average colours, for light that bounced.
fn look_flat(hit: &Hit) -> Vec3 {
    match hit.stuff {
        Stuff::Ground => Vec3::new(0.30, 0.27, 0.23),
        Stuff::Leaf => Vec3::new(0.05, 0.09, 0.03),
        Stuff::Dark | Stuff::Glass | Stuff::Iron | Stuff::Bark => Vec3::splat(0.06),
        Stuff::Tiles => Vec3::new(0.22, 0.11, 0.08),
        Stuff::Door => Vec3::new(0.06, 0.13, 0.13),
        Stuff::Dome => Vec3::new(0.34, 0.36, 0.37),
        Stuff::Brass => Vec3::new(0.4, 0.28, 0.12),
        _ => Vec3::new(0.42, 0.38, 0.32),
    }
}

fn look(hit: &Hit, p: Vec3, distance: f32) -> Look {
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

fn buildings() -> Vec<Thing> {
    let mut t = Vec::new();
    let mut add = |shape, stuff| t.push(Thing { shape, stuff });
    let v = Vec3::new;
    let (c, r, h) = TOWER;
    add(Shape::Tube(c, r, h), Stuff::Ashlar);
    add(Shape::Tube(c, r + 0.16, 0.55), Stuff::Trim);
    add(Shape::Tube(c + Vec3::Y * h, r + 0.22, 0.28), Stuff::Trim);
    for (rise, radius) in [(h, r + 0.22), (h + 0.28, r + 0.22), (0.55, r + 0.16)] {
        add(Shape::Leaf(c + Vec3::Y * rise, Vec3::Y, radius), Stuff::Trim);
    }
    add(Shape::Tube(c + Vec3::Y * (h + 0.28), r - 0.05, 0.25), Stuff::Iron);
    add(Shape::Cupola(c + Vec3::Y * (h + 0.5), r - 0.2), Stuff::Dome);
    // The slit of the dome: two raised rails with the dark between them.
    for k in 0..26 {
        let at = |a: f32, off: f32| {
            let (s, q) = (r - 0.12, v(-0.30, 0.0, -0.95).normalize());
            let side = v(-q.z, 0.0, q.x);
            c + Vec3::Y * (h + 0.5) + q * (s * a.cos()) + Vec3::Y * (s * a.sin()) + side * off
        };
        let (a, b) = (0.08 + 0.065 * k as f32, 0.08 + 0.065 * (k + 1) as f32);
        for off in [-0.62, 0.62] {
            add(Shape::Rod(at(a, off), at(b, off), 0.10), Stuff::Iron);
        }
        for i in -4..=4 {
            add(Shape::Rod(at(a, 0.13 * i as f32), at(b, 0.13 * i as f32), 0.075), Stuff::Dark);
        }
    }
    // The tower's door with steps, and windows around it.
    let out = v(-0.20, 0.0, -0.98).normalize();
    let side = v(-out.z, 0.0, out.x);
    let foot = c + out * (r + 0.05);
    let slab = |a: Vec3, b: Vec3| Shape::Box(a.min(b), a.max(b));
    add(slab(foot - side * 1.15 + out * 0.30, foot + side * 1.15 + Vec3::Y * 3.05 - out * 0.55), Stuff::Trim);
    add(slab(foot - side * 0.82 + out * 0.34, foot + side * 0.82 + Vec3::Y * 2.6 - out * 0.3), Stuff::Door);
    for (k, rise) in [(0.9, 0.16), (0.55, 0.32)] {
        add(
            slab(foot - side * 1.7 + out * (k + 0.3), foot + side * 1.7 + Vec3::Y * rise - out * 0.5),
            Stuff::Trim,
        );
    }
    for angle in [-1.05f32, 0.62, 1.25] {
        let d = v((std::f32::consts::PI + angle).sin(), 0.0, (std::f32::consts::PI + angle).cos());
        let m = c + d * (r - 0.02) + Vec3::Y * 3.2;
        let s = v(-d.z, 0.0, d.x);
        for k in -3..=3 {
            let off = s * (0.11 * k as f32);
            add(Shape::Rod(m + off - Vec3::Y * 0.75, m + off + Vec3::Y * 0.75, 0.065), Stuff::Glass);
        }
        for k in [-0.45f32, 0.0, 0.45] {
            add(
                Shape::Rod(m + s * k - Vec3::Y * 0.8 + d * 0.07, m + s * k + Vec3::Y * 0.8 + d * 0.07, 0.035),
                Stuff::Door,
            );
        }
        add(Shape::Rod(m - s * 0.55 - Vec3::Y * 0.85, m + s * 0.55 - Vec3::Y * 0.85, 0.13), Stuff::Trim);
        add(Shape::Rod(m - s * 0.55 + Vec3::Y * 0.88, m + s * 0.55 + Vec3::Y * 0.88, 0.13), Stuff::Trim);
    }
    // The wing: wall, plinth, windows with sills and shutters, a door, a tiled roof.
    let (x0, x1, z0, z1, top) = (-13.0, -0.2, 23.0, 29.0, 3.9);
    add(Shape::Box(v(x0, 0.0, z0), v(x1, top, z1)), Stuff::Plaster);
    add(Shape::Box(v(x0 - 0.06, 0.0, z0 - 0.08), v(x1, 0.5, z1)), Stuff::Trim);
    add(Shape::Box(v(x0 - 0.15, top, z0 - 0.2), v(x1 + 0.1, top + 0.18, z1 + 0.2)), Stuff::Trim);
    for k in 0..5 {
        let x = x0 + 1.5 + 2.45 * k as f32;
        if k == 3 {
            add(Shape::Box(v(x - 0.72, 0.0, z0 - 0.12), v(x + 0.72, 2.55, z0 + 0.1)), Stuff::Trim);
            add(Shape::Box(v(x - 0.55, 0.1, z0 - 0.15), v(x + 0.55, 2.38, z0 + 0.1)), Stuff::Door);
            continue;
        }
        add(Shape::Box(v(x - 0.62, 1.0, z0 - 0.07), v(x + 0.62, 3.0, z0)), Stuff::Trim);
        add(Shape::Box(v(x - 0.48, 1.14, z0 - 0.085), v(x + 0.48, 2.86, z0)), Stuff::Glass);
        for dx in [-0.48, 0.0, 0.48] {
            add(Shape::Box(v(x + dx - 0.03, 1.12, z0 - 0.12), v(x + dx + 0.03, 2.88, z0)), Stuff::Door);
        }
        for y in [1.12, 2.0, 2.86] {
            add(Shape::Box(v(x - 0.5, y - 0.03, z0 - 0.11), v(x + 0.5, y + 0.03, z0)), Stuff::Door);
        }
        add(Shape::Box(v(x - 0.75, 0.92, z0 - 0.2), v(x + 0.75, 1.02, z0)), Stuff::Trim);
        for s in [-1.0f32, 1.0] {
            let a = x + s * 0.64;
            add(
                Shape::Box(v(a.min(a + s * 0.42), 1.05, z0 - 0.1), v(a.max(a + s * 0.42), 2.95, z0 - 0.04)),
                Stuff::Door,
            );
        }
    }
    let (eave, ridge, mid) = (top + 0.18, top + 2.3, (z0 + z1) * 0.5);
    add(Shape::Box(v(x0 - 0.4, top + 0.10, z0 - 0.45), v(x1 + 0.5, eave + 0.01, z0)), Stuff::Bark);
    let (a, b) = (v(x0 - 0.4, eave, z0 - 0.45), v(x1 + 0.5, eave, z0 - 0.45));
    let (d, e) = (v(x0 - 0.4, ridge, mid), v(x1 + 0.5, ridge, mid));
    add(Shape::Triangle(a, b, e), Stuff::Tiles);
    add(Shape::Triangle(a, e, d), Stuff::Tiles);
    add(Shape::Triangle(v(x0, eave, z0), v(x0, eave, z1), v(x0, ridge, mid)), Stuff::Plaster);
    add(Shape::Box(v(-9.2, 5.2, 25.3), v(-8.4, 7.3, 26.1)), Stuff::Trim);
    add(Shape::Box(v(-9.3, 7.2, 25.2), v(-8.3, 7.4, 26.2)), Stuff::Trim);
    // A low wall with a coping on the right.
    add(Shape::Box(v(9.4, 0.0, 19.2), v(26.0, 0.85, 19.7)), Stuff::Plaster);
    add(Shape::Box(v(9.3, 0.85, 19.1), v(26.0, 0.98, 19.8)), Stuff::Trim);
    t
}

fn furniture() -> Vec<Thing> {
    let mut t = Vec::new();
    let mut add = |shape, stuff| t.push(Thing { shape, stuff });
    let v = Vec3::new;
    // A bench in front of the wing.
    for k in 0..4 {
        let z = 21.9 + 0.13 * k as f32;
        add(Shape::Box(v(-7.4, 0.44, z), v(-5.4, 0.48, z + 0.1)), Stuff::Bark);
        add(
            Shape::Box(v(-7.4, 0.55 + 0.12 * k as f32, 22.45), v(-5.4, 0.64 + 0.12 * k as f32, 22.49)),
            Stuff::Bark,
        );
    }
    for x in [-7.3f32, -5.5] {
        add(Shape::Rod(v(x, 0.0, 21.95), v(x, 0.44, 21.95), 0.03), Stuff::Iron);
        add(Shape::Rod(v(x, 0.0, 22.45), v(x, 1.02, 22.5), 0.03), Stuff::Iron);
    }
    // Lamp posts.
    for (x, z) in [(-11.2, 16.5), (8.9, 21.0)] {
        add(Shape::Rod(v(x, 0.0, z), v(x, 3.3, z), 0.055), Stuff::Iron);
        add(Shape::Rod(v(x, 0.0, z), v(x, 0.7, z), 0.10), Stuff::Iron);
        add(Shape::Box(v(x - 0.17, 3.3, z - 0.17), v(x + 0.17, 3.72, z + 0.17)), Stuff::Glass);
        for (a, b) in [(-0.17, -0.17), (0.17, -0.17), (-0.17, 0.17), (0.17, 0.17)] {
            add(Shape::Rod(v(x + a, 3.28, z + b), v(x + a, 3.74, z + b), 0.025), Stuff::Iron);
        }
        add(Shape::Cupola(v(x, 3.72, z), 0.25), Stuff::Iron);
    }
    // The brass telescope on its stand.
    let top = v(7.2, 1.42, 14.6);
    for k in 0..3 {
        let a = 0.5 + k as f32 * std::f32::consts::TAU / 3.0;
        add(Shape::Rod(top, v(top.x + 0.52 * a.cos(), 0.0, top.z + 0.52 * a.sin()), 0.035), Stuff::Bark);
    }
    let d = v(-0.55, 0.52, 0.65).normalize();
    add(Shape::Rod(top - Vec3::Y * 0.15, top + Vec3::Y * 0.12, 0.07), Stuff::Iron);
    add(Shape::Rod(top + Vec3::Y * 0.16 - d * 0.62, top + Vec3::Y * 0.16 + d * 0.75, 0.075), Stuff::Brass);
    add(Shape::Rod(top + Vec3::Y * 0.16 + d * 0.62, top + Vec3::Y * 0.16 + d * 0.95, 0.095), Stuff::Brass);
    add(Shape::Rod(top + Vec3::Y * 0.16 - d * 0.85, top + Vec3::Y * 0.16 - d * 0.6, 0.045), Stuff::Brass);
    // The notice board.
    add(Shape::Box(v(-5.98, 0.30, 16.0), v(-5.22, 1.36, 16.04)), Stuff::Board);
    for x in [-5.98f32, -5.22] {
        add(Shape::Rod(v(x, 0.0, 16.05), v(x, 1.42, 16.02), 0.03), Stuff::Bark);
        add(Shape::Rod(v(x, 0.0, 16.5), v(x, 1.42, 16.06), 0.025), Stuff::Bark);
    }
    // Bollards with a chain along the gravel.
    for k in 0..5 {
        let p = v(9.6 + 0.35 * k as f32, 0.0, 9.0 + 1.9 * k as f32);
        add(Shape::Rod(p, p + Vec3::Y * 0.75, 0.09), Stuff::Trim);
    }
    t
}

fn tree(random: &mut Random, foot: Vec3, size: f32, leaves: usize) -> Vec<Thing> {
    let mut t = Vec::new();
    let crown = foot + Vec3::Y * (size * 1.55);
    t.push(Thing { shape: Shape::Rod(foot, crown, 0.09 * size), stuff: Stuff::Bark });
    let clusters: Vec<(Vec3, f32)> = (0..34)
        .map(|_| {
            let d = sphere(random) * Vec3::new(1.0, 0.8, 1.0);
            let far = random.within(0.45, 0.95) as f32;
            (crown + d * size * far, random.within(0.22, 0.42) as f32 * size)
        })
        .collect();
    for (c, _) in clusters.iter().step_by(3) {
        t.push(Thing {
            shape: Shape::Rod(crown - Vec3::Y * size * 0.5, *c, 0.02 * size),
            stuff: Stuff::Bark,
        });
    }
    for _ in 0..leaves {
        let (c, r) = clusters[random.below(clusters.len())];
        let p = c + sphere(random) * r * (random.unit() as f32).powf(0.4);
        let n = (sphere(random) + Vec3::Y * 0.5).normalize();
        t.push(Thing { shape: Shape::Leaf(p, n, random.within(0.035, 0.075) as f32), stuff: Stuff::Leaf });
    }
    t
}

fn shrub(random: &mut Random, middle: Vec3, radius: f32) -> Vec<Thing> {
    (0..1500)
        .map(|_| {
            let d = sphere(random);
            let lump = 0.75 + 0.35 * noise(d * 2.6 + middle);
            let p = middle
                + Vec3::new(d.x, d.y.abs() * 0.9, d.z) * radius * lump * (random.unit() as f32).powf(0.25);
            let n = (d + 0.8 * sphere(random)).normalize();
            Thing { shape: Shape::Leaf(p, n, random.within(0.022, 0.05) as f32), stuff: Stuff::Leaf }
        })
        .collect()
}
