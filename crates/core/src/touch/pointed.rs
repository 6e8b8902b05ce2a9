//! What stands where somebody points, by its look alone: what differs from its wider surroundings the same way as the place itself, and hangs
//! together with it. For what is in every frame; what moves is told by the frames ([`crate::render::Scene::extents`]).
//!
//! The surroundings are a mean over a wide square, as a top-hat transform takes them by an opening (cf. Serra 1982). Cost: some tens of
//! operations a pixel.

use crate::geometry::Size;
use crate::pixel::blur::boxed;
use crate::pixel::distance::distances_within;
use crate::pixel::flood::flood;

/// How far the surroundings reach to each side, as a share of the longer side.
const AROUND: f32 = 0.05;
/// Pixels around the place in which what stands out most is meant: nobody points at a cable exactly.
const NEAR: i64 = 3;
/// How much of the place's difference a pixel has at least.
const ALIKE: f32 = 0.42;
/// Steps of light, as root codes, from which on something stands out.
const OUT: f32 = 1800.0;
/// Pixels between parts that belong together, and around all of it that are taken along.
const APART: usize = 3;
const MORE: usize = 3;
/// Share of the picture that is no thing any more.
const LARGE: f32 = 0.12;

/// The pixels of what stands at a place of a picture, red, green and blue by rows; `None` where nothing stands out, or all of it does.
pub(crate) fn pointed(picture: &[u16], size: Size, (x, y): (i64, i64)) -> Option<Vec<bool>> {
    let (w, h) = (size.width as usize, size.height as usize);
    let reach = ((AROUND * w.max(h) as f32) as usize).max(8);
    let share = boxed(&vec![1.0; w * h], w, h, reach);
    let out: [Vec<f32>; 3] = std::array::from_fn(|c| {
        let own: Vec<f32> = picture.iter().skip(c).step_by(3).map(|v| f32::from(*v)).collect();
        let wide = boxed(&own, w, h, reach);
        own.iter().enumerate().map(|(p, v)| v - wide[p] / share[p]).collect()
    });
    let strength = |p: usize| out.iter().map(|c| c[p] * c[p]).sum::<f32>();
    let inside = |(x, y): &(i64, i64)| *x >= 0 && *y >= 0 && *x < w as i64 && *y < h as i64;
    let near = (y - NEAR..=y + NEAR).flat_map(|v| (x - NEAR..=x + NEAR).map(move |u| (u, v)));
    let start = near
        .filter(inside)
        .map(|(u, v)| v as usize * w + u as usize)
        .max_by(|&a, &b| strength(a).total_cmp(&strength(b)))?;
    if strength(start).sqrt() < OUT {
        return None;
    }
    let towards: [f32; 3] = std::array::from_fn(|c| out[c][start]);
    let whole = strength(start);
    let mut open: Vec<bool> =
        (0..w * h).map(|p| (0..3).map(|c| out[c][p] * towards[c]).sum::<f32>() > ALIKE * whole).collect();
    let found = flood(&mut open, w, start, APART);
    if found.len() as f32 > LARGE * (w * h) as f32 {
        return None;
    }
    let mut set = vec![false; w * h];
    found.into_iter().for_each(|p| set[p] = true);
    Some(distances_within(&set, w, MORE).iter().map(|d| d.is_finite()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_post_with_its_foot_is_found_from_beside_it_and_an_even_wall_is_nothing() {
        let (w, h) = (300usize, 200usize);
        let post = |x: usize, y: usize| {
            (100..104).contains(&x) && (30..160).contains(&y)
                || (80..130).contains(&x) && (160..166).contains(&y)
        };
        let code = |p: usize| {
            let (x, y) = (p % w, p / w);
            let wall = 30_000.0 + 2_000.0 * (x as f32 / 60.0).sin() + ((p * 7919) % 600) as f32;
            if post(x, y) { 12_000 } else { wall as u16 }
        };
        let picture: Vec<u16> = (0..w * h).flat_map(|p| [code(p); 3]).collect();
        let size = Size::new(w as u32, h as u32);
        let found = pointed(&picture, size, (106, 90)).unwrap();
        let missed = (0..w * h).filter(|&p| post(p % w, p / w) && !found[p]).count();
        let more = (0..w * h).filter(|&p| found[p] && !post(p % w, p / w)).count();
        assert!(missed == 0 && more < 2200, "{missed} {more}");
        assert!(!found[90 * w + 120] && !found[20 * w + 102]);
        assert!(pointed(&picture, size, (220, 90)).is_none());
        assert!(pointed(&picture, size, (-50, 90)).is_none());
    }
}
