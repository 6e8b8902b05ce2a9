//! Made-up places rendered with known truth: the sample sets, and the scoring of plates against it.
//!
//! Nothing here is a photograph; everything follows from a seed.
#![forbid(unsafe_code)]

mod backdrop;
mod camera;
mod clip;
mod crowds;
mod dng;
mod figures;
mod flare;
mod forecourt;
mod hall;
mod person;
mod place;
mod set;
mod shoot;
mod solid;
mod surfaces;
mod telescope;
mod texture;
mod trace;

pub mod score;
pub use camera::{Camera, Coding};
pub use clip::{CLIPS, ClipKind, ClipOrder, render_clip};
pub use crowds::Crowd;
pub use dng::{sensor, write_dng};
pub use set::{DemoError, SETS, SetInfo, Truth, render, write_samples};
pub use shoot::{
    Frame, Hold, INTERVAL, Order, Shoot, Shot, Sight, empty_frame, empty_photograph, frame_size,
    noise_variance,
};
