//! Doing what is to be done, by shares or by claims.

use std::cmp::Reverse;
use std::time::Instant;

use nimble_curve_formats::{FormatError, reason, take_away_left_overs};

use super::dynamic::by_claims;
use super::end_table::{Detail, EndTable, Gathered, Row, Summary};
use super::locks::held;
use super::log::write_log;
use super::progress::Progress;
use crate::args::Run;
use crate::batch::{
    self, Choice, Claims, Division, Id, Job, JobRunner, Leftover, Outcome, Overwrite, Plan, Proof, Recipe,
    Records, Shard, WorkerPool, is_stopping, of_job, plan, sweep,
};
use crate::failure::Failure;
use crate::report::counted;
use crate::terminal;

/// The share of the sources that this run has, where it has one that is fixed.
fn shard(args: &Run) -> Option<Shard> {
    match args.shard {
        Some(Division::Fixed(shard)) => Some(shard),
        Some(Division::Dynamic) | None => args.shard_from,
    }
}

/// What there is to do, by the command line.
pub fn planned<'a>(args: &'a Run, recipe: &'a Recipe, records: &'a Records) -> Result<Plan<'a>, Failure> {
    let proof = if args.quick { Proof::Stamps } else { Proof::Contents };
    if args.all && args.shard == Some(Division::Dynamic) {
        return Err(Failure::new(
            "--all with --shard dynamic would have each worker do all files: take the records away instead, or say --shard K/N",
        ));
    }
    let plan =
        plan(recipe, records, Choice { only: &args.source, shard: shard(args), all: args.all, proof })?;
    plan.notes.iter().for_each(|note| terminal::remark(note));
    Ok(plan)
}

/// Does what is to be done, for a table that may become a file.
pub fn done(args: &Run, plan: &Plan<'_>, summary: Option<&Summary<'_>>) -> Result<EndTable, Failure> {
    let _held = held(args, shard(args), plan.records)?;
    tidy(plan);
    let start = Instant::now();
    let detail = match (args.json, args.rows, summary) {
        (true, ..) => Detail::Everything,
        (false, 1.., None) => Detail::Counted,
        _ => Detail::Rows,
    };
    let Gathered { mut to_do, mut rows, tally, leftovers: mut earlier } = Gathered::of(plan, detail);
    let overwrite = if args.replace { Overwrite::Always } else { Overwrite::Never };
    let runner = JobRunner::new(plan, overwrite);
    let progress = Progress::new(to_do.len());
    let crew = WorkerPool::new(to_do.len());
    let work = |job: &Job<'_>| -> Worked {
        progress.begins(job);
        let record = runner.work(job);
        progress.ends(job, &record);
        if let Some(folder) = &args.logs
            && let Err(failure) = write_log(folder, &record)
        {
            terminal::remark(&failure.to_string());
        }
        let leftovers = of_job(job.source.id(), &record);
        Worked { row: Row::done(job, record, detail), leftovers }
    };
    let goes_on = || !runner.is_full();
    let (made, elsewhere) = match args.shard {
        Some(Division::Dynamic) => {
            // So that nobody begins the longest one when all others have ended.
            let size = |job: &Job<'_>| {
                std::fs::metadata(plan.recipe.resolved(&job.source.name)).map_or(0, |m| m.len())
            };
            to_do.sort_by_cached_key(|job| Reverse(size(job)));
            by_claims(plan, &to_do, (&crew, &progress), work, goes_on)?
        }
        _ => (crew.each(&to_do.iter().collect::<Vec<_>>(), work, goes_on), 0),
    };
    progress.clear();
    if runner.is_full() {
        terminal::remark("there is no more room to write; what was not begun is left for the next run");
    }
    if elsewhere > 0 {
        terminal::remark(&format!("{} done by other workers", counted(elsewhere, "file")));
    }
    let is_claimed = args.shard == Some(Division::Dynamic) && !is_stopping() && !runner.is_full();
    for (job, worked) in to_do.into_iter().zip(made) {
        match worked {
            Some(Worked { row, leftovers }) => {
                rows.push(row);
                earlier.extend(leftovers);
            }
            // What another worker did is in that one's table.
            None if is_claimed => {}
            None => rows.push(Row::unchanged(job, detail)),
        }
    }
    rows.sort_by(|a, b| a.source.cmp(&b.source));
    // What was done is told, whatever comes after it.
    let mut leftovers = batch::leftovers(plan, earlier).unwrap_or_else(|failure| {
        terminal::remark(&format!("what earlier runs left cannot be told: {failure}"));
        Vec::new()
    });
    let pruned = if args.prune { pruned(plan, &mut leftovers) } else { Vec::new() };
    Ok(EndTable { rows, unchanged: tally, seconds: start.elapsed().as_secs_f64(), leftovers, pruned })
}

/// What came of a job, for the table.
struct Worked {
    row: Row,
    /// Files that it made once and makes no more.
    leftovers: Vec<Leftover>,
}

/// Takes away what killed runs left half written, also of sources that are gone.
fn tidy(plan: &Plan<'_>) {
    plan.littered.iter().for_each(|folder| take_away_left_overs(folder));
    if let Err(error) = Claims::tidy(&plan.claims) {
        terminal::remark(&format!("a claim of a killed worker stays: {error}"));
    }
    for (_, record) in plan.orphan_records().filter(|(_, record)| record.outcome == Outcome::Begun) {
        sweep(plan, &record);
    }
}

/// Removes files that nothing makes any more, unless they were changed since; says which, and leaves the others.
fn pruned(plan: &Plan<'_>, leftovers: &mut Vec<Leftover>) -> Vec<String> {
    if plan.has_gaps {
        terminal::remark(
            "not everything could be looked into, so that sources may be there: nothing is removed",
        );
        return Vec::new();
    }
    let mut removed = Vec::new();
    leftovers.retain(|Leftover { file, contents, .. }| {
        let path = plan.recipe.resolved(file);
        if batch::digest_of_file(&path).as_ref() != Some(contents) {
            terminal::remark(&format!("{file}: was changed since, so it stays"));
            return true;
        }
        match std::fs::remove_file(&path) {
            Ok(()) => removed.push(file.clone()),
            Err(error) => terminal::remark(&format!("{file}: cannot be removed: {}", reason(&error))),
        }
        path.exists()
    });
    if let Err(failure) = forgotten(plan, &removed, leftovers) {
        terminal::remark(&format!("what was removed is not forgotten: {failure}"));
    }
    removed
}

/// Takes away what is known of files that were removed, and of sources that are gone with all that was made of them.
fn forgotten(plan: &Plan<'_>, removed: &[String], leftovers: &[Leftover]) -> Result<(), FormatError> {
    for file in removed {
        plan.records.unmark(file)?;
    }
    let stays = |id: &Id| leftovers.iter().any(|leftover| leftover.id == *id);
    for (id, record) in plan.orphan_records().filter(|(id, _)| !stays(id)) {
        // Also of files that somebody else has taken away.
        for (file, _) in record.written() {
            if plan.records.maker(file)? == Some(id) {
                plan.records.unmark(file)?;
            }
        }
        plan.records.remove(id)?;
    }
    Ok(())
}
