//! `evanu clean` as a person at a terminal meets it: the contract, and what bad input gets.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::pixel::Samples;
use evanu_media::decode;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

fn evanu(args: &[&str], folder: &Path) -> Output {
    Command::new(env!("CARGO_BIN_EXE_evanu")).args(args).current_dir(folder).output().unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// Four small frames of the sample set, rendered once.
fn frames() -> &'static Path {
    static FOLDER: std::sync::LazyLock<tempfile::TempDir> = std::sync::LazyLock::new(|| {
        let folder = tempfile::tempdir().unwrap();
        evanu_demo::render("forecourt", 400, Some(5), folder.path(), &|_| {}).unwrap();
        folder
    });
    FOLDER.path()
}

fn copy_frames(count: usize) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    for k in 1..=count {
        let name = format!("frame-{k:02}.jpg");
        std::fs::copy(frames().join(&name), folder.path().join(&name)).unwrap();
    }
    folder
}

/// Exit status 2, one line on standard error that says all of `words`, no output file.
fn refused(out: &Output, folder: &Path, words: &[&str]) {
    let errors = text(&out.stderr);
    assert_eq!(out.status.code(), Some(2), "{errors}");
    let last = errors.trim_end().lines().last().unwrap_or_default();
    for word in words {
        assert!(last.contains(word), "\"{word}\" is missing in: {errors}");
    }
    assert!(!errors.contains("panicked"), "{errors}");
    assert!(out.stdout.is_empty());
    assert!(!folder.join("plate.tif").exists());
    let left: Vec<_> = std::fs::read_dir(folder)
        .unwrap()
        .flatten()
        .filter(|e| e.file_name().to_string_lossy().starts_with(".evanu"))
        .collect();
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn a_folder_becomes_a_plate_with_report_and_agreement() {
    let folder = copy_frames(5);
    let before: Vec<Vec<u8>> =
        (1..=5).map(|k| std::fs::read(folder.path().join(format!("frame-{k:02}.jpg"))).unwrap()).collect();
    std::fs::write(folder.path().join("notes.txt"), "not a frame").unwrap();
    let out = evanu(
        &["clean", ".", "--out", "plate.tif", "--report", "r.json", "--agreement", "a.png"],
        folder.path(),
    );
    assert!(out.status.success(), "{}", text(&out.stderr));
    assert_eq!(text(&out.stdout), "plate.tif\n");
    assert!(text(&out.stderr).contains("notes.txt: passed over"));
    let plate = decode(&folder.path().join("plate.tif")).unwrap();
    assert_eq!((plate.size.width, plate.size.height), (400, 267));
    assert!(matches!(plate.samples, Samples::Sixteen(_)));
    assert_eq!(plate.camera.camera.as_deref(), Some("Hilltop One"));
    assert_eq!(plate.camera.exposure_s, Some(0.004));
    let report: serde_json::Value =
        serde_json::from_slice(&std::fs::read(folder.path().join("r.json")).unwrap()).unwrap();
    let keys: Vec<&String> = report.as_object().unwrap().keys().collect();
    assert_eq!(
        keys,
        [
            "agreement",
            "canvas",
            "doubts",
            "frames",
            "method",
            "method_reason",
            "reference",
            "seconds",
            "version"
        ]
    );
    assert_eq!(report["version"], 1);
    assert_eq!(report["method"], "consensus");
    assert_eq!(report["canvas"]["width"], 400);
    assert_eq!(report["frames"].as_array().unwrap().len(), 5);
    for f in report["frames"].as_array().unwrap() {
        assert_eq!(f["used"], true);
        assert!(
            f["reason"].is_null()
                && f["transform"].as_array().unwrap().len() == 9
                && f["gain"].as_array().unwrap().len() == 3
        );
        assert!(f["residual_px"].as_f64().unwrap() < 0.3);
    }
    assert!(report["agreement"]["mean"].as_f64().unwrap() > 0.7);
    let agreement = decode(&folder.path().join("a.png")).unwrap();
    assert_eq!(agreement.size, plate.size);
    for (k, bytes) in before.iter().enumerate() {
        assert!(
            std::fs::read(folder.path().join(format!("frame-{:02}.jpg", k + 1))).unwrap() == *bytes,
            "frame {k} was written"
        );
    }
}

#[test]
fn the_same_frames_give_the_same_file() {
    let folder = copy_frames(3);
    for out in ["a.tif", "a.jpg", "b.jpg", "b.tif"] {
        assert!(
            evanu(&["clean", "frame-01.jpg", "frame-02.jpg", "frame-03.jpg", "--out", out], folder.path())
                .status
                .success()
        );
    }
    let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    assert!(read("a.tif") == read("b.tif") && read("a.jpg") == read("b.jpg"));
}

#[test]
fn every_option_of_the_contract_is_taken_or_says_what_there_is() {
    let folder = copy_frames(3);
    let f = folder.path();
    let all = ["frame-01.jpg", "frame-02.jpg", "frame-03.jpg"];
    for (extra, out) in [
        (&["--method", "darkest", "--align", "similarity"][..], "a.png"),
        (&["--method", "lightest", "--reference", "2"], "b.jpg"),
        (&["--method", "rank:30", "--canvas", "common", "--match-exposure", "off"], "c.tif"),
        (&["--canvas", "whole"], "d.png"),
        (&["--method", "mean", "--align", "off"], "d.tiff"),
        (&["--method", "clipped"], "e.tif"),
        (&["--method", "everybody"], "f.tif"),
        (&["--origin", "origin.png"], "g.tif"),
    ] {
        let args: Vec<&str> =
            ["clean"].iter().chain(&all).chain(&["--out", out]).chain(extra).copied().collect();
        let done = evanu(&args, f);
        assert!(done.status.success(), "{extra:?}: {}", text(&done.stderr));
        decode(&f.join(out)).unwrap();
    }
    assert!(decode(&f.join("c.tif")).unwrap().size.width < 400);
    assert!(decode(&f.join("d.png")).unwrap().size.width > 400);
    let origin = decode(&f.join("origin.png")).unwrap();
    let Samples::Eight(numbers) = &origin.samples else { panic!("eight bits are wanted") };
    assert!(numbers.chunks_exact(3).all(|n| n[0] <= 3 && (1..=3).contains(&n[1]) && n[2] <= n[1]));
    assert!(numbers.chunks_exact(3).any(|n| n[1] == 3), "an empty place comes from all frames");
    for (extra, words) in [
        (&["--method", "best"][..], &["best", "median"][..]),
        (&["--align", "sphere"], &["not yet available", "perspective"]),
        (&["--reference", "9"], &["no such frame", "0 to 2"]),
        (&["--canvas", "round"], &["reference, common or whole"]),
        (
            &["--method", "median", "--origin", "o.png"],
            &["o.png", "only the consensus", "--method consensus"],
        ),
    ] {
        let args: Vec<&str> =
            ["clean"].iter().chain(&all).chain(&["--out", "plate.tif"]).chain(extra).copied().collect();
        refused(&evanu(&args, f), f, words);
    }
    // Floats hold linear light; an extension that names no format is told.
    assert!(evanu(&["clean", "frame-01.jpg", "frame-02.jpg", "--out", "plate.exr"], f).status.success());
    assert!(matches!(decode(&f.join("plate.exr")).unwrap().samples, Samples::Wide(_)));
    refused(
        &evanu(&["clean", "frame-01.jpg", "--out", "plate.xyz"], f),
        f,
        &["plate.xyz", "names no format", ".tif"],
    );
    refused(&evanu(&["clip", "a.webm", "--out", "b.webm"], f), f, &["a.webm", "no such file"]);
}

#[test]
fn bad_files_are_named_with_reason_and_way_out() {
    let folder = copy_frames(2);
    let f = folder.path();
    let good = std::fs::read(f.join("frame-01.jpg")).unwrap();
    std::fs::write(f.join("text.jpg"), "hello").unwrap();
    std::fs::write(f.join("empty.jpg"), "").unwrap();
    std::fs::write(f.join("cut.jpg"), &good[..good.len() / 2]).unwrap();
    // A PNG head that declares a picture of 60000 × 60000.
    let mut huge = b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR\0\0\xEA\x60\0\0\xEA\x60\x08\x02\0\0\0".to_vec();
    huge.extend(0xF0A1_D6F7u32.to_be_bytes());
    std::fs::write(f.join("huge.png"), &huge).unwrap();
    for (name, words) in [
        ("text.jpg", &["not a picture", "JPEG"][..]),
        ("empty.jpg", &["empty", "copy it"]),
        ("cut.jpg", &["cut short", "leave it out"]),
        ("huge.png", &["huge.png"]),
        ("none.jpg", &["no such file"]),
    ] {
        let words: Vec<&str> = [name].iter().chain(words).copied().collect();
        refused(&evanu(&["clean", "frame-01.jpg", name, "frame-02.jpg", "--out", "plate.tif"], f), f, &words);
    }
    // In a folder the others are used, and the bad ones are told.
    let out = evanu(&["clean", ".", "--out", "plate.tif", "--report", "r.json"], f);
    let errors = text(&out.stderr);
    assert!(out.status.success(), "{errors}");
    assert!(
        errors.contains("cut.jpg") && errors.contains("empty.jpg") && errors.contains("huge.png"),
        "{errors}"
    );
    let report: serde_json::Value =
        serde_json::from_slice(&std::fs::read(f.join("r.json")).unwrap()).unwrap();
    let cut = report["frames"]
        .as_array()
        .unwrap()
        .iter()
        .find(|x| x["path"].as_str().unwrap().ends_with("cut.jpg"))
        .unwrap();
    assert_eq!(cut["used"], false);
    assert!(cut["reason"].as_str().unwrap().contains("cut short"));
}

#[test]
fn outputs_appear_whole_or_not_at_all() {
    let folder = copy_frames(2);
    let f = folder.path();
    let two = |out: &str| evanu(&["clean", "frame-01.jpg", "frame-02.jpg", "--out", out], f);
    refused(&two("nowhere/plate.tif"), f, &["nowhere/plate.tif", "folder does not exist"]);
    refused(&two("frame-01.jpg"), f, &["frame-01.jpg", "never written"]);
    refused(&two("plate.doc"), f, &["plate.doc", "extension", ".tif"]);
    refused(&two("/proc/plate.tif"), f, &["/proc/plate.tif"]);
    // A device that is always full: the file system says so, the program passes it on.
    if Path::new("/dev/full").exists() {
        let link = f.join("full.json");
        std::os::unix::fs::symlink("/dev/full", f.join("full.part")).unwrap();
        let out = evanu(&["clean", "frame-01.jpg", "--out", "ok.tif", "--report", "full.json"], f);
        assert_eq!(out.status.code(), Some(2));
        assert!(text(&out.stderr).contains("disk is full"), "{}", text(&out.stderr));
        assert!(!link.exists());
    }
}

#[test]
fn a_single_frame_is_its_own_plate_to_the_bit() {
    let folder = copy_frames(1);
    let out = evanu(&["clean", "frame-01.jpg", "--out", "plate.png"], folder.path());
    assert!(out.status.success());
    assert!(text(&out.stderr).contains("only one frame"));
    let (a, b) = (
        decode(&folder.path().join("plate.png")).unwrap(),
        decode(&folder.path().join("frame-01.jpg")).unwrap(),
    );
    assert!(a.samples == b.samples);
}

#[test]
fn an_orientation_tag_is_applied_and_then_gone() {
    let folder = copy_frames(1);
    let path = folder.path().join("frame-01.jpg");
    let mut bytes = std::fs::read(&path).unwrap();
    // The tag 0x0112 (a short, one value) in the little-endian block: set its value to 6.
    let tag = [0x12, 0x01, 3, 0, 1, 0, 0, 0];
    let at = bytes.windows(8).position(|w| w == tag).expect("no orientation tag");
    bytes[at + 8] = 6;
    std::fs::write(&path, bytes).unwrap();
    let out = evanu(&["clean", "frame-01.jpg", "--out", "plate.tif"], folder.path());
    assert!(out.status.success(), "{}", text(&out.stderr));
    let plate = decode(&folder.path().join("plate.tif")).unwrap();
    assert_eq!((plate.size.width, plate.size.height, plate.camera.orientation), (267, 400, 1));
}

#[test]
fn the_sample_set_is_written_and_never_over_someones_own() {
    let folder = tempfile::tempdir().unwrap();
    let mine = folder.path().join("forecourt/frame-03.jpg");
    std::fs::create_dir_all(mine.parent().unwrap()).unwrap();
    std::fs::write(&mine, "mine").unwrap();
    let out = evanu(&["demo", "."], folder.path());
    assert!(out.status.success());
    assert_eq!(std::fs::read(&mine).unwrap(), b"mine");
    let names: Vec<PathBuf> =
        std::fs::read_dir(mine.parent().unwrap()).unwrap().flatten().map(|e| e.path()).collect();
    assert_eq!(names.len(), 12);
    assert_eq!(decode(&mine.with_file_name("frame-01.jpg")).unwrap().size.width, 1600);
}

#[test]
fn frames_in_a_wider_space_give_a_plate_in_srgb() {
    // One colour in the numbers of Display P3; its green is less saturated there than the same numbers in sRGB.
    let folder = tempfile::tempdir().unwrap();
    let p3 = moxcms::ColorProfile::new_display_p3().encode().unwrap();
    for name in ["one.png", "two.png"] {
        let mut info = png::Info::with_size(60, 40);
        (info.color_type, info.bit_depth) = (png::ColorType::Rgb, png::BitDepth::Eight);
        info.icc_profile = Some(p3.clone().into());
        let file = std::fs::File::create(folder.path().join(name)).unwrap();
        let mut writer = png::Encoder::with_info(file, info).unwrap().write_header().unwrap();
        writer.write_image_data(&[117, 195, 78].repeat(60 * 40)).unwrap();
    }
    let out = evanu(&["clean", ".", "--align", "off", "--out", "plate.tif"], folder.path());
    assert!(out.status.success(), "{}", text(&out.stderr));
    let Samples::Sixteen(plate) = decode(&folder.path().join("plate.tif")).unwrap().samples else {
        panic!("a TIFF plate has sixteen bits")
    };
    // By the matrix between the two spaces in linear light: 87.0, 197.4, 54.3 of 255.
    for (found, expected) in plate.iter().zip([87.0, 197.4, 54.3]) {
        assert!((f64::from(*found) / 257.0 - expected).abs() < 1.5, "{:?}", &plate[..3]);
    }
}

#[cfg(unix)]
#[test]
fn a_name_that_is_no_text_is_read_and_told() {
    use std::os::unix::ffi::OsStringExt;
    let folder = copy_frames(3);
    let name = |bytes: &[u8]| PathBuf::from(std::ffi::OsString::from_vec(bytes.to_vec()));
    let odd = folder.path().join(name(b"frame-t\xFCr.jpg"));
    std::fs::rename(folder.path().join("frame-03.jpg"), &odd).unwrap();
    std::fs::write(folder.path().join(name(b"frame-u\xFC.jpg")), "no picture").unwrap();
    let args = ["clean", ".", "--out", "plate.tif", "--report", "report.json"];
    let out = evanu(&args, folder.path());
    assert!(out.status.success(), "{}", text(&out.stderr));
    assert!(text(&out.stderr).contains("frame-u\u{FFFD}.jpg"), "{}", text(&out.stderr));
    let report: serde_json::Value =
        serde_json::from_slice(&std::fs::read(folder.path().join("report.json")).unwrap()).unwrap();
    let paths: Vec<&str> =
        report["frames"].as_array().unwrap().iter().filter_map(|f| f["path"].as_str()).collect();
    assert_eq!(paths, ["./frame-01.jpg", "./frame-02.jpg", "./frame-t\\xFCr.jpg"]);
    // The plate may have such a name, too.
    let out = Command::new(env!("CARGO_BIN_EXE_evanu"))
        .arg("clean")
        .args(["frame-01.jpg", "frame-02.jpg", "--out"])
        .arg(name(b"pl\xE4te.tif"))
        .current_dir(folder.path())
        .output()
        .unwrap();
    assert!(out.status.success(), "{}", text(&out.stderr));
    assert!(folder.path().join(name(b"pl\xE4te.tif")).exists());
}
