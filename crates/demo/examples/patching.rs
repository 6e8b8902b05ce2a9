//! Patches drawn roughly, on rendered truth.
//!
//! `cargo run --release -p evanu-demo --example patching -- [PATCHES] [WIDTH] [SEED]` renders busy sets, takes one frame with its
//! visitors as plate, sets the others aside, and draws loops around who stands there: 10 to 40 % too large, or shifted so that they cut
//! off its edge by a few pixels, at most a third of what it is thick. Each is laid alone from a frame that is clear there, with the border sought and as drawn.
//!
//! Step: the mean along the border of how the error to the truth jumps from two pixels outside to two inside; left out is where
//! somebody beside it, who stays, ends there anyway. It lies within the noise when it is no greater than the noise of one pixel
//! of a frame. Beside it the same of the worst 24 places in a row. Ghost area: of what the patch
//! covers, the share with a grey error over 12. Outside what is reported no pixel may differ. Prints a line of JSON each way.
//! `CACHE=FOLDER` protected what is rendered, `SAVE=FOLDER` pictures of every patch and its error.

mod kept;

use evanu_core::combine::Method;
use evanu_core::geometry::{Grid, Point, Size, inside, simplified_to, trace};
use evanu_core::patch::{Patch, PlacedPatch, Source};
use evanu_core::pixel::distance::distances;
use evanu_core::pixel::flood::flood;
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::Plan;
use evanu_core::prepare;
use evanu_core::progress::no_progress;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};
use evanu_demo::{Crowd, Order, Shoot, frame_size};
use kept::{empty, rendered};
use std::sync::Arc;
use std::time::Instant;

const FRAMES: usize = 8;
/// Grey error from which on something stands there.
const GHOST: f64 = 12.0;
/// Places of the border that are taken together.
const RUN: usize = 24;

fn grey(p: &[u16]) -> f64 {
    (0.299 * f64::from(p[0]) + 0.587 * f64::from(p[1]) + 0.114 * f64::from(p[2])) / 257.0
}

/// A rendered set, aligned.
struct Stage {
    size: Size,
    frames: Vec<MemoryFrame>,
    plan: Plan,
    truth: Vec<f64>,
    /// For each frame, where somebody stands or where it does not reach, on the reference's grid.
    taken: Vec<Vec<bool>>,
    /// Deviation of a frame's grey values from the truth where nobody stands.
    noise: f64,
}

impl Stage {
    fn new(seed: u64, width: u32) -> Option<Self> {
        let size = frame_size(width);
        let shoot = Shoot::new(Order::by_hand(seed, width, FRAMES, Crowd::Forecourt));
        let shots: Vec<_> = (0..FRAMES).map(|k| rendered("lifting", &shoot, k)).collect();
        let eight = |r: &Raster| Samples::Eight(r.data.iter().map(|v| (v / 257) as u8).collect());
        let frames: Vec<MemoryFrame> =
            shots.iter().map(|s| MemoryFrame::new(size, eight(&s.picture))).collect();
        let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
        let plan = prepare::plan(&Recipe::new(), &sources, &[], &no_progress).ok()?;
        let reference = plan.alignment.reference;
        let truth = empty("lifting", &shoot, reference);
        let w = size.width as usize;
        let taken: Vec<Vec<bool>> = (0..FRAMES)
            .map(|k| {
                let h = shoot.shots[k].to_place.inverse()?.after(&shoot.shots[reference].to_place);
                let on = |i: usize| {
                    let p = h.apply(Point::new((i % w) as f64, (i / w) as f64));
                    !size.holds(p) || shots[k].occupied[p.y.round() as usize * w + p.x.round() as usize]
                };
                Some((0..size.pixels() as usize).map(on).collect())
            })
            .collect::<Option<_>>()?;
        let truth: Vec<f64> = truth.data.chunks_exact(3).map(grey).collect();
        let own = shots[reference].picture.data.chunks_exact(3).map(grey).zip(&truth).zip(&taken[reference]);
        let mut deviations: Vec<f64> =
            own.filter(|(_, taken)| !**taken).map(|((p, t), _)| (p - t).abs()).collect();
        deviations.sort_by(f64::total_cmp);
        let noise = 1.4826 * deviations[deviations.len() / 2];
        Some(Self { size, frames, plan, truth, taken, noise })
    }

    fn plate(&self, patches: Vec<Patch>) -> Option<(Raster, Vec<PlacedPatch>, f64)> {
        let sources: Vec<&dyn FrameSource> = self.frames.iter().map(|f| f as &dyn FrameSource).collect();
        let excluded = (0..FRAMES).filter(|k| *k != self.plan.alignment.reference).collect();
        let recipe = Recipe { excluded, method: Method::Median, patches, ..Recipe::new() };
        let scene = Scene::new(&recipe, &self.plan, &sources);
        let begin = Instant::now();
        let fit = |scene: &Scene<'_>, patch: &Patch| Ok(prepare::fit(scene, patch)?.map(Arc::new));
        let placed = prepare::place_patches(&scene, fit).ok()?;
        let seconds = begin.elapsed().as_secs_f64();
        let scene = Scene { patches: &placed, ..scene };
        let plate = scene.render(View::Plate, self.size.rect(), 0).ok()?;
        Some((plate, placed, seconds))
    }

    /// Loops around what the plate leaves, each with the frame to take it from.
    fn loops(&self, plate: &Raster, random: &mut Random) -> Vec<(Vec<Point>, usize)> {
        let (w, h) = (self.size.width as usize, i64::from(self.size.height));
        let grey: Vec<f64> = plate.data.chunks_exact(3).map(grey).collect();
        let mut open: Vec<bool> = grey.iter().zip(&self.truth).map(|(p, t)| (p - t).abs() > 14.0).collect();
        let mut out = Vec::new();
        for start in 0..open.len() {
            if !open[start] {
                continue;
            }
            let part = flood(&mut open, w, start, 2);
            if !(60..6000).contains(&part.len()) {
                continue;
            }
            let cut = random.unit() < 0.4;
            let by = if cut { random.within(1.02, 1.12) } else { random.within(1.1, 1.4) };
            let angle = random.within(0.0, std::f64::consts::TAU);
            // As a hand goes around it: as much larger as a disc of its area would be in diameter.
            let far = ((by - 1.0) * (part.len() as f64 / std::f64::consts::PI).sqrt()).max(1.0) as f32;
            let beside = 2 + far as usize;
            let (pw, ph) = (w + 2 * beside, h as usize + 2 * beside);
            let mut on = vec![false; pw * ph];
            part.iter().for_each(|&p| on[(p / w + beside) * pw + p % w + beside] = true);
            let others: Vec<bool> = on.iter().map(|v| !v).collect();
            let thick = 2.0 * f64::from(distances(&others, pw).into_iter().fold(0.0, f32::max));
            let off = if cut { random.within(3.0, 7.0).min(thick / 3.0) } else { 0.0 };
            let gap = distances(&on, pw);
            let first = gap.iter().position(|v| *v <= far).unwrap_or(0);
            let around = trace(pw, first, |x, y| {
                x >= 0 && y >= 0 && x < pw as i64 && y < ph as i64 && gap[y as usize * pw + x as usize] <= far
            });
            let moved = |p: &Point| {
                Point::new(p.x - beside as f64 + off * angle.cos(), p.y - beside as f64 + off * angle.sin())
            };
            let outline: Vec<Point> = simplified_to(&around, 1.0, 60).iter().map(moved).collect();
            // Clear is a frame in which nobody stands there or right beside.
            let (x0, x1) = outline.iter().fold((f64::MAX, f64::MIN), |e, p| (e.0.min(p.x), e.1.max(p.x)));
            let (y0, y1) = outline.iter().fold((f64::MAX, f64::MIN), |e, p| (e.0.min(p.y), e.1.max(p.y)));
            let clear = |k: &usize| {
                let near = |v: f64, n: usize| (v.max(0.0) as usize).min(n - 1);
                (near(y0 - 6.0, h as usize)..=near(y1 + 6.0, h as usize))
                    .all(|y| (near(x0 - 6.0, w)..=near(x1 + 6.0, w)).all(|x| !self.taken[*k][y * w + x]))
            };
            if let Some(frame) =
                (0..FRAMES).filter(|k| self.plan.alignment.frames[*k].misfit.is_none()).find(clear)
            {
                out.push((outline, frame));
            }
        }
        out
    }
}

#[derive(Default)]
struct Tally {
    patches: usize,
    within: usize,
    steps: Vec<f64>,
    worst_within: usize,
    worst: Vec<f64>,
    ghosts: usize,
    covered: usize,
    strayed: usize,
    seconds: f64,
}

impl Tally {
    fn add(
        &mut self,
        (stage, outline): (&Stage, &[Point]),
        before: &Raster,
        (plate, placed, seconds): &(Raster, Vec<PlacedPatch>, f64),
    ) {
        let Some(laid) = placed.first() else { return };
        let (w, h) = (stage.size.width as usize, stage.size.height as usize);
        let grid = Grid::new(stage.size.rect(), 0);
        let weights: Vec<f32> =
            (0..h).flat_map(|y| laid.fit.mask.row(&grid, y).unwrap_or_else(|| vec![0.0; w])).collect();
        let error: Vec<f64> =
            plate.data.chunks_exact(3).map(grey).zip(&stage.truth).map(|(p, t)| p - t).collect();
        let old: Vec<f64> =
            before.data.chunks_exact(3).map(grey).zip(&stage.truth).map(|(p, t)| p - t).collect();
        self.strayed += (0..w * h)
            .filter(|&i| weights[i] == 0.0 && plate.data[3 * i..][..3] != before.data[3 * i..][..3])
            .count();
        let inside = (0..w * h).filter(|&i| weights[i] >= 0.5);
        let ghosts = inside.clone().filter(|&i| error[i].abs() > GHOST).count();
        self.covered += inside.count();
        self.ghosts += ghosts;
        // Places of the border by angle around the middle, each with the jump across.
        let mut jumps: Vec<(f64, f64)> = Vec::new();
        let (mut sum, mut n) = (Point::default(), 0.0);
        for i in (0..w * h).filter(|&i| weights[i] >= 0.5) {
            (sum.x, sum.y, n) = (sum.x + (i % w) as f64, sum.y + (i / w) as f64, n + 1.0);
        }
        let middle = Point::new(sum.x / n, sum.y / n);
        for y in 3..h.saturating_sub(3) {
            for x in 3..w - 3 {
                let i = y * w + x;
                for step in [1, w] {
                    let (a, b) = (weights[i] >= 0.5, weights[i + step] >= 0.5);
                    if a == b {
                        continue;
                    }
                    let (out, into) = if a { (i + 2 * step, i - step) } else { (i - step, i + 2 * step) };
                    // Where the border runs along the edge of somebody who stays, there is no seam.
                    if error[out].abs() > GHOST && old[into].abs() <= GHOST {
                        continue;
                    }
                    let angle = (y as f64 - middle.y).atan2(x as f64 - middle.x);
                    jumps.push((angle, error[into] - error[out]));
                }
            }
        }
        jumps.sort_by(|a, b| a.0.total_cmp(&b.0));
        let step = (jumps.iter().map(|j| j.1).sum::<f64>() / jumps.len().max(1) as f64).abs();
        self.within += usize::from(step <= stage.noise);
        self.steps.push(step / stage.noise);
        let means = jumps.chunks(RUN).filter(|c| 2 * c.len() >= RUN);
        let worst =
            means.map(|c| (c.iter().map(|j| j.1).sum::<f64>() / c.len() as f64).abs()).fold(0.0, f64::max);
        if let Some(folder) = std::env::var_os("SAVE") {
            save(
                &std::path::Path::new(&folder).join(format!("{:03}.ppm", self.patches)),
                (stage, outline),
                [before, plate],
                &weights,
            );
            println!(
                "{:03}: step {:.2}, of the worst run {:.2}, {ghosts} ghost pixels",
                self.patches,
                step / stage.noise,
                worst / stage.noise
            );
        }
        self.patches += 1;
        self.worst_within += usize::from(worst <= stage.noise);
        self.worst.push(worst / stage.noise);
        self.seconds += seconds;
    }

    fn print(mut self, name: &str) {
        self.steps.sort_by(f64::total_cmp);
        self.worst.sort_by(f64::total_cmp);
        let share = |n: usize| n as f64 / self.patches.max(1) as f64;
        let middle = |v: &[f64]| v.get(v.len() / 2).copied().unwrap_or(f64::NAN);
        println!(
            "{{\"border\": \"{name}\", \"patches\": {}, \"within_noise\": {:.3}, \"median_step\": {:.2}, \"worst_run_within_noise\": {:.3}, \"median_worst_run\": {:.2}, \"ghost_area\": {:.3}, \"strayed_pixels\": {}, \"fit_ms\": {:.0}}}",
            self.patches,
            share(self.within),
            middle(&self.steps),
            share(self.worst_within),
            middle(&self.worst),
            100.0 * self.ghosts as f64 / self.covered.max(1) as f64,
            self.strayed,
            1000.0 * self.seconds / self.patches.max(1) as f64,
        );
    }
}

/// The plate before, after, and its error to the truth before and after, enlarged eight times, with the loop (blue) and the border
/// (red) drawn in; cut to the patch's surroundings.
fn save(path: &std::path::Path, (stage, outline): (&Stage, &[Point]), plates: [&Raster; 2], weights: &[f32]) {
    let w = stage.size.width as usize;
    let on: Vec<usize> = (0..weights.len()).filter(|&i| weights[i] > 0.0).collect();
    let ends = |of: fn(usize, usize) -> usize| {
        let all = on.iter().map(|&i| of(i, w));
        (all.clone().min().unwrap_or(0), all.max().unwrap_or(0))
    };
    let ((x0, x1), (y0, y1)) = (ends(|i, w| i % w), ends(|i, w| i / w));
    let (x0, y0) = (x0.saturating_sub(20), y0.saturating_sub(20));
    let (x1, y1) = ((x1 + 20).min(w - 1), (y1 + 20).min(stage.size.height as usize - 1));
    let mut out = format!("P6 {} {} 255\n", 4 * (x1 - x0 + 1), y1 - y0 + 1).into_bytes();
    for y in y0..=y1 {
        let row = || (x0..=x1).map(|x| y * w + x);
        for plate in plates {
            out.extend(row().flat_map(|i| (0..3).map(move |c| (plate.data[3 * i + c] / 257) as u8)));
        }
        for plate in plates {
            out.extend(row().flat_map(|i| {
                let e = (128.0 + 8.0 * (grey(&plate.data[3 * i..]) - stage.truth[i])).clamp(0.0, 255.0) as u8;
                let taken = |j: usize| weights.get(j).is_some_and(|v| *v >= 0.5);
                let edge = taken(i) != taken(i + 1) || taken(i) != taken(i + w);
                let drawn = |j: usize| inside(outline, Point::new((j % w) as f64, (j / w) as f64));
                let looped = drawn(i) != drawn(i + 1) || drawn(i) != drawn(i + w);
                if edge {
                    [255, 0, 0]
                } else if looped {
                    [60, 60, 255]
                } else {
                    [e, e, e]
                }
            }));
        }
    }
    let _ = std::fs::write(path, out);
}

fn main() {
    let mut arguments = std::env::args().skip(1).filter_map(|a| a.parse::<u64>().ok());
    let patches = arguments.next().unwrap_or(100) as usize;
    let (width, seed) = (arguments.next().unwrap_or(600) as u32, arguments.next().unwrap_or(1));
    let (mut sought, mut drawn) = (Tally::default(), Tally::default());
    for set in 0.. {
        let Some(stage) = Stage::new(seed << 16 | set, width) else { continue };
        let Some((before, _, _)) = stage.plate(Vec::new()) else { continue };
        let mut random = Random::new(seed << 8 | set);
        for (outline, frame) in stage.loops(&before, &mut random) {
            let patch = Patch::new(stage.plan.alignment.reference, outline.clone(), Source::Frame(frame));
            let plain = Patch { optimal_seam: false, tone: false, ..patch.clone() };
            for (tally, patch) in [(&mut sought, patch), (&mut drawn, plain)] {
                if std::env::var_os("SAVE").is_some() && !patch.optimal_seam {
                    continue;
                }
                if let Some(found) = stage.plate(vec![patch]) {
                    tally.add((&stage, &outline), &before, &found);
                }
            }
            if sought.patches >= patches {
                sought.print("sought");
                drawn.print("as drawn");
                return;
            }
        }
        eprintln!("set {set}: {} patches, noise {:.2}", sought.patches, stage.noise);
    }
}
