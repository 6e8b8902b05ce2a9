//! A clip as a set: looked at, covered, laid on every frame, mended by brush, and written; shots told apart.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::geometry::{Point, Size};
use evanu_core::recipe::Stroke;
use evanu_media::clip::{Clip, ClipInfo, ClipReader, Colour, Layout, Matrix, Yuv, write_y4m};
use evanu_studio::{CarryRequest, Change, ClipFile, RecipePart, RunState, Studio};
use serde_json::{Value, json};
use std::path::Path;
use std::time::{Duration, Instant};

const SIZE: Size = Size { width: 192, height: 112 };
const COUNT: usize = 60;
/// Who stands there at first, who crosses before them later, and when.
const STANDS: (usize, usize, usize, usize) = (70, 40, 22, 52);
const LEAVES: usize = 22;

fn wall(x: usize, y: usize, view: usize) -> f64 {
    let (x, y) = (x as f64, y as f64);
    match view {
        0 => 110.0 + 28.0 * (x / 7.0).sin() * (y / 9.0).cos() + 22.0 * ((x + 2.0 * y) / 23.0).sin(),
        _ => 150.0 - 60.0 * (x / 96.0 - 1.0).powi(2) + 30.0 * (y / 4.0).sin(),
    }
}

fn crosses(k: usize, x: usize, y: usize) -> bool {
    let at = 5 * k as i64 - 120;
    (at..at + 20).contains(&(x as i64)) && (30..100).contains(&y)
}

/// A number that looks like chance.
fn mixed(v: u32) -> u32 {
    let v = (v ^ v >> 16).wrapping_mul(0x7feb_352d);
    let v = (v ^ v >> 15).wrapping_mul(0x846c_a68b);
    v ^ v >> 16
}

fn frame(k: usize, stands: bool, view: usize) -> Yuv {
    let (w, h) = (SIZE.width as usize, SIZE.height as usize);
    let (left, top, wide, tall) = STANDS;
    let bright = |p: usize| {
        let (x, y) = (p % w, p / w);
        let grain = f64::from(mixed(p as u32 + 1_000_003 * k as u32) % 5) - 2.0;
        let there =
            stands && k < LEAVES && (left..left + wide).contains(&x) && (top..top + tall).contains(&y);
        let shown = if crosses(k, x, y) {
            195.0 + 14.0 * ((x as f64 - 5.0 * k as f64) / 2.5).sin() * (y as f64 / 3.5).cos()
        } else if there {
            40.0
        } else {
            wall(x, y, view)
        };
        (shown + grain).round().clamp(16.0, 235.0) as u16
    };
    let half = w * h / 4;
    Yuv { planes: [(0..w * h).map(bright).collect(), vec![128; half], vec![128; half]] }
}

fn write(path: &Path, frames: impl Iterator<Item = Yuv>) {
    let info = ClipInfo {
        size: SIZE,
        rate: (25, 1),
        frames: COUNT as u64,
        seconds: None,
        layout: Layout { bits: 8, across: 1, down: 1, grey: false },
        colour: Colour { matrix: Matrix::BT709, full: false },
        rotation: 0,
        codec: "rawvideo".into(),
        bits_a_second: None,
        sound: false,
        tags: ["bt709".into(), "bt709".into(), "bt709".into()],
        scale: 25,
    };
    let mut out = std::fs::File::create(path).unwrap();
    let mut frames = frames;
    write_y4m(&mut out, &info, &mut frames).unwrap();
}

fn until_done(studio: &Studio, set: i64) {
    let begin = Instant::now();
    loop {
        match studio.set(set).unwrap().run {
            Some(run) if run.state == RunState::Done => return,
            run => assert!(begin.elapsed() < Duration::from_secs(120), "{run:?}"),
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A studio with a set made of one clip.
fn opened(folder: &Path, frames: impl Iterator<Item = Yuv>) -> (Studio, i64) {
    let path = folder.join("walk.y4m");
    write(&path, frames);
    let studio = Studio::open(&folder.join("data")).unwrap();
    let set = studio.sets.create("Walk").unwrap();
    let mut file = studio.assets.incoming(set, "walk.y4m").unwrap();
    file.take(&std::fs::read(path).unwrap()).unwrap();
    studio.assets.add(set, file).unwrap();
    studio.prepare(set).unwrap();
    until_done(&studio, set);
    (studio, set)
}

fn change(studio: &Studio, set: i64, part: Value) {
    let change = Change { label: "a".into(), goes_on: false, recipe: RecipePart(part), looking: Vec::new() };
    studio.change(set, &change, None).unwrap();
}

fn around() -> Vec<Point> {
    let (x, y, w, h) = STANDS;
    let (x, y, w, h) = (x as f64, y as f64, w as f64, h as f64);
    [(x - 3.0, y - 3.0), (x + w + 2.0, y - 3.0), (x + w + 2.0, y + h + 2.0), (x - 3.0, y + h + 2.0)]
        .map(|(x, y)| Point::new(x, y))
        .to_vec()
}

#[test]
fn who_stands_is_covered_by_the_plate_who_crosses_stays_and_the_rest_is_untouched() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = opened(folder.path(), (0..COUNT).map(|k| frame(k, true, 0)));
    let state = studio.clips.state(set).unwrap();
    assert_eq!((state.seconds.len(), state.of, &state.shots[..]), (COUNT, 1, &[[0, COUNT - 1]][..]));
    assert_eq!(
        (state.covered, state.laid.is_none(), state.remarks.len()),
        (0.0, true, 0),
        "{:?}",
        state.remarks
    );
    assert!(studio.set(set).unwrap().clip && state.moments.len() == studio.set(set).unwrap().frames.len());
    let before = state.key;

    let held =
        json!({ "held": [{ "outline": around(), "later": null }], "from": null, "to": null, "strokes": [] });
    change(&studio, set, json!({ "clip": held }));
    let state = studio.clips.state(set).unwrap();
    assert!(state.covered > 0.05 && state.covered < 0.09 && state.key != before, "{}", state.covered);
    assert_eq!(state.areas.len(), 1);
    // A single frame shows it at once.
    let shown = studio.clips.frame(set, 5, true).unwrap();
    let at = |bytes: &[u8], x: usize, y: usize| {
        let picture = evanu_media::decode_bytes(Path::new("f.jpg"), bytes).unwrap();
        match picture.samples {
            evanu_core::pixel::Samples::Eight(data) => f64::from(data[3 * (y * SIZE.width as usize + x) + 1]),
            _ => panic!("it has eight bits"),
        }
    };
    let dark = at(&studio.clips.frame(set, 5, false).unwrap(), 80, 60);
    assert!(dark < 60.0 && at(&shown, 80, 60) > 80.0, "{dark} {}", at(&shown, 80, 60));

    studio.lay_clip(set).unwrap();
    until_done(&studio, set);
    let laid = studio.clips.state(set).unwrap().laid.unwrap();
    assert_eq!(laid.contact.len(), COUNT);
    assert_eq!(laid.crossings.len(), 1, "{:?}", laid.crossings);
    // The crosser reaches the area at its left and leaves it at its right.
    let (first, last) = (laid.crossings[0].first, laid.crossings[0].last);
    assert!((33..=35).contains(&first) && (42..=45).contains(&last), "{first} {last}");
    let key = studio.clips.state(set).unwrap().key;
    assert!(
        studio.clips.made(set, &key, "mp4").unwrap().exists()
            && studio.clips.made(set, &key, "png").unwrap().exists()
    );
    assert!(studio.clips.made(set, "../../evanu", "sqlite").is_err());

    let run = studio.export_clip(set, ClipFile::Lossless).unwrap();
    until_done(&studio, set);
    let (path, name) = studio.exported(run).unwrap();
    assert_eq!(name, "walk-lossless.mkv");
    let clip = Clip::open(&path).unwrap();
    let made: Vec<Yuv> = ClipReader::open(&path, &clip.info).unwrap().map(Result::unwrap).collect();
    assert_eq!(made.len(), COUNT);
    let (w, area) = (SIZE.width as usize, &studio.clips.state(set).unwrap().areas[0]);
    let (mut ghost, mut pixels, mut lost) = (0, 0, 0);
    for (k, made) in made.iter().enumerate() {
        let (source, truth) = (frame(k, true, 0), frame(k, false, 0));
        for p in 0..made.planes[0].len() {
            let (x, y) = ((p % w) as i64, (p / w) as i64);
            let near = (area.x - 4..area.x + i64::from(area.width) + 4).contains(&x)
                && (area.y - 4..area.y + i64::from(area.height) + 4).contains(&y);
            if !near {
                assert_eq!(made.planes[0][p], source.planes[0][p], "frame {k} at {x}, {y}");
            } else if crosses(k, x as usize, y as usize) {
                lost += usize::from(made.planes[0][p].abs_diff(truth.planes[0][p]) > 12);
            } else {
                pixels += 1;
                ghost += usize::from(made.planes[0][p].abs_diff(truth.planes[0][p]) > 12);
            }
        }
    }
    assert!(ghost * 500 < pixels, "{ghost} of {pixels}");
    assert!(lost < 150, "{lost}");

    // Only from here to there.
    let short =
        json!({ "held": [{ "outline": around(), "later": null }], "from": 0.4, "to": 0.6, "strokes": [] });
    change(&studio, set, json!({ "clip": short }));
    assert!(at(&studio.clips.frame(set, 5, true).unwrap(), 80, 60) < 60.0, "before it begins");
    assert!(at(&studio.clips.frame(set, 12, true).unwrap(), 80, 60) > 80.0, "within");
}

#[test]
fn what_is_brushed_is_followed_and_has_the_last_word() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = opened(folder.path(), (0..COUNT).map(|k| frame(k, true, 0)));
    let held =
        json!({ "held": [{ "outline": around(), "later": null }], "from": null, "to": null, "strokes": [] });
    change(&studio, set, json!({ "clip": held }));
    let middle = Point::new(80.0, 60.0);
    let stroke = Stroke { frame: 5, front: true, radius: 6.0, path: vec![middle] };
    let all = studio.clips.carry(set, &CarryRequest { stroke: stroke.clone(), frames: 3 }).unwrap();
    let frames: Vec<u32> = all.iter().map(|s| s.frame).collect();
    assert_eq!((frames.len(), frames.contains(&2), frames.contains(&8)), (7, true, true), "{frames:?}");
    // The crosser goes five pixels to the right a frame.
    let on = Stroke { frame: 30, front: true, radius: 6.0, path: vec![Point::new(40.0, 60.0)] };
    let followed = studio.clips.carry(set, &CarryRequest { stroke: on, frames: 2 }).unwrap();
    let at = |k: u32| followed.iter().find(|s| s.frame == k).unwrap().path[0].x;
    assert!((at(31) - 45.0).abs() < 0.6 && (at(28) - 30.0).abs() < 0.6, "{followed:?}");

    let clip =
        json!({ "held": [{ "outline": around(), "later": null }], "from": null, "to": null, "strokes": all });
    change(&studio, set, json!({ "clip": clip }));
    let code = |k: usize| {
        let bytes = studio.clips.frame(set, k, true).unwrap();
        let picture = evanu_media::decode_bytes(Path::new("f.jpg"), &bytes).unwrap();
        match picture.samples {
            evanu_core::pixel::Samples::Eight(data) => data[3 * (60 * SIZE.width as usize + 80) + 1],
            _ => panic!("it has eight bits"),
        }
    };
    assert!(code(5) < 60 && code(8) < 60, "what was brushed stays: {} {}", code(5), code(8));
    assert!(code(15) > 80, "elsewhere in time the patch lies: {}", code(15));
    let far = Stroke { frame: 4000, ..stroke };
    assert!(studio.clips.carry(set, &CarryRequest { stroke: far, frames: 2 }).is_err());
}

#[test]
fn a_piece_of_another_time_lives_on() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = opened(folder.path(), (0..COUNT).map(|k| frame(k, true, 0)));
    let held =
        json!({ "held": [{ "outline": around(), "later": 1.0 }], "from": null, "to": 0.8, "strokes": [] });
    change(&studio, set, json!({ "clip": held }));
    studio.lay_clip(set).unwrap();
    until_done(&studio, set);
    let run = studio.export_clip(set, ClipFile::Lossless).unwrap();
    until_done(&studio, set);
    let path = studio.exported(run).unwrap().0;
    let made: Vec<Yuv> =
        ClipReader::open(&path, &Clip::open(&path).unwrap().info).unwrap().map(Result::unwrap).collect();
    let (later, p) = (frame(2 + 25, true, 0), 60 * SIZE.width as usize + 80);
    // Twenty-five frames later, grain and all.
    let same = (0..12).filter(|d| made[2].planes[0][p + d].abs_diff(later.planes[0][p + d]) <= 1).count();
    assert!(same >= 10, "{same} of 12");
}

#[test]
fn shots_are_told_apart_and_only_that_of_the_set_is_covered() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = opened(folder.path(), (0..COUNT).map(|k| frame(k, false, usize::from(k >= 35))));
    let state = studio.clips.state(set).unwrap();
    assert_eq!((state.of, state.shots.len()), (2, 2), "{:?}", state.shots);
    assert_eq!(state.shots, [[0, 34], [35, COUNT - 1]]);
}

#[test]
fn of_a_still_that_comes_back_only_what_was_changed_covers_the_clip() {
    let folder = tempfile::tempdir().unwrap();
    // The post stands there all the time: no frame shows what is behind.
    let (studio, set) = opened(folder.path(), (0..COUNT).map(|k| frame(k % 20, true, 0)));
    let run = studio.export_clip(set, ClipFile::Plate).unwrap();
    until_done(&studio, set);
    let (path, name) = studio.exported(run).unwrap();
    assert_eq!(name, "walk-plate.png");
    let own = std::fs::read(&path).unwrap();
    let told = studio.clips.take_back(set, "same.png", &own).unwrap_err().to_string();
    assert!(told.contains("same.png") && told.contains("nothing in it was changed"), "{told}");
    let told = studio.clips.take_back(set, "words.png", b"no picture").unwrap_err().to_string();
    assert!(told.contains("words.png"), "{told}");
    // Somebody paints the post over, in eight bits.
    let picture = evanu_media::decode_bytes(Path::new("p.png"), &own).unwrap();
    let evanu_core::pixel::Samples::Sixteen(plate) = picture.samples else {
        panic!("the plate has sixteen bits")
    };
    let (left, top, wide, tall) = STANDS;
    let w = SIZE.width as usize;
    let painted = |p: usize| (left..left + wide).contains(&(p % w)) && (top..top + tall).contains(&(p / w));
    let full = |v: f64| ((v - 16.0) / 219.0 * 65535.0).clamp(0.0, 65535.0) as u16;
    let data: Vec<u16> = (0..plate.len())
        .map(|i| if painted(i / 3) { full(wall(i / 3 % w, i / 3 / w, 0)) } else { plate[i] })
        .collect();
    let small = evanu_core::pixel::Raster { size: SIZE, data };
    let back = studio.clips.take_back(set, "back.png", &evanu_media::encode_png(&small).unwrap()).unwrap();
    let truth = (wide * tall) as f64 / SIZE.pixels() as f64;
    assert!(
        back.outlines.len() == 1 && (0.97..1.08).contains(&(back.share / truth)),
        "{} of {truth}",
        back.share
    );
    let held = json!({ "held": [{ "outline": back.outlines[0], "later": null, "still": back.still }], "from": null, "to": null, "strokes": [] });
    change(&studio, set, json!({ "clip": held }));
    let shown = studio.clips.frame(set, 7, true).unwrap();
    let picture = evanu_media::decode_bytes(Path::new("f.jpg"), &shown).unwrap();
    let evanu_core::pixel::Samples::Eight(data) = picture.samples else { panic!("it has eight bits") };
    let code = data[3 * (60 * w + 80) + 1];
    assert!(code > 80, "the post is still there: {code}");
}

#[test]
fn a_clip_whose_file_tells_no_times_has_all_its_frames() {
    let folder = tempfile::tempdir().unwrap();
    write(&folder.path().join("timed.y4m"), (0..COUNT).map(|k| frame(k, true, 0)));
    // A bare stream: pictures one after another, no times.
    let words =
        ["-v", "error", "-i", "timed.y4m", "-c:v", "ffv1", "-f", "nut", "-fflags", "+bitexact", "timed.nut"];
    let bare =
        ["-v", "error", "-i", "timed.y4m", "-c:v", "libx264", "-pix_fmt", "yuv420p", "-f", "avi", "bare.avi"];
    for arguments in [&words[..], &bare[..]] {
        let done =
            std::process::Command::new("ffmpeg").args(arguments).current_dir(folder.path()).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    }
    let studio = Studio::open(&folder.path().join("data")).unwrap();
    for name in ["timed.nut", "bare.avi"] {
        let set = studio.sets.create(name).unwrap();
        let mut file = studio.assets.incoming(set, name).unwrap();
        file.take(&std::fs::read(folder.path().join(name)).unwrap()).unwrap();
        studio.assets.add(set, file).unwrap();
        studio.prepare(set).unwrap();
        until_done(&studio, set);
        let state = studio.clips.state(set).unwrap();
        assert_eq!(state.seconds.len(), COUNT, "{name}");
        assert!(state.seconds.windows(2).all(|t| t[1] > t[0]), "{name}: {:?}", &state.seconds[..4]);
        assert!(studio.clips.frame(set, COUNT - 1, true).is_ok(), "{name}: its last frame");
    }
}

#[test]
fn a_set_of_photographs_has_no_clip() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let set = studio.sets.create("Photographs").unwrap();
    let told = studio.clips.state(set).unwrap_err().to_string();
    assert!(told.contains("come from no clip"), "{told}");
    assert!(!studio.set(set).unwrap().clip);
}
