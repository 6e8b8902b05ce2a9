//! What is kept on the disk is damaged, cut or replaced by something else: it is never shown, told, and mended from the originals.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_studio::{Event, ExportFormat, ExportRequest, FrameState, RunState, SetDetail, Studio};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

const NAMES: [&str; 3] = ["a.jpg", "b.jpg", "c.jpg"];

/// Three frames of the sample set in a folder.
fn pictures(folder: &Path) -> PathBuf {
    let inside = folder.join("pictures");
    std::fs::create_dir(&inside).unwrap();
    for (k, name) in NAMES.iter().enumerate() {
        std::fs::write(inside.join(name), evanu_demo::SETS[0].frames[k].1).unwrap();
    }
    inside
}

fn ready(studio: &Studio, set: i64) -> SetDetail {
    studio.prepare(set).unwrap();
    ended(studio, set)
}

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

fn brought_in(data: &Path, pictures: &Path, copy: bool) -> (Studio, i64) {
    let studio = Studio::open(data).unwrap();
    let set = studio.sets.create("Damage").unwrap();
    studio.assets.add_folder(set, pictures.to_str().unwrap(), copy).unwrap();
    assert_eq!(ready(&studio, set).run.unwrap().state, RunState::Done);
    (studio, set)
}

/// The plate as a file, or why there is none.
fn plate(studio: &Studio, set: i64) -> Result<Vec<u8>, String> {
    let request = ExportRequest { format: ExportFormat::Png, level: 0, quality: 90 };
    let run = studio.export(set, &request).map_err(|e| e.to_string())?;
    let ended = ended(studio, set).run.unwrap();
    if ended.state == RunState::Failed {
        return Err(ended.message.unwrap());
    }
    Ok(std::fs::read(studio.exported(run).unwrap().0).unwrap())
}

fn pyramids(data: &Path) -> Vec<PathBuf> {
    let all = std::fs::read_dir(data.join("cache/pyramids")).unwrap();
    let mut all: Vec<PathBuf> = all.map(|e| e.unwrap().path()).collect();
    all.sort();
    assert_eq!(all.len(), NAMES.len());
    all
}

/// Turns a byte in each stretch of a file.
fn damage(path: &Path) {
    use std::os::unix::fs::FileExt;
    let file = std::fs::File::options().read(true).write(true).open(path).unwrap();
    for at in (100..file.metadata().unwrap().len()).step_by(2000) {
        let mut byte = [0];
        file.read_exact_at(&mut byte, at).unwrap();
        file.write_all_at(&[!byte[0]], at).unwrap();
    }
}

fn reasons(detail: &SetDetail) -> Vec<&str> {
    detail
        .frames
        .iter()
        .filter(|f| f.state == FrameState::Failed)
        .filter_map(|f| f.reason.as_deref())
        .collect()
}

#[test]
fn damaged_pixels_are_made_anew_and_it_is_said_once() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let (studio, set) = brought_in(&data, &pictures(folder.path()), true);
    let before = plate(&studio, set).unwrap();
    let mut events = studio.events();
    // While they are open, damaged or cut; and found so at the next start.
    pyramids(&data).iter().for_each(|path| damage(path));
    assert_eq!(plate(&studio, set).unwrap(), before);
    for path in pyramids(&data) {
        std::fs::File::options().write(true).open(path).unwrap().set_len(3000).unwrap();
    }
    assert_eq!(plate(&studio, set).unwrap(), before);
    let mut notes = 0;
    while let Ok(event) = events.try_recv() {
        notes += usize::from(matches!(event, Event::Note { text } if text.contains("made anew")));
    }
    assert_eq!(notes, 1);
    drop(studio);
    for path in pyramids(&data) {
        std::fs::File::options().write(true).open(path).unwrap().set_len(3000).unwrap();
    }
    let studio = Studio::open(&data).unwrap();
    assert_eq!(plate(&studio, set).unwrap(), before);
}

#[test]
fn a_damaged_original_is_told_and_mended_by_bringing_the_file_in_again() {
    let folder = tempfile::tempdir().unwrap();
    let (data, pictures) = (folder.path().join("data"), pictures(folder.path()));
    let (studio, set) = brought_in(&data, &pictures, true);
    let before = plate(&studio, set).unwrap();
    let originals: Vec<_> =
        std::fs::read_dir(data.join("originals")).unwrap().map(|e| e.unwrap().path()).collect();
    originals.iter().for_each(|path| damage(path));
    pyramids(&data).iter().for_each(|path| damage(path));
    let e = plate(&studio, set).unwrap_err();
    assert!(e.contains("damaged in the data folder; bring the same file in again"), "{e}");
    // Sent, and from a folder.
    let mut sent = studio.assets.incoming(set, NAMES[0]).unwrap();
    sent.take(evanu_demo::SETS[0].frames[0].1).unwrap();
    studio.assets.add(set, sent).unwrap();
    studio.assets.add_folder(set, pictures.to_str().unwrap(), true).unwrap();
    assert_eq!(ready(&studio, set).frames.len(), NAMES.len());
    assert_eq!(plate(&studio, set).unwrap(), before);
}

#[test]
fn another_file_in_the_place_of_an_original_is_never_taken_for_it() {
    let folder = tempfile::tempdir().unwrap();
    let (data, pictures) = (folder.path().join("data"), pictures(folder.path()));
    let (studio, set) = brought_in(&data, &pictures, false);
    let before = plate(&studio, set).unwrap();
    let path = pictures.join(NAMES[2]);
    std::fs::write(&path, evanu_demo::SETS[0].frames[5].1).unwrap();
    let detail = ready(&studio, set);
    let changed: Vec<&str> = detail.frames.iter().filter(|f| f.changed).map(|f| f.name.as_str()).collect();
    assert_eq!(changed, ["c.jpg"]);
    assert_eq!(plate(&studio, set).unwrap(), before);
    // Taken as a new frame, the old one stays as long as its pixels do.
    let old = detail.frames.iter().find(|f| f.changed).unwrap().id;
    studio.renew(set, old).unwrap();
    let detail = ready(&studio, set);
    assert_eq!(detail.frames.iter().filter(|f| f.joined).count(), 4);
    assert!(
        detail.frames.iter().all(|f| !f.changed) && detail.frames.iter().any(|f| f.id == old && f.missing)
    );
    assert!(studio.renew(set, old).unwrap_err().to_string().contains("copied into the data folder"));
}

#[test]
fn without_its_pixels_a_frame_whose_original_is_another_file_gives_way_to_it() {
    let folder = tempfile::tempdir().unwrap();
    let (data, pictures) = (folder.path().join("data"), pictures(folder.path()));
    let (studio, set) = brought_in(&data, &pictures, false);
    drop(studio);
    std::fs::remove_dir_all(data.join("cache")).unwrap();
    // Of the same length: only its content tells.
    let path = pictures.join(NAMES[2]);
    let mut other = std::fs::read(&path).unwrap();
    let end = other.len();
    other[end - 100..end - 2].fill(7);
    std::fs::write(&path, other).unwrap();
    let studio = Studio::open(&data).unwrap();
    assert!(plate(&studio, set).is_err());
    let detail = ready(&studio, set);
    let told = detail.run.unwrap();
    assert!(
        told.state == RunState::Failed
            && told.message.as_ref().unwrap().contains("c.jpg: it is another file than"),
        "{told:?}"
    );
    let old = detail.frames.iter().find(|f| f.changed).unwrap().id;
    studio.renew(set, old).unwrap();
    let detail = ready(&studio, set);
    assert_eq!(detail.run.as_ref().unwrap().state, RunState::Done);
    assert_eq!(reasons(&detail), ["c.jpg: its original is gone, another file took its place; leave it out"]);
    assert_eq!(detail.frames.iter().filter(|f| f.joined).count(), 3);
    plate(&studio, set).unwrap();
    // One that was not read yet is no frame at all until it is what came in.
    let late = pictures.join("late.jpg");
    std::fs::write(&late, evanu_demo::SETS[0].frames[6].1).unwrap();
    studio.assets.add_folder(set, pictures.to_str().unwrap(), false).unwrap();
    std::fs::write(&late, evanu_demo::SETS[0].frames[7].1).unwrap();
    let detail = ready(&studio, set);
    assert!(
        reasons(&detail).iter().any(|r| r.starts_with("late.jpg: it is another file than")),
        "{:?}",
        reasons(&detail)
    );
}
