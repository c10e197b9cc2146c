//! `carry`: animation from one rig onto another.

use std::collections::{BTreeMap, HashSet};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nimble_curve_core::address::Addresses;
use nimble_curve_core::fit::Handles;
use nimble_curve_core::judge::{Claim, Clock, Scope, Span, Verdict};
use nimble_curve_core::ledger::{Fate, Ledger, MeasuredError};
use nimble_curve_core::ops::carry::{Carried, CarryOptions, NameMap, PoseAt, carry, held, keyed, pose_from};
use nimble_curve_core::ops::layers::{FlattenOptions, flatten};
use nimble_curve_core::ops::place::{PlaceOptions, Placed, Placement, place, placed};
use nimble_curve_core::ops::profile::fit;
use nimble_curve_core::ops::retime::{shifted, stretched};
use nimble_curve_core::ops::select::{Selection, select};
use nimble_curve_core::ops::{body_part, body_part_rank};
use nimble_curve_core::rig::NodeId;
use nimble_curve_core::scene::{Scene, Take};
use nimble_curve_core::similar::similar;
use nimble_curve_core::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::Saving;
use nimble_curve_formats::name_map::read_name_map;
use nimble_curve_formats::profile::read_profile;
use serde::Serialize;

use crate::args::{Carry, Feet, TravelScale};
use crate::failure::Failure;
use crate::files::{self, InputArgs, Output};
use crate::gate::{self, Beside, Held, InWorld, Origin, Promise};
use crate::report::{self, ErrorJson, LedgerJson, amount, frame};
use crate::step::{ATTEMPTS, Joins, Shelf, Step, Worked};
use crate::table::{Align, Table};
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

/// What came over to one part of the body.
#[derive(Clone, Debug, Default, Serialize)]
struct Part {
    part: String,
    /// Tracks of the source that are on it.
    tracks: usize,
    exact: usize,
    refitted: usize,
    left_out: usize,
    /// Joints of the target that move, and how many there are.
    moved: usize,
    joints: usize,
    #[serde(skip)]
    largest: f64,
}

/// What carrying came to.
struct Came {
    carried: Carried,
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

/// Where a carried take went, and by which clock.
struct Landed {
    take: usize,
    range: TimeRange,
    clock: Clock,
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
    let options = CarryOptions {
        tolerance: args.tolerance,
        handles: args.tangents.map(Handles::from).or(sloping.then_some(Handles::Plain)),
        scale: match args.scale {
            TravelScale::Hips => None,
            TravelScale::Factor(factor) => Some(factor),
        },
        hold_feet: args.feet == Feet::Hold,
        only: args.only.clone(),
        except: args.except.clone(),
        source_pose: args.source_pose.as_deref().map(|text| pose(text, source)).transpose()?,
        target_pose: args.target_pose.as_deref().map(|text| pose(text, target)).transpose()?,
    };
    let carried = carry(&chosen, target, &map, &options)?;
    let mut ledger = match before {
        Some(before) => before.followed_by(carried.ledger.clone()),
        None => carried.ledger.clone(),
    };
    let promised = Promised { args, source, chosen: &chosen, target, carried: &carried };
    let own = target.takes.len();
    let (mut scene, mut promise, origin, closing) = match &args.place {
        Some(placement) => {
            let before = promised.carried(&carried.scene, &as_carried(&carried, own));
            let mut judged = Worked::new(carried.scene.clone(), ledger);
            judged.close(source, &before, args.over.accept)?;
            ledger = judged.ledger;
            let into = Scene { takes: carried.scene.takes[..own].to_vec(), ..carried.scene.clone() };
            let (take, notes) = timed(only(&carried.scene.takes[own..])?, args, carried.scene.rate)?;
            ledger.notes.extend(notes);
            let options = PlaceOptions {
                placement: placement.clone(),
                onto: args.target_take.clone(),
                ease: Ticks((args.blend * into.rate.ticks_per_frame()).round() as i64),
                tolerance: args.tolerance,
            };
            let (result, more) = place(&into, &take, &options)?;
            if *placement == Placement::Unkeyed {
                stays(&mut ledger, &into, args);
            }
            ledger.notes.extend(more.notes);
            let promise = of_placed(&into, placed(&into, &take, &result, &options)?, args);
            (result, promise, Some(into), judged.closing)
        }
        None => {
            let (result, landed, notes) = landed(&carried, own, args)?;
            ledger.notes.extend(notes);
            let promise = promised.carried(&result, &landed);
            (result, promise, None, Vec::new())
        }
    };
    if let Some(profile) = &profile {
        let (fitted, more) = fit(&scene, profile, &args.tolerance)?;
        let mut next = Promise::same(&scene, &fitted, args.tolerance);
        next.claim = next.claim.excusing(&scene, &more);
        promise = promise.then(&next);
        scene = fitted;
        ledger = ledger.followed_by(more);
    }
    Ok(Came { carried, scene, ledger, promise, origin, closing })
}

/// What is promised of carried takes is made of.
struct Promised<'a> {
    args: &'a Carry,
    source: &'a Scene,
    chosen: &'a Scene,
    target: &'a Arc<Scene>,
    carried: &'a Carried,
}

impl Promised<'_> {
    /// What carried takes are in terms of the source, and the target's own in terms of the target.
    fn carried(&self, result: &Scene, landed: &[Landed]) -> Promise {
        let mut claim = self.carried.claim.clone();
        let own = self.target.takes.len();
        let chosen = Claim::same(self.source, self.chosen);
        claim.spans = (claim.spans.iter())
            .filter_map(|span| {
                let (landed, before) = (landed.get(span.result - own)?, chosen.spans.get(span.source)?);
                let held = self.args.pose.map(|at| Clock {
                    result: Ticks::ZERO,
                    source: self.source.rate.ticks_at(at),
                    speed: 0.0,
                });
                let clock = held.unwrap_or(before.clock).then(&landed.clock);
                Some(Span { source: before.source, result: landed.take, range: landed.range, clock })
            })
            .collect();
        for excuse in &mut claim.excuses {
            excuse.take = chosen.spans.get(excuse.take).map_or(excuse.take, |span| span.source);
        }
        claim.takes_chosen = true;
        let tolerance = self.args.tolerance;
        // What was cut and flattened before may be off by its part.
        let world = InWorld { metres: f64::INFINITY, angle: tolerance.angle };
        let mut of_target = Claim::same(self.target, result);
        of_target.spans.retain(|span| self.target.takes[span.source].name == result.takes[span.result].name);
        of_target.takes_chosen = self.args.without_target_takes;
        let beside = Beside {
            source: Arc::clone(self.target),
            claim: of_target,
            scope: Some(Scope::AllButLayers),
            held: Held::ToLimits,
        };
        Promise { world: Some(world), beside: vec![beside], ..Promise::of(claim, tolerance, Scope::Timeline) }
    }
}

/// What is promised of a take that another one was placed onto.
fn of_placed(into: &Scene, placed: Placed, args: &Carry) -> Promise {
    let into = Arc::new(into.clone());
    let mut old = placed.old.into_iter();
    let first = old.next().unwrap_or_else(Claim::nothing);
    let beside = |source: &Arc<Scene>, claim: Claim| Beside {
        source: Arc::clone(source),
        claim,
        scope: None,
        held: Held::ToLimits,
    };
    let alone = Arc::new(placed.alone);
    let mut others: Vec<Beside> = old.map(|claim| beside(&into, claim)).collect();
    others.push(beside(&alone, placed.new));
    Promise { beside: others, ..Promise::of(first, args.tolerance, Scope::Timeline) }
}

impl Carry {
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
    fn work(&self, scene: &Scene, _: &Path, shelf: &Shelf) -> Result<Worked, Failure> {
        let target = shelf.scene(&self.target, self.onto_input())?;
        let came = came(self, scene, &target)?;
        if let Some(refusal) = self.refusal(came.ledger.count(Fate::LeftOut)) {
            return Err(refusal);
        }
        let mut worked = Worked::new(came.scene, came.ledger);
        worked.warnings.extend(elsewhere(&came.carried));
        worked.closing = came.closing;
        (worked.promise, worked.origin) = (Some(came.promise), came.origin);
        if worked.origin.is_some() {
            worked.joins = Joins::Already;
        }
        Ok(worked)
    }

    fn closer(&self, factor: f64) -> Option<Carry> {
        Some(Carry { tolerance: self.tolerance.times(factor), ..self.clone() })
    }
}

pub fn run(args: &Carry) -> Result<(), Failure> {
    let output = args.output.as_ref().map(|output| Output::new(output.clone(), args.over));
    if let Some(output) = &output {
        output.check(&[&args.source, &args.target])?;
    }
    let source = files::read(&args.source, args.input)?.scene;
    let target = Arc::new(files::read(&args.target, args.onto_input())?.scene);
    let mut came = came(args, &source, &target)?;
    let refusal = args.refusal(came.ledger.count(Fate::LeftOut));
    let verdict = match output.as_ref().filter(|_| refusal.is_none()) {
        Some(output) => written(args, output, &mut came, (&source, &target))?,
        None => {
            let origin = Origin { source: came.origin.as_ref().unwrap_or(&source), promise: &came.promise };
            gate::judged_scene(&came.scene, origin)
        }
    };
    let Came { carried, scene, mut ledger, origin, mut closing, .. } = came;
    // What was placed was judged before, in terms of the source.
    if origin.is_none() {
        verdict.settle(&mut ledger, &source);
    }
    let outcome = gate::outcome(&ledger, &verdict, &scene);
    closing.extend(gate::closing(&verdict, &scene));
    let parts = parts(&ledger, &source, &target, &carried.scene);
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

/// Writes what was carried; where the judge finds it too far off it is carried closer first.
fn written(
    args: &Carry,
    output: &Output,
    came: &mut Came,
    (source, target): (&Scene, &Arc<Scene>),
) -> Result<Verdict, Failure> {
    let mut saving = Saving { base: Some(&args.target), ..Saving::default() };
    let allowed = saving.tolerance;
    let promised = came.promise.tolerance;
    let (mut factor, mut attempt) = (1.0, 0);
    loop {
        attempt += 1;
        let origin = Origin { source: came.origin.as_ref().unwrap_or(source), promise: &came.promise };
        let prepared = output.prepare(&came.scene, (&saving, &allowed), Some(origin))?;
        factor *= prepared.tightening().unwrap_or(1.0);
        let again = prepared.tightening().and_then(|_| args.closer(factor)).filter(|_| attempt < ATTEMPTS);
        let Some(closer) = again else {
            return Ok(output.finish(prepared, &came.scene)?.verdict);
        };
        saving.tolerance = allowed.times(factor);
        *came = self::came(&closer, source, target)?;
        // What was promised is what was asked for.
        came.promise.tolerance = promised;
        came.promise.world = came.promise.world.map(|world| InWorld { angle: promised.angle, ..world });
    }
}

/// A warning where bones point elsewhere in the two rest poses.
fn elsewhere(carried: &Carried) -> Option<String> {
    let far: Vec<_> = carried.apart.iter().filter(|apart| apart.angle > 20_f64.to_radians()).collect();
    let worst = far.first()?;
    Some(format!(
        "{} elsewhere in the two rest poses, by up to {:.0} deg ({} → {}): where these poses do not correspond, say which do with --source-pose or --target-pose",
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
        let (flat, more) = flatten(&scene, &FlattenOptions { only: Vec::new(), tolerance })?;
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

/// A pose as it is typed: a frame of the first take, `TAKE@FRAME`, or a file with the same rig.
fn pose(text: &str, scene: &Scene) -> Result<PoseAt, Failure> {
    let at = |name: Option<&str>, frame: f64| -> Result<PoseAt, Failure> {
        let take = match name {
            None => scene.takes.first(),
            Some(name) => scene.takes.iter().find(|take| take.name == name),
        };
        let Some(take) = take else {
            let names = || scene.takes.iter().map(|take| take.name.as_str());
            let hint =
                name.and_then(|name| similar(name, names())).map(|name| format!(": did you mean '{name}'?"));
            let what = name.map_or("no take".to_owned(), |name| format!("no take '{name}'"));
            return Err(Failure::new(format!(
                "the pose '{text}': there is {what}{}",
                hint.unwrap_or_default()
            )));
        };
        let time = scene.rate.ticks_at(frame);
        Ok(PoseAt { take: held(scene, take, time)?, time })
    };
    if let Ok(frame) = text.parse::<f64>() {
        return at(None, frame);
    }
    if let Some((name, Ok(frame))) = text.rsplit_once('@').map(|(name, frame)| (name, frame.parse::<f64>())) {
        return at(Some(name), frame);
    }
    let other = files::read(Path::new(text), InputArgs::default())?.scene;
    // What is a pose there is one here, whatever its axes and unit.
    let (other, _) = nimble_curve_core::ops::space::in_space(&other, &scene.space);
    let take = other.takes.first().map(|take| (take, take.range.first));
    Ok(pose_from(scene, &other, take)?)
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
        if entry.fate != Fate::LeftOut && full.contains(to) {
            (entry.fate, entry.error, entry.after) = (Fate::LeftOut, None, 0);
            "has keys in the target, which stay".clone_into(&mut entry.note);
        }
    }
}

/// The only one of some takes.
fn only(takes: &[Take]) -> Result<&Take, Failure> {
    match takes {
        [take] => Ok(take),
        takes => {
            let names: Vec<&str> = takes.iter().map(|take| take.name.as_str()).collect();
            Err(Failure::new(format!(
                "one take can be placed, and there are {}: choose with --take",
                names.join(", ")
            )))
        }
    }
}

/// A carried take at the time that was asked for, and what there is to say of it.
fn timed(take: &Take, args: &Carry, rate: FrameRate) -> Result<(Take, Vec<String>), Failure> {
    let mut notes = Vec::new();
    let mut take = if args.pose.is_some() { keyed(take) } else { take.clone() };
    if let Some(frames) = args.to_frames {
        take = stretched(&take, frames, rate)?;
        notes.push(format!("'{}' is stretched to {frames} frames", take.name));
    }
    if let Some(at) = args.at {
        let by = Ticks(rate.ticks_at(at).0 - take.range.first.0);
        take = shifted(&take, by);
        notes.push(format!("'{}' starts at frame {}", take.name, frame(at)));
    }
    Ok((take, notes))
}

/// The clock of a take that was shifted and stretched.
fn clock(before: TimeRange, after: TimeRange) -> Clock {
    let length = |range: TimeRange| (range.last - range.first).as_f64();
    let speed = if length(after) > 0.0 { length(before) / length(after) } else { 1.0 };
    Clock { result: after.first, source: before.first, speed }
}

/// Carried takes where carrying left them: behind the target's own.
fn as_carried(carried: &Carried, own: usize) -> Vec<Landed> {
    let takes = carried.scene.takes[own..].iter().enumerate();
    takes.map(|(index, take)| Landed { take: own + index, range: take.range, clock: Clock::SAME }).collect()
}

/// The carried takes at the time that was asked for, before those that the target has itself: where a format holds one
/// take, it is the new one. Also where they are, and what there is to say of it.
fn landed(carried: &Carried, own: usize, args: &Carry) -> Result<(Scene, Vec<Landed>, Vec<String>), Failure> {
    let takes = &carried.scene.takes;
    let mut scene = Scene { takes: takes[..own].to_vec(), ..carried.scene.clone() };
    let (mut notes, mut fresh, mut landed) = (Vec::new(), Vec::new(), Vec::new());
    for (index, old) in takes[own..].iter().enumerate() {
        let (take, more) = timed(old, args, scene.rate)?;
        notes.extend(more);
        if let Some((name, fresh)) = carried.renamed.iter().find(|(_, fresh)| *fresh == take.name) {
            notes.push(format!("the target has a take '{name}': the new one is called '{fresh}'"));
        }
        landed.push(Landed { take: index, range: take.range, clock: clock(old.range, take.range) });
        fresh.push(take);
    }
    if args.without_target_takes && !scene.takes.is_empty() {
        let names: Vec<&str> = scene.takes.iter().map(|take| take.name.as_str()).collect();
        notes.push(format!("left aside of the target: {}", report::listed(&names, 6)));
        scene.takes.clear();
    }
    scene.takes.splice(0..0, fresh);
    Ok((scene, landed, notes))
}

/// What came over, by parts of the body: tracks by where they are on the source, joints by where they are on the target.
fn parts(ledger: &Ledger, source: &Scene, target: &Scene, result: &Scene) -> Vec<Part> {
    let addresses = Addresses::new(source);
    let part_of = |scene: &Scene, node: NodeId, is_attribute: bool| {
        if is_attribute { "controls".to_owned() } else { body_part(&scene.rigs[0], node) }
    };
    let mut parts: BTreeMap<(usize, String), Part> = BTreeMap::new();
    fn of(parts: &mut BTreeMap<(usize, String), Part>, name: String) -> &mut Part {
        let rank = if name == "controls" { 100 } else { body_part_rank(&name) };
        parts.entry((rank, name.clone())).or_insert(Part { part: name, ..Part::default() })
    }
    for entry in ledger.entries.iter().filter(|entry| entry.before > 0 || entry.fate != Fate::Kept) {
        let Ok(place) = addresses.find_property(&source.rigs, &entry.channel) else { continue };
        if place.rig != 0 {
            continue;
        }
        let node = source.rigs[0].node(place.node);
        let is_attribute = node.is_some_and(|node| node.attribute(&place.property).is_some());
        let part = of(&mut parts, part_of(source, place.node, is_attribute));
        part.tracks += 1;
        match entry.fate {
            Fate::Kept | Fate::Exact => part.exact += 1,
            Fate::Refitted | Fate::Sampled => part.refitted += 1,
            Fate::LeftOut => part.left_out += 1,
        }
        if let Some(error) = entry.error.filter(|error| error.quantity == Quantity::Angle) {
            part.largest = part.largest.max(error.largest);
        }
    }
    let own = target.takes.len();
    let moved: HashSet<NodeId> =
        (result.takes[own..].iter().flat_map(Take::tracks)).map(|(_, track)| track.target.node).collect();
    for (id, node) in target.rigs[0].nodes().filter(|(_, node)| !node.kind.is_support()) {
        let is_control = !node.attributes.is_empty();
        let part = of(&mut parts, part_of(target, id, is_control));
        part.joints += 1;
        part.moved += usize::from(moved.contains(&id));
    }
    parts.into_values().collect()
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
    let travel = if args.scale == TravelScale::Hips { " (ratio of hip heights)" } else { "" };
    let pairs = report::counted(carried.pairs, "node");
    let came =
        format!("{pairs} of the target have partners; travel is scaled by {:.3}{travel}", carried.travel);
    report::print_remarks(out, [&came])?;
    print_parts(out, parts, &space)?;
    writeln!(out)?;
    report::print_fates(out, ledger, &space)?;
    report::print_left_out(out, ledger)?;
    report::print_remarks(out, &ledger.notes)?;
    if let Some(warning) = elsewhere(carried) {
        writeln!(out, "{}", Style::Warn.paint(&format!("  {warning}")))?;
    }
    Ok(report::close(out, closing)?)
}

fn print_parts(
    out: &mut Report,
    parts: &[Part],
    space: &nimble_curve_core::space::Space,
) -> Result<(), Failure> {
    let mut table = Table::new(&[
        ("part", Align::Left),
        ("in source", Align::Right),
        ("exact", Align::Right),
        ("refitted", Align::Right),
        ("error", Align::Right),
        ("left out", Align::Right),
        ("moving", Align::Right),
        ("remark", Align::Left),
    ]);
    for part in parts.iter().filter(|part| part.tracks > 0 || part.joints > 0) {
        let came = part.exact + part.refitted;
        let remark = match (part.tracks, came, part.joints) {
            (0, _, _) => "still in the source",
            (_, 0, _) => "did not come over",
            (_, _, 0) => "",
            _ if part.left_out > 0 => "some left out",
            _ => "",
        };
        let zero = |count: usize| if count == 0 { "·".to_owned() } else { count.to_string() };
        let cells = [
            part.part.clone(),
            zero(part.tracks),
            zero(part.exact),
            zero(part.refitted),
            if part.largest > 0.0 { amount(part.largest, Quantity::Angle, space) } else { String::new() },
            zero(part.left_out),
            if part.joints > 0 { format!("{} of {}", part.moved, part.joints) } else { String::new() },
            remark.to_owned(),
        ];
        match remark {
            "did not come over" => table.styled(Style::Bad, cells),
            "some left out" => table.styled(Style::Warn, cells),
            "still in the source" => table.styled(Style::Faint, cells),
            _ => table.row(cells),
        }
    }
    table.least_telling(&["moving", "in source"]).without_empty_columns().print(out)?;
    Ok(())
}
