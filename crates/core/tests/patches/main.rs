//! Patches on made-up frames.
#![allow(clippy::unwrap_used, clippy::expect_used)]

mod fits;
mod given_back;
mod laid;
mod stage;
