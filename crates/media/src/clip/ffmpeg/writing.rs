//! A clip written: frames go to the program as they are, with their times; sound and words come from the source.

use super::{command, missing, named, opening, said};
use crate::clip::{ClipInfo, Layout, Yuv, matroska};
use crate::error::MediaError;
use evanu_core::geometry::Size;
use std::io::{BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Stdio};

/// How a clip is coded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Codec {
    /// As its name and its source ask for, near the source's quality.
    Like,
    /// Without any loss.
    Lossless,
    /// With transparency, for laying over in another program; pairs of frames and how much of each is there.
    Overlay,
    /// To be looked at: pairs of frames, one above the other as they are shown, so many pixels wide at most, with sound that browsers know.
    Pairs(u32),
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
        let paired = matches!(codec, Codec::Overlay | Codec::Pairs(_));
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
        match filter(&ending, info, codec) {
            Some(words) => command.args(["-filter_complex", &words, "-map", "[out]"]),
            None => command.args(["-map", "0:v:0"]),
        };
        // In the time of what comes, not in that of its mean pace.
        command.args(["-fps_mode", "passthrough", "-enc_time_base", "-1"]);
        command.args(encoder);
        match codec {
            Codec::Pairs(_) => command.args(["-map", "1:a:0?", "-c:a", "aac", "-b:a", "128k"]),
            Codec::Overlay => command.arg("-an"),
            Codec::Like | Codec::Lossless => {
                let range = if info.colour.full { "pc" } else { "tv" };
                command.args(["-map", "1:a?", "-c:a", "copy", "-map_metadata", "1"]);
                command.args(["-pix_fmt", &info.layout.name(), "-color_range", range])
            }
        };
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
            let size =
                if paired { Size::new(info.size.width, 2 * even(info.size.height)) } else { info.size };
            matroska::begin(input, size, info.layout).map_err(|e| MediaError::writing(path, &e))?;
        }
        let rotation = if paired { 0 } else { info.rotation };
        Ok(Self { path: path.to_owned(), part, child, input, layout: info.layout, rotation })
    }

    /// Adds a pair of frames of this size at a time in seconds, to a clip of those.
    ///
    /// # Errors
    /// As [`Self::push`].
    pub fn push_pair(
        &mut self,
        (above, below): (&Yuv, &Yuv),
        size: Size,
        seconds: f64,
    ) -> Result<(), MediaError> {
        let planes = std::array::from_fn(|c| {
            let own = self.layout.plane(size, c);
            let rows =
                if c == 0 { even(size.height) } else { even(size.height).div_ceil(1 << self.layout.down) };
            let mut both = Vec::with_capacity(2 * (own.width * rows) as usize);
            for frame in [above, below] {
                both.extend_from_slice(&frame.planes[c]);
                // An odd row is shown twice, and cut off again.
                if rows > own.height {
                    let from = frame.planes[c].len().saturating_sub(own.width as usize);
                    both.extend_from_slice(&frame.planes[c][from..]);
                }
            }
            if own.width == 0 { Vec::new() } else { both }
        });
        self.push(&Yuv { planes }, seconds)
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

/// The next even number of rows.
fn even(rows: u32) -> u32 {
    rows + rows % 2
}

/// What is made of what comes before it is encoded.
fn filter(ending: &str, info: &ClipInfo, codec: Codec) -> Option<String> {
    let Size { width, height } = info.size;
    let second = even(height);
    let halves = format!(
        "split[x][y];[x]crop={width}:{height}:0:0:exact=1[a];[y]crop={width}:{height}:0:{second}:exact=1[b]"
    );
    match codec {
        Codec::Like | Codec::Lossless => None,
        Codec::Overlay if ending == "webm" => {
            Some(format!("[0:v]format=yuv420p,{halves};[b]extractplanes=y[m];[a][m]alphamerge[out]"))
        }
        // Eight bits are brought to ten by two: white must be white again.
        Codec::Overlay => Some(format!(
            "[0:v]format=yuv444p10le,{halves};[b]extractplanes=y,lutyuv=y=val*1023/1020[m];[a][m]mergeplanes=0x00010210:yuva444p10le[out]"
        )),
        Codec::Pairs(wide) => {
            let turn = match info.rotation {
                90 => "transpose=1,",
                180 => "hflip,vflip,",
                270 => "transpose=2,",
                _ => "",
            };
            let shown = info.shown();
            let w = wide.min(shown.width) & !1;
            let h = (u64::from(shown.height) * u64::from(w) / u64::from(shown.width).max(1)) as u32 & !1;
            let small = format!("{turn}scale={}:{}:flags=area,format=yuv420p", w.max(2), h.max(2));
            Some(format!("[0:v]{halves};[a]{small}[c];[b]{small}[d];[c][d]vstack[out]"))
        }
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
        (Codec::Overlay, other) if !matches!(other, "mov" | "webm") => Err(MediaError::new(
            path,
            "this kind of clip holds no transparency",
            "use .mov or .webm, or a folder for pictures",
        )),
        (_, "mp4" | "mov" | "m4v" | "mkv" | "webm" | "avi" | "nut") => Ok(match codec {
            Codec::Like => like(),
            Codec::Lossless => vec!["-c:v", "ffv1", "-level", "3"],
            Codec::Overlay if ending == "webm" => {
                vec![
                    "-c:v",
                    "libvpx-vp9",
                    "-crf",
                    "16",
                    "-b:v",
                    "0",
                    "-row-mt",
                    "1",
                    "-cpu-used",
                    "4",
                    "-auto-alt-ref",
                    "0",
                ]
            }
            Codec::Overlay => vec!["-c:v", "prores_ks", "-profile:v", "4444", "-alpha_bits", "16"],
            Codec::Pairs(_) => {
                vec!["-c:v", "libx264", "-preset", "ultrafast", "-crf", "20", "-g", "25", "-bf", "0"]
            }
        }),
        _ => Err(MediaError::new(
            path,
            "its name ends as no clip that can be written",
            "use .mp4, .mov, .mkv, .webm or .avi",
        )),
    }
}
