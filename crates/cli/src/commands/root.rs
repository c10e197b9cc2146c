//! `root`: root motion lifted, pinned, restored, shown.

use std::path::Path;

use nimble_curve_core::judge::Scope;
use nimble_curve_core::ledger::MeasuredError;
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::clips::summaries;
use nimble_curve_core::ops::root::{
    RootOptions, centre, centred, lift, lifted, pin, pinned, restore, travelled, unpinned,
};
use nimble_curve_core::scene::Scene;
use nimble_curve_core::value::Quantity;
use nimble_curve_draw::Size;
use nimble_curve_draw::path::{Way, draw};
use serde::Serialize;
use serde_json::json;

use super::plot::Picture;
use crate::args::{
    Root, RootAction, RootCentre, RootInPlace, RootLift, RootParts, RootRestore, RootShow, Speed,
};
use crate::failure::Failure;
use crate::files::{self, InputArgs, Output};
use crate::gate::{EXACT, InWorld, Promise};
use crate::named::{Named, stem};
use crate::report::{self, ErrorJson, LedgerJson, amount, degrees, frame, print_json};
use crate::step::{Joins, SceneCache, Step, StepOutput, between_files};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

pub fn run(args: &Root) -> Result<(), Failure> {
    match &args.action {
        RootAction::Lift(args) => run_lift(args),
        RootAction::InPlace(args) => {
            finish(args, &args.file, args.input, &args.output.of(&args.file), args.json)
        }
        RootAction::Restore(args) => {
            finish(args, &args.file, args.input, &args.output.of(&args.file), args.json)
        }
        RootAction::Show(args) => run_show(args),
        RootAction::Centre(args) => {
            finish(args, &args.file, args.input, &args.output.of(&args.file), args.json)
        }
    }
}

fn options(parts: &RootParts, name: &str) -> RootOptions {
    RootOptions {
        turn: !parts.no_turn,
        height: parts.height,
        steady: parts.speed == Speed::Constant,
        name: name.to_owned(),
        node: parts.node.clone(),
        tolerance: parts.tolerance,
    }
}

#[derive(Serialize)]
struct RootJson<'a> {
    #[serde(skip_serializing_if = "Option::is_none")]
    world_position: Option<ErrorJson>,
    #[serde(skip_serializing_if = "Option::is_none")]
    world_rotation: Option<ErrorJson>,
    #[serde(flatten)]
    ledger: LedgerJson<'a>,
}

impl Step for RootLift {
    fn work(&self, scene: &Scene, _: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let options = options(&self.parts, &self.root);
        let (result, ledger) = lift(scene, &options)?;
        let claim = lifted(scene, &result, &ledger, &options)?;
        let tolerance = self.parts.tolerance;
        let world = Some(InWorld { metres: tolerance.length, angle: tolerance.angle });
        let promise = Promise { world, ..Promise::of(claim, tolerance, Scope::Everything) };
        Ok(StepOutput { promise: Some(promise), ..StepOutput::new(result, ledger) })
    }
}

impl Step for RootInPlace {
    fn work(&self, scene: &Scene, _: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let options = options(&self.parts, "root");
        let (result, ledger) = pin(scene, &options)?;
        let claim = pinned(scene, &result, &options)?;
        // Where hips are reordered first, taking out the turn may double what that is off by.
        let tolerance = Tolerance { angle: 2.0 * self.parts.tolerance.angle, ..self.parts.tolerance };
        let promise = Promise::of(claim, tolerance, Scope::Everything);
        Ok(StepOutput { promise: Some(promise), ..StepOutput::new(result, ledger) })
    }
}

impl Step for RootRestore {
    fn work(&self, scene: &Scene, _: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let (result, ledger) = restore(scene)?;
        let before = unpinned(scene);
        let promise = Promise::timed(&before, &result, &[]);
        let (promise, origin) = (Some(promise), Some(before));
        Ok(StepOutput { promise, origin, joins: Joins::ByResult, ..StepOutput::new(result, ledger) })
    }
}

impl Step for RootCentre {
    fn work(&self, scene: &Scene, _: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        let (result, ledger) = centre(scene, &self.node, self.throughout)?;
        let claim = centred(scene, &result, &self.node, self.throughout)?;
        let promise = Promise::of(claim, EXACT, Scope::Everything);
        Ok(StepOutput { promise: Some(promise), ..StepOutput::new(result, ledger) })
    }
}

/// Does a step between two files and says what became of everything.
fn finish(
    step: &impl Step,
    file: &Path,
    input: InputArgs,
    output: &Output,
    as_json: bool,
) -> Result<(), Failure> {
    let (_, worked) = between_files(step, file, input, output)?;
    said(file, output, &worked, as_json)
}

/// Says what became of everything.
fn said(file: &Path, output: &Output, worked: &StepOutput, as_json: bool) -> Result<(), Failure> {
    let (scene, ledger) = (&worked.scene, &worked.ledger);
    let mut out = Report::beside(&output.path);
    if as_json {
        let in_world = |error: Option<MeasuredError>| error.map(|error| ErrorJson::new(&error, &scene.space));
        let [place, turn] = worked.in_world;
        let ledger = LedgerJson::new(ledger, &scene.space);
        return Ok(print_json(
            &mut out,
            &RootJson { world_position: in_world(place), world_rotation: in_world(turn), ledger },
        )?);
    }
    let arrow = format!("{} → {}", file.display(), output.path.display());
    report::head(&mut out, &arrow, &worked.outcome)?;
    report::print_entries(&mut out, ledger.entries.iter(), &scene.space)?;
    report::print_remarks(&mut out, &ledger.notes)?;
    Ok(report::close(&mut out, &worked.closing)?)
}

fn run_lift(args: &RootLift) -> Result<(), Failure> {
    finish(args, &args.file, args.input, &args.output.of(&args.file), args.json)
}

fn run_show(args: &RootShow) -> Result<(), Failure> {
    args.output.clone().map(Picture::new).transpose()?;
    let scene = files::read(&args.file, args.input)?.scene;
    let wanted = |name: &str| args.take.as_ref().is_none_or(|take| take == name);
    let takes: Vec<_> = scene.takes.iter().filter(|take| wanted(&take.name)).collect();
    if takes.is_empty() {
        let names = scene.takes.iter().map(|take| take.name.as_str());
        return Err(match &args.take {
            Some(name) => Failure::unknown("take", name, names, &args.file),
            None => Failure::new(format!("{}: there is no take", args.file.display())),
        });
    }
    let metres = scene.space.metres_per_unit;
    let mut table = Table::new(&[
        ("clip", Align::Left),
        ("frames", Align::Right),
        ("distance", Align::Right),
        ("way", Align::Right),
        ("speed", Align::Right),
        ("fastest", Align::Right),
        ("turn", Align::Right),
        ("climb", Align::Right),
        ("loops", Align::Left),
    ]);
    let (mut ways, mut rows) = (Vec::new(), Vec::new());
    for take in takes {
        for summary in summaries(&scene, take)? {
            let steps = travelled(&scene, take, summary.range)?;
            let pace = |pair: &[nimble_curve_core::ops::root::Step]| {
                let [a, b] = [pair[0].place, pair[1].place];
                (b[0] - a[0]).hypot(b[1] - a[1]) * metres * scene.rate.fps()
            };
            let fastest = steps.windows(2).map(pace).fold(0.0, f64::max);
            let travel = &summary.travel;
            let speed = travel.path_length * metres / summary.range.seconds().max(1e-9);
            let first = frame(scene.rate.frame(summary.range.first));
            let last = frame(scene.rate.frame(summary.range.last));
            let distance = amount(travel.distance, Quantity::Length, &scene.space);
            table.row([
                summary.name.clone(),
                format!("{first}:{last}"),
                distance.clone(),
                amount(travel.path_length, Quantity::Length, &scene.space),
                format!("{speed:.2} m/s"),
                format!("{fastest:.2} m/s"),
                degrees(travel.turn),
                amount(travel.height_change, Quantity::Length, &scene.space),
                if travel.ends.is_loop() { "yes" } else { "" }.to_owned(),
            ]);
            rows.push(json!({
                "name": summary.name,
                "take": summary.take,
                "first": scene.rate.frame(summary.range.first),
                "last": scene.rate.frame(summary.range.last),
                "distance_m": travel.distance * metres,
                "way_m": travel.path_length * metres,
                "speed_m_s": speed,
                "fastest_m_s": fastest,
                "turn_deg": travel.turn.to_degrees(),
                "climb_m": travel.height_change * metres,
                "loops": travel.ends.is_loop(),
            }));
            ways.push(Way {
                name: summary.name.clone(),
                note: format!("{first}:{last}, {distance}, {}, {speed:.2} m/s", degrees(travel.turn)),
                steps: steps
                    .iter()
                    .map(|step| (step.frame, [step.place[0] * metres, step.place[1] * metres], step.heading))
                    .collect(),
            });
        }
    }
    if let Some(path) = &args.output {
        let take = scene.takes.iter().find(|take| wanted(&take.name));
        let picture = Picture::new(Named::of(&args.file, take, scene.rate).path(path)?)?;
        let title = format!("{}: the way of the body", stem(&args.file));
        picture.write(&draw(&title, &ways, Size::default()))?;
    }
    let mut out = Report::out();
    if args.json {
        return Ok(print_json(&mut out, &rows)?);
    }
    let loops = rows.iter().filter(|row| row["loops"] == true).count();
    let said = format!("{}; loops: {loops}", report::counted(ways.len(), "clip"));
    report::head(&mut out, &args.file.display().to_string(), &(Style::Good, said))?;
    table.without_empty_columns().print(&mut out)?;
    Ok(())
}
