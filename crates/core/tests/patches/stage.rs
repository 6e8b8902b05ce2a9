//! Made-up frames of a wall, opened with patches.

use evanu_core::geometry::{Point, Rect, Size};
use evanu_core::patch::{Patch, PlacedPatch, Source};
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::{Decision, FrameAlignment, Plan};
use evanu_core::prepare;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};
use std::sync::Arc;

pub(crate) const SIZE: Size = Size { width: 220, height: 150 };
/// Where somebody stands in frame 2, with a shadow.
pub(crate) const FIGURE: Rect = Rect { x: 90, y: 40, width: 24, height: 60 };

/// Five frames of a wall; somebody in frame 2, a highlight in frame 3.
pub(crate) fn frames() -> Vec<MemoryFrame> {
    frames_with(|_, _, _| [0.0; 3])
}

/// The same with codes added, by frame and place.
pub(crate) fn frames_with(more: impl Fn(usize, i64, i64) -> [f64; 3]) -> Vec<MemoryFrame> {
    (0..5)
        .map(|k| {
            let mut random = Random::new(40 + k as u64);
            let codes = (0..SIZE.pixels()).flat_map(|i| {
                let (x, y) = ((i % u64::from(SIZE.width)) as i64, (i / u64::from(SIZE.width)) as i64);
                let v = 100.0 + 10.0 * ((x as f64 / 9.0).sin() + (y as f64 / 13.0).cos());
                let within = |r: Rect| x >= r.x && x < r.right() && y >= r.y && y < r.bottom();
                let mut colour = [v, v - 6.0, v - 14.0];
                if k == 2 && within(FIGURE) {
                    colour = [40.0, 60.0, 120.0];
                }
                if k == 3 && (x - 160).pow(2) + (y - 70).pow(2) < 12 * 12 {
                    colour = colour.map(|c| c + 70.0);
                }
                let more = more(k, x, y);
                (0..3).for_each(|c| colour[c] += more[c]);
                colour.map(|c| (c + random.normal()).clamp(0.0, 255.0).round() as u8)
            });
            MemoryFrame::new(SIZE, Samples::Eight(codes.collect()))
        })
        .collect()
}

/// A set with all that is derived for it.
#[derive(Clone)]
pub(crate) struct State {
    pub recipe: Recipe,
    pub plan: Plan,
    pub decision: Decision,
    pub patches: Vec<PlacedPatch>,
}

impl State {
    pub(crate) fn scene<'a>(&'a self, sources: &'a [&'a dyn FrameSource]) -> Scene<'a> {
        let patches = &self.patches;
        Scene { patches, ..Scene::new(&self.recipe, &self.plan, sources).decided(&self.decision) }
    }

    /// The same with its patches fitted to another recipe, with the same frames in use.
    pub(crate) fn with(mut self, recipe: Recipe, sources: &[&dyn FrameSource]) -> Self {
        self.recipe = recipe;
        let fit = |scene: &Scene<'_>, patch: &Patch| Ok(prepare::fit(scene, patch)?.map(Arc::new));
        self.patches = prepare::place_patches(&self.scene(sources), fit).unwrap();
        self
    }
}

pub(crate) fn opened(frames: &[MemoryFrame], patches: Vec<Patch>) -> State {
    opened_as(frames, Recipe { patches, ..Recipe::new() })
}

pub(crate) fn opened_as(frames: &[MemoryFrame], recipe: Recipe) -> State {
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let plan = Plan::of(vec![FrameAlignment::untouched(SIZE); frames.len()]);
    let decision = prepare::decide(&Scene::new(&recipe, &plan, &sources)).unwrap();
    State { recipe: recipe.clone(), plan, decision, patches: Vec::new() }.with(recipe, &sources)
}

pub(crate) fn render(frames: &[MemoryFrame], state: &State, view: View, region: Rect) -> Raster {
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    state.scene(&sources).render(view, region, 0).unwrap()
}

pub(crate) fn patch(outline: &[(f64, f64)], source: Source) -> Patch {
    let outline = outline.iter().map(|&(x, y)| Point::new(x, y)).collect();
    Patch { optimal_seam: false, tone: false, grain: false, ..Patch::new(0, outline, source) }
}

pub(crate) fn around(r: Rect, gap: f64) -> Vec<(f64, f64)> {
    let (x0, y0) = (r.x as f64 - gap, r.y as f64 - gap);
    let (x1, y1) = (r.right() as f64 + gap, r.bottom() as f64 + gap);
    vec![(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
}

/// Mean green code of a part of the plate.
pub(crate) fn mean(plate: &Raster, r: Rect) -> f64 {
    let each = (r.y..r.bottom()).flat_map(|y| (r.x..r.right()).map(move |x| (x as u32, y as u32)));
    each.map(|(x, y)| f64::from(plate.pixel(x, y)[1])).sum::<f64>() / (257.0 * r.size().pixels() as f64)
}
