//! The observatory's entrance hall, open to the sky: a stone floor, a wall with pilasters, a door, framed charts and a bench; and the
//! lamp stand that somebody left in its corner.

use crate::trace::{Shape, Stuff, Thing};
use glam::Vec3;

/// Where the wall is.
const BACK: f32 = 7.0;

/// All its things.
pub(crate) fn hall() -> Vec<Thing> {
    let v = Vec3::new;
    let mut t = Vec::new();
    let mut add = |a: Vec3, b: Vec3, stuff| t.push(Thing { shape: Shape::Box(a, b), stuff });
    let (left, right) = (-14.0, 14.0);
    add(v(left, 0.0, 0.4), v(right, 0.006, BACK), Stuff::Trim);
    add(v(left, 0.0, BACK), v(right, 5.2, BACK + 0.4), Stuff::Plaster);
    // A plinth, a cornice, pilasters.
    add(v(left, 0.0, BACK - 0.05), v(right, 0.32, BACK), Stuff::Trim);
    add(v(left, 3.4, BACK - 0.12), v(right, 3.62, BACK), Stuff::Trim);
    for x in [-4.4f32, -1.75, 0.35, 3.45] {
        add(v(x - 0.16, 0.0, BACK - 0.10), v(x + 0.16, 3.4, BACK), Stuff::Trim);
    }
    // A door, charts in frames, a bench.
    add(v(-3.75, 0.0, BACK - 0.06), v(-2.35, 2.62, BACK), Stuff::Trim);
    add(v(-3.62, 0.0, BACK - 0.09), v(-2.48, 2.5, BACK), Stuff::Door);
    for (x, y, w, h) in [(-0.7f32, 1.75, 0.62, 0.45), (1.25, 1.85, 0.42, 0.55)] {
        add(v(x - w - 0.05, y - h - 0.05, BACK - 0.05), v(x + w + 0.05, y + h + 0.05, BACK), Stuff::Door);
        add(v(x - w, y - h, BACK - 0.06), v(x + w, y + h, BACK), Stuff::Board);
    }
    add(v(-1.45, 0.42, BACK - 0.55), v(0.05, 0.50, BACK - 0.12), Stuff::Bark);
    for x in [-1.35f32, -0.12] {
        add(v(x, 0.0, BACK - 0.5), v(x + 0.08, 0.42, BACK - 0.16), Stuff::Iron);
    }
    t
}

/// The lamp stand: three legs, a pole, a lamp head that is off, and its cable.
pub(crate) fn stand() -> Vec<Thing> {
    let v = Vec3::new;
    let mut t = Vec::new();
    let mut add = |shape, stuff| t.push(Thing { shape, stuff });
    let foot = v(1.95, 0.0, 5.55);
    add(Shape::Rod(foot + v(0.0, 0.32, 0.0), foot + v(0.0, 2.05, 0.0), 0.018), Stuff::Iron);
    for angle in [0.4f32, 2.5, 4.6] {
        let out = v(0.42 * angle.cos(), 0.02, 0.42 * angle.sin());
        add(Shape::Rod(foot + v(0.0, 0.62, 0.0), foot + out, 0.014), Stuff::Iron);
    }
    let head = foot + v(-0.05, 2.10, -0.05);
    add(Shape::Box(head - v(0.15, 0.10, 0.12), head + v(0.15, 0.16, 0.12)), Stuff::Cloth);
    add(Shape::Rod(head + v(-0.1, 0.03, -0.12), head + v(-0.2, 0.03, -0.3), 0.09), Stuff::Iron);
    let mut at = foot + v(0.0, 0.5, 0.02);
    for k in 1..=18 {
        let s = k as f32 / 18.0;
        let next = foot + v(1.45 * s, 0.5 * (1.0 - s).powi(3) + 0.02, 0.06 + 0.22 * (7.0 * s).sin() * s);
        add(Shape::Rod(at, next, 0.011), Stuff::Dark);
        at = next;
    }
    t
}
