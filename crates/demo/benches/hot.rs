//! The hot loops, each alone, so that a regression is seen in a minute: `cargo bench -p evanu-demo`.
//!
//! Frames are a wall of uneven stone with grain, and somebody in each; they are in memory, so that no disk is measured.

#![allow(missing_docs)] // the functions are the macro's

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use evanu_core::combine::Method;
use evanu_core::geometry::{Homography, Point, Rect, Size};
use evanu_core::patch::{Patch, Source};
use evanu_core::pixel::resample::resample;
use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
use evanu_core::plan::{FrameAlignment, Plan};
use evanu_core::prepare;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};

/// A megapixel.
const SIZE: Size = Size { width: 1152, height: 868 };
const TILE: Rect = Rect::new(256, 128, 512, 512);

fn frames(count: usize) -> Vec<MemoryFrame> {
    let frame = |k: usize| {
        let mut random = Random::new(k as u64);
        let code = |i: u32| {
            let (x, y) = (i % SIZE.width, i / SIZE.width);
            let cell = (x / 11).wrapping_mul(2_654_435_761) ^ (y / 9).wrapping_mul(2_246_822_519);
            let stone = 80.0 + f64::from(cell.wrapping_mul(3_266_489_917) >> 27);
            let at = 120 * k as u32 + 60;
            let light = if x.abs_diff(at) < 30 && y.abs_diff(500) < 120 { 30.0 } else { stone };
            [1.0, 0.95, 0.9].map(|c| (c * light + random.normal()) as u8)
        };
        MemoryFrame::new(SIZE, Samples::Eight((0..SIZE.pixels() as u32).flat_map(code).collect()))
    };
    (0..count).map(frame).collect()
}

fn resampling(c: &mut Criterion) {
    let frame = &frames(1)[0];
    let mut group = c.benchmark_group("resample a tile");
    group.throughput(Throughput::Elements(TILE.size().pixels()));
    for (name, turn) in [("shifted", 0.0f64), ("turned a little", 0.01), ("turned much", 0.3)] {
        let (s, t) = turn.sin_cos();
        let to_frame = Homography::new([t, -s, 3.4, s, t, 2.6, 0.0, 0.0, 1.0]);
        group.bench_function(name, |b| b.iter(|| resample(frame, 0, &to_frame, TILE)));
    }
    group.finish();
}

fn combining(c: &mut Criterion) {
    let mut group = c.benchmark_group("combine a tile by the median");
    group.sample_size(20).throughput(Throughput::Elements(TILE.size().pixels()));
    for count in [5usize, 12] {
        let frames = frames(count);
        let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
        let plan = Plan::of(vec![FrameAlignment::untouched(SIZE); count]);
        let recipe = Recipe { method: Method::Median, ..Recipe::new() };
        let scene = Scene::new(&recipe, &plan, &sources);
        group.bench_function(BenchmarkId::new("frames", count), |b| {
            b.iter(|| scene.render(View::Plate, TILE, 0));
        });
    }
    group.finish();
}

fn deciding(c: &mut Criterion) {
    let frames = frames(8);
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let plan = Plan::of(vec![FrameAlignment::untouched(SIZE); frames.len()]);
    let recipe = Recipe::new();
    let scene = Scene::new(&recipe, &plan, &sources);
    let mut group = c.benchmark_group("consensus of a megapixel");
    group.sample_size(10);
    group.bench_function("8 frames", |b| b.iter(|| prepare::decide(&scene)));
    group.finish();
}

fn fitting(c: &mut Criterion) {
    let frames = frames(5);
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let plan = Plan::of(vec![FrameAlignment::untouched(SIZE); frames.len()]);
    let recipe = Recipe { method: Method::Median, ..Recipe::new() };
    let scene = Scene::new(&recipe, &plan, &sources);
    let around = [(250.0, 360.0), (350.0, 360.0), (350.0, 640.0), (250.0, 640.0)];
    let patch = Patch::new(0, around.map(|(x, y)| Point::new(x, y)).to_vec(), Source::Frame(2));
    let mut group = c.benchmark_group("fit a patch");
    group.sample_size(20);
    group.bench_function("around a figure", |b| b.iter(|| prepare::fit(&scene, &patch)));
    group.finish();
}

fn encoding(c: &mut Criterion) {
    let frames = frames(1);
    let sources: [&dyn FrameSource; 1] = [&frames[0]];
    let plan = Plan::of(vec![FrameAlignment::untouched(SIZE)]);
    let recipe = Recipe { method: Method::Median, ..Recipe::new() };
    let Ok(tile) = Scene::new(&recipe, &plan, &sources).render(View::Plate, TILE, 0) else {
        unreachable!("the frame is in memory")
    };
    let mut group = c.benchmark_group("encode a tile");
    group.throughput(Throughput::Elements(TILE.size().pixels()));
    group.bench_function("JPEG", |b| b.iter(|| evanu_media::encode_jpeg(&tile, 90)));
    group.bench_function("PNG", |b| b.iter(|| evanu_media::encode_png(&tile)));
    group.finish();
}

criterion_group!(hot, resampling, combining, deciding, fitting, encoding);
criterion_main!(hot);
