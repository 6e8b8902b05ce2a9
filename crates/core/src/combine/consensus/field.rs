//! The aligned frames on the reduced picture, and how far two of them differ.
//!
//! `χ² = mean over channels of d² / (σᵢ² + σⱼ² + 2κ²·min(gᵢ, gⱼ)²)` with d the difference of root codes after a small
//! blur, σ the noise that is left, g the gradient and κ the registration error that is forgiven.

use super::{WORD, local};
use crate::geometry::Size;
use crate::noise::{self, BINS, NoiseModel};
use crate::pixel::Plane;
use rayon::prelude::*;

/// Registration error that is forgiven, in pixels of the reduced picture.
const REGISTRATION_ERROR: f32 = 0.2;
/// [`noise::SAME`], as χ².
pub(crate) const SAME: f32 = noise::SAME * noise::SAME;
/// [`noise::DIFFER`], as χ².
pub(crate) const DIFFER: f32 = noise::DIFFER * noise::DIFFER;
/// Variance over the model's that is much.
const MUCH_MORE: f32 = 2.0;
/// Share of the noise that one blur leaves, and further ones.
const LEFT: [f32; 4] = [0.375, 0.273, 0.226, 0.196];
/// Noise of middle grey, in root codes of the reduced picture, from which on it is blurred once more, and again from each double.
const STRONG: f32 = 1000.0;
/// No deviation is believed to be below this, in root codes: eight bits and what JPEG makes of them.
const FLOOR: f32 = 220.0;
/// Noise where a frame does not reach.
pub(super) const ENDLESS: u8 = u8::MAX;
/// Noise and forgiven difference are kept as roots, so that a byte holds each: a root's square in root codes, times these.
const NOISE: f32 = 1.0 / 16.0;
const FORGIVEN: f32 = 1.0 / 4.0;
/// Pixels by which a frame's rim is not known as well as the rest: the blur takes in what is not there.
const RIM: usize = 1;
/// A sample this near its end holds clipped light.
const CLIPPED: u16 = 64_500;

/// One frame over the reduced picture: planar root codes, and for each row the columns it covers.
#[derive(Clone)]
pub struct LayerData {
    /// Red, green, blue.
    pub planes: [Vec<u16>; 3],
    /// First covered column and one past the last.
    pub spans: Vec<(u32, u32)>,
}

impl LayerData {
    /// Whether it covers a pixel, of rows of `width`.
    pub(crate) fn reaches(&self, p: usize, width: usize) -> bool {
        let (from, to) = self.spans[p / width];
        (from..to).contains(&((p % width) as u32))
    }

    /// The same with its root codes multiplied, by channel.
    pub(crate) fn times(&self, by: [f32; 3]) -> Self {
        let times = |c: usize| self.planes[c].iter().map(|v| (f32::from(*v) * by[c] + 0.5) as u16).collect();
        Self { planes: [times(0), times(1), times(2)], spans: self.spans.clone() }
    }

    /// A number that follows from the samples.
    pub(super) fn fingerprint(&self) -> u64 {
        let step = (self.planes[0].len() / 4096).max(1) | 1;
        let mix = |h: u64, v: u64| (h ^ v).wrapping_mul(0x0100_0000_01B3).rotate_left(23);
        self.planes
            .iter()
            .flat_map(|p| p.iter().step_by(step))
            .fold(0xCBF2_9CE4_8422_2325, |h, &v| mix(h, u64::from(v)))
    }
}

/// A frame over the reduced picture, or what several of them show.
pub(super) struct Layer {
    planes: [Vec<u16>; 3],
    /// Roots of noise and forgiven difference; where the frame does not reach, [`ENDLESS`] noise.
    sigma: Vec<u8>,
    slack: Vec<u8>,
}

/// All frames over the reduced picture.
pub struct Field {
    pub(super) width: usize,
    pub(super) height: usize,
    layers: Vec<Layer>,
    /// By how much the variance of the noise is greater at each pixel than the model's, as its fourth root, which is what roots of noise
    /// grow by; `None` where frames are too few to tell.
    raise: Option<Vec<f32>>,
    /// Whether it is much greater over most of the picture: frames that were coded hard, which the model does not describe.
    coded: bool,
}

impl Field {
    pub(crate) fn new(size: Size, layers: Vec<LayerData>, noise: &NoiseModel, shrink: f32) -> Self {
        let (width, height) = (size.width as usize, size.height as usize);
        let layers: Vec<Layer> =
            layers.into_par_iter().map(|l| Layer::new(l, (width, height), noise, shrink)).collect();
        let more = local::noise(&layers, (width, height));
        let coded = more.as_ref().is_some_and(|more| {
            let much = more.iter().filter(|more| **more > MUCH_MORE).count();
            2 * much > more.len()
        });
        let raise = more.map(|mut more| {
            more.par_iter_mut().for_each(|more| *more = more.sqrt().sqrt());
            more
        });
        Self { width, height, layers, raise, coded }
    }

    /// Number of frames.
    pub(super) fn count(&self) -> usize {
        self.layers.len()
    }

    pub(crate) fn width(&self) -> usize {
        self.width
    }

    /// The pixels to the right, below, to the left and above.
    pub(crate) fn beside(&self, p: usize) -> [Option<usize>; 4] {
        let (w, x) = (self.width, p % self.width);
        [
            (x + 1 < w).then_some(p + 1),
            (p + w < self.pixels()).then_some(p + w),
            (x > 0).then(|| p - 1),
            p.checked_sub(w),
        ]
    }

    pub(crate) fn pixels(&self) -> usize {
        self.width * self.height
    }

    /// How many frames reach each pixel, and how many of them show the same as what was labelled.
    pub(super) fn support(&self, labelled: &Layer) -> Vec<(u32, u32)> {
        let mut out = vec![(0, 0); self.pixels()];
        out.par_chunks_mut(self.width).enumerate().for_each_init(
            || vec![0.0; self.width],
            |chi2, (y, row)| {
                for k in 0..self.count() {
                    self.chi2_against(k, labelled, y, chi2);
                    let noise = &self.layers[k].sigma[y * self.width..];
                    for ((counts, chi2), noise) in row.iter_mut().zip(&*chi2).zip(noise) {
                        let covered = *noise != ENDLESS;
                        counts.0 += u32::from(covered);
                        counts.1 += u32::from(covered && *chi2 < SAME);
                    }
                }
            },
        );
        out
    }

    pub(crate) fn covered(&self, k: usize, p: usize) -> bool {
        self.layers[k].sigma[p] != ENDLESS
    }

    /// A frame's root code at a pixel.
    pub(super) fn code(&self, k: usize, channel: usize, p: usize) -> u16 {
        self.layers[k].code(channel, p)
    }

    /// A frame's noise at a pixel, in root codes.
    pub(super) fn noise(&self, k: usize, p: usize) -> f32 {
        self.layers[k].noise(p)
    }

    /// Whether any channel holds clipped light.
    pub(super) fn clipped(&self, k: usize, p: usize) -> bool {
        self.layers[k].planes.iter().any(|c| c[p] > CLIPPED)
    }

    /// What a χ² at a pixel is where noise is as great as the frames tell there, over what it is by the model; 1 where the model
    /// describes most of the picture.
    pub(super) fn by_place(&self, p: usize) -> f32 {
        let layer = self.layers.iter().find(|l| self.coded && l.reaches(p));
        let (Some(raise), Some(layer)) = (&self.raise, layer) else { return 1.0 };
        let (noise, forgiven) = (layer.noise(p).powi(2), layer.forgiven(p).powi(2));
        (noise + forgiven) / (raise[p].powi(4) * noise + forgiven)
    }

    /// What a frame's root codes are of another's at a pixel, by channel.
    pub(super) fn ratios(&self, a: usize, b: usize, p: usize) -> [f32; 3] {
        let (a, b) = (&self.layers[a], &self.layers[b]);
        [0, 1, 2].map(|c| f32::from(a.planes[c][p]) / f32::from(b.planes[c][p].max(1)))
    }

    /// How far two frames differ at a pixel, in squared deviations; nothing where either does not reach.
    #[inline]
    pub(crate) fn chi2(&self, a: usize, b: usize, p: usize) -> f32 {
        let (a, b) = (&self.layers[a], &self.layers[b]);
        let d = |c: usize| f32::from(a.planes[c][p]) - f32::from(b.planes[c][p]);
        deviations([d(0), d(1), d(2)], [a.sigma[p], b.sigma[p]], [a.slack[p], b.slack[p]])
    }

    /// How far a frame's pixel differs from another pixel of another frame, in squared deviations; `None` where either does not
    /// reach.
    #[inline]
    pub(super) fn chi2_between(&self, (a, p): (usize, usize), (b, q): (usize, usize)) -> Option<f32> {
        let (a, b) = (&self.layers[a], &self.layers[b]);
        if a.sigma[p] == ENDLESS || b.sigma[q] == ENDLESS {
            return None;
        }
        let d = |c: usize| f32::from(a.planes[c][p]) - f32::from(b.planes[c][q]);
        Some(deviations([d(0), d(1), d(2)], [a.sigma[p], b.sigma[q]], [a.slack[p], b.slack[q]]))
    }

    /// The same for a row of pixels from `from` on.
    pub(crate) fn chi2_row(&self, a: usize, b: usize, from: usize, out: &mut [f32]) {
        let [a, b] = [a, b].map(|k| self.layers[k].line(from, out.len()));
        vector::chi2(&a, &b, out);
    }

    /// Each pixel as its labelled frame has it.
    pub(super) fn labelled(&self, labels: &[u16]) -> Layer {
        fn of<T: Copy + Send>(labels: &[u16], value: impl Fn(usize, usize) -> T + Sync) -> Vec<T> {
            labels.par_iter().enumerate().map(|(p, k)| value(usize::from(*k), p)).collect()
        }
        Layer {
            planes: [0, 1, 2].map(|c| of(labels, |k, p| self.layers[k].planes[c][p])),
            sigma: of(labels, |k, p| self.layers[k].sigma[p]),
            slack: of(labels, |k, p| self.layers[k].slack[p]),
        }
    }

    /// Brightness of frame `k`, or of what was labelled, as roots of light, 0..=255.
    pub(super) fn grey(&self, k: Option<usize>, labelled: &Layer) -> Plane {
        let [r, g, b] = &k.map_or(labelled, |k| &self.layers[k]).planes;
        let weigh = |((r, g), b): ((&u16, &u16), &u16)| {
            (0.299 * f32::from(*r) + 0.587 * f32::from(*g) + 0.114 * f32::from(*b)) / 257.0
        };
        let size = Size::new(self.width as u32, self.height as u32);
        Plane { size, data: r.iter().zip(g).zip(b).map(weigh).collect() }
    }

    /// Labels a pixel anew.
    pub(super) fn relabel(&self, labelled: &mut Layer, p: usize, label: u16) {
        let own = &self.layers[usize::from(label)];
        labelled.planes.iter_mut().zip(&own.planes).for_each(|(to, from)| to[p] = from[p]);
        (labelled.sigma[p], labelled.slack[p]) = (own.sigma[p], own.slack[p]);
    }

    /// How far frame `k` and what was labelled differ over row `y`, in squared deviations.
    pub(super) fn chi2_against(&self, k: usize, labelled: &Layer, y: usize, out: &mut [f32]) {
        let [a, b] = [&self.layers[k], labelled].map(|l| l.line(y * self.width, self.width));
        vector::chi2(&a, &b, out);
    }

    /// How far frame `k` and something else over row `y` differ, in squared deviations of the noise that the frames tell there.
    pub(super) fn chi2_by_place(&self, k: usize, other: &Line<'_>, y: usize, out: &mut [f32]) {
        let w = self.width;
        let mut noises = [vec![0u8; w], vec![0u8; w]];
        let mut own = self.line(k, y);
        let mut other = Line { ..*other };
        if let Some(raise) = &self.raise {
            for (noise, line) in noises.iter_mut().zip([&own, &other]) {
                vector::raised(line.sigma, &raise[y * w..][..w], noise);
            }
            (own.sigma, other.sigma) = (&noises[0], &noises[1]);
        }
        vector::chi2(&own, &other, out);
    }

    /// A frame over row `y`.
    pub(super) fn line(&self, k: usize, y: usize) -> Line<'_> {
        self.layers[k].line(y * self.width, self.width)
    }

    /// How far the mean colours over a place differ, in deviations of one pixel.
    pub(super) fn apart(&self, a: usize, b: usize, place: &[usize]) -> f32 {
        let (a, b) = (&self.layers[a], &self.layers[b]);
        let mean = |c: usize| -> f32 {
            let d = |&p: &usize| f64::from(a.planes[c][p]) - f64::from(b.planes[c][p]);
            (place.iter().map(d).sum::<f64>() / place.len() as f64) as f32
        };
        let sigma = place.iter().map(|&p| a.noise(p)).sum::<f32>() / place.len() as f32;
        ((0..3).map(|c| mean(c).powi(2)).sum::<f32>() / 3.0).sqrt() / (1.5 * sigma)
    }

    /// How far a frame's own pixels differ, in deviations.
    pub(crate) fn step(&self, k: usize, p: usize, q: usize) -> f32 {
        self.step_square(k, p, q).sqrt()
    }

    /// The same, squared.
    #[inline]
    pub(super) fn step_square(&self, k: usize, p: usize, q: usize) -> f32 {
        let layer = &self.layers[k];
        let d = |c: usize| f32::from(layer.planes[c][p]) - f32::from(layer.planes[c][q]);
        let (r, g, b) = (d(0), d(1), d(2));
        (r * r + g * g + b * b) / (3.0 * (1.5 * layer.noise(p)).powi(2))
    }

    /// The inliers, but where any frame surely shows something else, only the one that differs most.
    pub(super) fn crowd(
        &self,
        labelled: &Layer,
        inliers: &[u64],
        words: usize,
        changed: &[bool],
    ) -> Vec<u64> {
        let mut out = inliers.to_vec();
        out.par_chunks_mut(self.width * words).enumerate().for_each(|(y, row)| {
            let changed = &changed[y * self.width..][..self.width];
            if !changed.contains(&true) {
                return;
            }
            let (mut chi2, mut most) = (vec![0.0; self.width], vec![(DIFFER, None); self.width]);
            for k in 0..self.count() {
                self.chi2_against(k, labelled, y, &mut chi2);
                for (most, &chi2) in most.iter_mut().zip(&chi2) {
                    if chi2 > most.0 {
                        *most = (chi2, Some(k));
                    }
                }
            }
            for ((bits, (_, k)), changed) in row.chunks_exact_mut(words).zip(most).zip(changed) {
                if let (true, Some(k)) = (changed, k) {
                    bits.fill(0);
                    bits[k / WORD] = 1 << (k % WORD);
                }
            }
        });
        out
    }
}

impl Layer {
    fn new(data: LayerData, (width, height): (usize, usize), noise: &NoiseModel, shrink: f32) -> Self {
        let within = inner(&data.spans, width);
        let middle = noise.sigma_at(u16::MAX / 2) / shrink;
        let more = (1..LEFT.len()).filter(|k| middle >= STRONG * (1 << (k - 1)) as f32).count();
        let blurred = |p: Vec<u16>| (0..=more).fold(p, |p, _| blurred(&p, (width, height)));
        let LayerData { mut planes, spans } = data;
        // Where the frame ends, the blur must not take in what is not there.
        planes.iter_mut().for_each(|plane| continue_beyond(plane, &spans, width));
        let planes = planes.map(blurred);
        let left = |bin| (noise.sigma_at((bin * 65536 / BINS) as u16) * LEFT[more] / shrink).max(FLOOR);
        let root = |noise: f32| (noise / NOISE).sqrt().round().min(f32::from(ENDLESS - 1)) as u8;
        let left: [u8; BINS] = std::array::from_fn(|bin| root(left(bin)));
        let (mut sigma, mut slack) = (vec![ENDLESS; width * height], vec![0; width * height]);
        let mut square = vec![0.0; width];
        for y in 0..height {
            let line = |c: usize, y: usize| &planes[c][y * width..][..width];
            square.fill(0.0);
            for c in 0..3 {
                let (up, down) = (line(c, y.saturating_sub(1)), line(c, (y + 1).min(height - 1)));
                vector::gradients(line(c, y), up, down, &mut square);
            }
            vector::forgiven(&square, &mut slack[y * width..][..width]);
            let light = line(0, y).iter().zip(line(1, y)).zip(line(2, y));
            let reached = spans[y].0 as usize..spans[y].1 as usize;
            let own = sigma[y * width..][..width][reached.clone()].iter_mut();
            for (sigma, ((r, g), b)) in own.zip(light.skip(reached.start)) {
                let light = (u32::from(*r) + u32::from(*g) + u32::from(*b)) / 3;
                *sigma = left[light as usize * BINS / 65536];
            }
            // At its rim a frame may be off by twice what is forgiven for the registration.
            let (from, to) = within[y];
            for x in reached.filter(|x| !(from..to).contains(x)) {
                let (sigma, slack) = (&mut sigma[y * width + x], slack[y * width + x]);
                let steep = 2.0 * FORGIVEN * f32::from(slack).powi(2);
                *sigma = root((NOISE * f32::from(*sigma).powi(2)).hypot(steep));
            }
        }
        Self { planes, sigma, slack }
    }

    /// Whether the frame reaches a pixel.
    pub(super) fn reaches(&self, p: usize) -> bool {
        self.sigma[p] != ENDLESS
    }

    /// A root code.
    pub(super) fn code(&self, channel: usize, p: usize) -> u16 {
        self.planes[channel][p]
    }

    /// The difference that is forgiven at a pixel for the registration, in root codes.
    pub(super) fn forgiven(&self, p: usize) -> f32 {
        FORGIVEN * f32::from(self.slack[p]).powi(2)
    }

    /// Noise at a pixel, in root codes.
    pub(super) fn noise(&self, p: usize) -> f32 {
        match self.sigma[p] {
            ENDLESS => 65535.0,
            root => NOISE * f32::from(root).powi(2),
        }
    }

    pub(super) fn line(&self, from: usize, n: usize) -> Line<'_> {
        let planes = self.planes.each_ref().map(|c| &c[from..from + n]);
        Line { planes, sigma: &self.sigma[from..from + n], slack: &self.slack[from..from + n] }
    }
}

/// A part of a row of a frame.
pub(super) struct Line<'a> {
    /// Root codes, by channel.
    pub planes: [&'a [u16]; 3],
    /// Roots of the noise, [`ENDLESS`] where the frame does not reach.
    pub sigma: &'a [u8],
    /// Roots of the difference that is forgiven.
    pub slack: &'a [u8],
}

/// Squared deviations of a difference by channel, with both sides' roots of noise and of what is forgiven; nothing where either
/// does not reach.
#[inline(always)]
fn deviations(d: [f32; 3], sigma: [u8; 2], slack: [u8; 2]) -> f32 {
    let fourth = |root: u8| (f32::from(root) * f32::from(root)).powi(2);
    let noise = NOISE * NOISE * (fourth(sigma[0]) + fourth(sigma[1]));
    let forgiven = 2.0 * FORGIVEN * FORGIVEN * fourth(slack[0].min(slack[1]));
    let square = d[0] * d[0] + d[1] * d[1] + d[2] * d[2];
    // By a product and not by a branch, so that a row is compared in vectors.
    let reached = f32::from(u8::from(sigma[0] != ENDLESS) & u8::from(sigma[1] != ENDLESS));
    reached * square / (3.0 * (noise + forgiven))
}

#[allow(unsafe_code)] // the dispatch to the processor's vector width is the macro's
mod vector {
    use super::{ENDLESS, FORGIVEN, Line, REGISTRATION_ERROR, deviations};

    #[multiversion::multiversion(targets("x86_64+avx2"))]
    pub(crate) fn chi2(a: &Line<'_>, b: &Line<'_>, out: &mut [f32]) {
        let n = out.len();
        let [ar, ag, ab] = a.planes.map(|p| &p[..n]);
        let [br, bg, bb] = b.planes.map(|p| &p[..n]);
        let (a_sigma, a_slack) = (&a.sigma[..n], &a.slack[..n]);
        let (b_sigma, b_slack) = (&b.sigma[..n], &b.slack[..n]);
        for i in 0..n {
            let d = |a: &[u16], b: &[u16]| f32::from(a[i]) - f32::from(b[i]);
            let d = [d(ar, br), d(ag, bg), d(ab, bb)];
            out[i] = deviations(d, [a_sigma[i], b_sigma[i]], [a_slack[i], b_slack[i]]);
        }
    }

    /// Roots of noise that grow at each pixel.
    #[multiversion::multiversion(targets("x86_64+avx2"))]
    pub(crate) fn raised(sigma: &[u8], by: &[f32], out: &mut [u8]) {
        let n = out.len();
        let (sigma, by) = (&sigma[..n], &by[..n]);
        for x in 0..n {
            let root = (f32::from(sigma[x]) * by[x] + 0.5).min(f32::from(ENDLESS - 1)) as u8;
            out[x] = if sigma[x] == ENDLESS { ENDLESS } else { root };
        }
    }

    /// Adds the squares of twice a row's gradients, along it and across; at its ends, of once.
    #[multiversion::multiversion(targets("x86_64+avx2"))]
    pub(crate) fn gradients(own: &[u16], up: &[u16], down: &[u16], square: &mut [f32]) {
        let n = square.len();
        let (own, up, down) = (&own[..n], &up[..n], &down[..n]);
        let add = |sum: &mut f32, left: u16, right: u16, up: u16, down: u16| {
            let (x, y) = (f32::from(right) - f32::from(left), f32::from(down) - f32::from(up));
            *sum += x * x + y * y;
        };
        if n < 2 {
            square.iter_mut().for_each(|s| add(s, own[0], own[0], up[0], down[0]));
            return;
        }
        add(&mut square[0], own[0], own[1], up[0], down[0]);
        add(&mut square[n - 1], own[n - 2], own[n - 1], up[n - 1], down[n - 1]);
        let (up, down) = (&up[1..n - 1], &down[1..n - 1]);
        let (left, right) = (&own[..n - 2], &own[2..]);
        let beside = left.iter().zip(right).zip(up.iter().zip(down));
        for (sum, ((left, right), (up, down))) in square[1..n - 1].iter_mut().zip(beside) {
            add(sum, *left, *right, *up, *down);
        }
    }

    /// Roots of the difference that such gradients of three channels forgive.
    #[multiversion::multiversion(targets("x86_64+avx2"))]
    pub(crate) fn forgiven(square: &[f32], slack: &mut [u8]) {
        for (slack, square) in slack.iter_mut().zip(square) {
            let forgiven = REGISTRATION_ERROR * 0.5 * (square / 3.0).sqrt();
            *slack = ((forgiven / FORGIVEN).sqrt() + 0.5).min(255.0) as u8;
        }
    }
}

/// The columns of each row that lie more than [`RIM`] pixels within what rows cover.
fn inner(spans: &[(u32, u32)], width: usize) -> Vec<(usize, usize)> {
    let of = |y: usize| {
        let near = &spans[y.saturating_sub(RIM)..(y + RIM + 1).min(spans.len())];
        let (a, b) = near.iter().fold((0, width), |s, n| (s.0.max(n.0 as usize), s.1.min(n.1 as usize)));
        (if a > 0 { a + RIM } else { 0 }, if b < width { b.saturating_sub(RIM) } else { width })
    };
    (0..spans.len()).map(of).collect()
}

/// Goes on with a plane's outermost pixels beyond what rows cover.
fn continue_beyond(plane: &mut [u16], spans: &[(u32, u32)], width: usize) {
    let covered = |y: &usize| spans[*y].0 < spans[*y].1;
    for y in (0..spans.len()).filter(covered) {
        let row = &mut plane[y * width..][..width];
        let (from, to) = (spans[y].0 as usize, spans[y].1 as usize);
        let (first, last) = (row[from], row[to - 1]);
        row[..from].fill(first);
        row[to..].fill(last);
    }
    let Some(first) = (0..spans.len()).find(covered) else { return };
    for y in (0..first).rev() {
        plane.copy_within((y + 1) * width..(y + 2) * width, y * width);
    }
    for y in (first + 1..spans.len()).filter(|y| !covered(y)) {
        plane.copy_within((y - 1) * width..y * width, y * width);
    }
}

/// Binomial blur over 3×3.
fn blurred(plane: &[u16], (width, height): (usize, usize)) -> Vec<u16> {
    let row = |y: usize| &plane[y * width..][..width];
    let (mut out, mut columns) = (Vec::with_capacity(plane.len()), vec![0; width + 2]);
    for y in 0..height {
        let (up, down) = (row(y.saturating_sub(1)), row((y + 1).min(height - 1)));
        for (((column, up), own), down) in columns[1..].iter_mut().zip(up).zip(row(y)).zip(down) {
            *column = u32::from(*up) + 2 * u32::from(*own) + u32::from(*down);
        }
        (columns[0], columns[width + 1]) = (columns[1], columns[width]);
        out.extend(columns.windows(3).map(|c| ((c[0] + 2 * c[1] + c[2] + 8) / 16) as u16));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_frame_shows_the_same_as_another_up_to_its_last_row_and_column() {
        // Steep enough for a blur that took in black to show; the second frame ends a row and two columns earlier.
        let (size, all) = (Size::new(30, 20), 30 * 20u16);
        let plane: Vec<u16> = (0..all).map(|p| 20_000 + 500 * (p / 30) + 300 * (p % 30)).collect();
        let of = |spans| LayerData { planes: [plane.clone(), plane.clone(), plane.clone()], spans };
        let mut ends = vec![(0, 28); 20];
        ends[19] = (0, 0);
        let mut second = of(ends);
        for p in (0..usize::from(all)).filter(|p| p % 30 >= 28 || p / 30 == 19) {
            second.planes.iter_mut().for_each(|plane| plane[p] = 0);
        }
        let noise = NoiseModel { sigma: vec![300.0; BINS], slip: 0.0, texture: 0.0 };
        let field = Field::new(size, vec![of(vec![(0, 30); 20]), second], &noise, 1.0);
        for p in 0..usize::from(all) {
            assert_eq!(field.covered(1, p), p % 30 < 28 && p / 30 < 19, "{p}");
            assert!(field.chi2(0, 1, p) < SAME, "{p}: {}", field.chi2(0, 1, p));
        }
    }
}
