#![no_main]

#[allow(dead_code, reason = "each target uses one of them")]
#[path = "../entry_points.rs"]
mod entry_points;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| entry_points::archive(bytes));
