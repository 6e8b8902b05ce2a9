//! Makes the figure that who stood still is told by: the mean look of visitors who pass through rendered sets.
//!
//! `cargo run --release -p evanu-demo --example figure -- [SETS] [SEED]` renders forecourts of ten frames (480 px) and writes
//! `crates/core/src/evidence/figure.bin`, a byte a number. `CACHE=FOLDER` protected what is rendered.

mod kept;

use evanu_core::evidence::still::GREATEST_SHARE;
use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
use evanu_core::prepare;
use evanu_core::progress::no_progress;
use evanu_core::recipe::Recipe;
use evanu_core::render::Scene;
use evanu_demo::{Crowd, Order, Shoot, frame_size};
use kept::rendered;

const WIDTH: u32 = 480;
const FRAMES: usize = 10;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1).filter_map(|a| a.parse::<u64>().ok());
    let (sets, seed) = (arguments.next().unwrap_or(12), arguments.next().unwrap_or(11));
    let mut shoot = Shoot::new(Order::by_hand(seed, WIDTH, 1, Crowd::Nobody));
    let mut looks = Vec::new();
    for set in 0..sets {
        shoot.again(seed << 20 | set, FRAMES, Crowd::Forecourt);
        let eight = |v: &u16| (v / 257) as u8;
        let frames: Vec<MemoryFrame> = (0..FRAMES)
            .map(|k| rendered("figure", &shoot, k).picture.data.iter().map(eight).collect())
            .map(|codes| MemoryFrame::new(frame_size(WIDTH), Samples::Eight(codes)))
            .collect();
        let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
        let recipe = Recipe::new();
        let plan = prepare::plan(&recipe, &sources, &[], &no_progress)?;
        looks.extend(prepare::looks(&Scene::new(&recipe, &plan, &sources))?);
    }
    let first = looks.first().ok_or("nobody passes")?;
    let mean = |i: usize| {
        (255.0 / GREATEST_SHARE * looks.iter().map(|l| l[i]).sum::<f32>() / looks.len() as f32).round() as u8
    };
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../core/src/evidence/figure.bin");
    std::fs::write(path, (0..first.len()).map(mean).collect::<Vec<u8>>())?;
    println!("the mean of {} looks", looks.len());
    Ok(())
}
