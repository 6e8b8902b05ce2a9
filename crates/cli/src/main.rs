//! `evanu`: the one binary. Each command has its file; this one only chooses.
#![forbid(unsafe_code)]

mod clean;
mod clip;
mod demo;
mod files;
mod invent;
mod serve;
mod tell;

use clap::{Parser, Subcommand};
use std::process::ExitCode;

/// Empties busy places: several frames in, one clean plate out.
#[derive(Parser)]
#[command(name = "evanu", version, about)]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Make a clean plate from frames
    Clean(clean::Args),
    /// Merge exposures (not yet available)
    #[command(hide = true)]
    Bracket(Rest),
    /// Clean a clip (not yet available)
    /// Cover an area of a clip with what is behind, in each frame's own light and grain
    Clip(clip::Args),
    /// Become another program that may do little; started by Evanu itself
    #[command(hide = true)]
    Confined(ReadArgs),
    /// Write the sample sets, or render one at another size with its truth
    Demo(demo::Args),
    /// Make up an area of a picture from what is around it
    Invent(invent::Args),
    /// Read a file's frames into a folder, confined; started by Evanu itself
    #[command(hide = true)]
    Read(ReadArgs),
    /// Score a plate against a rendered set's truth
    #[command(hide = true)]
    Score(demo::ScoreArgs),
    /// Start the server for the browser
    Serve(serve::Args),
    /// Print the description of the server's interface (OpenAPI)
    #[command(hide = true)]
    Openapi,
}

#[derive(clap::Args)]
struct Rest {
    #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
    _rest: Vec<String>,
}

#[derive(clap::Args)]
struct ReadArgs {
    #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
    rest: Vec<std::ffi::OsString>,
}

fn main() -> ExitCode {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(e) if e.use_stderr() => return tell::failed(&one_line(&e.to_string())),
        Err(e) => e.exit(),
    };
    if let Ok(own) = std::env::current_exe() {
        evanu_media::clip::confined(own);
    }
    let done = match cli.command {
        Command::Clean(args) => clean::run(args),
        Command::Bracket(_) => {
            Err("bracket is not yet available; there are clean, clip, invent, demo and serve".into())
        }
        Command::Clip(args) => clip::run(&args),
        Command::Confined(args) => Err(evanu_media::clip::become_confined(&args.rest).to_string()),
        Command::Demo(args) => demo::run(args),
        Command::Invent(args) => invent::run(args),
        Command::Score(args) => demo::score(args),
        Command::Read(args) => evanu_media::read_apart(&args.rest).map_err(|e| e.to_string()),
        Command::Serve(args) => serve::run(args),
        Command::Openapi => serve::openapi(),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => tell::failed(&e),
    }
}

/// A usage error's own text and its hint, on one line.
fn one_line(text: &str) -> String {
    let text = text.strip_prefix("error: ").unwrap_or(text);
    let parts: Vec<&str> = text
        .lines()
        .map(str::trim)
        .take_while(|l| !l.starts_with("Usage:"))
        .filter(|l| !l.is_empty() && !l.starts_with("For more"))
        .collect();
    format!("{}; try --help", parts.join(" "))
}
