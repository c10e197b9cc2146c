//! Reads any bytes as a file with the ending of the format; whatever comes back, nothing may break.
#![no_main]

use std::path::Path;

use libfuzzer_sys::fuzz_target;
use nimble_curve_formats::{Assume, read_bytes};

fuzz_target!(|bytes: &[u8]| {
    let _ = read_bytes(bytes, Path::new("fuzz.csv"), Assume::default());
});
