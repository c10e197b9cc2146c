//! Running a recipe again whenever something changes.

use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::{Duration, SystemTime};

use super::end_table::{Summary, report};
use super::work::{done, planned};
use crate::args::Run;
use crate::batch::{self, Recipe, Records, is_stopping, stop_at_interrupt};
use crate::failure::Failure;
use crate::terminal::{self, Report};

/// How often changes are looked for.
const GLANCE: Duration = Duration::from_millis(400);

/// Runs again and again, whenever something that is read has changed.
pub fn watch(args: &Run, path: &Path, summary: Option<&Summary<'_>>) -> Result<ExitCode, Failure> {
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
            let table = done(args, &plan, summary)?;
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
