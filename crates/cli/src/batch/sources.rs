//! The sources of a recipe: files whose names match its patterns.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use walkdir::WalkDir;

use super::recipe::Recipe;
use crate::failure::Failure;

/// How names match patterns.
pub const MATCHING: glob::MatchOptions = glob::MatchOptions {
    case_sensitive: true,
    require_literal_separator: true,
    require_literal_leading_dot: true,
};

/// The sources by name, each with its folders below the fixed part of its pattern. What cannot be looked into, or is called
/// by what is no text, is noted.
///
/// # Errors
/// Where a pattern is none.
pub fn found(recipe: &Recipe, notes: &mut Vec<String>) -> Result<BTreeMap<String, String>, Failure> {
    let base = recipe.folder();
    let mut found = BTreeMap::new();
    for pattern in recipe.sources.iter().map(|pattern| pattern.trim_start_matches("./")) {
        let fixed = fixed_part(pattern);
        let parsed = glob::Pattern::new(pattern)
            .map_err(|error| Failure::new(format!("'{pattern}' is no pattern: {}", error.msg)))?;
        let before = found.len();
        let mut count = 0;
        for path in files(base, &fixed, pattern) {
            let path = match path {
                Ok(path) => path,
                Err(why) => {
                    notes.push(why);
                    continue;
                }
            };
            let own = path.strip_prefix(base).unwrap_or(&path);
            let own = own.strip_prefix(".").unwrap_or(own);
            let Some(name) = own.to_str().map(|name| name.replace('\\', "/")) else {
                notes.push(format!("{}: its name is no UTF-8, so it is left aside", path.display()));
                continue;
            };
            // A pattern of whole paths says them from the root on.
            let is_whole = Path::new(pattern).is_absolute();
            let told = if is_whole { path.to_string_lossy() } else { Cow::Borrowed(name.as_str()) };
            if !parsed.matches_with(&told, MATCHING) {
                continue;
            }
            count += 1;
            if recipe.except.iter().any(|except| except.matches_with(&name, MATCHING)) {
                continue;
            }
            let folder = Path::new(&name).parent().and_then(|folder| folder.strip_prefix(&fixed).ok());
            let folder = folder.and_then(Path::to_str).unwrap_or("").to_owned();
            found.entry(name).or_insert(folder);
        }
        if count == 0 && recipe.sources.len() > 1 {
            notes.push(format!("no file matches '{pattern}'"));
        } else if count > 0 && found.len() == before {
            notes.push(format!("'{pattern}' adds no source to those before it"));
        }
    }
    Ok(found)
}

/// The files that may match a pattern: those below its fixed part, as deep as it goes; and what cannot be looked into.
fn files(base: &Path, fixed: &Path, pattern: &str) -> impl Iterator<Item = Result<PathBuf, String>> {
    let root = base.join(fixed);
    let root = if root.as_os_str().is_empty() { PathBuf::from(".") } else { root };
    let is_there = root.is_dir();
    let any_depth = pattern.contains("**");
    let depth = Path::new(pattern).components().count() - fixed.components().count();
    // Without an end to its depth, links may lead in circles.
    let walk = WalkDir::new(root).follow_links(!any_depth).sort_by_file_name();
    let walk = if any_depth { walk } else { walk.max_depth(depth) };
    let takes_hidden = pattern.starts_with('.') || pattern.contains("/.");
    let is_shown = move |entry: &walkdir::DirEntry| {
        takes_hidden || entry.depth() == 0 || !entry.file_name().as_encoded_bytes().starts_with(b".")
    };
    let entries = walk.into_iter().filter_entry(is_shown).take_while(move |_| is_there);
    entries.filter_map(move |entry| match entry {
        Ok(entry) => entry.path().is_file().then(|| Ok(entry.into_path())),
        Err(error) => {
            let place = error.path().map(|path| path.display().to_string()).unwrap_or_default();
            let why = error
                .io_error()
                .map_or_else(|| "it is a link to a folder above it".to_owned(), ToString::to_string);
            Some(Err(format!("{place}: cannot be looked into: {why}")))
        }
    })
}

/// The folders of a pattern before the first wildcard.
fn fixed_part(pattern: &str) -> PathBuf {
    let folders = Path::new(pattern).parent().unwrap_or(Path::new(""));
    folders
        .components()
        .take_while(|part| !part.as_os_str().to_string_lossy().contains(['*', '?', '[']))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_fixed_part_of_a_pattern_ends_at_its_first_wildcard() {
        for (pattern, fixed) in [
            ("exports/**/*.bvh", "exports"),
            ("a/b/c.bvh", "a/b"),
            ("*.bvh", ""),
            ("a/b?/c/*", "a"),
            ("/x/*/y", "/x"),
        ] {
            assert_eq!(fixed_part(pattern), Path::new(fixed), "{pattern}");
        }
    }
}
