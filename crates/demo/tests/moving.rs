//! What moves and belongs is told from what comes and goes.
#![allow(clippy::unwrap_used)]

use evanu_core::evidence::moving::Motion;
use evanu_core::geometry::{Point, inside};
use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
use evanu_core::plan::Decision;
use evanu_core::prepare;
use evanu_core::progress::no_progress;
use evanu_core::recipe::Recipe;
use evanu_core::render::Scene;
use evanu_demo::{Crowd, Order, Shoot, frame_size};

const WIDTH: u32 = 420;

fn decided(shoot: &Shoot) -> Decision {
    let frames: Vec<MemoryFrame> = (0..shoot.shots.len())
        .map(|k| {
            let codes = shoot.frame(k).picture.data;
            let bytes = codes.iter().map(|v| (v / 257) as u8).collect();
            MemoryFrame::new(frame_size(WIDTH), Samples::Eight(bytes))
        })
        .collect();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let recipe = Recipe::new();
    let clocks: Vec<Option<f64>> = shoot.shots.iter().map(|s| Some(s.time)).collect();
    let plan = prepare::plan(&recipe, &sources, &clocks, &no_progress).unwrap();
    prepare::decide(&Scene::new(&recipe, &plan, &sources)).unwrap()
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
