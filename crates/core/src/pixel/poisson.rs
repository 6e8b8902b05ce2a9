//! Pixels from their differences: a screened Poisson equation over any set of pixels (Pérez, Gangnet and Blake 2003).
//!
//! Looked for are values `u` with `Σ (u_p − u_q) + Σ w (u_p − v_r) = b_p` for each pixel `p`, over its neighbours `q` inside and `r`
//! outside, which hold `v` with a strength `w`. Solved by conjugate gradients, led by one cycle over halved grids in each step
//! (aggregation, Notay 2010): the work is a constant a pixel, whatever the size. Same input, same bytes.
//!
//! ```
//! use evanu_core::pixel::poisson::Poisson;
//!
//! // A row of five between the values 0 and 6: without differences of its own it goes evenly from one to the other.
//! let equation = Poisson::new(&[true; 5], 5, |p| if p == 0 || p == 4 { 1.0 } else { 0.0 });
//! let held = |p: usize| if p == 4 { [6.0; 4] } else { [0.0; 4] };
//! let found = equation.solve(&(0..5).map(held).collect::<Vec<_>>());
//! assert!((0..5).all(|p| (found[p][0] - (p as f32 + 1.0)).abs() < 1e-3));
//! ```

/// A value of several channels.
pub type Value = [f32; 4];

/// Steps at most.
const STEPS: usize = 40;
/// What is left of the error when it is done, as a share.
const LEFT: f32 = 2e-4;
/// Grids of fewer pixels are solved by sweeps alone.
const FEW: usize = 40;

/// An equation over some pixels, ready to be solved.
pub struct Poisson {
    grids: Vec<Grid>,
}

/// One of the halved grids.
struct Grid {
    width: usize,
    inside: Vec<bool>,
    /// Strength of the tie to the pixel on the right, and to the one below.
    right: Vec<f32>,
    below: Vec<f32>,
    /// Sum of all ties of a pixel.
    sum: Vec<f32>,
}

impl Poisson {
    /// Over pixels in rows of `width`; `held` is how strongly each is tied to values outside, all in all.
    pub fn new(inside: &[bool], width: usize, held: impl Fn(usize) -> f32) -> Self {
        let tie = |p: usize, q: usize| if inside[p] && inside[q] { 1.0 } else { 0.0 };
        let n = inside.len();
        let right: Vec<f32> =
            (0..n).map(|p| if p % width + 1 < width { tie(p, p + 1) } else { 0.0 }).collect();
        let below: Vec<f32> = (0..n).map(|p| if p + width < n { tie(p, p + width) } else { 0.0 }).collect();
        let outside: Vec<f32> = (0..n).map(|p| if inside[p] { held(p) } else { 0.0 }).collect();
        let mut grids = vec![Grid::new(width, inside.to_vec(), right, below, &outside)];
        let mut outside = outside;
        while let Some(last) = grids.last().filter(|g| g.inside.iter().filter(|i| **i).count() > FEW) {
            let (next, rest) = last.halved(&outside);
            if next.inside.len() == last.inside.len() {
                break;
            }
            outside = rest;
            grids.push(next);
        }
        Self { grids }
    }

    /// The values, for the right sides of the equation; nothing where a pixel takes no part.
    pub fn solve(&self, wanted: &[Value]) -> Vec<Value> {
        let grid = &self.grids[0];
        let n = wanted.len();
        let mut found = vec![[0.0; 4]; n];
        let mut left: Vec<Value> =
            wanted.iter().zip(&grid.inside).map(|(v, i)| if *i { *v } else { [0.0; 4] }).collect();
        let goal = dot(&left, &left).map(|v| v * LEFT * LEFT);
        let mut along: Vec<Value> = Vec::new();
        let mut before = [0.0f32; 4];
        for _ in 0..STEPS {
            let led = self.cycle(0, &left);
            let now = dot(&left, &led);
            if along.is_empty() {
                along = led;
            } else {
                let share: Value = std::array::from_fn(|c| quotient(now[c], before[c]));
                for (a, l) in along.iter_mut().zip(&led) {
                    *a = std::array::from_fn(|c| l[c] + share[c] * a[c]);
                }
            }
            before = now;
            let applied = grid.applied(&along);
            let bent = dot(&along, &applied);
            let step: Value = std::array::from_fn(|c| quotient(now[c], bent[c]));
            for p in 0..n {
                for c in 0..4 {
                    found[p][c] += step[c] * along[p][c];
                    left[p][c] -= step[c] * applied[p][c];
                }
            }
            let rest = dot(&left, &left);
            if (0..4).all(|c| rest[c] <= goal[c]) {
                break;
            }
        }
        found
    }

    /// One cycle over the grids from one on, about solving it for what is left.
    fn cycle(&self, k: usize, left: &[Value]) -> Vec<Value> {
        let grid = &self.grids[k];
        let mut found = vec![[0.0; 4]; left.len()];
        if k + 1 == self.grids.len() {
            for _ in 0..30 {
                grid.sweep(&mut found, left, false);
                grid.sweep(&mut found, left, true);
            }
            return found;
        }
        grid.sweep(&mut found, left, false);
        grid.sweep(&mut found, left, false);
        let applied = grid.applied(&found);
        let coarse = &self.grids[k + 1];
        let mut rest = vec![[0.0f32; 4]; coarse.inside.len()];
        for p in (0..left.len()).filter(|&p| grid.inside[p]) {
            let into = &mut rest[grid.above(p, coarse.width)];
            (0..4).for_each(|c| into[c] += left[p][c] - applied[p][c]);
        }
        let more = self.cycle(k + 1, &rest);
        for p in (0..left.len()).filter(|&p| grid.inside[p]) {
            let from = more[grid.above(p, coarse.width)];
            // Pieces are flat: their ties are too strong, by half.
            (0..4).for_each(|c| found[p][c] += FLAT * from[c]);
        }
        grid.sweep(&mut found, left, true);
        grid.sweep(&mut found, left, true);
        found
    }
}

/// What makes up for coarse values being flat over their pixels.
const FLAT: f32 = 1.6;

fn quotient(a: f32, b: f32) -> f32 {
    if b > 0.0 { a / b } else { 0.0 }
}

fn dot(a: &[Value], b: &[Value]) -> Value {
    let mut sum = [0.0f64; 4];
    for (a, b) in a.iter().zip(b) {
        for c in 0..4 {
            sum[c] += f64::from(a[c] * b[c]);
        }
    }
    sum.map(|v| v as f32)
}

impl Grid {
    fn new(width: usize, inside: Vec<bool>, right: Vec<f32>, below: Vec<f32>, outside: &[f32]) -> Self {
        let mut sum = outside.to_vec();
        for p in 0..sum.len() {
            sum[p] += right[p] + below[p];
            if !p.is_multiple_of(width) {
                sum[p] += right[p - 1];
            }
            if p >= width {
                sum[p] += below[p - width];
            }
        }
        Self { width, inside, right, below, sum }
    }

    /// The pixel of a grid half as wide that a pixel lies in.
    fn above(&self, p: usize, width: usize) -> usize {
        (p / self.width / 2) * width + p % self.width / 2
    }

    /// Two by two pixels as one, and how strongly these are tied to the outside.
    fn halved(&self, outside: &[f32]) -> (Self, Vec<f32>) {
        let (w, h) = (self.width, self.inside.len() / self.width);
        let (width, height) = (w.div_ceil(2), h.div_ceil(2));
        let n = width * height;
        let (mut inside, mut held) = (vec![false; n], vec![0.0; n]);
        let (mut right, mut below) = (vec![0.0; n], vec![0.0; n]);
        for p in (0..self.inside.len()).filter(|&p| self.inside[p]) {
            let q = self.above(p, width);
            inside[q] = true;
            held[q] += outside[p];
            if p % w % 2 == 1 {
                right[q] += self.right[p];
            }
            if p / w % 2 == 1 {
                below[q] += self.below[p];
            }
        }
        (Self::new(width, inside, right, below, &held), held)
    }

    /// What a pixel's neighbours add up to.
    #[inline(always)]
    fn around(&self, values: &[Value], p: usize) -> Value {
        let w = self.width;
        let mut sum = [0.0; 4];
        let mut add = |tie: f32, q: usize| {
            if tie > 0.0 {
                (0..4).for_each(|c| sum[c] += tie * values[q][c]);
            }
        };
        add(self.right[p], p + 1);
        add(self.below[p], p + w);
        if !p.is_multiple_of(w) {
            add(self.right[p - 1], p - 1);
        }
        if p >= w {
            add(self.below[p - w], p - w);
        }
        sum
    }

    fn applied(&self, values: &[Value]) -> Vec<Value> {
        let mut out = vec![[0.0; 4]; values.len()];
        for p in (0..values.len()).filter(|&p| self.inside[p]) {
            let around = self.around(values, p);
            out[p] = std::array::from_fn(|c| self.sum[p] * values[p][c] - around[c]);
        }
        out
    }

    /// Each pixel from its neighbours, those of one colour of the chessboard first.
    fn sweep(&self, values: &mut [Value], wanted: &[Value], back: bool) {
        let (w, h) = (self.width, self.inside.len() / self.width);
        for colour in if back { [1, 0] } else { [0, 1] } {
            for y in 0..h {
                for x in ((y + colour) % 2..w).step_by(2) {
                    let p = y * w + x;
                    if self.inside[p] && self.sum[p] > 0.0 {
                        let around = self.around(values, p);
                        values[p] = std::array::from_fn(|c| (wanted[p][c] + around[c]) / self.sum[p]);
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// A picture comes back from its differences, whatever the shape, when it is held somewhere.
        #[test]
        fn a_picture_comes_back_from_its_differences(
            w in 2usize..40, h in 2usize..40, seed in any::<u64>(), holes in 0usize..60
        ) {
            let mut random = crate::random::Random::new(seed);
            let n = w * h;
            let mut inside = vec![true; n];
            (0..holes).for_each(|_| inside[random.below(n)] = false);
            let picture: Vec<Value> = (0..n).map(|_| [random.unit() as f32, random.unit() as f32, 0.5, 0.0]).collect();
            // Held by each neighbour outside and by the border.
            let neighbours = |p: usize| {
                let (x, y) = (p % w, p / w);
                [(x > 0, p.wrapping_sub(1)), (x + 1 < w, p + 1), (y > 0, p.wrapping_sub(w)), (y + 1 < h, p + w)]
            };
            let held = |p: usize| neighbours(p).iter().filter(|(there, q)| !*there || !inside[*q]).count() as f32;
            let wanted: Vec<Value> = (0..n).map(|p| std::array::from_fn(|c| {
                let around: f32 = neighbours(p).iter().filter(|(there, q)| *there && inside[*q]).map(|(_, q)| picture[p][c] - picture[*q][c]).sum();
                around + held(p) * picture[p][c]
            })).collect();
            let found = Poisson::new(&inside, w, held).solve(&wanted);
            for p in (0..n).filter(|&p| inside[p]) {
                prop_assert!((found[p][0] - picture[p][0]).abs() < 0.01, "{} {}", found[p][0], picture[p][0]);
            }
        }
    }
}
