#![no_main]
//! Random scenes, made of the fuzzer's bytes: the program's evaluation and the second evaluator have to agree.

#[path = "../../crates/second/tests/agreement.rs"]
mod agreement;

use libfuzzer_sys::fuzz_target;
use nimble_curve_second::random::{Chance, Contents, text_by};

fuzz_target!(|bytes: &[u8]| {
    let text = text_by(&mut Chance::of_bytes(bytes), &Contents::ALL);
    if let Err(difference) = agreement::compare(&text) {
        panic!("{difference}\n{text}");
    }
});
