//! Borders that are sought, shadows that go along, tone, grain and seams.

use crate::stage::*;
use evanu_core::combine::Method;
use evanu_core::combine::consensus::LayerData;
use evanu_core::geometry::{Grid, Homography, Point, Rect};
use evanu_core::patch::seams::{Mend, Seam};
use evanu_core::patch::{FittedPatch, Patch, PlacedPatch, Source};
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::prepare;
use evanu_core::random::Random;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Aligned, Kept, Scene, View};
use proptest::prelude::*;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock};

#[test]
fn a_loop_that_cuts_off_an_edge_takes_the_whole_figure() {
    let frames = frames();
    // Drawn too wide on three sides and four pixels inside the figure on the fourth.
    let (x, y) = (FIGURE.x as f64, FIGURE.y as f64);
    let outline = [(x + 4.0, y - 7.0), (x + 35.0, y - 9.0), (x + 33.0, y + 72.0), (x + 4.0, y + 70.0)]
        .map(|(x, y)| Point::new(x, y));
    let sought = Patch::new(0, outline.to_vec(), Source::Frame(2));
    let drawn = Patch { optimal_seam: false, ..sought.clone() };
    let (sought, drawn) = (opened(&frames, vec![sought]), opened(&frames, vec![drawn]));
    let shot = render(&frames, &sought, View::Frame(2), SIZE.rect());
    let edge = Rect::new(FIGURE.x, FIGURE.y + 3, 3, FIGURE.height - 6);
    let plates = [&sought, &drawn].map(|s| render(&frames, s, View::Plate, SIZE.rect()));
    assert!((mean(&plates[0], edge) - mean(&shot, edge)).abs() < 1.0);
    assert!((mean(&plates[1], edge) - mean(&shot, edge)).abs() > 20.0, "as drawn, the edge is missing");
    let noticed = &sought.patches[0].fit.noticed;
    assert_eq!(noticed.things.iter().map(|t| t.brought).collect::<Vec<_>>(), [true]);
    assert_eq!(noticed.torn, 0.0);
}

#[test]
fn a_shadow_that_was_missed_goes_along_and_somebody_who_is_grazed_stays() {
    let shadow = Rect::new(62, 94, 30, 6);
    let other = Rect::new(131, 45, 18, 55);
    let frames = frames_with(|k, x, y| {
        let within = |r: Rect| x >= r.x && x < r.right() && y >= r.y && y < r.bottom();
        let dark = k == 2 && !within(FIGURE) && (within(shadow) || within(other));
        [if dark { -45.0 } else { 0.0 }; 3]
    });
    let outline = [(82.0, 30.0), (134.0, 30.0), (134.0, 110.0), (82.0, 110.0)];
    let patch = Patch::new(0, outline.map(|(x, y)| Point::new(x, y)).to_vec(), Source::Frame(2));
    let (empty, with) = (opened(&frames, Vec::new()), opened(&frames, vec![patch]));
    let plates = [&empty, &with].map(|s| render(&frames, s, View::Plate, SIZE.rect()));
    let darker = |r: Rect| mean(&plates[0], r) - mean(&plates[1], r);
    assert!(darker(Rect::new(66, 96, 12, 2)) > 30.0, "the end of the shadow, twenty pixels beside the loop");
    assert!(darker(Rect::new(95, 50, 14, 40)) > 15.0, "the figure");
    assert_eq!(darker(Rect::new(132, 47, 16, 50)), 0.0, "nothing of who stands beside");
}

#[test]
fn shade_beside_a_patch_does_not_bleed_into_it() {
    // Whom the plate keeps throws a soft shade on the wall, of which the frame it is taken from knows nothing.
    let frames = frames_with(|k, x, y| {
        let beside = (x - FIGURE.right()) as f64;
        let shade = k == 2 && beside >= 0.0 && (FIGURE.y..FIGURE.bottom()).contains(&y);
        [if shade { -16.0 * (-beside / 4.0).exp() } else { 0.0 }; 3]
    });
    let wall = Rect::new(FIGURE.right() + 3, FIGURE.y - 4, 50, FIGURE.height + 8);
    let patch = Patch { tone: true, ..patch(&around(wall, 0.0), Source::Frame(1)) };
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let state = opened(&frames, vec![patch]);
    let recipe = Recipe { method: Method::Darkest, ..state.recipe.clone() };
    let state = state.with(recipe, &sources);
    let inside = Rect::new(wall.x + 3, wall.y + 10, 6, wall.height - 20);
    let [plate, frame] = [View::Plate, View::Frame(1)].map(|v| render(&frames, &state, v, SIZE.rect()));
    let off = mean(&plate, inside) - mean(&frame, inside);
    // The darkest of five frames is darker than one by its noise, all over the wall, which the tone rightly follows.
    assert!((-2.2..=0.5).contains(&off), "{off}");
}

#[test]
fn light_that_changed_from_place_to_place_leaves_no_step() {
    // Frame 4 grew brighter towards the right.
    let frames = frames_with(|k, x, _| [if k == 4 { 2.0 + x as f64 / 50.0 } else { 0.0 }; 3]);
    let loops = Rect::new(60, 30, 90, 80);
    let patch = Patch::new(
        0,
        around(loops, 0.0).into_iter().map(|(x, y)| Point::new(x, y)).collect(),
        Source::Frame(4),
    );
    let step = |patch: Patch| {
        let empty = opened(&frames, Vec::new());
        let with = opened(&frames, vec![patch]);
        let (a, b) = (
            render(&frames, &with, View::Plate, SIZE.rect()),
            render(&frames, &empty, View::Plate, SIZE.rect()),
        );
        let side = |x: i64| {
            let r = Rect::new(x, 45, 6, 50);
            (mean(&a, r) - mean(&b, r)).abs()
        };
        side(63).max(side(140))
    };
    let drawn = Patch { optimal_seam: false, ..patch.clone() };
    let untouched = step(Patch { tone: false, ..drawn.clone() });
    assert!(untouched > 3.0, "{untouched}");
    for patch in [drawn, patch] {
        let left = step(patch);
        // Of a frame that hardly differs half a code stays in the average that it is laid over.
        assert!(left < 0.8, "{left} of {untouched}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Outside its border a patch changes no byte, and a part of the picture is the same as that part of the whole.
    #[test]
    fn untouched_is_untouched_and_preview_is_truth(
        corners in prop::collection::vec((10.0..210.0f64, 10.0..140.0f64), 3..9),
        feather in 0.0..9.0f64,
        snap_to_edges: bool,
        optimal_seam: bool,
        tone: bool,
        strength in 0.1..1.0f32,
        part in (0i64..120, 0i64..90),
    ) {
        let frames = frames();
        let mut drawn = patch(&corners, Source::Frame(2));
        drawn = Patch { feather, snap_to_edges, optimal_seam, tone, strength, ..drawn };
        let empty = opened(&frames, Vec::new());
        let with = opened(&frames, vec![drawn]);
        let (before, after) = (render(&frames, &empty, View::Plate, SIZE.rect()), render(&frames, &with, View::Plate, SIZE.rect()));
        let mask = with.patches.first().map(|l| l.fit.mask.clone());
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

#[test]
fn one_more_patch_over_the_same_gives_the_bytes_of_all_anew() {
    let frames = frames();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let figure = Patch { optimal_seam: true, tone: true, ..patch(&around(FIGURE, 6.0), Source::Frame(2)) };
    let over = patch(&around(Rect::new(80, 60, 60, 30), 0.0), Source::Frame(1));
    let spot = Patch { feather: 4.0, ..patch(&around(Rect::new(140, 50, 40, 40), 0.0), Source::Frame(3)) };
    let faint = Patch { strength: 0.4, ..over.clone() };
    let region = Rect::new(70, 30, 120, 90);
    let kept = opened(&frames, Vec::new()).scene(&sources).aligned(region, 0).unwrap();
    // One after another, then changed, taken back, and in another order.
    for patches in [
        vec![figure.clone()],
        vec![figure.clone(), over.clone()],
        vec![figure.clone(), over.clone(), spot.clone()],
        vec![figure.clone(), faint],
        vec![],
        vec![over, figure, spot],
    ] {
        let count = patches.len();
        let state = opened(&frames, patches);
        let scene = Scene { name: "five frames", ..state.scene(&sources) };
        let quick = kept.combined(&scene, View::Plate, region).unwrap();
        assert!(quick == scene.render(View::Plate, region, 0).unwrap(), "{count} patches");
        let darkest = View::By(Method::Darkest);
        assert!(
            kept.combined(&scene, darkest, region).unwrap() == scene.render(darkest, region, 0).unwrap(),
            "another method with {count} patches on the plate"
        );
        // Half of it lies beside the region.
        let part = kept.combined(&scene, View::Plate, Rect::new(96, 100, 200, 60)).unwrap();
        assert!(part == scene.render(View::Plate, Rect::new(96, 100, 94, 20), 0).unwrap(), "a part");
    }
}

/// Tiles of the picture that are kept, and how often layers and the plate were taken from them.
struct Tiles(Vec<Arc<Aligned>>, [AtomicUsize; 2]);

impl Tiles {
    fn of(scene: &Scene<'_>) -> Self {
        let corners = [(0, 0), (128, 0), (0, 90), (128, 90)];
        let tiles = corners.map(|(x, y)| {
            let tile = scene.aligned(Rect::new(x, y, 128 - (x / 128) as u32 * 36, 90), 0).unwrap();
            tile.combined(scene, View::Plate, Rect::new(0, 0, 0, 0)).unwrap();
            Arc::new(tile)
        });
        Self(tiles.into(), Default::default())
    }
}

impl Kept for Tiles {
    fn layer(&self, frame: usize, grid: &Grid) -> Option<LayerData> {
        let found = Aligned::layer(&self.0, frame, grid).filter(|_| grid.level == 0)?;
        self.1[0].fetch_add(1, Ordering::Relaxed);
        Some(found)
    }

    fn plate(&self, stages: &[String], grid: &Grid) -> Option<LayerData> {
        let found = Aligned::plate(&self.0, stages, grid).filter(|_| grid.level == 0)?;
        self.1[1].fetch_add(1, Ordering::Relaxed);
        Some(found)
    }
}

#[test]
fn a_patch_is_fitted_to_tiles_that_are_kept_as_to_the_frames() {
    let frames = frames();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let taken = |place, gap, frame| Patch {
        optimal_seam: true,
        tone: true,
        grain: true,
        ..patch(&around(place, gap), Source::Frame(frame))
    };
    let (figure, over) = (taken(FIGURE, 6.0, 2), taken(Rect::new(80, 60, 60, 60), 0.0, 1));
    for (before, wanted) in [
        // The plate as the tiles show it, without the patch below, and by another source.
        (vec![figure.clone()], (true, &over)),
        (vec![], (false, &over)),
        (vec![figure.clone()], (true, &Patch { source: Source::Method(Method::Darkest), ..over.clone() })),
    ] {
        // One frame ends within the picture.
        let moved = |patches| {
            let mut state = opened(&frames, patches);
            state.plan.alignment.frames[4].transform = Homography::shift(60.5, 20.25);
            state
        };
        let tiles = Tiles::of(&moved(before).scene(&sources));
        let state = moved(vec![figure.clone()]);
        let scene = state.scene(&sources);
        let kept = prepare::fit(&Scene { kept: Some(&tiles), ..scene }, wanted.1).unwrap();
        assert!(kept == prepare::fit(&scene, wanted.1).unwrap(), "{:?}", wanted.1.source);
        let [layers, plates] = tiles.1.map(AtomicUsize::into_inner);
        assert!(layers > 0 && (plates > 0) == wanted.0, "{layers} layers, {plates} plates");
    }
}

#[test]
fn grain_is_that_of_what_is_around_and_what_one_frame_alone_shows_stays() {
    let frames = frames();
    let wall = Rect::new(20, 40, 50, 60);
    let empty = opened(&frames, Vec::new());
    let plate = render(&frames, &empty, View::Plate, wall);
    let apart = |grain: bool| {
        let with = opened(&frames, vec![Patch { grain, ..patch(&around(wall, 6.0), Source::Frame(1)) }]);
        let picture = render(&frames, &with, View::Plate, wall);
        let square = |(a, b): (&u16, &u16)| (f64::from(*a) - f64::from(*b)).powi(2);
        (plate.data.iter().zip(&picture.data).map(square).sum::<f64>() / plate.data.len() as f64).sqrt()
            / 257.0
    };
    let (own, matched) = (apart(false), apart(true));
    assert!(own > 0.7, "one frame has its own noise: {own}");
    assert!(matched < 0.15, "all frames agree on the wall, as in the plate: {matched}");
    let figure =
        opened(&frames, vec![Patch { grain: true, ..patch(&around(FIGURE, 4.0), Source::Frame(2)) }]);
    let shown = render(&frames, &figure, View::Plate, FIGURE);
    assert_eq!(shown.pixel(10, 30), render(&frames, &figure, View::Frame(2), FIGURE).pixel(10, 30));
}

#[test]
fn seams_are_found_with_what_mends_them() {
    // Frame 1 is a little brighter, within a part that no gain of the whole frame evens out.
    let bright = |k: usize, x: i64, _: i64| if k == 1 && x < 80 { [4.0; 3] } else { [0.0; 3] };
    let frames = frames_with(bright);
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let seen = |patch: Patch| -> Vec<Seam> {
        let state = opened(&frames, vec![patch]);
        prepare::seams(&state.scene(&sources), &state.patches[0], u32::MAX).unwrap()
    };
    let wall = around(Rect::new(20, 40, 40, 60), 0.0);
    let first = |seams: &[Seam]| seams.first().map(|s| s.mend);
    let drawn = seen(patch(&wall, Source::Frame(1)));
    assert_eq!(first(&drawn), Some(Mend::Seek), "{drawn:?}");
    assert!(
        (0.03..0.2).contains(&drawn[0].step),
        "four codes of a hundred are some percent of light: {drawn:?}"
    );
    let sharp = Patch { optimal_seam: true, feather: 1.0, ..patch(&wall, Source::Frame(1)) };
    assert_eq!(first(&seen(sharp.clone())), Some(Mend::Tone));
    assert_eq!(first(&seen(Patch { tone: true, grain: true, ..sharp })), None);
    assert_eq!(
        first(&seen(Patch { grain: true, ..patch(&wall, Source::Frame(4)) })),
        None,
        "nothing differs there"
    );
    let half = Rect { width: FIGURE.width / 2, ..FIGURE };
    let cut = seen(patch(&around(half, 0.0), Source::Frame(2)));
    assert_eq!(first(&cut), Some(Mend::Wider), "{cut:?}");
    // A single frame has more noise than the plate, which shows as grain where the tone is even.
    let grain = seen(patch(&around(Rect::new(120, 20, 70, 110), 0.0), Source::Frame(4)));
    assert!(grain.iter().any(|s| s.mend == Mend::Grain), "{grain:?}");
}

#[test]
fn the_light_of_a_lamp_stays_where_its_stand_is_taken_away() {
    use evanu_core::pixel::tone::{to_code, to_linear};
    // The first frame is lit by a lamp on a stand, by 1.2 stops beside it, falling off; the second has neither.
    let stand = Rect::new(100, 50, 14, 90);
    let picture = |stops: f64, stands: bool, seed: u64| -> Vec<f64> {
        let mut random = Random::new(seed);
        (0..SIZE.pixels())
            .flat_map(|i| {
                let (x, y) = ((i % u64::from(SIZE.width)) as i64, (i / u64::from(SIZE.width)) as i64);
                let v = 100.0 + 10.0 * ((x as f64 / 9.0).sin() + (y as f64 / 13.0).cos());
                let away = ((x - 107) as f64).hypot((y - 60) as f64) / 110.0;
                let light = (stops / (1.0 + away * away)).exp2();
                let wall = [v, v - 6.0, v - 14.0].map(|c| 255.0 * to_code(light * to_linear(c / 255.0)));
                let within = x >= stand.x && x < stand.right() && y >= stand.y && y < stand.bottom();
                let colour = if stands && within { [30.0, 30.0, 34.0] } else { wall };
                colour.map(|c| c + if seed > 0 { random.normal() } else { 0.0 })
            })
            .collect()
    };
    let coded = |codes: Vec<f64>| {
        let eight = codes.iter().map(|c| c.clamp(0.0, 255.0).round() as u8).collect();
        MemoryFrame::new(SIZE, Samples::Eight(eight))
    };
    let frames = vec![coded(picture(1.2, true, 1)), coded(picture(0.0, false, 2))];
    let truth = picture(1.2, false, 0);
    let off = |tone: bool| {
        let outline = around(stand, 6.0).into_iter().map(|(x, y)| Point::new(x, y)).collect();
        let patch = Patch { tone, ..Patch::new(0, outline, Source::Frame(1)) };
        let lit = Recipe { patches: vec![patch], excluded: [1].into(), ..Recipe::new() };
        let plate = render(&frames, &opened_as(&frames, lit), View::Plate, SIZE.rect());
        let each = (0..SIZE.pixels() as usize).filter(|i| {
            let (x, y) = ((i % 220) as i64, (i / 220) as i64);
            x >= stand.x && x < stand.right() && y >= stand.y && y < stand.bottom()
        });
        let errors: Vec<f64> =
            each.map(|i| (f64::from(plate.data[3 * i + 1]) / 257.0 - truth[3 * i + 1]).abs()).collect();
        errors.iter().sum::<f64>() / errors.len() as f64
    };
    let (grey, matched) = (off(false), off(true));
    assert!(grey > 15.0, "an unlit patch stands out: {grey}");
    assert!(matched < 3.0, "{matched} of {grey}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]
    #[test]
    fn patches_fitted_side_by_side_are_those_fitted_in_turn(
        places in prop::collection::vec((0i64..190, 0i64..120, 12u32..60, 0usize..5, any::<[bool; 3]>()), 2..9)
    ) {
        static FRAMES: LazyLock<Vec<MemoryFrame>> = LazyLock::new(frames);
        let sources: Vec<&dyn FrameSource> = FRAMES.iter().map(|f| f as &dyn FrameSource).collect();
        let patches = places.into_iter().map(|(x, y, side, frame, [seam, grain, off])| {
            let outline = around(Rect::new(x, y, side, side), 0.0);
            Patch { optimal_seam: seam, tone: seam, grain, disabled: off && grain, ..patch(&outline, Source::Frame(frame)) }
        });
        let state = opened(&FRAMES, patches.collect());
        let mut turn = State { patches: Vec::new(), ..state.clone() };
        for (index, patch) in state.recipe.patches.iter().enumerate().filter(|(_, l)| !l.disabled) {
            let key = prepare::fit_key(&turn.scene(&sources), patch);
            if let Some(fit) = prepare::fit(&turn.scene(&sources), patch).unwrap() {
                let fit = Arc::new(fit);
                turn.patches.push(PlacedPatch { index, key, source: patch.source, strength: patch.strength, fit });
            }
        }
        prop_assert_eq!(state.patches.len(), turn.patches.len());
        for (a, b) in state.patches.iter().zip(&turn.patches) {
            prop_assert_eq!((a.index, a.key), (b.index, b.key));
            prop_assert!(a.fit == b.fit, "patch {} is another one", a.index);
        }
    }
}

#[test]
fn a_shadow_longer_than_what_is_around_a_loop_comes_whole() {
    let shadow = Rect::new(100, 92, 105, 8);
    let frames = frames_with(|k, x, y| {
        let shade = k == 2 && x >= shadow.x && x < shadow.right() && y >= shadow.y && y < shadow.bottom();
        if shade { [-45.0, -42.0, -38.0] } else { [0.0; 3] }
    });
    let taken = Patch { optimal_seam: true, tone: true, ..patch(&around(FIGURE, 5.0), Source::Frame(2)) };
    let (empty, with) = (opened(&frames, Vec::new()), opened(&frames, vec![taken]));
    let picture = |state, view| render(&frames, state, view, SIZE.rect());
    let (before, after) = (picture(&empty, View::Plate), picture(&with, View::Plate));
    let shot = picture(&with, View::Frame(2));
    let level = |r: &Raster, x: u32, y: u32| f64::from(r.pixel(x, y)[1]) / 257.0;
    for x in (120..203).step_by(6) {
        let (own, plate) = (level(&after, x, 96), level(&before, x, 96));
        assert!(plate - own > 25.0, "the shadow ends at {x}: {own} beside {plate}");
        assert!((own - level(&shot, x, 96)).abs() < 6.0, "as the frame has it at {x}");
    }
    // Only to that side, and nothing that is not its.
    let mask = &with.patches[0].fit.mask;
    assert_eq!(mask.cut_off(SIZE), [0; 4]);
    assert!(mask.grid().rect.x > 30, "the picture grew to the right alone: {:?}", mask.grid().rect);
    assert_eq!(after.pixel(190, 30), before.pixel(190, 30));
}

#[test]
fn a_neighbour_whom_a_shadow_joins_is_not_brought_along() {
    let (other, shadow) = (Rect::new(146, 42, 22, 56), Rect::new(100, 97, 60, 2));
    let frames = frames_with(|k, x, y| {
        let within = |r: Rect| x >= r.x && x < r.right() && y >= r.y && y < r.bottom();
        match k {
            2 if within(other) => [40.0, -50.0, -40.0],
            2 if within(shadow) && !within(FIGURE) => [-45.0, -42.0, -38.0],
            _ => [0.0; 3],
        }
    });
    // A loop so large that it reaches into the neighbour.
    let taken = Patch { optimal_seam: true, tone: true, ..patch(&around(FIGURE, 36.0), Source::Frame(2)) };
    let state = opened(&frames, vec![taken]);
    let picture = |view| render(&frames, &state, view, SIZE.rect());
    let (plate, shot) = (picture(View::Plate), picture(View::Frame(2)));
    let off = |x: u32, y: u32| (i32::from(plate.pixel(x, y)[2]) - i32::from(shot.pixel(x, y)[2])).abs() / 257;
    assert!(off(100, 60) < 8 && off(110, 95) < 8, "the figure is there");
    for (x, y) in [(148, 60), (160, 80), (165, 95)] {
        assert!(off(x, y) > 25, "the neighbour's {x}, {y} is brought along");
    }
    assert_eq!(state.patches[0].fit.noticed.things.len(), 1);
}

#[test]
fn what_goes_on_farther_than_a_patch_looks_is_told() {
    let torn = |length: u32| {
        let (figure, shadow) = (Rect::new(20, 20, 12, 24), Rect::new(20, 40, length, 3));
        let frames = frames_with(|k, x, y| {
            let within = |r: Rect| x >= r.x && x < r.right() && y >= r.y && y < r.bottom();
            if k == 2 && (within(figure) || within(shadow)) { [-45.0, 20.0, -38.0] } else { [0.0; 3] }
        });
        let taken = Patch { optimal_seam: true, tone: true, ..patch(&around(figure, 5.0), Source::Frame(2)) };
        opened(&frames, vec![taken]).patches[0].fit.noticed.torn
    };
    assert!(torn(12) < 0.01 && torn(60) < 0.01, "it comes whole: {} {}", torn(12), torn(60));
    assert!(torn(190) > 0.01, "{}", torn(190));
}

#[test]
fn frames_that_are_weighed_on_fewer_pixels_come_in_the_same_order() {
    // Somebody in the plate's only frame; frame 3 shows the wall, 1 and 4 a second person, 2 somebody in the same place.
    let person = |x: i64, y: i64, at: i64| (x - at).abs() < 12 && (y - 75).abs() < 30;
    let crowd = frames_with(|k, x, y| {
        let dark = k == 0 && person(x, y, 110) || k == 1 && person(x, y, 80) || k == 4 && person(x, y, 140);
        if dark { [-50.0, -40.0, 10.0] } else { [0.0; 3] }
    });
    let recipe = Recipe { excluded: (1..5).collect(), ..Recipe::new() };
    let state = opened_as(&crowd, recipe);
    let sources: Vec<&dyn FrameSource> = crowd.iter().map(|f| f as &dyn FrameSource).collect();
    let outline = around(Rect::new(98, 45, 24, 60), 26.0);
    let order = |few: bool| -> Vec<(usize, usize, usize)> {
        let mut all: Vec<_> = (1..5)
            .map(|frame| {
                let patch = Patch { optimal_seam: true, tone: true, ..patch(&outline, Source::Frame(frame)) };
                let weigh = if few { prepare::weigh } else { prepare::fit };
                (frame, weigh(&state.scene(&sources), &patch).unwrap().unwrap())
            })
            .collect();
        let levels: Vec<u32> = all.iter().map(|(_, fit)| fit.mask.grid().level).collect();
        assert_eq!(levels, [u32::from(few); 4], "half as fine");
        all.sort_by(|(i, a), (j, b)| {
            let (a, b) = (a.doubtful(), b.doubtful());
            a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)).then(i.cmp(j))
        });
        let count =
            |fit: &FittedPatch, brought| fit.noticed.things.iter().filter(|t| t.brought == brought).count();
        all.iter().map(|(frame, fit)| (*frame, count(fit, true), count(fit, false))).collect()
    };
    let (fine, few) = (order(false), order(true));
    assert_eq!(fine, few);
    assert_eq!(fine[0].1, 0, "what brings nobody along comes first: {fine:?}");
    assert_eq!((fine[0].2, fine[1].1, fine[2].1), (1, 1, 1), "{fine:?}");
}
