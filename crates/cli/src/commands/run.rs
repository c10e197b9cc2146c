//! `run`: a recipe on many files.

use std::collections::BTreeMap;
use std::fs::{File, TryLockError};
use std::io::{IsTerminal as _, Write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use indicatif::{ProgressBar, ProgressStyle};
use nimble_curve_formats::sheet::{SheetFormat, sheet_text};
use serde::Serialize;
use serde_json::{Value, json};

use crate::args::Run;
use crate::batch::{
    self, Choice, Crew, Desk, EXAMPLE, Job, Leftover, Made, Onlooker, Outcome, Overwrite, Plan, Recipe,
    Record, Records, Verdict, is_stopping, plan, stop_at_interrupt,
};
use crate::failure::Failure;
use crate::report::{counted, listed, print_json, short};
use crate::table::{Align, Table};
use crate::terminal::{self, Report, Style};

/// How often changes are looked for.
const GLANCE: Duration = Duration::from_millis(400);

pub fn run(args: &Run) -> Result<ExitCode, Failure> {
    let mut out = Report::out();
    if args.example {
        out.write_all(EXAMPLE.as_bytes())?;
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
    let plan = plan(recipe, &records.all(), Choice { only: &args.only, shard: args.shard, all: args.all })?;
    plan.notes.iter().for_each(|note| terminal::remark(note));
    Ok(plan)
}

/// Does what is to be done.
fn done(args: &Run, recipe: &Recipe, records: &Records, plan: &Plan<'_>) -> Result<EndTable, Failure> {
    let _held = held(args, records)?;
    let start = Instant::now();
    let to_do: Vec<&Job> = plan.jobs.iter().filter(|job| matches!(job.verdict, Verdict::ToDo(_))).collect();
    let overwrite = if args.replace { Overwrite::Always } else { Overwrite::Never };
    let desk = Desk::new(recipe, plan, records, overwrite);
    let progress = Progress::new(to_do.len());
    let crew = Crew::new(args.jobs.map(usize::from), to_do.len());
    let made = crew.work_through(&to_do, |job| desk.work(job), &progress)?;
    progress.clear();
    let mut made: BTreeMap<&str, Record> =
        to_do.iter().zip(made).filter_map(|(job, record)| Some((job.id.as_str(), record?))).collect();
    let row = |job: &Job| {
        let record = made.remove(job.id.as_str());
        match (&job.verdict, record) {
            (Verdict::ToDo(why), Some(record)) => Row {
                source: job.source.clone(),
                state: if record.outcome == Outcome::Done { State::Done } else { State::Failed },
                why: why.clone(),
                has_earlier: record.outcome != Outcome::Done && !record.earlier.is_empty(),
                record: Some(record),
            },
            _ => Row::unchanged(job),
        }
    };
    let rows = plan.jobs.iter().map(row).collect();
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

/// Keeps other runs of the recipe away: from all of it, or from the same share.
fn held(args: &Run, records: &Records) -> Result<Vec<File>, Failure> {
    let folder = records.made()?;
    let is_part = args.shard.is_some() || !args.only.is_empty();
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

/// Progress for whoever waits: a bar in a terminal, else a line a file.
struct Progress {
    bar: Option<ProgressBar>,
    count: usize,
    state: Mutex<(Vec<String>, usize)>,
}

impl Progress {
    fn new(count: usize) -> Progress {
        let bar = (std::io::stderr().is_terminal() && count > 0).then(|| {
            let bar = ProgressBar::new(count as u64);
            let style = "  {bar:24} {pos} of {len} files, {eta} left  {wide_msg:.dim}";
            if let Ok(style) = ProgressStyle::with_template(style) {
                bar.set_style(style.progress_chars("━━╌"));
            }
            bar.enable_steady_tick(Duration::from_millis(200));
            bar
        });
        Progress { bar, count, state: Mutex::default() }
    }

    fn clear(&self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }

    fn shown(bar: &ProgressBar, current: &[String]) {
        let names: Vec<&str> = current.iter().map(String::as_str).collect();
        bar.set_message(listed(&names, 3));
    }
}

impl Onlooker for Progress {
    fn begins(&self, job: &Job) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.0.push(job.source.clone());
        if let Some(bar) = &self.bar {
            Progress::shown(bar, &state.0);
        }
    }

    fn ends(&self, job: &Job, record: &Record) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.0.retain(|source| *source != job.source);
        state.1 += 1;
        match &self.bar {
            Some(bar) => {
                bar.inc(1);
                Progress::shown(bar, &state.0);
            }
            None => {
                let width = self.count.to_string().len();
                let line = format!("[{:>width$}/{}] {}", state.1, self.count, job.source);
                let said = match &record.error {
                    Some(error) => format!("failed: {error}"),
                    None => {
                        let (before, after) = keys(record);
                        format!("{before} → {after} keys, {:.2} s", record.seconds)
                    }
                };
                let _ = writeln!(anstream::stderr(), "{line}  {said}");
            }
        }
    }
}

/// How many keys and samples there were, and are.
fn keys(record: &Record) -> (usize, usize) {
    let outputs = record.outputs.iter();
    outputs.fold((0, 0), |(before, after), made| (before + made.before, after + made.after))
}

/// What became of one source.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
enum State {
    Done,
    Unchanged,
    Failed,
    NotDone,
}

impl State {
    fn name(self) -> &'static str {
        match self {
            State::Done => "done",
            State::Unchanged => "unchanged",
            State::Failed => "failed",
            State::NotDone => "not done",
        }
    }
}

struct Row {
    source: String,
    state: State,
    /// Why it was done, or is to be.
    why: Vec<String>,
    /// Whether outputs of an earlier run stand where this one has none.
    has_earlier: bool,
    record: Option<Record>,
}

impl Row {
    /// The row of a job that nothing was done on.
    fn unchanged(job: &Job) -> Row {
        let record = job.record.clone();
        let (state, why) = match &job.verdict {
            Verdict::UpToDate => (State::Unchanged, Vec::new()),
            Verdict::FailsAsBefore => (State::Failed, vec!["as before".to_owned()]),
            Verdict::ToDo(why) => (State::NotDone, why.clone()),
            Verdict::Broken(why) => (State::Failed, vec![why.clone()]),
        };
        let has_earlier =
            state == State::Failed && record.as_ref().is_some_and(|record| !record.earlier.is_empty());
        Row { source: job.source.clone(), state, why, has_earlier, record }
    }

    fn made(&self) -> impl Iterator<Item = &Made> {
        let is_shown = matches!(self.state, State::Done | State::Unchanged);
        let outputs = self.record.iter().filter(move |_| is_shown).flat_map(|record| &record.outputs);
        outputs.filter(|made| made.is_animation)
    }

    fn error(&self) -> Option<&str> {
        if self.state != State::Failed {
            return None;
        }
        let recorded = self.record.as_ref().and_then(|record| record.error.as_deref());
        recorded.or_else(|| self.why.first().map(String::as_str))
    }

    fn seconds(&self) -> Option<f64> {
        self.record.as_ref().filter(|_| self.state == State::Done).map(|record| record.seconds)
    }

    fn rank(&self) -> usize {
        match self.state {
            State::Failed => 0,
            State::NotDone => 1,
            _ if self.needs_a_look() => 2,
            State::Done => 3,
            State::Unchanged => 4,
        }
    }

    fn needs_a_look(&self) -> bool {
        self.made().any(Made::needs_a_look)
    }
}

/// What became of everything.
struct EndTable {
    rows: Vec<Row>,
    seconds: f64,
    leftovers: Vec<Leftover>,
    pruned: Vec<String>,
}

impl EndTable {
    /// What the records say, whichever run they are from.
    fn of_records(plan: &Plan<'_>, leftovers: Vec<Leftover>) -> EndTable {
        let rows: Vec<Row> = plan.jobs.iter().map(Row::unchanged).collect();
        let seconds = rows.iter().filter_map(|row| row.record.as_ref()).map(|record| record.seconds).sum();
        EndTable { rows, seconds, leftovers, pruned: Vec::new() }
    }

    fn count(&self, state: State) -> usize {
        self.rows.iter().filter(|row| row.state == state).count()
    }

    fn code(&self) -> ExitCode {
        if is_stopping() {
            return ExitCode::from(130);
        }
        let is_whole = self.count(State::Failed) == 0 && self.count(State::NotDone) == 0;
        if is_whole { ExitCode::SUCCESS } else { ExitCode::FAILURE }
    }
}

/// A file for the table.
struct Summary<'a> {
    path: &'a Path,
    format: SheetFormat,
}

impl<'a> Summary<'a> {
    fn new(path: &'a Path) -> Result<Summary<'a>, Failure> {
        let format = SheetFormat::of(path)
            .ok_or_else(|| Failure::new(format!("{}: summaries are .md, .csv or .json", path.display())))?;
        Ok(Summary { path, format })
    }

    fn write(&self, table: &EndTable) -> Result<(), Failure> {
        let headings = [
            "file",
            "clip",
            "output",
            "state",
            "keys_before",
            "keys_after",
            "rotation_deg",
            "position_mm",
            "scalar",
            "left_out",
            "to_look_at",
            "seconds",
        ];
        let rounded = |value: Option<f64>| value.map(|value| (value * 1e6).round() / 1e6);
        let mut rows = Vec::new();
        for row in &table.rows {
            let seconds = json!(rounded(row.seconds()));
            let mut is_empty = true;
            for made in row.made() {
                is_empty = false;
                let left_out: Vec<&str> = made.left_out.iter().map(|left| left.channel.as_str()).collect();
                rows.push(vec![
                    json!(row.source),
                    json!(made.clip.as_ref().or(made.take.as_ref())),
                    json!(made.file),
                    json!(row.state.name()),
                    json!(made.before),
                    json!(made.after),
                    json!(rounded(made.rotation_deg)),
                    json!(rounded(made.position_mm)),
                    json!(rounded(made.scalar)),
                    json!(left_out.join(", ")),
                    json!(made.warnings.join("; ")),
                    seconds.clone(),
                ]);
            }
            if is_empty {
                let said = row.error().map_or_else(|| row.why.join("; "), str::to_owned);
                let mut cells = vec![Value::Null; headings.len()];
                cells[0] = json!(row.source);
                cells[3] = json!(row.state.name());
                cells[10] = json!(said);
                cells[11] = seconds;
                rows.push(cells);
            }
        }
        let text = sheet_text(&headings, &rows, self.format);
        Ok(nimble_curve_formats::write_bytes(text.as_bytes(), self.path)?)
    }
}

#[derive(Serialize)]
struct RunJson<'a> {
    recipe: String,
    files: usize,
    done: usize,
    unchanged: usize,
    failed: usize,
    not_done: usize,
    seconds: f64,
    rows: Vec<RowJson<'a>>,
    left_from_earlier: Vec<LeftoverJson<'a>>,
    removed: &'a [String],
}

#[derive(Serialize)]
struct RowJson<'a> {
    source: &'a str,
    state: State,
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    why: &'a [String],
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    seconds: Option<f64>,
    outputs: Vec<&'a Made>,
}

#[derive(Serialize)]
struct LeftoverJson<'a> {
    file: &'a str,
    why: &'a str,
}

impl<'a> LeftoverJson<'a> {
    fn all(leftovers: &'a [Leftover]) -> Vec<LeftoverJson<'a>> {
        leftovers.iter().map(|leftover| LeftoverJson { file: &leftover.file, why: &leftover.why }).collect()
    }
}

fn report(
    out: &mut Report,
    args: &Run,
    recipe: &Recipe,
    table: &EndTable,
    summary: Option<&Summary<'_>>,
) -> Result<(), Failure> {
    if let Some(summary) = summary {
        summary.write(table)?;
    }
    if args.json {
        let rows = table.rows.iter().map(|row| RowJson {
            source: &row.source,
            state: row.state,
            why: &row.why,
            error: row.error(),
            seconds: row.seconds(),
            outputs: row.made().collect(),
        });
        return Ok(print_json(
            out,
            &RunJson {
                recipe: recipe.path().display().to_string(),
                files: table.rows.len(),
                done: table.count(State::Done),
                unchanged: table.count(State::Unchanged),
                failed: table.count(State::Failed),
                not_done: table.count(State::NotDone),
                seconds: table.seconds,
                rows: rows.collect(),
                left_from_earlier: LeftoverJson::all(&table.leftovers),
                removed: &table.pruned,
            },
        )?);
    }
    // What is unchanged was told when it was made.
    let is_told = |row: &&Row| row.state != State::Unchanged || args.merge_tables || args.most == 0;
    let rows: Vec<&Row> = table.rows.iter().filter(is_told).collect();
    print_table(out, args, recipe, &rows)?;
    print_to_look_at(out, &rows)?;
    print_leftovers(out, args, &table.leftovers, &table.pruned)?;
    print_totals(out, args, table)
}

fn print_table(out: &mut impl Write, args: &Run, recipe: &Recipe, rows: &[&Row]) -> Result<(), Failure> {
    writeln!(out, "{}", Style::Strong.paint(&recipe.path().display().to_string()))?;
    let mut rows = rows.to_vec();
    rows.sort_by_key(|row| row.rank());
    let urgent = rows.iter().filter(|row| row.rank() < 3).count();
    let most = if args.most == 0 { usize::MAX } else { urgent + args.most };
    let mut shown = Table::new(&[
        ("file", Align::Left),
        ("clip", Align::Left),
        ("state", Align::Left),
        ("keys before", Align::Right),
        ("after", Align::Right),
        ("largest error", Align::Right),
        ("left out", Align::Right),
        ("time", Align::Right),
    ]);
    for row in rows.iter().take(most) {
        let time = row.seconds().map_or(String::new(), |seconds| format!("{seconds:.2} s"));
        let mut first = true;
        for made in row.made() {
            let clip = made.clip.as_ref().or(made.take.as_ref()).cloned().unwrap_or_default();
            let left_out = made.left_out.len();
            let cells = [
                row.source.clone(),
                clip,
                row.state.name().to_owned(),
                made.before.to_string(),
                made.after.to_string(),
                largest(made),
                if left_out > 0 { counted(left_out, "track") } else { String::new() },
                if first { time.clone() } else { String::new() },
            ];
            first = false;
            if made.needs_a_look() { shown.styled(Style::Warn, cells) } else { shown.row(cells) }
        }
        if first {
            let mut cells = vec![String::new(); 8];
            cells[0].clone_from(&row.source);
            row.state.name().clone_into(&mut cells[2]);
            cells[7] = time;
            shown.styled(if row.state == State::Failed { Style::Bad } else { Style::Warn }, cells);
        }
    }
    if !rows.is_empty() {
        shown.without_empty_columns().print(out)?;
    }
    if rows.len() > most {
        let text =
            format!("and {} that need no look (--most 0 lists all)", counted(rows.len() - most, "more file"));
        writeln!(out, "  {}", Style::Faint.paint(&text))?;
    }
    Ok(())
}

/// The largest errors: of rotations, of positions, of numbers.
fn largest(made: &Made) -> String {
    let said = |value: Option<f64>, unit: &str| {
        value.filter(|value| *value > 0.0).map(|value| format!("{}{unit}", short(value)))
    };
    let all = [said(made.rotation_deg, " deg"), said(made.position_mm, " mm"), said(made.scalar, "")];
    all.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// What a person should look at, a line each.
fn print_to_look_at(out: &mut impl Write, rows: &[&Row]) -> Result<(), Failure> {
    let mut lines = Vec::new();
    for row in rows {
        if let Some(error) = row.error() {
            // The file is named once.
            let error = error.strip_prefix(&format!("{}: ", row.source)).unwrap_or(error);
            let stays = if row.has_earlier { "; what an earlier run made of it stays" } else { "" };
            lines.push((Style::Bad, row.source.clone(), format!("{error}{stays}")));
        }
        if row.state == State::NotDone {
            lines.push((Style::Warn, row.source.clone(), format!("not done: {}", row.why.join(", "))));
        }
        for made in row.made() {
            let name = match made.clip.as_ref().or(made.take.as_ref()) {
                Some(clip) => format!("{} {clip}", row.source),
                None => row.source.clone(),
            };
            let mut by_reason: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
            for left in &made.left_out {
                by_reason.entry(&left.why).or_default().push(&left.channel);
            }
            for (why, channels) in by_reason {
                lines.push((Style::Warn, name.clone(), format!("left out, {why}: {}", listed(&channels, 4))));
            }
            lines.extend(made.warnings.iter().map(|warning| (Style::Warn, name.clone(), warning.clone())));
        }
    }
    if !lines.is_empty() {
        writeln!(out)?;
    }
    // The same said of many files is said once.
    let mut said: Vec<(Style, String, Vec<String>)> = Vec::new();
    for (style, name, text) in lines {
        match said.iter_mut().find(|(own, other, _)| *own == style && *other == text) {
            Some((.., names)) => names.push(name),
            None => said.push((style, text, vec![name])),
        }
    }
    for (style, text, names) in &said {
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        writeln!(out, "  {}  {text}", style.paint(&listed(&names, 3)))?;
    }
    Ok(())
}

fn print_leftovers(
    out: &mut impl Write,
    args: &Run,
    leftovers: &[Leftover],
    removed: &[String],
) -> Result<(), Failure> {
    if !removed.is_empty() {
        let names: Vec<&str> = removed.iter().map(String::as_str).collect();
        writeln!(out, "  {} removed: {}", counted(names.len(), "file"), listed(&names, 4))?;
    }
    if args.prune || leftovers.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    for Leftover { file, why, .. } in leftovers.iter().take(6) {
        writeln!(out, "  {}  {why}", Style::Warn.paint(file))?;
    }
    let more = leftovers.len().saturating_sub(6);
    let more = if more > 0 { format!("and {more} more; ") } else { String::new() };
    writeln!(out, "  {}", Style::Faint.paint(&format!("{more}--prune removes what nothing makes any more")))?;
    Ok(())
}

fn print_totals(out: &mut impl Write, args: &Run, table: &EndTable) -> Result<(), Failure> {
    let (mut before, mut after) = (0, 0);
    let mut error: [Option<f64>; 3] = [None; 3];
    for made in table.rows.iter().flat_map(Row::made) {
        before += made.before;
        after += made.after;
        for (most, own) in error.iter_mut().zip([made.rotation_deg, made.position_mm, made.scalar]) {
            *most = [*most, own].into_iter().flatten().reduce(f64::max);
        }
    }
    let states = [State::Done, State::Unchanged, State::Failed, State::NotDone];
    let counts: Vec<String> = states
        .into_iter()
        .map(|state| (state, table.count(state)))
        .filter(|(_, count)| *count > 0)
        .map(|(state, count)| format!("{count} {}", state.name()))
        .collect();
    let worst = Made { rotation_deg: error[0], position_mm: error[1], scalar: error[2], ..Made::default() };
    let largest = match largest(&worst) {
        text if text.is_empty() => String::new(),
        text => format!("; largest error {text}"),
    };
    let quiet = |row: &&Row| row.state == State::Unchanged && row.needs_a_look();
    let to_look_at = match table.rows.iter().filter(quiet).count() {
        0 => String::new(),
        count => format!(" ({count} with something to look at: --merge-tables lists them)"),
    };
    let to_look_at = if args.merge_tables || args.most == 0 { String::new() } else { to_look_at };
    let text = format!(
        "{}: {}{to_look_at}; {before} keys and samples became {after}{largest}; {:.1} s",
        counted(table.rows.len(), "file"),
        counts.join(", "),
        table.seconds
    );
    let is_whole = table.count(State::Failed) + table.count(State::NotDone) == 0;
    writeln!(out, "  {}", if is_whole { Style::Good } else { Style::Bad }.paint(&text))?;
    Ok(())
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
    let most = if args.most == 0 { usize::MAX } else { args.most };
    for job in to_do.iter().take(most) {
        table.row([job.source.to_owned(), job.why.join(", ")]);
    }
    if !to_do.is_empty() {
        table.print(out)?;
    }
    if to_do.len() > most {
        let text = format!("and {} (--most 0 lists all)", counted(to_do.len() - most, "more file"));
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
