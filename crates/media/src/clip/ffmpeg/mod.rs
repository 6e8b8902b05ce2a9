//! The program `ffmpeg`, as a process of its own: how it is started and confined, and what its last words mean; what a clip is ([`probe`]),
//! its frames ([`reading`]), and a clip written ([`writing`]).
//!
//! It opens files only (no network, no playlists that name others), may take so much memory, and ends with the one that started it; where
//! it says nothing for a minute it is ended. Frames come and go as they are, with their times.

mod probe;
mod reading;
mod writing;

pub use probe::{probe, seconds_of_frames};
pub use reading::ClipReader;
pub(crate) use reading::{FORMAT, runs};
pub(in crate::clip) use reading::{every, first};
pub use writing::{ClipWriter, Codec};

use crate::error::MediaError;
use crate::reader::confine_program;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;
use std::time::Duration;

/// What the program that confines itself before it becomes another is started with, before that one's words.
pub const CONFINE_COMMAND: &str = "confined";
/// Seconds after which a program that says nothing is ended.
const PATIENCE: Duration = Duration::from_secs(60);
/// Frames of a clip that a set takes at most.
const MOMENTS: u64 = 48;
/// Seconds from which on only frames are looked at that stand alone.
const LONG: f64 = 240.0;
/// Kinds of files that it may take for a clip: none that names other files.
const KINDS: &str = "mov,matroska,avi,mpegts,mpeg,mxf,nut,ivf,ogg,asf,flv,dv,h264,hevc,yuv4mpegpipe,rawvideo,mjpeg,m4v,gif,apng";

/// The program that confines itself, when it is there.
static CONFINER: OnceLock<PathBuf> = OnceLock::new();

/// Has programs be started by this one, which confines itself first ([`CONFINE_COMMAND`]).
pub fn confined(program: PathBuf) {
    let _ = CONFINER.set(program); // the first stays
}

/// How a program is started.
fn command(name: &str) -> Command {
    match CONFINER.get() {
        Some(own) => {
            let mut command = Command::new(own);
            command.arg(CONFINE_COMMAND).arg(name);
            command
        }
        None => Command::new(name),
    }
}

/// What the program started by [`CONFINE_COMMAND`] does: it becomes another that may do little.
///
/// # Errors
/// When that cannot be started; else it does not come back.
pub fn become_confined(arguments: &[OsString]) -> MediaError {
    use std::os::unix::process::CommandExt;
    let [name, rest @ ..] = arguments else {
        return MediaError::new(Path::new(CONFINE_COMMAND), "it needs a program", "name one");
    };
    if let Err(e) = confine_program() {
        return MediaError::new(
            Path::new(name),
            format!("it cannot be confined ({e})"),
            "use another system",
        );
    }
    missing(Path::new(name), &Command::new(name).args(rest).exec())
}

/// Why a program did not start.
fn missing(path: &Path, e: &std::io::Error) -> MediaError {
    MediaError::new(
        path,
        format!(
            "clips other than Y4M are read and written by the program ffmpeg, which cannot be started ({e})"
        ),
        "install it (Debian: apt-get install ffmpeg), or convert the clip to Y4M",
    )
}

/// A path that is never taken for something else.
fn named(path: &Path) -> OsString {
    let mut out = OsString::from("file:");
    out.push(std::path::absolute(path).unwrap_or_else(|_| path.to_owned()));
    out
}

/// How inputs are opened.
fn opening(path: &Path) -> Vec<OsString> {
    let mut out: Vec<OsString> =
        ["-protocol_whitelist", "file", "-format_whitelist", KINDS, "-i"].map(Into::into).into();
    out.push(named(path));
    out
}

/// What a program says, and its last words when it fails.
fn said(path: &Path, mut command: Command) -> Result<Vec<u8>, MediaError> {
    let done = command.stdin(Stdio::null()).output().map_err(|e| missing(path, &e))?;
    if done.status.success() {
        return Ok(done.stdout);
    }
    Err(failed(path, &String::from_utf8_lossy(&done.stderr)))
}

/// What is wrong with a clip, by what the program said last.
fn failed(path: &Path, words: &str) -> MediaError {
    if words.contains("cannot be started") || words.contains("No such file or directory (os error") {
        return missing(path, &std::io::ErrorKind::NotFound.into());
    }
    let last = words.lines().rev().find(|l| !l.trim().is_empty()).unwrap_or("it said nothing");
    let own = named(path);
    let last = last.replace(&*own.to_string_lossy(), "").trim_start_matches([':', ' ']).to_owned();
    MediaError::new(
        path,
        format!("it cannot be read as a clip ({last})"),
        "copy it from the camera again, or export it anew",
    )
}
