//! What there is to do, and why.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use nimble_curve_core::address::matches;
use nimble_curve_core::similar::similar;
use rayon::prelude::*;

use super::recipe::{Kind, Recipe, Stage};
use super::record::{Digest, Outcome, Record, digest, digest_of_file};
use super::shard::Shard;
use super::sources;
use crate::failure::Failure;
use crate::pattern::{Hole, Pattern};
use crate::step::Stated;

/// Which of a recipe's jobs are meant.
#[derive(Clone, Copy, Debug, Default)]
pub struct Choice<'a> {
    /// Sources, by path or pattern; all where there are none.
    pub only: &'a [String],
    pub shard: Option<Shard>,
    /// Whether jobs are done, too, that need not be.
    pub all: bool,
}

impl Choice<'_> {
    /// Whether a job is meant.
    fn means(&self, id: &str, source: &str) -> bool {
        (self.only.is_empty() || self.only.iter().any(|pattern| matches(pattern, source)))
            && self.shard.is_none_or(|shard| shard.holds(number_of(id)))
    }
}

/// One source, and what is to become of it.
pub struct Job {
    /// Names the job's record and its temporary files.
    pub id: String,
    /// The source, as the recipe finds it.
    pub source: String,
    /// Where it is.
    pub path: PathBuf,
    /// Its folders below the fixed part of the pattern.
    folder: String,
    pub stages: Vec<Arc<Stage>>,
    /// What the recipe says for this source.
    pub steps: Digest,
    /// The contents of all that is read, by name.
    pub inputs: BTreeMap<String, Digest>,
    pub verdict: Verdict,
    /// What came of it last time.
    pub record: Option<Record>,
}

/// Whether a job is to be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// What it was made from is as it was, and its outputs are as they were written.
    UpToDate,
    /// It gave an error, and what it was made from is as it was.
    FailsAsBefore,
    /// It is to be done, for these reasons.
    ToDo(Vec<String>),
    /// It cannot be done: what the recipe says does not fit this source.
    Broken(String),
}

impl Job {
    /// What is filled into names for this source.
    pub fn fill(&self, hole: Hole) -> String {
        fill(&self.source, &self.folder, hole)
    }

    /// Which of unit and up axis its steps were told.
    pub fn stated(&self) -> Result<Stated, Failure> {
        let steps = self.stages.iter().filter_map(|stage| match &stage.kind {
            Kind::Work(step) => Some(step),
            Kind::Split(_) => None,
        });
        steps.map(|step| step.stated()).try_fold(Stated::default(), |all, own| Ok(all.or(own?)))
    }
}

fn fill(source: &str, folder: &str, hole: Hole) -> String {
    let path = Path::new(source);
    let part = |part: Option<&std::ffi::OsStr>| part.and_then(|part| part.to_str()).unwrap_or("").to_owned();
    match hole {
        Hole::Stem | Hole::Scene => part(path.file_stem()),
        Hole::Ending => part(path.extension()),
        Hole::Folder => folder.to_owned(),
        Hole::Source => source.to_owned(),
        // These are filled in by what is in the file.
        of_contents => format!("{{{}}}", of_contents.name()),
    }
}

/// A file of an earlier run that nothing makes any more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leftover {
    /// The job whose record names it.
    pub id: String,
    pub file: String,
    pub contents: Digest,
    pub why: String,
}

/// All that there is to do.
pub struct Plan<'a> {
    pub jobs: Vec<Job>,
    /// Every source of the recipe, whether chosen or not.
    pub sources: BTreeSet<String>,
    /// The ids of all jobs of the recipe.
    ids: BTreeSet<String>,
    choice: Choice<'a>,
    /// The files that runs have written.
    pub written: HashMap<String, Written>,
    pub notes: Vec<String>,
}

/// Looks at sources, records and outputs, and says what is to be done.
///
/// # Errors
/// Where no source is found, a chosen one is none, or two sources would be written to one file.
pub fn plan<'a>(
    recipe: &Recipe,
    records: &BTreeMap<String, Record>,
    choice: Choice<'a>,
) -> Result<Plan<'a>, Failure> {
    let mut notes = Vec::new();
    let mut found = sources::found(recipe, &mut notes)?;
    let written = written(records);
    // A pattern may take in what the recipe itself has written.
    found.retain(|source, _| !written.contains_key(source));
    if found.is_empty() {
        return Err(Failure::new(format!(
            "{}: no file matches {}",
            recipe.path().display(),
            recipe.sources.join(", ")
        )));
    }
    for pattern in choice.only {
        if !found.keys().any(|source| matches(pattern, source)) {
            let names = found.keys().map(String::as_str);
            let hint =
                similar(pattern, names).map_or(String::new(), |name| format!(": did you mean '{name}'?"));
            return Err(Failure::new(format!(
                "no source of {} is '{pattern}'{hint}",
                recipe.path().display()
            )));
        }
    }
    one_output_each(recipe, &found)?;
    let shared = Mutex::new(HashMap::new());
    let jobs: Vec<Job> = found
        .par_iter()
        .map(|(source, folder)| (id_of(source), source, folder))
        .filter(|(id, source, _)| choice.means(id, source))
        .map(|(id, source, folder)| {
            let record = records.get(&id).cloned();
            job(recipe, id, source, folder, record, choice.all, &shared)
        })
        .collect();
    let ids = found.keys().map(|source| id_of(source)).collect();
    Ok(Plan { jobs, sources: found.into_keys().collect(), ids, choice, written, notes })
}

impl Plan<'_> {
    /// The other source that a file is made from, by what the records said at the start.
    pub fn maker_besides(&self, job: &Job, file: &str) -> Option<&str> {
        let written = self.written.get(file)?;
        let is_other = written.is_made && written.id != job.id && self.ids.contains(&written.id);
        is_other.then_some(written.source.as_str())
    }

    /// The jobs that have a record and no source.
    pub fn orphans(&self, records: &BTreeMap<String, Record>) -> Vec<String> {
        let is_orphan = |(id, record): &(&String, &Record)| {
            !self.ids.contains(*id) && self.choice.means(id, &record.source)
        };
        records.iter().filter(is_orphan).map(|(id, _)| id.clone()).collect()
    }

    /// The files of earlier runs that nothing makes any more, by what the records say now.
    pub fn leftovers(&self, recipe: &Recipe, records: &BTreeMap<String, Record>) -> Vec<Leftover> {
        let written = written(records);
        let mut leftovers = Vec::new();
        for (id, record) in records.iter().filter(|(id, record)| self.choice.means(id, &record.source)) {
            let is_orphan = !self.ids.contains(id);
            let files: Vec<(&str, &Digest)> = match is_orphan {
                true => record.written().collect(),
                // Of a job that gave an error, what an earlier run made is all there is.
                false if record.outcome == Outcome::Done => {
                    record.earlier.iter().map(|(file, contents)| (file.as_str(), contents)).collect()
                }
                false => Vec::new(),
            };
            let why = match is_orphan {
                true => format!("its source {} is gone", record.source),
                false => format!("{} makes it no more", record.source),
            };
            for (file, contents) in files {
                let is_made =
                    written.get(file).is_some_and(|other| other.id != *id && self.ids.contains(&other.id));
                if !is_made && recipe.resolved(file).is_file() {
                    let (id, why) = (id.clone(), why.clone());
                    let (file, contents) = (file.to_owned(), contents.clone());
                    leftovers.push(Leftover { id, file, contents, why });
                }
            }
        }
        leftovers
    }
}

/// The id of a source's job.
fn id_of(source: &str) -> String {
    digest(source.as_bytes())[..16].to_owned()
}

/// An id as a number, for shares.
fn number_of(id: &str) -> u64 {
    u64::from_str_radix(id, 16).unwrap_or(0)
}

/// A file that runs have written.
pub struct Written {
    /// The job that makes it; the last that made it where none does any more.
    id: String,
    source: String,
    is_made: bool,
    /// All contents that it may have.
    pub contents: Vec<Digest>,
}

/// The files that runs have written, by name.
fn written(records: &BTreeMap<String, Record>) -> HashMap<String, Written> {
    let mut all: HashMap<String, Written> = HashMap::new();
    for (id, record) in records {
        let made: BTreeSet<&str> = record.outputs.iter().map(|made| made.file.as_str()).collect();
        for (file, contents) in record.written() {
            let is_made = made.contains(file);
            let by =
                || Written { id: id.clone(), source: record.source.clone(), is_made, contents: Vec::new() };
            let entry = all.entry(file.to_owned()).or_insert_with(by);
            if is_made && !entry.is_made {
                *entry = Written { contents: std::mem::take(&mut entry.contents), ..by() };
            }
            entry.contents.push(contents.clone());
        }
    }
    all
}

/// All files that a recipe reads, as far as they can be found.
pub fn read_files(recipe: &Recipe) -> Vec<PathBuf> {
    let Ok(found) = sources::found(recipe, &mut Vec::new()) else { return Vec::new() };
    let mut files: BTreeSet<PathBuf> = BTreeSet::new();
    for (source, folder) in &found {
        let stages = recipe.stages(|hole| fill(source, folder, hole)).unwrap_or_default();
        files.extend(stages.iter().flat_map(|stage| &stage.inputs).map(|(_, path)| path.clone()));
        files.insert(recipe.resolved(source));
    }
    files.extend(recipe.profile.iter().map(|(_, path)| path.clone()));
    files.into_iter().collect()
}

/// Refuses recipes that would write two sources to one file, before any work is done.
fn one_output_each(recipe: &Recipe, found: &BTreeMap<String, String>) -> Result<(), Failure> {
    let refuse = |pattern: &Pattern| -> Result<(), Failure> {
        if pattern.needs_contents() {
            // What is in the files tells.
            return Ok(());
        }
        let mut taken: HashMap<String, &str> = HashMap::new();
        for (source, folder) in found {
            let file = pattern.path(|hole| fill(source, folder, hole));
            if found.contains_key(&file) {
                return Err(Failure::new(format!("{source} would be written over the source {file}")));
            }
            if let Some(other) = taken.insert(file.clone(), source) {
                let hint = if pattern.has(Hole::Folder) { "" } else { ": put {folder} into output" };
                return Err(Failure::new(format!(
                    "{other} and {source} would both be written to {file}{hint}"
                )));
            }
        }
        Ok(())
    };
    refuse(&recipe.output)?;
    recipe.ledger.as_ref().map_or(Ok(()), refuse)
}

fn job(
    recipe: &Recipe,
    id: String,
    source: &str,
    folder: &str,
    record: Option<Record>,
    all: bool,
    shared: &Mutex<HashMap<PathBuf, Option<Digest>>>,
) -> Job {
    let path = recipe.resolved(source);
    let stages = recipe.stages(|hole| fill(source, folder, hole));
    let mut job = Job {
        id,
        source: source.to_owned(),
        path,
        folder: folder.to_owned(),
        stages: Vec::new(),
        steps: Digest::new(),
        inputs: BTreeMap::new(),
        verdict: Verdict::UpToDate,
        record,
    };
    match stages {
        Ok(stages) => job.stages = stages,
        Err(failure) => {
            job.verdict = Verdict::Broken(failure.to_string());
            return job;
        }
    }
    let said: Vec<&str> = std::iter::once(recipe.said.as_str())
        .chain(job.stages.iter().map(|stage| stage.said.as_str()))
        .collect();
    job.steps = digest(said.join("\n").as_bytes());
    job.inputs = inputs(recipe, &job, shared);
    let mut reasons = reasons(recipe, &job);
    let failed = job.record.as_ref().is_some_and(|record| record.outcome == Outcome::Failed);
    if reasons.is_empty() && all {
        reasons.push("all are asked for".to_owned());
    }
    job.verdict = match (reasons.is_empty(), failed) {
        (false, _) => Verdict::ToDo(reasons),
        (true, true) => Verdict::FailsAsBefore,
        (true, false) => Verdict::UpToDate,
    };
    job
}

/// The contents of all that a job reads. What cannot be read is left out, and the job will say so.
fn inputs(
    recipe: &Recipe,
    job: &Job,
    shared: &Mutex<HashMap<PathBuf, Option<Digest>>>,
) -> BTreeMap<String, Digest> {
    let mut inputs = BTreeMap::new();
    let mut take_in = |name: &str, digest: Option<Digest>| {
        inputs.extend(digest.map(|digest| (name.to_owned(), digest)));
    };
    let ending = job.path.extension().and_then(|ending| ending.to_str()).unwrap_or("").to_ascii_lowercase();
    if matches!(ending.as_str(), "gltf" | "glb" | "usda" | "usd" | "usdc" | "usdz") {
        let whole = std::path::absolute(recipe.folder()).unwrap_or_else(|_| recipe.folder().to_owned());
        let bytes = std::fs::read(&job.path).ok();
        take_in(&job.source, bytes.as_deref().map(digest));
        for file in bytes.map_or(Vec::new(), |bytes| nimble_curve_formats::files_beside(&bytes, &job.path)) {
            let name = file.strip_prefix(".").unwrap_or(&file);
            let name = name.strip_prefix(recipe.folder()).or(name.strip_prefix(&whole)).unwrap_or(name);
            take_in(&name.to_string_lossy(), digest_of_file(&file));
        }
    } else {
        take_in(&job.source, digest_of_file(&job.path));
    }
    // Maps, rigs and profiles are read once for all jobs that name them.
    let profile = recipe.profile.iter().filter(|(_, path)| path.is_file());
    for (name, path) in job.stages.iter().flat_map(|stage| &stage.inputs).chain(profile) {
        let mut shared = shared.lock().unwrap_or_else(PoisonError::into_inner);
        let digest = shared.entry(path.clone()).or_insert_with(|| digest_of_file(path)).clone();
        take_in(name, digest);
    }
    inputs
}

/// Why a job is to be done.
fn reasons(recipe: &Recipe, job: &Job) -> Vec<String> {
    let Some(record) = &job.record else { return vec!["new".to_owned()] };
    let mut reasons = Vec::new();
    if record.outcome == Outcome::Begun {
        reasons.push("it was interrupted".to_owned());
    }
    if record.program != env!("CARGO_PKG_VERSION") {
        reasons.push(format!("version {} made it", record.program));
    }
    if record.steps != job.steps {
        reasons.push("the recipe changed".to_owned());
    }
    for name in record.inputs.keys().chain(job.inputs.keys()).collect::<BTreeSet<_>>() {
        if record.inputs.get(name) != job.inputs.get(name)
            && (record.steps == job.steps || *name == job.source)
        {
            reasons.push(format!("{name} changed"));
        }
    }
    if !job.inputs.contains_key(&job.source) && reasons.is_empty() {
        reasons.push("its source cannot be read".to_owned());
    }
    for made in record.outputs.iter().filter(|_| record.outcome == Outcome::Done) {
        match digest_of_file(&recipe.resolved(&made.file)) {
            None => reasons.push(format!("{} is gone", made.file)),
            Some(digest) if digest != made.contents => reasons.push(format!("{} was changed", made.file)),
            Some(_) => {}
        }
    }
    reasons
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_filled_with_what_the_path_says() {
        let filled = |hole| fill("exports/otter/idle.v2.bvh", "otter", hole);
        assert_eq!(filled(Hole::Stem), "idle.v2");
        assert_eq!(filled(Hole::Ending), "bvh");
        assert_eq!(filled(Hole::Folder), "otter");
        assert_eq!(filled(Hole::Source), "exports/otter/idle.v2.bvh");
        assert_eq!(filled(Hole::Clip), "{clip}");
    }
}
