//! Embedded colour profiles: conversion to sRGB, and the sRGB profile that outputs carry.

use moxcms::{ColorProfile, DataColorSpace, Layout, TransformOptions};
use std::sync::{LazyLock, Mutex, PoisonError};

/// The sRGB profile as an ICC byte string.
pub(crate) static SRGB: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let mut icc = ColorProfile::new_srgb().encode().unwrap_or_default();
    // Bytes 24 to 35 of the head are the time of making (ICC.1:2022, 7.2); the same input must give the same file.
    if let Some(time) = icc.get_mut(24..36) {
        time.copy_from_slice(&[7, 234, 0, 1, 0, 1, 0, 0, 0, 0, 0, 0]);
    }
    icc
});

/// Profiles of wider spaces that files name without holding them.
pub(crate) static DISPLAY_P3: LazyLock<Vec<u8>> =
    LazyLock::new(|| ColorProfile::new_display_p3().encode().unwrap_or_default());
pub(crate) static BT_2020: LazyLock<Vec<u8>> =
    LazyLock::new(|| ColorProfile::new_bt2020().encode().unwrap_or_default());

/// Converts 16-bit samples (1 or 3 channels, interleaved) to RGB in sRGB by a profile.
///
/// Returns `None` when the profile is sRGB itself, is for another kind of samples, or cannot be used: the samples
/// are then taken for sRGB. `Err` is never silent loss: an unreadable profile is reported by its text.
pub(crate) fn to_srgb(
    icc: &[u8],
    channels: usize,
    samples: impl FnOnce() -> Vec<u16>,
) -> Result<Option<Vec<u16>>, String> {
    // The frames of a set carry the same profile, and finding out that it is sRGB takes longer than a small frame.
    static KNOWN: Mutex<Vec<Vec<u8>>> = Mutex::new(Vec::new());
    let known = |k: &Vec<Vec<u8>>| k.iter().any(|p| p == icc);
    if icc == SRGB.as_slice() || known(&KNOWN.lock().unwrap_or_else(PoisonError::into_inner)) {
        return Ok(None);
    }
    let profile = ColorProfile::new_from_slice(icc).map_err(|e| format!("{e:?}"))?;
    let layout = match (profile.color_space, channels) {
        (DataColorSpace::Rgb, 3) => Layout::Rgb,
        (DataColorSpace::Gray, 1) => Layout::Gray,
        _ => return Ok(None),
    };
    let srgb = ColorProfile::new_srgb();
    let transform = profile
        .create_transform_16bit(layout, &srgb, Layout::Rgb, TransformOptions::default())
        .map_err(|e| format!("{e:?}"))?;
    let run = |from: &[u16]| {
        let mut to = vec![0u16; from.len() / channels * 3];
        transform.transform(from, &mut to).map(|()| to).map_err(|e| format!("{e:?}"))
    };
    // A profile that leaves a set of probing colours where they are is sRGB under another name.
    let steps = [0u16, 4096, 12000, 26000, 41000, 56000, 65535];
    let probe: Vec<u16> = match channels {
        1 => steps.to_vec(),
        _ => steps.iter().flat_map(|&r| steps.iter().flat_map(move |&g| [r, g, 65535 - r / 2])).collect(),
    };
    let expected: Vec<u16> =
        if channels == 1 { probe.iter().flat_map(|&v| [v; 3]).collect() } else { probe.clone() };
    if run(&probe)?.iter().zip(&expected).all(|(a, b)| a.abs_diff(*b) < 160) {
        let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
        known.truncate(15);
        known.push(icc.to_vec());
        return Ok(None);
    }
    run(&samples()).map(Some)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn srgb_is_recognised_and_a_wider_space_is_converted() {
        assert_eq!(to_srgb(&SRGB, 3, || unreachable!()).unwrap(), None);
        let p3 = ColorProfile::new_display_p3().encode().unwrap();
        let out = to_srgb(&p3, 3, || vec![30000, 50000, 20000]).unwrap().unwrap();
        // The same numbers in a wider space are more saturated in sRGB: less red, more green.
        assert!(out[0] < 29000 && out[1] > 50000, "{out:?}");
        assert!(to_srgb(&[1, 2, 3], 3, Vec::new).is_err());
    }
}
