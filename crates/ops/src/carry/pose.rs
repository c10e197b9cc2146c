//! Single poses: of reference, or to be carried alone.

use nimble_curve_curves::curve::{Curve, DiscreteCurve};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::without_namespace;
use nimble_curve_scene::controller::{Controller, EulerCurves};
use nimble_curve_scene::evaluate::PropertySampler;
use nimble_curve_scene::rig::{NodeId, OpValue};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};

use super::{CarryError, PoseAt};
use crate::rigs::alike;

/// A pose of the rigs of a scene taken from another scene of the same names: an instant of one of its takes, or its rest pose.
///
/// Nodes are found by their names without namespaces; steps that the other rig has none of stay at rest.
///
/// # Errors
/// Where a controller cannot be evaluated, or no name is the same.
pub fn pose_from(scene: &Scene, other: &Scene, at: Option<(&Take, Ticks)>) -> Result<PoseAt, CarryError> {
    if scene.rigs.is_empty() {
        return Err(CarryError::NoRig("source"));
    }
    if other.rigs.is_empty() {
        return Err(CarryError::NoRig("pose"));
    }
    let time = at.map_or(Ticks::ZERO, |(_, time)| time);
    let all = |scene: &Scene| (0..scene.rigs.len()).collect::<Vec<usize>>();
    let mut tracks = Vec::new();
    for pair in alike((scene, &all(scene)), (other, &all(other))) {
        posed(&mut tracks, (scene, pair.source), (other, pair.target), at)?;
    }
    if tracks.is_empty() {
        return Err(CarryError::NoPose);
    }
    Ok(PoseAt { take: take_of("pose", time, tracks), time })
}

/// The pose of one rig, as constants of another one of the same names.
fn posed(
    tracks: &mut Vec<Track>,
    (scene, rig): (&Scene, usize),
    (other, posed): (&Scene, usize),
    at: Option<(&Take, Ticks)>,
) -> Result<(), CarryError> {
    for (id, node) in scene.rigs[rig].nodes() {
        let same = |(_, other): &(NodeId, &nimble_curve_scene::rig::Node)| {
            without_namespace(&other.name) == without_namespace(&node.name)
        };
        let Some((partner, of)) = other.rigs[posed].nodes().find(same) else { continue };
        for op in node.transform.iter().filter(|op| !op.inverse) {
            let Some(step) = of.op(&op.name) else { continue };
            let target = Target::new(posed, partner, &op.name);
            let value = match at {
                Some((take, time)) => PropertySampler::new(other, take, &target)?.value_at(time.as_f64()),
                None => resting(step.value),
            };
            let fits = match (op.value, &value) {
                (OpValue::Rotate { .. } | OpValue::Orient(_), value) => value.rotation().is_some(),
                (OpValue::Translate(_) | OpValue::Scale(_) | OpValue::Shear(_), Value::Vector(_)) => true,
                (OpValue::RotateAxis { .. }, Value::Number(_)) => true,
                (OpValue::Matrix(_), Value::Matrix(_)) => true,
                _ => false,
            };
            if fits {
                let target = Target::new(rig, id, &op.name);
                tracks.push(Track { target, controller: Controller::Constant(value) });
            }
        }
    }
    Ok(())
}

fn resting(step: OpValue) -> Value {
    match step {
        OpValue::Translate(v) | OpValue::Scale(v) | OpValue::Shear(v) => Value::Vector(v),
        OpValue::RotateAxis { angle, .. } => Value::Number(angle),
        OpValue::Rotate { order, angles } => Value::Euler { order, angles },
        OpValue::Orient(q) => Value::Quaternion(q),
        OpValue::Matrix(m) => Value::Matrix(Box::new(m)),
    }
}

fn take_of(name: &str, time: Ticks, tracks: Vec<Track>) -> Take {
    Take {
        name: name.to_owned(),
        folder: None,
        range: TimeRange::new(time, time),
        clips: Vec::new(),
        markers: Vec::new(),
        layers: vec![Layer::base(tracks)],
    }
}

/// One instant of a take, all layers counted: a constant for everything that the take moves.
///
/// # Errors
/// Where a controller cannot be evaluated.
pub fn held(scene: &Scene, take: &Take, time: Ticks) -> Result<Take, CarryError> {
    let mut tracks: Vec<Track> = Vec::new();
    let mut seen = std::collections::HashSet::new();
    for (_, track) in take.tracks() {
        if !seen.insert(track.target.clone()) {
            continue;
        }
        let value = PropertySampler::new(scene, take, &track.target)?.value_at(time.as_f64());
        tracks.push(Track { target: track.target.clone(), controller: Controller::Constant(value) });
    }
    Ok(take_of(&take.name, time, tracks))
}

/// The constants of a take as one key each, at its first instant.
pub fn keyed(take: &Take) -> Take {
    let mut keyed = take.clone();
    let time = take.range.first;
    for track in keyed.layers.iter_mut().flat_map(|layer| &mut layer.tracks) {
        let Controller::Constant(value) = &track.controller else { continue };
        let curves = |v: glam::DVec3| v.to_array().map(|number| Curve::constant(time, number));
        track.controller = match value {
            Value::Number(number) => Controller::Components(vec![Curve::constant(time, *number)]),
            Value::Vector(v) => Controller::Components(curves(*v).to_vec()),
            Value::Euler { order, angles } => {
                Controller::Euler(EulerCurves { order: *order, curves: curves(*angles) })
            }
            Value::Discrete(value) => {
                let Ok(curve) = DiscreteCurve::new(vec![(time, value.clone())]) else { continue };
                Controller::Discrete(curve)
            }
            Value::Quaternion(_) | Value::Matrix(_) => continue,
        };
    }
    keyed
}
