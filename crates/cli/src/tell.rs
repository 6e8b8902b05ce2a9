//! What a person at a terminal is told: progress and errors on standard error, results on standard output.

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::io::IsTerminal;
use std::process::ExitCode;
use std::sync::Mutex;

/// Prints one line on standard error and gives the exit status for bad input.
pub(crate) fn failed(text: &str) -> ExitCode {
    eprintln!("evanu: {}", text.replace('\n', " "));
    ExitCode::from(2)
}

/// A step of long work: a bar on a terminal, plain lines at every quarter otherwise.
pub(crate) struct Step {
    name: &'static str,
    bar: Option<ProgressBar>,
    told: Mutex<u32>,
}

impl Step {
    /// Begins a step.
    pub(crate) fn new(name: &'static str) -> Self {
        let bar = std::io::stderr().is_terminal().then(|| {
            let bar = ProgressBar::with_draw_target(Some(1000), ProgressDrawTarget::stderr());
            if let Ok(style) = ProgressStyle::with_template("{msg:10} {wide_bar} {percent:>3} %") {
                bar.set_style(style);
            }
            bar.set_message(name);
            bar
        });
        Self { name, bar, told: Mutex::new(u32::MAX) }
    }

    /// Tells the share done, 0..=1.
    pub(crate) fn at(&self, share: f32) {
        if let Some(bar) = &self.bar {
            bar.set_position((share * 1000.0) as u64);
            return;
        }
        let quarter = (share * 4.0) as u32;
        if let Ok(mut told) = self.told.lock()
            && (*told == u32::MAX || quarter > *told)
        {
            *told = quarter;
            eprintln!("{} {} %", self.name, quarter * 25);
        }
    }
}

impl Drop for Step {
    fn drop(&mut self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }
}
