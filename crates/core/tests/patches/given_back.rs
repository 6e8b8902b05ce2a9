//! Parts that are given back.

use crate::stage::*;
use evanu_core::combine::Method;
use evanu_core::geometry::{Point, Rect};
use evanu_core::patch::{Patch, Source};
use evanu_core::render::View;

#[test]
fn a_part_that_was_given_back_is_the_plate_again() {
    let frames = frames();
    let mut taken = patch(&around(FIGURE, 4.0), Source::Frame(2));
    taken.exclusions =
        vec![around(Rect { width: 10, ..FIGURE }, 8.0).into_iter().map(|(x, y)| Point::new(x, y)).collect()];
    let (empty, with) = (opened(&frames, Vec::new()), opened(&frames, vec![taken]));
    let picture = |state, view| render(&frames, state, view, SIZE.rect());
    let (before, after) = (picture(&empty, View::Plate), picture(&with, View::Plate));
    let shot = picture(&with, View::Frame(2));
    assert_eq!(after.pixel(95, 70), before.pixel(95, 70), "given back");
    assert_ne!(before.pixel(95, 70), shot.pixel(95, 70), "there was something to give back");
    assert_eq!(after.pixel(112, 70), shot.pixel(112, 70), "the rest is still taken");
}

#[test]
fn the_end_of_a_shadow_goes_with_its_owner_and_halves_stay() {
    let shadow = Rect::new(100, 92, 60, 8);
    let frames = frames_with(|k, x, y| {
        let shade = k == 2 && x >= shadow.x && x < shadow.right() && y >= shadow.y && y < shadow.bottom();
        if shade { [-45.0, -42.0, -38.0] } else { [0.0; 3] }
    });
    let points = |corners: Vec<(f64, f64)>| corners.into_iter().map(|(x, y)| Point::new(x, y)).collect();
    let empty = opened(&frames, Vec::new());
    let plate = render(&frames, &empty, View::Plate, SIZE.rect());
    let darker = |taken: &Patch, x: u32, y: u32| {
        let after = render(&frames, &opened(&frames, vec![taken.clone()]), View::Plate, SIZE.rect());
        (f64::from(plate.pixel(x, y)[1]) - f64::from(after.pixel(x, y)[1])) / 257.0
    };
    let mut taken = Patch { optimal_seam: true, tone: true, ..patch(&around(FIGURE, 5.0), Source::Frame(2)) };
    assert!(darker(&taken, 100, 70) > 25.0 && darker(&taken, 145, 96) > 25.0, "both are taken");
    taken.exclusions = vec![points(around(FIGURE, 10.0))];
    assert!(darker(&taken, 100, 70).abs() < 4.0, "the figure is given back");
    assert!(darker(&taken, 145, 96).abs() < 4.0, "and what its loop left of its shadow");

    // A strip out of the middle of something leaves both halves.
    let mut wide = patch(&around(Rect::new(20, 30, 160, 80), 0.0), Source::Method(Method::Darkest));
    wide.exclusions = vec![points(around(Rect::new(80, 20, 30, 100), 0.0))];
    assert!(darker(&wide, 95, 50) < 1.0 && darker(&wide, 40, 50) > 0.3 && darker(&wide, 150, 50) > 0.3);
}

#[test]
fn a_part_that_was_given_back_fades_at_its_border() {
    let frames = frames();
    let mut taken = patch(&around(FIGURE, 4.0), Source::Frame(2));
    let back = Rect { width: 12, ..FIGURE };
    taken.exclusions = vec![around(back, 0.0).into_iter().map(|(x, y)| Point::new(x, y)).collect()];
    let (empty, with) = (opened(&frames, Vec::new()), opened(&frames, vec![taken]));
    let picture = |state, view| render(&frames, state, view, SIZE.rect());
    let (plate, shot) = (picture(&empty, View::Plate), picture(&with, View::Frame(2)));
    let after = picture(&with, View::Plate);
    let share = |x: u32| {
        let [p, s, a] = [&plate, &shot, &after].map(|r| f64::from(r.pixel(x, 70)[0]));
        (a - p) / (s - p)
    };
    let across: Vec<f64> = (94..110).map(share).collect();
    assert!(across[0].abs() < 0.02 && (across[15] - 1.0).abs() < 0.02, "{across:?}");
    assert!(across.windows(2).all(|p| p[1] > p[0] - 0.02), "it rises: {across:?}");
    assert!(across.iter().any(|v| (0.1..0.9).contains(v)), "over more than one pixel: {across:?}");
}
