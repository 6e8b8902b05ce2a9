//! What the methods make of random sets of several kinds.
//!
//! `cargo run --release -p evanu-demo --example combining -- [SETS] [WIDTH] [SEED] [KIND]` takes random sets of every kind
//! at one place, and compares consensus and median with the truth. Ghost area is the share of ever occupied pixels
//! whose grey error exceeds 12 of 255. Prints a line a set and a line of JSON a kind.

use evanu_core::combine::Method;
use evanu_core::geometry::{Homography, Point, Size};
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::Plan;
use evanu_core::prepare;
use evanu_core::progress::unwatched;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};
use evanu_demo::{Crowd, Order, PITCH, Shoot, empty_frame, frame_size};
use std::time::Instant;

/// Name, visitors, frames from and to, whether glare moves over the picture.
type Kind = (&'static str, fn(f32) -> Crowd, (usize, usize), bool);

const KINDS: [Kind; 9] = [
    ("static", |_| Crowd::Nobody, (8, 12), false),
    ("sparse", |_| Crowd::Few, (8, 15), false),
    ("medium", |_| Crowd::Forecourt, (8, 15), false),
    ("crowded", |_| Crowd::Many, (12, 15), false),
    ("three", |_| Crowd::Few, (3, 3), false),
    ("pair", |_| Crowd::Few, (2, 2), false),
    ("overlapping", |_| Crowd::Slow, (2, 3), false),
    ("lingering", Crowd::Lingering, (10, 12), false),
    ("glare", |_| Crowd::Nobody, (6, 10), true),
];

/// Soft spots of light that a lamp moved about would leave, the same in no two frames.
fn glare(picture: &mut Raster, random: &mut Random, taken: &mut [bool]) {
    let (w, h) = (f64::from(picture.size.width), f64::from(picture.size.height));
    for _ in 0..4 {
        let (x, y) = (random.within(0.2, 0.8) * w, random.within(0.45, 0.85) * h);
        let (a, b) = (random.within(0.02, 0.06) * w, random.within(0.015, 0.05) * w);
        for (i, px) in picture.data.chunks_exact_mut(3).enumerate() {
            let (dx, dy) = ((i as f64 % w - x) / a, ((i as f64 / w).floor() - y) / b);
            let light = 1.6 * (-(dx * dx + dy * dy)).exp();
            if light > 0.004 {
                for v in px {
                    let linear = evanu_core::pixel::tone::to_linear(f64::from(*v) / 65535.0) + light;
                    *v = (evanu_core::pixel::tone::to_code(linear.min(1.0)) * 255.0).round() as u16 * 257;
                }
                taken[i] |= light > 0.01;
            }
        }
    }
}

struct Scored {
    psnr: f64,
    ghost: f64,
    /// The same where at least one frame shows the place.
    avoidable: f64,
}

fn grey(p: &[u16]) -> f64 {
    (0.299 * f64::from(p[0]) + 0.587 * f64::from(p[1]) + 0.114 * f64::from(p[2])) / 257.0
}

fn score(plate: &Raster, truth: &Raster, counts: &[u16], frames: usize) -> Scored {
    let (mut squares, mut ghosts, mut avoidable, mut n) = (0.0, 0usize, 0usize, 0usize);
    for ((p, t), taken) in plate.data.chunks_exact(3).zip(truth.data.chunks_exact(3)).zip(counts) {
        squares += (0..3).map(|c| ((f64::from(p[c]) - f64::from(t[c])) / 257.0).powi(2)).sum::<f64>();
        n += usize::from(*taken > 0);
        let ghost = *taken > 0 && (grey(p) - grey(t)).abs() > 12.0;
        ghosts += usize::from(ghost);
        avoidable += usize::from(ghost && usize::from(*taken) < frames);
    }
    Scored {
        psnr: 10.0 * (255.0f64.powi(2) * plate.data.len() as f64 / squares).log10(),
        ghost: 100.0 * ghosts as f64 / n.max(1) as f64,
        avoidable: 100.0 * avoidable as f64 / n.max(1) as f64,
    }
}

/// Connected places of more than 64 pixels that are off by more than 20 grey steps, and how many of them a doubt touches;
/// the number of doubts and how many of those touch such a place.
fn doubted(plate: &Raster, truth: &Raster, plan: &Plan) -> [usize; 4] {
    let w = plate.size.width as usize;
    let wrong: Vec<bool> = plate
        .data
        .chunks_exact(3)
        .zip(truth.data.chunks_exact(3))
        .map(|(p, t)| (grey(p) - grey(t)).abs() > 20.0)
        .collect();
    let mut place = vec![usize::MAX; wrong.len()];
    let mut sizes = Vec::new();
    for start in 0..wrong.len() {
        if !wrong[start] || place[start] != usize::MAX {
            continue;
        }
        place[start] = sizes.len();
        let mut open = vec![start];
        let mut n = 0;
        while let Some(p) = open.pop() {
            n += 1;
            let beside = [
                (p % w > 0).then(|| p - 1),
                (p % w + 1 < w).then_some(p + 1),
                (p >= w).then(|| p - w),
                (p + w < wrong.len()).then_some(p + w),
            ];
            for q in beside.into_iter().flatten().filter(|&q| wrong[q]) {
                if place[q] == usize::MAX {
                    place[q] = sizes.len();
                    open.push(q);
                }
            }
        }
        sizes.push(n);
    }
    let Some(choice) = &plan.choice else { return [0; 4] };
    let mut found = vec![false; sizes.len()];
    let mut needed = 0;
    for doubt in plan.doubts.iter() {
        let mut touches = false;
        for &p in &doubt.pixels {
            let (x, y) = (p as usize % choice.size.width as usize, p as usize / choice.size.width as usize);
            let side = 1usize << choice.level;
            for (x, y) in (0..side * side).map(|k| (x * side + k % side, y * side + k / side)) {
                let at = y * w + x;
                if x < w && at < place.len() && place[at] != usize::MAX && sizes[place[at]] > 64 {
                    found[place[at]] = true;
                    touches = true;
                }
            }
        }
        needed += usize::from(touches);
    }
    let large: Vec<usize> = (0..sizes.len()).filter(|&i| sizes[i] > 64).collect();
    [large.len(), large.iter().filter(|&&i| found[i]).count(), plan.doubts.len(), needed]
}

/// Share of ever occupied places by how many frames they were taken in, at least `share` of them.
fn taken_most(counts: &[u16], frames: usize, share: f64) -> f64 {
    let ever = counts.iter().filter(|c| **c > 0).count();
    let most = counts.iter().filter(|c| f64::from(**c) >= share * frames as f64).count();
    100.0 * most as f64 / ever.max(1) as f64
}

fn save(name: &str, picture: &Raster) {
    if let Ok(folder) = std::env::var("SAVE") {
        let codes = picture.to_u8();
        let mut out = format!("P6 {} {} 255\n", picture.size.width, picture.size.height).into_bytes();
        out.extend(codes);
        if let Err(e) = std::fs::write(format!("{folder}/{name}.ppm"), out) {
            eprintln!("{name}: {e}");
        }
    }
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let number = |i: usize, usual: u64| arguments.get(i).and_then(|a| a.parse().ok()).unwrap_or(usual);
    let (sets, width, seed) = (number(0, 3), number(1, 900) as u32, number(2, 1));
    let size: Size = frame_size(width);
    let mut shoot =
        Shoot::new(Order { seed, width, frames: 1, crowd: Crowd::Nobody, sway: 0.0, pitch: PITCH });
    let mut random = Random::new(seed ^ 0xC0B);
    for (name, crowd, (from, to), glaring) in KINDS {
        let mut all: Vec<(Scored, Scored, f64)> = Vec::new();
        let mut doubts = [0; 4];
        for set in 0..sets {
            let count = from + random.below(to - from + 1);
            let own = seed << 20 | set << 4 | name.len() as u64;
            if arguments.get(3).is_some_and(|k| k != name) {
                continue;
            }
            shoot.again(own, count, crowd(count as f32 * 3.4));
            let mut spots = Random::new(own);
            let mut masks = Vec::new();
            let frames: Vec<MemoryFrame> = (0..count)
                .map(|k| {
                    let mut frame = shoot.frame(k);
                    if glaring {
                        glare(&mut frame.picture, &mut spots, &mut frame.occupied);
                    }
                    masks.push(frame.occupied);
                    if set == 0 {
                        save(&format!("{name}-{k}"), &frame.picture);
                    }
                    let codes = frame.picture.data;
                    MemoryFrame::new(size, Samples::Eight(codes.iter().map(|v| (v / 257) as u8).collect()))
                })
                .collect();
            let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
            let recipe = Recipe::new(count);
            let clocks: Vec<Option<f64>> = shoot.shots.iter().map(|s| Some(s.time)).collect();
            let Ok(mut plan) = prepare::plan(&recipe, &sources, &clocks, &unwatched) else {
                unreachable!("frames are in memory")
            };
            let begin = Instant::now();
            if prepare::choose(&mut plan, &recipe, &sources).is_err() {
                println!("{name} {set}: nothing to choose from");
                continue;
            }
            let decided = begin.elapsed().as_secs_f64();
            let reference = &shoot.shots[plan.reference];
            let truth = empty_frame(shoot.place(0), reference, size);
            let back = |k: usize| {
                let own = shoot.shots[k].to_place.inverse().unwrap_or(Homography::IDENTITY);
                own.after(&reference.to_place)
            };
            let mut counts = vec![0u16; size.pixels() as usize];
            for (k, mask) in masks.iter().enumerate() {
                let h = back(k);
                for (i, c) in counts.iter_mut().enumerate() {
                    let p = h.apply(Point::new(
                        f64::from(i as u32 % size.width),
                        f64::from(i as u32 / size.width),
                    ));
                    if size.holds(p) {
                        let at = p.y.round().max(0.0) as usize * size.width as usize
                            + p.x.round().max(0.0) as usize;
                        *c += u16::from(mask.get(at).copied().unwrap_or(false));
                    }
                }
            }
            let scene = Scene { recipe: &recipe, plan: &plan, sources: &sources };
            let by = |m: Method| scene.render(View::By(m), size.rect(), 0);
            let begin = Instant::now();
            let (Ok(consensus), seconds, Ok(median)) =
                (by(Method::Consensus), begin.elapsed().as_secs_f64(), by(Method::Median))
            else {
                continue;
            };
            save(&format!("{name}-consensus-{set}"), &consensus);
            save(&format!("{name}-truth-{set}"), &truth);
            let (c, m) = (score(&consensus, &truth, &counts, count), score(&median, &truth, &counts, count));
            let (busy, never) = (taken_most(&counts, count, 0.55), taken_most(&counts, count, 1.0));
            let d = doubted(&consensus, &truth, &plan);
            (0..4).for_each(|i| doubts[i] += d[i]);
            println!(
                "{name} {set}: wrong places {} of which doubted {}, doubts {} of which needed {}; {count} frames, {busy:.0} % of places taken in 55 %, {never:.1} % always; consensus {:.2} dB ghost {:.2} % ({:.2} % where a frame is clear), median {:.2} dB ghost {:.2} %; decided in {decided:.2} s, rendered in {seconds:.2} s",
                d[0], d[1], d[2], d[3], c.psnr, c.ghost, c.avoidable, m.psnr, m.ghost
            );
            all.push((c, m, decided));
        }
        if all.is_empty() {
            continue;
        }
        let n = all.len() as f64;
        let mean = |f: &dyn Fn(&(Scored, Scored, f64)) -> f64| all.iter().map(f).sum::<f64>() / n;
        let worst = all.iter().map(|a| a.0.ghost).fold(0.0, f64::max);
        println!(
            "{{\"kind\": \"{name}\", \"sets\": {}, \"consensus_psnr\": {:.2}, \"median_psnr\": {:.2}, \"consensus_ghost\": {:.3}, \"avoidable_ghost\": {:.3}, \"worst_ghost\": {worst:.3}, \"median_ghost\": {:.3}, \"wrong_places\": {}, \"doubted\": {}, \"doubts\": {}, \"needed\": {}, \"decide_s\": {:.2}}}",
            all.len(),
            mean(&|a| a.0.psnr),
            mean(&|a| a.1.psnr),
            mean(&|a| a.0.ghost),
            mean(&|a| a.0.avoidable),
            mean(&|a| a.1.ghost),
            doubts[0],
            doubts[1],
            doubts[2],
            doubts[3],
            mean(&|a| a.2)
        );
    }
}
