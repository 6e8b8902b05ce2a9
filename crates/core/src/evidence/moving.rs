//! Areas that move and belong: cloud, water, leaves, flags, where no frame is clear because nothing stands before anything.
//!
//! There the frames show many stories and none is the place (dynamic textures, Doretto et al. 2003). Two things tell
//! such an area from a crowd: what moves has no contours (cloud, smoke), or it is so fine that the frames look the same once
//! details are blurred away (leaves, ripples). Shade that wanders over something even is as soft as cloud, but darkens all colours
//! alike and only darkens; glare that wanders is clipped or adds white light. Found on the reduced picture of the choice, in pieces
//! large enough to be worth a decision.
//!
//! ```
//! use evanu_core::plan::{FrameAlignment, Plan};
//! use evanu_core::prepare;
//! use evanu_core::recipe::Recipe;
//! use evanu_core::render::Scene;
//! // Five noisy frames of a wall.
//! # use evanu_core::geometry::Size;
//! # use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
//! # use evanu_core::random::Random;
//! # let size = Size::new(240, 160);
//! # let frame = |k: u32| {
//! #     let mut random = Random::new(u64::from(k));
//! #     let code = |i: u32| {
//! #         let (x, y) = (i % 240, i / 240);
//! #         let wall = 120.0 + 30.0 * (f64::from(x) / 9.0).sin() + 20.0 * (f64::from(y) / 7.0).cos();
//! #         [(wall + random.normal()) as u8; 3]
//! #     };
//! #     MemoryFrame::new(size, Samples::Eight((0..240 * 160).flat_map(code).collect()))
//! # };
//! # let frames: Vec<MemoryFrame> = (0..5).map(frame).collect();
//! let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
//! let plan = Plan::of(vec![FrameAlignment::untouched(size); 5]);
//! let recipe = Recipe::new();
//! let decision = prepare::decide(&Scene::new(&recipe, &plan, &sources))?;
//! // Noise is no movement.
//! assert!(decision.moving.is_empty());
//! # Ok::<(), evanu_core::render::RenderError>(())
//! ```

use crate::combine::consensus::{Before, DIFFER, Decided};
use crate::geometry::{Point, Rect, simplified_to, trace};
use crate::pixel::blur::boxed;
use crate::pixel::flood::flood;
use serde::{Deserialize, Serialize};

/// Share of frames that show the same as the plate, up to which a place moves.
const FEW: f32 = 0.8;
/// Reach of the mean that joins places to areas, as a share of the picture's width.
const JOIN: f32 = 0.03;
/// Share of a square that must move for an area to begin in its middle, and to reach there.
const DENSE: (f32, f32) = (0.4, 0.1);
/// Least share of the picture.
const LEAST_SHARE: f32 = 0.004;
/// Greatest mean step between neighbouring pixels of one frame, in deviations, of what has no contours; cloud has a half, people four
/// and more.
const SMOOTH: f32 = 1.6;
/// Share of such pixels that may hold steps.
const STEPS: f32 = 0.04;
/// Steps from this many deviations on are contours.
const CONTOUR: f32 = 12.0;
/// Share of what the frames show otherwise that is the plate in the shade, from which on, and the plate's as theirs in the shade, up to
/// which only the light changes.
const LIGHT: (f32, f32) = (0.4, 0.1);
/// Share of what the frames show otherwise that is clipped where the plate is not, or the other way round, from which on it is glare.
const GLARE: f32 = 0.4;
/// Share of what the frames show otherwise that is the plate with white light added, from which on it is a reflection: cloud before
/// the sky adds more red than blue.
const ADDED: f32 = 0.8;
/// Deviations up to which the means of a square are the same.
const FINE: f32 = 4.5;
/// Mean squared deviations from which on something in a square moves.
const MOVES: f32 = 6.0;

/// What moves there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Motion {
    /// Large and soft: cloud, smoke.
    Drifting,
    /// Small and everywhere: leaves, ripples.
    Trembling,
}

/// An area that moves and belongs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Moving {
    /// Its outline, in reference pixels.
    pub outline: Vec<Point>,
    /// What moves.
    pub motion: Motion,
    /// Share of the picture, 0..=1.
    pub share: f32,
    /// Index of the frame that differs least from the others there: one moment whole.
    pub frame: usize,
    /// Pixels of the choice that it is made of, and those of them where much moves, in order.
    #[serde(skip)]
    pub pixels: (Vec<u32>, Vec<u32>),
    /// What the choice had before the area was taken whole from that frame; `None` where it was not.
    #[serde(skip)]
    pub before: Option<Before>,
}

impl Moving {
    /// The box around its outline.
    pub fn bbox(&self) -> Rect {
        let (low, high) = self
            .outline
            .iter()
            .fold((Point::new(f64::MAX, f64::MAX), Point::new(f64::MIN, f64::MIN)), |(l, h), p| {
                (Point::new(l.x.min(p.x), l.y.min(p.y)), Point::new(h.x.max(p.x), h.y.max(p.y)))
            });
        let side = |from: f64, to: f64| (to.ceil() - from.floor()).max(1.0) as u32;
        Rect::new(low.x.floor() as i64, low.y.floor() as i64, side(low.x, high.x), side(low.y, high.y))
    }
}

/// Finds the areas of a decision that move and belong, largest first. Needs three frames.
pub fn find(decided: &Decided) -> Vec<Moving> {
    let choice = &decided.choice;
    let (w, h) = (choice.grid.rect.width as usize, choice.grid.rect.height as usize);
    let n = choice.frames.len();
    if n < 3 {
        return Vec::new();
    }
    let few = |(there, same): (u32, u32)| there >= 3 && same as f32 <= FEW * there as f32;
    let few: Vec<f32> = decided.support().into_iter().map(|s| f32::from(u8::from(few(s)))).collect();
    let dense = boxed(&few, w, h, (JOIN * w as f32).round() as usize);
    let mut open: Vec<bool> = dense.iter().map(|d| *d > DENSE.1).collect();
    let mut areas = Vec::new();
    for start in 0..w * h {
        if !open[start] || dense[start] <= DENSE.0 {
            continue;
        }
        let area = flood(&mut open, w, start, 1);
        let share = area.len() as f32 / (w * h) as f32;
        if share >= LEAST_SHARE
            && let Some(motion) = motion(decided, &area, w)
        {
            let much: Vec<usize> = area.iter().copied().filter(|p| dense[*p] > DENSE.0).collect();
            areas.push(describe(decided, (&area, &much), motion, share));
        }
    }
    areas.sort_by(|a, b| b.share.total_cmp(&a.share));
    areas
}

/// What moves in an area; `None` for what comes and goes.
fn motion(decided: &Decided, area: &[usize], w: usize) -> Option<Motion> {
    let n = decided.choice.frames.len();
    // Only what a frame shows otherwise tells what comes there: between people lies a place that may be as smooth as it likes.
    let inner: Vec<usize> = area.iter().copied().filter(|p| p % w + 1 < w).collect();
    let (mut sum, mut steps, mut count) = (0.0, 0usize, 0usize);
    for k in 0..n {
        let reached = |p: usize| decided.covered(k, p) && decided.covered(k, p + 1);
        for &p in inner.iter().filter(|&&p| reached(p) && decided.from_plate(k, p) > DIFFER) {
            let step = decided.step(k, p, p + 1);
            sum += step;
            steps += usize::from(step > CONTOUR);
            count += 1;
        }
    }
    if count > 0 && sum <= SMOOTH * count as f32 && steps as f32 <= STEPS * count as f32 {
        return (!light_changes(decided, area)).then_some(Motion::Drifting);
    }
    // Squares of a few pixels: their means are the same in all frames when only details move.
    let mut squares: Vec<Vec<usize>> = Vec::new();
    let mut at = std::collections::BTreeMap::new();
    for &p in area {
        let square = at.entry((p / w / SQUARE, p % w / SQUARE)).or_insert_with(|| {
            squares.push(Vec::new());
            squares.len() - 1
        });
        squares[*square].push(p);
    }
    let whole = squares.iter().filter(|s| s.len() * 2 > SQUARE * SQUARE);
    let (mut same, mut all) = (0usize, 0usize);
    for square in whole {
        let label = usize::from(decided.choice.labels[square[0]]);
        for k in (0..n).filter(|&k| k != label && decided.covered(k, square[0])) {
            let each =
                square.iter().map(|&p| decided.difference(k, label, p)).sum::<f32>() / square.len() as f32;
            // What shows the same tells nothing about what moves.
            if each < MOVES {
                continue;
            }
            same += usize::from(decided.apart(k, label, square) < FINE);
            all += 1;
        }
    }
    (all > 0 && same as f32 > 0.8 * all as f32).then_some(Motion::Trembling)
}

/// Whether an area is the same in all frames but for shade or glare that wanders over it.
fn light_changes(decided: &Decided, area: &[usize]) -> bool {
    let (mut shades, mut shaded, mut glares, mut added, mut all) = (0usize, 0usize, 0usize, 0usize, 0usize);
    for k in 0..decided.choice.frames.len() {
        for &p in area.iter().filter(|&&p| decided.covered(k, p) && decided.from_plate(k, p) > DIFFER) {
            shades += usize::from(decided.shades(k, p));
            shaded += usize::from(decided.is_shaded(k, p));
            glares += usize::from(decided.glares(k, p));
            added += usize::from(decided.adds_light(k, p));
            all += 1;
        }
    }
    let share = |of: usize| of as f32 / all.max(1) as f32;
    share(glares) > GLARE || share(added) > ADDED || share(shades) > LIGHT.0 && share(shaded) < LIGHT.1
}

/// Side of the squares whose means are compared, in pixels of the choice.
const SQUARE: usize = 12;

fn describe(decided: &Decided, (area, much): (&[usize], &[usize]), motion: Motion, share: f32) -> Moving {
    let choice = &decided.choice;
    let (w, h) = (choice.grid.rect.width as usize, choice.grid.rect.height as usize);
    let mut on = vec![false; w * h];
    area.iter().for_each(|&p| on[p] = true);
    let first = area.iter().copied().min().unwrap_or(0);
    let around = trace(w, first, |x, y| {
        x >= 0 && y >= 0 && x < w as i64 && y < h as i64 && on[y as usize * w + x as usize]
    });
    let few = simplified_to(&around, 1.0, 200);
    let outline = few.iter().map(|p| choice.grid.place(p.x, p.y)).collect();
    // The medoid, told on some of the pixels.
    let n = choice.frames.len();
    let some: Vec<usize> = area.iter().copied().step_by((area.len() / 2000).max(1)).collect();
    let far = |a: usize| -> f64 {
        let other =
            |b: usize| some.iter().map(|&p| f64::from(decided.difference(a, b, p).min(100.0))).sum::<f64>();
        let missing = some.iter().filter(|&&p| !decided.covered(a, p)).count();
        (0..n).filter(|&b| b != a).map(other).sum::<f64>() + 1e3 * missing as f64
    };
    let best = (0..n).min_by(|&a, &b| far(a).total_cmp(&far(b))).unwrap_or(0);
    let ordered = |pixels: &[usize]| {
        let mut pixels: Vec<u32> = pixels.iter().map(|p| *p as u32).collect();
        pixels.sort_unstable();
        pixels
    };
    let pixels = (ordered(area), ordered(much));
    Moving { outline, motion, share, frame: choice.frames[best], pixels, before: None }
}
