//! A quadratic surface over a picture: slow changes that six numbers tell.

use super::{Point, Size};
use serde::{Deserialize, Serialize};

/// `c₀ + c₁u + c₂v + c₃u² + c₄uv + c₅v²`, with u and v from -1 to 1 over the picture.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Surface {
    size: Size,
    c: [f64; 6],
}

impl Surface {
    /// The surface that best fits weighted values at places, in the sense of least squares; `None` when they do not
    /// determine it.
    pub fn fit(size: Size, samples: &[(Point, f64, f64)]) -> Option<Self> {
        let (mut a, mut b) = ([[0.0; 6]; 6], [0.0; 6]);
        for &(p, value, weight) in samples {
            let basis = basis(size, p);
            for i in 0..6 {
                (0..6).for_each(|j| a[i][j] += weight * basis[i] * basis[j]);
                b[i] += weight * basis[i] * value;
            }
        }
        Some(Self { size, c: super::fit::solve(a, b)? })
    }

    /// The surface that most of the values lie on, by Tukey's weights (Beaton and Tukey 1974); `None` when they do not determine it.
    /// There must be some.
    pub fn robust(size: Size, samples: &[(Point, f64)]) -> Option<Self> {
        /// Least deviation that is believed.
        const LEAST_DEVIATION: f64 = 0.01;
        let plain: Vec<(Point, f64, f64)> = samples.iter().map(|&(p, v)| (p, v, 1.0)).collect();
        let mut found = Self::fit(size, &plain)?;
        for _ in 0..6 {
            let scale = (1.5 * found.left(samples)).max(LEAST_DEVIATION);
            let weight =
                |p: Point, v: f64| (1.0 - ((v - found.at(p)) / (4.0 * scale)).powi(2)).max(0.0).powi(2);
            let weighted: Vec<(Point, f64, f64)> =
                samples.iter().map(|&(p, v)| (p, v, weight(p, v))).collect();
            found = Self::fit(size, &weighted)?;
        }
        Some(found)
    }

    /// How far seven of ten values are from it at most; there must be some.
    pub fn left(&self, samples: &[(Point, f64)]) -> f64 {
        spread(samples.iter().map(|&(p, v)| v - self.at(p)))
    }

    /// The value at a place.
    pub fn at(&self, p: Point) -> f64 {
        basis(self.size, p).iter().zip(self.c).map(|(b, c)| b * c).sum()
    }

    /// Greatest less least value over a 9×9 grid.
    pub fn span(&self) -> f64 {
        let at = |i: u32, n: u32| f64::from(i) / 8.0 * f64::from(n);
        let values =
            (0..81).map(|k| self.at(Point::new(at(k % 9, self.size.width), at(k / 9, self.size.height))));
        let (low, high) = values.fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)));
        high - low
    }
}

/// What seven of ten values do not exceed, without their signs; there must be some.
pub(crate) fn spread(values: impl Iterator<Item = f64>) -> f64 {
    let mut v: Vec<f64> = values.map(f64::abs).collect();
    v.sort_unstable_by(f64::total_cmp);
    v[v.len() * 7 / 10]
}

fn basis(size: Size, p: Point) -> [f64; 6] {
    let unit = |v: f64, n: u32| 2.0 * (v + 0.5) / f64::from(n) - 1.0;
    let (u, v) = (unit(p.x, size.width), unit(p.y, size.height));
    [1.0, u, v, u * u, u * v, v * v]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_fit_recovers_its_own_surface(c in prop::array::uniform6(-2.0..2.0f64)) {
            let size = Size::new(300, 200);
            let truth = Surface { size, c };
            let places = (0..40).map(|k| Point::new(f64::from(k * 37 % 300), f64::from(k * 53 % 200)));
            let samples: Vec<(Point, f64, f64)> = places.map(|p| (p, truth.at(p), 1.0 + p.x)).collect();
            let found = Surface::fit(size, &samples).unwrap();
            prop_assert!(found.c.iter().zip(c).all(|(a, b)| (a - b).abs() < 1e-6));
        }
    }

    #[test]
    fn too_few_places_determine_nothing() {
        assert_eq!(Surface::fit(Size::new(9, 9), &[(Point::default(), 1.0, 1.0)]), None);
    }
}
