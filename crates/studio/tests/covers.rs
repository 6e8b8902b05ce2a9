//! The list of sets: small pictures that are kept, and made behind where they are missing.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_studio::{Change, Event, SetSummary, Studio};
use serde_json::json;
use std::time::{Duration, Instant};

/// The list, once it is as wanted; what is behind tells that the list is another one.
fn list(studio: &Studio, wanted: impl Fn(&[SetSummary]) -> bool) -> Vec<SetSummary> {
    let begin = Instant::now();
    loop {
        let list = studio.scenes.summaries().unwrap();
        if wanted(&list) {
            return list;
        }
        assert!(begin.elapsed() < Duration::from_secs(60), "{list:?}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn a_list_opens_no_set_and_what_is_missing_appears_by_itself() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    for k in 0..3 {
        let set = studio.sets.create("Covers").unwrap();
        for (name, bytes) in &evanu_demo::SETS[0].frames[k..k + 3] {
            let mut file = studio.assets.incoming(set, name).unwrap();
            file.take(bytes).unwrap();
            studio.assets.add(set, file).unwrap();
        }
        studio.prepare(set).unwrap();
    }
    let empty = studio.sets.create("Empty").unwrap();
    let all = |list: &[SetSummary]| list.iter().all(|s| s.cover.is_some() == (s.id != empty));
    list(&studio, all);
    let covers = folder.path().join("cache/covers");
    let there = || std::fs::read_dir(&covers).map_or(0, Iterator::count);
    list(&studio, |_| there() == 3);
    drop(studio);

    // Nothing that a set is opened by is there any more: the list is.
    let away = folder.path().join("away");
    std::fs::rename(folder.path().join("cache/pyramids"), &away).unwrap();
    std::fs::rename(folder.path().join("originals"), folder.path().join("gone")).unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let kept = studio.scenes.summaries().unwrap();
    assert!(all(&kept), "{kept:?}");
    for set in kept.iter().filter(|s| s.id != empty) {
        let picture = studio.scenes.thumbnail(set.id, None, 600).unwrap();
        assert!(picture.starts_with(&[0xFF, 0xD8]));
    }
    drop(studio);

    // And what is missing, or shows an earlier state, is made behind.
    std::fs::remove_dir(folder.path().join("cache/pyramids")).unwrap();
    std::fs::rename(&away, folder.path().join("cache/pyramids")).unwrap();
    std::fs::remove_dir(folder.path().join("originals")).unwrap();
    std::fs::rename(folder.path().join("gone"), folder.path().join("originals")).unwrap();
    std::fs::remove_dir_all(&covers).unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let mut events = studio.events();
    assert!(studio.scenes.summaries().unwrap().iter().all(|s| s.cover.is_none()));
    let made = list(&studio, all);
    assert!(std::iter::from_fn(|| events.try_recv().ok()).any(|e| matches!(e, Event::Sets)));
    let first = made.iter().find(|s| s.id == 1).unwrap().cover.clone();
    let mean = json!({ "label": "combine by mean", "recipe": { "method": "mean" } });
    studio.change(1, &serde_json::from_value::<Change>(mean).unwrap(), None).unwrap();
    drop(studio);
    let studio = Studio::open(folder.path()).unwrap();
    list(&studio, |l| l.iter().any(|s| s.id == 1 && s.cover.is_some() && s.cover != first));
}
