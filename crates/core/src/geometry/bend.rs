//! A smooth displacement over a picture, for what no plane transform explains: depth seen from a moved camera, the
//! rest of a lens's distortion.
//!
//! Uniform cubic B-splines on a grid of control shifts (the free-form deformation of Rueckert et al. 1999): twice
//! continuously differentiable, so nothing tears at a grid line. It folds nowhere while neighbouring controls differ
//! by less than [`Bend::STEEPEST`] of their spacing (Choi and Lee 2000). Cost of one place: 16 products a coordinate,
//! four along a prepared row.

use super::{Point, Size};
use serde::{Deserialize, Serialize};

/// A displacement in pixels at every place of a picture; constant beyond its border.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Bend {
    /// The picture it lies over.
    size: Size,
    /// Control shifts across and down; three more than there are cells.
    grid: (usize, usize),
    /// Row by row, in pixels to the right and down.
    shifts: Vec<[f32; 2]>,
}

impl Bend {
    /// Greatest difference of neighbouring controls, as a share of their spacing, that surely folds nowhere.
    pub const STEEPEST: f64 = 0.4;

    /// A bend from its control shifts; `None` when their number does not fit the grid, or the grid is too small.
    pub fn new(size: Size, grid: (usize, usize), shifts: Vec<[f32; 2]>) -> Option<Self> {
        let whole = grid.0 >= 4 && grid.1 >= 4 && shifts.len() == grid.0 * grid.1;
        (whole && size.pixels() > 0).then_some(Self { size, grid, shifts })
    }

    /// The displacement at a place, in pixels.
    pub fn at(&self, p: Point) -> Point {
        self.row(p.y).at(p.x)
    }

    /// What all places of one row share.
    pub fn row(&self, y: f64) -> BendRow {
        let (first, weights) = taps(y, self.size.height, self.grid.1);
        let mut line = vec![[0.0f64; 2]; self.grid.0];
        for (k, w) in weights.iter().enumerate() {
            let controls = &self.shifts[(first + k) * self.grid.0..][..self.grid.0];
            for (sum, c) in line.iter_mut().zip(controls) {
                sum[0] += w * f64::from(c[0]);
                sum[1] += w * f64::from(c[1]);
            }
        }
        BendRow { width: self.size.width, line }
    }

    /// Root mean square displacement over a 16×16 grid, in pixels.
    pub fn strength(&self) -> f64 {
        let at = |i: u32, n: u32| (f64::from(i) + 0.5) / 16.0 * f64::from(n) - 0.5;
        let square = |p: Point| p.x * p.x + p.y * p.y;
        let sum: f64 = (0..256u32)
            .map(|k| square(self.at(Point::new(at(k % 16, self.size.width), at(k / 16, self.size.height)))))
            .sum();
        (sum / 256.0).sqrt()
    }
}

/// A [`Bend`] along one row.
pub struct BendRow {
    width: u32,
    line: Vec<[f64; 2]>,
}

impl BendRow {
    /// The displacement at a column, in pixels.
    pub fn at(&self, x: f64) -> Point {
        let (first, weights) = taps(x, self.width, self.line.len());
        let mut sum = [0.0; 2];
        for (w, c) in weights.iter().zip(&self.line[first..]) {
            sum[0] += w * c[0];
            sum[1] += w * c[1];
        }
        Point::new(sum[0], sum[1])
    }
}

/// The first of the four controls that matter at a place along a side, and their weights.
pub(crate) fn taps(v: f64, side: u32, controls: usize) -> (usize, [f64; 4]) {
    let cells = (controls - 3) as f64;
    let t = ((v + 0.5) / f64::from(side)).clamp(0.0, 1.0) * cells;
    let first = t.floor().min(cells - 1.0);
    let f = t - first;
    let (f2, f3, g) = (f * f, f * f * f, 1.0 - f);
    let weights = [
        g * g * g / 6.0,
        (3.0 * f3 - 6.0 * f2 + 4.0) / 6.0,
        (-3.0 * f3 + 3.0 * f2 + 3.0 * f + 1.0) / 6.0,
        f3 / 6.0,
    ];
    (first as usize, weights)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const SIZE: Size = Size { width: 300, height: 200 };

    proptest! {
        #[test]
        fn equal_controls_shift_everything_alike(x in -50.0..50.0f32, y in -50.0..50.0f32, u in -20.0..320.0f64, v in -20.0..220.0f64) {
            let bend = Bend::new(SIZE, (8, 6), vec![[x, y]; 48]).unwrap();
            let d = bend.at(Point::new(u, v));
            prop_assert!(d.distance(Point::new(f64::from(x), f64::from(y))) < 1e-4);
        }

        #[test]
        fn gentle_controls_never_fold(seed in any::<u64>()) {
            let mut random = crate::random::Random::new(seed);
            // Spacings are 60 and 66 px; differences stay below a fifth of that each way.
            let shifts = (0..48).map(|_| [0; 2].map(|_| random.within(-6.0, 6.0) as f32)).collect();
            let bend = Bend::new(SIZE, (8, 6), shifts).unwrap();
            let place = |x: f64, y: f64| { let d = bend.at(Point::new(x, y)); (x + d.x, y + d.y) };
            for y in 0..20 {
                for x in 0..30 {
                    let (u, v) = (f64::from(x) * 10.0, f64::from(y) * 10.0);
                    let (a, b, c) = (place(u, v), place(u + 1.0, v), place(u, v + 1.0));
                    prop_assert!((b.0 - a.0) * (c.1 - a.1) - (b.1 - a.1) * (c.0 - a.0) > 0.0);
                }
            }
        }
    }

    #[test]
    fn a_grid_of_the_wrong_length_is_refused() {
        assert_eq!(Bend::new(SIZE, (5, 5), vec![[0.0; 2]; 24]), None);
        assert_eq!(Bend::new(SIZE, (3, 5), vec![[0.0; 2]; 15]), None);
    }
}
