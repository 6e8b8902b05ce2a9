//! Where a patch ends: its border is moved to where its source shows the same as the plate.
//!
//! A loop only says roughly what is meant (Jia et al. 2006). In a band around it a minimum cut (Boykov and Kolmogorov 2004)
//! looks for the border that shows least (Kwatra et al. 2003). What differs goes as a whole to the side on which most of it
//! was drawn, so that nothing that moves is cut through. How far the border fades follows what is there: as far as both sides
//! stay the same, and the smoother the ground, the farther.
//!
//! Cost: one minimum cut over the band and half a dozen distance transforms, of a picture of some hundred thousand pixels.

use crate::combine::consensus::{ChangedRegion, DIFFER, Field, SAME, things};
use crate::combine::maxflow::Graph;
use crate::pixel::blur::boxed;
use crate::pixel::distance::{distances, distances_within};

/// The plate and the source, in the field that both are in.
const PLATE: usize = 0;
const SOURCE: usize = 1;

/// Greatest cost of a border between two neighbouring pixels.
const CAP: f32 = 12.0;
/// What every border costs, so that none is drawn for nothing.
const LENGTH: f32 = 0.05;
/// Deviations within which a border shows nothing.
const UNSEEN: f32 = 1.5;
/// What a border costs beside something that differs, and how far from it, in pixels.
const BESIDE: (f32, f32) = (0.5, 6.0);
/// What it costs that a pixel which differs by a deviation lies on the other side than it was drawn; at most so many count.
const WRONG: (f32, f32) = (0.15, 6.0);
/// The same where nothing differs.
const SLIGHT: f32 = 0.01;
/// What it costs that a pixel of a thing that was meant as a whole lies on the other side.
const PART: f32 = 2.0;
/// Share of a thing that was drawn from which on all of it is meant.
const MEANT: f32 = 0.5;
/// Share of a thing that was drawn, and share of all that was drawn and differs, below which it is not meant.
const GRAZED: (f32, f32) = (0.25, 0.2);
/// Pixels around a thing that the border may move over to go around it.
const BERTH: f32 = 6.0;
/// Share of the way from the outline to the middle that the border may move in, and out.
const REACH: (f32, f32) = (0.6, 0.5);
/// Least and most pixels it may move out.
const OUT: (f32, f32) = (5.0, 40.0);
/// Costs are counted in hundredths.
const UNIT: f32 = 100.0;
/// Pixels of the reference over which a border fades in smooth places, to each side.
const WIDE: f32 = 24.0;
/// Share of the way to what differs that it fades over at most.
const KEPT_OFF: f32 = 0.8;
/// Steps between neighbours, in deviations, at which it fades half as far.
const DETAIL: f32 = 1.2;
/// Pixels around a place that tell how smooth it is.
const AROUND: usize = 4;
/// Votes of a thing's contour from which on it is on one side.
const HOLDS: f32 = 0.2;

/// Pixels around a drawn outline that the border may move out over, of a picture this long along its longer side.
pub(super) fn margin(side: f64) -> f64 {
    (f64::from(REACH.1) * side / 2.0).clamp(f64::from(OUT.0), f64::from(OUT.1)) + f64::from(WIDE)
}

/// A thing that one side shows and the other does not.
#[derive(Debug, Clone, PartialEq)]
pub struct ChangedObject {
    /// Pixels of the mask's picture.
    pub pixels: Vec<usize>,
    /// Whether the source holds it; else the plate does.
    pub brought: bool,
}

/// A border that was found.
pub(super) struct Border {
    /// Which pixels are taken.
    pub taken: Vec<bool>,
    /// What is brought in and taken away, largest first.
    pub things: Vec<ChangedObject>,
    /// Whether something else differs too, of which no edge tells on which side it is.
    pub undecided: bool,
    /// Share of the border that runs where both sides differ, 0..=1.
    pub torn: f32,
}

/// What a border is sought by.
pub(super) struct Ground<'a> {
    pub field: &'a Field,
    /// How far both sides differ, in squared deviations.
    pub chi: &'a [f32],
    /// How far it is to what surely differs, up to [`CLEAR`] pixels.
    pub clear: &'a [f32],
    pub drawn: &'a [bool],
    /// How far it is to what was drawn, at least up to the pixels that the border may move out.
    pub outside: &'a [f32],
}

/// Pixels from what differs up to which that matters.
pub(super) const CLEAR: usize = 6;

/// Pixels from what was drawn up to which that matters.
pub(super) const OUTSIDE: usize = OUT.1 as usize;

/// Finds the border near what was drawn; `exclude_introduced` leaves out what the source brings beside what it takes away.
pub(super) fn optimal_seam(ground: &Ground<'_>, exclude_introduced: bool) -> Border {
    let &Ground { field, chi, clear, drawn, outside } = ground;
    let w = field.width();
    let without: Vec<bool> = drawn.iter().map(|d| !d).collect();
    let (inside, all) = rayon::join(|| distances(&without, w), || in_parts(field, drawn));
    let deep = inside.iter().copied().filter(|v| v.is_finite()).fold(0.0, f32::max);
    let (inward, outward) = (REACH.0 * deep, (REACH.1 * deep).clamp(OUT.0, OUT.1));
    let (mut wanted, decided) = meant(&all, drawn);
    let moved: Vec<bool> = wanted.iter().zip(drawn).map(|(w, d)| w != d).collect();
    let moved = distances_within(&moved, w, BERTH as usize);
    let (mut things, undecided) = shown(all, drawn);
    let mut left_out = vec![false; drawn.len()];
    if exclude_introduced && things.iter().any(|t| !t.brought) {
        for &p in things.iter().filter(|t| t.brought).flat_map(|t| &t.pixels) {
            (wanted[p], left_out[p]) = (false, true);
        }
    }
    let open = |p: usize| {
        field.covered(SOURCE, p)
            && (left_out[p]
                || moved[p] <= BERTH
                || if drawn[p] { inside[p] <= inward } else { outside[p] <= outward })
    };
    let fixed = |p: usize| drawn[p] && field.covered(SOURCE, p);
    let places: Vec<usize> = (0..drawn.len()).filter(|&p| open(p)).collect();
    let mut nodes = vec![u32::MAX; drawn.len()];
    places.iter().enumerate().for_each(|(i, &p)| nodes[p] = i as u32);
    let seen = |p: usize| (chi[p].sqrt() - UNSEEN).max(0.0);
    let near = |p: usize| BESIDE.0 * (1.0 - clear[p] / BESIDE.1).max(0.0);
    let whole = |v: f32| (UNIT * v).round() as i32;
    let seam = |p: usize, q: usize| whole((seen(p) + seen(q) + near(p) + LENGTH).min(CAP));
    let mut graph = Graph::new(places.len());
    for (i, &p) in places.iter().enumerate() {
        let wrong = match decided[p] {
            true if !left_out[p] => whole(PART),
            _ => whole(WRONG.0 * seen(p).min(WRONG.1) + SLIGHT) * if left_out[p] { 8 } else { 1 },
        };
        // The sink's side is taken.
        if wanted[p] {
            graph.cost(i, wrong, 0);
        } else {
            graph.cost(i, 0, wrong);
        }
        for (side, q) in field.beside(p).into_iter().enumerate() {
            let Some(q) = q else { continue };
            match nodes[q] {
                u32::MAX if fixed(q) => graph.cost(i, seam(p, q), 0),
                u32::MAX => graph.cost(i, 0, seam(p, q)),
                j => graph.link(i, side, j as usize, if side < 2 { seam(p, q) } else { seam(q, p) }),
            }
        }
    }
    let mut taken: Vec<bool> = (0..drawn.len()).map(fixed).collect();
    for (&p, takes) in places.iter().zip(graph.cut()) {
        taken[p] = takes;
    }
    let (mut length, mut seen) = (0usize, 0usize);
    for p in 0..taken.len() {
        for q in field.beside(p).into_iter().take(2).flatten().filter(|&q| taken[p] != taken[q]) {
            length += 1;
            seen += usize::from(chi[p] > DIFFER && chi[q] > DIFFER);
        }
    }
    // Of what mostly stays where it was, much may be taken all the same.
    let much = drawn.iter().filter(|d| **d).count() / 50;
    let partly = things.iter().any(|t| t.pixels.iter().filter(|&&p| taken[p]).count() > much);
    things.retain(|t| 2 * t.pixels.iter().filter(|&&p| taken[p]).count() > t.pixels.len());
    things.sort_by_key(|t| std::cmp::Reverse(t.pixels.len()));
    let undecided = undecided || partly && things.is_empty();
    Border { taken, things, undecided, torn: seen as f32 / length.max(1) as f32 }
}

/// What differs, in parts where it hangs together by a neck and is not meant as a whole.
fn in_parts(field: &Field, drawn: &[bool]) -> Vec<ChangedRegion> {
    let takes_part = |t: &ChangedRegion| {
        let inside = t.pixels.iter().filter(|&&p| drawn[p]).count();
        (1..t.pixels.len()).contains(&inside)
    };
    let apart = |t: ChangedRegion| if takes_part(&t) { t.parts(field.width()) } else { vec![t] };
    things(field, PLATE, SOURCE).into_iter().flat_map(apart).collect()
}

/// Over how many pixels to each side a border fades, wherever it runs: over `soft`, or as the content asks for. A pixel is as wide
/// as `up` of the reference's.
pub(super) fn widths(field: &Field, chi: &[f32], soft: Option<f32>, up: f32) -> Vec<f32> {
    if let Some(soft) = soft {
        return vec![soft.max(0.5); chi.len()];
    }
    let (w, widest) = (field.width(), WIDE / up);
    let h = chi.len() / w.max(1);
    let differs: Vec<bool> = chi.iter().map(|v| *v > SAME * 1.5).collect();
    let far = distances_within(&differs, w, (widest / KEPT_OFF).ceil() as usize);
    let detail = boxed(&detail(field), w, h, AROUND);
    let width = |p: usize| {
        let smooth = widest / (1.0 + (detail[p] / DETAIL).powi(2));
        smooth.min(KEPT_OFF * far[p]).max(1.0)
    };
    let even = boxed(&(0..chi.len()).map(width).collect::<Vec<f32>>(), w, h, AROUND);
    even.iter().zip(far).map(|(even, far)| even.min(KEPT_OFF * far).max(1.0)).collect()
}

/// Weights from what is taken, with a border of these widths.
pub(super) fn fade(taken: &[bool], w: usize, widths: &[f32]) -> Vec<f32> {
    let reach = widths.iter().copied().fold(0.0, f32::max).ceil() as usize + 1;
    let without: Vec<bool> = taken.iter().map(|t| !t).collect();
    let (inside, outside) =
        rayon::join(|| distances_within(&without, w, reach), || distances_within(taken, w, reach));
    (0..taken.len())
        .map(|p| {
            let s = if taken[p] { inside[p] - 0.5 } else { 0.5 - outside[p] };
            let v = (0.5 + s / (2.0 * widths[p])).clamp(0.0, 1.0);
            v * v * (3.0 - 2.0 * v)
        })
        .collect()
}

/// How far both sides differ, in squared deviations.
pub(super) fn differences(field: &Field) -> Vec<f32> {
    let mut chi = vec![0.0; field.pixels()];
    field.chi2_row(PLATE, SOURCE, 0, &mut chi);
    chi
}

/// How far the plate's pixels differ from their neighbours, in deviations.
fn detail(field: &Field) -> Vec<f32> {
    (0..field.pixels())
        .map(|p| {
            let step = |q: Option<usize>| q.map_or(0.0, |q| field.step(PLATE, p, q));
            let [right, below, ..] = field.beside(p);
            step(right).max(step(below))
        })
        .collect()
}

/// What is to be taken, where things are taken whole or not at all; and the pixels of those.
fn meant(things: &[ChangedRegion], drawn: &[bool]) -> (Vec<bool>, Vec<bool>) {
    let (mut wanted, mut decided) = (drawn.to_vec(), vec![false; drawn.len()]);
    let inside = |t: &ChangedRegion| t.pixels.iter().filter(|&&p| drawn[p]).count() as f32;
    let all: f32 = things.iter().map(inside).sum();
    for thing in things {
        let part = inside(thing);
        let share = part / thing.pixels.len() as f32;
        let whole = share >= MEANT;
        let grazed = part > 0.0 && share < GRAZED.0 && part < GRAZED.1 * all;
        if whole || grazed {
            thing.pixels.iter().for_each(|&p| (wanted[p], decided[p]) = (whole, true));
        }
    }
    (wanted, decided)
}

/// What only one side shows, of all that was drawn around; and whether there is more of which no edge tells whose it is.
fn shown(things: Vec<ChangedRegion>, drawn: &[bool]) -> (Vec<ChangedObject>, bool) {
    let (mut shown, mut undecided) = (Vec::new(), false);
    for thing in things {
        if !thing.pixels.iter().any(|&p| drawn[p]) {
            continue;
        }
        let holds = thing.held_by_first();
        if holds.abs() > HOLDS {
            shown.push(ChangedObject { pixels: thing.pixels, brought: holds < 0.0 });
        } else {
            undecided = true;
        }
    }
    (shown, undecided)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::combine::consensus::LayerData;
    use crate::geometry::Size;
    use crate::noise::NoiseModel;
    use crate::random::Random;

    const W: usize = 120;
    const H: usize = 90;

    /// Plate and source of one wall with noise; what `more` gives is added to the plate's and the source's root codes.
    fn field(more: impl Fn(usize, usize) -> (f64, f64)) -> Field {
        let mut random = Random::new(7);
        let mut side = |of_plate: bool| {
            let plane: Vec<u16> = (0..W * H)
                .map(|p| {
                    let (plate, source) = more(p % W, p / W);
                    (30_000.0 + if of_plate { plate } else { source } + 150.0 * random.normal()) as u16
                })
                .collect();
            LayerData { planes: [plane.clone(), plane.clone(), plane], spans: vec![(0, W as u32); H] }
        };
        let layers = vec![side(true), side(false)];
        Field::new(Size::new(W as u32, H as u32), layers, &NoiseModel::default(), 1.0)
    }

    fn sought(field: &Field, drawn: &[bool], exclude_introduced: bool) -> Border {
        let chi = differences(field);
        let clear = distances_within(&chi.iter().map(|v| *v > DIFFER).collect::<Vec<_>>(), W, CLEAR);
        let outside = distances_within(drawn, W, OUTSIDE);
        optimal_seam(
            &Ground { field, chi: &chi, clear: &clear, drawn, outside: &outside },
            exclude_introduced,
        )
    }

    #[test]
    fn a_part_of_something_larger_is_not_the_same_as_the_plate() {
        let inside = |x: usize, y: usize| (30..90).contains(&x) && (30..60).contains(&y);
        let ground = field(|x, y| (0.0, if inside(x, y) { -9000.0 } else { 0.0 }));
        let border = sought(&ground, &within((20, 52), (25, 65)), false);
        assert!(border.things.is_empty() && border.undecided && border.torn > 0.1, "{}", border.torn);
    }

    fn within(x: (usize, usize), y: (usize, usize)) -> Vec<bool> {
        (0..W * H).map(|p| (x.0..x.1).contains(&(p % W)) && (y.0..y.1).contains(&(p / W))).collect()
    }

    /// Share of the pixels of one set that another holds.
    fn share(of: &[bool], held: &[bool]) -> f64 {
        let both = of.iter().zip(held).filter(|(a, b)| **a && **b).count();
        both as f64 / of.iter().filter(|v| **v).count() as f64
    }

    #[test]
    fn what_was_mostly_drawn_is_taken_whole_and_what_was_grazed_stays() {
        let figure = within((40, 60), (20, 70));
        let beside = within((75, 95), (20, 70));
        let place = |x: usize, y: usize| y * W + x;
        let field = field(|x, y| {
            let p = place(x, y);
            (if figure[p] || beside[p] { -9000.0 } else { 0.0 }, 0.0)
        });
        // Cuts off the figure's left edge and foot, and reaches the other one by three pixels.
        let border = sought(&field, &within((44, 78), (14, 66)), false);
        assert_eq!(share(&figure, &border.taken), 1.0);
        assert_eq!(share(&beside, &border.taken), 0.0);
        assert_eq!(border.torn, 0.0, "it runs where both sides show the wall");
        assert_eq!(border.things.len(), 1);
        assert!(!border.things[0].brought && !border.undecided);
    }

    #[test]
    fn what_the_source_brings_along_is_left_out_when_that_is_wanted() {
        let gone = within((30, 50), (30, 60));
        let comes = within((62, 80), (30, 60));
        let field = field(|x, y| {
            let p = y * W + x;
            (if gone[p] { -9000.0 } else { 0.0 }, if comes[p] { 9000.0 } else { 0.0 })
        });
        let drawn = within((24, 86), (24, 66));
        let both = sought(&field, &drawn, false);
        assert_eq!((share(&gone, &both.taken), share(&comes, &both.taken)), (1.0, 1.0));
        assert_eq!(both.things.iter().filter(|t| t.brought).count(), 1);
        let trimmed = sought(&field, &drawn, true);
        assert_eq!((share(&gone, &trimmed.taken), share(&comes, &trimmed.taken)), (1.0, 0.0));
        assert!(trimmed.things.iter().all(|t| !t.brought), "what is left out is not told of");
    }

    #[test]
    fn a_border_fades_far_where_it_is_smooth_and_little_beside_detail_and_what_differs() {
        let stripes = |x: usize| if x < W / 2 && x % 4 < 2 { 4000.0 } else { 0.0 };
        let differs = within((100, 110), (40, 50));
        let field = field(|x, y| {
            let other = if differs[y * W + x] { 9000.0 } else { 0.0 };
            (stripes(x) + other, stripes(x))
        });
        let chi = differences(&field);
        let widths = super::widths(&field, &chi, None, 1.0);
        let at = |x: usize, y: usize| widths[y * W + x];
        assert!(at(85, 10) > 8.0, "smooth: {}", at(85, 10));
        assert!(at(20, 20) < at(85, 10) / 2.0, "stripes: {}", at(20, 20));
        assert!(at(99, 45) <= 1.5, "beside what differs: {}", at(99, 45));
        assert!(at(105, 45) >= 1.0, "never nothing");
        let coarse = super::widths(&field, &chi, None, 4.0);
        assert!(coarse[10 * W + 85] <= WIDE / 4.0, "in pixels of a coarser picture it is less");
        assert!(super::widths(&field, &chi, Some(5.0), 1.0).iter().all(|w| *w == 5.0), "as it was asked for");
    }

    #[test]
    fn weights_rise_across_the_border_over_its_width() {
        let taken = within((0, 60), (0, H));
        for width in [1.0, 4.0, 12.0] {
            let weights = fade(&taken, W, &[width; W * H]);
            let row = &weights[45 * W..46 * W];
            assert!(row.windows(2).all(|p| p[1] <= p[0]));
            let ramp = row.iter().filter(|w| **w > 0.0 && **w < 1.0).count() as f32;
            assert!((ramp - 2.0 * width).abs() <= 1.0, "{ramp} pixels for {width} to each side");
            assert!((row[59] + row[60] - 1.0).abs() < 1e-5, "even to both sides");
        }
    }
}
