//! What became of each source, and what a person should look at.

use std::collections::BTreeMap;
use std::collections::{HashMap, HashSet};
use std::io::Write;

use serde::Serialize;

use super::part_of;
use crate::batch::{Job, Made, Outcome, Record, Verdict};
use crate::failure::Failure;
use crate::report::listed;
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

pub struct Row {
    pub(super) source: String,
    pub(super) state: State,
    /// Why it was done, or is to be.
    pub(super) why: Vec<String>,
    /// Whether outputs of an earlier run stand where this one has none.
    pub(super) has_earlier: bool,
    pub(super) record: Option<Record>,
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
    pub(super) fn unchanged(job: &Job) -> Row {
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

    pub(super) fn made(&self) -> impl Iterator<Item = &Made> {
        let is_shown = matches!(self.state, State::Done | State::Unchanged);
        let outputs = self.record.iter().filter(move |_| is_shown).flat_map(|record| &record.outputs);
        outputs.filter(|made| made.is_animation)
    }

    pub(super) fn error(&self) -> Option<&str> {
        if self.state != State::Failed {
            return None;
        }
        let recorded = self.record.as_ref().and_then(|record| record.error.as_deref());
        recorded.or_else(|| self.why.first().map(String::as_str))
    }

    pub(super) fn seconds(&self) -> Option<f64> {
        self.record.as_ref().filter(|_| self.state == State::Done).map(|record| record.seconds)
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

    pub(super) fn needs_a_look(&self) -> bool {
        self.made().any(Made::needs_a_look)
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

    pub(super) fn print(&self, out: &mut impl Write) -> Result<(), Failure> {
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
