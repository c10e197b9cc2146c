//! What became of each source, and what a person should look at.

use std::collections::BTreeMap;
use std::collections::{HashMap, HashSet};
use std::io::Write;

use serde::Serialize;

use crate::batch::{Job, Made, Origin, Outcome, Record, Verdict};
use crate::failure::Failure;
use crate::report::{counted, listed};
use crate::terminal::Style;

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
    pub(super) fn name(self) -> &'static str {
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
pub(super) enum Rank {
    Failed,
    NotDone,
    ToLookAt,
    Done,
    Unchanged,
}

/// How much is kept of jobs on which nothing is done; there may be very many.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Detail {
    /// Those that are unchanged are counted.
    Counted,
    /// Each has a row.
    Rows,
    /// Each has a row with all that there is to say, for other programs.
    Everything,
}

/// What a table tells of a record.
#[derive(Debug, Default)]
pub struct Told {
    pub(super) outputs: Vec<Made>,
    pub(super) error: Option<String>,
    pub(super) seconds: f64,
    pub(super) origin: Origin,
    pub(super) program: String,
}

impl Told {
    fn of(record: Record, detail: Detail) -> Told {
        let Record { mut outputs, error, seconds, origin, program, .. } = record;
        if detail < Detail::Everything {
            for made in &mut outputs {
                (made.notes, made.contents) = (Vec::new(), String::new());
            }
        }
        Told { outputs, error, seconds, origin, program }
    }
}

pub struct Row {
    pub source: String,
    pub(super) state: State,
    /// Why it was done, or is to be.
    pub why: Vec<String>,
    /// Whether outputs of an earlier run stand where this one has none.
    pub(super) has_earlier: bool,
    /// Whether a place failed, so that another try may help.
    pub(super) is_hindered: bool,
    /// Whether what the recipe says does not fit the source.
    pub is_broken: bool,
    pub(super) told: Option<Told>,
}

impl Row {
    /// The row of a job that was done, of what came of it.
    pub fn done(job: &Job<'_>, record: Record, detail: Detail) -> Row {
        let why = if let Verdict::ToDo(why) = &job.verdict { why.clone() } else { Vec::new() };
        let is_done = record.outcome == Outcome::Done;
        let (has_earlier, is_hindered) = (!record.earlier.is_empty(), record.outcome == Outcome::Hindered);
        Row {
            source: job.source.name.to_string(),
            state: if is_done { State::Done } else { State::Failed },
            why,
            has_earlier: !is_done && has_earlier,
            is_hindered,
            is_broken: false,
            told: Some(Told::of(record, detail)),
        }
    }

    /// The row of a job that nothing was done on.
    pub fn unchanged(job: Job<'_>, detail: Detail) -> Row {
        let outcome = job.record.as_ref().map(|record| record.outcome);
        let is_hindered = outcome == Some(Outcome::Hindered);
        let has_failed = is_hindered || outcome == Some(Outcome::Blocked);
        let is_broken = matches!(job.verdict, Verdict::Broken(_));
        let (state, why) = match job.verdict {
            Verdict::UpToDate => (State::Unchanged, Vec::new()),
            Verdict::FailsAsBefore => (State::Failed, vec!["as before".to_owned()]),
            // What hindered it is what there is to say, not that it is to be done again.
            Verdict::ToDo(why) if has_failed => (State::Failed, why),
            Verdict::ToDo(why) => (State::NotDone, why),
            Verdict::Broken(why) => (State::Failed, vec![why]),
        };
        let has_earlier =
            state == State::Failed && job.record.as_ref().is_some_and(|record| !record.earlier.is_empty());
        Row {
            source: job.source.name.to_string(),
            state,
            why,
            has_earlier,
            is_hindered,
            is_broken,
            told: job.record.map(|record| Told::of(*record, detail)),
        }
    }

    pub(super) fn made(&self) -> impl Iterator<Item = &Made> {
        let is_shown = matches!(self.state, State::Done | State::Unchanged);
        let outputs = self.told.iter().filter(move |_| is_shown).flat_map(|told| &told.outputs);
        outputs.filter(|made| made.is_animation)
    }

    pub(super) fn error(&self) -> Option<&str> {
        if self.state != State::Failed {
            return None;
        }
        let recorded = self.told.as_ref().and_then(|told| told.error.as_deref()).filter(|_| !self.is_broken);
        recorded.or_else(|| self.why.first().map(String::as_str))
    }

    pub(super) fn seconds(&self) -> Option<f64> {
        self.told.as_ref().filter(|_| self.state == State::Done).map(|told| told.seconds)
    }

    pub(super) fn rank(&self, remarks: &Remarks<'_>) -> Rank {
        match self.state {
            State::Failed => Rank::Failed,
            State::NotDone => Rank::NotDone,
            _ if remarks.single.contains(self.source.as_str()) => Rank::ToLookAt,
            State::Done => Rank::Done,
            State::Unchanged => Rank::Unchanged,
        }
    }

    /// What a person should look at: how it stands out, the file, and what there is to say.
    pub(super) fn remarks(&self) -> Vec<(Style, String, String)> {
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
            let name = match made.part() {
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
}

/// What a person should look at in the files of a table: each thing that is said, with the files of which it is said.
pub(super) struct Remarks<'a> {
    /// Style, text, names; errors first.
    pub(super) said: Vec<(Style, String, Vec<String>)>,
    pub(super) files: usize,
    /// The sources of which something is said that is not said of most.
    pub(super) single: HashSet<&'a str>,
}

impl<'a> Remarks<'a> {
    pub(super) fn of(rows: &[&'a Row]) -> Remarks<'a> {
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
    pub(super) fn is_common(&self, names: &[String]) -> bool {
        names.len() > 3 && 2 * names.len() > self.files
    }

    /// Prints so many of them at most; errors come first.
    pub(super) fn print(&self, out: &mut impl Write, most: usize) -> Result<(), Failure> {
        if !self.said.is_empty() {
            writeln!(out)?;
        }
        for (style, text, names) in self.said.iter().take(most) {
            let files = match names.as_slice() {
                _ if self.is_common(names) => format!("{} of {} files", names.len(), self.files),
                [one] => one.clone(),
                [first, rest @ ..] => format!("{first} and {} more", rest.len()),
                [] => continue,
            };
            writeln!(out, "  {}  {text}", style.paint(&files))?;
        }
        if self.said.len() > most {
            let text = format!("and {} (--rows 0 lists all)", counted(self.said.len() - most, "more remark"));
            writeln!(out, "  {}", Style::Faint.paint(&text))?;
        }
        Ok(())
    }
}
