//! Where light changed between two frames: evenly, slowly over the picture, or here and there.
//!
//! The picture is cut into blocks. A block that shows the same structure in both frames (by normalised correlation, so
//! not a mover) tells by how many stops its light differs. A quadratic surface is fitted to these, which mistakes cannot lead: light that fell unevenly. What many blocks still have beyond it is light that was varied
//! on purpose, a lamp or a card, and no gain should level it.

use crate::geometry::surface::spread;
use crate::geometry::{Point, Size, Surface};
use crate::pixel::tone::luminance;

/// Blocks across and down.
const GRID: (usize, usize) = (20, 14);
/// A block shows the same structure above this correlation, if it has any: deviation of the roots of light.
const LEAST_CORRELATION: f32 = 0.75;
const STRUCTURE: f32 = 0.006;
/// Light too dark or too bright to compare.
const RANGE: std::ops::Range<f32> = 0.006..0.85;
/// Fewest blocks that tell anything.
const LEAST_BLOCKS: usize = 24;
/// A surface must span this many stops, and leave less than this share of the deviation.
const UNEVEN: f64 = 0.08;
pub(super) const LEAVES: f64 = 0.6;
/// Parts of the picture in none of which matching may raise the difference by more stops than this; and the fewest blocks that tell.
const PARTS: (usize, usize) = (4, 3);
const WORSE: f64 = 0.015;
const LEAST_IN_PART: usize = 4;
/// A block whose light differs by more stops than this has changed light of its own.
const LOCAL: f64 = 0.25;

/// What changed in a frame's light beside its gain.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Change {
    /// Stops to brighten by, over the reference, when the light fell unevenly.
    pub field: Option<Surface>,
    /// Share of the blocks with the same structure whose light differs all the same.
    pub local: f64,
}

/// Stops by which blocks of two pictures differ that show the same structure, with their middles over the reference.
pub(super) type Blocks = Vec<(Point, f64)>;

/// Compares linear light of two aligned pictures of `size`, laid over a reference of `full` size; `gain` brings `seen`
/// to `wanted` as a whole. Places that `seen` does not reach are zero.
pub(super) fn blocks(
    seen: &[Vec<f32>; 3],
    wanted: &[Vec<f32>; 3],
    (size, full): (Size, Size),
    gain: [f32; 3],
) -> Blocks {
    let light = |p: &[Vec<f32>; 3], g: [f32; 3], i: usize| luminance([0, 1, 2].map(|c| g[c] * p[c][i]));
    let (w, h) = (size.width as usize, size.height as usize);
    let scale = f64::from(full.width) / f64::from(size.width);
    let mut blocks = Vec::new();
    for k in 0..GRID.0 * GRID.1 {
        let part = |i: usize, of: usize, n: usize| i * n / of..(i + 1) * n / of;
        let (columns, rows) = (part(k % GRID.0, GRID.0, w), part(k / GRID.0, GRID.1, h));
        let middle = Point::new(
            scale * (columns.start + columns.end) as f64 / 2.0,
            scale * (rows.start + rows.end) as f64 / 2.0,
        );
        let pairs = rows.flat_map(|y| columns.clone().map(move |x| y * w + x));
        let pairs: Vec<(f32, f32)> = pairs
            .map(|i| (light(seen, gain, i), light(wanted, [1.0; 3], i)))
            .filter(|(a, b)| RANGE.contains(a) && RANGE.contains(b))
            .collect();
        if let Some(stops) = same_structure(&pairs) {
            blocks.push((middle, stops));
        }
    }
    blocks
}

/// What blocks tell of a change over a reference of `full` size.
pub(super) fn change(full: Size, blocks: &Blocks) -> Change {
    if blocks.len() < LEAST_BLOCKS {
        return Change::default();
    }
    let field = surface(full, blocks);
    let rest = |&(p, stops): &(Point, f64)| (stops - field.as_ref().map_or(0.0, |f| f.at(p))).abs();
    let local = blocks.iter().filter(|b| rest(b) > LOCAL).count() as f64 / blocks.len() as f64;
    Change { field, local }
}

/// How far seven of ten blocks are from the same light, in stops; `None` where they are too few to tell.
pub(super) fn left(blocks: &Blocks, field: Option<&Surface>) -> Option<f64> {
    let rest = |&(p, stops): &(Point, f64)| stops - field.map_or(0.0, |f| f.at(p));
    (blocks.len() >= LEAST_BLOCKS).then(|| spread(blocks.iter().map(rest)))
}

/// Whether the light differs more in some part of the picture than it did before: its blocks after and before.
pub(super) fn worse(full: Size, after: &Blocks, before: &Blocks) -> bool {
    let part = |p: &Point| {
        let at = |v: f64, n: u32, parts: usize| ((v / f64::from(n) * parts as f64) as usize).min(parts - 1);
        at(p.y, full.height, PARTS.1) * PARTS.0 + at(p.x, full.width, PARTS.0)
    };
    let middle = |blocks: &Blocks, k: usize| {
        let mut of: Vec<f64> = blocks.iter().filter(|b| part(&b.0) == k).map(|b| b.1.abs()).collect();
        of.sort_unstable_by(f64::total_cmp);
        (of.len() >= LEAST_IN_PART).then(|| of[of.len() / 2])
    };
    (0..PARTS.0 * PARTS.1).any(|k| {
        let both = middle(after, k).zip(middle(before, k));
        both.is_some_and(|(after, before)| after > before + WORSE)
    })
}

/// Stops from the first to the second of each pair of lights, when both show the same structure.
pub(crate) fn same_structure(pairs: &[(f32, f32)]) -> Option<f64> {
    if pairs.len() < 100 {
        return None;
    }
    let n = pairs.len() as f32;
    let mean = pairs.iter().fold((0.0, 0.0), |m, p| (m.0 + p.0.sqrt() / n, m.1 + p.1.sqrt() / n));
    let (mut aa, mut ab, mut bb) = (0.0f32, 0.0f32, 0.0f32);
    for p in pairs {
        let (a, b) = (p.0.sqrt() - mean.0, p.1.sqrt() - mean.1);
        (aa, ab, bb) = (aa + a * a, ab + a * b, bb + b * b);
    }
    let structured = (aa / n).sqrt() > STRUCTURE && (bb / n).sqrt() > STRUCTURE;
    if !structured || ab < LEAST_CORRELATION * (aa * bb).sqrt() {
        return None;
    }
    let mut ratios: Vec<f32> = pairs.iter().map(|(a, b)| b / a).collect();
    let middle = ratios.len() / 2;
    Some(f64::from(ratios.select_nth_unstable_by(middle, f32::total_cmp).1.log2()))
}

/// The slow change of light over the picture, when there is one and it explains most of what differs.
fn surface(full: Size, blocks: &[(Point, f64)]) -> Option<Surface> {
    let found = Surface::robust(full, blocks)?;
    let before = spread(blocks.iter().map(|b| b.1));
    let after = found.left(blocks);
    (found.span() > UNEVEN && after < LEAVES * before).then_some(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;

    const SIZE: Size = Size { width: 300, height: 210 };

    /// A textured wall and the same under other light.
    fn walls(light: impl Fn(f64, f64) -> f64) -> ([Vec<f32>; 3], [Vec<f32>; 3]) {
        let mut random = Random::new(4);
        let (mut seen, mut wanted) = (Vec::new(), Vec::new());
        for k in 0..SIZE.pixels() {
            let (x, y) = ((k % 300) as f64 / 300.0, (k / 300) as f64 / 210.0);
            let stone = 0.1 + 0.1 * random.unit();
            let noise = 1.0 + 0.01 * random.normal();
            wanted.push((stone * noise) as f32);
            seen.push((stone / light(x, y).exp2()) as f32);
        }
        ([seen.clone(), seen.clone(), seen], [wanted.clone(), wanted.clone(), wanted])
    }

    fn compare(seen: &[Vec<f32>; 3], wanted: &[Vec<f32>; 3]) -> Change {
        change(SIZE, &blocks(seen, wanted, (SIZE, SIZE), [1.0; 3]))
    }

    #[test]
    fn even_light_needs_no_surface() {
        let (a, b) = walls(|_, _| 0.0);
        assert_eq!(compare(&a, &b), Change::default());
    }

    #[test]
    fn light_that_falls_off_is_found_as_it_fell() {
        let (a, b) = walls(|x, y| 0.5 * x - 0.3 * y);
        let change = compare(&a, &b);
        let field = change.field.unwrap();
        for (x, y) in [(30.0, 30.0), (250.0, 40.0), (150.0, 180.0)] {
            let truth = 0.5 * x / 300.0 - 0.3 * y / 210.0;
            assert!((field.at(Point::new(x, y)) - truth).abs() < 0.02, "{x} {y}");
        }
        assert!(change.local < 0.02);
    }

    #[test]
    fn a_lamp_is_local_and_a_passer_by_is_not() {
        let (a, b) = walls(|x, y| if (x - 0.5).hypot(y - 0.5) < 0.3 { 1.0 } else { 0.0 });
        assert!(compare(&a, &b).local > 0.12);
        let (mut a, b) = walls(|_, _| 0.0);
        let mut random = Random::new(9);
        for plane in &mut a {
            for y in 50..180 {
                (100..180).for_each(|x| plane[y * 300 + x] = 0.05 + 0.1 * random.unit() as f32);
            }
        }
        assert!(compare(&a, &b).local < 0.02);
    }
}
