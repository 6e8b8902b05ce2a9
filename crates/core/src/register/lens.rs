//! The set's lens: how far it bends lines, told by frames that were moved against each other.
//!
//! One number: a point at radius r (1 at the corner) is seen at `r·(1 + k·r²)` (the first term of Brown 1966). Frames
//! related by a homography before the lens are no longer so after it, and what a homography then leaves follows from
//! k alone; so k is the one that leaves least over all frames (a line search with parabolic steps, each trial
//! a fit a frame). It is believed only when it takes away a clear part of what is left. The reference is never moved:
//! each frame gets the bend that the lens makes between the two.

use super::surface::{self, Sample};
use crate::geometry::{Bend, Correspondence, Homography, Model, Point, Size, fit};

/// Greatest k looked for; a wide lens without correction has about 0.05.
const GREATEST: f64 = 0.12;
/// k must leave less than this share of the squared residuals.
const WORTH: f64 = 0.55;
/// Residuals below this, in pixels, show no lens.
const FINE: f64 = 0.1;
/// Residuals beyond this many pixels are cut off.
const CUT: f64 = 4.0;

/// Radial distortion about the middle of pictures of one size.
#[derive(Debug, Clone, Copy)]
pub(super) struct Lens {
    size: Size,
    /// Displacement at the corner, as a share of the half diagonal.
    pub k: f64,
}

impl Lens {
    fn radial(&self, p: Point, scale: impl Fn(f64) -> f64) -> Point {
        let (cx, cy) = ((f64::from(self.size.width) - 1.0) / 2.0, (f64::from(self.size.height) - 1.0) / 2.0);
        let half = self.size.diagonal() / 2.0;
        let (x, y) = (p.x - cx, p.y - cy);
        let s = scale((x * x + y * y) / (half * half));
        Point::new(cx + x * s, cy + y * s)
    }

    /// Where the lens shows what a perfect one shows at `p`.
    fn bent(&self, p: Point) -> Point {
        self.radial(p, |r2| 1.0 + self.k * r2)
    }

    /// Where a perfect lens shows what this one shows at `p`.
    fn straight(&self, p: Point) -> Point {
        self.radial(p, |seen| {
            // r(1 + k r²) = ρ by Newton's steps from r = ρ.
            let rho = seen.sqrt();
            if rho < 1e-9 {
                return 1.0;
            }
            let mut r = rho;
            for _ in 0..6 {
                r -= (r * (1.0 + self.k * r * r) - rho) / (1.0 + 3.0 * self.k * r * r);
            }
            r / rho
        })
    }

    fn straightened(&self, places: &[Correspondence]) -> Vec<Correspondence> {
        places
            .iter()
            .map(|c| Correspondence { from: self.straight(c.from), to: self.straight(c.to), ..*c })
            .collect()
    }

    /// Squared residuals that this lens leaves over all frames.
    fn cost(&self, frames: &[&[Correspondence]]) -> f64 {
        let one = |places: &&[Correspondence]| {
            let straight = self.straightened(places);
            let Some(h) = fit(Model::Perspective, &straight) else { return 0.0 };
            let left = |c: &Correspondence| h.apply(c.from).distance(c.to).min(CUT).powi(2);
            straight.iter().map(left).sum::<f64>()
        };
        frames.iter().map(one).sum()
    }

    /// The bend over the reference that, before the inverse of `transform`, leads to where a frame shows a place.
    pub(super) fn bend(&self, places: &[Correspondence], transform: &Homography) -> Option<Bend> {
        let back = fit(Model::Perspective, &self.straightened(places))?.inverse()?;
        let at = |i: u32, n: u32| f64::from(i) / 24.0 * f64::from(n);
        let samples: Vec<Sample> = (0..=24u32)
            .flat_map(|j| (0..=24u32).map(move |i| (i, j)))
            .map(|(i, j)| Point::new(at(i, self.size.width), at(j, self.size.height)))
            .map(|p| {
                let seen = transform.apply(self.bent(back.apply(self.straight(p))));
                Sample { at: p, shift: [seen.x - p.x, seen.y - p.y], weight: 1.0, firm: false }
            })
            .collect();
        surface::through(self.size, &samples)
    }
}

/// The lens that the places of all frames tell, each list of one frame of `size`; `None` when they tell none.
pub(super) fn estimate(size: Size, frames: &[&[Correspondence]]) -> Option<Lens> {
    if frames.is_empty() {
        return None;
    }
    let places: usize = frames.iter().map(|f| f.len()).sum();
    let cost = |k: f64| Lens { size, k }.cost(frames);
    let none = cost(0.0);
    if (none / places.max(1) as f64).sqrt() < FINE {
        return None;
    }
    let step = GREATEST / 6.0;
    let (mut k, mut least) = (0.0, none);
    for i in -6..=6 {
        let c = cost(f64::from(i) * step);
        if c < least {
            (k, least) = (f64::from(i) * step, c);
        }
    }
    let mut reach = step;
    for _ in 0..9 {
        reach *= 0.5;
        for candidate in [k - reach, k + reach] {
            let c = cost(candidate);
            if c < least {
                (k, least) = (candidate, c);
            }
        }
    }
    (least < WORTH * none && k.abs() < GREATEST).then_some(Lens { size, k })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;

    const SIZE: Size = Size { width: 1200, height: 800 };

    /// Places of two frames, turned and shifted against each other behind a lens.
    fn places(k: f64, noise: f64, seed: u64) -> Vec<Correspondence> {
        let lens = Lens { size: SIZE, k };
        let h = Homography::new([0.999, -0.03, 55.0, 0.03, 0.999, -20.0, 1e-5, -8e-6, 1.0]);
        let mut random = Random::new(seed);
        (0..220)
            .map(|_| {
                let p = Point::new(random.within(0.0, 1200.0), random.within(0.0, 800.0));
                let q = h.apply(p);
                let mut off =
                    |p: Point| Point::new(p.x + noise * random.normal(), p.y + noise * random.normal());
                Correspondence { from: off(lens.bent(p)), to: lens.bent(q), weight: 1.0 }
            })
            .collect()
    }

    #[test]
    fn straightening_undoes_bending() {
        for k in [-0.08, 0.03, 0.1] {
            let lens = Lens { size: SIZE, k };
            for p in [Point::new(0.0, 0.0), Point::new(1190.0, 20.0), Point::new(599.5, 399.5)] {
                assert!(lens.straight(lens.bent(p)).distance(p) < 1e-6);
            }
        }
    }

    #[test]
    fn the_lens_is_found_and_its_bend_leads_to_the_place() {
        let (a, b) = (places(-0.05, 0.05, 1), places(-0.05, 0.05, 2));
        let lens = estimate(SIZE, &[&a, &b]).unwrap();
        assert!((lens.k + 0.05).abs() < 0.003, "{}", lens.k);
        let plane = fit(Model::Perspective, &a).unwrap();
        let bend = lens.bend(&a, &plane).unwrap();
        for c in places(-0.05, 0.0, 3) {
            let d = bend.at(c.to);
            let seen = plane.inverse().unwrap().apply(Point::new(c.to.x + d.x, c.to.y + d.y));
            assert!(seen.distance(c.from) < 0.15, "{:?}", seen.distance(c.from));
        }
    }

    #[test]
    fn a_good_lens_is_not_repaired() {
        let a = places(0.0, 0.2, 5);
        assert!(estimate(SIZE, &[&a]).is_none());
    }
}
