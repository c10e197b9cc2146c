//! The table at the end of a run: what became of every file, and what needs a look.

mod row;
mod summary;
pub use self::row::{Row, State};
pub use self::summary::Summary;
use std::io::Write;
use std::process::ExitCode;

use serde::Serialize;

use self::row::Rank;
use self::row::Remarks;
use crate::args::Run;
use crate::batch::{Job, Leftover, Made, Plan, Recipe, is_stopping};
use crate::failure::Failure;
use crate::report::{self, counted, listed, print_json, short};
use crate::table::{Align, Table};
use crate::terminal::Line;
use crate::terminal::{Report, Style};

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
    use std::collections::BTreeMap;

    use super::*;
    use crate::batch::{LeftOut, Outcome, Record};

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
