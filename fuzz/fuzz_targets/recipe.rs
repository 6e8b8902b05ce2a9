#![no_main]

use evanu_core::recipe::{FrameId, migrate};

// A recipe of any version, as a folder may hold it or a file bring it.
libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let frames = [FrameId(1), FrameId(2), FrameId(3)];
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(recipe) = migrate::read(text, &frames) else { return };
    // What is not put in force need not be one that can be kept: a number beyond all bounds is read as infinite, and refused here.
    if recipe.check(&frames).is_err() {
        return;
    }
    let kept = recipe.of_frames(&frames).at_hand(&frames);
    // What was read is written and read again as the same.
    let again = serde_json::to_string(&recipe).expect("a recipe can be written");
    assert_eq!(migrate::read(&again, &frames).expect("what was written is read"), recipe);
    let _ = kept;
});
