//! `evanu demo` and `evanu score`: sample sets with known truth.

use evanu_demo::{CLIPS, ClipOrder};
use std::path::PathBuf;

/// Options of `evanu demo`.
#[derive(clap::Args)]
pub(crate) struct Args {
    /// Where the sets go
    #[arg(default_value = "evanu-samples")]
    folder: PathBuf,
    /// Render this set anew, with its truth, instead of writing the shipped frames
    #[arg(long, value_name = "NAME")]
    render: Option<String>,
    /// Width of rendered frames in pixels
    #[arg(long, default_value_t = 1600, value_parser = clap::value_parser!(u32).range(64..=16000))]
    width: u32,
    /// Number of rendered frames; as many as the shipped set has when left out
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=1000))]
    frames: Option<u32>,
    /// What chance begins with, for a clip (`clip`, `clip-fading`, `clip-shaken`, `hall`, `hall-by-hand`, `leaves`)
    #[arg(long)]
    seed: Option<u64>,
}

/// Options of `evanu score`.
#[derive(clap::Args)]
pub(crate) struct ScoreArgs {
    /// The folder `truth` of a rendered set
    truth: PathBuf,
    /// The plate
    plate: PathBuf,
    /// The report that `evanu clean --report` wrote beside it
    report: PathBuf,
}

/// Runs `evanu demo`.
pub(crate) fn run(args: Args) -> Result<(), String> {
    match &args.render {
        Some(name) if CLIPS.iter().any(|k| k.name == name) => {
            let kind = CLIPS.into_iter().find(|k| k.name == name).unwrap_or(CLIPS[0]);
            let frames = args.frames.map_or(kind.frames, |n| n as usize);
            let order = ClipOrder { kind, seed: args.seed.unwrap_or(kind.seed), width: args.width, frames };
            evanu_demo::render_clip(order, &args.folder, &|t| eprintln!("{t}")).map_err(|e| e.to_string())?;
        }
        Some(name) => {
            evanu_demo::render(name, args.width, args.frames.map(|n| n as usize), &args.folder, &|t| {
                eprintln!("{t}");
            })
            .map_err(|e| e.to_string())?;
        }
        None => evanu_demo::write_samples(&args.folder).map_err(|e| e.to_string())?,
    }
    println!("{}", args.folder.display());
    Ok(())
}

/// Runs `evanu score`.
pub(crate) fn score(args: ScoreArgs) -> Result<(), String> {
    let score =
        evanu_demo::score::score(&args.truth, &args.plate, &args.report).map_err(|e| e.to_string())?;
    println!("{}", serde_json::to_string_pretty(&score).map_err(|e| e.to_string())?);
    Ok(())
}
