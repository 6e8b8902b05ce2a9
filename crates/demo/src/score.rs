//! Scoring a plate and its report against a rendered set's truth; the figures are explained in
//! `docs/measurements.md`.

use crate::set::{DemoError, Truth};
use crate::shoot::{empty_frame, frame_size};
use evanu_core::geometry::{Homography, Size};
use evanu_core::pixel::{MemoryFrame, Raster, Samples};
use evanu_media::{MediaError, decode};
use serde::{Deserialize, Serialize};
use std::path::Path;

/// The part of a report that scoring reads.
#[derive(Debug, Deserialize)]
pub struct Report {
    reference: usize,
    canvas: Canvas,
    frames: Vec<ReportFrame>,
}

#[derive(Debug, Deserialize)]
struct Canvas {
    x: i64,
    y: i64,
}

#[derive(Debug, Deserialize)]
struct ReportFrame {
    used: bool,
    transform: [f64; 9],
    #[serde(default)]
    gain: Option<[f32; 3]>,
}

/// How good a plate is.
#[derive(Debug, Clone, Serialize)]
pub struct Score {
    /// Peak signal-to-noise ratio over all channels, in decibels.
    pub psnr: f64,
    /// Structural similarity of luma, mean over 8×8 windows.
    pub ssim: f64,
    /// Mean absolute grey error, 0..=255.
    pub age: f64,
    /// Percent of pixels whose grey error exceeds 20.
    pub peps: f64,
    /// Percent of the ever occupied pixels whose grey error exceeds 12.
    pub ghost_area: f64,
    /// Gradient energy that the truth explains, in percent of the reference frame's as its file holds it, where nobody
    /// ever was.
    pub sharpness: f64,
    /// Alignment error of each frame in pixels; `None` for one that was set aside.
    pub alignment: Vec<Option<f64>>,
    /// Greatest alignment error, in pixels.
    pub worst_alignment: f64,
    /// Greatest error of a gain, in percent.
    pub worst_gain: f64,
}

fn luma(rgb: [u16; 3]) -> f64 {
    (0.299 * f64::from(rgb[0]) + 0.587 * f64::from(rgb[1]) + 0.114 * f64::from(rgb[2])) / 257.0
}

fn codes(samples: Samples) -> Vec<u16> {
    match samples {
        Samples::Eight(d) => d.iter().map(|&v| u16::from(v) * 257).collect(),
        Samples::Sixteen(d) | Samples::Wide(d) => d,
    }
}

/// Reads everything and scores it. The set's frames are expected beside `truth_folder`, as they are rendered.
///
/// # Errors
/// When a file is missing or damaged.
pub fn score(truth_folder: &Path, plate: &Path, report: &Path) -> Result<Score, DemoError> {
    let text = |p: &Path| std::fs::read_to_string(p).map_err(|e| MediaError::reading(p, &e));
    let bad = |p: &Path| {
        let p = p.display().to_string();
        move |e: serde_json::Error| DemoError::Truth(format!("{p}: {e}"))
    };
    let truth_file = truth_folder.join("truth.json");
    let truth: Truth = serde_json::from_str(&text(&truth_file)?).map_err(bad(&truth_file))?;
    let report: Report = serde_json::from_str(&text(report)?).map_err(bad(report))?;
    let place = decode(&truth_folder.join("place.tif"))?;
    let place = MemoryFrame::new(place.size, place.samples);
    let plate = decode(plate)?;
    let picture = Raster { size: plate.size, data: codes(plate.samples) };
    let size = frame_size(truth.size.width);
    let reference = &truth.shots[report.reference];
    let wanted = empty_frame(&place, reference, size);
    let ever = ever_occupied(truth_folder, &truth, reference.to_place, size)?;
    let alignment: Vec<Option<f64>> = report
        .frames
        .iter()
        .zip(&truth.shots)
        .map(|(f, s)| {
            let exact = reference.to_place.inverse().unwrap_or(Homography::IDENTITY).after(&s.to_place);
            f.used.then(|| Homography::new(f.transform).grid_distance(&exact, size))
        })
        .collect();
    let worst_gain = report
        .frames
        .iter()
        .zip(&truth.shots)
        .filter(|(f, _)| f.used)
        .filter_map(|(f, s)| f.gain.map(|g| (g, s)))
        .flat_map(|(g, s)| g.map(|g| f64::from((g * s.gain / reference.gain - 1.0).abs()) * 100.0))
        .fold(0.0, f64::max);
    let pictures = compare(&picture, &wanted, &ever, (report.canvas.x, report.canvas.y));
    let file = truth_folder.with_file_name(format!("frame-{:02}.jpg", report.reference + 1));
    let frame = Raster { size, data: codes(decode(&file)?.samples) };
    let frame = compare(&frame, &wanted, &ever, (0, 0));
    let sharpness = 100.0 * pictures.sharpness / frame.sharpness;
    let worst = alignment.iter().flatten().copied().fold(0.0, f64::max);
    Ok(Score { alignment, sharpness, worst_alignment: worst, worst_gain, ..pictures })
}

/// Places that anybody ever occupied, on the reference's grid.
fn ever_occupied(
    folder: &Path,
    truth: &Truth,
    reference: Homography,
    size: Size,
) -> Result<Vec<bool>, DemoError> {
    let mut ever = vec![false; size.pixels() as usize];
    for (k, shot) in truth.shots.iter().enumerate() {
        let Samples::Eight(mask) = decode(&folder.join(format!("occupied-{:02}.png", k + 1)))?.samples else {
            continue;
        };
        let Some(h) = shot.to_place.inverse().map(|h| h.after(&reference)) else { continue };
        for (i, e) in ever.iter_mut().enumerate() {
            let (x, y) = (i as u32 % size.width, i as u32 / size.width);
            let p = h.apply(evanu_core::geometry::Point::new(f64::from(x), f64::from(y)));
            let (x, y) = (p.x.round(), p.y.round());
            if x >= 0.0 && y >= 0.0 && x < f64::from(size.width) && y < f64::from(size.height) {
                *e |= mask[3 * (y as usize * size.width as usize + x as usize)] > 127;
            }
        }
    }
    Ok(ever)
}

fn compare(plate: &Raster, truth: &Raster, ever: &[bool], (ox, oy): (i64, i64)) -> Score {
    let (mut squares, mut grey, mut wrong, mut ghosts, mut taken, mut n) = (0.0, 0.0, 0u64, 0u64, 0u64, 0u64);
    let mut lumas = (Vec::new(), Vec::new());
    let mut free = Vec::new();
    for y in 0..plate.size.height {
        for x in 0..plate.size.width {
            let (tx, ty) = (i64::from(x) + ox, i64::from(y) + oy);
            if tx < 0 || ty < 0 || tx >= i64::from(truth.size.width) || ty >= i64::from(truth.size.height) {
                continue;
            }
            let (a, b) = (plate.pixel(x, y), truth.pixel(tx as u32, ty as u32));
            squares += (0..3).map(|c| ((f64::from(a[c]) - f64::from(b[c])) / 257.0).powi(2)).sum::<f64>();
            let d = (luma(a) - luma(b)).abs();
            lumas.0.push(luma(a));
            lumas.1.push(luma(b));
            grey += d;
            wrong += u64::from(d > 20.0);
            let occupied = ever[(ty * i64::from(truth.size.width) + tx) as usize];
            free.push(!occupied);
            if occupied {
                taken += 1;
                ghosts += u64::from(d > 12.0);
            }
            n += 1;
        }
    }
    let count = n.max(1) as f64;
    Score {
        psnr: 10.0 * (255.0 * 255.0 / (squares / (3.0 * count)).max(1e-9)).log10(),
        ssim: ssim(&lumas.0, &lumas.1, plate.size.width as usize),
        age: grey / count,
        peps: 100.0 * wrong as f64 / count,
        ghost_area: 100.0 * ghosts as f64 / taken.max(1) as f64,
        sharpness: 100.0 * explained(&lumas.0, &lumas.1, &free, plate.size.width as usize),
        alignment: Vec::new(),
        worst_alignment: 0.0,
        worst_gain: 0.0,
    }
}

/// Share of the truth's gradient energy that a plate keeps: the squared slope of its gradients over the truth's, which
/// noise does not raise.
fn explained(plate: &[f64], truth: &[f64], free: &[bool], width: usize) -> f64 {
    let (mut both, mut own) = (0.0, 0.0);
    for k in (width + 1..plate.len().saturating_sub(width + 1)).filter(|&k| free[k]) {
        for step in [1, width] {
            let (p, t) = (plate[k + step] - plate[k - step], truth[k + step] - truth[k - step]);
            both += p * t;
            own += t * t;
        }
    }
    if own > 0.0 { (both / own).powi(2) } else { 0.0 }
}

/// Structural similarity (Wang et al. 2004) over windows of 8×8, each four pixels from the last.
fn ssim(a: &[f64], b: &[f64], width: usize) -> f64 {
    let height = a.len() / width.max(1);
    let (mut sum, mut n) = (0.0, 0u64);
    for y in (0..height.saturating_sub(7)).step_by(4) {
        for x in (0..width.saturating_sub(7)).step_by(4) {
            let (mut s, mut t, mut ss, mut tt, mut st) = (0.0, 0.0, 0.0, 0.0, 0.0);
            for j in 0..8 {
                for i in 0..8 {
                    let k = (y + j) * width + x + i;
                    let (p, q) = (a[k], b[k]);
                    s += p;
                    t += q;
                    ss += p * p;
                    tt += q * q;
                    st += p * q;
                }
            }
            let m = 64.0;
            let (ma, mb) = (s / m, t / m);
            let (va, vb, cov) = (ss / m - ma * ma, tt / m - mb * mb, st / m - ma * mb);
            let (c1, c2) = (6.5025, 58.5225);
            sum += (2.0 * ma * mb + c1) * (2.0 * cov + c2) / ((ma * ma + mb * mb + c1) * (va + vb + c2));
            n += 1;
        }
    }
    sum / n.max(1) as f64
}

/// Mean peak signal-to-noise ratio of codes, for tests.
pub fn psnr(a: &Raster, b: &Raster) -> f64 {
    let n = a.data.len().max(1) as f64;
    let squares: f64 =
        a.data.iter().zip(&b.data).map(|(x, y)| ((f64::from(*x) - f64::from(*y)) / 257.0).powi(2)).sum();
    10.0 * (255.0 * 255.0 / (squares / n).max(1e-9)).log10()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_perfect_plate_scores_perfectly_and_a_ghost_is_seen() {
        let size = Size::new(64, 64);
        let mut random = evanu_core::random::Random::new(6);
        let data: Vec<u16> = (0..64 * 64 * 3).map(|_| (random.bits() % 60_000) as u16).collect();
        let truth = Raster { size, data };
        let ever = vec![true; 64 * 64];
        let good = compare(&truth, &truth, &ever, (0, 0));
        assert!(good.psnr > 100.0 && good.ssim > 0.9999 && good.ghost_area == 0.0);
        let mut ghost = truth.clone();
        ghost.data[..3 * 640].fill(65535);
        let bad = compare(&ghost, &truth, &ever, (0, 0));
        assert_eq!((good.sharpness, bad.sharpness), (0.0, 0.0), "where somebody was nothing is compared");
        let soft = Raster {
            size,
            data: (0..truth.data.len())
                .map(|i| {
                    let at = |j: usize| u32::from(truth.data[j.min(truth.data.len() - 1)]);
                    ((at(i.saturating_sub(3)) + 2 * at(i) + at(i + 3)) / 4) as u16
                })
                .collect(),
        };
        let nobody = vec![false; 64 * 64];
        assert!((compare(&truth, &truth, &nobody, (0, 0)).sharpness - 100.0).abs() < 1e-6);
        assert!(compare(&soft, &truth, &nobody, (0, 0)).sharpness < 90.0);
        assert!(bad.ghost_area > 5.0 && bad.psnr < 30.0 && bad.peps > 5.0);
    }
}
