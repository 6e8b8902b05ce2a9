//! Plain backdrops: paper, a wall, clear sky, whose tone goes slowly from one side to the other. Nothing on them is made up but grain:
//! the trend of their tone is taken off, what is left is copied, and the trend goes on through the hole.
//!
//! A backdrop is plain where a quadratic surface, fitted robustly to a ring around the hole, leaves nothing but grain.
//! Cost: some thousand places in the fit, and a pass over the picture.

use super::Ground;
use crate::geometry::{Point, Surface};

/// Share of the hole's longer side that the ring is wide, and pixels that it is at least and at most.
const RING: (f64, f64, f64) = (0.5, 24.0, 160.0);
/// Pixels along a side of blocks whose means show nothing but the trend.
const BLOCK: usize = 8;
/// Root codes that such means may be off by, seven of ten and all but one in fifty.
const OFF: (f64, f64) = (160.0, 700.0);
/// Deviation of grain at most: what is rougher has texture.
const GRAIN: f64 = 900.0;
/// Parts of the way around a hole, all of which the ring must have.
const PARTS: usize = 12;
/// Places of the fit, about.
const PLACES: usize = 4000;

/// The trend of a plain backdrop.
pub(super) struct Plain {
    surfaces: [Surface; 3],
    /// What is left of the tone when the trend is off.
    level: [f64; 3],
    /// What may be copied: the ring.
    ring: Vec<bool>,
    width: usize,
}

impl Plain {
    /// That of a picture with a hole; `None` where it is not plain, or not known all around.
    pub(super) fn of(ground: &Ground<'_>) -> Option<Self> {
        let (w, h) = (ground.size.width as usize, ground.size.height as usize);
        let place = |p: usize| Point::new((p % w) as f64, (p / w) as f64);
        let mut rows = (0..h).filter(|y| ground.hole[y * w..][..w].contains(&true));
        let top = rows.next()?;
        let bottom = rows.next_back().unwrap_or(top);
        let columns = ground.hole[top * w..(bottom + 1) * w].chunks(w);
        let left = columns.clone().filter_map(|row| row.iter().position(|v| *v)).min()?;
        let right = columns.filter_map(|row| row.iter().rposition(|v| *v)).max()?;
        let reach = RING.0 * (right - left).max(bottom - top) as f64;
        let reach = reach.clamp(RING.1, RING.2) as usize;
        let set = |list: &[bool], p: usize| list.get(p).is_some_and(|s| *s);
        let (across, down) = (
            left.saturating_sub(reach)..(right + reach + 1).min(w),
            top.saturating_sub(reach)..(bottom + reach + 1).min(h),
        );
        // What lies right beside the hole may have some of its blur.
        let in_ring = |x: usize, y: usize| {
            let p = y * w + x;
            let beside = |dx: i64, dy: i64| {
                let (u, v) = (x as i64 + dx, y as i64 + dy);
                let inside = (0..w as i64).contains(&u) && (0..h as i64).contains(&v);
                inside && ground.hole[v as usize * w + u as usize]
            };
            let near = [(0, 0), (2, 0), (-2, 0), (0, 2), (0, -2), (2, 2), (-2, 2), (2, -2), (-2, -2)];
            !set(ground.void, p) && !set(ground.barred, p) && !near.iter().any(|(dx, dy)| beside(*dx, *dy))
        };
        let step = ((across.len() * down.len() / PLACES) as f64).sqrt().max(1.0) as usize;
        let some: Vec<usize> = down
            .clone()
            .step_by(step)
            .flat_map(|y| across.clone().step_by(step).map(move |x| (x, y)))
            .filter(|&(x, y)| in_ring(x, y))
            .map(|(x, y)| y * w + x)
            .collect();
        let middle = Point::new((left + right) as f64 / 2.0, (top + bottom) as f64 / 2.0);
        let mut around = [0usize; PARTS];
        for &p in &some {
            let turn = ((p / w) as f64 - middle.y).atan2((p % w) as f64 - middle.x) / std::f64::consts::TAU;
            around[((turn + 0.5) * PARTS as f64) as usize % PARTS] += 1;
        }
        if around.iter().any(|count| count * PARTS * 4 < some.len()) || some.len() < 400 {
            return None;
        }
        let mut fitted = Vec::new();
        for plane in ground.planes {
            let samples: Vec<(Point, f64)> = some.iter().map(|&p| (place(p), f64::from(plane[p]))).collect();
            let surface = Surface::robust(ground.size, &samples)?;
            let grain = 0.96 * surface.left(&samples);
            if grain > GRAIN {
                return None;
            }
            let level = some.iter().map(|&p| surface.at(place(p))).sum::<f64>() / some.len() as f64;
            fitted.push((surface, level));
        }
        let [a, b, c]: [(Surface, f64); 3] = fitted.try_into().ok()?;
        let (surfaces, level) = ([a.0, b.0, c.0], [a.1, b.1, c.1]);
        let mut ring = vec![false; w * h];
        for y in down {
            across.clone().filter(|&x| in_ring(x, y)).for_each(|x| ring[y * w + x] = true);
        }
        let found = Self { surfaces, level, ring, width: w };
        found.holds(ground).then_some(found)
    }

    /// Whether means of blocks of the ring differ from the trend by next to nothing.
    fn holds(&self, ground: &Ground<'_>) -> bool {
        let (w, h) = (self.width, ground.hole.len() / self.width.max(1));
        let mut off = Vec::new();
        for top in (0..h.saturating_sub(BLOCK)).step_by(BLOCK) {
            for left in (0..w.saturating_sub(BLOCK)).step_by(BLOCK) {
                let all = (0..BLOCK * BLOCK).map(|k| (top + k / BLOCK) * w + left + k % BLOCK);
                if !all.clone().all(|p| self.ring[p]) {
                    continue;
                }
                let worst = (0..3).map(|c| {
                    let mean: f64 = all.clone().map(|p| self.flat(ground, c, p)).sum();
                    (mean / (BLOCK * BLOCK) as f64 - self.level[c]).abs()
                });
                off.push(worst.fold(0.0, f64::max));
            }
        }
        if off.len() < 2 * PARTS {
            return false;
        }
        off.sort_by(f64::total_cmp);
        off[off.len() * 7 / 10] <= OFF.0 && off[off.len() * 49 / 50] <= OFF.1
    }

    fn trend(&self, c: usize, p: usize) -> f64 {
        let place = Point::new((p % self.width) as f64, (p / self.width) as f64);
        self.surfaces[c].at(place) - self.level[c]
    }

    fn flat(&self, ground: &Ground<'_>, c: usize, p: usize) -> f64 {
        f64::from(ground.planes[c][p]) - self.trend(c, p)
    }

    /// The picture without its trend, as far as it is of use.
    pub(super) fn flattened(&self, ground: &Ground<'_>) -> [Vec<u16>; 3] {
        std::array::from_fn(|c| {
            let flat = |p: usize| if self.ring[p] { self.flat(ground, c, p) } else { self.level[c] };
            (0..ground.hole.len()).map(|p| flat(p).round().clamp(0.0, 65535.0) as u16).collect()
        })
    }

    /// What must not be copied: all but the ring.
    pub(super) fn barred(&self) -> Vec<bool> {
        self.ring.iter().map(|r| !r).collect()
    }

    /// The trend again on what was filled; outside the hole the picture stays as it is.
    pub(super) fn restored(&self, ground: &Ground<'_>, mut planes: [Vec<u16>; 3]) -> [Vec<u16>; 3] {
        for (c, plane) in planes.iter_mut().enumerate() {
            for (p, v) in plane.iter_mut().enumerate() {
                *v = match ground.hole[p] {
                    true => (f64::from(*v) + self.trend(c, p)).round().clamp(0.0, 65535.0) as u16,
                    false => ground.planes[c][p],
                };
            }
        }
        planes
    }
}
