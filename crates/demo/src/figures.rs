//! What moves: visitors with clothes and bags, and a van, as signed distance fields.
//!
//! A figure is a union of solids, marched by sphere tracing (Hart 1996). Every figure knows where it is at any time.

use crate::person::{self, Dress, Stance};
use crate::place::{Place, SUN};
use crate::solid::{blend, cone, slab};
use crate::texture::{fbm, step};
use crate::trace::Ray;
use evanu_core::random::Random;
use glam::{Vec2, Vec3};

/// Parts of a figure, for its look.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Part {
    Of(person::Part),
    Body,
    Tyre,
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

/// Who moves on more slowly than this (metres a second) stands between short steps.
const SHUFFLE: f32 = 0.3;

/// A mover at one moment.
#[derive(Clone, Copy)]
pub(crate) struct Posed {
    kind: Kind,
    at: Vec3,
    heading: Vec2,
    stance: Stance,
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
            stance: if resting || self.speed.length() < SHUFFLE {
                Stance::Stands(self.stride)
            } else {
                Stance::Walks(steps)
            },
            scale: self.scale,
        })
    }
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

    fn child(&self) -> bool {
        self.scale < 0.85
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
            Kind::Visitor(dress) => {
                let (d, part) = person::distance(q, &dress, self.stance, self.child());
                (d, Part::Of(part))
            }
            Kind::Van => van(q),
            Kind::Lamp => lamp(q),
        };
        (d * self.scale, part)
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
        let (q, part) = (self.local(p), self.distance(p).1);
        match (self.kind, part) {
            (Kind::Visitor(dress), Part::Of(part)) => person::look(q, part, &dress, self.child()),
            (Kind::Van, _) => van_look(q, part),
            _ => lamp_look(q, part),
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
        light = light.lerp(mirrored, gloss + (0.5 - gloss).max(0.0).min(6.0 * gloss) * grazing);
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
