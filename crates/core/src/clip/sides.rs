//! What a thin thing hides is told by what is seen on both sides of it: shade that goes on behind, and somebody who passes behind.
//!
//! Each covered sample knows the nearest free ones across the thin way. Somebody who is seen on both of them is there between them too: from
//! each side their pixels are mirrored into the gap, fading from one to the other, so that texture stays texture. Somebody
//! who is seen on one side alone ends there: where behind it, nothing tells.

use super::area::Area;

/// Across how many samples a gap is bridged at most, and how many of them up and down, since people stand upright.
const WIDE: usize = 14;
const HIGH: usize = 9;
/// Samples inside within which shade is told by the sides alone, and from which on by the covered samples themselves.
const THIN: (f32, f32) = (7.0, 14.0);
/// How much of the samples there they are at least.
const THERE: f32 = 0.8;
/// Samples beyond a gap's end that tell whether somebody is there.
const BESIDE: usize = 3;

/// The gap that a covered sample of brightness lies in: the first free samples before and after it.
#[derive(Debug, Clone, Copy)]
struct Gap {
    sample: usize,
    /// From one sample of it to the next: 1 across, the width down.
    step: usize,
    before: usize,
    after: usize,
}

/// The gaps of an area.
#[derive(Debug, Clone, Default)]
pub(super) struct Sides {
    gaps: Vec<Gap>,
    /// For each sample of brightness how much its own shade counts, 0..=1.
    pub own: Vec<f32>,
}

impl Sides {
    pub(super) fn of(area: &Area) -> Self {
        let plane = &area.planes[0];
        let (w, h) = (plane.width, plane.height);
        let covered = |x: usize, y: usize| plane.weights[y * w + x] > 0.0;
        let mut gaps = Vec::new();
        let mut own = vec![1.0; w * h];
        for sample in (0..w * h).filter(|&p| plane.weights[p] > 0.0) {
            let (x, y) = (sample % w, sample / w);
            let left = (1..=WIDE.min(x)).find(|d| !covered(x - d, y));
            let right = (1..=WIDE.min(w - 1 - x)).find(|d| !covered(x + d, y));
            let up = (1..=WIDE.min(y)).find(|d| !covered(x, y - d));
            let down = (1..=WIDE.min(h - 1 - y)).find(|d| !covered(x, y + d));
            let across = left.zip(right).filter(|(a, b)| a + b <= WIDE + 1);
            let along = up.zip(down).filter(|(a, b)| a + b <= HIGH + 1);
            let thin = match (across, along) {
                (Some((a, b)), Some((c, d))) => Some(if a + b <= c + d { (1, a, b) } else { (w, c, d) }),
                (Some((a, b)), None) => Some((1, a, b)),
                (None, Some((c, d))) => Some((w, c, d)),
                (None, None) => None,
            };
            let depth = [left, right, up, down].into_iter().flatten().min().unwrap_or(WIDE) as f32;
            own[sample] = ((depth - THIN.0) / (THIN.1 - THIN.0)).clamp(0.0, 1.0);
            if let Some((step, before, after)) = thin {
                gaps.push(Gap { sample, step, before, after });
            }
        }
        Self { gaps, own }
    }

    /// Who passes behind: for each covered sample how much of it they are, and where their pixels are taken from, with shares.
    pub(super) fn behind(&self, front: &[f32]) -> Vec<Passing> {
        let n = front.len();
        let there = |from: usize, (step, far): (usize, usize), forth: bool| -> f32 {
            let at = |k: usize| if forth { Some(from + k * step) } else { from.checked_sub(k * step) };
            let all: Vec<f32> = (0..far).filter_map(at).filter(|p| *p < n).map(|p| front[p]).collect();
            all.iter().sum::<f32>() / all.len().max(1) as f32
        };
        let of = |gap: &Gap| -> Option<Passing> {
            let Gap { sample, step, before, after } = *gap;
            let (a, b) = (sample - before * step, sample + after * step);
            // Across a wide gap only somebody who is seen well on both sides.
            let seen = (step, BESIDE.max((before + after) / 3));
            let (left, right) = (there(a, seen, false), there(b, seen, true));
            if left.min(right) < THERE {
                return None;
            }
            // Who is in front hides the thing itself; then nothing is to be guessed.
            let within =
                (1 - before as i64..after as i64).map(|k| front[(sample as i64 + k * step as i64) as usize]);
            if within.sum::<f32>() > 0.3 * (before + after - 1) as f32 {
                return None;
            }
            let way = before as f32 / (before + after) as f32;
            // Mirrored at the ends, and no farther than the picture goes.
            let mirrored = |end: usize, by: usize, forth: bool| {
                let at = if forth { Some(end + (by - 1) * step) } else { end.checked_sub((by - 1) * step) };
                at.filter(|p| *p < n).unwrap_or(end)
            };
            let (from, to) = (mirrored(a, before, false), mirrored(b, after, true));
            Some(Passing { sample, share: left.min(right).min(1.0), from, to, mix: way })
        };
        self.gaps.iter().filter_map(of).collect()
    }
}

/// A covered sample of brightness behind which somebody passes.
#[derive(Debug, Clone, Copy)]
pub(super) struct Passing {
    pub sample: usize,
    /// How much of it is somebody, 0..=1.
    pub share: f32,
    /// Samples that their pixels are taken from, and how much of the second.
    pub from: usize,
    pub to: usize,
    pub mix: f32,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;

    #[test]
    fn who_is_seen_on_both_sides_of_a_post_is_there_behind_it() {
        let size = Size::new(120, 80);
        let mask: Vec<f32> =
            (0..120 * 80).map(|p| f32::from(u8::from((56..64).contains(&(p % 120))))).collect();
        let area = Area::new(&mask, size, (0, 0)).unwrap();
        let (w, left) = (area.part.width as usize, area.part.x as usize);
        let sides = Sides::of(&area);
        let n = area.part.size().pixels() as usize;
        let somebody = |from: usize, to: usize, also: bool| -> Vec<f32> {
            (0..n)
                .map(|p| {
                    let x = p % w + left;
                    f32::from(u8::from((from..to).contains(&x) && (also || !(56..64).contains(&x))))
                })
                .collect()
        };
        let at = |x: usize| 40 * w + x - left;
        let found = sides.behind(&somebody(40, 80, false));
        let here = found.iter().find(|p| p.sample == at(58)).unwrap();
        assert!(here.share == 1.0 && here.from == at(53) && here.to == at(69), "{here:?}");
        // In front of the post nothing is to be guessed, and nobody is behind where nobody is seen.
        assert!(sides.behind(&somebody(40, 80, true)).is_empty());
        assert!(sides.behind(&somebody(70, 80, false)).is_empty());
        // Seen at the left alone, they end there.
        assert!(sides.behind(&somebody(40, 56, false)).is_empty());
    }
}
