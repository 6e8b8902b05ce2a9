//! The real pages in headless Chromium, driven as a person does: pointer, keyboard, reading what the screen says.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

mod clip;
mod frames;
mod history;
mod job;
mod lifts;
mod looking;
mod retouch;
mod samples;
mod sets;
mod stage;
