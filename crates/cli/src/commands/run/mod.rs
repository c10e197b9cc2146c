//! `run`: a recipe on many files.

mod end_table;
mod progress;

use std::collections::BTreeMap;
use std::fs::{File, TryLockError};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::{Duration, Instant, SystemTime};

use serde::Serialize;

use self::end_table::{EndTable, LeftoverJson, Row, Summary, print_leftovers, report};
use self::progress::Progress;
use crate::args::Run;
use crate::batch::{
    self, Choice, EXAMPLE, Job, JobRunner, Leftover, Overwrite, Plan, Recipe, Record, Records, Verdict,
    WorkerPool, is_stopping, plan, stop_at_interrupt,
};
use crate::failure::Failure;
use crate::report::{counted, print_json, print_text};
use crate::table::{Align, Table};
use crate::terminal::{self, Report, Style};

/// How often changes are looked for.
const GLANCE: Duration = Duration::from_millis(400);

pub fn run(args: &Run) -> Result<ExitCode, Failure> {
    let mut out = Report::out();
    if args.example {
        print_text(&mut out, EXAMPLE)?;
        return Ok(ExitCode::SUCCESS);
    }
    let Some(path) = &args.recipe else { return Err(Failure::new("name a recipe")) };
    let summary = args.summary.as_deref().map(Summary::new).transpose()?;
    if args.watch {
        return watch(args, path, summary.as_ref());
    }
    let recipe = Recipe::read(path)?;
    let records = Records::new(recipe.records.clone());
    let plan = planned(args, &recipe, &records)?;
    if args.list {
        for job in plan.jobs.iter().filter(|job| matches!(job.verdict, Verdict::ToDo(_) | Verdict::Broken(_)))
        {
            writeln!(out, "{}", job.source)?;
        }
        return Ok(ExitCode::SUCCESS);
    }
    if args.dry_run {
        let leftovers = plan.leftovers(&recipe, &records.all());
        print_plan(&mut out, args, &recipe, &plan, &leftovers)?;
        return Ok(ExitCode::SUCCESS);
    }
    let table = if args.merge_tables {
        EndTable::of_records(&plan, plan.leftovers(&recipe, &records.all()))
    } else {
        stop_at_interrupt()?;
        done(args, &recipe, &records, &plan)?
    };
    report(&mut out, args, &recipe, &table, summary.as_ref())?;
    Ok(table.code())
}

fn planned<'a>(args: &'a Run, recipe: &Recipe, records: &Records) -> Result<Plan<'a>, Failure> {
    let plan = plan(recipe, &records.all(), Choice { only: &args.source, shard: args.shard, all: args.all })?;
    plan.notes.iter().for_each(|note| terminal::remark(note));
    Ok(plan)
}

/// Does what is to be done.
fn done(args: &Run, recipe: &Recipe, records: &Records, plan: &Plan<'_>) -> Result<EndTable, Failure> {
    let _held = held(args, records)?;
    tidy(recipe, records, plan);
    let start = Instant::now();
    let to_do: Vec<&Job> = plan.jobs.iter().filter(|job| matches!(job.verdict, Verdict::ToDo(_))).collect();
    let overwrite = if args.replace { Overwrite::Always } else { Overwrite::Never };
    let desk = JobRunner::new(recipe, plan, records, overwrite);
    let progress = Progress::new(to_do.len());
    let crew = WorkerPool::new(args.jobs.map(usize::from), to_do.len());
    let made = crew.work_through(&to_do, |job| desk.work(job), || !desk.is_full(), &progress)?;
    progress.clear();
    if desk.is_full() {
        terminal::remark("there is no more room to write; what was not begun is left for the next run");
    }
    let mut made: BTreeMap<&str, Record> =
        to_do.iter().zip(made).filter_map(|(job, record)| Some((job.id.as_str(), record?))).collect();
    let rows = plan.jobs.iter().map(|job| Row::of(job, made.remove(job.id.as_str()))).collect();
    let now = records.all();
    let mut leftovers = plan.leftovers(recipe, &now);
    let mut removed = Vec::new();
    if args.prune {
        removed = pruned(recipe, &mut leftovers);
        let stays = |id: &String| leftovers.iter().any(|leftover| leftover.id == *id);
        plan.orphans(&now).iter().filter(|id| !stays(id)).for_each(|id| records.remove(id));
    }
    Ok(EndTable { rows, seconds: start.elapsed().as_secs_f64(), leftovers, pruned: removed })
}

/// Takes away what killed runs left half written, also of sources that are gone.
fn tidy(recipe: &Recipe, records: &Records, plan: &Plan<'_>) {
    let all = records.all();
    let orphans = plan.orphans(&all);
    for id in plan.jobs.iter().map(|job| &job.id).chain(&orphans) {
        records.tidy(id, all.get(id), |file| recipe.resolved(file));
    }
}

/// Keeps other runs of the recipe away: from all of it, or from the same share.
fn held(args: &Run, records: &Records) -> Result<Vec<File>, Failure> {
    let folder = records.made()?;
    let is_part = args.shard.is_some() || !args.source.is_empty();
    let mut files = Vec::new();
    let mut hold = |name: String, is_shared: bool| {
        let path = folder.join(name);
        let file =
            File::create(&path).map_err(|error| Failure::new(format!("{}: {error}", path.display())))?;
        let locked = if is_shared { file.try_lock_shared() } else { file.try_lock() };
        match locked {
            Err(TryLockError::WouldBlock) => Err(Failure::new(format!(
                "another run of this recipe is under way ({} is locked)",
                path.display()
            ))),
            // Where the file system knows no locks, there is none.
            _ => {
                files.push(file);
                Ok(())
            }
        }
    };
    hold("lock".to_owned(), is_part)?;
    if let Some(shard) = args.shard {
        hold(format!("lock-{}", shard.to_string().replace('/', "-of-")), false)?;
    }
    Ok(files)
}

/// Removes files that nothing makes any more, unless they were changed since; says which, and leaves the others.
fn pruned(recipe: &Recipe, leftovers: &mut Vec<Leftover>) -> Vec<String> {
    let mut removed = Vec::new();
    leftovers.retain(|Leftover { file, contents, .. }| {
        let path = recipe.resolved(file);
        if batch::digest_of_file(&path).as_ref() != Some(contents) {
            terminal::remark(&format!("{file}: was changed since, so it stays"));
            return true;
        }
        match std::fs::remove_file(&path) {
            Ok(()) => removed.push(file.clone()),
            Err(error) => terminal::remark(&format!("{file}: cannot be removed: {error}")),
        }
        path.exists()
    });
    removed
}

#[derive(Serialize)]
struct PlanJson<'a> {
    recipe: String,
    files: usize,
    to_do: Vec<ToDoJson<'a>>,
    left_from_earlier: Vec<LeftoverJson<'a>>,
}

#[derive(Serialize)]
struct ToDoJson<'a> {
    source: &'a str,
    why: &'a [String],
}

/// What would be done, and why.
fn print_plan(
    out: &mut Report,
    args: &Run,
    recipe: &Recipe,
    plan: &Plan<'_>,
    leftovers: &[Leftover],
) -> Result<(), Failure> {
    let to_do: Vec<ToDoJson<'_>> = (plan.jobs.iter())
        .filter_map(|job| match &job.verdict {
            Verdict::ToDo(why) => Some(ToDoJson { source: &job.source, why }),
            Verdict::Broken(why) => Some(ToDoJson { source: &job.source, why: std::slice::from_ref(why) }),
            Verdict::UpToDate | Verdict::FailsAsBefore => None,
        })
        .collect();
    if args.json {
        return Ok(print_json(
            out,
            &PlanJson {
                recipe: recipe.path().display().to_string(),
                files: plan.jobs.len(),
                to_do,
                left_from_earlier: LeftoverJson::all(leftovers),
            },
        )?);
    }
    let title = Style::Strong.paint(&recipe.path().display().to_string());
    let rest = plan.jobs.len() - to_do.len();
    let unchanged = if rest > 0 { format!(", {rest} unchanged") } else { String::new() };
    writeln!(out, "{title}  {} to do{unchanged}", counted(to_do.len(), "file"))?;
    let mut table = Table::new(&[("file", Align::Left), ("why", Align::Left)]);
    let most = if args.rows == 0 { usize::MAX } else { args.rows };
    for job in to_do.iter().take(most) {
        table.row([job.source.to_owned(), job.why.join(", ")]);
    }
    if !to_do.is_empty() {
        table.print(out)?;
    }
    if to_do.len() > most {
        let text = format!("and {} (--rows 0 lists all)", counted(to_do.len() - most, "more file"));
        writeln!(out, "  {}", Style::Faint.paint(&text))?;
    }
    print_leftovers(out, args, leftovers, &[])
}

/// Runs again and again, whenever something that is read has changed.
fn watch(args: &Run, path: &Path, summary: Option<&Summary<'_>>) -> Result<ExitCode, Failure> {
    stop_at_interrupt()?;
    let mut out = Report::out();
    let mut seen: Option<Vec<Glance>> = None;
    while !is_stopping() {
        let now = glances(path);
        // What is still being written, or renamed, is let come to rest.
        let is_at_rest = || {
            std::thread::sleep(GLANCE);
            glances(path) == now
        };
        if seen.as_ref() == Some(&now) || !is_at_rest() {
            std::thread::sleep(GLANCE);
            continue;
        }
        let result = Recipe::read(path).and_then(|recipe| {
            let records = Records::new(recipe.records.clone());
            let plan = planned(args, &recipe, &records)?;
            let table = done(args, &recipe, &records, &plan)?;
            report(&mut out, args, &recipe, &table, summary)
        });
        match result {
            Err(failure) if failure.is_closed_pipe() => return Err(failure),
            Err(failure) => failure.sentences().iter().for_each(|sentence| terminal::complain(sentence)),
            Ok(()) => {}
        }
        if !is_stopping() {
            terminal::remark("waiting for changes; Ctrl-C ends");
        }
        seen = Some(now);
    }
    Ok(ExitCode::SUCCESS)
}

/// A file as it is seen from outside.
type Glance = (PathBuf, Option<(SystemTime, u64)>);

/// The recipe and all files that it reads. Asking for them again and again works on any file system, network ones too.
fn glances(path: &Path) -> Vec<Glance> {
    let files = Recipe::read(path).map_or(Vec::new(), |recipe| batch::read_files(&recipe));
    let glance = |path: PathBuf| {
        let seen = std::fs::metadata(&path).ok().and_then(|meta| Some((meta.modified().ok()?, meta.len())));
        (path, seen)
    };
    std::iter::once(path.to_owned()).chain(files).map(glance).collect()
}
