#![no_main]
//! Packages of USD: whatever they are, they are read or are an error.

use std::path::Path;

use libfuzzer_sys::fuzz_target;
use nimble_curve_formats::{Assume, read_bytes};

fuzz_target!(|bytes: &[u8]| {
    // What comes is a package, so that the time goes into what is in it.
    let package = [b"PK\x03\x04", bytes].concat();
    let _ = read_bytes(&package, Path::new("fuzz.usdz"), Assume::default());
});
