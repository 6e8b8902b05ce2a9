//! Signed distances of the few solids that figures are made of.

use glam::Vec3;

/// A rounded cone from `a` to `b` with a radius at each.
pub(crate) fn cone(p: Vec3, a: Vec3, b: Vec3, ra: f32, rb: f32) -> f32 {
    let (pa, ba) = (p - a, b - a);
    let h = (pa.dot(ba) / ba.length_squared()).clamp(0.0, 1.0);
    (pa - h * ba).length() - (ra + (rb - ra) * h)
}

/// An ellipsoid around the origin; exact at its surface, about right beside it.
pub(crate) fn ellipsoid(p: Vec3, radii: Vec3) -> f32 {
    let (k, g) = ((p / radii).length(), (p / (radii * radii)).length());
    if g > 0.0 { k * (k - 1.0) / g } else { -radii.min_element() }
}

/// A box around the origin with rounded edges.
pub(crate) fn slab(p: Vec3, half: Vec3, round: f32) -> f32 {
    let q = p.abs() - half + Vec3::splat(round);
    q.max(Vec3::ZERO).length() + q.max_element().min(0.0) - round
}

/// The union of two solids with a fillet of about `k`.
pub(crate) fn blend(a: f32, b: f32, k: f32) -> f32 {
    let h = (k - (a - b).abs()).max(0.0) / k;
    a.min(b) - h * h * k * 0.25
}
