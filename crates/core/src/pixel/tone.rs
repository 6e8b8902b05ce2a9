//! The tone convention: three scales of the same light, and the tables between them.
//!
//! * *codes*: sRGB-encoded samples (IEC 61966-2-1), 8 or 16 bit, as files hold them;
//! * *linear* light: 0..=1, where averages, blending, resampling and gains happen;
//! * *root* codes: `65535 · sqrt(linear)`, 16 bit. A square root makes photon noise even (Anscombe 1948), is one
//!   instruction, and keeps order, so order statistics, differences and agreement run on it.
//!
//! ```
//! use evanu_core::pixel::tone::{linear_of_root, root, to_code, to_linear};
//!
//! // Middle grey as a file holds it, as light, and as a root code.
//! let light = to_linear(0.5);
//! assert!((light - 0.214).abs() < 1e-3 && (to_code(light) - 0.5).abs() < 1e-9);
//! assert!((linear_of_root(root(light as f32)) - light as f32).abs() < 1e-5);
//! ```

use multiversion::multiversion;
use std::sync::LazyLock;

/// Linear light of an sRGB code in 0..=1.
pub fn to_linear(code: f64) -> f64 {
    if code <= 0.04045 { code / 12.92 } else { ((code + 0.055) / 1.055).powf(2.4) }
}

/// sRGB code (0..=1) of linear light.
pub fn to_code(linear: f64) -> f64 {
    if linear <= 0.003_130_8 { linear * 12.92 } else { 1.055 * linear.powf(1.0 / 2.4) - 0.055 }
}

/// Linear light of each 8-bit code.
pub static LINEAR_OF_U8: LazyLock<[f32; 256]> =
    LazyLock::new(|| std::array::from_fn(|i| to_linear(i as f64 / 255.0) as f32));

/// Linear light of each 16-bit code.
pub static LINEAR_OF_U16: LazyLock<Vec<f32>> =
    LazyLock::new(|| (0..65536).map(|i| to_linear(f64::from(i) / 65535.0) as f32).collect());

/// 16-bit sRGB code of each root code.
pub static CODE_OF_ROOT: LazyLock<Vec<u16>> = LazyLock::new(|| {
    let code = |r: u32| to_code((f64::from(r) / 65535.0).powi(2));
    (0..65536).map(|r| (code(r) * 65535.0).round() as u16).collect()
});

/// Added to a number from 0 to 65535, the end of its mantissa counts whole steps: rounding without a conversion, which vectors
/// do at once.
const WHOLE: f32 = 8_388_608.0;

/// Root code of linear light; clips to 0..=1.
#[inline(always)]
pub fn root(linear: f32) -> u16 {
    (linear.clamp(0.0, 1.0).sqrt() * 65535.0 + WHOLE).to_bits() as u16
}

/// The same as a number.
#[inline(always)]
pub fn rounded_root(linear: f32) -> f32 {
    (linear.clamp(0.0, 1.0).sqrt() * 65535.0 + WHOLE) - WHOLE
}

/// Root codes of linear light times a gain.
pub fn roots(light: &[f32], gain: f32) -> Vec<u16> {
    let mut out = Vec::with_capacity(light.len());
    append_roots(light, gain, &mut out);
    out
}

/// Appends them.
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512dq+avx512vl+avx2+fma", "x86_64+avx2+fma"))]
pub fn append_roots(light: &[f32], gain: f32, out: &mut Vec<u16>) {
    let from = out.len();
    out.resize(from + light.len(), 0);
    for (o, v) in out[from..].iter_mut().zip(light) {
        *o = root(v * gain);
    }
}

/// Linear light of a root code.
#[inline]
pub fn linear_of_root(root: u16) -> f32 {
    let r = f32::from(root) * (1.0 / 65535.0);
    r * r
}

/// Relative luminance of linear RGB (ITU-R BT.709 weights).
#[inline]
pub fn luminance(rgb: [f32; 3]) -> f32 {
    0.2126 * rgb[0] + 0.7152 * rgb[1] + 0.0722 * rgb[2]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn eight_bit_codes_survive_every_scale() {
        for code in 0..256usize {
            let back = CODE_OF_ROOT[usize::from(root(LINEAR_OF_U8[code]))];
            assert_eq!((u32::from(back) + 128) / 257, code as u32);
        }
    }

    #[test]
    fn sixteen_bit_codes_survive_to_within_two() {
        for code in (0..65536usize).step_by(7) {
            let back = CODE_OF_ROOT[usize::from(root(LINEAR_OF_U16[code]))];
            assert!(i32::from(back).abs_diff(code as i32) <= 2, "{code} came back as {back}");
        }
    }

    #[test]
    fn all_scales_keep_order() {
        assert!(LINEAR_OF_U16.windows(2).all(|w| w[0] < w[1]));
        assert!(CODE_OF_ROOT.windows(2).all(|w| w[0] <= w[1]));
    }
}
