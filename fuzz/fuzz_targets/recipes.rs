#![no_main]
//! Recipes: whatever the text is, it is a recipe or lines that say what is wrong, each of one line.

use std::path::Path;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    // Nothing lies there: files that a recipe names are not found, and that is said like anything else.
    if let Err(sentences) = nimble_curve::check_recipe(text, Path::new("/nothing/here/recipe.toml")) {
        assert!(!sentences.is_empty(), "refused without a reason");
        for sentence in sentences {
            assert!(!sentence.contains(['\n', '\u{202e}']), "not one line: {sentence:?}");
        }
    }
});
