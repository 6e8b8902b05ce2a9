//! Which frames show the plate at each place: all but those that surely show something else, so that noise falls as far as it can.
//!
//! A frame is asked twice: against the one that was labelled, and then against the mean of the others that passed, which has a
//! fraction of the noise. The first alone would draw an average towards the labelled frame, whose own noise decided who may
//! take part. Thresholds have hysteresis (Canny 1986): places that differ by more than noise are something else only with a core that
//! surely differs, or as a large area that is brighter or darker as a whole, a shade. What has neither is noise, whose tails must
//! stay in an average. A core must also differ by more than an average of so many frames dilutes, in light over 7×7 pixels or in
//! colour at one: coding changes texture by more than noise, but not what is seen of it. Cost: two comparisons a pixel and frame.

use super::WORD;
use super::field::{DIFFER, ENDLESS, Field, Layer, Line, SAME};
use crate::pixel::blur::boxed;
use crate::pixel::flood::flood;
use rayon::prelude::*;

/// Fewest pixels of a core that surely differ, or how far one alone must, as χ².
const CORE: usize = 4;
const SUREST: f32 = 4.0 * DIFFER;
/// Fewest pixels of a shade, and the least share of them that is to the same side: more than a coded block has.
const SHADE: usize = 300;
const ONE_SIDED: f32 = 0.95;

/// Pixels to each side over which light is meant.
const AROUND: usize = 3;
/// Root codes by which a core must differ in light over these, and in colour at one pixel: so many for each frame that is averaged, and
/// so many at most.
const IN_LIGHT: (f32, f32) = (0.5 * 257.0, 6.0 * 257.0);
const IN_COLOUR: (f32, f32) = (2.0 * 257.0, 24.0 * 257.0);

/// For each pixel, a bit for each frame that shows the plate there and right beside it; `words` of them a pixel.
pub(super) fn find(field: &Field, (labels, labelled): (&[u16], &Layer), words: usize) -> Vec<u64> {
    let (w, n) = (field.width, field.count());
    let against_label = |k: usize| {
        shows_another(field, |y, out, apart| {
            let other = labelled.line(y * w, w);
            field.chi2_by_place(k, &other, y, out);
            apart.extend(differences(&field.line(k, y), &other));
        })
    };
    let mut others: Vec<Vec<bool>> = (0..n).into_par_iter().map(against_label).collect();
    if n > 2 {
        let centre = Centre::new(field, (labels, labelled), &others);
        let against_centre = |k: usize| {
            let mut rest = Rest::new(w);
            shows_another(field, |y, out, apart| {
                rest.fill(&centre, k, y);
                field.chi2_by_place(k, &rest.line(), y, out);
                apart.extend(differences(&field.line(k, y), &rest.line()));
            })
        };
        others = (0..n).into_par_iter().map(against_centre).collect();
    }
    let mut out = vec![0u64; field.pixels() * words];
    out.par_chunks_mut(w * words).enumerate().for_each(|(y, out)| {
        for (k, others) in others.iter().enumerate() {
            let bits = out[k / WORD..].iter_mut().step_by(words);
            for ((bits, other), noise) in bits.zip(&others[y * w..][..w]).zip(field.line(k, y).sigma) {
                *bits |= u64::from(!other && *noise != ENDLESS) << (k % WORD);
            }
        }
        for (bits, label) in out.chunks_exact_mut(words).zip(&labels[y * w..]) {
            bits[usize::from(*label) / WORD] |= 1 << (label % WORD as u16);
        }
    });
    out
}

/// By how many root codes the first of two rows is lighter than the second, and by how many their colours differ, pixel by pixel.
fn differences(a: &Line<'_>, b: &Line<'_>) -> impl Iterator<Item = (f32, f32)> {
    (0..a.sigma.len()).map(|x| {
        let reached = a.sigma[x] != ENDLESS && b.sigma[x] != ENDLESS;
        let d = [0, 1, 2].map(|c| f32::from(a.planes[c][x]) - f32::from(b.planes[c][x]));
        let colour = (d.iter().map(|d| d * d).sum::<f32>() / 3.0).sqrt();
        if reached { (d.iter().sum::<f32>() / 3.0, colour) } else { (0.0, 0.0) }
    })
}

/// Where a frame shows something else, and right beside it. `compare` fills a row with how far it differs, in squared deviations, and
/// adds the [`differences`].
fn shows_another(
    field: &Field,
    mut compare: impl FnMut(usize, &mut [f32], &mut Vec<(f32, f32)>),
) -> Vec<bool> {
    let (w, h) = (field.width, field.height);
    let mut chi2 = vec![0.0; w * h];
    let mut apart = Vec::with_capacity(w * h);
    for (y, row) in chi2.chunks_exact_mut(w).enumerate() {
        compare(y, row, &mut apart);
    }
    let (lighter, colour): (Vec<f32>, Vec<f32>) = apart.into_iter().unzip();
    let mean = boxed(&lighter, w, h, AROUND);
    let enough = |(each, most): (f32, f32)| most.min(each * field.count() as f32);
    let far = |p: &usize| mean[*p].abs() > enough(IN_LIGHT) || colour[*p] > enough(IN_COLOUR);
    let mut open: Vec<bool> = chi2.iter().map(|chi2| *chi2 >= SAME).collect();
    let mut out = vec![false; w * h];
    for start in 0..w * h {
        if !open[start] {
            continue;
        }
        let place = flood(&mut open, w, start, 1);
        let sure = place.iter().filter(|p| chi2[**p] >= DIFFER).count();
        let surest = place.iter().any(|p| chi2[*p] >= SUREST);
        let shade = || {
            let bright = place.iter().filter(|p| lighter[**p] > 0.0).count();
            place.len() >= SHADE && bright.max(place.len() - bright) as f32 >= ONE_SIDED * place.len() as f32
        };
        let core = (sure >= CORE || surest) && place.iter().any(&far);
        if !core && !shade() {
            continue;
        }
        // The rim of whatever differs is only half there: what touches it does not count either.
        for p in place {
            let (x, y) = (p % w, p / w);
            for row in y.saturating_sub(1)..(y + 2).min(h) {
                out[row * w + x.saturating_sub(1)..row * w + (x + 2).min(w)].fill(true);
            }
        }
    }
    out
}

/// Sums of the frames that show the plate.
struct Centre<'a> {
    field: &'a Field,
    labelled: &'a Layer,
    sums: [Vec<u32>; 3],
    counts: Vec<u16>,
    /// Frames that are in the sums, pixel by pixel.
    within: Vec<Vec<bool>>,
}

impl<'a> Centre<'a> {
    /// Of those frames that do not show something else, and of those labelled.
    fn new(field: &'a Field, (labels, labelled): (&[u16], &'a Layer), others: &[Vec<bool>]) -> Self {
        let (w, n) = (field.width, field.pixels());
        let (mut sums, mut counts) = ([vec![0u32; n], vec![0; n], vec![0; n]], vec![0u16; n]);
        let within: Vec<Vec<bool>> = others
            .par_iter()
            .enumerate()
            .map(|(k, others)| {
                let reaches = |p: usize| field.covered(k, p);
                (0..n).map(|p| reaches(p) && (!others[p] || usize::from(labels[p]) == k)).collect()
            })
            .collect();
        for (k, within) in within.iter().enumerate() {
            counts.iter_mut().zip(within).for_each(|(count, within)| *count += u16::from(*within));
            sums.par_iter_mut().enumerate().for_each(|(c, sums)| {
                for (y, sums) in sums.chunks_exact_mut(w).enumerate() {
                    let codes = field.line(k, y).planes[c];
                    for ((sum, code), within) in sums.iter_mut().zip(codes).zip(&within[y * w..]) {
                        *sum += u32::from(*code) * u32::from(*within);
                    }
                }
            });
        }
        Self { field, labelled, sums, counts, within }
    }
}

/// A row of the mean of the frames that show the plate, without one of them.
struct Rest {
    planes: [Vec<u16>; 3],
    sigma: Vec<u8>,
    slack: Vec<u8>,
    /// What the root of the noise of so many samples' mean is of one sample's.
    shares: Vec<f32>,
}

impl Rest {
    fn new(width: usize) -> Self {
        let zeros = || vec![0; width];
        let planes = [vec![0; width], vec![0; width], vec![0; width]];
        Self { planes, sigma: zeros(), slack: zeros(), shares: vec![0.0] }
    }

    fn fill(&mut self, centre: &Centre<'_>, k: usize, y: usize) {
        let w = self.sigma.len();
        while self.shares.len() <= centre.field.count() {
            self.shares.push((self.shares.len() as f32).powf(-0.25));
        }
        let (own, labelled) = (centre.field.line(k, y), centre.labelled.line(y * w, w));
        self.slack.copy_from_slice(labelled.slack);
        for x in 0..w {
            let p = y * w + x;
            let within = centre.within[k][p];
            let count = u32::from(centre.counts[p]) - u32::from(within);
            if count == 0 || labelled.sigma[x] == ENDLESS {
                self.sigma[x] = ENDLESS;
                continue;
            }
            for (c, plane) in self.planes.iter_mut().enumerate() {
                let rest = centre.sums[c][p] - if within { u32::from(own.planes[c][x]) } else { 0 };
                plane[x] = ((rest + count / 2) / count) as u16;
            }
            self.sigma[x] = (f32::from(labelled.sigma[x]) * self.shares[count as usize]).round() as u8;
        }
    }

    fn line(&self) -> Line<'_> {
        Line { planes: self.planes.each_ref().map(Vec::as_slice), sigma: &self.sigma, slack: &self.slack }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::combine::consensus::LayerData;
    use crate::geometry::Size;
    use crate::noise::NoiseModel;
    use crate::random::Random;

    #[test]
    fn a_thing_of_another_colour_is_left_out_though_it_is_as_light() {
        let (w, h, n) = (24usize, 20usize, 12usize);
        let thing = |p: usize| (8..16).contains(&(p % w)) && (6..14).contains(&(p / w));
        let layers = (0..n).map(|k| {
            let plane = |c: usize| {
                let of = |p: usize| {
                    if k == 5 && thing(p) { [32_000, 16_000, 20_000] } else { [16_000, 32_000, 20_000] }
                };
                (0..w * h).map(|p| of(p)[c]).collect::<Vec<u16>>()
            };
            LayerData { planes: [plane(0), plane(1), plane(2)], spans: vec![(0, w as u32); h] }
        });
        let field = Field::new(Size::new(w as u32, h as u32), layers.collect(), &NoiseModel::default(), 1.0);
        let labels: Vec<u16> = vec![0; w * h];
        let inliers = find(&field, (&labels, &field.labelled(&labels)), 1);
        for p in (0..w * h).filter(|p| thing(*p)) {
            assert_eq!(inliers[p], 0b1111_1101_1111, "at {p}");
        }
    }

    #[test]
    fn members_show_the_same_there_and_right_beside_it_however_many_frames_there_are() {
        let (w, h, n) = (12usize, 9usize, 70usize);
        let mut random = Random::new(9);
        let layers = (0..n).map(|k| {
            let mut plane = vec![20_000u16; w * h];
            // Some frames hold something somewhere, others differ by a little in one pixel; a few do not reach the first columns.
            if k > 0 && random.below(2) == 0 {
                let (x, y) = (random.below(w - 3), random.below(h - 3));
                (0..9).for_each(|i| plane[(y + i / 3) * w + x + i % 3] = 50_000);
            } else if k > 0 {
                plane[random.below(w * h)] += 5_000;
            }
            let from = if k > 0 && random.below(5) == 0 { 2 } else { 0 };
            LayerData { planes: [plane.clone(), plane.clone(), plane], spans: vec![(from, w as u32); h] }
        });
        let field = Field::new(Size::new(w as u32, h as u32), layers.collect(), &NoiseModel::default(), 1.0);
        let labels: Vec<u16> = vec![0; w * h];
        let words = n.div_ceil(WORD);
        let inliers = find(&field, (&labels, &field.labelled(&labels)), words);
        let (mut held, mut not, mut noisy) = (0, 0, 0);
        for p in 0..w * h {
            let beside = |q: usize| (q % w).abs_diff(p % w) < 2 && (q / w).abs_diff(p / w) < 2;
            for k in 0..n {
                let differs = |q: usize, by: f32| field.covered(k, q) && field.chi2(k, 0, q) >= by;
                let found = super::super::held(&inliers[p * words..][..words], k);
                if k == 0 || !field.covered(k, p) {
                    assert_eq!(found, k == 0, "frame {k} at {p}");
                } else if (0..w * h).filter(|&q| beside(q)).any(|q| differs(q, SUREST)) {
                    assert!(!found, "frame {k} at {p} shows something else");
                    not += 1;
                } else if (0..w * h).all(|q| !differs(q, SUREST)) {
                    assert!(found, "frame {k} at {p} shows the same");
                    held += 1;
                    noisy += usize::from(differs(p, SAME));
                }
            }
        }
        assert!(held > 1000 && not > 500 && noisy > 5, "{held} {not} {noisy}");
    }
}
