//! Combined pixels, and how they are cut into blocks and put together again.

use crate::combine::consensus::LayerData;
use crate::geometry::{Rect, Size};
use crate::pixel::Raster;
use std::borrow::Cow;

/// Pixels between two stages: planar root codes of light, red, green and blue.
pub type Plate = [Vec<u16>; 3];

/// For each channel, the code that each root code becomes.
pub(super) type Tables = [Cow<'static, [u16]>; 3];

/// Widest block, in pixels.
const BLOCK: u32 = 256;
/// Bytes that the aligned samples of one block may take.
const BUDGET: usize = 5 << 20;
/// Rows of a block of which no samples are kept: the fewer blocks, the fewer rows are made twice.
pub(super) const TALL: i64 = 192;

/// Rows of a block that holds the samples of this many frames.
pub(super) fn rows_of(frames: usize) -> i64 {
    (BUDGET / (6 * BLOCK as usize * frames.max(1))).clamp(8, 96) as i64
}

/// Cuts a region into blocks of some rows.
pub(super) fn blocks(region: Rect, rows: i64) -> Vec<Rect> {
    let mut out = Vec::new();
    let mut y = region.y;
    while y < region.bottom() {
        let mut x = region.x;
        while x < region.right() {
            out.push(Rect::new(x, y, BLOCK, rows as u32).intersect(region));
            x += i64::from(BLOCK);
        }
        y += rows;
    }
    out
}

/// Black pixels.
pub(super) fn black(size: Size) -> Plate {
    [0; 3].map(|_| vec![0; size.pixels() as usize])
}

/// Nothing over a block.
pub(super) fn empty(block: Rect) -> LayerData {
    LayerData { planes: black(block.size()), spans: vec![(0, 0); block.height as usize] }
}

/// Pixels that reach everywhere, as a layer.
pub(super) fn layer_of(planes: Plate, size: Size) -> LayerData {
    LayerData { planes, spans: vec![(0, size.width); size.height as usize] }
}

/// Takes a part of a block's planes from those of another block.
pub(super) fn paste(planes: &mut Plate, block: Rect, others: &Plate, theirs: Rect, part: Rect) {
    let width = part.width as usize;
    let at =
        |block: Rect, y: i64| (y - block.y) as usize * block.width as usize + (part.x - block.x) as usize;
    for y in part.y..part.bottom() {
        for (plane, other) in planes.iter_mut().zip(others) {
            plane[at(block, y)..][..width].copy_from_slice(&other[at(theirs, y)..][..width]);
        }
    }
}

/// Interleaved codes of a plate of this size; as they are without tables.
pub(super) fn encoded(size: Size, [r, g, b]: &Plate, tables: Option<&Tables>) -> Raster {
    let mut out = Raster::new(size);
    let pixels = out.data.chunks_exact_mut(3).enumerate();
    match tables {
        Some([tr, tg, tb]) => {
            for (i, o) in pixels {
                o[0] = tr[usize::from(r[i])];
                o[1] = tg[usize::from(g[i])];
                o[2] = tb[usize::from(b[i])];
            }
        }
        None => pixels.for_each(|(i, o)| o.copy_from_slice(&[r[i], g[i], b[i]])),
    }
    out
}

/// Blocks of a region as one picture.
pub(super) fn join(region: Rect, blocks: &[Rect], parts: &[Raster]) -> Raster {
    let mut out = Raster::new(region.size());
    let parts: Vec<&[u16]> = parts.iter().map(|p| &p.data[..]).collect();
    place(&mut out.data, region, blocks, &parts);
    out
}

/// Puts interleaved blocks in their places.
pub(super) fn place<T: Copy, P: AsRef<[T]>>(out: &mut [T], region: Rect, blocks: &[Rect], parts: &[P]) {
    let stride = 3 * region.width as usize;
    for (block, part) in blocks.iter().zip(parts) {
        let (x, y) = (3 * (block.x - region.x) as usize, (block.y - region.y) as usize);
        for (r, row) in part.as_ref().chunks_exact(3 * block.width as usize).enumerate() {
            out[(y + r) * stride + x..][..row.len()].copy_from_slice(row);
        }
    }
}
