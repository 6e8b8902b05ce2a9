//! Decisions over time against a plain list with a cursor, through restarts; and the cache as something to lose.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::combine::Method;
use evanu_core::geometry::Size;
use evanu_core::pixel::Raster;
use evanu_core::recipe::{Canvas, FrameId, Recipe};
use evanu_core::render::View;
use evanu_studio::{Change, FrameState, Pixels, RecipePart, RunState, Studio, StudioError};
use proptest::prelude::*;
use std::time::{Duration, Instant};

#[derive(Debug, Clone)]
enum Act {
    Change(Method, Canvas),
    Undo,
    Redo,
    Restart,
}

fn acts() -> impl Strategy<Value = Vec<Act>> {
    let canvas = prop::sample::select(vec![Canvas::Reference, Canvas::Common]);
    let method = prop_oneof![Just(Method::Median), Just(Method::Mean), (0u8..=100).prop_map(Method::Rank)];
    let act = prop_oneof![
        4 => (method, canvas).prop_map(|(m, c)| Act::Change(m, c)),
        3 => Just(Act::Undo),
        2 => Just(Act::Redo),
        1 => Just(Act::Restart),
    ];
    prop::collection::vec(act, 1..30)
}

/// Combines by another method.
fn change(studio: &Studio, set: i64, label: &str, method: Method, goes_on: bool) {
    let recipe = Recipe { method, ..studio.set(set).unwrap().recipe };
    let recipe = RecipePart::whole(&recipe).unwrap();
    let change = Change { label: label.into(), goes_on, recipe, looking: Vec::new() };
    studio.change(set, &change, None).unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn undo_and_redo_walk_along_what_was_decided(acts in acts()) {
        let folder = tempfile::tempdir().unwrap();
        let mut studio = Studio::open(folder.path()).unwrap();
        let set = studio.sets.create("walk").unwrap();
        let (mut states, mut at) = (vec![("".to_owned(), Recipe::new())], 0usize);
        for (k, act) in acts.into_iter().enumerate() {
            match act {
                Act::Change(method, canvas) => {
                    let recipe = Recipe { method, canvas, ..studio.set(set).unwrap().recipe };
                    let label = format!("act {k}");
                    studio.change(set, &Change { label: label.clone(), goes_on: false, recipe: RecipePart::whole(&recipe).unwrap(), looking: Vec::new() }, None).unwrap();
                    states.truncate(at + 1);
                    states.push((label, recipe));
                    at += 1;
                }
                Act::Undo if at > 0 => {
                    studio.step(set, -1, None).unwrap();
                    at -= 1;
                }
                Act::Undo => prop_assert!(matches!(studio.step(set, -1, None), Err(StudioError::Conflict(_)))),
                Act::Redo if at + 1 < states.len() => {
                    studio.step(set, 1, None).unwrap();
                    at += 1;
                }
                Act::Redo => prop_assert!(matches!(studio.step(set, 1, None), Err(StudioError::Conflict(_)))),
                Act::Restart => {
                    // A folder is one program's at a time.
                    drop(studio);
                    studio = Studio::open(folder.path()).unwrap();
                }
            }
            let now = studio.set(set).unwrap();
            prop_assert_eq!(&now.recipe, &states[at].1);
            prop_assert_eq!(now.undo, (at > 0).then(|| states[at].0.clone()));
            prop_assert_eq!(now.redo, states.get(at + 1).map(|s| s.0.clone()));
        }
    }
}

#[test]
fn branches_are_kept_and_nudges_become_one_state() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let set = studio.sets.create("tree").unwrap();
    let act = |label: &str, method, goes_on| change(&studio, set, label, method, goes_on);
    act("first", Method::Mean, false);
    act("left", Method::Darkest, false);
    studio.step(set, -1, None).unwrap();
    act("right", Method::Lightest, false);
    let told = |studio: &Studio| -> Vec<(i64, Option<i64>, bool)> {
        studio.sets.states(set).unwrap().iter().map(|s| (s.seq, s.parent, s.current)).collect()
    };
    assert_eq!(
        told(&studio),
        [(0, None, false), (1, Some(0), false), (2, Some(1), false), (3, Some(1), true)]
    );
    // On the other branch undo and redo walk along that one, also after a restart.
    studio.go_to(set, 2, None).unwrap();
    assert_eq!(studio.set(set).unwrap().recipe.method, Method::Darkest);
    studio.step(set, -1, None).unwrap();
    drop(studio);
    let studio = Studio::open(folder.path()).unwrap();
    assert_eq!(studio.set(set).unwrap().redo.as_deref(), Some("left"));
    studio.step(set, 1, None).unwrap();
    assert_eq!(studio.set(set).unwrap().recipe.method, Method::Darkest);
    assert!(matches!(studio.go_to(set, 9, None), Err(StudioError::NotFound(_))));

    let act = |label: &str, rank, goes_on| change(&studio, set, label, Method::Rank(rank), goes_on);
    act("nudge", 1, true);
    act("nudge", 2, true);
    act("nudge", 3, true);
    act("turn", 4, true);
    let states = studio.sets.states(set).unwrap();
    assert_eq!(states[4..].iter().map(|s| s.label.as_str()).collect::<Vec<_>>(), ["nudge", "turn"]);
    studio.step(set, -1, None).unwrap();
    assert_eq!(studio.set(set).unwrap().recipe.method, Method::Rank(3));
    // What a branch began at is not changed any more.
    act("nudge", 7, true);
    assert_eq!(studio.sets.states(set).unwrap().len(), 7);
}

fn jpeg(seed: u32) -> Vec<u8> {
    let mut raster = Raster::new(Size::new(300, 200));
    for (i, v) in raster.data.iter_mut().enumerate() {
        let (x, y) = (i as u32 / 3 % 300, i as u32 / 900);
        // Cells of differing brightness, the same in every frame, and a square that is somewhere else in each.
        let cell = (x / 11).wrapping_mul(2_654_435_761) ^ (y / 9).wrapping_mul(2_246_822_519);
        let square = (40 * seed..40 * seed + 30).contains(&x) && (80..120).contains(&y);
        *v = if square { 65_000 } else { 12_000 + (cell.wrapping_mul(3_266_489_917) >> 17) as u16 };
    }
    evanu_media::encode_jpeg(&raster, 95).unwrap()
}

fn bring_in(studio: &Studio, set: i64, name: &str, bytes: &[u8]) {
    let mut file = studio.assets.incoming(set, name).unwrap();
    bytes.chunks(1000).for_each(|part| file.take(part).unwrap());
    studio.assets.add(set, file).unwrap();
}

fn until_done(studio: &Studio, set: i64) {
    let begin = Instant::now();
    loop {
        let state = studio.set(set).unwrap().run.map(|r| r.state);
        match state {
            Some(RunState::Done) => return,
            Some(RunState::Failed | RunState::Cancelled) => panic!("{state:?}"),
            _ => assert!(begin.elapsed() < Duration::from_secs(60), "{state:?}"),
        }
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn plate(studio: &Studio, set: i64) -> Vec<u8> {
    let key = studio.set(set).unwrap().plate_key.unwrap();
    studio.scenes.tile(set, &key, View::Plate, (0, (0, 0)), None, Pixels::Png).unwrap().0.to_vec()
}

#[test]
fn the_cache_may_be_deleted_and_a_copy_goes_its_own_way() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let set = studio.sets.create("square").unwrap();
    (0..3).for_each(|k| bring_in(&studio, set, &format!("{k}.jpg"), &jpeg(k)));
    // The same file again is no further frame; a file by another name is.
    bring_in(&studio, set, "0.jpg", &jpeg(0));
    bring_in(&studio, set, "../../escape.jpg", &jpeg(4));
    studio.prepare(set).unwrap();
    until_done(&studio, set);
    let detail = studio.set(set).unwrap();
    let names: Vec<&str> = detail.frames.iter().map(|f| f.name.as_str()).collect();
    assert_eq!(names, ["0.jpg", "1.jpg", "2.jpg", "escape.jpg"]);
    assert!(detail.frames.iter().all(|f| f.state == FrameState::Ready && f.used), "{names:?}");
    let first = plate(&studio, set);

    // A copy shares the originals; what is decided in it stays in it.
    let copy = studio.duplicate(set).unwrap();
    let recipe = Recipe { method: Method::Lightest, ..studio.set(copy).unwrap().recipe };
    studio
        .change(
            copy,
            &Change {
                label: "combine by lightest".into(),
                goes_on: false,
                recipe: RecipePart::whole(&recipe).unwrap(),
                looking: Vec::new(),
            },
            None,
        )
        .unwrap();
    assert_ne!(plate(&studio, copy), first);
    assert_eq!(plate(&studio, set), first);
    let originals = || std::fs::read_dir(folder.path().join("originals")).unwrap().count();
    assert_eq!(originals(), 4);

    // Without the cache the same plate is made from the originals.
    drop(studio);
    std::fs::remove_dir_all(folder.path().join("cache")).unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    assert_eq!(plate(&studio, set), first);

    // Deleting and bringing back keeps everything.
    studio.delete(set, true).unwrap();
    assert!(matches!(studio.set(set), Err(StudioError::NotFound(_))));
    studio.delete(set, false).unwrap();
    assert_eq!(plate(&studio, set), first);
    assert_eq!(originals(), 4);
}

#[test]
fn decisions_that_cannot_hold_are_refused_with_the_reason() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let set = studio.sets.create("two").unwrap();
    (0..2).for_each(|k| bring_in(&studio, set, &format!("{k}.jpg"), &jpeg(k)));
    studio.prepare(set).unwrap();
    until_done(&studio, set);
    let good = studio.set(set).unwrap().recipe;
    let refused = |recipe: Recipe<FrameId>, word: &str| {
        let told = studio
            .change(
                set,
                &Change {
                    label: "no".into(),
                    goes_on: false,
                    recipe: RecipePart::whole(&recipe).unwrap(),
                    looking: Vec::new(),
                },
                None,
            )
            .unwrap_err()
            .to_string();
        assert!(told.contains(word), "{told}");
    };
    let all = studio.set(set).unwrap().frames.iter().map(|f| f.id).collect();
    refused(Recipe { excluded: all, ..good.clone() }, "one frame must take part");
    refused(Recipe { excluded: [FrameId(77)].into(), ..good.clone() }, "only frames of this set");
    refused(Recipe { reference: Some(FrameId(77)), ..good.clone() }, "no such reference frame");
    refused(Recipe { version: 99, ..good.clone() }, "version");
    let part =
        |part| Change { label: "no".into(), goes_on: false, recipe: RecipePart(part), looking: Vec::new() };
    let glow = studio.change(set, &part(serde_json::json!({"glow": 1})), None).unwrap_err().to_string();
    assert!(glow.contains("glow"), "{glow}");
    assert_eq!(studio.set(set).unwrap().recipe, good);
    assert!(studio.sets.create("  ").is_err() && studio.sets.rename(set, "").is_err());
    assert!(matches!(studio.sets.rename(77, "x"), Err(StudioError::NotFound(_))));
}

#[test]
fn an_act_that_follows_from_an_older_state_is_told_what_came_between() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let set = studio.sets.create("two windows").unwrap();
    let seen = studio.set(set).unwrap().revision;
    let by = |label: &str, method: &str, revision| {
        let part = RecipePart(serde_json::json!({ "method": method }));
        studio.change(
            set,
            &Change { label: label.into(), goes_on: false, recipe: part, looking: Vec::new() },
            revision,
        )
    };
    by("combine by mean", "mean", Some(seen)).unwrap();
    by("combine by median", "median", Some(seen + 1)).unwrap();
    // The other window still shows the first state; nothing that it does happens unseen.
    let told = |e: StudioError| {
        assert!(matches!(e, StudioError::Outdated { .. }), "{e}");
        e.to_string()
    };
    let late = told(by("combine by darkest", "darkest", Some(seen)).unwrap_err());
    assert!(late.contains("\"combine by mean\", \"combine by median\""), "{late}");
    told(studio.step(set, -1, Some(seen)).unwrap_err());
    told(studio.go_to(set, 0, Some(seen)).unwrap_err());
    assert_eq!(studio.set(set).unwrap().recipe.method, Method::Median);
    // An undo makes no state, and is told all the same.
    studio.step(set, -1, Some(seen + 2)).unwrap();
    let undone = told(by("combine by darkest", "darkest", Some(seen + 2)).unwrap_err());
    assert!(undone.contains("back at \"combine by mean\""), "{undone}");
    by("combine by darkest", "darkest", Some(studio.set(set).unwrap().revision)).unwrap();
    assert_eq!(studio.set(set).unwrap().recipe.method, Method::Darkest);
}
