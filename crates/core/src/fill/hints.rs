//! What will be hard about a hole, told by rule before one begins: no statistic tells how plausible a result looks, so none is shown.

use super::level::Level;
use super::{Ground, lines};
use serde::Serialize;

/// What will be hard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Hint {
    /// Colours at the rim occur nowhere else around: something is cut by it.
    Cut,
    /// The rim is sharp on one side and soft on another.
    MixedSharpness,
    /// Straight edges end at the rim that go on nowhere on its other side.
    LooseEnds,
}

impl Hint {
    /// In words, with what helps.
    pub fn words(self) -> &'static str {
        match self {
            Self::Cut => {
                "the area cuts something whose colours occur nowhere else around it: draw it wider, so that all of that lies inside"
            }
            Self::MixedSharpness => {
                "it is sharp on one side of the area and soft on another: two smaller areas do better than one"
            }
            Self::LooseEnds => {
                "straight edges end at the area that go on nowhere on its other side: copying along them does better"
            }
        }
    }
}

/// Colours that differ by less are the same, in hundredths of white's root code.
const SAME: f32 = 7.0;
/// Share of the rim that may have colours of its own.
const OWN: f32 = 0.06;
/// Difference of the logarithms of roughness from which on sharpness is mixed.
const MIXED: f32 = 2.2;
/// Pixels of either that are compared.
const ASKED: usize = 400;

/// What will be hard about a hole; nothing when there is none.
pub fn hints(ground: &Ground<'_>) -> Vec<Hint> {
    // Seen from where the rim is at most so long.
    const HOLE: usize = 20_000;
    let Some(level) = Level::all(ground, f32::INFINITY, HOLE).into_iter().next() else { return Vec::new() };
    let mut out = Vec::new();
    let rim = level.rim();
    if rim.is_empty() {
        return out;
    }
    let spread = |list: &[u32], most: usize| -> Vec<usize> {
        list.iter().map(|p| *p as usize).step_by(list.len().div_ceil(most)).collect()
    };
    let asked = spread(&rim, ASKED);
    let sources: Vec<u32> = (0..level.source.len() as u32).filter(|&p| level.source[p as usize]).collect();
    if sources.is_empty() {
        return out;
    }
    let others = spread(&sources, 10 * ASKED);
    let unlike = |a: usize, b: usize| {
        let (a, b) = (&level.features[a], &level.features[b]);
        (0..3).map(|c| (a[c] - b[c]).powi(2)).sum::<f32>().sqrt()
    };
    let alone = asked.iter().filter(|&&p| others.iter().all(|&q| unlike(p, q) > SAME)).count();
    if alone as f32 > OWN * asked.len() as f32 {
        out.push(Hint::Cut);
    }
    let mut rough: Vec<f32> = asked.iter().map(|&p| level.rough[p]).collect();
    rough.sort_by(f32::total_cmp);
    if rough[rough.len() * 9 / 10] - rough[rough.len() / 10] > MIXED {
        out.push(Hint::MixedSharpness);
    }
    if loose(&level) {
        out.push(Hint::LooseEnds);
    }
    out
}

/// Whether most straight edges that meet the rim go on nowhere on its other side.
fn loose(level: &Level) -> bool {
    let ends = lines::ends(level);
    ends.len() >= 3 && 4 * lines::pairs(&ends).len() < ends.len()
}
