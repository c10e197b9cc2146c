//! What a source is made from: its contents, and those of all files that its steps read.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use super::recipe::{Filled, Recipe};
use super::record::{Digest, Record, Stamp, digest, digest_of_file};
use super::sources::Source;

/// What says whether a file is as it was.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Proof {
    /// Its contents, each time.
    #[default]
    Contents,
    /// Its size and time; its contents where one of these is another.
    Stamps,
}

/// Looks files up that say what is made.
pub struct Inputs<'a> {
    recipe: &'a Recipe,
    proof: Proof,
    /// Rigs, maps and profiles, which many sources read, by their names.
    shared: Mutex<HashMap<String, Option<Digest>>>,
}

/// How many files that several sources read are remembered at most.
const MOST_KEPT: usize = 4096;

impl<'a> Inputs<'a> {
    pub fn new(recipe: &'a Recipe, proof: Proof) -> Inputs<'a> {
        Inputs { recipe, proof, shared: Mutex::default() }
    }

    /// The contents of all that a source is made from, by the names of files. What cannot be read is left out, and whoever
    /// reads it will say so.
    pub fn of(&self, source: &Source, filled: &Filled) -> BTreeMap<String, Digest> {
        let mut inputs = BTreeMap::new();
        let mut take_in = |name: &str, digest: Option<Digest>| {
            inputs.extend(digest.map(|digest| (name.to_owned(), digest)));
        };
        let path = self.recipe.resolved(&source.name);
        let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or("").to_ascii_lowercase();
        if matches!(ending.as_str(), "gltf" | "glb" | "usda" | "usd" | "usdc" | "usdz") {
            let folder = self.recipe.folder();
            // Only names depend on it: where nobody can say where this is, files are called as they were found.
            let whole = std::path::absolute(folder.join(".")).unwrap_or_else(|_| folder.to_owned());
            // What cannot be read ends the job, which reads it for its scene.
            let bytes = std::fs::read(&path).ok();
            take_in(&source.name, bytes.as_deref().map(digest));
            for file in bytes.map_or(Vec::new(), |bytes| nimble_curve_formats::files_beside(&bytes, &path)) {
                let name = file.strip_prefix(".").unwrap_or(&file);
                let name = name.strip_prefix(folder).or(name.strip_prefix(&whole)).unwrap_or(name);
                take_in(&name.to_string_lossy(), digest_of_file(&file));
            }
        } else {
            take_in(&source.name, digest_of_file(&path));
        }
        for (name, path) in &filled.inputs {
            take_in(name, self.shared(name, path));
        }
        inputs
    }

    /// The same, for one that was made before: where its proof allows that, contents that have the sizes and times of those days
    /// are taken for the same.
    pub fn now(&self, source: &Source, filled: &Filled, record: &Record) -> BTreeMap<String, Digest> {
        let is_as_it_was = |name: &String| self.is_as_it_was(name, record);
        match record.steps == filled.steps && record.inputs.keys().all(is_as_it_was) {
            true => record.inputs.clone(),
            false => self.of(source, filled),
        }
    }

    /// The contents of an output that was made before; `None` where it is not there.
    pub fn of_output(&self, name: &str, contents: &Digest, record: &Record) -> Option<Digest> {
        match self.is_as_it_was(name, record) {
            true => Some(contents.clone()),
            false => digest_of_file(&self.recipe.resolved(name)),
        }
    }

    fn is_as_it_was(&self, name: &str, record: &Record) -> bool {
        self.proof == Proof::Stamps
            && record
                .stamps
                .get(name)
                .is_some_and(|then| Stamp::of(&self.recipe.resolved(name)) == Some(*then))
    }

    fn shared(&self, name: &str, path: &Path) -> Option<Digest> {
        let known = |all: &HashMap<String, Option<Digest>>| all.get(name).cloned();
        if let Some(known) = known(&self.shared.lock().unwrap_or_else(PoisonError::into_inner)) {
            return known;
        }
        let digest = digest_of_file(path);
        let mut all = self.shared.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= MOST_KEPT {
            all.clear();
        }
        all.insert(name.to_owned(), digest.clone());
        digest
    }
}

/// Sizes and times of the files that a job has read and written, by their names.
pub fn stamps(recipe: &Recipe, record: &Record) -> BTreeMap<String, Stamp> {
    let stamp = |name: &str| Stamp::of(&recipe.resolved(name));
    let inputs = record.inputs.keys().map(String::as_str);
    let inputs =
        inputs.filter_map(|name| Some((name.to_owned(), stamp(name).filter(|stamp| stamp.is_settled())?)));
    let outputs = record.outputs.iter().map(|made| made.file.as_str());
    inputs.chain(outputs.filter_map(|name| Some((name.to_owned(), stamp(name)?)))).collect()
}

/// All files that a recipe reads, as far as they can be found.
pub fn read_files(recipe: &Recipe) -> Vec<PathBuf> {
    let Ok(found) = super::sources::found(recipe) else { return Vec::new() };
    let mut files: BTreeSet<PathBuf> = BTreeSet::new();
    for source in &found.sources {
        let filled = recipe.filled(|hole| source.fill(hole));
        files.extend(filled.inputs.iter().map(|(_, path)| path.clone()));
        files.insert(recipe.resolved(&source.name));
    }
    files.extend(recipe.profile.iter().map(|(_, path)| path.clone()));
    files.into_iter().collect()
}
