//! Files read into pyramids, here or where it can be done without harm.
//!
//! What others wrote is decoded by a program of its own ([`Reader::Apart`], the same binary by a hidden command): it may use so much
//! memory and time, opens no connection, writes into one folder, and ends with its file. Pixels come back as the pyramids themselves,
//! what is known about them as lines of JSON. Whatever becomes of it, the file is told about and the next one is read.
//!
//! Cost: a start of the program a file, 4 ms; see `docs/measurements.md`.

mod confine;

use crate::camera::CameraData;
use crate::error::MediaError;
use crate::read::{AssetFormat, FORMATS, open_asset, recognised};
use crate::store::store_frame;
use evanu_core::geometry::Size;
use serde::{Deserialize, Serialize};
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus, Stdio};

/// Who reads files.
#[derive(Clone)]
pub enum Reader {
    /// This program, with these kinds of files.
    Here(&'static [&'static dyn AssetFormat]),
    /// A program for each file, started from this one; it runs [`read_apart`] when its first argument is [`READ_COMMAND`].
    Apart(PathBuf),
}

/// What a program that reads apart is started with, before its arguments.
pub const READ_COMMAND: &str = "read";

/// A frame that was read into its pyramid.
#[derive(Debug, Clone)]
pub struct ReadFrame {
    /// Columns and rows.
    pub size: Size,
    /// What the camera wrote.
    pub camera: CameraData,
}

/// Hears of each frame of a file: its position from 0, and what came of it.
pub type Heard<'a> = &'a mut dyn FnMut(u32, Result<ReadFrame, MediaError>);

impl Reader {
    /// Apart, by this program as it was started, even when its file was replaced meanwhile.
    pub fn apart() -> Self {
        let own = Path::new("/proc/self/exe");
        let found = if own.exists() { Ok(own.to_owned()) } else { std::env::current_exe() };
        found.map_or(Self::Here(FORMATS), Self::Apart)
    }

    fn formats(&self) -> &'static [&'static dyn AssetFormat] {
        match self {
            Self::Here(formats) => formats,
            Self::Apart(_) => FORMATS,
        }
    }

    /// Whether a file that begins like this is of a kind that can be read.
    pub fn recognises(&self, head: &[u8]) -> bool {
        recognised(self.formats(), head)
    }

    /// Reads the frames of a file, or `only` the one at a position, each into the pyramid at `store` of its position (whole or not at
    /// all), and tells of each as it comes.
    ///
    /// # Errors
    /// When the file cannot be read to its end. Errors about the file bear its path; others are no fault of it.
    pub fn read(
        &self,
        path: &Path,
        only: Option<u32>,
        store: &dyn Fn(u32) -> PathBuf,
        heard: Heard<'_>,
    ) -> Result<(), MediaError> {
        match self {
            Self::Here(formats) => read_here(formats, path, only, store, heard),
            // Clips are decoded by another program already.
            Self::Apart(_) if crate::clip::is_clip(path) => read_here(FORMATS, path, only, store, heard),
            Self::Apart(program) => apart(program, path, only, store, heard),
        }
    }

    /// Reads the one frame of a picture.
    ///
    /// # Errors
    /// As [`Self::read`].
    pub fn read_picture(&self, path: &Path, store: &Path) -> Result<ReadFrame, MediaError> {
        let mut read = None;
        self.read(path, Some(0), &|_| store.to_owned(), &mut |_, frame| {
            read = Some(frame);
        })?;
        read.unwrap_or_else(|| Err(MediaError::new(path, "there is no frame in it", "leave it out")))
    }
}

/// Limits this program before it becomes another one that decodes or encodes clips.
///
/// # Errors
/// When a limit cannot be set.
pub(crate) fn confine_program() -> Result<(), std::io::Error> {
    confine::confine_program()
}

fn read_here(
    formats: &[&dyn AssetFormat],
    path: &Path,
    only: Option<u32>,
    store: &dyn Fn(u32) -> PathBuf,
    heard: Heard<'_>,
) -> Result<(), MediaError> {
    for (position, frame) in (0..).zip(open_asset(formats, path)?) {
        match only {
            Some(only) if position < only => continue,
            Some(only) if position > only => break,
            _ => {}
        }
        let stored = frame.and_then(|frame| store_frame(frame, &store(position)));
        heard(position, stored.map(|(size, camera)| ReadFrame { size, camera }));
    }
    Ok(())
}

/// What the program that reads apart writes, a line each.
#[derive(Serialize, Deserialize)]
enum Line {
    Frame {
        position: u32,
        size: Size,
        camera: CameraData,
        block: Option<Vec<u8>>,
    },
    /// About a frame, or the file as a whole; `file` when it is to blame.
    Failed {
        position: Option<u32>,
        file: bool,
        reason: String,
        remedy: String,
    },
}

impl Line {
    fn failed(position: Option<u32>, path: &Path, e: MediaError) -> Self {
        Self::Failed { position, file: e.path == path, reason: e.reason, remedy: e.remedy }
    }
}

/// The program that reads apart: `FOLDER FILE [POSITION]`, the frames of a file into a folder, under their positions.
///
/// # Errors
/// When its arguments make no sense; what is wrong with the file is written as a line.
pub fn read_apart(arguments: &[std::ffi::OsString]) -> Result<(), MediaError> {
    let (folder, path, only) = match arguments {
        [folder, path] => (Path::new(folder), Path::new(path), None),
        [folder, path, only] => {
            (Path::new(folder), Path::new(path), only.to_str().and_then(|s| s.parse().ok()))
        }
        _ => {
            return Err(MediaError::new(
                Path::new(READ_COMMAND),
                "it needs a folder and a file",
                "name them",
            ));
        }
    };
    let length = std::fs::metadata(path).map_or(0, |m| m.len());
    confine::confine(folder, length).map_err(|e| MediaError::writing(folder, &e))?;
    let mut out = std::io::stdout().lock();
    let mut tell = |line: Line| -> Result<(), MediaError> {
        let failed = |e: std::io::Error| MediaError::writing(folder, &e);
        serde_json::to_writer(&mut out, &line).map_err(|e| failed(e.into()))?;
        out.write_all(b"\n").and_then(|()| out.flush()).map_err(failed)
    };
    let store = |position: u32| folder.join(position.to_string());
    let mut told = Ok(());
    let read = read_here(FORMATS, path, only, &store, &mut |position, frame| {
        let line = match frame {
            Ok(ReadFrame { size, mut camera }) => {
                let block = camera.block.take();
                Line::Frame { position, size, camera, block }
            }
            Err(e) => Line::failed(Some(position), path, e),
        };
        if told.is_ok() {
            told = tell(line);
        }
    });
    told?;
    read.or_else(|e| tell(Line::failed(None, path, e)))
}

/// Starts a program for a file and brings what it made into place.
fn apart(
    program: &Path,
    path: &Path,
    only: Option<u32>,
    store: &dyn Fn(u32) -> PathBuf,
    heard: Heard<'_>,
) -> Result<(), MediaError> {
    let beside = store(0);
    let beside = beside.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let writing = |e: std::io::Error| MediaError::writing(beside, &e);
    let folder = tempfile::Builder::new().prefix(".reading-").tempdir_in(beside).map_err(writing)?;
    let into = std::path::absolute(folder.path()).map_err(writing)?;
    let words = into.join("words");
    let mut command = Command::new(program);
    command
        .arg(READ_COMMAND)
        .arg(&into)
        .arg(std::path::absolute(path).map_err(|e| MediaError::reading(path, &e))?)
        .args(only.map(|position| position.to_string()))
        .env_clear()
        .env("RAYON_NUM_THREADS", confine::threads().to_string())
        // Its memory is all new: asked for in large pages it takes a tenth less time.
        .env("GLIBC_TUNABLES", "glibc.malloc.hugetlb=1")
        .current_dir("/")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(std::fs::File::create(&words).map_err(writing)?);
    let mut child = command.spawn().map_err(|e| {
        MediaError::new(program, format!("it cannot be started to read a file ({e})"), "close other programs")
    })?;
    let mut heard = |line: Line| {
        let file = |file: bool| if file { path } else { beside };
        match line {
            Line::Frame { position, size, camera, block } => {
                std::fs::rename(into.join(position.to_string()), store(position)).map_err(writing)?;
                heard(position, Ok(ReadFrame { size, camera: CameraData { block, ..camera } }));
                Ok(())
            }
            Line::Failed { position: Some(position), file: blamed, reason, remedy } => {
                heard(position, Err(MediaError::new(file(blamed), reason, remedy)));
                Ok(())
            }
            Line::Failed { position: None, file: blamed, reason, remedy } => {
                Err(MediaError::new(file(blamed), reason, remedy))
            }
        }
    };
    let lines = child.stdout.take().map(BufReader::new).into_iter().flat_map(BufRead::lines);
    let told = lines
        .map_while(Result::ok)
        .filter_map(|line| serde_json::from_str(&line).ok())
        .try_for_each(&mut heard);
    if told.is_err() {
        let _ = child.kill(); // it may have ended already
    }
    let status = child.wait().map_err(|e| MediaError::reading(path, &e))?;
    told?;
    if status.success() { Ok(()) } else { Err(ended(path, status, &words)) }
}

/// Why a program that reads apart ended before its time, as far as that can be known.
fn ended(path: &Path, status: ExitStatus, words: &Path) -> MediaError {
    let mut said = String::new();
    let file = std::fs::File::open(words).map(|f| f.take(1 << 16));
    let _ = file.and_then(|mut f| f.read_to_string(&mut said)); // what it said last is a help, no need
    let limits = confine::Limits::of(std::fs::metadata(path).map_or(0, |m| m.len()));
    let reason = if said.contains("memory allocation of") || said.contains("bad_alloc") {
        let most = limits.memory >> 20;
        format!("it needs more memory than a file of its length may take ({most} MB)")
    } else if said.contains(confine::TOO_LONG) || status.signal() == Some(confine::TIME_SIGNAL) {
        format!("reading it took longer than a file of its length may ({} s)", limits.seconds)
    } else {
        let how = status.signal().map_or_else(|| status.to_string(), |signal| format!("signal {signal}"));
        format!("the file is damaged so that what reads it ended ({how})")
    };
    MediaError::new(path, reason, "copy it from the camera again, export it anew, or leave it out")
}
