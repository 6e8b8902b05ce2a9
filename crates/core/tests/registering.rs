//! Hand-held sets of an invented texture, sampled from a formula and not resampled: what alignment and matching find
//! is compared with what was put in.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::combine::Method;
use evanu_core::geometry::{Homography, Point, Rect, Size};
use evanu_core::pixel::{FrameSource, MemoryFrame, Samples, tone};
use evanu_core::plan::{Light, Plan};
use evanu_core::prepare;
use evanu_core::progress::no_progress;
use evanu_core::random::Random;
use evanu_core::recipe::{Align, Area, Guide, ManualAlignment, Pair, Recipe};
use evanu_core::render::{Scene, View};
use proptest::prelude::*;
use std::sync::Mutex;

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

/// What a frame shows at its pixels: light of the wall where `place` puts them, times `light`, with noise, in eight bits.
fn seen(
    wall: &Wall,
    random: &mut Random,
    place: &dyn Fn(Point) -> Point,
    light: &dyn Fn(Point) -> f64,
) -> MemoryFrame {
    let mut codes = Vec::with_capacity(3 * SIZE.pixels() as usize);
    for k in 0..SIZE.pixels() {
        let p = Point::new((k % u64::from(SIZE.width)) as f64, (k / u64::from(SIZE.width)) as f64);
        let clean = wall.light(place(p)) * light(p);
        let noisy = clean + random.normal() * (2e-6 + 1e-4 * clean).sqrt();
        codes.extend([(255.0 * tone::to_code(noisy.clamp(0.0, 1.0))).round() as u8; 3]);
    }
    MemoryFrame::new(SIZE, Samples::Eight(codes))
}

/// Root mean square distance, over a grid, of where a frame shows a place of the reference from where it truly does.
fn error(plan: &Plan, frame: usize, truth: &dyn Fn(Point) -> Point) -> f64 {
    let to_frame = plan.alignment.frames[frame].to_frame();
    let (mut sum, mut n) = (0.0, 0);
    for k in 0..256 {
        let p = Point::new(f64::from(k % 16) * 37.5 + 18.0, f64::from(k / 16) * 25.0 + 12.0);
        let q = truth(p);
        if SIZE.holds(q) {
            sum += to_frame.apply(p).distance(q).powi(2);
            n += 1;
        }
    }
    (sum / f64::from(n)).sqrt()
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
    prepare::plan(recipe, &sources, &[], &no_progress).unwrap()
}

/// How far a frame's fit is from the truth, in reference pixels.
fn off(plan: &Plan, shots: &[Shot], k: usize) -> f64 {
    let truth = shots[plan.alignment.reference].to_wall.inverse().unwrap().after(&shots[k].to_wall);
    plan.alignment.frames[k].transform.grid_distance(&truth, SIZE)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    #[test]
    fn hand_held_frames_are_found_and_their_light_is_matched(seed in any::<u64>()) {
        let mut random = Random::new(seed);
        let wall = Wall(random.bits());
        let shots: Vec<Shot> = (0..4).map(|_| Shot::hand_held(&mut random, 5)).collect();
        let frames: Vec<MemoryFrame> = shots.iter().map(|s| s.frame(&wall, &mut random)).collect();
        let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
        let early = Mutex::new(Vec::new());
        let keep = |plan| early.lock().unwrap().push(plan);
        let plan = prepare::plan_early(&Recipe::new(), &sources, &[], &keep, &no_progress).unwrap();
        let [first] = &early.into_inner().unwrap()[..] else { panic!("not one early plan") };
        prop_assert_eq!(first.alignment.reference, plan.alignment.reference);
        for (k, frame) in first.alignment.frames.iter().enumerate() {
            prop_assert_eq!(&frame.misfit, &None, "frame {}", k);
            prop_assert!(off(first, &shots, k) < 2.0, "frame {} is off by {} px early", k, off(first, &shots, k));
            let ratio = f64::from(first.tones.frames[k].gain[0]) * shots[k].gain / shots[plan.alignment.reference].gain;
            prop_assert!((ratio - 1.0).abs() < 0.05, "frame {}: early gain off by {}", k, ratio);
        }
        for (k, frame) in plan.alignment.frames.iter().enumerate() {
            prop_assert_eq!(&frame.misfit, &None, "frame {}", k);
            prop_assert!(off(&plan, &shots, k) < 0.25, "frame {} is off by {} px", k, off(&plan, &shots, k));
            for gain in plan.tones.frames[k].gain {
                let ratio = f64::from(gain) * shots[k].gain / shots[plan.alignment.reference].gain;
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
        let plan = plan_of(&frames, &Recipe::new());
        for (k, frame) in plan.alignment.frames.iter().enumerate() {
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
    let plan = plan_of(&frames, &Recipe::new());
    for (frame, tone) in plan.alignment.frames.iter().zip(&plan.tones.frames) {
        assert_eq!(frame.transform, Homography::IDENTITY);
        assert_eq!(tone.gain, [1.0; 3]);
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
    let plan = plan_of(&frames, &Recipe { reference: Some(0), ..Recipe::new() });
    for (k, frame) in plan.alignment.frames.iter().enumerate() {
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
    let shifted = plan_of(&frames, &Recipe { reference: Some(0), align: Align::Shift, ..Recipe::new() });
    assert!(shifted.alignment.frames[1].misfit.is_some());
    let turned = plan_of(&frames, &Recipe { reference: Some(0), align: Align::Rigid, ..Recipe::new() });
    assert_eq!(turned.alignment.frames[1].misfit, None);
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
    let plan = plan_of(&frames, &Recipe::new());
    assert_ne!(plan.alignment.reference, 2);
    let found = &plan.alignment.frames[2];
    assert_eq!(found.misfit, None);
    // Where the turned frame's corners lie in the reference, from the shifts that were put in.
    let start = [0.0, 6.5][plan.alignment.reference];
    let (dx, dy) = (-4.0 - start, 2.0 * (-4.0 - start));
    for (from, to) in [((0.0, 0.0), (599.0, 0.0)), ((399.0, 0.0), (599.0, 399.0)), ((0.0, 599.0), (0.0, 0.0))]
    {
        let p = found.transform.apply(Point::new(from.0, from.1));
        assert!(p.distance(Point::new(to.0 + dx, to.1 + dy)) < 0.15, "{from:?} came to {p:?}");
    }
}

/// Where a lens with distortion `k` shows what a perfect one shows at `p`.
fn through_lens(p: Point, k: f64) -> Point {
    let (cx, cy) = (299.5, 199.5);
    let r2 = ((p.x - cx).powi(2) + (p.y - cy).powi(2)) / (SIZE.diagonal() / 2.0).powi(2);
    Point::new(cx + (p.x - cx) * (1.0 + k * r2), cy + (p.y - cy) * (1.0 + k * r2))
}

/// What undoes [`through_lens`], by fixed-point steps.
fn without_lens(p: Point, k: f64) -> Point {
    let mut q = p;
    for _ in 0..40 {
        let seen = through_lens(q, k);
        q = Point::new(q.x + p.x - seen.x, q.y + p.y - seen.y);
    }
    q
}

#[test]
fn the_lens_of_a_set_is_told_by_its_frames_and_repaired() {
    const K: f64 = -0.045;
    let mut random = Random::new(77);
    let wall = Wall(500);
    let moves: Vec<Homography> =
        [(0.0, 0.0, 0.0), (38.0, -21.0, 0.03), (-44.0, 17.0, -0.04), (12.0, 33.0, 0.02)]
            .iter()
            .map(|&(x, y, t): &(f64, f64, f64)| {
                let (s, c) = t.sin_cos();
                Homography::new([c, -s, x, s, c, y, 0.0, 0.0, 1.0])
            })
            .collect();
    let frames: Vec<MemoryFrame> =
        moves.iter().map(|m| seen(&wall, &mut random, &|p| m.apply(without_lens(p, K)), &|_| 1.0)).collect();
    let plan = plan_of(&frames, &Recipe { reference: Some(0), ..Recipe::new() });
    let found = plan.alignment.lens.expect("the lens is plain to see");
    assert!((found - K).abs() < 0.006, "{found}");
    for (k, m) in moves.iter().enumerate().skip(1) {
        let truth = |p: Point| through_lens(m.inverse().unwrap().apply(without_lens(p, K)), K);
        let off = error(&plan, k, &truth);
        assert!(off < 0.2, "frame {k} is off by {off} px");
    }
}

#[test]
fn near_ground_that_shifts_is_bent_to_fit_and_a_plane_needs_no_bend() {
    let mut random = Random::new(3);
    let wall = Wall(41);
    // The lower part shifts by up to seven pixels, as ground does when the camera moved sideways.
    let depth = |p: Point| Point::new(p.x + 7.0 * (p.y / 400.0).powi(2), p.y);
    let frames = [seen(&wall, &mut random, &|p| p, &|_| 1.0), seen(&wall, &mut random, &depth, &|_| 1.0)];
    let plan = plan_of(&frames, &Recipe { reference: Some(0), ..Recipe::new() });
    let truth = |p: Point| {
        let mut q = p;
        for _ in 0..30 {
            q = Point::new(p.x - 7.0 * (q.y / 400.0).powi(2), p.y);
        }
        q
    };
    let bent = error(&plan, 1, &truth);
    let mut flat = plan.clone();
    flat.alignment.frames[1].bend = None;
    let plane = error(&flat, 1, &truth);
    assert!(
        plan.alignment.frames[1].bend.is_some() && bent < 0.5 * plane && bent < 0.15,
        "{bent} of {plane} px"
    );

    let still = [0.0, 9.4].map(|x| seen(&wall, &mut random, &|p| Point::new(p.x + x, p.y), &|_| 1.0));
    assert_eq!(
        plan_of(&still, &Recipe::new()).alignment.frames.iter().filter(|f| f.bend.is_some()).count(),
        0
    );
}

/// Two frames of a wall in which a board that fills `share` of the width has been moved by (9, -5).
fn board(share: f64) -> [MemoryFrame; 2] {
    let mut random = Random::new(8);
    let (wall, wood) = (Wall(60), Wall(61));
    let edge = share * f64::from(SIZE.width);
    let mut frame = |shift: (f64, f64)| {
        let mut codes = Vec::with_capacity(3 * SIZE.pixels() as usize);
        for k in 0..SIZE.pixels() {
            let p = Point::new((k % 600) as f64, (k / 600) as f64);
            let light =
                if p.x < edge { wood.light(Point::new(p.x - shift.0, p.y - shift.1)) } else { wall.light(p) };
            let noisy = light + random.normal() * (2e-6 + 1e-4 * light).sqrt();
            codes.extend([(255.0 * tone::to_code(noisy.clamp(0.0, 1.0))).round() as u8; 3]);
        }
        MemoryFrame::new(SIZE, Samples::Eight(codes))
    };
    [frame((0.0, 0.0)), frame((9.0, -5.0))]
}

fn rect(x0: f64, y0: f64, x1: f64, y1: f64) -> Vec<Point> {
    [(x0, y0), (x1, y0), (x1, y1), (x0, y1)].map(|(x, y)| Point::new(x, y)).to_vec()
}

#[test]
fn areas_drawn_by_hand_say_what_leads() {
    let frames = board(0.6);
    let recipe =
        |areas: Vec<Area>| Recipe { reference: Some(0), areas, align: Align::Rigid, ..Recipe::new() };
    let at = |plan: &Plan| plan.alignment.frames[1].transform.apply(Point::new(300.0, 200.0));
    let area = |guide, outline| vec![Area { on: 0, guide, outline }];
    // Left alone, the larger part leads; ignoring it, the rest does; wanting it to fit, it does.
    let ignored = plan_of(&frames, &recipe(area(Guide::Ignore, rect(-5.0, -5.0, 375.0, 405.0))));
    assert!(at(&ignored).distance(Point::new(300.0, 200.0)) < 0.1, "{:?}", at(&ignored));
    let wanted = plan_of(&frames, &recipe(area(Guide::Fit, rect(20.0, 20.0, 340.0, 380.0))));
    assert!(at(&wanted).distance(Point::new(291.0, 205.0)) < 0.1, "{:?}", at(&wanted));
    assert!(wanted.alignment.frames[1].points.iter().all(|p| p.x < 345.0));
    // A prop that fills a small part leads too, when it alone is to fit.
    let small = board(0.3);
    let wanted = plan_of(&small, &recipe(area(Guide::Fit, rect(20.0, 100.0, 165.0, 300.0))));
    assert!(at(&wanted).distance(Point::new(291.0, 205.0)) < 0.2, "{:?}", at(&wanted));
}

#[test]
fn what_is_laid_by_hand_stays_there_snaps_and_survives_another_reference() {
    let mut random = Random::new(31);
    let wall = Wall(9);
    let shots = [(0.0, 0.0), (11.0, -6.0), (-14.0, 9.0)].map(|(x, y)| Shot {
        to_wall: Homography::shift(x, y),
        gain: 1.0,
        movers: Vec::new(),
    });
    let frames: Vec<MemoryFrame> = shots.iter().map(|s| s.frame(&wall, &mut random)).collect();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let truth = |k: usize, r: usize| shots[r].to_wall.inverse().unwrap().after(&shots[k].to_wall);
    let pair = |x: f64, y: f64, dx: f64, dy: f64| {
        let p = Point::new(x, y);
        let q = truth(1, 0).apply(p);
        Pair { from: p, to: Point::new(q.x + dx, q.y + dy) }
    };
    // Named to a pixel or so, as a hand does.
    let pairs = vec![pair(60.0, 50.0, 0.8, -0.6), pair(540.0, 60.0, -0.7, 0.5), pair(300.0, 350.0, 0.4, 0.9)];
    let hand =
        ManualAlignment { frame: 1, on: 0, pairs, shift: [0.0; 2], turn: 0.0, scale: 1.0, snap: false };
    let laid = |hand: ManualAlignment, reference: usize| {
        let recipe = Recipe { reference: Some(reference), manual_alignments: vec![hand], ..Recipe::new() };
        let mut plan = plan_of(&frames, &recipe);
        prepare::lay_by_hand(&mut plan, &recipe, &sources).unwrap();
        plan
    };
    let by_hand = laid(hand.clone(), 0);
    assert!(
        by_hand.alignment.frames[1].by_hand
            && by_hand.alignment.frames[1].residual_px.is_some_and(|r| r > 0.2 && r < 1.5)
    );
    let off = by_hand.alignment.frames[1].transform.grid_distance(&truth(1, 0), SIZE);
    assert!(off > 0.1 && off < 2.0, "{off}");
    // A nudge moves it by just that.
    let nudged = laid(ManualAlignment { shift: [3.0, -2.0], ..hand.clone() }, 0);
    let moved =
        nudged.alignment.frames[1].transform.grid_distance(&by_hand.alignment.frames[1].transform, SIZE);
    assert!((moved - 13.0f64.sqrt()).abs() < 1e-6, "{moved}");
    // Snapping finds what is near.
    let snapped = laid(ManualAlignment { snap: true, ..hand.clone() }, 0);
    assert!(snapped.alignment.frames[1].transform.grid_distance(&truth(1, 0), SIZE) < 0.05);
    // With another reference it lies over the same things.
    let other = laid(ManualAlignment { snap: true, ..hand.clone() }, 2);
    assert!(other.alignment.frames[1].transform.grid_distance(&truth(1, 2), SIZE) < 0.05);
    // The reference itself is never moved.
    let reference = laid(hand, 1);
    assert!(
        !reference.alignment.frames[1].by_hand
            && reference.alignment.frames[1].transform == Homography::IDENTITY
    );
}

#[test]
fn light_that_fell_unevenly_is_matched_as_it_fell() {
    let mut random = Random::new(15);
    let wall = Wall(80);
    let lamp = |p: Point| (0.45 * p.x / 600.0 - 0.35 * (p.y / 400.0).powi(2)).exp2();
    let frames = [seen(&wall, &mut random, &|p| p, &|_| 1.0), seen(&wall, &mut random, &|p| p, &lamp)];
    let recipe = Recipe { reference: Some(0), ..Recipe::new() };
    let plan = plan_of(&frames, &recipe);
    assert_eq!(plan.tones.light, Light::Uneven);
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let scene = Scene::new(&recipe, &plan, &sources);
    let [a, b] = [0, 1].map(|k| scene.render(View::Frame(k), SIZE.rect(), 0).unwrap());
    // Mean light of squares, so that noise does not count.
    for k in 0..24 {
        let (x0, y0) = (100 * (k % 6), 100 * (k / 6));
        let mean = |r: &evanu_core::pixel::Raster| {
            let inside = (0..10_000).map(|i| 3 * ((y0 + i / 100) * 600 + x0 + i % 100));
            inside.map(|i| tone::to_linear(f64::from(r.data[i]) / 65_535.0)).sum::<f64>()
        };
        let ratio = mean(&b) / mean(&a);
        assert!((ratio - 1.0).abs() < 0.015, "square {k}: {ratio}");
    }
}

#[test]
fn light_varied_on_purpose_is_not_levelled_unless_wanted() {
    let mut random = Random::new(19);
    let wall = Wall(81);
    // A lamp that lights half of the wall, in every other frame.
    let lamp = |p: Point| if (p.x - 200.0).hypot(p.y - 200.0) < 170.0 { 2.2 } else { 1.0 };
    let frames: Vec<MemoryFrame> = (0..4)
        .map(|k| seen(&wall, &mut random, &|p| p, &|p| if k % 2 == 1 { lamp(p) } else { 1.0 }))
        .collect();
    let recipe = Recipe { reference: Some(0), ..Recipe::new() };
    let plan = plan_of(&frames, &recipe);
    assert_eq!(plan.tones.light, Light::Varied);
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let matched = |recipe: &Recipe| Scene::new(recipe, &plan, &sources).matched();
    assert!(!matched(&recipe));
    assert!(matched(&Recipe { match_exposure: evanu_core::recipe::Matching::On, ..recipe }));
}

#[test]
fn several_stops_of_difference_do_not_disturb_the_alignment() {
    let mut random = Random::new(23);
    let wall = Wall(90);
    let shots: Vec<Shot> = [(0.0, 1.0), (17.3, 0.125), (-8.6, 2.2)]
        .iter()
        .map(|&(x, gain)| Shot { to_wall: Homography::shift(x, -x / 2.0), gain, movers: Vec::new() })
        .collect();
    let frames: Vec<MemoryFrame> = shots.iter().map(|s| s.frame(&wall, &mut random)).collect();
    let plan = plan_of(&frames, &Recipe { reference: Some(0), ..Recipe::new() });
    for k in 1..3 {
        assert_eq!(plan.alignment.frames[k].misfit, None, "frame {k}");
        assert!(off(&plan, &shots, k) < 0.15, "frame {k} is off by {} px", off(&plan, &shots, k));
    }
}

#[test]
fn a_kicked_tripod_has_two_positions_and_both_are_brought_to_the_reference() {
    let mut random = Random::new(27);
    let wall = Wall(95);
    let shots: Vec<Shot> = (0..6)
        .map(|k| {
            let x = if k >= 4 { 23.0 } else { 0.0 };
            Shot { to_wall: Homography::shift(x, x / 3.0), gain: 1.0, ..Shot::hand_held(&mut random, 4) }
        })
        .collect();
    let frames: Vec<MemoryFrame> = shots.iter().map(|s| s.frame(&wall, &mut random)).collect();
    let plan = plan_of(&frames, &Recipe::new());
    assert_eq!(plan.alignment.frames.iter().map(|f| f.position).collect::<Vec<_>>(), [0, 0, 0, 0, 1, 1]);
    assert!(plan.alignment.reference < 4, "the frame that asks least change is among the four");
    for k in 0..6 {
        assert!(off(&plan, &shots, k) < 0.1, "frame {k}");
    }
}

#[test]
fn the_views_of_a_shoot_are_told_apart() {
    let mut random = Random::new(29);
    let walls = [Wall(1), Wall(2)];
    let views = [0, 0, 1, 0, 1, 1];
    let frames: Vec<MemoryFrame> =
        views.iter().map(|&v| Shot::hand_held(&mut random, 3).frame(&walls[v], &mut random)).collect();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    assert_eq!(evanu_core::register::views(&sources, &no_progress).unwrap(), views);
}

#[test]
fn light_beyond_white_is_kept_matched_and_developed() {
    // The same wall, in one frame with twice the headroom and half the exposure.
    let mut random = Random::new(33);
    let wall = Wall(70);
    let mut frame = |exposure: f64, headroom: f32| {
        let codes = (0..SIZE.pixels()).flat_map(|k| {
            let p = Point::new((k % 600) as f64, (k / 600) as f64);
            let light = 3.0 * wall.light(p) * exposure + random.normal() * 1e-3;
            [tone::root((light as f32 / headroom).clamp(0.0, 1.0)); 3]
        });
        MemoryFrame::new(SIZE, Samples::Wide(codes.collect())).with_headroom(headroom)
    };
    let frames = [frame(1.0, 2.0), frame(0.5, 4.0)];
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let method = Method::Median;
    let recipe = Recipe { reference: Some(0), align: Align::Off, method, ..Recipe::new() };
    let plan = plan_of(&frames, &recipe);
    assert!(
        plan.tones.frames[1].gain.iter().all(|g| (g - 2.0).abs() < 0.03),
        "{:?}",
        plan.tones.frames[1].gain
    );
    let scene = Scene::new(&recipe, &plan, &sources);
    let light = scene.light(SIZE.rect()).unwrap();
    let truth = |k: usize| 3.0 * wall.light(Point::new((k % 600) as f64, (k / 600) as f64));
    let brightest = (0..240_000).max_by(|&a, &b| truth(a).total_cmp(&truth(b))).unwrap();
    assert!(
        truth(brightest) > 1.0 && (f64::from(light[3 * brightest]) / truth(brightest) - 1.0).abs() < 0.03
    );
    // On the screen it is white, until the highlights are brought back.
    let at = |recipe: &Recipe| {
        let scene = Scene::new(recipe, &plan, &sources);
        scene.render(View::Plate, SIZE.rect(), 0).unwrap().data[3 * brightest]
    };
    assert_eq!(at(&recipe), 65_535);
    let develop = evanu_core::develop::Develop { highlights: -1.0, ..Default::default() };
    assert!(at(&Recipe { develop, ..recipe }) < 65_535);
}
