//! The table at the end of a run: what became of every file, and what needs a look.

mod gathered;
mod row;
mod summary;

use std::io::Write;
use std::process::ExitCode;

use serde::Serialize;

pub use self::gathered::{Gathered, Tally};
pub use self::row::{Detail, Row, State};
use self::row::{Rank, Remarks};
pub use self::summary::Summary;
use crate::args::Run;
use crate::batch::{Leftover, Made, Origin, Plan, Recipe, is_stopping, leftovers as leftovers_of};
use crate::failure::{Failure, TRY_AGAIN};
use crate::report::{self, counted, listed, print_json, short};
use crate::table::{Align, Table};
use crate::terminal::{Line, Report, Style};

/// What became of everything.
pub struct EndTable {
    /// By source.
    pub rows: Vec<Row>,
    /// What is unchanged and has no row.
    pub unchanged: Tally,
    pub seconds: f64,
    pub leftovers: Vec<Leftover>,
    pub pruned: Vec<String>,
}

impl EndTable {
    /// What the records say, whichever run they are from.
    pub fn of_records(plan: &Plan<'_>, detail: Detail) -> Result<EndTable, Failure> {
        let Gathered { to_do, mut rows, tally, leftovers } = Gathered::of(plan, detail);
        for row in rows.iter_mut().filter(|row| row.state == State::Unchanged) {
            row.state = State::Done;
        }
        rows.extend(to_do.into_iter().map(|job| Row::unchanged(job, detail)));
        rows.sort_by(|a, b| a.source.cmp(&b.source));
        // Of nothing, a sum of floating-point numbers is less than nothing.
        let seconds =
            rows.iter().filter_map(|row| row.told.as_ref()).fold(0.0, |sum, told| sum + told.seconds);
        let leftovers = leftovers_of(plan, leftovers)?;
        Ok(EndTable { rows, unchanged: tally, seconds, leftovers, pruned: Vec::new() })
    }

    fn count(&self, state: State) -> usize {
        let own = self.rows.iter().filter(|row| row.state == state).count();
        if state == State::Unchanged { own + self.unchanged.files } else { own }
    }

    /// How many sources there are.
    fn files(&self) -> usize {
        self.rows.len() + self.unchanged.files
    }

    /// The sources that have no result.
    pub fn failed(&self) -> impl Iterator<Item = &str> {
        let failed = self.rows.iter().filter(|row| matches!(row.state, State::Failed | State::NotDone));
        failed.map(|row| row.source.as_str())
    }

    /// What the program ends with: whether all is done, and where not, whether it is worth another try.
    pub fn code(&self) -> ExitCode {
        if is_stopping() {
            return ExitCode::from(130);
        }
        let may_help =
            |row: &Row| row.state == State::NotDone || row.state == State::Failed && row.is_hindered;
        match (self.rows.iter().any(may_help), self.count(State::Failed)) {
            (true, _) => ExitCode::from(TRY_AGAIN),
            (false, 0) => ExitCode::SUCCESS,
            (false, _) => ExitCode::FAILURE,
        }
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
    /// Whether another try may help, of one that failed.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    retry: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    seconds: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    origin: Option<&'a Origin>,
    #[serde(skip_serializing_if = "Option::is_none")]
    program: Option<&'a str>,
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
            retry: row.state == State::Failed && row.is_hindered,
            seconds: row.seconds(),
            origin: row.told.as_ref().map(|told| &told.origin),
            program: row.told.as_ref().map(|told| told.program.as_str()),
            outputs: row.made().collect(),
        });
        return Ok(print_json(
            out,
            &RunJson {
                recipe: recipe.path().display().to_string(),
                files: table.files(),
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
    remarks.print(out, most(args))?;
    print_leftovers(out, args, &table.leftovers, &table.pruned)
}

/// How many lines of a kind are listed.
pub fn most(args: &Run) -> usize {
    if args.rows == 0 { usize::MAX } else { args.rows }
}

fn print_table(
    out: &mut impl Write,
    args: &Run,
    rows: &[&Row],
    remarks: &Remarks<'_>,
) -> Result<(), Failure> {
    let mut rows = rows.to_vec();
    rows.sort_by_key(|row| row.rank(remarks));
    let most = most(args);
    let mut shown = Table::new(&[
        ("file", Align::Left),
        ("clip", Align::Left),
        ("state", Align::Left),
        ("keys before", Align::Right),
        ("after", Align::Right),
        ("largest error", Align::Right),
        ("left out", Align::Right),
        ("time", Align::Right),
        ("by", Align::Left),
        ("date", Align::Left),
    ]);
    for row in rows.iter().take(most) {
        let time = row.seconds().map_or(String::new(), |seconds| format!("{seconds:.2} s"));
        let mut lines = Vec::new();
        for made in row.made() {
            let left_out = made.left_out.len();
            lines.push([
                row.source.clone(),
                made.part().unwrap_or_default().to_owned(),
                row.state.name().to_owned(),
                made.before.to_string(),
                made.after.to_string(),
                largest(made),
                if left_out > 0 { counted(left_out, "track") } else { String::new() },
                String::new(),
                String::new(),
                String::new(),
            ]);
        }
        if lines.is_empty() {
            let mut cells = <[String; 10]>::default();
            cells[0].clone_from(&row.source);
            row.state.name().clone_into(&mut cells[2]);
            lines.push(cells);
        }
        lines[0][7] = time;
        // Of a run's own files it is known who did them, and when.
        if let Some(told) = row.told.as_ref().filter(|_| args.merge_tables) {
            lines[0][8] = format!("{} {}", told.origin.machine, told.origin.worker());
            lines[0][9] = told.origin.date.chars().take(16).collect::<String>().replace('T', " ");
        }
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
        let rest = &rows[most..];
        let of = |rank: Rank| rest.iter().filter(|row| row.rank(remarks) == rank).count();
        let kinds = [
            (of(Rank::Failed), "failed"),
            (of(Rank::NotDone), "not done"),
            (of(Rank::ToLookAt), "to look at"),
        ];
        let kinds: Vec<String> = kinds
            .iter()
            .filter(|(count, _)| *count > 0)
            .map(|(count, kind)| format!("{count} {kind}"))
            .collect();
        let kinds = match kinds.is_empty() {
            true => "with nothing of their own to look at".to_owned(),
            false => format!("of which {}", kinds.join(", ")),
        };
        let text = format!("and {} {kinds} (--rows 0 lists all)", counted(rest.len(), "more file"));
        writeln!(out, "  {}", Style::Faint.paint(&text))?;
    }
    Ok(())
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
    let shown = table.rows.iter().flat_map(Row::made);
    let Tally { to_look_at, before, after, error, .. } = shown.fold(table.unchanged.clone(), Tally::with);
    let is_quiet = |row: &&Row| row.state == State::Unchanged && row.made().any(Made::needs_a_look);
    let to_look_at = match args.rows {
        0 => 0,
        _ => to_look_at + table.rows.iter().filter(is_quiet).count(),
    };
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
    let to_look_at = match to_look_at {
        0 => String::new(),
        count => format!(" ({count} with something to look at: --merge-tables lists them)"),
    };
    let style = match (table.count(State::Failed), table.count(State::NotDone)) {
        (0, 0) => Style::Good,
        (0, _) => Style::Warn,
        _ => Style::Bad,
    };
    let said = format!(
        "{}: {}{to_look_at}; {before} keys and samples became {after}{largest}; {:.1} s",
        counted(table.files(), "file"),
        counts.join(", "),
        table.seconds
    );
    (style, said)
}

#[cfg(test)]
mod tests {
    use super::row::Told;
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
        let told = Told { outputs: vec![made], ..Told::default() };
        Row {
            source: source.to_owned(),
            state: State::Done,
            why: Vec::new(),
            has_earlier: false,
            is_hindered: false,
            is_broken: false,
            told: Some(told),
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
        remarks.print(&mut text, 20).unwrap();
        let text = String::from_utf8(text).unwrap();
        assert!(text.contains("10 of 11 files") && text.contains("a foot slides"), "{text}");
        // Of a few files each says what it has.
        let few = Remarks::of(&rows[..3]);
        assert!(rows[..3].iter().all(|row| row.rank(&few) == Rank::ToLookAt));
    }
}
