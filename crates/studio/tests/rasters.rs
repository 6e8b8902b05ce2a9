//! Pixels that were made once: kept by content, read by a stage, whole after the cache is lost, gone only with the last set.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::combine::Method;
use evanu_core::geometry::{Grid, Point, Rect, Size};
use evanu_core::pixel::tone::root;
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::{FrameAlignment, Plan};
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Below, Frames, Plate, RenderError, Scene, Stage, View};
use evanu_studio::{Studio, StudioError};
use std::path::Path;

const SIZE: Size = Size { width: 300, height: 230 };

fn made_up(seed: u64) -> Raster {
    let mut random = Random::new(seed);
    let mut raster = Raster::new(SIZE);
    raster.data.iter_mut().for_each(|v| *v = random.bits() as u16);
    raster
}

/// Lays kept pixels over all of the picture.
struct Kept<'a>(&'a dyn FrameSource);

impl Stage for Kept<'_> {
    fn name(&self) -> String {
        "kept".into()
    }

    fn reach(&self) -> Option<(Point, Point)> {
        Some(Grid::new(SIZE.rect(), 0).bounds())
    }

    fn apply(&self, grid: &Grid, _below: Vec<Below>, _frames: &dyn Frames) -> Result<Plate, RenderError> {
        let Samples::Sixteen(codes) = self.0.read(grid.level, grid.rect)? else {
            panic!("sixteen bits were kept")
        };
        let shown = |code: u16| {
            let v = f64::from(code) / 65_535.0;
            let light = if v <= 0.040_45 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) };
            root(light as f32)
        };
        Ok([0, 1, 2].map(|c| codes.iter().skip(c).step_by(3).map(|&v| shown(v)).collect()))
    }
}

fn kept_files(folder: &Path) -> usize {
    std::fs::read_dir(folder.join("originals")).unwrap().count()
}

#[test]
fn kept_pixels_come_back_code_by_code_even_when_the_cache_is_lost() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let set = studio.sets.create("kept").unwrap();
    let made = made_up(1);
    let name = studio.assets.keep_raster(set, &made).unwrap();
    assert_eq!(studio.assets.keep_raster(set, &made).unwrap(), name, "the same content has one name");
    assert_ne!(studio.assets.keep_raster(set, &made_up(2)).unwrap(), name);
    assert_eq!(kept_files(folder.path()), 2);
    drop(studio);
    std::fs::remove_dir_all(folder.path().join("cache")).unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let again = studio.assets.raster(&name).unwrap();
    assert_eq!(again.size(), SIZE);
    assert!(again.read(0, SIZE.rect()).unwrap() == Samples::Sixteen(made.data));
    let unknown = studio.assets.raster("nothing").err().unwrap();
    assert!(matches!(&unknown, StudioError::NotFound(text) if text.contains("\"nothing\"")), "{unknown}");
    assert!(studio.assets.keep_raster(set + 1, &made_up(3)).is_err(), "no set, no pixels");
}

#[test]
fn a_stage_shows_them_wherever_it_is_asked() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let set = studio.sets.create("kept").unwrap();
    let made = made_up(4);
    let kept = studio.assets.raster(&studio.assets.keep_raster(set, &made).unwrap()).unwrap();
    let grey = MemoryFrame::new(SIZE, Samples::Eight(vec![90; 3 * SIZE.pixels() as usize]));
    let sources: [&dyn FrameSource; 1] = [&grey];
    let plan = Plan::of(vec![FrameAlignment::untouched(SIZE)]);
    let recipe = Recipe { method: Method::Median, ..Recipe::new() };
    let stage = Kept(&*kept);
    let touches: [&dyn Stage; 1] = [&stage];
    let scene = Scene { touches: &touches, ..Scene::new(&recipe, &plan, &sources) };
    for part in [SIZE.rect(), Rect::new(130, 100, 77, 130)] {
        let shown = scene.render(View::Plate, part, 0).unwrap();
        let differs = |i: u32| {
            let (x, y) = (i % part.width, i / part.width);
            let (is, was) = (shown.pixel(x, y), made.pixel(x + part.x as u32, y + part.y as u32));
            (0..3).map(|c| is[c].abs_diff(was[c])).max().unwrap()
        };
        // Root codes are coarser than the dark half of the sixteen bits, by a few codes.
        let worst = (0..part.size().pixels() as u32).map(differs).max().unwrap();
        assert!(worst < 40, "{worst}");
    }
}

#[test]
fn they_live_as_long_as_a_set_that_holds_them() {
    let folder = tempfile::tempdir().unwrap();
    let studio = Studio::open(folder.path()).unwrap();
    let first = studio.sets.create("first").unwrap();
    let name = studio.assets.keep_raster(first, &made_up(5)).unwrap();
    let copy = studio.duplicate(first).unwrap();
    let forget = |studio: Studio, set: i64| {
        studio.delete(set, true).unwrap();
        drop(studio);
        let db = rusqlite::Connection::open(folder.path().join("evanu.sqlite")).unwrap();
        db.execute("UPDATE sets SET deleted = 1 WHERE id = ?1", [set]).unwrap();
        drop(db);
        Studio::open(folder.path()).unwrap()
    };
    let studio = forget(studio, first);
    assert!(studio.assets.raster(&name).is_ok(), "the copy holds it");
    let studio = forget(studio, copy);
    assert!(studio.assets.raster(&name).is_err());
    assert_eq!(kept_files(folder.path()), 0);
}
