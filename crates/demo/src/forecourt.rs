//! The forecourt's shapes: the round tower and its wing, furniture, trees and shrubs.

use crate::place::sphere;
use crate::surfaces::TOWER;
use crate::texture::noise;
use crate::trace::{Shape, Stuff, Thing};
use evanu_core::random::Random;
use glam::Vec3;

/// All its things; `seed` settles leaves.
pub(crate) fn forecourt(seed: u64) -> Vec<Thing> {
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
    things
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
    let (x0, x1, z0, z1, top) = (-13.0, -0.2, WALL, 29.0, 3.9);
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
    for (x, z) in [(-11.2, 16.5), (8.9, 21.0)] {
        lamp_post(x, z, &mut add);
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

/// How far ahead the wing's wall is.
const WALL: f32 = 23.0;

fn lamp_post(x: f32, z: f32, add: &mut impl FnMut(Shape, Stuff)) {
    let v = Vec3::new;
    add(Shape::Rod(v(x, 0.0, z), v(x, 3.3, z), 0.055), Stuff::Iron);
    add(Shape::Rod(v(x, 0.0, z), v(x, 0.7, z), 0.10), Stuff::Iron);
    add(Shape::Box(v(x - 0.17, 3.3, z - 0.17), v(x + 0.17, 3.72, z + 0.17)), Stuff::Glass);
    for (a, b) in [(-0.17, -0.17), (0.17, -0.17), (-0.17, 0.17), (0.17, 0.17)] {
        add(Shape::Rod(v(x + a, 3.28, z + b), v(x + a, 3.74, z + b), 0.025), Stuff::Iron);
    }
    add(Shape::Cupola(v(x, 3.72, z), 0.25), Stuff::Iron);
}

/// What was put up for the open day and never moves: two lamp posts before the wing, a cable from post to post, a poster.
pub(crate) fn put_up() -> Vec<Thing> {
    let mut t = Vec::new();
    let mut add = |shape, stuff| t.push(Thing { shape, stuff });
    let v = Vec3::new;
    let posts = [(-3.7, 16.8), (0.9, 16.8)];
    for (x, z) in posts {
        lamp_post(x, z, &mut add);
    }
    // From the post on the left over both, sagging between them.
    let ends = [v(-11.2, 3.25, 16.5), v(posts[0].0, 3.25, posts[0].1), v(posts[1].0, 3.25, posts[1].1)];
    for (a, b) in [(ends[0], ends[1]), (ends[1], ends[2])] {
        let sag = 0.05 * a.distance(b);
        let at = |k: u32| {
            let s = k as f32 / 16.0;
            a.lerp(b, s) - Vec3::Y * (4.0 * sag * s * (1.0 - s))
        };
        for k in 0..16 {
            add(Shape::Rod(at(k), at(k + 1), 0.013), Stuff::Dark);
        }
    }
    add(Shape::Box(v(-3.35, 1.3, WALL - 0.06), v(-2.87, 2.1, WALL - 0.02)), Stuff::Board);
    t
}

/// What stands near the camera, from three to six metres away: a bicycle, a cone and a lamp post.
pub(crate) fn foreground(seed: u64) -> Vec<Thing> {
    let mut random = Random::new(seed ^ 0xF0E);
    let mut within = |a: f64, b: f64| random.within(a, b) as f32;
    let mut t = Vec::new();
    let mut add = |shape, stuff| t.push(Thing { shape, stuff });
    let v = Vec3::new;
    let turn = |k: usize, of: usize| (k as f32 * std::f32::consts::TAU / of as f32).sin_cos();
    // The bicycle: wheels, spokes, frame, saddle and bars, turned a little.
    let (foot, (s, c)) = (v(within(-2.0, -1.2), 0.0, within(3.6, 4.6)), within(-0.5, 0.5).sin_cos());
    let at = |along: f32, up: f32, beside: f32| foot + v(c * along - s * beside, up, s * along + c * beside);
    for axle in [-0.52f32, 0.52] {
        for k in 0..24 {
            let ((s0, c0), (s1, c1)) = (turn(k, 24), turn(k + 1, 24));
            let rim = |s: f32, c: f32, r: f32| at(axle + r * c, 0.34 + r * s, 0.0);
            add(Shape::Rod(rim(s0, c0, 0.32), rim(s1, c1, 0.32), 0.02), Stuff::Dark);
            add(Shape::Rod(at(axle, 0.34, 0.0), rim(s0, c0, 0.31), 0.003), Stuff::Iron);
        }
    }
    let (seat, head, pedals) = (at(-0.20, 0.80, 0.0), at(0.36, 0.82, 0.0), at(-0.06, 0.30, 0.0));
    for (a, b) in [
        (seat, pedals),
        (seat, head),
        (head, pedals),
        (pedals, at(-0.52, 0.34, 0.0)),
        (seat, at(-0.52, 0.34, 0.0)),
    ] {
        add(Shape::Rod(a, b, 0.018), Stuff::Door);
    }
    add(Shape::Rod(at(0.52, 0.34, 0.0), at(0.33, 1.0, 0.0), 0.018), Stuff::Iron);
    add(Shape::Rod(at(0.36, 1.0, -0.26), at(0.36, 1.0, 0.26), 0.015), Stuff::Dark);
    add(Shape::Rod(at(-0.34, 0.92, 0.0), at(-0.12, 0.93, 0.0), 0.05), Stuff::Dark);
    add(Shape::Rod(seat, at(-0.22, 0.92, 0.0), 0.015), Stuff::Iron);
    // The cone, of triangles.
    let foot = v(within(0.3, 1.0), 0.0, within(3.2, 4.2));
    for k in 0..24 {
        let ((s0, c0), (s1, c1)) = (turn(k, 24), turn(k + 1, 24));
        let ring = |s: f32, c: f32, up: f32| foot + v((0.17 - 0.19 * up) * c, up, (0.17 - 0.19 * up) * s);
        let [a, b, top] = [ring(s0, c0, 0.03), ring(s1, c1, 0.03), foot + v(0.0, 0.80, 0.0)];
        add(Shape::Triangle(a, b, top), Stuff::Tiles);
    }
    add(Shape::Box(foot - v(0.2, 0.0, 0.2), foot + v(0.2, 0.03, 0.2)), Stuff::Dark);
    // The lamp post.
    let foot = v(within(1.6, 2.3), 0.0, within(4.6, 6.0));
    add(Shape::Rod(foot, foot + v(0.0, 3.4, 0.0), 0.05), Stuff::Iron);
    add(Shape::Rod(foot, foot + v(0.0, 0.6, 0.0), 0.09), Stuff::Iron);
    add(Shape::Rod(foot + v(0.0, 2.2, 0.0), foot + v(0.5, 2.35, 0.0), 0.025), Stuff::Iron);
    add(Shape::Box(foot + v(0.38, 2.30, -0.11), foot + v(0.62, 2.62, 0.11)), Stuff::Glass);
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
