//! Joints that constraints drive get curves of their own.

use std::collections::BTreeSet;
use std::num::NonZeroU32;

use glam::{DMat3, DVec3};
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{CoupledSampler, NodeSampler};
use nimble_curve_scene::judge::{Claim, Sampling};
use nimble_curve_scene::ledger::{Fate, Ledger, MeasuredError};
use nimble_curve_scene::rig::{Canonical, Node, ROTATION, SCALE, TRANSLATION};
use nimble_curve_scene::scene::{Layer, PropertyKind, Scene, Take, Target, Track};

use super::anchor::{Anchors, Rigid};
use super::drivers::Drivers;
use super::error::SolveError;
use super::in_world::beyond;
use super::jumps::{jumps, snapped};
use super::onto::away::{Compared, between_keys, departures, quarters};
use super::straight::{StraightTimes, about, looks_at, straight_times};
use super::touched::{Touched, chosen_constraints};
use super::written::{Context, Made, put, rest_of, with_three_steps};
use crate::Tolerance;
use crate::conversion::{
    ConversionContext, ConvertedController, Grid, NotConvertible, refitted_numbers, refitted_rotation,
    sampled,
};
use crate::fitting::fit_samples;
use crate::rotation_conversion::RotationConversion;
use crate::sampled_function::SampledFunction;
use crate::select::{Selection, select};
use crate::vectors::{Linear, snapped_turn};

/// How to solve.
#[derive(Clone, Debug, Default)]
pub struct SolveOptions {
    /// How far joints may be off in the world: their turns and their places.
    pub tolerance: Tolerance,
    /// Patterns of nodes, or `@SET`: the constraints that drive them, and no others; all where there are none.
    pub only: Vec<String>,
    /// The frames that the result has, both ends included; all of them where there is none.
    pub range: Option<TimeRange>,
    /// Where curves are not a control's own, which keys they get.
    pub keys: SolveKeys,
}

/// Which keys solved joints get.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum SolveKeys {
    /// Where what drives them has keys, and where the tolerance asks for more.
    #[default]
    Bounded,
    /// On every so many frames from the first of the take, and on its last, whatever lies between: how far off that is is measured.
    EachNth(NonZeroU32),
    /// A sample on each frame, and no curve.
    Sampled,
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

/// How often the tolerance of single joints is made smaller until the bound holds in the world.
const TRIES: usize = 6;

/// How many of these have keys on frames alone.
const ON_FRAMES: usize = 3;

/// Into how many parts frames are divided for keys afterwards.
const FINE: u32 = 8;

/// The least part of the tolerance that single joints are fitted to.
const LEAST_PART: f64 = 0.005;

/// In how many places a curve may need keys closer than these, where they do not bring it within the bound of its joint.
const SHARPEST: usize = 6;

/// So far beyond that they are off then.
const OVER: f64 = 1.05;

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
/// nodes, at quarters of frames, by tightening that of the joints, and about the instants at which limbs come to their whole length, by
/// keys closer and closer to these. Where what constraints make of a node jumps, its curve jumps. Curves go to the base layer, or to one
/// of their own on top where the base does not count in full.
///
/// # Errors
/// See [`SolveError`].
pub fn solve(scene: &Scene, options: &SolveOptions) -> Result<Solved, SolveError> {
    if options.range.is_some() {
        let selection =
            Selection { range: options.range, tolerance: options.tolerance, ..Selection::default() };
        let (part, cut) = select(scene, &selection)?;
        let made = solve(&part, &SolveOptions { range: None, ..options.clone() })?;
        let sampling = made.claim.sampling;
        let claim = Claim { sampling, ..Claim::same(scene, &made.scene) };
        return Ok(Solved { ledger: cut.followed_by(made.ledger), claim, ..made });
    }
    let chosen = chosen_constraints(scene, &options.only)?;
    let touched = Touched::by(scene, &chosen);
    let is_bounded = options.keys == SolveKeys::Bounded;
    let bounded = scene.takes.iter().filter(|_| is_bounded);
    let straight: Vec<StraightTimes> =
        bounded.map(|take| straight_times(scene, take, &chosen)).collect::<Result<_, _>>()?;
    let looks: Vec<Vec<f64>> = straight.iter().map(looks_at).collect();
    let mut tries = Tries { tolerance: options.tolerance, is_fine: false, straight: None };
    let mut best: Option<(f64, Solved)> = None;
    for attempts in 0..TRIES {
        tries.is_fine = attempts >= ON_FRAMES;
        let made = attempt(scene, options, (&chosen, &touched), &tries)?;
        let beyond =
            if is_bounded { beyond(scene, &made.scene, &options.tolerance, &looks)? } else { [0.0; 2] };
        let [at_quarters, where_straight] = beyond;
        let most = at_quarters.max(where_straight);
        if best.as_ref().is_none_or(|(least, _)| most < *least) {
            best = Some((most, made));
        }
        if most <= 1.0 {
            break;
        }
        // Where only these are too far off, keys about them are all that is missing.
        let far = match tries.straight {
            None if where_straight > 1.0 => {
                tries.straight = Some(&straight);
                at_quarters
            }
            _ => most,
        };
        if far > 1.0 {
            tries.tolerance = tries.tolerance.times((0.7 / far).clamp(0.05, 0.7));
        }
        // What closer curves do not bring nearer is no matter of keys.
        if tries.tolerance.angle < LEAST_PART * options.tolerance.angle {
            break;
        }
    }
    let (_, mut made) = best.ok_or(SolveError::NoConstraints)?;
    if let SolveKeys::EachNth(_) = options.keys {
        made.ledger.notes.extend(between_steps(scene, &made.scene, &touched)?);
    }
    Ok(made)
}

/// What lies between keys on every so many frames, in words, by take.
fn between_steps(scene: &Scene, result: &Scene, touched: &Touched) -> Result<Vec<String>, SolveError> {
    let addresses = Addresses::new(scene);
    let coupled = touched.numbers.iter().map(|target| (target.rig, target.node));
    let joints: BTreeSet<NodeRef> = touched.steps.keys().copied().chain(coupled).collect();
    let (limbs, bones) = (BTreeSet::new(), BTreeSet::new());
    let mut said = Vec::new();
    for (from, to) in scene.takes.iter().zip(&result.takes) {
        let (motion, result) = ((scene, from), (result, to));
        let compared = Compared { motion, result, joints: &joints, limbs: &limbs, bones: &bones };
        let found = departures(&compared, quarters(scene.rate, from.range), |_, _, _, _| {})?;
        said.extend(between_keys(scene, &addresses, &from.name, found.all.iter()));
    }
    Ok(said)
}

/// How joints are tried to be solved.
struct Tries<'a> {
    /// How far single joints may be off.
    tolerance: Tolerance,
    /// Whether keys may stand between frames.
    is_fine: bool,
    /// Where limbs come to their whole length, by take, once keys are needed there.
    straight: Option<&'a [StraightTimes]>,
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
    tries: &Tries<'_>,
) -> Result<Solved, SolveError> {
    let (rate, parts) = (scene.rate, if tries.is_fine { FINE } else { 1 });
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
        let straight = tries.straight.and_then(|all| all.get(index));
        let tolerance = &tries.tolerance;
        let job = Job { scene, take, options, tolerance, touched, addresses: &addresses, keys, straight };
        let mut made: Vec<(Target, ConvertedController, String)> = Vec::new();
        let mut anchors = Anchors::new(scene, take);
        for (&node, &steps) in &touched.steps {
            made.extend(job.node(node, steps, anchors.rigid(node))?);
        }
        for target in &touched.numbers {
            made.extend(job.number(target)?);
        }
        let context = Context { scene, take, touched, addresses: &addresses };
        put(&mut result.takes[index], &context, made, &mut ledger);
    }
    // Left in, they would drive once more what they came to.
    let mut index = 0;
    result.constraints.retain(|_| {
        index += 1;
        !chosen.contains(&(index - 1))
    });
    let mut claim = Claim::same(scene, &result);
    match options.keys {
        SolveKeys::Bounded => {}
        SolveKeys::EachNth(step) => claim.sampling = Sampling::EachNth(step),
        SolveKeys::Sampled => claim.sampling = Sampling::Result,
    }
    Ok(Solved { scene: result, ledger, claim })
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
    /// When joints of limbs come to their whole length.
    straight: Option<&'a StraightTimes>,
}

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
                && self.options.keys != SolveKeys::Sampled
                && let Some(exact) = self.exact(&wanted, &view, rigid)
            {
                let note = format!("as {} has it: {by}", self.addresses.node(rigid.control));
                made.push((wanted.target, exact, note));
                continue;
            }
            let (before, after) = (view.before.conjugate(), view.after.conjugate());
            let sampler = || NodeSampler::new(self.scene, Some(self.take), node);
            let part = move |sampler: &mut NodeSampler<'_>, time: f64| {
                let (local, turn) = sampler.local_at(time);
                match kind {
                    PropertyKind::Rotation => Value::Quaternion((before * turn * after).normalize()),
                    // With the signs that go with the node's own rotation.
                    PropertyKind::Scale => {
                        let size = DMat3::from_quat(turn.conjugate()) * local.matrix3;
                        Value::Vector(DVec3::new(size.x_axis.x, size.y_axis.y, size.z_axis.z))
                    }
                    _ => Value::Vector(local.translation),
                }
            };
            let (mut look, mut sampler) = (sampler()?, sampler()?);
            let whole = SampledFunction::of_function(move |time| part(&mut look, time));
            let jumps = jumps(&whole, self.take.range, self.scene.rate);
            let function = snapped(jumps.clone(), move |time| part(&mut sampler, time));
            let mut more = jumps;
            for (joint, times) in self.straight.into_iter().flatten() {
                if *joint == node || drivers.go_by(*joint) {
                    more.extend(times);
                }
            }
            let changed = self.followed(&wanted, function, (&tracks, more))?;
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
        let mut sampler = CoupledSampler::new(self.scene, Some(self.take), target)?;
        let wanted = Wanted { target: target.clone(), kind, rest };
        let changed = self.followed(&wanted, move |time| sampler.value_at(time), (&tracks, Vec::new()))?;
        Ok(vec![(target.clone(), changed, "what is coupled to it".to_owned())])
    }

    /// Curves through a function, with keys where what drives it has them, and some more.
    fn followed(
        &self,
        wanted: &Wanted,
        function: impl FnMut(f64) -> Value + 'a,
        (tracks, more): (&[(&Layer, &Track)], Vec<Ticks>),
    ) -> Result<ConvertedController, SolveError> {
        let mut setting = self.setting(wanted.kind, &wanted.rest);
        let fault = self.fault(&wanted.target);
        let trace = SampledFunction::of_function(function);
        let samples = tracks.iter().find_map(|(_, track)| track.controller.samples());
        let is_sampled = self.options.keys == SolveKeys::Sampled;
        if is_sampled || samples.is_some() && self.options.keys == SolveKeys::Bounded {
            let grid = Grid::of(samples, self.scene.rate);
            let made = sampled(&trace, grid, self.take.range, &setting).map_err(&fault)?;
            if is_sampled {
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
        let times: Vec<Ticks> = match self.options.keys {
            SolveKeys::EachNth(step) => {
                // None is added between them.
                setting.tolerance = f64::INFINITY;
                self.take.range.every(self.scene.rate, step).collect()
            }
            _ => {
                let all = Drivers::times(tracks, self.take.range).into_iter().chain(more);
                all.collect::<BTreeSet<Ticks>>().into_iter().collect()
            }
        };
        let mut made = self.refitted(wanted, &trace, &times, &setting)?;
        if self.options.keys != SolveKeys::Bounded {
            return Ok(made);
        }
        // Where keys on such frames cannot follow, others about the worst place may.
        let mut times = times;
        for _ in 0..SHARPEST {
            let Some(error) = made.error.filter(|error| error.largest > setting.tolerance * OVER) else {
                break;
            };
            times.extend(about(error.frame, self.scene.rate).filter(|time| self.take.range.contains(*time)));
            times.sort_unstable();
            times.dedup();
            let closer = self.refitted(wanted, &trace, &times, &setting)?;
            if closer.error.is_none_or(|own| own.largest >= error.largest) {
                break;
            }
            made = closer;
        }
        Ok(made)
    }

    /// Curves through a function with keys at some times, and more on frames of a rate.
    fn refitted(
        &self,
        wanted: &Wanted,
        trace: &SampledFunction<'_>,
        times: &[Ticks],
        setting: &ConversionContext,
    ) -> Result<ConvertedController, SolveError> {
        if wanted.kind == PropertyKind::Rotation {
            let start = match wanted.rest {
                Value::Euler { angles, .. } => angles,
                _ => DVec3::ZERO,
            };
            return Ok(refitted_rotation(trace, &trace.knots(times), start, setting));
        }
        refitted_numbers(trace, times, setting, None).map_err(self.fault(&wanted.target))
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
