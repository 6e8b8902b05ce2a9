//! What was brushed by hand in a frame: there the frame stays, or there the patch lies; and the same followed to the frames beside it.

use super::area::Area;
use crate::geometry::Point;
use serde::{Deserialize, Serialize};

/// A stroke in one frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = ClipStroke))]
pub struct Stroke {
    /// Number of the frame, from 0.
    pub frame: u32,
    /// Whether the frame stays there, since somebody is in front; else the patch lies there.
    pub front: bool,
    /// Half of the brush's width, in pixels.
    pub radius: f64,
    /// Where it went, in pixels of the frame as it is coded.
    pub path: Vec<Point>,
}

impl Stroke {
    /// Whether its numbers are within reason.
    pub fn is_valid(&self) -> bool {
        let finite = |p: &Point| p.x.abs() < 1e5 && p.y.abs() < 1e5;
        (0.5..=2000.0).contains(&self.radius)
            && (1..=1000).contains(&self.path.len())
            && self.path.iter().all(finite)
    }

    /// The same elsewhere in another frame.
    pub fn moved(&self, frame: u32, (right, down): (f64, f64)) -> Self {
        let path = self.path.iter().map(|p| Point::new(p.x + right, p.y + down)).collect();
        Self { frame, path, ..self.clone() }
    }

    /// Where it covers a pixel, 0..=1: its border fades over two pixels.
    fn at(&self, p: Point) -> f32 {
        let near = |ends: &[Point]| -> f64 {
            let (a, b) = (ends[0], ends[ends.len() - 1]);
            let (dx, dy) = (b.x - a.x, b.y - a.y);
            let length = dx * dx + dy * dy;
            let t = if length > 0.0 { ((p.x - a.x) * dx + (p.y - a.y) * dy) / length } else { 0.0 };
            let t = t.clamp(0.0, 1.0);
            (p.x - a.x - t * dx).hypot(p.y - a.y - t * dy)
        };
        let far = match self.path.len() {
            1 => near(&self.path),
            _ => self.path.windows(2).map(near).fold(f64::INFINITY, f64::min),
        };
        ((self.radius - far) / 2.0 + 0.5).clamp(0.0, 1.0) as f32
    }

    /// Columns and rows that it may reach: first and last.
    fn reach(&self) -> [f64; 4] {
        let mut all = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
        let more = self.radius + 1.0;
        for p in &self.path {
            all = [
                all[0].min(p.x - more),
                all[1].min(p.y - more),
                all[2].max(p.x + more),
                all[3].max(p.y + more),
            ];
        }
        all
    }

    /// Has its say on how much of each pixel of a part is somebody in front.
    pub(super) fn paint(&self, area: &Area, front: &mut [f32]) {
        let (left, top, w) = (area.part.x as f64, area.part.y as f64, area.part.width as usize);
        let [x0, y0, x1, y1] = self.reach();
        let on = |v: f64, n: u32| v.clamp(0.0, f64::from(n)) as usize;
        let wanted = if self.front { 1.0 } else { 0.0 };
        for y in on(y0 - top, area.part.height)..on(y1 - top + 1.0, area.part.height) {
            for x in on(x0 - left, area.part.width)..on(x1 - left + 1.0, area.part.width) {
                let share = self.at(Point::new(x as f64 + left, y as f64 + top));
                let front = &mut front[y * w + x];
                *front += share * (wanted - *front);
            }
        }
    }
}

/// Where what lies under a stroke goes from one frame to another, in brightness of the whole frames with rows of `width`: the shift
/// with the least difference, to half a pixel; `None` where it is lost. Block matching over so many pixels to each side.
pub fn carried(stroke: &Stroke, (from, to): (&[u16], &[u16]), width: usize) -> Option<(f64, f64)> {
    /// Pixels to each side that are searched.
    const FAR: i64 = 12;
    /// Samples that are compared at most.
    const ASKED: usize = 600;
    let height = from.len() / width.max(1);
    let [x0, y0, x1, y1] = stroke.reach().map(|v| v.round() as i64);
    let inside = |x: i64, y: i64| (0..width as i64).contains(&x) && (0..height as i64).contains(&y);
    let mut places: Vec<(i64, i64)> = (y0.max(0)..=y1.min(height as i64 - 1))
        .flat_map(|y| (x0.max(0)..=x1.min(width as i64 - 1)).map(move |x| (x, y)))
        .filter(|&(x, y)| stroke.at(Point::new(x as f64, y as f64)) > 0.5)
        .collect();
    let step = places.len().div_ceil(ASKED).max(1);
    places = places.into_iter().step_by(step).collect();
    if places.len() < 12 {
        return None;
    }
    let off = |dx: i64, dy: i64| -> f64 {
        let mut all: Vec<f64> = Vec::with_capacity(places.len());
        for &(x, y) in &places {
            if inside(x + dx, y + dy) {
                let a = from[y as usize * width + x as usize];
                let b = to[(y + dy) as usize * width + (x + dx) as usize];
                all.push(f64::from(a.abs_diff(b)));
            }
        }
        // Half of it must still be in the picture.
        if all.len() < places.len() / 2 { f64::INFINITY } else { all.iter().sum::<f64>() / all.len() as f64 }
    };
    let (mut best, mut least) = ((0, 0), f64::INFINITY);
    for dy in -FAR..=FAR {
        for dx in -FAR..=FAR {
            // Among equals the nearest.
            let cost = off(dx, dy) * (1.0 + 0.002 * (dx as f64).hypot(dy as f64));
            if cost < least {
                (best, least) = ((dx, dy), cost);
            }
        }
    }
    // What is as like where it was, but for grain, has not moved.
    let still = off(0, 0);
    if least > 0.6 * still {
        (best, least) = ((0, 0), still);
    }
    // Lost where nothing is much like it: as unlike as its own pixels are to each other.
    let mean = places.iter().map(|&(x, y)| f64::from(from[y as usize * width + x as usize])).sum::<f64>()
        / places.len() as f64;
    let own = places
        .iter()
        .map(|&(x, y)| (f64::from(from[y as usize * width + x as usize]) - mean).abs())
        .sum::<f64>()
        / places.len() as f64;
    (least < own.max(6.0)).then_some((best.0 as f64, best.1 as f64))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn stroke(path: &[(f64, f64)], radius: f64, front: bool) -> Stroke {
        Stroke { frame: 3, front, radius, path: path.iter().map(|&(x, y)| Point::new(x, y)).collect() }
    }

    #[test]
    fn a_stroke_covers_what_it_went_over_and_nothing_else() {
        let size = crate::geometry::Size::new(120, 90);
        let mask: Vec<f32> =
            (0..120 * 90).map(|p| f32::from(u8::from((50..60).contains(&(p % 120))))).collect();
        let area = Area::new(&mask, size, (1, 1)).unwrap();
        let w = area.part.width as usize;
        let at = |x: i64, y: i64| (y - area.part.y) as usize * w + (x - area.part.x) as usize;
        let mut front = vec![0.0; area.part.size().pixels() as usize];
        stroke(&[(52.0, 20.0), (52.0, 60.0)], 4.0, true).paint(&area, &mut front);
        assert!(front[at(52, 40)] == 1.0 && front[at(55, 40)] == 1.0 && front[at(58, 40)] == 0.0);
        stroke(&[(52.0, 40.0)], 3.0, false).paint(&area, &mut front);
        assert!(front[at(52, 40)] == 0.0 && front[at(52, 50)] == 1.0);
        assert!(!stroke(&[], 3.0, true).is_valid() && !stroke(&[(f64::NAN, 0.0)], 3.0, true).is_valid());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn what_moves_is_followed(dx in -9i64..9, dy in -9i64..9, seed in 1u64..500) {
            let (w, h) = (90usize, 70usize);
            let scene = |x: i64, y: i64| {
                60 + crate::random::Random::new(seed ^ ((x as u64 & 255) << 20) ^ ((y as u64 & 255) << 40)).below(97) as u16
            };
            let thing = |x: i64, y: i64| (30..48).contains(&x) && (25..45).contains(&y);
            let frame = |ox: i64, oy: i64| -> Vec<u16> {
                (0..w * h).map(|p| {
                    let (x, y) = ((p % w) as i64, (p / w) as i64);
                    if thing(x - ox, y - oy) { scene(x - ox, y - oy) } else { 90 }
                }).collect()
            };
            let stroke = stroke(&[(38.0, 32.0), (38.0, 38.0)], 5.0, true);
            let found = carried(&stroke, (&frame(0, 0), &frame(dx, dy)), w);
            prop_assert_eq!(found, Some((dx as f64, dy as f64)));
        }
    }
}
