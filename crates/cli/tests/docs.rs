//! Every example in the README and in docs/ runs as it is printed.

use std::path::{Path, PathBuf};

use tempfile::tempdir;

use crate::common::succeed;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The commands of this program in the shell examples of a text.
fn commands(text: &str) -> Vec<String> {
    let blocks = text.split("```sh\n").skip(1).map(|rest| rest.split("```").next().unwrap_or(""));
    let lines = blocks.flat_map(str::lines).filter_map(|line| line.strip_prefix("nimble-curve "));
    lines.map(str::to_owned).collect()
}

/// Words as a shell splits them: by spaces, quoted parts kept whole.
fn words(command: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quote = None;
    for c in command.chars() {
        match (quote, c) {
            (None, '"' | '\'') => quote = Some(c),
            (Some(open), c) if c == open => quote = None,
            (None, ' ') => words.push(String::new()),
            (_, c) => words.last_mut().unwrap().push(c),
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

#[test]
fn every_example_runs() {
    let folder = tempdir().unwrap();
    let at = folder.path();
    succeed(at, &["demo"]);
    // What somebody else is said to have changed.
    succeed(at, &["layers", "flatten", "nimble-demo/bramble.ncurve", "-o", "fixed.ncurve"]);
    // Files that are shown.
    let formats = std::fs::read_to_string(root().join("docs/formats.md")).unwrap();
    for name in ["arm.csv", "arm.toml"] {
        let (_, rest) = formats.split_once(&format!("`{name}`:\n```")).unwrap();
        let shown = rest.split_once('\n').unwrap().1.split("```").next().unwrap();
        std::fs::write(at.join(name), shown).unwrap();
    }
    let mut texts = vec![root().join("README.md")];
    let docs = std::fs::read_dir(root().join("docs")).unwrap().map(|entry| entry.unwrap().path());
    let mut docs: Vec<PathBuf> = docs.filter(|path| path.extension().is_some_and(|e| e == "md")).collect();
    docs.sort();
    texts.extend(docs);
    let mut count = 0;
    for path in texts {
        for command in commands(&std::fs::read_to_string(&path).unwrap()) {
            let words = words(&command);
            let words: Vec<&str> = words.iter().map(String::as_str).collect();
            match words.as_slice() {
                [words @ .., ">", file] => std::fs::write(at.join(file), succeed(at, words)).unwrap(),
                words => {
                    succeed(at, words);
                }
            }
            count += 1;
        }
    }
    assert!(count >= 12, "only {count} examples were found");
}

#[test]
fn every_link_leads_somewhere() {
    let mut texts = vec![root().join("README.md")];
    texts.extend(std::fs::read_dir(root().join("docs")).unwrap().map(|entry| entry.unwrap().path()));
    for path in texts.iter().filter(|path| path.extension().is_some_and(|e| e == "md")) {
        let text = std::fs::read_to_string(path).unwrap();
        for link in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            let target = path.parent().unwrap().join(link);
            assert!(link.starts_with("http") || target.exists(), "{}: {link}", path.display());
        }
    }
}
