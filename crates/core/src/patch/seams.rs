//! Where a patch shows: steps across its border that neither the plate nor its source has there, and grain other than the plate's.
//!
//! A step is what Weber's law makes of it: a share of the light (Fechner 1860), taken as a mean along a piece of border, so that
//! noise does not count. What both pictures have by themselves is no seam, nor is a border that fades too slowly to be seen.
//!
//! Cost: linear in the pixels of the patch's surroundings.
//!
//! ```
//! use evanu_core::geometry::Rect;
//! use evanu_core::patch::seams::{Mend, Seam};
//!
//! // A border along which the light steps by three percent: matching the tone would help.
//! let seam = Seam { place: Rect::new(40, 30, 80, 6), step: 0.03, mend: Mend::Tone };
//! assert_eq!(serde_json::to_value(seam.mend).ok(), Some("tone".into()));
//! assert!(seam.step > 0.01);
//! ```

use super::Patch;
use crate::combine::consensus::{DIFFER, Field, LayerData, SAME};
use crate::geometry::{Rect, Size};
use crate::noise::NoiseModel;
use crate::pixel::flood::parts;
use serde::Serialize;

/// Pixels to each side of the border that are compared.
const SIDE: usize = 3;
/// Pixels along a side of the pieces that a border is looked at in.
const PIECE: usize = 24;
/// Places of the border that a piece must have.
const FEW: usize = 8;
/// Share of a root code from which on a step is seen: one percent of the light.
const SEEN: f32 = 0.005;
/// Least step in root codes, for the dark.
const DARK: f32 = 60.0;
/// Steps from which on something is cut: where the tone is matched, and whatever the tone.
const CONTENT: (f32, f32) = (0.05, 0.15);
/// Places that grain is told from, at least.
const LEAST_GRAIN_PLACES: usize = 200;
/// Grain this many times as strong as the plate's is seen.
const COARSER: f32 = 1.4;

/// What would help.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Mend {
    /// Letting the border run where both sides agree.
    Seek,
    /// Matching the tone along it.
    Tone,
    /// Averaging the frames that show the same.
    Grain,
    /// Letting it fade over more pixels.
    Fade,
    /// Drawing wider: it cuts through something.
    Wider,
}

/// A place where a patch can be seen.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Seam {
    /// Where: from [`find`] in pixels of the pictures, from [`crate::prepare::seams`] in those of the reference.
    pub place: Rect,
    /// How far the light steps, or the grain stands over the plate's: a share, 0.01 being one percent.
    pub step: f32,
    /// What would help.
    pub mend: Mend,
}

/// The pictures that are compared, all over the same region.
pub(crate) struct Pictures {
    /// With all patches.
    pub result: LayerData,
    /// With the patches before it.
    pub plate: LayerData,
    /// What the patch comes from.
    pub source: LayerData,
    /// How strongly it covers each place.
    pub weights: Vec<f32>,
    /// Where later patches lie over it.
    pub hidden: Vec<bool>,
}

/// What is summed up over a piece of border.
#[derive(Clone, Copy, Default)]
struct Piece {
    count: usize,
    torn: usize,
    level: f32,
    /// Inside less outside: of the result, the plate, the source.
    steps: [f32; 3],
}

/// Looks along a patch's border, on pictures of `size`; `shrink` is how many pixels of the reference one of theirs is along a side.
/// Strongest first.
pub(crate) fn find(of: &Pictures, patch: &Patch, size: Size, noise: &NoiseModel, shrink: f32) -> Vec<Seam> {
    let (w, h) = (size.width as usize, size.height as usize);
    let field = Field::new(size, vec![of.plate.clone(), of.source.clone()], noise, shrink);
    let mut chi = vec![0.0; w * h];
    field.chi2_row(0, 1, 0, &mut chi);
    let grey = |l: &LayerData| -> Vec<f32> {
        (0..w * h).map(|p| l.planes.iter().map(|c| f32::from(c[p])).sum::<f32>() / 3.0).collect()
    };
    let pictures = [&of.result, &of.plate, &of.source].map(grey);
    let taken: Vec<bool> = of.weights.iter().map(|v| *v >= 0.5).collect();
    let (columns, rows) = (w.div_ceil(PIECE), h.div_ceil(PIECE));
    let mut pieces = vec![Piece::default(); columns * rows];
    for y in SIDE..h.saturating_sub(SIDE) {
        for x in SIDE..w.saturating_sub(SIDE) {
            for step in [1, w] {
                let (p, q) = (y * w + x, y * w + x + step);
                let covered = |p: usize| field.covered(1, p) && !of.hidden[p];
                if taken[p] == taken[q] || !covered(p) || !covered(q) {
                    continue;
                }
                let piece = &mut pieces[y / PIECE * columns + x / PIECE];
                piece.count += 1;
                piece.torn += usize::from(chi[p] > DIFFER && chi[q] > DIFFER);
                piece.level += pictures[1][p];
                let sign = if taken[p] { 1.0 } else { -1.0 };
                for (sum, picture) in piece.steps.iter_mut().zip(&pictures) {
                    let before: f32 = (0..SIDE).map(|k| picture[p - k * step]).sum();
                    let after: f32 = (0..SIDE).filter_map(|k| picture.get(q + k * step)).sum();
                    *sum += sign * (before - after) / SIDE as f32;
                }
            }
        }
    }
    let seen = |piece: &Piece| -> Option<(f32, bool)> {
        let n = piece.count as f32;
        let [result, plate, source] = piece.steps.map(|s| (s / n).abs());
        let level = (piece.level / n).max(1.0);
        let sigma = noise.sigma_at(level as u16) / shrink;
        let least = (SEEN * level).max(DARK).max(3.0 * sigma / (n * SIDE as f32).sqrt());
        let excess = result - plate.max(source);
        (piece.count >= FEW && excess > least).then(|| (2.0 * excess / level, 2 * piece.torn > piece.count))
    };
    let found: Vec<Option<(f32, bool)>> = pieces.iter().map(seen).collect();
    let mut on: Vec<bool> = found.iter().map(Option::is_some).collect();
    let mut out: Vec<Seam> = parts(&mut on, columns, 0..found.len(), 1)
        .iter()
        .map(|part| {
            let all = || part.iter().filter_map(|&i| found[i]);
            let step = all().map(|f| f.0).fold(0.0, f32::max);
            let torn = 2 * all().filter(|f| f.1).count() > part.len();
            let of = |pick: fn(usize, usize) -> usize| part.iter().map(move |&i| pick(i, columns) * PIECE);
            let ends = |values: Vec<usize>, most: usize| {
                let (low, high) =
                    (values.iter().min().copied().unwrap_or(0), values.iter().max().copied().unwrap_or(0));
                (low as i64, (high + PIECE).min(most) as i64)
            };
            let (x0, x1) = ends(of(|i, c| i % c).collect(), w);
            let (y0, y1) = ends(of(|i, c| i / c).collect(), h);
            let mend = match patch {
                l if l.tone && (torn || step > CONTENT.0) || step > CONTENT.1 => Mend::Wider,
                l if !l.optimal_seam => Mend::Seek,
                l if !l.tone => Mend::Tone,
                _ => Mend::Fade,
            };
            Seam { place: Rect::new(x0, y0, (x1 - x0) as u32, (y1 - y0) as u32), step, mend }
        })
        .collect();
    out.extend(grain(of, &pictures[0], &pictures[1], &chi, w));
    out.sort_by(|a, b| b.step.total_cmp(&a.step));
    out
}

/// Grain within the patch against that of the plate at the same places, where both show the same: what is drawn there is no grain.
fn grain(of: &Pictures, result: &[f32], plate: &[f32], chi: &[f32], w: usize) -> Option<Seam> {
    let places: Vec<usize> = (1..result.len().saturating_sub(1))
        .filter(|&p| p % w > 0 && p % w + 1 < w && of.weights[p] > 0.95 && chi[p] < SAME && !of.hidden[p])
        .collect();
    if places.len() < LEAST_GRAIN_PLACES {
        return None;
    }
    let strength = |picture: &[f32]| {
        let step = |p: &usize| (picture[*p] - 0.5 * (picture[p - 1] + picture[p + 1])).abs();
        let mut steps: Vec<f32> = places.iter().map(step).collect();
        steps.sort_unstable_by(f32::total_cmp);
        steps[steps.len() / 2]
    };
    let (own, around) = (strength(result), strength(plate));
    if own < COARSER * around || own - around < DARK {
        return None;
    }
    let on: Vec<usize> = (0..result.len()).filter(|&p| of.weights[p] >= 0.5).collect();
    let ends = |of: fn(usize, usize) -> usize| {
        on.iter().map(|&p| of(p, w) as i64).fold((i64::MAX, 0), |e, v| (e.0.min(v), e.1.max(v + 1)))
    };
    let ((x0, x1), (y0, y1)) = (ends(|p, w| p % w), ends(|p, w| p / w));
    let place = Rect::new(x0, y0, (x1 - x0) as u32, (y1 - y0) as u32);
    Some(Seam { place, step: own / around - 1.0, mend: Mend::Grain })
}
