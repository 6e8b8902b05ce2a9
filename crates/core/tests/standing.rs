//! Who stood still in every frame, among others who pass: made-up figures before a made-up wall.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use evanu_core::evidence::doubts::{Doubt, Reason};
use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
use evanu_core::plan::{FrameAlignment, Plan};
use evanu_core::prepare;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::Scene;

const SIZE: Size = Size { width: 480, height: 320 };
const FRAMES: usize = 10;

/// Somebody in a coat, by where the feet are; those nearer to the camera stand lower and are taller.
#[derive(Clone, Copy)]
struct Figure {
    x: f64,
    feet: f64,
    coat: f64,
}

impl Figure {
    fn height(&self) -> f64 {
        60.0 + 0.5 * (self.feet - 220.0)
    }

    /// How bright it is at a pixel; `None` beside it.
    fn at(&self, x: f64, y: f64) -> Option<f64> {
        let tall = self.height();
        let (u, v) = ((x - self.x) / tall, (self.feet - y) / tall);
        let head = (u / 0.065).powi(2) + ((v - 0.92) / 0.08).powi(2) < 1.0;
        let body = (0.45..0.84).contains(&v) && u.abs() < 0.13 - 0.35 * (v - 0.7).max(0.0);
        let leg = (0.0..0.45).contains(&v) && (u.abs() - 0.06).abs() < 0.045;
        match (head, body, leg) {
            (true, _, _) => Some(150.0),
            (_, true, _) => Some(self.coat),
            (_, _, true) => Some(40.0),
            _ => None,
        }
    }
}

/// Paving and a wall with windows, as far as nobody stands before them.
fn place(x: f64, y: f64) -> f64 {
    let stones = 5.0 * (((x / 31.0).floor() * 7.0 + (y / 17.0).floor() * 3.0) % 5.0);
    let window = y < 190.0 && (x % 80.0) > 25.0 && (x % 80.0) < 60.0 && (y % 70.0) > 20.0;
    if window { 70.0 } else { 150.0 + stones }
}

fn doubts(standing: Option<Figure>) -> Vec<Doubt> {
    let mut random = Random::new(21);
    let frames: Vec<MemoryFrame> = (0..FRAMES)
        .map(|_| {
            let mut figures: Vec<Figure> = standing.into_iter().collect();
            for lane in [215.0, 250.0] {
                let (x, feet) = (random.within(30.0, 450.0), lane + random.within(-12.0, 12.0));
                figures.push(Figure { x, feet, coat: random.within(20.0, 90.0) });
            }
            figures.sort_by(|a, b| b.feet.total_cmp(&a.feet));
            let codes = (0..SIZE.pixels()).flat_map(|i| {
                let (x, y) = ((i % u64::from(SIZE.width)) as f64, (i / u64::from(SIZE.width)) as f64);
                let light = figures.iter().find_map(|f| f.at(x, y)).unwrap_or_else(|| place(x, y));
                let noisy = (light + 1.2 * random.normal()).round().clamp(0.0, 255.0) as u8;
                [noisy, noisy, (f64::from(noisy) * 0.9) as u8]
            });
            MemoryFrame::new(SIZE, Samples::Eight(codes.collect()))
        })
        .collect();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let plan = Plan::of(vec![FrameAlignment::untouched(SIZE); FRAMES]);
    let decision = prepare::decide(&Scene::new(&Recipe::new(), &plan, &sources)).unwrap();
    decision.doubts.into_iter().filter(|d| d.reason == Reason::Still).collect()
}

#[test]
fn who_stands_there_in_every_frame_is_asked_and_nobody_else() {
    assert_eq!(doubts(None), [], "those who pass are gone, and the wall is no figure");
    let figure = Figure { x: 243.0, feet: 241.0, coat: 42.0 };
    let found = doubts(Some(figure));
    let [doubt] = &found[..] else { panic!("{:?}", found.iter().map(|d| d.bbox).collect::<Vec<_>>()) };
    let tall = figure.height();
    let body = Rect::new(
        (figure.x - 0.2 * tall) as i64,
        (figure.feet - tall) as i64,
        (0.4 * tall) as u32,
        tall as u32,
    );
    let both = doubt.bbox.intersect(body).size().pixels() as f64;
    assert!(both > 0.7 * body.size().pixels() as f64, "{:?} instead of {body:?}", doubt.bbox);
    assert!(!doubt.settled && doubt.stories[0].len() > FRAMES / 2, "{:?}", doubt.stories);
}
