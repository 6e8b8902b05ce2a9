//! Hand-held sets of an invented texture, sampled from a formula and not resampled: what alignment and matching find
//! is compared with what was put in.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::geometry::{Homography, Point, Rect, Size};
use evanu_core::pixel::{FrameSource, MemoryFrame, Samples, tone};
use evanu_core::plan::Plan;
use evanu_core::prepare;
use evanu_core::progress::unwatched;
use evanu_core::random::Random;
use evanu_core::recipe::{Align, Recipe};
use proptest::prelude::*;

const SIZE: Size = Size { width: 600, height: 400 };

/// Light of an endless textured wall: value noise with smooth interpolation in four octaves, no detail below 5 px.
struct Wall(u64);

impl Wall {
    fn cell(&self, octave: u64, x: i64, y: i64) -> f64 {
        Random::new(self.0 ^ octave << 56 ^ (x as u64).wrapping_mul(0x9E37_79B9) ^ (y as u64) << 32).unit()
    }

    fn light(&self, p: Point) -> f64 {
        let octave = |k: u64, side: f64| {
            let (x, y) = (p.x / side, p.y / side);
            let (i, j) = (x.floor(), y.floor());
            let ease = |t: f64| t * t * t * (t * (6.0 * t - 15.0) + 10.0);
            let (u, v) = (ease(x - i), ease(y - j));
            let at = |a: i64, b: i64| self.cell(k, i as i64 + a, j as i64 + b);
            let mix = |a: f64, b: f64, t: f64| a + (b - a) * t;
            mix(mix(at(0, 0), at(1, 0), u), mix(at(0, 1), at(1, 1), u), v)
        };
        0.04 + 0.4
            * (0.4 * octave(1, 61.0) + 0.25 * octave(2, 23.0) + 0.2 * octave(3, 11.0) + 0.15 * octave(4, 6.0))
                .powf(1.6)
    }
}

/// One frame: where it looks, how bright it is, and which parts of it passers-by cover.
struct Shot {
    to_wall: Homography,
    gain: f64,
    movers: Vec<(Rect, u64)>,
}

impl Shot {
    fn hand_held(random: &mut Random, movers: usize) -> Self {
        let (w, h) = (f64::from(SIZE.width), f64::from(SIZE.height));
        let turn = random.within(-3.0, 3.0).to_radians();
        let zoom = random.within(0.94, 1.06);
        let (c, s) = (zoom * turn.cos(), zoom * turn.sin());
        let (x, y) = (random.within(-0.05, 0.05) * w, random.within(-0.05, 0.05) * h);
        let mut tilt = || random.within(-0.02, 0.02) / w;
        let about = Homography::shift(w / 2.0, h / 2.0);
        let turned = Homography::new([c, -s, x, s, c, y, tilt(), tilt(), 1.0]);
        let to_wall = about.after(&turned).after(&about.inverse().unwrap());
        let movers = (0..movers)
            .map(|_| {
                let (width, height) = (40 + random.below(110) as u32, 80 + random.below(150) as u32);
                let at = |n: u32, side: u32, v: f64| (f64::from(n - side) * v) as i64;
                let (u, v) = (random.unit(), random.unit());
                (
                    Rect::new(at(SIZE.width, width, u), at(SIZE.height, height, v), width, height),
                    random.bits(),
                )
            })
            .collect();
        Self { to_wall, gain: random.within(-1.0, 1.0).exp2(), movers }
    }

    /// As a camera gives it: eight bits, with noise that grows with the light.
    fn frame(&self, wall: &Wall, random: &mut Random) -> MemoryFrame {
        let mut codes = Vec::with_capacity(3 * SIZE.pixels() as usize);
        for y in 0..i64::from(SIZE.height) {
            for x in 0..i64::from(SIZE.width) {
                let p = Point::new(x as f64, y as f64);
                let inside = |r: &Rect| (r.x..r.right()).contains(&x) && (r.y..r.bottom()).contains(&y);
                let light = match self.movers.iter().find(|(r, _)| inside(r)) {
                    Some((_, coat)) => Wall(*coat).light(p),
                    None => wall.light(self.to_wall.apply(p)),
                };
                for tint in [1.0, 0.9, 0.8] {
                    let seen = light * tint * self.gain;
                    let noisy = seen + random.normal() * (2e-6 + 1e-4 * seen).sqrt();
                    codes.push((255.0 * tone::to_code(noisy.clamp(0.0, 1.0))).round() as u8);
                }
            }
        }
        MemoryFrame::new(SIZE, Samples::Eight(codes))
    }
}

fn plan_of(frames: &[MemoryFrame], recipe: &Recipe) -> Plan {
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    prepare::plan(recipe, &sources, &unwatched).unwrap()
}

/// How far a frame's fit is from the truth, in reference pixels.
fn off(plan: &Plan, shots: &[Shot], k: usize) -> f64 {
    let truth = shots[plan.reference].to_wall.inverse().unwrap().after(&shots[k].to_wall);
    plan.frames[k].transform.grid_distance(&truth, SIZE)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    #[test]
    fn hand_held_frames_are_found_and_their_light_is_matched(seed in any::<u64>()) {
        let mut random = Random::new(seed);
        let wall = Wall(random.bits());
        let shots: Vec<Shot> = (0..4).map(|_| Shot::hand_held(&mut random, 5)).collect();
        let frames: Vec<MemoryFrame> = shots.iter().map(|s| s.frame(&wall, &mut random)).collect();
        let plan = plan_of(&frames, &Recipe::new(4));
        for (k, frame) in plan.frames.iter().enumerate() {
            prop_assert_eq!(&frame.misfit, &None, "frame {}", k);
            prop_assert!(off(&plan, &shots, k) < 0.25, "frame {} is off by {} px", k, off(&plan, &shots, k));
            for gain in frame.gain {
                let ratio = f64::from(gain) * shots[k].gain / shots[plan.reference].gain;
                prop_assert!((ratio - 1.0).abs() < 0.02, "frame {}: gain off by {}", k, ratio);
            }
        }
    }

    #[test]
    fn a_view_of_another_wall_is_set_aside(seed in any::<u64>()) {
        let mut random = Random::new(seed);
        let (wall, other) = (Wall(random.bits()), Wall(random.bits()));
        let shots: Vec<Shot> = (0..4).map(|_| Shot::hand_held(&mut random, 2)).collect();
        let frames: Vec<MemoryFrame> =
            shots.iter().enumerate().map(|(k, s)| s.frame(if k == 2 { &other } else { &wall }, &mut random)).collect();
        let plan = plan_of(&frames, &Recipe::new(4));
        for (k, frame) in plan.frames.iter().enumerate() {
            prop_assert_eq!(frame.misfit.is_some(), k == 2, "frame {}: {:?}", k, frame.misfit);
        }
    }
}

#[test]
fn a_tripod_set_is_left_to_the_pixel_and_told_as_not_moved() {
    let mut random = Random::new(41);
    let wall = Wall(7);
    let frames: Vec<MemoryFrame> = (0..5)
        .map(|_| {
            let crowd = Shot::hand_held(&mut random, 6);
            Shot { to_wall: Homography::IDENTITY, gain: 1.0, ..crowd }.frame(&wall, &mut random)
        })
        .collect();
    let plan = plan_of(&frames, &Recipe::new(5));
    for frame in &plan.frames {
        assert_eq!(frame.transform, Homography::IDENTITY);
        assert_eq!(frame.gain, [1.0; 3]);
    }
}

#[test]
fn a_plain_shift_is_not_given_more_freedom_than_it_needs() {
    let mut random = Random::new(5);
    let wall = Wall(99);
    let shifts = [(0.0, 0.0), (13.4, -7.3), (-21.8, 4.6)];
    let shots: Vec<Shot> = shifts
        .iter()
        .map(|&(x, y)| Shot { to_wall: Homography::shift(x, y), gain: 1.0, movers: Vec::new() })
        .collect();
    let frames: Vec<MemoryFrame> = shots.iter().map(|s| s.frame(&wall, &mut random)).collect();
    let plan = plan_of(&frames, &Recipe { reference: Some(0), ..Recipe::new(3) });
    for (k, frame) in plan.frames.iter().enumerate() {
        let m = frame.transform.0;
        assert_eq!([m[0], m[1], m[3], m[4], m[6], m[7]], [1.0, 0.0, 0.0, 1.0, 0.0, 0.0], "frame {k}");
        assert!(off(&plan, &shots, k) < 0.05, "frame {k} is off by {} px", off(&plan, &shots, k));
    }
}

#[test]
fn a_family_that_cannot_fit_says_so() {
    // A quarter turned, only shifts allowed: nothing fits, and the reason is told.
    let mut random = Random::new(8);
    let wall = Wall(3);
    let (w, h) = (f64::from(SIZE.width), f64::from(SIZE.height));
    let about = Homography::shift(w / 2.0, h / 2.0);
    let (s, c) = 0.3f64.sin_cos();
    let turn = Homography::new([c, -s, 0.0, s, c, 0.0, 0.0, 0.0, 1.0]);
    let shots = [Homography::IDENTITY, about.after(&turn).after(&about.inverse().unwrap())]
        .map(|to_wall| Shot { to_wall, gain: 1.0, movers: Vec::new() });
    let frames: Vec<MemoryFrame> = shots.iter().map(|s| s.frame(&wall, &mut random)).collect();
    let shifted = plan_of(&frames, &Recipe { reference: Some(0), align: Align::Shift, ..Recipe::new(2) });
    assert!(shifted.frames[1].misfit.is_some());
    let turned = plan_of(&frames, &Recipe { reference: Some(0), align: Align::Rigid, ..Recipe::new(2) });
    assert_eq!(turned.frames[1].misfit, None);
    assert!(off(&turned, &shots, 1) < 0.1);
}

#[test]
fn a_frame_on_its_side_is_turned_upright() {
    let mut random = Random::new(12);
    let wall = Wall(21);
    let mut frames: Vec<MemoryFrame> = [0.0, 6.5, -4.0]
        .iter()
        .map(|&x| Shot { to_wall: Homography::shift(x, 2.0 * x), gain: 1.0, movers: Vec::new() })
        .map(|s| s.frame(&wall, &mut random))
        .collect();
    // A quarter turn of the last: its columns from the left become rows from the bottom.
    let Ok(Samples::Eight(d)) = frames[2].read(0, SIZE.rect()) else { panic!("it has eight bits") };
    let (w, h) = (SIZE.width as usize, SIZE.height as usize);
    let turned = (0..w * h).flat_map(|i| {
        let (x, y) = (w - 1 - i / h, i % h);
        d[3 * (y * w + x)..][..3].to_vec()
    });
    frames[2] = MemoryFrame::new(Size::new(SIZE.height, SIZE.width), Samples::Eight(turned.collect()));
    let plan = plan_of(&frames, &Recipe::new(3));
    assert_ne!(plan.reference, 2);
    let found = &plan.frames[2];
    assert_eq!(found.misfit, None);
    // Where the turned frame's corners lie in the reference, from the shifts that were put in.
    let start = [0.0, 6.5][plan.reference];
    let (dx, dy) = (-4.0 - start, 2.0 * (-4.0 - start));
    for (from, to) in [((0.0, 0.0), (599.0, 0.0)), ((399.0, 0.0), (599.0, 399.0)), ((0.0, 599.0), (0.0, 0.0))]
    {
        let p = found.transform.apply(Point::new(from.0, from.1));
        assert!(p.distance(Point::new(to.0 + dx, to.1 + dy)) < 0.15, "{from:?} came to {p:?}");
    }
}
