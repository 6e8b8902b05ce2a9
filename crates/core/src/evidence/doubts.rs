//! Doubts: the finite list of places that the consensus does not settle by itself, and of who may have stood [`still`].
//!
//! A place is a candidate when a border runs where both of its sides surely differ, when another story comes close to
//! the chosen one, or when the surroundings explain another better. Parts near one another are one place. How likely the plate
//! is wrong there is told by a logistic regression (Cox 1958) over four signs, fitted on rendered sets with known truth
//! (`measure/doubts.py`); what is likely enough is asked, the rest is listed as settled. Each place holds the stories seen
//! there, best first: the frames of a story show the same over most of the place. Cost: linear in the pixels of the
//! choice, and in those of the places for each pair of stories.
//!
//! ```
//! use evanu_core::plan::{FrameAlignment, Plan};
//! use evanu_core::prepare;
//! use evanu_core::recipe::Recipe;
//! use evanu_core::render::Scene;
//! // Five noisy frames of a wall; somebody walks along it.
//! # use evanu_core::geometry::Size;
//! # use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
//! # use evanu_core::random::Random;
//! # let size = Size::new(240, 160);
//! # let frame = |k: u32| {
//! #     let mut random = Random::new(u64::from(k));
//! #     let code = |i: u32| {
//! #         let (x, y) = (i % 240, i / 240);
//! #         let who = (30 * k + 20..30 * k + 45).contains(&x) && (50..120).contains(&y);
//! #         let wall = 120.0 + 30.0 * (f64::from(x) / 9.0).sin() + 20.0 * (f64::from(y) / 7.0).cos();
//! #         [(if who { 20.0 } else { wall } + random.normal()) as u8; 3]
//! #     };
//! #     MemoryFrame::new(size, Samples::Eight((0..240 * 160).flat_map(code).collect()))
//! # };
//! # let frames: Vec<MemoryFrame> = (0..5).map(frame).collect();
//! let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
//! let plan = Plan::of(vec![FrameAlignment::untouched(size); 5]);
//! let recipe = Recipe::new();
//! let decision = prepare::decide(&Scene::new(&recipe, &plan, &sources))?;
//! // Four frames against one leave nothing to ask.
//! assert!(decision.doubts.iter().all(|doubt| doubt.settled));
//! # Ok::<(), evanu_core::render::RenderError>(())
//! ```

use super::still::{self, Standing};
use crate::combine::consensus::Decided;
use crate::geometry::{Grid, Rect};
use crate::pixel::blur::boxed;
use crate::pixel::flood::parts;
use serde::{Deserialize, Serialize};

/// A story that comes this close is a rival.
const CLOSE: f32 = 2.5;
/// Places smaller than this, in pixels of the choice, are none.
const LEAST_PIXELS: usize = 20;
/// Smaller parts are noise.
const SPECK: usize = 3;
/// Pixels that lie this far apart are one part.
const GAP: usize = 3;
/// Parts no farther from a larger one than the picture's longer side over this belong to its place.
const NEAR: usize = 12;
/// A place grows by what it gathers up to the longer side over this.
const WIDEST: usize = 4;
/// Share of a box that some frame must dispute, or what lies beside it stays a place of its own.
const DISPUTED: f32 = 0.5;
/// Share of a place over which some frame must show what the plate shows, or a wide place is asked in parts.
const WHOLE: f32 = 0.6;
/// Mean colours that differ by this many deviations tell two stories.
const APART: f32 = 4.0;
/// Frames are one story when they show the same over this share of the place.
const MOSTLY: f32 = 0.6;

/// Pixels of the pictures that the regression was fitted on.
const FITTED: f32 = 480.0 * 320.0;
/// Log odds that the plate is wrong, from [`Signs`]: on their own, and for each of [`Signs::all`].
const WRONG: (f32, [f32; 4]) = (-4.84, [2.09, -2.77, -0.56, 0.70]);
/// Chance of being wrong from which on a place is asked.
const ASKED: f32 = 0.085;
/// What a rival may cost less than what was chosen and count: the regression was fitted before shade cost as much as it does.
const BELOW: f32 = -3.0;
/// By how much the surroundings explain another frame better where what was chosen does not belong.
const FOREIGN: f32 = 0.15;
/// How sure it is that what looks like somebody who stood still is a part of the place: set low so that it is looked at, too few are
/// known to fit it.
const REAL: f32 = 0.2;
/// Torn pixels from which on a place may be clear in no frame.
const TORN: f32 = 12.0;

/// Why a place is in doubt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Reason {
    /// Two stories compete.
    Compete,
    /// Only one moment shows what was chosen.
    Alone,
    /// What was chosen does not join its surroundings: no frame may show the place clear.
    Torn,
    /// It looks like somebody who stood there in every frame.
    Still,
}

/// A place that another story comes close to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Doubt {
    /// In reference pixels.
    pub bbox: Rect,
    /// Pixels of the choice.
    pub pixels: Vec<u32>,
    /// Why.
    pub reason: Reason,
    /// How sure the proposal is, 0..=1.
    pub confidence: f32,
    /// Whether the evidence settles it, so that nobody need be asked.
    #[serde(default)]
    pub settled: bool,
    /// The stories, best first: frames of the set that show the same there.
    pub stories: Vec<Vec<usize>>,
    /// What told how sure it is.
    #[serde(skip)]
    pub signs: Signs,
}

/// What tells whether the plate is wrong at a place.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Signs {
    /// Length of the borders that run where both sides differ, in pixels of a picture such as the fitted ones.
    torn: f32,
    /// By how much of all frames the chosen story is ahead of the next, -1..=1.
    lead: f32,
    /// How much more the best rival costs, in costs of the decision, where a twentieth of the place is nearer; below zero where
    /// the neighbours decided against the place itself.
    nearest: f32,
    /// Pixels that the surroundings explain better by the best rival, in pixels of a picture such as the fitted ones.
    foreign: f32,
}

impl Signs {
    /// The chance that the plate is wrong, 0..=1.
    fn wrong(&self) -> f32 {
        let (own, weights) = WRONG;
        let odds = own + self.all().iter().zip(weights).map(|(sign, weight)| sign * weight).sum::<f32>();
        1.0 / (1.0 + (-odds).exp())
    }

    /// What the regression weighs: ln(1 + torn), the lead, the nearest, ln(1 + foreign).
    pub fn all(&self) -> [f32; 4] {
        [self.torn.ln_1p(), self.lead, self.nearest, self.foreign.ln_1p()]
    }
}

/// Finds the doubts of a decision: what is asked, and after it what the evidence settles, each largest first.
pub fn find(decided: &Decided) -> Vec<Doubt> {
    let choice = &decided.choice;
    let (w, h) = (choice.grid.rect.width as usize, choice.grid.rect.height as usize);
    let rivals = decided.rivals();
    let close = |p: usize| rivals[p].is_some_and(|(lead, _)| lead < CLOSE);
    let mut torn = vec![false; w * h];
    for p in 0..w * h {
        for q in [(p % w + 1 < w).then_some(p + 1), (p + w < w * h).then_some(p + w)].into_iter().flatten() {
            if decided.torn(p, q) {
                (torn[p], torn[q]) = (true, true);
            }
        }
    }
    let foreign = foreign(decided, &rivals);
    let mut open: Vec<bool> = (0..w * h).map(|p| close(p) || torn[p] || foreign[p]).collect();
    let mut found = parts(&mut open, w, 0..w * h, GAP);
    found.retain(|part| part.len() >= SPECK);
    let widest = (w.max(h) / WIDEST).max(1);
    let whole = |place: &[usize]| {
        let shows = |k: usize| place.iter().filter(|&&p| decided.shows_plate(k, p)).count();
        (0..choice.frames.len()).any(|k| shows(k) as f32 >= WHOLE * place.len() as f32)
    };
    let disputed = Disputed::of(&rivals, w);
    let mut places: Vec<Vec<usize>> = joined(found, (w, h), &disputed)
        .into_iter()
        .flat_map(|place| divided(place, w, &|bounds, place| bounds.longer().1 <= widest || whole(place)))
        .collect();
    places.retain(|place| place.len() >= LEAST_PIXELS);
    let mut doubts: Vec<Doubt> =
        places.iter().filter_map(|place| describe(decided, place, &rivals, (&torn, &foreign))).collect();
    let standing = still::find(decided);
    doubts.extend(standing.iter().map(|s| stands(decided, s, &rivals)));
    doubts.sort_by_key(|d| (d.settled, usize::MAX - d.pixels.len(), d.pixels[0]));
    doubts
}

/// A question about somebody who may have stood still.
fn stands(decided: &Decided, standing: &Standing, rivals: &[Option<(f32, u16)>]) -> Doubt {
    let choice = &decided.choice;
    let ((x0, y0), (across, down)) = (standing.corner, standing.size);
    let row = |y: usize| (x0..x0 + across).map(move |x| y * choice.grid.rect.width as usize + x);
    let place: Vec<usize> = (y0..y0 + down).flat_map(row).collect();
    Doubt {
        bbox: up(&choice.grid, standing.corner, standing.size),
        reason: Reason::Still,
        confidence: REAL,
        settled: false,
        stories: named(stories(decided, &place, rivals), &choice.frames),
        pixels: place.into_iter().map(|p| p as u32).collect(),
        signs: Signs::default(),
    }
}

/// A box of the choice in reference pixels.
fn up(of: &Grid, (x, y): (usize, usize), (across, down): (usize, usize)) -> Rect {
    of.cut(Rect::new(x as i64, y as i64, across as u32, down as u32)).full()
}

/// Stories by the set's numbers of frames.
fn named(stories: Vec<Vec<usize>>, frames: &[usize]) -> Vec<Vec<usize>> {
    stories.into_iter().map(|s| s.into_iter().map(|k| frames[k]).collect()).collect()
}

/// Where the surroundings explain the best rival better than what was chosen, over more than a few pixels.
fn foreign(decided: &Decided, rivals: &[Option<(f32, u16)>]) -> Vec<bool> {
    let size = decided.choice.grid.size();
    let against = |(p, rival): (usize, &Option<(f32, u16)>)| {
        rival.map_or(0.0, |(_, k)| decided.foreign(usize::from(k), p))
    };
    let each: Vec<f32> = rivals.iter().enumerate().map(against).collect();
    // Many moments leave nothing to the surroundings.
    if each.iter().all(|v| *v == 0.0) {
        return vec![false; each.len()];
    }
    let (w, h) = (size.width as usize, size.height as usize);
    let reach = (w.max(h) / 240).max(1);
    boxed(&boxed(&each, w, h, reach), w, h, reach).into_iter().map(|v| v > FOREIGN).collect()
}

/// Parts near one another become one place: one question for one figure. The largest gather what lies about them, but no
/// place grows beyond [`WIDEST`], nor over much that nobody disputes. Each is in order.
fn joined(mut parts: Vec<Vec<usize>>, (w, h): (usize, usize), disputed: &Disputed) -> Vec<Vec<usize>> {
    let (near, widest) = (w.max(h) / NEAR, w.max(h) / WIDEST);
    parts.sort_by_key(|part| (usize::MAX - part.len(), part[0]));
    let mut places: Vec<(Bounds, Vec<usize>)> = Vec::new();
    for part in parts {
        let own = Bounds::of(&part, w);
        let takes = |bounds: &Bounds| {
            let both = bounds.with(&own);
            bounds.apart(&own) <= near
                && (0..2).all(|axis| both.along(axis) <= bounds.along(axis).max(widest))
                && disputed.share(&both) >= disputed.share(bounds).min(DISPUTED)
        };
        match places.iter_mut().find(|(bounds, _)| takes(bounds)) {
            Some((bounds, place)) => {
                *bounds = bounds.with(&own);
                place.extend(part);
            }
            None => places.push((own, part)),
        }
    }
    places.into_iter().map(|(_, mut place)| (place.sort_unstable(), place).1).collect()
}

/// A place in parts that can each be asked by itself: what no frame settles is cut in two where it is thinnest, in the middle half of
/// its longer side.
fn divided(place: Vec<usize>, w: usize, enough: &dyn Fn(&Bounds, &[usize]) -> bool) -> Vec<Vec<usize>> {
    let bounds = Bounds::of(&place, w);
    if enough(&bounds, &place) {
        return vec![place];
    }
    let (axis, long) = bounds.longer();
    let first = bounds.0[axis].0;
    let along = |p: usize| [p % w, p / w][axis] - first;
    let mut each = vec![0usize; long];
    place.iter().for_each(|&p| each[along(p)] += 1);
    let cut = ((long / 4).max(1)..long - long / 4).min_by_key(|&at| (each[at], at.abs_diff(long / 2)));
    let (one, other): (Vec<usize>, _) = place.into_iter().partition(|&p| along(p) < cut.unwrap_or(long / 2));
    [one, other].into_iter().flat_map(|part| divided(part, w, enough)).collect()
}

/// How many pixels any frame disputes, summed over all above and to the left.
struct Disputed {
    width: usize,
    sums: Vec<u32>,
}

impl Disputed {
    fn of(rivals: &[Option<(f32, u16)>], w: usize) -> Self {
        let width = w + 1;
        let mut sums = vec![0; width * (rivals.len() / w + 1)];
        for (p, rival) in rivals.iter().enumerate() {
            let at = (p / w + 1) * width + p % w + 1;
            sums[at] = u32::from(rival.is_some()) + sums[at - 1] + sums[at - width] - sums[at - width - 1];
        }
        Self { width, sums }
    }

    /// Their share within bounds, 0..=1.
    fn share(&self, bounds: &Bounds) -> f32 {
        let Bounds([(x0, x1), (y0, y1)]) = *bounds;
        let at = |x: usize, y: usize| self.sums[y * self.width + x];
        let sum = at(x1 + 1, y1 + 1) + at(x0, y0) - at(x0, y1 + 1) - at(x1 + 1, y0);
        sum as f32 / (bounds.along(0) * bounds.along(1)) as f32
    }
}

/// Columns and rows that pixels lie in, first and last.
struct Bounds([(usize, usize); 2]);

impl Bounds {
    fn of(place: &[usize], w: usize) -> Self {
        let ends = |v: &dyn Fn(usize) -> usize| {
            let each = || place.iter().map(|&p| v(p));
            (each().min().unwrap_or(0), each().max().unwrap_or(0))
        };
        Self([ends(&|p| p % w), ends(&|p| p / w)])
    }

    /// Around both.
    fn with(&self, other: &Self) -> Self {
        let around = |a: (usize, usize), b: (usize, usize)| (a.0.min(b.0), a.1.max(b.1));
        Self([around(self.0[0], other.0[0]), around(self.0[1], other.0[1])])
    }

    /// Columns or rows.
    fn along(&self, axis: usize) -> usize {
        self.0[axis].1 - self.0[axis].0 + 1
    }

    /// The axis along which it is longer, and how long.
    fn longer(&self) -> (usize, usize) {
        let axis = usize::from(self.along(1) > self.along(0));
        (axis, self.along(axis))
    }

    /// Pixels between two of them along the axis on which they lie farther apart.
    fn apart(&self, other: &Self) -> usize {
        let between =
            |a: (usize, usize), b: (usize, usize)| a.0.saturating_sub(b.1).max(b.0.saturating_sub(a.1));
        between(self.0[0], other.0[0]).max(between(self.0[1], other.0[1]))
    }
}

/// Frames of the choice that show the same over most of a place, those first that it was taken from, then those that come
/// close.
fn stories(decided: &Decided, place: &[usize], rivals: &[Option<(f32, u16)>]) -> Vec<Vec<usize>> {
    let n = decided.choice.frames.len();
    let mut votes = vec![0usize; n];
    let mut against = vec![0usize; n];
    for &p in place {
        votes[usize::from(decided.choice.labels[p])] += 1;
        if let Some((_, k)) = rivals[p] {
            against[usize::from(k)] += 1;
        }
    }
    let mut order: Vec<usize> = (0..n).collect();
    order.sort_by(|&a, &b| votes[b].cmp(&votes[a]).then(against[b].cmp(&against[a])).then(a.cmp(&b)));
    let alike = |a: usize, b: usize| {
        let same = place.iter().filter(|&&p| decided.alike(a, b, p)).count();
        same as f32 >= MOSTLY * place.len() as f32
    };
    let mut stories: Vec<Vec<usize>> = Vec::new();
    for k in order {
        match stories.iter_mut().find(|s| alike(s[0], k)) {
            Some(story) => story.push(k),
            None => stories.push(vec![k]),
        }
    }
    stories
}

/// What is to be said about a place; `None` when nothing there tells a second story, as where leaves tremble.
fn describe(
    decided: &Decided,
    place: &[usize],
    rivals: &[Option<(f32, u16)>],
    (torn, foreign): (&[bool], &[bool]),
) -> Option<Doubt> {
    let choice = &decided.choice;
    let (w, n) = (choice.grid.rect.width as usize, choice.frames.len());
    let stories = stories(decided, place, rivals);
    let side = (choice.grid.size().pixels() as f32 / FITTED).sqrt();
    let torn = place.iter().filter(|&&p| torn[p]).count() as f32 / side;
    let told = |s: &&Vec<usize>| decided.apart(stories[0][0], s[0], place) > APART;
    let told: Vec<&Vec<usize>> = stories.iter().skip(1).filter(told).collect();
    if told.is_empty() && torn < 1.0 {
        return None;
    }
    let mut leads: Vec<f32> = place.iter().filter_map(|&p| rivals[p].map(|r| r.0)).collect();
    leads.sort_unstable_by(f32::total_cmp);
    let next = stories.iter().skip(1).map(Vec::len).max().unwrap_or(0);
    let signs = Signs {
        torn,
        lead: (stories[0].len() as f32 - next as f32) / n as f32,
        foreign: place.iter().filter(|&&p| foreign[p]).count() as f32 / side.powi(2),
        nearest: leads.get(leads.len().saturating_sub(1) / 20).copied().unwrap_or(CLOSE).max(BELOW),
    };
    let wrong = signs.wrong();
    let reason = match stories[0].len() {
        _ if torn > TORN => Reason::Torn,
        1 if n > 2 => Reason::Alone,
        _ => Reason::Compete,
    };
    let Bounds([(x0, x1), (y0, y1)]) = Bounds::of(place, w);
    Some(Doubt {
        bbox: up(&choice.grid, (x0, y0), (x1 - x0 + 1, y1 - y0 + 1)),
        pixels: place.iter().map(|&p| p as u32).collect(),
        reason,
        confidence: 1.0 - wrong,
        settled: wrong < ASKED,
        stories: named(stories, &choice.frames),
        signs,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn large_parts_gather_what_lies_about_them_up_to_a_quarter_of_the_picture() {
        let w = 240;
        let run = |from: usize, to: usize| -> Vec<usize> { (from..to).map(|x| 40 * w + x).collect() };
        // Each 20 from the next, which is near; with the third the place would be wider than 60.
        let parts = vec![run(77, 82), run(20, 30), run(49, 58)];
        let all = vec![Some((1.0, 1)); w * 100];
        let places = joined(parts, (w, 100), &Disputed::of(&all, w));
        assert_eq!(places, [[run(20, 30), run(49, 58)].concat(), run(77, 82)]);
        // What lies within a wide one belongs to it.
        let within = vec![10 * w + 50, 10 * w + 51];
        let wide: Vec<usize> = (0..200).map(|x| (x % 30) * w + x).collect();
        assert_eq!(joined(vec![within, wide], (w, 100), &Disputed::of(&all, w)).len(), 1);
    }

    #[test]
    fn what_lies_beyond_places_that_nobody_disputes_is_a_question_of_its_own() {
        let w = 240;
        let block =
            |from: usize| (0..100).map(move |i| (20 + i / 10) * w + from + i % 10).collect::<Vec<_>>();
        // Ten pixels of a block, twelve of nothing, ten of the next one; then a figure between them as well.
        let parts = vec![block(50), block(72)];
        let disputed = |between: bool| -> Vec<Option<(f32, u16)>> {
            let there =
                |x: usize| (50..60).contains(&x) || (72..82).contains(&x) || between && (60..72).contains(&x);
            (0..w * 60).map(|p| (there(p % w) && p / w % 3 > 0).then_some((1.0, 1))).collect()
        };
        let places =
            |between: bool| joined(parts.clone(), (w, 60), &Disputed::of(&disputed(between), w)).len();
        assert_eq!((places(true), places(false)), (1, 2));
        // A share is that of the pixels within, also at the picture's corner.
        let shares = Disputed::of(&disputed(false), w);
        let whole = Bounds([(0, w - 1), (0, 59)]);
        assert!((shares.share(&whole) - 20.0 / 240.0 * 2.0 / 3.0).abs() < 1e-6);
        assert_eq!(shares.share(&Bounds([(50, 59), (1, 2)])), 1.0);
    }

    #[test]
    fn what_no_frame_settles_is_asked_in_parts_cut_where_it_is_thin() {
        let w = 120;
        // Two squares and a thin bridge, nearer to the second.
        let square = |from: usize| (0..900).map(move |i| (i / 30) * w + from + i % 30);
        let mut place: Vec<usize> = square(0).chain(square(60)).chain((30..60).map(|x| 15 * w + x)).collect();
        place.sort_unstable();
        let by_length = |bounds: &Bounds, _: &[usize]| bounds.longer().1 <= 50;
        let told = divided(place.clone(), w, &by_length);
        let widths: Vec<usize> = told.iter().map(|part| Bounds::of(part, w).along(0)).collect();
        assert_eq!(widths, [45, 45]);
        assert_eq!(told.iter().map(Vec::len).sum::<usize>(), place.len());
        assert_eq!(divided(place.clone(), w, &|_, _| true), [place], "what one frame settles stays whole");
        // Down to single pixels.
        assert_eq!(divided(vec![3, 4, 5], w, &|bounds, _| bounds.longer().1 <= 1), [[3], [4], [5]]);
    }

    #[test]
    fn torn_borders_and_a_small_lead_make_it_likely_that_the_plate_is_wrong() {
        let wrong = |torn, lead, nearest| Signs { torn, lead, nearest, foreign: 0.0 }.wrong();
        assert!(wrong(0.0, 0.0, 1.0) < ASKED && wrong(30.0, 0.0, 1.0) > ASKED);
        assert!(wrong(3.0, 0.7, 1.0) < ASKED && wrong(3.0, -0.5, 0.0) > ASKED, "a large majority settles it");
        assert!(wrong(8.0, 0.0, -2.0) > wrong(8.0, 0.0, 2.0), "what is near is less sure");
    }
}
