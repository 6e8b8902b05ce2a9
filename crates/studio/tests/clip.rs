//! A trial of the place where a kind of file with many frames is plugged in: a made-up clip, opened once, whose frames go through a
//! set as those of pictures do. Nothing of it is known outside this file.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::combine::Method;
use evanu_core::geometry::Size;
use evanu_core::pixel::Samples;
use evanu_core::recipe::{FrameId, Recipe};
use evanu_core::render::View;
use evanu_media::{AssetFormat, CameraData, Decoded, Frames, MediaError, Reader};
use evanu_studio::{Change, FrameState, Pixels, RecipePart, RunState, Studio};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

const SIZE: Size = Size { width: 300, height: 200 };
const MARK: &[u8] = b"A MADE-UP CLIP: ";

/// How often a clip of five frames was opened.
static OPENED: AtomicUsize = AtomicUsize::new(0);

/// A clip of a wall along which a square moves; its file holds only the number of frames.
struct Clip;

impl AssetFormat for Clip {
    fn recognises(&self, bytes: &[u8]) -> bool {
        bytes.starts_with(MARK)
    }

    fn open(&self, path: &Path) -> Result<Frames, MediaError> {
        let bytes = std::fs::read(path).map_err(|e| MediaError::reading(path, &e))?;
        let count = String::from_utf8_lossy(&bytes[MARK.len()..]).trim().parse::<u32>();
        let count = count.map_err(|e| MediaError::new(path, e.to_string(), "write a number"))?;
        OPENED.fetch_add(usize::from(count == 5), Ordering::Relaxed);
        let path = path.to_owned();
        Ok(Box::new((0..count).map(move |k| {
            // One frame of a long clip is damaged.
            if count == 6 && k == 3 {
                return Err(MediaError::new(&path, "frame 4 is damaged", "cut it out"));
            }
            Ok(frame(k))
        })))
    }
}

fn frame(k: u32) -> Decoded {
    let code = |i: u32| {
        let (x, y) = (i % SIZE.width, i / SIZE.width);
        let cell = (x / 11).wrapping_mul(2_654_435_761) ^ (y / 9).wrapping_mul(2_246_822_519);
        let square = (40 * k..40 * k + 30).contains(&x) && (80..120).contains(&y);
        [if square { 250 } else { 60 + (cell.wrapping_mul(3_266_489_917) >> 26) as u8 }; 3]
    };
    let samples = Samples::Eight((0..SIZE.pixels() as u32).flat_map(code).collect());
    Decoded { size: SIZE, samples, headroom: 1.0, camera: CameraData::default() }
}

static KINDS: &[&dyn AssetFormat] = &[&Clip];

fn until_done(studio: &Studio, set: i64) {
    let begin = Instant::now();
    loop {
        match studio.set(set).unwrap().run.map(|r| r.state) {
            Some(RunState::Done) => return,
            state => assert!(begin.elapsed() < Duration::from_secs(60), "{state:?}"),
        }
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn opened(folder: &Path, clips: &[(&str, u32)]) -> (Studio, i64) {
    let studio = Studio::open_with(folder, Reader::Here(KINDS)).unwrap();
    let set = studio.sets.create("clip").unwrap();
    for (name, count) in clips {
        let mut file = studio.assets.incoming(set, name).unwrap();
        file.take(&[MARK, count.to_string().as_bytes()].concat()).unwrap();
        studio.assets.add(set, file).unwrap();
    }
    studio.prepare(set).unwrap();
    until_done(&studio, set);
    (studio, set)
}

#[test]
fn the_frames_of_a_clip_are_read_one_after_another_and_combined_as_those_of_pictures() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = opened(folder.path(), &[("walk.clip", 5)]);
    assert_eq!(OPENED.load(Ordering::Relaxed), 1, "five frames, opened once");
    let detail = studio.set(set).unwrap();
    let positions: Vec<u32> = detail.frames.iter().map(|f| f.position).collect();
    assert_eq!(positions, [0, 1, 2, 3, 4]);
    assert!(detail.frames.iter().all(|f| f.state == FrameState::Ready && f.used));
    assert_eq!(std::fs::read_dir(folder.path().join("originals")).unwrap().count(), 1);
    // The square is gone: where the middle frame shows it, the plate shows the wall.
    let key = detail.plate_key.unwrap();
    let tile = |view| {
        let key = if view == View::Plate { &key } else { detail.frame_key.as_ref().unwrap() };
        let png = studio.scenes.tile(set, key, view, (0, (0, 0)), None, Pixels::Png).unwrap().0;
        evanu_media::decode_bytes(Path::new("tile.png"), &png).unwrap().samples
    };
    let at = |samples: &Samples| match samples {
        Samples::Eight(data) => data[3 * (100 * 300 + 95)],
        _ => panic!("a tile has eight bits"),
    };
    let third = detail.frames[2].id;
    assert!(at(&tile(View::Frame(third))) > 240 && at(&tile(View::Plate)) < 140);

    // A frame that leaves the set takes its place in history along and comes back with it.
    let change = |part| {
        let change =
            Change { label: "a".into(), goes_on: false, recipe: RecipePart(part), looking: Vec::new() };
        studio.change(set, &change, None).unwrap();
    };
    change(serde_json::json!({ "excluded": [third], "method": "median" }));
    let recipe: Recipe<FrameId> = studio.set(set).unwrap().recipe;
    assert_eq!((recipe.method, recipe.excluded), (Method::Median, [third].into()));
    assert!(!studio.set(set).unwrap().frames[2].used);
}

#[test]
fn a_damaged_frame_of_a_clip_is_told_and_the_others_are_there() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = opened(folder.path(), &[("long.clip", 6)]);
    let frames = studio.set(set).unwrap().frames;
    let ready = frames.iter().filter(|f| f.state == FrameState::Ready).count();
    assert_eq!(ready, 5, "{:?}", frames.iter().map(|f| (f.position, f.state)).collect::<Vec<_>>());
    let reasons: Vec<&str> = frames.iter().filter_map(|f| f.reason.as_deref()).collect();
    assert!(reasons.iter().any(|r| r.contains("frame 4 is damaged")), "{reasons:?}");
}
