//! Joints that constraints drive get curves of their own.

use std::collections::{BTreeMap, BTreeSet};

use glam::{DMat3, DVec3};
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler};
use nimble_curve_curves::time::{FrameRate, Ticks};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::choice::{Choice, NothingChosen};
use nimble_curve_scene::constraint::{ConstraintKind, EndTurn, StretchBy};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{EvaluateError, NodeSampler, Poses, PropertySampler};
use nimble_curve_scene::judge::{Claim, Sampling};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger, MeasuredError};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::{Canonical, Node, OpValue, ROTATION, SCALE, TRANSLATION, TransformOp};
use nimble_curve_scene::scene::{Layer, PropertyKind, Scene, Take, Target, Track};
use thiserror::Error;

use super::anchor::{Anchors, Rigid};
use super::drivers::Drivers;
use crate::Tolerance;
use crate::conversion::{
    ConversionContext, ConvertedController, Grid, NotConvertible, refitted_numbers, refitted_rotation,
    sampled,
};
use crate::fitting::{fit_samples, without_rest};
use crate::rotation_conversion::RotationConversion;
use crate::sampled_function::SampledFunction;
use crate::vectors::{Linear, snapped_turn};

/// How to solve.
#[derive(Clone, Debug, Default)]
pub struct SolveOptions {
    /// How far joints may be off in the world: their turns and their places.
    pub tolerance: Tolerance,
    /// Patterns of nodes, or `@SET`: the constraints that drive them, and no others; all where there are none.
    pub only: Vec<String>,
    /// Whether joints get a sample a frame.
    pub sampled: bool,
}

/// A scene with solved joints.
#[derive(Clone, Debug)]
pub struct Solved {
    /// The scene.
    pub scene: Scene,
    /// What became of every channel.
    pub ledger: Ledger,
    /// That all moves as it did.
    pub claim: Claim,
}

/// Why joints cannot be solved.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum SolveError {
    /// A pattern or set without a node.
    #[error(transparent)]
    NothingChosen(#[from] NothingChosen),
    /// Nothing in the scene is driven.
    #[error("no constraint drives anything in it")]
    NoConstraints,
    /// Nothing that was asked for is driven.
    #[error("no constraint drives '{0}'")]
    NotDriven(String),
    /// Something that drives cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
    /// A joint cannot have curves.
    #[error("{channel}: {why}")]
    NotConvertible {
        /// Its channel.
        channel: String,
        /// Why.
        why: NotConvertible,
    },
}

/// How often the tolerance of single joints is made smaller until the bound holds in the world.
const TRIES: usize = 6;

/// How many of these have keys on frames alone.
const ON_FRAMES: usize = 3;

/// Into how many parts frames are divided for keys afterwards.
const FINE: u32 = 8;

/// At how many instants of a take the world is looked at, about.
const MOST_LOOKS: i64 = 40_000;

/// A scene without constraints, or as it is where it has none: for whoever knows no constraints.
///
/// # Errors
/// See [`SolveError`].
pub fn solved(scene: &Scene, tolerance: &Tolerance) -> Result<Option<(Scene, Ledger)>, SolveError> {
    if scene.constraints.is_empty() {
        return Ok(None);
    }
    let options = SolveOptions { tolerance: *tolerance, ..SolveOptions::default() };
    let made = solve(scene, &options)?;
    // What is left could not be worked out, and what it comes to is in its nodes' own curves.
    Ok(Some((Scene { constraints: Vec::new(), ..made.scene }, made.ledger)))
}

/// Gives everything that constraints drive curves of its own, after which it needs them no more.
///
/// Where a joint goes with one control rigidly, its curves are the control's in other axes: exact where mathematics has it. Elsewhere
/// keys stand where what drives the joint has keys, and more only where the bound asks for them: it is held in the world, on all
/// nodes, at quarters of frames, by tightening that of the joints. Curves go to the base layer, or to one of their own on top where the
/// base does not count in full.
///
/// # Errors
/// See [`SolveError`].
pub fn solve(scene: &Scene, options: &SolveOptions) -> Result<Solved, SolveError> {
    let chosen = chosen_constraints(scene, &options.only)?;
    if scene.constraints.is_empty() {
        return Err(SolveError::NoConstraints);
    }
    if chosen.is_empty() && !options.only.is_empty() {
        return Err(SolveError::NotDriven(options.only.join(", ")));
    }
    let touched = Touched::by(scene, &chosen);
    let mut tolerance = options.tolerance;
    let mut best: Option<(f64, Solved)> = None;
    for attempts in 0..TRIES {
        let grid = if attempts < ON_FRAMES { 1 } else { FINE };
        let made = attempt(scene, options, (&chosen, &touched), (&tolerance, grid))?;
        let beyond = if options.sampled { 0.0 } else { beyond(scene, &made.scene, &options.tolerance)? };
        let is_better = best.as_ref().is_none_or(|(most, _)| beyond < *most);
        if is_better {
            best = Some((beyond, made));
        }
        if beyond <= 1.0 {
            break;
        }
        tolerance = tolerance.times((0.7 / beyond).clamp(0.05, 0.7));
    }
    let (_, made) = best.ok_or(SolveError::NoConstraints)?;
    Ok(made)
}

/// The constraints that drive what was chosen, with all others that drive the same nodes.
fn chosen_constraints(scene: &Scene, only: &[String]) -> Result<BTreeSet<usize>, SolveError> {
    let acts = |index: &usize| !matches!(scene.constraints[*index].kind, ConstraintKind::Other { .. });
    let all: Vec<usize> = (0..scene.constraints.len()).filter(acts).collect();
    if only.is_empty() {
        return Ok(all.into_iter().collect());
    }
    let addresses = Addresses::new(scene);
    let choice = Choice::among(scene, &addresses, (only, &[]), &[])?;
    let driven = |index: usize| -> Vec<NodeRef> {
        let own = &scene.constraints[index];
        let nodes = own.driven();
        if nodes.is_empty() { vec![own.node] } else { nodes }
    };
    let is_meant = |node: &NodeRef| choice.takes(&[addresses.node(*node)]);
    let mut nodes: BTreeSet<NodeRef> = all.iter().flat_map(|index| driven(*index)).filter(is_meant).collect();
    let mut chosen = BTreeSet::new();
    loop {
        let before = chosen.len();
        for &index in &all {
            if driven(index).iter().any(|node| nodes.contains(node)) {
                chosen.insert(index);
                nodes.extend(driven(index));
            }
        }
        if chosen.len() == before {
            return Ok(chosen);
        }
    }
}

/// Which properties of which nodes constraints change.
struct Touched {
    /// Translation, rotation, scale, by node.
    steps: BTreeMap<NodeRef, [bool; 3]>,
    /// What couples drive, where it is no such step.
    numbers: BTreeSet<Target>,
    /// What drives each, in words.
    by: BTreeMap<NodeRef, String>,
}

impl Touched {
    fn by(scene: &Scene, chosen: &BTreeSet<usize>) -> Touched {
        let mut touched = Touched { steps: BTreeMap::new(), numbers: BTreeSet::new(), by: BTreeMap::new() };
        for &index in chosen {
            let constraint = &scene.constraints[index];
            let mut touch = |node: NodeRef, [translation, rotation, scale]: [bool; 3]| {
                let own = touched.steps.entry(node).or_insert([false; 3]);
                *own = [own[0] || translation, own[1] || rotation, own[2] || scale];
                let name = match constraint.name.as_str() {
                    "" => constraint.kind.name().to_owned(),
                    name => format!("{} '{name}'", constraint.kind.name()),
                };
                let said = touched.by.entry(node).or_default();
                if !said.is_empty() {
                    said.push_str(" and ");
                }
                said.push_str(&name);
            };
            match &constraint.kind {
                ConstraintKind::Follow(follow) => {
                    let any = |axes: [bool; 3]| axes.contains(&true);
                    touch(
                        constraint.node,
                        [any(follow.translation), any(follow.rotation), any(follow.scale)],
                    );
                }
                ConstraintKind::Aim(_) | ConstraintKind::Roll(_) => {
                    touch(constraint.node, [false, true, false])
                }
                ConstraintKind::Limb(limb) => {
                    let stretches = limb.stretch.constant() != Some(0.0);
                    let by_scale = stretches && limb.stretch_by == StretchBy::Scale;
                    let moves =
                        |bone: usize| limb.lengths[bone].constant() != Some(1.0) || stretches && !by_scale;
                    touch(constraint.node, [false, true, by_scale]);
                    touch(limb.lower, [moves(0), true, false]);
                    touch(limb.end, [moves(1), limb.end_turn != EndTurn::Own, false]);
                }
                ConstraintKind::Couple(couple) => {
                    touched.numbers.insert(couple.channel.target.clone());
                }
                ConstraintKind::Other { .. } => {}
            }
        }
        // A step that a couple drives on a node that others drive is part of what these come to.
        let steps = &touched.steps;
        touched.numbers.retain(|target| {
            let node = (target.rig, target.node);
            let is_step =
                scene.rigs[target.rig].node(target.node).is_some_and(|of| of.op(&target.property).is_some());
            !(is_step && steps.contains_key(&node))
        });
        touched
    }
}

/// The properties of a node that get curves, with their kinds and what they rest at.
struct Wanted {
    target: Target,
    kind: PropertyKind,
    rest: Value,
}

fn attempt(
    scene: &Scene,
    options: &SolveOptions,
    (chosen, touched): (&BTreeSet<usize>, &Touched),
    (tolerance, parts): (&Tolerance, u32),
) -> Result<Solved, SolveError> {
    let rate = scene.rate;
    let keys = rate.numerator().checked_mul(parts).and_then(|fine| FrameRate::new(fine, rate.denominator()));
    let keys = keys.unwrap_or(rate);
    let mut result = scene.clone();
    for &(rig, id) in touched.steps.keys() {
        if let Some(node) = result.rigs[rig].node_mut(id) {
            node.transform = with_three_steps(node);
        }
    }
    let addresses = Addresses::new(scene);
    let mut ledger = Ledger::default();
    for (index, take) in scene.takes.iter().enumerate() {
        let job = Job { scene, take, options, tolerance, touched, addresses: &addresses, keys };
        let mut made: Vec<(Target, ConvertedController, String)> = Vec::new();
        let mut anchors = Anchors::new(scene, take);
        for (&node, &steps) in &touched.steps {
            made.extend(job.node(node, steps, anchors.rigid(node))?);
        }
        for target in &touched.numbers {
            made.extend(job.number(target)?);
        }
        put(&mut result.takes[index], &job, made, &mut ledger);
    }
    // Left in, they would drive once more what they came to.
    let mut index = 0;
    result.constraints.retain(|_| {
        index += 1;
        !chosen.contains(&(index - 1))
    });
    let mut claim = Claim::same(scene, &result);
    if options.sampled {
        claim.sampling = Sampling::Result;
    }
    Ok(Solved { scene: result, ledger, claim })
}

/// A node's steps as translation, constant rotation, rotation, constant rotation and scale, all that has to be there for curves.
fn with_three_steps(node: &Node) -> Vec<TransformOp> {
    let step = |name: &str, value| TransformOp { name: name.to_owned(), value, inverse: false };
    let Some(view) = node.canonical() else {
        let (scale, rotation, translation) = decomposed(&node.rest());
        let order = RotationOrder::Xyz;
        let angles = nearest_euler(order, rotation, DVec3::ZERO);
        return vec![
            step(TRANSLATION, OpValue::Translate(translation)),
            step(ROTATION, OpValue::Rotate { order, angles }),
            step(SCALE, OpValue::Scale(scale)),
        ];
    };
    let or = |name: &str, value: OpValue| node.op(name).cloned().unwrap_or_else(|| step(name, value));
    let mut steps = vec![or(TRANSLATION, OpValue::Translate(view.translation))];
    steps.extend(node.op("before").cloned());
    steps.push(or(ROTATION, OpValue::Rotate { order: RotationOrder::Xyz, angles: DVec3::ZERO }));
    steps.extend(node.op("after").cloned());
    steps.push(or(SCALE, OpValue::Scale(view.scale)));
    steps
}

/// One take.
struct Job<'a> {
    scene: &'a Scene,
    take: &'a Take,
    options: &'a SolveOptions,
    tolerance: &'a Tolerance,
    touched: &'a Touched,
    addresses: &'a Addresses,
    /// On whose frames keys are added.
    keys: FrameRate,
}

/// A property, its curves and what is said of them.
type Made = (Target, ConvertedController, String);

impl<'a> Job<'a> {
    fn fault(&self, target: &Target) -> impl Fn(NotConvertible) -> SolveError {
        let channel = self.addresses.property(target);
        move |why| SolveError::NotConvertible { channel: channel.clone(), why }
    }

    fn setting(&self, kind: PropertyKind, rest: &Value) -> ConversionContext {
        ConversionContext {
            kind,
            rest: rest.clone(),
            tolerance: self.tolerance.of(kind.quantity(), &self.scene.space),
            rate: self.keys,
            range: self.take.range,
        }
    }

    /// The curves of one node.
    fn node(&self, node: NodeRef, steps: [bool; 3], rigid: Option<Rigid>) -> Result<Vec<Made>, SolveError> {
        let (rig, id) = node;
        let Some(of) = self.scene.rigs[rig].node(id) else { return Ok(Vec::new()) };
        let bare = Node { transform: with_three_steps(of), ..of.clone() };
        let Some(view) = bare.canonical() else { return Ok(Vec::new()) };
        let by = self.touched.by.get(&node).map_or("", String::as_str);
        // What is a list of other steps is followed whole.
        let steps = if of.canonical().is_none() { [true; 3] } else { steps };
        let drivers = Drivers::of(self.scene, node)?;
        let tracks = drivers.tracks(self.scene, self.take);
        let mut made = Vec::new();
        for (is_wanted, (name, kind)) in steps.into_iter().zip(parts()) {
            if !is_wanted {
                continue;
            }
            let target = Target::new(rig, id, name);
            let rest = rest_of(&bare, name);
            let wanted = Wanted { target, kind, rest };
            if let Some(rigid) = &rigid
                && !self.options.sampled
                && let Some(exact) = self.exact(&wanted, &view, rigid)
            {
                let note = format!("as {} has it: {by}", self.addresses.node(rigid.control));
                made.push((wanted.target, exact, note));
                continue;
            }
            let mut sampler = NodeSampler::new(self.scene, Some(self.take), node)?;
            let (before, after) = (view.before.conjugate(), view.after.conjugate());
            let function = move |time: f64| {
                let (local, turn) = sampler.local_at(time);
                match kind {
                    PropertyKind::Rotation => Value::Quaternion((before * turn * after).normalize()),
                    PropertyKind::Scale => Value::Vector(decomposed(&local).0),
                    _ => Value::Vector(local.translation),
                }
            };
            let changed = self.followed(&wanted, function, &tracks)?;
            made.push((wanted.target, changed, by.to_owned()));
        }
        Ok(made)
    }

    /// The curves of what couples drive.
    fn number(&self, target: &Target) -> Result<Vec<Made>, SolveError> {
        let rig = &self.scene.rigs[target.rig];
        let found = rig
            .property_kind(target.node, &target.property)
            .zip(rig.rest_value(target.node, &target.property));
        let Some((kind, rest)) = found else { return Ok(Vec::new()) };
        let drivers = Drivers::of_property(self.scene, target);
        let tracks = drivers.tracks(self.scene, self.take);
        let mut sampler = PropertySampler::coupled(self.scene, Some(self.take), target)?;
        let wanted = Wanted { target: target.clone(), kind, rest };
        let changed = self.followed(&wanted, move |time| sampler.value_at(time), &tracks)?;
        Ok(vec![(target.clone(), changed, "what is coupled to it".to_owned())])
    }

    /// Curves through a function, with keys where what drives it has them.
    fn followed(
        &self,
        wanted: &Wanted,
        function: impl FnMut(f64) -> Value + 'a,
        tracks: &[(&Layer, &Track)],
    ) -> Result<ConvertedController, SolveError> {
        let setting = self.setting(wanted.kind, &wanted.rest);
        let fault = self.fault(&wanted.target);
        let trace = SampledFunction::of_function(function);
        let samples = tracks.iter().find_map(|(_, track)| track.controller.samples());
        if self.options.sampled || samples.is_some() {
            let grid = Grid::of(samples, self.scene.rate);
            let made = sampled(&trace, grid, self.take.range, &setting).map_err(&fault)?;
            if self.options.sampled {
                return Ok(made);
            }
            let Controller::Samples(all) = &made.controller else { return Ok(made) };
            let order = wanted.rest.order().unwrap_or(RotationOrder::Xyz);
            let fitted = fit_samples(all, wanted.kind, order, setting.tolerance);
            return Ok(match fitted {
                Some((controller, error)) => {
                    ConvertedController { controller, fate: Fate::Refitted, error: Some(error) }
                }
                None => made,
            });
        }
        let times = Drivers::times(tracks, self.take.range);
        if wanted.kind == PropertyKind::Rotation {
            let start = match wanted.rest {
                Value::Euler { angles, .. } => angles,
                _ => DVec3::ZERO,
            };
            return Ok(refitted_rotation(&trace, &trace.knots(&times), start, &setting));
        }
        refitted_numbers(&trace, &times, &setting, None).map_err(fault)
    }

    /// A control's curve in a joint's axes; `None` where it is not the only one, or does not go over exactly.
    fn exact(&self, wanted: &Wanted, view: &Canonical, rigid: &Rigid) -> Option<ConvertedController> {
        let (rig, id) = rigid.control;
        let control = self.scene.rigs.get(rig)?.node(id)?;
        let from = control.canonical()?;
        let mut tracks = self.take.active_tracks().filter(|(_, track)| {
            (track.target.rig, track.target.node) == rigid.control
                && control.op(&track.target.property).is_some()
        });
        let own: Vec<(&Layer, &Track)> = tracks.by_ref().collect();
        let is_scaled = own.iter().any(|(_, track)| track.target.property == SCALE);
        if is_scaled || own.iter().any(|(layer, _)| !layer.is_whole()) || has_two(&own) {
            return None;
        }
        let controller = own.iter().find(|(_, track)| track.target.property == wanted.target.property);
        let controller = controller.map(|(_, track)| &track.controller);
        let made = match wanted.kind {
            PropertyKind::Rotation => {
                let before = view.before.conjugate() * rigid.turn_before * from.before;
                let after = from.after * rigid.turn_after * view.after.conjugate();
                let Some(controller) = controller else {
                    return Some(still(&wanted.rest, Value::Quaternion(before * from.rotation * after)));
                };
                let conversion = RotationConversion {
                    order: wanted.rest.order()?,
                    before,
                    after,
                    tolerance: self.tolerance.angle.into(),
                    handles: None,
                    cache: None,
                    rate: self.scene.rate,
                    range: self.take.range,
                    at_home: false,
                };
                let rest = self.scene.rigs[rig].rest_value(id, ROTATION)?;
                let made = conversion.apply(controller, &rest)?;
                // Places of errors are in ticks as long as something is made.
                let in_ticks = |error: MeasuredError| MeasuredError {
                    frame: error.frame * self.scene.rate.ticks_per_frame(),
                    ..error
                };
                let fate = made.fate.max(Fate::Exact);
                ConvertedController { controller: made.controller, fate, error: made.error.map(in_ticks) }
            }
            PropertyKind::Vector(_) => {
                // Beside the control its turns would move the joint.
                if rigid.after.translation.length() > 1e-12 * (1.0 + from.translation.length()) {
                    return None;
                }
                let place = |v: DVec3| rigid.before.transform_point3(v);
                let Some(controller) = controller else {
                    return Some(still(&wanted.rest, Value::Vector(place(from.translation))));
                };
                let linear = Linear::new(
                    snapped_turn(rigid.turn_before),
                    1.0,
                    DVec3::ZERO,
                    place(DVec3::ZERO),
                    from.translation,
                    view.translation,
                );
                ConvertedController {
                    controller: linear.controller(controller)?,
                    fate: Fate::Exact,
                    error: None,
                }
            }
            _ => return None,
        };
        Some(made)
    }
}

/// Whether a property has two tracks.
fn has_two(tracks: &[(&Layer, &Track)]) -> bool {
    let mut seen = BTreeSet::new();
    !tracks.iter().all(|(_, track)| seen.insert(&track.target.property))
}

/// A property that does not move.
fn still(rest: &Value, value: Value) -> ConvertedController {
    let value = match (rest, value.rotation()) {
        (Value::Euler { order, angles }, Some(turn)) => {
            Value::Euler { order: *order, angles: nearest_euler(*order, turn, *angles) }
        }
        _ => value,
    };
    ConvertedController { controller: Controller::Constant(value), fate: Fate::Exact, error: None }
}

/// The parts of a transform, and what each is.
fn parts() -> [(&'static str, PropertyKind); 3] {
    [
        (TRANSLATION, PropertyKind::Vector(Quantity::Length)),
        (ROTATION, PropertyKind::Rotation),
        (SCALE, PropertyKind::Scale),
    ]
}

fn rest_of(node: &Node, name: &str) -> Value {
    match node.op(name).map(|op| op.value) {
        Some(OpValue::Translate(v) | OpValue::Scale(v)) => Value::Vector(v),
        Some(OpValue::Rotate { order, angles }) => Value::Euler { order, angles },
        Some(other) => Value::Quaternion(other.rotation()),
        None => Value::Vector(DVec3::ZERO),
    }
}

/// Puts curves into a take in place of what drove the same properties, and writes down what became of each.
fn put(take: &mut Take, job: &Job<'_>, made: Vec<Made>, ledger: &mut Ledger) {
    let targets: BTreeSet<Target> = made.iter().map(|(target, ..)| target.clone()).collect();
    // Steps of lists become others.
    let relaid: BTreeSet<NodeRef> = (job.touched.steps.keys().copied())
        .filter(|(rig, id)| job.scene.rigs[*rig].node(*id).is_some_and(|node| node.canonical().is_none()))
        .collect();
    let is_step = |target: &Target| {
        job.scene.rigs[target.rig].node(target.node).is_some_and(|node| node.op(&target.property).is_some())
    };
    let goes = |target: &Target| {
        targets.contains(target) || relaid.contains(&(target.rig, target.node)) && is_step(target)
    };
    let mut before: BTreeMap<Target, usize> = BTreeMap::new();
    let mut folded: BTreeSet<String> = BTreeSet::new();
    for (index, layer) in take.layers.iter_mut().enumerate() {
        let (name, is_active) = (layer.name.clone(), layer.is_active());
        layer.tracks.retain(|track| {
            let books = crate::channel::Bookkeeper { addresses: job.addresses, take: job.take };
            // What does not count stays as it is.
            if !goes(&track.target) || !is_active {
                ledger.entries.push(books.kept(index, track));
                return true;
            }
            *before.entry(track.target.clone()).or_default() += track.controller.value_count();
            if index > 0 {
                folded.insert(name.clone());
            }
            if !targets.contains(&track.target) {
                let note = "its steps are said as translation, rotation and scale";
                let error = MeasuredError::none(Quantity::Angle);
                ledger.entries.push(books.changed(index, track, Fate::Refitted, 0, Some(error), note));
            }
            false
        });
    }
    if !folded.is_empty() {
        let names: Vec<String> = folded.into_iter().map(|name| format!("'{name}'")).collect();
        ledger.notes.push(format!("layers of driven joints were folded in: {}", names.join(", ")));
    }
    let is_whole = take.layers.first().is_some_and(Layer::is_whole);
    if !is_whole {
        take.layers.push(Layer { name: "solved".to_owned(), ..Layer::base(Vec::new()) });
    }
    let place = if is_whole { 0 } else { take.layers.len() - 1 };
    let rests = |target: &Target| {
        let node = job.scene.rigs[target.rig].node(target.node)?;
        let bare = Node { transform: with_three_steps(node), ..node.clone() };
        bare.op(&target.property).map(|_| rest_of(&bare, &target.property))
    };
    let is_there =
        |target: &Target| job.scene.rigs[target.rig].property_kind(target.node, &target.property).is_some();
    let layer = &mut take.layers[place];
    for (target, changed, note) in made {
        let rest = rests(&target);
        // What stands where it rests needs no track, unless something below it would move it.
        let is_still = place == 0 && stands(&changed.controller, rest.as_ref());
        let controller = match place {
            0 => without_rest(changed.controller, rest.as_ref()),
            _ => changed.controller,
        };
        let after = if is_still { 0 } else { controller.value_count() };
        let known = before.get(&target).copied();
        ledger.entries.push(Entry {
            take: job.take.name.clone(),
            layer: layer.name.clone(),
            channel: job.addresses.property(&target),
            to: None,
            target: is_there(&target).then(|| target.clone()),
            fate: changed.fate,
            error: changed.error.map(|error| error.in_frames(job.scene.rate)),
            before: known.unwrap_or(0),
            after,
            note,
        });
        if !is_still {
            layer.tracks.push(Track { target, controller });
        }
    }
}

/// Whether a controller never leaves where its property rests.
fn stands(controller: &Controller, rest: Option<&Value>) -> bool {
    let Some(numbers) = rest.and_then(Value::numbers) else { return false };
    match controller {
        Controller::Constant(value) => {
            let near = |(a, b): (&f64, &f64)| (a - b).abs() < 1e-12;
            value
                .numbers()
                .is_some_and(|own| own.len() == numbers.len() && own.iter().zip(&numbers).all(near))
        }
        _ => {
            let curves = controller.curves();
            !curves.is_empty()
                && curves.iter().zip(&numbers).all(|(curve, rest)| {
                    curve.keys().iter().all(|key| key.value == *rest) && curve.is_constant()
                        || curve.is_empty()
                })
        }
    }
}

/// By how much the largest error in the world is beyond the tolerance, as a factor, at quarters of frames.
fn beyond(scene: &Scene, result: &Scene, tolerance: &Tolerance) -> Result<f64, SolveError> {
    let length = tolerance.of(Quantity::Length, &scene.space);
    let mut most: f64 = 0.0;
    for (from, to) in scene.takes.iter().zip(&result.takes) {
        let (mut source, mut made) = (Poses::new(scene, from)?, Poses::new(result, to)?);
        let rate = scene.rate;
        let (first, last) =
            (rate.frame(from.range.first).floor() as i64, rate.frame(from.range.last).ceil() as i64);
        // Between samples nobody knows the motion.
        let is_sampled = from.active_tracks().any(|(_, track)| track.controller.samples().is_some());
        let parts: i64 = if is_sampled { 1 } else { 4 };
        let part = rate.ticks_per_frame() / parts as f64;
        // Of takes of hours no more instants than of one of minutes.
        let stride = ((last - first) * parts / MOST_LOOKS + 1) as usize;
        for step in (first * parts..=last * parts).step_by(stride) {
            let time: f64 = step as f64 * part;
            let time = time.clamp(Ticks::as_f64(from.range.first), from.range.last.as_f64());
            source.at(time);
            made.at(time);
            for (theirs, ours) in source.poses.iter().zip(&made.poses) {
                for (a, b) in theirs.world.iter().zip(&ours.world) {
                    most = most.max((a.translation - b.translation).length() / length);
                    most = most.max(turned(a.matrix3, b.matrix3) / tolerance.angle);
                }
            }
        }
    }
    Ok(most)
}

/// The angle between the axes of two transforms, mirrored ones included: by the distance of their matrices, which for an angle θ is
/// √8 · sin(θ/2) (Huynh, J. Math. Imaging Vis. 35, 2009).
fn turned(a: DMat3, b: DMat3) -> f64 {
    let unit = |m: DMat3| {
        DMat3::from_cols(
            m.x_axis.normalize_or_zero(),
            m.y_axis.normalize_or_zero(),
            m.z_axis.normalize_or_zero(),
        )
    };
    let apart = (unit(a) - unit(b)).to_cols_array().into_iter().map(|n| n * n).sum::<f64>();
    2.0 * (apart / 8.0).sqrt().min(1.0).asin()
}
