//! Blotches and veils evened out: the slow part of tone and colour goes over the area from rim to rim as a membrane does; what is
//! faster, texture, stays as it is.

use super::{Around, Plate};
use crate::pixel::blur::boxed;
use crate::pixel::poisson::{Poisson, Value};

/// The picture with the slow part of its tone evened over the area.
pub(super) fn evened(around: &Around<'_>, hole: &[bool], slow: f64) -> Plate {
    let (w, h) = (around.grid.rect.width as usize, around.grid.rect.height as usize);
    let reach = ((slow / 3.0).round() as usize).max(1);
    let ones = vec![1.0; w * h];
    let mut share = ones.clone();
    let mut planes: Vec<Vec<f32>> =
        around.plate.iter().map(|plane| plane.iter().map(|v| f32::from(*v)).collect()).collect();
    // Three boxes come close to a bell; beyond the picture it goes on.
    for _ in 0..3 {
        share = boxed(&share, w, h, reach);
        for plane in &mut planes {
            *plane = boxed(plane, w, h, reach);
        }
    }
    let tone = |p: usize| -> Value {
        let of = |c: usize| planes[c][p] / share[p].max(1e-6);
        [of(0), of(1), of(2), 0.0]
    };
    let near = |p: usize| {
        let (x, y) = (p % w, p / w);
        let all =
            [(x > 0, p.wrapping_sub(1)), (x + 1 < w, p + 1), (y > 0, p.wrapping_sub(w)), (y + 1 < h, p + w)];
        all.into_iter().filter(|(there, _)| *there).map(|(_, q)| q)
    };
    let rims: Vec<(f32, Value)> = (0..w * h)
        .map(|p| {
            let (mut held, mut wanted) = (0.0, [0.0; 4]);
            for q in near(p).filter(|&q| hole[p] && !hole[q]) {
                let there = tone(q);
                held += 1.0;
                (0..4).for_each(|c| wanted[c] += there[c]);
            }
            (held, wanted)
        })
        .collect();
    let even = Poisson::new(hole, w, |p| rims[p].0).solve(&rims.iter().map(|r| r.1).collect::<Vec<_>>());
    let mut out = around.plate.clone();
    for p in (0..w * h).filter(|&p| hole[p]) {
        let before = tone(p);
        for (c, plane) in out.iter_mut().enumerate() {
            let v = f32::from(plane[p]) + even[p][c] - before[c];
            plane[p] = v.round().clamp(0.0, 65535.0) as u16;
        }
    }
    out
}
