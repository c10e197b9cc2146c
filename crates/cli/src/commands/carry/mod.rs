//! `carry`: animation from one rig onto another.

mod controls;
mod landing;
mod parts;
mod poses;
mod promise;
mod unmapped;
use std::borrow::Cow;
use std::collections::HashSet;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::fit::Handles;
use nimble_curve_core::judge::{Claim, Edit, Scope, Verdict};
use nimble_curve_core::ledger::{Fate, Ledger, MeasuredError};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::apart;
use nimble_curve_core::ops::carry::{
    Carried, CarriedRig, CarryOptions, MatchingPose, NameMap, TravelBy, carry, held,
};
use nimble_curve_core::ops::layers::{FlattenOptions, flatten};
use nimble_curve_core::ops::place::{PlaceOptions, Placement, going_on, gone_on, place, placed};
use nimble_curve_core::ops::profile::fit;
use nimble_curve_core::ops::select::{Selection, select};
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::time::{Ticks, TimeRange};
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::Saving;
use nimble_curve_formats::name_map::read_name_map;
use nimble_curve_formats::profile::read_profile;
use serde::Serialize;

use self::landing::{as_carried, clock, landed, only, timed};
use self::parts::{Part, parts, print_parts};
use self::promise::{Promised, of_placed};
use crate::args::{Carry, Feet, TravelScale};
use crate::failure::Failure;
use crate::files::{self, InputArgs, Output};
use crate::gate::{self, Origin, Promise};
use crate::pose::pose;
use crate::report::{self, ErrorJson, LedgerJson};
use crate::step::{BoxedStep, Closeness, Joins, SceneCache, Step, StepOutput};
use crate::terminal::{Line, Report, Style};

#[derive(Serialize)]
struct CarryJson<'a> {
    pairs: usize,
    translation_scale: f64,
    world_error: ErrorJson,
    parts: &'a [Part],
    #[serde(flatten)]
    ledger: LedgerJson<'a>,
}

/// What carrying came to.
struct Came {
    carried: Carried,
    /// The pose of the target that was made to correspond to the source's.
    matched: Option<MatchingPose>,
    /// The result with the carried takes where they belong, adapted to the profile.
    scene: Scene,
    ledger: Ledger,
    /// What it should be, and in terms of what.
    promise: Promise,
    /// What that is in terms of, where it is not the source: a take that was placed is judged before and after.
    origin: Option<Scene>,
    /// What came of the judgement before.
    closing: Vec<Line>,
}

/// Carries a scene; all but reading and writing.
fn came(args: &Carry, source: &Scene, target: &Arc<Scene>) -> Result<Came, Failure> {
    let map = match &args.map {
        Some(path) => read_name_map(path)?,
        None => NameMap::default(),
    };
    let profile = args.profile.as_deref().map(read_profile).transpose()?;
    let sloping = profile.as_ref().is_some_and(|profile| !profile.holds.weighted);
    let (chosen, before) = chosen(source, args)?;
    let mut options = CarryOptions {
        tolerance: args.tolerance.times(controls::part_of_joints(args, target)),
        per_joint: args.per_joint,
        handles: args.tangents.map(Handles::from).or(sloping.then_some(Handles::Plain)),
        scale: match args.scale {
            TravelScale::Legs => None,
            TravelScale::Factor(factor) => Some(factor),
        },
        same_rigs: false,
        onto_controls: controls::take_over(args, target),
        hold_feet: args.feet == Feet::Hold,
        rigs: args.rig.clone(),
        target_rigs: args.target_rig.clone(),
        only: args.only.clone(),
        except: args.except.clone(),
        source_pose: args.source_pose.as_deref().map(|text| pose(text, source)).transpose()?,
        target_pose: args.target_pose.as_deref().map(|text| pose(text, target)).transpose()?,
    };
    let matched = poses::matched(args, (&chosen, target), &map, &mut options)?;
    let carrying = Carrying {
        args,
        source,
        chosen: &chosen,
        target,
        joints: &controls::joints_of(target),
        map: &map,
        options: &options,
        before: before.as_ref(),
        matched: matched.as_ref(),
    };
    let carried = carrying.carried(1.0)?;
    let (carried, made) = match &args.place {
        Some(placement) => {
            let made = carrying.placed(&carried, placement)?;
            (carried, made)
        }
        None if controls::take_over(args, target) => carrying.on_controls(carried)?,
        None => {
            let made = carrying.on_joints(&carried)?;
            (carried, made)
        }
    };
    let Made { mut scene, mut ledger, mut promise, origin, closing } = made;
    if let Some(profile) = &profile {
        let (fitted, more) = fit(&scene, profile, &args.tolerance)?;
        let mut next = Promise::same(&scene, &fitted, args.asked());
        next.claim = next.claim.excusing(&scene, &more);
        promise = promise.then(&next);
        scene = fitted;
        ledger = ledger.followed_by(more);
    }
    Ok(Came { carried, matched, scene, ledger, promise, origin, closing })
}

/// What carrying takes.
struct Carrying<'a> {
    args: &'a Carry,
    source: &'a Scene,
    /// What of it is carried, and what became of it before.
    chosen: &'a Scene,
    before: Option<&'a Ledger>,
    target: &'a Arc<Scene>,
    /// The target without its constraints.
    joints: &'a Arc<Scene>,
    map: &'a NameMap,
    options: &'a CarryOptions,
    matched: Option<&'a MatchingPose>,
}

/// What became of what was carried.
struct Made {
    scene: Scene,
    ledger: Ledger,
    promise: Promise,
    origin: Option<Scene>,
    closing: Vec<Line>,
}

impl Carrying<'_> {
    /// Carries within a part of the tolerance.
    fn carried(&self, part: f64) -> Result<Carried, Failure> {
        let tolerance = self.options.tolerance.times(part);
        Ok(carry(self.chosen, self.target, self.map, &CarryOptions { tolerance, ..self.options.clone() })?)
    }

    /// A ledger after what was done before.
    fn after(&self, ledger: Ledger) -> Ledger {
        let mut ledger = match self.before {
            Some(before) => before.clone().followed_by(ledger),
            None => ledger,
        };
        ledger.notes.extend(self.matched.map(poses::remark));
        ledger
    }

    fn promised<'p>(&'p self, carried: &'p Carried) -> Promised<'p> {
        let Carrying { args, source, chosen, joints, .. } = *self;
        Promised { args, source, chosen, target: joints, carried }
    }

    /// On joints, as they were carried.
    fn on_joints(&self, carried: &Carried) -> Result<Made, Failure> {
        let (scene, landed, notes) = landed(carried, self.target.takes.len(), self.args)?;
        let mut ledger = self.after(carried.ledger.clone());
        ledger.notes.extend(notes);
        ledger.notes.extend(controls::left_out(self.target));
        let promise = self.promised(carried).carried(&scene, &landed);
        Ok(Made { scene, ledger, promise, origin: None, closing: Vec::new() })
    }

    /// On the target's controls: by the curves of their like where these do it, else by what joints came to, which is carried closer where
    /// the judge finds it too far off.
    fn on_controls(&self, mut carried: Carried) -> Result<(Carried, Made), Failure> {
        let onto = Promised { target: self.target, ..self.promised(&carried) };
        if let Some((scene, ledger, promise)) =
            controls::as_they_are((self.args, self.map, self.options), &onto)?
        {
            let ledger = self.after(ledger);
            let made = Made { scene, ledger, promise, origin: None, closing: Vec::new() };
            return Ok((carried, made));
        }
        let mut closeness = Closeness::ASKED;
        loop {
            let (result, landed, notes) = landed(&carried, self.target.takes.len(), self.args)?;
            let promise = self.promised(&carried).carried(&result, &landed);
            // What joints do is judged in terms of the source, and what controls make of them in terms of that.
            let verdict = gate::judged_scene(&result, Origin { source: self.source, promise: &promise });
            if closeness.tighten(gate::tightening(&verdict)) {
                carried = self.carried(closeness.factor)?;
                continue;
            }
            let mut ledger = self.after(carried.ledger.clone());
            ledger.notes.extend(notes);
            let mut judged = StepOutput::new(result.clone(), ledger);
            judged.close_by(&verdict, self.source, self.args.over.accept)?;
            let mut ledger = judged.ledger;
            let (scene, mut promise, origin) = controls::keyed(&result, self.target, self.args, &mut ledger)?;
            let onto = Promised { target: self.target, ..self.promised(&carried) };
            let whole = onto.carried(&scene, &landed).claim;
            promise.beside.push(controls::of_source(self.source, whole, (&scene, &promise)));
            let closing = judged.closing.into_iter().filter(|(style, _)| *style == Style::Warn).collect();
            return Ok((carried, Made { scene, ledger, promise, origin: Some(origin), closing }));
        }
    }

    /// Placed among the target's own keys.
    fn placed(&self, carried: &Carried, placement: &Placement) -> Result<Made, Failure> {
        let (args, own) = (self.args, self.target.takes.len());
        let before = self.promised(carried).carried(&carried.scene, &as_carried(carried, own));
        let mut judged = StepOutput::new(carried.scene.clone(), self.after(carried.ledger.clone()));
        judged.close(self.source, &before, args.over.accept)?;
        let mut ledger = judged.ledger;
        let into = carried.scene.with_only(carried.scene.takes[..own].to_vec());
        let came = only(&carried.scene.takes[own..])?;
        let (take, notes) = timed(came, args, carried.scene.rate)?;
        ledger.notes.extend(notes);
        let options = PlaceOptions {
            placement: placement.clone(),
            onto: args.target_take.clone(),
            ease: Ticks((args.blend * into.rate.ticks_per_frame()).round() as i64),
            tolerance: args.tolerance,
        };
        let edits = if args.go_on { gone_on(&into, &take, &options)? } else { Vec::new() };
        let take = if args.go_on { going_on(&into, &take, &options)? } else { take };
        self.is_as_it_came((&into, edits), came, &take)?;
        let (scene, more) = place(&into, &take, &options)?;
        if *placement == Placement::Unkeyed {
            stays(&mut ledger, &into, args);
        }
        ledger.notes.extend(more.notes);
        let promise = of_placed(&into, placed(&into, &take, &scene, &options)?, args);
        Ok(Made { scene, ledger, promise, origin: Some(into), closing: judged.closing })
    }

    /// Judges a take that is to be placed: what was carried, by another clock and, where it goes on, from elsewhere.
    fn is_as_it_came(
        &self,
        (into, edits): (&Scene, Vec<Edit>),
        came: &Take,
        take: &Take,
    ) -> Result<(), Failure> {
        let [before, after] = [came, take].map(|take| into.with_only(vec![take.clone()]));
        let clock = clock(came.range, take.range);
        let claim = Claim { edits, ..Claim::same(&before, &after).with_clocks(&[clock]) };
        let promise = Promise::of(claim, gate::EXACT, Scope::Nothing);
        let verdict = gate::judged_scene(&after, Origin { source: &before, promise: &promise });
        let refusal = gate::refusal(&verdict, &after, None).filter(|_| !self.args.over.accept);
        refusal.map_or(Ok(()), |why| Err(Failure::new(why)))
    }
}

impl Carry {
    /// What the result is held to, however close it is worked.
    fn asked(&self) -> Tolerance {
        self.asked.unwrap_or(self.tolerance)
    }

    /// What is taken for granted of the target's file.
    fn onto_input(&self) -> InputArgs {
        InputArgs { unit: self.target_unit, up: self.target_up, ..InputArgs::default() }
    }

    fn refusal(&self, left_out: usize) -> Option<Failure> {
        let refused = self.strict && left_out > 0;
        refused.then(|| {
            let what = report::counted(left_out, "track");
            Failure::new(format!("{what} would be left out, and --strict allows none: nothing was written"))
        })
    }
}

impl Step for Carry {
    fn work(&self, scene: &Scene, _: &Path, shelf: &SceneCache) -> Result<StepOutput, Failure> {
        let target = bodies(shelf.scene(&self.target, self.onto_input())?);
        let source = apart(scene);
        let came = came(self, &source, &target)?;
        poses::check(self, came.matched.as_ref())?;
        poses::keep(self, came.matched.as_ref(), &target)?;
        if let Some(refusal) = self.refusal(came.ledger.count(Fate::LeftOut)) {
            return Err(refusal);
        }
        let mut worked = StepOutput::new(came.scene, came.ledger);
        worked.warnings.extend(elsewhere(&came.carried));
        worked.closing = came.closing;
        if came.origin.is_some() {
            worked.joins = Joins::Already;
        }
        let taken_apart = match source {
            Cow::Borrowed(_) => None,
            Cow::Owned(apart) => Some(apart),
        };
        let origin = came.origin.or(taken_apart);
        (worked.promise, worked.origin) = (Some(came.promise), origin);
        Ok(worked)
    }

    fn closer(&self, factor: f64) -> Option<BoxedStep> {
        Some(Box::new(closer(self, factor)))
    }
}

fn closer(args: &Carry, factor: f64) -> Carry {
    Carry { tolerance: args.tolerance.times(factor), asked: Some(args.asked()), ..args.clone() }
}

pub fn run(args: &Carry) -> Result<(), Failure> {
    let output = args.output.as_ref().map(|output| Output::new(output.clone(), args.over));
    if let Some(output) = &output {
        output.check(&[&args.source, &args.target])?;
    }
    let source = apart(&files::read(&args.source, args.input)?.scene).into_owned();
    let target = bodies(Arc::new(files::read(&args.target, args.onto_input())?.scene));
    let mut came = came(args, &source, &target)?;
    poses::check(args, came.matched.as_ref())?;
    let refusal = args.refusal(came.ledger.count(Fate::LeftOut));
    let verdict = match output.as_ref().filter(|_| refusal.is_none()) {
        Some(output) => written(args, output, &mut came, (&source, &target))?,
        None => {
            let origin = Origin { source: came.origin.as_ref().unwrap_or(&source), promise: &came.promise };
            gate::judged_scene(&came.scene, origin)
        }
    };
    poses::keep(args, came.matched.as_ref(), &target)?;
    let Came { carried, scene, mut ledger, origin, mut closing, .. } = came;
    // What was placed was judged before, in terms of the source.
    if origin.is_none() {
        verdict.settle(&mut ledger, &source);
    }
    let outcome = gate::outcome(&ledger, &verdict, &scene);
    if args.map.is_none() {
        let unmapped = unmapped::remedy((&source, &args.source), (&target, &args.target), &ledger);
        closing.extend(unmapped.map(|remedy| (Style::Warn, remedy)));
    }
    closing.extend(gate::closing(&verdict, &scene));
    let parts = parts(&ledger, &source, &target, &carried);
    let space = scene.space;
    let none = MeasuredError::none(Quantity::Angle);
    let in_world = verdict.world_turn.as_ref().map_or(none, |(error, _)| *error);
    let json = CarryJson {
        pairs: carried.pairs,
        translation_scale: carried.translation_scale,
        world_error: ErrorJson::new(&in_world, &space),
        parts: &parts,
        ledger: LedgerJson::new(&ledger, &space),
    };
    if let Some(path) = &args.ledger {
        let mut bytes = Vec::new();
        report::print_json(&mut bytes, &json)?;
        nimble_curve_formats::write_bytes(&bytes, path)?;
    }
    let to = args.output.clone().unwrap_or_else(|| PathBuf::from("(dry run)"));
    let mut out = Report::beside(&to);
    if args.json {
        report::print_json(&mut out, &json)?;
    } else {
        print(&mut out, args, &to, (&carried, &outcome, &closing), &ledger, &parts, &target)?;
    }
    refusal.map_or(Ok(()), Err)
}

/// The target with each body in a rig of its own.
fn bodies(target: Arc<Scene>) -> Arc<Scene> {
    match apart(&target) {
        Cow::Borrowed(_) => target,
        Cow::Owned(apart) => Arc::new(apart),
    }
}

/// Writes what was carried; where the judge finds it too far off it is carried closer first.
fn written(
    args: &Carry,
    output: &Output,
    came: &mut Came,
    (source, target): (&Scene, &Arc<Scene>),
) -> Result<Verdict, Failure> {
    let mut saving = Saving { base: Some(&args.target), ..Saving::default() };
    let allowed = saving.tolerance;
    let mut closeness = Closeness::ASKED;
    loop {
        let origin = Origin { source: came.origin.as_ref().unwrap_or(source), promise: &came.promise };
        let prepared = output.prepare(&came.scene, (&saving, &allowed), Some(origin))?;
        if !closeness.tighten(prepared.tightening()) {
            return Ok(output.finish(prepared, &came.scene)?.verdict);
        }
        saving.tolerance = allowed.times(closeness.factor);
        *came = self::came(&closer(args, closeness.factor), source, target)?;
    }
}

/// A warning where bones point elsewhere in the two rest poses.
fn elsewhere(carried: &Carried) -> Option<String> {
    let far: Vec<_> = carried.apart.iter().filter(|apart| apart.angle > 20_f64.to_radians()).collect();
    let worst = far.first()?;
    Some(format!(
        "{} elsewhere in the two reference poses, by up to {:.0} deg ({} → {}): where these poses do not correspond, say which do with --source-pose or --target-pose",
        if far.len() == 1 { "1 bone points".to_owned() } else { format!("{} bones point", far.len()) },
        worst.angle.to_degrees(),
        worst.source,
        worst.target,
    ))
}

/// The takes and frames that are to be carried, flattened or held where that is asked for.
fn chosen(source: &Scene, args: &Carry) -> Result<(Scene, Option<Ledger>), Failure> {
    let mut scene = source.clone();
    let mut ledger: Option<Ledger> = None;
    if !args.take.is_empty() || args.frames.is_some() {
        let range = args.frames.map(|(a, b)| TimeRange::new(scene.rate.ticks_at(a), scene.rate.ticks_at(b)));
        let selection = Selection {
            takes: args.take.clone(),
            only: Vec::new(),
            range,
            tolerance: args.tolerance.times(0.2),
        };
        let (part, more) = select(&scene, &selection)?;
        scene = part;
        ledger = Some(more);
    }
    if args.flatten {
        let tolerance = args.tolerance.times(0.2);
        let (flat, more) = flatten(&scene, &FlattenOptions { tolerance, ..FlattenOptions::default() })?;
        scene = flat;
        ledger = Some(match ledger {
            Some(ledger) => ledger.followed_by(more),
            None => more,
        });
    }
    if let Some(at) = args.pose {
        let time = scene.rate.ticks_at(at);
        let takes =
            scene.takes.iter().map(|take| held(&scene, take, time)).collect::<Result<Vec<Take>, _>>()?;
        scene.takes = takes;
    }
    Ok((scene, ledger))
}

/// Entries of channels that have keys where a take was placed between them: these stay, and what was carried does not come.
fn stays(ledger: &mut Ledger, into: &Scene, args: &Carry) {
    let addresses = Addresses::new(into);
    let onto = into.takes.iter().find(|take| args.target_take.as_ref().is_none_or(|name| *name == take.name));
    let full: HashSet<String> = (onto.into_iter().flat_map(Take::tracks))
        .map(|(_, track)| addresses.property(&track.target))
        .collect();
    for entry in &mut ledger.entries {
        let to = entry.to.as_ref().unwrap_or(&entry.channel);
        if !entry.fate.is_gone() && full.contains(to) {
            (entry.fate, entry.error, entry.after) = (Fate::LeftOut, None, 0);
            "has keys in the target, which stay".clone_into(&mut entry.note);
        }
    }
}

/// How many nodes have partners and how travel grows, a line for each pair of rigs.
fn came_over(carried: &Carried, target: &Scene) -> Vec<String> {
    let line = |rig: &CarriedRig| {
        let travel = match rig.by {
            TravelBy::Factor => "",
            TravelBy::Legs => " (ratio of leg lengths)",
            TravelBy::Walker => " (as of the rig that walks)",
            TravelBy::Heights => " (ratio of heights)",
            TravelBy::Nothing => " (neither legs nor heights to compare: --scale says otherwise)",
        };
        let whose = match carried.rigs.len() {
            1 => "the target".to_owned(),
            _ => format!("'{}'", target.rigs[rig.rigs.target].name),
        };
        let pairs = match rig.pairs {
            1 => "1 node of {whose} has a partner".replace("{whose}", &whose),
            count => format!("{count} nodes of {whose} have partners"),
        };
        format!("{pairs}; travel is scaled by {:.3}{travel}", rig.travel)
    };
    carried.rigs.iter().map(line).collect()
}

fn print(
    out: &mut Report,
    args: &Carry,
    to: &Path,
    (carried, outcome, closing): (&Carried, &Line, &[Line]),
    ledger: &Ledger,
    parts: &[Part],
    target: &Scene,
) -> Result<(), Failure> {
    let space = target.space;
    let arrow =
        format!("{} → {} on the rig of {}", args.source.display(), to.display(), args.target.display());
    report::head(out, &arrow, outcome)?;
    report::print_remarks(out, &came_over(carried, target))?;
    print_parts(out, parts, &space)?;
    writeln!(out)?;
    report::print_fates(out, ledger, &space)?;
    report::print_left_out(out, ledger)?;
    report::print_remarks(out, &ledger.notes)?;
    if let Some(warning) = elsewhere(carried) {
        report::close(out, &[(Style::Warn, warning)])?;
    }
    Ok(report::close(out, closing)?)
}
