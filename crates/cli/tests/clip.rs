//! `evanu clip` as a script uses it: a post before a wall is covered, people who cross stay, everything else is as it was.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_media::clip::{ClipReader, Yuv, probe};
use serde_json::Value;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Output};

fn evanu(args: &[&str], folder: &Path) -> Output {
    Command::new(env!("CARGO_BIN_EXE_evanu")).args(args).current_dir(folder).output().unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

const SIZE: (usize, usize) = (160, 96);
const COUNT: usize = 50;

fn post(x: usize, y: usize) -> bool {
    (70..80).contains(&x) && (14..90).contains(&y)
}

/// Somebody who passes in front, and nobody at the beginning and the end.
fn somebody(k: usize, x: usize, y: usize) -> bool {
    let at = 6 * k as i64 - 40;
    (at..at + 22).contains(&(x as i64)) && (30..88).contains(&y)
}

/// A frame by its brightness; `clear` without the post.
fn frame(k: usize, clear: bool) -> [Vec<u8>; 3] {
    let (w, h) = SIZE;
    let light = 1.0 + 0.08 * (k as f64 / 7.0).sin();
    let bright = |p: usize| {
        let (x, y) = (p % w, p / w);
        let grain = ((p * 7919 + k * 104_729) % 5) as f64 - 2.0;
        let wall = 90.0 + 30.0 * (x as f64 / 9.0).sin() + 20.0 * (y as f64 / 5.0).cos();
        let shown = match () {
            () if somebody(k, x, y) => 200.0,
            () if post(x, y) && !clear => 40.0,
            () => wall,
        };
        (16.0 + (shown - 16.0) * light + grain).round().clamp(16.0, 235.0) as u8
    };
    let chroma = |c: u8| {
        move |p: usize| {
            let (x, y) = (2 * (p % (w / 2)), 2 * (p / (w / 2)));
            if somebody(k, x, y) { c } else { 128 }
        }
    };
    let half = w * h / 4;
    [
        (0..w * h).map(bright).collect(),
        (0..half).map(chroma(100)).collect(),
        (0..half).map(chroma(160)).collect(),
    ]
}

fn write(path: &Path) {
    let mut out = std::fs::File::create(path).unwrap();
    writeln!(out, "YUV4MPEG2 W{} H{} F25:1 Ip A1:1 C420mpeg2", SIZE.0, SIZE.1).unwrap();
    for k in 0..COUNT {
        out.write_all(b"FRAME\n").unwrap();
        frame(k, false).iter().for_each(|plane| out.write_all(plane).unwrap());
    }
}

fn grey(path: &Path, size: (usize, usize), code: impl Fn(usize, usize) -> u8) {
    let file = std::fs::File::create(path).unwrap();
    let mut encoder = png::Encoder::new(file, size.0 as u32, size.1 as u32);
    encoder.set_color(png::ColorType::Grayscale);
    let data: Vec<u8> = (0..size.0 * size.1).map(|p| code(p % size.0, p / size.0)).collect();
    encoder.write_header().unwrap().write_image_data(&data).unwrap();
}

/// A folder with the clip, what is behind it, and where.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    write(&at("in.y4m"));
    grey(&at("mask.png"), SIZE, |x, y| if post(x, y) { 255 } else { 0 });
    // As a still of the clip would show it: full range.
    let full = |v: f64| ((v - 16.0) * 255.0 / 219.0).round().clamp(0.0, 255.0) as u8;
    grey(&at("plate.png"), SIZE, |x, y| {
        full(90.0 + 30.0 * (x as f64 / 9.0).sin() + 20.0 * (y as f64 / 5.0).cos())
    });
    folder
}

fn frames(path: &Path) -> Vec<Yuv> {
    ClipReader::open(path, &probe(path).unwrap()).unwrap().map(Result::unwrap).collect()
}

#[test]
fn a_post_goes_who_crosses_stays_and_nothing_else_changes() {
    let folder = folder();
    let f = folder.path();
    let done = evanu(
        &[
            "clip",
            "in.y4m",
            "--out",
            "out.y4m",
            "--plate",
            "plate.png",
            "--patch-mask",
            "mask.png",
            "--report",
            "r.json",
        ],
        f,
    );
    assert!(done.status.success(), "{}", text(&done.stderr));
    let made = frames(&f.join("out.y4m"));
    assert_eq!(made.len(), COUNT);
    let (w, h) = SIZE;
    let (mut off, mut ghost, mut lost, mut over, mut beyond) = (0.0, 0, 0, 0, 0);
    let mut pixels = 0;
    for (k, Yuv { planes }) in made.iter().enumerate() {
        let (source, truth) = (frame(k, false), frame(k, true));
        for p in 0..w * h {
            let (x, y) = (p % w, p / w);
            let near = (66..84).contains(&x) && (10..94).contains(&y);
            if !near {
                assert_eq!(planes[0][p], u16::from(source[0][p]), "frame {k} at {x}, {y}");
            }
            if post(x, y) {
                let error = f64::from(planes[0][p]) - f64::from(truth[0][p]);
                pixels += 1;
                off += error.abs();
                ghost += usize::from(error < -25.0);
                if somebody(k, x, y) {
                    over += 1;
                    lost += usize::from(error.abs() > 12.0);
                }
            } else if near {
                beyond += usize::from((f64::from(planes[0][p]) - f64::from(source[0][p])).abs() > 14.0);
            }
        }
    }
    assert!(off / f64::from(pixels) < 3.5, "{}", off / f64::from(pixels));
    assert!(ghost as f64 <= 0.001 * f64::from(pixels), "{ghost} of {pixels} still show the post");
    assert!(
        lost as f64 <= 0.01 * f64::from(over) && over > 500,
        "{lost} of {over} pixels of somebody are wrong"
    );
    assert!(beyond < 40, "{beyond} pixels beside it changed");

    // When somebody crosses is told, and how the light went.
    let report: Value = serde_json::from_slice(&std::fs::read(f.join("r.json")).unwrap()).unwrap();
    let touches = |k: usize| (0..w * h).any(|p| post(p % w, p / w) && somebody(k, p % w, p / w));
    let contacts = report["contacts"].as_array().unwrap();
    let told = |k: usize| {
        contacts
            .iter()
            .any(|c| c["first"].as_u64().unwrap() as usize <= k && k <= c["last"].as_u64().unwrap() as usize)
    };
    assert!((0..COUNT).filter(|&k| touches(k)).all(told), "{contacts:?}");
    assert_eq!(contacts.len(), 1, "{contacts:?}");
    for k in [3, 11, 33] {
        let gain = report["each"][k]["gain"].as_f64().unwrap() / report["each"][0]["gain"].as_f64().unwrap();
        assert!((gain - (1.0 + 0.08 * (k as f64 / 7.0).sin())).abs() < 0.015, "{k} {gain}");
    }

    // For a part of the time only, and through another program with sound and all.
    let done = evanu(
        &[
            "clip",
            "in.y4m",
            "--out",
            "part.mkv",
            "--plate",
            "plate.png",
            "--area",
            "mask.png",
            "--from",
            "0.4",
            "--to",
            "0:01",
            "--overlay",
            "patch",
        ],
        f,
    );
    assert!(done.status.success(), "{}", text(&done.stderr));
    let part = probe(&f.join("part.mkv")).unwrap();
    assert_eq!((part.size.width, part.rate), (160, (25, 1)));
    let patches = std::fs::read_dir(f.join("patch")).unwrap().count();
    assert_eq!(patches, COUNT);
    let one = evanu_media::decode(&f.join("patch/000020.png"));
    assert!(one.is_ok());
    let (before, during) = (10, 20);
    let part = frames(&f.join("part.mkv"));
    let middle = 50 * w + 75;
    assert!(part[before - 5].planes[0][middle] < 60 && part[during - 5].planes[0][middle] > 60);
    assert!(part[40].planes[0][middle] < 60, "after its end the post is there again");
}

#[test]
fn a_clip_shows_by_itself_what_is_behind_what_moves() {
    let folder = folder();
    let f = folder.path();
    let done = evanu(&["clean", "in.y4m", "--out", "plate2.png", "--align", "off", "--report", "c.json"], f);
    assert!(done.status.success(), "{}", text(&done.stderr));
    let report: Value = serde_json::from_slice(&std::fs::read(f.join("c.json")).unwrap()).unwrap();
    assert!((20..=48).contains(&report["frames"].as_array().unwrap().len()));
    let done = evanu(&["clip", "in.y4m", "--out", "plate3.png"], f);
    assert!(done.status.success(), "{}", text(&done.stderr));
    assert!(text(&done.stderr).contains("it would cover"));
    // A mask over the wall beside the post: people who cross it stay, and the wall is the wall.
    grey(
        &f.join("beside.png"),
        SIZE,
        |x, y| if (100..120).contains(&x) && (20..80).contains(&y) { 255 } else { 0 },
    );
    let done = evanu(&["clip", "in.y4m", "--out", "beside.y4m", "--area", "beside.png"], f);
    assert!(done.status.success(), "{}", text(&done.stderr));
    for (k, Yuv { planes }) in frames(&f.join("beside.y4m")).iter().enumerate().step_by(7) {
        let source = frame(k, false);
        let off: f64 =
            (0..SIZE.0 * SIZE.1).map(|p| (f64::from(planes[0][p]) - f64::from(source[0][p])).abs()).sum();
        assert!(off / 1200.0 < 3.0, "frame {k}: {}", off / 1200.0);
    }
}

#[test]
fn of_a_still_that_came_back_only_what_was_changed_is_laid_and_the_patch_goes_out_alone() {
    let folder = folder();
    let f = folder.path();
    // The plate goes out with the post, and comes back without it.
    let done = evanu(&["clip", "in.y4m", "--out", "own.png"], f);
    assert!(done.status.success(), "{}", text(&done.stderr));
    let own = image(&f.join("own.png"));
    let full = |v: f64| ((v - 16.0) * 255.0 / 219.0).round().clamp(0.0, 255.0) as u8;
    grey(&f.join("back.png"), SIZE, |x, y| match post(x, y) {
        true => full(90.0 + 30.0 * (x as f64 / 9.0).sin() + 20.0 * (y as f64 / 5.0).cos()),
        false => own[3 * (y * SIZE.0 + x) + 1],
    });
    let words = ["clip", "in.y4m", "--out", "o.y4m", "--plate", "back.png", "--overlay", "alone.mov"];
    let done = evanu(&words, f);
    assert!(done.status.success(), "{}", text(&done.stderr));
    assert!(text(&done.stderr).contains("was changed, and is laid"), "{}", text(&done.stderr));
    let made = frames(&f.join("o.y4m"));
    let (first, source) = (frame(0, true), frame(0, false));
    for (x, y) in [(75, 50), (72, 20), (78, 85)] {
        let p = y * SIZE.0 + x;
        let (is, wall) = (f64::from(made[0].planes[0][p]), f64::from(first[0][p]));
        assert!((is - wall).abs() < 14.0, "{is} instead of {wall} at {x}, {y}");
    }
    let away = 40 * SIZE.0 + 20;
    assert_eq!(made[0].planes[0][away], u16::from(source[0][away]));
    assert_eq!(frames(&f.join("alone.mov")).len(), COUNT);
    // Nothing was changed in it.
    let done = evanu(&["clip", "in.y4m", "--out", "p.y4m", "--plate", "own.png"], f);
    assert_eq!(done.status.code(), Some(2));
    assert!(text(&done.stderr).contains("nothing was changed"), "{}", text(&done.stderr));
}

/// Red, green and blue of a picture in eight bits.
fn image(path: &Path) -> Vec<u8> {
    match evanu_media::decode(path).unwrap().samples {
        evanu_core::pixel::Samples::Eight(data) => data,
        evanu_core::pixel::Samples::Sixteen(data) | evanu_core::pixel::Samples::Wide(data) => {
            data.into_iter().map(|v| (v / 257) as u8).collect()
        }
    }
}

#[test]
fn what_makes_no_sense_is_told_and_leaves_nothing_half() {
    let folder = folder();
    let f = folder.path();
    std::fs::write(f.join("no.mp4"), b"no clip at all, only some words").unwrap();
    grey(&f.join("small.png"), (9, 9), |_, _| 255);
    grey(&f.join("black.png"), SIZE, |_, _| 0);
    for (arguments, words) in [
        (
            &["no.mp4", "--out", "o.mp4", "--area", "mask.png"][..],
            &["no.mp4", "cannot be read as a clip"][..],
        ),
        (&["none.mp4", "--out", "o.mp4", "--area", "mask.png"], &["none.mp4", "no such file"]),
        (&["in.y4m", "--out", "in.y4m", "--area", "mask.png"], &["is an input"]),
        (&["in.y4m", "--out", "o.mp4", "--area", "small.png"], &["small.png", "9 × 9"]),
        (&["in.y4m", "--out", "o.mp4", "--area", "black.png"], &["black"]),
        (
            &["in.y4m", "--out", "o.mp4", "--plate", "small.png", "--area", "mask.png"],
            &["small.png", "160 × 96"],
        ),
        (&["in.y4m", "--out", "o.txt", "--plate", "plate.png", "--area", "mask.png"], &["ends as no clip"]),
        (
            &["in.y4m", "--out", "o.mp4", "--area", "mask.png", "--from", "5", "--to", "2"],
            &["ends before it begins"],
        ),
        (&["in.y4m", "--out", "o.mp4", "--area", "mask.png", "--from", "x"], &["use seconds"]),
        (&["in.y4m", "--out", "nowhere/o.mp4", "--area", "mask.png"], &["does not exist"]),
        (&["in.y4m", "--out", "o.mp4"], &["a picture"]),
    ] {
        let done = evanu(&[&["clip"][..], arguments].concat(), f);
        assert_eq!(done.status.code(), Some(2), "{arguments:?}");
        let told = text(&done.stderr);
        assert!(words.iter().all(|w| told.contains(w)), "{words:?} in: {told}");
    }
    let left: Vec<_> = std::fs::read_dir(f).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(left.len(), 6, "something half is left: {left:?}");
}

#[test]
fn the_program_that_reads_clips_opens_no_connections_and_no_lists() {
    let folder = folder();
    let f = folder.path();
    // Without confinement this would ask for an address.
    let done = evanu(&["confined", "ffprobe", "-v", "error", "tcp://127.0.0.1:9"], f);
    assert!(!done.status.success());
    assert!(text(&done.stderr).contains("not permitted"), "{}", text(&done.stderr));
    let list = "ffconcat version 1.0\nfile in.y4m\n";
    std::fs::write(f.join("list.mkv"), list).unwrap();
    let done = evanu(&["clip", "list.mkv", "--out", "o.mp4", "--area", "mask.png"], f);
    assert!(!done.status.success() && !f.join("o.mp4").exists());
    assert!(
        Command::new("ffmpeg").arg("-version").output().is_ok(),
        "clips are tested with the program ffmpeg"
    );
}
