//! The evidence of surroundings: what is behind a changed place goes on beside it, and what stands before it mostly does not.
//!
//! Each pixel of a changed place is compared with the nearest pixels outside it along sixteen directions, in the same frame: shared
//! sampling, as mattes are found (Gastal and Oliveira 2010). How far the nearest of them is in colour and place is a distance a
//! frame, and the frame whose distance is the least is the clear one. Unlike a contour it tells of every pixel by itself, so that
//! movers of different frames that have grown together come apart; things in the colours of what is beside them fool it. So it does not
//! speak against frames that agree, and where there are many moments it counts only by edges that come and go, and as few agree there.
//! Cost: sixteen steps a changed pixel and frame, and a byte each.

use super::costs::{Cost, Costs};
use super::field::{Field, SAME};
use super::votes::{FEW_FRAMES, weight_of, widened};
use crate::pixel::blur::boxed;
use rayon::prelude::*;

/// What evidence that is certain costs.
const WEIGHT: f32 = 10.0;
/// Half of the directions, as columns and rows; the others are their opposites.
const DIRECTIONS: [(i64, i64); 8] = [(1, 0), (1, 1), (0, 1), (-1, 1), (2, 1), (1, 2), (-1, 2), (-2, 1)];
/// Deviations that the picture's width counts as: what is far away tells less.
const FAR: f32 = 60.0;
/// Deviations by which distances may differ and tell nothing.
const EVEN: f32 = 2.3;
/// Distance up to which what several show goes on outside, in quarters of a deviation.
const GOES_ON: u8 = 24;
/// Squared steps of one frame that are an edge, and of most others that are none, where something with an edge comes and goes; and pixels
/// around it in which surroundings count although there are many moments: of cloud, which has none, they would make shreds.
const EDGE: (f32, f32) = (16.0 * 16.0, 4.0 * 4.0);
const AROUND_EDGES: usize = 5;
/// Fewer votes than these leave no more to the surroundings than these do.
const LEAST_VOTES: f32 = 3.0;
/// What it costs to stand alone where others agree.
const ALONE: f32 = 5.0;
/// Pixels to each side over which two must be the same in the mean, and how far one of these may differ for it.
const AROUND: usize = 2;
const FARTHEST_CHI2: f32 = 100.0;
/// Distances are kept in quarters of a deviation, up to this; [`UNKNOWN`] where nothing outside is seen.
const UNIT: f32 = 4.0;
const FARTHEST: u8 = 254;
const UNKNOWN: u8 = 255;
const NOT_CHANGED: u32 = u32::MAX;

/// How far each frame's changed pixels are from what is outside.
pub(super) struct Surroundings {
    /// Frame after frame, a distance a changed pixel.
    apart: Vec<Vec<u8>>,
    /// The changed pixels.
    places: Vec<u32>,
    /// Which of the changed pixels each pixel is; [`NOT_CHANGED`] for the others.
    which: Vec<u32>,
    /// What the number of moments leaves them to count, 0..=1.
    few: f32,
}

impl Surroundings {
    /// Looks around the changed places; `few` is what votes of that many moments leave, 0..=1.
    pub(super) fn find(field: &Field, changed: &[bool], few: f32) -> Self {
        let places: Vec<usize> = (0..changed.len()).filter(|&p| changed[p]).collect();
        let apart = apart(field, (changed, &places));
        let mut which = vec![NOT_CHANGED; changed.len()];
        places.iter().zip(0..).for_each(|(&p, i)| which[p] = i);
        let places = places.into_iter().map(|p| p as u32).collect();
        Self { apart, places, which, few }
    }

    /// Adds the evidence to the costs, for as much as the votes of each place leave. It does not speak against those that several moments show, and who stands alone beside them
    /// pays for it: only evidence of the very place outvotes two that agree.
    pub(super) fn add(&self, field: &Field, moments: &[u32], costs: &mut Costs) {
        let agreed = self.agreed(field, moments);
        let edged = self.edged(field);
        let least: Vec<(u8, bool)> = (0..self.places.len())
            .into_par_iter()
            .map(|i| {
                let all = || self.apart.iter().map(|apart| apart[i]);
                let of_agreed = all().zip(&agreed).filter(|(_, agreed)| agreed[i]).map(|(apart, _)| apart);
                of_agreed.min().map_or_else(|| (all().min().unwrap_or(UNKNOWN), false), |least| (least, true))
            })
            .collect();
        let Costs { planes, votes, .. } = costs;
        planes.par_iter_mut().zip(&self.apart).zip(&agreed).for_each(|((plane, apart), agreed)| {
            for (((&p, &own), &agreed), &(least, outvoted)) in
                self.places.iter().zip(apart).zip(agreed).zip(&least)
            {
                let cost = &mut plane[p as usize];
                if *cost < Cost::NOWHERE {
                    let alone = if outvoted && !agreed { ALONE } else { 0.0 };
                    let left = 1.0 - weight_of((f32::from(votes[p as usize]) / Costs::VOTE).max(LEAST_VOTES));
                    let left = if edged[p as usize] { left.max(self.few) } else { self.few };
                    let worse = WEIGHT * worse(own, least).max(0.0);
                    *cost = Cost::of(cost.value() + left * worse + self.few * alone);
                }
            }
        });
    }

    /// Where something with an edge comes or goes near by.
    fn edged(&self, field: &Field) -> Vec<bool> {
        let comes = |&p: &u32| {
            let p = p as usize;
            field.beside(p).into_iter().take(2).flatten().any(|q| {
                let reached =
                    || (0..self.apart.len()).filter(|&k| field.covered(k, p) && field.covered(k, q));
                let steps = || reached().map(|k| field.step_square(k, p, q));
                steps().any(|step| step > EDGE.0)
                    && 2 * steps().filter(|step| *step > EDGE.1).count() < reached().count()
            })
        };
        let mut edges = vec![false; field.pixels()];
        let found: Vec<u32> = self.places.par_iter().copied().filter(comes).collect();
        found.into_iter().for_each(|p| edges[p as usize] = true);
        widened(&edges, (field.width, field.height), AROUND_EDGES)
    }

    /// For each frame, at which of the changed pixels it shows the same as a frame of another moment does, over a few pixels, and what
    /// goes on right outside.
    fn agreed(&self, field: &Field, moments: &[u32]) -> Vec<Vec<bool>> {
        let n = self.apart.len();
        let of = |k: usize| {
            let mut agreed = vec![false; self.places.len()];
            let mut chi2 = vec![0.0; field.pixels()];
            let asked = self.few > 0.0 && n <= FEW_FRAMES;
            for j in (0..n).filter(|&j| asked && moments[j] != moments[k]) {
                field.chi2_row(j, k, 0, &mut chi2);
                chi2.iter_mut().for_each(|chi2| *chi2 = chi2.min(FARTHEST_CHI2));
                let mean = boxed(&chi2, field.width, field.height, AROUND);
                for ((agreed, &p), apart) in agreed.iter_mut().zip(&self.places).zip(&self.apart[k]) {
                    let p = p as usize;
                    *agreed |=
                        mean[p] < SAME && *apart <= GOES_ON && field.covered(j, p) && field.covered(k, p);
                }
            }
            agreed
        };
        (0..n).into_par_iter().map(of).collect()
    }

    /// How far frame `k` is from what is outside at a pixel, in deviations; `None` where nothing outside is seen.
    pub(super) fn apart(&self, k: usize, p: usize) -> Option<f32> {
        Some(self.at(k, p)).filter(|apart| *apart != UNKNOWN).map(|apart| f32::from(apart) / UNIT)
    }

    /// Forgets the distances where the votes leave nothing to them.
    pub(super) fn spend(&mut self) {
        if self.few == 0.0 {
            (self.apart, self.places, self.which) = (Vec::new(), Vec::new(), Vec::new());
        }
    }

    fn at(&self, k: usize, p: usize) -> u8 {
        match self.which[p] {
            NOT_CHANGED => UNKNOWN,
            place => self.apart[k][place as usize],
        }
    }

    /// By how much worse the surroundings explain frame `a` than frame `b` at a pixel, -1..=1, as far as they count; 0 where they
    /// tell nothing.
    pub(super) fn against(&self, a: usize, b: usize, p: usize) -> f32 {
        if self.few == 0.0 { 0.0 } else { self.few * worse(self.at(a, p), self.at(b, p)) }
    }
}

/// By how much a distance is worse than another, -1..=1.
fn worse(own: u8, other: u8) -> f32 {
    if own == UNKNOWN || other == UNKNOWN {
        return 0.0;
    }
    farther(f32::from(own) / UNIT, f32::from(other) / UNIT)
}

/// The same of distances in deviations.
pub(super) fn farther(own: f32, other: f32) -> f32 {
    (own - other) / (own + other + EVEN)
}

/// Distances of each frame's changed pixels, those of `places`, which are in order, one each.
fn apart(field: &Field, (changed, places): (&[bool], &[usize])) -> Vec<Vec<u8>> {
    let (w, h) = (field.width as i64, field.height as i64);
    let far = (FAR / field.width as f32).powi(2);
    // Squared distances, and how many steps along the direction the first pixel outside is, 0 where none is.
    let mut least = vec![vec![f32::INFINITY; places.len()]; field.count()];
    let mut steps = vec![0u16; field.pixels()];
    let mut outside = vec![0u16; places.len()];
    for (dx, dy) in DIRECTIONS.into_iter().flat_map(|(dx, dy)| [(dx, dy), (-dx, -dy)]) {
        let mut step = |i: usize, p: usize| {
            let (x, y) = ((p % field.width) as i64 - dx, (p / field.width) as i64 - dy);
            let inside = x >= 0 && y >= 0 && x < w && y < h;
            let from = if inside { (y * w + x) as usize } else { p };
            steps[p] = match (inside, changed[from], steps[from]) {
                (false, ..) | (true, true, 0) => 0,
                (true, true, steps) => steps + 1,
                (true, false, _) => 1,
            };
            outside[i] = steps[p];
        };
        // Whatever it goes on from has been gone through.
        if dy > 0 || dy == 0 && dx > 0 {
            places.iter().enumerate().for_each(|(i, &p)| step(i, p));
        } else {
            places.iter().enumerate().rev().for_each(|(i, &p)| step(i, p));
        }
        let (back, way) = ((dy * w + dx) as isize, far * (dx * dx + dy * dy) as f32);
        least.par_iter_mut().enumerate().for_each(|(k, least)| {
            for ((least, &p), &steps) in least.iter_mut().zip(places).zip(&outside) {
                let along = way * f32::from(steps).powi(2);
                if steps == 0 || along >= *least {
                    continue;
                }
                let q = p.wrapping_add_signed(-back * steps as isize);
                if field.covered(k, p) && field.covered(k, q) {
                    *least = least.min(field.step_square(k, p, q) + along);
                }
            }
        });
    }
    let byte = |square: &f32| match square.is_finite() {
        true => (UNIT * square.sqrt()).min(f32::from(FARTHEST)) as u8,
        false => UNKNOWN,
    };
    least.par_iter().map(|least| least.iter().map(byte).collect()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::combine::consensus::LayerData;
    use crate::geometry::Size;
    use crate::noise::NoiseModel;

    const SIZE: (usize, usize) = (60, 48);

    /// A wall with stripes, and things before it: columns from and to, and their value.
    fn field(things: [&[(usize, usize, u16)]; 2], reached: usize) -> Field {
        let (w, h) = SIZE;
        let layers = things.map(|things| {
            let value = |x: usize, y: usize| {
                let thing = things.iter().find(|t| (t.0..t.1).contains(&x) && (10..38).contains(&y));
                thing.map_or([30_000, 26_000][y / 4 % 2], |t| t.2)
            };
            let plane: Vec<u16> = (0..w * h).map(|p| value(p % w, p / w)).collect();
            LayerData { planes: [plane.clone(), plane.clone(), plane], spans: vec![(0, reached as u32); h] }
        });
        Field::new(Size::new(w as u32, h as u32), layers.into(), &NoiseModel::default(), 1.0)
    }

    fn changed(columns: std::ops::Range<usize>) -> Vec<bool> {
        (0..SIZE.0 * SIZE.1)
            .map(|p| columns.contains(&(p % SIZE.0)) && (8..40).contains(&(p / SIZE.0)))
            .collect()
    }

    #[test]
    fn each_pixel_of_things_side_by_side_speaks_against_the_frame_that_holds_it() {
        let field = field([&[(14, 24, 9_000)], &[(24, 44, 45_000)]], SIZE.0);
        let found = Surroundings::find(&field, &changed(11..47), 1.0);
        for y in 12..36 {
            for (x, sign) in [(15, 1.0), (19, 1.0), (22, 1.0), (26, -1.0), (35, -1.0), (42, -1.0)] {
                let against = sign * found.against(0, 1, y * SIZE.0 + x);
                assert!(against > 0.3, "{against} at {x}, {y}");
            }
        }
        let half = Surroundings::find(&field, &changed(11..47), 0.5);
        let p = 20 * SIZE.0 + 19;
        assert_eq!(half.against(0, 1, p), 0.5 * found.against(0, 1, p));
        assert_eq!(found.against(0, 1, p), -found.against(1, 0, p));
        assert_eq!(Surroundings::find(&field, &changed(11..47), 0.0).against(0, 1, p), 0.0, "votes suffice");
    }

    #[test]
    fn it_costs_the_frame_that_stands_out_and_nothing_where_no_frame_reaches() {
        let (n, reached) = (SIZE.0 * SIZE.1, 50);
        let field = field([&[(14, 24, 9_000)], &[]], reached);
        let planes = vec![vec![Cost::of(1.0); n]; 2];
        let mut costs = Costs { planes, changed: changed(11..60), votes: vec![Costs::VOTE as u8; n] };
        Surroundings::find(&field, &costs.changed, 1.0).add(&field, &[0, 1], &mut costs);
        let at = |k: usize, x: usize| costs.at(k, 20 * SIZE.0 + x) - 1.0;
        assert!(at(0, 19) > 0.5 * WEIGHT && at(1, 19).abs() < 1e-3, "{} {}", at(0, 19), at(1, 19));
        assert_eq!((at(0, 5), at(1, 5)), (0.0, 0.0), "nothing changed there");
        assert_eq!((at(0, 55), at(1, 55)), (0.0, 0.0), "nobody is there");
    }

    #[test]
    fn it_does_not_speak_against_two_that_agree_and_go_on_outside() {
        let (w, h) = SIZE;
        // The third frame is nearest to the wall around the changed place; the first two show the same there, a little apart from it.
        let layer = |own: u16| {
            let value = |p: usize| {
                if (11..47).contains(&(p % w)) && (8..40).contains(&(p / w)) { own } else { 30_000 }
            };
            let plane: Vec<u16> = (0..w * h).map(value).collect();
            LayerData { planes: [plane.clone(), plane.clone(), plane], spans: vec![(0, w as u32); h] }
        };
        let layers = [31_600, 31_600, 30_000].map(layer).into();
        let field = Field::new(Size::new(w as u32, h as u32), layers, &NoiseModel::default(), 1.0);
        let cost_of = |moments: [u32; 3]| {
            let planes = vec![vec![Cost::of(1.0); w * h]; 3];
            let mut costs =
                Costs { planes, changed: changed(11..47), votes: vec![2 * Costs::VOTE as u8; w * h] };
            Surroundings::find(&field, &costs.changed, 0.8).add(&field, &moments, &mut costs);
            [0, 1, 2].map(|k| costs.at(k, 20 * w + 12) - 1.0)
        };
        let [first, second, alone] = cost_of([0, 1, 2]);
        assert!(first.abs() < 1e-3 && second.abs() < 1e-3, "{first} {second}");
        assert!((alone - 0.8 * ALONE).abs() < 1e-3, "{alone}");
        // Two files of one moment are no two that agree.
        let [first, second, alone] = cost_of([0, 0, 1]);
        assert!(first > 1.0 && second > 1.0 && alone.abs() < 1e-3, "{first} {second} {alone}");
    }
}
