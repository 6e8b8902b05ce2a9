//! Alignment and matched tone over many random hand-held sets with known truth.
//!
//! `cargo run --release -p evanu-demo --example aligning -- [SETS] [SEED]` renders one place with visitors and cuts
//! frames of 1200×800 from it: shifted up to 5 %, turned up to 3°, zoomed up to 12 % against each other, tilted, one
//! stop brighter or darker, of drifting colour, with noise, as JPEG. Up to 40 % of each frame is covered by things
//! that look like the place but are elsewhere; some of them move together, as a procession does. In every third set
//! one frame shows another view. Prints one line of JSON.

use evanu_core::geometry::{Homography, Point, Rect, Size};
use evanu_core::pixel::resample::resample;
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, tone};
use evanu_core::prepare;
use evanu_core::progress::no_progress;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_demo::{Crowd, Order, Shoot};
use std::path::Path;

const SIZE: Size = Size { width: 1200, height: 800 };
const FRAMES: usize = 6;

struct Shot {
    /// Frame to place coordinates.
    to_place: Homography,
    gain: [f32; 3],
    foreign: bool,
}

/// Something that covers an ellipse of the frame with a piece of the place from elsewhere.
struct Cover {
    centre: Point,
    radii: (f64, f64),
    content: Homography,
}

fn about(centre: Point, h: Homography) -> Homography {
    Homography::shift(centre.x, centre.y).after(&h).after(&Homography::shift(-centre.x, -centre.y))
}

fn hand(random: &mut Random, wide: Size) -> Homography {
    let (w, h) = (f64::from(SIZE.width), f64::from(SIZE.height));
    let (sin, cos) = random.within(-3.0, 3.0).to_radians().sin_cos();
    let zoom = random.within(0.945, 1.055);
    let (x, y) = (random.within(-0.05, 0.05) * w, random.within(-0.05, 0.05) * h);
    let mut tilt = || random.within(-0.015, 0.015) / w;
    let turned =
        Homography::new([zoom * cos, -zoom * sin, x, zoom * sin, zoom * cos, y, tilt(), tilt(), 1.0]);
    let middle = Homography::shift((f64::from(wide.width) - w) / 2.0, (f64::from(wide.height) - h) / 2.0);
    middle.after(&about(Point::new(w / 2.0, h / 2.0), turned))
}

/// Covers of one frame; those with the same `crowd` drift together from frame to frame.
fn covers(random: &mut Random, crowd: &[(Point, Point)], k: usize, to_place: &Homography) -> Vec<Cover> {
    let (w, h) = (f64::from(SIZE.width), f64::from(SIZE.height));
    let mut out = Vec::new();
    for (at, step) in crowd {
        let centre = Point::new(at.x + step.x * k as f64, at.y + step.y * k as f64);
        let content = to_place.after(&Homography::shift(at.x - centre.x + 140.0, at.y - centre.y - 90.0));
        out.push(Cover { centre, radii: (60.0, 130.0), content });
    }
    let wanted = random.within(0.0, 0.3) * w * h;
    let mut taken = 0.0;
    while taken < wanted {
        let radii = (random.within(25.0, 90.0), random.within(60.0, 190.0));
        let centre = Point::new(random.within(0.0, w), random.within(0.0, h));
        let scale = random.within(0.8, 1.3);
        let (x, y) = (random.within(-300.0, 300.0), random.within(-200.0, 200.0));
        let larger = Homography::new([scale, 0.0, x, 0.0, scale, y, 0.0, 0.0, 1.0]);
        out.push(Cover { centre, radii, content: to_place.after(&about(centre, larger)) });
        taken += std::f64::consts::PI * radii.0 * radii.1;
    }
    out
}

fn frame(place: &MemoryFrame, shot: &Shot, covers: &[Cover], random: &mut Random) -> MemoryFrame {
    let mirror = Homography::new([-1.0, 0.0, f64::from(SIZE.width), 0.0, 1.0, 0.0, 0.0, 0.0, 1.0]);
    let to_place = if shot.foreign { shot.to_place.after(&mirror) } else { shot.to_place };
    let Ok(mut light) = resample(place, 0, &to_place, SIZE.rect()) else { unreachable!("it is in memory") };
    let width = SIZE.width as usize;
    for c in covers {
        let (x, y) = ((c.centre.x - c.radii.0) as i64, (c.centre.y - c.radii.1) as i64);
        let area = Rect::new(x, y, 2 * c.radii.0 as u32, 2 * c.radii.1 as u32).intersect(SIZE.rect());
        if area.is_empty() {
            continue;
        }
        let Ok(piece) = resample(place, 0, &c.content, area) else { unreachable!("it is in memory") };
        for (i, v) in (0..area.size().pixels() as usize).map(|i| (i, [0, 1, 2].map(|k| piece.planes[k][i]))) {
            let (px, py) =
                (i % area.width as usize + area.x as usize, i / area.width as usize + area.y as usize);
            let (u, v2) = ((px as f64 - c.centre.x) / c.radii.0, (py as f64 - c.centre.y) / c.radii.1);
            if u * u + v2 * v2 < 1.0 {
                (0..3).for_each(|k| light.planes[k][py * width + px] = v[k]);
            }
        }
    }
    let mut picture = Raster::new(SIZE);
    for (i, o) in picture.data.iter_mut().enumerate() {
        let clean = light.planes[i % 3][i / 3] * shot.gain[i % 3];
        let seen = clean + (2.2e-7 + 1.1e-4 * clean.max(0.0)).sqrt() * random.normal() as f32;
        *o = (tone::to_code(f64::from(seen.clamp(0.0, 1.0))) * 65535.0).round() as u16;
    }
    let read = evanu_media::encode_jpeg(&picture, 91)
        .ok()
        .and_then(|jpeg| evanu_media::decode_bytes(Path::new("frame.jpg"), &jpeg).ok());
    let Some(read) = read else { unreachable!("JPEG made here can be read") };
    MemoryFrame::new(read.size, read.samples)
}

fn main() {
    let mut arguments = std::env::args().skip(1).filter_map(|a| a.parse::<u64>().ok());
    let (sets, seed) = (arguments.next().unwrap_or(50), arguments.next().unwrap_or(1));
    let place = Shoot::new(Order::by_hand(7, 1800, 1, Crowd::Nobody)).place(0).clone();
    let wide = place.size();
    let (mut errors, mut gains) = (Vec::new(), Vec::new());
    let (mut lost, mut foreign_used) = (0, 0);
    let mut seconds = 0.0;
    for set in 0..sets {
        let mut random = Random::new(seed << 32 | set);
        let mut crowd = || {
            let at = Point::new(random.within(150.0, 900.0), random.within(300.0, 650.0));
            (at, Point::new(random.within(5.0, 40.0), random.within(-4.0, 4.0)))
        };
        let crowd = [crowd(), crowd()];
        let shots: Vec<Shot> = (0..FRAMES)
            .map(|k| {
                let stops = random.within(-1.0, 1.0).exp2();
                let gain = [0; 3].map(|_| (stops * random.within(-0.1, 0.1).exp2()) as f32);
                Shot { to_place: hand(&mut random, wide), gain, foreign: set % 3 == 0 && k == FRAMES - 1 }
            })
            .collect();
        let frames: Vec<MemoryFrame> = shots
            .iter()
            .enumerate()
            .map(|(k, shot)| {
                let covers = covers(&mut random, &crowd, k, &shot.to_place);
                frame(&place, shot, &covers, &mut random)
            })
            .collect();
        let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
        let begin = std::time::Instant::now();
        let Ok(plan) = prepare::plan(&Recipe::new(), &sources, &[], &no_progress) else {
            unreachable!("frames in memory can be read")
        };
        seconds += begin.elapsed().as_secs_f64();
        let reference = &shots[plan.alignment.reference];
        let back = reference.to_place.inverse().unwrap_or(Homography::IDENTITY);
        for (k, (shot, found)) in shots.iter().zip(&plan.alignment.frames).enumerate() {
            match (shot.foreign, &found.misfit) {
                (true, None) => {
                    foreign_used += 1;
                    eprintln!("set {set}: the foreign frame is used");
                }
                (true, Some(_)) => {}
                (false, Some(reason)) => {
                    lost += 1;
                    eprintln!("set {set}, frame {k}: {reason}");
                }
                (false, None) => {
                    let error = found.transform.grid_distance(&back.after(&shot.to_place), SIZE);
                    let gain = (0..3)
                        .map(|c| {
                            f64::from(plan.tones.frames[k].gain[c] * shot.gain[c] / reference.gain[c] - 1.0)
                                .abs()
                        })
                        .fold(0.0, f64::max);
                    if k != plan.alignment.reference {
                        errors.push(error);
                        gains.push(gain);
                    }
                    if error > 0.25 || gain > 0.01 {
                        eprintln!(
                            "set {set}, frame {k}: off by {error:.3} px, gain by {:.2} %",
                            100.0 * gain
                        );
                    }
                }
            }
        }
    }
    errors.sort_by(f64::total_cmp);
    gains.sort_by(f64::total_cmp);
    let middle = |v: &[f64]| v.get(v.len() / 2).copied().unwrap_or(f64::NAN);
    let worst = |v: &[f64]| v.last().copied().unwrap_or(f64::NAN);
    println!(
        "{{\"sets\": {sets}, \"frames\": {}, \"median_px\": {:.4}, \"worst_px\": {:.4}, \"median_gain\": {:.5}, \"worst_gain\": {:.5}, \"good_set_aside\": {lost}, \"foreign_used\": {foreign_used}, \"seconds_a_set\": {:.2}}}",
        errors.len(),
        middle(&errors),
        worst(&errors),
        middle(&gains),
        worst(&gains),
        seconds / sets as f64
    );
}
