//! What there is to do, and why.

use std::collections::hash_map::Entry;
use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;

use nimble_curve_formats::FormatError;
use rayon::prelude::*;

use super::inputs::{Inputs, Proof};
use super::recipe::{Filled, Recipe};
use super::record::{Id, Listing, Outcome, Record, Records};
use super::shard::Shard;
use super::sources::{self, Found, Source};
use crate::failure::Failure;
use crate::pattern::{Hole, Pattern};
use crate::terminal;

/// Which of a recipe's jobs are meant.
#[derive(Clone, Copy, Debug, Default)]
pub struct Choice<'a> {
    /// Sources, by path or pattern; all where there are none.
    pub only: &'a [String],
    pub shard: Option<Shard>,
    /// Whether jobs are done, too, that need not be.
    pub all: bool,
    pub proof: Proof,
}

impl Choice<'_> {
    /// Whether a job is in the share.
    fn shares(&self, id: Id) -> bool {
        self.shard.is_none_or(|shard| shard.holds(id.0))
    }
}

/// One source, and whether something is to become of it.
pub struct Job<'p> {
    pub source: &'p Source,
    pub verdict: Verdict,
    /// What came of it last time.
    pub record: Option<Box<Record>>,
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

/// All that there is to do.
pub struct Plan<'a> {
    pub recipe: &'a Recipe,
    pub records: &'a Records,
    /// Those that are meant.
    pub sources: Vec<Source>,
    pub notes: Vec<String>,
    /// Whether something could not be looked into, so that sources may be there that were not found.
    pub has_gaps: bool,
    /// The jobs that have a record and no source, of those that are meant.
    orphans: Vec<Id>,
    /// Folders of records in which killed runs may have left something.
    pub littered: Vec<PathBuf>,
    /// Claims that killed workers may have left.
    pub claims: Vec<PathBuf>,
    choice: Choice<'a>,
    inputs: Inputs<'a>,
}

/// Looks for sources, and for records whose sources are gone.
///
/// # Errors
/// Where no source is found, a chosen one is none, or two sources would be written to one file.
pub fn plan<'a>(recipe: &'a Recipe, records: &'a Records, choice: Choice<'a>) -> Result<Plan<'a>, Failure> {
    let inputs = Inputs::new(recipe, choice.proof);
    let is_all = choice.only.is_empty();
    let Found { mut sources, notes, has_gaps } = match is_all {
        true => sources::found(recipe)?,
        false => sources::chosen(recipe, choice.only)?,
    };
    let hindered = |error: FormatError| Failure::Hindered(error.to_string());
    let listing = if is_all { records.listing().map_err(hindered)? } else { Listing::default() };
    // A pattern may take in what the recipe itself has written.
    let mut hindrance = None;
    sources.retain(|source| {
        let may_be = if is_all { listing.made.contains(&source.id()) } else { true };
        let made = if may_be { is_made(records, &source.name) } else { Ok(false) };
        made.map_or_else(|error| hindrance.replace(error).is_none(), |is_made| !is_made)
    });
    if let Some(error) = hindrance {
        return Err(hindered(error));
    }
    if sources.is_empty() {
        let wanted = if is_all { &recipe.sources } else { choice.only };
        return Err(Failure::new(format!(
            "{}: no file matches {}",
            recipe.path().display(),
            wanted.join(", ")
        )));
    }
    one_output_each(recipe, &sources)?;
    let (littered, claims) = (listing.littered, listing.claims);
    let mut orphans = Vec::new();
    if is_all && !listing.jobs.is_empty() {
        let mut ids: Vec<Id> = sources.iter().map(Source::id).collect();
        ids.sort_unstable();
        orphans = listing.jobs;
        orphans.retain(|id| choice.shares(*id) && ids.binary_search(id).is_err());
    }
    if choice.shard.is_some() {
        sources.retain(|source| choice.shares(source.id()));
    }
    Ok(Plan { recipe, records, sources, notes, has_gaps, orphans, littered, claims, choice, inputs })
}

/// Whether a job has written a file, and may write it again.
fn is_made(records: &Records, file: &str) -> Result<bool, FormatError> {
    let Some(by) = records.maker(file)? else { return Ok(false) };
    Ok(records.read(by)?.is_some_and(|record| record.written().any(|(own, _)| own == file)))
}

impl<'a> Plan<'a> {
    /// The jobs in the order of their sources, each looked at as it is asked for.
    pub fn jobs(&self) -> impl IndexedParallelIterator<Item = Job<'_>> {
        self.sources.par_iter().map(|source| self.job(source))
    }

    /// A source's job, as things are now.
    pub fn job<'p>(&'p self, source: &'p Source) -> Job<'p> {
        let filled = self.recipe.filled(|hole| source.fill(hole));
        let (record, unread) = match self.records.read(source.id()) {
            Ok(record) => (record.map(Box::new), None),
            Err(error) => (None, Some(error.to_string())),
        };
        if let Some(fault) = &filled.fault {
            return Job { source, verdict: Verdict::Broken(fault.clone()), record };
        }
        let mut reasons = match &record {
            None => vec![unread.unwrap_or_else(|| "new".to_owned())],
            Some(record) => reasons(&self.inputs, &filled, source, record),
        };
        let failed = record.as_ref().is_some_and(|record| record.outcome == Outcome::Failed);
        if reasons.is_empty() && self.choice.all {
            reasons.push("all are asked for".to_owned());
        }
        let verdict = match (reasons.is_empty(), failed) {
            (false, _) => Verdict::ToDo(reasons),
            (true, true) => Verdict::FailsAsBefore,
            (true, false) => Verdict::UpToDate,
        };
        Job { source, verdict, record }
    }

    /// What a source is made from, at this moment.
    pub fn inputs(&self) -> &Inputs<'a> {
        &self.inputs
    }

    /// Whether single files were asked for, so that folders are not looked through for them.
    pub fn is_of_few(&self) -> bool {
        !self.choice.only.is_empty()
    }

    /// The jobs of those that are meant that have a record and no source, with their records. One that cannot be read is told.
    pub fn orphan_records(&self) -> impl Iterator<Item = (Id, Record)> {
        self.orphans.iter().filter_map(|id| match self.records.read(*id) {
            Ok(record) => Some((*id, record?)),
            Err(error) => {
                terminal::remark(&error.to_string());
                None
            }
        })
    }

    /// The source other than that of a job that a file is made from, where there is one.
    ///
    /// # Errors
    /// Where what says so cannot be read.
    pub fn maker_besides(&self, id: Id, file: &str) -> Result<Option<String>, Failure> {
        let Some(by) = self.records.maker(file)?.filter(|by| *by != id) else { return Ok(None) };
        let Some(record) = self.records.read(by)? else { return Ok(None) };
        let makes = record.outputs.iter().any(|made| made.file == file);
        Ok((makes && self.is_source(&record.source)?).then_some(record.source))
    }

    /// Whether a file is a source of the recipe, chosen or not, and nothing that a run has written.
    ///
    /// # Errors
    /// Where what says so cannot be read.
    pub fn is_source(&self, file: &str) -> Result<bool, Failure> {
        Ok(sources::named(self.recipe, file)?.is_some() && !is_made(self.records, file)?)
    }
}

/// Refuses recipes that would write two sources to one file, before any work is done.
fn one_output_each(recipe: &Recipe, sources: &[Source]) -> Result<(), Failure> {
    let refuse = |pattern: &Pattern| -> Result<(), Failure> {
        if pattern.needs_contents() {
            // What is in the files tells.
            return Ok(());
        }
        let file_of = |source: &Source| pattern.path(|hole| source.fill(hole));
        let mut taken: HashMap<Id, &Source> = HashMap::with_capacity(sources.len());
        for source in sources {
            let file = file_of(source);
            if sources.binary_search_by(|other| (*other.name).cmp(&file)).is_ok() {
                let name = &source.name;
                return Err(Failure::new(format!("{name} would be written over the source {file}")));
            }
            match taken.entry(Id::of(&file)) {
                Entry::Vacant(place) => drop(place.insert(source)),
                Entry::Occupied(place) => {
                    let hint = if pattern.has(Hole::Folder) { "" } else { ": put {folder} into output" };
                    let (other, name) = (&place.get().name, &source.name);
                    return Err(Failure::new(format!(
                        "{other} and {name} would both be written to {file}{hint}"
                    )));
                }
            }
        }
        Ok(())
    };
    refuse(&recipe.output)?;
    recipe.ledger.as_ref().map_or(Ok(()), refuse)
}

/// Why a job is to be done that was done before.
fn reasons(look: &Inputs<'_>, filled: &Filled, source: &Source, record: &Record) -> Vec<String> {
    let inputs = look.now(source, filled, record);
    let mut reasons = Vec::new();
    if record.outcome == Outcome::Begun {
        reasons.push("it was interrupted".to_owned());
    }
    if record.program != env!("CARGO_PKG_VERSION") {
        reasons.push(format!("version {} made it", record.program));
    }
    if record.steps != filled.steps {
        reasons.push("the recipe changed".to_owned());
    }
    for name in record.inputs.keys().chain(inputs.keys()).collect::<BTreeSet<_>>() {
        if record.inputs.get(name) != inputs.get(name)
            && (record.steps == filled.steps || **name == *source.name)
        {
            reasons.push(format!("{name} changed"));
        }
    }
    if !inputs.contains_key(&*source.name) && reasons.is_empty() {
        reasons.push("its source cannot be read".to_owned());
    }
    for made in record.outputs.iter().filter(|_| record.outcome == Outcome::Done) {
        match look.of_output(&made.file, &made.contents, record) {
            None => reasons.push(format!("{} is gone", made.file)),
            Some(digest) if digest != made.contents => reasons.push(format!("{} was changed", made.file)),
            Some(_) => {}
        }
    }
    if matches!(record.outcome, Outcome::Hindered | Outcome::Blocked) && reasons.is_empty() {
        reasons.push(format!("last time: {}", record.error.as_deref().unwrap_or("it was hindered")));
    }
    reasons
}
