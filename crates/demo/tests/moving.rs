//! What moves and belongs is told from what comes and goes.
#![allow(clippy::unwrap_used)]

use evanu_core::evidence::moving::Motion;
use evanu_core::geometry::{Point, inside};
use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
use evanu_core::plan::Decision;
use evanu_core::prepare;
use evanu_core::progress::no_progress;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};
use evanu_demo::{Crowd, Order, Shoot, frame_size};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

const WIDTH: u32 = 420;

fn decided(shoot: &Shoot) -> Decision {
    let frames: Vec<MemoryFrame> = (0..shoot.shots.len())
        .map(|k| {
            let codes = shoot.frame(k).picture.data;
            let bytes = codes.iter().map(|v| (v / 257) as u8).collect();
            MemoryFrame::new(frame_size(WIDTH), Samples::Eight(bytes))
        })
        .collect();
    let clocks: Vec<Option<f64>> = shoot.shots.iter().map(|s| Some(s.time)).collect();
    of(&frames, &clocks)
}

fn of(frames: &[MemoryFrame], clocks: &[Option<f64>]) -> Decision {
    let sources = sources(frames);
    let recipe = Recipe::new();
    let plan = prepare::plan(&recipe, &sources, clocks, &no_progress).unwrap();
    prepare::decide(&Scene::new(&recipe, &plan, &sources)).unwrap()
}

fn sources(frames: &[MemoryFrame]) -> Vec<&dyn FrameSource> {
    frames.iter().map(|f| f as &dyn FrameSource).collect()
}

/// The frames of a sample set.
fn sample(name: &str) -> Vec<MemoryFrame> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("samples").join(name);
    let mut files: Vec<PathBuf> = folder.read_dir().unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    let frame = |file: &PathBuf| {
        let decoded = evanu_media::decode(file).unwrap();
        MemoryFrame::new(decoded.size, decoded.samples)
    };
    files.iter().map(frame).collect()
}

/// Camera raw is noisy, so that contours stand out less, and five frames of a crowd agree in few places.
#[test]
fn a_crowd_in_few_frames_of_camera_raw_does_not_drift() {
    let found = of(&sample("forecourt-raw"), &[None; 5]);
    assert!(found.moving.iter().all(|m| m.motion != Motion::Drifting), "{:?}", found.moving.len());
}

#[test]
fn cloud_of_one_moment_joins_the_sky_of_others_where_they_look_the_same() {
    let frames = sample("clouds");
    let sources = sources(&frames);
    let recipe = Recipe::new();
    let plan = prepare::plan(&recipe, &sources, &[], &no_progress).unwrap();
    let scene = Scene::new(&recipe, &plan, &sources);
    let decision = prepare::decide(&scene).unwrap();
    let map = &decision.label_map;
    let (size, w) = (map.grid.size(), map.grid.rect.width as usize);
    let seen = |k: &usize| scene.render(View::Frame(*k), size.rect(), map.grid.level).unwrap().to_u8();
    let seen: Vec<Vec<u8>> = map.frames.iter().map(seen).collect();
    let code = |label: u16, p: usize| i32::from(seen[usize::from(label)][3 * p]);
    let (mut borders, mut steps) = (0, 0);
    for area in decision.moving.iter().filter(|m| m.before.is_some()) {
        let inside: BTreeSet<u32> = area.pixels.0.iter().copied().collect();
        for p in area.pixels.0.iter().map(|p| *p as usize) {
            for q in [p + 1, p + w].into_iter().filter(|q| inside.contains(&(*q as u32))) {
                let (a, b) = (map.labels[p], map.labels[q]);
                let own = |label: u16| map.frames[usize::from(label)] == area.frame;
                borders += usize::from(own(a) != own(b));
                steps += usize::from(own(a) != own(b) && (code(a, p) - code(b, p)).abs() > 12);
            }
        }
    }
    assert!(borders > 100 && 200 * steps < borders, "{steps} steps along {borders}");
}

#[test]
fn drifting_clouds_are_an_area_and_crowds_are_none() {
    let order = Order { wind: 0.02, ..Order::by_hand(5, WIDTH, 8, Crowd::Few) };
    let mut shoot = Shoot::new(order);
    let found = decided(&shoot);
    let share: f32 = found.moving.iter().map(|m| m.share).sum();
    assert!(share > 0.06, "{share}");
    // All of it drifts and lies above the roofs.
    assert!(found.moving.iter().all(|m| m.motion == Motion::Drifting));
    let size = frame_size(WIDTH);
    for y in (size.height * 7 / 10..size.height).step_by(8) {
        for x in (0..size.width).step_by(8) {
            let place = Point::new(f64::from(x), f64::from(y));
            assert!(!found.moving.iter().any(|m| inside(&m.outline, place)), "{x}, {y}");
        }
    }
    for crowd in [Crowd::Forecourt, Crowd::Many] {
        shoot.order.wind = 0.0;
        shoot.again(9, 7, crowd);
        let found = decided(&shoot);
        let shares: Vec<f32> = found.moving.iter().map(|m| m.share).collect();
        assert!(shares.is_empty(), "{crowd:?} {shares:?}");
    }
}
