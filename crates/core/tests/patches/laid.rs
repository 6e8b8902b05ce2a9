//! What patches cover comes from where they say, and nothing else changes.

use crate::stage::*;
use evanu_core::combine::Method;
use evanu_core::geometry::{Point, Rect};
use evanu_core::patch::{Patch, Source, returns};
use evanu_core::pixel::FrameSource;
use evanu_core::prepare;
use evanu_core::recipe::Recipe;
use evanu_core::render::View;

#[test]
fn a_figure_is_brought_back_by_pointing_at_it() {
    let frames = frames();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let empty = opened(&frames, Vec::new());
    let scene = empty.scene(&sources);
    assert_eq!(
        scene.extents(&[1], Point::new(100.0, 70.0)).unwrap().remove(0),
        None,
        "frame 1 shows the wall, as the plate"
    );
    let outline = scene.extents(&[2], Point::new(95.0, 50.0)).unwrap().remove(0).unwrap();
    let source = Source::Frame(2);
    let taken = Patch { feather: 1.0, optimal_seam: false, tone: false, ..Patch::new(0, outline, source) };
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
    let mut off = patch(&loops, Source::Frame(2));
    off.disabled = true;
    let empty = opened(&frames, Vec::new());
    let with = opened(&frames, vec![patch(&loops, Source::Method(Method::Darkest)), off]);
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
    let mut calm = patch(&around(spot, 0.0), Source::HighlightSuppressed(3));
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
fn a_highlight_that_most_frames_show_goes_over_an_area_of_the_darkest() {
    let within = |x: i64, y: i64| (x - 60).pow(2) + (y - 70).pow(2) < 12 * 12;
    let frames = frames_with(|k, x, y| if k != 1 && within(x, y) { [80.0; 3] } else { [0.0; 3] });
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let outline = around(Rect::new(40, 50, 40, 40), 0.0);
    let (darkest, calm) =
        (patch(&outline, Source::Method(Method::Darkest)), patch(&outline, Source::HighlightSuppressed(4)));
    let told = |patches: Vec<Patch>| {
        let state = opened_as(&frames, Recipe { patches, method: Method::Median, ..Recipe::new() });
        let laid = state.patches.last().unwrap();
        let stops = prepare::glare(&state.scene(&sources), laid).unwrap();
        (stops, render(&frames, &state, View::Plate, SIZE.rect()).pixel(60, 70)[1] / 257)
    };
    // The median has the highlight itself.
    let (stops, level) = told(vec![calm.clone()]);
    assert!(stops.is_none() && level > 150, "{stops:?} {level}");
    let (stops, level) = told(vec![darkest, calm]);
    assert!(stops.is_some_and(|s| (1.2..2.0).contains(&s)) && level < 115, "{stops:?} {level}");
}

#[test]
fn a_patch_stays_where_it_was_drawn_when_the_reference_changes() {
    let frames = frames();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let drawn = patch(&around(FIGURE, 5.0), Source::Frame(2));
    let mut state = opened(&frames, vec![drawn.clone()]);
    state.plan.alignment.frames[0].transform = evanu_core::geometry::Homography::shift(10.0, -4.0);
    let mask = prepare::fit(&state.scene(&sources), &drawn).unwrap().unwrap().mask;
    assert_eq!(mask.at(Point::new(112.0, 66.0)), 1.0);
    assert_eq!(mask.at(Point::new(87.0, 66.0)), 0.0);
    state.plan.alignment.frames[0].misfit = Some("zoomed".into());
    assert_eq!(prepare::fit(&state.scene(&sources), &drawn).unwrap(), None);
}

#[test]
fn what_the_frame_brings_along_is_left_out_on_request() {
    // Frame 1 is clear where the figure stands, but a bright bag lies beside it.
    let bag = Rect::new(120, 84, 14, 16);
    let frames = frames_with(|k, x, y| {
        let inside = x >= bag.x && x < bag.right() && y >= bag.y && y < bag.bottom();
        [if k == 1 && inside { 70.0 } else { 0.0 }; 3]
    });
    let patch = Patch::new(
        0,
        around(FIGURE, 26.0).into_iter().map(|(x, y)| Point::new(x, y)).collect(),
        Source::Frame(1),
    );
    let plate = |patches: Vec<Patch>| {
        let state = opened(&frames, patches);
        let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
        let recipe = Recipe { method: Method::Darkest, ..state.recipe.clone() };
        let state = state.with(recipe, &sources);
        (render(&frames, &state, View::Plate, SIZE.rect()), state)
    };
    let (empty, _) = plate(Vec::new());
    let (whole, noticed) = plate(vec![patch.clone()]);
    let (trimmed, _) = plate(vec![Patch { exclude_introduced: true, ..patch }]);
    let figure = Rect::new(FIGURE.x + 2, FIGURE.y + 2, FIGURE.width - 4, FIGURE.height - 4);
    assert!(mean(&empty, figure) < 65.0 && mean(&whole, figure) > 75.0 && mean(&trimmed, figure) > 75.0);
    assert!(mean(&whole, bag) > 140.0, "{}", mean(&whole, bag));
    assert!(mean(&trimmed, bag) < 115.0, "{}", mean(&trimmed, bag));
    let brought: Vec<bool> = noticed.patches[0].fit.noticed.things.iter().map(|t| t.brought).collect();
    assert_eq!(brought, [false, true]);
}
