//! Files that commands read and write.

use evanu_media::{CameraData, MediaError, Reader, TiledFrame};
use std::path::{Path, PathBuf};

/// An output must not be an input, and its folder must be there, before any long work begins.
pub(crate) fn check_output(out: &Path, inputs: &[PathBuf]) -> Result<(), String> {
    let folder = out.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if !folder.is_dir() {
        return Err(format!(
            "{}: its folder does not exist; create the folder or choose another one",
            out.display()
        ));
    }
    if out.is_dir() {
        return Err(format!("{}: it is a folder; name a file in it", out.display()));
    }
    let same = |p: &PathBuf| p.canonicalize().ok().zip(out.canonicalize().ok()).is_some_and(|(a, b)| a == b);
    if inputs.iter().any(same) {
        return Err(format!(
            "{}: it is an input, which is never written; choose another name",
            out.display()
        ));
    }
    tempfile::tempfile_in(folder)
        .map_err(|_| format!("{}: its folder may not be written to; choose another folder", out.display()))?;
    Ok(())
}

/// A folder for working files, which is gone when it is dropped.
pub(crate) fn scratch() -> Result<tempfile::TempDir, String> {
    tempfile::tempdir().map_err(|e| {
        format!(
            "{}: no room for working files ({e}); set TMPDIR to a folder with space",
            std::env::temp_dir().display()
        )
    })
}

/// Reads a picture into a pyramid, of which nothing is left behind however the program ends: the open file stays readable.
pub(crate) fn read_one(
    reader: &Reader,
    path: &Path,
    store: &Path,
) -> Result<(TiledFrame, CameraData), MediaError> {
    let frame = reader.read_picture(path, store).and_then(|read| Ok((TiledFrame::open(store)?, read.camera)));
    let _ = std::fs::remove_file(store);
    frame
}

/// Reads the moments of a clip into pyramids, which go as those of [`read_one`] do.
pub(crate) fn read_moments(
    reader: &Reader,
    path: &Path,
    folder: &Path,
) -> Result<Vec<(TiledFrame, CameraData)>, MediaError> {
    let store = |position: u32| folder.join(format!("moment-{position}"));
    let mut frames = Vec::new();
    let mut failed = None;
    reader.read(path, None, &store, &mut |position, read| {
        let frame = read.and_then(|read| Ok((TiledFrame::open(&store(position))?, read.camera)));
        let _ = std::fs::remove_file(store(position)); // the open file stays readable
        match frame {
            Ok(frame) => frames.push(frame),
            Err(e) => failed = Some(e),
        }
    })?;
    match failed {
        Some(e) if frames.is_empty() => Err(e),
        Some(e) => {
            eprintln!("{e}");
            Ok(frames)
        }
        None => Ok(frames),
    }
}

/// Writes a file that appears whole or not at all.
pub(crate) fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), String> {
    let part = path.with_extension("part");
    std::fs::write(&part, bytes)
        .and_then(|()| std::fs::rename(&part, path))
        .map_err(|e| evanu_media::MediaError::writing(path, &e).to_string())
}
