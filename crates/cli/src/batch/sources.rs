//! The sources of a recipe: files whose names match its patterns.

use std::borrow::Cow;
use std::collections::HashSet;
use std::ops::Range;
use std::path::{Path, PathBuf};

use nimble_curve_core::address::{matches, visible};
use nimble_curve_core::similar::similar;
use walkdir::WalkDir;

use super::recipe::Recipe;
use super::record::Id;
use crate::failure::Failure;
use crate::pattern::Hole;

/// How names match patterns.
const MATCHING: glob::MatchOptions = glob::MatchOptions {
    case_sensitive: true,
    require_literal_separator: true,
    require_literal_leading_dot: true,
};

/// One of a recipe's files. There may be very many, so it holds its name and little else.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// As the recipe finds it.
    pub name: Box<str>,
    /// Where its folders below the fixed part of the pattern stand in its name.
    folder: Range<u32>,
}

impl Source {
    /// Names the record of the source.
    pub fn id(&self) -> Id {
        Id::of(&self.name)
    }

    /// Its folders below the part of the pattern without wildcards.
    fn folder(&self) -> &str {
        &self.name[self.folder.start as usize..self.folder.end as usize]
    }

    /// What is filled into names for it.
    pub fn fill(&self, hole: Hole) -> String {
        let path = Path::new(&*self.name);
        let part =
            |part: Option<&std::ffi::OsStr>| part.and_then(|part| part.to_str()).unwrap_or("").to_owned();
        match hole {
            Hole::Stem | Hole::Scene => part(path.file_stem()),
            Hole::Ending => part(path.extension()),
            Hole::Folder => self.folder().to_owned(),
            Hole::Source => self.name.to_string(),
            // These are filled in by what is in the file.
            of_contents => format!("{{{}}}", of_contents.name()),
        }
    }
}

/// A pattern of a recipe's sources, ready to be held against names.
struct Wanted<'a> {
    text: &'a str,
    pattern: glob::Pattern,
    fixed: PathBuf,
}

impl Wanted<'_> {
    fn all(recipe: &Recipe) -> Result<Vec<Wanted<'_>>, Failure> {
        recipe.sources.iter().map(|text| Wanted::new(text)).collect()
    }

    fn new(text: &str) -> Result<Wanted<'_>, Failure> {
        let text = text.trim_start_matches("./");
        let pattern = glob::Pattern::new(text)
            .map_err(|error| Failure::new(format!("'{text}' is no pattern: {}", error.msg)))?;
        Ok(Wanted { text, pattern, fixed: fixed_part(text) })
    }

    fn takes(&self, name: &str, path: &Path) -> bool {
        // A pattern of whole paths says them from the root on.
        let is_whole = Path::new(self.text).is_absolute();
        let told = if is_whole { path.to_string_lossy() } else { Cow::Borrowed(name) };
        self.pattern.matches_with(&told, MATCHING)
    }

    /// A file that the pattern takes, as a source.
    fn source(&self, name: &str) -> Source {
        let whole = Path::new(name).parent().and_then(Path::to_str).unwrap_or("");
        let below = Path::new(whole).strip_prefix(&self.fixed).ok().and_then(Path::to_str).unwrap_or("");
        let start = (whole.len() - below.len()) as u32;
        Source { name: name.into(), folder: start..start + below.len() as u32 }
    }
}

/// The sources that were found.
#[derive(Debug, Default)]
pub struct Found {
    /// By their names.
    pub sources: Vec<Source>,
    /// What a person may want to know: patterns that find nothing, names that are no text.
    pub notes: Vec<String>,
    /// Whether something could not be looked into, so that there may be more.
    pub has_gaps: bool,
}

/// The sources by name, each with its folders below the fixed part of its pattern. What cannot be looked into, or is called
/// by what is no text, is noted.
///
/// # Errors
/// Where a pattern is none.
pub fn found(recipe: &Recipe) -> Result<Found, Failure> {
    let base = recipe.folder();
    let mut found = Found::default();
    let mut counts = Vec::new();
    for wanted in Wanted::all(recipe)? {
        let mut count = 0;
        let before = found.sources.len();
        for path in files(base, &wanted.fixed, wanted.text) {
            let path = match path {
                Ok(path) => path,
                Err(Hindrance { said, is_gap }) => {
                    found.notes.push(said);
                    found.has_gaps |= is_gap;
                    continue;
                }
            };
            let Some(name) = name_of(&path, base) else {
                found.notes.push(format!("{}: its name is no UTF-8, so it is left aside", path.display()));
                continue;
            };
            if !wanted.takes(&name, &path) {
                continue;
            }
            count += 1;
            if !is_excepted(recipe, &name) {
                found.sources.push(wanted.source(&name));
            }
        }
        counts.push((wanted.text.to_owned(), count, before..found.sources.len()));
    }
    // Of several patterns that take a file, the first says what its folder is.
    let adds = |range: &Range<usize>| {
        let earlier: HashSet<&str> =
            found.sources[..range.start].iter().map(|source| &*source.name).collect();
        found.sources[range.clone()].iter().any(|source| !earlier.contains(&*source.name))
    };
    let mut notes = Vec::new();
    for (text, count, range) in &counts {
        if *count == 0 && recipe.sources.len() > 1 {
            notes.push(format!("no file matches '{text}'"));
        } else if *count > 0 && !adds(range) {
            notes.push(format!("'{text}' adds no source to those before it"));
        }
    }
    found.notes.extend(notes);
    found.sources.sort_by(|a, b| a.name.cmp(&b.name));
    found.sources.dedup_by(|a, b| a.name == b.name);
    found.sources.shrink_to_fit();
    Ok(found)
}

/// The source of a name, without a look at any other; `None` where there is no such file, or the recipe does not take it.
///
/// # Errors
/// Where a pattern is none.
pub fn named(recipe: &Recipe, name: &str) -> Result<Option<Source>, Failure> {
    let base = recipe.folder();
    let Some(name) = name_of(&base.join(name), base) else { return Ok(None) };
    let path = base.join(&name);
    if !path.is_file() || is_excepted(recipe, &name) {
        return Ok(None);
    }
    let wanted = Wanted::all(recipe)?;
    let taker = wanted.iter().find(|wanted| wanted.takes(&name, &path) && is_reached(&path, wanted, base));
    Ok(taker.map(|wanted| wanted.source(&name)))
}

/// Those that were asked for, by their names or by patterns; a name that is one is never a pattern.
///
/// # Errors
/// Where something that was asked for is no source.
pub fn chosen(recipe: &Recipe, asked: &[String]) -> Result<Found, Failure> {
    let mut chosen = Found::default();
    let mut patterns: Vec<&str> = Vec::new();
    for word in asked {
        if let Some(source) = named(recipe, word)? {
            chosen.sources.push(source);
            continue;
        }
        // A list says what does not show as escapes.
        if word.contains('\\')
            && let Some(shown) =
                found(recipe)?.sources.into_iter().find(|source| *visible(&source.name) == **word)
        {
            chosen.sources.push(shown);
            continue;
        }
        // Several names may stand in one word.
        for word in word.split(',').filter(|word| !word.is_empty()) {
            match named(recipe, word)? {
                Some(source) => chosen.sources.push(source),
                None => patterns.push(word),
            }
        }
    }
    if !patterns.is_empty() {
        let all = found(recipe)?;
        for pattern in patterns {
            let before = chosen.sources.len();
            chosen
                .sources
                .extend(all.sources.iter().filter(|source| matches(pattern, &source.name)).cloned());
            if chosen.sources.len() == before {
                let names = all.sources.iter().map(|source| &*source.name);
                let hint =
                    similar(pattern, names).map_or(String::new(), |name| format!(": did you mean '{name}'?"));
                let recipe = recipe.path().display();
                return Err(Failure::new(format!("no source of {recipe} is '{pattern}'{hint}")));
            }
        }
        chosen.notes = all.notes;
        chosen.has_gaps = all.has_gaps;
    }
    chosen.sources.sort_by(|a, b| a.name.cmp(&b.name));
    chosen.sources.dedup_by(|a, b| a.name == b.name);
    Ok(chosen)
}

/// A path as the recipe says it; `None` where it is no text.
fn name_of(path: &Path, base: &Path) -> Option<String> {
    let own = path.strip_prefix(base).unwrap_or(path);
    let own = own.strip_prefix(".").unwrap_or(own);
    own.to_str().map(|name| name.replace(std::path::MAIN_SEPARATOR, "/"))
}

fn is_excepted(recipe: &Recipe, name: &str) -> bool {
    recipe.except.iter().any(|except| except.matches_with(name, MATCHING))
}

/// Whether a walk along a pattern comes to a file: one of any depth follows no links to folders.
fn is_reached(path: &Path, wanted: &Wanted<'_>, base: &Path) -> bool {
    let root = base.join(&wanted.fixed);
    let mut above = path.ancestors().skip(1).take_while(|folder| *folder != root);
    !wanted.text.contains("**") || !above.any(Path::is_symlink)
}

/// Why an entry of a folder is not looked at.
struct Hindrance {
    said: String,
    /// Whether sources may be behind it.
    is_gap: bool,
}

/// The files that may match a pattern: those below its fixed part, as deep as it goes; and what cannot be looked into.
fn files(base: &Path, fixed: &Path, pattern: &str) -> impl Iterator<Item = Result<PathBuf, Hindrance>> {
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
        Ok(entry) => {
            let kind = entry.file_type();
            let is_file = kind.is_file() || kind.is_symlink() && entry.path().is_file();
            is_file.then(|| Ok(entry.into_path()))
        }
        Err(error) => {
            let place = error.path().map(|path| path.display().to_string()).unwrap_or_default();
            let why = error
                .io_error()
                .map_or_else(|| "it is a link to a folder above it".to_owned(), ToString::to_string);
            let said = format!("{place}: cannot be looked into: {why}");
            Some(Err(Hindrance { said, is_gap: error.io_error().is_some() }))
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

    #[test]
    fn names_are_filled_with_what_the_path_says() {
        let source = Wanted::new("exports/**/*.bvh").unwrap().source("exports/otter/wet/idle.v2.bvh");
        for (hole, text) in [
            (Hole::Stem, "idle.v2"),
            (Hole::Ending, "bvh"),
            (Hole::Folder, "otter/wet"),
            (Hole::Source, "exports/otter/wet/idle.v2.bvh"),
            (Hole::Clip, "{clip}"),
        ] {
            assert_eq!(source.fill(hole), text);
        }
        let flat = |pattern: &str, name: &str| Wanted::new(pattern).unwrap().source(name).fill(Hole::Folder);
        assert_eq!(flat("exports/**/*.bvh", "exports/idle.bvh"), "");
        assert_eq!(flat("*.bvh", "idle.bvh"), "");
    }
}
