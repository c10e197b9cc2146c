//! What the fuzzers found, and the files that they start from: each is read, or refused, quickly and without a word too many.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use nimble_curve_formats::{Assume, read_bytes};

fn files(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).into_iter().flatten();
    let mut files: Vec<PathBuf> =
        entries.map(|entry| entry.unwrap().path()).filter(|path| path.is_file()).collect();
    files.sort();
    files
}

#[test]
fn every_finding_is_an_error_in_one_line_or_a_scene() {
    let findings = files(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/findings"));
    assert!(!findings.is_empty());
    for path in findings {
        let bytes = std::fs::read(&path).unwrap();
        let start = Instant::now();
        if let Err(error) = read_bytes(&bytes, &path, Assume::default()) {
            assert!(!error.to_string().contains('\n'), "{error}");
        }
        // Far more than it takes, far less than a runaway.
        assert!(start.elapsed() < Duration::from_secs(20), "{}", path.display());
    }
}

#[test]
fn damaged_samples_of_every_format_are_refused_or_read() {
    let demo = files(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../cli/demo"));
    for path in demo.into_iter().filter(|path| path.extension().is_some_and(|ending| ending != "toml")) {
        let bytes = std::fs::read(&path).unwrap();
        let bytes = &bytes[..bytes.len().min(40_000)];
        for place in (0..bytes.len()).step_by(bytes.len() / 60 + 1) {
            let mut damaged = bytes.to_vec();
            damaged[place] = damaged[place].wrapping_add(77);
            if let Err(error) = read_bytes(&damaged, &path, Assume::default()) {
                assert!(!error.to_string().contains('\n'), "{error}");
            }
        }
    }
}
