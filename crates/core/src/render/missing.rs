//! What no frame of a plate shows: corners and borders of a canvas that is larger than the reference, as areas to be made up.
//!
//! An area is cut along the canvas's sides into pieces that each have enough around them to be made up from. Cost: two places a row and
//! frame, and a few passes over at most [`MOST_PIXELS`].

use super::samples::covered;
use super::scene::{Scene, View};
use crate::geometry::{Grid, Point, simplified_to, trace};
use crate::pixel::distance::distances_within;
use crate::pixel::flood::parts;

/// Most pixels that are looked at.
const MOST_PIXELS: u64 = 4_000_000;
/// Full-size pixels along a side that one piece takes at most.
const LONGEST: f64 = 800.0;
/// Full-size pixels that a piece reaches beyond what is missing: its soft border lies on what is there.
const BEYOND: f64 = 4.0;
/// Pieces at most.
const MOST: usize = 80;

impl Scene<'_> {
    /// For each pixel of the canvas, by rows, whether no frame in use reaches it.
    pub fn uncovered(&self, grid: &Grid) -> Vec<bool> {
        let w = grid.rect.width as usize;
        let mut out = vec![true; grid.rect.size().pixels() as usize];
        for frame in self.used() {
            for (row, (from, to)) in out.chunks_mut(w.max(1)).zip(covered(self, frame, grid)) {
                row[from as usize..to as usize].fill(false);
            }
        }
        out
    }

    /// Outlines of what no frame in use shows, in pixels of the reference, from the top; nothing where all is shown.
    pub fn missing(&self) -> Vec<Vec<Point>> {
        let canvas = self.canvas();
        let level = (0..16).find(|&k| canvas.size().at_level(k).pixels() <= MOST_PIXELS).unwrap_or(15);
        let grid = self.grid(View::Plate, level);
        let missing = self.uncovered(&grid);
        pieces(&missing, &grid)
    }
}

/// What is missing, in pieces along the sides of its picture.
fn pieces(missing: &[bool], grid: &Grid) -> Vec<Vec<Point>> {
    let (w, h) = (grid.rect.width as usize, grid.rect.height as usize);
    let longest = ((LONGEST / grid.step()) as usize).max(1);
    // Which side each is nearest to, and which part of that.
    let piece = |p: usize| {
        let (x, y) = (p % w, p / w);
        let sides = [x, y, w - 1 - x, h - 1 - y];
        let side = (0..4).min_by_key(|&k| sides[k]).unwrap_or(0);
        let (along, whole) = if side % 2 == 0 { (y, h) } else { (x, w) };
        let count = whole.div_ceil(longest);
        (side, along * count / whole)
    };
    let of: Vec<u32> = (0..missing.len())
        .map(|p| {
            let (side, part) = piece(p);
            if missing[p] { 1 + (4 * part + side) as u32 } else { 0 }
        })
        .collect();
    let mut names: Vec<u32> = of.iter().copied().filter(|n| *n > 0).collect();
    names.sort_unstable();
    names.dedup();
    let beyond = (BEYOND / grid.step()).ceil() as usize + usize::from(grid.level > 0);
    let mut out: Vec<Vec<Point>> = Vec::new();
    for name in names {
        let mut open: Vec<bool> = of.iter().map(|n| *n == name).collect();
        for part in parts(&mut open, w, 0..of.len(), 1) {
            let mut own = vec![false; of.len()];
            part.iter().for_each(|&p| own[p] = true);
            let near = distances_within(&own, w, beyond);
            let first = near.iter().position(|d| d.is_finite()).unwrap_or(0);
            let inside = |x: i64, y: i64| {
                x >= 0
                    && y >= 0
                    && x < w as i64
                    && y < h as i64
                    && near[y as usize * w + x as usize].is_finite()
            };
            let outline = simplified_to(&trace(w, first, inside), 0.7, 200);
            out.push(outline.iter().map(|p| grid.place(p.x, p.y)).collect());
        }
    }
    out.sort_by(|a, b| a[0].y.total_cmp(&b[0].y).then(a[0].x.total_cmp(&b[0].x)));
    out.truncate(MOST);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Homography, Rect, Size};
    use crate::patch::mask::Mask;
    use crate::pixel::{FrameSource, MemoryFrame, Samples};
    use crate::plan::{FrameAlignment, Plan};
    use crate::recipe::{Canvas, Recipe};
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn pieces_cover_all_that_is_missing_and_little_else(x in -30.0..30.0f64, y in -24.0..24.0f64, turn in -0.05..0.05f64) {
            let size = Size::new(160, 120);
            let blank = || MemoryFrame::new(size, Samples::Eight(vec![90; 160 * 120 * 3]));
            let frames = [blank(), blank()];
            let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
            let transform = Homography::new([turn.cos(), -turn.sin(), x, turn.sin(), turn.cos(), y, 0.0, 0.0, 1.0]);
            let plan = Plan::of(vec![
                FrameAlignment::untouched(size),
                FrameAlignment { transform, ..FrameAlignment::untouched(size) },
            ]);
            let recipe = Recipe { canvas: Canvas::Whole, ..Recipe::new() };
            let scene = Scene::new(&recipe, &plan, &sources);
            let canvas = scene.canvas();
            prop_assert_eq!(canvas.union(size.rect()), canvas);
            prop_assert!(canvas.x >= -40 && canvas.right() <= 200 && canvas.y >= -30 && canvas.bottom() <= 150);
            let grid = scene.grid(View::Plate, 0);
            let missing = scene.uncovered(&grid);
            let masks: Vec<Mask> = scene.missing().iter().filter_map(|o| Mask::drawn(o, 2.0, 0.0, canvas)).collect();
            let (mut covered, mut more) = (vec![0.0f32; missing.len()], 0usize);
            for mask in &masks {
                for (row, line) in covered.chunks_mut(canvas.width as usize).enumerate() {
                    let Some(weights) = mask.row(&grid, row) else { continue };
                    line.iter_mut().zip(weights).for_each(|(c, v)| *c = c.max(v));
                }
            }
            for (covered, missing) in covered.iter().zip(&missing) {
                prop_assert!(!missing || *covered > 0.97, "{covered} of a pixel that nobody shows");
                more += usize::from(!missing && *covered > 0.5);
            }
            let border = 8.0 * 2.0 * f64::from(canvas.width + canvas.height);
            prop_assert!((more as f64) < border, "{more} pixels that are there");
        }
    }

    #[test]
    fn a_long_border_comes_in_pieces_and_a_full_picture_has_none() {
        let grid = Grid::new(Rect::new(0, 0, 2400, 60), 0);
        let top: Vec<bool> = (0..2400 * 60).map(|p| p / 2400 < 20).collect();
        assert_eq!(pieces(&top, &grid).len(), 5, "three along the top, and a corner at either side");
        assert!(pieces(&vec![false; 2400 * 60], &grid).is_empty());
    }
}
