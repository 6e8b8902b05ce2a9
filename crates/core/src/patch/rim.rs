//! The tone of a patch along its rim, so that it joins what is around it.
//!
//! Light changes from frame to frame, also from place to place. What both sides differ by along the border, where they show
//! the same, is carried into the patch smoothly: the membrane of gradient-domain blending (Pérez, Gangnet and Blake 2003),
//! filled in from coarse to fine (Gortler et al. 1996). It is limited, and things that differ have no say, so that no colour
//! bleeds in. Cost: a few operations a pixel.

use super::mask::Sheet;
use crate::combine::consensus::LayerData;
use crate::geometry::{Grid, Rect};

/// Pixels to each side of the border that are compared.
pub(super) const RIM: f32 = 5.0;
/// Most that the tone is changed by, as a logarithm of root codes: 0.3 stops of light.
const MOST_TONE: f32 = 0.104;
/// Less than this is nothing.
const LEAST_TONE: f32 = 0.002;
/// Places within this of the middle show the same.
const SAME_TONE: f32 = 0.06;
/// Pixels from what differs within which its shade or glow may fall.
const SHADE: f32 = 6.0;
/// Codes below which there is too little light to compare, and beyond which it is clipped.
pub(super) const USABLE: std::ops::Range<u16> = 3000..64_000;
/// Fewest pixels that tell something.
const LEAST_PIXELS: usize = 60;
/// Pixels of the picture along a side of one of the membrane's: as a power of two.
pub(super) const COARSE: u32 = 3;

/// What the source's root codes are multiplied by, over the whole of it: how both differ at most places around, found as the
/// middle of all, then again of those near it, so that people who stand on one side only have no say.
pub(super) fn level(plate: &LayerData, source: &LayerData, around: impl Fn(usize) -> bool) -> [f32; 3] {
    let places: Vec<usize> = (0..plate.planes[0].len()).filter(|&p| around(p)).collect();
    let level = |c: usize| {
        let usable = |p: &&usize| [plate, source].iter().all(|l| USABLE.contains(&l.planes[c][**p]));
        let ratio = |&p: &usize| (f32::from(plate.planes[c][p]) / f32::from(source.planes[c][p])).ln();
        let mut ratios: Vec<f32> = places.iter().filter(usable).map(ratio).collect();
        let mut level = 0.0;
        for near in [f32::INFINITY, SAME_TONE, SAME_TONE] {
            ratios.retain(|r| (r - level).abs() <= near);
            if ratios.len() < LEAST_PIXELS {
                return 1.0;
            }
            let middle = ratios.len() / 2;
            level = *ratios.select_nth_unstable_by(middle, f32::total_cmp).1;
        }
        level.clamp(-MOST_TONE, MOST_TONE).exp()
    };
    let (red, (green, blue)) = rayon::join(|| level(0), || rayon::join(|| level(1), || level(2)));
    [red, green, blue]
}

/// What the source's light is multiplied by at each place; `None` where nothing has to be matched. `distance` is that to the
/// border and `clear` that to what differs; the source was multiplied by `level` when it came into the field.
pub(super) fn membrane(
    (plate, source): (&LayerData, &LayerData),
    (distance, clear): (&[f32], &[f32]),
    level: [f32; 3],
    of: &Grid,
) -> Option<[Sheet; 3]> {
    let rect = of.rect;
    let w = rect.width as usize;
    let grid = coarse(of);
    let (x0, y0) = (grid.rect.x, grid.rect.y);
    let (cw, ch) = (grid.rect.width as usize, grid.rect.height as usize);
    let cell_of = |p: usize| {
        let (x, y) = (rect.x + (p % w) as i64, rect.y + (p / w) as i64);
        ((y >> COARSE) - y0) as usize * cw + ((x >> COARSE) - x0) as usize
    };
    let mut cells = vec![[0.0f32; 4]; cw * ch];
    for p in (0..distance.len()).filter(|&p| distance[p] <= RIM && clear[p] > SHADE) {
        let usable = (0..3).all(|c| [plate, source].iter().all(|l| USABLE.contains(&l.planes[c][p])));
        if !usable {
            continue;
        }
        let cell = &mut cells[cell_of(p)];
        let ratio = |c: usize| (f32::from(plate.planes[c][p]) / f32::from(source.planes[c][p])).ln();
        (0..3).for_each(|c| cell[c] += ratio(c));
        cell[3] += 1.0;
    }
    if cells.iter().map(|c| c[3]).sum::<f32>() < LEAST_PIXELS as f32 {
        // One value for all of it.
        let alone = |v: f32| Sheet { grid: grid.cut(Rect::new(x0, y0, 1, 1)), values: vec![v * v] };
        return level.iter().any(|v| v.ln().abs() > LEAST_TONE).then(|| level.map(alone));
    }
    // A few pixels say little: their noise is as large as what they are asked for.
    cells.iter_mut().for_each(|c| *c = c.map(|v| v / 24.0));
    filled(&mut cells, (cw, ch));
    let tones: Vec<[f32; 3]> = cells
        .iter()
        .map(|v| [0, 1, 2].map(|c| (v[c] / v[3].max(1e-9)).clamp(-MOST_TONE, MOST_TONE)))
        .collect();
    if tones.iter().flatten().all(|v| v.abs() < LEAST_TONE) {
        return None;
    }
    Some([0, 1, 2].map(|c| Sheet { grid, values: tones.iter().map(|v| (2.0 * v[c]).exp()).collect() }))
}

/// Pixels of the membrane over pixels of the picture.
pub(super) fn coarse(of: &Grid) -> Grid {
    let rect = of.rect;
    let along = |from: i64, n: u32| ((from + i64::from(n) - 1) >> COARSE) - (from >> COARSE) + 1;
    let (w, h) = (along(rect.x, rect.width), along(rect.y, rect.height));
    Grid::new(Rect::new(rect.x >> COARSE, rect.y >> COARSE, w as u32, h as u32), of.level + COARSE)
}

/// Fills weighted values in where weight is missing, from the next coarser picture; values are multiplied by their weights, which
/// stand last.
fn filled(cells: &mut [[f32; 4]], (w, h): (usize, usize)) {
    if w <= 1 && h <= 1 {
        return;
    }
    let (cw, ch) = (w.div_ceil(2), h.div_ceil(2));
    let mut coarse = vec![[0.0f32; 4]; cw * ch];
    for (i, cell) in cells.iter().enumerate() {
        let into = &mut coarse[(i / w / 2) * cw + i % w / 2];
        (0..4).for_each(|c| into[c] += cell[c]);
    }
    // No pixel weighs more than one, however many it stands for.
    for cell in coarse.iter_mut().filter(|c| c[3] > 1.0) {
        *cell = cell.map(|v| v / cell[3]);
    }
    filled(&mut coarse, (cw, ch));
    for (i, cell) in cells.iter_mut().enumerate() {
        if cell[3] >= 1.0 {
            *cell = cell.map(|v| v / cell[3]);
            continue;
        }
        // Between the middles of the four coarser cells around.
        let at = |k: usize, n: usize| {
            let v = (k as f32 + 0.5) / 2.0 - 0.5;
            let low = v.floor().max(0.0) as usize;
            (low, (low + 1).min(n - 1), (v - v.floor()).clamp(0.0, 1.0))
        };
        let ((x0, x1, right), (y0, y1, down)) = (at(i % w, cw), at(i / w, ch));
        let missing = 1.0 - cell[3];
        for c in 0..4 {
            let mix = |y: usize| coarse[y * cw + x0][c] * (1.0 - right) + coarse[y * cw + x1][c] * right;
            cell[c] += missing * (mix(y0) * (1.0 - down) + mix(y1) * down);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_missing_is_filled_in_smoothly() {
        let (w, h) = (16, 9);
        let mut cells = vec![[0.0f32; 4]; w * h];
        for y in 0..h {
            cells[y * w] = [0.1, 0.0, 0.0, 1.0];
            cells[y * w + w - 1] = [0.3, 0.0, 0.0, 1.0];
        }
        filled(&mut cells, (w, h));
        let values: Vec<f32> = cells[4 * w..5 * w].iter().map(|c| c[0] / c[3]).collect();
        assert!(values.iter().all(|v| (0.1..=0.3).contains(v)));
        assert!(values[1] < 0.16 && values[w - 2] > 0.24 && (values[w / 2] - 0.2).abs() < 0.04, "{values:?}");
    }
}
