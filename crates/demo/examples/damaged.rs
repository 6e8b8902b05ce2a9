//! Damages files of a kind and decodes them: `damaged KIND FROM TO AT`, inputs counted from 0, each the same in every run; the kinds
//! without arguments, and sound files of all of them into a folder with `damaged seeds FOLDER`. The file AT holds the input that is being decoded, so that whoever started this goes on after one that ended it
//! (`measure/attack.py decoders` does, within the limits of the program that reads files apart). At the end a line of JSON: how many were
//! taken for pictures, how many made a decoder panic, how many took longer than ten seconds, and the most memory in MB.
//!
//! Seeds are small pictures of every kind that is read; what is done to them is what a disk, a cable or an enemy does: bytes and bits that
//! are others, numbers that are extreme, parts cut, doubled and exchanged.

use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::Raster;
use evanu_demo::{sensor, write_dng};
use evanu_media::{CameraData, Format, Output, decode_bytes, write, write_light};
use std::convert::Infallible;
use std::error::Error;
use std::io::Cursor;
use std::os::unix::fs::FileExt;
use std::panic::catch_unwind;
use std::path::Path;
use std::time::{Duration, Instant};

const KINDS: [&str; 14] = [
    "jpeg",
    "png-8",
    "png-16",
    "tiff-8",
    "tiff-16",
    "exr",
    "dng",
    "turned.heic",
    "pq.heic",
    "ramp.avif",
    "ramp.jxl",
    "lossy.jxl",
    "lossy.webp",
    "ramp.webp",
];
const SIZE: Size = Size { width: 64, height: 48 };
const SLOW: Duration = Duration::from_secs(10);

fn main() -> Result<(), Box<dyn Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [seeds, folder] = &arguments[..]
        && seeds == "seeds"
    {
        for kind in KINDS {
            std::fs::write(Path::new(folder).join(kind), seed(kind)?)?;
        }
        return Ok(());
    }
    let [kind, from, to, at] = &arguments[..] else {
        println!("{}", KINDS.join(" "));
        return Ok(());
    };
    let whole = seed(kind)?;
    decode_bytes(Path::new(kind), &whole)?;
    std::panic::set_hook(Box::new(|_| {}));
    let at = std::fs::File::create(at)?;
    let (mut read, mut panics, mut slow) = (0, 0, 0);
    for input in from.parse::<u64>()?..to.parse()? {
        at.write_all_at(input.to_string().as_bytes(), 0)?;
        let bytes = damaged(&whole, input);
        let begin = Instant::now();
        match catch_unwind(|| decode_bytes(Path::new("damaged"), &bytes).is_ok()) {
            Ok(taken) => read += u64::from(taken),
            Err(_) => panics += 1,
        }
        slow += u64::from(begin.elapsed() > SLOW);
    }
    println!(r#"{{"read": {read}, "panics": {panics}, "slow": {slow}, "peak_mb": {}}}"#, peak_mb());
    Ok(())
}

/// The most memory that this program has used.
fn peak_mb() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with("VmHWM:"));
    let kilobytes = line.and_then(|l| l.split_whitespace().nth(1)).and_then(|v| v.parse::<u64>().ok());
    kilobytes.unwrap_or(0) / 1024
}

/// A sound file of a kind.
fn seed(kind: &str) -> Result<Vec<u8>, Box<dyn Error>> {
    let camera = CameraData { camera: Some("Hilltop One".into()), orientation: 6, ..CameraData::default() };
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("seed");
    let format = match kind {
        "jpeg" => Format::Jpeg { quality: 92 },
        "png-8" => Format::Png { sixteen: false },
        "png-16" => Format::Png { sixteen: true },
        "tiff-8" => Format::Tiff { sixteen: false },
        "tiff-16" => Format::Tiff { sixteen: true },
        "exr" => {
            write_light(&path, SIZE, Some(&camera), |r| Ok::<_, Infallible>(light(r)))?;
            return Ok(std::fs::read(path)?);
        }
        "dng" => {
            let mosaic: Vec<f32> =
                (0..SIZE.pixels()).map(|i| sensor([0.2; 3])[1] * (i % 7) as f32 / 7.0).collect();
            let mut out = Cursor::new(Vec::new());
            write_dng(&mut out, SIZE, &mosaic, &camera)?;
            return Ok(out.into_inner());
        }
        sample => {
            let samples = Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/samples");
            return Ok(std::fs::read(samples.join(sample))?);
        }
    };
    write(&path, &Output { format, size: SIZE, camera: Some(&camera.with_block()) }, |r| {
        let data = light(r).into_iter().map(|v| (65535.0 * v) as u16).collect();
        Ok::<_, Infallible>(Raster { size: r.size(), data })
    })?;
    Ok(std::fs::read(path)?)
}

/// Ramps with some grain.
fn light(r: Rect) -> Vec<f32> {
    let value = |i: usize| ((i * 37 + r.y as usize * 11) % 256) as f32 / 255.0;
    (0..3 * r.size().pixels() as usize).map(value).collect()
}

/// Numbers, each another one than the last (Steele and others 2014).
struct Numbers(u64);

impl Numbers {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// One below a bound.
    fn below(&mut self, bound: usize) -> usize {
        (self.next() % bound.max(1) as u64) as usize
    }

    /// A place in a file: mostly in its head, where numbers stand that lead a decoder.
    fn place(&mut self, length: usize) -> usize {
        let within = if self.below(3) > 0 { length.min(512) } else { length };
        self.below(within)
    }
}

/// A file after one to six accidents.
fn damaged(whole: &[u8], input: u64) -> Vec<u8> {
    const EXTREME: [u64; 8] = [0, 1, 0x7F, 0xFF, 0x7FFF, 0xFFFF, 0x7FFF_FFFF, 0xFFFF_FFFF];
    let mut numbers = Numbers(input.wrapping_mul(0xD129_0D3A_6E1B_35C7));
    let mut bytes = whole.to_vec();
    for _ in 0..1 + numbers.below(6) {
        let at = numbers.place(bytes.len());
        match numbers.below(7) {
            0 => bytes[at] ^= 1 << numbers.below(8),
            1 => bytes[at] = numbers.next() as u8,
            2 | 3 => {
                let value = EXTREME[numbers.below(EXTREME.len())];
                let width = [1, 2, 4][numbers.below(3)];
                let all = if numbers.below(2) == 0 {
                    value.to_le_bytes()
                } else {
                    (value << (64 - 8 * width)).to_be_bytes()
                };
                for (to, from) in bytes[at..].iter_mut().zip(&all[..width]) {
                    *to = *from;
                }
            }
            4 => bytes.truncate(at.max(16)),
            5 => {
                let part = bytes[at..(at + numbers.below(64)).min(bytes.len())].to_vec();
                let to = numbers.place(bytes.len());
                bytes.splice(to..to, part);
            }
            _ => {
                let end = (at + numbers.below(64)).min(bytes.len());
                bytes.drain(at..end);
            }
        }
        if bytes.is_empty() {
            break;
        }
    }
    bytes
}
