//! Doubts: the finite list of places that the consensus does not settle by itself.
//!
//! A place is in doubt when a border runs where both of its sides surely differ, or when another story comes close to the
//! chosen one and is not told by its contour to be an object before it. Places that touch are one doubt; specks are none. Each holds the stories seen there, best first: the
//! frames of a story show the same over most of the place.

use crate::combine::consensus::Decided;
use crate::geometry::Rect;
use crate::pixel::flood::flood;
use serde::{Deserialize, Serialize};

/// A story that comes this close is a rival.
const CLOSE: f32 = 2.5;
/// Places smaller than this, in pixels of the choice, are none.
const LEAST: usize = 20;
/// Pixels that lie this far apart are one place.
const GAP: usize = 3;
/// Mean colours that differ by this many deviations tell two stories.
const APART: f32 = 4.0;
/// Frames are one story when they show the same over this share of the place.
const MOSTLY: f32 = 0.6;

/// A plate whose contour around what differs is weaker than a story's by this much is clear there.
const CLEAR: f32 = -0.2;
/// Frames from which on several that agree are believed.
const MANY: usize = 5;
/// Pixels on a border that runs where both sides differ, from which on a place is in doubt in any case; three times as many
/// where many frames vote.
const TORN: usize = 4;
/// Up to here neither has the stronger contour.
const SOFT: f32 = 0.05;

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
}

/// A place that is not settled.
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
    /// The stories, best first: frames of the set that show the same there.
    pub stories: Vec<Vec<usize>>,
}

/// Finds the doubts of a decision, largest first.
pub fn find(decided: &Decided) -> Vec<Doubt> {
    let choice = &decided.choice;
    let (w, h) = (choice.size.width as usize, choice.size.height as usize);
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
    let mut open: Vec<bool> = (0..w * h).map(|p| close(p) || torn[p]).collect();
    let mut doubts = Vec::new();
    for start in 0..w * h {
        if !open[start] {
            continue;
        }
        let mut place = flood(&mut open, w, start, GAP);
        if place.len() >= LEAST {
            place.sort_unstable();
            doubts.extend(describe(decided, &place, &rivals, &torn));
        }
    }
    doubts.sort_by(|a, b| b.pixels.len().cmp(&a.pixels.len()).then(a.pixels[0].cmp(&b.pixels[0])));
    doubts
}

fn describe(
    decided: &Decided,
    place: &[usize],
    rivals: &[Option<(f32, u16)>],
    torn: &[bool],
) -> Option<Doubt> {
    let choice = &decided.choice;
    let w = choice.size.width as usize;
    let n = choice.frames.len();
    // Frames in order of how well they stand there: those of the chosen story, then the rivals.
    let mut votes = vec![0usize; n];
    let mut against = vec![0usize; n];
    for &p in place {
        votes[usize::from(choice.labels[p])] += 1;
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
    // What only trembles has no second story; one that stands there with a contour where the plate has none is an object.
    // Where several of many frames agree, the border of the whole thing tells; where little is known, what is near: movers of
    // different frames may have grown together.
    let whole = n >= MANY && stories[0].len() > 1;
    let rival = |s: &Vec<usize>| {
        // Without a contour (glare, smoke) a lead of two frames tells.
        let limit = if stories[0].len() >= s.len() + 2 { SOFT } else { CLEAR };
        decided.apart(stories[0][0], s[0], place) > APART
            && decided.contour(place, s[0], whole).is_none_or(|c| c > limit)
    };
    let torn = place.iter().filter(|&&p| torn[p]).count();
    if torn < if n < MANY { TORN } else { 3 * TORN } && !stories.iter().skip(1).any(rival) {
        return None;
    }
    let leads: Vec<f32> = place.iter().filter_map(|&p| rivals[p].map(|r| r.0.max(0.0))).collect();
    let lead = leads.iter().sum::<f32>() / leads.len().max(1) as f32;
    let share = torn as f32 / place.len() as f32;
    let reason = match (share > 0.25, stories[0].len()) {
        (true, _) => Reason::Torn,
        (false, 1) if n > 2 => Reason::Alone,
        _ => Reason::Compete,
    };
    let (xs, ys) = (place.iter().map(|p| p % w), place.iter().map(|p| p / w));
    let (x0, x1) = (xs.clone().min().unwrap_or(0), xs.max().unwrap_or(0));
    let (y0, y1) = (ys.clone().min().unwrap_or(0), ys.max().unwrap_or(0));
    let up = |v: usize| (v << choice.level) as i64;
    Some(Doubt {
        bbox: Rect::new(
            up(x0),
            up(y0),
            ((x1 - x0 + 1) << choice.level) as u32,
            ((y1 - y0 + 1) << choice.level) as u32,
        ),
        pixels: place.iter().map(|&p| p as u32).collect(),
        reason,
        confidence: (1.0 - (-lead).exp()) * (1.0 - 0.5 * share),
        stories: stories.into_iter().map(|s| s.into_iter().map(|k| choice.frames[k]).collect()).collect(),
    })
}
