//! Ground truth decides: small rendered sets through the whole computation.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::combine::Method;
use evanu_core::geometry::{Homography, Rect, Size};
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::{Decision, Plan};
use evanu_core::prepare;
use evanu_core::progress::no_progress;
use evanu_core::recipe::{Align, Canvas, Recipe};
use evanu_core::render::{Scene, View};
use evanu_demo::score::psnr;
use evanu_demo::{Crowd, Order, Shoot, empty_frame, frame_size};
use std::sync::LazyLock;

const WIDTH: u32 = 480;

struct Set {
    shoot: Shoot,
    frames: Vec<MemoryFrame>,
}

fn source(picture: &Raster) -> MemoryFrame {
    MemoryFrame::new(picture.size, Samples::Eight(picture.to_u8()))
}

fn set(crowd: Crowd, frames: usize) -> Set {
    let shoot = Shoot::new(Order::by_hand(11, WIDTH, frames, crowd));
    let frames = (0..frames).map(|k| source(&shoot.frame(k).picture)).collect();
    Set { shoot, frames }
}

static BUSY: LazyLock<Set> = LazyLock::new(|| set(Crowd::Forecourt, 9));

fn refs(frames: &[MemoryFrame]) -> Vec<&dyn FrameSource> {
    frames.iter().map(|f| f as &dyn FrameSource).collect()
}

fn plan(recipe: &Recipe, sources: &[&dyn FrameSource]) -> (Plan, Decision) {
    let plan = prepare::plan(recipe, sources, &[], &no_progress).unwrap();
    let decision = prepare::decide(&Scene::new(recipe, &plan, sources)).unwrap();
    (plan, decision)
}

fn whole(scene: &Scene<'_>, view: View) -> Raster {
    scene.render(view, scene.size(view).rect(), 0).unwrap()
}

#[test]
fn frames_are_found_to_a_tenth_of_a_pixel_and_the_plate_is_empty() {
    let sources = refs(&BUSY.frames);
    let recipe = Recipe::new();
    let (plan, decision) = plan(&recipe, &sources);
    let reference = &BUSY.shoot.shots[plan.alignment.reference];
    let back = reference.to_place.inverse().unwrap();
    for (k, frame) in plan.alignment.frames.iter().enumerate() {
        assert_eq!(frame.misfit, None, "frame {k}");
        let truth = back.after(&BUSY.shoot.shots[k].to_place);
        let error = frame.transform.grid_distance(&truth, frame.size);
        assert!(error < 0.12, "frame {k} is off by {error} px");
        let gain = plan.tones.frames[k].gain[1] * BUSY.shoot.shots[k].gain / reference.gain;
        assert!((gain - 1.0).abs() < 0.01, "frame {k}: gain off by {gain}");
    }
    let scene = Scene::new(&recipe, &plan, &sources).decided(&decision);
    let truth = empty_frame(BUSY.shoot.place(0), reference, frame_size(WIDTH));
    let plate = psnr(&whole(&scene, View::Plate), &truth);
    let busy = psnr(&whole(&scene, View::Shot(plan.alignment.reference)), &truth);
    assert!(plate > 29.0 && plate > busy + 5.0, "plate {plate} dB, reference frame {busy} dB");
}

#[test]
fn neither_order_nor_threads_change_a_byte() {
    let sources = refs(&BUSY.frames);
    let recipe = Recipe::new();
    let render = |sources: &[&dyn FrameSource]| {
        let (plan, decision) = plan(&recipe, sources);
        whole(&Scene::new(&recipe, &plan, sources).decided(&decision), View::Plate)
    };
    let plate = render(&sources);
    let mut turned = sources.clone();
    turned.rotate_left(4);
    turned.swap(0, 2);
    assert!(render(&turned) == plate, "the order of frames changed the plate");
    let one = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
    assert!(one.install(|| render(&sources)) == plate, "the number of threads changed the plate");
}

#[test]
fn a_preview_is_the_same_region_of_the_export() {
    let sources = refs(&BUSY.frames);
    for canvas in [Canvas::Reference, Canvas::Common] {
        let recipe = Recipe { canvas, ..Recipe::new() };
        let (plan, decision) = plan(&recipe, &sources);
        let scene = Scene::new(&recipe, &plan, &sources).decided(&decision);
        for view in [View::Plate, View::Agreement, View::Frame(3)] {
            let all = whole(&scene, view);
            let region = Rect::new(101, 57, 203, 148);
            let part = scene.render(view, region, 0).unwrap();
            if view == View::Plate {
                let kept = scene.aligned(region, 0).unwrap();
                assert!(kept.combined(&scene, View::Plate, region).unwrap() == part);
                // Of all that is kept, parts that lie in one block, on four, and at the end.
                let size = scene.size(view);
                let kept = scene.aligned(size.rect(), 0).unwrap();
                let end = Rect::new(i64::from(size.width) - 40, i64::from(size.height) - 30, 40, 30);
                for part in [Rect::new(0, 0, 8, 8), Rect::new(250, 90, 20, 12), end] {
                    let alone = kept.combined(&scene, View::Plate, part).unwrap();
                    assert!(alone == scene.render(view, part, 0).unwrap(), "{part:?}");
                }
            }
            for y in 0..region.height {
                for x in 0..region.width {
                    assert_eq!(part.pixel(x, y), all.pixel(x + 101, y + 57), "{view:?} at {x}, {y}");
                }
            }
        }
    }
}

#[test]
fn where_nothing_moves_the_plate_is_better_than_any_frame() {
    let mut still = set(Crowd::Nobody, 7);
    // As a camera writes them: rounding of the JPEG kind is part of what a single frame suffers from.
    still.frames = (0..7)
        .map(|k| {
            let jpeg = evanu_media::encode_jpeg(&still.shoot.frame(k).picture, 90).unwrap();
            let decoded = evanu_media::decode_bytes(std::path::Path::new("frame.jpg"), &jpeg).unwrap();
            MemoryFrame::new(decoded.size, decoded.samples)
        })
        .collect();
    let sources = refs(&still.frames);
    let recipe = Recipe::new();
    let (plan, decision) = plan(&recipe, &sources);
    let scene = Scene::new(&recipe, &plan, &sources).decided(&decision);
    let truth =
        empty_frame(still.shoot.place(0), &still.shoot.shots[plan.alignment.reference], frame_size(WIDTH));
    let single = psnr(&whole(&scene, View::Shot(plan.alignment.reference)), &truth);
    let by = |method| psnr(&whole(&scene, View::By(method)), &truth);
    for method in [Method::Consensus, Method::Median, Method::Mean] {
        assert!(by(method) > single, "{method}: {} dB, a single frame {single} dB", by(method));
    }
    let support = scene.support(scene.canvas(), 0).unwrap();
    assert!(support.mean() > 0.97, "only {} agreed", support.mean());
}

#[test]
fn detail_that_the_mean_of_all_loses_is_the_references() {
    let still = set(Crowd::Nobody, 7);
    let sources = refs(&still.frames);
    let recipe = Recipe::new();
    let (plan, decision) = plan(&recipe, &sources);
    let scene = Scene::new(&recipe, &plan, &sources).decided(&decision);
    let truth =
        empty_frame(still.shoot.place(0), &still.shoot.shots[plan.alignment.reference], frame_size(WIDTH));
    let [own, mean, median] = [Method::Consensus, Method::Mean, Method::Median]
        .map(|method| psnr(&whole(&scene, View::By(method)), &truth));
    assert!(own > mean + 1.0 && own > median + 1.0, "{own} dB, the mean {mean} dB, the median {median} dB");
}

#[test]
fn a_foreign_frame_is_set_aside_and_one_of_another_size_is_used() {
    let half = {
        let f = &BUSY.frames[4];
        let size = f.size().at_level(1);
        MemoryFrame::new(size, f.read(1, size.rect()).unwrap())
    };
    let foreign = {
        let size = Size::new(WIDTH, 300);
        let px = |i: u64| {
            let (x, y) = (i % u64::from(WIDTH), i / u64::from(WIDTH));
            [((x / 17 * 91 + y / 13 * 57) % 250) as u8; 3]
        };
        MemoryFrame::new(size, Samples::Eight((0..size.pixels()).flat_map(px).collect()))
    };
    let mut sources = refs(&BUSY.frames[..4]);
    sources.extend([&half as &dyn FrameSource, &foreign]);
    let recipe = Recipe::new();
    let (plan, decision) = plan(&recipe, &sources);
    assert!(
        plan.alignment.frames[5].misfit.as_deref().is_some_and(|r| r.contains("another view")),
        "{:?}",
        plan.alignment.frames[5].misfit
    );
    assert_eq!(plan.alignment.frames[4].misfit, None);
    assert!(
        (plan.alignment.frames[4].transform.scale_at(evanu_core::geometry::Point::new(100.0, 80.0)) - 2.0)
            .abs()
            < 0.02
    );
    let scene = Scene::new(&recipe, &plan, &sources).decided(&decision);
    assert_eq!(scene.used(), [0, 1, 2, 3, 4]);
}

#[test]
fn two_unrelated_frames_give_the_reference_alone() {
    let size = Size::new(300, 200);
    let noise = |seed: u64| {
        let mut r = evanu_core::random::Random::new(seed);
        let cells: Vec<u8> = (0..30 * 20).map(|_| (r.bits() % 256) as u8).collect();
        let px = |i: u64| [cells[(i / 300 / 10 * 30 + i % 300 / 10) as usize]; 3];
        MemoryFrame::new(size, Samples::Eight((0..size.pixels()).flat_map(px).collect()))
    };
    let frames = [noise(1), noise(2)];
    let sources = refs(&frames);
    let recipe = Recipe::new();
    let (plan, decision) = plan(&recipe, &sources);
    let scene = Scene::new(&recipe, &plan, &sources).decided(&decision);
    assert_eq!(scene.used(), [plan.alignment.reference]);
    assert_eq!(whole(&scene, View::Plate), whole(&scene, View::Shot(plan.alignment.reference)));
}

#[test]
fn every_allowed_family_stays_within_itself() {
    let sources = refs(&BUSY.frames[..3]);
    for align in [Align::Off, Align::Shift, Align::Rigid, Align::Similarity] {
        let recipe = Recipe { align, reference: Some(0), ..Recipe::new() };
        for frame in plan(&recipe, &sources).0.alignment.frames {
            let m = frame.transform.0;
            assert_eq!([m[6], m[7], m[8]], [0.0, 0.0, 1.0], "{align:?}");
            match align {
                Align::Off => assert_eq!(frame.transform, Homography::IDENTITY),
                Align::Shift => assert_eq!([m[0], m[1], m[3], m[4]], [1.0, 0.0, 0.0, 1.0]),
                Align::Rigid => assert!((m[0].hypot(m[3]) - 1.0).abs() < 1e-9),
                _ => assert!((m[0] - m[4]).abs() < 1e-9 && (m[1] + m[3]).abs() < 1e-9),
            }
        }
    }
}

#[test]
fn the_common_canvas_is_covered_by_every_frame() {
    let sources = refs(&BUSY.frames);
    let recipe = Recipe { canvas: Canvas::Common, ..Recipe::new() };
    let (plan, decision) = plan(&recipe, &sources);
    let scene = Scene::new(&recipe, &plan, &sources).decided(&decision);
    let canvas = scene.canvas();
    assert!(canvas.width > WIDTH * 8 / 10 && canvas.width < WIDTH);
    for k in 0..sources.len() {
        let back = plan.alignment.frames[k].transform.inverse().unwrap();
        for (x, y) in [(canvas.x, canvas.y), (canvas.right() - 1, canvas.bottom() - 1)] {
            let p = back.apply(evanu_core::geometry::Point::new(x as f64, y as f64));
            assert!(
                p.x >= -0.5 && p.y >= -0.5 && p.x <= f64::from(WIDTH) - 0.5 && p.y <= 319.5,
                "frame {k}: {p:?}"
            );
        }
    }
}

#[test]
fn work_can_be_stopped() {
    let sources = refs(&BUSY.frames);
    let stop = |_: f32| Err(evanu_core::progress::Cancelled);
    let end = prepare::plan(&Recipe::new(), &sources, &[], &stop);
    assert!(matches!(end, Err(evanu_core::register::RegisterError::Cancelled(_))));
}

#[test]
fn a_soft_frame_is_told_from_the_sharp_ones() {
    // The mean of 3×3 pixels, as a shaken hand or a missed focus would give.
    let shaken = {
        let f = &BUSY.frames[3];
        let size = f.size();
        let Ok(Samples::Eight(d)) = f.read(0, size.rect()) else { panic!("it has eight bits") };
        let (w, h) = (i64::from(size.width), i64::from(size.height));
        let mean = |x: i64, y: i64, c: i64| {
            let at = |i: i64, j: i64| {
                d[(3 * ((y + j).clamp(0, h - 1) * w + (x + i).clamp(0, w - 1)) + c) as usize]
            };
            let sum: u32 =
                (-1..=1).flat_map(|j| (-1..=1).map(move |i| (i, j))).map(|(i, j)| u32::from(at(i, j))).sum();
            (sum / 9) as u8
        };
        let all = (0..w * h).flat_map(|i| [0, 1, 2].map(|c| mean(i % w, i / w, c))).collect();
        MemoryFrame::new(size, Samples::Eight(all))
    };
    let mut sources = refs(&BUSY.frames[..7]);
    sources[3] = &shaken;
    let (plan, _) = plan(&Recipe::new(), &sources);
    for (k, frame) in plan.alignment.frames.iter().enumerate() {
        let sharpness = frame.sharpness.unwrap();
        if k == 3 {
            assert!((0.3..0.75).contains(&sharpness), "the soft frame has {sharpness}");
        } else {
            assert!((0.9..1.12).contains(&sharpness), "frame {k} has {sharpness}");
        }
    }
}
