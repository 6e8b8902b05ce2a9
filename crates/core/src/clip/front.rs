//! Who crosses in front: where a frame differs from what is usual by more than noise and shade, with an edge as soft as the frame's own.
//!
//! Differences of all planes are added up over a few pixels in deviations of their noise; what is darker alike in one tone, and lets what it
//! falls on be seen, is shade. At
//! its edge a pixel is a mixture of what is usual and of somebody whose colour is known beside it, and what is usual is known: their
//! shares follow (difference matting; cf. Qian and Sezan 1999).

use super::area::Area;
use crate::pixel::blur::boxed;
use crate::pixel::flood::parts;

/// Deviations of a mean over [`NEAR`] pixels from which on something is there, and surely is.
const THERE: (f32, f32) = (3.2, 6.5);
/// Pixels to each side that are added up.
const NEAR: usize = 1;
/// How much of a sample's own deviation over time a mean around it keeps.
const LEFT: f32 = 0.7;
/// Fewer pixels are no one.
const SPECK: usize = 24;
/// Darker by up to this share, the colour being the same, is shade.
const SHADE: f32 = 0.45;
/// The same where what it falls on is seen through it: with this correlation at least, as strongly as this share of what would be expected.
const DARK: f32 = 0.75;
const LIKE: f32 = 0.85;
const SEEN: f32 = 0.6;
/// How much of a colour the sky's may take away: more than all of it.
const GONE: f32 = 1.3;
/// How unlike half of a shadow's pixels are darkened.
const EVEN: f32 = 0.1;
/// Pixels from the border of what is surely somebody to its core, from its border to where none of it is, and in which their colour is
/// looked for.
const CORE: usize = 2;
const BAND: usize = 3;
const THEIRS: usize = 8;
/// Shares near none and near all that are taken for it.
const FAINT: f32 = 0.12;

/// For each sample of brightness, how much of it is somebody in front, 0..=1. `frame` and `usual` in the frame's light, by planes, with the
/// deviation of each plane and the code of no light.
pub(super) fn front(
    area: &Area,
    frame: &[Vec<u16>; 3],
    usual: &[Vec<f32>; 3],
    (noise, spread): ([f64; 3], &[Vec<f32>; 3]),
    (black, middle): (f32, f32),
) -> Vec<f32> {
    let (w, h) = (area.planes[0].width, area.planes[0].height);
    let off = |c: usize| -> Vec<f32> {
        let plane = &area.planes[c];
        let own: Vec<f32> = frame[c].iter().zip(&usual[c]).map(|(f, u)| f32::from(*f) - u).collect();
        let count = boxed(&vec![1.0; own.len()], plane.width, plane.height, NEAR);
        boxed(&own, plane.width, plane.height, NEAR).iter().zip(count).map(|(v, n)| v / n).collect()
    };
    let bright = off(0);
    let colours: Vec<Vec<f32>> = (1..3).filter(|&c| !frame[c].is_empty()).map(off).collect();
    // Codecs spread what they leave over blocks: means are not as calm as their number says.
    // Near edges they leave more.
    let sigma = |c: usize, p: usize| (noise[c] as f32 / 2.0).max(0.5).max(LEFT * spread[c][p]);
    let chroma = |p: usize| -> f32 {
        let q = area.coarse(p);
        colours.iter().enumerate().map(|(k, c)| (c[q] / sigma(k + 1, q)).powi(2)).sum::<f32>().sqrt()
    };
    let mut there: Vec<f32> = (0..w * h)
        .map(|p| {
            let off = (bright[p] / sigma(0, p)).hypot(chroma(p));
            ((off - THERE.0) / (THERE.1 - THERE.0)).clamp(0.0, 1.0)
        })
        .collect();
    // What is darker alike and has the same colour is shade.
    let darker = |p: usize| -bright[p] / (usual[0][p] - black).max(4.0);
    // In the shade colour is less, or gone where the sky alone lights it.
    let paler = |p: usize| -> f32 {
        let q = area.coarse(p);
        let of = |(k, c): (usize, &Vec<f32>)| {
            let own = usual[k + 1][q] - middle;
            let (a, b) = (0.0f32, -GONE * own);
            ((c[q] - c[q].clamp(a.min(b), a.max(b))) / sigma(k + 1, q)).powi(2)
        };
        colours.iter().enumerate().map(of).sum::<f32>().sqrt()
    };
    let alike: Vec<bool> = (0..w * h)
        .map(|p| there[p] > 0.0 && (0.0..DARK).contains(&darker(p)) && paler(p) < 3.0 + 10.0 * darker(p))
        .collect();
    // Shade leaves what it falls on to be seen; who is in front hides it.
    let seen = seen_through((&frame[0], &usual[0]), &alike, (w, h), (noise[0] as f32 / 2.0).max(0.5));
    let mut shade: Vec<bool> = (0..w * h)
        .map(|p| alike[p] && seen[p].is_none() && darker(p) < SHADE && chroma(p) < 3.0 + 8.0 * darker(p))
        .collect();
    for part in parts(&mut shade, w, 0..w * h, 1) {
        let mut all: Vec<f32> = part.iter().map(|&p| darker(p)).collect();
        all.sort_by(f32::total_cmp);
        let at = |share: f32| all[(share * (all.len() - 1) as f32) as usize];
        if part.len() >= SPECK && at(0.75) - at(0.25) < EVEN {
            part.iter().for_each(|&p| there[p] = 0.0);
        }
    }
    for p in 0..w * h {
        let as_shade = |(slope, like): (f32, f32)| {
            let share = slope / (1.0 - darker(p)).max(0.1);
            like > LIKE && (SEEN..1.0 / SEEN).contains(&share)
        };
        if alike[p] && seen[p].is_some_and(as_shade) {
            there[p] = 0.0;
        }
    }
    let mut open: Vec<bool> = there.iter().map(|v| *v > 0.0).collect();
    let mut found = vec![0.0; w * h];
    for part in parts(&mut open, w, 0..w * h, 2) {
        if part.len() >= SPECK && part.iter().any(|&p| there[p] >= 1.0) {
            part.iter().for_each(|&p| found[p] = there[p]);
        }
    }
    if found.iter().all(|v| *v == 0.0) {
        return found;
    }
    matted(area, &found, (frame, usual), noise)
}

/// How strongly what is usual there shows in a frame, as the slope of its samples over the usual ones and their correlation, near each of
/// some samples; `None` where there is nothing to be seen.
fn seen_through(
    (frame, usual): (&[u16], &[f32]),
    some: &[bool],
    (w, h): (usize, usize),
    sigma: f32,
) -> Vec<Option<(f32, f32)>> {
    /// Samples to each side that are looked at, share of them that must count, and deviations of what is usual that show something.
    const REACH: usize = 6;
    const LEAST: f32 = 0.06;
    const SHOWS: f32 = 6.0;
    let of = |value: &dyn Fn(usize) -> f32| -> Vec<f32> {
        let all: Vec<f32> = (0..w * h).map(|p| if some[p] { value(p) } else { 0.0 }).collect();
        boxed(&all, w, h, REACH)
    };
    let (f, u) = (|p: usize| f32::from(frame[p]), |p: usize| usual[p]);
    let (n, mu, mf) = (of(&|_| 1.0), of(&u), of(&f));
    let (uu, uf, ff) = (of(&|p| u(p) * u(p)), of(&|p| u(p) * f(p)), of(&|p| f(p) * f(p)));
    (0..w * h)
        .map(|p| {
            if !some[p] || n[p] < LEAST {
                return None;
            }
            let (mu, mf) = (mu[p] / n[p], mf[p] / n[p]);
            let (spread, own) = (uu[p] / n[p] - mu * mu, ff[p] / n[p] - mf * mf);
            let both = uf[p] / n[p] - mu * mf;
            (spread > (SHOWS * sigma).powi(2)).then(|| (both / spread, both / (spread * own.max(0.1)).sqrt()))
        })
        .collect()
}

/// The weights with an edge as soft as the frame's: beside what is surely somebody, a pixel is as much of them as its colour lies between
/// what is usual there and theirs.
fn matted(
    area: &Area,
    found: &[f32],
    (frame, usual): (&[Vec<u16>; 3], &[Vec<f32>; 3]),
    noise: [f64; 3],
) -> Vec<f32> {
    let (w, h) = (area.planes[0].width, area.planes[0].height);
    let surely: Vec<f32> = found.iter().map(|v| f32::from(u8::from(*v >= 1.0))).collect();
    let whole = boxed(&vec![1.0; w * h], w, h, CORE);
    let inner = boxed(&surely, w, h, CORE);
    let core: Vec<f32> = (0..w * h).map(|p| f32::from(u8::from(inner[p] > 0.999 * whole[p]))).collect();
    let some: Vec<f32> = found.iter().map(|v| f32::from(u8::from(*v > 0.0))).collect();
    let near = boxed(&some, w, h, BAND);
    let count = boxed(&core, w, h, THEIRS);
    // Colours for each pixel of brightness.
    let planes: Vec<usize> = (0..3).filter(|&c| !frame[c].is_empty()).collect();
    let at = |c: usize, p: usize| if c == 0 { p } else { area.coarse(p) };
    let theirs: Vec<Vec<f32>> = planes
        .iter()
        .map(|&c| {
            let own: Vec<f32> = (0..w * h).map(|p| core[p] * f32::from(frame[c][at(c, p)])).collect();
            boxed(&own, w, h, THEIRS)
        })
        .collect();
    (0..w * h)
        .map(|p| {
            if core[p] > 0.0 || near[p] <= 0.0 {
                return core[p];
            }
            if count[p] <= 1e-4 {
                return found[p];
            }
            let (mut along, mut far) = (0.0, 0.0);
            for (k, &c) in planes.iter().enumerate() {
                // Colours are coarser, and say less about an edge.
                let weight = if c == 0 { 1.0 } else { 0.2 } / noise[c].powi(2) as f32;
                let base = usual[c][at(c, p)];
                let whole = theirs[k][p] / count[p] - base;
                along += weight * whole * (f32::from(frame[c][at(c, p)]) - base);
                far += weight * whole * whole;
            }
            // Nearly none is none: grain.
            let share = (along / far.max(1e-3)).clamp(0.0, 1.0);
            ((share - FAINT) / (1.0 - 2.0 * FAINT)).clamp(0.0, 1.0)
        })
        .collect()
}
