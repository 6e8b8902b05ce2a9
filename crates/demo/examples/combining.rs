//! What the methods make of random sets of several kinds.
//!
//! `cargo run --release -p evanu-demo --example combining -- [SETS] [WIDTH] [SEED] [KIND,KIND]` takes random sets of every kind
//! at one place, and compares consensus and median with the truth. Ghost area is the share of ever occupied pixels
//! whose grey error exceeds 12 of 255. Prints a line a set and a line of JSON a kind.
//!
//! With `FRAMES=FOLDER` the frames, the truth and where anything ever was are written there, for other pipelines
//! (`measure/combining.py`); with `SAVE=FOLDER` plates and truths, with `DOUBTS=1` every doubt is told. With `CACHE=FOLDER` what
//! is rendered is kept there and taken from there, which makes the next run several times as fast; with `ONLY=7,10` these sets
//! of each kind are taken. With `CAMERA=1` frames are what a camera's own files hold, another camera in each set, and so is the
//! truth but for its noise and coding. With `NOISE=4` the sensor's noise is four times as strong.

mod borders;
mod kept;

use evanu_core::combine::Method;
use evanu_core::evidence::doubts::{Doubt, Reason};
use evanu_core::geometry::{Homography, Point, Size};
use evanu_core::pixel::flood::parts;
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::{Decision, Plan};
use evanu_core::prepare;
use evanu_core::progress::no_progress;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};
use evanu_demo::{Crowd, INTERVAL, Order, Shoot, Sight, frame_size};
use kept::{empty, rendered};
use std::time::Instant;

/// Pixels of a wrong place that counts, and of one that makes a doubt needed.
const LARGE: usize = 64;
const SMALL: usize = 16;

/// A kind of set.
struct Kind {
    name: &'static str,
    /// Visitors for so many frames.
    crowd: fn(usize) -> Crowd,
    /// Number of frames, from and to.
    frames: (usize, usize),
    /// Glare moves over the picture.
    glaring: bool,
    /// The camera moves, some centimetres between frames, and things stand near it.
    layers: bool,
}

const fn kind(name: &'static str, crowd: fn(usize) -> Crowd, frames: (usize, usize)) -> Kind {
    Kind { name, crowd, frames, glaring: false, layers: false }
}

/// What was measured of one set.
struct Measured {
    consensus: Scored,
    median: Scored,
    /// Of [`ideal`].
    best: Scored,
    /// In percent, of consensus and median.
    false_colour: (f64, f64),
    seconds: f64,
}

const KINDS: [Kind; 14] = [
    kind("static", |_| Crowd::Nobody, (8, 12)),
    kind("sparse", |_| Crowd::Few, (8, 15)),
    kind("medium", |_| Crowd::Forecourt, (8, 15)),
    kind("crowded", |_| Crowd::Many, (12, 15)),
    kind("three", |_| Crowd::Few, (3, 3)),
    kind("pair", |_| Crowd::Few, (2, 2)),
    kind("overlapping", |_| Crowd::Slow, (2, 3)),
    kind("lingering", |frames| Crowd::Lingering(seconds(frames)), (10, 12)),
    Kind { glaring: true, ..kind("glare", |_| Crowd::Nobody, (6, 10)) },
    // One of those who linger stays for the whole set.
    kind("standing", |frames| Crowd::Lingering(1.75 * seconds(frames)), (10, 12)),
    kind("near", Crowd::Near, (3, 4)),
    // As lingering, in fewer frames.
    kind("waiting", |frames| Crowd::Lingering(seconds(frames)), (3, 5)),
    kind("staying", |frames| Crowd::Lingering(seconds(frames)), (6, 9)),
    Kind { layers: true, ..kind("layers", |_| Crowd::Forecourt, (8, 8)) },
];
/// How far the camera of `layers` moves between frames, in metres.
const SWAY: f64 = 0.04;

/// How long so many frames take.
fn seconds(frames: usize) -> f32 {
    frames as f32 * INTERVAL as f32
}

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
    /// The same where the [`ideal`] average has none: what is off there is not what the truth's own grain makes of it.
    beyond: f64,
}

fn grey(p: &[u16]) -> f64 {
    (0.299 * f64::from(p[0]) + 0.587 * f64::from(p[1]) + 0.114 * f64::from(p[2])) / 257.0
}

fn score(plate: &Raster, truth: &Raster, ideal: &Raster, counts: &[u16], reached: &[u16]) -> Scored {
    let (mut squares, mut ghosts, mut avoidable, mut beyond, mut n) = (0.0, 0usize, 0usize, 0usize, 0usize);
    let off = |a: &[u16], b: &[u16]| (grey(a) - grey(b)).abs() > 12.0;
    let pixels = plate.data.chunks_exact(3).zip(truth.data.chunks_exact(3)).zip(ideal.data.chunks_exact(3));
    for (((p, t), i), (taken, reached)) in pixels.zip(counts.iter().zip(reached)) {
        squares += (0..3).map(|c| ((f64::from(p[c]) - f64::from(t[c])) / 257.0).powi(2)).sum::<f64>();
        n += usize::from(*taken > 0);
        let ghost = *taken > 0 && off(p, t);
        ghosts += usize::from(ghost);
        beyond += usize::from(ghost && !off(i, t));
        avoidable += usize::from(ghost && taken < reached);
    }
    Scored {
        psnr: 10.0 * (255.0f64.powi(2) * plate.data.len() as f64 / squares).log10(),
        ghost: 100.0 * ghosts as f64 / n.max(1) as f64,
        avoidable: 100.0 * avoidable as f64 / n.max(1) as f64,
        beyond: 100.0 * beyond as f64 / n.max(1) as f64,
    }
}

/// Where the plate is off by more than 20 grey steps and more than one frame reaches, so that it might be known.
fn wrong(plate: &Raster, truth: &Raster, reached: &[u16]) -> Vec<bool> {
    let pixels = plate.data.chunks_exact(3).zip(truth.data.chunks_exact(3)).zip(reached);
    pixels.map(|((p, t), reached)| (grey(p) - grey(t)).abs() > 20.0 && *reached > 1).collect()
}

/// Connected areas of more than 64 pixels in which anything ever was, though never in all frames that reach them, and how many of
/// them hold no wrong place of more than 16 pixels.
fn changed_areas(plate: &Raster, truth: &Raster, counts: &[u16], reached: &[u16]) -> [usize; 2] {
    let w = plate.size.width as usize;
    let wrong = wrong(plate, truth, reached);
    let mut ever: Vec<bool> = counts.iter().map(|c| *c > 0).collect();
    let mut areas = parts(&mut ever, w, 0..counts.len(), 1);
    areas.retain(|area| area.len() > LARGE && area.iter().all(|&p| counts[p] < reached[p]));
    let right = |area: &&Vec<usize>| {
        let mut off = vec![false; wrong.len()];
        area.iter().for_each(|&p| off[p] = wrong[p]);
        parts(&mut off, w, area.iter().copied(), 1).iter().all(|part| part.len() <= SMALL)
    };
    [areas.len(), areas.iter().filter(right).count()]
}

/// Connected [`wrong`] places of more than 64 pixels, and how many of them a doubt touches
/// that is asked; the number of those doubts, how many of them touch such a place, and how many touch none of more than 16.
fn doubted(plate: &Raster, truth: &Raster, decision: &Decision, reached: &[u16]) -> [usize; 5] {
    let w = plate.size.width as usize;
    let wrong = wrong(plate, truth, reached);
    let mut place = vec![usize::MAX; wrong.len()];
    let areas = parts(&mut wrong.clone(), w, 0..wrong.len(), 1);
    areas.iter().zip(0..).for_each(|(area, k)| area.iter().for_each(|&p| place[p] = k));
    let sizes: Vec<usize> = areas.iter().map(Vec::len).collect();
    let choice = decision.label_map.grid;
    let mut found = vec![false; sizes.len()];
    let (mut needed, mut idle) = (0, 0);
    let told = std::env::var("DOUBTS").is_ok();
    for doubt in &decision.doubts {
        let mut touches = 0;
        for &p in &doubt.pixels {
            let (x, y) = (p as usize % choice.rect.width as usize, p as usize / choice.rect.width as usize);
            let side = 1usize << choice.level;
            for (x, y) in (0..side * side).map(|k| (x * side + k % side, y * side + k / side)) {
                let at = y * w + x;
                if x < w && at < place.len() && place[at] != usize::MAX {
                    found[place[at]] |= !doubt.settled;
                    touches = sizes[place[at]].max(touches);
                }
            }
        }
        needed += usize::from(touches > LARGE && !doubt.settled);
        idle += usize::from(touches <= SMALL && !doubt.settled);
        if told {
            if doubt.reason != Reason::Still {
                println!("  signs {} {:?}", u8::from(touches > SMALL), doubt.signs.all());
            }
            println!(
                "  {} {:?} {:?} {} px, confidence {:.2}, stories {:?}",
                match (touches > LARGE, doubt.settled) {
                    (true, false) => "needed",
                    (false, false) => "needless",
                    (true, true) => "settled wrongly",
                    (false, true) => "settled",
                },
                doubt.reason,
                doubt.bbox,
                doubt.pixels.len(),
                doubt.confidence,
                doubt.stories.iter().map(Vec::len).collect::<Vec<_>>()
            );
        }
    }
    if told {
        for i in (0..sizes.len()).filter(|&i| sizes[i] > LARGE) {
            let at = place.iter().position(|&p| p == i).unwrap_or(0);
            println!(
                "  wrong {} px from {}, {}, {}",
                sizes[i],
                at % w,
                at / w,
                if found[i] { "doubted" } else { "not doubted" }
            );
        }
    }
    let large: Vec<usize> = (0..sizes.len()).filter(|&i| sizes[i] > LARGE).collect();
    let asked = decision.doubts.iter().filter(|d| !d.settled).count();
    [large.len(), large.iter().filter(|&&i| found[i]).count(), asked, needed, idle]
}

/// The share of a doubt's box, 0..=1, in which any two of its stories differ by more than noise does; `None` for fewer.
fn disputed(scene: &Scene<'_>, doubt: &Doubt) -> Option<f64> {
    const DIFFERS: f64 = 6.0;
    let frame = |story: &Vec<usize>| scene.render(View::Frame(*story.first()?), doubt.bbox, 0).ok();
    let told: Vec<Raster> = doubt.stories.iter().filter_map(frame).collect();
    let first = told.first().filter(|_| told.len() > 1)?;
    let n = first.size.pixels() as usize;
    let at = |picture: &Raster, i: usize| grey(&picture.data[3 * i..][..3]);
    let differ = |i: &usize| told.iter().any(|other| (at(other, *i) - at(first, *i)).abs() > DIFFERS);
    Some((0..n).filter(differ).count() as f64 / n as f64)
}

/// What somebody who knew who stands where would make: at each place the average of the frames that are clear there.
fn ideal(scene: &Scene<'_>, size: Size, clear: &dyn Fn(usize, usize) -> bool) -> Option<Raster> {
    let mut sums = vec![[0.0f64; 4]; size.pixels() as usize];
    for k in scene.used() {
        let frame = scene.render(View::Frame(k), size.rect(), 0).ok()?;
        for (i, (s, p)) in sums.iter_mut().zip(frame.data.chunks_exact(3)).enumerate() {
            if clear(k, i) && p.iter().any(|v| *v > 0) {
                (0..3).for_each(|c| s[c] += evanu_core::pixel::tone::to_linear(f64::from(p[c]) / 65535.0));
                s[3] += 1.0;
            }
        }
    }
    let code = |v: f64| (evanu_core::pixel::tone::to_code(v) * 65535.0).round() as u16;
    let data = sums.iter().flat_map(|s| [0, 1, 2].map(|c| code(s[c] / s[3].max(1.0)))).collect();
    Some(Raster { size, data })
}

/// Share of pixels, in percent, whose colour no frame shows: farther from each by more than noise explains.
fn false_colour(scene: &Scene<'_>, plate: &Raster) -> f64 {
    /// Codes of eight bits.
    const NOISE: i32 = 14;
    let mut nearest = vec![i32::MAX; plate.size.pixels() as usize];
    for k in scene.used() {
        let Ok(frame) = scene.render(View::Frame(k), plate.size.rect(), 0) else { continue };
        let pixels = frame.data.chunks_exact(3).zip(plate.data.chunks_exact(3));
        for (n, (f, p)) in nearest.iter_mut().zip(pixels) {
            let off = (0..3).map(|c| (i32::from(f[c]) - i32::from(p[c])).abs() / 257).max().unwrap_or(0);
            *n = off.min(*n);
        }
    }
    100.0 * nearest.iter().filter(|n| **n > NOISE).count() as f64 / nearest.len() as f64
}

/// Writes what other pipelines need of a set.
fn give(name: &str, shoot: &Shoot, frames: &[Raster], plan: &Plan, truth: &Raster, counts: &[u16]) {
    let Ok(folder) = std::env::var("FRAMES") else { return };
    let folder = std::path::Path::new(&folder).join(name);
    let write = |to: &str, picture: &Raster| {
        let bytes = evanu_media::encode_png(picture)?;
        std::fs::write(folder.join(to), bytes)
    };
    let all = || -> std::io::Result<()> {
        std::fs::create_dir_all(folder.join("frames"))?;
        for (k, frame) in frames.iter().enumerate().take(shoot.shots.len()) {
            write(&format!("frames/frame-{k:02}.png"), frame)?;
        }
        write("truth.png", truth)?;
        let ever = counts.iter().flat_map(|c| [if *c > 0 { u16::MAX } else { 0 }; 3]).collect();
        write("ever.png", &Raster { size: truth.size, data: ever })?;
        std::fs::write(folder.join("set.json"), format!("{{\"reference\": {}}}", plan.alignment.reference))
    };
    if let Err(e) = all() {
        eprintln!("{name}: {e}");
    }
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
    let mut shoot = Shoot::new(Order::by_hand(seed, width, 1, Crowd::Nobody));
    let mut random = Random::new(seed ^ 0xC0B);
    for Kind { name, crowd, frames: (from, to), glaring, layers } in KINDS {
        let mut all: Vec<Measured> = Vec::new();
        let (mut doubts, mut areas) = ([0; 5], [0; 2]);
        let mut contested: Vec<f64> = Vec::new();
        let mut borders = [0; 2];
        for set in 0..sets {
            let count = from + random.below(to - from + 1);
            let own = seed << 20 | set << 4 | name.len() as u64;
            let listed = |only: String| only.split(',').any(|s| s.parse() == Ok(set));
            if arguments.get(3).is_some_and(|kinds| !kinds.split(',').any(|k| k == name))
                || !std::env::var("ONLY").map_or(true, listed)
            {
                continue;
            }
            if layers {
                let order = Order {
                    sight: Sight::Layers,
                    sway: SWAY,
                    ..Order::by_hand(own, width, count, crowd(count))
                };
                shoot = Shoot::new(order);
            } else {
                shoot.again(own, count, crowd(count));
            }
            let mut spots = Random::new(own);
            let mut masks = Vec::new();
            let mut pictures = Vec::new();
            let frames: Vec<MemoryFrame> = (0..count)
                .map(|k| {
                    let mut frame = rendered(name, &shoot, k);
                    if glaring {
                        glare(&mut frame.picture, &mut spots, &mut frame.occupied);
                    }
                    masks.push(frame.occupied);
                    if set == 0 {
                        save(&format!("{name}-{k}"), &frame.picture);
                    }
                    let codes = frame.picture.data.iter().map(|v| (v / 257) as u8).collect();
                    if std::env::var("FRAMES").is_ok() {
                        pictures.push(frame.picture);
                    }
                    MemoryFrame::new(size, Samples::Eight(codes))
                })
                .collect();
            let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
            let recipe = Recipe::new();
            let clocks: Vec<Option<f64>> = shoot.shots.iter().map(|s| Some(s.time)).collect();
            let Ok(plan) = prepare::plan(&recipe, &sources, &clocks, &no_progress) else {
                unreachable!("frames are in memory")
            };
            let begin = Instant::now();
            let Ok(decision) = prepare::decide(&Scene::new(&recipe, &plan, &sources)) else {
                println!("{name} {set}: nothing to choose from");
                continue;
            };
            let decided = begin.elapsed().as_secs_f64();
            let reference = &shoot.shots[plan.alignment.reference];
            let truth = empty(name, &shoot, plan.alignment.reference);
            let back = |k: usize| {
                let own = shoot.shots[k].to_place.inverse().unwrap_or(Homography::IDENTITY);
                own.after(&reference.to_place)
            };
            let mut counts = vec![0u16; size.pixels() as usize];
            let mut reached = counts.clone();
            let mut taken = vec![vec![false; size.pixels() as usize]; count];
            for (k, mask) in masks.iter().enumerate() {
                let h = back(k);
                for (i, c) in counts.iter_mut().enumerate() {
                    let p = h.apply(Point::new(
                        f64::from(i as u32 % size.width),
                        f64::from(i as u32 / size.width),
                    ));
                    if size.holds(p) {
                        reached[i] += 1;
                        let at = p.y.round().max(0.0) as usize * size.width as usize
                            + p.x.round().max(0.0) as usize;
                        taken[k][i] = mask.get(at).copied().unwrap_or(false);
                        *c += u16::from(taken[k][i]);
                    }
                }
            }
            let scene = Scene::new(&recipe, &plan, &sources).decided(&decision);
            let by = |m: Method| scene.render(View::By(m), size.rect(), 0);
            let begin = Instant::now();
            let (Ok(consensus), seconds, Ok(median)) =
                (by(Method::Consensus), begin.elapsed().as_secs_f64(), by(Method::Median))
            else {
                continue;
            };
            give(&format!("{name}-{set:02}"), &shoot, &pictures, &plan, &truth, &counts);
            save(&format!("{name}-consensus-{set}"), &consensus);
            save(&format!("{name}-truth-{set}"), &truth);
            let Some(ideal) = ideal(&scene, size, &|k, i| !taken[k][i]) else { continue };
            let scored = |plate: &Raster| score(plate, &truth, &ideal, &counts, &reached);
            let (best, c, m) = (scored(&ideal), scored(&consensus), scored(&median));
            let (busy, never) = (taken_most(&counts, count, 0.55), taken_most(&counts, count, 1.0));
            let d = doubted(&consensus, &truth, &decision, &reached);
            contested
                .extend(decision.doubts.iter().filter(|d| !d.settled).filter_map(|d| disputed(&scene, d)));
            (0..5).for_each(|i| doubts[i] += d[i]);
            let shown = |i: usize| counts[i] < reached[i];
            let steps = borders::steps((&consensus, &truth), &shown, &decision.label_map, &plan.tones.noise);
            (0..2).for_each(|i| borders[i] += steps[i]);
            let changed = changed_areas(&consensus, &truth, &counts, &reached);
            (0..2).for_each(|i| areas[i] += changed[i]);
            println!(
                "{name} {set}: wrong places {} of which doubted {}, doubts {} of which needed {} and idle {}; {} of {} changed areas right; {count} frames, {busy:.0} % of places taken in 55 %, {never:.1} % always; consensus {:.2} dB ghost {:.2} % ({:.2} % where a frame is clear), median {:.2} dB ghost {:.2} %, ideal {:.2} dB ghost {:.2} %; decided in {decided:.2} s, rendered in {seconds:.2} s",
                d[0],
                d[1],
                d[2],
                d[3],
                d[4],
                changed[1],
                changed[0],
                c.psnr,
                c.ghost,
                c.avoidable,
                m.psnr,
                m.ghost,
                best.psnr,
                best.avoidable
            );
            all.push(Measured {
                consensus: c,
                median: m,
                best,
                false_colour: (false_colour(&scene, &consensus), false_colour(&scene, &median)),
                seconds: decided,
            });
        }
        if all.is_empty() {
            continue;
        }
        let n = all.len() as f64;
        let mean = |f: &dyn Fn(&Measured) -> f64| all.iter().map(f).sum::<f64>() / n;
        // Sets in which the median leaves more than a fifth.
        let busy: Vec<f64> =
            all.iter().filter(|a| a.median.ghost > 20.0).map(|a| a.consensus.ghost).collect();
        let worst = all.iter().map(|a| a.consensus.ghost).fold(0.0, f64::max);
        println!(
            "{{\"kind\": \"{name}\", \"sets\": {}, \"consensus_psnr\": {:.2}, \"median_psnr\": {:.2}, \"consensus_ghost\": {:.3}, \"avoidable_ghost\": {:.3}, \"worst_ghost\": {worst:.3}, \"median_ghost\": {:.3}, \"beyond_ghost\": {:.4}, \"median_beyond\": {:.4}, \"busy_sets\": {}, \"busy_ghost\": {:.3}, \"ideal_psnr\": {:.2}, \"ideal_ghost\": {:.3}, \"wrong_places\": {}, \"doubted\": {}, \"areas\": {}, \"right\": {}, \"doubts\": {}, \"needed\": {}, \"idle\": {}, \"decide_s\": {:.2}, \"lost\": {:.2}, \"false_colour\": {:.4}, \"median_false_colour\": {:.4}, \"half_disputed\": [{}, {}], \"borders\": {}, \"smooth_borders\": {}}}",
            all.len(),
            mean(&|a| a.consensus.psnr),
            mean(&|a| a.median.psnr),
            mean(&|a| a.consensus.ghost),
            mean(&|a| a.consensus.avoidable),
            mean(&|a| a.median.ghost),
            mean(&|a| a.consensus.beyond),
            mean(&|a| a.median.beyond),
            busy.len(),
            busy.iter().sum::<f64>() / busy.len().max(1) as f64,
            mean(&|a| a.best.psnr),
            mean(&|a| a.best.avoidable),
            doubts[0],
            doubts[1],
            areas[0],
            areas[1],
            doubts[2],
            doubts[3],
            doubts[4],
            mean(&|a| a.seconds),
            mean(&|a| 100.0 * (10f64.powf((a.best.psnr - a.consensus.psnr) / 20.0) - 1.0)),
            mean(&|a| a.false_colour.0),
            mean(&|a| a.false_colour.1),
            contested.iter().filter(|share| **share >= 0.5).count(),
            contested.len(),
            borders[0],
            borders[1]
        );
    }
}
