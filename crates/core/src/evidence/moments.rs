//! Moments and what hangs on a single frame, judged on small grey pictures of the aligned frames.
//!
//! Frames taken so close together that they show the same silhouettes are one moment: what changed between two of them
//! is little beside what is there to be seen in each, that is, beside how either differs from the median of all. A
//! place where one frame alone shows what the plate shows hangs on that frame. Memory: one byte a pixel of the small
//! pictures, 43 kB a frame.

use crate::geometry::{Rect, Size};

/// Longest side of the small pictures.
pub(crate) const SIDE: u32 = 256;
/// Roots of light further apart than this, of 255, are not the same.
const SAME: i32 = 12;
/// Two frames are one moment when what changed is less than this share of what is to be seen in the emptier one.
const SHARED: f64 = 0.3;
/// Less to be seen than this share of the picture tells no moments apart.
const LEAST_SHARE: f64 = 0.0015;
/// Frames this many seconds apart can be one moment; without clocks, neighbours can.
const CLOSE: f64 = 3.0;
/// A share of the plate that hangs on one frame and is worth telling, and fewest small pixels of its largest place.
const TOLD: f64 = 0.003;
const PLACE: usize = 4;

/// Small grey pictures of aligned frames: roots of luminance 1..=255, 0 where a frame does not reach.
pub(crate) struct Small {
    /// Columns and rows of each.
    pub size: Size,
    /// One picture a frame; empty for a frame that does not take part.
    pub frames: Vec<Vec<u8>>,
}

impl Small {
    fn part(&self) -> Vec<usize> {
        (0..self.frames.len()).filter(|&i| !self.frames[i].is_empty()).collect()
    }

    /// The median of the frames that reach each place.
    fn median(&self) -> Vec<u8> {
        let part = self.part();
        let mut values = Vec::with_capacity(part.len());
        (0..self.size.pixels() as usize)
            .map(|p| {
                values.clear();
                values.extend(part.iter().map(|&i| self.frames[i][p]).filter(|&v| v > 0));
                if values.is_empty() {
                    return 0;
                }
                let middle = values.len() / 2;
                *values.select_nth_unstable(middle).1
            })
            .collect()
    }
}

fn differ(a: u8, b: u8) -> bool {
    a > 0 && b > 0 && (i32::from(a) - i32::from(b)).abs() > SAME
}

fn share(a: &[u8], b: &[u8]) -> f64 {
    a.iter().zip(b).filter(|(a, b)| differ(**a, **b)).count() as f64 / a.len().max(1) as f64
}

/// Numbers the moments of the frames in order of time, from 0; frames that do not take part are moments of their own.
///
/// `clocks` are seconds, where known.
pub(crate) fn moments(small: &Small, order: &[usize], clocks: &[Option<f64>]) -> Vec<u32> {
    let median = small.median();
    let seen: Vec<f64> = small.frames.iter().map(|f| share(f, &median)).collect();
    let mut out = vec![0u32; small.frames.len()];
    let mut number = 0;
    let mut last: Option<usize> = None;
    for &i in order {
        let close = |k: usize| match (clocks[k], clocks[i]) {
            (Some(a), Some(b)) => (b - a).abs() <= CLOSE,
            _ => true,
        };
        let same = last.is_some_and(|k| {
            let least = seen[k].min(seen[i]);
            let both = !small.frames[k].is_empty() && !small.frames[i].is_empty();
            both && close(k)
                && least > LEAST_SHARE
                && share(&small.frames[k], &small.frames[i]) < SHARED * least
        });
        if last.is_some() && !same {
            number += 1;
        }
        out[i] = number;
        last = Some(i);
    }
    out
}

/// For each frame, the share of the plate that it alone shows as the median does, and the largest such place in small
/// pixels; `None` where nothing worth telling hangs on it.
pub(crate) fn sole(small: &Small) -> Vec<Option<(f64, Rect)>> {
    let part = small.part();
    let mut out = vec![None; small.frames.len()];
    if part.len() < 3 {
        return out; // with two frames everything that differs hangs on one of them
    }
    let median = small.median();
    let w = small.size.width as usize;
    let owner: Vec<usize> = (0..median.len())
        .map(|p| {
            let mut agreeing = part.iter().filter(|&&i| {
                let v = small.frames[i][p];
                v > 0 && !differ(v, median[p])
            });
            let reach = part.iter().filter(|&&i| small.frames[i][p] > 0).count();
            match (agreeing.next(), agreeing.next()) {
                (Some(&i), None) if reach > 1 => i,
                _ => usize::MAX,
            }
        })
        .collect();
    for &i in &part {
        let (total, largest) = pieces(&owner, i, w);
        let share = total as f64 / median.len() as f64;
        if let Some((area, rect)) = largest
            && share > TOLD
            && area >= PLACE
        {
            out[i] = Some((share, rect));
        }
    }
    out
}

/// Pixels owned by `i`, and the largest connected piece with its box (four neighbours).
fn pieces(owner: &[usize], i: usize, w: usize) -> (usize, Option<(usize, Rect)>) {
    let mut seen = vec![false; owner.len()];
    let (mut total, mut largest) = (0, None);
    for start in 0..owner.len() {
        if owner[start] != i || seen[start] {
            continue;
        }
        let (mut area, mut ends) = (0, (usize::MAX, usize::MAX, 0, 0));
        let mut open = vec![start];
        seen[start] = true;
        while let Some(p) = open.pop() {
            area += 1;
            let (x, y) = (p % w, p / w);
            ends = (ends.0.min(x), ends.1.min(y), ends.2.max(x), ends.3.max(y));
            let mut go = |q: usize| {
                if owner[q] == i && !seen[q] {
                    seen[q] = true;
                    open.push(q);
                }
            };
            if x > 0 {
                go(p - 1);
            }
            if x + 1 < w {
                go(p + 1);
            }
            if p >= w {
                go(p - w);
            }
            if p + w < owner.len() {
                go(p + w);
            }
        }
        total += area;
        if largest.as_ref().is_none_or(|&(a, _)| area > a) {
            let rect = Rect::new(
                ends.0 as i64,
                ends.1 as i64,
                (ends.2 - ends.0 + 1) as u32,
                (ends.3 - ends.1 + 1) as u32,
            );
            largest = Some((area, rect));
        }
    }
    (total, largest)
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIZE: Size = Size { width: 80, height: 60 };

    /// A grey wall with somebody at a column in each frame.
    fn walk(columns: &[u32]) -> Small {
        let frame = |&at: &u32| {
            (0..SIZE.pixels() as u32)
                .map(|p| if (at..at + 8).contains(&(p % 80)) && p / 80 > 20 { 200 } else { 100 })
                .collect()
        };
        Small { size: SIZE, frames: columns.iter().map(frame).collect() }
    }

    #[test]
    fn a_burst_is_one_moment_and_a_walk_is_not() {
        let order = [0, 1, 2, 3, 4, 5, 6];
        let small = walk(&[5, 5, 6, 20, 40, 55, 70]);
        let clocks = [0.0, 0.2, 0.4, 5.0, 9.0, 13.0, 17.0].map(Some);
        assert_eq!(moments(&small, &order, &clocks), [0, 0, 0, 1, 2, 3, 4]);
        // Somebody who stands still for a minute is seen at two moments.
        let apart = [0.0, 60.0, 120.0, 180.0, 240.0, 300.0, 360.0].map(Some);
        assert_eq!(moments(&small, &order, &apart), order.map(|i| i as u32));
        // Without clocks the pictures tell.
        assert_eq!(moments(&small, &order, &[None; 7]), [0, 0, 0, 1, 2, 3, 4]);
    }

    #[test]
    fn what_hangs_on_one_frame_is_told() {
        // Three of four stand in one place, differently dressed; frame 3 alone shows the wall there.
        let mut small = walk(&[10, 10, 10, 50, 70]);
        for (k, f) in small.frames.iter_mut().enumerate() {
            f.iter_mut().filter(|v| **v == 200).for_each(|v| *v = [220, 180, 20, 200, 200][k]);
        }
        small.frames.truncate(4);
        small.frames.push(walk(&[10]).frames.remove(0));
        let found = sole(&small);
        assert_eq!(found[3], None, "the median is of people there: {found:?}");
        let mut small = walk(&[10, 10, 30, 30, 50]);
        let coats = [[150u8, 40], [40, 150]];
        for (k, f) in small.frames.iter_mut().enumerate().take(2) {
            f.iter_mut().enumerate().filter(|(_, v)| **v == 200).for_each(|(p, v)| *v = coats[k][p % 2]);
        }
        // Wherever two are there the other three show the wall: nothing hangs on one frame.
        assert!(sole(&small).iter().all(Option::is_none));
    }

    #[test]
    fn a_middle_value_that_one_frame_has_hangs_on_it() {
        let mut small = walk(&[10, 10, 10]);
        let values = [40u8, 100, 180];
        for (f, v) in small.frames.iter_mut().zip(values) {
            f.iter_mut().filter(|o| **o == 200).for_each(|o| *o = v);
        }
        let (share, place) = sole(&small)[1].unwrap();
        assert!((share - 8.0 * 39.0 / 4800.0).abs() < 1e-9);
        assert_eq!(place, Rect::new(10, 21, 8, 39));
    }
}
