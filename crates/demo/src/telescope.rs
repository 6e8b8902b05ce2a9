//! A brass telescope on a table in the courtyard's shade, photographed for a catalogue: a large lit sheet hangs over it,
//! and a dark card is held between the two, elsewhere in each frame. Where the card is mirrored the brass shows itself.

use crate::trace::{Shape, Stuff, Thing};
use glam::Vec3;

/// What stands there when frame `k` of so many is taken.
pub(crate) fn telescope(k: usize, frames: usize) -> Vec<Thing> {
    let v = Vec3::new;
    let mut t = Vec::new();
    let mut add = |shape, stuff| t.push(Thing { shape, stuff });
    // The table, the cloth behind it, the awning that keeps the sun off.
    add(Shape::Box(v(-1.6, 0.78, 1.3), v(1.6, 0.84, 2.6)), Stuff::Trim);
    add(Shape::Box(v(-3.2, 0.0, 3.0), v(3.2, 3.2, 3.1)), Stuff::Cloth);
    add(Shape::Box(v(-4.0, 3.2, -4.0), v(4.0, 3.3, 3.2)), Stuff::Plaster);
    add(Shape::Box(v(-4.0, 0.0, -4.0), v(-3.9, 3.3, 3.2)), Stuff::Plaster);
    // The tube with its dew cap, eyepiece and rings, on two rests.
    let (a, b) = (v(-0.62, 1.10, 1.95), v(0.60, 1.20, 1.80));
    let d = (b - a).normalize();
    let at = |s: f32| a + (b - a) * s;
    let mut tube = |from: f32, to: f32, radius: f32, stuff| {
        add(Shape::Rod(at(from), at(to), radius), stuff);
        add(Shape::Leaf(at(from), d, radius), stuff);
        add(Shape::Leaf(at(to), d, radius), stuff);
    };
    tube(0.0, 0.80, 0.085, Stuff::Brass);
    tube(0.78, 1.02, 0.105, Stuff::Brass);
    tube(-0.10, 0.02, 0.058, Stuff::Brass);
    tube(-0.20, -0.09, 0.036, Stuff::Iron);
    for s in [0.0f32, 0.27, 0.53, 0.775] {
        tube(s - 0.012, s + 0.012, 0.094, Stuff::Brass);
    }
    for s in [0.2f32, 0.62] {
        let p = at(s);
        add(Shape::Box(v(p.x - 0.05, 0.84, p.z - 0.10), v(p.x + 0.05, p.y - 0.05, p.z + 0.10)), Stuff::Door);
    }
    // The finder on top.
    let patch = v(-0.01, 0.135, -0.02);
    add(Shape::Rod(at(0.08) + patch, at(0.42) + patch, 0.022), Stuff::Brass);
    for s in [0.12f32, 0.38] {
        add(Shape::Rod(at(s), at(s) + patch, 0.012), Stuff::Iron);
    }
    // A brass weight and a closed box beside it.
    add(Shape::Tube(v(0.86, 0.84, 1.72), 0.07, 0.13), Stuff::Brass);
    add(Shape::Leaf(v(0.86, 0.97, 1.72), Vec3::Y, 0.07), Stuff::Brass);
    add(Shape::Box(v(-1.25, 0.84, 1.75), v(-0.92, 1.0, 2.05)), Stuff::Door);
    // The sheet, and the card below it.
    add(Shape::Box(v(-1.3, 2.50, 0.5), v(1.3, 2.54, 1.7)), Stuff::Sheet);
    let x = -1.15 + 2.3 * (k as f32 + 0.5) / frames as f32;
    add(Shape::Box(v(x - 0.30, 2.05, 0.45), v(x + 0.30, 2.06, 1.75)), Stuff::Dark);
    t
}
