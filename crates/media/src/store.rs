//! Frames as tiled pyramids on disk.
//!
//! A file holds a head (sides, kind of samples, headroom) and, level after level, tiles of 128×128 RGB samples of 8 or
//! 16 bits (edge tiles are full size too, so that every offset is arithmetic). A tile is a row of strips of 16 rows, each followed by its
//! CRC-32, begun with the strip's place: what was damaged, cut or put elsewhere is never shown. Regions are read with positioned reads of
//! just the strips they need, checked each time; the kernel's page cache does the rest. A memory map would save one copy, but its pages count as the
//! process's memory, and the promise is that memory does not grow with the number of frames.

use crate::camera::CameraData;
use crate::error::MediaError;
use crate::read::Decoded;
use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::{Depth, FrameSource, Samples, SourceError, halve};
use std::cell::RefCell;
use std::fs::File;
use std::io::Write;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

const TILE: u32 = 128;
const MAGIC: &[u8; 8] = b"evanuPY4";
const HEAD: u64 = 32;
/// Rows that are checked together.
const STRIP: u32 = 16;
const STRIPS: u32 = TILE / STRIP;
const CHECK: usize = 4;

/// A frame's pyramid on disk.
#[derive(Debug)]
pub struct TiledFrame {
    path: PathBuf,
    file: File,
    size: Size,
    depth: Depth,
    headroom: f32,
    /// Byte offset of each level.
    offsets: Vec<u64>,
}

fn levels_of(size: Size) -> u32 {
    // Down to one tile of which every pixel still stands for something.
    (0..)
        .find(|&k| {
            let s = size.at_level(k);
            s.width.max(s.height) <= 64
        })
        .unwrap_or(0)
        + 1
}

fn bytes_per_pixel(depth: Depth) -> usize {
    if depth == Depth::Eight { 3 } else { 6 }
}

/// Of a strip with its check.
fn bytes_per_strip(depth: Depth) -> usize {
    (TILE * STRIP) as usize * bytes_per_pixel(depth) + CHECK
}

fn bytes_per_tile(depth: Depth) -> usize {
    STRIPS as usize * bytes_per_strip(depth)
}

/// The check of a strip's samples, or of the head; the place keeps apart what is alike.
fn check(place: u64, bytes: &[u8]) -> [u8; CHECK] {
    let mut hasher = crc32fast::Hasher::new_with_initial(place as u32);
    hasher.update(bytes);
    hasher.finalize().to_le_bytes()
}

fn tiles(size: Size) -> (u32, u32) {
    (size.width.div_ceil(TILE), size.height.div_ceil(TILE))
}

/// Writes the pyramid of a decoded frame to `store` (whole or not at all); returns what the camera wrote.
///
/// # Errors
/// When the pyramid cannot be written.
pub fn store_frame(frame: Decoded, store: &Path) -> Result<(Size, CameraData), MediaError> {
    let Decoded { size, samples, headroom, camera } = frame;
    write_pyramid(size, samples, headroom, store).map_err(|e| MediaError::writing(store, &e))?;
    Ok((size, camera))
}

fn write_pyramid(size: Size, samples: Samples, headroom: f32, store: &Path) -> std::io::Result<()> {
    let folder = store.parent().unwrap_or(Path::new("."));
    let mut file = tempfile::Builder::new().prefix(".pyramid-").tempfile_in(folder)?;
    {
        let out = file.as_file_mut();
        let mut head = MAGIC.to_vec();
        head.extend(size.width.to_le_bytes());
        head.extend(size.height.to_le_bytes());
        head.extend((samples.depth() as u32).to_le_bytes());
        head.extend(headroom.to_le_bytes());
        head.resize(HEAD as usize - CHECK, 0);
        head.extend(check(0, &head));
        out.write_all(&head)?;
        let (mut s, mut level, mut at) = (size, samples, HEAD);
        for k in 0..levels_of(size) {
            if k > 0 {
                level = halve(s, &level);
                s = s.at_level(1);
            }
            at = write_level(out, s, &level, at)?;
        }
    }
    file.persist(store).map_err(|e| e.error)?;
    Ok(())
}

/// Writes a level at an offset of the file and returns where it ends.
fn write_level(out: &mut impl Write, size: Size, level: &Samples, mut at: u64) -> std::io::Result<u64> {
    let (across, down) = tiles(size);
    let strip = bytes_per_strip(level.depth());
    let stride = TILE as usize * bytes_per_pixel(level.depth());
    let mut tile = vec![0u8; bytes_per_tile(level.depth())];
    let width = size.width as usize;
    for (ty, tx) in (0..down).flat_map(|y| (0..across).map(move |x| (y, x))) {
        let columns = TILE.min(size.width - tx * TILE) as usize;
        for y in 0..TILE.min(size.height - ty * TILE) {
            let from = 3 * ((ty * TILE + y) as usize * width + (tx * TILE) as usize);
            let row = (y / STRIP) as usize * strip + (y % STRIP) as usize * stride;
            match level {
                Samples::Eight(d) => tile[row..][..3 * columns].copy_from_slice(&d[from..from + 3 * columns]),
                Samples::Sixteen(d) | Samples::Wide(d) => {
                    for (o, v) in tile[row..][..6 * columns].chunks_exact_mut(2).zip(&d[from..]) {
                        o.copy_from_slice(&v.to_le_bytes());
                    }
                }
            }
        }
        for strip in tile.chunks_exact_mut(strip) {
            let (samples, checked) = strip.split_at_mut(STRIP as usize * stride);
            checked.copy_from_slice(&check(at, samples));
            at += strip.len() as u64;
        }
        out.write_all(&tile)?;
    }
    Ok(at)
}

impl TiledFrame {
    /// The reason why a pyramid that another Evanu made is not opened.
    pub const OTHER_VERSION: &str = "it is no cached frame of this version";

    /// Opens a pyramid.
    ///
    /// # Errors
    /// When the file is missing, damaged or cut short; it can then be made anew from the original.
    pub fn open(path: &Path) -> Result<Self, MediaError> {
        let bad = |reason: &str| MediaError::new(path, reason, "delete the cache folder; it is made anew");
        let file = File::open(path).map_err(|e| MediaError::reading(path, &e))?;
        let mut head = [0u8; HEAD as usize];
        file.read_exact_at(&mut head, 0).map_err(|_| bad("the cached frame is cut short"))?;
        let word = |i: usize| u32::from_le_bytes([head[i], head[i + 1], head[i + 2], head[i + 3]]);
        if &head[..8] != MAGIC {
            return Err(bad(Self::OTHER_VERSION));
        }
        if head[HEAD as usize - CHECK..] != check(0, &head[..HEAD as usize - CHECK]) {
            return Err(bad("the cached frame is damaged"));
        }
        let size = Size::new(word(8), word(12));
        let depth = match word(16) {
            0 => Depth::Eight,
            1 => Depth::Sixteen,
            2 => Depth::Wide,
            _ => return Err(bad(Self::OTHER_VERSION)),
        };
        let headroom = f32::from_bits(word(20));
        let mut offsets = vec![HEAD];
        for k in 0..levels_of(size) {
            let (a, d) = tiles(size.at_level(k));
            offsets.push(offsets[k as usize] + u64::from(a) * u64::from(d) * bytes_per_tile(depth) as u64);
        }
        let length = file.metadata().map_err(|e| MediaError::reading(path, &e))?.len();
        if offsets.pop() != Some(length) {
            return Err(bad("the cached frame is cut short"));
        }
        Ok(Self { path: path.to_owned(), file, size, depth, headroom, offsets })
    }
}

impl FrameSource for TiledFrame {
    fn size(&self) -> Size {
        self.size
    }

    fn levels(&self) -> u32 {
        self.offsets.len() as u32
    }

    fn depth(&self) -> Depth {
        self.depth
    }

    fn headroom(&self) -> f32 {
        self.headroom
    }

    fn read(&self, level: u32, region: Rect) -> Result<Samples, SourceError> {
        let size = self.size.at_level(level);
        if region.intersect(size.rect()) != region || region.is_empty() {
            return Err(SourceError(format!("{}: region {region:?} lies outside", self.path.display())));
        }
        let sample = if self.depth == Depth::Eight { 1usize } else { 2 };
        let mut bytes = Vec::with_capacity(3 * sample * region.size().pixels() as usize);
        PARTS.with_borrow_mut(|parts| self.rows(level, region, parts, &mut bytes))?;
        let wide = |bytes: &[u8]| bytes.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect();
        Ok(match self.depth {
            Depth::Eight => Samples::Eight(bytes),
            Depth::Sixteen => Samples::Sixteen(wide(&bytes)),
            Depth::Wide => Samples::Wide(wide(&bytes)),
        })
    }
}

thread_local! {
    /// What is read of the tiles beside each other; kept, because clearing it for each region costs.
    static PARTS: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

impl TiledFrame {
    /// Appends the stored rows of a region, without gaps; `parts` is memory to read into.
    fn rows(
        &self,
        level: u32,
        region: Rect,
        parts: &mut Vec<u8>,
        out: &mut Vec<u8>,
    ) -> Result<(), SourceError> {
        let (across, _) = tiles(self.size.at_level(level));
        let tile = i64::from(TILE);
        let (whole, pixel) = (bytes_per_tile(self.depth), bytes_per_pixel(self.depth));
        let (strip, stride) = (bytes_per_strip(self.depth), TILE as usize * pixel);
        let failed = |what: &str| SourceError(format!("{}: {what}", self.path.display()));
        let columns: Vec<i64> = (region.x / tile..=(region.right() - 1) / tile).collect();
        parts.resize(parts.len().max(columns.len() * whole), 0);
        for ty in region.y / tile..=(region.bottom() - 1) / tile {
            let part = |tx: i64| Rect::new(tx * tile, ty * tile, TILE, TILE).intersect(region);
            let first = (part(columns[0]).y - ty * tile) as usize;
            let end = first + part(columns[0]).height as usize;
            let rows = STRIP as usize;
            let strips = first / rows..end.div_ceil(rows);
            for (&tx, memory) in columns.iter().zip(parts.chunks_exact_mut(whole)) {
                let index = ty as u64 * u64::from(across) + tx as u64;
                let at = self.offsets[level as usize] + index * whole as u64 + (strips.start * strip) as u64;
                let memory = &mut memory[..strips.len() * strip];
                self.file
                    .read_exact_at(memory, at)
                    .map_err(|e| failed(&format!("the cached frame cannot be read ({e})")))?;
                let mut places = (at..).step_by(strip);
                for (strip, place) in memory.chunks_exact(strip).zip(&mut places) {
                    let (samples, checked) = strip.split_at(strip.len() - CHECK);
                    if check(place, samples) != checked {
                        return Err(failed("the cached frame is damaged"));
                    }
                }
            }
            for y in first..end {
                let row = (y / rows - strips.start) * strip + y % rows * stride;
                for (&tx, memory) in columns.iter().zip(parts.chunks_exact(whole)) {
                    let part = part(tx);
                    let inside = (part.x - tx * tile) as usize * pixel;
                    out.extend_from_slice(&memory[row + inside..][..part.width as usize * pixel]);
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::pixel::MemoryFrame;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn the_pyramid_on_disk_is_the_one_in_memory(
            w in 1u32..700, h in 1u32..600, kind in 0..3, fx in 0.0..1.0f64, fy in 0.0..1.0f64, k in 0u32..4
        ) {
            let size = Size::new(w, h);
            let n = 3 * size.pixels() as usize;
            let codes = || (0..n).map(|i| (i * 7919 % 65536) as u16).collect();
            let samples = match kind {
                0 => Samples::Eight((0..n).map(|i| (i * 7919 % 251) as u8).collect()),
                1 => Samples::Sixteen(codes()),
                _ => Samples::Wide(codes()),
            };
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("frame");
            write_pyramid(size, samples.clone(), 2.5, &path).unwrap();
            let (disk, memory) = (TiledFrame::open(&path).unwrap(), MemoryFrame::new(size, samples));
            prop_assert_eq!(disk.headroom(), 2.5);
            let k = k.min(disk.levels() - 1);
            let s = size.at_level(k);
            let (x, y) = ((fx * f64::from(s.width)) as u32, (fy * f64::from(s.height)) as u32);
            let region = Rect::new(i64::from(x), i64::from(y), s.width - x, s.height - y);
            prop_assert_eq!(disk.read(k, region).unwrap(), memory.read(k, region).unwrap());
        }
    }

    #[test]
    fn a_byte_that_changed_is_never_shown() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("frame");
        let size = Size::new(300, 200);
        write_pyramid(size, Samples::Eight(vec![9; 180_000]), 1.0, &path).unwrap();
        let whole = std::fs::read(&path).unwrap();
        let read = |bytes: &[u8]| -> Result<Vec<Samples>, String> {
            std::fs::write(&path, bytes).unwrap();
            let frame = TiledFrame::open(&path).map_err(|e| e.to_string())?;
            let level = |k| frame.read(k, size.at_level(k).rect()).map_err(|e| e.to_string());
            (0..frame.levels()).map(level).collect()
        };
        let shown = read(&whole).unwrap();
        let (mut random, mut refused) = (1u64, 0);
        for _ in 0..200 {
            random = random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let mut bytes = whole.clone();
            let at = (random >> 33) as usize % bytes.len();
            bytes[at] ^= 1 << (random >> 30 & 7);
            // What lies beyond the picture's edge is never read.
            match read(&bytes) {
                Ok(same) => assert_eq!(same, shown, "byte {at}"),
                Err(_) => refused += 1,
            }
        }
        assert!(refused > 100, "{refused}");
        // Two strips that look alike, but for where they are.
        let strip = bytes_per_strip(Depth::Eight);
        let mut bytes = whole.clone();
        let (one, other) = bytes[HEAD as usize..].split_at_mut(strip);
        one.swap_with_slice(&mut other[..strip]);
        assert!(read(&bytes).unwrap_err().contains("damaged"));
    }

    #[test]
    fn a_cut_pyramid_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("frame");
        write_pyramid(Size::new(300, 200), Samples::Eight(vec![9; 180_000]), 1.0, &path).unwrap();
        File::options().write(true).open(&path).unwrap().set_len(5000).unwrap();
        assert!(TiledFrame::open(&path).unwrap_err().to_string().contains("cut short"));
    }
}
