//! The consensus on made-up frames whose background is known: pairs, minorities, places nobody can know, order.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use evanu_core::combine::Method;
use evanu_core::evidence::doubts::{Doubt, Reason};
use evanu_core::evidence::moving::Motion;
use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::{Decision, FrameAlignment, Plan};
use evanu_core::prepare;
use evanu_core::random::Random;
use evanu_core::recipe::{Recipe, Settled};
use evanu_core::render::{Scene, View};
use proptest::prelude::*;
use std::sync::Arc;

const SIZE: Size = Size { width: 240, height: 160 };

/// A wall of large stones in even light, and things with a pattern of their own before it.
struct Place {
    things: Vec<Vec<(Rect, [f64; 3])>>,
    seed: u64,
}

impl Place {
    fn wall(x: f64, y: f64) -> [f64; 3] {
        let stone = ((x / 37.0).floor() * 5.0 + (y / 23.0).floor() * 3.0) % 7.0;
        let soft = 8.0 * (x * 0.07).sin() * (y * 0.05).cos();
        [110.0 + 6.0 * stone + soft, 104.0 + 5.0 * stone + soft, 92.0 + 4.0 * stone]
    }

    fn frame(&self, k: usize) -> MemoryFrame {
        let mut random = Random::new(self.seed ^ (k as u64 + 1) << 20);
        let mut codes = Vec::new();
        for i in 0..SIZE.pixels() {
            let (x, y) = ((i % u64::from(SIZE.width)) as i64, (i / u64::from(SIZE.width)) as i64);
            let mut colour = Self::wall(x as f64, y as f64);
            for (r, c) in &self.things[k] {
                if x >= r.x && x < r.right() && y >= r.y && y < r.bottom() {
                    let fold = 14.0 * ((x - r.x) as f64 * 0.5).sin();
                    colour = c.map(|v| v + fold);
                }
            }
            codes.extend(colour.map(|v| (v + 1.2 * random.normal()).clamp(0.0, 255.0).round() as u8));
        }
        MemoryFrame::new(SIZE, Samples::Eight(codes))
    }
}

/// Frames that lie over each other as they are.
fn plan_of(frames: &[MemoryFrame]) -> Plan {
    Plan::of(vec![FrameAlignment::untouched(SIZE); frames.len()])
}

/// What is decided for them.
fn decided(frames: &[MemoryFrame]) -> (Recipe, Decision) {
    let recipe = Recipe::new();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let decision = prepare::decide(&Scene::new(&recipe, &plan_of(frames), &sources)).unwrap();
    (recipe, decision)
}

fn plate(frames: &[MemoryFrame], recipe: &Recipe, decision: &Decision) -> Raster {
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let plan = plan_of(frames);
    Scene::new(recipe, &plan, &sources).decided(decision).render(View::Plate, SIZE.rect(), 0).unwrap()
}

/// Pixels that are off by more than 12 of 255.
fn wrong(plate: &Raster) -> Vec<(u32, u32)> {
    (0..SIZE.width * SIZE.height)
        .map(|i| (i % SIZE.width, i / SIZE.width))
        .filter(|&(x, y)| {
            let (p, t) = (plate.pixel(x, y), Place::wall(f64::from(x), f64::from(y)));
            (0..3).any(|c| (f64::from(p[c]) / 257.0 - t[c]).abs() > 12.0)
        })
        .collect()
}

const RED: [f64; 3] = [150.0, 40.0, 35.0];
const BLUE: [f64; 3] = [40.0, 60.0, 150.0];
const DARK: [f64; 3] = [25.0, 24.0, 30.0];

fn place(things: Vec<Vec<(Rect, [f64; 3])>>) -> Vec<MemoryFrame> {
    let place = Place { seed: 7, things };
    (0..place.things.len()).map(|k| place.frame(k)).collect()
}

#[test]
fn a_pair_comes_out_empty_and_its_figures_are_no_doubts() {
    let frames =
        place(vec![vec![(Rect::new(40, 50, 24, 60), RED)], vec![(Rect::new(150, 60, 30, 50), DARK)]]);
    let (recipe, decision) = decided(&frames);
    assert_eq!(wrong(&plate(&frames, &recipe, &decision)), []);
    assert!(
        decision.doubts.is_empty(),
        "{:?}",
        decision.doubts.iter().map(|d| (d.bbox, d.reason, d.confidence, d.pixels.len())).collect::<Vec<_>>()
    );
}

#[test]
fn somebody_who_stands_there_in_most_frames_is_gone() {
    // Six of ten frames hold the same thing at the same place.
    let things = (0..10)
        .map(|k| {
            if k < 6 {
                vec![(Rect::new(90, 40, 26, 70), BLUE)]
            } else {
                vec![(Rect::new(10 * k, 90, 9, 30), RED)]
            }
        })
        .collect();
    let frames = place(things);
    let (recipe, decision) = decided(&frames);
    assert_eq!(wrong(&plate(&frames, &recipe, &decision)), []);
    let median = Recipe { method: Method::Median, ..recipe };
    assert!(wrong(&plate(&frames, &median, &decision)).len() > 1000, "a median cannot do it");
}

#[test]
fn a_place_that_nobody_shows_clear_is_a_doubt_and_can_be_settled() {
    // The two overlap: what is behind the overlap is in no frame.
    let (first, second) = (Rect::new(80, 50, 40, 60), Rect::new(100, 56, 44, 58));
    let frames = place(vec![vec![(first, RED)], vec![(second, DARK)]]);
    let (recipe, decision) = decided(&frames);
    let core = first.intersect(second);
    let left = wrong(&plate(&frames, &recipe, &decision));
    let outside = left.iter().filter(|(x, y)| {
        let r = Rect::new(core.x - 3, core.y - 3, core.width + 6, core.height + 6);
        !(i64::from(*x) >= r.x
            && i64::from(*x) < r.right()
            && i64::from(*y) >= r.y
            && i64::from(*y) < r.bottom())
    });
    assert!(outside.count() < 60, "what one frame shows is taken from it");
    let doubt =
        decision.doubts.iter().find(|d| !d.bbox.intersect(core).is_empty()).expect("the core is a doubt");
    assert!(doubt.confidence < 0.95);
    assert!(doubt.stories.len() == 2 && doubt.reason != Reason::Alone, "{doubt:?}");

    let settled = Settled { bbox: doubt.bbox, frame: Some(1), open: false };
    let recipe = Recipe { settled: vec![settled], ..recipe };
    let mut after = Arc::new(decision.clone());
    let found = prepare::settle(&mut after, &recipe);
    assert_eq!(found.iter().flatten().count(), 1);
    let choice = &after.label_map;
    for &p in &doubt.pixels {
        assert_eq!(choice.frames[usize::from(choice.labels[p as usize])], 1);
    }
    assert_eq!(decision.label_map.labels.len(), choice.labels.len());
}

#[test]
fn where_nothing_moves_all_frames_are_averaged() {
    let frames = place(vec![vec![]; 6]);
    let (recipe, decision) = decided(&frames);
    let choice = decision.label_map.clone();
    let all = (0..choice.labels.len()).filter(|&p| (0..6).all(|k| choice.holds(p, k))).count();
    assert!(all as f64 > 0.999 * choice.labels.len() as f64, "{all} of {}", choice.labels.len());
    assert_eq!(decision.doubts.len(), 0);
    let mean = Recipe { method: Method::Mean, ..recipe.clone() };
    let noise = |recipe: &Recipe| {
        let p = plate(&frames, recipe, &decision);
        let sum: f64 = (0..SIZE.pixels() as u32)
            .map(|i| (i % SIZE.width, i / SIZE.width))
            .map(|(x, y)| {
                (f64::from(p.pixel(x, y)[1]) / 257.0 - Place::wall(f64::from(x), f64::from(y))[1]).powi(2)
            })
            .sum();
        (sum / SIZE.pixels() as f64).sqrt()
    };
    let (ours, ideal) = (noise(&recipe), noise(&mean));
    assert!(ours < 1.03 * ideal, "noise {ours}, of the ideal average {ideal}");
}

#[test]
fn frames_set_aside_ask_for_a_new_decision() {
    let frames = place(vec![vec![]; 3]);
    let (recipe, decision) = decided(&frames);
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let fewer = Recipe { excluded: [1].into(), ..recipe };
    let all = plan_of(&frames);
    let scene = Scene::new(&fewer, &all, &sources).decided(&decision);
    let told = scene.render(View::Plate, SIZE.rect(), 0).unwrap_err().to_string();
    assert!(told.contains("not been decided"), "{told}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]
    #[test]
    fn the_clear_minority_is_found_and_order_is_no_matter(seed in any::<u64>(), turn in 1usize..8) {
        // At the middle each of five frames holds another thing; three are clear there.
        let mut random = Random::new(seed);
        let colours = [RED, BLUE, DARK, [170.0, 160.0, 60.0], [60.0, 110.0, 50.0]];
        let things: Vec<Vec<(Rect, [f64; 3])>> = (0..8)
            .map(|k| {
                let x = if k < 5 { 100 + random.below(12) as i64 } else { 5 + 40 * (k as i64 - 5) };
                vec![(Rect::new(x, 60 + random.below(10) as i64, 30, 60), colours[k % 5])]
            })
            .collect();
        let mut frames = place(things);
        let (recipe, decision) = decided(&frames);
        let first = plate(&frames, &recipe, &decision);
        prop_assert!(wrong(&first).len() < 40, "{} pixels are wrong", wrong(&first).len());
        frames.rotate_left(turn);
        let (recipe, decision) = decided(&frames);
        prop_assert!(plate(&frames, &recipe, &decision) == first, "the order of frames changed the plate");
    }
}

#[test]
fn leaves_tremble_and_belong() {
    let leaves = Rect::new(30, 20, 120, 90);
    let frames: Vec<MemoryFrame> = (0..7u64)
        .map(|k| {
            let mut random = Random::new(90 + k);
            let mut codes = Vec::new();
            for i in 0..SIZE.pixels() {
                let (x, y) = ((i % u64::from(SIZE.width)) as i64, (i / u64::from(SIZE.width)) as i64);
                let mut colour = Place::wall(x as f64, y as f64);
                if x >= leaves.x && x < leaves.right() && y >= leaves.y && y < leaves.bottom() {
                    // Leaves of three pixels, each lighter or darker in every frame.
                    let mut leaf = Random::new((x / 3) as u64 | ((y / 3) as u64) << 16 | k << 32);
                    colour = [50.0, 70.0, 30.0].map(|v| v + 25.0 * leaf.within(-1.0, 1.0));
                }
                codes.extend(colour.map(|v| (v + 1.2 * random.normal()).clamp(0.0, 255.0).round() as u8));
            }
            MemoryFrame::new(SIZE, Samples::Eight(codes))
        })
        .collect();
    let (_, decision) = decided(&frames);
    assert_eq!(decision.moving.len(), 1, "{:?}", decision.moving);
    assert_eq!(decision.moving[0].motion, Motion::Trembling);
    let share = (leaves.width * leaves.height) as f32 / SIZE.pixels() as f32;
    assert!((decision.moving[0].share / share - 1.0).abs() < 0.25, "{}", decision.moving[0].share);
}

/// Areas that move of eight frames with a soft spot wandering over an even part of the wall; by frame and channel, what it makes of the light.
fn under(spot: impl Fn(u64) -> [f64; 3]) -> Decision {
    let frames: Vec<MemoryFrame> = (0..8u64)
        .map(|k| {
            let mut random = Random::new(40 + k);
            let (from_x, from_y) = (40.0 + 22.0 * k as f64, 60.0 + 8.0 * (k % 3) as f64);
            let mut codes = Vec::new();
            for i in 0..SIZE.pixels() {
                let (x, y) = ((i % u64::from(SIZE.width)) as f64, (i / u64::from(SIZE.width)) as f64);
                let even = (20.0..220.0).contains(&x) && (20.0..120.0).contains(&y);
                let far = ((x - from_x) / 30.0).powi(2) + ((y - from_y) / 30.0).powi(2);
                let colour = if even { [150.0, 150.0, 140.0] } else { Place::wall(x, y) };
                codes.extend((0..3).map(|c| {
                    let leaves = if even { 1.0 - (1.0 - spot(k)[c]) * (-far).exp() } else { 1.0 };
                    (colour[c] * leaves + 1.2 * random.normal()).clamp(0.0, 255.0).round() as u8
                }));
            }
            MemoryFrame::new(SIZE, Samples::Eight(codes))
        })
        .collect();
    decided(&frames).1
}

/// What moves of the same.
fn moving_under(spot: impl Fn(u64) -> [f64; 3]) -> Vec<Motion> {
    under(spot).moving.iter().map(|m| m.motion).collect()
}

#[test]
fn what_drifts_comes_from_one_moment_until_it_is_given_back() {
    let decision = under(|_| [0.6, 0.8, 0.97]);
    let area = &decision.moving[0];
    assert!(area.before.is_some() && area.pixels.1.len() > 100);
    let of = |decision: &Decision| {
        let frame = |p: &u32| decision.label_map.frames[usize::from(decision.label_map.labels[*p as usize])];
        area.pixels.1.iter().filter(|p| frame(p) == area.frame).count()
    };
    assert_eq!(of(&decision), area.pixels.1.len());
    let settled = |open: bool| {
        let answer = Settled { bbox: area.bbox(), frame: None, open };
        let mut decision = Arc::new(decision.clone());
        prepare::settle(&mut decision, &Recipe { settled: vec![answer], ..Recipe::new() });
        decision
    };
    let back = settled(true);
    assert!(back.moving[0].before.is_none() && of(&back) < area.pixels.1.len());
    assert_eq!(settled(false).label_map, decision.label_map);
}

#[test]
fn soft_shade_that_wanders_is_no_cloud() {
    assert_eq!(moving_under(|_| [0.6, 0.8, 0.97]), [Motion::Drifting], "cloud is of another colour");
    assert_eq!(moving_under(|_| [0.7; 3]), []);
    let grey = |k| if k % 2 == 0 { [0.7; 3] } else { [1.3; 3] };
    assert_eq!(moving_under(grey), [Motion::Drifting], "grey cloud is lighter as well");
    assert_eq!(moving_under(|_| [1.3; 3]), [], "a reflection adds white light");
    assert_eq!(moving_under(|_| [1.3, 1.2, 1.03]), [Motion::Drifting], "cloud adds more red than blue");
}

/// The doubts of two frames with a soft spot of light, which may be negative, at the middle of each.
fn doubts_of_light(strengths: [f64; 2]) -> Vec<Doubt> {
    let mut frames = place(vec![vec![], vec![]]);
    for (frame, strength) in frames.iter_mut().zip(strengths) {
        let Ok(Samples::Eight(mut codes)) = frame.read(0, SIZE.rect()) else { panic!("eight bits") };
        for (i, v) in codes.iter_mut().enumerate() {
            let (x, y) = ((i / 3) as f64 % 240.0 - 120.0, (i as f64 / 720.0).floor() - 80.0);
            let light = strength * (-(x * x + y * y) / 900.0).exp();
            *v = (f64::from(*v) + light).clamp(0.0, 255.0).round() as u8;
        }
        *frame = MemoryFrame::new(SIZE, Samples::Eight(codes));
    }
    decided(&frames).1.doubts.to_vec()
}

#[test]
fn soft_light_in_one_of_two_frames_is_taken_off_and_asked_where_it_may_be_the_wall() {
    assert_eq!(doubts_of_light([0.0, 0.0]), []);
    assert!(doubts_of_light([0.0, 20.0]).iter().any(|d| !d.settled), "nothing tells which of them is right");
    // Where its slope tells, the plate is right; that may be asked all the same, for some of it is as bright as stones beside it.
    for strength in [70.0, 400.0] {
        let all = doubts_of_light([0.0, strength]);
        let told: Vec<_> = all.iter().map(|d| (d.settled, &d.stories)).collect();
        assert!(!all.is_empty() && all.iter().all(|d| d.stories[0] == [0]), "{strength}: {told:?}");
    }
}

#[test]
fn what_nothing_tells_of_two_frames_is_asked() {
    // As much light in one as is lacking in the other: neither stands out from what is beside it.
    for strength in [12.0, 16.0] {
        let all = doubts_of_light([strength, -strength]);
        assert!(all.iter().any(|d| !d.settled), "{strength}: {all:?}");
    }
}

#[test]
fn movers_grown_together_come_apart_by_what_goes_on_beside_them() {
    // A large one right beside a small one of the other frame: the border of both together speaks for the large one.
    let frames = place(vec![vec![(Rect::new(60, 70, 16, 40), RED)], vec![(Rect::new(76, 40, 50, 90), DARK)]]);
    let (recipe, decision) = decided(&frames);
    let left = wrong(&plate(&frames, &recipe, &decision));
    assert!(left.len() < 30, "{} pixels are wrong", left.len());
}
