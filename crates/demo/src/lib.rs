//! Made-up places rendered with known truth: the sample sets, and the scoring of plates against it.
//!
//! Nothing here is a photograph; everything follows from a seed.
#![forbid(unsafe_code)]

mod dng;
mod figures;
mod place;
mod set;
mod shoot;
mod texture;
mod trace;

pub mod score;
pub use dng::{sensor, write_dng};
pub use figures::Crowd;
pub use set::{DemoError, SETS, SetInfo, Truth, render, write_samples};
pub use shoot::{Frame, Order, PITCH, Shoot, Shot, empty_frame, frame_size};
