//! The judge, judged: operations on random scenes, and faults put into their results, beside what the second evaluator finds
//! along the same claims. Whatever is farther off than the judge said is a fault of the judge.

use std::collections::HashMap;

use nimble_curve_core::controller::Weight;
use nimble_curve_core::judge::{Asleep, By, Claim, Judged, Limits, Part, Sampling, judge};
use nimble_curve_core::ops::Tolerance;
use nimble_curve_core::ops::bake::{BakeOptions, bake};
use nimble_curve_core::ops::controllers::{ConvertOptions, convert_controllers};
use nimble_curve_core::ops::conversion::ControllerType;
use nimble_curve_core::ops::layers::{FlattenOptions, flatten};
use nimble_curve_core::ops::reorder::{NewOrder, ReorderOptions, reorder};
use nimble_curve_core::ops::select::{Selection, select};
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::ops::unbake::{UnbakeOptions, unbake};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::Scene as Own;
use nimble_curve_core::space::Space;
use nimble_curve_core::time::TimeRange;
use nimble_curve_formats::ncurve;
use nimble_curve_second::random::{Chance, Contents, text};
use nimble_curve_second::scene::{Scene, Value};
use nimble_curve_second::turn::apart;

fn cases(default: u64) -> std::ops::Range<u64> {
    let number = |name: &str| std::env::var(name).ok().and_then(|n| n.parse::<u64>().ok());
    let first = number("FIRST").unwrap_or(0);
    first..first + number("CASES").unwrap_or(default)
}

/// The position of each node in the list that the second evaluator has.
fn positions(scene: &Own) -> HashMap<(usize, nimble_curve_core::rig::NodeId), usize> {
    let all = scene.rigs.iter().enumerate().flat_map(|(rig, of)| of.nodes().map(move |(id, _)| (rig, id)));
    all.enumerate().map(|(position, node)| (node, position)).collect()
}

/// Two scenes as both evaluators have them.
struct Both {
    source: (Own, Scene),
    result: (Own, Scene),
}

impl Both {
    fn of(source: &Own, result: &Own) -> Both {
        let second = |scene: &Own| Scene::read(&ncurve::write(scene));
        Both { source: (source.clone(), second(source)), result: (result.clone(), second(result)) }
    }
}

/// Whether a property belongs to a part of a transform.
type IsMeant = fn(&str) -> bool;

/// What the second evaluator finds along a claim that nodes are the same: the largest errors by take and node of the result,
/// rotations in radians, places, sizes, and numbers by name.
type Found = HashMap<(usize, usize, String), (f64, f64)>;

fn found(both: &Both, claim: &Claim) -> Found {
    let (from, onto) = (positions(&both.source.0), positions(&both.result.0));
    let mut worst: Found = HashMap::new();
    for span in &claim.spans {
        let frames = both.result.0.rate.ticks_per_frame();
        let own_frames = both.source.0.rate.ticks_per_frame();
        let (first, last) = (span.range.first.as_f64() / frames, span.range.last.as_f64() / frames);
        let source_at = |frame: f64| span.clock.source_at(frame * frames) / own_frames;
        let result_at = |frame: f64| span.clock.result_at(frame * own_frames) / frames;
        for (source, result) in &claim.nodes {
            let (a, b) = (from[source], onto[result]);
            let is_excused = |property: &str| {
                claim.excuses.iter().any(|excuse| {
                    excuse.take == span.source
                        && (excuse.target.rig, excuse.target.node) == *source
                        && excuse.target.property == property
                })
            };
            let node = &both.source.1.nodes[a];
            let lists = node.steps.iter().any(|step| step.name == "pivot" || step.name == "matrix");
            // Steps of lists are held one by one, and a step that is left out leaves the rest without meaning.
            // Of a turn that passes half round a part may be read in two ways, which rounding decides.
            let in_part =
                both.source.1.counts_in_part(span.source, a) || both.result.1.counts_in_part(span.result, b);
            if in_part
                || lists
                || node.steps.iter().any(|step| is_excused(&step.name))
                || claim.by == By::Properties
            {
                continue;
            }
            let parts: [(&str, IsMeant); 3] = [
                ("rotation", |name| matches!(name, "rotation" | "before" | "after")),
                ("translation", |name| name == "translation"),
                ("scale", |name| name == "scale"),
            ];
            for (part, is_meant) in parts {
                let (mut keys, sampled) = both.source.1.instants(span.source, a, is_meant);
                let (own_keys, own_sampled) = both.result.1.instants(span.result, b, is_meant);
                let times: Vec<f64> = match (sampled, own_sampled, claim.sampling) {
                    (_, _, Sampling::Frames | Sampling::KeysOfSource | Sampling::Result) => {
                        (first.ceil() as i64..=last.floor() as i64).map(|frame| frame as f64).collect()
                    }
                    (Some(samples), _, _) => samples.into_iter().map(result_at).collect(),
                    (None, Some(samples), _) => samples,
                    (None, None, _) => {
                        let mut times = vec![first, last];
                        keys.iter_mut().for_each(|key| *key = result_at(*key));
                        for key in keys.into_iter().chain(own_keys) {
                            // Where one key ends and the other begins is a matter of rounding.
                            times.extend([key - 2e-4, key + 2e-4]);
                        }
                        let count = ((last - first) * 5.0) as usize;
                        times.extend((0..count).map(|at| first + at as f64 / 5.0 + 0.013));
                        times
                    }
                };
                for time in times.into_iter().filter(|time| first <= *time && *time <= last) {
                    // Samples stand on instants, whatever two clocks make of them.
                    let time = (time * 1e7).round() / 1e7;
                    let (there, turn) = both.source.1.local(span.source, a, source_at(time));
                    let (here, own_turn) = both.result.1.local(span.result, b, time);
                    let (there, turn) = (claim.space.affine(there), claim.space.rotation(turn));
                    let off = match part {
                        "rotation" => apart(turn, own_turn).to_radians(),
                        "translation" => (there.translation - here.translation).length(),
                        _ => {
                            let of = |m: glam::DMat3, q: glam::DQuat| {
                                glam::DMat3::from_quat(q.normalize().conjugate()) * m
                            };
                            let (theirs, ours) = (of(there.matrix3, turn), of(here.matrix3, own_turn));
                            // Factors above one count by how much of them is off.
                            let off = |axis: usize| {
                                let (a, b) = (theirs.col(axis), ours.col(axis));
                                (a - b).length() / a.length().max(1.0)
                            };
                            (0..3).map(off).fold(0.0, f64::max)
                        }
                    };
                    note(&mut worst, (span.result, b, part.to_owned()), off, time);
                }
            }
            for name in node.attributes.keys().filter(|name| !is_excused(name)) {
                if both.result.1.nodes[b].rest(name).is_none() {
                    continue;
                }
                let is_own = |property: &str| property == name;
                let sampled = both.source.1.instants(span.source, a, is_own).1.is_some()
                    || both.result.1.instants(span.result, b, is_own).1.is_some()
                    || claim.sampling != Sampling::Plain;
                let count = if sampled { (last - first) as usize } else { ((last - first) * 5.0) as usize };
                for at in 0..=count {
                    let time = if sampled { first + at as f64 } else { first + at as f64 / 5.0 + 0.013 };
                    if time > last {
                        continue;
                    }
                    let there = both.source.1.value(span.source, a, name, source_at(time));
                    let here = both.result.1.value(span.result, b, name, time);
                    let off = match (there, here) {
                        (Value::Numbers(a), Value::Numbers(b)) if a.len() == 1 => (a[0] - b[0]).abs(),
                        (Value::Word(a), Value::Word(b)) if a == b => 0.0,
                        (Value::Word(_), Value::Word(_)) => f64::INFINITY,
                        _ => continue,
                    };
                    note(&mut worst, (span.result, b, name.clone()), off, time);
                }
            }
        }
    }
    worst
}

fn note(worst: &mut Found, key: (usize, usize, String), off: f64, time: f64) {
    let known = worst.entry(key).or_insert((0.0, time));
    if off > known.0 || off.is_nan() {
        *known = (off, time);
    }
}

/// What the judge said of the same.
fn said<'a>(judged: impl Iterator<Item = &'a Judged>, result: &Own) -> HashMap<(usize, usize, String), f64> {
    let onto = positions(result);
    let mut said: HashMap<(usize, usize, String), f64> = HashMap::new();
    for judged in judged {
        let name = match &judged.part {
            Part::Attribute(name) => name.clone(),
            part => part.name().to_owned(),
        };
        let node = onto[&(judged.result.rig, judged.result.node)];
        let own = said.entry((judged.take, node, name)).or_insert(0.0);
        *own = own.max(judged.error.largest);
    }
    said
}

/// What is farther off than the judge said.
fn missed(source: &Own, result: &Own, claim: &Claim) -> Vec<String> {
    let verdict = judge(source, result, claim, Limits::NONE, 1.0);
    let said = said(verdict.judged.iter(), result);
    let not: Vec<&str> = verdict.unjudged.iter().map(|(what, _)| what.as_str()).collect();
    let mut missed = Vec::new();
    for ((take, node, part), (off, time)) in found(&Both::of(source, result), claim) {
        let own = said.get(&(take, node, part.clone())).copied().unwrap_or(0.0);
        // Beside the pole of an order a summit may be narrower than any look.
        if off.is_nan() || off > own * 1.25 + 2e-6 {
            missed.push(format!(
                "take {take} node {node} {part}: {off} at frame {time}, said {own}; not judged {not:?}"
            ));
        }
    }
    missed
}

/// Two scenes in which a layer that sleeps in both is switched on in one take: its name, and the take of the result.
fn switched_on(source: &Own, result: &Own, claim: &Claim) -> Vec<(String, usize, Own, Own)> {
    let mut all = Vec::new();
    for span in &claim.spans {
        let asleep = source.takes[span.source].layers.iter().filter(|layer| !layer.is_active());
        for name in asleep.map(|layer| layer.name.clone()) {
            let on = |scene: &Own, take: usize| {
                let mut scene = scene.clone();
                let layers = scene.takes[take].layers.iter_mut();
                let mut named = layers.filter(|layer| layer.name == name && !layer.is_active());
                let (Some(layer), None) = (named.next(), named.next()) else { return None };
                layer.muted = false;
                if layer.weight.constant() == Some(0.0) {
                    layer.weight = Weight::FULL;
                }
                Some(scene)
            };
            if let (Some(source), Some(result)) = (on(source, span.source), on(result, span.result)) {
                all.push((name, span.result, source, result));
            }
        }
    }
    all
}

/// What would be farther off than the judge says if what sleeps were switched on, and how many layers do.
fn missed_asleep(source: &Own, result: &Own, claim: &Claim) -> (usize, Vec<String>) {
    let verdict = judge(source, result, claim, Limits::NONE, 1.0);
    let all = switched_on(source, result, claim);
    let mut missed = Vec::new();
    for (name, in_take, source, woken) in &all {
        let is_own = |judged: &&Judged| judged.woken == Some(Asleep::Layer(name.clone()));
        let said = said(verdict.asleep.iter().filter(is_own), woken);
        let as_it_plays = claim.excuses.iter().filter(|excuse| excuse.layer.is_none()).cloned();
        let claim = Claim { excuses: as_it_plays.collect(), ..claim.clone() };
        for ((take, node, part), (off, time)) in found(&Both::of(source, woken), &claim) {
            // What no layer that sleeps has a track on is judged as it plays.
            let own = said.get(&(take, node, part.clone())).filter(|_| take == *in_take);
            let Some(own) = own.copied() else { continue };
            if off.is_nan() || off > own * 1.25 + 2e-6 {
                missed.push(format!(
                    "layer {name} take {take} node {node} {part}: {off} at {time}, said {own}"
                ));
            }
        }
    }
    (all.len(), missed)
}

/// An operation with random options, and its claim.
fn done(source: &Own, chance: &mut Chance) -> Option<(&'static str, Own, Claim)> {
    let tolerance = Tolerance::default().times(*chance.of(&[0.2, 1.0, 20.0]));
    let same = |name: &'static str, result: Own, ledger| {
        let claim = Claim::same(source, &result).excusing(source, &ledger);
        Some((name, result, claim))
    };
    match chance.below(9) {
        0 => {
            let order = RotationOrder::ALL[chance.below(6)];
            let options = ReorderOptions {
                to: NewOrder::To(order),
                only: Vec::new(),
                tolerance: tolerance.angle,
                handles: None,
            };
            let (result, ledger) = reorder(source, &options).ok()?;
            same("reorder", result, ledger)
        }
        1 => {
            let (result, ledger) =
                flatten(source, &FlattenOptions { tolerance, ..FlattenOptions::default() }).ok()?;
            same("flatten", result, ledger)
        }
        2 => {
            let form = *chance.of(&[ControllerType::Curves, ControllerType::Quaternion]);
            let (result, ledger) =
                convert_controllers(source, &ConvertOptions { form, only: Vec::new(), tolerance });
            same("controllers", result, ledger)
        }
        3 => {
            let (result, ledger) = bake(source, &BakeOptions::default());
            let claim = Claim { sampling: Sampling::Result, ..Claim::same(source, &result) };
            Some(("bake", result, claim.excusing(source, &ledger)))
        }
        4 => {
            let made = unbake(source, &UnbakeOptions { tolerance, ..UnbakeOptions::default() }).ok()?;
            let claim = Claim { sampling: Sampling::KeysOfSource, ..Claim::same(source, &made.scene) };
            Some(("unbake", made.scene, claim.excusing(source, &made.ledger)))
        }
        5 => {
            let take = &source.takes[0];
            let first = take.range.first + source.rate.ticks(chance.below(6) as i64);
            let range = TimeRange::new(first, take.range.last - source.rate.ticks(chance.below(4) as i64));
            let selection = Selection {
                takes: vec![take.name.clone()],
                range: Some(range),
                tolerance,
                ..Selection::default()
            };
            let (result, ledger) = select(source, &selection).ok()?;
            same("select", result, ledger)
        }
        6 => {
            let to = *chance.of(&[Space::METRES_Y_UP, Space::CENTIMETRES_Z_UP]);
            let (result, ledger) = in_space(source, &to);
            same("space", result, ledger)
        }
        _ => same("nothing", source.clone(), nimble_curve_core::ledger::Ledger::default()),
    }
}

/// Something wrong in the text of a result: a number of a key or sample, a track, a weight, or when it plays.
fn spoiled(result: &Own, chance: &mut Chance) -> Option<Own> {
    let mut json: serde_json::Value = serde_json::from_str(&ncurve::write(result)).unwrap();
    let takes = json["takes"].as_array_mut()?;
    let at = chance.below(takes.len());
    let layers = takes[at]["layers"].as_array_mut()?;
    let at = chance.below(layers.len());
    let layer = &mut layers[at];
    match chance.below(8) {
        0 => layer["weight"] = serde_json::json!(chance.between(0.1, 0.9)),
        1 => layer["muted"] = serde_json::json!(true),
        2 => layer["mode"] = serde_json::json!("additive"),
        _ => {
            let tracks = layer["tracks"].as_array_mut()?;
            if tracks.is_empty() {
                return None;
            }
            let at = chance.below(tracks.len());
            if chance.one_in(6) {
                tracks.remove(at);
            } else {
                let mut numbers = Vec::new();
                gather(&mut tracks[at]["controller"], &mut numbers);
                if numbers.is_empty() {
                    return None;
                }
                let at = chance.below(numbers.len());
                let own = numbers[at].as_f64()?;
                *numbers[at] = serde_json::json!(own + chance.between(-0.6, 0.6));
            }
        }
    }
    let made = ncurve::read(&json.to_string()).ok()?;
    made.validate().ok()?;
    Some(made)
}

fn gather<'a>(value: &'a mut serde_json::Value, all: &mut Vec<&'a mut serde_json::Value>) {
    match value {
        serde_json::Value::Object(fields) => {
            for (name, value) in fields {
                match (name.as_str(), &value) {
                    ("value" | "before" | "slope", serde_json::Value::Number(_)) => all.push(value),
                    ("rows" | "values", _) => numbers(value, all),
                    _ => gather(value, all),
                }
            }
        }
        serde_json::Value::Array(list) => list.iter_mut().for_each(|value| gather(value, all)),
        _ => {}
    }
}

fn numbers<'a>(value: &'a mut serde_json::Value, all: &mut Vec<&'a mut serde_json::Value>) {
    match value {
        serde_json::Value::Array(list) => list.iter_mut().for_each(|value| numbers(value, all)),
        serde_json::Value::Number(_) => all.push(value),
        _ => {}
    }
}

#[test]
fn nothing_is_farther_off_than_the_judge_says() {
    let (mut compared, mut wrong) = (0, 0);
    let mut faults = Vec::new();
    for seed in cases(150) {
        let contents = if seed % 3 == 0 { Contents::PLAIN } else { Contents::ALL };
        let source = ncurve::read(&text(seed, &contents)).unwrap();
        let mut chance = Chance::new(seed ^ 0xABCD);
        let Some((name, result, claim)) = done(&source, &mut chance) else { continue };
        compared += 1;
        for missed in missed(&source, &result, &claim) {
            faults.push(format!("seed {seed} {name}: {missed}"));
        }
        let Some(spoiled) = spoiled(&result, &mut chance) else { continue };
        wrong += 1;
        for missed in missed(&source, &spoiled, &claim) {
            faults.push(format!("seed {seed} {name}, spoiled: {missed}"));
        }
    }
    let count = faults.len();
    faults.truncate(12);
    assert!(faults.is_empty(), "{count} in {compared} and {wrong} spoiled:\n{}", faults.join("\n"));
    assert!(compared * 4 > cases(150).count() && wrong > 0, "{compared} compared, {wrong} spoiled");
}

#[test]
fn what_sleeps_is_no_farther_off_than_the_judge_says() {
    let (mut layers, mut faults) = (0, Vec::new());
    for seed in cases(150) {
        let mut source = ncurve::read(&text(seed, &Contents::ALL)).unwrap();
        let mut chance = Chance::new(seed ^ 0xABCD);
        for take in &mut source.takes {
            let at = chance.below(take.layers.len());
            take.layers[at].muted = true;
        }
        let Some((name, result, claim)) = done(&source, &mut chance) else { continue };
        let (count, missed) = missed_asleep(&source, &result, &claim);
        layers += count;
        faults.extend(missed.into_iter().map(|missed| format!("seed {seed} {name}: {missed}")));
    }
    let count = faults.len();
    faults.truncate(12);
    assert!(faults.is_empty(), "{count} of {layers} layers:\n{}", faults.join("\n"));
    assert!(layers > 100, "{layers} layers");
}
