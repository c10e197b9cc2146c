//! What the program is built of: licences that allow it, one registry, and no more versions of one thing than are known.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// Licences under which others may be linked into a program that is handed on.
const ALLOWED: [&str; 11] = [
    "MIT",
    "MIT-0",
    "0BSD",
    "Apache-2.0",
    "Apache-2.0 WITH LLVM-exception",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "CC0-1.0",
    "Unicode-3.0",
    "Unlicense",
    "Zlib",
];

/// Crates that are there in several major versions, as what needs them has not come to one: each is built twice.
const TWICE: [&str; 3] = ["base64", "miniz_oxide", "syn"];

fn packages() -> Vec<serde_json::Value> {
    let cargo = std::env::var("CARGO").unwrap_or_else(|_| "cargo".to_owned());
    let manifest = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../Cargo.toml");
    let output = std::process::Command::new(cargo)
        .args(["metadata", "--format-version", "1", "--locked", "--manifest-path"])
        .arg(manifest)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let metadata: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    metadata["packages"].as_array().unwrap().clone()
}

/// Whether an expression of licences leaves a way that is allowed: one of several, all of what is joined.
fn is_allowed(expression: &str) -> bool {
    let plain = expression.replace(" / ", " OR ").replace('/', " OR ").replace(['(', ')'], "");
    // All that stand joined have to be allowed; of each, one alternative.
    plain.split(" AND ").all(|part| part.split(" OR ").any(|licence| ALLOWED.contains(&licence.trim())))
}

#[test]
fn what_is_linked_in_may_be_and_comes_from_the_registry() {
    assert!(is_allowed("(MIT OR Apache-2.0) AND Unicode-3.0") && is_allowed("Unlicense/MIT"));
    assert!(!is_allowed("GPL-3.0-only") && !is_allowed("MIT AND GPL-3.0-only"));
    let mut count = 0;
    for package in packages().iter().filter(|package| !package["source"].is_null()) {
        let name = package["name"].as_str().unwrap();
        let licence = package["license"].as_str().unwrap_or("none is stated");
        assert!(is_allowed(licence), "{name}: {licence}");
        assert_eq!(package["source"], "registry+https://github.com/rust-lang/crates.io-index", "{name}");
        count += 1;
    }
    assert!(count > 100, "{count}");
}

#[test]
fn no_more_crates_are_there_in_several_major_versions_than_are_known() {
    let mut versions: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for package in packages() {
        let version = package["version"].as_str().unwrap();
        let mut parts = version.split('.');
        let (major, minor) = (parts.next().unwrap(), parts.next().unwrap());
        // Before 1 each minor version stands by itself.
        let own = if major == "0" { format!("0.{minor}") } else { major.to_owned() };
        versions.entry(package["name"].as_str().unwrap().to_owned()).or_default().insert(own);
    }
    let twice: Vec<&String> =
        versions.iter().filter(|(_, own)| own.len() > 1).map(|(name, _)| name).collect();
    assert_eq!(twice, TWICE, "{versions:?}");
}
