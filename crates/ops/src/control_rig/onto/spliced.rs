//! New curves put into a stretch of those that there are.

use glam::DVec3;
use nimble_curve_curves::curve::{Curve, DiscreteCurve, Interpolation, Key, Splice};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::evaluate::SettingSampler;
use nimble_curve_scene::scene::{Layer, Scene, Target, Track};

use super::curves::{Channel, Part};
use crate::control_rig::error::SolveError;
use crate::control_rig::written::base_layer;

/// Curves by component, in one order where they are angles.
type Components = (Option<nimble_curve_curves::rotation::RotationOrder>, Vec<Curve>);

/// Puts a controller into a range of what a property has, which stays outside it. Where the two do not meet the curve leaps, with both
/// values in one key.
pub fn put_into(
    scene: &mut Scene,
    take: usize,
    target: &Target,
    controller: &Controller,
    range: TimeRange,
) -> Result<(), SolveError> {
    let name = |scene: &Scene| Addresses::new(scene).property(target);
    let found = (scene.rigs.get(target.rig))
        .and_then(|rig| rig.rest_value(target.node, &target.property))
        .and_then(|rest| Some((rest.numbers()?, rest)));
    let Some((rests, rest)) = found else { return Err(SolveError::NotSpliced(name(scene))) };
    let old = only(scene, take, target)?;
    let there = scene.takes[take].range;
    let spliced = {
        let order = rest.order();
        let (Some(new), Some(own)) = (
            components(controller, order, range.first),
            components_of(old.as_ref(), order, there.first, rests.len()),
        ) else {
            return Err(SolveError::NotSpliced(name(scene)));
        };
        let of = own.1.iter().filter_map(Curve::range).fold(there.union(range), TimeRange::union);
        let each = own.1.iter().zip(&new.1).zip(&rests);
        let curves: Vec<Curve> = each
            .map(|((own, new), rest)| {
                // What is behind the range stays as it is: where the turns of the two differ, the curve leaps.
                own.spliced(new, &Splice { range, of, seam: Ticks::ZERO, rest: *rest, is_angle: false })
            })
            .collect();
        match (order, <[Curve; 3]>::try_from(curves)) {
            (Some(order), Ok(curves)) => Controller::Euler(EulerCurves { order, curves }),
            (_, Ok(curves)) => Controller::Components(curves.into()),
            (_, Err(curves)) => Controller::Components(curves),
        }
    };
    put(scene, take, target, spliced);
    Ok(())
}

/// Puts a controller in place of the only one.
fn put(scene: &mut Scene, take: usize, target: &Target, controller: Controller) {
    let take = &mut scene.takes[take];
    for layer in take.layers.iter_mut().filter(|layer| layer.is_active()) {
        if let Some(track) = layer.tracks.iter_mut().find(|track| track.target == *target) {
            track.controller = controller;
            return;
        }
    }
    base_layer(take).tracks.push(Track { target: target.clone(), controller });
}

/// The only controller of a property; none where it rests.
fn only(scene: &Scene, take: usize, target: &Target) -> Result<Option<Controller>, SolveError> {
    let mut own = scene.takes[take].active_tracks().filter(|(_, track)| track.target == *target);
    let first: Option<(&Layer, &Track)> = own.next();
    let is_plain = own.next().is_none() && first.is_none_or(|(layer, _)| layer.is_whole());
    if !is_plain {
        return Err(SolveError::Layered(Addresses::new(scene).property(target)));
    }
    Ok(first.map(|(_, track)| track.controller.clone()))
}

fn components(
    controller: &Controller,
    order: Option<nimble_curve_curves::rotation::RotationOrder>,
    start: Ticks,
) -> Option<Components> {
    match controller {
        Controller::Euler(euler) if Some(euler.order) == order => Some((order, euler.curves.to_vec())),
        Controller::Components(curves) if order.is_none() => Some((None, curves.clone())),
        Controller::Constant(value) if value.order() == order => {
            let numbers = value.numbers()?;
            let curve = |number: f64| Curve::new(vec![Key::new(start, number).with_slope(0.0)]).ok();
            Some((order, numbers.into_iter().map(curve).collect::<Option<_>>()?))
        }
        _ => None,
    }
}

fn components_of(
    controller: Option<&Controller>,
    order: Option<nimble_curve_curves::rotation::RotationOrder>,
    start: Ticks,
    count: usize,
) -> Option<Components> {
    match controller {
        Some(controller) => components(controller, order, start),
        None => Some((order, vec![Curve::default(); count])),
    }
}

/// Lets a rotation's angles follow those that there are where a range begins.
pub fn near(scene: &Scene, take: usize, channel: &mut Channel, start: Ticks) {
    let (Part::Turn, Value::Euler { order, angles }) = (channel.part, &channel.rest) else { return };
    let Ok(Some(old)) = only(scene, take, &channel.target) else { return };
    if let Some((_, curves)) = components(&old, Some(*order), start) {
        let at = |axis: usize| curves[axis].value_at(start.as_f64()).unwrap_or(angles[axis]);
        channel.near = Some(DVec3::new(at(0), at(1), at(2)));
    }
}

/// Sets an attribute within a range; before and after it is as it was. A number goes over in some time, others are held.
pub fn set_within(
    scene: &mut Scene,
    take: usize,
    (target, value): (&Target, &Value),
    range: TimeRange,
    over: Ticks,
) -> Result<(), SolveError> {
    let there = scene.takes[take].range;
    let to_the_end = range.last >= there.last;
    let name = Addresses::new(scene).property(target);
    if let Value::Discrete(value) = value {
        let attribute =
            (scene.rigs.get(target.rig)).and_then(|rig| rig.rest_value(target.node, &target.property));
        let Some(Value::Discrete(rest)) = attribute else { return Err(SolveError::NotSpliced(name)) };
        if over > Ticks::ZERO {
            return Err(SolveError::Held(name));
        }
        let old = match only(scene, take, target)? {
            None => Vec::new(),
            Some(Controller::Discrete(curve)) => curve.keys().to_vec(),
            Some(Controller::Constant(Value::Discrete(value))) => vec![(there.first, value)],
            Some(_) => return Err(SolveError::NotSpliced(name)),
        };
        let at = |time: Ticks| {
            let before = old.iter().rev().find(|(own, _)| *own <= time).or(old.first());
            before.map_or_else(|| rest.clone(), |(_, value)| value.clone())
        };
        let mut keys: Vec<_> = old.iter().filter(|(time, _)| *time < range.first).cloned().collect();
        if keys.is_empty() && there.first < range.first {
            keys.push((there.first, at(there.first)));
        }
        keys.push((range.first, value.clone()));
        if !to_the_end {
            keys.push((range.last, at(range.last)));
        }
        keys.extend(old.iter().filter(|(time, _)| *time > range.last).cloned());
        let curve = DiscreteCurve::new(keys).map_err(|_| SolveError::NotSpliced(name))?;
        put(scene, take, target, Controller::Discrete(curve));
        return Ok(());
    }
    let Value::Number(value) = value else { return Err(SolveError::NotSpliced(name)) };
    let setting = nimble_curve_scene::constraint::Setting::Attribute(target.clone());
    let (before, after) = {
        let mut sampler = SettingSampler::new(scene, Some(&scene.takes[take]), &setting)?;
        (sampler.at(range.first.as_f64()), sampler.at(range.last.as_f64()))
    };
    let keyed = |time: Ticks, value: f64, way| Key::new(time, value).with_slope(0.0).with_interpolation(way);
    let keys = if over > Ticks::ZERO {
        let way = Interpolation::Linear;
        let mut keys = vec![keyed(range.first, before, way), keyed(range.first + over, *value, way)];
        if !to_the_end {
            keys.push(keyed(range.last - over, *value, way));
            keys.push(keyed(range.last, after, way));
        }
        keys
    } else {
        vec![keyed(range.first, *value, Interpolation::Hold)]
    };
    let curve = Curve::new(keys).map_err(|_| SolveError::NotSpliced(name))?;
    put_into(scene, take, target, &Controller::Components(vec![curve]), range)?;
    if over == Ticks::ZERO {
        hold_from(scene, take, target, range.first);
    }
    Ok(())
}

/// Keys of a switch from a time on are held, so that nothing blends.
fn hold_from(scene: &mut Scene, take: usize, target: &Target, time: Ticks) {
    let tracks = scene.takes[take].layers.iter_mut().filter(|layer| layer.is_active());
    for track in tracks.flat_map(|layer| &mut layer.tracks).filter(|track| track.target == *target) {
        let Controller::Components(curves) = &mut track.controller else { continue };
        for curve in curves {
            let (before, after) = (curve.before, curve.after);
            let mut keys = curve.keys().to_vec();
            // A leap out of what stands still is a hold: people key switches so.
            for index in 1..keys.len() {
                let left = keys[index].left_value();
                if keys[index - 1].value == left && keys[index].time >= time {
                    keys[index - 1].interpolation = Interpolation::Hold;
                    keys[index].value_before = None;
                }
            }
            if let Ok(made) = Curve::new(keys) {
                *curve = made.with_behaviours(before, after);
            }
        }
    }
}
