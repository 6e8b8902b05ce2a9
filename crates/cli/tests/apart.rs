//! Files that are read by a program of their own: the same pyramids as here, and whatever becomes of it is told.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_media::{FORMATS, MediaError, ReadFrame, Reader};
use std::path::{Path, PathBuf};

fn apart() -> Reader {
    Reader::Apart(env!("CARGO_BIN_EXE_evanu").into())
}

/// Reads a picture in a folder of its own, and nothing else may be left there.
fn read(reader: &Reader, path: &Path) -> (Result<ReadFrame, MediaError>, Option<Vec<u8>>) {
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("frame");
    let read = reader.read_picture(path, &store);
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), usize::from(read.is_ok()));
    (read, std::fs::read(&store).ok())
}

#[test]
fn what_is_read_apart_is_what_is_read_here() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut files: Vec<PathBuf> = ["turned.heic", "pq.heic", "ramp.avif", "lossy.jxl"]
        .map(|f| crates.join("media/tests/samples").join(f))
        .into();
    for set in ["forecourt", "forecourt-raw"] {
        let frame = |e: std::io::Result<std::fs::DirEntry>| e.unwrap().path();
        files.push(
            std::fs::read_dir(crates.join("demo/samples").join(set)).unwrap().map(frame).min().unwrap(),
        );
    }
    for path in files {
        let ((here, ours), (there, theirs)) = (read(&Reader::Here(FORMATS), &path), read(&apart(), &path));
        let (here, there) = (here.unwrap(), there.unwrap());
        assert_eq!((here.size, here.camera), (there.size, there.camera), "{}", path.display());
        assert!(ours.is_some() && ours == theirs, "{}", path.display());
    }
}

#[test]
fn a_file_that_takes_too_much_or_is_none_is_a_sentence() {
    let folder = tempfile::tempdir().unwrap();
    // Black of 20 000 × 20 000 in 16 bits: 2.4 GB, that are asked for before the first of them is read.
    let bomb = folder.path().join("bomb.png");
    let mut encoder = png::Encoder::new(std::fs::File::create(&bomb).unwrap(), 20_000, 20_000);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Sixteen);
    let mut writer = encoder.write_header().unwrap();
    writer.write_chunk(png::chunk::IDAT, &[0x78, 1, 0]).unwrap();
    let rubbish = folder.path().join("rubbish.jpg");
    std::fs::write(&rubbish, "none").unwrap();
    for (path, why) in [
        (&bomb, "bomb.png: it needs more memory than a file of its length may take (900 MB); copy it"),
        (&rubbish, "rubbish.jpg: it is not a picture Evanu can read"),
        (&folder.path().join("gone.jpg"), "gone.jpg: there is no such file"),
    ] {
        let e = read(&apart(), path).0.err().unwrap();
        assert!(e.path == *path && e.to_string().contains(why), "{e}");
    }
}

#[test]
fn a_program_that_ends_is_told_with_how_and_one_that_is_none_is_no_fault_of_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let picture = folder.path().join("a.jpg");
    std::fs::write(&picture, "x").unwrap();
    let program = folder.path().join("program");
    for (does, why) in [
        ("kill -SEGV $$", "a.jpg: the file is damaged so that what reads it ended (signal 11)"),
        ("kill -XCPU $$", "a.jpg: reading it took longer than a file of its length may (10 s)"),
        ("echo 'memory allocation of 5 bytes failed' >&2; exit 1", "a.jpg: it needs more memory"),
        // What it says that is no line of ours counts for nothing.
        ("echo '{}'; echo nonsense", "a.jpg: there is no frame in it"),
    ] {
        std::fs::write(&program, format!("#!/bin/sh\n{does}\n")).unwrap();
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
        let e = read(&Reader::Apart(program.clone()), &picture).0.err().unwrap();
        assert!(e.path == picture && e.to_string().contains(why), "{e}");
    }
    let e = read(&Reader::Apart(folder.path().join("none")), &picture).0.err().unwrap();
    assert!(e.path != picture && e.to_string().contains("cannot be started"), "{e}");
}
