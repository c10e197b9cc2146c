//! The files of a job, written each whole or not at all, and what is known of them.

use std::collections::{HashMap, HashSet};
use std::io::ErrorKind;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use nimble_curve_formats::{FormatError, reason, take_away_left_overs, write_bytes, write_bytes_only};

use super::inputs::stamps;
use super::plan::{Job, Plan};
use super::record::{Digest, Id, Made, Outcome, Record, digest_of_file};
use crate::failure::Failure;
use crate::files::make_folder;
use crate::terminal;

/// Whether files are replaced that are there and not as a run wrote them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Overwrite {
    Never,
    Always,
}

/// A file to be written.
pub struct Product {
    pub made: Made,
    pub bytes: Vec<u8>,
}

/// Why a job has no result.
pub enum JobError {
    /// What was read; it would be the same again.
    Contents(Failure),
    /// Where it was to be written, or that it could not be read: next time may be better.
    Place(Failure),
    /// What a person has to look at: another one's file, or a fault of the program.
    Blocked(Failure),
}

impl From<Failure> for JobError {
    fn from(failure: Failure) -> JobError {
        match failure.is_of_place() {
            true => JobError::Place(failure),
            false => JobError::Contents(failure),
        }
    }
}

impl From<FormatError> for JobError {
    fn from(error: FormatError) -> JobError {
        JobError::from(Failure::from(error))
    }
}

/// Writes the files of jobs, several at a time.
pub struct Writer<'a> {
    plan: &'a Plan<'a>,
    overwrite: Overwrite,
    /// The files of this run, with the sources that they are made from.
    claims: Mutex<HashMap<Id, Box<str>>>,
    is_full: AtomicBool,
}

impl<'a> Writer<'a> {
    pub fn new(plan: &'a Plan<'a>, overwrite: Overwrite) -> Writer<'a> {
        Writer { plan, overwrite, claims: Mutex::default(), is_full: AtomicBool::new(false) }
    }

    /// Whether there is no more room to write.
    pub fn is_full(&self) -> bool {
        self.is_full.load(Ordering::SeqCst)
    }

    /// Writes the files of a job, and its record before and after.
    pub fn write(
        &self,
        job: &Job<'_>,
        products: Vec<Product>,
        record: &mut Record,
        start: Instant,
    ) -> Result<(), JobError> {
        let mut to_write = Vec::new();
        for product in &products {
            let path = self.plan.recipe.resolved(&product.made.file);
            self.claim(job, &product.made.file)?;
            let there = digest_of_file(&path);
            if there.as_ref() == Some(&product.made.contents) {
                continue;
            }
            if let Some(there) = there
                && self.overwrite == Overwrite::Never
                && !self.is_ours(job, &product.made.file, &there)?
            {
                return Err(JobError::Blocked(Failure::new(format!(
                    "{} is there and is not as a run wrote it: --replace writes over it",
                    path.display()
                ))));
            }
            to_write.push((path, &product.bytes));
        }
        record.outputs = products.iter().map(|product| product.made.clone()).collect();
        record.seconds = start.elapsed().as_secs_f64();
        let id = job.source.id();
        if !to_write.is_empty() {
            self.put_record(id, record)?;
        }
        for product in &products {
            self.plan.records.mark(&product.made.file, id).map_err(|failure| self.unrecorded(failure))?;
        }
        for (path, bytes) in to_write {
            if let Some(folder) = path.parent() {
                make_folder(folder).map_err(JobError::Place)?;
            }
            self.put(bytes, &path)?;
        }
        record.outcome = Outcome::Done;
        record.stamps = stamps(self.plan.recipe, record);
        self.keep_earlier(record);
        record.seconds = start.elapsed().as_secs_f64();
        self.put_record(id, record)
    }

    /// Writes why a job has no result. Where even that cannot be written, it is told.
    pub fn write_failure(&self, job: &Job<'_>, trouble: JobError, record: &mut Record) {
        record.outputs.clear();
        let (outcome, failure) = match trouble {
            JobError::Contents(failure) => (Outcome::Failed, failure),
            JobError::Place(failure) => (Outcome::Hindered, failure),
            JobError::Blocked(failure) => (Outcome::Blocked, failure),
        };
        record.outcome = outcome;
        record.error = Some(failure.to_string());
        self.keep_earlier(record);
        // What could not be written here is told as the reason already.
        if let Err(failure) = self.plan.records.write(job.source.id(), record)
            && record.error != Some(failure.to_string())
        {
            terminal::remark(&format!("{}: what came of it is not recorded: {failure}", job.source.name));
        }
    }

    /// Leaves of the earlier files those that are there and that nothing has replaced. Where a place failed, nobody knows
    /// what is there.
    fn keep_earlier(&self, record: &mut Record) {
        let outputs: HashSet<&str> = record.outputs.iter().map(|made| made.file.as_str()).collect();
        let may_be_there =
            |file: &str| record.outcome == Outcome::Hindered || self.plan.recipe.resolved(file).is_file();
        let mut seen = HashSet::new();
        record.earlier.retain(|(file, contents)| {
            !outputs.contains(file.as_str())
                && may_be_there(file)
                && seen.insert((file.clone(), contents.clone()))
        });
    }

    fn put(&self, bytes: &[u8], path: &Path) -> Result<(), JobError> {
        let written = match self.plan.is_of_few() {
            true => write_bytes_only(bytes, path),
            false => write_bytes(bytes, path),
        };
        written.map_err(|error| {
            let FormatError::Write { source, .. } = error else { return JobError::Place(error.into()) };
            self.note_full(&source);
            JobError::Place(Failure::new(format!("its output cannot be written: {}", reason(&source))))
        })
    }

    fn put_record(&self, id: Id, record: &Record) -> Result<(), JobError> {
        self.plan.records.write(id, record).map_err(|failure| self.unrecorded(failure))
    }

    /// Why a record was not written.
    fn unrecorded(&self, failure: Failure) -> JobError {
        if let Failure::Format(FormatError::Write { source, .. }) = &failure {
            self.note_full(source);
        }
        JobError::Place(failure)
    }

    /// On a full disk, no other file will be written.
    fn note_full(&self, error: &std::io::Error) {
        if matches!(error.kind(), ErrorKind::StorageFull | ErrorKind::QuotaExceeded) {
            self.is_full.store(true, Ordering::SeqCst);
        }
    }

    /// Takes a file for a job; refused where it is a source, or another job's.
    fn claim(&self, job: &Job<'_>, file: &str) -> Result<(), JobError> {
        let refused = |text: String| Err(JobError::Contents(Failure::new(text)));
        if self.plan.is_source(file)? {
            return refused(format!("it would be written over the source {file}"));
        }
        let besides = self.plan.maker_besides(job.source.id(), file)?;
        let mut claims = self.claims.lock().unwrap_or_else(PoisonError::into_inner);
        let other = claims.get(&Id::of(file)).map(|name| &**name).or(besides.as_deref());
        if let Some(other) = other.filter(|other| *other != &*job.source.name) {
            return refused(format!(
                "{file} is written from {other} already: put {{folder}} or {{stem}} into its name"
            ));
        }
        claims.insert(Id::of(file), job.source.name.clone());
        Ok(())
    }

    /// Whether a file's contents are what a run wrote there: this job's, or one that made it before.
    fn is_ours(&self, job: &Job<'_>, file: &str, contents: &Digest) -> Result<bool, JobError> {
        let wrote = |record: &Record| record.written().any(|(own, then)| own == file && then == contents);
        if job.record.as_ref().is_some_and(|record| wrote(record)) {
            return Ok(true);
        }
        let records = self.plan.records;
        let Some(by) = records.maker(file)? else { return Ok(false) };
        Ok(records.read(by)?.is_some_and(|record| wrote(&record)))
    }
}

/// Takes away what a killed run left half written beside a job's files.
pub fn sweep(plan: &Plan<'_>, record: &Record) {
    for (file, _) in record.written() {
        if let Some(folder) = plan.recipe.resolved(file).parent() {
            take_away_left_overs(folder);
        }
    }
}
