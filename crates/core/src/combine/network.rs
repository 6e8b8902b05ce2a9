//! Order statistics by a sorting network over whole rows.
//!
//! Batcher's odd-even merge exchange (Knuth, *The Art of Computer Programming* 3, 5.2.2 M) for any number of
//! inputs, pruned backwards to the comparisons that reach the wanted output. Each comparison runs over a run of
//! pixels at once, so it is two vector instructions for 8 to 32 samples and there are no branches.
//! Cost: about 40 comparisons for the median of 12, n·log²n/4 in general.

use super::Method;

/// Pixels handled at once; a run of all inputs stays in the first-level cache.
const RUN: usize = 128;

/// The comparisons that bring one order statistic of a fixed number of inputs to its place.
#[derive(Debug, Clone)]
pub struct Network {
    inputs: usize,
    pairs: Vec<(usize, usize)>,
    /// The one or two outputs whose mean is wanted.
    wanted: (usize, usize),
}

impl Network {
    /// The network for a method over `inputs` samples; methods that are no order statistic get an empty one.
    pub fn new(method: Method, inputs: usize) -> Self {
        let last = inputs.saturating_sub(1);
        let wanted = match method {
            Method::Median => (last / 2, inputs / 2),
            Method::Rank(p) => {
                let k = (f64::from(p) / 100.0 * last as f64).round() as usize;
                (k, k)
            }
            Method::Consensus
            | Method::Everybody
            | Method::Clipped
            | Method::Mean
            | Method::Darkest
            | Method::Lightest => {
                return Self { inputs, pairs: Vec::new(), wanted: (0, 0) };
            }
        };
        let mut needed = vec![false; inputs.max(1)];
        needed[wanted.0] = true;
        needed[wanted.1.min(last)] = true;
        let mut pairs: Vec<_> = merge_exchange(inputs)
            .into_iter()
            .rev()
            .filter(|&(a, b)| {
                let reaches = needed[a] || needed[b];
                if reaches {
                    (needed[a], needed[b]) = (true, true);
                }
                reaches
            })
            .collect();
        pairs.reverse();
        Self { inputs, pairs, wanted: (wanted.0, wanted.1.min(last)) }
    }

    /// Writes the statistic of `rows` (all as long as `out`, at least) to `out`.
    pub fn run(&self, rows: &[&[u16]], out: &mut [u16]) {
        debug_assert_eq!(rows.len(), self.inputs);
        let mut lanes = vec![[0u16; RUN]; self.inputs];
        let (a, b) = self.wanted;
        for (k, run) in out.chunks_mut(RUN).enumerate() {
            for (lane, row) in lanes.iter_mut().zip(rows) {
                lane[..run.len()].copy_from_slice(&row[k * RUN..][..run.len()]);
            }
            vector::exchange(&mut lanes, &self.pairs);
            for (i, o) in run.iter_mut().enumerate() {
                *o = ((u32::from(lanes[a][i]) + u32::from(lanes[b][i])).div_ceil(2)) as u16;
            }
        }
    }
}

/// Comparisons that sort `n` inputs.
fn merge_exchange(n: usize) -> Vec<(usize, usize)> {
    let mut pairs = Vec::new();
    if n < 2 {
        return pairs;
    }
    let top = n.next_power_of_two() / 2;
    let mut p = top;
    while p > 0 {
        let (mut q, mut r, mut d) = (top, 0, p);
        loop {
            pairs.extend((0..n - d).filter(|i| i & p == r).map(|i| (i, i + d)));
            if q == p {
                break;
            }
            d = q - p;
            q /= 2;
            r = p;
        }
        p /= 2;
    }
    pairs
}

#[allow(unsafe_code)] // the dispatch to the processor's vector width is the macro's
mod vector {
    use super::RUN;

    #[multiversion::multiversion(targets = "simd")]
    pub fn exchange(lanes: &mut [[u16; RUN]], pairs: &[(usize, usize)]) {
        for &(i, j) in pairs {
            let (head, tail) = lanes.split_at_mut(j);
            let (low, high) = (&mut head[i], &mut tail[0]);
            for k in 0..RUN {
                let (a, b) = (low[k], high[k]);
                low[k] = a.min(b);
                high[k] = a.max(b);
            }
        }
    }
}
