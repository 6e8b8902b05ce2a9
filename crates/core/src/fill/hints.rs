//! What will be hard about a hole, told by rule before one begins: no statistic tells how plausible a result looks, so none is shown.

use super::level::{Level, around};
use super::{Ground, PATCH, REACH, lines};
use crate::pixel::blur::boxed;
use rayon::prelude::*;
use serde::Serialize;

/// What will be hard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Hint {
    /// Colours at the rim occur nowhere else around: something is cut by it.
    Cut,
    /// The rim is sharp on one side and soft on another.
    MixedSharpness,
    /// Straight edges end at the rim that go on nowhere on its other side.
    LooseEnds,
    /// A pattern that repeats goes through, such as tiles, bars, blinds.
    Lattice,
    /// The rim shows something that occurs nowhere else around.
    Once,
}

impl Hint {
    /// In words, with what helps.
    pub fn words(self) -> &'static str {
        match self {
            Self::Cut => {
                "the area cuts something whose colours occur nowhere else around it: draw it wider, so that all of that lies inside"
            }
            Self::MixedSharpness => {
                "it is sharp on one side of the area and soft on another: two smaller areas do better than one"
            }
            Self::LooseEnds => {
                "straight edges end at the area that go on nowhere on its other side: copying along them does better"
            }
            Self::Lattice => {
                "a pattern that repeats goes through the area: lay it in its plane, or copy it from one repeat farther"
            }
            Self::Once => {
                "part of something that exists once is cut by the area: if it belongs, draw the area up to it; if not, around it"
            }
        }
    }
}

/// Colours that differ by less are the same, in hundredths of white's root code.
const SAME: f32 = 7.0;
/// Share of the rim that may have colours of its own.
const OWN: f32 = 0.06;
/// Difference of the logarithms of roughness from which on sharpness is mixed.
const MIXED: f32 = 2.2;
/// Pixels of either that are compared.
const ASKED: usize = 400;

/// What will be hard about a hole; nothing when there is none.
pub fn hints(ground: &Ground<'_>) -> Vec<Hint> {
    // Seen from where the rim is at most so long.
    const HOLE: usize = 20_000;
    // Repeats and things, from where they are small.
    const SMALL: usize = 3_000;
    let [level, small] = Level::with_holes(ground, [HOLE, SMALL]);
    let mut out = Vec::new();
    let rim = level.rim();
    if rim.is_empty() {
        return out;
    }
    let spread = |list: &[u32], most: usize| -> Vec<usize> {
        list.iter().map(|p| *p as usize).step_by(list.len().div_ceil(most)).collect()
    };
    let asked = spread(&rim, ASKED);
    let sources: Vec<u32> = (0..level.source.len() as u32).filter(|&p| level.source[p as usize]).collect();
    if sources.is_empty() {
        return out;
    }
    let others = spread(&sources, 10 * ASKED);
    let unlike = |a: usize, b: usize| {
        let (a, b) = (&level.features[a], &level.features[b]);
        (0..3).map(|c| (a[c] - b[c]).powi(2)).sum::<f32>().sqrt()
    };
    let alone = asked.iter().filter(|&&p| others.iter().all(|&q| unlike(p, q) > SAME)).count();
    if alone as f32 > OWN * asked.len() as f32 {
        out.push(Hint::Cut);
    }
    let mut rough: Vec<f32> = asked.iter().map(|&p| level.rough[p]).collect();
    rough.sort_by(f32::total_cmp);
    if rough[rough.len() * 9 / 10] - rough[rough.len() / 10] > MIXED {
        out.push(Hint::MixedSharpness);
    }
    if loose(&level) {
        out.push(Hint::LooseEnds);
    }
    if repeats(&small) {
        out.push(Hint::Lattice);
    }
    if !out.contains(&Hint::Cut) && exists_once(&small) {
        out.push(Hint::Once);
    }
    out
}

/// Whether most straight edges that meet the rim go on nowhere on its other side.
fn loose(level: &Level) -> bool {
    let ends = lines::ends(level);
    ends.len() >= 3 && 4 * lines::pairs(&ends).len() < ends.len()
}

/// Whether brightness around a hole repeats: by peaks of its autocorrelation, with less between them and more of them farther out.
/// Cost: 1500 products for each of some 5000 shifts.
fn repeats(level: &Level) -> bool {
    /// Pixels that a repeat is at least, and at most, apart.
    const SHORTEST: f32 = 6.0;
    const LONGEST: i32 = 48;
    /// What it correlates with the next one at least, with the one after that, and halfway at most: grass, gravel, water and sky stay below
    /// 0.23 on real photographs, courses of brick and paving, rails and blinds reach 0.26 to 0.36.
    const NEXT: f32 = 0.26;
    const AFTER: f32 = 0.07;
    const HALFWAY: f32 = 0.08;
    /// Change of brightness that is seen, in hundredths.
    const SEEN: f32 = 1.5;
    /// Places that are looked at.
    const PLACES: usize = 1500;
    let stride = level.stride;
    let known: Vec<bool> = level.weights.iter().map(|w| *w == 1.0).collect();
    let bright: Vec<f32> =
        (0..known.len()).map(|p| if known[p] { level.features[p][0] } else { 0.0 }).collect();
    let count: Vec<f32> = known.iter().map(|k| f32::from(u8::from(*k))).collect();
    let rows = known.len() / stride;
    let (sums, counts) = (boxed(&bright, stride, rows, 12), boxed(&count, stride, rows, 12));
    let detail = |p: usize| bright[p] - sums[p] / counts[p].max(1e-6);
    let detail: Vec<f32> = (0..known.len()).map(|p| if known[p] { detail(p) } else { 0.0 }).collect();
    let near = around(&level.hole, stride, 2 * LONGEST as usize, false);
    let all: Vec<usize> = (0..known.len()).filter(|&p| known[p] && near[p]).collect();
    let places: Vec<usize> = all.iter().copied().step_by(all.len().div_ceil(PLACES).max(1)).collect();
    let strength = places.iter().map(|&p| detail[p] * detail[p]).sum::<f32>() / places.len().max(1) as f32;
    if strength.sqrt() < SEEN {
        return false;
    }
    let alike = |dx: i32, dy: i32| {
        let (mut both, mut own, mut other, mut count) = (0.0f32, 0.0f32, 0.0f32, 0usize);
        for &p in &places {
            let x = (p % stride) as i32 + dx;
            let q = p as i64 + i64::from(dy) * stride as i64 + i64::from(dx);
            if x < 0 || x >= stride as i32 || q < 0 || q as usize >= known.len() || !known[q as usize] {
                continue;
            }
            let (a, b) = (detail[p], detail[q as usize]);
            both += a * b;
            own += a * a;
            other += b * b;
            count += 1;
        }
        if count < places.len() / 4 { 0.0 } else { both / (own * other).sqrt().max(1e-6) }
    };
    let wide = 2 * LONGEST + 1;
    let map: Vec<f32> =
        (0..wide * (LONGEST + 1)).into_par_iter().map(|k| alike(k % wide - LONGEST, k / wide)).collect();
    let at = |dx: i32, dy: i32| {
        let (dx, dy) = if dy < 0 { (-dx, -dy) } else { (dx, dy) };
        let inside = dx.abs() <= LONGEST && dy <= LONGEST;
        if inside { map[(dy * wide + dx + LONGEST) as usize] } else { alike(dx, dy) }
    };
    let peak = |dx: i32, dy: i32| {
        let own = at(dx, dy);
        let highest = || (-1..=1).all(|v| (-1..=1).all(|u| at(dx + u, dy + v) <= own));
        (dx as f32).hypot(dy as f32) >= SHORTEST && own >= NEXT && highest()
    };
    (0..LONGEST).any(|dy| {
        (1 - LONGEST..LONGEST).any(|dx| {
            peak(dx, dy) && at(dx / 2, dy / 2) <= HALFWAY && {
                let after = (-1..=1).flat_map(|v| (-1..=1).map(move |u| (2 * dx + u, 2 * dy + v)));
                after.map(|(dx, dy)| at(dx, dy)).fold(f32::MIN, f32::max) >= AFTER
            }
        })
    })
}

/// Whether some of what is beside a hole is found nowhere else, while most of the surroundings is.
fn exists_once(level: &Level) -> bool {
    /// Places of the rim, and elsewhere, that are looked for.
    const ASKED: usize = 90;
    /// Places that they are looked for in.
    const AMONG: usize = 3000;
    /// How many times as unlike its nearest like a place is as most of the surroundings are to theirs, and at least (a mean square).
    const ALONE: f32 = 5.0;
    const LEAST: f32 = 12.0;
    /// Share of the rim.
    const SHARE: f32 = 0.12;
    let sources: Vec<u32> = (0..level.source.len() as u32).filter(|&p| level.source[p as usize]).collect();
    let near = around(&level.hole, level.stride, 2 * REACH, false);
    let over = around(&level.hole, level.stride, REACH, false);
    let beside: Vec<u32> =
        sources.iter().copied().filter(|&p| near[p as usize] && !over[p as usize]).collect();
    let elsewhere: Vec<u32> = sources.iter().copied().filter(|&p| !near[p as usize]).collect();
    if beside.len() < 20 || elsewhere.len() < AMONG / 4 {
        return false;
    }
    let some = |list: &[u32], most: usize| -> Vec<usize> {
        list.iter().map(|p| *p as usize).step_by(list.len().div_ceil(most)).collect()
    };
    let among = some(&sources, AMONG);
    let nearest = |p: usize| {
        let (x, y) = (p % level.stride, p / level.stride);
        let mut best = f32::MAX;
        for &q in &among {
            if (q % level.stride).abs_diff(x) >= PATCH || (q / level.stride).abs_diff(y) >= PATCH {
                best = best.min(level.distance(&level.features, p, q, best));
            }
        }
        best * level.scale(p)
    };
    let unlike = |list: &[u32]| -> Vec<f32> {
        let mut all: Vec<f32> = some(list, ASKED).into_par_iter().map(nearest).collect();
        all.sort_by(f32::total_cmp);
        all
    };
    let (own, others) = (unlike(&beside), unlike(&elsewhere));
    let bar = (ALONE * others[others.len() * 3 / 4]).max(LEAST);
    own.iter().filter(|v| **v > bar).count() as f32 > SHARE * own.len() as f32
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::random::Random;

    const SIDE: u32 = 200;

    /// What is told of a hole of 50 pixels in the middle of a picture.
    fn told(code: impl Fn(u32, u32) -> f64) -> Vec<Hint> {
        let mut random = Random::new(6);
        let mut grain = || 300.0 * random.normal();
        let plane: Vec<u16> = (0..SIDE * SIDE)
            .map(|p| (code(p % SIDE, p / SIDE) + grain()).clamp(0.0, 65535.0) as u16)
            .collect();
        let planes = [plane.clone(), plane.clone(), plane];
        let hole: Vec<bool> = (0..SIDE * SIDE)
            .map(|p| (75..125).contains(&(p % SIDE)) && (75..125).contains(&(p / SIDE)))
            .collect();
        let ground =
            Ground { size: Size::new(SIDE, SIDE), planes: &planes, hole: &hole, barred: &[], void: &[] };
        hints(&ground)
    }

    #[test]
    fn a_wall_of_bricks_is_a_lattice_and_grain_or_a_slope_is_none() {
        let joint = |x: u32, y: u32| y % 14 < 2 || (x + 15 * (y / 14 % 2)) % 30 < 2;
        let brick = |x: u32, y: u32| if joint(x, y) { 40_000.0 } else { 24_000.0 };
        assert!(told(brick).contains(&Hint::Lattice));
        assert!(!told(|_, _| 24_000.0).contains(&Hint::Lattice));
        assert!(!told(|x, y| 20_000.0 + 60.0 * f64::from(x + y)).contains(&Hint::Lattice));
        // One step is no lattice, however straight.
        assert!(!told(|x, _| if x < 100 { 20_000.0 } else { 30_000.0 }).contains(&Hint::Lattice));
    }

    #[test]
    fn a_thing_that_is_cut_and_stands_alone_exists_once() {
        let mut random = Random::new(9);
        let rough: Vec<f64> = (0..SIDE * SIDE).map(|_| 900.0 * random.normal()).collect();
        let ground = |x: u32, y: u32| 26_000.0 + rough[(y * SIDE + x) as usize];
        // Rings, as bright as the ground, around a place of the hole's border.
        let thing = |x: u32, y: u32| {
            let r = (f64::from(x) - 70.0).hypot(f64::from(y) - 100.0);
            if r < 32.0 { 26_000.0 + 8000.0 * (r * r / 60.0).sin() } else { ground(x, y) }
        };
        assert!(told(thing).contains(&Hint::Once), "{:?}", told(thing));
        assert!(!told(ground).contains(&Hint::Once));
    }
}
