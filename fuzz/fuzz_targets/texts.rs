#![no_main]
//! The small texts beside scenes: name maps, profiles, lists of clips. Whatever they are, they are read or are an error.

use libfuzzer_sys::fuzz_target;
use nimble_curve_formats::name_map::parse_name_map;
use nimble_curve_formats::profile::parse_profile;
use nimble_curve_formats::sheet::parse_clip_list;

fuzz_target!(|bytes: &[u8]| {
    let Some((kind, bytes)) = bytes.split_first() else { return };
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    match kind % 3 {
        0 => drop(parse_name_map(text)),
        1 => drop(parse_profile(text)),
        _ => drop(parse_clip_list(text)),
    }
});
