//! Whether a shot is really static: shift, zoom, light, colour and focus of each frame against the first of its shot, from small pictures
//! of all frames; cuts; and what matters of it, for words.
//!
//! Movement by Lucas and Kanade's method over the whole picture ([`super::motion`]), cuts where a frame's histogram and its places both
//! differ far more than its neighbours do (cf. Hanjalic 2002). Cost: about a millisecond a frame of 320 × 180 pixels.

use super::area::Area;
use super::motion::Motion;
use crate::geometry::Size;
use serde::{Deserialize, Serialize};

/// A small picture of a frame: brightness, and the means of both colour differences.
#[derive(Debug, Clone)]
pub struct Small {
    /// Brightness by rows, 0 for no light and 255 for white.
    pub bright: Vec<f32>,
    /// Columns and rows.
    pub size: Size,
    /// Means of the colour differences around none, in 255ths.
    pub colour: [f32; 2],
}

impl Small {
    /// Of a frame's planes, whose greatest code is `most`, with codes of no light and no colour; `size` is that of the whole.
    pub fn of(planes: &[Vec<u16>; 3], size: Size, (center, most): ([f64; 3], u16)) -> Self {
        /// Columns at most.
        const WIDE: usize = 320;
        let (w, h) = (size.width as usize, size.height as usize);
        let by = w.div_ceil(WIDE).max(1);
        let (sw, sh) = ((w / by).max(1), (h / by).max(1));
        let unit = 255.0 / f32::from(most);
        let share = unit / (by * by) as f32;
        let mut bright = vec![0.0; sw * sh];
        for (y, row) in bright.chunks_mut(sw).enumerate() {
            for line in (y * by..(y + 1) * by).filter(|line| *line < h) {
                for (x, v) in row.iter_mut().enumerate() {
                    let from = line * w + x * by;
                    let sum: u32 =
                        planes[0][from..(from + by).min((line + 1) * w)].iter().map(|v| u32::from(*v)).sum();
                    *v += sum as f32 * share;
                }
            }
        }
        let mean = |c: usize| {
            let plane = &planes[c];
            let sum: u64 = plane.iter().step_by(7).map(|v| u64::from(*v)).sum();
            let n = plane.len().div_ceil(7);
            if n == 0 { 0.0 } else { (sum as f64 / n as f64 - center[c]) as f32 * unit }
        };
        Self { bright, size: Size::new(sw as u32, sh as u32), colour: [mean(1), mean(2)] }
    }

    /// How sharp it is: the strength of second differences beside that of first ones.
    fn sharp(&self) -> f64 {
        let (w, h) = (self.size.width as usize, self.size.height as usize);
        let (mut fine, mut coarse) = (0.0, 1.0);
        for y in 1..h.saturating_sub(1) {
            for x in 2..w.saturating_sub(2) {
                let at = |x: usize| f64::from(self.bright[y * w + x]);
                fine += (at(x - 1) + at(x + 1) - 2.0 * at(x)).powi(2);
                coarse += (at(x + 2) - at(x - 2)).powi(2);
            }
        }
        (fine / coarse).sqrt()
    }

    /// How much two differ: of places, and of histograms, as shares.
    fn unlike(&self, other: &Self) -> (f64, f64) {
        let (mut places, mut counts) = (0.0, [0i64; 32]);
        for (a, b) in self.bright.iter().zip(&other.bright) {
            places += f64::from((a - b).abs());
            counts[(*a as usize / 8).min(31)] += 1;
            counts[(*b as usize / 8).min(31)] -= 1;
        }
        let n = self.bright.len().max(1) as f64;
        (places / n / 255.0, counts.iter().map(|c| c.unsigned_abs() as f64).sum::<f64>() / 2.0 / n)
    }

    /// Whether another shot begins with `next`; a change of light alone is none.
    pub fn cut_before(&self, next: &Self) -> bool {
        /// Shares of places and of a histogram that differ.
        const PLACES: f64 = 0.055;
        const COUNTS: f64 = 0.22;
        /// How alike their structure may be at most, and where that alone tells.
        const ALIKE: (f64, f64) = (0.6, 0.35);
        if self.size != next.size {
            return true;
        }
        let (places, counts) = self.unlike(next);
        let alike = self.alike(next);
        places > PLACES && alike < ALIKE.0 && (counts > COUNTS || alike < ALIKE.1)
    }

    /// Correlation of their brightness.
    fn alike(&self, other: &Self) -> f64 {
        let n = self.bright.len().max(1) as f64;
        let mean = |s: &Self| s.bright.iter().map(|v| f64::from(*v)).sum::<f64>() / n;
        let (a, b) = (mean(self), mean(other));
        let (mut ab, mut aa, mut bb) = (0.0, 1e-9, 1e-9);
        for (u, v) in self.bright.iter().zip(&other.bright) {
            let (u, v) = (f64::from(*u) - a, f64::from(*v) - b);
            ab += u * v;
            aa += u * u;
            bb += v * v;
        }
        ab / (aa * bb).sqrt()
    }
}

/// How a frame differs from the first of its shot.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Moved {
    /// Pixels to the right and down.
    pub shift: [f64; 2],
    /// How much larger, as a share.
    pub zoom: f64,
    /// How much brighter, in stops of the coded picture's light.
    pub stops: f64,
    /// How its colours moved, in 255ths.
    pub colour: [f64; 2],
    /// Its sharpness, 1 for the first frame's.
    pub sharp: f64,
}

impl Moved {
    /// Of a frame against the first of its shot; `scale` is a small picture's pixel in pixels of the clip.
    pub fn of(first: &Small, frame: &Small, scale: f64) -> Self {
        let area = Area::whole(first.size);
        let motion = Motion::of(&area, &first.bright, &frame.bright);
        let [right, down] = motion.shift();
        let colour = [0, 1].map(|c| f64::from(frame.colour[c] - first.colour[c]));
        Self {
            shift: [scale * right, scale * down],
            zoom: motion.zoom(),
            stops: stops(first, frame),
            colour,
            sharp: frame.sharp() / first.sharp().max(1e-9),
        }
    }
}

/// By how many stops a frame is brighter: the median of ratios, so that who passes has no say. Codes stand for light by a power of 2.2.
fn stops(first: &Small, frame: &Small) -> f64 {
    let mut all: Vec<f32> = first
        .bright
        .iter()
        .zip(&frame.bright)
        .step_by(7)
        .filter(|(a, b)| **a > 12.0 && **b > 12.0 && **a < 245.0 && **b < 245.0)
        .map(|(a, b)| b / a)
        .collect();
    if all.len() < 50 {
        return 0.0;
    }
    all.sort_by(f32::total_cmp);
    2.2 * f64::from(all[all.len() / 2]).log2()
}

/// Something that is to be known about a shot, with the frame from which on it holds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Remark {
    /// It trembles by so many pixels.
    Shakes(f64),
    /// From this frame on it lies elsewhere by so many pixels to the right and down.
    Touched(usize, [f64; 2]),
    /// Until its end it drifts by so many pixels to the right and down.
    Drifts([f64; 2]),
    /// It zooms by this share between two frames.
    Zooms(usize, usize, f64),
    /// It is so many stops brighter at its end.
    Brightens(f64),
    /// Its light trembles by so many stops from frame to frame.
    Flickers(f64),
    /// Its colours move by so many 255ths.
    Colours(f64),
    /// It is softer between two frames, by this share of the sharpness.
    Softer(usize, usize, f64),
}

impl Remark {
    /// The same where the shot begins so many frames later.
    pub fn later(self, by: usize) -> Self {
        match self {
            Self::Touched(k, off) => Self::Touched(k + by, off),
            Self::Zooms(from, to, share) => Self::Zooms(from + by, to + by, share),
            Self::Softer(from, to, share) => Self::Softer(from + by, to + by, share),
            other => other,
        }
    }

    /// The frame from which on it holds, where it does not hold for all of the shot.
    pub fn frame(self) -> Option<usize> {
        match self {
            Self::Touched(k, _) | Self::Zooms(k, ..) | Self::Softer(k, ..) => Some(k),
            _ => None,
        }
    }

    /// In words; `clock` tells the time of a frame.
    pub fn words(self, clock: impl Fn(usize) -> String) -> String {
        let way = |[right, down]: [f64; 2]| {
            let one = |v: f64, plus: &str, minus: &str| {
                (v.abs() >= 0.1).then(|| format!("{:.1} px {}", v.abs(), if v > 0.0 { plus } else { minus }))
            };
            let parts: Vec<String> = [one(right, "to the right", "to the left"), one(down, "down", "up")]
                .into_iter()
                .flatten()
                .collect();
            parts.join(" and ")
        };
        match self {
            Self::Shakes(by) => {
                format!("It was held by hand: the picture trembles by {by:.1} px; each frame is followed")
            }
            Self::Touched(k, off) => {
                format!("The tripod was touched at {}: from there on {}, brought back", clock(k), way(off))
            }
            Self::Drifts(off) => format!("It drifts: {} by the end, brought back", way(off)),
            Self::Zooms(from, to, share) => format!(
                "It zooms by {:.1} % between {} and {}; followed near the areas",
                100.0 * share,
                clock(from),
                clock(to)
            ),
            Self::Brightens(by) => format!(
                "The light changes: {:.2} stops {} by the end; followed",
                by.abs(),
                if by > 0.0 { "brighter" } else { "darker" }
            ),
            Self::Flickers(by) => {
                format!("The light flickers by {by:.2} stops from frame to frame; followed")
            }
            Self::Colours(by) => {
                format!(
                    "Its colours change by {by:.1} of 255 by the end, as where the camera balances anew; followed"
                )
            }
            Self::Softer(from, to, share) => format!(
                "It is softer by {:.0} % between {} and {}, as where the camera focuses: the patch is too sharp there",
                100.0 * share,
                clock(from),
                clock(to)
            ),
        }
    }
}

/// What matters of how the frames of a shot differ from its first.
pub fn remarks(each: &[Moved]) -> Vec<Remark> {
    /// Pixels, shares and stops from which on it matters.
    const SHAKE: f64 = 0.25;
    const STEP: f64 = 0.8;
    const ZOOM: f64 = 0.006;
    const STOPS: f64 = 0.08;
    const FLICKER: f64 = 0.02;
    const COLOUR: f64 = 1.5;
    const SOFT: f64 = 0.25;
    /// Frames to each side whose median stands for a moment.
    const NEAR: usize = 7;
    let n = each.len();
    let mut found = Vec::new();
    if n < 3 {
        return found;
    }
    let median = |of: &dyn Fn(&Moved) -> f64, from: usize, to: usize| -> f64 {
        let mut all: Vec<f64> =
            each[from.min(n - 1)..to.clamp(from.min(n - 1) + 1, n)].iter().map(of).collect();
        all.sort_by(f64::total_cmp);
        all[all.len() / 2]
    };
    let right = |m: &Moved| m.shift[0];
    let down = |m: &Moved| m.shift[1];
    // What differs from the frames around it trembles.
    let around = |of: &dyn Fn(&Moved) -> f64, k: usize| median(of, k.saturating_sub(NEAR), k + NEAR + 1);
    let trembling = |of: &dyn Fn(&Moved) -> f64| -> f64 {
        let mut all: Vec<f64> = (0..n).map(|k| (of(&each[k]) - around(of, k)).abs()).collect();
        all.sort_by(f64::total_cmp);
        all[(all.len() * 9) / 10]
    };
    let shake = trembling(&right).hypot(trembling(&down));
    if shake > SHAKE {
        found.push(Remark::Shakes(shake));
    }
    // The largest step: before it and after it lie apart, and it takes no time.
    let step = |k: usize, near: usize| -> [f64; 2] {
        let side =
            |of: &dyn Fn(&Moved) -> f64| median(of, k, k + near) - median(of, k.saturating_sub(near), k);
        [side(&right), side(&down)]
    };
    let length = |v: [f64; 2]| v[0].hypot(v[1]);
    let sizes = |k: usize| (length(step(k, 2 * NEAR)), length(step(k, 3)));
    let sudden = (2..n.saturating_sub(2)).max_by(|&a, &b| {
        let of = |k: usize| sizes(k).0.min(sizes(k).1);
        of(a).total_cmp(&of(b))
    });
    let mut stepped = [0.0; 2];
    if let Some(k) = sudden.filter(|&k| sizes(k).0 > STEP.max(3.0 * shake) && sizes(k).1 > 0.6 * sizes(k).0) {
        stepped = step(k, 2 * NEAR);
        found.push(Remark::Touched(k, stepped));
    }
    let ends =
        |of: &dyn Fn(&Moved) -> f64| median(of, n.saturating_sub(2 * NEAR), n) - median(of, 0, 2 * NEAR);
    let drift = [ends(&right) - stepped[0], ends(&down) - stepped[1]];
    if length(drift) > STEP.max(2.0 * shake) {
        found.push(Remark::Drifts(drift));
    }
    let zoom = |m: &Moved| m.zoom;
    let most = (0..n).max_by(|&a, &b| around(&zoom, a).abs().total_cmp(&around(&zoom, b).abs())).unwrap_or(0);
    let zoomed = around(&zoom, most);
    if zoomed.abs() > ZOOM {
        let from = (0..n).find(|&k| around(&zoom, k).abs() > 0.2 * zoomed.abs()).unwrap_or(0);
        found.push(Remark::Zooms(from, most, zoomed));
    }
    let light = |m: &Moved| m.stops;
    let brighter = ends(&light);
    if brighter.abs() > STOPS {
        found.push(Remark::Brightens(brighter));
    }
    let flicker = trembling(&light);
    if flicker > FLICKER {
        found.push(Remark::Flickers(flicker));
    }
    let colour = ends(&|m: &Moved| m.colour[0]).hypot(ends(&|m: &Moved| m.colour[1]));
    if colour > COLOUR {
        found.push(Remark::Colours(colour));
    }
    let sharp = |m: &Moved| m.sharp;
    let usual = median(&sharp, 0, n);
    let soft: Vec<usize> = (0..n).filter(|&k| around(&sharp, k) < (1.0 - SOFT) * usual).collect();
    if let (Some(&from), Some(&to)) = (soft.first(), soft.last()) {
        let least = soft.iter().map(|&k| around(&sharp, k)).fold(f64::INFINITY, f64::min);
        found.push(Remark::Softer(from, to, 1.0 - least / usual));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    const STILL: Moved = Moved { shift: [0.0; 2], zoom: 0.0, stops: 0.0, colour: [0.0; 2], sharp: 1.0 };

    fn small(right: f64, gain: f64, soft: bool) -> Small {
        let size = Size::new(160, 90);
        let fine = |x: f64, y: f64| 12.0 * (1.9 * x + 0.3 * y).sin() * (0.7 * y).cos();
        let scene = |x: f64, y: f64| {
            110.0 + 40.0 * (x / 5.0).sin() * (y / 7.0).cos() + 30.0 * ((x + y) / 13.0).sin() + fine(x, y)
        };
        let at = |p: usize| {
            let (x, y) = ((p % 160) as f64 - right, (p / 160) as f64);
            let v = if soft {
                (-4..=4).map(|d| scene(x + f64::from(d), y)).sum::<f64>() / 9.0
            } else {
                scene(x, y)
            };
            (gain * v) as f32
        };
        Small { bright: (0..160 * 90).map(at).collect(), size, colour: [0.0; 2] }
    }

    #[test]
    fn how_a_frame_moved_and_how_bright_it_is_are_measured() {
        let first = small(0.0, 1.0, false);
        let moved = Moved::of(&first, &small(1.5, 1.0, false), 4.0);
        assert!((moved.shift[0] - 6.0).abs() < 0.3 && moved.shift[1].abs() < 0.3, "{moved:?}");
        // A twentieth of a stop in codes: light is their power of 2.2.
        let brighter = Moved::of(&first, &small(0.0, 1.032, false), 4.0);
        assert!((brighter.stops - 0.1).abs() < 0.02 && brighter.shift[0].abs() < 0.1, "{brighter:?}");
        assert!(Moved::of(&first, &small(0.0, 1.0, true), 4.0).sharp < 0.8);
    }

    #[test]
    fn a_still_shot_needs_no_remark_and_others_say_what_happened() {
        let still = vec![STILL; 100];
        assert_eq!(remarks(&still), []);
        let words = |found: &[Remark]| format!("{found:?}");
        let touched: Vec<Moved> =
            (0..100).map(|k| Moved { shift: [if k < 60 { 0.02 } else { -3.0 }, 0.0], ..STILL }).collect();
        match remarks(&touched)[..] {
            [Remark::Touched(k, [right, _])] => assert!((59..=61).contains(&k) && (right + 3.0).abs() < 0.1),
            ref other => panic!("{}", words(other)),
        }
        let hands: Vec<Moved> = (0..100)
            .map(|k| Moved { shift: [2.0 * (k as f64 * 1.3).sin(), (k as f64 * 2.1).cos()], ..STILL })
            .collect();
        assert!(matches!(remarks(&hands)[..], [Remark::Shakes(by)] if by > 1.0), "{:?}", remarks(&hands));
        let later = |k: usize| k as f64 / 99.0;
        let fading: Vec<Moved> = (0..100).map(|k| Moved { stops: -0.3 * later(k), ..STILL }).collect();
        assert!(matches!(remarks(&fading)[..], [Remark::Brightens(by)] if by < -0.2));
        let drifting: Vec<Moved> =
            (0..100).map(|k| Moved { shift: [5.0 * later(k), 0.0], ..STILL }).collect();
        assert!(
            matches!(remarks(&drifting)[..], [Remark::Drifts([r, _])] if r > 3.0),
            "{:?}",
            remarks(&drifting)
        );
        let zooming: Vec<Moved> = (0..100).map(|k| Moved { zoom: 0.05 * later(k), ..STILL }).collect();
        assert!(matches!(remarks(&zooming)[..], [Remark::Zooms(..)]));
        let soft: Vec<Moved> = (0..100)
            .map(|k| Moved { sharp: if (40..60).contains(&k) { 0.5 } else { 1.0 }, ..STILL })
            .collect();
        assert!(matches!(remarks(&soft)[..], [Remark::Softer(..)]));
    }

    #[test]
    fn another_view_is_a_cut_and_another_light_is_none() {
        let first = small(0.0, 1.0, false);
        assert!(!first.cut_before(&small(0.5, 0.7, false)));
        let mut other = small(0.0, 1.0, false);
        let n = other.bright.len();
        other.bright =
            (0..n).map(|p| ((p * 31) % 160) as f32 * 0.6 + if p % 160 > 80 { 120.0 } else { 0.0 }).collect();
        assert!(first.cut_before(&other));
    }
}
