//! Alignment of sets whose camera moved: near ground shifts against the horizon.
//!
//! `cargo run --release -p evanu-demo --example depth -- [SETS] [SEED] [CENTIMETRES] [WIDTH]` renders sets of four
//! frames with visitors, 900 px wide unless told otherwise, the camera looking down a little so that near ground and the
//! horizon are both there, each frame from another spot (15 cm apart by one standard deviation each way unless told
//! otherwise). A 32×32 grid of places of the reference is compared with where each frame truly shows them: by what
//! Evanu found, and by the single homography that fits the true places best; once over all places, once over those where
//! an error could be seen (not the bare sky). The plate (median) is compared with the truth with and without the bend.
//! Prints a line a set and a line of JSON. With `CACHE=FOLDER` what is rendered is kept there and taken from there.

mod kept;

use evanu_core::combine::Method;
use evanu_core::geometry::{Correspondence, Model, Point, fit};
use evanu_core::pixel::{FrameSource, MemoryFrame, Raster, Samples};
use evanu_core::plan::Plan;
use evanu_core::prepare;
use evanu_core::progress::no_progress;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};
use evanu_demo::{Crowd, Order, Shoot, frame_size};
use kept::{empty, rendered};

const FRAMES: usize = 4;
/// A place shows something when its surroundings differ by this many steps of 255.
const SHOWS: f64 = 4.0;

/// Deviation of the green codes in 15×15 pixels, of 255.
fn detail(picture: &Raster, p: Point) -> f64 {
    let (w, h) = (i64::from(picture.size.width), i64::from(picture.size.height));
    let at = |x: i64, y: i64| {
        f64::from(picture.data[(3 * (y.clamp(0, h - 1) * w + x.clamp(0, w - 1)) + 1) as usize]) / 257.0
    };
    let all: Vec<f64> = (0..225i64).map(|k| at(p.x as i64 + k % 15 - 7, p.y as i64 + k / 15 - 7)).collect();
    let mean = all.iter().sum::<f64>() / 225.0;
    (all.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / 225.0).sqrt()
}

fn psnr(plate: &Raster, truth: &Raster) -> f64 {
    let squares = plate.data.iter().zip(&truth.data).map(|(a, b)| (f64::from(*a) - f64::from(*b)).powi(2));
    10.0 * (65535.0f64.powi(2) * plate.data.len() as f64 / squares.sum::<f64>()).log10()
}

fn main() {
    let mut arguments = std::env::args().skip(1).filter_map(|a| a.parse::<u64>().ok());
    let (sets, seed) = (arguments.next().unwrap_or(5), arguments.next().unwrap_or(1));
    let sway = arguments.next().unwrap_or(15) as f64 / 100.0;
    let width = arguments.next().unwrap_or(900) as u32;
    let size = frame_size(width);
    let recipe = Recipe::new();
    let (mut ours, mut best, mut lost, mut bent) = (Vec::new(), Vec::new(), 0, 0);
    let (mut ours_seen, mut best_seen) = (Vec::new(), Vec::new());
    let mut gained = Vec::new();
    for set in 0..sets {
        let order = Order::by_hand(seed << 16 | set, width, FRAMES, Crowd::Forecourt);
        let shoot = Shoot::new(Order { sway, pitch: -0.1, ..order });
        let kind = format!("depth{:.0}", 100.0 * sway);
        let frames: Vec<MemoryFrame> = (0..FRAMES)
            .map(|k| {
                let codes = rendered(&kind, &shoot, k).picture.data;
                MemoryFrame::new(size, Samples::Eight(codes.iter().map(|v| (v / 257) as u8).collect()))
            })
            .collect();
        let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
        let begin = std::time::Instant::now();
        let Ok(plan) = prepare::plan(&recipe, &sources, &[], &no_progress) else {
            unreachable!("frames are in memory")
        };
        let seconds = begin.elapsed().as_secs_f64();
        let truth = empty(&kind, &shoot, plan.alignment.reference);
        let mut line = String::new();
        for (k, found) in
            plan.alignment.frames.iter().enumerate().filter(|(k, _)| *k != plan.alignment.reference)
        {
            let at = |i: u32, n: u32| (f64::from(i) + 0.5) / 32.0 * f64::from(n) - 0.5;
            let pairs: Vec<Correspondence> = (0..1024u32)
                .map(|i| Point::new(at(i % 32, size.width), at(i / 32, size.height)))
                .filter_map(|p| Some((p, shoot.same_place(plan.alignment.reference, p, k)?)))
                .filter(|(_, q)| size.holds(*q))
                .map(|(to, from)| Correspondence { from, to, weight: 1.0 })
                .collect();
            let seen: Vec<Correspondence> =
                pairs.iter().filter(|c| detail(&truth, c.to) > SHOWS).copied().collect();
            let rms = |pairs: &[Correspondence], place: &dyn Fn(Point) -> Point| {
                let sum: f64 = pairs.iter().map(|c| place(c.to).distance(c.from).powi(2)).sum();
                (sum / pairs.len() as f64).sqrt()
            };
            let error = |place: &dyn Fn(Point) -> Point| rms(&pairs, place);
            let Some(single) = fit(Model::Perspective, &pairs).and_then(|h| h.inverse()) else { continue };
            if let Some(h) = fit(Model::Perspective, &seen).and_then(|h| h.inverse()) {
                best_seen.push(rms(&seen, &|p| h.apply(p)));
            }
            let single = error(&|p| single.apply(p));
            best.push(single);
            if found.misfit.is_some() {
                lost += 1;
                line += &format!("  {k}: set aside, best single {single:.2};");
                continue;
            }
            bent += usize::from(found.bend.is_some());
            let whole = error(&|p| found.to_frame().apply(p));
            let plane = found.to_frame().plane();
            line += &format!(
                "  {k}: {whole:.3} px (plane {:.2}, best single {single:.2}, residual {:.3});",
                error(&|p| plane.apply(p)),
                found.residual_px.unwrap_or(f64::NAN)
            );
            ours.push(whole);
            ours_seen.push(rms(&seen, &|p| found.to_frame().apply(p)));
        }
        let mut stiff: Plan = plan.clone();
        stiff.alignment.frames.iter_mut().for_each(|f| f.bend = None);
        let [with, without] = [&plan, &stiff].map(|plan| {
            let scene = Scene::new(&recipe, plan, &sources);
            scene
                .render(View::By(Method::Median), size.rect(), 0)
                .map_or(f64::NAN, |plate| psnr(&plate, &truth))
        });
        gained.push(with - without);
        println!("set {set}, {seconds:.2} s:{line} plate {with:.2} dB, without the bend {without:.2} dB");
    }
    let middle = |v: &mut Vec<f64>| {
        v.sort_by(f64::total_cmp);
        v.get(v.len() / 2).copied().unwrap_or(f64::NAN)
    };
    let mean = |v: &[f64]| (v.iter().map(|e| e * e).sum::<f64>() / v.len().max(1) as f64).sqrt();
    println!(
        "{{\"sets\": {sets}, \"frames\": {}, \"bent\": {bent}, \"set_aside\": {lost}, \"rms_px\": {:.3}, \"best_single_rms_px\": {:.3}, \"seen_rms_px\": {:.3}, \"best_single_seen_rms_px\": {:.3}, \"median_px\": {:.3}, \"best_single_median_px\": {:.3}, \"plate_gain_db\": {:.2}}}",
        ours.len(),
        mean(&ours),
        mean(&best),
        mean(&ours_seen),
        mean(&best_seen),
        middle(&mut ours),
        middle(&mut best),
        middle(&mut gained),
    );
}
