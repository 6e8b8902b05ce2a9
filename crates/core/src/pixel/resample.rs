//! Resampling a frame once, in linear light, through a plane transform, bent where depth asks for it, or any other projection.
//!
//! Kernel: Lanczos with three lobes over 6×6 source pixels (Duchon 1979; compared in Burger and Burge 2009),
//! weights as polynomials of the place between two pixels, brought to a sum of one, down columns and along rows. In each direction the sum is kept in
//! the range of the four nearest pixels, so that no dark rim appears beside a bright edge, but where they form a peak it
//! may rise above them (after the limiter of Suresh and Huynh 1997): clamped there too, fine detail lost eight percent of
//! its energy. Frames that stand upright are resampled in two passes, others at each place by itself.
//!
//! ```
//! use evanu_core::geometry::{Homography, Rect, Size};
//! use evanu_core::pixel::{MemoryFrame, Samples, resample::resample};
//!
//! let frame = MemoryFrame::new(Size::new(60, 40), Samples::Eight(vec![128; 3 * 60 * 40]));
//! // Output pixels lie 2.25 pixels further to the right in the frame, which therefore ends earlier.
//! let to_frame = Homography::shift(2.25, 0.0);
//! let out = resample(&frame, 0, &to_frame, Rect::new(0, 0, 64, 4))?;
//! assert_eq!(out.spans[0], (0, 58));
//! assert!((out.planes[0][30] - 0.2158).abs() < 1e-3, "linear light of code 128");
//! # Ok::<(), evanu_core::pixel::SourceError>(())
//! ```

use super::kernel::{self, Along, CHUNK, Chunk, LANCZOS, TAPS, Window};
use super::tone::{LINEAR_OF_U8, LINEAR_OF_U16, linear_of_root};
use super::{FrameSource, Samples, SourceError};
use crate::geometry::{Homography, Point, Rect, Sampling, Size};
use std::cell::RefCell;

thread_local! {
    /// A row of a frame and the rows that the first of two passes makes; kept, because clearing them anew for each
    /// block costs.
    static SCRATCH: RefCell<(Vec<f32>, Vec<Chunk>)> = const { RefCell::new((Vec::new(), Vec::new())) };
}

/// Gets each covered run of a row, from the top down: its row, its first column, and its samples by channel, which are
/// its to change.
pub type Sink<'s> = &'s mut dyn FnMut(usize, usize, [&mut [f32]; 3]);

/// A resampled region: linear light, planar.
pub struct Resampled {
    /// Red, green and blue, `width * height` values each.
    pub planes: [Vec<f32>; 3],
    /// For each row, the columns that the frame covers: first and one past the last.
    pub spans: Vec<(u32, u32)>,
}

/// Resamples `region` (in output pixels) of `source` at `level`.
///
/// `to_frame` maps output pixels to pixels of that level. Where the frame does not reach, samples are zero and
/// lie outside the row's span.
///
/// # Errors
/// When the source cannot be read.
pub fn resample<'a>(
    source: &dyn FrameSource,
    level: u32,
    to_frame: impl Into<Sampling<'a>>,
    region: Rect,
) -> Result<Resampled, SourceError> {
    let n = region.size().pixels() as usize;
    let mut planes = [vec![0.0; n], vec![0.0; n], vec![0.0; n]];
    let spans = resample_rows(source, level, to_frame, region, &mut |row, x, run| {
        for (plane, run) in planes.iter_mut().zip(run) {
            plane[row * region.width as usize + x..][..run.len()].copy_from_slice(run);
        }
    })?;
    Ok(Resampled { planes, spans })
}

/// The same row by row, while each is in the nearest cache; returns the columns that each row covers.
///
/// # Errors
/// When the source cannot be read.
pub fn resample_rows<'a>(
    source: &dyn FrameSource,
    level: u32,
    to_frame: impl Into<Sampling<'a>>,
    region: Rect,
    sink: Sink<'_>,
) -> Result<Vec<(u32, u32)>, SourceError> {
    let sampling = to_frame.into();
    let size = source.size().at_level(level);
    let spans = reach(size, &sampling, region);
    let Sampling::Plane(warp) = sampling else {
        one_by_one(source, level, &sampling, region, (&spans, sink))?;
        return Ok(spans);
    };
    let to_frame = warp.plane();
    let corner = Size::new(region.right().max(1) as u32, region.bottom().max(1) as u32);
    match to_frame.as_whole_shift(corner).filter(|_| warp.bend.is_none()) {
        Some(shift) => copy(source, level, region, (shift, &spans), sink)?,
        None if warp.bend.is_none() && upright(&to_frame, size) => {
            two_passes(source, level, &to_frame, region, (&spans, sink))?;
        }
        None => one_by_one(source, level, &sampling, region, (&spans, sink))?,
    }
    Ok(spans)
}

/// The columns of each row of `region` that a frame covers: first and one past the last, counted from the region's left; both 0
/// where it covers none. `sampling` leads from output pixels to pixels of the level whose size is given. Nothing is read: two places a
/// row are worked out where all of it is covered, every place elsewhere.
pub fn reach(size: Size, sampling: &Sampling<'_>, region: Rect) -> Vec<(u32, u32)> {
    let first = |row: u32| Point::new(region.x as f64, (region.y + i64::from(row)) as f64);
    let place = |from: Point, x: u32| Point::new(from.x + f64::from(x), from.y);
    let spans = |row: u32| {
        let from = first(row);
        match sampling {
            Sampling::Plane(warp) if warp.bend.is_none() => {
                let plane = warp.plane();
                span(region.width, |x| size.holds(plane.apply(place(from, x))))
            }
            Sampling::Plane(warp) => {
                let line = warp.line(from);
                span(region.width, |x| size.holds(line(x)))
            }
            Sampling::Each(_) => span(region.width, |x| sampling.holds(size, sampling.apply(place(from, x)))),
        }
    };
    (0..region.height).map(spans).collect()
}

/// Whether rows of the frame lie along rows of the output everywhere, and columns along columns: then the kernel may
/// be laid along the frame's rows and the output's columns, a lean of some degrees being no loss. Nor does the scale change so
/// much from pixel to pixel that a chunk's places cannot be told from its middle.
fn upright(to_frame: &Homography, size: Size) -> bool {
    const LEAN: f64 = 0.12;
    const CHANGE: f64 = 1e-3;
    let Some(back) = to_frame.inverse() else { return false };
    size.corners().iter().all(|&p| {
        let q = back.apply(p);
        let (a, b) = (to_frame.apply(Point::new(q.x + 1.0, q.y)), to_frame.apply(Point::new(q.x, q.y + 1.0)));
        let (a, b) = ((a.x - p.x, a.y - p.y), (b.x - p.x, b.y - p.y));
        let fair = |v: f64| (0.4..2.5).contains(&v);
        let [.., x, y, one] = to_frame.0;
        let even = x.abs() + y.abs() < CHANGE * (x * q.x + y * q.y + one).abs();
        even && fair(a.0) && fair(b.1) && a.1.abs() < LEAN * a.0 && b.0.abs() < LEAN * b.1
    })
}

/// The general case: every position is worked out, and the kernel laid over 6×6 pixels there.
fn one_by_one(
    source: &dyn FrameSource,
    level: u32,
    sampling: &Sampling<'_>,
    region: Rect,
    (spans, sink): (&[(u32, u32)], Sink<'_>),
) -> Result<(), SourceError> {
    let size = source.size().at_level(level);
    let line = |(row, s): (usize, &(u32, u32))| -> Vec<Point> {
        let from = Point::new(region.x as f64, (region.y + row as i64) as f64);
        match sampling {
            Sampling::Plane(warp) => (s.0..s.1).map(warp.line(from)).collect(),
            Sampling::Each(_) => {
                (s.0..s.1).map(|x| sampling.apply(Point::new(from.x + f64::from(x), from.y))).collect()
            }
        }
    };
    let mut places: Vec<Vec<Point>> = spans.iter().enumerate().map(line).collect();
    let wraps = sampling.wraps();
    if wraps {
        unwrap(&mut places, f64::from(size.width));
    }
    let Some(bounds) = bounds(places.iter().flatten().copied(), size, wraps) else { return Ok(()) };
    let window = Window::read(source, level, bounds, wraps)?;
    let mut made = vec![0.0; 3 * region.width as usize];
    for (row, (x, width)) in runs(spans) {
        let mut run = thirds(&mut made[..3 * width]);
        kernel::at_places(&places[row], &LANCZOS, &window, run.each_mut().map(|p| &mut **p));
        sink(row, x, run);
    }
    Ok(())
}

/// Counts columns on beyond the ends of a frame that wraps, so that neighbours among the places stay neighbours.
fn unwrap(places: &mut [Vec<Point>], width: f64) {
    let Some(mut near) = places.iter().flatten().next().map(|p| p.x) else { return };
    for line in places {
        let mut last = near;
        for (k, p) in line.iter_mut().enumerate() {
            p.x += width * ((last - p.x) / width).round();
            last = p.x;
            near = if k == 0 { p.x } else { near };
        }
    }
}

/// First along the frame's rows, to where the output's columns cross them, then down those columns (Catmull and Smith
/// 1980): twelve products a sample instead of 36, and still one resampling.
fn two_passes(
    source: &dyn FrameSource,
    level: u32,
    to_frame: &Homography,
    region: Rect,
    (spans, sink): (&[(u32, u32)], Sink<'_>),
) -> Result<(), SourceError> {
    let size = source.size().at_level(level);
    let place = |x: u32, row: usize| {
        to_frame.apply(Point::new((region.x + i64::from(x)) as f64, (region.y + row as i64) as f64))
    };
    // A line maps to a line, so what is covered of it is one run and its ends lie farthest out.
    let ends: Vec<(usize, [Point; 2])> = spans
        .iter()
        .enumerate()
        .filter(|(_, s)| s.1 > s.0)
        .map(|(row, s)| (row, [place(s.0, row), place(s.1 - 1, row)]))
        .collect();
    let Some(bounds) = bounds(ends.iter().flat_map(|(_, e)| *e), size, false) else { return Ok(()) };
    let lines = Lines::read(source, level, bounds, false)?;
    // Rows of the frame from the first that an output row needs to the last that it or one before it needed.
    let (mut needed, mut last, mut reach) = (vec![0usize; region.height as usize], 0, TAPS);
    for (row, [p, q]) in &ends {
        let start = |v: f64| (v.floor() as i64 - bounds.y - 3).clamp(0, i64::from(bounds.height)) as usize;
        last = (start(p.y.max(q.y)) + TAPS + 2).min(bounds.height as usize).max(last);
        reach = reach.max(last - start(p.y.min(q.y)));
        needed[*row] = last;
    }
    // Samples are made in chunks that are counted from pixel 0, from one that begins so many columns before the region.
    let before = region.x.rem_euclid(CHUNK as i64) as usize;
    let first = region.x - before as i64;
    let (m, width) = (&to_frame.0, before + region.width as usize);
    SCRATCH.with_borrow_mut(|(line, ring)| {
        let long = bounds.width as usize + 2 * CHUNK;
        line.resize(3 * (long + width), 0.0);
        let (line, made) = line.split_at_mut(3 * long);
        let mut ring = kernel::Ring::new(ring, width, reach, bounds.y, bounds.height as usize);
        let mut next = 0;
        for (row, (x, width)) in runs(spans) {
            for k in next..needed[row] {
                lines.line(k, thirds(line).map(|p| &mut p[CHUNK..CHUNK + bounds.width as usize]));
                // Column x of the output crosses row v of the frame where m3 x + m4 y + m5 = v (m6 x + m7 y + m8).
                let v = (bounds.y + k as i64) as f64;
                let (d, x, one) = (m[4] - v * m[7], v * m[6] - m[3], v * m[8] - m[5]);
                let along = Along {
                    top: (m[0] * d + m[1] * x, m[2] * d + m[1] * one),
                    bottom: (m[6] * d + m[7] * x, m[8] * d + m[7] * one),
                    first,
                };
                let planes = thirds(line).map(|p| &*p);
                kernel::across(planes, bounds.x, &along, &LANCZOS, ring.row(k));
            }
            next = next.max(needed[row]);
            let y = (region.y + row as i64) as f64;
            let along = Along { top: (m[3], m[4] * y + m[5]), bottom: (m[6], m[7] * y + m[8]), first };
            let mut run = thirds(&mut made[..3 * width]);
            kernel::down(&ring, before + x, &along, &LANCZOS, run.each_mut().map(|p| &mut **p));
            sink(row, x, run);
        }
    });
    Ok(())
}

/// The rows that are covered, each with its first column and how many there are.
fn runs(spans: &[(u32, u32)]) -> impl Iterator<Item = (usize, (usize, usize))> {
    let run = |s: &(u32, u32)| (s.0 as usize, s.1.saturating_sub(s.0) as usize);
    spans.iter().map(run).enumerate().filter(|(_, (_, width))| *width > 0)
}

/// The columns from the first to the last that lie on the frame.
fn span(width: u32, inside: impl Fn(u32) -> bool) -> (u32, u32) {
    if inside(0) && inside(width - 1) {
        return (0, width);
    }
    match ((0..width).find(|&x| inside(x)), (0..width).rfind(|&x| inside(x))) {
        (Some(first), Some(last)) => (first, last + 1),
        _ => (0, 0),
    }
}

/// Source pixels that these positions need, border included; `None` when there are none. Columns of a frame that wraps go on beyond it.
fn bounds(places: impl Iterator<Item = Point>, size: Size, wraps: bool) -> Option<Rect> {
    let mut ends = (f64::MAX, f64::MAX, f64::MIN, f64::MIN);
    for p in places {
        ends = (ends.0.min(p.x), ends.1.min(p.y), ends.2.max(p.x), ends.3.max(p.y));
    }
    if ends.0 > ends.2 {
        return None;
    }
    let clamp = |v: f64, n: u32| v.clamp(-1.0, f64::from(n)) as i64;
    let along = |v: f64| if wraps { v as i64 } else { clamp(v, size.width) };
    let (x, y) = (along(ends.0.floor()) - 3, clamp(ends.1.floor(), size.height) - 3);
    let (r, b) = (along(ends.2.floor()) + 5, clamp(ends.3.floor(), size.height) + 5);
    Some(Rect::new(x, y, (r - x) as u32, (b - y) as u32))
}

/// The exact case: whole pixels are taken over without a kernel.
fn copy(
    source: &dyn FrameSource,
    level: u32,
    region: Rect,
    ((dx, dy), spans): ((i64, i64), &[(u32, u32)]),
    sink: Sink<'_>,
) -> Result<(), SourceError> {
    let moved = Rect { x: region.x + dx, y: region.y + dy, ..region };
    let part = moved.intersect(source.size().at_level(level).rect());
    if part.is_empty() {
        return Ok(());
    }
    let lines = Lines::read(source, level, part, false)?;
    let mut made = vec![0.0; 3 * part.width as usize];
    for (k, (row, (x, _))) in runs(spans).enumerate() {
        lines.line(k, thirds(&mut made));
        sink(row, x, thirds(&mut made));
    }
    Ok(())
}

/// Stored samples of a part of a frame, with a border of repeated pixels where it reaches beyond.
struct Lines {
    read: Samples,
    /// What was read, and what is wanted.
    inner: Rect,
    bounds: Rect,
}

impl Lines {
    fn read(source: &dyn FrameSource, level: u32, bounds: Rect, wraps: bool) -> Result<Self, SourceError> {
        let size = source.size().at_level(level);
        let inner = bounds.intersect(size.rect());
        if wraps && (inner.x, inner.width) != (bounds.x, bounds.width) {
            return Self::read_around(source, level, bounds, size);
        }
        let inner = if inner.is_empty() { Rect::new(0, 0, 1, 1) } else { inner };
        Ok(Self { read: source.read(level, inner)?, inner, bounds })
    }

    /// The same beyond the left or right end of a frame that wraps.
    fn read_around(
        source: &dyn FrameSource,
        level: u32,
        bounds: Rect,
        size: Size,
    ) -> Result<Self, SourceError> {
        let rows = Rect { x: 0, width: size.width, ..bounds }.intersect(size.rect());
        let (mut parts, mut x) = (Vec::new(), bounds.x);
        while x < bounds.right() {
            let from = x.rem_euclid(i64::from(size.width));
            let width = (bounds.right() - x).min(i64::from(size.width) - from);
            let part = Rect { x: from, width: width as u32, ..rows };
            parts.push((source.read(level, part)?, width as usize));
            x += width;
        }
        let inner = Rect { x: bounds.x, width: bounds.width, ..rows };
        Ok(Self { read: Samples::beside(parts, rows.height as usize), inner, bounds })
    }

    /// Row `k` of the part in linear light, a plane a channel.
    fn line(&self, k: usize, mut row: [&mut [f32]; 3]) {
        let (inner, bounds) = (self.inner, self.bounds);
        let (left, right) =
            ((inner.x - bounds.x).max(0) as usize, (inner.right() - bounds.x).max(0) as usize);
        let y = (bounds.y + k as i64 - inner.y).clamp(0, i64::from(inner.height) - 1) as usize;
        let line = 3 * inner.width as usize;
        let to = row.each_mut().map(|p| &mut p[left..right]);
        fn put<T: Copy>([r, g, b]: [&mut [f32]; 3], line: &[T], light: impl Fn(T) -> f32) {
            for (((r, g), b), p) in r.iter_mut().zip(g).zip(b).zip(line.chunks_exact(3)) {
                (*r, *g, *b) = (light(p[0]), light(p[1]), light(p[2]));
            }
        }
        match &self.read {
            Samples::Eight(d) => {
                let table = &*LINEAR_OF_U8;
                put(to, &d[line * y..][..line], |v| table[usize::from(v)]);
            }
            Samples::Sixteen(d) => {
                let table = &*LINEAR_OF_U16;
                put(to, &d[line * y..][..line], |v| table[usize::from(v)]);
            }
            Samples::Wide(d) => put(to, &d[line * y..][..line], linear_of_root),
        }
        for plane in row {
            let (first, last) = (plane[left], plane[right - 1]);
            plane[..left].fill(first);
            plane[right..].fill(last);
        }
    }
}

impl Window {
    fn read(source: &dyn FrameSource, level: u32, bounds: Rect, wraps: bool) -> Result<Self, SourceError> {
        let lines = Lines::read(source, level, bounds, wraps)?;
        let (width, height) = (bounds.width as usize, bounds.height as usize);
        let mut planes = [0; 3].map(|_| vec![0.0; width * height + 2 * CHUNK]);
        for k in 0..height {
            lines.line(k, planes.each_mut().map(|p| &mut p[CHUNK + k * width..][..width]));
        }
        Ok(Self { origin: (bounds.x, bounds.y), width, height, planes })
    }
}

/// A piece of memory as three planes.
fn thirds(memory: &mut [f32]) -> [&mut [f32]; 3] {
    let n = memory.len() / 3;
    let (red, rest) = memory.split_at_mut(n);
    let (green, blue) = rest.split_at_mut(n);
    [red, green, blue]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Bend, Warp};
    use crate::pixel::MemoryFrame;
    use proptest::prelude::*;

    fn ramp(size: Size) -> MemoryFrame {
        let px = |i: u64| [(i % 251) as u8, (i / 7 % 240) as u8, (i * i % 199) as u8];
        MemoryFrame::new(size, Samples::Eight((0..size.pixels()).flat_map(px).collect()))
    }

    #[test]
    fn whole_shifts_take_pixels_over_exactly() {
        let frame = ramp(Size::new(40, 30));
        let Ok(Samples::Eight(all)) = frame.read(0, Rect::new(0, 0, 40, 30)) else { panic!() };
        let p = resample(&frame, 0, &Homography::shift(3.0, -2.0), Rect::new(0, 0, 40, 30)).unwrap();
        for y in 0..30usize {
            assert_eq!(p.spans[y], if y < 2 { (0, 0) } else { (0, 37) });
            for x in 0..p.spans[y].1 as usize {
                let code = all[3 * ((y - 2) * 40 + x + 3) + 1];
                assert_eq!(p.planes[1][y * 40 + x], LINEAR_OF_U8[usize::from(code)]);
            }
        }
    }

    proptest! {
        #[test]
        fn flat_light_stays_flat_wherever_it_is_covered(
            v in any::<u8>(), t in -0.3..0.3f64, s in 0.8..1.3f64, x in -20.0..20.0f64, y in -20.0..20.0f64
        ) {
            let frame = MemoryFrame::new(Size::new(50, 40), Samples::Eight(vec![v; 6000]));
            let h = Homography::new([s * t.cos(), -s * t.sin(), x, s * t.sin(), s * t.cos(), y, 1e-5, 0.0, 1.0]);
            let p = resample(&frame, 0, &h, Rect::new(-4, -4, 60, 50)).unwrap();
            for (row, &(a, b)) in p.spans.iter().enumerate() {
                for x in 0..60u32 {
                    let got = p.planes[0][row * 60 + x as usize];
                    let want = if x >= a && x < b { LINEAR_OF_U8[usize::from(v)] } else { 0.0 };
                    prop_assert!((got - want).abs() < 1e-5);
                    let q = h.apply(Point::new(f64::from(x) - 4.0, row as f64 - 4.0));
                    let inside = q.x >= -0.5 && q.x <= 49.5 && q.y >= -0.5 && q.y <= 39.5;
                    prop_assert_eq!(inside, x >= a && x < b);
                }
            }
        }

        #[test]
        fn regions_join_without_a_trace(cut in 1u32..59, t in -0.1..0.1f64) {
            let frame = ramp(Size::new(80, 60));
            let h = Homography::new([t.cos(), -t.sin(), 4.3, t.sin(), t.cos(), 2.7, 1e-5, -1e-5, 1.0]);
            let shifts = (0..20).map(|i| [(i % 7) as f32 * 0.6, (i % 5) as f32 * -0.4]).collect();
            let bend = Bend::new(Size::new(60, 50), (5, 4), shifts).unwrap();
            let straight = Warp::from(&h);
            for warp in [straight, Warp { bend: Some(&bend), ..straight }] {
                let whole = resample(&frame, 0, warp, Rect::new(0, 0, 60, 20)).unwrap();
                let left = resample(&frame, 0, warp, Rect::new(0, 0, cut, 20)).unwrap();
                let right = resample(&frame, 0, warp, Rect::new(i64::from(cut), 0, 60 - cut, 20)).unwrap();
                for y in 0..20usize {
                    for x in 0..60usize {
                        let c = cut as usize;
                        let part = if x < c { left.planes[2][y * c + x] } else { right.planes[2][y * (60 - c) + x - c] };
                        prop_assert_eq!(whole.planes[2][y * 60 + x].to_bits(), part.to_bits());
                    }
                }
            }
        }

        #[test]
        fn an_even_bend_is_a_shift(x in -3.0..3.0f32, y in -3.0..3.0f32) {
            // Soft, so that the two ways differ by rounding only and not by how they hold back an overshoot.
            let wave = |i: u32| (127.0 + 100.0 * (f64::from(i / 3 % 80) * 0.4).sin() * (f64::from(i / 240) * 0.3).cos()) as u8;
            let frame = MemoryFrame::new(Size::new(80, 60), Samples::Eight((0..80 * 60 * 3).map(wave).collect()));
            let h = Homography::new([1.01, -0.02, 12.3, 0.02, 1.01, 8.7, 1e-5, -1e-5, 1.0]);
            let bend = Bend::new(Size::new(60, 40), (5, 4), vec![[x, y]; 20]).unwrap();
            let bent = resample(&frame, 0, Warp { bend: Some(&bend), ..Warp::from(&h) }, Rect::new(0, 0, 60, 40)).unwrap();
            let shifted = h.after(&Homography::shift(f64::from(x), f64::from(y)));
            let plain = resample(&frame, 0, &shifted, Rect::new(0, 0, 60, 40)).unwrap();
            let greatest = bent.planes[0].iter().zip(&plain.planes[0]).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
            // Rounding to another phase of the kernel changes a steep edge a little.
            prop_assert!(greatest < 0.02, "{greatest}");
        }
    }
}
