//! The average of the frames that a choice holds at each place of a block, one frame after another.
//!
//! Where the choice changes from one pixel of its picture to the next, so does the average, evenly. Frames are added in the
//! choice's order, so that the order they came in is no matter. What is averaged shows the same but for noise, so it is averaged
//! where noise is even and as often above as below: not in light but in its generalised Anscombe transform, the root of light and a
//! constant (Starck, Murtagh and Bijaoui 1998), which also lies near to the codes in which files round and clips are coded. In light
//! their mean would be too bright where it is dark. Samples that are kept and those just made give the same bits. Cost: a root and two
//! multiplications a sample that is chosen; memory: twelve bytes a pixel of the block, however many frames there are.

use super::plate::Plate;
use crate::combine::Row;
use crate::combine::consensus::{self, LabelMap};
use crate::geometry::Grid;
use std::ops::Range;

/// Columns of a row in which the same frames are averaged, or go over from some to others.
struct Cell {
    from: usize,
    to: usize,
    /// For each layer, its weight at the pixels of the choice above left, above right, below left and below right.
    weights: Vec<[f32; 4]>,
}

/// The same without what the layers cover: whether a layer is held there, by corner.
struct Piece {
    from: usize,
    to: usize,
    /// Whether all four corners chose the same.
    even: bool,
    held: Vec<[bool; 4]>,
}

/// Pixels of the choice's picture that a pixel lies between, and how near it is to the second.
type Between = (usize, usize, f32);

/// Sums over a block, to which its layers are added.
pub(super) struct Average {
    width: usize,
    /// Where each layer's frame stands in the choice.
    slots: Vec<Option<usize>>,
    /// What is done along rows, and which of it along each; rows that are not asked for come last, with none.
    cells: Vec<Vec<Cell>>,
    of_row: Vec<usize>,
    /// How far each column, and each row, is from the pixel of the choice before it to the one after it.
    across: Vec<f32>,
    down: Vec<f32>,
    sums: [Vec<f32>; 3],
}

impl Average {
    /// Sums for layers that cover these `spans` of each row of a block. `held` are the choice's inliers or its crowd. Nothing is made of
    /// rows and columns beyond those of `area`.
    pub(super) fn new(
        (choice, held): (&LabelMap, &[u64]),
        frames: &[usize],
        spans: &[&[(u32, u32)]],
        block: &Grid,
        area: (Range<usize>, Range<usize>),
    ) -> Self {
        let (w, h) = (block.rect.width as usize, block.rect.height as usize);
        let slots: Vec<Option<usize>> =
            frames.iter().map(|f| choice.frames.iter().position(|g| g == f)).collect();
        let between = |v: f64, n: u32| -> Between {
            let v = v.clamp(0.0, f64::from(n - 1));
            let low = v.floor();
            (low as usize, (low as usize + 1).min(n as usize - 1), (v - low) as f32)
        };
        let of = choice.grid;
        let columns: Vec<Between> =
            (0..w).map(|x| between(of.column(block.x(x as f64)), of.rect.width)).collect();
        let rows: Vec<Between> = (0..h).map(|y| between(of.row(block.y(y as f64)), of.rect.height)).collect();
        let (mut cells, mut of_row) = (Vec::new(), vec![usize::MAX; h]);
        let (mut pieces, mut last) = (Vec::new(), None);
        for y in area.0 {
            // Several rows in turn lie between the same two of the choice, and mostly the same layers cover them.
            let covered: Vec<(u32, u32)> = spans.iter().map(|s| s[y]).collect();
            let top = rows[y].0;
            if last.as_ref().is_none_or(|(t, _)| *t != top) {
                pieces = pieces_of((choice, held), &columns, (top, rows[y].1), &slots);
            }
            if last.as_ref().is_none_or(|(t, c)| (*t, c) != (top, &covered)) {
                cells.push(cells_of(&pieces, &covered, &area.1));
                last = Some((top, covered));
            }
            of_row[y] = cells.len() - 1;
        }
        let fractions = |v: &[Between]| v.iter().map(|b| b.2).collect();
        let sums = [0; 3].map(|_| vec![0.0; w * h]);
        Self { width: w, slots, cells, of_row, across: fractions(&columns), down: fractions(&rows), sums }
    }

    /// The layers that have to be added, in the order in which they have to be.
    pub(super) fn layers(&self) -> Vec<usize> {
        let counts = |&k: &usize| self.cells.iter().flatten().any(|c| c.weights[k] != [0.0; 4]);
        let mut layers: Vec<usize> = (0..self.slots.len()).filter(counts).collect();
        layers.sort_by_key(|&k| self.slots[k]);
        layers
    }

    /// Adds root codes of a layer along a whole row.
    pub(super) fn add(&mut self, layer: usize, row: usize, codes: Row<'_>) {
        self.each(layer, row, (0, self.width), |sums, at, weight| {
            for (sum, codes) in sums.into_iter().zip(codes) {
                vector::add(sum, &codes[at.clone()], &weight);
            }
        });
    }

    /// Adds light of a layer along a row from a column on, as it would be kept in root codes; each channel times a gain.
    pub(super) fn add_light(
        &mut self,
        layer: usize,
        (row, from): (usize, usize),
        light: [&[f32]; 3],
        gain: [f32; 3],
    ) {
        self.each(layer, row, (from, from + light[0].len()), |sums, at, weight| {
            let at = at.start - from..at.end - from;
            for ((sum, light), gain) in sums.into_iter().zip(light).zip(gain) {
                vector::add_light(sum, &light[at.clone()], gain, &weight);
            }
        });
    }

    /// Moves the sums of a row, when all layers are added, towards root codes of a layer as far as `weights` say; only where the
    /// layer is among those that were averaged.
    pub(super) fn keep(&mut self, layer: usize, row: usize, codes: Row<'_>, weights: &[f32]) {
        let Some(cells) = self.cells.get(self.of_row[row]) else { return };
        let (down, start) = (self.down[row], row * self.width);
        for cell in cells {
            let [a, b, c, d] = cell.weights[layer].map(|w| f32::from(u8::from(w > 0.0)));
            if [a, b, c, d] == [0.0; 4] {
                continue;
            }
            let (left, right) = ((1.0 - down) * a + down * c, (1.0 - down) * b + down * d);
            let (from, to) = (cell.from, cell.to);
            let held = Weight { left, rise: right - left, across: &self.across[from..to] };
            for (sums, codes) in self.sums.iter_mut().zip(codes) {
                vector::keep(
                    &mut sums[start + from..start + to],
                    &codes[from..to],
                    &weights[from..to],
                    &held,
                );
            }
        }
    }

    /// Goes along the cells of a row in which a layer counts.
    #[inline]
    fn each(
        &mut self,
        layer: usize,
        row: usize,
        (from, to): (usize, usize),
        mut add: impl FnMut([&mut [f32]; 3], Range<usize>, Weight<'_>),
    ) {
        let Some(cells) = self.cells.get(self.of_row[row]) else { return };
        let (down, start) = (self.down[row], row * self.width);
        for cell in &cells[cells.partition_point(|c| c.to <= from)..] {
            let (from, to) = (cell.from.max(from), cell.to.min(to));
            if from >= to {
                break;
            }
            let [a, b, c, d] = cell.weights[layer];
            if [a, b, c, d] != [0.0; 4] {
                let (left, right) = ((1.0 - down) * a + down * c, (1.0 - down) * b + down * d);
                let weight = Weight { left, rise: right - left, across: &self.across[from..to] };
                add(self.sums.each_mut().map(|s| &mut s[start + from..start + to]), from..to, weight);
            }
        }
    }

    /// Root codes of the average; black where nothing was added.
    pub(super) fn plate(self) -> Plate {
        self.sums.map(|sums| vector::roots(&sums))
    }
}

/// What lies between two rows of a choice. `columns` tells the columns of the choice that each pixel lies between, `slots`
/// where each layer's frame stands in it.
fn pieces_of(
    (choice, held): (&LabelMap, &[u64]),
    columns: &[Between],
    (top, low): (usize, usize),
    slots: &[Option<usize>],
) -> Vec<Piece> {
    let wide = choice.grid.rect.width as usize;
    let at = |p: usize| &held[p * choice.words..][..choice.words];
    let mut pieces: Vec<Piece> = Vec::new();
    let mut from = 0;
    for cell in columns.chunk_by(|a, b| a.0 == b.0) {
        let to = from + cell.len();
        let (a, b, _) = cell[0];
        let corners = [top * wide + a, top * wide + b, low * wide + a, low * wide + b].map(at);
        let even = corners.iter().all(|c| *c == corners[0]);
        let of = |slot: &Option<usize>| corners.map(|c| slot.is_some_and(|k| consensus::held(c, k)));
        let held: Vec<[bool; 4]> = slots.iter().map(of).collect();
        match pieces.last_mut().filter(|last| even && last.even && last.held == held) {
            Some(last) => last.to = to,
            None => pieces.push(Piece { from, to, even, held }),
        }
        from = to;
    }
    pieces
}

/// Pieces cut where what covers them changes, as far as anything does.
fn cells_of(pieces: &[Piece], covered: &[(u32, u32)], within: &Range<usize>) -> Vec<Cell> {
    let ends = covered.iter().flat_map(|s| [s.0 as usize, s.1 as usize]);
    let mut cuts: Vec<usize> = ends.chain(pieces.iter().flat_map(|p| [p.from, p.to])).collect();
    cuts.extend([within.start, within.end]);
    cuts.sort_unstable();
    cuts.dedup();
    let inside = cuts.windows(2).filter(|c| within.start <= c[0] && c[1] <= within.end);
    let cell = |c: &[usize]| {
        let piece = &pieces[pieces.partition_point(|p| p.to <= c[0])];
        let reaches = |k: usize| (covered[k].0 as usize..covered[k].1 as usize).contains(&c[0]);
        Some(Cell { from: c[0], to: c[1], weights: weights(&piece.held, reaches)? })
    };
    inside.filter_map(cell).collect()
}

/// Each layer's share in the four corners, which are one in each; `None` where nobody reaches.
fn weights(held: &[[bool; 4]], reaches: impl Fn(usize) -> bool) -> Option<Vec<[f32; 4]>> {
    let there: Vec<bool> = (0..held.len()).map(&reaches).collect();
    let chosen: Vec<bool> = held.iter().zip(&there).map(|(h, there)| *there && h.contains(&true)).collect();
    // Where none of the chosen reaches, those count that do; and in a corner that chose nobody who reaches, all of these.
    let those = if chosen.contains(&true) { chosen } else { there };
    let all = those.iter().filter(|t| **t).count();
    let count = [0, 1, 2, 3].map(|c| held.iter().zip(&those).filter(|(h, those)| **those && h[c]).count());
    let share = |held: &[bool; 4], those: bool| {
        [0, 1, 2, 3].map(|c| match (those, count[c]) {
            (false, _) => 0.0,
            (true, 0) => 1.0 / all as f32,
            (true, n) => f32::from(u8::from(held[c])) / n as f32,
        })
    };
    (all > 0).then(|| held.iter().zip(&those).map(|(held, those)| share(held, *those)).collect())
}

/// A weight that may change evenly along a row.
pub(super) struct Weight<'a> {
    left: f32,
    rise: f32,
    across: &'a [f32],
}

#[allow(unsafe_code)] // the dispatch to the processor's vector width is the macro's
mod vector {
    use super::Weight;
    use crate::pixel::tone::rounded_root;
    use multiversion::multiversion;

    /// The root code below which noise is that of the sensor and not of the light, and codes of files go with light and not with its root.
    const DARK: f32 = 0.04 * 65535.0;

    /// What is averaged of a root code.
    #[inline(always)]
    fn even(root: f32) -> f32 {
        root.mul_add(root, DARK * DARK).sqrt()
    }

    #[multiversion(targets("x86_64+avx512f+avx512bw+avx512dq+avx512vl+avx2+fma", "x86_64+avx2+fma"))]
    pub(super) fn add(sums: &mut [f32], codes: &[u16], weight: &Weight<'_>) {
        for ((sum, code), across) in sums.iter_mut().zip(codes).zip(weight.across) {
            *sum = across.mul_add(weight.rise, weight.left).mul_add(even(f32::from(*code)), *sum);
        }
    }

    #[multiversion(targets("x86_64+avx512f+avx512bw+avx512dq+avx512vl+avx2+fma", "x86_64+avx2+fma"))]
    pub(super) fn add_light(sums: &mut [f32], light: &[f32], gain: f32, weight: &Weight<'_>) {
        for ((sum, light), across) in sums.iter_mut().zip(light).zip(weight.across) {
            let root = rounded_root(light * gain);
            *sum = across.mul_add(weight.rise, weight.left).mul_add(even(root), *sum);
        }
    }

    #[multiversion(targets("x86_64+avx512f+avx512bw+avx512dq+avx512vl+avx2+fma", "x86_64+avx2+fma"))]
    pub(super) fn keep(sums: &mut [f32], codes: &[u16], weights: &[f32], held: &Weight<'_>) {
        let n = sums.len();
        let (codes, weights, across) = (&codes[..n], &weights[..n], &held.across[..n]);
        for x in 0..n {
            let share = across[x].mul_add(held.rise, held.left) * weights[x];
            sums[x] = share.mul_add(even(f32::from(codes[x])) - sums[x], sums[x]);
        }
    }

    #[multiversion(targets("x86_64+avx512f+avx512bw+avx512dq+avx512vl+avx2+fma", "x86_64+avx2+fma"))]
    pub(super) fn roots(sums: &[f32]) -> Vec<u16> {
        let root = |sum: f32| sum.mul_add(sum, -DARK * DARK).max(0.0).sqrt();
        sums.iter().map(|sum| (root(*sum) + 0.5).min(65535.0) as u16).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Rect;
    use crate::pixel::tone::append_roots;
    use crate::random::Random;

    #[test]
    fn shares_of_every_corner_add_up_to_one_whoever_reaches() {
        let held = [[true, false, false, false], [true, true, false, false], [false, true, true, false]];
        for there in 1..8u32 {
            let shares = weights(&held, |k| there >> k & 1 == 1).unwrap();
            for corner in 0..4 {
                let sum: f32 = shares.iter().map(|s| s[corner]).sum();
                assert!((sum - 1.0).abs() < 1e-6, "{there}: {shares:?}");
            }
            assert!((0..3).all(|k| there >> k & 1 == 1 || shares[k] == [0.0; 4]));
        }
        assert!(weights(&held, |_| false).is_none());
        // Nobody chose the last corner: there the chosen count alike; one that is not chosen anywhere counts nowhere.
        let shares = weights(&[[true, true, true, false], [false; 4]], |_| true).unwrap();
        assert_eq!(shares, [[1.0; 4], [0.0; 4]]);
        // None of those that reach was chosen: all of them count.
        assert_eq!(weights(&[[true; 4], [false; 4], [false; 4]], |k| k > 0).unwrap()[2], [0.5; 4]);
    }

    #[test]
    fn light_just_made_and_codes_that_were_kept_give_the_same_plate_in_any_order() {
        let mut random = Random::new(5);
        let n = 240;
        // Three frames; columns from 20 on chose the first and the last, those before all of them.
        let inliers: Vec<u64> = (0..10).map(|p| if p % 5 < 2 { 0b111 } else { 0b101 }).collect();
        let choice = LabelMap {
            grid: Grid::new(Rect::new(0, 0, 5, 2), 3),
            frames: vec![7, 4, 9],
            labels: vec![0; 10],
            words: 1,
            inliers,
            crowd: Vec::new(),
        };
        let light: Vec<Vec<f32>> = (0..3).map(|_| (0..n).map(|_| random.unit() as f32).collect()).collect();
        let spans = [vec![(0, 40); 6], vec![(3, 31); 6], vec![(0, 40); 6]];
        let plate = |order: [usize; 3], kept: bool| {
            let frames = order.map(|k| choice.frames[k]);
            let spans: Vec<&[(u32, u32)]> = order.iter().map(|&k| &spans[k][..]).collect();
            let block = Grid::new(Rect::new(0, 0, 40, 6), 0);
            let mut average =
                Average::new((&choice, &choice.inliers), &frames, &spans, &block, (0..6, 0..40));
            for layer in average.layers() {
                let light = &light[order[layer]];
                for (row, span) in spans[layer].iter().enumerate() {
                    let (from, to) = (span.0 as usize, span.1 as usize);
                    let run = &light[row * 40 + from..row * 40 + to];
                    if kept {
                        let mut codes = vec![0; from];
                        append_roots(run, 0.9, &mut codes);
                        codes.resize(40, 0);
                        average.add(layer, row, [&codes, &codes, &codes]);
                    } else {
                        average.add_light(layer, (row, from), [run, run, run], [0.9; 3]);
                    }
                }
            }
            average.plate()
        };
        let first = plate([0, 1, 2], true);
        assert_eq!(first, plate([0, 1, 2], false));
        assert_eq!(first, plate([2, 0, 1], false));
        // Where all that was chosen agrees from corner to corner, it is their plain average.
        let root = |k: usize, p: usize| 65535.0 * (0.9 * light[k][p]).sqrt();
        let mean = |p: usize, of: &[usize]| of.iter().map(|&k| root(k, p)).sum::<f32>() / of.len() as f32;
        for (p, of) in [(42, &[0, 2][..]), (45, &[0, 1, 2]), (75, &[0, 2])] {
            let found = f32::from(first[1][p]);
            assert!((found - mean(p, of)).abs() < 0.02 * found, "{p}: {found} for {}", mean(p, of));
        }
    }

    #[test]
    fn the_sums_move_towards_a_layer_only_where_it_is_averaged() {
        // Two frames; the first is chosen up to column 20 of the reference, the second everywhere.
        let choice = LabelMap {
            grid: Grid::new(Rect::new(0, 0, 5, 1), 3),
            frames: vec![0, 1],
            labels: vec![1; 5],
            words: 1,
            inliers: vec![0b11, 0b11, 0b10, 0b10, 0b10],
            crowd: Vec::new(),
        };
        let spans = [vec![(0, 40); 1], vec![(0, 40); 1]];
        let spans: Vec<&[(u32, u32)]> = spans.iter().map(Vec::as_slice).collect();
        let block = Grid::new(Rect::new(0, 0, 40, 1), 0);
        let (low, high) = (vec![10_000u16; 40], vec![30_000u16; 40]);
        let plate = |share: f32| {
            let mut average =
                Average::new((&choice, &choice.inliers), &[0, 1], &spans, &block, (0..1, 0..40));
            average.add(0, 0, [&low; 3]);
            average.add(1, 0, [&high; 3]);
            average.keep(0, 0, [&low; 3], &[share; 40]);
            average.plate()
        };
        let (none, half, all) = (plate(0.0), plate(0.5), plate(1.0));
        let near = |a: u16, b: u16| a.abs_diff(b) < 60;
        assert!(near(none[1][5], 20_000) && none[1][30] == 30_000, "{none:?}");
        assert!(near(half[1][5], 15_000) && all[1][5] == 10_000, "{half:?}");
        assert!((0..40).all(|x| all[0][x] <= half[0][x] && half[0][x] <= none[0][x]));
        assert!((21..40).all(|x| all[2][x] == 30_000), "it is not averaged there");
    }
}
