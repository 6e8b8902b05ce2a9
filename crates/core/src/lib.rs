//! The computation of Evanu: pure functions over pixels and numbers.
//!
//! Folders follow the job and import only upwards in this list: [`pixel`], [`geometry`], [`noise`],
//! [`register`], [`matching`], [`combine`], [`evidence`], [`fill`], [`patch`], [`touch`], [`develop`], [`recipe`], [`render`]. Nothing here touches files,
//! clocks, networks or the environment; the same input gives the same bytes for any number of threads.
#![deny(unsafe_code)]

pub mod clip;
pub mod combine;
pub mod develop;
pub mod evidence;
pub mod fill;
pub mod geometry;
#[path = "match/mod.rs"]
pub(crate) mod matching;
pub mod noise;
pub mod patch;
pub mod pixel;
pub mod plan;
pub mod prepare;
pub mod progress;
pub mod random;
pub mod recipe;
pub mod register;
pub mod render;
pub mod touch;
