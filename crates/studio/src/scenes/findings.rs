//! What differs from the rest in a frame, in words: whether it matters, what Evanu does about it by itself, and what
//! leaving the frame out would cost.

use super::opened::Opened;
use crate::model::{Finding, LightInfo};
use crate::sets::FrameRow;
use evanu_core::geometry::{Geometry, Point};
use evanu_core::plan::{FrameAlignment, FrameTone, Light};
use evanu_core::recipe::Matching;

/// Detail below this share of the others' is told; below the second it is a reason to look.
const SOFT: (f32, f32) = (0.85, 0.7);
/// Smallest differences that are told: in size, in stops of exposure, in stops between red and blue.
const LARGER: f64 = 0.02;
const STOPS: f32 = 0.2;
const TINT: f32 = 0.08;
/// A fit that leaves more pixels than this asks for a look.
const DOUBTFUL: f64 = 0.5;
/// A bend stronger than this many pixels comes from depth that a smooth bend cannot follow everywhere.
const DEEP: f64 = 2.0;
/// Clipped light above this share of the frame, and this many times the reference's, is told.
const CLIPPED: (f32, f32) = (0.02, 1.6);
/// A clock further than this many seconds from the others' is set wrong.
const CLOCK: f64 = 12.0 * 3600.0;

/// The findings about one frame, the weightiest first.
pub(super) fn findings(row: &FrameRow, rows: &[FrameRow], loaded: &Opened) -> Vec<Finding> {
    let Ok(index) = loaded.index(row.id) else { return Vec::new() };
    let (alignment, recipe) = (&loaded.plan.alignment, &loaded.recipe);
    let (plan, survey) = (&alignment.frames[index], &loaded.plan.survey.frames);
    if plan.misfit.is_some() {
        return Vec::new(); // its reason says it all
    }
    let mut out = Vec::new();
    let mut tell = |matters: bool, text: String| out.push(Finding { matters, text });
    let reference = &alignment.frames[alignment.reference];
    let is_reference = index == alignment.reference;
    let (shows, reference_shows) = (&survey[index], &survey[alignment.reference]);
    if !is_reference && plan.residual_px.is_some_and(|r| r > DOUBTFUL) {
        tell(
            true,
            format!("lies {:.1} px off where it fits: look at its edges", plan.residual_px.unwrap_or(0.0)),
        );
    }
    if let Some(s) = plan.sharpness.filter(|&s| s < SOFT.0) {
        let percent = (100.0 * s).round();
        if s < SOFT.1 {
            let lost = match shows.sole {
                Some(sole) => format!("; it alone shows {} clear, so keep it", percent_of(sole.share)),
                None => ": setting it aside loses nothing".into(),
            };
            tell(true, format!("soft: {percent} % of the others' detail, shaken or out of focus{lost}"));
        } else {
            tell(false, format!("a little soft: {percent} % of the others' detail"));
        }
    }
    if let (Some(sole), true) = (shows.sole, plan.sharpness.is_none_or(|s| s >= SOFT.1)) {
        tell(
            false,
            format!(
                "alone shows {} as the plate does: without it, that would be lost",
                percent_of(sole.share)
            ),
        );
    }
    if !is_reference {
        light(
            &loaded.plan.tones.frames[index],
            recipe.match_exposure,
            loaded.with(|s| s.matched()),
            &mut tell,
        );
        geometry(row, plan, reference, rows, loaded, &mut tell);
    }
    if shows.clipped > CLIPPED.0 && shows.clipped > CLIPPED.1 * reference_shows.clipped {
        let share = (100.0 * shows.clipped).round();
        tell(false, format!("{share} % of it is clipped light: other frames decide there"));
    }
    moment(index, loaded, rows, &mut tell);
    clock(row, rows, &mut tell);
    if recipe.manual_alignments.iter().any(|h| h.frame == index) && plan.by_hand {
        tell(false, "laid by hand".into());
    }
    out
}

/// What the cameras' own data tell before anything is computed: another focal length, another exposure, another size.
pub(super) fn before_aligning(row: &FrameRow, rows: &[FrameRow]) -> Vec<Finding> {
    let mut out = Vec::new();
    let mut tell = |text: String| out.push(Finding { matters: false, text });
    let usual = |of: &dyn Fn(&FrameRow) -> Option<f64>| {
        let mut all: Vec<f64> = rows.iter().filter_map(of).collect();
        all.sort_unstable_by(f64::total_cmp);
        all.get(all.len() / 2).copied()
    };
    let focal = |r: &FrameRow| r.camera.focal_mm;
    if let (Some(own), Some(most)) = (focal(row), usual(&focal))
        && (own / most - 1.0).abs() >= LARGER
    {
        tell(format!("taken at {own:.0} mm, most at {most:.0} mm: will be repaired"));
    }
    // Stops by which a frame was given more light.
    let given = |r: &FrameRow| {
        let (s, a, iso) = (r.camera.exposure_s?, r.camera.aperture?, f64::from(r.camera.iso?));
        Some((s / (a * a) * iso).log2())
    };
    if let (Some(own), Some(most)) = (given(row), usual(&given))
        && (own - most).abs() >= f64::from(STOPS)
    {
        let way = if own > most { "more" } else { "less" };
        tell(format!("exposed {:.1} stops {way} than most: will be matched", (own - most).abs()));
    }
    let area = |r: &FrameRow| (r.width > 0).then(|| f64::from(r.width) * f64::from(r.height));
    if let (Some(own), Some(most)) = (area(row), usual(&area))
        && own != most
    {
        tell(format!("another size, {} × {} px", row.width, row.height));
    }
    clock(row, rows, &mut |_, text| tell(text));
    out
}

fn percent_of(share: f64) -> String {
    let percent = 100.0 * share;
    if percent < 1.0 {
        format!("{percent:.1} % of the place")
    } else {
        format!("{percent:.0} % of the place")
    }
}

/// How a frame was moved, when that is more than a hand's breadth.
fn geometry(
    row: &FrameRow,
    plan: &FrameAlignment,
    reference: &FrameAlignment,
    rows: &[FrameRow],
    loaded: &Opened,
    tell: &mut impl FnMut(bool, String),
) {
    let zoom = 1.0 / plan.transform.scale_at(middle_of(row)) - 1.0;
    let base = rows.iter().find(|r| r.id == loaded.frames[loaded.plan.alignment.reference]);
    if plan.transform.turn_at(middle_of(row)).abs() > std::f64::consts::FRAC_PI_4 {
        tell(false, "lay on its side: turned upright".into());
    } else if plan.size != reference.size {
        let size = plan.size;
        tell(false, format!("another size, {} × {} px: brought to the reference's", size.width, size.height));
    } else if zoom.abs() >= LARGER {
        let way = if zoom > 0.0 { "in" } else { "out" };
        let focal = match (row.camera.focal_mm, base.and_then(|b| b.camera.focal_mm)) {
            (Some(a), Some(b)) if (a - b).abs() > 0.4 => format!(" ({a:.0} mm instead of {b:.0})"),
            _ => String::new(),
        };
        tell(false, format!("zoomed {way} by {:.0} %{focal}: repaired", 100.0 * zoom.abs()));
    }
    if let Some(bend) = plan.bend.as_ref().filter(|_| loaded.plan.alignment.lens.is_none()) {
        let strength = bend.strength();
        if strength > DEEP {
            tell(
                false,
                format!(
                    "near things shift against far ones by {strength:.0} px: bent to fit; the edges of near things may stay doubled"
                ),
            );
        } else {
            tell(false, format!("near things shift against far ones by {strength:.1} px: bent to fit"));
        }
    }
    let positions = positions(loaded);
    let frames = fitting(loaded).count();
    // By hand every frame has its own; a tripod has few.
    if positions > 1 && 2 * positions <= frames && plan.position != reference.position {
        let middle = middle_of(row);
        let by = plan.transform.apply(middle).distance(middle);
        tell(false, format!("the tripod had moved, {by:.0} px: brought back"));
    }
}

/// A frame that shows the same silhouettes as an earlier one.
fn moment(index: usize, loaded: &Opened, rows: &[FrameRow], tell: &mut impl FnMut(bool, String)) {
    let survey = &loaded.plan.survey.frames;
    let own = survey[index].moment;
    let number = |i: usize| rows.iter().position(|r| r.id == loaded.frames[i]).map(|n| n + 1);
    let earlier = fitting(loaded).filter(|&i| i != index && survey[i].moment == own).filter_map(number).min();
    if let Some(first) = earlier.filter(|&n| number(index).is_some_and(|own| n < own)) {
        tell(false, format!("the same moment as frame {first}: it shows nothing new"));
    }
}

/// A clock that was set otherwise, or none.
fn clock(row: &FrameRow, rows: &[FrameRow], tell: &mut impl FnMut(bool, String)) {
    let mut others: Vec<f64> =
        rows.iter().filter(|r| r.row != row.row).filter_map(|r| r.camera.seconds()).collect();
    if others.is_empty() {
        return;
    }
    others.sort_unstable_by(f64::total_cmp);
    // Most clocks go together: the longest run of them is the usual time.
    let run = |from: f64| others.iter().filter(|o| (**o - from).abs() < CLOCK).count();
    let usual = others.iter().copied().max_by_key(|&o| run(o)).unwrap_or(0.0);
    match row.camera.seconds() {
        None => tell(false, "no clock time: placed after the others, by its name".into()),
        Some(s) if run(usual) > 1 && (s - usual).abs() > CLOCK => {
            let hours = (s - usual).abs() / 3600.0;
            let far =
                if hours < 48.0 { format!("{hours:.0} hours") } else { format!("{:.0} days", hours / 24.0) };
            tell(false, format!("its clock is {far} from the others': was it set right?"));
        }
        Some(_) => {}
    }
}

/// Exposure and colour against the reference.
fn light(plan: &FrameTone, wish: Matching, matched: bool, tell: &mut impl FnMut(bool, String)) {
    // Light varied on purpose is left so by the program; what its owner leaves may have been forgotten.
    let matters = wish == Matching::Off;
    let done = if matched { "matched" } else { "left as shot" };
    let stops = plan.gain[1].log2();
    if stops.abs() >= STOPS {
        let way = if stops > 0.0 { "darker" } else { "lighter" };
        tell(matters, format!("{:.1} stops {way}: {done}", stops.abs()));
    }
    let tint = (plan.gain[0] / plan.gain[2]).log2();
    if tint.abs() >= TINT {
        let way = if tint > 0.0 { "bluer" } else { "redder" };
        tell(matters, format!("{way}: {done}"));
    }
    if let Some(field) = &plan.field {
        tell(
            false,
            format!("its light fell unevenly, by {:.1} stops over the picture: {done}", field.span()),
        );
    }
}

/// The middle of a frame, in its own pixels.
pub(super) fn middle_of(row: &FrameRow) -> Point {
    Point::new((f64::from(row.width) - 1.0) / 2.0, (f64::from(row.height) - 1.0) / 2.0)
}

/// How a frame fits, and whether that asks for a look.
pub(super) fn verdict(plan: &FrameAlignment) -> (String, bool) {
    let left = plan.residual_px;
    match (&plan.misfit, left) {
        (Some(_), _) => ("does not fit".into(), true),
        (None, _) if plan.by_hand && left.is_none() => ("laid by hand".into(), false),
        (None, Some(r)) if r > DOUBTFUL => ("doubtful".into(), true),
        (None, _) if plan.by_hand => ("laid by hand".into(), false),
        (None, _) if plan.bend.is_some() => ("fits, bent".into(), false),
        (None, _) => ("fits".into(), false),
    }
}

/// Number of camera positions of the frames that fit.
pub(super) fn positions(loaded: &Opened) -> usize {
    let mut all: Vec<u32> = fitting(loaded).map(|i| loaded.plan.alignment.frames[i].position).collect();
    all.sort_unstable();
    all.dedup();
    all.len()
}

/// The frames that fit.
fn fitting(loaded: &Opened) -> impl Iterator<Item = usize> {
    let alignment = &loaded.plan.alignment;
    (0..alignment.frames.len()).filter(|i| alignment.fits(*i))
}

/// Number of moments of the frames that take part.
pub(super) fn moments(loaded: &Opened) -> usize {
    loaded.plan.survey.moments_of(&loaded.with(|s| s.used()))
}

/// How the set's light behaved, and what is done about it.
pub(super) fn light_words(loaded: &Opened) -> LightInfo {
    let tones = &loaded.plan.tones;
    let stops = fitting(loaded).map(|i| tones.frames[i].gain[1].log2());
    let (low, high) = stops.fold((0.0f32, 0.0f32), |(l, h), v| (l.min(v), h.max(v)));
    let matched = loaded.with(|s| s.matched());
    let done = if matched { "matched" } else { "left as shot" };
    let (kind, text) = match tones.light {
        Light::Steady => ("steady", "the light is the same in all frames".into()),
        Light::Drifts => ("drifts", format!("light drifts by {:.1} stops: {done}", high - low)),
        Light::Uneven => {
            ("uneven", format!("light drifts by {:.1} stops, unevenly over the picture: {done}", high - low))
        }
        Light::Varied => (
            "varied",
            format!(
                "light was changed here and there, as with a lamp or a card: {}",
                if matched { "matched all the same" } else { "left as shot" }
            ),
        ),
    };
    LightInfo { kind: kind.into(), text }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::FrameState;
    use evanu_core::recipe::FrameId;
    use evanu_media::CameraData;

    fn row(id: i64, focal_mm: f64, exposure_s: f64, width: u32) -> FrameRow {
        let camera = CameraData {
            focal_mm: Some(focal_mm),
            exposure_s: Some(exposure_s),
            aperture: Some(8.0),
            iso: Some(200),
            ..CameraData::default()
        };
        FrameRow {
            row: id,
            id: FrameId(id),
            index: None,
            name: format!("{id}.jpg"),
            hash: String::new(),
            position: 0,
            state: FrameState::Ready,
            reason: None,
            width,
            height: 1000,
            camera,
            source: None,
            bytes: 0,
            begun: 0,
            changed: false,
        }
    }

    #[test]
    fn what_the_cameras_tell_is_there_before_anything_is_computed() {
        let rows = [
            row(1, 29.0, 0.004, 1500),
            row(2, 29.0, 0.004, 1500),
            row(3, 35.0, 0.004, 1500),
            row(4, 29.0, 0.008, 1500),
            row(5, 29.0, 0.004, 1200),
        ];
        let told: Vec<String> = rows
            .iter()
            .map(|r| before_aligning(r, &rows).iter().map(|f| f.text.clone()).collect::<Vec<_>>().join("; "))
            .collect();
        assert_eq!(told[0], "");
        assert_eq!(told[2], "taken at 35 mm, most at 29 mm: will be repaired");
        assert_eq!(told[3], "exposed 1.0 stops more than most: will be matched");
        assert_eq!(told[4], "another size, 1200 × 1000 px");
    }
}
