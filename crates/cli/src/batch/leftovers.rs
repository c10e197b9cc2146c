//! Files of earlier runs that nothing makes any more.

use super::plan::Plan;
use super::record::{Digest, Id, Outcome, Record};
use crate::failure::Failure;

/// A file of an earlier run that nothing makes any more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leftover {
    /// The job whose record names it.
    pub id: Id,
    pub file: String,
    pub contents: Digest,
    pub why: String,
}

/// Files that a job made once and makes no more, by what its record says; whether they are there is another question. Of a
/// job that gave an error, what an earlier run made is all there is.
pub fn of_job(id: Id, record: &Record) -> Vec<Leftover> {
    if record.outcome != Outcome::Done {
        return Vec::new();
    }
    let why = format!("{} makes it no more", record.source);
    let leftover = |(file, contents): &(String, Digest)| Leftover {
        id,
        file: file.clone(),
        contents: contents.clone(),
        why: why.clone(),
    };
    record.earlier.iter().map(leftover).collect()
}

/// Files of jobs whose sources are gone.
fn of_orphans(plan: &Plan<'_>) -> Vec<Leftover> {
    let mut all = Vec::new();
    for (id, record) in plan.orphan_records() {
        all.extend(record.written().map(|(file, contents)| Leftover {
            id,
            file: file.to_owned(),
            contents: contents.clone(),
            why: format!("its source {} is gone", record.source),
        }));
    }
    all
}

/// Of files that jobs made once, and those of jobs whose sources are gone, the ones that are there and that no job makes now.
///
/// # Errors
/// Where records cannot be read.
pub fn leftovers(plan: &Plan<'_>, of_jobs: Vec<Leftover>) -> Result<Vec<Leftover>, Failure> {
    let mut all = of_jobs;
    all.extend(of_orphans(plan));
    all.sort_by(|a, b| (a.id, &a.file).cmp(&(b.id, &b.file)));
    let mut left = Vec::new();
    for leftover in all {
        let is_there = plan.recipe.resolved(&leftover.file).is_file();
        if is_there && plan.maker_besides(leftover.id, &leftover.file)?.is_none() {
            left.push(leftover);
        }
    }
    Ok(left)
}
