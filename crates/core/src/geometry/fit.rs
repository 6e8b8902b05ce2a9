//! Weighted least-squares fits of plane transforms to point correspondences.
//!
//! Shift, rigid and similarity have closed forms (Umeyama 1991); the homography is solved linearly in
//! normalised coordinates (Hartley 1997) and then polished by Gauss-Newton on the distance in pixels.
//! Cost: linear in the number of points.

use super::{Homography, Point};
use serde::{Deserialize, Serialize};

/// A pair of positions of the same thing, with the weight it has in a fit.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Correspondence {
    /// In frame coordinates.
    pub from: Point,
    /// In reference coordinates.
    pub to: Point,
    /// Not negative; zero means ignored.
    pub weight: f64,
}

/// Families of plane transforms, from few to many parameters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Model {
    /// Nothing moves.
    Identity,
    /// Two parameters.
    Shift,
    /// Shift and turn: three.
    Rigid,
    /// Shift, turn and zoom: four.
    Similarity,
    /// The full homography: eight.
    Perspective,
}

impl Model {
    /// Every family, from few to many parameters.
    pub const ALL: [Self; 5] =
        [Self::Identity, Self::Shift, Self::Rigid, Self::Similarity, Self::Perspective];

    /// Number of free parameters.
    pub fn parameters(self) -> usize {
        match self {
            Self::Identity => 0,
            Self::Shift => 2,
            Self::Rigid => 3,
            Self::Similarity => 4,
            Self::Perspective => 8,
        }
    }

    /// Fewest correspondences that determine it.
    pub fn minimum(self) -> usize {
        self.parameters().div_ceil(2)
    }
}

/// The transform of family `model` that best maps `from` to `to`, or `None` when the points do not determine it.
pub fn fit(model: Model, pairs: &[Correspondence]) -> Option<Homography> {
    let total: f64 = pairs.iter().map(|c| c.weight).sum();
    if model == Model::Identity {
        return Some(Homography::IDENTITY);
    }
    if pairs.iter().filter(|c| c.weight > 0.0).count() < model.minimum() || total <= 0.0 {
        return None;
    }
    let mean =
        |f: &dyn Fn(&Correspondence) -> f64| pairs.iter().map(|c| c.weight * f(c)).sum::<f64>() / total;
    let a = Point::new(mean(&|c| c.from.x), mean(&|c| c.from.y));
    let b = Point::new(mean(&|c| c.to.x), mean(&|c| c.to.y));
    match model {
        Model::Identity => Some(Homography::IDENTITY),
        Model::Shift => Some(Homography::shift(b.x - a.x, b.y - a.y)),
        Model::Rigid | Model::Similarity => {
            let dot = mean(&|c| (c.from.x - a.x) * (c.to.x - b.x) + (c.from.y - a.y) * (c.to.y - b.y));
            let cross = mean(&|c| (c.from.x - a.x) * (c.to.y - b.y) - (c.from.y - a.y) * (c.to.x - b.x));
            let var = mean(&|c| (c.from.x - a.x).powi(2) + (c.from.y - a.y).powi(2));
            let norm = dot.hypot(cross);
            if norm < 1e-12 || var < 1e-12 {
                return None;
            }
            let s = if model == Model::Rigid { 1.0 } else { norm / var };
            let (c, n) = (s * dot / norm, s * cross / norm);
            Some(Homography::new([
                c,
                -n,
                b.x - c * a.x + n * a.y,
                n,
                c,
                b.y - n * a.x - c * a.y,
                0.0,
                0.0,
                1.0,
            ]))
        }
        Model::Perspective => perspective(pairs, a, b, total),
    }
}

fn perspective(pairs: &[Correspondence], a: Point, b: Point, total: f64) -> Option<Homography> {
    let spread = |f: &dyn Fn(&Correspondence) -> f64| {
        (pairs.iter().map(|c| c.weight * f(c)).sum::<f64>() / total / 2.0).sqrt()
    };
    let sa = spread(&|c| c.from.distance(a).powi(2));
    let sb = spread(&|c| c.to.distance(b).powi(2));
    if sa < 1e-9 || sb < 1e-9 {
        return None;
    }
    let normal = |p: Point, m: Point, s: f64| Point::new((p.x - m.x) / s, (p.y - m.y) / s);
    let mut h = [1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0];
    // The first turn from the identity's denominators is the linear solution; two more make it geometric.
    for _ in 0..4 {
        let mut ata = [[0.0; 8]; 8];
        let mut atb = [0.0; 8];
        for c in pairs.iter().filter(|c| c.weight > 0.0) {
            let (p, q) = (normal(c.from, a, sa), normal(c.to, b, sb));
            let d = h[6] * p.x + h[7] * p.y + 1.0;
            if d.abs() < 1e-6 {
                return None;
            }
            let w = c.weight / (d * d);
            let rows = [
                ([p.x, p.y, 1.0, 0.0, 0.0, 0.0, -q.x * p.x, -q.x * p.y], q.x),
                ([0.0, 0.0, 0.0, p.x, p.y, 1.0, -q.y * p.x, -q.y * p.y], q.y),
            ];
            for (row, rhs) in rows {
                for i in 0..8 {
                    for j in 0..8 {
                        ata[i][j] += w * row[i] * row[j];
                    }
                    atb[i] += w * row[i] * rhs;
                }
            }
        }
        h = solve(ata, atb)?;
    }
    let from = Homography([1.0 / sa, 0.0, -a.x / sa, 0.0, 1.0 / sa, -a.y / sa, 0.0, 0.0, 1.0]);
    let to = Homography([sb, 0.0, b.x, 0.0, sb, b.y, 0.0, 0.0, 1.0]);
    let core = Homography([h[0], h[1], h[2], h[3], h[4], h[5], h[6], h[7], 1.0]);
    Some(to.after(&core).after(&from))
}

/// Gaussian elimination with row pivoting; `None` when the matrix is singular to working precision.
pub(crate) fn solve<const N: usize>(mut a: [[f64; N]; N], mut b: [f64; N]) -> Option<[f64; N]> {
    let scale = a.iter().flatten().fold(0.0f64, |m, v| m.max(v.abs()));
    for i in 0..N {
        let pivot = (i..N).max_by(|&r, &s| a[r][i].abs().total_cmp(&a[s][i].abs()))?;
        if a[pivot][i].abs() <= scale * 1e-13 {
            return None;
        }
        a.swap(i, pivot);
        b.swap(i, pivot);
        for r in i + 1..N {
            let f = a[r][i] / a[i][i];
            let row = a[i];
            for (x, y) in a[r].iter_mut().zip(row).skip(i) {
                *x -= f * y;
            }
            b[r] -= f * b[i];
        }
    }
    for i in (0..N).rev() {
        let known: f64 = (i + 1..N).map(|c| a[i][c] * b[c]).sum();
        b[i] = (b[i] - known) / a[i][i];
    }
    Some(b)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use proptest::prelude::*;

    fn grid(h: &Homography) -> Vec<Correspondence> {
        (0..20)
            .map(|i| Point::new(f64::from(i % 5) * 311.0, f64::from(i / 5) * 257.0))
            .map(|p| Correspondence { from: p, to: h.apply(p), weight: 1.0 + p.x / 900.0 })
            .collect()
    }

    proptest! {
        #[test]
        fn each_family_recovers_its_own_transforms(
            t in -0.2..0.2f64, s in 0.7..1.4f64, x in -200.0..200.0f64, y in -200.0..200.0f64,
            g in -4e-5..4e-5f64, h in -4e-5..4e-5f64
        ) {
            let turn = |s: f64, g: f64, h: f64| Homography::new(
                [s * t.cos(), -s * t.sin(), x, s * t.sin(), s * t.cos(), y, g, h, 1.0]);
            for (model, truth) in [
                (Model::Shift, Homography::shift(x, y)),
                (Model::Rigid, turn(1.0, 0.0, 0.0)),
                (Model::Similarity, turn(s, 0.0, 0.0)),
                (Model::Perspective, turn(s, g, h)),
            ] {
                let found = fit(model, &grid(&truth)).unwrap();
                prop_assert!(found.grid_distance(&truth, Size::new(1300, 800)) < 1e-5, "{model:?}");
            }
        }
    }

    #[test]
    fn points_on_a_line_do_not_determine_a_perspective() {
        let line: Vec<_> = (0..9)
            .map(|i| Point::new(f64::from(i) * 10.0, f64::from(i) * 20.0))
            .map(|p| Correspondence { from: p, to: p, weight: 1.0 })
            .collect();
        assert_eq!(fit(Model::Perspective, &line), None);
        assert_eq!(fit(Model::Shift, &[]), None);
    }
}
