//! Several at once on one data folder: nobody's act is lost, and who reads waits for nobody.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_studio::{Change, Studio, StudioError};
use serde_json::{Value, json};
use std::sync::Barrier;

fn change(label: &str, recipe: Value) -> Change {
    serde_json::from_value(json!({ "label": label, "recipe": recipe })).unwrap()
}

#[test]
fn acts_of_two_windows_are_both_kept_or_one_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let set = studio.sets.create("Together").unwrap();
    let methods = ["mean", "median"];
    let canvases = ["common", "reference"];
    for k in 0..40 {
        let start = Barrier::new(2);
        let (method, canvas) = (methods[k % 2], canvases[k % 2]);
        let act = |part: Value, revision: Option<i64>| {
            start.wait();
            studio.change(set, &change("act", part), revision)
        };
        // From the state that both have seen, or from whatever is in force.
        let seen = (k % 4 < 2).then(|| studio.set(set).unwrap().revision);
        let (one, other) = std::thread::scope(|scope| {
            let one = scope.spawn(|| act(json!({ "method": method }), seen));
            let other = scope.spawn(|| act(json!({ "canvas": canvas }), seen));
            (one.join().unwrap(), other.join().unwrap())
        });
        let recipe = serde_json::to_value(studio.set(set).unwrap().recipe).unwrap();
        let kept = [recipe["method"] == method, recipe["canvas"] == canvas];
        match seen {
            None => assert!(one.is_ok() && other.is_ok() && kept == [true, true], "{k}: {kept:?}"),
            Some(_) => {
                let done = [one.is_ok(), other.is_ok()];
                assert!(done == [true, false] || done == [false, true], "{k}: {done:?}");
                let told = one.and(other).unwrap_err();
                assert!(matches!(told, StudioError::Outdated { .. }), "{told}");
                assert!((!done[0] || kept[0]) && (!done[1] || kept[1]), "{k}: {kept:?}");
            }
        }
    }
}

#[test]
fn reading_waits_for_nobody_and_a_lock_that_lasts_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let set = studio.sets.create("Held").unwrap();
    let other = rusqlite::Connection::open(folder.path().join("evanu.sqlite")).unwrap();
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    std::thread::scope(|scope| {
        let waits = scope.spawn(|| studio.sets.rename(set, "Held for a moment"));
        // Were this to wait for the act, that would be given up before the lock is.
        for _ in 0..200 {
            assert_eq!(studio.set(set).unwrap().name, "Held");
            assert_eq!(studio.scenes.summaries().unwrap().len(), 1);
        }
        other.execute_batch("COMMIT").unwrap();
        waits.join().unwrap().unwrap();
    });
    assert_eq!(studio.set(set).unwrap().name, "Held for a moment");
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    let e = studio.sets.rename(set, "Held for ever").unwrap_err();
    assert!(matches!(&e, StudioError::Busy(told) if told.contains("another program")), "{e}");
}
