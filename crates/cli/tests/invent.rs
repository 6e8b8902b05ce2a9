//! `evanu invent` as a person at a terminal meets it.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::geometry::Size;
use evanu_core::pixel::Samples;
use evanu_media::decode;
use std::path::Path;
use std::process::{Command, Output};

const SIZE: Size = Size::new(120, 90);

fn evanu(args: &[&str], folder: &Path) -> Output {
    Command::new(env!("CARGO_BIN_EXE_evanu")).arg("invent").args(args).current_dir(folder).output().unwrap()
}

fn png(path: &Path, size: Size, colour: png::ColorType, depth: png::BitDepth, data: &[u8]) {
    let mut encoder = png::Encoder::new(std::fs::File::create(path).unwrap(), size.width, size.height);
    encoder.set_color(colour);
    encoder.set_depth(depth);
    encoder.write_header().unwrap().write_image_data(data).unwrap();
}

/// A picture of stripes and grain, in sixteen bits, and a mask of a box in its middle.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let mut random = evanu_core::random::Random::new(4);
    let mut data = Vec::new();
    for y in 0..SIZE.height {
        for x in 0..SIZE.width {
            let v = if (x + y) % 16 < 8 { 20_000u16 } else { 40_000 } + random.below(3000) as u16;
            (0..3).for_each(|c| data.extend((v + c).to_be_bytes()));
        }
    }
    png(&folder.path().join("in.png"), SIZE, png::ColorType::Rgb, png::BitDepth::Sixteen, &data);
    png(
        &folder.path().join("mask.png"),
        SIZE,
        png::ColorType::Grayscale,
        png::BitDepth::Eight,
        &mask(inside),
    );
    folder
}

fn inside(x: u32, y: u32) -> bool {
    (50..75).contains(&x) && (30..60).contains(&y)
}

fn mask(set: impl Fn(u32, u32) -> bool) -> Vec<u8> {
    (0..SIZE.pixels() as u32).map(|p| if set(p % SIZE.width, p / SIZE.width) { 255 } else { 0 }).collect()
}

fn sixteen(path: &Path) -> Vec<u16> {
    match decode(path).unwrap().samples {
        Samples::Sixteen(v) => v,
        other => panic!("{:?}", other.depth()),
    }
}

#[test]
fn variants_differ_inside_and_keep_every_sample_outside() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    let args =
        ["in.png", "--mask", "mask.png", "--out", "out.png", "--variants", "3", "--report", "report.json"];
    let out = evanu(&args, folder.path());
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    assert_eq!(String::from_utf8_lossy(&out.stdout), "out.png\nout-2.png\nout-3.png\n");
    let before = sixteen(&at("in.png"));
    let made: Vec<Vec<u16>> = ["out.png", "out-2.png", "out-3.png"].map(|n| sixteen(&at(n))).into();
    for (i, v) in before.iter().enumerate() {
        let p = (i / 3) as u32;
        if !inside(p % SIZE.width, p / SIZE.width) {
            assert!(made.iter().all(|m| m[i] == *v), "a sample outside the mask has changed");
        }
    }
    assert!(made[0] != made[1] && made[1] != made[2] && made[0] != before);
    let report: serde_json::Value =
        serde_json::from_slice(&std::fs::read(at("report.json")).unwrap()).unwrap();
    assert_eq!(report["invented"]["pixels"], 750);
    assert_eq!(report["areas"][0]["bbox"], serde_json::json!([50, 30, 25, 30]));
    assert_eq!(report["variants"].as_array().unwrap().len(), 3);
    // The same seed gives the same bytes, another one others.
    assert!(evanu(&["in.png", "--mask", "mask.png", "--out", "again.png"], folder.path()).status.success());
    assert_eq!(std::fs::read(at("again.png")).unwrap(), std::fs::read(at("out.png")).unwrap());
    assert!(
        evanu(&["in.png", "--mask", "mask.png", "--out", "other.png", "--seed", "9"], folder.path())
            .status
            .success()
    );
    assert_ne!(std::fs::read(at("other.png")).unwrap(), std::fs::read(at("out.png")).unwrap());
}

#[test]
fn a_black_mask_changes_nothing_and_says_so() {
    let folder = folder();
    let black = folder.path().join("black.png");
    png(&black, SIZE, png::ColorType::Grayscale, png::BitDepth::Eight, &mask(|_, _| false));
    let out = evanu(&["in.png", "--mask", "black.png", "--out", "out.png"], folder.path());
    assert!(out.status.success());
    assert!(String::from_utf8_lossy(&out.stderr).contains("nothing was made up"));
    assert_eq!(sixteen(&folder.path().join("out.png")), sixteen(&folder.path().join("in.png")));
}

#[test]
fn floats_beyond_white_keep_every_bit_outside() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    let light = |p: usize| 0.2 + (p % 97) as f32 / 20.0;
    evanu_media::write_light(&at("in.exr"), SIZE, None, |r| {
        let from = r.y as usize * SIZE.width as usize;
        let all = (from..from + r.size().pixels() as usize).flat_map(|p| [light(p), 0.5 * light(p), 0.1]);
        Ok::<_, std::convert::Infallible>(all.collect())
    })
    .unwrap();
    let out = evanu(&["in.exr", "--mask", "mask.png", "--out", "out.exr"], folder.path());
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let read = |name: &str| {
        let image = exr::prelude::read_first_rgba_layer_from_file(
            at(name),
            |size, _| vec![[0.0f32; 3]; size.area()],
            |pixels: &mut Vec<[f32; 3]>, at, (r, g, b, _): (f32, f32, f32, f32)| {
                pixels[at.y() * SIZE.width as usize + at.x()] = [r, g, b];
            },
        )
        .unwrap();
        image.layer_data.channel_data.pixels
    };
    let (before, after) = (read("in.exr"), read("out.exr"));
    let (mut changed, mut brightest) = (0, 0.0f32);
    for (p, (a, b)) in before.iter().zip(&after).enumerate() {
        if inside(p as u32 % SIZE.width, p as u32 / SIZE.width) {
            changed += u32::from(a != b);
            brightest = brightest.max(b[0]);
        } else {
            assert_eq!(a, b);
        }
    }
    assert!(changed > 100 && brightest > 2.0, "{changed} {brightest}");
}

#[test]
fn bad_masks_are_told_with_the_way_out() {
    let folder = folder();
    let path = folder.path().join("bad.png");
    let gray = png::ColorType::Grayscale;
    let rgba = |alpha: u8| -> Vec<u8> { mask(inside).iter().flat_map(|v| [*v, *v, *v, alpha]).collect() };
    let cases: [(Size, png::ColorType, Vec<u8>, &[&str]); 5] = [
        (Size::new(60, 45), gray, vec![255; 60 * 45], &["60 × 45", "120 × 90", "as large as the picture"]),
        (SIZE, gray, mask(|_, _| true), &["0.0 %", "15 % are needed"]),
        (SIZE, gray, mask(|x, _| x > 10), &["9.2 %", "15 %", "smaller"]),
        (SIZE, png::ColorType::Rgba, rgba(90), &["transparent"]),
        (SIZE, png::ColorType::Rgb, mask(inside).iter().flat_map(|v| [*v, 0, 0]).collect(), &["in colour"]),
    ];
    for (size, colour, data, words) in cases {
        png(&path, size, colour, png::BitDepth::Eight, &data);
        let out = evanu(&["in.png", "--mask", "bad.png", "--out", "out.png"], folder.path());
        let told = String::from_utf8_lossy(&out.stderr).into_owned();
        assert_eq!(out.status.code(), Some(2), "{told}");
        assert!(words.iter().all(|w| told.contains(w)) && told.contains("bad.png"), "{told}");
        assert!(!folder.path().join("out.png").exists());
    }
    // One that lets nothing through is a mask; a picture that is none is told.
    png(&path, SIZE, png::ColorType::Rgba, png::BitDepth::Eight, &rgba(255));
    assert!(evanu(&["in.png", "--mask", "bad.png", "--out", "out.png"], folder.path()).status.success());
    std::fs::write(&path, b"no picture").unwrap();
    for args in
        [["in.png", "--mask", "bad.png"], ["bad.png", "--mask", "mask.png"], ["in.png", "--mask", "none.png"]]
    {
        let out = evanu(&[&args[..], &["--out", "new.png"]].concat(), folder.path());
        assert_eq!(out.status.code(), Some(2));
        assert!(!String::from_utf8_lossy(&out.stderr).contains("panicked"));
    }
    // The picture is never written over.
    let out = evanu(&["in.png", "--mask", "mask.png", "--out", "in.png"], folder.path());
    assert!(out.status.code() == Some(2) && String::from_utf8_lossy(&out.stderr).contains("never written"));
}

#[test]
fn an_area_at_every_border_is_filled() {
    let folder = folder();
    let frame = |x: u32, y: u32| x < 6 || y < 6 || x >= SIZE.width - 6 || y >= SIZE.height - 6;
    png(&folder.path().join("mask.png"), SIZE, png::ColorType::Grayscale, png::BitDepth::Eight, &mask(frame));
    let out = evanu(&["in.png", "--mask", "mask.png", "--out", "out.png"], folder.path());
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    assert_ne!(sixteen(&folder.path().join("out.png")), sixteen(&folder.path().join("in.png")));
}
