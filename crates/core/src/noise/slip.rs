//! How far frames differ beyond noise where the picture is steep: sampling, resampling and what the fit leaves make it.
//!
//! In blocks, half the variance of two frames' difference is `σ²·t + κ²g²`: σ² the noise of flat places, t how much more there is with
//! texture (see [`texture_noise`]), g the gradient, κ the slip. Blocks of little texture tell t, steep ones then κ. The law of t was
//! found on rendered frames stored as JPEG. Cost: linear in the blocks, and two medians.

use crate::pixel::gradient::add_squares;

/// Pixels along a side of a block.
const SIDE: usize = 8;
/// The slip that leaves the least error, over the root of the median square that [`find`] finds: of 1, 1.4, 2 and 3 the last two left
/// the least on two rendered sets.
const OVER_MEDIAN: f32 = 2.0;
/// Steepness from which on blocks tell the slip, and of those that tell how much more noise they have than flat ones: squared
/// gradients, in variances.
const STEEP: f32 = 30.0;
const TEXTURED: std::ops::Range<f32> = 10.0..STEEP;
/// Blocks that tell something.
const LEAST_BLOCKS: usize = 24;
/// Blocks of some texture may have this share more noise than flat ones and count as alike.
const TEXTURE_TOLERANCE: f32 = 0.1;

/// What a block of two frames tells.
pub(super) struct Block {
    /// Of brightness.
    pub bin: usize,
    /// Mean square, in root codes a pixel.
    pub gradient: f32,
    /// Variance of the difference of both.
    pub difference: f32,
}

/// How far a frame slips, in pixels, by the steepest of the blocks; half of what two frames differ by is either's. Medians tell, so
/// that movers do not, and stand for squares that are mostly small and in places large.
///
/// Files that round off what is flat, as JPEG does and cameras that smooth, have more noise the more texture there is; what
/// follows from that is taken off. Returned are the slip, from 0 on, and how much more noise there is with texture, from 0 on.
pub(super) fn find(sigma: &[f32], blocks: &[Block]) -> (f32, f32) {
    // Steepness, and half the variance of the difference, in variances of the noise.
    let each = blocks.iter().map(|b| {
        let variance = sigma[b.bin] * sigma[b.bin];
        (b.gradient / variance, b.difference / 2.0 / variance)
    });
    let each: Vec<(f32, f32)> = each.collect();
    let median = |mut v: Vec<f32>| -> Option<f32> {
        v.sort_unstable_by(f32::total_cmp);
        (v.len() >= LEAST_BLOCKS).then(|| v[v.len() / 2])
    };
    let textured = each.iter().filter(|(steep, _)| TEXTURED.contains(steep)).map(|(_, noise)| *noise);
    let texture = median(textured.collect()).map_or(0.0, |noise| (noise - 1.0 - TEXTURE_TOLERANCE).max(0.0));
    let steep = each.iter().filter(|(steep, _)| *steep > STEEP);
    let slips = steep.map(|&(steep, noise)| (noise - texture_noise(texture, steep)).max(0.0) / steep);
    (median(slips.collect()).map_or(0.0, |square| OVER_MEDIAN * square.sqrt()), texture)
}

/// Noise where the picture is this steep, in variances of flat places, at least 1: `1 + texture · (steep / 16)^¾`. `steep` is the squared
/// gradient a pixel over the variance of flat places, from 0 on.
#[inline]
pub fn texture_noise(texture: f32, steep: f32) -> f32 {
    let steep = steep * (1.0 / 16.0);
    1.0 + texture * (steep * steep.sqrt()).sqrt()
}

/// Mean squared gradient of a block of 8×8.
pub(super) fn steepness(block: &[u16]) -> f32 {
    let row = |y: usize| &block[SIDE * y..][..SIDE];
    let mut square = [0.0; SIDE];
    (1..SIDE - 1).for_each(|y| add_squares([row(y - 1), row(y), row(y + 1)], &mut square));
    square[1..SIDE - 1].iter().sum::<f32>() / ((SIDE - 2) * (SIDE - 2)) as f32
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::noise::NoiseModel;
    use crate::random::Random;

    #[test]
    fn the_estimate_finds_how_far_frames_slip_where_they_are_steep_despite_movers() {
        let found = |slip: f64| {
            let mut r = Random::new(5);
            let mut block = |k: usize, slip: f64| -> Vec<u16> {
                let steep = if k.is_multiple_of(2) { 0.0 } else { 9000.0 };
                let mover = if k.is_multiple_of(3) { 8000.0 * slip.signum() } else { 0.0 };
                let wave = |x: usize| (std::f64::consts::TAU * (x as f64 + slip) / 8.0).sin();
                let value = |i: usize| 20_000.0 + steep * wave(i % 8) + mover * f64::from(i as u32 % 2);
                (0..64).map(|i| (value(i) + 200.0 * r.normal()) as u16).collect()
            };
            let blocks: Vec<_> = (0..600).map(|k| (block(k, -1e-9), block(k, slip))).collect();
            NoiseModel::estimate(blocks.iter().map(|(a, b)| (&a[..], &b[..]))).slip
        };
        assert!(found(1e-9) < 0.03, "{}", found(1e-9));
        // More than it is, because gradients are smoothed and movers shift the median; half of its square is either frame's.
        let wanted = |slip: f32| OVER_MEDIAN * slip / 2.0f32.sqrt() * 1.17;
        for slip in [0.1, 0.3] {
            let found = found(slip);
            assert!((found / wanted(slip as f32) - 1.0).abs() < 0.15, "{slip}: {found}");
        }
    }

    #[test]
    fn noise_that_grows_with_texture_is_no_slip() {
        let found = |rounded: bool| {
            let mut r = Random::new(6);
            let mut block = |k: usize, slip: f64| -> Vec<u16> {
                let gradient = if k.is_multiple_of(3) { 0.0 } else { 200.0 * 1.3f64.powi(k as i32 % 12) };
                let steep = ((gradient / 200.0).powi(2)) as f32;
                let noise = if rounded { f64::from(texture_noise(1.0, steep)).sqrt() } else { 1.0 };
                let zigzag = |x: usize| 2.0 - (((x + k / 12) as f64 + slip) % 8.0 - 4.0).abs();
                (0..64)
                    .map(|i| (30_000.0 + gradient * zigzag(i % 8) + 200.0 * noise * r.normal()) as u16)
                    .collect()
            };
            let blocks: Vec<_> = (0..1200).map(|k| (block(k, 0.0), block(k, 0.15))).collect();
            NoiseModel::estimate(blocks.iter().map(|(a, b)| (&a[..], &b[..])))
        };
        let (plain, rounded) = (found(false), found(true));
        assert!(plain.texture < 0.25 && plain.slip > 0.15, "{plain:?}");
        assert!(rounded.texture > 0.6 && rounded.slip < 0.5 * plain.slip, "{rounded:?}");
    }
}
