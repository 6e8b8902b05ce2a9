//! Touches as a set sees them: what they change, what they never take, and that a part is made as the whole is.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::combine::Method;
use evanu_core::geometry::{Point, Rect, Size, ends};
use evanu_core::patch::PatchTransform;
use evanu_core::patch::mask::Mask;
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::{FrameAlignment, Plan};
use evanu_core::prepare::{
    PlaceError, Variants, place_touches, propose_plane, propose_source, touch_faults, variants,
};
use evanu_core::progress::no_progress;
use evanu_core::random::Random;
use evanu_core::recipe::{Act, Canvas, Only, Part, Recipe, Shown, Touch};
use evanu_core::render::origin::made_by;
use evanu_core::render::{Scene, Stage, View};
use evanu_core::touch::{Fault, PlacedTouch, Plane};
use proptest::prelude::*;

const SIZE: Size = Size::new(150, 120);

/// A frame by its colours.
fn frame(colour: impl Fn(u32, u32) -> [u16; 3]) -> MemoryFrame {
    let places = (0..SIZE.height).flat_map(|y| (0..SIZE.width).map(move |x| (x, y)));
    MemoryFrame::new(SIZE, Samples::Sixteen(places.flat_map(|(x, y)| colour(x, y)).collect()))
}

/// Stripes with grain.
fn ground() -> MemoryFrame {
    let mut random = Random::new(6);
    let grain: Vec<u16> = (0..SIZE.pixels()).map(|_| random.below(2500) as u16).collect();
    frame(|x, y| {
        let v = if (x + 2 * y) % 20 < 9 { 21_000 } else { 33_000 } + grain[(y * SIZE.width + x) as usize];
        [v, v + 900, v + 300]
    })
}

fn ellipse(x: f64, y: f64, rx: f64, ry: f64) -> Vec<Point> {
    let at = |k: u32| f64::from(k) / 14.0 * std::f64::consts::TAU;
    (0..14).map(|k| Point::new(x + rx * at(k).cos(), y + ry * at(k).sin())).collect()
}

fn moved(x: f64, y: f64) -> PatchTransform {
    PatchTransform { shift: [x, y], ..PatchTransform::UNMOVED }
}

fn make(_: &str, _: usize, make: &dyn Fn() -> Result<Variants, PlaceError>) -> Result<Variants, PlaceError> {
    make()
}

fn recipe(touches: Vec<Touch>) -> Recipe {
    Recipe { method: Method::Median, touches, ..Recipe::new() }
}

/// Calls with the scene of a frame and its touches.
fn with<T>(frame: &MemoryFrame, recipe: &Recipe, f: impl FnOnce(&Scene<'_>, &[PlacedTouch]) -> T) -> T {
    let sources: [&dyn FrameSource; 1] = [frame];
    let plan = Plan::of(vec![FrameAlignment::untouched(SIZE)]);
    let scene = Scene::new(recipe, &plan, &sources);
    let placed = place_touches(&scene, &make).unwrap();
    let stages: Vec<&dyn Stage> = placed.iter().map(|t| t as &dyn Stage).collect();
    f(&Scene { touches: &stages, ..scene }, &placed)
}

/// Calls with the scene of a frame alone.
fn with_scene<T>(frame: &MemoryFrame, f: impl FnOnce(&Scene<'_>) -> T) -> T {
    with(frame, &recipe(Vec::new()), |scene, _| f(scene))
}

fn plate(frame: &MemoryFrame, recipe: &Recipe) -> Raster {
    with(frame, recipe, |scene, _| scene.render(View::Plate, scene.canvas().size().rect(), 0).unwrap())
}

fn acts() -> [Act; 4] {
    [
        Act::Copy { transform: PatchTransform { turn: 3.0, scale: 1.1, ..moved(52.0, 3.0) } },
        Act::Mend { transform: moved(50.0, 5.0), only: Only::Both },
        Act::Even { slow: 9.0 },
        Act::Invent { seed: 3, variant: 1 },
    ]
}

#[test]
fn outside_the_area_every_byte_stays_and_a_part_is_made_as_the_whole() {
    let ground = ground();
    let before = plate(&ground, &recipe(Vec::new()));
    for act in acts() {
        let touch = Touch { feather: 3.0, ..Touch::new(0, ellipse(100.0, 60.0, 18.0, 25.0), act) };
        with(&ground, &recipe(vec![touch]), |scene, placed| {
            let whole = scene.render(View::Plate, SIZE.rect(), 0).unwrap();
            let (low, high) = placed[0].made.mask.reach();
            let mut changed = 0;
            for y in 0..SIZE.height {
                for x in 0..SIZE.width {
                    let at = Point::new(x.into(), y.into());
                    let near = at.x >= low.x && at.x <= high.x && at.y >= low.y && at.y <= high.y;
                    let same = whole.pixel(x, y) == before.pixel(x, y);
                    assert!(same || near && placed[0].made.mask.at(at) > 0.0, "{act:?} changed {x}, {y}");
                    changed += u32::from(!same);
                }
            }
            assert!(changed > 500, "{act:?} changed {changed} pixels");
            for level in [0, 1, 3] {
                let size = SIZE.at_level(level);
                let whole = scene.render(View::Plate, size.rect(), level).unwrap();
                let part = Rect::new(5, 3, size.width / 2, size.height / 2);
                let cut = scene.render(View::Plate, part, level).unwrap();
                for y in 0..part.height {
                    for x in 0..part.width {
                        assert_eq!(cut.pixel(x, y), whole.pixel(x + 5, y + 3), "{act:?} at level {level}");
                    }
                }
            }
        });
    }
}

#[test]
fn a_copy_by_whole_pixels_is_that_place_and_a_mend_takes_the_tone_around() {
    // Brighter on the left, where the source is.
    let lit = frame(|x, y| {
        let v = if (x + y) % 6 < 3 { 20_000 } else { 24_000 } + if x < 60 { 9_000 } else { 0 };
        [v, v, v]
    });
    let before = plate(&lit, &recipe(Vec::new()));
    let outline = ellipse(100.0, 60.0, 16.0, 16.0);
    let copied =
        plate(&lit, &recipe(vec![Touch::new(0, outline.clone(), Act::Copy { transform: moved(66.0, 0.0) })]));
    assert_eq!(copied.pixel(100, 60), before.pixel(34, 60));
    let mended = Act::Mend { transform: moved(66.0, 0.0), only: Only::Both };
    let mended = plate(&lit, &recipe(vec![Touch::new(0, outline.clone(), mended)]));
    let mean = |of: &Raster| (90..110).map(|x| f64::from(of.pixel(x, 60)[0])).sum::<f64>() / 20.0;
    assert!((mean(&mended) - mean(&before)).abs() < 700.0, "{} {}", mean(&mended), mean(&before));
    assert!(mean(&copied) - mean(&before) > 6_000.0);
    // Only darker: what the brighter copy would lighten stays.
    let darken = Act::Mend { transform: moved(66.0, 0.0), only: Only::Darken };
    let darkened = plate(&lit, &recipe(vec![Touch::new(0, outline, darken)]));
    let lighter =
        (0..SIZE.pixels() as usize).filter(|p| darkened.data[3 * p] > before.data[3 * p] + 40).count();
    assert_eq!(lighter, 0);
}

#[test]
fn a_blotch_is_evened_out_and_texture_stays() {
    let spot = |x: u32, y: u32| {
        let off = (f64::from(x) - 75.0).hypot(f64::from(y) - 60.0);
        (5_000.0 * (-off * off / 200.0).exp()) as u16
    };
    let stripes = |x: u32| if x % 4 < 2 { 20_000 } else { 23_000 };
    let clean = plate(&frame(|x, _| [stripes(x); 3]), &recipe(Vec::new()));
    let blotched = frame(|x, y| [stripes(x) + spot(x, y); 3]);
    let touch = Touch::new(0, ellipse(75.0, 60.0, 40.0, 40.0), Act::Even { slow: 12.0 });
    let evened = plate(&blotched, &recipe(vec![touch]));
    let worst = (60..90).map(|x| evened.pixel(x, 60)[0].abs_diff(clean.pixel(x, 60)[0])).max();
    assert!(worst < Some(1000), "{worst:?} of 5000 are left");
}

#[test]
fn a_flare_is_taken_off_and_what_lies_below_stays() {
    let ground = ground();
    let added = |x: u32, y: u32| {
        let off = (f64::from(x) - 72.0).hypot(f64::from(y) - 57.0);
        ((27.0 - off) / 3.0).clamp(0.0, 1.0)
    };
    let clean = plate(&ground, &recipe(Vec::new()));
    // In light, as lenses do.
    let lens = |v: u16, more: f64| {
        let light = evanu_core::pixel::tone::to_linear(f64::from(v) / 65535.0) + more;
        (evanu_core::pixel::tone::to_code(light.min(1.0)) * 65535.0).round() as u16
    };
    let flared = frame(|x, y| {
        let [r, g, b] = [0, 1, 2].map(|c| clean.pixel(x, y)[c]);
        let share = added(x, y);
        [lens(r, 0.05 * share), lens(g, 0.08 * share), lens(b, 0.02 * share)]
    });
    let touch = Touch::new(0, ellipse(75.0, 60.0, 36.0, 36.0), Act::Flare);
    let (before, after) = (plate(&flared, &recipe(Vec::new())), plate(&flared, &recipe(vec![touch.clone()])));
    let (was, left) = (off(&before, &clean, (72.0, 57.0), 24.0), off(&after, &clean, (72.0, 57.0), 24.0));
    assert!(left < 0.25 * was, "{left} of {was} is left");
    assert!(!touch.act.invents());
    // Where there is none, it says so.
    with_scene(&ground, |scene| {
        let refused = variants(scene, &touch, 1, &make, &no_progress).err().map(|e| e.to_string());
        assert!(refused.unwrap().contains("no flare is found"));
    });
}

#[test]
fn a_source_in_the_area_itself_is_refused_and_another_is_proposed() {
    let ground = ground();
    let outline = ellipse(75.0, 60.0, 15.0, 20.0);
    let touch = |transform| Touch::new(0, outline.clone(), Act::Copy { transform });
    with(&ground, &recipe(vec![touch(moved(3.0, 0.0))]), |scene, placed| {
        assert!(placed.is_empty(), "what is to go was copied");
        let refused =
            variants(scene, &touch(moved(3.0, 0.0)), 1, &make, &no_progress).err().map(|e| e.to_string());
        assert!(refused.unwrap().contains("move it farther away"));
        // The stripes repeat: what is proposed meets them.
        let found = propose_source(scene, &touch(moved(3.0, 0.0))).unwrap().unwrap();
        assert!(found.meets);
        let [x, y] = found.transform.shift;
        assert!(((x + 2.0 * y) / 20.0).fract().abs() < 1e-9, "{x} {y}");
        assert!(variants(scene, &touch(found.transform), 1, &make, &no_progress).unwrap().is_some());
    });
}

#[test]
fn what_is_made_up_is_known_and_later_touches_know_what_lies_below() {
    let ground = ground();
    let first = Touch::new(0, ellipse(30.0, 90.0, 12.0, 12.0), Act::Invent { seed: 1, variant: 0 });
    let second = Touch::new(0, ellipse(100.0, 90.0, 10.0, 10.0), Act::Copy { transform: moved(70.0, 0.0) });
    let key = |touches: Vec<Touch>| {
        with(&ground, &recipe(touches), |scene, placed| {
            let stages = scene.stages(View::Plate).unwrap();
            let made = made_by(&stages, Point::new(30.0, 90.0));
            (placed.iter().map(|t| t.key.clone()).collect::<Vec<_>>(), made.is_some_and(|m| m.invented))
        })
    };
    let (keys, invented) = key(vec![first.clone(), second.clone()]);
    assert!(invented && keys.len() == 2);
    // Another seed below: the copy that takes from there is another one; an area far from it stays.
    let other = Touch { act: Act::Invent { seed: 2, variant: 0 }, ..first.clone() };
    let (changed, _) = key(vec![other.clone(), second.clone()]);
    assert_ne!(keys[1], changed[1]);
    let far = Touch {
        outline: ellipse(130.0, 20.0, 6.0, 6.0),
        act: Act::Copy { transform: moved(0.0, -30.0) },
        ..second
    };
    assert_eq!(key(vec![first.clone(), far.clone()]).0[1], key(vec![other, far]).0[1]);
    // What is off, or lies outside, is not laid.
    let off = Touch { disabled: true, ..first.clone() };
    let outside = Touch { outline: ellipse(900.0, 900.0, 9.0, 9.0), ..first };
    assert!(key(vec![off, outside]).0.is_empty());
}

#[test]
fn in_the_common_area_a_touch_lies_where_it_was_drawn() {
    let ground = ground();
    let touch = Touch::new(0, ellipse(100.0, 60.0, 14.0, 14.0), Act::Copy { transform: moved(60.0, 0.0) });
    let whole = plate(&ground, &recipe(vec![touch.clone()]));
    let common = plate(&ground, &Recipe { canvas: Canvas::Common, ..recipe(vec![touch]) });
    assert_eq!(whole.pixel(100, 60), common.pixel(100, 60));
}

/// A floor of tiles that runs away from the camera, and the corners of a rectangle on it.
fn floor() -> (MemoryFrame, [Point; 4]) {
    let corners = [(50.0, 8.0), (100.0, 8.0), (145.0, 115.0), (5.0, 115.0)].map(|(x, y)| Point::new(x, y));
    let plane = Plane::new(&corners, Point::new(75.0, 60.0)).unwrap();
    let tile = |x: f64, y: f64| {
        let at = plane.front.apply(Point::new(x, y));
        let odd = (at.x / 12.0).floor() as i64 + (at.y / 12.0).floor() as i64;
        if odd.rem_euclid(2) == 0 { 20_000.0 } else { 40_000.0 }
    };
    let grey = move |x: u32, y: u32| {
        let places = (0..25).map(|k| (f64::from(k % 5) / 5.0 - 0.4, f64::from(k / 5) / 5.0 - 0.4));
        let sum: f64 = places.map(|(u, v)| tile(f64::from(x) + u, f64::from(y) + v)).sum();
        [(sum / 25.0) as u16; 3]
    };
    (frame(grey), corners)
}

/// The mean difference of two plates within an ellipse.
fn off(a: &Raster, b: &Raster, (x, y): (f64, f64), radius: f64) -> f64 {
    let mut sum = (0.0, 0.0);
    for (u, v) in (0..SIZE.height).flat_map(|v| (0..SIZE.width).map(move |u| (u, v))) {
        if (f64::from(u) - x).hypot(f64::from(v) - y) < radius {
            sum = (sum.0 + f64::from(a.pixel(u, v)[0].abs_diff(b.pixel(u, v)[0])), sum.1 + 1.0);
        }
    }
    sum.0 / sum.1
}

#[test]
fn in_a_plane_a_copy_is_foreshortened_with_it() {
    let (floor, corners) = floor();
    let truth = plate(&floor, &recipe(Vec::new()));
    let place = (75.0, 84.0);
    let outline = ellipse(place.0, place.1, 14.0, 14.0);
    let error = |act: Act, plane: Option<[Point; 4]>| {
        let touch = Touch { plane, ..Touch::new(0, outline.clone(), act) };
        off(&plate(&floor, &recipe(vec![touch])), &truth, place, 12.0)
    };
    // From two rows of tiles farther back, where they are smaller. Seen from the front about this area, they are so long:
    let front = Plane::new(&corners, Point::new(75.0, 60.0)).unwrap();
    let own = Plane::new(&corners, Point::new(place.0, place.1)).unwrap();
    let far = |rows: f64| {
        let at = front.front.apply(Point::new(place.0, place.1));
        let back = front.back.apply(Point::new(at.x, at.y - rows * 12.0));
        own.front.apply(back).y - place.1
    };
    let copy = Act::Copy { transform: moved(0.0, -far(2.0)) };
    let (with, without) = (error(copy, Some(corners)), error(copy, None));
    assert!(with < 2_000.0 && without > 8_000.0, "{with} in the plane, {without} without");
    let proposed = |plane| {
        let touch = Touch { plane, ..Touch::new(0, outline.clone(), copy) };
        let found = with_scene(&floor, |scene| propose_source(scene, &touch).unwrap().unwrap());
        error(Act::Copy { transform: found.transform }, plane)
    };
    let (with, without) = (proposed(Some(corners)), proposed(None));
    assert!(with < 0.5 * without, "{with} proposed in the plane, {without} without");
    let invent = Act::Invent { seed: 1, variant: 0 };
    let (with, without) = (error(invent, Some(corners)), error(invent, None));
    assert!(with < 0.9 * without, "{with} made up in the plane, {without} without");
    // One that is found by the joints around it leads as well.
    let found = with_scene(&floor, |scene| {
        let touch = Touch::new(0, ellipse(75.0, 62.0, 10.0, 10.0), invent);
        propose_plane(scene, &touch).unwrap().unwrap()
    });
    let (with, without) = (proposed(Some(found)), proposed(None));
    assert!(with < 0.6 * without, "{with} proposed in the plane that was found, {without} without");
    // One that turns away within the area is refused.
    let horizon = [(60.0, 80.0), (90.0, 80.0), (150.0, 110.0), (0.0, 110.0)].map(|(x, y)| Point::new(x, y));
    let touch = Touch { plane: Some(horizon), ..Touch::new(0, ellipse(75.0, 60.0, 30.0, 50.0), invent) };
    assert!(plate(&floor, &recipe(vec![touch])).data == truth.data);
}

#[test]
fn parts_of_several_variants_are_drawn_together() {
    let ground = ground();
    let outline = ellipse(75.0, 60.0, 30.0, 30.0);
    let shown = |variant: u8, parts: Vec<Part>| {
        let touch = Touch { parts, ..Touch::new(0, outline.clone(), Act::Invent { seed: 3, variant }) };
        plate(&ground, &recipe(vec![touch]))
    };
    let (first, second) = (shown(0, Vec::new()), shown(1, Vec::new()));
    let right = || ellipse(92.0, 60.0, 16.0, 40.0);
    let both = shown(0, vec![Part { outline: right(), variant: 1 }]);
    let near = |other: &Raster, x: f64| off(&both, other, (x, 60.0), 8.0);
    assert!(near(&first, 56.0) < 0.3 * near(&second, 56.0), "the left part is of the first");
    assert!(near(&second, 93.0) < 0.3 * near(&first, 93.0), "the right part is of the second");
    // A part that shows the same changes nothing.
    assert_eq!(shown(1, vec![Part { outline: right(), variant: 1 }]).data, second.data);
}

#[test]
fn nothing_is_taken_from_where_its_owner_barred_it() {
    let red = frame(|x, y| {
        let v = 20_000 + ((x * 7 + y * 13) % 5) as u16 * 900;
        if x < 40 { [60_000, 9_000, 9_000] } else { [v, v, v] }
    });
    let barred = vec![
        [(-5.0, -5.0), (41.0, -5.0), (41.0, 130.0), (-5.0, 130.0)].map(|(x, y)| Point::new(x, y)).to_vec(),
    ];
    // The area meets the red part, so that it would go on.
    let touch = |act| Touch { barred: barred.clone(), ..Touch::new(0, ellipse(56.0, 60.0, 14.0, 20.0), act) };
    let made = plate(&red, &recipe(vec![touch(Act::Invent { seed: 2, variant: 0 })]));
    let reddest = (44..68).map(|x| made.pixel(x, 60)[0]).max();
    assert!(reddest < Some(30_000), "{reddest:?}");
    with_scene(&red, |scene| {
        let copy = touch(Act::Copy { transform: moved(35.0, 0.0) });
        assert!(
            variants(scene, &copy, 1, &make, &no_progress).is_err(),
            "it lies where nothing is taken from"
        );
        let found = propose_source(scene, &copy).unwrap().unwrap();
        assert!(56.0 - found.transform.shift[0] > 54.0, "{found:?}");
    });
}

#[test]
fn a_source_may_be_a_frame_or_the_plate_without_touches_but_never_what_is_to_go() {
    let plain = |v: u16| frame(move |x, y| [v + ((x * 7 + y * 11) % 9) as u16 * 100; 3]);
    let (first, second) = (plain(20_000), plain(20_040));
    let sources: [&dyn FrameSource; 2] = [&first, &second];
    let plan = Plan::of(vec![FrameAlignment::untouched(SIZE), FrameAlignment::untouched(SIZE)]);
    let post = Touch::new(0, ellipse(40.0, 60.0, 8.0, 20.0), Act::Even { slow: 4.0 });
    let post = Touch { act: Act::Invent { seed: 1, variant: 0 }, ..post };
    let copy = |x: f64, shown| Touch {
        shown,
        ..Touch::new(0, ellipse(100.0, 60.0, 8.0, 12.0), Act::Copy { transform: moved(x, 0.0) })
    };
    let recipe = Recipe { excluded: [1].into(), ..recipe(vec![post]) };
    let scene = Scene::new(&recipe, &plan, &sources);
    let placed = place_touches(&scene, &make).unwrap();
    let stages: Vec<&dyn Stage> = placed.iter().map(|t| t as &dyn Stage).collect();
    let scene = Scene { touches: &stages, ..scene };
    let made = |touch: &Touch| variants(&scene, touch, 1, &make, &no_progress);
    // What the invention laid may be copied; what it covers may not.
    assert!(made(&copy(60.0, Shown::Plate)).unwrap().is_some());
    assert!(made(&copy(60.0, Shown::Bare)).is_err());
    assert!(made(&copy(60.0, Shown::Frame(1))).is_err());
    assert!(made(&copy(30.0, Shown::Bare)).unwrap().is_some());
    let other = made(&copy(30.0, Shown::Frame(1))).unwrap().unwrap().0;
    assert_ne!(other, made(&copy(30.0, Shown::Plate)).unwrap().unwrap().0);
    let recipe = Recipe { touches: vec![copy(30.0, Shown::Frame(1))], ..recipe.clone() };
    let scene = Scene::new(&recipe, &plan, &sources);
    let placed = place_touches(&scene, &make).unwrap();
    let scene = Scene { touches: &[&placed[0]], ..scene };
    let [plate, frame] = [View::Plate, View::Frame(1)].map(|v| scene.render(v, SIZE.rect(), 0).unwrap());
    assert_eq!(plate.pixel(100, 60), frame.pixel(70, 60));
    assert_ne!(plate.pixel(100, 60), plate.pixel(70, 60));
}

#[test]
fn what_can_still_be_seen_is_told_with_what_mends_it() {
    let mut random = Random::new(4);
    let grain: Vec<u16> = (0..SIZE.pixels()).map(|_| random.below(4_000) as u16).collect();
    let lit =
        frame(|x, y| [20_000 + grain[(y * SIZE.width + x) as usize] + if x < 50 { 9_000 } else { 0 }; 3]);
    let told = |act| {
        let touch = Touch { feather: 0.0, ..Touch::new(0, ellipse(100.0, 60.0, 16.0, 20.0), act) };
        with(&lit, &recipe(vec![touch.clone()]), |scene, _| {
            let found = touch_faults(scene, &touch).unwrap();
            for (fault, outline) in &found {
                // Where it is seen lies on the touch, and can be the next area.
                let (low, high) = ends(outline);
                assert!(
                    low.x > 75.0 && high.x < 125.0 && low.y > 30.0 && high.y < 90.0,
                    "{fault:?} {low:?} {high:?}"
                );
                assert!(Touch { outline: outline.clone(), ..touch.clone() }.is_valid());
            }
            found.into_iter().map(|(fault, _)| fault).collect::<Vec<_>>()
        })
    };
    let from = |x: f64| PatchTransform { ..moved(x, 0.0) };
    assert_eq!(told(Act::Mend { transform: from(75.0), only: Only::Both }), []);
    assert_eq!(told(Act::Copy { transform: from(75.0) }), [Fault::Border, Fault::Tone]);
    let soft = PatchTransform { scale: 5.0, ..moved(34.0, 0.0) };
    assert_eq!(told(Act::Mend { transform: soft, only: Only::Both }), [Fault::Soft]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]
    /// In the area each pixel has a colour of its own that occurs nowhere else: none may get another one's.
    #[test]
    fn nothing_is_ever_taken_from_the_area_itself(
        x in 10.0f64..140.0, y in 10.0f64..110.0, rx in 2.0f64..14.0, ry in 2.0f64..14.0,
        dx in -60.0f64..60.0, dy in -60.0f64..60.0, turn in -30.0f64..30.0, kind in 0u8..8, whole in any::<bool>()
    ) {
        let (outline, feather) = (ellipse(x, y, rx, ry), 1.0);
        let (dx, dy, turn) = if whole { (dx.round(), dy.round(), 0.0) } else { (dx, dy, turn) };
        let transform = PatchTransform { turn, ..moved(dx, dy) };
        let act = match kind {
            0 => Act::Invent { seed: 1, variant: 0 },
            1..=4 => Act::Copy { transform },
            _ => Act::Mend { transform, only: Only::Both },
        };
        let mask = Mask::drawn(&outline, feather, 0.0, SIZE).unwrap();
        let share = |u: u32, v: u32| mask.at(Point::new(u.into(), v.into()));
        let own = |u: u32, v: u32| 40_000 + (v * SIZE.width + u) as u16;
        let marked = frame(|u, v| {
            let grain = 9_000 + ((u * 7 + v * 13) % 50) as u16;
            [if share(u, v) > 0.0 { own(u, v) } else { grain }, 9_000, 9_000]
        });
        let before = plate(&marked, &recipe(Vec::new()));
        let touch = Touch { feather, ..Touch::new(0, outline, act) };
        let after = plate(&marked, &recipe(vec![touch]));
        for (u, v) in (0..SIZE.height).flat_map(|v| (0..SIZE.width).map(move |u| (u, v))) {
            let (old, new) = (before.pixel(u, v)[0], after.pixel(u, v)[0]);
            if share(u, v) >= 1.0 && (old != new || kind == 0) {
                prop_assert!(new < 30_000, "{act:?} gives {u}, {v} {new}, which was {old}");
            }
        }
    }
}
