//! Who stood still in every frame: places where nothing changes that look like those who passed.
//!
//! Nothing tells there but what a figure looks like. Windows of the plate are described by histograms of gradients (Dalal and
//! Triggs 2005) and compared with a figure by linear discriminants (Hariharan, Malik and Ramanan 2012): the mean of figures against
//! the mean and covariance of the plate's own windows, so that what is usual in this place counts little. The figure is the mean of
//! rendered visitors ([`FIGURE`], made by the example `figure`; figures of virtual worlds find real ones: Marín et al. 2010) and of those
//! who passed in this set, which also tell how tall one is where on the ground (a line by Theil 1950 and Sen 1968).
//! Only upright figures are looked for, and only where enough pass. Cost: some thousand windows of 60×30 samples, and a
//! system of 450 equations.
//!
//! ```
//! use evanu_core::plan::{FrameAlignment, Plan};
//! use evanu_core::prepare;
//! use evanu_core::recipe::Recipe;
//! use evanu_core::render::Scene;
//! // Five noisy frames of a wall; somebody walks along it.
//! # use evanu_core::geometry::Size;
//! # use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
//! # use evanu_core::random::Random;
//! # let size = Size::new(240, 160);
//! # let frame = |k: u32| {
//! #     let mut random = Random::new(u64::from(k));
//! #     let code = |i: u32| {
//! #         let (x, y) = (i % 240, i / 240);
//! #         let who = (30 * k + 20..30 * k + 45).contains(&x) && (50..120).contains(&y);
//! #         let wall = 120.0 + 30.0 * (f64::from(x) / 9.0).sin() + 20.0 * (f64::from(y) / 7.0).cos();
//! #         [(if who { 20.0 } else { wall } + random.normal()) as u8; 3]
//! #     };
//! #     MemoryFrame::new(size, Samples::Eight((0..240 * 160).flat_map(code).collect()))
//! # };
//! # let frames: Vec<MemoryFrame> = (0..5).map(frame).collect();
//! let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
//! let plan = Plan::of(vec![FrameAlignment::untouched(size); 5]);
//! let recipe = Recipe::new();
//! // What those who pass look like, which the figure is made of.
//! for look in prepare::looks(&Scene::new(&recipe, &plan, &sources))? {
//!     assert!(look.iter().all(|share| (0.0..=evanu_core::evidence::still::GREATEST_SHARE).contains(share)));
//! }
//! # Ok::<(), evanu_core::render::RenderError>(())
//! ```

use crate::combine::consensus::{DIFFER, Decided};
use crate::geometry::Size;
use crate::pixel::Plane;
use crate::pixel::blur::boxed;
use crate::pixel::flood::parts;
use rayon::prelude::*;

/// Cells of a window down and across, samples a cell has along a side, and directions of gradients.
const CELLS: (usize, usize) = (10, 5);
const CELL: usize = 6;
const DIRECTIONS: usize = 9;
/// Numbers that describe a window.
const NUMBERS: usize = CELLS.0 * CELLS.1 * DIRECTIONS;
/// What a cell's gradients are divided by beside their own, in grey steps: noise stays small.
const QUIET: f32 = 4.0;
/// Greatest share of a direction: what 255 stands for in [`FIGURE`].
pub const GREATEST_SHARE: f32 = 0.6;

/// Rendered visitors, as shares of [`GREATEST_SHARE`] in 255 steps.
const FIGURE: &[u8; NUMBERS] = include_bytes!("figure.bin");
/// How many figures of the set itself count as much as they.
const FIGURES: f32 = 100.0;

/// Heights of a window over a figure's, and of what it begins below the feet.
const WINDOW: (f32, f32) = (1.2, 0.1);
/// Least height of a window that tells what the plate looks like, and of a figure, in pixels of the choice: smaller ones look
/// like anything.
const LEAST_HEIGHT: (f32, f32) = (24.0, 60.0);
/// Heights over widths of upright figures.
const UPRIGHT: std::ops::Range<f32> = 1.4..5.0;
/// Places across the longer side that who passes is looked for at.
const ACROSS: usize = 480;
/// By how much a figure may differ from the height that its place asks for.
const LIKE: f32 = 0.25;
/// Fewest that must pass.
const LEAST_FIGURES: usize = 5;
/// Sizes that are looked for.
const SIZES: [f32; 2] = [0.9, 1.1];
/// Steps between windows, in heights.
const STEP: f32 = 1.0 / 12.0;
/// Windows that covariances are taken from.
const SAMPLED: usize = 2500;
/// Added to each variance.
const RIDGE: f64 = 0.01;
/// Deviations of the plate's windows from which on one looks like a figure.
const FIGURE_DEVIATIONS: f32 = 4.7;
/// Share of frames that must show what was chosen, over this share of a figure.
const THERE: (f32, f32) = (0.5, 0.7);

/// What a window looks like: 450 numbers of 0..=[`GREATEST_SHARE`], directions in cells in rows.
pub type Descriptor = Vec<f32>;

/// A figure that stood still, in pixels of the choice.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Standing {
    /// First column and row.
    pub corner: (usize, usize),
    /// Columns and rows.
    pub size: (usize, usize),
    /// How much it looks like a figure, in deviations of the plate's windows.
    pub alike: f32,
}

/// A figure's middle, feet and height.
#[derive(Debug, Clone, Copy)]
struct Figure {
    middle: f32,
    feet: f32,
    height: f32,
}

/// Finds who stood still, the likeliest first.
pub fn find(decided: &Decided) -> Vec<Standing> {
    let passing = passing(decided);
    let Some(ground) = Ground::of(&passing) else { return Vec::new() };
    let plate = pyramid(decided.grey(None));
    let (width, height) = (plate[0].size.width, plate[0].size.height);
    let size = (width as f32, height as f32);
    let windows = ground.windows(size);
    if windows.len() < 2 * LEAST_FIGURES {
        return Vec::new();
    }
    let looks: Vec<Descriptor> = windows.par_iter().map(|f| look(&plate, f, false)).collect();
    let own = looks_of(decided, &passing, &ground);
    let figure: Descriptor = (0..NUMBERS)
        .map(|i| {
            let rendered = f32::from(FIGURE[i]) * GREATEST_SHARE / 255.0;
            (FIGURES * rendered + own.iter().map(|l| l[i]).sum::<f32>()) / (FIGURES + own.len() as f32)
        })
        .collect();
    let Some(alike) = Discriminant::new(&looks, &figure) else { return Vec::new() };
    let mut found: Vec<(f32, Figure)> = looks
        .iter()
        .map(|l| alike.of(l))
        .zip(windows)
        .filter(|(a, f)| *a > FIGURE_DEVIATIONS && f.height >= LEAST_HEIGHT.1)
        .collect();
    found.sort_by(|a, b| b.0.total_cmp(&a.0));
    let support = decided.support();
    let mut standing: Vec<(f32, Figure)> = Vec::new();
    for (alike, figure) in found {
        let near = |o: &Figure| {
            (o.middle - figure.middle).abs() < 0.5 * o.height && (o.feet - figure.feet).abs() < 0.6 * o.height
        };
        if !standing.iter().any(|(_, o)| near(o)) && stays(&figure, &support, width as usize) {
            standing.push((alike, figure));
        }
    }
    standing.into_iter().map(|(alike, figure)| figure.standing(size, alike)).collect()
}

/// What those who pass look like, for the example `figure`.
pub fn looks_of_passing(decided: &Decided) -> Vec<Descriptor> {
    let passing = passing(decided);
    Ground::of(&passing).map_or_else(Vec::new, |ground| looks_of(decided, &passing, &ground))
}

/// Looks of those who pass, each also as in a mirror.
fn looks_of(decided: &Decided, passing: &[(usize, Figure)], ground: &Ground) -> Vec<Descriptor> {
    let of = |k: usize| {
        let like = |f: &&Figure| (f.height / ground.height(f.feet) - 1.0).abs() < LIKE;
        let own: Vec<&Figure> =
            passing.iter().filter(|(j, _)| *j == k).map(|(_, f)| f).filter(like).collect();
        // No more frames are held at once than there are threads.
        let grey = if own.is_empty() { Vec::new() } else { pyramid(decided.grey(Some(k))) };
        own.into_iter()
            .map(|f| Figure { height: ground.height(f.feet), ..*f })
            .flat_map(|f| [false, true].map(|mirrored| look(&grey, &f, mirrored)))
            .collect::<Vec<Descriptor>>()
    };
    (0..decided.choice.frames.len()).into_par_iter().flat_map_iter(of).collect()
}

/// Upright things that a frame shows and the plate does not, without their shadows: the frame's place, and where.
fn passing(decided: &Decided) -> Vec<(usize, Figure)> {
    let (width, height) = (decided.choice.grid.rect.width as usize, decided.choice.grid.rect.height as usize);
    // Every so many pixels are enough to see who is there.
    let each = (width.max(height) / ACROSS).max(1);
    let (w, h) = (width / each, height / each);
    let of = |k: usize| {
        let differs = |i: usize| {
            let p = (i / w * each + each / 2) * width + i % w * each + each / 2;
            let there = decided.covered(k, p) && decided.from_plate(k, p) > DIFFER && !decided.shades(k, p);
            f32::from(u8::from(there))
        };
        let all: Vec<f32> = (0..w * h).map(differs).collect();
        let mut open: Vec<bool> = boxed(&all, w, h, 1).into_iter().map(|v| v > 0.5).collect();
        let found = parts(&mut open, w, 0..w * h, 1);
        let figures = found.into_iter().filter_map(|part| upright(&part, (w, h), each as f32));
        figures.map(|f| (k, f)).collect::<Vec<_>>()
    };
    (0..decided.choice.frames.len()).into_par_iter().flat_map_iter(of).collect()
}

/// The figure that connected places are, `each` pixels apart, when they stand upright and away from the picture's border.
fn upright(part: &[usize], (w, h): (usize, usize), each: f32) -> Option<Figure> {
    let ends = |of: fn(usize, usize) -> usize| {
        let all = part.iter().map(|&p| of(p, w));
        Some((all.clone().min()?, all.max()?))
    };
    let ((x0, x1), (y0, y1)) = (ends(|p, w| p % w)?, ends(|p, w| p / w)?);
    let (across, height) = ((x1 - x0 + 1) as f32, (y1 - y0 + 1) as f32);
    let whole = x0 > 1 && y0 > 1 && x1 + 2 < w && y1 + 2 < h;
    let fits = whole && each * height >= LEAST_HEIGHT.0 / 1.5 && UPRIGHT.contains(&(height / across));
    // Thin lines are edges that tremble.
    let filled = part.len() as f32 > 0.25 * across * height;
    (fits && filled).then_some(Figure {
        middle: each * (x0 as f32 + across / 2.0),
        feet: each * (y1 + 1) as f32,
        height: each * height,
    })
}

/// How tall figures are by where their feet are, and where feet are.
struct Ground {
    slope: f32,
    height: f32,
    feet: (f32, f32),
}

impl Ground {
    /// The line that most of those who pass agree on; `None` when too few do.
    fn of(passing: &[(usize, Figure)]) -> Option<Self> {
        if passing.len() < LEAST_FIGURES {
            return None;
        }
        let median = |mut v: Vec<f32>| {
            v.sort_unstable_by(f32::total_cmp);
            v.get(v.len() / 2).copied()
        };
        let mut slopes = Vec::new();
        for (i, (_, a)) in passing.iter().enumerate() {
            for (_, b) in passing[..i].iter().filter(|(_, b)| (b.feet - a.feet).abs() > 0.2 * a.height) {
                slopes.push((b.height - a.height) / (b.feet - a.feet));
            }
        }
        let slope = median(slopes).unwrap_or(0.0);
        let height = median(passing.iter().map(|(_, f)| f.height - slope * f.feet).collect())?;
        let ends = |(l, h): (f32, f32), f: f32| (l.min(f), h.max(f));
        let mut ground = Self { slope, height, feet: (0.0, 0.0) };
        let like = |f: &&(usize, Figure)| (f.1.height / ground.height(f.1.feet) - 1.0).abs() < LIKE;
        let feet: Vec<f32> = passing.iter().filter(like).map(|(_, f)| f.feet).collect();
        ground.feet = feet.iter().copied().fold((f32::MAX, 0.0), ends);
        (feet.len() >= LEAST_FIGURES).then_some(ground)
    }

    fn height(&self, feet: f32) -> f32 {
        (self.slope * feet + self.height).max(1.0)
    }

    /// Where figures might stand, as far as others passed.
    fn windows(&self, (width, height): (f32, f32)) -> Vec<Figure> {
        let mut out = Vec::new();
        let mut feet = self.feet.0;
        while feet <= self.feet.1.min(height) {
            let usual = self.height(feet);
            for tall in SIZES.map(|s| s * usual).into_iter().filter(|tall| *tall >= LEAST_HEIGHT.0) {
                let mut middle = 0.25 * tall;
                while middle < width - 0.25 * tall {
                    out.push(Figure { middle, feet, height: tall });
                    middle += STEP * tall;
                }
            }
            feet += (STEP * usual).max(1.0);
        }
        out
    }
}

impl Figure {
    /// The box of its body.
    fn standing(&self, (width, height): (f32, f32), alike: f32) -> Standing {
        let end = |v: f32, n: f32| v.round().clamp(0.0, n) as usize;
        let (x0, x1) =
            (end(self.middle - 0.2 * self.height, width), end(self.middle + 0.2 * self.height, width));
        let (y0, y1) = (end(self.feet - self.height, height), end(self.feet, height));
        Standing { corner: (x0, y0), size: (x1 - x0, y1 - y0), alike }
    }
}

/// Whether most frames show what was chosen where a figure's body is.
fn stays(figure: &Figure, support: &[(u32, u32)], w: usize) -> bool {
    let body = figure.standing((w as f32, (support.len() / w) as f32), 0.0);
    let (x0, y0) = body.corner;
    let rows = (y0..y0 + body.size.1).flat_map(|y| &support[y * w + x0..][..body.size.0]);
    let same = rows.filter(|(there, same)| *there > 1 && *same as f32 >= THERE.0 * *there as f32).count();
    same as f32 >= THERE.1 * (body.size.0 * body.size.1) as f32
}

/// A picture and what is left of it by halves, as far as figures may be tall.
fn pyramid(picture: Plane) -> Vec<Plane> {
    let mut all = vec![picture];
    while let Some(last) = all.last().filter(|p| p.size.height as usize >= 4 * CELLS.0 * CELL) {
        let (w, h) = (last.size.width / 2, last.size.height / 2);
        let mut half = Plane::new(Size::new(w, h));
        for (y, row) in half.data.chunks_exact_mut(w as usize).enumerate() {
            let (up, low) = (last.row(2 * y as u32), last.row(2 * y as u32 + 1));
            let pairs = up.chunks_exact(2).zip(low.chunks_exact(2));
            row.iter_mut().zip(pairs).for_each(|(o, (a, b))| *o = (a[0] + a[1] + b[0] + b[1]) / 4.0);
        }
        all.push(half);
    }
    all
}

/// The pixels before and after some places along a line, and the share of the second.
fn between(places: impl Iterator<Item = f32>, count: u32) -> Vec<(usize, usize, f32)> {
    let kept = |v: f32| v.clamp(0.0, count as f32 - 1.0) as usize;
    places.map(|v| (kept(v.floor()), kept(v.floor() + 1.0), v - v.floor())).collect()
}

/// The angle of a gradient without its sign, 0..1 for half a turn, to a hundredth.
fn turn(gx: f32, gy: f32) -> f32 {
    let (x, y) = (gx.abs(), gy.abs());
    let ratio = x.min(y) / x.max(y).max(1e-9);
    let angle = ratio * (0.9724 - 0.1919 * ratio * ratio) / std::f32::consts::PI;
    let acute = if y > x { 0.5 - angle } else { angle };
    let all = if (gx < 0.0) != (gy < 0.0) { 1.0 - acute } else { acute };
    if all >= 1.0 { 0.0 } else { all }
}

/// Histograms of gradients over a figure's window.
fn look(pyramid: &[Plane], figure: &Figure, mirrored: bool) -> Descriptor {
    let (rows, columns) = (CELLS.0 * CELL, CELLS.1 * CELL);
    let tall = WINDOW.0 * figure.height;
    let step = tall / rows as f32;
    // Where a sample is one to two pixels wide.
    let level = (step.max(1.0).log2() as usize).min(pyramid.len() - 1);
    let (picture, side) = (&pyramid[level], (1usize << level) as f32);
    let (top, left) =
        (figure.feet + WINDOW.1 * figure.height - tall, figure.middle - step * columns as f32 / 2.0);
    let at = |from: f32, i: usize| (from + step * (i as f32 + 0.5)) / side - 0.5;
    let mirror = |x: usize| if mirrored { columns - 1 - x } else { x };
    let across = between((0..columns).map(|x| at(left, mirror(x))), picture.size.width);
    let down = between((0..rows).map(|y| at(top, y)), picture.size.height);
    let mut small = Vec::with_capacity(rows * columns);
    for (up, low, v) in down {
        let (up, low) = (picture.row(up as u32), picture.row(low as u32));
        let mix = |&(a, b, u): &(usize, usize, f32)| {
            (up[a] * (1.0 - u) + up[b] * u) * (1.0 - v) + (low[a] * (1.0 - u) + low[b] * u) * v
        };
        small.extend(across.iter().map(mix));
    }
    let mut cells = vec![[0.0f32; DIRECTIONS]; CELLS.0 * CELLS.1];
    for y in 1..rows - 1 {
        for x in 1..columns - 1 {
            let i = y * columns + x;
            let (gx, gy) =
                ((small[i + 1] - small[i - 1]) / 2.0, (small[i + columns] - small[i - columns]) / 2.0);
            let strength = (gx * gx + gy * gy).sqrt();
            let turn = turn(gx, gy) * DIRECTIONS as f32 - 0.5;
            let (first, part) = (turn.floor(), turn - turn.floor());
            let cell = &mut cells[y / CELL * CELLS.1 + x / CELL];
            let first = (first as i32).rem_euclid(DIRECTIONS as i32) as usize;
            cell[first] += strength * (1.0 - part);
            cell[(first + 1) % DIRECTIONS] += strength * part;
        }
    }
    let energy: Vec<f32> = cells.iter().map(|c| c.iter().map(|v| v * v).sum()).collect();
    let around = |cell: usize| {
        let (y, x) = (cell / CELLS.1, cell % CELLS.1);
        let near = |v: usize, n: usize| [v.saturating_sub(1), v, (v + 1).min(n - 1)];
        let sum: f32 = near(y, CELLS.0)
            .into_iter()
            .flat_map(|y| near(x, CELLS.1).map(|x| energy[y * CELLS.1 + x]))
            .sum();
        (sum / 9.0 + QUIET).sqrt()
    };
    cells
        .iter()
        .enumerate()
        .flat_map(|(i, cell)| {
            let by = around(i);
            cell.map(|v| (v / by).min(GREATEST_SHARE))
        })
        .collect()
}

/// How far a look lies from those of the plate towards a figure's, in their deviations.
struct Discriminant {
    mean: Vec<f32>,
    weights: Vec<f32>,
}

impl Discriminant {
    /// `None` when the figure looks just as the plate does.
    fn new(looks: &[Descriptor], figure: &Descriptor) -> Option<Self> {
        let sampled: Vec<&Descriptor> = looks.iter().step_by(looks.len().div_ceil(SAMPLED)).collect();
        let n = sampled.len() as f32;
        let mean: Vec<f32> = (0..NUMBERS).map(|i| sampled.iter().map(|l| l[i]).sum::<f32>() / n).collect();
        let centred: Vec<Vec<f32>> =
            (0..NUMBERS).map(|i| sampled.iter().map(|l| l[i] - mean[i]).collect()).collect();
        let row = |i: usize| -> Vec<f64> {
            let with = |j: usize| centred[i].iter().zip(&centred[j]).map(|(a, b)| a * b).sum::<f32>();
            (0..=i)
                .map(|j| f64::from(with(j)) / f64::from(n - 1.0) + if i == j { RIDGE } else { 0.0 })
                .collect()
        };
        let covariance: Vec<Vec<f64>> = (0..NUMBERS).into_par_iter().map(row).collect();
        let towards: Vec<f64> = figure.iter().zip(&mean).map(|(f, m)| f64::from(f - m)).collect();
        let solved = solve(covariance, &towards)?;
        let length = solved.iter().zip(&towards).map(|(s, t)| s * t).sum::<f64>().sqrt();
        (length > 0.0).then(|| Self { mean, weights: solved.iter().map(|s| (s / length) as f32).collect() })
    }

    fn of(&self, look: &Descriptor) -> f32 {
        look.iter().zip(&self.mean).zip(&self.weights).map(|((l, m), w)| (l - m) * w).sum()
    }
}

/// Solves a symmetric positive system by Cholesky's decomposition; `lower` holds each row up to the diagonal.
fn solve(mut lower: Vec<Vec<f64>>, right: &[f64]) -> Option<Vec<f64>> {
    let n = right.len();
    for i in 0..n {
        let (above, from_i) = lower.split_at_mut(i);
        let row = &mut from_i[0];
        for j in 0..i {
            let sum: f64 = row[..j].iter().zip(&above[j]).map(|(a, b)| a * b).sum();
            row[j] = (row[j] - sum) / above[j][j];
        }
        let left = row[i] - row[..i].iter().map(|v| v * v).sum::<f64>();
        row[i] = Some(left).filter(|l| *l > 0.0)?.sqrt();
    }
    let mut x = right.to_vec();
    for i in 0..n {
        let sum: f64 = lower[i][..i].iter().zip(&x).map(|(a, b)| a * b).sum();
        x[i] = (x[i] - sum) / lower[i][i];
    }
    for i in (0..n).rev() {
        let sum: f64 = (i + 1..n).map(|j| lower[j][i] * x[j]).sum();
        x[i] = (x[i] - sum) / lower[i][i];
    }
    Some(x)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_positive_system_is_solved_and_another_is_refused() {
        let lower = vec![vec![4.0], vec![2.0, 5.0], vec![-2.0, 1.0, 6.0]];
        let x = solve(lower, &[2.0, 15.0, 18.0]).unwrap_or_default();
        let row = |a: [f64; 3]| a.iter().zip(&x).map(|(a, x)| a * x).sum::<f64>();
        let back = [row([4.0, 2.0, -2.0]), row([2.0, 5.0, 1.0]), row([-2.0, 1.0, 6.0])];
        assert!(back.iter().zip([2.0, 15.0, 18.0]).all(|(b, r)| (b - r).abs() < 1e-9), "{back:?}");
        assert_eq!(solve(vec![vec![1.0], vec![2.0, 4.0]], &[1.0, 1.0]), None);
    }

    #[test]
    fn heights_follow_the_ground_whoever_sits() {
        let figure = |feet: f32, height: f32| (0, Figure { middle: 50.0, feet, height });
        let mut passing: Vec<(usize, Figure)> =
            (0..9).map(|k| figure(200.0 + 10.0 * k as f32, 60.0 + 8.0 * k as f32)).collect();
        passing.extend([figure(215.0, 30.0), figure(260.0, 190.0)]);
        let ground = Ground::of(&passing).map(|g| (g.height(240.0), g.height(280.0), g.feet));
        assert!(
            matches!(ground, Some((a, b, (200.0, 280.0))) if (a - 92.0).abs() < 1.0 && (b - 124.0).abs() < 1.0)
        );
        assert!(Ground::of(&passing[..4]).is_none(), "too few");
    }

    #[test]
    fn angles_are_known_to_a_hundredth() {
        for k in 0..720 {
            let (y, x) = (k as f32 * std::f32::consts::PI / 360.0).sin_cos();
            let exact = (y.atan2(x) / std::f32::consts::PI).rem_euclid(1.0);
            let off = (turn(3.0 * x, 3.0 * y) - exact).abs();
            assert!(off.min(1.0 - off) < 0.01, "{k}: {off}");
        }
    }

    #[test]
    fn a_look_does_not_change_with_size_and_turns_round_in_a_mirror() {
        let (w, h) = (240usize, 240usize);
        let picture = |scale: f32| {
            let value = |x: f32, y: f32| 130.0 + 70.0 * (((x - 60.0) * 0.8 + y - 50.0) / 4.0).tanh();
            let at = |v: usize| (v as f32 + 0.5) / scale - 0.5;
            let data = (0..w * h).map(|i| value(at(i % w), at(i / w))).collect();
            Plane { size: Size::new(w as u32, h as u32), data }
        };
        let figure = Figure { middle: 60.0, feet: 90.0, height: 70.0 };
        let (one, two) = (pyramid(picture(1.0)), pyramid(picture(2.0)));
        let twice = Figure { middle: 120.5, feet: 180.5, height: 140.0 };
        let apart = |a: &Descriptor, b: &Descriptor| {
            let square: f32 = a.iter().zip(b).map(|(a, b)| (a - b).powi(2)).sum();
            square.sqrt() / a.iter().map(|v| v * v).sum::<f32>().sqrt()
        };
        let own = look(&one, &figure, false);
        let off = apart(&own, &look(&two, &twice, false));
        assert!(off < 0.15, "{off}");
        let off = apart(&own, &look(&one, &figure, true));
        assert!(off > 0.5, "{off}");
    }
}
