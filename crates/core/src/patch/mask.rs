//! How strongly a patch covers each place: a small picture of weights over its outline.
//!
//! ```
//! use evanu_core::geometry::{Point, Size};
//! use evanu_core::patch::mask::Mask;
//!
//! let outline = [(10.0, 10.0), (30.0, 10.0), (30.0, 30.0), (10.0, 30.0)].map(|(x, y)| Point::new(x, y));
//! let mask = Mask::drawn(&outline, 2.0, 0.0, Size::new(100, 80)).expect("it lies on the picture");
//! assert_eq!((mask.at(Point::new(20.0, 20.0)), mask.at(Point::new(50.0, 20.0))), (1.0, 0.0));
//! assert!((0.2..0.8).contains(&mask.at(Point::new(10.0, 20.0))), "it fades across the outline");
//! assert!(Mask::drawn(&outline, 2.0, 0.0, Size::new(5, 5)).is_none());
//! ```

use crate::geometry::{Grid, Point, Rect, Size, around, meets};
use crate::pixel::blur::boxed;
use crate::pixel::flood::parts;
use rayon::prelude::*;

/// Most pixels of a mask as it is drawn at first.
pub(crate) const MOST_PIXELS: u64 = 1 << 17;
/// Brightness, as a share of white, that tells two sides of a border apart for the guided filter.
const EDGE: f32 = 0.02;
/// The filter is run this often, each time from where the last one left the border.
const ROUNDS: usize = 5;
/// Weights this near to nothing or all are taken for it.
const VEIL: f32 = 0.2;

/// Values over a part of the reference, at a level of its pyramid.
#[derive(Debug, Clone, PartialEq)]
pub struct Sheet {
    /// The pixels that the values lie on.
    pub grid: Grid,
    /// By rows.
    pub values: Vec<f32>,
}

impl Sheet {
    /// The values along a row of the reference; beyond the border they go on.
    pub fn row(&self, y: f64) -> SheetRow<'_> {
        let (y, size) = (self.grid.row(y), self.grid.size());
        let w = size.width as usize;
        let line = |y: i64| &self.values[y.clamp(0, i64::from(size.height) - 1) as usize * w..][..w];
        let top = floor(y);
        SheetRow { sheet: self, top: line(top), below: line(top + 1), down: (y - top as f64) as f32 }
    }

    /// The value at a place of the reference.
    pub fn get(&self, p: Point) -> f32 {
        self.row(p.y).get(p.x)
    }
}

/// A sheet's values between two of its rows.
pub struct SheetRow<'a> {
    sheet: &'a Sheet,
    top: &'a [f32],
    below: &'a [f32],
    /// Share of the lower one.
    down: f32,
}

impl SheetRow<'_> {
    /// The value at a column of the reference.
    pub fn get(&self, x: f64) -> f32 {
        self.value(self.sheet.grid.column(x))
    }

    /// The same at one of the sheet's own.
    fn value(&self, x: f64) -> f32 {
        let left = floor(x);
        let right = (x - left as f64) as f32;
        let pixel = |x: i64| x.clamp(0, self.top.len() as i64 - 1) as usize;
        let (a, b) = (pixel(left), pixel(left + 1));
        let mix = |row: &[f32]| row[a] * (1.0 - right) + row[b] * right;
        mix(self.top) * (1.0 - self.down) + mix(self.below) * self.down
    }
}

/// The whole number below; the library's own is a call where the processor's is not assumed.
fn floor(v: f64) -> i64 {
    let whole = v as i64;
    whole - i64::from(v < whole as f64)
}

/// Weights over a part of the reference, 0..=1; nothing beyond.
#[derive(Debug, Clone, PartialEq)]
pub struct Mask(Sheet);

impl Mask {
    /// The inside of a closed outline in pixels of the reference, fading over `feather` of them to both sides, with at least
    /// `margin` of them around it; `None` when nothing of it lies within `all`, those of the whole picture.
    pub fn drawn(outline: &[Point], feather: f64, margin: f64, all: impl Into<Rect>) -> Option<Self> {
        Self::drawn_by(outline, feather, [margin; 4], all.into(), MOST_PIXELS)
    }

    /// The same with margins to the left, above, to the right and below, of at most so many pixels.
    pub(crate) fn drawn_by(
        outline: &[Point],
        feather: f64,
        margins: [f64; 4],
        all: Rect,
        most: u64,
    ) -> Option<Self> {
        let grid = area(outline, feather, margins, all, most)?;
        let (w, h) = (grid.rect.width as usize, grid.rect.height as usize);
        let mut weights = vec![0.0; w * h];
        weights.par_chunks_mut(w.max(1)).enumerate().for_each(|(row, line)| {
            // Four places a pixel, so that the border of a small mask is even.
            for down in [-0.25, 0.25] {
                let crossed = crossings(outline, grid.y(row as f64 + down));
                for (column, v) in line.iter_mut().enumerate() {
                    for right in [-0.25, 0.25] {
                        let place = grid.x(column as f64 + right);
                        let before = crossed.partition_point(|c| c.0 <= place);
                        let wound = before.checked_sub(1).map_or(0, |k| crossed[k].1);
                        *v += if wound == 0 { 0.0 } else { 0.25 };
                    }
                }
            }
        });
        let mut mask = Self(Sheet { grid, values: weights });
        mask.soften(feather / grid.step());
        Some(mask)
    }

    /// The weights, by rows over [`Self::grid`].
    pub fn weights(&self) -> &[f32] {
        &self.0.values
    }

    /// Other weights in the same place: 0..=1, as many and in the same order as [`Self::weights`].
    pub fn set(&mut self, weights: Vec<f32>) {
        self.0.values = weights;
    }

    /// The pixels of its weights, and of the picture that [`Self::follow`] wants.
    pub fn grid(&self) -> Grid {
        self.0.grid
    }

    /// Columns and rows of its weights.
    fn sides(&self) -> (usize, usize) {
        let size = self.0.grid.size();
        (size.width as usize, size.height as usize)
    }

    /// Moves the border to where the guide, brightness from 0 to 1, has its edges: the guided filter of He, Sun and
    /// Tang (2013) with a radius of `reach` reference pixels.
    pub fn follow(&mut self, guide: &[f32], reach: f64) {
        let (w, h) = self.sides();
        let r = ((reach / self.0.grid.step()).round() as usize).clamp(2, 64);
        let count = boxed(&vec![1.0; w * h], w, h, r);
        let mean = |plane: &[f32]| -> Vec<f32> {
            boxed(plane, w, h, r).iter().zip(&count).map(|(v, n)| v / n).collect()
        };
        let product = |a: &[f32], b: &[f32]| -> Vec<f32> { a.iter().zip(b).map(|(a, b)| a * b).collect() };
        let mi = mean(guide);
        let spread: Vec<f32> =
            mean(&product(guide, guide)).iter().zip(&mi).map(|(ii, i)| ii - i * i + EDGE * EDGE).collect();
        let certain = mean(&spread);
        for _ in 0..ROUNDS {
            let (mp, mip) = (mean(&self.0.values), mean(&product(guide, &self.0.values)));
            // Windows that see an edge have more say (cf. Li et al. 2015): those that see none know nothing of it.
            let slope: Vec<f32> = (0..w * h).map(|i| mip[i] - mi[i] * mp[i]).collect();
            let base: Vec<f32> = (0..w * h).map(|i| mp[i] * spread[i] - slope[i] * mi[i]).collect();
            let (slope, base) = (mean(&slope), mean(&base));
            for (i, v) in self.0.values.iter_mut().enumerate() {
                // What is nearly all or nothing becomes so: no veil stays far from the border.
                let q = (slope[i] * guide[i] + base[i]) / certain[i];
                *v = ((q - VEIL) / (1.0 - 2.0 * VEIL)).clamp(0.0, 1.0);
            }
        }
    }

    fn soften(&mut self, by: f64) {
        // Three boxes of this width come close to an even ramp.
        let reach = (by / 1.7).round() as usize;
        if reach > 0 {
            let (w, h) = self.sides();
            // Beyond the picture the area goes on: weights are means of what is there.
            let count = boxed(&vec![1.0; w * h], w, h, reach);
            for _ in 0..3 {
                let sums = boxed(&self.0.values, w, h, reach);
                self.0.values = sums.iter().zip(&count).map(|(v, n)| v / n).collect();
            }
        }
    }

    /// The outlines of pixels of its picture, in pixels of the reference, the largest first.
    pub fn outlines(&self, set: &[bool]) -> Vec<Vec<Point>> {
        Self::outlines_of(&self.0.grid, set)
    }

    /// The same of any picture's pixels.
    pub fn outlines_of(grid: &Grid, set: &[bool]) -> Vec<Vec<Point>> {
        /// Fewer pixels are no shape.
        const LEAST_PIXELS: usize = 8;
        /// Corners of an outline at most.
        const CORNERS: usize = 400;
        let mut open = set.to_vec();
        let mut parts = parts(&mut open, grid.rect.width as usize, 0..set.len(), 1);
        parts.retain(|part| part.len() >= LEAST_PIXELS);
        parts.sort_by_key(|part| std::cmp::Reverse(part.len()));
        let outline = |part: &Vec<usize>| {
            let mut on = vec![false; set.len()];
            part.iter().for_each(|&p| on[p] = true);
            grid.outline(&on, CORNERS)
        };
        parts.iter().map(outline).collect()
    }

    /// The weights along a row of other pixels, counted from their first; `None` where all are nothing.
    pub fn row(&self, of: &Grid, row: usize) -> Option<Vec<f32>> {
        let from = of.first();
        let place = Point::new(from.x, from.y + of.step() * row as f64);
        self.along(place, of.step(), of.rect.width as usize)
    }

    /// The same of `n` places from one of the reference on, `up` of its pixels apart.
    pub(crate) fn along(&self, from: Point, up: f64, n: usize) -> Option<Vec<f32>> {
        let sheet = &self.0;
        let (y, size) = (sheet.grid.row(from.y), sheet.grid.size());
        // At the picture's own border the weight goes on, as far as the middle of a coarse pixel that lies half beyond it.
        let beyond = (up - 1.0) / 2.0 / sheet.grid.step();
        let wide = f64::from(size.width) + beyond;
        if y <= -1.0 - beyond || y >= f64::from(size.height) + beyond {
            return None;
        }
        let row = sheet.row(from.y);
        let first = sheet.grid.column(from.x);
        let step = up / sheet.grid.step();
        let begin = (((-1.0 - beyond - first) / step).max(-1.0) + 1.0) as usize;
        let end = (((wide - first) / step).max(0.0).ceil() as usize).min(n);
        let (mut line, mut any) = (vec![0.0; n], false);
        for (k, v) in line.iter_mut().enumerate().take(end).skip(begin) {
            *v = row.value(first + step * k as f64);
            any |= *v > 0.0;
        }
        any.then_some(line)
    }

    /// The weight at a place of the reference.
    pub fn at(&self, p: Point) -> f32 {
        self.along(p, 1.0, 1).map_or(0.0, |r| r[0])
    }

    /// The corners of the box that it lies in, in pixels of the reference.
    pub fn extent(&self) -> (Point, Point) {
        self.0.grid.bounds()
    }

    /// How much of it is cut off to each side (left, above, right, below) by the end of its own picture, inside a whole one of
    /// this size: pixels of the reference along the end.
    pub fn cut_off(&self, whole: Size) -> [u32; 4] {
        let Grid { rect, level, .. } = self.0.grid;
        let (all, (w, h)) = (whole.at_level(level), self.sides());
        let covered = |p: usize| self.0.values[p] > 0.5;
        // A single pixel may be any.
        let some = |inside: bool, count: usize| if inside && count > 1 { (count as u32) << level } else { 0 };
        let column = |x: usize| (0..h).filter(|y| covered(y * w + x)).count();
        let row = |y: usize| (0..w).filter(|x| covered(y * w + x)).count();
        [
            some(rect.x > 0, column(0)),
            some(rect.y > 0, row(0)),
            some(rect.right() < i64::from(all.width), column(w - 1)),
            some(rect.bottom() < i64::from(all.height), row(h - 1)),
        ]
    }

    /// Share of what another one covers that it covers too, 0..=1.
    pub fn covers(&self, other: &Self) -> f32 {
        let (grid, (w, _)) = (other.0.grid, other.sides());
        let covered = (0..other.0.values.len()).filter(|&p| other.0.values[p] > 0.5);
        let (mut both, mut all) = (0usize, 0usize);
        for p in covered {
            both += usize::from(self.at(grid.place((p % w) as f64, (p / w) as f64)) > 0.5);
            all += 1;
        }
        both as f32 / all.max(1) as f32
    }

    /// How long its border is, in pixels of the reference, without the ends of its picture.
    pub fn length(&self) -> u32 {
        let (w, _) = self.sides();
        let covered = |p: usize| self.0.values[p] > 0.5;
        let beside = |p: &usize| !(p + 1).is_multiple_of(w) && covered(*p) != covered(p + 1);
        let below = |p: &usize| p + w < self.0.values.len() && covered(*p) != covered(p + w);
        let all = 0..self.0.values.len();
        ((all.clone().filter(beside).count() + all.filter(below).count()) as u32) << self.0.grid.level
    }

    /// The corners of the box outside which it covers nothing, in pixels of the reference.
    pub fn reach(&self) -> (Point, Point) {
        reach(&self.0.grid)
    }

    /// Whether it may cover any of a box of the reference.
    pub fn touches(&self, from: Point, to: Point) -> bool {
        meets(self.reach(), (from, to))
    }
}

/// The pixels, at most so many, that a mask of an outline has, as [`Mask::drawn`] makes it.
pub(crate) fn area(outline: &[Point], feather: f64, margins: [f64; 4], all: Rect, most: u64) -> Option<Grid> {
    let (corner, sides) = around(&[outline.to_vec()], all)?;
    let corner = Point::new(corner.x - all.x as f64, corner.y - all.y as f64);
    let [left, above, right, below] = margins.map(|m| m.max(2.0 * feather + 2.0));
    let level = (0..16).find(|&k| {
        let side = |v: f64| (v / f64::from(1u32 << k)).ceil() as u64 + 2;
        side(sides.x + left + right) * side(sides.y + above + below) <= most
    })?;
    let up = f64::from(1u32 << level);
    let low = |v: f64| (v / up).floor() as i64;
    let high = |v: f64| (v / up).ceil() as i64 + 1;
    let (x, y) = (low(corner.x - left), low(corner.y - above));
    let (right, bottom) = (high(corner.x + sides.x + right), high(corner.y + sides.y + below));
    let rect = Rect::new(x, y, (right - x) as u32, (bottom - y) as u32);
    let whole = Grid::of_canvas(all, level);
    Some(whole.cut(rect.intersect(whole.rect)))
}

/// The corners of the box outside which a mask of these pixels covers nothing, in pixels of the reference.
pub(crate) fn reach(grid: &Grid) -> (Point, Point) {
    let Rect { x, y, width, height } = grid.rect;
    grid.cut(Rect::new(x - 1, y - 1, width + 2, height + 2)).bounds()
}

/// Where a closed outline crosses a row, from left to right, and how often it has wound around what follows: a stroke that
/// crosses itself covers the crossing too.
fn crossings(outline: &[Point], y: f64) -> Vec<(f64, i32)> {
    let ends = outline.iter().zip(outline.iter().cycle().skip(1));
    let mut at: Vec<(f64, i32)> = ends
        .filter(|(p, q)| (p.y > y) != (q.y > y))
        .map(|(p, q)| (p.x + (q.x - p.x) * (y - p.y) / (q.y - p.y), if q.y > p.y { 1 } else { -1 }))
        .collect();
    at.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
    let mut wound = 0;
    for crossing in &mut at {
        wound += crossing.1;
        crossing.1 = wound;
    }
    at
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn square(from: f64, to: f64) -> Vec<Point> {
        [(from, from), (to, from), (to, to), (from, to)].map(|(x, y)| Point::new(x, y)).to_vec()
    }

    #[test]
    fn a_drawn_area_covers_its_inside_and_fades_over_its_softness() {
        let hard = Mask::drawn(&square(100.0, 200.0), 0.0, 0.0, Size::new(400, 300)).unwrap();
        for (x, wanted) in [(95.0, 0.0), (110.0, 1.0), (199.0, 1.0), (204.0, 0.0)] {
            assert_eq!(hard.at(Point::new(x, 150.0)), wanted, "at {x}");
        }
        let feather = Mask::drawn(&square(100.0, 200.0), 12.0, 0.0, Size::new(400, 300)).unwrap();
        assert!((feather.at(Point::new(100.0, 150.0)) - 0.5).abs() < 0.02);
        assert_eq!(feather.at(Point::new(74.0, 150.0)), 0.0);
        assert_eq!(feather.at(Point::new(150.0, 150.0)), 1.0);
        assert_eq!(Mask::drawn(&square(500.0, 600.0), 1.0, 0.0, Size::new(400, 300)), None);
    }

    #[test]
    fn what_the_end_of_its_picture_cuts_off_is_measured_along_it() {
        let reference = Size::new(400, 300);
        // At half size: all of the lower end, two more places of the right one and of the left.
        let (w, h) = (30u32, 20u32);
        let covers = |x: u32, y: u32| {
            y == h - 1 || x == w - 1 && (4..6).contains(&y) || x == 0 && (9..11).contains(&y)
        };
        let values = (0..w * h).map(|p| f32::from(u8::from(covers(p % w, p / w)))).collect();
        let mask = Mask(Sheet { grid: Grid::new(Rect::new(10, 10, w, h), 1), values });
        assert_eq!(mask.cut_off(reference), [6, 0, 6, 60]);
        assert_eq!(mask.length(), 2 * (30 + 4 + 4));
        // The reference's own end cuts nothing off.
        let all = Mask::drawn(&square(-50.0, 450.0), 0.0, 0.0, reference).unwrap();
        assert_eq!(all.cut_off(reference), [0; 4]);
    }

    #[test]
    fn a_larger_one_covers_a_smaller_one_and_not_the_other_way_round() {
        let drawn = |to: f64, most| {
            Mask::drawn_by(&square(100.0, to), 0.0, [0.0; 4], Rect::new(0, 0, 400, 300), most).unwrap()
        };
        let (small, large) = (drawn(180.0, MOST_PIXELS), drawn(220.0, 4000));
        assert!(large.grid().level > small.grid().level, "of different levels");
        assert!(large.covers(&small) > 0.99);
        let share = 80.0f32.powi(2) / 120.0f32.powi(2);
        assert!((small.covers(&large) - share).abs() < 0.03, "{}", small.covers(&large));
    }

    #[test]
    fn a_stroke_that_crosses_itself_covers_the_crossing() {
        let bow = [
            (50.0, 50.0),
            (250.0, 50.0),
            (250.0, 200.0),
            (80.0, 200.0),
            (80.0, 20.0),
            (120.0, 20.0),
            (120.0, 160.0),
            (50.0, 160.0),
        ];
        let mask = Mask::drawn(&bow.map(|(x, y)| Point::new(x, y)), 0.0, 0.0, Size::new(400, 300)).unwrap();
        assert_eq!(mask.at(Point::new(100.0, 100.0)), 1.0, "wound around twice");
        assert_eq!(mask.at(Point::new(200.0, 100.0)), 1.0);
        assert_eq!(mask.at(Point::new(300.0, 100.0)), 0.0);
    }

    #[test]
    fn beyond_the_picture_an_area_goes_on() {
        let mask = Mask::drawn(&square(-50.0, 50.0), 10.0, 0.0, Size::new(400, 300)).unwrap();
        assert!(mask.at(Point::new(0.0, 0.0)) > 0.99);
    }

    #[test]
    fn a_border_follows_the_skyline() {
        let size = Size::new(200, 200);
        // Bright above a line that climbs, dark below; the area was drawn straight.
        let skyline = |x: i64| 100 + x / 10 - 10;
        let outline =
            [(-1.0, -1.0), (201.0, -1.0), (201.0, 100.0), (-1.0, 100.0)].map(|(x, y)| Point::new(x, y));
        let mut mask = Mask::drawn(&outline, 4.0, 0.0, size).unwrap();
        let Grid { rect, level, .. } = mask.grid();
        assert_eq!(level, 0);
        let guide: Vec<f32> = (0..rect.height as i64 * rect.width as i64)
            .map(|i| {
                let (x, y) = (rect.x + i % rect.width as i64, rect.y + i / rect.width as i64);
                if y < skyline(x) { 0.8 } else { 0.2 }
            })
            .collect();
        mask.follow(&guide, 30.0);
        for x in [20, 60, 140, 180] {
            let line = skyline(x) as f64;
            let (above, below) = (Point::new(x as f64, line - 3.0), Point::new(x as f64, line + 3.0));
            assert!(mask.at(above) > 0.8, "above at {x}: {}", mask.at(above));
            assert!(mask.at(below) < 0.2, "below at {x}: {}", mask.at(below));
        }
    }

    proptest! {
        #[test]
        fn a_row_is_what_lies_between_its_pixels(
            w in 1u32..9, h in 1u32..9, x in -4i64..9, y in -4i64..9, level in 0u32..3, seed: u64,
            from in (-20.0..40.0f64, -20.0..40.0f64), up in 0u32..3
        ) {
            let mut random = crate::random::Random::new(seed);
            let values: Vec<f32> = (0..w * h).map(|_| random.unit() as f32).collect();
            let mask = Mask(Sheet { grid: Grid::new(Rect::new(x, y, w, h), level), values: values.clone() });
            // Halves, as pixel centres of any level are.
            let (from, up) = (Point::new((2.0 * from.0).round() / 2.0, (2.0 * from.1).round() / 2.0), f64::from(1 << up));
            let row = mask.along(from, up, 30).unwrap_or_else(|| vec![0.0; 30]);
            for (k, v) in row.into_iter().enumerate() {
                let own = |v: f64, first: i64| (v + 0.5) / f64::from(1u32 << level) - 0.5 - first as f64;
                let (px, py) = (own(from.x + up * k as f64, x), own(from.y, y));
                let beyond = (up - 1.0) / 2.0 / f64::from(1u32 << level);
                let within = |v: f64, n: u32| v > -1.0 - beyond && v < f64::from(n) + beyond;
                let at = |i: f64, j: f64| {
                    let (i, j) = (i.clamp(0.0, f64::from(w - 1)), j.clamp(0.0, f64::from(h - 1)));
                    f64::from(values[(j as u32 * w + i as u32) as usize])
                };
                let (i, j) = (px.floor(), py.floor());
                let mix = |j| at(i, j) * (1.0 - px + i) + at(i + 1.0, j) * (px - i);
                let between = mix(j) * (1.0 - py + j) + mix(j + 1.0) * (py - j);
                let wanted = if within(px, w) && within(py, h) { between } else { 0.0 };
                prop_assert!((f64::from(v) - wanted).abs() < 1e-5, "{} instead of {}", v, wanted);
            }
        }

        #[test]
        fn nothing_is_covered_beyond_its_reach(
            x in 0.0..300.0f64, y in 0.0..200.0f64, wide in 1.0..900.0f64, high in 1.0..500.0f64, feather in 0.0..20.0f64
        ) {
            let size = Size::new(1000, 700);
            let outline = [(x, y), (x + wide, y), (x + wide, y + high), (x, y + high)].map(|(x, y)| Point::new(x, y));
            let mask = Mask::drawn(&outline, feather, 0.0, size).unwrap();
            let grid = mask.grid();
            prop_assert_eq!(area(&outline, feather, [0.0; 4], size.into(), MOST_PIXELS), Some(grid), "known before it is drawn");
            prop_assert_eq!(mask.reach(), reach(&grid));
            let (low, high) = mask.reach();
            for step in 0..60 {
                let p = Point::new(f64::from(step) * 17.0, f64::from(step * 37 % 60) * 12.0);
                let inside = p.x >= low.x && p.x <= high.x && p.y >= low.y && p.y <= high.y;
                prop_assert!(inside || mask.at(p) == 0.0, "{:?}", p);
                prop_assert_eq!(mask.touches(p, p), inside);
            }
        }
    }
}
