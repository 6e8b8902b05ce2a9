//! Touches through the studio: tried in variants, laid, kept over another method, another start and a lost cache.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_studio::{Change, ExportFormat, ExportRequest, RunState, SetDetail, Studio, StudioError, TouchTry};
use serde_json::{Value, json};
use std::path::Path;
use std::time::{Duration, Instant};

fn ended(studio: &Studio, set: i64) -> SetDetail {
    let begin = Instant::now();
    loop {
        let detail = studio.set(set).unwrap();
        if detail.run.as_ref().is_some_and(|r| matches!(r.state, RunState::Done | RunState::Failed)) {
            return detail;
        }
        assert!(begin.elapsed() < Duration::from_secs(60));
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// A set of three frames, aligned.
fn brought_in(data: &Path) -> (Studio, i64) {
    let frames = tempfile::tempdir().unwrap();
    evanu_demo::render("forecourt", 400, Some(3), frames.path(), &|_| {}).unwrap();
    let studio = Studio::open(data).unwrap();
    let set = studio.sets.create("Touched").unwrap();
    studio.assets.add_folder(set, frames.path().to_str().unwrap(), true).unwrap();
    studio.prepare(set).unwrap();
    assert_eq!(ended(&studio, set).run.unwrap().state, RunState::Done);
    (studio, set)
}

fn change(studio: &Studio, set: i64, recipe: Value) -> Result<(), StudioError> {
    let change: Change = serde_json::from_value(json!({ "label": "retouch", "recipe": recipe })).unwrap();
    studio.change(set, &change, None)
}

/// A touch on the paving.
fn touch(set: &SetDetail, act: Value) -> Value {
    let corners = [(120, 210), (150, 210), (150, 240), (120, 240)].map(|(x, y)| json!({ "x": x, "y": y }));
    json!({ "on": set.reference, "outline": corners, "act": act, "feather": 2.0, "strength": 1.0, "disabled": false })
}

fn wanted(touch: &Value, variants: u8) -> TouchTry {
    serde_json::from_value(json!({ "touch": touch, "at": null, "variants": variants })).unwrap()
}

/// The plate as a file.
fn plate(studio: &Studio, set: i64) -> Vec<u8> {
    let run =
        studio.export(set, &ExportRequest { format: ExportFormat::Png, level: 0, quality: 90 }).unwrap();
    assert_eq!(ended(studio, set).run.unwrap().state, RunState::Done);
    std::fs::read(studio.exported(run).unwrap().0).unwrap()
}

#[test]
fn a_variant_that_is_chosen_stays_the_same_over_a_start_and_a_lost_cache() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = brought_in(folder.path());
    let bare = plate(&studio, set);
    let third = touch(&studio.set(set).unwrap(), json!({ "invent": { "seed": 5, "variant": 2 } }));
    let told = studio.scenes.try_touch(set, &wanted(&third, 4)).unwrap();
    assert_eq!(told.variants.iter().map(|v| v.variant).collect::<Vec<_>>(), [0, 1, 2, 3]);
    assert!(told.variants.iter().all(|v| v.picture.starts_with("data:image/jpeg;base64,/9j/")));
    let place = &told.variants[0].place;
    assert!(place.x <= 120 && place.x + i64::from(place.width) >= 150, "{place:?}");
    assert_eq!(studio.set(set).unwrap().invented, Some(0.0), "nothing is laid yet");

    change(&studio, set, json!({ "touches": [third] })).unwrap();
    let laid = plate(&studio, set);
    assert_ne!(laid, bare);
    let invented = studio.set(set).unwrap().invented.unwrap();
    assert!((0.006..0.018).contains(&invented), "{invented}");
    drop(studio);
    std::fs::remove_dir_all(folder.path().join("cache")).unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    assert_eq!(plate(&studio, set), laid, "made anew, it is another one");

    // Another method below it, and back; taken back, the plate is as it was.
    change(&studio, set, json!({ "method": "mean" })).unwrap();
    assert_ne!(plate(&studio, set), laid);
    change(&studio, set, json!({ "method": "consensus" })).unwrap();
    assert_eq!(plate(&studio, set), laid);
    change(&studio, set, json!({ "touches": [] })).unwrap();
    assert_eq!(plate(&studio, set), bare);
}

#[test]
fn what_cannot_be_made_is_told_and_lays_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = brought_in(folder.path());
    let detail = studio.set(set).unwrap();
    let bare = plate(&studio, set);
    let moved = |x: f64| json!({ "copy": { "transform": { "shift": [x, 0.0], "turn": 0.0, "scale": 1.0, "mirror": false } } });
    let told = |touch: &Value| studio.scenes.try_touch(set, &wanted(touch, 1)).unwrap_err().to_string();
    assert!(told(&touch(&detail, moved(4.0))).contains("move it farther away"));
    let mut outside = touch(&detail, moved(60.0));
    outside["outline"] = json!([{ "x": 900, "y": 900 }, { "x": 950, "y": 900 }, { "x": 950, "y": 950 }]);
    assert!(told(&outside).contains("draw it on the picture"));
    let mut all = touch(&detail, json!({ "invent": { "seed": 1, "variant": 0 } }));
    all["outline"] =
        json!([{ "x": -9, "y": -9 }, { "x": 900, "y": -9 }, { "x": 900, "y": 900 }, { "x": -9, "y": 900 }]);
    assert!(told(&all).contains("too little is around"));
    // Laid all the same, they leave the plate as it is.
    change(&studio, set, json!({ "touches": [touch(&detail, moved(4.0)), outside, all] })).unwrap();
    assert_eq!(plate(&studio, set), bare);
    let mut bad = touch(&detail, moved(60.0));
    bad["strength"] = json!(3.0);
    assert!(
        change(&studio, set, json!({ "touches": [bad] })).unwrap_err().to_string().contains("a touch has")
    );
    // What is proposed can be laid.
    let found = studio.scenes.touch_source(set, &wanted(&touch(&detail, moved(4.0)), 1)).unwrap();
    let copy = touch(&detail, json!({ "copy": { "transform": found.transform } }));
    change(&studio, set, json!({ "touches": [copy] })).unwrap();
    assert_ne!(plate(&studio, set), bare);
}

#[test]
fn a_hundred_touches_leave_every_other_pixel_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = brought_in(folder.path());
    let detail = studio.set(set).unwrap();
    let decoded =
        |bytes: Vec<u8>| match evanu_media::decode_bytes(Path::new("plate.png"), &bytes).unwrap().samples {
            evanu_core::pixel::Samples::Eight(v) => v,
            other => panic!("{:?}", other.depth()),
        };
    let bare = decoded(plate(&studio, set));
    let squares: Vec<(i64, i64)> = (0..100).map(|k| (8 + 38 * (k % 10), 6 + 25 * (k / 10))).collect();
    let acts = |k: usize| match k % 3 {
        0 => json!({ "invent": { "seed": k, "variant": 0 } }),
        1 => json!({ "even": { "slow": 4.0 } }),
        _ => {
            json!({ "mend": { "transform": { "shift": [if k % 10 < 5 { -16.0 } else { 16.0 }, 0.0], "turn": 0.0, "scale": 1.0, "mirror": false }, "only": "both" } })
        }
    };
    let touches: Vec<Value> = squares
        .iter()
        .enumerate()
        .map(|(k, &(x, y))| {
            let mut touch = touch(&detail, acts(k));
            touch["outline"] = json!([{ "x": x, "y": y }, { "x": x + 8, "y": y }, { "x": x + 8, "y": y + 8 }, { "x": x, "y": y + 8 }]);
            touch
        })
        .collect();
    change(&studio, set, json!({ "touches": touches })).unwrap();
    let laid = decoded(plate(&studio, set));
    let mut changed = 0;
    for (p, (a, b)) in bare.chunks(3).zip(laid.chunks(3)).enumerate() {
        let (x, y) = ((p % 400) as i64, (p / 400) as i64);
        // The border fades over two pixels, and a pixel more is touched by the mask's own.
        let near = squares.iter().any(|&(u, v)| (u - 5..u + 14).contains(&x) && (v - 5..v + 14).contains(&y));
        assert!(a == b || near, "{x}, {y}");
        changed += usize::from(a != b);
    }
    assert!(changed > 2000, "{changed}");
}

#[test]
fn what_no_frame_shows_is_told_and_filled_and_the_reference_s_framing_comes_back() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = brought_in(folder.path());
    let bare = plate(&studio, set);
    let framed = studio.scenes.missing(set).unwrap();
    assert!(framed.outlines.is_empty() && framed.share == 0.0, "{framed:?}");
    assert!(framed.beyond >= 2, "frames that were held by hand reach farther: {framed:?}");

    change(&studio, set, json!({ "canvas": "whole" })).unwrap();
    let missing = studio.scenes.missing(set).unwrap();
    let detail = studio.set(set).unwrap();
    let canvas = detail.canvas.unwrap();
    let [width, height] = detail.reference_size.unwrap();
    let (left, above) = ((-canvas.x) as u32, (-canvas.y) as u32);
    let (right, below) = (canvas.width - width - left, canvas.height - height - above);
    assert_eq!(missing.beyond, left.max(above).max(right).max(below));
    assert!(!missing.outlines.is_empty() && missing.share > 0.0, "{missing:?}");
    let dark = |picture: &[u8]| {
        let pixels = evanu_media::decode_bytes(Path::new("plate.png"), picture).unwrap();
        assert_eq!((pixels.size.width, pixels.size.height), (canvas.width, canvas.height));
        let evanu_core::pixel::Samples::Eight(data) = pixels.samples else { panic!("eight bits") };
        data.chunks(3).filter(|p| p.iter().all(|v| *v == 0)).count() as f32
    };
    let empty = dark(&plate(&studio, set));
    assert!(empty > 0.5 * missing.share * (canvas.width * canvas.height) as f32, "{empty} {missing:?}");

    let fill = |outline: &Vec<evanu_core::geometry::Point>| json!({ "on": detail.reference, "outline": outline, "act": { "invent": { "seed": 1, "variant": 0 } }, "feather": 2.0, "strength": 1.0, "disabled": false });
    let touches: Vec<Value> = missing.outlines.iter().map(fill).collect();
    change(&studio, set, json!({ "touches": touches })).unwrap();
    let filled = plate(&studio, set);
    assert!(dark(&filled) < 0.02 * empty, "{} of {empty}", dark(&filled));
    let left = studio.scenes.missing(set).unwrap();
    assert!(left.outlines.is_empty() && left.share < 1e-4, "{left:?}");
    assert!(studio.set(set).unwrap().invented.unwrap() >= 0.9 * missing.share);
    // Where all frames show something, nothing else became of it.
    change(&studio, set, json!({ "touches": [], "canvas": "reference" })).unwrap();
    assert_eq!(plate(&studio, set), bare);
}

#[test]
fn what_is_tried_says_how_far_it_is_and_stops_when_asked() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = brought_in(folder.path());
    let mut large = touch(&studio.set(set).unwrap(), json!({ "invent": { "seed": 3, "variant": 0 } }));
    large["outline"] =
        json!([{ "x": 60, "y": 60 }, { "x": 340, "y": 60 }, { "x": 340, "y": 220 }, { "x": 60, "y": 220 }]);
    assert_eq!(studio.scenes.tried(set), None);
    std::thread::scope(|scope| {
        let trying = scope.spawn(|| studio.scenes.try_touch(set, &wanted(&large, 16)));
        let begin = Instant::now();
        while studio.scenes.tried(set).is_none() {
            assert!(begin.elapsed() < Duration::from_secs(20) && !trying.is_finished(), "it never began");
            std::thread::sleep(Duration::from_millis(1));
        }
        studio.scenes.stop_trying(set);
        assert!(matches!(trying.join().unwrap().unwrap_err(), StudioError::Cancelled));
    });
    assert_eq!(studio.scenes.tried(set), None);
}

#[test]
fn what_can_be_seen_of_touches_is_told_with_its_place() {
    let folder = tempfile::tempdir().unwrap();
    let (studio, set) = brought_in(folder.path());
    let detail = studio.set(set).unwrap();
    // A piece of the sky on the paving, and the paving as it is made up.
    let from = |x: f64, y: f64| json!({ "copy": { "transform": { "shift": [x, y], "turn": 0.0, "scale": 1.0, "mirror": false } } });
    let mut hard = touch(&detail, from(0.0, 190.0));
    hard["feather"] = json!(0.0);
    change(&studio, set, json!({ "touches": [hard] })).unwrap();
    let seen = studio.scenes.touches_seen(set).unwrap();
    assert_eq!(seen.iter().map(|s| s.touch).collect::<Vec<_>>(), [0]);
    let border = seen[0].faults.iter().find(|f| f.words.contains("border")).expect("its border is seen");
    assert!(border.outline.len() > 4);
    assert!(border.outline.iter().all(|p| (105.0..165.0).contains(&p.x) && (195.0..255.0).contains(&p.y)));
    change(&studio, set, json!({ "touches": [] })).unwrap();
    assert!(studio.scenes.touches_seen(set).unwrap().is_empty());
}
