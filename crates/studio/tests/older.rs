//! A data folder that an earlier program made: two sets with a history and patches of all kinds, from when frames were places in a
//! list and recipes were of version 1. It opens, with every state of its history, and looks the same.
//!
//! `older/pictures.txt` holds, for each state, a digest of its plate's pixels, tile by tile. The earlier program made the same ones, until the
//! consensus learned to tell noise by place; whoever changes pixels on purpose writes them anew, from what the test prints.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::pixel::Samples;
use evanu_core::recipe::Source;
use evanu_core::render::View;
use evanu_studio::{Pixels, SetDetail, Studio, StudioError, TILE};
use std::fmt::Write;
use std::path::Path;
use std::time::{Duration, Instant};

/// The folder, copied to where it may be changed.
fn copied(to: &Path) {
    let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/older");
    std::fs::create_dir_all(to.join("originals")).unwrap();
    std::fs::copy(from.join("evanu.sqlite"), to.join("evanu.sqlite")).unwrap();
    for file in std::fs::read_dir(from.join("originals")).unwrap() {
        let file = file.unwrap();
        std::fs::copy(file.path(), to.join("originals").join(file.file_name())).unwrap();
    }
}

/// A set once its plate is there by its own method.
fn settled(studio: &Studio, set: i64) -> SetDetail {
    let begin = Instant::now();
    loop {
        let detail = studio.set(set).unwrap();
        if !detail.draft && detail.plate_key.is_some() {
            return detail;
        }
        assert!(begin.elapsed() < Duration::from_secs(60), "set {set} does not open");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// The pixels of a set's plate at all levels.
fn digest(studio: &Studio, set: i64) -> Result<String, StudioError> {
    let detail = settled(studio, set);
    let (canvas, key) = (detail.canvas.unwrap(), detail.plate_key.unwrap());
    let mut hasher = blake3::Hasher::new();
    for level in 0..canvas.levels {
        let tiles = |side: u32| 0..side.div_ceil(TILE << level);
        for place in tiles(canvas.height).flat_map(|y| tiles(canvas.width).map(move |x| (x, y))) {
            let png = studio.scenes.tile(set, &key, View::Plate, (level, place), None, Pixels::Png)?.0;
            match evanu_media::decode_bytes(Path::new("tile.png"), &png).unwrap().samples {
                Samples::Eight(pixels) => hasher.update(&pixels),
                _ => panic!("a tile has eight bits"),
            };
        }
    }
    Ok(hasher.finalize().to_hex()[..32].to_owned())
}

#[test]
fn a_folder_of_an_earlier_program_opens_with_its_history_and_looks_the_same() {
    let folder = tempfile::tempdir().unwrap();
    copied(folder.path());
    let studio = Studio::open(folder.path()).unwrap();
    let mut told = String::new();
    for set in [1, 2] {
        // What was done in each state is still what it is called.
        for state in studio.sets.states(set).unwrap().iter().filter(|s| s.parent.is_some()) {
            studio.go_to(set, state.seq, None).unwrap();
            let label = &state.label;
            writeln!(told, "{} set {set} state {} {label}", digest(&studio, set).unwrap(), state.seq)
                .unwrap();
        }
    }
    let wanted =
        std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/older/pictures.txt"));
    assert_eq!(told, wanted.unwrap());
    // Frames that were places in a list are named, and what was drawn on them is drawn on them.
    studio.go_to(1, 3, None).unwrap();
    let detail = studio.set(1).unwrap();
    let ids: Vec<_> = detail.frames.iter().map(|f| f.id).collect();
    assert!(detail.recipe.patches.len() > 3);
    for patch in &detail.recipe.patches {
        assert!(ids.contains(&patch.on));
        assert!(
            matches!(patch.source, Source::Method(_))
                || patch.source.frame().is_some_and(|f| ids.contains(&f))
        );
    }
    studio.go_to(1, 5, None).unwrap();
    let detail = studio.set(1).unwrap();
    let aside: Vec<bool> = detail.frames.iter().map(|f| f.set_aside).collect();
    assert_eq!(aside, [false, false, false, true]);
    // Its history goes on.
    studio.step(1, -1, None).unwrap();
    assert!(studio.set(1).unwrap().recipe.excluded.is_empty());
}
