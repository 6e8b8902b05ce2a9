//! Trials of the places where something new is plugged in: another projection, and a stage that needs pixels farther away. Each is
//! written here alone, against the public parts of the library.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::combine::Method;
use evanu_core::geometry::{Geometry, Grid, Point, Projection, Rect, Size};
use evanu_core::patch::{FittedPatch, Noticed, Patch, PlacedPatch, Source, mask::Mask};
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::{FrameAlignment, Plan};
use evanu_core::prepare;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Aligned, Below, Frames, Plate, RenderError, Scene, Stage, View};
use proptest::prelude::*;
use std::f64::consts::{PI, TAU};
use std::sync::{Arc, LazyLock};

const ROUND: Size = Size { width: 256, height: 128 };

/// A direction from the middle of a sphere.
type Direction = [f64; 3];

/// The direction of a place of an equirectangular picture.
fn direction(p: Point) -> Direction {
    let (w, h) = (f64::from(ROUND.width), f64::from(ROUND.height));
    let (long, lat) = ((p.x + 0.5) / w * TAU, PI / 2.0 - (p.y + 0.5) / h * PI);
    [lat.cos() * long.cos(), lat.cos() * long.sin(), lat.sin()]
}

/// A full sphere that was turned between frames.
struct Turned([Direction; 3]);

impl Turned {
    /// About the upright axis, then about the first.
    fn new(yaw: f64, pitch: f64) -> Self {
        let ((s, c), (t, d)) = (yaw.sin_cos(), pitch.sin_cos());
        Self([[c, -s, 0.0], [d * s, d * c, -t], [t * s, t * c, d]])
    }

    fn turn(&self, v: Direction) -> Direction {
        self.0.map(|row| row[0] * v[0] + row[1] * v[1] + row[2] * v[2])
    }

    fn turn_back(&self, v: Direction) -> Direction {
        [0, 1, 2].map(|k| self.0[0][k] * v[0] + self.0[1][k] * v[1] + self.0[2][k] * v[2])
    }
}

fn place([x, y, z]: Direction) -> Point {
    let (w, h) = (f64::from(ROUND.width), f64::from(ROUND.height));
    let lat = z.clamp(-1.0, 1.0).asin();
    Point::new(y.atan2(x).rem_euclid(TAU) / TAU * w - 0.5, (PI / 2.0 - lat) / PI * h - 0.5)
}

impl Projection for Turned {
    fn apply(&self, reference: Point) -> Point {
        place(self.turn(direction(reference)))
    }

    fn back(&self, frame: Point) -> Point {
        place(self.turn_back(direction(frame)))
    }

    fn wraps(&self) -> bool {
        true
    }
}

/// Full spheres, the first of which is the reference.
struct Sphere(Vec<Turned>);

impl Geometry for Sphere {
    fn reference(&self) -> usize {
        0
    }

    fn size(&self, _frame: usize) -> Size {
        ROUND
    }

    fn fits(&self, _frame: usize) -> bool {
        true
    }

    fn projection(&self, frame: usize) -> &dyn Projection {
        &self.0[frame]
    }
}

/// What is all around: soft, and without an end anywhere.
fn around([x, y, z]: Direction) -> f64 {
    130.0 + 40.0 * (2.0 * x + y).sin() + 30.0 * (3.0 * z - x).cos()
}

/// Somebody who stands in a direction in one of the frames.
fn somebody(v: Direction, at: Direction) -> bool {
    v.iter().zip(at).map(|(a, b)| a * b).sum::<f64>() > 0.97
}

#[test]
fn spheres_are_emptied_by_the_same_list_up_to_the_poles_and_across_the_seam() {
    let turns = [(0.0, 0.0), (0.7, 0.3), (2.4, -0.5), (4.0, 0.9), (5.5, -1.2)];
    let sphere = Sphere(turns.iter().map(|&(yaw, pitch)| Turned::new(yaw, pitch)).collect());
    // In the second somebody stands at the seam of the reference, in the third near its pole, in the first elsewhere.
    let stands = [[-1.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.1, 0.0, 0.995], [0.0, 1.0, 0.0], [0.0, -1.0, 0.0]];
    let frames: Vec<MemoryFrame> = (0..turns.len())
        .map(|k| {
            let mut random = Random::new(k as u64);
            let code = |i: u64| {
                let p = Point::new((i % u64::from(ROUND.width)) as f64, (i / u64::from(ROUND.width)) as f64);
                let v = sphere.0[k].turn_back(direction(p));
                let light = if somebody(v, stands[k]) { 20.0 } else { around(v) };
                [(light + random.normal()).round() as u8; 3]
            };
            MemoryFrame::new(ROUND, Samples::Eight((0..ROUND.pixels()).flat_map(code).collect()))
        })
        .collect();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let plan = Plan::of(vec![FrameAlignment::untouched(ROUND); frames.len()]);
    let wrong = |plate: &Raster| {
        let off = |i: u32| {
            let (x, y) = (i % ROUND.width, i / ROUND.width);
            let wanted = around(direction(Point::new(f64::from(x), f64::from(y))));
            (f64::from(plate.pixel(x, y)[1]) / 257.0 - wanted).abs()
        };
        (0..ROUND.pixels() as u32).map(off).fold(0.0, f64::max)
    };
    for method in [Method::Median, Method::Consensus] {
        let recipe = Recipe { method, ..Recipe::new() };
        let scene = Scene { geometry: &sphere, ..Scene::new(&recipe, &plan, &sources) };
        let decision = prepare::decide(&scene).unwrap();
        let scene = scene.decided(&decision);
        let plate = scene.render(View::Plate, ROUND.rect(), 0).unwrap();
        assert!(wrong(&plate) < 6.0, "{method:?} is off by {}", wrong(&plate));
        let busy = scene.render(View::Frame(1), ROUND.rect(), 0).unwrap();
        assert!(wrong(&busy) > 90.0, "somebody stands in each frame");
        // A part is the same as in the whole, also across the seam and at the pole.
        for part in [Rect::new(0, 0, 40, 9), Rect::new(200, 50, 56, 30), Rect::new(7, 119, 90, 9)] {
            let alone = scene.render(View::Plate, part, 0).unwrap();
            let pixel = |x: u32, y: u32| plate.pixel(part.x as u32 + x, part.y as u32 + y);
            assert!((0..part.height).all(|y| (0..part.width).all(|x| alone.pixel(x, y) == pixel(x, y))));
        }
    }
    // A patch that is drawn on a turned frame lies where the frame shows it.
    let middle = place(sphere.0[1].turn([0.0, 0.6, 0.8]));
    let loops = [(-9.0, -9.0), (9.0, -9.0), (9.0, 9.0), (-9.0, 9.0)];
    let outline = loops.map(|(x, y)| Point::new(middle.x + x, middle.y + y)).to_vec();
    let recipe = Recipe { method: Method::Median, ..Recipe::new() };
    let scene = Scene { geometry: &sphere, ..Scene::new(&recipe, &plan, &sources) };
    let patch =
        Patch { optimal_seam: false, tone: false, grain: false, ..Patch::new(1, outline, Source::Frame(2)) };
    let fit = prepare::fit(&scene, &patch).unwrap().unwrap();
    assert!(fit.mask.at(place([0.0, 0.6, 0.8])) > 0.9);
}

const SIZE: Size = Size { width: 300, height: 220 };

fn wall() -> Vec<MemoryFrame> {
    let frame = |k: u64| {
        let mut random = Random::new(k);
        let code = |i: u64| {
            let (x, y) = ((i % 300) as f64, (i / 300) as f64);
            let light = 110.0 + 30.0 * (x / 9.0).sin() + 20.0 * (y / 7.0 + k as f64 * 0.4).cos();
            [0.0, -6.0, -14.0].map(|c| (light + c + random.normal()) as u8)
        };
        MemoryFrame::new(SIZE, Samples::Eight((0..SIZE.pixels()).flat_map(code).collect()))
    };
    (0..4).map(frame).collect()
}

static WALL: LazyLock<Vec<MemoryFrame>> = LazyLock::new(wall);

/// How far the stage looks.
const FAR: u32 = 40;

/// Brightens what is darker than the mean of all within [`FAR`] pixels of a level: a stage that needs pixels farther away.
struct Levelled {
    area: Rect,
    by: f32,
}

impl Stage for Levelled {
    fn name(&self) -> String {
        format!("levelled {:?} {}", self.area, self.by)
    }

    fn reach(&self) -> Option<(Point, Point)> {
        Some(Grid::new(self.area, 0).bounds())
    }

    fn needs(&self, grid: &Grid, whole: Rect) -> Vec<Grid> {
        vec![grid.grown(FAR, whole)]
    }

    fn apply(&self, grid: &Grid, below: Vec<Below>, _frames: &dyn Frames) -> Result<Plate, RenderError> {
        let Below { grid: wide, plate } = &below[0];
        let (x0, y0) = ((grid.rect.x - wide.rect.x) as usize, (grid.rect.y - wide.rect.y) as usize);
        let (w, h) = (wide.rect.width as usize, wide.rect.height as usize);
        let far = FAR as usize;
        let levelled = |plane: &Vec<u16>| {
            let mut out = Vec::new();
            for y in y0..y0 + grid.rect.height as usize {
                for x in x0..x0 + grid.rect.width as usize {
                    let own = plane[y * w + x];
                    let p = grid.place((x - x0) as f64, (y - y0) as f64);
                    let (px, py) = (p.x.round() as i64, p.y.round() as i64);
                    let a = self.area;
                    if px < a.x || px >= a.right() || py < a.y || py >= a.bottom() {
                        out.push(own);
                        continue;
                    }
                    // Few of those around are enough for a trial.
                    let (mut sum, mut count) = (0u64, 0u64);
                    for j in (y.saturating_sub(far)..(y + far + 1).min(h)).step_by(8) {
                        for i in (x.saturating_sub(far)..(x + far + 1).min(w)).step_by(8) {
                            sum += u64::from(plane[j * w + i]);
                            count += 1;
                        }
                    }
                    let mean = sum as f32 / count as f32;
                    out.push((f32::from(own) + self.by * (mean - f32::from(own))) as u16);
                }
            }
            out
        };
        Ok(plate.each_ref().map(levelled))
    }
}

fn patch(index: usize, area: Rect, frame: usize, strength: f32) -> PlacedPatch {
    let (x0, y0, x1, y1) = (area.x as f64, area.y as f64, area.right() as f64, area.bottom() as f64);
    let outline = [(x0, y0), (x1, y0), (x1, y1), (x0, y1)].map(|(x, y)| Point::new(x, y));
    let mask = Mask::drawn(&outline, 1.0, 0.0, SIZE).unwrap();
    let fit = FittedPatch { mask, tone: None, back: None, together: None, noticed: Noticed::default() };
    let key = (area.x * 1000 + area.y) as u64 * 1000 + u64::from(area.width) * 10 + frame as u64;
    PlacedPatch { index, key, source: Source::Frame(frame), strength, fit: Arc::new(fit) }
}

fn sources() -> Vec<&'static dyn FrameSource> {
    WALL.iter().map(|f| f as &dyn FrameSource).collect()
}

#[test]
fn a_stage_that_looks_forty_pixels_far_joins_its_tiles_and_names_what_it_sees() {
    let (sources, plan) = (sources(), Plan::of(vec![FrameAlignment::untouched(SIZE); 4]));
    let recipe = Recipe { method: Method::Median, ..Recipe::new() };
    let stage = Levelled { area: Rect::new(100, 30, 120, 120), by: 0.8 };
    let touches: [&dyn Stage; 1] = [&stage];
    let patches = [patch(0, Rect::new(60, 60, 30, 30), 2, 1.0)];
    let bare = Scene { name: "wall", ..Scene::new(&recipe, &plan, &sources) };
    let scene = Scene { touches: &touches, patches: &patches, ..bare };
    let all = scene.render(View::Plate, SIZE.rect(), 0).unwrap();
    assert!(all != Scene { touches: &[], ..scene }.render(View::Plate, SIZE.rect(), 0).unwrap());
    for part in [Rect::new(0, 0, 150, 110), Rect::new(150, 0, 150, 110), Rect::new(90, 100, 128, 77)] {
        let alone = scene.render(View::Plate, part, 0).unwrap();
        let pixel = |x: u32, y: u32| all.pixel(part.x as u32 + x, part.y as u32 + y);
        let kept = scene.aligned(part, 0).unwrap();
        assert!((0..part.height).all(|y| (0..part.width).all(|x| alone.pixel(x, y) == pixel(x, y))));
        assert!(kept.combined(&scene, View::Plate, part).unwrap() == alone, "{part:?} of what is kept");
    }
    // A tile that the patch does not reach, but that looks at it.
    let stages = scene.stages(View::Plate).unwrap();
    let names = |rect| stages.names(&Grid::new(rect, 0)).len();
    assert_eq!(names(Rect::new(110, 50, 30, 30)), 3);
    assert_eq!(names(Rect::new(170, 50, 30, 30)), 2, "the patch is too far off");
    assert_eq!(names(Rect::new(20, 70, 30, 30)), 1, "nothing reaches it");
    assert_eq!(stages.names(&Grid::new(Rect::new(65, 65, 8, 8), 0))[0], "wall");
}

/// A state: patches, and the strengths of the stage above them.
type State = (Vec<(i64, i64, u32, usize, u8)>, u8);

fn state() -> impl Strategy<Value = State> {
    let patch = (0i64..240, 0i64..160, 8u32..70, 0usize..4, 1u8..4);
    (prop::collection::vec(patch, 0..4), 0u8..3)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn a_tile_has_another_address_whenever_its_pixels_are_others(before in state(), after in state(), same: bool) {
        let (sources, plan) = (sources(), Plan::of(vec![FrameAlignment::untouched(SIZE); 4]));
        let recipe = Recipe { method: Method::Median, ..Recipe::new() };
        // Often only one thing is another.
        let after = if same { (before.0.clone(), after.1) } else { after };
        let tiles: Vec<(Rect, u32)> = (0..4)
            .map(|k| (Rect::new(k % 2 * 150, k / 2 * 110, 150, 110), 0))
            .chain([(Rect::new(0, 0, 150, 110), 1)])
            .collect();
        let kept: Vec<Aligned> = {
            let scene = Scene::new(&recipe, &plan, &sources);
            tiles.iter().map(|&(rect, level)| scene.aligned(rect, level).unwrap()).collect()
        };
        let mut seen: Vec<Vec<(Vec<String>, Raster)>> = Vec::new();
        for (patches, by) in [&before, &after, &before] {
            let lay = |(k, &(x, y, side, frame, strength)): (usize, &(i64, i64, u32, usize, u8))| {
                patch(k, Rect::new(x, y, side, side.min(50)), frame, f32::from(strength) / 3.0)
            };
            let patches: Vec<PlacedPatch> = patches.iter().enumerate().map(lay).collect();
            let stage = Levelled { area: Rect::new(90, 60, 100, 100), by: f32::from(*by) / 2.0 };
            let all: [&dyn Stage; 1] = [&stage];
            let touches: &[&dyn Stage] = if *by > 0 { &all } else { &[] };
            let scene = Scene { name: "wall", patches: &patches, touches, ..Scene::new(&recipe, &plan, &sources) };
            let stages = scene.stages(View::Plate).unwrap();
            let tile = |(&(rect, level), kept): (&(Rect, u32), &Aligned)| {
                let names = stages.names(&scene.grid(View::Plate, level).cut(rect));
                let pixels = scene.render(View::Plate, rect, level).unwrap();
                // Only what is another is made anew, to the same pixels.
                assert!(kept.combined(&scene, View::Plate, rect).unwrap() == pixels);
                (names, pixels)
            };
            seen.push(tiles.iter().zip(&kept).map(tile).collect());
        }
        let [before, after, again] = &seen[..] else { panic!("three states") };
        for (k, (((first, a), (second, b)), (third, c))) in before.iter().zip(after).zip(again).enumerate() {
            prop_assert!(first != second || a == b, "tile {} is another one of the same name", k);
            prop_assert!(first == third && a == c);
        }
    }
}
