//! `evanu serve`.
#[derive(clap::Args)]
pub struct Args {}
pub fn run(_: Args) -> Result<(), String> { Ok(()) }
pub fn openapi() -> Result<(), String> { Ok(()) }
