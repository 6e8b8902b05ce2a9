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

/// What a visitor wears and carries.
#[derive(Clone, Copy)]
struct Dress {
    skin: Vec3,
    hair: Vec3,
    top: Vec3,
    legs: Vec3,
    bag: Option<Vec3>,
    skirt: bool,
    striped: bool,
}

#[derive(Clone, Copy)]
enum Kind {
    Visitor(Dress),
    Van,
}

/// A visitor or a van with its way over time.
#[derive(Clone, Copy)]
pub struct Mover {
    kind: Kind,
    start: Vec2,
    /// Metres a second.
    speed: Vec2,
    /// When it stands still: from, to, in seconds.
    rest: (f32, f32),
    scale: f32,
    stride: f32,
}

/// A mover at one moment.
#[derive(Clone, Copy)]
pub struct Posed {
    kind: Kind,
    at: Vec3,
    heading: Vec2,
    swing: f32,
    scale: f32,
}

/// Who is there.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Crowd {
    /// Nobody.
    Nobody,
    /// Visitors who cross, stroll and stand, and a van: the forecourt set.
    Forecourt,
    /// A handful who cross.
    Few,
    /// So many that most places near the middle are taken most of the time.
    Many,
    /// A handful who hardly move on from frame to frame.
    Slow,
    /// Some who cross, and two who stand for three fifths of the time (of the seconds given).
    Lingering(f32),
}

/// The visitors of a crowd.
pub fn crowd(seed: u64, who: Crowd) -> Vec<Mover> {
    let mut r = Random::new(seed ^ 0xC20D);
    let mut movers = Vec::new();
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
    let legs =
        [[0.05, 0.07, 0.13], [0.10, 0.10, 0.11], [0.34, 0.28, 0.19], [0.03, 0.03, 0.035], [0.11, 0.15, 0.24]];
    let skins = [[0.52, 0.31, 0.21], [0.42, 0.24, 0.15], [0.24, 0.13, 0.08], [0.56, 0.36, 0.27]];
    let hairs = [
        [0.03, 0.02, 0.015],
        [0.10, 0.05, 0.02],
        [0.26, 0.17, 0.08],
        [0.30, 0.29, 0.28],
        [0.015, 0.014, 0.014],
    ];
    let bags = [[0.10, 0.07, 0.04], [0.03, 0.03, 0.03], [0.40, 0.10, 0.06], [0.10, 0.16, 0.10]];
    let mut visitor = |start: Vec2, speed: Vec2, rest: (f32, f32), r: &mut Random| {
        let dress = Dress {
            skin: colour(&skins, r),
            hair: colour(&hairs, r),
            top: colour(&tops, r),
            legs: colour(&legs, r),
            bag: (r.unit() < 0.55).then(|| colour(&bags, r)),
            skirt: r.unit() < 0.25,
            striped: r.unit() < 0.2,
        };
        let scale = if r.unit() < 0.12 { r.within(0.68, 0.8) } else { r.within(0.94, 1.08) } as f32;
        movers.push(Mover {
            kind: Kind::Visitor(dress),
            start,
            speed,
            rest,
            scale,
            stride: r.within(0.0, 6.0) as f32,
        });
    };
    let crossing = match who {
        Crowd::Nobody => return Vec::new(),
        Crowd::Forecourt => 10,
        Crowd::Few | Crowd::Slow => 5,
        Crowd::Lingering(_) => 4,
        Crowd::Many => 90,
    };
    if who == Crowd::Slow {
        for _ in 0..crossing {
            let at = Vec2::new(r.within(-6.0, 6.0) as f32, r.within(8.5, 17.0) as f32);
            let pace = r.within(0.08, 0.2) as f32 * if r.unit() < 0.5 { 1.0 } else { -1.0 };
            visitor(at, Vec2::new(pace, 0.0), (-1.0, -1.0), &mut r);
        }
        return movers;
    }
    // Those who cross from side to side, at several distances.
    for k in 0..crossing {
        let right = k % 2 == 0;
        let z = r.within(8.5, 21.0) as f32;
        let pace = r.within(0.7, 1.35) as f32 * if right { 1.0 } else { -1.0 };
        // Everybody is in the middle of the picture at some time of the forty seconds.
        let x = -pace * r.within(2.0, 38.0) as f32;
        visitor(Vec2::new(x, z), Vec2::new(pace, r.within(-0.12, 0.12) as f32), (-1.0, -1.0), &mut r);
        if r.unit() < 0.25 {
            let beside = Vec2::new(x - 0.15, z + 0.62);
            visitor(beside, Vec2::new(pace, 0.0), (-1.0, -1.0), &mut r);
        }
    }
    if let Crowd::Lingering(time) = who {
        for k in 0..2 {
            let from = if k == 0 { 0.0 } else { 0.4 * time };
            let at = Vec2::new(r.within(-4.0, 4.0) as f32, r.within(9.0, 15.0) as f32);
            let speed = Vec2::new(if at.x > 0.0 { 1.1 } else { -1.1 }, 0.0);
            visitor(at - speed * from, speed, (from, from + 0.6 * time), &mut r);
        }
    }
    if who != Crowd::Forecourt {
        return movers;
    }
    // Those who come from the tower's door or go to it.
    for k in 0..3 {
        let away = if k % 2 == 0 { 1.0 } else { -1.0 };
        let start =
            Vec2::new(2.6 + 0.25 * k as f32, 18.6) - Vec2::new(-0.30, -0.55) * away * (7.0 * k as f32);
        visitor(start, Vec2::new(-0.30, -0.55) * away, (-1.0, -1.0), &mut r);
    }
    // Those who stop for a while: at the board, at the telescope, in the middle to take a picture.
    for (x, z, from, to) in [
        (-4.9, 15.2, 3.0, 12.0),
        (-6.6, 15.0, 22.0, 30.0),
        (6.0, 13.6, 0.0, 8.0),
        (8.3, 13.4, 24.0, 33.0),
        (0.4, 12.4, 13.0, 22.0),
        (1.0, 12.9, 13.5, 22.0),
        (-9.4, 18.0, 8.0, 16.0),
        (3.9, 17.0, 29.0, 38.0),
    ] {
        let speed = Vec2::new(if x > 0.0 { 0.95 } else { -0.95 }, -0.15);
        visitor(Vec2::new(x, z) - speed * from, speed, (from, to), &mut r);
    }
    movers.push(Mover {
        kind: Kind::Van,
        start: Vec2::new(-31.0, 20.6),
        speed: Vec2::new(2.3, 0.0),
        rest: (-1.0, -1.0),
        scale: 1.0,
        stride: 0.0,
    });
    movers
}

impl Mover {
    /// Where and how it is at a time in seconds.
    pub fn at(&self, time: f32) -> Posed {
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
        Posed {
            kind: self.kind,
            at: Vec3::new(p.x, 0.0, p.y),
            heading,
            swing: if resting { 0.0 } else { steps.sin() },
            scale: self.scale,
        }
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
    pub fn ball(&self) -> (Vec3, f32) {
        match self.kind {
            Kind::Visitor(_) => (self.at + Vec3::Y * 0.92 * self.scale, 1.02 * self.scale),
            Kind::Van => (self.at + Vec3::Y * 1.05, 2.85),
        }
    }

    /// True for a visitor's or a van's ground contact near a point: how much of the sky it hides there.
    pub fn contact(&self, p: Vec3) -> f32 {
        let d = self.local(p);
        match self.kind {
            Kind::Visitor(_) => 0.5 * (-(d.x * d.x + d.z * d.z) / 0.10).exp() * step(0.9, 0.0, p.y),
            Kind::Van => {
                let q = Vec2::new(d.x.abs() - 0.85, d.z.abs() - 2.3).max(Vec2::ZERO).length();
                0.9 * (-q * q / 0.12).exp() * step(1.2, 0.0, p.y)
            }
        }
    }

    /// To the figure's own axes: x to its right, y up, z ahead, size one.
    fn local(&self, p: Vec3) -> Vec3 {
        let q = p - self.at;
        let h = self.heading;
        Vec3::new(q.x * h.y - q.z * h.x, q.y, q.x * h.x + q.z * h.y) / self.scale
    }

    fn distance(&self, p: Vec3) -> (f32, Part) {
        let q = self.local(p);
        let (d, part) = match self.kind {
            Kind::Visitor(dress) => self.visitor(q, &dress),
            Kind::Van => van(q),
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
            if d < 6e-4 {
                return Some(t);
            }
            t += 0.85 * d.max(1e-3);
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
pub fn nearest(figures: &[Posed], place: &Place, ray: &Ray, far: f32, random: &mut Random) -> Option<Vec3> {
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
pub fn shaded(figures: &[Posed], ray: &Ray) -> bool {
    figures.iter().any(|f| f.meet(ray, 40.0).is_some())
}
