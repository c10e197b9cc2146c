//! The one way out: what is to be written is read back as other programs will read it and judged against what it was made
//! of, before it takes its name.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use nimble_curve_core::judge::{Claim, Clock, Judged, Limits, Scope, Verdict, inventory, judge};
use nimble_curve_core::ledger::{Fate, Ledger, MeasuredError};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::scene::{Clip, Scene, Target};
use nimble_curve_core::value::Quantity;
use nimble_curve_formats::extra_data::ASIDE;
use nimble_curve_formats::{Encoded, Format, Saving};

use crate::failure::Failure;
use crate::report::{amount, counted, frame};
use crate::terminal::{Line, Style};

/// What a command promises of its result.
#[derive(Clone, Debug)]
pub struct Promise {
    /// What the result should be.
    pub claim: Claim,
    /// How far it may be from that.
    pub tolerance: Tolerance,
    /// How far things may be from it in the world; where nothing is promised of that, none.
    pub world: Option<InWorld>,
    /// How far places may be off in the world after all steps, the file's format included, in metres, where that was asked
    /// for: it counts in place of what the steps add up to.
    pub whole_world: Option<f64>,
    /// How far it may be, in parts of the tolerance, from what a sampled source lets expect between its samples; where
    /// nothing is promised of that, infinite.
    pub between: f64,
    /// How much of the source it holds beside motion.
    pub scope: Scope,
    /// What else it should be, in terms of other scenes, or of other stretches of the same.
    pub beside: Vec<Beside>,
    /// The option that may help where it is not kept.
    pub remedy: Option<&'static str>,
}

/// How far a result may be from its source in the world.
#[derive(Clone, Copy, Debug)]
pub struct InWorld {
    /// Places, in metres.
    pub metres: f64,
    /// Rotations, in radians.
    pub angle: f64,
}

/// One more claim of a result.
#[derive(Clone, Debug)]
pub struct Beside {
    /// In terms of what.
    pub source: Arc<Scene>,
    /// What.
    pub claim: Claim,
    /// What of the source is there beside motion.
    pub scope: Option<Scope>,
    /// Whether there are limits; what is not held is measured and printed.
    pub held: Held,
}

/// Whether a claim is held to its limits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Held {
    /// Beyond its limits nothing is written.
    ToLimits,
    /// It says how far something was moved on purpose.
    Told,
}

impl Promise {
    /// The same motion within a tolerance, and all that there is beside it.
    pub fn same(source: &Scene, result: &Scene, tolerance: Tolerance) -> Promise {
        Promise::of(Claim::same(source, result), tolerance, Scope::Everything)
    }

    /// What a claim says, within a tolerance.
    pub fn of(claim: Claim, tolerance: Tolerance, scope: Scope) -> Promise {
        Promise {
            claim,
            tolerance,
            world: None,
            whole_world: None,
            between: f64::INFINITY,
            scope,
            beside: Vec::new(),
            remedy: None,
        }
    }

    /// A clip that was cut out of a take.
    pub fn part(source: &Scene, take: usize, result: &Scene, clip: &Clip, tolerance: Tolerance) -> Promise {
        Promise::of(Claim::part(source, take, result, clip.range.first), tolerance, Scope::MotionAlone)
    }

    /// The same motion with nothing but its times changed, each take by a clock of its own.
    pub fn timed(source: &Scene, result: &Scene, clocks: &[Clock]) -> Promise {
        // Times are rounded to ticks.
        Promise::of(Claim::same(source, result).with_clocks(clocks), EXACT, Scope::Everything)
    }

    /// The promise of two steps, one after the other, of which the second one says that all is the same.
    pub fn then(&self, next: &Promise) -> Promise {
        let (a, b) = (self.tolerance, next.tolerance);
        let tolerance =
            Tolerance { angle: a.angle + b.angle, length: a.length + b.length, number: a.number + b.number };
        let both =
            |(a, b): (InWorld, InWorld)| InWorld { metres: a.metres + b.metres, angle: a.angle + b.angle };
        let after = |beside: &Beside| Beside { claim: beside.claim.then(&next.claim), ..beside.clone() };
        Promise {
            claim: self.claim.then(&next.claim),
            tolerance,
            world: self.world.zip(next.world).map(both),
            whole_world: self.whole_world.or(next.whole_world),
            between: f64::INFINITY,
            scope: self.scope.max(next.scope),
            beside: self.beside.iter().map(after).collect(),
            remedy: self.remedy.or(next.remedy),
        }
    }

    /// How far things may be off in the world.
    fn in_world(&self) -> Option<InWorld> {
        self.whole_world.map(|metres| InWorld { metres, angle: f64::INFINITY }).or(self.world)
    }

    /// Whether it can follow another one as if both were one.
    pub fn can_follow(&self) -> bool {
        self.claim.is_plain() && self.beside.is_empty()
    }

    /// Judges a scene along it; `precision` is how well the scene tells instants apart, see [`judge`].
    pub fn judged(&self, source: &Scene, result: &Scene, limits: Limits, precision: f64) -> Verdict {
        let mut verdict = judge(source, result, &self.claim, limits, precision);
        for (index, beside) in self.beside.iter().enumerate() {
            let own = if beside.held == Held::Told { Limits::NONE } else { limits };
            let found = judge(&beside.source, result, &beside.claim, own, precision);
            match beside.held {
                Held::ToLimits => verdict.take_in(found.about(index + 1)),
                Held::Told => verdict.told.extend(found.judged),
            }
        }
        verdict
    }

    /// What a scene lacks beside motion.
    fn missing(&self, source: &Scene, result: &Scene) -> Vec<String> {
        let mut missing = inventory(source, result, &self.claim, self.scope);
        for beside in &self.beside {
            if let Some(scope) = beside.scope {
                missing.extend(inventory(&beside.source, result, &beside.claim, scope));
            }
        }
        missing
    }
}

/// How far anything may be off that is the same but for rounding.
pub const EXACT: Tolerance = Tolerance { angle: 1e-6, length: 1e-6, number: 1e-6 };

/// What a result was made of, and what was promised of it.
#[derive(Clone, Copy, Debug)]
pub struct Origin<'a> {
    pub source: &'a Scene,
    pub promise: &'a Promise,
}

/// Judges a scene that was not written to a file.
pub fn judged_scene(scene: &Scene, Origin { source, promise }: Origin<'_>) -> Verdict {
    let limits = limits(&promise.tolerance, promise.in_world(), scene);
    let mut verdict = promise.judged(source, scene, limits, 1.0);
    verdict.missing.extend(promise.missing(source, scene));
    verdict
}

/// Judges a file that was made and is not written yet.
///
/// `allowed` is how far the format may be off; it is written closer where it was found too far off.
///
/// Our own format has to give the scene back bit for bit. Any other is read as a stranger reads it, and what is compared
/// with the origin is what the stranger sees.
pub fn judged(
    made: &Encoded,
    scene: &Scene,
    path: &Path,
    (saving, allowed): (&Saving<'_>, &Tolerance),
    origin: Option<Origin<'_>>,
) -> Result<Verdict, Failure> {
    if made.format == Format::Ncurve {
        if !made.is_lossless(scene, path)? {
            return Err(Failure::new(format!(
                "{}: what would be written is not what was made, bit for bit: nothing was written; please report this",
                path.display()
            )));
        }
        return Ok(origin.map_or(Verdict::new(Limits::NONE), |origin| judged_scene(scene, origin)));
    }
    let back = made.read_back(scene, path)?;
    // Files of seconds are read at a rate that fits them; what is said of instants is said in the scene's own frames.
    let clocks: Vec<(usize, Clock)> = back.claim.spans.iter().map(|span| (span.result, span.clock)).collect();
    let (own, theirs) = (scene.rate.ticks_per_frame(), back.scene.rate.ticks_per_frame());
    let in_own = |take: usize, frame: f64| {
        let clock = clocks.iter().find(|(own, _)| *own == take).map_or(Clock::SAME, |(_, clock)| *clock);
        clock.source_at(frame * theirs) / own
    };
    // What a format refits may be off by its tolerance beside what the command was off by.
    let metres = allowed.length;
    let written = Promise {
        world: Some(InWorld { metres, angle: allowed.angle }),
        ..Promise::of(back.claim, *allowed, Scope::AllButLayers)
    };
    // A table holds no rig, in which things could stand in the world, and lengths may be others where scales went into them: what was
    // made is judged before, and what was written beside that.
    let in_two = |origin: &Origin<'_>| {
        made.format == Format::Csv && !origin.promise.can_follow() || !written.can_follow()
    };
    let two_steps = origin.filter(in_two);
    if let Some(origin) = two_steps {
        let mut verdict = judged_scene(scene, origin);
        let limits = limits(allowed, None, &back.scene);
        let unit = back.scene.space.metres_per_unit / scene.space.metres_per_unit;
        let written = Promise { world: None, ..written };
        let file = written.judged(scene, &back.scene, limits, back.precision).with_lengths_scaled(unit);
        let mut file = file.with_frames(in_own);
        if made.format == Format::Csv {
            (file.world, file.world_turn) = (None, None);
        }
        // What the format may be off by comes on top of what was made.
        verdict.limits.angle += file.limits.angle;
        verdict.limits.length += file.limits.length;
        verdict.limits.number += file.limits.number;
        verdict.take_in(file);
        return Ok(verdict);
    }
    let promise = match origin {
        Some(origin) => origin.promise.then(&written),
        None => Promise { world: None, ..written },
    };
    let source = origin.map_or(scene, |origin| origin.source);
    let has_samples = scene
        .takes
        .iter()
        .flat_map(|take| take.tracks())
        .any(|(_, track)| track.controller.samples().is_some());
    let holds_curves =
        matches!(made.format, Format::Glb | Format::Gltf | Format::Collada | Format::Usda | Format::Usdc);
    // Curves of a format that writes samples go straight between these.
    let between = match origin.map_or(f64::INFINITY, |origin| origin.promise.between) {
        own if own.is_finite() && !has_samples => own,
        _ if holds_curves && !made.is_skeletal && !saving.matrices && !has_samples => 1.0,
        _ => f64::INFINITY,
    };
    let limits = Limits { between, ..limits(&promise.tolerance, promise.in_world(), &back.scene) };
    // Said in the unit of what was written, as everything else that is printed of it.
    let unit = back.scene.space.metres_per_unit / scene.space.metres_per_unit;
    let verdict = promise.judged(source, &back.scene, limits, back.precision);
    let mut verdict = verdict.with_lengths_scaled(unit).with_frames(in_own);
    // The nodes of a table have no parents: where they would be without says nothing.
    if made.format == Format::Csv && verdict.limits.world.is_infinite() {
        (verdict.world, verdict.world_turn) = (None, None);
    }
    if let Some(Origin { source, promise }) = origin {
        verdict.missing.extend(promise.missing(source, scene));
    }
    Ok(verdict)
}

/// By which factor a tolerance has to be tightened for the result to keep it; none where it does, or where something else
/// is wrong with it.
///
/// What is refitted is looked at while it is made at so many instants, and the judge looks closer.
pub fn tightening(verdict: &Verdict) -> Option<f64> {
    const FARTHEST: f64 = 100.0;
    let excess = verdict.excess();
    (1.0 < excess && excess < FARTHEST).then(|| 0.95 / excess)
}

fn limits(tolerance: &Tolerance, world: Option<InWorld>, result: &Scene) -> Limits {
    // A number that is just at its limit may be a rounding error beyond it.
    let slack = 1.0 + 1e-6;
    let of = |quantity| tolerance.of(quantity, &result.space) * slack;
    let in_units = |world: InWorld| world.metres / result.space.metres_per_unit * slack;
    Limits {
        angle: of(Quantity::Angle),
        length: of(Quantity::Length),
        number: of(Quantity::Number),
        world: world.map_or(f64::INFINITY, in_units),
        world_turn: world.map_or(f64::INFINITY, |world| world.angle * slack),
        between: f64::INFINITY,
    }
}

/// Why a result may not be written, if it may not; with the option that may help.
pub fn refusal(verdict: &Verdict, result: &Scene, remedy: Option<&str>) -> Option<String> {
    let space = &result.space;
    let beyond = match (verdict.beyond(), verdict.world_beyond()) {
        (Some((judged, error, limit)), _) => {
            let allowed = amount(limit, error.quantity, space);
            format!("{}; allowed {allowed}", place(judged, &error, result))
        }
        (None, Some((error, node))) => {
            let off = amount(error.largest, error.quantity, space);
            let limit = match error.quantity {
                Quantity::Angle => verdict.limits.world_turn,
                _ => verdict.limits.world,
            };
            let allowed = amount(limit, error.quantity, space);
            format!("{node} is off by {off} in the world at frame {}; allowed {allowed}", frame(error.frame))
        }
        (None, None) => return None,
    };
    let help = remedy.map(|option| format!("{option} may do it, ")).unwrap_or_default();
    Some(format!(
        "the result is not what was asked for: {beyond}; nothing was written ({help}--accept writes it)"
    ))
}

/// What is off by how much, and where.
fn place(judged: &Judged, error: &MeasuredError, result: &Scene) -> String {
    let off = match error.largest.is_finite() {
        true => format!("off by {}", amount(error.largest, error.quantity, &result.space)),
        false => "another one".to_owned(),
    };
    format!("{} is {off} at frame {}", judged.channel, frame(error.frame))
}

/// What came of a command, in a few words: what became of how many tracks, and how far the result is off.
pub fn outcome(ledger: &Ledger, verdict: &Verdict, result: &Scene) -> Line {
    let fates = [Fate::Kept, Fate::Exact, Fate::Refitted, Fate::Sampled, Fate::LeftOut, Fate::NotSelected];
    let met: Vec<(Fate, usize)> =
        fates.map(|fate| (fate, ledger.count(fate))).into_iter().filter(|(_, count)| *count > 0).collect();
    let tracks = match met.as_slice() {
        [] => None,
        [(fate, count)] => Some(format!("{} {}", counted(*count, "track"), fate.name())),
        several => {
            let all: usize = several.iter().map(|(_, count)| count).sum();
            let each: Vec<String> =
                several.iter().map(|(fate, count)| format!("{count} {}", fate.name())).collect();
            Some(format!("{}: {}", counted(all, "track"), each.join(", ")))
        }
    };
    let aside = ledger.entries.iter().filter(|entry| entry.note == ASIDE).count();
    let hidden = (aside > 0).then(|| format!("{aside} in the extra data only"));
    let said: Vec<String> = tracks.into_iter().chain(hidden).chain(distance(verdict, result)).collect();
    let is_whole = ledger.count(Fate::LeftOut) == 0
        && aside == 0
        && verdict.missing.is_empty()
        && verdict.unjudged.is_empty()
        && verdict.asleep_beyond().is_empty();
    let style = match is_within(verdict) {
        false => Style::Bad,
        true if is_whole => Style::Good,
        true => Style::Warn,
    };
    match said.is_empty() {
        true => (style, "written".to_owned()),
        false => (style, said.join("; ")),
    }
}

/// How far a result is off, of each quantity, in a few words; none where nothing was looked at.
pub fn distance(verdict: &Verdict, result: &Scene) -> Option<String> {
    let world = verdict.world.as_ref().filter(|_| verdict.limits.world.is_finite());
    let in_world: Vec<String> = (world.into_iter().chain(&verdict.world_turn))
        .filter(|(error, _)| error.count > 0 && error.largest > ROUNDING)
        .map(|(error, _)| amount(error.largest, error.quantity, &result.space))
        .collect();
    if verdict.count() == 0 && in_world.is_empty() {
        return None;
    }
    let farthest: Vec<String> =
        farthest(verdict).map(|(_, error)| amount(error.largest, error.quantity, &result.space)).collect();
    let beyond = if is_within(verdict) { "" } else { ", which is more than was allowed" };
    let (local, world) = (farthest.join(", "), in_world.join(", "));
    let moved = Verdict { judged: verdict.told.clone(), ..Verdict::new(Limits::NONE) };
    let moved: Vec<String> = self::farthest(&moved)
        .map(|(_, error)| amount(error.largest, error.quantity, &result.space))
        .collect();
    if !moved.is_empty() {
        let elsewhere = match local.is_empty() {
            true => String::new(),
            false => format!("; elsewhere off by at most {local}{beyond}"),
        };
        return Some(format!("moved by at most {}{elsewhere}", moved.join(", ")));
    }
    Some(match (local.is_empty(), world.is_empty()) {
        (true, true) => match added_up(verdict, result) {
            // What was left out above moves what is below.
            Some((off, _)) => {
                format!("{} beside what is above, off by {off} in the world", the_same(verdict))
            }
            None => the_same(verdict).to_owned(),
        },
        (false, true) => format!("off by at most {local}{beyond}"),
        (true, false) => format!("off by at most {world} in the world{beyond}"),
        (false, false) => format!("off by at most {local}, in the world {world}{beyond}"),
    })
}

/// What is said where nothing that was judged is off by so much that it is worth a figure.
fn the_same(verdict: &Verdict) -> &'static str {
    let is_exact = verdict.judged.iter().all(|judged| judged.error.largest <= ROUNDING);
    match (is_exact, verdict.at_keys) {
        (true, false) => "the same",
        (true, true) => "the same at the keys",
        (false, false) => "the same to a hundredth of what was allowed",
        (false, true) => "the same at the keys to a hundredth of what was allowed",
    }
}

fn is_within(verdict: &Verdict) -> bool {
    verdict.beyond().is_none() && verdict.world_beyond().is_none()
}

/// What is farthest off of each quantity, where that is worth a word.
fn farthest(verdict: &Verdict) -> impl Iterator<Item = (&Judged, MeasuredError)> {
    let is_telling = |error: &MeasuredError| {
        let limit = verdict.limits.of(error.quantity);
        error.largest > ROUNDING && !(limit.is_finite() && error.largest < TELLING * limit)
    };
    [Quantity::Angle, Quantity::Length, Quantity::Number]
        .into_iter()
        .filter_map(|quantity| verdict.worst(quantity, false))
        .filter(move |(_, error)| is_telling(error))
}

/// What rounding makes of numbers.
const ROUNDING: f64 = 1e-9;

/// Errors below this part of what is allowed are not worth a figure.
const TELLING: f64 = 0.01;

/// The closing lines of a report: what was judged, and what is farthest from its source.
pub fn closing(verdict: &Verdict, result: &Scene) -> Vec<Line> {
    let mut lines = Vec::new();
    // Each once, however many stretches it was judged over; a step of a transform counts as its node.
    let (mut of_nodes, mut of_numbers) = (HashSet::new(), HashSet::new());
    for judged in &verdict.judged {
        let Target { rig, node, property } = &judged.result;
        match judged.of_transform {
            false => of_numbers.insert((*rig, *node, property.as_str())),
            true => of_nodes.insert((*rig, *node)),
        };
    }
    let (nodes, numbers) = (of_nodes.len(), of_numbers.len());
    let looked = match (nodes, numbers) {
        (0, 0) if verdict.same == 0 => return lines,
        (0, 0) => "everything".to_owned(),
        (nodes, 0) => counted(nodes, "node"),
        (0, numbers) => counted(numbers, "number"),
        (nodes, numbers) => format!("{} and {}", counted(nodes, "node"), counted(numbers, "number")),
    };
    let farthest: Vec<String> = farthest(verdict)
        .map(|(judged, error)| {
            let off = amount(error.largest, error.quantity, &result.space);
            format!("{off} ({}, frame {})", judged.channel, frame(error.frame))
        })
        .collect();
    let style = if is_within(verdict) { Style::Good } else { Style::Bad };
    match farthest.as_slice() {
        [] => lines.push((style, format!("judged on the result: {looked}, {}", the_same(verdict)))),
        [one] => lines.push((style, format!("judged on the result: {looked}, off by at most {one}"))),
        several => {
            // A line each: together they are wider than a screen.
            lines.push((style, format!("judged on the result: {looked}, off by at most")));
            lines.extend(several.iter().map(|off| (style, format!("  {off}"))));
        }
    }
    lines.extend(between_samples(verdict, result));
    lines.extend(in_world(verdict, result).map(|text| (style, text)));
    lines.extend(summed(verdict, result).map(|text| (Style::Faint, text)));
    let warned = |text: String| (Style::Warn, text);
    let unjudged = verdict.unjudged.iter().take(4).map(|(what, why)| format!("not judged: {what}: {why}"));
    lines.extend(unjudged.map(warned));
    if verdict.unjudged.len() > 4 {
        lines.push(warned(format!("not judged: {} more", verdict.unjudged.len() - 4)));
    }
    // It does not play, and may tomorrow.
    let asleep = verdict.asleep_beyond().into_iter().map(|(woken, judged)| {
        let off = amount(judged.error.largest, judged.error.quantity, &result.space);
        let (channel, at) = (&judged.channel, frame(judged.error.frame));
        format!("{woken} is switched off, and would be off by {off} here ({channel}, frame {at}): switch it on first where it counts")
    });
    lines.extend(asleep.map(warned));
    lines.extend(verdict.missing.iter().take(6).cloned().map(warned));
    if verdict.missing.len() > 6 {
        lines.push(warned(format!("and {} more are missing", verdict.missing.len() - 6)));
    }
    lines
}

/// How far the result is from what is known between samples, where that was promised or is more than at samples.
fn between_samples(verdict: &Verdict, result: &Scene) -> Vec<Line> {
    let promised = verdict.limits.between;
    let is_telling = |error: &MeasuredError| match promised.is_finite() {
        true => error.largest > TELLING * verdict.limits.of(error.quantity),
        false => error.largest > verdict.limits.of(error.quantity),
    };
    let worst: Vec<(&Judged, MeasuredError)> = [Quantity::Angle, Quantity::Length, Quantity::Number]
        .into_iter()
        .filter_map(|quantity| verdict.worst(quantity, true))
        .filter(|(_, error)| is_telling(error))
        .collect();
    let Some((first, _)) = worst.first() else { return Vec::new() };
    let what = if first.by_readings { ", from what they let expect" } else { "" };
    let places: Vec<String> = worst.iter().map(|(judged, error)| place(judged, error, result)).collect();
    let is_beyond =
        |(_, error): &(&Judged, MeasuredError)| error.largest > promised * verdict.limits.of(error.quantity);
    let style = if worst.iter().any(is_beyond) { Style::Warn } else { Style::Faint };
    let head = std::iter::once(format!("between samples{what}: {}", places[0]));
    head.chain(places[1..].iter().map(|place| format!("  {place}"))).map(|line| (style, line)).collect()
}

/// What local errors add up to down the chains, where nothing was promised of that: looked at where they are largest.
fn summed(verdict: &Verdict, result: &Scene) -> Option<String> {
    let (off, at) = added_up(verdict, result)?;
    Some(format!("in the world that adds up to {off} ({at})"))
}

/// The same, as an amount and where it is.
fn added_up(verdict: &Verdict, result: &Scene) -> Option<(String, String)> {
    let (error, node) = verdict.world.as_ref().filter(|_| verdict.limits.world.is_infinite())?;
    // A hundredth of a millimetre is nothing to anybody.
    let is_telling = error.largest * result.space.metres_per_unit > 1e-5;
    is_telling.then(|| {
        let off = amount(error.largest, error.quantity, &result.space);
        (off, format!("{node}, frame {}", frame(error.frame)))
    })
}

/// How far things are off in the world, where that was promised.
fn in_world(verdict: &Verdict, result: &Scene) -> Option<String> {
    let said = |what: &str, found: &Option<(MeasuredError, String)>| {
        let (error, node) = found.as_ref().filter(|(error, _)| error.count > 0)?;
        let off = amount(error.largest, error.quantity, &result.space);
        Some(match error.largest < 1e-9 {
            true => format!("{what} are those asked for"),
            false => format!("{what} within {off} ({node}, frame {})", frame(error.frame)),
        })
    };
    let places = said("places", &verdict.world).filter(|_| verdict.limits.world.is_finite());
    let all: Vec<String> = places.into_iter().chain(said("rotations", &verdict.world_turn)).collect();
    (!all.is_empty()).then(|| format!("in the world: {}", all.join(", ")))
}
