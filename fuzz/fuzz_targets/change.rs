#![no_main]

use evanu_core::patch::Patch;
use evanu_core::recipe::FrameId;
use evanu_studio::{Change, ExportRequest, ProposalRequest};

// The bodies of requests; the first byte says which.
libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let Some((kind, body)) = data.split_first() else { return };
    match kind % 4 {
        0 => drop(serde_json::from_slice::<Change>(body)),
        1 => drop(serde_json::from_slice::<ExportRequest>(body)),
        2 => drop(serde_json::from_slice::<ProposalRequest>(body)),
        _ => {
            if let Ok(patch) = serde_json::from_slice::<Patch<FrameId>>(body) {
                let _ = patch.is_valid();
            }
        }
    }
});
