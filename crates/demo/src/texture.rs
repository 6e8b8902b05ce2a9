//! Procedural texture: lattice value noise (Perlin 1985, in its simplest form) and sums of it.

use glam::{Vec2, Vec3};

fn hash(x: i32, y: i32, z: i32) -> f32 {
    let mut h = (x as u32).wrapping_mul(0x8DA6_B343)
        ^ (y as u32).wrapping_mul(0xD816_3841)
        ^ (z as u32).wrapping_mul(0xCB1A_B31F);
    h ^= h >> 15;
    h = h.wrapping_mul(0x2C1B_3C6D);
    h ^= h >> 12;
    h = h.wrapping_mul(0x297A_2D39);
    h ^= h >> 15;
    (h >> 8) as f32 / (1 << 24) as f32
}

/// A number in 0..1 that belongs to a whole-numbered cell.
pub(crate) fn cell(x: f32, y: f32, salt: i32) -> f32 {
    hash(x.floor() as i32, y.floor() as i32, salt)
}

/// Smooth noise in 0..1 with features of size one.
pub(crate) fn noise(p: Vec3) -> f32 {
    let f = p.floor();
    let t = p - f;
    let t = t * t * (Vec3::splat(3.0) - 2.0 * t);
    let (x, y, z) = (f.x as i32, f.y as i32, f.z as i32);
    let mix = |a: f32, b: f32, t: f32| a + (b - a) * t;
    let edge = |dy: i32, dz: i32| mix(hash(x, y + dy, z + dz), hash(x + 1, y + dy, z + dz), t.x);
    mix(mix(edge(0, 0), edge(1, 0), t.y), mix(edge(0, 1), edge(1, 1), t.y), t.z)
}

/// Fractal sum of `octaves` noises, about 0..1.
pub(crate) fn fbm(p: Vec3, octaves: u32) -> f32 {
    let (mut sum, mut weight, mut p) = (0.0, 0.5, p);
    for _ in 0..octaves {
        sum += weight * noise(p);
        weight *= 0.5;
        p = p * 2.03 + Vec3::new(17.3, 9.1, 4.7);
    }
    sum
}

/// Courses of blocks in running bond: the block's cell, and how far a point lies from the nearest joint.
pub(crate) fn blocks(p: Vec2, width: f32, height: f32) -> (Vec2, f32) {
    let row = (p.y / height).floor();
    // Neighbouring rows are shifted by about half a block, and blocks differ in length.
    let shift = 0.5 * (row as i32 & 1) as f32 + 0.3 * cell(row, 0.0, 5);
    let u = p.x / width + shift;
    let (column, inside) = (u.floor(), u - u.floor());
    let x = inside.min(1.0 - inside) * width;
    let y = (p.y / height - row).min(1.0 - (p.y / height - row)) * height;
    (Vec2::new(column, row), x.min(y))
}

/// Smooth step from 0 to 1 between two values.
pub(crate) fn step(low: f32, high: f32, v: f32) -> f32 {
    let t = ((v - low) / (high - low)).clamp(0.0, 1.0);
    t * t * (3.0 - 2.0 * t)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn noise_is_continuous_and_fills_its_range() {
        let (mut low, mut high) = (1.0f32, 0.0f32);
        for i in 0..20_000 {
            let p = Vec3::new(i as f32 * 0.13, 1.7, 3.0 + i as f32 * 0.01);
            let v = noise(p);
            assert!((v - noise(p + Vec3::splat(1e-3))).abs() < 0.02);
            (low, high) = (low.min(v), high.max(v));
        }
        assert!(low < 0.1 && high > 0.9);
    }
}
