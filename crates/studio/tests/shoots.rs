//! Bringing in a shoot: told apart by view, moved between sets, left where it is and found again.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::geometry::Point;
use evanu_core::geometry::Size;
use evanu_core::pixel::{Raster, Samples};
use evanu_core::recipe::{FrameId, ManualAlignment, Patch, Recipe, Source};
use evanu_studio::{
    Change, ExportFormat, ExportRequest, FrameState, RecipePart, RunState, SetDetail, Studio, StudioError,
};
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
#[cfg(target_os = "linux")]
fn folders_of_the_system_pipes_and_circles_are_passed_by() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(&folder.path().join("data")).unwrap();
    let set = studio.sets.create("No").unwrap();
    for system in ["/proc", "/proc/self", "/sys", "/sys/devices", "/dev"] {
        let told = [
            studio.assets.folder(Some(system)).map(|_| ()).unwrap_err(),
            studio.assets.add_folder(set, system, true).map(|_| ()).unwrap_err(),
            studio.relink(set, system).map(|_| ()).unwrap_err(),
        ];
        assert!(told.iter().all(|e| e.to_string().contains("a folder of the system")), "{told:?}");
    }
    let pictures = folder.path().join("pictures");
    std::fs::create_dir_all(&pictures).unwrap();
    let add = || studio.assets.add_folder(set, pictures.to_str().unwrap(), false);
    std::os::unix::fs::symlink(&pictures, pictures.join("again")).unwrap();
    std::os::unix::fs::symlink("/proc/self/environ", pictures.join("environ")).unwrap();
    assert!(std::process::Command::new("mkfifo").arg(pictures.join("pipe.jpg")).status().unwrap().success());
    std::fs::write(pictures.join("subuid"), "").unwrap();
    assert!(add().unwrap_err().to_string().contains("no pictures in this folder"));
    std::fs::write(pictures.join("cut.JPG"), "").unwrap();
    std::fs::write(pictures.join("a.jpg"), frame(0, false)).unwrap();
    assert_eq!(add().unwrap(), 2);
    studio.prepare(set).unwrap();
    assert_eq!(names(&rest(&studio, set)).len(), 2);
    // What is lost is found beside the circle, which is walked once.
    std::fs::rename(pictures.join("a.jpg"), pictures.join("b.jpg")).unwrap();
    assert_eq!(studio.relink(set, folder.path().to_str().unwrap()).unwrap().found, 1);
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

#[test]
fn a_plate_has_its_camera_data_also_when_the_originals_are_gone() {
    let folder = tempfile::tempdir().unwrap();
    let pictures = folder.path().join("lent");
    std::fs::create_dir(&pictures).unwrap();
    let data = folder.path().join("data");
    for k in 0..3 {
        let jpeg = tagged(&frame(k, false), 1, Some("2026:05:16 14:03:22"));
        std::fs::write(pictures.join(format!("f{k}.jpg")), jpeg).unwrap();
    }
    let exported = |studio: &Studio, set: i64| {
        let request = ExportRequest { format: ExportFormat::Png, level: 0, quality: 90 };
        let run = studio.export(set, &request).unwrap();
        rest(studio, set);
        let decoded = evanu_media::decode(&studio.exported(run).unwrap().0).unwrap();
        decoded.camera.block.and(decoded.camera.time)
    };
    let studio = Studio::open(&data).unwrap();
    let set = studio.sets.create("Lent").unwrap();
    studio.assets.add_folder(set, pictures.to_str().unwrap(), false).unwrap();
    studio.prepare(set).unwrap();
    rest(&studio, set);
    // As a folder of an earlier version holds it: they are taken from the originals once.
    drop(studio);
    let db = rusqlite::Connection::open(data.join("evanu.sqlite")).unwrap();
    db.execute("UPDATE frames SET exif = NULL", []).unwrap();
    drop(db);
    let studio = Studio::open(&data).unwrap();
    assert_eq!(exported(&studio, set).as_deref(), Some("2026-05-16T14:03:22"));
    std::fs::remove_dir_all(&pictures).unwrap();
    assert_eq!(exported(&studio, set).as_deref(), Some("2026-05-16T14:03:22"));
    let copy = studio.duplicate(set).unwrap();
    assert_eq!(exported(&studio, copy).as_deref(), Some("2026-05-16T14:03:22"));
}

/// A JPEG with camera data: how it is turned, and when it was taken.
fn tagged(jpeg: &[u8], orientation: u16, time: Option<&str>) -> Vec<u8> {
    let mut block = b"Exif\0\0II*\0\x08\0\0\0".to_vec();
    let entry = |tag: u16, kind: u16, count: u32, value: u32| {
        [tag.to_le_bytes(), kind.to_le_bytes()]
            .concat()
            .into_iter()
            .chain(count.to_le_bytes())
            .chain(value.to_le_bytes())
    };
    let entries = 1 + u16::from(time.is_some());
    block.extend(entries.to_le_bytes());
    block.extend(entry(0x0112, 3, 1, u32::from(orientation)));
    // The second directory follows the first, and the text the second.
    let second = 8 + 2 + 12 * u32::from(entries) + 4;
    if let Some(time) = time {
        block.extend(entry(0x8769, 4, 1, second));
        block.extend(0u32.to_le_bytes());
        block.extend(1u16.to_le_bytes());
        block.extend(entry(0x9003, 2, 20, second + 2 + 12 + 4));
        block.extend(0u32.to_le_bytes());
        block.extend(time.bytes().chain([0]));
    } else {
        block.extend(0u32.to_le_bytes());
    }
    segment(jpeg, 0xE1, &block)
}

/// A JPEG with one more segment at its beginning.
fn segment(jpeg: &[u8], marker: u8, content: &[u8]) -> Vec<u8> {
    let length = (content.len() as u16 + 2).to_be_bytes();
    [&jpeg[..2], &[0xFF, marker], &length, content, &jpeg[2..]].concat()
}

/// The pixels of a JPEG, changed and coded again.
fn changed(jpeg: &[u8], size: Size, from: impl Fn(usize, usize) -> (usize, usize)) -> Vec<u8> {
    let decoded = evanu_media::decode_bytes(Path::new("frame.jpg"), jpeg).unwrap();
    let Samples::Eight(data) = &decoded.samples else { panic!("a JPEG has eight bits") };
    let mut out = Raster::new(size);
    for (i, o) in out.data.iter_mut().enumerate() {
        let (x, y) = from(i / 3 % size.width as usize, i / 3 / size.width as usize);
        *o = u16::from(data[3 * (y * decoded.size.width as usize + x) + i % 3]) * 257;
    }
    evanu_media::encode_jpeg(&out, 92).unwrap()
}

#[test]
fn a_real_folder_of_thirty_frames_comes_in_whole() {
    let folder = tempfile::tempdir().unwrap();
    let card = folder.path().join("card");
    std::fs::create_dir_all(&card).unwrap();
    let scripts = ["Tür", "башня", "塔", "برج", "a b", "%41", "q'uote"];
    let whole = frame(0, false);
    let size = evanu_media::decode_bytes(Path::new("a.jpg"), &whole).unwrap().size;
    let (w, h) = (size.width as usize, size.height as usize);
    let turned = Size::new(size.height, size.width);
    for k in 0..30usize {
        let plain = frame(k % 12, false);
        // Missing, equal, in order, and going back an hour as clocks do in autumn.
        let time = match k {
            0..5 => None,
            5..10 => Some("2026:10:25 02:59:59".to_owned()),
            10..20 => Some(format!("2026:10:25 02:{:02}:00", 40 + k - 10)),
            _ => Some(format!("2026:10:25 02:{:02}:30", k - 20)),
        };
        let bytes = match k {
            // Held upright: stored turned, and told so.
            12 => tagged(&changed(&plain, turned, |x, y| (y, h - 1 - x)), 6, time.as_deref()),
            // Held upright, and not told.
            13 => changed(&plain, turned, |x, y| (y, h - 1 - x)),
            // Half the size.
            17 => changed(&plain, Size::new(size.width / 2, size.height / 2), |x, y| (2 * x, 2 * y)),
            // The middle of it, upright.
            21 => changed(&plain, Size::new(size.height / 2, size.height), |x, y| (x + w / 3, y)),
            25 => {
                let icc = moxcms::ColorProfile::new_display_p3().encode().unwrap();
                segment(
                    &tagged(&plain, 1, time.as_deref()),
                    0xE2,
                    &[b"ICC_PROFILE\0\x01\x01", &icc[..]].concat(),
                )
            }
            _ => tagged(&plain, 1, time.as_deref()),
        };
        std::fs::write(card.join(format!("{} {k:02}.jpg", scripts[k % scripts.len()])), bytes).unwrap();
    }
    let studio = Studio::open(&folder.path().join("data")).unwrap();
    let set = studio.sets.create("Real folder").unwrap();
    assert_eq!(studio.assets.add_folder(set, card.to_str().unwrap(), true).unwrap(), 30);
    studio.prepare(set).unwrap();
    let detail = rest(&studio, set);
    let run = detail.run.as_ref().unwrap();
    assert_eq!((run.state, detail.frames.len()), (RunState::Done, 30), "{run:?}");
    let numbered =
        |k: usize| detail.frames.iter().find(|f| f.name.ends_with(&format!(" {k:02}.jpg"))).unwrap();
    for k in 0..30 {
        let frame = numbered(k);
        assert!(frame.name.starts_with(scripts[k % scripts.len()]), "{}", frame.name);
        assert!(frame.used != frame.reason.is_some(), "{}: {:?}", frame.name, frame.reason);
        // Whatever shows the view takes part, also lying on its side.
        assert!(frame.used, "{}: {:?}", frame.name, frame.reason);
    }
    assert!(detail.plate_key.is_some());
}

#[cfg(unix)]
#[test]
fn names_that_are_no_text_are_read_where_they_are_and_found_again() {
    use std::os::unix::ffi::OsStringExt;
    let folder = tempfile::tempdir().unwrap();
    let name = |bytes: &[u8]| PathBuf::from(std::ffi::OsString::from_vec(bytes.to_vec()));
    let card = folder.path().join(name(b"t\xFCr"));
    std::fs::create_dir_all(&card).unwrap();
    (0..3u8).for_each(|k| {
        std::fs::write(card.join(name(&[b'a', 0xE9, b'0' + k])), frame(k.into(), false)).unwrap();
    });
    let studio = Studio::open(&folder.path().join("data")).unwrap();
    let above = studio.assets.folder(folder.path().to_str()).unwrap();
    assert!(above.folders.contains(&"t\\xFCr".to_owned()), "{above:?}");
    let told = format!("{}/t\\xFCr", above.path);
    assert_eq!(studio.assets.folder(Some(&told)).unwrap().pictures, 3);
    let set = studio.sets.create("Left there").unwrap();
    assert_eq!(studio.assets.add_folder(set, &told, false).unwrap(), 3);
    studio.prepare(set).unwrap();
    let detail = rest(&studio, set);
    assert_eq!(names(&detail), ["a\\xE90", "a\\xE91", "a\\xE92"]);
    assert!(detail.frames.iter().all(|f| f.used && !f.missing));
    std::fs::rename(card.join(name(b"a\xE91")), card.join(name(b"b\xE91"))).unwrap();
    assert!(studio.set(set).unwrap().frames[1].missing);
    assert_eq!(studio.relink(set, &told).unwrap().found, 1);
    assert!(!studio.set(set).unwrap().frames[1].missing);
}
