//! `rig`: what drives what, joints solved, and put back onto controls.

mod finding;
mod onto;
mod switching;

use std::collections::BTreeSet;
use std::io::Write;
use std::num::NonZeroU32;
use std::path::Path;

use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::constraint::{Constraint, ConstraintKind, Setting, Towards};
use nimble_curve_core::ledger::{Entry, Fate, Ledger};
use nimble_curve_core::ops::control_rig::{SolveError, SolveKeys, SolveOptions, Solved, solve};
use nimble_curve_core::ops::nodes::thin;
use nimble_curve_core::rig::NodeKind;
use nimble_curve_core::scene::{Scene, Target};
use nimble_curve_core::time::TimeRange;
use nimble_curve_formats::rig_sheet::rig_sheet;
use serde::Serialize;

use crate::args::{Rig, RigAction, RigSheet, RigSolve};
use crate::failure::Failure;
use crate::files::{self, Output};
use crate::gate::InWorld;
use crate::nodes::promised;
use crate::report::{self, LedgerJson, counted};
use crate::step::{BoxedStep, SceneCache, Step, StepOutput, between_files};
use crate::table::{Align, Table};
use crate::terminal::{Report, Style};

pub fn run(args: &Rig) -> Result<(), Failure> {
    match &args.action {
        None => show(args),
        Some(RigAction::Solve(args)) => run_solve(args),
        Some(RigAction::Match(args)) => onto::run(args),
        Some(RigAction::Switch(args)) => switching::run(args),
        Some(RigAction::Sheet(args)) => run_sheet(args),
        Some(RigAction::Find(args)) => finding::run(args),
    }
}

fn show(args: &Rig) -> Result<(), Failure> {
    let Some(file) = &args.file else { return Err(Failure::new("name a file whose rigs to show")) };
    let scene = files::read(file, args.input)?.scene;
    let mut out = Report::out();
    let addresses = Addresses::new(&scene);
    let rows: Vec<Row> = scene.constraints.iter().map(|own| Row::new(&scene, &addresses, own)).collect();
    if args.json {
        return Ok(report::print_json(&mut out, &rows)?);
    }
    let count = |kind: NodeKind| -> usize {
        scene.rigs.iter().flat_map(|rig| rig.nodes()).filter(|(_, node)| node.kind == kind).count()
    };
    let driven: BTreeSet<NodeRef> = scene.constraints.iter().flat_map(Constraint::driven).collect();
    let what = format!(
        "{}, {}, {}, {} driven",
        counted(count(NodeKind::Joint), "joint"),
        counted(count(NodeKind::Control), "control"),
        counted(rows.len(), "constraint"),
        counted(driven.len(), "node"),
    );
    report::head(&mut out, &file.display().to_string(), &(Style::Good, what))?;
    if rows.is_empty() {
        writeln!(out, "  nothing is driven: every node moves by its own curves")?;
        return Ok(());
    }
    let mut table = Table::new(&[
        ("driven", Align::Left),
        ("by", Align::Left),
        ("name", Align::Left),
        ("from", Align::Left),
        ("weight", Align::Left),
        ("switched", Align::Left),
    ]);
    for row in rows {
        table.row(vec![
            row.driven.join(", "),
            row.kind,
            row.name,
            row.from.join(", "),
            row.weight,
            row.switched.unwrap_or_default(),
        ]);
    }
    table.least_telling(&["name", "switched"]).print(&mut out)?;
    Ok(())
}

/// A constraint in words.
#[derive(Serialize)]
struct Row {
    driven: Vec<String>,
    kind: String,
    name: String,
    from: Vec<String>,
    weight: String,
    /// How its weight changes, where it does.
    switched: Option<String>,
}

impl Row {
    fn new(scene: &Scene, addresses: &Addresses, constraint: &Constraint) -> Row {
        let node = |node: NodeRef| addresses.node(node).to_owned();
        let channel = |target: &Target, component: usize| {
            let address = addresses.property(target);
            let rig = scene.rigs.get(target.rig);
            let is_one = rig
                .and_then(|rig| rig.node(target.node))
                .is_some_and(|of| of.attribute(&target.property).is_some());
            if is_one { address } else { format!("{address}.{}", ["x", "y", "z"][component.min(2)]) }
        };
        let mut driven: Vec<String> = constraint.driven().into_iter().map(node).collect();
        let mut from: Vec<String> = Vec::new();
        match &constraint.kind {
            ConstraintKind::Follow(follow) => from.extend(follow.sources.iter().map(|source| {
                match (&source.weight, follow.sources.len()) {
                    (Setting::Constant(_), 1) => node(source.node),
                    (weight, _) => format!("{} ({})", node(source.node), setting(addresses, weight)),
                }
            })),
            ConstraintKind::Limb(limb) => {
                from.push(node(limb.goal.node));
                from.extend(
                    limb.pole.as_ref().and_then(Towards::node).map(|pole| format!("pole {}", node(pole))),
                );
            }
            ConstraintKind::Roll(roll) => {
                from.push(format!("{} of {}", setting(addresses, &roll.fraction), node(roll.source)));
            }
            ConstraintKind::Couple(couple) => {
                driven.push(channel(&couple.channel.target, couple.channel.component));
                from.push(channel(&couple.from.target, couple.from.component));
            }
            ConstraintKind::Aim(_) => from.extend(constraint.sources().into_iter().map(node)),
            ConstraintKind::Other { .. } => driven.push(node(constraint.node)),
        }
        Row {
            driven,
            kind: constraint.kind.name().to_owned(),
            name: constraint.name.clone(),
            from,
            weight: setting(addresses, &constraint.weight),
            switched: switched(scene, constraint),
        }
    }
}

/// A setting in words.
fn setting(addresses: &Addresses, setting: &Setting) -> String {
    match setting {
        Setting::Constant(number) => number.to_string(),
        Setting::Attribute(target) => addresses.property(target),
        Setting::Remaining(target) => format!("1 - {}", addresses.property(target)),
        Setting::Is(target, option) => format!("{} is {option}", addresses.property(target)),
    }
}

/// Where the weight of a constraint is animated: takes and keys.
fn switched(scene: &Scene, constraint: &Constraint) -> Option<String> {
    let target = constraint.weight.attribute()?;
    let keys = |take: &nimble_curve_core::scene::Take| -> usize {
        let own = take.active_tracks().filter(|(_, track)| track.target == *target);
        own.map(|(_, track)| track.controller.value_count()).sum()
    };
    let takes = scene.takes.iter().map(|take| (take, keys(take))).filter(|(_, keys)| *keys > 0);
    let said: Vec<String> =
        takes.map(|(take, keys)| format!("{} in {}", counted(keys, "key"), take.name)).collect();
    (!said.is_empty()).then(|| said.join(", "))
}

impl Step for RigSolve {
    fn work(&self, scene: &Scene, file: &Path, _: &SceneCache) -> Result<StepOutput, Failure> {
        // What taking controls out may cost is left to it.
        let part = if self.keep_controls { 1.0 } else { 0.7 };
        let options = SolveOptions {
            tolerance: self.tolerance.times(part),
            only: self.only.clone(),
            range: self
                .frames
                .map(|(first, last)| TimeRange::new(scene.rate.ticks_at(first), scene.rate.ticks_at(last))),
            keys: match (self.sampled, self.step.and_then(NonZeroU32::new)) {
                (true, _) => SolveKeys::Sampled,
                (false, Some(step)) => SolveKeys::EachNth(step),
                (false, None) => SolveKeys::Bounded,
            },
        };
        let named = |error: SolveError| Failure::new(format!("{}: {error}", file.display()));
        let Solved { scene: result, ledger, claim } = solve(scene, &options).map_err(named)?;
        // Between keys on every so many frames nothing is promised; what lies there is in the notes.
        let world = self
            .step
            .is_none()
            .then_some(InWorld { metres: self.tolerance.length, angle: self.tolerance.angle });
        if self.keep_controls {
            let mut worked = StepOutput::same(scene, result, ledger, self.tolerance);
            if let Some(promise) = &mut worked.promise {
                promise.claim = claim.excusing(scene, &worked.ledger);
                promise.world = world;
            }
            return Ok(worked);
        }
        let keep = without_controls(&result);
        let thinned = thin(&result, &keep, self.tolerance.times(1.0 - part))
            .map_err(|error| Failure::new(format!("{}: {error}", file.display())))?;
        // Nodes have the same ids before and after they are solved: what is claimed of the one holds for the other.
        let mut promise = promised(scene, &thinned, self.tolerance);
        promise.claim.sampling = claim.sampling;
        promise.world = promise.world.and(world);
        let ledger = ledger.followed_by(thinned.ledger);
        Ok(StepOutput { promise: Some(promise), ..StepOutput::new(thinned.scene, ledger) })
    }

    fn closer(&self, factor: f64) -> Option<BoxedStep> {
        Some(Box::new(RigSolve { tolerance: self.tolerance.times(factor), ..self.clone() }))
    }
}

fn run_sheet(args: &RigSheet) -> Result<(), Failure> {
    let scene = files::read(&args.file, args.input)?.scene;
    let text = rig_sheet(&scene).map_err(|fault| Failure::from(fault.in_file(&args.file)))?;
    let mut out = Report::out();
    let Some(path) = &args.output else { return Ok(report::print_text(&mut out, &text)?) };
    write_sheet(&text, path, args.replace)?;
    let what = format!("{} on a sheet", counted(scene.constraints.len(), "constraint"));
    report::head(&mut out, &format!("{} → {}", args.file.display(), path.display()), &(Style::Good, what))?;
    Ok(())
}

fn write_sheet(text: &str, path: &Path, replace: bool) -> Result<(), Failure> {
    if path.exists() && !replace {
        let there = format!("{}: is there already: say --replace to write over it", path.display());
        return Err(Failure::new(there));
    }
    Ok(nimble_curve_formats::write_bytes(text.as_bytes(), path)?)
}

/// All nodes but controls, and the locators that served them.
fn without_controls(scene: &Scene) -> BTreeSet<NodeRef> {
    let of = |(index, rig): (usize, &nimble_curve_core::rig::Rig)| -> Vec<NodeRef> {
        rig.nodes().filter(|(_, node)| !node.kind.is_for_controls()).map(|(id, _)| (index, id)).collect()
    };
    scene.rigs.iter().enumerate().flat_map(of).collect()
}

fn run_solve(args: &RigSolve) -> Result<(), Failure> {
    let output = args.output.of(&args.file);
    let done = between_files(args, &args.file, args.input, &output)?;
    told((&args.file, &output), args.json, done, |_| String::new())
}

/// Says what became of a file: what changed, a line about that where there is one, how much stayed.
fn told(
    (file, output): (&Path, &Output),
    json: bool,
    (scene, worked): (Scene, StepOutput),
    also: impl FnOnce(&Ledger) -> String,
) -> Result<(), Failure> {
    let StepOutput { ledger, outcome, closing, .. } = worked;
    let mut out = Report::beside(&output.path);
    if json {
        return Ok(report::print_json(&mut out, &LedgerJson::new(&ledger, &scene.space))?);
    }
    report::head(&mut out, &format!("{} → {}", file.display(), output.path.display()), &outcome)?;
    // Of what went, the notes and the line below say enough where something else came for it.
    let also = also(&ledger);
    let is_told = |entry: &&Entry| entry.fate != Fate::Kept && (also.is_empty() || entry.after > 0);
    report::print_entries(&mut out, ledger.entries.iter().filter(is_told), &scene.space)?;
    if !also.is_empty() {
        writeln!(out, "  {also}")?;
    }
    let kept = ledger.count(Fate::Kept);
    if kept > 0 {
        writeln!(out, "  {} kept", counted(kept, "track"))?;
    }
    report::print_remarks(&mut out, &ledger.notes)?;
    Ok(report::close(&mut out, &closing)?)
}
