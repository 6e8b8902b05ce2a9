//! Y4M: a line about all frames, then each frame after a line of its own. Read without any other program.

use super::{ClipInfo, Colour, Layout, Matrix, Yuv, check_size};
use crate::error::MediaError;
use crate::read::{AssetFormat, Decoded, Frames};
use evanu_core::geometry::Size;
use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, ErrorKind, Read, Write};
use std::path::{Path, PathBuf};

/// What such a file begins with.
const MARK: &[u8] = b"YUV4MPEG2";
/// Longest line.
const LINE: u64 = 4096;

/// The frames of a Y4M stream.
pub struct Y4mReader {
    path: PathBuf,
    input: Box<dyn BufRead + Send>,
    /// What its first line tells.
    pub info: ClipInfo,
    done: bool,
}

impl Y4mReader {
    /// A file.
    ///
    /// # Errors
    /// When it cannot be read or is none.
    pub fn open(path: &Path) -> Result<Self, MediaError> {
        let file = std::fs::File::open(path).map_err(|e| MediaError::reading(path, &e))?;
        Self::new(path, Box::new(BufReader::with_capacity(1 << 20, file)))
    }

    /// A file from a frame on, counted from 0: those before it are passed over without being read, as long as their lines are plain.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub(super) fn open_at(path: &Path, frame: u64) -> Result<Self, MediaError> {
        let mut file = std::fs::File::open(path).map_err(|e| MediaError::reading(path, &e))?;
        if frame == 0 {
            return Self::open(path);
        }
        let info = Self::open(path)?.info;
        let mut head = Vec::new();
        let mut start = BufReader::new(&mut file);
        start.read_until(b'\n', &mut head).map_err(|e| MediaError::reading(path, &e))?;
        let samples: u64 = (0..3).map(|k| info.layout.plane(info.size, k).pixels()).sum();
        let one = samples * if info.layout.bits > 8 { 2 } else { 1 } + b"FRAME\n".len() as u64;
        let at = head.len() as u64 + frame * one;
        std::io::Seek::seek(&mut file, std::io::SeekFrom::Start(at))
            .map_err(|e| MediaError::reading(path, &e))?;
        let input = Box::new(BufReader::with_capacity(1 << 20, file));
        Ok(Self { path: path.to_owned(), input, info, done: false })
    }

    /// Of anything that such a stream is read from; the path is for messages.
    ///
    /// # Errors
    /// When it does not begin as one.
    pub fn new(path: &Path, mut input: Box<dyn BufRead + Send>) -> Result<Self, MediaError> {
        let line = line(&mut input).map_err(|e| MediaError::reading(path, &e))?;
        let info = header(path, &line)?;
        Ok(Self { path: path.to_owned(), input, info, done: false })
    }

    fn frame(&mut self) -> std::io::Result<Option<Yuv>> {
        let line = line(&mut self.input)?;
        if line.is_empty() {
            return Ok(None);
        }
        if !line.starts_with(b"FRAME") {
            return Err(std::io::Error::new(ErrorKind::InvalidData, "a frame begins otherwise than it must"));
        }
        let Layout { bits, .. } = self.info.layout;
        let mut planes = [Vec::new(), Vec::new(), Vec::new()];
        for (k, plane) in planes.iter_mut().enumerate() {
            let samples = self.info.layout.plane(self.info.size, k).pixels() as usize;
            let mut bytes = vec![0; if bits > 8 { 2 * samples } else { samples }];
            self.input.read_exact(&mut bytes)?;
            *plane = match bits > 8 {
                true => bytes.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect(),
                false => bytes.into_iter().map(u16::from).collect(),
            };
        }
        Ok(Some(Yuv { planes }))
    }
}

impl Iterator for Y4mReader {
    type Item = Result<Yuv, MediaError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.done {
            return None;
        }
        match self.frame() {
            Ok(Some(frame)) => Some(Ok(frame)),
            Ok(None) => {
                self.done = true;
                None
            }
            Err(e) => {
                self.done = true;
                let reason = match e.kind() {
                    ErrorKind::UnexpectedEof => "it ends in the middle of a frame".into(),
                    _ => format!("it is damaged: {e}"),
                };
                Some(Err(MediaError::new(
                    &self.path,
                    reason,
                    "the frames before are whole; export it anew for the rest",
                )))
            }
        }
    }
}

/// The bytes up to the end of a line; none at the end of the file.
fn line(input: &mut dyn BufRead) -> std::io::Result<Vec<u8>> {
    let mut out = Vec::new();
    input.take(LINE).read_until(b'\n', &mut out)?;
    while out.last().is_some_and(|b| matches!(b, b'\n' | b'\r')) {
        out.pop();
    }
    Ok(out)
}

fn header(path: &Path, line: &[u8]) -> Result<ClipInfo, MediaError> {
    let wrong = |what: &str| {
        MediaError::new(path, format!("it is no Y4M clip that Evanu reads: {what}"), "export it anew")
    };
    let text = std::str::from_utf8(line).map_err(|_| wrong("its first line is no text"))?;
    let mut words = text.split(' ');
    if words.next().map(str::as_bytes) != Some(MARK) {
        return Err(wrong("it begins otherwise"));
    }
    let (mut width, mut height, mut rate, mut full) = (0, 0, (25, 1), false);
    let mut layout = Layout { bits: 8, across: 1, down: 1, grey: false };
    for word in words.filter(|w| !w.is_empty()) {
        let (tag, value) = word.split_at(1);
        match tag {
            "W" => width = value.parse().map_err(|_| wrong("its width is no number"))?,
            "H" => height = value.parse().map_err(|_| wrong("its height is no number"))?,
            "F" => {
                let parts = value.split_once(':').and_then(|(a, b)| Some((a.parse().ok()?, b.parse().ok()?)));
                rate = parts
                    .filter(|(a, b)| *a > 0 && *b > 0)
                    .ok_or_else(|| wrong("its rate is no fraction"))?;
            }
            "C" => {
                let name = match value {
                    "420jpeg" | "420mpeg2" | "420paldv" | "420" => "yuv420p".to_owned(),
                    "mono" => "gray".to_owned(),
                    mono if mono.starts_with("mono") => format!("gray{}", &mono[4..]),
                    other => match other.split_once('p') {
                        Some((shape, bits)) => format!("yuv{shape}p{bits}"),
                        None => format!("yuv{other}p"),
                    },
                };
                layout =
                    Layout::of_name(&name).ok_or_else(|| wrong(&format!("its samples lie as {value}")))?.0;
            }
            "X" => full |= value == "COLORRANGE=FULL",
            _ => {}
        }
    }
    let size = Size::new(width, height);
    check_size(path, size)?;
    Ok(ClipInfo {
        size,
        rate,
        frames: 0,
        seconds: None,
        layout,
        colour: Colour { matrix: Matrix::of("", size), full },
        rotation: 0,
        codec: "rawvideo".into(),
        bits_a_second: None,
        sound: false,
        tags: Default::default(),
        scale: rate.0,
    })
}

/// Writes frames as Y4M.
///
/// # Errors
/// When they cannot be written.
pub fn write_y4m(
    out: &mut dyn Write,
    info: &ClipInfo,
    frames: &mut dyn Iterator<Item = Yuv>,
) -> std::io::Result<()> {
    write_head(out, info)?;
    for frame in frames {
        write_frame(out, info, &frame)?;
    }
    Ok(())
}

/// A Y4M file that is being written; nothing is left of it unless it is finished.
pub struct Y4mWriter {
    path: PathBuf,
    part: PathBuf,
    out: BufWriter<File>,
    info: ClipInfo,
}

impl Y4mWriter {
    /// Begins one of frames as `info` says.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn create(path: &Path, info: &ClipInfo) -> Result<Self, MediaError> {
        let part = path.with_extension("y4m.part");
        let unwritable = |e: std::io::Error| MediaError::writing(path, &e);
        let mut out = BufWriter::with_capacity(1 << 20, File::create(&part).map_err(unwritable)?);
        write_head(&mut out, info).map_err(unwritable)?;
        Ok(Self { path: path.to_owned(), part, out, info: info.clone() })
    }

    /// Adds a frame.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn push(&mut self, frame: &Yuv) -> Result<(), MediaError> {
        write_frame(&mut self.out, &self.info, frame).map_err(|e| MediaError::writing(&self.path, &e))
    }

    /// Ends it, and gives it its name.
    ///
    /// # Errors
    /// When it could not be written whole.
    pub fn finish(mut self) -> Result<(), MediaError> {
        let done = self.out.flush().and_then(|()| std::fs::rename(&self.part, &self.path));
        done.map_err(|e| MediaError::writing(&self.path, &e))
    }
}

impl Drop for Y4mWriter {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.part); // it is there only when it was not finished
    }
}

fn write_head(out: &mut dyn Write, info: &ClipInfo) -> std::io::Result<()> {
    let Layout { bits, grey, .. } = info.layout;
    let name = info.layout.name();
    let shape = match (grey, bits) {
        (true, 8) => "mono".to_owned(),
        (true, bits) => format!("mono{bits}"),
        (false, 8) => name.trim_start_matches("yuv").trim_end_matches('p').to_owned(),
        (false, _) => name.trim_start_matches("yuv").trim_end_matches("le").to_owned(),
    };
    let shape = if shape == "420" { "420mpeg2" } else { &shape };
    let range = if info.colour.full { " XCOLORRANGE=FULL" } else { "" };
    let (w, h, (a, b)) = (info.size.width, info.size.height, info.rate);
    writeln!(out, "YUV4MPEG2 W{w} H{h} F{a}:{b} Ip A1:1 C{shape}{range}")
}

fn write_frame(out: &mut dyn Write, info: &ClipInfo, frame: &Yuv) -> std::io::Result<()> {
    out.write_all(b"FRAME\n")?;
    frame.planes.iter().try_for_each(|plane| out.write_all(&bytes(plane, info.layout.bits)))
}

/// Samples as a file holds them.
pub(super) fn bytes(plane: &[u16], bits: u8) -> Vec<u8> {
    match bits > 8 {
        true => plane.iter().flat_map(|v| v.to_le_bytes()).collect(),
        false => plane.iter().map(|v| *v as u8).collect(),
    }
}

/// Its place in the list of what can be read.
pub(crate) struct Y4mFormat;

/// The same as one value.
pub(crate) static FORMAT: Y4mFormat = Y4mFormat;

impl AssetFormat for Y4mFormat {
    fn recognises(&self, head: &[u8]) -> bool {
        head.starts_with(MARK)
    }

    fn open(&self, path: &Path) -> Result<Frames, MediaError> {
        let reader = Y4mReader::open(path)?;
        let ClipInfo { size, layout, colour, rate, .. } = reader.info.clone();
        let length = std::fs::metadata(path).map_or(0, |m| m.len());
        let samples: u64 = (0..3).map(|k| layout.plane(size, k).pixels()).sum();
        let frame = samples * if layout.bits > 8 { 2 } else { 1 } + 6;
        let every = super::ffmpeg::every(length / frame.max(1)) as usize;
        let pace = every as f64 * f64::from(rate.1) / f64::from(rate.0);
        Ok(Box::new(reader.step_by(every).enumerate().map(move |(k, frame)| {
            let samples = colour.picture(&frame?, size, layout);
            Ok(Decoded { size, samples, headroom: 1.0, camera: super::moment(k as f64 * pace) })
        })))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Cursor;

    fn reader(bytes: Vec<u8>) -> Result<Y4mReader, MediaError> {
        Y4mReader::new(Path::new("a.y4m"), Box::new(Cursor::new(bytes)))
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(w in 1u32..9, h in 1u32..9, bits in prop::sample::select(vec![8u8, 10, 16]), shape in 0usize..4, count in 0usize..4, cut in 0usize..40) {
            let layout = Layout { bits, across: (shape > 0).into(), down: (shape > 1).into(), grey: shape == 3 };
            let layout = if layout.grey { Layout { across: 0, down: 0, ..layout } } else { layout };
            let size = Size::new(w, h);
            let mut info = header(Path::new("a"), b"YUV4MPEG2 W1 H1 F30000:1001 XCOLORRANGE=FULL").unwrap();
            (info.size, info.layout) = (size, layout);
            let frame = |k: usize| Yuv { planes: std::array::from_fn(|c| (0..layout.plane(size, c).pixels()).map(|p| (p as u16 * 31 + k as u16) & layout.most()).collect()) };
            let mut out = Vec::new();
            write_y4m(&mut out, &info, &mut (0..count).map(frame)).unwrap();
            let read = reader(out.clone()).unwrap();
            prop_assert_eq!((read.info.size, read.info.layout, read.info.rate, read.info.colour.full), (size, layout, (30_000, 1001), true));
            let all: Vec<Yuv> = read.map(Result::unwrap).collect();
            prop_assert_eq!(all, (0..count).map(frame).collect::<Vec<_>>());
            // Cut off, the frames before are whole, and what is lost is said.
            if count > 0 && cut > 0 {
                let whole = out.len() - out.len().min(cut).min(out.len() - 60.min(out.len()));
                if let Ok(read) = reader(out[..whole].to_vec()) {
                    let all: Vec<_> = read.collect();
                    prop_assert!(all.iter().rev().skip(1).all(Result::is_ok));
                }
            }
        }
    }

    #[test]
    fn what_is_no_clip_is_told() {
        for (bytes, words) in [
            (&b"YUV4MPEG2 W0 H5 F25:1\n"[..], "no size"),
            (b"YUV4MPEG2 W5 H5 F0:0\n", "rate"),
            (b"YUV4MPEG2 W5 H5 C410\n", "410"),
            (b"YUV4MPEG2 W99999 H5\n", "no size"),
            (b"GIF89a", "begins otherwise"),
        ] {
            let error = reader(bytes.to_vec()).err().unwrap().to_string();
            assert!(error.contains(words), "{error}");
        }
        let mut cut = reader(b"YUV4MPEG2 W2 H2 F25:1\nFRAME\n123456FRAME\n12".to_vec()).unwrap();
        assert!(cut.next().unwrap().is_ok());
        assert!(cut.next().unwrap().unwrap_err().to_string().contains("in the middle of a frame"));
        assert!(cut.next().is_none());
    }
}
