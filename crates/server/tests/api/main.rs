//! The interface over real HTTP: bringing in, recipes, tiles, look-through, runs, exports, errors, restarts.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

mod clips;
mod combining;
mod frames;
mod keeping;
mod patches;
mod server;
mod touches;
