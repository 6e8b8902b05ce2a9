//! Outlines of places in a picture: around their pixels, with few corners.

use super::{Grid, Point};

/// The outer outline of the place that `start` belongs to, along the edges of its pixels, as corners in pixel
/// coordinates (pixel centres are whole numbers); pixels that touch at a corner belong together.
///
/// `start` must be the first pixel of the place by rows. Cost: linear in the outline.
pub fn trace(width: usize, start: usize, inside: impl Fn(i64, i64) -> bool) -> Vec<Point> {
    /// East, south, west, north: the place lies to the right.
    const STEPS: [(i64, i64); 4] = [(1, 0), (0, 1), (-1, 0), (0, -1)];
    let from = ((start % width) as i64, (start / width) as i64);
    let (mut at, mut way) = (from, 0);
    let mut corners = Vec::new();
    loop {
        corners.push(Point::new(at.0 as f64 - 0.5, at.1 as f64 - 0.5));
        // Straight on as long as the place lies to the right alone.
        loop {
            at = (at.0 + STEPS[way].0, at.1 + STEPS[way].1);
            let (left, right) = match way {
                0 => ((at.0, at.1 - 1), at),
                1 => (at, (at.0 - 1, at.1)),
                2 => ((at.0 - 1, at.1), (at.0 - 1, at.1 - 1)),
                _ => ((at.0 - 1, at.1 - 1), (at.0, at.1 - 1)),
            };
            if inside(left.0, left.1) {
                way = (way + 3) % 4;
                break;
            }
            if !inside(right.0, right.1) {
                way = (way + 1) % 4;
                break;
            }
        }
        if at == from && way == 0 {
            return corners;
        }
    }
}

/// The closed outline with the corners that matter: none that was left out lies farther than `off` from it (Douglas and
/// Peucker 1973).
pub fn simplified(outline: &[Point], off: f64) -> Vec<Point> {
    if outline.len() < 4 {
        return outline.to_vec();
    }
    let far = |p: Point| {
        (0..outline.len()).max_by(|&a, &b| outline[a].distance(p).total_cmp(&outline[b].distance(p)))
    };
    let second = far(outline[0]).unwrap_or(0);
    let mut keep = vec![false; outline.len()];
    (keep[0], keep[second]) = (true, true);
    let mut open = vec![(0, second), (second, outline.len())];
    while let Some((a, b)) = open.pop() {
        let (p, q) = (outline[a], outline[b % outline.len()]);
        let length = p.distance(q).max(1e-9);
        let away = |i: usize| {
            ((q.x - p.x) * (outline[i].y - p.y) - (q.y - p.y) * (outline[i].x - p.x)).abs() / length
        };
        if let Some(worst) = (a + 1..b).max_by(|&i, &j| away(i).total_cmp(&away(j)))
            && away(worst) > off
        {
            keep[worst] = true;
            open.extend([(a, worst), (worst, b)]);
        }
    }
    outline.iter().zip(keep).filter(|(_, k)| *k).map(|(p, _)| *p).collect()
}

/// The same with at most `corners` of them, straying no farther than that asks for, but at least by `off`.
pub fn simplified_to(outline: &[Point], off: f64, corners: usize) -> Vec<Point> {
    let mut off = off;
    loop {
        let few = simplified(outline, off);
        if few.len() <= corners {
            return few;
        }
        off *= 1.6;
    }
}

impl Grid {
    /// The outline of the first part of some of its pixels, in pixels of the reference, by so many corners at most; empty for none.
    pub(crate) fn outline(&self, inside: &[bool], corners: usize) -> Vec<Point> {
        let (w, h) = (i64::from(self.rect.width), i64::from(self.rect.height));
        let Some(first) = inside.iter().position(|on| *on) else { return Vec::new() };
        let on = |x, y| x >= 0 && y >= 0 && x < w && y < h && inside[(y * w + x) as usize];
        let few = simplified_to(&trace(w as usize, first, on), 0.7, corners);
        few.into_iter().map(|p| self.place(p.x, p.y)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::inside;
    use proptest::prelude::*;

    proptest! {
        /// Whatever grows from one pixel is enclosed by its outline, which is closed around it alone.
        #[test]
        fn an_outline_holds_its_place(steps in prop::collection::vec(0..4usize, 1..60)) {
            let (w, h) = (40usize, 40usize);
            let mut on = vec![false; w * h];
            let (mut x, mut y) = (20usize, 20usize);
            on[y * w + x] = true;
            for s in steps {
                match s { 0 => x = (x + 1).min(38), 1 => y = (y + 1).min(38), 2 => x = x.max(2) - 1, _ => y = y.max(2) - 1 }
                on[y * w + x] = true;
            }
            let at = |x: i64, y: i64| x >= 0 && y >= 0 && on[y as usize * w + x as usize];
            let start = on.iter().position(|v| *v).unwrap();
            let outline = trace(w, start, at);
            for (p, held) in on.iter().enumerate() {
                let place = Point::new((p % w) as f64, (p / w) as f64);
                prop_assert!(!held || inside(&outline, place), "pixel {p} is left out");
            }
            let touches = outline.iter().all(|c| {
                let near = |dx: f64, dy: f64| at((c.x + dx) as i64, (c.y + dy) as i64);
                near(0.5, 0.5) || near(-0.5, 0.5) || near(0.5, -0.5) || near(-0.5, -0.5)
            });
            prop_assert!(touches);
            prop_assert!(simplified(&outline, 0.1).len() <= outline.len());
        }
    }

    #[test]
    fn a_square_has_four_corners() {
        let outline = trace(10, 22, |x, y| (2..5).contains(&x) && (2..6).contains(&y));
        assert_eq!(outline.len(), 4);
        assert_eq!(simplified(&outline, 0.5).len(), 4);
    }
}
