//! The table at the end of a run: what became of every file, and what needs a look.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;

use nimble_curve_formats::sheet::{SheetFormat, sheet_text};
use serde::Serialize;
use serde_json::{Value, json};

use crate::args::Run;
use crate::batch::{Job, Leftover, Made, Outcome, Plan, Recipe, Record, Verdict, is_stopping};
use crate::failure::Failure;
use crate::report::{self, counted, listed, print_json, short};
use crate::table::{Align, Table};
use crate::terminal::Line;
use crate::terminal::{Report, Style};

/// What became of one source.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
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

/// In which order rows are listed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Rank {
    Failed,
    NotDone,
    ToLookAt,
    Done,
    Unchanged,
}

pub struct Row {
    source: String,
    state: State,
    /// Why it was done, or is to be.
    why: Vec<String>,
    /// Whether outputs of an earlier run stand where this one has none.
    has_earlier: bool,
    record: Option<Record>,
}

impl Row {
    /// The row of a job that was to be done: of what came of it, or without it where it was not begun any more.
    pub fn of(job: &Job, record: Option<Record>) -> Row {
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
    }

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

    fn rank(&self, remarks: &Remarks<'_>) -> Rank {
        match self.state {
            State::Failed => Rank::Failed,
            State::NotDone => Rank::NotDone,
            _ if remarks.single.contains(self.source.as_str()) => Rank::ToLookAt,
            State::Done => Rank::Done,
            State::Unchanged => Rank::Unchanged,
        }
    }

    /// What a person should look at: how it stands out, the file, and what there is to say.
    fn remarks(&self) -> Vec<(Style, String, String)> {
        let mut lines = Vec::new();
        if let Some(error) = self.error() {
            let stays = if self.has_earlier { "; what an earlier run made of it stays" } else { "" };
            // A place in the file is said where the file is named.
            let place = error.split_once(": ").filter(|(place, _)| place.starts_with(&self.source));
            let (name, text) = place.unwrap_or((&self.source, error));
            lines.push((Style::Bad, name.to_owned(), format!("{text}{stays}")));
        }
        if self.state == State::NotDone {
            lines.push((Style::Warn, self.source.clone(), format!("not done: {}", self.why.join(", "))));
        }
        for made in self.made() {
            let name = match part_of(made) {
                Some(part) => format!("{} {part}", self.source),
                None => self.source.clone(),
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
        lines
    }

    fn needs_a_look(&self) -> bool {
        self.made().any(Made::needs_a_look)
    }
}

/// What became of everything.
pub struct EndTable {
    pub rows: Vec<Row>,
    pub seconds: f64,
    pub leftovers: Vec<Leftover>,
    pub pruned: Vec<String>,
}

impl EndTable {
    /// What the records say, whichever run they are from.
    pub fn of_records(plan: &Plan<'_>, leftovers: Vec<Leftover>) -> EndTable {
        let row = |job: &Job| match Row::unchanged(job) {
            row if row.state == State::Unchanged => Row { state: State::Done, ..row },
            row => row,
        };
        let rows: Vec<Row> = plan.jobs.iter().map(row).collect();
        let seconds = rows.iter().filter_map(|row| row.record.as_ref()).map(|record| record.seconds).sum();
        EndTable { rows, seconds, leftovers, pruned: Vec::new() }
    }

    fn count(&self, state: State) -> usize {
        self.rows.iter().filter(|row| row.state == state).count()
    }

    pub fn code(&self) -> ExitCode {
        if is_stopping() {
            return ExitCode::from(130);
        }
        let is_whole = self.count(State::Failed) == 0 && self.count(State::NotDone) == 0;
        if is_whole { ExitCode::SUCCESS } else { ExitCode::FAILURE }
    }
}

/// A file for the table.
pub struct Summary<'a> {
    path: &'a Path,
    format: SheetFormat,
}

impl<'a> Summary<'a> {
    pub fn new(path: &'a Path) -> Result<Summary<'a>, Failure> {
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
            "number",
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
                    json!(part_of(made)),
                    json!(made.file),
                    json!(row.state.name()),
                    json!(made.before),
                    json!(made.after),
                    json!(rounded(made.rotation_deg)),
                    json!(rounded(made.position_mm)),
                    json!(rounded(made.number)),
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
pub struct LeftoverJson<'a> {
    file: &'a str,
    why: &'a str,
}

impl<'a> LeftoverJson<'a> {
    pub fn all(leftovers: &'a [Leftover]) -> Vec<LeftoverJson<'a>> {
        leftovers.iter().map(|leftover| LeftoverJson { file: &leftover.file, why: &leftover.why }).collect()
    }
}

pub fn report(
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
    let is_told = |row: &&Row| row.state != State::Unchanged || args.rows == 0;
    let rows: Vec<&Row> = table.rows.iter().filter(is_told).collect();
    let remarks = Remarks::of(&rows);
    report::head(out, &recipe.path().display().to_string(), &totals(args, table))?;
    print_table(out, args, &rows, &remarks)?;
    remarks.print(out)?;
    print_leftovers(out, args, &table.leftovers, &table.pruned)
}

fn print_table(
    out: &mut impl Write,
    args: &Run,
    rows: &[&Row],
    remarks: &Remarks<'_>,
) -> Result<(), Failure> {
    let mut rows = rows.to_vec();
    rows.sort_by_key(|row| row.rank(remarks));
    let urgent = rows.iter().filter(|row| row.rank(remarks) <= Rank::ToLookAt).count();
    let most = if args.rows == 0 { usize::MAX } else { urgent + args.rows };
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
        let mut lines = Vec::new();
        for made in row.made() {
            let left_out = made.left_out.len();
            lines.push([
                row.source.clone(),
                part_of(made).unwrap_or_default().to_owned(),
                row.state.name().to_owned(),
                made.before.to_string(),
                made.after.to_string(),
                largest(made),
                if left_out > 0 { counted(left_out, "track") } else { String::new() },
                String::new(),
            ]);
        }
        if lines.is_empty() {
            let mut cells = <[String; 8]>::default();
            cells[0].clone_from(&row.source);
            row.state.name().clone_into(&mut cells[2]);
            lines.push(cells);
        }
        lines[0][7] = time;
        for cells in lines {
            match row.rank(remarks) {
                Rank::Failed => shown.styled(Style::Bad, cells),
                Rank::NotDone | Rank::ToLookAt => shown.styled(Style::Warn, cells),
                Rank::Done | Rank::Unchanged => shown.row(cells),
            }
        }
    }
    if !rows.is_empty() {
        shown.without_empty_columns().print(out)?;
    }
    if rows.len() > most {
        let more = rows.len() - most;
        let text = format!(
            "and {} with nothing of their own to look at (--rows 0 lists all)",
            counted(more, "more file")
        );
        writeln!(out, "  {}", Style::Faint.paint(&text))?;
    }
    Ok(())
}

/// The clip or take that a file holds.
fn part_of(made: &Made) -> Option<&str> {
    made.clip.as_deref().or(made.take.as_deref())
}

/// The largest errors: of rotations, of positions, of numbers.
fn largest(made: &Made) -> String {
    let said = |value: Option<f64>, unit: &str| {
        value.filter(|value| *value > 0.0).map(|value| format!("{}{unit}", short(value)))
    };
    let all = [said(made.rotation_deg, " deg"), said(made.position_mm, " mm"), said(made.number, "")];
    all.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// What a person should look at in the files of a table: each thing that is said, with the files of which it is said.
struct Remarks<'a> {
    /// Style, text, names; errors first.
    said: Vec<(Style, String, Vec<String>)>,
    files: usize,
    /// The sources of which something is said that is not said of most.
    single: HashSet<&'a str>,
}

impl<'a> Remarks<'a> {
    fn of(rows: &[&'a Row]) -> Remarks<'a> {
        let mut lines: Vec<(&str, (Style, String, String))> = rows
            .iter()
            .flat_map(|row| row.remarks().into_iter().map(|line| (row.source.as_str(), line)))
            .collect();
        lines.sort_by_key(|(_, (style, ..))| *style != Style::Bad);
        let mut remarks = Remarks {
            said: Vec::new(),
            files: rows.iter().map(|row| row.made().count().max(1)).sum(),
            single: HashSet::new(),
        };
        let mut places: HashMap<String, usize> = HashMap::new();
        let mut sources: Vec<Vec<&str>> = Vec::new();
        for (source, (style, name, text)) in lines {
            let place = *places.entry(text).or_insert_with_key(|text| {
                remarks.said.push((style, text.clone(), Vec::new()));
                sources.push(Vec::new());
                sources.len() - 1
            });
            remarks.said[place].2.push(name);
            sources[place].push(source);
        }
        for ((.., names), sources) in remarks.said.iter().zip(sources) {
            if !remarks.is_common(names) {
                remarks.single.extend(sources);
            }
        }
        remarks
    }

    /// Whether a thing is said of most files, so that it tells nothing of one.
    fn is_common(&self, names: &[String]) -> bool {
        names.len() > 3 && 2 * names.len() > self.files
    }

    fn print(&self, out: &mut impl Write) -> Result<(), Failure> {
        if !self.said.is_empty() {
            writeln!(out)?;
        }
        for (style, text, names) in &self.said {
            let files = match names.as_slice() {
                _ if self.is_common(names) => format!("{} of {} files", names.len(), self.files),
                [one] => one.clone(),
                [first, rest @ ..] => format!("{first} and {} more", rest.len()),
                [] => continue,
            };
            writeln!(out, "  {}  {text}", style.paint(&files))?;
        }
        Ok(())
    }
}

pub fn print_leftovers(
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

/// How many files came to what, and what became of their keys.
fn totals(args: &Run, table: &EndTable) -> Line {
    let (mut before, mut after) = (0, 0);
    let mut error: [Option<f64>; 3] = [None; 3];
    for made in table.rows.iter().flat_map(Row::made) {
        before += made.before;
        after += made.after;
        for (most, own) in error.iter_mut().zip([made.rotation_deg, made.position_mm, made.number]) {
            *most = [*most, own].into_iter().flatten().reduce(f64::max);
        }
    }
    let counts: Vec<String> = [State::Done, State::Unchanged, State::Failed, State::NotDone]
        .into_iter()
        .map(|state| (table.count(state), state.name()))
        .filter(|(count, _)| *count > 0)
        .map(|(count, name)| format!("{count} {name}"))
        .collect();
    let worst = Made { rotation_deg: error[0], position_mm: error[1], number: error[2], ..Made::default() };
    let largest = match largest(&worst) {
        text if text.is_empty() => String::new(),
        text => format!("; largest error {text}"),
    };
    let quiet = |row: &&Row| row.state == State::Unchanged && row.needs_a_look();
    let to_look_at = match table.rows.iter().filter(quiet).count() {
        0 => String::new(),
        count => format!(" ({count} with something to look at: --merge-tables lists them)"),
    };
    let to_look_at = if args.rows == 0 { String::new() } else { to_look_at };
    let style = match (table.count(State::Failed), table.count(State::NotDone)) {
        (0, 0) => Style::Good,
        (0, _) => Style::Warn,
        _ => Style::Bad,
    };
    let said = format!(
        "{}: {}{to_look_at}; {before} keys and samples became {after}{largest}; {:.1} s",
        counted(table.rows.len(), "file"),
        counts.join(", "),
        table.seconds
    );
    (style, said)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::batch::LeftOut;

    fn row(source: &str, left_out: &[&str], warnings: &[&str]) -> Row {
        let left = |channel: &&str| LeftOut { channel: (*channel).to_owned(), why: "no partner".to_owned() };
        let made = Made {
            is_animation: true,
            left_out: left_out.iter().map(left).collect(),
            warnings: warnings.iter().map(|warning| (*warning).to_owned()).collect(),
            ..Made::default()
        };
        let record = Record {
            source: source.to_owned(),
            outcome: Outcome::Done,
            program: String::new(),
            steps: String::new(),
            inputs: BTreeMap::new(),
            outputs: vec![made],
            earlier: Vec::new(),
            error: None,
            seconds: 0.0,
        };
        Row {
            source: source.to_owned(),
            state: State::Done,
            why: Vec::new(),
            has_earlier: false,
            record: Some(record),
        }
    }

    #[test]
    fn what_is_said_of_most_files_makes_none_stand_out() {
        let mut rows: Vec<Row> = (0..9).map(|number| row(&format!("{number}.bvh"), &["tail"], &[])).collect();
        rows.push(row("odd.bvh", &["tail"], &["a foot slides"]));
        rows.push(row("other.bvh", &["tail", "hat"], &[]));
        let rows: Vec<&Row> = rows.iter().collect();
        let remarks = Remarks::of(&rows);
        let urgent: Vec<&str> = (rows.iter())
            .filter(|row| row.rank(&remarks) == Rank::ToLookAt)
            .map(|row| row.source.as_str())
            .collect();
        assert_eq!(urgent, ["odd.bvh", "other.bvh"]);
        let mut text = Vec::new();
        remarks.print(&mut text).unwrap();
        let text = String::from_utf8(text).unwrap();
        assert!(text.contains("10 of 11 files") && text.contains("a foot slides"), "{text}");
        // Of a few files each says what it has.
        let few = Remarks::of(&rows[..3]);
        assert!(rows[..3].iter().all(|row| row.rank(&few) == Rank::ToLookAt));
    }
}
