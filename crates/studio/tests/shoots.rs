//! Bringing in a shoot: told apart by view, moved between sets, left where it is and found again.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::geometry::Point;
use evanu_core::geometry::Size;
use evanu_core::pixel::{Raster, Samples};
use evanu_core::recipe::{FrameId, ManualAlignment, Patch, Recipe, Source};
use evanu_studio::{Change, FrameState, RecipePart, RunState, SetDetail, Studio, StudioError};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// A frame of the sample set at half size; mirrored, it shows another view.
fn frame(k: usize, mirrored: bool) -> Vec<u8> {
    let (name, bytes) = evanu_demo::SETS[0].frames[k];
    let decoded = evanu_media::decode_bytes(Path::new(name), bytes).unwrap();
    let Samples::Eight(d) = &decoded.samples else { panic!("the samples have eight bits") };
    let size = Size::new(decoded.size.width / 2, decoded.size.height / 2);
    let mut out = Raster::new(size);
    for (i, o) in out.data.iter_mut().enumerate() {
        let (x, y, c) = (i / 3 % size.width as usize, i / 3 / size.width as usize, i % 3);
        let x = if mirrored { size.width as usize - 1 - x } else { x };
        let at = |dx: usize, dy: usize| {
            u16::from(d[3 * ((2 * y + dy) * decoded.size.width as usize + 2 * x + dx) + c])
        };
        *o = (at(0, 0) + at(1, 0) + at(0, 1) + at(1, 1)) / 4 * 257;
    }
    evanu_media::encode_jpeg(&out, 92).unwrap()
}

/// A folder of frames: five of one view, three of another, one that shows neither, and what is no picture.
fn shoot(folder: &Path) -> PathBuf {
    let inside = folder.join("open day, 16. May „äöü“");
    std::fs::create_dir_all(&inside).unwrap();
    for k in 0..5 {
        std::fs::write(inside.join(format!("a{k}.jpg")), frame(k, false)).unwrap();
    }
    for k in 5..8 {
        std::fs::write(inside.join(format!("b{k}.jpg")), frame(k, true)).unwrap();
    }
    let mut noise = Raster::new(Size::new(600, 400));
    let mut state = 1u32;
    for v in &mut noise.data {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        *v = (state >> 16) as u16;
    }
    std::fs::write(inside.join("c.jpg"), evanu_media::encode_jpeg(&noise, 80).unwrap()).unwrap();
    std::fs::write(inside.join("notes.txt"), "not a frame").unwrap();
    inside
}

fn rest(studio: &Studio, set: i64) -> SetDetail {
    let begin = Instant::now();
    loop {
        let detail = studio.set(set).unwrap();
        match detail.run.as_ref().map(|r| r.state) {
            Some(RunState::Done | RunState::Failed) => return detail,
            // Longer than a busy machine takes for a thousand files.
            state => assert!(begin.elapsed() < Duration::from_secs(300), "{state:?}"),
        }
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn names(detail: &SetDetail) -> Vec<&str> {
    detail.frames.iter().map(|f| f.name.as_str()).collect()
}

#[test]
fn a_shoot_is_told_apart_by_view_and_can_be_joined_again() {
    let folder = tempfile::tempdir().unwrap();
    let pictures = shoot(folder.path());
    let studio = Studio::open(&folder.path().join("data")).unwrap();
    let first = studio.sets.create_shoot("Open day").unwrap();
    assert_eq!(studio.assets.add_folder(first, pictures.to_str().unwrap(), true).unwrap(), 9);
    studio.prepare(first).unwrap();
    rest(&studio, first);
    let sets = studio.scenes.summaries().unwrap();
    assert_eq!(sets.len(), 2, "{sets:?}");
    let second = sets.iter().find(|s| s.id != first).unwrap().id;
    let (a, b) = (rest(&studio, first), rest(&studio, second));
    // The odd one stays with its neighbours, where it is set aside with the reason.
    assert_eq!(names(&a), ["a0.jpg", "a1.jpg", "a2.jpg", "a3.jpg", "a4.jpg"]);
    assert_eq!(names(&b), ["b5.jpg", "b6.jpg", "b7.jpg", "c.jpg"]);
    assert_eq!((a.name.as_str(), b.name.as_str()), ("Open day, view 1 of 2", "Open day, view 2 of 2"));
    assert!(a.note.unwrap().contains("2 views"));
    let odd = &b.frames[3];
    assert!(!odd.used && odd.reason.as_deref().unwrap().contains("another view"), "{:?}", odd.reason);
    assert!(b.frames[..3].iter().all(|f| f.used));

    // Frames move to a set of their own; what was decided about the others keeps its meaning.
    let ids: Vec<FrameId> = a.frames.iter().map(|f| f.id).collect();
    let hand = ManualAlignment {
        frame: ids[4],
        on: ids[0],
        pairs: vec![],
        shift: [1.0, 0.0],
        turn: 0.0,
        scale: 1.0,
        snap: false,
    };
    let outline = [(9.0, 9.0), (60.0, 9.0), (60.0, 60.0)].map(|(x, y)| Point::new(x, y)).to_vec();
    let chosen = Recipe {
        excluded: [ids[3]].into(),
        reference: Some(ids[2]),
        manual_alignments: vec![hand],
        patches: vec![Patch::new(ids[2], outline, Source::Frame(ids[1]))],
        ..a.recipe
    };
    let recipe = RecipePart::whole(&chosen).unwrap();
    let change = Change { label: "choose".into(), goes_on: false, recipe, looking: Vec::new() };
    studio.change(first, &change, None).unwrap();
    rest(&studio, first);
    let gone = [a.frames[1].id];
    let part = studio.move_frames(first, &gone, None).unwrap();
    let a = rest(&studio, first);
    assert_eq!(names(&a), ["a0.jpg", "a2.jpg", "a3.jpg", "a4.jpg"]);
    assert_eq!((a.recipe.reference, a.reference), (Some(ids[2]), Some(ids[2])));
    // What rested on the frame that left is not in force; everything else is.
    assert_eq!(a.recipe, Recipe { patches: Vec::new(), ..chosen.clone() });
    assert_eq!(names(&rest(&studio, part)), ["a1.jpg"]);
    studio.step(first, -1, None).unwrap();
    assert_eq!(rest(&studio, first).recipe.excluded, [].into());

    // Merged again: the emptied set is gone and can be brought back; a file is never twice in a set.
    studio.move_frames(part, &gone, Some(first)).unwrap();
    assert_eq!(names(&rest(&studio, first)).len(), 5);
    // The history was not rewritten: with the frame back, the state means what it did.
    studio.step(first, 1, None).unwrap();
    assert_eq!(rest(&studio, first).recipe, chosen);
    assert!(matches!(studio.set(part), Err(StudioError::NotFound(_))));
    assert!(matches!(studio.move_frames(first, &[FrameId(999)], None), Err(StudioError::NotFound(_))));
    assert!(matches!(studio.move_frames(first, &gone, Some(first)), Err(StudioError::Invalid(_))));
    assert!(matches!(studio.move_frames(first, &gone, Some(4711)), Err(StudioError::NotFound(_))));
    assert_eq!(names(&rest(&studio, first)).len(), 5);
}

#[test]
fn originals_that_stay_where_they_are_are_never_copied_and_found_again_when_moved() {
    let folder = tempfile::tempdir().unwrap();
    let pictures = folder.path().join("card");
    std::fs::create_dir_all(&pictures).unwrap();
    (0..3).for_each(|k| std::fs::write(pictures.join(format!("f{k}.jpg")), frame(k, false)).unwrap());
    let data = folder.path().join("data");
    let studio = Studio::open(&data).unwrap();
    let set = studio.sets.create("Left there").unwrap();
    assert_eq!(studio.assets.add_folder(set, pictures.to_str().unwrap(), false).unwrap(), 3);
    studio.prepare(set).unwrap();
    let detail = rest(&studio, set);
    assert!(detail.frames.iter().all(|f| f.used && !f.missing && f.source.is_some()));
    assert_eq!(std::fs::read_dir(data.join("originals")).unwrap().count(), 0);
    let key = detail.plate_key.unwrap();

    // Moved and renamed: told, nothing lost, found by content.
    let archive = folder.path().join("archive/2026");
    std::fs::create_dir_all(&archive).unwrap();
    (0..3).for_each(|k| {
        std::fs::rename(pictures.join(format!("f{k}.jpg")), archive.join(format!("kept-{k}.jpg"))).unwrap();
    });
    let detail = studio.set(set).unwrap();
    assert!(detail.frames.iter().all(|f| f.missing));
    assert_eq!(detail.plate_key.as_deref(), Some(key.as_str()));
    let nothing = studio.relink(set, pictures.to_str().unwrap()).unwrap();
    assert_eq!((nothing.found, nothing.missing), (0, 3));
    let found = studio.relink(set, folder.path().to_str().unwrap()).unwrap();
    assert_eq!((found.found, found.missing), (3, 0));
    drop(studio);
    std::fs::remove_dir_all(data.join("cache")).unwrap();
    let studio = Studio::open(&data).unwrap();
    let detail = studio.set(set).unwrap();
    assert!(detail.frames.iter().all(|f| !f.missing));
    assert_eq!(detail.plate_key, Some(key));

    // A file with another content is not taken for the lost one.
    std::fs::write(archive.join("kept-0.jpg"), frame(7, false)).unwrap();
    std::fs::remove_file(archive.join("kept-1.jpg")).unwrap();
    assert_eq!(studio.relink(set, archive.to_str().unwrap()).unwrap().missing, 1);
}

#[test]
fn folders_that_cannot_serve_are_refused_with_the_reason() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(&folder.path().join("data")).unwrap();
    let set = studio.sets.create("No").unwrap();
    let empty = folder.path().join("empty");
    std::fs::create_dir_all(&empty).unwrap();
    std::fs::write(empty.join("notes.txt"), "hello").unwrap();
    let told =
        |path: &Path| studio.assets.add_folder(set, path.to_str().unwrap(), false).unwrap_err().to_string();
    assert!(told(&empty).contains("no pictures in this folder"));
    assert!(told(&folder.path().join("none")).contains("no such file"));
    assert!(told(&empty.join("notes.txt")).contains("it is no folder"));
    assert!(studio.set(set).unwrap().frames.is_empty());
    let listed = studio.assets.folder(Some(folder.path().to_str().unwrap())).unwrap();
    assert!(listed.folders.contains(&"empty".to_owned()) && listed.pictures == 0 && listed.parent.is_some());
    assert!(studio.assets.folder(None).is_ok());
}

#[test]
fn a_thousand_files_come_in_and_what_cannot_be_read_is_told_one_by_one() {
    let folder = tempfile::tempdir().unwrap();
    let pictures = folder.path().join("many");
    std::fs::create_dir_all(&pictures).unwrap();
    let mut tiny = Raster::new(Size::new(64, 48));
    for k in 0..1000usize {
        // Alike but for a few pixels, so that each is a file of its own.
        tiny.data
            .iter_mut()
            .enumerate()
            .for_each(|(i, v)| *v = ((i * 7919 + i / 190 * 3301) % 60_000) as u16);
        tiny.data[k % 9000] = (k * 61 % 65_000) as u16;
        let name = format!("ß {k:04} [{}] 'x'.jpg", ["日本", "a b", "%20", "#"][k % 4]);
        let bytes = if k == 500 {
            b"broken".to_vec()
        } else {
            evanu_media::encode_jpeg(&tiny, 60 + (k % 40) as u8).unwrap()
        };
        std::fs::write(pictures.join(name), bytes).unwrap();
    }
    let studio = Studio::open(&folder.path().join("data")).unwrap();
    let set = studio.sets.create("Many").unwrap();
    // The broken one does not begin like a picture and is passed over; an empty one is told.
    std::fs::write(pictures.join("empty.jpg"), "").unwrap();
    assert_eq!(studio.assets.add_folder(set, pictures.to_str().unwrap(), false).unwrap(), 1000);
    studio.prepare(set).unwrap();
    let detail = rest(&studio, set);
    let failed: Vec<&str> = detail
        .frames
        .iter()
        .filter(|f| f.state == FrameState::Failed)
        .filter_map(|f| f.reason.as_deref())
        .collect();
    assert_eq!(failed, ["empty.jpg: the file is empty (0 bytes); copy it from the camera again"]);
    assert_eq!(detail.frames.iter().filter(|f| f.state == FrameState::Ready).count(), 999);
}

#[test]
fn clocks_that_were_set_wrong_or_are_missing_are_told_and_sizes_may_differ() {
    let folder = tempfile::tempdir().unwrap();
    let pictures = folder.path().join("clocks");
    std::fs::create_dir_all(&pictures).unwrap();
    let times = [Some("2026-05-16T14:31:07"), Some("2026-05-16T14:31:10"), Some("2026-05-19T02:00:00"), None];
    for (k, time) in times.iter().enumerate() {
        let Samples::Eight(d) =
            evanu_media::decode_bytes(Path::new("f.jpg"), &frame(k, false)).unwrap().samples
        else {
            panic!("JPEG has eight bits")
        };
        let whole = Size::new(800, 533);
        // The second frame was cut to an upright part.
        let size = if k == 1 { Size::new(500, 533) } else { whole };
        let camera =
            evanu_media::CameraData { time: time.map(Into::into), ..Default::default() }.with_block();
        let output = evanu_media::Output {
            format: evanu_media::Format::Jpeg { quality: 92 },
            size,
            camera: time.map(|_| &camera),
        };
        evanu_media::write(&pictures.join(format!("f{k}.jpg")), &output, |r| {
            let mut band = Raster::new(r.size());
            for (i, o) in band.data.iter_mut().enumerate() {
                let (x, y) = (i / 3 % size.width as usize, r.y as usize + i / 3 / size.width as usize);
                *o = u16::from(d[3 * (y * 800 + x) + i % 3]) * 257;
            }
            Ok::<_, std::convert::Infallible>(band)
        })
        .unwrap();
    }
    let studio = Studio::open(&folder.path().join("data")).unwrap();
    let set = studio.sets.create("Clocks").unwrap();
    studio.assets.add_folder(set, pictures.to_str().unwrap(), true).unwrap();
    studio.prepare(set).unwrap();
    let detail = rest(&studio, set);
    assert_eq!(names(&detail), ["f0.jpg", "f1.jpg", "f2.jpg", "f3.jpg"]);
    let told = |k: usize| {
        let all: Vec<&str> = detail.frames[k].findings.iter().map(|f| f.text.as_str()).collect();
        all.join("; ")
    };
    assert!(
        detail.frames.iter().all(|f| f.used),
        "{:?}",
        detail.frames.iter().map(|f| &f.reason).collect::<Vec<_>>()
    );
    assert!(told(1).contains("another size, 500 × 533 px"), "{}", told(1));
    assert!(
        told(2).contains("its clock is 60 hours from the others'") || told(2).contains("its clock is 2 days"),
        "{}",
        told(2)
    );
    assert!(told(3).contains("no clock time"), "{}", told(3));
    assert!(!told(0).contains("clock"), "{}", told(0));
}
