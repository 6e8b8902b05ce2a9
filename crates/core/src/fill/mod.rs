//! Making up what no picture shows, from what is around it: exemplar-based completion (Wexler, Shechtman and Irani 2007).
//!
//! A hole is filled from coarse to fine. On each level every place of the hole knows a place of its surroundings that looks like it
//! ([`field`], PatchMatch of Barnes et al. 2009), and the places vote for its colours; what begins coarse decides the structure, what
//! follows the texture; straight edges that go on on the other side are laid first (Sun et al. 2005, [`lines`]) and lead what is beside
//! them on every level. Places are looked for
//! among those as sharp as the rim around ([`level`]), so that nothing soft is copied into what is sharp, nor the other way round. In the
//! end pixels are copied, never averaged, and joined by their differences ([`join`]).
//!
//! Variants begin otherwise; each second one may not use the places that the first, third and so on before it used, and so is truly
//! another one. The same seed gives the same bytes on any number of threads. Cost: some 15 µs a pixel of the hole and variant on one
//! core, where lines go through it more; memory is bounded by the hole and a rim as wide as it, at most [`FINEST`] pixels of the hole
//! being looked at one by one.
//!
//! ```
//! use evanu_core::fill::{Ground, Wish, invent};
//! use evanu_core::geometry::Size;
//! use evanu_core::progress::no_progress;
//!
//! // Stripes with a hole: they go on through it.
//! let size = Size::new(80, 60);
//! let planes = [0; 3].map(|_| (0..80 * 60u32).map(|i| if i / 80 % 8 < 4 { 20_000 } else { 40_000 }).collect::<Vec<u16>>());
//! let hole: Vec<bool> = (0..80 * 60).map(|i| (30..50).contains(&(i % 80)) && (20..40).contains(&(i / 80))).collect();
//! let ground = Ground { size, planes: &planes, hole: &hole, barred: &[], void: &[] };
//! let filled = invent(&ground, &Wish { seed: 1, variants: 1 }, &no_progress)?;
//! let off = |p: usize| filled[0].planes[0][p].abs_diff(planes[0][p]);
//! assert!((0..80 * 60).all(|p| off(p) < 400));
//! # Ok::<(), evanu_core::fill::FillError>(())
//! ```

mod areas;
mod field;
mod hints;
mod join;
mod level;
mod lines;
mod pieces;
mod plain;
mod search;

pub use areas::{Area, areas};
pub use hints::{Hint, hints};
pub use search::search_area;

use crate::geometry::Size;
use crate::progress::{Cancelled, ProgressFn};
use crate::random::Random;
use field::Field;
use level::Level;
use plain::Plain;
use rayon::prelude::*;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Pixels of a hole that are looked at one by one; of a larger one, the finest pixels follow those twice as large.
pub const FINEST: usize = 400_000;

/// A picture with a hole.
#[derive(Clone, Copy)]
pub struct Ground<'a> {
    /// Columns and rows.
    pub size: Size,
    /// Root codes, red, green and blue.
    pub planes: &'a [Vec<u16>; 3],
    /// What is to be filled.
    pub hole: &'a [bool],
    /// What is there but must not be copied; empty for nothing.
    pub barred: &'a [bool],
    /// What is not there and stays so; empty for nothing.
    pub void: &'a [bool],
}

/// What is wanted.
#[derive(Debug, Clone, Copy)]
pub struct Wish {
    /// Where chance begins.
    pub seed: u64,
    /// How many variants, at least one.
    pub variants: usize,
}

/// A filled picture.
#[derive(Debug, Clone)]
pub struct Filled {
    /// As the ground's; outside the hole they are the ground's.
    pub planes: [Vec<u16>; 3],
    /// For each pixel of the hole the pixel it was copied from, itself elsewhere.
    pub from: Vec<u32>,
    /// How unlike its surroundings' places it is, for comparing variants of one hole.
    pub energy: f32,
}

/// Why nothing could be made up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum FillError {
    /// Nothing is to be filled.
    #[error("the area is empty: there is nothing to make up")]
    Nothing,
    /// There is too little around.
    #[error(
        "too little is around the area to make it up from: a whole place of {PATCH} by {PATCH} pixels is needed; leave more of the picture outside the area"
    )]
    NoGround,
    /// Its owner stopped it.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// Pixels along a side of what is compared.
const PATCH: usize = 2 * REACH + 1;
/// From its middle.
const REACH: usize = 3;
/// The coarsest level is the one where the hole reaches no further from its rim than this.
const COARSEST: f32 = 7.0;
/// Coarse levels that are left out where lines go through a hole.
const FINER: usize = 1;
/// Beginnings from which the most promising is gone on with.
const BEGINNINGS: u64 = 4;
/// Rounds of searching and voting by level, from the coarsest.
const ROUNDS: [usize; 6] = [10, 6, 4, 3, 2, 2];

/// Fills a hole, in variants, the first being the most likely.
///
/// # Errors
/// When there is nothing to fill, nothing to fill it from, or the watcher stops it.
pub fn invent(ground: &Ground<'_>, wish: &Wish, watch: ProgressFn<'_>) -> Result<Vec<Filled>, FillError> {
    if !ground.hole.contains(&true) {
        return Err(FillError::Nothing);
    }
    let Some(plain) = Plain::of(ground) else { return textured(ground, wish, watch) };
    let (planes, barred) = (plain.flattened(ground), plain.barred());
    let flat = Ground { planes: &planes, barred: &barred, ..*ground };
    let mut made = textured(&flat, wish, watch)?;
    for filled in &mut made {
        filled.planes = plain.restored(ground, std::mem::take(&mut filled.planes));
    }
    Ok(made)
}

/// The same for what has texture.
fn textured(ground: &Ground<'_>, wish: &Wish, watch: ProgressFn<'_>) -> Result<Vec<Filled>, FillError> {
    let mut levels = Level::all(ground, COARSEST, FINEST);
    // Levels without a whole place to copy from are of no use.
    let usable = levels.iter().take_while(|level| level.sources() > 0).count();
    levels.truncate(usable);
    let lines = lines::lines(&levels);
    // Thin lines must be seen where it begins.
    if !lines.is_empty() {
        levels.truncate(levels.len().saturating_sub(FINER).max(1));
    }
    levels.iter_mut().for_each(|level| level.free(&lines));
    let levels = &levels;
    let finest = levels.first().ok_or(FillError::NoGround)?;
    let width = ground.size.width;
    let count = wish.variants.max(1);
    let done = AtomicUsize::new(0);
    let made = |variant: usize, used: &[(u32, u32)]| -> Result<Filled, FillError> {
        let seed = wish.seed.wrapping_mul(0x1_0001).wrapping_add(variant as u64);
        let stop = |_: f32| watch(done.load(Ordering::Relaxed) as f32 / count as f32);
        let field = grown(levels, (used, &lines), seed, &stop)?;
        let from = field.full_size(finest, ground);
        let filled = Filled { planes: join::joined(ground, &from), energy: field.energy(), from };
        watch((done.fetch_add(1, Ordering::Relaxed) + 1) as f32 / count as f32)?;
        Ok(filled)
    };
    // Each second one waits for those that it shall not be like.
    let first: Vec<Filled> =
        (0..count).into_par_iter().step_by(2).map(|v| made(v, &[])).collect::<Result<_, _>>()?;
    let copied = |filled: &Filled| -> Vec<(u32, u32)> {
        let holes = ground.hole.iter().zip(&filled.from).filter(|(hole, _)| **hole);
        holes.map(|(_, from)| (from % width, from / width)).collect()
    };
    let used: Vec<Vec<(u32, u32)>> = if count > 1 { first.iter().map(copied).collect() } else { Vec::new() };
    let second: Vec<Filled> = (1..count)
        .into_par_iter()
        .step_by(2)
        .map(|v| made(v, &used[..v.div_ceil(2)].concat()))
        .collect::<Result<_, _>>()?;
    let (mut first, mut second) = (first.into_iter(), second.into_iter());
    Ok((0..count).filter_map(|v| if v % 2 == 0 { first.next() } else { second.next() }).collect())
}

/// The picture with its hole filled by the pixels from these places, of which each lies outside the hole, joined by their differences.
///
/// With parts of several variants' [`Filled::from`] it draws those together.
pub fn joined(ground: &Ground<'_>, from: &[u32]) -> [Vec<u16>; 3] {
    let Some(plain) = Plain::of(ground) else { return join::joined(ground, from) };
    let flat = plain.flattened(ground);
    plain.restored(ground, join::joined(&Ground { planes: &flat, ..*ground }, from))
}

/// Where each place of a hole looks like, from the coarsest level to the finest; places that were used are left out.
fn grown(
    levels: &[Level],
    (used, lines): (&[(u32, u32)], &[lines::Line]),
    seed: u64,
    watch: ProgressFn<'_>,
) -> Result<Field, FillError> {
    let whole: usize = levels.iter().map(|l| l.targets.len() * ROUNDS[ROUNDS.len() - 1]).sum();
    let mut done = 0usize;
    let last = levels.len() - 1;
    let allowed: Vec<Vec<bool>> = levels.iter().map(|level| level.allowed(used)).collect();
    let begun = |k: u64| {
        let mut random = Random::new(seed.wrapping_add(k << 40));
        let mut field = Field::begun(&levels[last], &allowed[last], lines, &mut random);
        field.rounds(&levels[last], &allowed[last], ROUNDS[0], &mut random);
        field
    };
    let count = if lines.is_empty() { BEGINNINGS } else { BEGINNINGS / 2 };
    let beginnings: Vec<Field> = (0..count).map(begun).collect();
    let best = beginnings.into_iter().min_by(|a, b| a.energy().total_cmp(&b.energy()));
    let mut field = best.ok_or(FillError::NoGround)?;
    for (k, level) in levels.iter().enumerate().rev().skip(1) {
        watch(done as f32 / whole as f32)?;
        let mut random = Random::new(seed ^ (k as u64) << 32);
        field = field.finer(&levels[k + 1], level, &allowed[k], &mut random);
        let rounds = ROUNDS[(last - k).min(ROUNDS.len() - 1)];
        field.rounds(level, &allowed[k], rounds, &mut random);
        done += level.targets.len() * rounds;
    }
    pieces::gather(&mut field, &levels[0], &allowed[0]);
    Ok(field)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::progress::no_progress;
    use proptest::prelude::*;

    /// A picture of coarse grain with a hole, and pixels that must not be copied.
    fn grain(w: u32, h: u32, seed: u64) -> [Vec<u16>; 3] {
        let mut random = Random::new(seed);
        let plane: Vec<u16> = (0..w * h).map(|_| 20_000 + random.below(20_000) as u16).collect();
        [plane.clone(), plane.clone(), plane]
    }

    fn boxed(w: u32, h: u32, x: std::ops::Range<u32>, y: std::ops::Range<u32>) -> Vec<bool> {
        (0..w * h).map(|p| x.contains(&(p % w)) && y.contains(&(p / w))).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn outside_nothing_changes_and_nothing_barred_is_copied(
            seed in any::<u64>(), x in 0u32..50, y in 0u32..40, dw in 1u32..24, dh in 1u32..24, bar in 0u32..50
        ) {
            let (w, h) = (70, 60);
            let planes = grain(w, h, seed);
            let hole = boxed(w, h, x..x + dw, y..y + dh);
            let barred = boxed(w, h, bar..bar + 12, 0..h);
            let ground = Ground { size: Size::new(w, h), planes: &planes, hole: &hole, barred: &barred, void: &[] };
            let filled = invent(&ground, &Wish { seed, variants: 2 }, &no_progress).unwrap();
            for variant in &filled {
                for p in 0..(w * h) as usize {
                    let from = variant.from[p] as usize;
                    if hole[p] {
                        prop_assert!(!hole[from] && !barred[from], "{from} must not be copied");
                    } else {
                        prop_assert_eq!((from, variant.planes[1][p]), (p, planes[1][p]));
                    }
                }
            }
            let again = invent(&ground, &Wish { seed, variants: 2 }, &no_progress).unwrap();
            prop_assert!(again.iter().zip(&filled).all(|(a, b)| a.planes == b.planes), "the same seed, another result");
        }
    }

    #[test]
    fn any_number_of_threads_makes_the_same_bytes() {
        let planes = grain(160, 140, 3);
        let hole = boxed(160, 140, 40..110, 30..100);
        let ground =
            Ground { size: Size::new(160, 140), planes: &planes, hole: &hole, barred: &[], void: &[] };
        let made = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| {
                invent(&ground, &Wish { seed: 5, variants: 1 }, &no_progress).unwrap()[0].planes.clone()
            })
        };
        assert_eq!(made(1), made(4));
    }

    #[test]
    fn without_anything_around_it_is_refused() {
        let planes = grain(30, 30, 1);
        let all = vec![true; 900];
        let ground = |hole| Ground { size: Size::new(30, 30), planes: &planes, hole, barred: &[], void: &[] };
        let wish = Wish { seed: 1, variants: 1 };
        assert_eq!(invent(&ground(&all), &wish, &no_progress).unwrap_err(), FillError::NoGround);
        assert_eq!(invent(&ground(&[false; 900]), &wish, &no_progress).unwrap_err(), FillError::Nothing);
        let stopped = |_: f32| Err(Cancelled);
        let hole = boxed(30, 30, 10..20, 10..20);
        assert!(matches!(invent(&ground(&hole), &wish, &stopped), Err(FillError::Cancelled(_))));
    }

    #[test]
    fn grain_stays_as_strong_inside_as_outside() {
        let planes = grain(160, 140, 9);
        let hole = boxed(160, 140, 50..110, 40..100);
        let ground =
            Ground { size: Size::new(160, 140), planes: &planes, hole: &hole, barred: &[], void: &[] };
        let filled = invent(&ground, &Wish { seed: 2, variants: 1 }, &no_progress).unwrap();
        let spread = |of: &[u16], inside: bool| {
            let values: Vec<f64> =
                (0..of.len()).filter(|&p| hole[p] == inside).map(|p| f64::from(of[p])).collect();
            let mean = values.iter().sum::<f64>() / values.len() as f64;
            (values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / values.len() as f64).sqrt()
        };
        let share = spread(&filled[0].planes[0], true) / spread(&planes[0], false);
        assert!((0.8..1.2).contains(&share), "{share}");
    }

    #[test]
    fn on_a_plain_backdrop_tone_goes_on_as_it_fades_and_grain_stays() {
        let (w, h, noise) = (420u32, 320u32, 250.0);
        let mut random = Random::new(5);
        // Darker towards the corners, brighter to the right.
        let tone = |p: u32| {
            let (u, v) = (f64::from(p % w) / f64::from(w) - 0.5, f64::from(p / w) / f64::from(h) - 0.5);
            34_000.0 - 24_000.0 * (u * u + v * v) + 3_000.0 * u
        };
        let hole = boxed(w, h, 150..290, 90..210);
        let planes: [Vec<u16>; 3] = std::array::from_fn(|_| {
            (0..w * h)
                .map(|p| if hole[p as usize] { 9000 } else { (tone(p) + noise * random.normal()) as u16 })
                .collect()
        });
        let ground = Ground { size: Size::new(w, h), planes: &planes, hole: &hole, barred: &[], void: &[] };
        let filled = &invent(&ground, &Wish { seed: 1, variants: 1 }, &no_progress).unwrap()[0];
        let off = |p: u32| f64::from(filled.planes[0][p as usize]) - tone(p);
        for block in 0..14 * 12 {
            let (left, top) = (150 + block % 14 * 10, 90 + block / 14 * 10);
            let mean = (0..100).map(|k| off((top + k / 10) * w + left + k % 10)).sum::<f64>() / 100.0;
            assert!(mean.abs() < 300.0, "{mean} at {left}, {top}");
        }
        let inside: Vec<u32> = (0..w * h).filter(|&p| hole[p as usize] && hole[p as usize + 1]).collect();
        let grain = inside.iter().map(|&p| (off(p) - off(p + 1)).powi(2)).sum::<f64>() / inside.len() as f64;
        assert!((0.9..1.1).contains(&((grain / 2.0).sqrt() / noise)), "{grain}");
        // Drawn together from the same places it is the same picture.
        assert_eq!(joined(&ground, &filled.from), filled.planes);
    }
}
