//! The frames of a clip, decoded by the program; and a clip among the files that frames come from.

use super::{LONG, MOMENTS, PATIENCE, command, failed, missing, opening, probe};
use crate::clip::y4m::Y4mReader;
use crate::clip::{ClipInfo, Yuv, moment};
use crate::error::MediaError;
use crate::read::{AssetFormat, Decoded, Frames};
use evanu_core::geometry::Size;
use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};

/// Of how many frames each one is taken, so that few enough are.
pub(in crate::clip) fn every(frames: u64) -> u64 {
    frames.div_ceil(MOMENTS).max(1)
}

/// Seconds between the moments of a clip that is too long to look at every frame.
fn apart(info: &ClipInfo) -> Option<f64> {
    info.seconds.filter(|s| *s > LONG).map(|s| s / (MOMENTS - 1) as f64)
}

/// Which frames are wanted, and how.
struct Wanted {
    /// One of so many.
    every: u64,
    /// As it is shown, else as it is coded.
    turned: bool,
    /// In seconds.
    from: f64,
}

impl Default for Wanted {
    fn default() -> Self {
        Self { every: 1, turned: false, from: f64::NEG_INFINITY }
    }
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
        Self::some(path, info, Wanted::default())
    }

    /// The frames of a file that Evanu itself wrote as Y4M.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn kept(path: &Path) -> Result<Self, MediaError> {
        Self::begun(path, Y4mReader::open(path)?, 1, None)
    }

    /// The frames from one on, as they are coded: the first whose time, which [`seconds_of_frames`](super::seconds_of_frames) tells, is not
    /// before this. What lies before it is decoded from the last frame that stands alone, and let go.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn open_at(path: &Path, info: &ClipInfo, seconds: f64) -> Result<Self, MediaError> {
        Self::some(path, info, Wanted { from: seconds, ..Wanted::default() })
    }

    /// Some of its frames.
    fn some(path: &Path, info: &ClipInfo, wanted: Wanted) -> Result<Self, MediaError> {
        let Wanted { every, turned, from } = wanted;
        // Between two frames, so that no rounding of times matters.
        let half = 0.5 * f64::from(info.rate.1) / f64::from(info.rate.0);
        if info.is_y4m(path) {
            let skipped = (from / (2.0 * half)).round().max(0.0) as u64;
            return Self::begun(path, Y4mReader::open_at(path, skipped)?, every as usize, None);
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
        if from > 0.0 {
            command.args(["-seek_timestamp", "1", "-ss", &format!("{:.6}", from - half)]);
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
pub(in crate::clip) fn first(path: &Path) -> Vec<u8> {
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
        let reader = ClipReader::some(
            path,
            &info,
            Wanted { every: every(info.frames), turned: true, ..Wanted::default() },
        )?;
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
