//! Connected places of a picture.
//!
//! ```
//! use evanu_core::pixel::flood::parts;
//!
//! // A row of four and one that hangs together with nothing.
//! let mut open = [true, true, false, false, true];
//! assert_eq!(parts(&mut open, 5, 0..5, 1), [vec![0, 1], vec![4]]);
//! ```

/// Takes the open pixels that hang together with `start`, each within `reach` of another one along both axes; they are open
/// no more. `start` comes first, whether it was open or not.
///
/// `open` holds rows of `width` pixels. Cost: `(2 · reach + 1)²` looks a pixel that is taken.
pub fn flood(open: &mut [bool], width: usize, start: usize, reach: usize) -> Vec<usize> {
    flood_where(open, width, start, reach, |_| true)
}

/// The same where what is open is only taken if it also `holds`, which is asked at most once a pixel, and not for `start`.
pub fn flood_where(
    open: &mut [bool],
    width: usize,
    start: usize,
    reach: usize,
    holds: impl Fn(usize) -> bool,
) -> Vec<usize> {
    let height = open.len() / width.max(1);
    open[start] = false;
    let mut taken = vec![start];
    let mut next = 0;
    while let Some(&p) = taken.get(next) {
        next += 1;
        let (x, y) = (p % width, p / width);
        let columns = x.saturating_sub(reach)..(x + reach + 1).min(width);
        for row in y.saturating_sub(reach)..(y + reach + 1).min(height) {
            for q in columns.clone().map(|column| row * width + column) {
                if std::mem::take(&mut open[q]) && holds(q) {
                    taken.push(q);
                }
            }
        }
    }
    taken
}

/// All that hang together, by [`flood`]: from each of the `starts` that is still open when its turn comes.
pub fn parts(
    open: &mut [bool],
    width: usize,
    starts: impl IntoIterator<Item = usize>,
    reach: usize,
) -> Vec<Vec<usize>> {
    let mut parts = Vec::new();
    for start in starts {
        if open[start] {
            parts.push(flood(open, width, start, reach));
        }
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_hangs_together_within_reach_is_taken_and_nothing_else() {
        let row = [true, true, false, true, false, false, false, true];
        for (reach, wanted) in [(1, 2), (2, 3), (4, 4)] {
            let mut open = row;
            assert_eq!(flood(&mut open, 8, 0, reach).len(), wanted, "reach {reach}");
            assert_eq!(open.iter().filter(|o| **o).count(), 4 - wanted);
        }
        // The end of a row does not touch the beginning of the next.
        let mut open = [false, false, true, true, false, false];
        assert_eq!(flood(&mut open, 3, 2, 1), [2]);
        // What does not hold is not gone through.
        let mut open = [true; 5];
        assert_eq!(flood_where(&mut open, 5, 0, 1, |p| p != 3), [0, 1, 2]);
    }
}
