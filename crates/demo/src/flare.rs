//! Lens flare: the brightest place of a frame, reflected between lenses, lies in soft discs along the line through the frame's middle.
//! Where the camera turns they move against what it sees.

use evanu_core::geometry::Size;
use glam::{Vec2, Vec3};

/// Discs: how far beyond the middle, in parts of the bright place's own way to it, radius in frame widths, and light.
const DISCS: [(f32, f32, Vec3); 4] = [
    (0.45, 0.016, Vec3::new(0.10, 0.16, 0.07)),
    (0.80, 0.028, Vec3::new(0.15, 0.07, 0.05)),
    (1.15, 0.012, Vec3::new(0.06, 0.12, 0.18)),
    (0.60, 0.130, Vec3::new(0.055, 0.035, 0.02)),
];

/// Adds the flare of a frame's brightest place to its light.
pub(crate) fn add(light: &mut [Vec3], size: Size) {
    let (w, h) = (size.width as usize, size.height as usize);
    // The middle of the brightest twentieth of a percent.
    let bright = |v: &Vec3| v.x + v.y + v.z;
    let mut order: Vec<usize> = (0..light.len()).collect();
    let count = (light.len() / 2000).max(1);
    order.select_nth_unstable_by(count, |&a, &b| bright(&light[b]).total_cmp(&bright(&light[a])));
    let place = |i: usize| Vec2::new((i % w) as f32, (i / w) as f32);
    let from = order[..count].iter().map(|&i| place(i)).sum::<Vec2>() / count as f32;
    let middle = Vec2::new(w as f32, h as f32) / 2.0;
    for (far, radius, colour) in DISCS {
        let (at, radius) = (middle + far * (middle - from), radius * w as f32);
        for (i, v) in light.iter_mut().enumerate() {
            // Flat inside, soft at the rim.
            let off = place(i).distance(at) / radius;
            let share = (1.25 - off).clamp(0.0, 0.25) / 0.25;
            *v += colour * share * share * (3.0 - 2.0 * share);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_lies_opposite_the_brightest_place() {
        let size = Size::new(120, 80);
        let mut light = vec![Vec3::splat(0.1); 120 * 80];
        light[20 * 120 + 30] = Vec3::splat(9.0);
        let before = light.clone();
        add(&mut light, size);
        let more = |x: usize, y: usize| (light[y * 120 + x] - before[y * 120 + x]).length();
        assert!(more(74, 49) > 0.05 && more(5, 5) == 0.0, "{} {}", more(74, 49), more(5, 5));
    }
}
