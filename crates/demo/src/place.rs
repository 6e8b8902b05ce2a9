//! A place of the invented observatory on a hill, without people: its things, and the light on them.
//!
//! Metres; x to the right, y up, z ahead; the camera stands at eye height above the origin. Light is the sun as a
//! small disc, the sky's ambient light gathered by a few cosine-distributed rays, and one bounce of it.

use crate::surfaces::{THROWN, emitted, look, look_flat, sky};
use crate::trace::{Hit, Ray, Shape, Stuff, Thing, Things};
use evanu_core::random::Random;
use glam::Vec3;

/// The still part of a place.
pub(crate) struct Place {
    things: Things,
    /// Corners of a lit sheet that hangs level.
    sheet: Option<(Vec3, Vec3)>,
    /// Unit direction to the sun.
    pub sun: Vec3,
}

/// What a ray from the camera sees.
#[derive(Clone, Copy)]
pub(crate) struct Seen {
    /// Linear light.
    pub light: Vec3,
    /// Share of it that comes straight from the sun, 0..=1.
    pub sunlit: f32,
    /// Distance; infinite for the sky.
    pub distance: f32,
}

/// Light of the sun and of the clear sky overhead.
pub(crate) const SUN: Vec3 = Vec3::new(1.72, 1.54, 1.26);
const SKY: Vec3 = Vec3::new(0.225, 0.285, 0.40);
/// Radius of the sun's disc in radians, a little hazy.
const DISC: f32 = 0.008;

impl Place {
    /// A place of these things, on the courtyard's ground.
    pub(crate) fn new(things: Vec<Thing>) -> Self {
        let sheet = things.iter().find_map(|t| match t.shape {
            Shape::Box(a, b) if t.stuff == Stuff::Sheet => Some((a, b)),
            _ => None,
        });
        Self { things: Things::new(things), sheet, sun: Vec3::new(-0.62, 0.66, -0.44).normalize() }
    }

    fn hit(&self, ray: &Ray, far: f32) -> Option<Hit> {
        let ground = (ray.direction.y < -1e-4).then(|| -ray.origin.y / ray.direction.y).filter(|t| *t < far);
        let thing = self.things.nearest(ray, ground.unwrap_or(far));
        thing.or(ground.map(|t| Hit { t, normal: Vec3::Y, stuff: Stuff::Ground }))
    }

    /// Whether a point sees one random point of the sun's disc.
    pub(crate) fn sunny(&self, p: Vec3, random: &mut Random) -> bool {
        !self.things.blocked(&Ray { origin: p, direction: self.towards_sun(random) }, 120.0)
    }

    /// The sky in a direction when its clouds have drifted so far, in their own size.
    pub(crate) fn sky(&self, direction: Vec3, drift: f32) -> Vec3 {
        sky(direction, self.sun, drift)
    }

    /// A random direction to the sun's disc.
    pub(crate) fn towards_sun(&self, random: &mut Random) -> Vec3 {
        (self.sun + DISC * sphere(random)).normalize()
    }

    /// Light that falls on a surface from the sheet, as if all of the sky gave it.
    fn sheet_light(&self, p: Vec3, normal: Vec3, random: &mut Random) -> Vec3 {
        const POINTS: u32 = 6;
        let (Some((a, b)), Some(light)) = (self.sheet, emitted(Stuff::Sheet)) else { return Vec3::ZERO };
        let share = |_| {
            let on = a + (b - a) * Vec3::new(random.unit() as f32, -0.02, random.unit() as f32);
            let (way, far) = ((on - p).normalize(), on.distance(p));
            let facing = normal.dot(way).max(0.0) * way.y.max(0.0);
            let free = facing > 0.0 && !self.things.blocked(&Ray { origin: p, direction: way }, far - 1e-2);
            if free { facing * (b.x - a.x) * (b.z - a.z) / (std::f32::consts::PI * far * far) } else { 0.0 }
        };
        THROWN * light * (0..POINTS).map(share).sum::<f32>() / POINTS as f32
    }

    /// Traces one ray.
    pub(crate) fn see(&self, ray: &Ray, random: &mut Random) -> Seen {
        let Some(hit) = self.hit(ray, 400.0) else {
            return Seen { light: sky(ray.direction, self.sun, 0.0), sunlit: 0.0, distance: f32::INFINITY };
        };
        if let Some(light) = emitted(hit.stuff) {
            return Seen { light, sunlit: 0.0, distance: hit.t };
        }
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
                    if h.stuff == Stuff::Sheet {
                        continue; // its light is counted below, with far less left to chance
                    }
                    let base = look_flat(&h);
                    let sun = h.normal.dot(self.sun).max(0.0);
                    let seen = sun > 0.0 && random.unit() < 0.6;
                    base * (SKY * 0.45 + if seen { SUN * sun } else { Vec3::ZERO })
                }
            };
        }
        ambient = ambient / RAYS as f32 + self.sheet_light(start, n, random);
        let mut direct = look.colour * SUN * lit;
        let mut other = look.colour * ambient;
        if look.gloss > 0.0 {
            let mirrored = ray.direction - 2.0 * ray.direction.dot(n) * n;
            let grazing = (1.0 + ray.direction.dot(n)).clamp(0.0, 1.0).powi(5);
            let share = look.gloss + (1.0 - look.gloss) * grazing * 0.8;
            let seen = match self.hit(&Ray { origin: start, direction: mirrored }, 80.0) {
                None => sky(mirrored, self.sun, 0.0),
                Some(h) if emitted(h.stuff).is_some() => emitted(h.stuff).unwrap_or_default(),
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
pub(crate) fn luminance(v: Vec3) -> f32 {
    v.dot(Vec3::new(0.2126, 0.7152, 0.0722))
}

/// A random unit vector.
pub(crate) fn sphere(random: &mut Random) -> Vec3 {
    let (z, a) = (random.within(-1.0, 1.0) as f32, random.within(0.0, std::f64::consts::TAU) as f32);
    let r = (1.0 - z * z).sqrt();
    Vec3::new(r * a.cos(), z, r * a.sin())
}
