//! Lifts on made-up frames: what they cover comes from where they say, and nothing else changes.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use evanu_core::combine::Method;
use evanu_core::composite::{Lift, Source, returns};
use evanu_core::geometry::{Point, Rect, Size};
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::{FramePlan, Plan};
use evanu_core::prepare;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};
use proptest::prelude::*;
use std::sync::Arc;

const SIZE: Size = Size { width: 220, height: 150 };
/// Where somebody stands in frame 2, with a shadow.
const FIGURE: Rect = Rect { x: 90, y: 40, width: 24, height: 60 };

/// Five frames of a wall; somebody in frame 2, a highlight in frame 3.
fn frames() -> Vec<MemoryFrame> {
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
                colour.map(|c| (c + random.normal()).clamp(0.0, 255.0).round() as u8)
            });
            MemoryFrame::new(SIZE, Samples::Eight(codes.collect()))
        })
        .collect()
}

fn opened(frames: &[MemoryFrame], lifts: Vec<Lift>) -> (Recipe, Plan) {
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let recipe = Recipe { lifts, ..Recipe::new(frames.len()) };
    let mut plan = Plan::of(
        (0..frames.len()).map(|k| FramePlan { moment: k as u32, ..FramePlan::untouched(SIZE) }).collect(),
    );
    prepare::choose(&mut plan, &recipe, &sources).unwrap();
    prepare::lift(&mut plan, &recipe, |plan, lift| {
        Ok(prepare::mask(plan, &recipe, &sources, lift)?.map(Arc::new))
    })
    .unwrap();
    (recipe, plan)
}

fn render(frames: &[MemoryFrame], (recipe, plan): &(Recipe, Plan), view: View, region: Rect) -> Raster {
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    Scene { recipe, plan, sources: &sources }.render(view, region, 0).unwrap()
}

fn lift(outline: &[(f64, f64)], source: Source) -> Lift {
    let outline = outline.iter().map(|&(x, y)| Point::new(x, y)).collect();
    Lift { on: 0, outline, source, soft: 0.0, follow: false, strength: 1.0, off: false }
}

fn around(r: Rect, gap: f64) -> Vec<(f64, f64)> {
    let (x0, y0) = (r.x as f64 - gap, r.y as f64 - gap);
    let (x1, y1) = (r.right() as f64 + gap, r.bottom() as f64 + gap);
    vec![(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
}

#[test]
fn a_figure_is_brought_back_by_pointing_at_it() {
    let frames = frames();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let empty = opened(&frames, Vec::new());
    let scene = Scene { recipe: &empty.0, plan: &empty.1, sources: &sources };
    assert_eq!(
        scene.extent(1, Point::new(100.0, 70.0)).unwrap(),
        None,
        "frame 1 shows the wall, as the plate"
    );
    let outline = scene.extent(2, Point::new(95.0, 50.0)).unwrap().unwrap();
    let source = Source::Frame(2);
    let taken = Lift { on: 0, outline, source, soft: 1.0, follow: false, strength: 1.0, off: false };
    let with = opened(&frames, vec![taken]);
    let (before, after) =
        (render(&frames, &empty, View::Plate, SIZE.rect()), render(&frames, &with, View::Plate, SIZE.rect()));
    let shot = render(&frames, &with, View::Frame(2), SIZE.rect());
    for (x, y) in [(92, 43), (100, 70), (110, 96)] {
        assert_eq!(after.pixel(x, y), shot.pixel(x, y), "the whole figure at {x}, {y}");
    }
    for (x, y) in [(60, 70), (140, 70), (100, 20), (100, 125)] {
        assert_eq!(after.pixel(x, y), before.pixel(x, y), "nothing else at {x}, {y}");
    }
}

#[test]
fn an_area_by_another_method_and_one_that_is_off() {
    let frames = frames();
    let loops = around(FIGURE, 6.0);
    let mut off = lift(&loops, Source::Frame(2));
    off.off = true;
    let empty = opened(&frames, Vec::new());
    let with = opened(&frames, vec![lift(&loops, Source::Method(Method::Darkest)), off]);
    let plate = render(&frames, &with, View::Plate, SIZE.rect());
    let darkest = render(&frames, &empty, View::By(Method::Darkest), SIZE.rect());
    assert_eq!(plate.pixel(100, 70), darkest.pixel(100, 70));
    assert_eq!(
        render(&frames, &with, View::By(Method::Mean), FIGURE),
        render(&frames, &empty, View::By(Method::Mean), FIGURE)
    );
}

#[test]
fn a_highlight_goes_and_the_rest_stays_as_lit() {
    let frames = frames();
    let spot = Rect::new(140, 50, 40, 40);
    let mut calm = lift(&around(spot, 0.0), Source::Calm(3));
    let with = opened(&frames, vec![calm.clone()]);
    let empty = opened(&frames, Vec::new());
    let (plate, base) =
        (render(&frames, &with, View::Plate, SIZE.rect()), render(&frames, &empty, View::Plate, SIZE.rect()));
    let lit = render(&frames, &with, View::Frame(3), SIZE.rect());
    assert_eq!(plate.pixel(160, 70), base.pixel(160, 70), "the highlight is taken off");
    assert_eq!(plate.pixel(143, 53), lit.pixel(143, 53), "beside it the frame stays");
    // The highlight is about 1.4 stops over the wall: it is back below the strength at which it returns.
    calm.strength = returns(1.4) - 0.2;
    let with = opened(&frames, vec![calm]);
    assert_eq!(render(&frames, &with, View::Plate, SIZE.rect()).pixel(160, 70), lit.pixel(160, 70));
}

#[test]
fn a_lift_stays_where_it_was_drawn_when_the_reference_changes() {
    let frames = frames();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let drawn = lift(&around(FIGURE, 5.0), Source::Frame(2));
    let (recipe, mut plan) = opened(&frames, vec![drawn]);
    plan.frames[0].transform = evanu_core::geometry::Homography::shift(10.0, -4.0);
    let mask = prepare::mask(&plan, &recipe, &sources, &recipe.lifts[0]).unwrap().unwrap();
    assert_eq!(mask.at(Point::new(112.0, 66.0)), 1.0);
    assert_eq!(mask.at(Point::new(87.0, 66.0)), 0.0);
    plan.frames[0].misfit = Some("zoomed".into());
    assert_eq!(prepare::mask(&plan, &recipe, &sources, &recipe.lifts[0]).unwrap(), None);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Outside its border a lift changes no byte, and a part of the picture is the same as that part of the whole.
    #[test]
    fn untouched_is_untouched_and_preview_is_truth(
        corners in prop::collection::vec((10.0..210.0f64, 10.0..140.0f64), 3..9),
        soft in 0.0..9.0f64,
        follow: bool,
        strength in 0.1..1.0f32,
        part in (0i64..120, 0i64..90),
    ) {
        let frames = frames();
        let mut drawn = lift(&corners, Source::Frame(2));
        (drawn.soft, drawn.follow, drawn.strength) = (soft, follow, strength);
        let empty = opened(&frames, Vec::new());
        let with = opened(&frames, vec![drawn]);
        let (before, after) = (render(&frames, &empty, View::Plate, SIZE.rect()), render(&frames, &with, View::Plate, SIZE.rect()));
        let mask = with.1.lifts.first().map(|l| l.mask.clone());
        for i in 0..SIZE.width * SIZE.height {
            let (x, y) = (i % SIZE.width, i / SIZE.width);
            let covered = mask.as_ref().is_some_and(|m| m.at(Point::new(f64::from(x), f64::from(y))) > 0.0);
            prop_assert!(covered || before.pixel(x, y) == after.pixel(x, y), "{x}, {y}");
        }
        let region = Rect::new(part.0, part.1, 77, 51);
        let piece = render(&frames, &with, View::Plate, region);
        for y in 0..51 {
            for x in 0..77 {
                prop_assert_eq!(piece.pixel(x, y), after.pixel(x + part.0 as u32, y + part.1 as u32));
            }
        }
    }
}
