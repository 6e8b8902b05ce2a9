//! What the targets share.

use std::panic::{catch_unwind, set_hook};
use std::path::Path;
use std::sync::Once;

/// Decodes a file as the program that reads apart does: it may be refused, also after a panic of a decoder, which is caught there too. What
/// counts is what ends the program otherwise, and what takes too long.
pub fn decode(data: &[u8]) {
    static QUIET: Once = Once::new();
    QUIET.call_once(|| set_hook(Box::new(|_| {})));
    let _ = catch_unwind(|| evanu_media::decode_bytes(Path::new("fuzzed"), data).is_ok());
}
