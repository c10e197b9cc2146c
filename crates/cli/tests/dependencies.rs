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
const TWICE: [&str; 2] = ["miniz_oxide", "syn"];

fn packages() -> Vec<serde_json::Value> {
    metadata()["packages"].as_array().unwrap().clone()
}

fn metadata() -> serde_json::Value {
    let cargo = std::env::var("CARGO").unwrap_or_else(|_| "cargo".to_owned());
    let manifest = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../Cargo.toml");
    let output = std::process::Command::new(cargo)
        .args(["metadata", "--format-version", "1", "--locked", "--manifest-path"])
        .arg(manifest)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

/// The packages of which code is in the program, on whatever system: what it needs to run, not what builds or tests it.
fn linked_in() -> Vec<serde_json::Value> {
    let metadata = metadata();
    let packages = metadata["packages"].as_array().unwrap();
    let nodes: BTreeMap<&str, &serde_json::Value> = (metadata["resolve"]["nodes"].as_array().unwrap().iter())
        .map(|node| (node["id"].as_str().unwrap(), node))
        .collect();
    let program = packages.iter().find(|package| package["name"] == "nimble-curve").unwrap();
    let mut seen = BTreeSet::new();
    let mut open = vec![program["id"].as_str().unwrap()];
    while let Some(id) = open.pop() {
        if !seen.insert(id) {
            continue;
        }
        for needed in nodes[id]["deps"].as_array().unwrap() {
            let kinds = needed["dep_kinds"].as_array().unwrap();
            if kinds.iter().any(|kind| kind["kind"].is_null()) {
                open.push(needed["pkg"].as_str().unwrap());
            }
        }
    }
    let is_other = |package: &&serde_json::Value| {
        seen.contains(package["id"].as_str().unwrap()) && !package["source"].is_null()
    };
    packages.iter().filter(is_other).cloned().collect()
}

/// The texts that come with a package: those of MIT where that is one of the ways, as they are the shortest, else all.
fn texts(package: &serde_json::Value) -> Vec<String> {
    let folder = Path::new(package["manifest_path"].as_str().unwrap()).parent().unwrap();
    let mut names: Vec<String> = (std::fs::read_dir(folder).unwrap())
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| {
            let plain = name.to_lowercase();
            ["licen", "copying", "notice", "unlicense"].iter().any(|word| plain.starts_with(word))
                && folder.join(name).is_file()
        })
        .collect();
    names.sort();
    let mit: Vec<String> = names.iter().filter(|name| name.to_lowercase().contains("mit")).cloned().collect();
    let licence = package["license"].as_str().unwrap();
    let chosen = if mit.is_empty() || licence.contains("AND") { names } else { mit };
    let text = |name: &String| {
        let lines = std::fs::read_to_string(folder.join(name)).unwrap();
        lines.lines().map(str::trim_end).collect::<Vec<_>>().join("\n").trim().to_owned()
    };
    chosen.iter().map(text).collect()
}

/// What `--licences` prints.
fn notices() -> String {
    let mut names = Vec::new();
    let mut by_text: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut without = Vec::new();
    for package in linked_in() {
        let name = format!("{} {}", package["name"].as_str().unwrap(), package["version"].as_str().unwrap());
        let texts = texts(&package);
        if texts.is_empty() {
            without.push(name.clone());
        }
        for text in texts {
            by_text.entry(text).or_default().push(name.clone());
        }
        let licence = package["license"].as_str().unwrap().replace('/', " OR ").replace("  ", " ");
        names.push(format!("  {name}: {licence}"));
    }
    names.sort();
    let mut of_texts: Vec<(Vec<String>, String)> = by_text.into_iter().map(|(text, of)| (of, text)).collect();
    of_texts.sort();
    let font = include_str!("../../draw/fonts/LICENSE.txt");
    let mut page = format!(
        "nimble-curve is MIT OR Apache-2.0. In it are these, on one system or another:\n\n{}\n  the font DejaVu Sans: see below\n\n\
         These come without a text of their licence: {}.\n",
        names.join("\n"),
        without.join(", ")
    );
    let rule = "-".repeat(80);
    for (of, text) in of_texts {
        page += &format!("\n{rule}\n{}\n\n{text}\n", of.join(", "));
    }
    page + &format!("\n{rule}\nthe font DejaVu Sans\n\n{}\n", font.trim())
}

#[test]
fn the_notices_are_those_of_what_is_linked_in() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("NOTICES.txt");
    let made = notices();
    if std::env::var_os("NIMBLE_CURVE_WRITE_DOCS").is_some() {
        std::fs::write(&path, &made).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap();
    assert!(kept == made, "NOTICES.txt is not what is linked in; NIMBLE_CURVE_WRITE_DOCS=1 writes it anew");
    assert!(crate::common::succeed(Path::new("."), &["--licences"]) == made);
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
