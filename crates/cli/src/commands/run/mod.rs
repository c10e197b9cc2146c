//! `run`: a recipe on many files.

mod dynamic;
mod end_table;
mod locks;
mod log;
mod preview;
mod progress;
mod watch;
mod work;

use std::io::Write as _;
use std::process::ExitCode;

use rayon::prelude::*;

use self::end_table::{Detail, EndTable, Summary, report};
use self::preview::print_plan;
use self::watch::watch;
use self::work::{done, planned};
use crate::args::Run;
use crate::batch::{EXAMPLE, Recipe, Records, Verdict, stop_at_interrupt, use_threads};
use crate::failure::Failure;
use crate::report::print_text;
use crate::terminal::Report;

pub fn run(args: &Run) -> Result<ExitCode, Failure> {
    let mut out = Report::out();
    if args.example {
        print_text(&mut out, EXAMPLE)?;
        return Ok(ExitCode::SUCCESS);
    }
    let Some(path) = &args.recipe else { return Err(Failure::new("name a recipe")) };
    use_threads(args.jobs.map(usize::from))?;
    let summary = args.summary.as_deref().map(Summary::new).transpose()?;
    if args.watch {
        return watch(args, path, summary.as_ref());
    }
    let recipe = Recipe::read(path)?;
    let records = Records::new(recipe.records.clone());
    let plan = planned(args, &recipe, &records)?;
    if args.list {
        let to_do = plan.jobs().filter_map(|job| match job.verdict {
            Verdict::ToDo(_) | Verdict::Broken(_) => Some(&*job.source.name),
            Verdict::UpToDate | Verdict::FailsAsBefore => None,
        });
        let to_do: Vec<&str> = to_do.collect();
        to_do.iter().try_for_each(|source| writeln!(out, "{source}"))?;
        return Ok(ExitCode::SUCCESS);
    }
    if args.dry_run {
        print_plan(&mut out, args, &plan)?;
        return Ok(ExitCode::SUCCESS);
    }
    let table = if args.merge_tables {
        EndTable::of_records(&plan, if args.json { Detail::Everything } else { Detail::Rows })?
    } else {
        stop_at_interrupt()?;
        done(args, &plan, summary.as_ref())?
    };
    if args.failed {
        table.failed().try_for_each(|source| writeln!(out, "{source}"))?;
        if let Some(summary) = &summary {
            summary.write(&table)?;
        }
        return Ok(table.code());
    }
    report(&mut out, args, &recipe, &table, summary.as_ref())?;
    Ok(table.code())
}
