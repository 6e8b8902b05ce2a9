//! What moves: visitors with clothes and bags, and a van, as signed distance fields.
//!
//! A figure is a union of rounded cones, blended where cloth would blend them, marched by sphere tracing
//! (Hart 1996). Every figure knows where it is at any time.

use crate::place::{Place, SUN};
use crate::texture::{fbm, noise, step};
use crate::trace::Ray;
use evanu_core::random::Random;
use glam::{Vec2, Vec3};

/// Parts of a figure, for its look.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Part {
    Skin,
    Hair,
    Top,
    Legs,
    Shoes,
    Bag,
    Body,
    Tyre,
}

/// What a visitor wears and carries: colours, and whether trousers or a skirt, plain or striped.
#[derive(Clone, Copy)]
pub(crate) struct Dress {
    /// Linear, as all of them.
    pub skin: Vec3,
    pub hair: Vec3,
    pub top: Vec3,
    pub legs: Vec3,
    pub bag: Option<Vec3>,
    pub skirt: bool,
    pub striped: bool,
}

/// What it is that moves.
#[derive(Clone, Copy)]
pub(crate) enum Kind {
    /// Somebody.
    Visitor(Dress),
    /// A delivery van.
    Van,
    /// A photographer's lamp on a stand.
    Lamp,
}

/// A visitor or a van with its way over time.
#[derive(Clone, Copy)]
pub(crate) struct Mover {
    pub kind: Kind,
    /// Where it is at first, in metres to the right and ahead.
    pub start: Vec2,
    /// Metres a second.
    pub speed: Vec2,
    /// When it stands still: from, to, in seconds.
    pub rest: (f32, f32),
    /// Its size; 1 is a grown man's.
    pub scale: f32,
    /// Where in its step it starts, in radians.
    pub stride: f32,
    /// From when to when it is there at all, in seconds.
    pub here: (f32, f32),
}

/// There all the time.
pub(crate) const ALWAYS: (f32, f32) = (f32::MIN, f32::MAX);

/// A mover at one moment.
#[derive(Clone, Copy)]
pub(crate) struct Posed {
    kind: Kind,
    at: Vec3,
    heading: Vec2,
    swing: f32,
    scale: f32,
}

impl Mover {
    /// Where and how it is at a time in seconds, if it is there then.
    pub(crate) fn at(&self, time: f32) -> Option<Posed> {
        if time < self.here.0 || time >= self.here.1 {
            return None;
        }
        let (from, to) = self.rest;
        let resting = time > from && time < to;
        let walked = if time <= from || to < 0.0 {
            time
        } else if resting {
            from
        } else {
            time - (to - from)
        };
        let p = self.start + self.speed * walked;
        let steps = self.speed.length() * walked * 4.3 + self.stride;
        let heading = if resting {
            Vec2::new((self.stride * 1.7).sin(), 0.4 + (self.stride).cos()).normalize()
        } else {
            self.speed.normalize()
        };
        Some(Posed {
            kind: self.kind,
            at: Vec3::new(p.x, 0.0, p.y),
            heading,
            swing: if resting { 0.0 } else { steps.sin() },
            scale: self.scale,
        })
    }
}

fn cone(p: Vec3, a: Vec3, b: Vec3, ra: f32, rb: f32) -> f32 {
    let (pa, ba) = (p - a, b - a);
    let h = (pa.dot(ba) / ba.length_squared()).clamp(0.0, 1.0);
    (pa - h * ba).length() - (ra + (rb - ra) * h)
}

fn blend(a: f32, b: f32, k: f32) -> f32 {
    let h = (k - (a - b).abs()).max(0.0) / k;
    a.min(b) - h * h * k * 0.25
}

fn slab(p: Vec3, half: Vec3, round: f32) -> f32 {
    let q = p.abs() - half + Vec3::splat(round);
    q.max(Vec3::ZERO).length() + q.max_element().min(0.0) - round
}

impl Posed {
    /// Centre and radius of a ball around it.
    pub(crate) fn ball(&self) -> (Vec3, f32) {
        match self.kind {
            Kind::Visitor(_) => (self.at + Vec3::Y * 0.92 * self.scale, 1.02 * self.scale),
            Kind::Van => (self.at + Vec3::Y * 1.05, 2.85),
            Kind::Lamp => (self.at + Vec3::Y * 1.1, 1.35),
        }
    }

    /// How much of the sky it hides there.
    pub(crate) fn contact(&self, p: Vec3) -> f32 {
        let d = self.local(p);
        match self.kind {
            Kind::Visitor(_) => 0.5 * (-(d.x * d.x + d.z * d.z) / 0.10).exp() * step(0.9, 0.0, p.y),
            Kind::Van => {
                let q = Vec2::new(d.x.abs() - 0.85, d.z.abs() - 2.3).max(Vec2::ZERO).length();
                0.9 * (-q * q / 0.12).exp() * step(1.2, 0.0, p.y)
            }
            Kind::Lamp => 0.0,
        }
    }

    /// To the figure's own axes: x to its right, y up, z ahead, size one.
    fn local(&self, p: Vec3) -> Vec3 {
        let q = p - self.at;
        let h = self.heading;
        Vec3::new(q.x * h.y - q.z * h.x, q.y, q.x * h.x + q.z * h.y) / self.scale
    }

    /// Whether it is a lamp.
    pub(crate) fn is_lamp(&self) -> bool {
        matches!(self.kind, Kind::Lamp)
    }

    /// Of a lamp: the direction to it from `p`, and the light that comes from there.
    fn throws(&self, figures: &[Posed], p: Vec3) -> (Vec3, Vec3) {
        let out = LAMP.0 - self.local(p);
        let far = out.length();
        let beam = (-out / far).dot(LAMP.1).max(0.0).powf(1.5);
        let h = self.heading;
        let way = Vec3::new(out.x * h.y + out.z * h.x, out.y, -out.x * h.x + out.z * h.y) / far;
        let ray = Ray { origin: p + 0.01 * way, direction: way };
        let hidden = figures.iter().any(|f| !f.is_lamp() && f.meet(&ray, far - 0.2).is_some());
        (way, if hidden { Vec3::ZERO } else { LAMPLIGHT * beam / (0.25 + far * far) })
    }

    fn distance(&self, p: Vec3) -> (f32, Part) {
        let q = self.local(p);
        let (d, part) = match self.kind {
            Kind::Visitor(dress) => self.visitor(q, &dress),
            Kind::Van => van(q),
            Kind::Lamp => lamp(q),
        };
        (d * self.scale, part)
    }

    fn visitor(&self, q: Vec3, dress: &Dress) -> (f32, Part) {
        let v = Vec3::new;
        let s = self.swing;
        let bob = v(0.0, 0.012 * (1.0 - s.abs()), 0.0);
        let p = q - bob;
        let mut best = (f32::MAX, Part::Skin);
        let mut put = |d: f32, part: Part| {
            if d < best.0 {
                best = (d, part);
            }
        };
        // Legs: thigh and shin, the rear knee bent.
        let mut legs = f32::MAX;
        for side in [-1.0f32, 1.0] {
            let a = 0.46 * s * side;
            let hip = v(0.085 * side, 0.90, 0.0);
            let knee = hip + v(0.0, -0.43 * a.cos(), 0.43 * a.sin());
            let bend = a - 0.25 - 0.45 * (-a).max(0.0);
            let ankle = knee + v(0.0, -0.42 * bend.cos(), 0.42 * (bend + 0.12).sin());
            legs = blend(legs, cone(p, hip, knee, 0.092, 0.066), 0.05);
            legs = blend(legs, cone(p, knee, ankle, 0.068, 0.064), 0.03);
            put(cone(p, ankle - v(0.0, 0.03, 0.03), ankle + v(0.0, -0.045, 0.15), 0.048, 0.04), Part::Shoes);
        }
        if dress.skirt {
            legs =
                blend(legs, cone(p, v(0.0, 1.0, 0.0), v(0.0, 0.52, 0.0), 0.13, 0.235 + 0.02 * s.abs()), 0.03);
        }
        legs = blend(legs, cone(p, v(-0.06, 0.95, 0.0), v(0.06, 0.95, 0.0), 0.13, 0.13), 0.06);
        let legs = if dress.skirt { legs } else { legs.max(p.y - 0.90) };
        let legs = if legs < 0.05 { legs + 0.022 * (fbm(p * v(11.0, 6.0, 11.0), 3) - 0.42) } else { legs };
        put(legs, Part::Legs);
        // Torso: chest wider than deep.
        let flat = v(p.x, p.y, p.z * 1.28);
        let mut top = cone(flat, v(0.0, 1.02, 0.0), v(0.0, 1.30, 0.0), 0.150, 0.178);
        top = blend(top, cone(flat, v(-0.135, 1.39, 0.0), v(0.135, 1.39, 0.0), 0.082, 0.082), 0.10);
        // A jacket's hem hangs below the waist.
        top = blend(top, cone(flat, v(0.0, 1.02, 0.0), v(0.0, 0.86, 0.0), 0.158, 0.196), 0.03);
        for side in [-1.0f32, 1.0] {
            let a = -0.40 * s * side;
            let shoulder = v(0.195 * side, 1.40, 0.0);
            let elbow = shoulder + v(0.045 * side, -0.28 * a.cos(), 0.28 * a.sin());
            let hand = elbow + v(-0.01 * side, -0.25 * (a + 0.3).cos(), 0.25 * (a + 0.35).sin());
            top = blend(top, cone(p, shoulder, elbow, 0.062, 0.05), 0.035);
            top = blend(top, cone(p, elbow, elbow.lerp(hand, 0.75), 0.05, 0.042), 0.02);
            put(cone(p, elbow.lerp(hand, 0.78), hand + v(0.0, -0.05, 0.01), 0.036, 0.03), Part::Skin);
        }
        let cloth = |d: f32| {
            if d < 0.05 {
                d + 0.030 * (fbm(p * v(8.0, 4.5, 8.0) + Vec3::splat(3.0 * s), 3) - 0.42)
            } else {
                d
            }
        };
        put(cloth(top), Part::Top);
        put(cone(p, v(0.0, 1.45, 0.0), v(0.0, 1.55, 0.015), 0.055, 0.05), Part::Skin);
        let head = (p - v(0.0, 1.645, 0.015)) / v(0.082, 0.112, 0.098);
        let skull = (head.length() - 1.0) * 0.085;
        put(skull, Part::Skin);
        let nose = cone(p, v(0.0, 1.65, 0.105), v(0.0, 1.625, 0.118), 0.012, 0.016);
        put(nose, Part::Skin);
        let cap = skull.max(-(p - v(0.0, 1.60, 0.12)).length() + 0.105) - 0.014;
        put(cap.max(1.60 - p.y - 0.05 * step(0.0, -0.05, p.z)), Part::Hair);
        if dress.bag.is_some() {
            put(slab(p - v(0.0, 1.20, -0.215), v(0.14, 0.20, 0.085), 0.06), Part::Bag);
            for side in [-0.11f32, 0.11] {
                put(cone(p, v(side, 1.44, -0.12), v(side, 1.18, 0.150), 0.022, 0.022), Part::Bag);
            }
        }
        best
    }

    /// Where a ray meets the figure before `far`.
    fn meet(&self, ray: &Ray, far: f32) -> Option<f32> {
        let (c, r) = self.ball();
        let (o, d) = (ray.origin - c, ray.direction);
        let b = o.dot(d);
        let root = b * b - o.length_squared() + r * r;
        if root < 0.0 {
            return None;
        }
        let (mut t, end) = ((-b - root.sqrt()).max(2e-3), (-b + root.sqrt()).min(far));
        for _ in 0..70 {
            if t > end {
                return None;
            }
            let d = self.distance(ray.at(t)).0;
            if d.abs() < 6e-4 {
                return Some(t);
            }
            // Across a flattened chest distances are told too long: a step that went inside is taken back.
            t += if d < 0.0 { 0.7 * d } else { 0.85 * d.max(1e-3) };
        }
        None
    }

    fn normal(&self, p: Vec3) -> Vec3 {
        let e = 2e-3;
        let d = |v: Vec3| self.distance(p + v).0 - self.distance(p - v).0;
        Vec3::new(d(Vec3::X * e), d(Vec3::Y * e), d(Vec3::Z * e)).normalize_or(Vec3::Y)
    }

    fn look(&self, p: Vec3) -> (Vec3, f32) {
        let part = self.distance(p).1;
        let q = self.local(p);
        let weave = 0.86 + 0.28 * noise(q * 90.0);
        let folds = 0.55 + 0.8 * fbm(q * Vec3::new(12.0, 5.0, 12.0), 3);
        let dress = match self.kind {
            Kind::Visitor(d) => d,
            Kind::Van => return van_look(q, part),
            Kind::Lamp => return lamp_look(q, part),
        };
        match part {
            Part::Skin => {
                let eyes = step(0.020, 0.008, (Vec2::new(q.x.abs() - 0.032, q.y - 1.665)).length())
                    * step(0.06, 0.08, q.z);
                (dress.skin * 0.8 * (0.9 + 0.2 * noise(q * 25.0)) * (1.0 - 0.8 * eyes), 0.03)
            }
            Part::Hair => (dress.hair * (0.6 + 0.8 * noise(q * Vec3::new(120.0, 20.0, 120.0))), 0.05),
            Part::Top => {
                let stripe = if dress.striped && (q.y * 17.0).fract() < 0.45 {
                    Vec3::new(0.6, 0.6, 0.58)
                } else {
                    dress.top
                };
                (stripe * weave * folds * 0.75, 0.0)
            }
            Part::Legs => (dress.legs * weave * folds * 0.8, 0.0),
            Part::Shoes => (if q.y < 0.03 { Vec3::splat(0.35) } else { Vec3::new(0.06, 0.05, 0.045) }, 0.02),
            _ => (dress.bag.unwrap_or(Vec3::splat(0.1)) * weave, 0.02),
        }
    }
}

fn van(q: Vec3) -> (f32, Part) {
    let v = Vec3::new;
    let mut body = slab(q - v(0.0, 1.22, -0.25), v(0.95, 0.92, 2.15), 0.16);
    // The bonnet and the raked windscreen.
    body = blend(body, slab(q - v(0.0, 0.80, 1.75), v(0.93, 0.46, 0.68), 0.16), 0.10);
    let rake = v(0.0, 0.62, 0.78).dot(q - v(0.0, 1.52, 1.62));
    body = body.max(rake.min(body + 0.6));
    for z in [-1.45f32, 1.55] {
        let w = v(q.x.abs() - 0.80, q.y - 0.34, q.z - z);
        let arch = (Vec2::new(w.y, w.z).length() - 0.40).max(w.x.abs() - 0.30);
        body = body.max(-arch);
    }
    let mut best = (body, Part::Body);
    for z in [-1.45f32, 1.55] {
        let w = v(q.x.abs() - 0.80, q.y - 0.34, q.z - z);
        let tyre = (Vec2::new(w.y, w.z).length() - 0.31).max(w.x.abs() - 0.11) - 0.025;
        if tyre < best.0 {
            best = (tyre, Part::Tyre);
        }
    }
    (best.0 * 0.8, best.1)
}

/// Where a lamp's light comes from and which way it goes, in its own axes.
const LAMP: (Vec3, Vec3) = (Vec3::new(0.0, 2.0, 0.10), Vec3::new(0.0, -0.34, 0.94));
/// What a lamp adds at one metre, in the middle of its beam, in the place's own light.
const LAMPLIGHT: Vec3 = Vec3::new(7.5, 6.4, 5.0);

/// A lamp: three legs, a pole, and a box with a bright front.
fn lamp(q: Vec3) -> (f32, Part) {
    let v = Vec3::new;
    let mut stand = cone(q, v(0.0, 0.35, 0.0), v(0.0, 1.95, 0.0), 0.022, 0.016);
    for k in 0..3 {
        let (s, c) = (0.6 + k as f32 * std::f32::consts::TAU / 3.0).sin_cos();
        stand = stand.min(cone(q, v(0.0, 0.75, 0.0), v(0.52 * c, 0.0, 0.52 * s), 0.016, 0.02));
    }
    // The box is turned so that its own z is the beam.
    let (r, beam) = (q - LAMP.0, LAMP.1);
    let up = v(0.0, beam.z, -beam.y);
    let own = v(r.x, r.dot(up), r.dot(beam));
    let head = slab(own + v(0.0, 0.0, 0.08), v(0.40, 0.30, 0.09), 0.02);
    if head < stand { (head, Part::Body) } else { (stand, Part::Tyre) }
}

fn lamp_look(q: Vec3, part: Part) -> (Vec3, f32) {
    let front = part == Part::Body && (q - LAMP.0).dot(LAMP.1) > 0.0;
    if front { (Vec3::new(4.6, 4.4, 4.1), 0.0) } else { (Vec3::splat(0.022), 0.05) }
}

/// How much brighter the lamps among the figures make a place, as a share of what it is lit by otherwise.
pub(crate) fn lamplight(figures: &[Posed], p: Vec3) -> Vec3 {
    figures.iter().filter(|f| f.is_lamp()).map(|f| f.throws(figures, p).1).sum()
}

fn van_look(q: Vec3, part: Part) -> (Vec3, f32) {
    if part == Part::Tyre {
        let hub = Vec2::new(q.y - 0.34, if q.z > 0.0 { q.z - 1.55 } else { q.z + 1.45 }).length();
        return (
            if hub < 0.19 {
                Vec3::splat(0.38) * (0.6 + 0.4 * step(0.16, 0.13, hub))
            } else {
                Vec3::splat(0.025)
            },
            0.03,
        );
    }
    let side_glass = q.x.abs() > 0.85 && (1.38..1.86).contains(&q.y) && (0.28..1.22).contains(&q.z);
    let screen =
        q.z > 0.9 && q.x.abs() < 0.82 && (1.36..1.98).contains(&q.y) && !side_glass && q.x.abs() < 0.86;
    if side_glass || screen {
        return (Vec3::splat(0.02), 0.35);
    }
    let bumper = q.y < 0.52 && (q.z > 2.1 || q.z < -2.2) || q.y < 0.36;
    if bumper {
        return (Vec3::splat(0.05), 0.03);
    }
    if q.z > 2.28 && (0.68..0.90).contains(&q.y) && q.x.abs() > 0.55 {
        return (Vec3::splat(0.75), 0.3);
    }
    let door = [0.22f32, 1.30, -1.1].iter().any(|z| (q.z - z).abs() < 0.011) && q.y > 0.5
        || (q.y - 1.28).abs() < 0.009 && q.z > 0.2;
    let stripe = (0.92..1.10).contains(&q.y) && q.z < 0.1;
    let paint = if stripe { Vec3::new(0.10, 0.20, 0.30) } else { Vec3::new(0.70, 0.69, 0.66) };
    let dirt = 1.0 - 0.35 * step(0.95, 0.4, q.y) * fbm(q * 4.0, 4);
    (paint * dirt * if door { 0.25 } else { 1.0 }, 0.07)
}

/// The nearest figure before `far`: distance and light.
pub(crate) fn nearest(
    figures: &[Posed],
    place: &Place,
    ray: &Ray,
    far: f32,
    random: &mut Random,
) -> Option<Vec3> {
    let (t, figure) =
        figures.iter().filter_map(|f| f.meet(ray, far).map(|t| (t, f))).min_by(|a, b| a.0.total_cmp(&b.0))?;
    let p = ray.at(t);
    let n = figure.normal(p);
    let (colour, gloss) = figure.look(p);
    let start = p + 6e-3 * n;
    let facing = n.dot(place.sun);
    let towards = Ray { origin: start, direction: place.towards_sun(random) };
    let lit = facing > 0.0 && place.sunny(start, random) && !shaded(figures, &towards);
    let sky = Vec3::new(0.26, 0.31, 0.40) * (0.55 + 0.45 * n.y);
    let ground = Vec3::new(0.20, 0.175, 0.14) * (0.5 - 0.5 * n.y);
    // Hollows and the underside of things get less sky.
    let open = (figure.distance(p + 0.10 * n).0 / 0.10).clamp(0.0, 1.0) * 0.7 + 0.3;
    let mut light = colour * ((sky + ground) * open + if lit { SUN * facing } else { Vec3::ZERO });
    for lamp in figures.iter().filter(|f| f.is_lamp() && !figure.is_lamp()) {
        let (way, thrown) = lamp.throws(figures, start);
        light += colour * thrown * n.dot(way).max(0.0);
    }
    if gloss > 0.0 {
        let m = ray.direction - 2.0 * ray.direction.dot(n) * n;
        let grazing = (1.0 + ray.direction.dot(n)).clamp(0.0, 1.0).powi(5);
        let mirrored = Vec3::new(0.30, 0.27, 0.23).lerp(Vec3::new(0.55, 0.66, 0.82), step(-0.15, 0.25, m.y));
        light = light.lerp(mirrored, gloss + (0.5 - gloss).max(0.0) * grazing);
        if lit {
            light += SUN * gloss * 2.5 * m.dot(place.sun).max(0.0).powi(60);
        }
    }
    Some(light)
}

/// Whether any figure stands in a ray's way.
pub(crate) fn shaded(figures: &[Posed], ray: &Ray) -> bool {
    figures.iter().any(|f| f.meet(ray, 40.0).is_some())
}
