//! The program `ffmpeg`, as a process of its own: what a clip is, its frames, and a clip written.
//!
//! It opens files only (no network, no playlists that name others), may take so much memory, and ends with the one that started it; where
//! it says nothing for a minute it is ended. Frames come and go as they are, with their times.

use super::y4m::Y4mReader;
use super::{ClipInfo, Colour, Layout, Matrix, Yuv, check_size, matroska, moment};
use crate::error::MediaError;
use crate::read::{AssetFormat, Decoded, Frames};
use crate::reader::confine_program;
use evanu_core::geometry::Size;
use serde_json::Value;
use std::ffi::OsString;
use std::io::{BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::OnceLock;
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
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

/// What a clip is.
///
/// # Errors
/// When it cannot be read, holds no picture that moves, or holds one that Evanu does not take.
pub fn probe(path: &Path) -> Result<ClipInfo, MediaError> {
    let mut head = [0; 16];
    let mut file = std::fs::File::open(path).map_err(|e| MediaError::reading(path, &e))?;
    let read = file.read(&mut head).map_err(|e| MediaError::reading(path, &e))?;
    if read == 0 {
        return Err(MediaError::new(path, "it is empty", "copy it again"));
    }
    if super::y4m::FORMAT.recognises(&head[..read]) {
        let mut info = Y4mReader::open(path)?.info;
        let length = std::fs::metadata(path).map_or(0, |m| m.len());
        let samples: u64 = (0..3).map(|k| info.layout.plane(info.size, k).pixels()).sum();
        info.frames = length / (samples * if info.layout.bits > 8 { 2 } else { 1 } + 6).max(1);
        info.seconds = Some(info.frames as f64 * f64::from(info.rate.1) / f64::from(info.rate.0));
        return Ok(info);
    }
    let mut command = command("ffprobe");
    command.args(["-v", "error", "-of", "json", "-show_streams", "-show_format"]).args(opening(path));
    let told: Value = serde_json::from_slice(&said(path, command)?)
        .map_err(|e| failed(path, &format!("it is told about in another way than was expected: {e}")))?;
    of_words(path, &told)
}

fn of_words(path: &Path, told: &Value) -> Result<ClipInfo, MediaError> {
    let none = Vec::new();
    let streams = told["streams"].as_array().unwrap_or(&none);
    let is = |s: &Value, kind: &str| s["codec_type"] == kind && s["disposition"]["attached_pic"] != 1;
    let sound = streams.iter().any(|s| is(s, "audio"));
    let Some(video) = streams.iter().find(|s| is(s, "video")) else {
        let reason = if sound { "it holds sound only" } else { "it holds no picture that moves" };
        return Err(MediaError::new(path, reason, "choose a clip"));
    };
    let text = |v: &Value| v.as_str().unwrap_or("").to_owned();
    let side = |name: &str| video[name].as_u64().and_then(|v| u32::try_from(v).ok()).unwrap_or(0);
    let size = Size::new(side("width"), side("height"));
    check_size(path, size)?;
    let fraction = |v: &Value| -> Option<(u32, u32)> {
        let (a, b) = v.as_str()?.split_once('/')?;
        let (a, b) = (a.parse().ok()?, b.parse().ok()?);
        (a > 0 && b > 0).then_some((a, b))
    };
    let sane = |r: &(u32, u32)| (0.1..=1000.0).contains(&(f64::from(r.0) / f64::from(r.1)));
    let rate =
        fraction(&video["avg_frame_rate"]).filter(sane).or(fraction(&video["r_frame_rate"]).filter(sane));
    let Some(rate) = rate else {
        return Err(MediaError::new(
            path,
            format!("it has {} frames a second, which is no rate of a clip", text(&video["r_frame_rate"])),
            "export it anew at 24 to 60 frames a second",
        ));
    };
    let pixels = text(&video["pix_fmt"]);
    let Some((layout, full)) = Layout::of_name(&pixels) else {
        return Err(MediaError::new(
            path,
            format!("its pixels lie as {pixels}, which Evanu does not take"),
            "convert it to yuv420p, yuv422p or yuv444p of 8 to 16 bits",
        ));
    };
    let number = |v: &Value| v.as_str().and_then(|s| s.parse::<f64>().ok());
    let seconds =
        number(&video["duration"]).or_else(|| number(&told["format"]["duration"])).filter(|s| *s > 0.0);
    let pace = f64::from(rate.0) / f64::from(rate.1);
    let frames = number(&video["nb_frames"]).or(seconds.map(|s| s * pace)).unwrap_or(0.0).max(0.0);
    let turned =
        video["side_data_list"].as_array().and_then(|l| l.iter().find_map(|s| s["rotation"].as_i64()));
    let scale = fraction(&video["time_base"]).filter(|t| t.0 == 1).map_or(90_000, |t| t.1);
    Ok(ClipInfo {
        size,
        rate,
        frames: frames.round() as u64,
        seconds,
        layout,
        colour: Colour {
            matrix: Matrix::of(&text(&video["color_space"]), size),
            full: full || video["color_range"] == "pc",
        },
        rotation: (-turned.unwrap_or(0) as i32).rem_euclid(360),
        codec: text(&video["codec_name"]),
        bits_a_second: number(&video["bit_rate"]).map(|b| b as u64),
        sound,
        tags: ["color_space", "color_primaries", "color_transfer"].map(|k| text(&video[k])),
        scale,
    })
}

/// The times of all frames, in order, in seconds; fewer where the file is cut.
///
/// # Errors
/// When it cannot be read.
pub fn seconds_of_frames(path: &Path) -> Result<Vec<f64>, MediaError> {
    let mut command = command("ffprobe");
    command
        .args(["-v", "error", "-select_streams", "v:0", "-show_entries", "packet=pts_time", "-of", "csv=p=0"])
        .args(opening(path));
    let text = said(path, command)?;
    let text = String::from_utf8_lossy(&text);
    let mut all: Vec<f64> = text.lines().filter_map(|l| l.trim_end_matches(',').parse().ok()).collect();
    all.sort_by(f64::total_cmp);
    Ok(all)
}

/// Of how many frames each one is taken, so that few enough are.
pub(super) fn every(frames: u64) -> u64 {
    frames.div_ceil(MOMENTS).max(1)
}

/// Seconds between the moments of a clip that is too long to look at every frame.
fn apart(info: &ClipInfo) -> Option<f64> {
    info.seconds.filter(|s| *s > LONG).map(|s| s / (MOMENTS - 1) as f64)
}

/// The frames of a clip, one after another, in its own samples.
pub struct ClipReader {
    path: PathBuf,
    frames: Receiver<Result<Yuv, MediaError>>,
    child: Option<Child>,
    ended: bool,
}

impl ClipReader {
    /// All frames, as they are coded.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn open(path: &Path, info: &ClipInfo) -> Result<Self, MediaError> {
        Self::some(path, info, 1, false)
    }

    /// Each of so many frames; `turned` as it is shown.
    pub(super) fn some(path: &Path, info: &ClipInfo, every: u64, turned: bool) -> Result<Self, MediaError> {
        if info.codec == "rawvideo" && super::y4m::FORMAT.recognises(&first(path)) {
            return Self::begun(path, Y4mReader::open(path)?, every as usize, None);
        }
        let mut command = command("ffmpeg");
        command.args(["-nostdin", "-v", "error"]);
        let keys = every > 1 && info.seconds.is_some_and(|s| s > LONG);
        if keys {
            command.args(["-skip_frame", "nokey"]);
        }
        if !turned {
            command.arg("-noautorotate");
        }
        command.args(opening(path)).args(["-map", "0:v:0", "-fps_mode", "passthrough"]);
        if let Some(step) = apart(info).filter(|_| keys) {
            let later = format!("select=isnan(prev_selected_t)+gte(t-prev_selected_t\\,{step:.3})");
            command.args(["-vf", &later]);
        } else if every > 1 {
            command.args(["-vf", &format!("select=not(mod(n\\,{every}))")]);
        }
        let jpeg = info.colour.full && info.layout.bits == 8 && !info.layout.grey;
        let name = if jpeg { info.layout.name().replace("yuv", "yuvj") } else { info.layout.name() };
        command.args(["-pix_fmt", &name, "-strict", "-1", "-f", "yuv4mpegpipe", "-"]);
        let mut child = command
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .map_err(|e| missing(path, &e))?;
        let out = child.stdout.take().ok_or_else(|| failed(path, "it gave nothing"))?;
        let stream = BufReader::with_capacity(1 << 20, out);
        // Where it ended before the first frame, its own words say why.
        let Ok(reader) = Y4mReader::new(path, Box::new(stream)) else {
            let mut words = String::new();
            if let Some(e) = child.stderr.as_mut() {
                let _ = e.take(1 << 16).read_to_string(&mut words); // a help, no need
            }
            let _ = child.kill(); // it may have ended already
            let _ = child.wait();
            return Err(failed(path, &words));
        };
        Self::begun(path, reader, 1, Some(child))
    }

    fn begun(path: &Path, reader: Y4mReader, every: usize, child: Option<Child>) -> Result<Self, MediaError> {
        let (give, frames) = sync_channel(2);
        std::thread::spawn(move || {
            for frame in reader.step_by(every) {
                if give.send(frame).is_err() {
                    break;
                }
            }
        });
        Ok(Self { path: path.to_owned(), frames, child, ended: false })
    }
}

/// The first bytes of a file; none where it cannot be read.
pub(super) fn first(path: &Path) -> Vec<u8> {
    let mut head = vec![0; 16];
    let read = std::fs::File::open(path).and_then(|mut f| f.read(&mut head)).unwrap_or(0);
    head.truncate(read);
    head
}

impl Iterator for ClipReader {
    type Item = Result<Yuv, MediaError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.ended {
            return None;
        }
        match self.frames.recv_timeout(PATIENCE) {
            Ok(frame) => {
                self.ended = frame.is_err();
                Some(frame)
            }
            Err(RecvTimeoutError::Timeout) => {
                self.ended = true;
                Some(Err(MediaError::new(
                    &self.path,
                    "reading it came to a halt for a minute",
                    "copy it again, or export it anew",
                )))
            }
            Err(RecvTimeoutError::Disconnected) => {
                self.ended = true;
                // Damage that it went on after is told at the end.
                let child = self.child.as_mut()?;
                let status = child.wait().ok()?;
                let mut words = String::new();
                let _ = child.stderr.as_mut()?.take(1 << 16).read_to_string(&mut words); // a help, no need
                (!status.success()).then(|| Err(failed(&self.path, &words)))
            }
        }
    }
}

impl Drop for ClipReader {
    fn drop(&mut self) {
        if let Some(child) = self.child.as_mut() {
            let _ = child.kill(); // it may have ended already
            let _ = child.wait();
        }
    }
}

/// How a clip is coded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Codec {
    /// As its name and its source ask for, near the source's quality.
    Like,
    /// Without any loss.
    Lossless,
    /// With transparency, for laying over in another program.
    Overlay,
}

/// A clip that is being written; nothing is left of it unless it is finished.
pub struct ClipWriter {
    path: PathBuf,
    part: PathBuf,
    child: Child,
    input: Option<BufWriter<ChildStdin>>,
    layout: Layout,
    rotation: i32,
}

impl ClipWriter {
    /// Begins a clip of frames as `info` says, with the sound and the words of `source`.
    ///
    /// # Errors
    /// When the program is not there or the name is of no kind of clip.
    pub fn create(path: &Path, source: &Path, info: &ClipInfo, codec: Codec) -> Result<Self, MediaError> {
        let ending = path.extension().and_then(|e| e.to_str()).unwrap_or("").to_ascii_lowercase();
        let encoder = encoder(path, &ending, info, codec)?;
        let part = path.with_file_name(format!(
            ".{}.part.{ending}",
            path.file_stem().unwrap_or_default().to_string_lossy()
        ));
        let mut command = command("ffmpeg");
        command.args([
            "-nostdin",
            "-v",
            "error",
            "-y",
            "-protocol_whitelist",
            "file,pipe",
            "-f",
            "matroska",
            "-i",
            "pipe:0",
        ]);
        command.args(opening(source));
        command.args([
            "-map",
            "0:v:0",
            "-map",
            "1:a?",
            "-c:a",
            "copy",
            "-map_metadata",
            "1",
            "-fps_mode",
            "passthrough",
        ]);
        // In the time of what comes, not in that of its mean pace.
        command.args(["-enc_time_base", "-1"]);
        command.args(encoder);
        command.args([
            "-pix_fmt",
            &info.layout.name(),
            "-color_range",
            if info.colour.full { "pc" } else { "tv" },
        ]);
        for (name, value) in ["-colorspace", "-color_primaries", "-color_trc"].iter().zip(&info.tags) {
            if !value.is_empty() && value != "unknown" && value != "reserved" {
                command.args([name, value.as_str()]);
            }
        }
        if matches!(ending.as_str(), "mp4" | "mov" | "m4v") {
            command.args([
                "-video_track_timescale",
                &info.scale.to_string(),
                "-movflags",
                "+faststart+write_colr",
            ]);
        }
        let mut child = command
            .arg(named(&part))
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .map_err(|e| missing(path, &e))?;
        let mut input = child.stdin.take().map(|i| BufWriter::with_capacity(1 << 20, i));
        if let Some(input) = input.as_mut() {
            matroska::begin(input, info.size, info.layout).map_err(|e| MediaError::writing(path, &e))?;
        }
        Ok(Self { path: path.to_owned(), part, child, input, layout: info.layout, rotation: info.rotation })
    }

    /// Adds a frame at a time in seconds.
    ///
    /// # Errors
    /// When the program ended: why is told by what it said.
    pub fn push(&mut self, frame: &Yuv, seconds: f64) -> Result<(), MediaError> {
        let time = (1e6 * seconds).round().max(0.0) as u64;
        let written =
            self.input.as_mut().map(|input| matroska::frame(input, &frame.planes, self.layout.bits, time));
        if let Some(Err(_)) = written {
            return Err(self.broken());
        }
        Ok(())
    }

    /// Ends it, and gives it its name.
    ///
    /// # Errors
    /// When it could not be written whole.
    pub fn finish(mut self) -> Result<(), MediaError> {
        let flushed = self.input.take().map_or(Ok(()), |mut input| input.flush());
        let status = self.child.wait().map_err(|e| MediaError::writing(&self.path, &e))?;
        if flushed.is_err() || !status.success() {
            return Err(self.broken());
        }
        if self.rotation != 0 {
            self.turn()?;
        }
        std::fs::rename(&self.part, &self.path).map_err(|e| MediaError::writing(&self.path, &e))
    }

    /// Says how it is turned when it is shown: only what is copied takes that along, and by the other way around.
    fn turn(&self) -> Result<(), MediaError> {
        let ending = self.part.extension().unwrap_or_default().to_string_lossy().into_owned();
        let turned = self.part.with_extension(format!("turned.{ending}"));
        let mut command = command("ffmpeg");
        command.args(["-nostdin", "-v", "error", "-y"]).args(opening(&self.part));
        command.args([
            "-map",
            "0",
            "-c",
            "copy",
            "-metadata:s:v:0",
            &format!("rotate={}", 360 - self.rotation),
        ]);
        command.arg(named(&turned));
        let done = said(&self.path, command);
        let renamed = done.and_then(|_| {
            std::fs::rename(&turned, &self.part).map_err(|e| MediaError::writing(&self.path, &e))
        });
        if renamed.is_err() {
            let _ = std::fs::remove_file(&turned); // it may not be there
        }
        renamed
    }

    fn broken(&mut self) -> MediaError {
        self.input = None;
        let mut words = String::new();
        if let Some(e) = self.child.stderr.as_mut() {
            let _ = e.take(1 << 16).read_to_string(&mut words); // a help, no need
        }
        let last = words.lines().rev().find(|l| !l.trim().is_empty()).unwrap_or("it said nothing").to_owned();
        if last.contains("No space left") {
            return MediaError::writing(&self.path, &std::io::ErrorKind::StorageFull.into());
        }
        MediaError::new(
            &self.path,
            format!("the clip cannot be written ({last})"),
            "choose another kind of file, such as .mkv or .mp4",
        )
    }
}

impl Drop for ClipWriter {
    fn drop(&mut self) {
        self.input = None;
        let _ = self.child.kill(); // it may have ended already
        let _ = self.child.wait();
        let _ = std::fs::remove_file(&self.part); // it is there only when it was not finished
    }
}

/// What the program is told of a codec.
fn encoder(
    path: &Path,
    ending: &str,
    info: &ClipInfo,
    codec: Codec,
) -> Result<Vec<&'static str>, MediaError> {
    let h264 = vec!["-c:v", "libx264", "-crf", "16", "-preset", "medium"];
    let like = || match (info.codec.as_str(), ending) {
        ("ffv1", "mkv" | "avi" | "mov" | "nut") => vec!["-c:v", "ffv1", "-level", "3"],
        ("hevc", "mp4" | "mov" | "m4v" | "mkv") => {
            vec!["-c:v", "libx265", "-crf", "18", "-tag:v", "hvc1", "-x265-params", "log-level=error"]
        }
        ("prores", "mov" | "mkv") => vec!["-c:v", "prores_ks"],
        ("av1", "mp4" | "mkv" | "webm") => vec!["-c:v", "libsvtav1", "-crf", "22", "-preset", "7"],
        (_, "webm") => {
            vec!["-c:v", "libvpx-vp9", "-crf", "22", "-b:v", "0", "-row-mt", "1", "-cpu-used", "4"]
        }
        ("vp9", "mkv" | "mp4") => {
            vec!["-c:v", "libvpx-vp9", "-crf", "22", "-b:v", "0", "-row-mt", "1", "-cpu-used", "4"]
        }
        _ => h264,
    };
    match (codec, ending) {
        (_, "mp4" | "mov" | "m4v" | "mkv" | "webm" | "avi" | "nut") => Ok(match codec {
            Codec::Like => like(),
            Codec::Lossless => vec!["-c:v", "ffv1", "-level", "3"],
            Codec::Overlay => vec!["-c:v", "prores_ks", "-profile:v", "4444"],
        }),
        _ => Err(MediaError::new(
            path,
            "its name ends as no clip that can be written",
            "use .mp4, .mov, .mkv, .webm or .avi",
        )),
    }
}

/// Its place in the list of what can be read.
pub(crate) struct ClipFormat;

/// The same as one value.
pub(crate) static FORMAT: ClipFormat = ClipFormat;

/// Whether a file that begins like this is a clip that another program reads.
pub(crate) fn runs(head: &[u8]) -> bool {
    let at = |from: usize, what: &[u8]| head.get(from..from + what.len()) == Some(what);
    let moving = [&b"ftyp"[..], b"moov", b"mdat", b"wide", b"free", b"skip"].iter().any(|word| at(4, word));
    let picture =
        [&b"heic"[..], b"heix", b"mif1", b"msf1", b"avif", b"avis", b"crx "].iter().any(|word| at(8, word));
    moving && !picture
        || at(0, &[0x1A, 0x45, 0xDF, 0xA3])
        || at(0, b"RIFF") && at(8, b"AVI ")
        || at(0, b"OggS")
        || at(0, b"DKIF")
        || at(0, b"FLV")
        || at(0, &[0, 0, 1, 0xBA])
        || at(0, b"nut/multimedia")
}

impl AssetFormat for ClipFormat {
    fn recognises(&self, head: &[u8]) -> bool {
        runs(head)
    }

    fn open(&self, path: &Path) -> Result<Frames, MediaError> {
        let info = probe(path)?;
        let reader = ClipReader::some(path, &info, every(info.frames), true)?;
        let turned = matches!(info.rotation, 90 | 270);
        let size = if turned { Size::new(info.size.height, info.size.width) } else { info.size };
        let even = every(info.frames) as f64 * f64::from(info.rate.1) / f64::from(info.rate.0);
        let pace = apart(&info).unwrap_or(even);
        Ok(Box::new(reader.enumerate().map(move |(k, frame)| {
            let samples = info.colour.picture(&frame?, size, info.layout);
            Ok(Decoded { size, samples, headroom: 1.0, camera: moment(k as f64 * pace) })
        })))
    }
}
