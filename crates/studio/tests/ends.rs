//! A file that ends the whole program is given up, and the others are read; run by this test's own program as a child that ends.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::geometry::Size;
use evanu_core::pixel::Samples;
use evanu_core::recipe::FrameId;
use evanu_media::{AssetFormat, CameraData, Decoded, Frames, MediaError, Reader};
use evanu_studio::{FrameState, RunState, SetDetail, Studio};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Names the child's data folder.
const FOLDER: &str = "EVANU_TEST_ENDS";
/// Tells it to ask for the file that was given up.
const AGAIN: &str = "EVANU_TEST_ENDS_AGAIN";
const SIZE: Size = Size { width: 120, height: 80 };

/// A file of one byte: the shade of a picture, or nought, at which the program ends.
struct Shade;

impl AssetFormat for Shade {
    fn recognises(&self, bytes: &[u8]) -> bool {
        bytes.len() == 1
    }

    fn open(&self, path: &Path) -> Result<Frames, MediaError> {
        let shade = std::fs::read(path).map_err(|e| MediaError::reading(path, &e))?[0];
        if shade == 0 {
            std::process::abort();
        }
        let code = |i: u32| [shade.wrapping_add((i.wrapping_mul(2_654_435_761) >> 27) as u8); 3];
        let samples = Samples::Eight((0..SIZE.pixels() as u32).flat_map(code).collect());
        let frame = Decoded { size: SIZE, samples, headroom: 1.0, camera: CameraData::default() };
        Ok(Box::new(std::iter::once(Ok(frame))))
    }
}

static KINDS: &[&dyn AssetFormat] = &[&Shade];

fn until(studio: &Studio, set: i64, wanted: RunState) -> SetDetail {
    let begin = Instant::now();
    loop {
        let detail = studio.set(set).unwrap();
        if detail.run.as_ref().is_some_and(|run| run.state == wanted) {
            return detail;
        }
        assert!(begin.elapsed() < Duration::from_secs(60), "{:?}", detail.run);
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// The child: brings in what is not there yet, or asks for what was given up, and waits until the set is ready; or ends before.
#[test]
fn child() {
    let Ok(folder) = std::env::var(FOLDER) else { return };
    let studio = Studio::open_with(Path::new(&folder), Reader::Here(KINDS)).unwrap();
    if studio.set(1).is_err() {
        let set = studio.sets.create("Shades").unwrap();
        for shade in [90, 91, 92, 0] {
            let mut file = studio.assets.incoming(set, &format!("{shade}.shade")).unwrap();
            file.take(&[shade]).unwrap();
            studio.assets.add(set, file).unwrap();
        }
    }
    match std::env::var_os(AGAIN) {
        Some(_) => studio.read_again(1, given_up(&studio)).unwrap(),
        None => studio.prepare(1).unwrap(),
    }
    until(&studio, 1, RunState::Done);
}

fn given_up(studio: &Studio) -> FrameId {
    let detail = studio.set(1).unwrap();
    let failed: Vec<_> = detail.frames.iter().filter(|f| f.state == FrameState::Failed).collect();
    let reason = failed[0].reason.as_deref().unwrap();
    assert!(
        failed.len() == 1 && reason.contains("0.shade: Evanu ended 2 times while it was reading it"),
        "{reason}"
    );
    assert_eq!(detail.frames.iter().filter(|f| f.state == FrameState::Ready).count(), 3);
    failed[0].id
}

/// Whether a child came to its end.
fn comes_to_its_end(folder: &Path, again: bool) -> bool {
    let mut child = Command::new(std::env::current_exe().unwrap());
    child.args(["--exact", "child"]).env(FOLDER, folder).stdout(Stdio::null()).stderr(Stdio::null());
    if again {
        child.env(AGAIN, "1");
    }
    child.status().unwrap().success()
}

#[test]
fn a_file_at_which_the_program_ends_twice_is_given_up_until_somebody_asks_for_it() {
    let folder = tempfile::tempdir().unwrap();
    let ends: Vec<bool> = (0..3).map(|_| comes_to_its_end(folder.path(), false)).collect();
    assert_eq!(ends, [false, false, true]);
    given_up(&Studio::open_with(folder.path(), Reader::Here(KINDS)).unwrap());
    assert!(!comes_to_its_end(folder.path(), true), "it was read again");
    let ends: Vec<bool> = (0..2).map(|_| comes_to_its_end(folder.path(), false)).collect();
    assert_eq!(ends, [false, true]);
}
