//! Inventions: what an area and its surroundings are looked at, made up there, and laid back.
//!
//! In a plane that is seen from the front, so that courses of stone and paving are as wide everywhere (Huang et al. 2014); what was made
//! up there leads, and each pixel is taken from the picture itself, once.

use super::copy::interpolated;
use super::{Around, MadeTouch, Plane, Plate, Touch, TouchError, Variants};
use crate::fill::{Filled, Ground, Wish, hints, invent, joined};
use crate::geometry::{Point, Rect, Size, ends};
use crate::patch::mask::Mask;
use crate::pixel::poisson::Value;
use crate::progress::ProgressFn;
use std::sync::Arc;

/// What is made up is looked at here: the picture around, or its plane seen from the front.
pub(super) struct Front<'a> {
    around: &'a Around<'a>,
    hole: &'a [bool],
    /// Its picture, where there is a plane.
    turned: Option<Turned>,
}

/// A plane's picture from the front.
struct Turned {
    plane: Plane,
    /// Which places.
    rect: Rect,
    planes: Plate,
    hole: Vec<bool>,
    barred: Vec<bool>,
    void: Vec<bool>,
}

/// Pixels of a plane's picture at most; a larger one is cut around the area.
const MOST: i64 = 2400;

impl<'a> Front<'a> {
    /// # Errors
    /// When the plane of the touch does not fit its area.
    pub(super) fn new(touch: &Touch, around: &'a Around<'a>, hole: &'a [bool]) -> Result<Self, TouchError> {
        let turned = touch.seen()?.map(|plane| Turned::new(plane, around, hole)).transpose()?;
        Ok(Self { around, hole, turned })
    }

    /// The picture with its hole.
    pub(super) fn ground(&self) -> Ground<'_> {
        match &self.turned {
            None => Ground {
                size: self.around.size(),
                planes: self.around.plate,
                hole: self.hole,
                barred: self.around.barred,
                void: self.around.void,
            },
            Some(turned) => Ground {
                size: turned.rect.size(),
                planes: &turned.planes,
                hole: &turned.hole,
                barred: &turned.barred,
                void: &turned.void,
            },
        }
    }

    /// The picture around with what was made up.
    fn laid(&self, planes: &Plate, from: &[u32]) -> Plate {
        let Some(turned) = &self.turned else { return planes.clone() };
        let grid = &self.around.grid;
        let w = grid.rect.width as usize;
        let (left, top) = (turned.rect.x as f64, turned.rect.y as f64);
        let tw = turned.rect.width as usize;
        let value = |of: &Plate, i: usize| -> Value {
            [f32::from(of[0][i]), f32::from(of[1][i]), f32::from(of[2][i]), 0.0]
        };
        let mut out = self.around.plate.clone();
        for p in (0..self.hole.len()).filter(|&p| self.hole[p]) {
            let place = grid.place((p % w) as f64, (p / w) as f64);
            let at = turned.plane.front.apply(place);
            let (x, y) = ((at.x - left).round(), (at.y - top).round());
            if x < 0.0 || y < 0.0 || x >= f64::from(turned.rect.width) || y >= f64::from(turned.rect.height) {
                continue;
            }
            let q = y as usize * tw + x as usize;
            let s = from[q] as usize;
            // From the picture itself, by as much as the front says, in the tone that it was joined in.
            let source = Point::new(at.x + (s % tw) as f64 - x, at.y + (s / tw) as f64 - y);
            let there = grid.within(turned.plane.back.apply(source));
            let sampled = interpolated(self.around.plate, self.around.size(), there, |i| !self.hole[i]);
            let new: Value = match sampled {
                Some(sampled) if turned.hole[q] => {
                    let (made, copied) = (value(planes, q), value(&turned.planes, s));
                    std::array::from_fn(|c| sampled[c] + made[c] - copied[c])
                }
                _ => value(planes, q),
            };
            for (plane, v) in out.iter_mut().zip(new) {
                plane[p] = v.round().clamp(0.0, 65535.0) as u16;
            }
        }
        out
    }
}

impl Turned {
    fn new(plane: Plane, around: &Around<'_>, hole: &[bool]) -> Result<Self, TouchError> {
        let grid = &around.grid;
        let (w, h) = (grid.rect.width as usize, grid.rect.height as usize);
        let place = |p: usize| grid.place((p % w) as f64, (p / w) as f64);
        let inside: Vec<Point> = (0..hole.len()).filter(|&p| hole[p]).map(place).collect();
        let Some(&first) = inside.first() else {
            return Err(TouchError::Fill(crate::fill::FillError::Nothing));
        };
        if !inside.iter().all(|&p| plane.sees(p, first)) {
            return Err(TouchError::Plane);
        }
        let (low, high) = ends(&inside.iter().map(|&p| plane.front.apply(p)).collect::<Vec<_>>());
        let (wide, tall) = (high.x - low.x + 3.0, high.y - low.y + 3.0);
        if wide > MOST as f64 || tall > MOST as f64 {
            return Err(TouchError::Plane);
        }
        let box_ =
            Rect::new(low.x.floor() as i64 - 1, low.y.floor() as i64 - 1, wide as u32 + 1, tall as u32 + 1);
        let far = 100_000;
        let rect = crate::fill::search_area(box_, Rect::new(-far, -far, 2 * far as u32, 2 * far as u32));
        let (tw, size) = (rect.width as usize, rect.size().pixels() as usize);
        let mut turned = Self {
            plane,
            rect,
            planes: [vec![0; size], vec![0; size], vec![0; size]],
            hole: vec![false; size],
            barred: vec![false; size],
            void: vec![false; size],
        };
        for q in 0..size {
            let seen = Point::new((rect.x + (q % tw) as i64) as f64, (rect.y + (q / tw) as i64) as f64);
            let there = plane.back.apply(seen);
            let at = grid.within(there);
            let known = there.x.is_finite() && there.y.is_finite() && plane.sees(there, first);
            let (x, y) = (at.x.round(), at.y.round());
            let beside = !known || x < 0.0 || y < 0.0 || x >= w as f64 || y >= h as f64;
            let p = if beside { 0 } else { y as usize * w + x as usize };
            if beside || around.void.get(p).is_some_and(|v| *v) {
                turned.void[q] = true;
                continue;
            }
            let clean = interpolated(around.plate, around.size(), at, |i| !hole[i]);
            turned.hole[q] = hole[p] || (clean.is_none() && near(hole, w, p));
            turned.barred[q] = around.barred.get(p).is_some_and(|b| *b);
            let own = |c: usize| f32::from(around.plate[c][p]);
            let value = clean.unwrap_or([own(0), own(1), own(2), 0.0]);
            for (plane, v) in turned.planes.iter_mut().zip(value) {
                plane[q] = v.round().clamp(0.0, 65535.0) as u16;
            }
        }
        Ok(turned)
    }
}

/// Whether a hole is within two pixels of one.
fn near(hole: &[bool], w: usize, p: usize) -> bool {
    let (x, y) = ((p % w) as i64, (p / w) as i64);
    (-2..=2).any(|dy| {
        (-2..=2).any(|dx| {
            let (u, v) = (x + dx, y + dy);
            u >= 0 && v >= 0 && u < w as i64 && hole.get((v * w as i64 + u) as usize).is_some_and(|h| *h)
        })
    })
}

/// Variants of an invention, by a seed and a count.
pub(super) fn invented(
    touch: &Touch,
    around: &Around<'_>,
    hole: &[bool],
    (seed, variants): (u64, usize),
    watch: ProgressFn<'_>,
) -> Result<Variants, TouchError> {
    let front = Front::new(touch, around, hole)?;
    let ground = front.ground();
    let (filled, hints) = rayon::join(|| invent(&ground, &Wish { seed, variants }, watch), || hints(&ground));
    let filled: Vec<Filled> = filled?;
    let made = filled.iter().map(|f| Arc::new(around.made(&front.laid(&f.planes, &f.from)))).collect();
    Ok(Variants { made, hints, from: filled.into_iter().map(|f| f.from).collect() })
}

/// Parts of several variants drawn together: each pixel is copied as its own part's variant says, and all are joined anew.
pub(super) fn composed(
    touch: &Touch,
    around: &Around<'_>,
    hole: &[bool],
    variants: &[Vec<u32>],
) -> Result<MadeTouch, TouchError> {
    let front = Front::new(touch, around, hole)?;
    let ground = front.ground();
    let last = variants.len().saturating_sub(1);
    let mut from = variants[touch.variants().0.min(last)].clone();
    let w = ground.size.width as usize;
    for part in &touch.parts {
        let other = &variants[usize::from(part.variant).min(last)];
        // In the pixels of what is looked at.
        let outline: Vec<Point> = part
            .outline
            .iter()
            .map(|&p| match &front.turned {
                None => around.grid.within(p),
                Some(turned) => {
                    let at = turned.plane.front.apply(p);
                    Point::new(at.x - turned.rect.x as f64, at.y - turned.rect.y as f64)
                }
            })
            .collect();
        let size = Size::new(ground.size.width, ground.size.height);
        let Some(mask) = Mask::drawn(&outline, 0.0, 0.0, size) else { continue };
        for (p, (from, other)) in from.iter_mut().zip(other).enumerate() {
            let at = Point::new((p % w) as f64, (p / w) as f64);
            if ground.hole[p] && mask.at(at) >= 0.5 {
                *from = *other;
            }
        }
    }
    Ok(around.made(&front.laid(&joined(&ground, &from), &from)))
}
