//! Light that fell on one side of a patch and not on the other, as from a lamp that was taken away.
//!
//! The picture around the patch is cut into blocks. Those that show the same structure in plate and source tell, by channel, by how many
//! stops their light differs; a quadratic surface that mistakes cannot lead is laid through them, and the source is brought to the plate's
//! light by it. Only where the light differs by much, and most blocks lie on the surface: what differs by little is the rim's
//! business ([`rim`](super::rim)). Cost: a few operations a pixel.

use super::mask::Sheet;
use super::rim::{USABLE, coarse};
use crate::combine::consensus::LayerData;
use crate::geometry::surface::spread;
use crate::geometry::{Grid, Point, Size, Surface};
use crate::matching::field::same_structure;
use rayon::prelude::*;

/// Pixels along a side of a block.
const BLOCK: usize = 12;
/// Fewest blocks that tell anything.
const LEAST_BLOCKS: usize = 12;
/// Stops by which the light of three in ten blocks must differ at least.
const MUCH: f64 = 0.3;
/// Stops from the surface within which seven of ten blocks must lie.
const EVEN: f64 = 0.12;

/// By how many stops the source is darker than the plate, by channel.
pub(super) struct Light([Surface; 3]);

impl Light {
    /// Looks for it in pictures with rows of `size.width` pixels.
    pub(super) fn find(plate: &LayerData, source: &LayerData, size: Size) -> Option<Self> {
        let (w, h) = (size.width as usize, size.height as usize);
        let corners: Vec<(usize, usize)> =
            (0..h).step_by(BLOCK).flat_map(|y| (0..w).step_by(BLOCK).map(move |x| (x, y))).collect();
        let stops = |&(x, y): &(usize, usize), c: usize| {
            let rows = y..(y + BLOCK).min(h);
            let within = rows.flat_map(|y| (x..(x + BLOCK).min(w)).map(move |x| y * w + x));
            let usable = |p: &usize| {
                source.reaches(*p, w)
                    && [plate, source].iter().all(|l| l.planes.iter().all(|c| USABLE.contains(&c[*p])))
            };
            let light = |l: &LayerData, p: usize| (f32::from(l.planes[c][p]) / 65535.0).powi(2);
            let pairs: Vec<(f32, f32)> =
                within.filter(usable).map(|p| (light(source, p), light(plate, p))).collect();
            same_structure(&pairs)
        };
        let much = |stops: Vec<f64>| stops.len() >= LEAST_BLOCKS && spread(stops.into_iter()) >= MUCH;
        // Mostly there is none, as one channel tells.
        let green: Vec<Option<f64>> = corners.par_iter().map(|corner| stops(corner, 1)).collect();
        if !much(green.iter().copied().flatten().collect()) {
            return None;
        }
        let mut blocks: [Vec<(Point, f64)>; 3] = Default::default();
        for (corner, green) in corners.iter().zip(green) {
            if let (Some(r), Some(g), Some(b)) = (stops(corner, 0), green, stops(corner, 2)) {
                let middle = |v: usize| v as f64 + BLOCK as f64 / 2.0 - 0.5;
                let middle = Point::new(middle(corner.0), middle(corner.1));
                blocks.iter_mut().zip([r, g, b]).for_each(|(of, stops)| of.push((middle, stops)));
            }
        }
        if !much(blocks[1].iter().map(|b| b.1).collect()) {
            return None;
        }
        let [r, g, b] = blocks.map(|of| Surface::robust(size, &of).filter(|s| s.left(&of) < EVEN));
        Some(Self([r?, g?, b?]))
    }

    /// The source in the plate's light.
    pub(super) fn lit(&self, source: &LayerData, size: Size) -> LayerData {
        let w = size.width as usize;
        let plane = |c: usize| {
            let by = |p: usize| self.0[c].at(Point::new((p % w) as f64, (p / w) as f64)) / 2.0;
            let lit = |(p, v): (usize, &u16)| (f32::from(*v) * by(p).exp2() as f32 + 0.5).min(65535.0) as u16;
            source.planes[c].iter().enumerate().map(lit).collect()
        };
        LayerData { planes: [plane(0), plane(1), plane(2)], spans: source.spans.clone() }
    }

    /// What the source's light is multiplied by over pixels, with what the rim adds.
    pub(super) fn with(&self, rim: Option<[Sheet; 3]>, of: &Grid) -> [Sheet; 3] {
        let grid = coarse(of);
        let width = grid.rect.width as usize;
        [0, 1, 2].map(|c| {
            let values = (0..grid.size().pixels() as usize).map(|i| {
                let place = grid.place((i % width) as f64, (i / width) as f64);
                let stops = self.0[c].at(of.within(place));
                let more = rim.as_ref().map_or(1.0, |s| s[c].get(place));
                stops.exp2() as f32 * more
            });
            Sheet { grid, values: values.collect() }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Rect;
    use crate::random::Random;

    const SIZE: Size = Size { width: 120, height: 96 };

    /// Stone in a light that differs by so many stops from place to place, with something dark before a part of it.
    fn stone(stops: impl Fn(f64, f64) -> f64, dark: std::ops::Range<usize>) -> LayerData {
        let mut random = Random::new(3);
        let (w, h) = (SIZE.width as usize, SIZE.height as usize);
        let mut plane = Vec::new();
        for p in 0..w * h {
            let root = 22_000.0 + 2_000.0 * random.normal();
            let lit = root * (stops((p % w) as f64, (p / w) as f64) / 2.0).exp2();
            plane.push(if dark.contains(&(p % w)) { 9_000 } else { lit as u16 });
        }
        LayerData { planes: [plane.clone(), plane.clone(), plane], spans: vec![(0, SIZE.width); h] }
    }

    #[test]
    fn a_lamps_light_is_found_around_what_stands_in_it() {
        let fell = |x: f64, y: f64| 1.1 - ((x - 60.0).powi(2) + (y - 40.0).powi(2)) / 9000.0;
        let (plate, source) = (stone(fell, 50..70), stone(|_, _| 0.0, 0..0));
        let light = Light::find(&plate, &source, SIZE).unwrap();
        let lit = light.lit(&source, SIZE);
        let sheets = light.with(None, &Grid::new(Rect::new(16, 8, SIZE.width, SIZE.height), 0));
        for (x, y) in [(60, 40), (55, 80), (10, 10), (110, 90)] {
            let p = y * SIZE.width as usize + x;
            let wanted = fell(x as f64, y as f64);
            let found = 2.0 * (f64::from(lit.planes[0][p]) / f64::from(source.planes[0][p])).log2();
            assert!((found - wanted).abs() < 0.05, "{found} for {wanted} at {x}, {y}");
            let sheet = f64::from(sheets[1].get(Point::new(x as f64 + 16.0, y as f64 + 8.0))).log2();
            assert!((sheet - wanted).abs() < 0.08, "{sheet} for {wanted} at {x}, {y}");
        }
    }

    #[test]
    fn a_little_light_other_stones_and_shade_here_and_there_are_none() {
        let source = stone(|_, _| 0.0, 0..0);
        let none = |plate: &LayerData| Light::find(plate, &source, SIZE).is_none();
        assert!(none(&stone(|x, _| 0.2 * x / 120.0, 0..0)));
        assert!(none(&stone(|x, y| if (x as i32 / 24 + y as i32 / 24) % 2 == 0 { 1.0 } else { 0.0 }, 0..0)));
        let mut other = source.clone();
        other.planes.iter_mut().for_each(|p| p.rotate_left(5000));
        assert!(none(&other));
    }
}
