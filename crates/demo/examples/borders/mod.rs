//! Steps of tone across the borders of a plate, against the same places of the truth.

use evanu_core::combine::consensus::LabelMap;
use evanu_core::noise::NoiseModel;
use evanu_core::pixel::Raster;
use evanu_core::pixel::tone::to_linear;
use std::collections::BTreeMap;

/// Cells of the decision along a side of the squares that borders are cut into.
const SQUARE: usize = 8;
/// Pairs of cells across a border that make a piece of it.
const LEAST: usize = 6;
/// No deviation is taken to be below this, in root codes: what eight bits tell.
const FLOOR: f64 = 220.0;
/// Deviations that a step may have.
const UNSEEN: f64 = 3.0;

/// What pairs of cells across a piece of a border add up to.
#[derive(Default)]
struct Piece {
    pairs: usize,
    step: f64,
    deviation: f64,
}

/// Pieces of the borders between labels at which other frames are averaged, and in how many of them the step of tone is within three
/// deviations of the plate's noise. A step is by how much more the plate than the truth changes from one side to the other, as a mean
/// over the piece. Only cells count that a frame shows as they are, in all of their pixels.
pub(crate) fn steps(
    (plate, truth): (&Raster, &Raster),
    shown: &dyn Fn(usize) -> bool,
    choice: &LabelMap,
    noise: &NoiseModel,
) -> [usize; 2] {
    let (w, h) = (choice.grid.rect.width as usize, choice.grid.rect.height as usize);
    let root = |v: &u16| 65535.0 * to_linear(f64::from(*v) / 65535.0).sqrt();
    // By how much the plate is brighter over each cell, how bright it is, and whether a frame shows it.
    let (wide, side) = (plate.size.width as usize, 1usize << choice.grid.level);
    let cell = |p: usize| -> (f64, f64, bool) {
        let (mut off, mut bright, mut n, mut all) = (0.0, 0.0, 0.0, true);
        for k in 0..side * side {
            let (x, y) = (p % w * side + k % side, p / w * side + k / side);
            if x < wide && y < plate.size.height as usize {
                all &= shown(y * wide + x);
                for c in 3 * (y * wide + x)..3 * (y * wide + x) + 3 {
                    let (plate, truth) = (root(&plate.data[c]), root(&truth.data[c]));
                    (off, bright, n) = (off + plate - truth, bright + plate, n + 1.0);
                }
            }
        }
        (off / n, bright / n, all)
    };
    let cells: Vec<(f64, f64, bool)> = (0..w * h).map(cell).collect();
    let held = |p: usize| &choice.inliers[p * choice.words..][..choice.words];
    let frames = |p: usize| -> u32 { held(p).iter().map(|b| b.count_ones()).sum() };
    let mut pieces: BTreeMap<(usize, u16, u16), Piece> = BTreeMap::new();
    for (y, x) in (1..h.saturating_sub(2)).flat_map(|y| (1..w.saturating_sub(2)).map(move |x| (y, x))) {
        for (beside, p) in [(1, y * w + x), (w, y * w + x)] {
            let q = p + beside;
            let (a, b) = (choice.labels[p], choice.labels[q]);
            if a == b {
                continue;
            }
            // Between cells the plate goes over from one to the other, so the cells beside those at the border count.
            let (first, second) = (p - beside, q + beside);
            let all_shown = [first, p, q, second].iter().all(|p| cells[*p].2);
            if choice.labels[first] != a
                || choice.labels[second] != b
                || held(first) == held(second)
                || !all_shown
            {
                continue;
            }
            let sign = if a < b { 1.0 } else { -1.0 };
            let averaged = f64::from(frames(first).min(frames(second)).max(1)).sqrt();
            let sigma = f64::from(noise.sigma_at(cells[first].1 as u16)) / side as f64 / averaged;
            let key = (y / SQUARE * w + x / SQUARE, a.min(b), a.max(b));
            let piece = pieces.entry(key).or_default();
            piece.pairs += 1;
            piece.step += sign * (cells[first].0 - cells[second].0);
            piece.deviation += sigma.max(FLOOR);
        }
    }
    pieces.retain(|_, piece| piece.pairs >= LEAST);
    let unseen = pieces.values().filter(|piece| piece.step.abs() <= UNSEEN * piece.deviation);
    if std::env::var("STEPS").is_ok() {
        for ((at, a, b), piece) in &pieces {
            let (dev, step) = (piece.step.abs() / piece.deviation, piece.step / piece.pairs as f64);
            if dev > UNSEEN {
                println!(
                    "  step {step:.0} root codes, {dev:.1} deviations, at {} {}, labels {a} {b}, {} pairs",
                    at % w * SQUARE,
                    at / w * SQUARE,
                    piece.pairs
                );
            }
        }
    }
    [pieces.len(), unseen.count()]
}
