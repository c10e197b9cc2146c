//! Joints that constraints drive get curves of their own.

use std::collections::{BTreeMap, BTreeSet};
use std::num::NonZeroU32;

use glam::{DMat3, DVec3};
use nimble_curve_curves::rotation::RotationOrder;
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{CoupledSampler, NodeSampler};
use nimble_curve_scene::judge::{Claim, Sampling};
use nimble_curve_scene::ledger::{Fate, Ledger};
use nimble_curve_scene::rig::{Node, ROTATION, SCALE, TRANSLATION};
use nimble_curve_scene::scene::{Layer, PropertyKind, Scene, Take, Target, Track};
use rayon::prelude::*;

use super::anchor::{Anchors, Rigid};
use super::closeness::{ByJoint, Closeness, TRIES};
use super::corners::corners;
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
use crate::sampled_function::SampledFunction;
use crate::select::{Selection, select};

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

/// Into how many parts frames are divided for keys afterwards.
const FINE: u32 = 8;

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
    let numbers = touched.numbers.iter().map(|target| (target.rig, target.node));
    let joints: BTreeSet<NodeRef> = touched.steps.keys().copied().chain(numbers).collect();
    let mut tries = Tries { straight, ..Tries::default() };
    let mut best: Option<(f64, Solved)> = None;
    for tried in 1..=TRIES {
        let made = attempt(scene, options, (&chosen, &touched), &mut tries)?;
        let beyond =
            if is_bounded { beyond(scene, &made.scene, &options.tolerance, &looks)? } else { Vec::new() };
        let most = beyond.iter().flatten().flatten().flatten().fold(0.0_f64, |most, far| most.max(*far));
        if best.as_ref().is_none_or(|(least, _)| most < *least) {
            best = Some((most, made));
        }
        let mut is_closer = false;
        for take in beyond.iter().enumerate().filter(|_| most > 1.0) {
            is_closer |= tries.by_joint.tighten(scene, &joints, take, tried);
        }
        if !is_closer {
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
    let (limbs, bones, grips) = (BTreeSet::new(), BTreeSet::new(), BTreeMap::new());
    let mut said = Vec::new();
    for (from, to) in scene.takes.iter().zip(&result.takes) {
        let (motion, result) = ((scene, from), (result, to));
        let compared =
            Compared { motion, result, joints: &joints, limbs: &limbs, bones: &bones, grips: &grips };
        let found = departures(&compared, quarters(scene.rate, from.range), |_, _, _, _| {})?;
        said.extend(between_keys(scene, &addresses, &from.name, found.all.iter()));
    }
    Ok(said)
}

/// How joints are tried to be solved.
#[derive(Default)]
struct Tries {
    /// How closely.
    by_joint: ByJoint,
    /// Where limbs come to their whole length, by take.
    straight: Vec<StraightTimes>,
    /// What was solved, by take: it stays as long as nothing asks for it closer.
    known: BTreeMap<(usize, Asked), (Closeness, Vec<Made>)>,
}

/// What gets curves.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Asked {
    /// Steps of a node: translation, rotation, scale.
    Steps(NodeRef, [bool; 3]),
    /// A number that couples drive.
    Number(Target),
}

impl Asked {
    fn node(&self) -> NodeRef {
        match self {
            Asked::Steps(node, _) => *node,
            Asked::Number(target) => (target.rig, target.node),
        }
    }
}

/// The properties of a node that get curves, with their kinds and what they rest at.
pub(super) struct Wanted {
    pub target: Target,
    pub kind: PropertyKind,
    pub rest: Value,
}

fn attempt(
    scene: &Scene,
    options: &SolveOptions,
    (chosen, touched): (&BTreeSet<usize>, &Touched),
    tries: &mut Tries,
) -> Result<Solved, SolveError> {
    let mut result = scene.clone();
    for &(rig, id) in touched.steps.keys() {
        if let Some(node) = result.rigs[rig].node_mut(id) {
            node.transform = with_three_steps(node);
        }
    }
    let addresses = Addresses::new(scene);
    let mut ledger = Ledger::default();
    let nodes = touched.steps.iter().map(|(node, steps)| Asked::Steps(*node, *steps));
    let asked: Vec<Asked> = nodes.chain(touched.numbers.iter().cloned().map(Asked::Number)).collect();
    for (index, take) in scene.takes.iter().enumerate() {
        let mut anchors = Anchors::new(scene, take);
        let mut anew: Vec<(&Asked, Closeness, Option<Rigid>)> = Vec::new();
        for one in &asked {
            let closeness = tries.by_joint.of(index, one.node());
            let is_known = tries.known.get(&(index, one.clone())).is_some_and(|(own, _)| *own == closeness);
            if !is_known {
                anew.push((one, closeness, anchors.rigid(one.node())));
            }
        }
        let of_take = Job::new((scene, take, options), touched, &addresses);
        let straight = tries.straight.get(index);
        let made: Vec<Result<Vec<Made>, SolveError>> = (anew.par_iter())
            .map(|(one, closeness, rigid)| of_take.closer(*closeness, straight).solved(one, *rigid))
            .collect();
        // Of several that fail the first is told, whichever thread was first.
        for ((one, closeness, _), made) in anew.into_iter().zip(made) {
            tries.known.insert((index, one.clone()), (closeness, made?));
        }
        let all = asked.iter().filter_map(|one| tries.known.get(&(index, one.clone())));
        let made = all.flat_map(|(_, made)| made.iter().cloned()).collect();
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
#[derive(Clone, Copy)]
pub(super) struct Job<'a> {
    pub scene: &'a Scene,
    pub take: &'a Take,
    options: &'a SolveOptions,
    pub tolerance: Tolerance,
    touched: &'a Touched,
    addresses: &'a Addresses,
    /// On whose frames keys are added.
    keys: FrameRate,
    /// When joints of limbs come to their whole length.
    straight: Option<&'a StraightTimes>,
    /// How closely keys may stand there.
    straightness: usize,
}

impl<'a> Job<'a> {
    fn new(
        (scene, take, options): (&'a Scene, &'a Take, &'a SolveOptions),
        touched: &'a Touched,
        addresses: &'a Addresses,
    ) -> Job<'a> {
        let (tolerance, keys) = (options.tolerance, scene.rate);
        Job { scene, take, options, tolerance, touched, addresses, keys, straight: None, straightness: 0 }
    }

    /// The same so closely.
    fn closer(&self, closeness: Closeness, straight: Option<&'a StraightTimes>) -> Job<'a> {
        let (rate, parts) = (self.scene.rate, if closeness.is_fine { FINE } else { 1 });
        let fine = rate.numerator().checked_mul(parts);
        Job {
            tolerance: self.tolerance.times(closeness.part),
            keys: fine.and_then(|fine| FrameRate::new(fine, rate.denominator())).unwrap_or(rate),
            straight,
            straightness: closeness.straightness,
            ..*self
        }
    }

    fn solved(&self, asked: &Asked, rigid: Option<Rigid>) -> Result<Vec<Made>, SolveError> {
        match asked {
            Asked::Steps(node, steps) => self.node(*node, *steps, rigid),
            Asked::Number(target) => self.number(target),
        }
    }

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
            let function = SampledFunction::of_function(function).with_jumps(jumps.clone());
            let mut more = jumps;
            for (joint, times) in self.straight.into_iter().flatten() {
                if *joint == node || drivers.go_by(*joint) {
                    more.extend(times.iter().take(self.straightness).flatten());
                }
            }
            let changed = self.followed(&wanted, &function, (&tracks, more))?;
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
        let sampler = || CoupledSampler::new(self.scene, Some(self.take), target);
        let wanted = Wanted { target: target.clone(), kind, rest };
        let followed = |more: Vec<Ticks>| -> Result<ConvertedController, SolveError> {
            let mut sampler = sampler()?;
            let function = SampledFunction::of_function(move |time| sampler.value_at(time));
            self.followed(&wanted, &function, (&tracks, more))
        };
        let corners = corners(&mut sampler()?, self.take.range, self.scene.rate);
        let mut changed = followed(Vec::new())?;
        if !corners.is_empty() && self.options.keys == SolveKeys::Bounded {
            // Keys on frames go about a corner between them, if they are near enough; one on it is often less.
            let cornered = followed(corners)?;
            if cornered.controller.key_count() <= changed.controller.key_count() {
                changed = cornered;
            }
        }
        Ok(vec![(target.clone(), changed, "what is coupled to it".to_owned())])
    }

    /// Curves through a function, with keys where what drives it has them, and some more.
    fn followed(
        &self,
        wanted: &Wanted,
        trace: &SampledFunction<'a>,
        (tracks, more): (&[(&Layer, &Track)], Vec<Ticks>),
    ) -> Result<ConvertedController, SolveError> {
        let mut setting = self.setting(wanted.kind, &wanted.rest);
        let fault = self.fault(&wanted.target);
        let samples = tracks.iter().find_map(|(_, track)| track.controller.samples());
        let is_sampled = self.options.keys == SolveKeys::Sampled;
        if is_sampled || samples.is_some() && self.options.keys == SolveKeys::Bounded {
            let grid = Grid::of(samples, self.scene.rate);
            let made = sampled(trace, grid, self.take.range, &setting).map_err(&fault)?;
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
        let mut made = self.refitted(wanted, trace, &times, &setting)?;
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
            let closer = self.refitted(wanted, trace, &times, &setting)?;
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
}

/// The parts of a transform, and what each is.
fn parts() -> [(&'static str, PropertyKind); 3] {
    [
        (TRANSLATION, PropertyKind::Vector(Quantity::Length)),
        (ROTATION, PropertyKind::Rotation),
        (SCALE, PropertyKind::Scale),
    ]
}
