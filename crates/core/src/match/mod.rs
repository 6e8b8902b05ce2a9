//! Matching tone: the gain of each channel that brings a frame to the reference, and the noise of the set.
//!
//! Both are estimated from aligned samples. The gain is the densest window of the log ratios where both samples
//! are neither dark nor clipped, then a trimmed median inside it (the mode of a contaminated distribution;
//! cf. the half-sample mode of Bickel and Frühwirth 2006), so movers do not lead it as long as the place itself
//! is the largest group. What the same places still differ by after it may depend on how bright they are ([`curve`]) or on where
//! they lie ([`field`], which also tells light that was varied on purpose): the simplest that explains it is taken, and nothing that
//! raises the difference anywhere. Cost: one reduced rendering of each frame.

mod curve;
pub(crate) mod field;

use crate::geometry::{Rect, Size, Surface};
use crate::noise::NoiseModel;
use crate::pixel::curve::ToneCurve;
use crate::pixel::resample::{Resampled, resample};
use crate::pixel::{FrameSource, SourceError, tone};
use crate::plan::{Alignment, FrameAlignment, FrameTone, Light};
use crate::register::RegisterError;
use field::Change;
use rayon::prelude::*;

/// Light below or above these is not compared.
const RANGE: std::ops::Range<f32> = 0.01..0.8;
/// Width of the densest window and of the histogram's bins, in stops.
const WINDOW: f32 = 0.1;
const BIN: f32 = 0.01;
/// Ratios considered, in stops either way.
const REACH: f32 = 5.0;
/// A gain this close to one, in stops, is taken for one: a tripod set stays untouched.
const NOTHING: f32 = 0.004;

/// Changed light in this share of the structured places, in this share of the other frames, was varied on purpose.
const VARIED: (f64, f64) = (0.12, 0.3);
/// Gains that differ by fewer stops than this do not drift.
const DRIFT: f32 = 0.1;

/// A curve that spans fewer stops than this is none.
const BENT: f32 = 0.02;
/// How much more than a surface a curve may leave.
const NO_WORSE: f64 = 1.1;

/// The longest side of the pictures that are compared, in pixels.
pub(crate) const SIDE: u32 = 700;
/// The same where it has to be quick.
pub(crate) const QUICK_SIDE: u32 = 350;

/// Fills in the gains, and the slow changes over the picture, of all frames that fit, or of the `only` one, from pictures
/// of at most `side` pixels; says what kind of change it is.
///
/// # Errors
/// When a frame cannot be read.
pub(crate) fn match_gains(
    sources: &[&dyn FrameSource],
    alignment: &Alignment,
    tones: &mut [FrameTone],
    only: Option<usize>,
    side: u32,
) -> Result<Light, RegisterError> {
    let reference = alignment.reference;
    let size = sources[reference].size();
    let level = (0..16).find(|&k| (size.width.max(size.height) >> k) <= side).unwrap_or(0);
    let base = aligned(sources[reference], &FrameAlignment::untouched(size), size, level)?;
    let fits = |i: usize| alignment.frames[i].misfit.is_none();
    let wanted = |i: usize| i != reference && fits(i) && only.is_none_or(|o| o == i);
    let changes: Vec<Change> = tones
        .par_iter_mut()
        .enumerate()
        .filter(|(i, _)| wanted(*i))
        .map(|(i, tone)| {
            let seen = aligned(sources[i], &alignment.frames[i], size, level)?;
            let matched = by_evidence(&seen.planes, &base.planes, (size.at_level(level), size));
            (tone.field, tone.curve) = (matched.change.field.clone(), matched.curve);
            // Full samples may stand for different light.
            tone.gain = matched.gain.map(|g| g * sources[reference].headroom() / sources[i].headroom());
            Ok(matched.change)
        })
        .collect::<Result<_, RegisterError>>()?;
    let fitting = tones.iter().enumerate().filter(|(i, _)| fits(*i)).map(|(_, tone)| tone);
    Ok(kind(fitting, &changes))
}

/// How a frame's light is brought to the reference's.
struct Matched {
    /// Multiplies stored light, by channel.
    gain: [f32; 3],
    curve: Option<ToneCurve>,
    change: Change,
}

/// The least that explains what two aligned pictures of a size, laid over a reference of another, differ by.
fn by_evidence(seen: &[Vec<f32>; 3], wanted: &[Vec<f32>; 3], sizes: (Size, Size)) -> Matched {
    let gain: [f32; 3] = std::array::from_fn(|c| gain(&seen[c], &wanted[c]).unwrap_or(1.0));
    let blocks = field::blocks(seen, wanted, sizes, gain);
    let change = field::change(sizes.1, &blocks);
    let by_gain = field::left(&blocks, None);
    let by_field = field::left(&blocks, change.field.as_ref());
    let curve = curve::between(seen, wanted, gain).filter(|c| c.span() > BENT).and_then(|curve| {
        let (table, mut bent) = (curve.table(), seen.clone());
        bent.iter_mut().enumerate().for_each(|(c, light)| table.apply(c, gain[c], light));
        let blocks = field::blocks(&bent, wanted, sizes, gain);
        let left = field::left(&blocks, None)?;
        // What lies about as well on a curve as on a surface over the picture is a curve: a camera makes it of itself.
        let explains = left < field::LEAVES * by_gain? && left < NO_WORSE * by_field?;
        explains.then_some((curve, blocks))
    });
    let before = field::blocks(seen, wanted, sizes, [1.0; 3]);
    if let Some((curve, blocks)) = curve.filter(|(_, blocks)| !field::worse(sizes.1, blocks, &before)) {
        let change = Change { field: None, ..field::change(sizes.1, &blocks) };
        return Matched { gain, curve: Some(curve), change };
    }
    let with_field = |f: &Surface| blocks.iter().map(|&(p, stops)| (p, stops - f.at(p))).collect();
    if change.field.as_ref().is_some_and(|f| !field::worse(sizes.1, &with_field(f), &before)) {
        return Matched { gain, curve: None, change };
    }
    let change = Change { field: None, ..change };
    let helps = !field::worse(sizes.1, &blocks, &before);
    Matched { gain: if helps { gain } else { [1.0; 3] }, curve: None, change }
}

/// What the changes of frames that fit have in common.
fn kind<'a>(tones: impl Iterator<Item = &'a FrameTone>, changes: &[Change]) -> Light {
    let varied = changes.iter().filter(|c| c.local >= VARIED.0).count();
    let stops = tones.flat_map(|tone| tone.gain).map(f32::log2);
    let (low, high) = stops.fold((0.0f32, 0.0f32), |(l, h), v| (l.min(v), h.max(v)));
    if varied > 0 && varied as f64 >= VARIED.1 * changes.len() as f64 {
        Light::Varied
    } else if changes.iter().any(|c| c.field.is_some()) {
        Light::Uneven
    } else if high - low > DRIFT {
        Light::Drifts
    } else {
        Light::Steady
    }
}

fn aligned(
    source: &dyn FrameSource,
    frame: &FrameAlignment,
    size: Size,
    level: u32,
) -> Result<Resampled, SourceError> {
    let own = level.min(source.levels() - 1);
    resample(source, own, frame.to_frame().between_levels(level, own), size.at_level(level).rect())
}

/// What to multiply `seen` with to get `wanted`, or `None` when too little can be compared.
fn gain(seen: &[f32], wanted: &[f32]) -> Option<f32> {
    let mut ratios: Vec<f32> = seen
        .iter()
        .zip(wanted)
        .filter(|(s, w)| RANGE.contains(s) && RANGE.contains(w))
        .map(|(s, w)| (w / s).log2())
        .filter(|r| r.abs() < REACH)
        .collect();
    if ratios.len() < 200 {
        return None;
    }
    let mut bins = vec![0u32; (2.0 * REACH / BIN) as usize + 1];
    ratios.iter().for_each(|r| bins[((r + REACH) / BIN) as usize] += 1);
    let width = (WINDOW / BIN) as usize;
    let densest =
        (0..bins.len() - width).max_by_key(|&i| (bins[i..i + width].iter().sum::<u32>(), usize::MAX - i))?;
    let middle = (densest as f32 + width as f32 / 2.0) * BIN - REACH;
    ratios.retain(|r| (r - middle).abs() < 1.5 * WINDOW);
    let n = ratios.len();
    // The mean of the middle half: as robust as the median here, and finer. Parting is enough, sorting is not needed.
    let (low, high) = (n / 4, (3 * n / 4).max(n / 4 + 1).min(n));
    ratios.select_nth_unstable_by(low.min(n - 1), f32::total_cmp);
    let upper = &mut ratios[low..];
    if high < n {
        upper.select_nth_unstable_by(high - low, f32::total_cmp);
    }
    let half = &upper[..high - low];
    let stops = (half.iter().map(|&v| f64::from(v)).sum::<f64>() / half.len() as f64) as f32;
    Some(if stops.abs() < NOTHING { 1.0 } else { stops.exp2() })
}

/// Measures the set's noise from full-size samples of the frames that fit, spread over the picture.
///
/// # Errors
/// When a frame cannot be read.
pub(crate) fn measure_noise(
    sources: &[&dyn FrameSource],
    alignment: &Alignment,
    tones: &[FrameTone],
) -> Result<NoiseModel, RegisterError> {
    let Alignment { reference, ref frames, .. } = *alignment;
    let others: Vec<usize> =
        (0..frames.len()).filter(|&i| i != reference && frames[i].misfit.is_none()).collect();
    if others.is_empty() {
        return Ok(NoiseModel::default());
    }
    const SIDE: u32 = 48;
    let size = sources[reference].size();
    let place = |i: i64, n: u32| (i64::from(n) - i64::from(SIDE)).max(0) * (2 * i + 1) / 16;
    // Each frame has its say at each place, so that their order is no matter; fewer places where frames are many.
    let count = (768 / others.len() as i64).clamp(8, 64);
    let places: Vec<(i64, i64)> = (0..count)
        .map(|k| k * 64 / count)
        .map(|k| (place(k % 8, size.width), place(k / 8, size.height)))
        .collect();
    let blocks: Vec<Vec<(Vec<u16>, Vec<u16>)>> = places
        .par_iter()
        .map(|&(x, y)| {
            let region = Rect::new(x, y, SIDE, SIDE).intersect(size.rect());
            let roots = |i: usize| -> Result<Option<Vec<Vec<u16>>>, RegisterError> {
                let p = resample(sources[i], 0, frames[i].to_frame(), region)?;
                let whole = p.spans.iter().all(|&s| s == (0, region.width));
                let gains = tones[i].multiplier(&tones[reference]);
                Ok(whole
                    .then(|| p.planes.iter().zip(gains).map(|(light, g)| tone::roots(light, g)).collect()))
            };
            let Some(first) = roots(reference)? else { return Ok(Vec::new()) };
            let mut blocks = Vec::new();
            for &i in &others {
                if let Some(other) = roots(i)? {
                    blocks.extend(eights(&[&first, &other], region.size()));
                }
            }
            Ok(blocks)
        })
        .collect::<Result<_, RegisterError>>()?;
    let found = NoiseModel::estimate(blocks.iter().flatten().map(|(a, b)| (&a[..], &b[..])));
    // Samples that are not resampled lie where those of the reference do: what they differ by is noise, also where it is steep.
    let whole = |&i: &usize| {
        let to_frame = frames[i].to_frame();
        to_frame.bend.is_none() && to_frame.plane().as_whole_shift(size).is_some()
    };
    Ok(if others.iter().all(whole) { NoiseModel { slip: 0.0, ..found } } else { found })
}

/// Blocks of 8×8 of two frames, channel by channel.
fn eights(roots: &[&Vec<Vec<u16>>; 2], size: Size) -> Vec<(Vec<u16>, Vec<u16>)> {
    let w = size.width as usize;
    let block = |plane: &[u16], x: usize, y: usize| -> Vec<u16> {
        (0..8).flat_map(|j| &plane[(y + j) * w + x..][..8]).copied().collect()
    };
    let mut out = Vec::new();
    for y in (0..(size.height as usize).saturating_sub(7)).step_by(8) {
        for x in (0..w.saturating_sub(7)).step_by(8) {
            out.extend(roots[0].iter().zip(roots[1]).map(|(a, b)| (block(a, x, y), block(b, x, y))));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Random;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_gain_is_found_although_a_third_is_movers(stops in -1.5..1.5f32, seed in any::<u64>()) {
            let mut random = Random::new(seed);
            let (mut seen, mut wanted) = (Vec::new(), Vec::new());
            for k in 0..4000 {
                let light = random.within(0.03, 0.3) as f32;
                let noise = 1.0 + 0.03 * random.normal() as f32;
                wanted.push(light);
                seen.push(if k % 3 == 0 { random.within(0.02, 0.2) as f32 } else { light * noise / stops.exp2() });
            }
            let found = gain(&seen, &wanted).unwrap().log2();
            prop_assert!((found - stops).abs() < 0.012, "{found} instead of {stops}");
        }
    }

    #[test]
    fn too_little_light_gives_no_gain() {
        assert_eq!(gain(&[0.001; 1000], &[0.5; 1000]), None);
    }
}
