//! How far a run is, for whoever waits.

use std::io::IsTerminal as _;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use nimble_curve_core::address::visible;

use crate::batch::{Job, Record};
use crate::report::listed;
use crate::terminal;

/// A bar in a terminal, else a line a file.
pub struct Progress {
    bar: Option<ProgressBar>,
    count: usize,
    state: Mutex<(Vec<String>, usize)>,
}

impl Progress {
    pub fn new(count: usize) -> Progress {
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

    pub fn clear(&self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }

    /// A job begins.
    pub fn begins(&self, job: &Job<'_>) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.0.push(job.source.name.to_string());
        if let Some(bar) = &self.bar {
            Progress::shown(bar, &state.0);
        }
    }

    /// Another worker has done a job.
    pub fn skips(&self) {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).1 += 1;
        if let Some(bar) = &self.bar {
            bar.inc(1);
        }
    }

    /// A job ends.
    pub fn ends(&self, job: &Job<'_>, record: &Record) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.0.retain(|source| **source != *job.source.name);
        state.1 += 1;
        match &self.bar {
            Some(bar) => {
                bar.inc(1);
                Progress::shown(bar, &state.0);
            }
            None => {
                let width = self.count.to_string().len();
                let line = format!("[{:>width$}/{}] {}", state.1, self.count, job.source.name);
                let said = match &record.error {
                    Some(error) => format!("failed: {error}"),
                    None => {
                        let (before, after) = keys(record);
                        format!("{before} → {after} keys, {:.2} s", record.seconds)
                    }
                };
                terminal::tell(&format!("{line}  {said}"));
            }
        }
    }
    fn shown(bar: &ProgressBar, current: &[String]) {
        let names: Vec<&str> = current.iter().map(String::as_str).collect();
        bar.set_message(visible(&listed(&names, 3)).into_owned());
    }
}

/// How many keys and samples there were, and are.
fn keys(record: &Record) -> (usize, usize) {
    let outputs = record.outputs.iter();
    outputs.fold((0, 0), |(before, after), made| (before + made.before, after + made.after))
}
