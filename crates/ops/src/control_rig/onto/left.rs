//! What couples and rolls add to: own curves are what is left once controls do their part.

use std::collections::BTreeSet;

use glam::DVec3;
use nimble_curve_curves::rotation::{angle_between, nearest_euler};
use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::constraint::ConstraintKind;
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::evaluate::{CoupledSampler, NodeSampler, Solver};
use nimble_curve_scene::rig::{Canonical, Node, ROTATION, Rig};
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Target};

use super::away::quarters;
use super::options::MatchKeys;
use crate::Tolerance;
use crate::control_rig::drivers::Drivers;
use crate::control_rig::error::SolveError;
use crate::control_rig::jumps::{jumps, jumps_among, snapped};
use crate::control_rig::written::replace;
use crate::conversion::{
    ConversionContext, ConvertedController, NotConvertible, refitted_numbers, refitted_rotation,
};
use crate::sampled_function::SampledFunction;

/// No bound: keys stand where they are asked for, and nowhere else.
const ANY: f64 = 1e9;

/// So much of the bound may be left without curves of its own.
const LEFT: f64 = 0.25;

/// The properties that couples and rolls add to, among constraints that are let go.
pub fn added_to(scene: &Scene, gone: &BTreeSet<usize>) -> BTreeSet<Target> {
    let target = |index: &usize| match &scene.constraints[*index].kind {
        ConstraintKind::Couple(couple) => Some(couple.channel.target.clone()),
        ConstraintKind::Roll(_) => {
            let (rig, node) = scene.constraints[*index].node;
            Some(Target::new(rig, node, ROTATION))
        }
        _ => None,
    };
    gone.iter().filter_map(target).collect()
}

/// How a property is worked out, without and with what is left.
enum Missing<'a> {
    /// What couples add to numbers.
    Numbers { wanted: CoupledSampler<'a>, now: CoupledSampler<'a>, rest: Value, rests: Vec<f64> },
    /// What rolls add to a turn.
    Turn { wanted: NodeSampler<'a>, now: Box<Solver<'a>>, node: NodeRef, view: Canonical },
}

impl Missing<'_> {
    fn at(&mut self, time: f64) -> Value {
        match self {
            Missing::Numbers { wanted, now, rest, rests } => {
                let now = numbers(&now.value_at(time));
                let wanted = match (&*rest, wanted.value_at(time)) {
                    (Value::Euler { order, .. }, Value::Quaternion(turn)) => {
                        nearest_euler(*order, turn, DVec3::from_slice(&now)).to_array().to_vec()
                    }
                    (_, wanted) => numbers(&wanted),
                };
                let each = wanted.iter().zip(&now).zip(&*rests);
                let all: Vec<f64> = each.map(|((wanted, now), rest)| wanted - now + rest).collect();
                if let [only] = all.as_slice() {
                    Value::Number(*only)
                } else {
                    Value::Vector(DVec3::from_slice(&all))
                }
            }
            Missing::Turn { wanted, now, node, view } => {
                now.solve(time);
                let wanted = wanted.rotation_at(time);
                let own = now.own_rotation_for(*node, wanted).unwrap_or(wanted);
                Value::Quaternion((view.before.conjugate() * own * view.after.conjugate()).normalize())
            }
        }
    }
}

/// Gives a property the curves that are missing to what it was, if any are; what it has now.
pub fn with_the_rest(
    (motion, source): (&Scene, &Take),
    result: &mut Scene,
    take: usize,
    target: &Target,
    (keys, bound): (MatchKeys, &Tolerance),
) -> Result<Option<ConvertedController>, SolveError> {
    let rig: &Rig = &result.rigs[target.rig];
    let found =
        rig.property_kind(target.node, &target.property).zip(rig.rest_value(target.node, &target.property));
    let has_numbers = found.as_ref().is_some_and(|(_, rest)| rest.numbers().is_some());
    let Some((kind, rest)) = found.filter(|_| has_numbers) else {
        let channel = Addresses::new(motion).property(target);
        return Err(SolveError::NotConvertible { channel, why: NotConvertible::NoValue });
    };
    let node = (target.rig, target.node);
    let view = rig.node(target.node).and_then(Node::canonical);
    replace(result, take, target, None);
    let made = {
        let mut missing = match view.filter(|_| result.is_driven(node) && target.property == ROTATION) {
            Some(view) => Missing::Turn {
                wanted: NodeSampler::new(motion, Some(source), node)?,
                now: Box::new(Solver::new(result, Some(&result.takes[take]), [node])?),
                node,
                view,
            },
            None => Missing::Numbers {
                wanted: CoupledSampler::new(motion, Some(source), target)?,
                now: CoupledSampler::new(result, Some(&result.takes[take]), target)?,
                rests: numbers(&rest),
                rest: rest.clone(),
            },
        };
        let is_turn = matches!(missing, Missing::Turn { .. });
        let tolerance = bound.of(kind.quantity(), &result.space);
        let off = |value: &Value| match (value, rest.rotation()) {
            (Value::Quaternion(turn), Some(rest)) => angle_between(*turn, rest),
            _ => {
                let (own, rest) = (numbers(value), numbers(&rest));
                own.iter().zip(&rest).map(|(own, rest)| (own - rest) * (own - rest)).sum::<f64>().sqrt()
            }
        };
        let is_little =
            quarters(motion.rate, source.range).all(|time| off(&missing.at(time)) <= LEFT * tolerance);
        let missing = SampledFunction::of_function(move |time| missing.at(time));
        // A roll comes half round a little earlier or later than it did.
        let jumps = match is_turn {
            true => jumps_of((motion, source), (result, &result.takes[take]), node, &missing)?,
            false => Vec::new(),
        };
        if is_little && jumps.is_empty() {
            return Ok(None);
        }
        let tracks = Drivers::of_property(motion, target);
        let mut times = Drivers::times(&tracks.tracks(motion, source), source.range);
        let moved = Drivers::of(result, node)?;
        times.extend(Drivers::times(&moved.tracks(result, &result.takes[take]), source.range));
        times.extend(&jumps);
        times.sort_unstable();
        times.dedup();
        let plain = match numbers(&rest).as_slice() {
            _ if is_turn => rest.clone(),
            [only] => Value::Number(*only),
            all => Value::Vector(DVec3::from_slice(all)),
        };
        let kind = match plain {
            Value::Number(_) => PropertyKind::Number(kind.quantity()),
            _ if is_turn => kind,
            _ => PropertyKind::Vector(kind.quantity()),
        };
        let context = ConversionContext {
            kind,
            rest: plain,
            tolerance: if keys == MatchKeys::Same { ANY } else { 0.9 * tolerance },
            rate: motion.rate,
            range: source.range,
        };
        let trace = SampledFunction::of_function(snapped(jumps.clone(), move |time| missing.value(time)))
            .with_jumps(jumps.clone());
        let cannot = |why: NotConvertible| {
            let channel = Addresses::new(motion).property(target);
            SolveError::NotConvertible { channel, why }
        };
        let with_keys_at = |times: &[Ticks]| -> Result<ConvertedController, SolveError> {
            if is_turn {
                let start = match rest {
                    Value::Euler { angles, .. } => angles,
                    _ => DVec3::ZERO,
                };
                return Ok(refitted_rotation(&trace, &trace.knots(times), start, &context));
            }
            refitted_numbers(&trace, times, &context, None).map_err(cannot)
        };
        let mut made = with_keys_at(&times)?;
        if keys == MatchKeys::Bounded {
            // What is left is little, and needs fewer keys than what it is left of.
            let ends = [source.range.first, source.range.last];
            let mut few: Vec<Ticks> = jumps.into_iter().chain(ends).collect();
            few.sort_unstable();
            few.dedup();
            let few = with_keys_at(&few)?;
            let is_within = few.error.is_some_and(|error| error.largest <= context.tolerance);
            if is_within && few.controller.key_count() < made.controller.key_count() {
                made = few;
            }
        }
        match (&rest, made.controller) {
            (Value::Euler { order, .. }, Controller::Components(curves)) => {
                let Ok(curves) = <[_; 3]>::try_from(curves) else {
                    return Err(cannot(NotConvertible::NoValue));
                };
                let controller = Controller::Euler(EulerCurves { order: *order, curves });
                ConvertedController { controller, ..made }
            }
            (_, controller) => ConvertedController { controller, ..made },
        }
    };
    replace(result, take, target, Some(made.controller.clone()));
    Ok(Some(made))
}

/// Where the own turn of a node jumps that is missing to what it was: where what it was jumps, or what its constraints make of it.
fn jumps_of(
    (motion, source): (&Scene, &Take),
    (result, take): (&Scene, &Take),
    node: NodeRef,
    missing: &SampledFunction<'_>,
) -> Result<Vec<Ticks>, SolveError> {
    let mut all = Vec::new();
    for (scene, take) in [(motion, source), (result, take)] {
        let mut sampler = NodeSampler::new(scene, Some(take), node)?;
        let turn = SampledFunction::of_function(move |time| Value::Quaternion(sampler.rotation_at(time)));
        all.extend(jumps(&turn, source.range, motion.rate));
    }
    Ok(jumps_among(missing, all))
}

fn numbers(value: &Value) -> Vec<f64> {
    value.numbers().unwrap_or_default()
}
