#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| evanu_fuzz::decode(data));
