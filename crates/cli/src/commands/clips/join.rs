//! Clips on one timeline.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use nimble_curve_core::judge::{Claim, Scope};
use nimble_curve_core::ops::clips::{JoinOptions, join, joined};
use nimble_curve_core::scene::Scene;

use super::all_summaries;
use super::list::table;
use crate::args::ClipsJoin;
use crate::failure::Failure;
use crate::files::{self};
use crate::gate::{self, Beside, Held, Origin, Promise};
use crate::report::{self, counted};
use crate::terminal::Report;

pub(super) fn run_join(args: &ClipsJoin) -> Result<(), Failure> {
    let inputs: Vec<&Path> = args.files.iter().map(PathBuf::as_path).collect();
    let output = args.output.of(&args.files[0]);
    output.check(&inputs)?;
    let scenes = inputs
        .iter()
        .map(|path| Ok(files::read(path, args.input)?.scene))
        .collect::<Result<Vec<Scene>, Failure>>()?;
    let options = JoinOptions {
        name: args.name.clone(),
        gap: args.gap,
        start: args.start,
        go_on: args.go_on,
        tolerance: args.tolerance,
    };
    let (scene, ledger) = join(&scenes, &options)?;
    let mut claims = joined(&scenes, &scene, &options)?.into_iter();
    let excused = |(at, claim): (usize, Claim)| claim.excusing(&scenes[at], &ledger);
    let first = claims.next().map(excused).unwrap_or_else(Claim::nothing);
    let beside = |(at, claim): (usize, Claim)| Beside {
        source: Arc::new(scenes[at].clone()),
        claim: excused((at, claim)),
        scope: None,
        held: Held::ToLimits,
    };
    let beside = claims.map(beside).collect();
    let promise = Promise { beside, ..Promise::of(first, args.tolerance, Scope::Nothing) };
    let origin = Origin { source: &scenes[0], promise: &promise };
    let verdict = output.write(&scene, &args.files[0], Some(origin))?.verdict;
    let mut out = Report::beside(&output.path);
    let title = format!("{} → {}", counted(args.files.len(), "file"), output.path.display());
    report::head(&mut out, &title, &gate::outcome(&ledger, &verdict, &scene))?;
    table(&scene, &all_summaries(&scene)?).print(&mut out)?;
    report::print_left_out(&mut out, &ledger)?;
    Ok(report::close(&mut out, &gate::closing(&verdict, &scene))?)
}
