//! The directories of a TIFF and of what is built like one: a few numbers read from them, and whether they are sound.
//!
//! Decoders believe what a directory says and allocate by it. [`check`] walks them all first, and costs nothing beside decoding.

use super::picture::MAX_PIXELS;
use std::collections::HashSet;

/// The bytes of a file that is built like a TIFF.
pub(super) struct Directories<'a> {
    bytes: &'a [u8],
    little: bool,
}

/// An entry of a directory.
#[derive(Clone, Copy)]
pub(super) struct Entry {
    /// What it tells.
    pub tag: u16,
    /// Its first value, when that is short or long and stands in the entry itself.
    pub value: u32,
    kind: u32,
    count: u32,
}

impl Entry {
    /// How many bytes its values have.
    fn length(&self) -> u64 {
        let one = match self.kind {
            3 | 8 => 2,
            4 | 9 | 11 | 13 => 4,
            5 | 10 | 12 => 8,
            _ => 1,
        };
        one * u64::from(self.count)
    }
}

impl<'a> Directories<'a> {
    /// Takes a whole file, or its beginning.
    pub(super) fn of(bytes: &'a [u8]) -> Self {
        Self { bytes, little: bytes.first() == Some(&b'I') }
    }

    fn number(&self, at: usize, length: usize) -> Option<u32> {
        let part = self.bytes.get(at..at.checked_add(length)?)?;
        let digit = |v: u32, b: &u8| v << 8 | u32::from(*b);
        Some(if self.little { part.iter().rev().fold(0, digit) } else { part.iter().fold(0, digit) })
    }

    /// Where the first directory stands.
    fn first_at(&self) -> Option<usize> {
        self.number(4, 4).map(|v| v as usize)
    }

    /// The entries of the directory that stands at a byte, as far as there are any, and the byte of the one after it (0 for none).
    fn at(&self, start: usize) -> (Vec<Entry>, usize) {
        let count = self.number(start, 2).unwrap_or(0) as usize;
        let entry = |k: usize| {
            let at = start + 2 + 12 * k;
            let kind = self.number(at + 2, 2)?;
            let value = self.number(at + 8, if kind == 3 { 2 } else { 4 })?;
            Some(Entry { tag: self.number(at, 2)? as u16, value, kind, count: self.number(at + 4, 4)? })
        };
        let next = self.number(start.saturating_add(2 + 12 * count), 4).unwrap_or(0) as usize;
        ((0..count).map_while(entry).collect(), next)
    }

    /// The entries of the first directory; empty when there is none.
    pub(super) fn first(&self) -> Vec<Entry> {
        self.first_at().map_or_else(Vec::new, |start| self.at(start).0)
    }

    /// Whether all directories are sound: each is read once, and no entry has more values than the file has bytes,
    /// and no picture more pixels than are taken.
    ///
    /// # Errors
    /// What is wrong, in words.
    pub(super) fn check(&self) -> Result<(), &'static str> {
        const PICTURE: [u16; 2] = [256, 257];
        const TILE: [u16; 2] = [322, 323];
        const SAMPLES: u16 = 277;
        const SUB_DIRECTORIES: u16 = 330;
        const EXIF: u16 = 34_665;
        const GPS: u16 = 34_853;
        let mut open: Vec<usize> = self.first_at().into_iter().collect();
        let mut seen = HashSet::new();
        while let Some(start) = open.pop() {
            if !seen.insert(start) {
                return Err("its directories lead in a circle");
            }
            let (entries, next) = self.at(start);
            if next > 0 {
                open.push(next);
            }
            let side =
                |tag: u16| entries.iter().find(|e| e.tag == tag).map_or(1, |e| u64::from(e.value.max(1)));
            let samples = |[width, height]: [u16; 2]| {
                side(width).saturating_mul(side(height)).saturating_mul(side(SAMPLES))
            };
            if [PICTURE, TILE].into_iter().any(|sides| samples(sides) > 4 * MAX_PIXELS) {
                return Err("a directory announces more pixels than Evanu takes");
            }
            for entry in entries {
                if entry.length() > self.bytes.len() as u64 {
                    return Err("a directory announces more than the file holds");
                }
                match entry.tag {
                    SUB_DIRECTORIES if entry.count > 1 => {
                        let at = |k: u32| self.number(entry.value as usize + 4 * k as usize, 4);
                        open.extend((0..entry.count).map_while(at).map(|v| v as usize));
                    }
                    SUB_DIRECTORIES | EXIF | GPS => open.push(entry.value as usize),
                    _ => {}
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::Directories;

    /// A file of one directory with these entries (tag, kind, count, value), and where the next one stands.
    fn file(entries: &[(u16, u16, u32, u32)], next: u32) -> Vec<u8> {
        let mut bytes = b"II*\0\x08\0\0\0".to_vec();
        bytes.extend((entries.len() as u16).to_le_bytes());
        for (tag, kind, count, value) in entries {
            bytes.extend(tag.to_le_bytes());
            bytes.extend(kind.to_le_bytes());
            bytes.extend(count.to_le_bytes());
            bytes.extend(value.to_le_bytes());
        }
        bytes.extend(next.to_le_bytes());
        bytes
    }

    #[test]
    fn sound_directories_are_read_in_either_order_of_bytes() {
        let little = file(&[(256, 3, 1, 640), (257, 4, 1, 480)], 0);
        let values = |bytes: &[u8]| {
            Directories::of(bytes).first().iter().map(|e| (e.tag, e.value)).collect::<Vec<_>>()
        };
        assert_eq!(values(&little), [(256, 640), (257, 480)]);
        assert_eq!(Directories::of(&little).check(), Ok(()));
        let big = b"MM\0*\0\0\0\x08\0\x01\x01\0\0\x03\0\0\0\x01\x02\x80\0\0\0\0\0\0";
        assert_eq!(values(big), [(256, 640)]);
        assert_eq!(Directories::of(big).check(), Ok(()));
    }

    #[test]
    fn directories_that_announce_too_much_or_lead_in_a_circle_are_told() {
        let huge = file(&[(273, 4, u32::MAX, 8)], 0);
        assert_eq!(Directories::of(&huge).check(), Err("a directory announces more than the file holds"));
        for sides in [[256, 257], [322, 323]] {
            let wide = file(&sides.map(|tag| (tag, 4, 1, 600_000)), 0);
            assert_eq!(
                Directories::of(&wide).check(),
                Err("a directory announces more pixels than Evanu takes")
            );
        }
        let circle = file(&[(256, 3, 1, 640)], 8);
        assert_eq!(Directories::of(&circle).check(), Err("its directories lead in a circle"));
        let within = file(&[(330, 4, 1, 8)], 0);
        assert_eq!(Directories::of(&within).check(), Err("its directories lead in a circle"));
    }

    #[test]
    fn any_cut_of_a_file_is_read_without_a_panic() {
        let whole = file(&[(330, 4, 3, 20), (34_665, 4, 1, 60), (273, 4, 2, 8)], 4_000_000_000);
        for length in 0..whole.len() {
            let _ = Directories::of(&whole[..length]).check();
            let _ = Directories::of(&whole[..length]).first();
        }
    }
}
