//! Camera raw: a DNG of our own, with known light, read by the decoder.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::geometry::Size;
use evanu_core::pixel::{Samples, tone};
use evanu_demo::{sensor, write_dng};
use evanu_media::{CameraData, Decoded, decode_bytes};
use proptest::prelude::*;
use proptest::test_runner::{RngAlgorithm, TestRng, TestRunner};
use std::io::Cursor;
use std::path::Path;
use std::sync::LazyLock;

const SIZE: Size = Size { width: 64, height: 48 };

fn camera() -> CameraData {
    CameraData {
        time: Some("2026-05-16T14:31:07.250".into()),
        exposure_s: Some(0.004),
        aperture: Some(8.0),
        iso: Some(200),
        focal_mm: Some(29.0),
        camera: Some("Hilltop One".into()),
        orientation: 1,
        block: None,
    }
}

/// A raw file of these colours, by thirds of the width.
fn dng(colours: [[f32; 3]; 3]) -> Vec<u8> {
    let seen = colours.map(sensor);
    let mosaic: Vec<f32> = (0..SIZE.pixels() as usize)
        .map(|i| {
            let (x, y) = (i % 64, i / 64);
            seen[(3 * x / 64).min(2)][[[0, 1], [1, 2]][y % 2][x % 2]]
        })
        .collect();
    let mut out = Cursor::new(Vec::new());
    write_dng(&mut out, SIZE, &mosaic, &camera()).unwrap();
    out.into_inner()
}

/// Linear light in the middle of each third.
fn light(d: &Decoded) -> [[f32; 3]; 3] {
    let Samples::Wide(codes) = &d.samples else { panic!("raw keeps light beyond white") };
    [10usize, 31, 53].map(|x| {
        let i = 3 * (24 * d.size.width as usize + x);
        [0, 1, 2].map(|c| d.headroom * tone::linear_of_root(codes[i + c]))
    })
}

#[test]
fn the_light_that_was_put_in_comes_out() {
    let colours = [[0.1, 0.1, 0.1], [0.3, 0.12, 0.05], [0.06, 0.2, 0.3]];
    let decoded = decode_bytes(Path::new("a.dng"), &dng(colours)).unwrap();
    assert_eq!(decoded.size, SIZE);
    assert!(decoded.headroom > 1.2, "{}", decoded.headroom);
    let found = light(&decoded);
    // White balance makes grey grey; the scale between sensor and light is the camera's own.
    let scale = found[0][1] / 0.1;
    for (found, put) in found.iter().flatten().zip(colours.iter().flatten()) {
        assert!((found / scale - put).abs() < 0.012 + 0.03 * put, "{found} instead of {put}");
    }
    let read = CameraData { block: None, ..decoded.camera };
    assert_eq!(read, CameraData { camera: read.camera.clone(), ..camera() });
    assert!(read.camera.unwrap().contains("Hilltop One"));
}

#[test]
fn a_full_sensor_is_white_and_not_tinted() {
    let decoded = decode_bytes(Path::new("a.dng"), &dng([[9.0; 3], [0.2; 3], [0.2; 3]])).unwrap();
    let [r, g, b] = light(&decoded)[0];
    assert!((r - g).abs() < 0.02 * g && (b - g).abs() < 0.02 * g, "{r} {g} {b}");
    assert!(g > 1.0);
}

static WHOLE: LazyLock<Vec<u8>> = LazyLock::new(|| dng([[0.1; 3], [0.2; 3], [0.3; 3]]));

#[test]
fn a_damaged_raw_file_is_told_or_read_but_never_a_panic() {
    // The same cases each time: one in fifteen thousand makes the raw decoder ask for more memory than there is, which ends a program. That
    // is why files are read apart; here it would end the other tests.
    let mut runner = TestRunner::new_with_rng(
        ProptestConfig::with_cases(60),
        TestRng::deterministic_rng(RngAlgorithm::ChaCha),
    );
    let damage = (0.02..1.0f64, prop::collection::vec((0.0..1.0f64, any::<u8>()), 0..12));
    let done = runner.run(&damage, |(cut, at)| {
        let mut bytes = WHOLE[..(cut * WHOLE.len() as f64) as usize].to_vec();
        let length = bytes.len();
        // Damage in the directory, which stands at the end, hurts most.
        for (place, value) in at {
            bytes[((place * 600.0) as usize).min(length - 1)] = value;
            let end = length - 1 - ((place * 500.0) as usize).min(length - 1);
            bytes[end] = value;
        }
        if let Err(e) = decode_bytes(Path::new("broken.dng"), &bytes) {
            prop_assert!(e.to_string().starts_with("broken.dng: "), "{}", e);
        }
        Ok(())
    });
    done.unwrap();
}

#[test]
fn a_directory_that_announces_gigabytes_is_told_and_not_believed() {
    // The number of values of every entry in turn, at its greatest.
    let start = u32::from_le_bytes(WHOLE[4..8].try_into().unwrap()) as usize;
    let count = u16::from_le_bytes(WHOLE[start..start + 2].try_into().unwrap()) as usize;
    assert!(count > 10);
    for k in 0..count {
        let mut bytes = WHOLE.clone();
        bytes[start + 2 + 12 * k + 4..][..4].fill(0xff);
        let e = decode_bytes(Path::new("huge.dng"), &bytes).err().unwrap().to_string();
        assert!(e.contains("announces more than the file holds"), "{k}: {e}");
    }
}

#[test]
fn an_unknown_camera_is_named_with_what_would_help() {
    // The same file, no longer a DNG: a TIFF of a mosaic by a maker that no decoder knows.
    let mut bytes = WHOLE.clone();
    let start = u32::from_le_bytes(bytes[4..8].try_into().unwrap()) as usize;
    let count = u16::from_le_bytes(bytes[start..start + 2].try_into().unwrap()) as usize;
    for k in 0..count {
        let at = start + 2 + 12 * k;
        let tag = u16::from_le_bytes([bytes[at], bytes[at + 1]]);
        if tag == 50_706 {
            bytes[at..at + 2].copy_from_slice(&50_705u16.to_le_bytes());
        }
    }
    let e = decode_bytes(Path::new("new.raw"), &bytes).err().unwrap().to_string();
    assert!(e.starts_with("new.raw: the camera Hilltop") && e.contains("convert it to DNG"), "{e}");
}
