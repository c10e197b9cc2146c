//! Libraries: many takes in one file.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use nimble_curve_core::address::matches;
use nimble_curve_core::judge::Scope;
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::ops::clips::{added, taken, transplanted};
use nimble_curve_core::scene::{Scene, Take};

use super::{done, no_take};
use crate::args::{ClipsAdd, ClipsExtract};
use crate::failure::Failure;
use crate::files::{self};
use crate::gate::{Beside, EXACT, Held, Origin, Promise};
use crate::report::{self, counted};
use crate::step::{SceneCache, Step, StepOutput};
use crate::terminal::Report;

pub(super) fn run_add(args: &ClipsAdd) -> Result<(), Failure> {
    let output = args.output.of(&args.library);
    output.check(
        &args.files.iter().map(PathBuf::as_path).chain([args.library.as_path()]).collect::<Vec<_>>(),
    )?;
    let mut library = files::read(&args.library, args.input)?.scene;
    let before = library.clone();
    let mut sources = Vec::new();
    let mut ledger = Ledger::default();
    let mut names = Vec::new();
    for file in &args.files {
        let scene = files::read(file, args.input)?.scene;
        if scene.takes.is_empty() {
            return Err(no_take(file));
        }
        for take in &scene.takes {
            let (mut own, more) = transplanted(take, &scene, &library);
            if own.tracks().next().is_none() {
                return Err(Failure::new(format!(
                    "{}: no node of take '{}' is in the library: carry brings it onto another rig",
                    file.display(),
                    take.name
                )));
            }
            ledger.extend(more);
            own.folder = args.folder.clone().or(own.folder);
            let taken = |name: &str| library.takes.iter().any(|t| t.name == name && t.folder == own.folder);
            if taken(&own.name) {
                return Err(Failure::new(format!(
                    "{}: the library has a take '{}' there already: give another --folder, or clips rename",
                    file.display(),
                    own.name
                )));
            }
            names.push(own.name.clone());
            library.takes.push(own);
        }
        sources.push((library.takes.len() - scene.takes.len(), scene));
    }
    let promise = filled(&before, &library, sources, &ledger);
    output.write(&library, &args.library, Some(Origin { source: &before, promise: &promise }))?;
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    done(&output.path, &format!("added {}", report::listed(&names, 8)))?;
    report::print_left_out(&mut Report::beside(&output.path), &ledger)?;
    Ok(())
}

/// A library holds what it held, and the takes of other scenes from some positions on.
pub(super) fn filled(
    before: &Scene,
    library: &Scene,
    sources: Vec<(usize, Scene)>,
    ledger: &Ledger,
) -> Promise {
    let mut promise = Promise::timed(before, library, &[]);
    promise.claim.spans.retain(|span| span.source == span.result);
    let beside = |(at, scene): (usize, Scene)| Beside {
        claim: added(&scene, library, at).excusing(&scene, ledger),
        source: Arc::new(scene),
        scope: None,
        held: Held::ToLimits,
    };
    promise.beside = sources.into_iter().map(beside).collect();
    promise
}

impl Step for ClipsExtract {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let full = |take: &Take| match &take.folder {
            Some(folder) => format!("{folder}/{}", take.name),
            None => take.name.clone(),
        };
        let is_meant =
            |take: &Take, pattern: &String| matches(pattern, &take.name) || matches(pattern, &full(take));
        for pattern in &self.takes {
            if !scene.takes.iter().any(|take| is_meant(take, pattern)) {
                let names: Vec<String> = scene.takes.iter().flat_map(|t| [t.name.clone(), full(t)]).collect();
                return Err(Failure::unknown("take", pattern, names.iter().map(String::as_str), file));
            }
        }
        let mut result = scene.clone();
        result.takes.retain(|take| self.takes.iter().any(|pattern| is_meant(take, pattern)));
        let stays = |(index, take): (usize, &Take)| {
            self.takes.iter().any(|pattern| is_meant(take, pattern)).then_some(index)
        };
        let kept: Vec<usize> = scene.takes.iter().enumerate().filter_map(stays).collect();
        let claim = taken(scene, &result, &kept);
        let note = format!("{} of {}", counted(result.takes.len(), "take"), scene.takes.len());
        let mut worked = StepOutput::new(result, Ledger { notes: vec![note], ..Ledger::default() });
        worked.promise = Some(Promise::of(claim, EXACT, Scope::Everything));
        if worked.scene.takes.len() > 1 {
            let warning = "formats that hold one take get the first; clips split writes a file each";
            worked.warnings.push(warning.to_owned());
        }
        Ok(worked)
    }
}
