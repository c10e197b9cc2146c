//! Another unit, up axis or handedness: exact on keys, tangents and loops.
//!
//! Every node's own axes are renamed along with the world's, `q' = C·q·C⁻¹` with a signed permutation C: rotation orders are
//! renamed, angles change signs, and no key moves.

mod constraints;

use glam::{DAffine3, DMat4, DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{
    Controller, EulerCurves, Procedural, QuaternionCurve, QuaternionKey, SampleKind, Samples, StackEntry,
    TcbCurve, TcbKey, TcbKeys,
};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::{AttributeKind, Node, OpValue, TransformOp};
use nimble_curve_scene::scene::{PropertyKind, Scene, Track};
use nimble_curve_scene::space::{AxisMap, Space};

use crate::channel::each_track;

/// A scene said in another space. Sheared steps become matrices where the axes change; tracks on them are left out.
///
/// ```
/// # use nimble_curve_curves::{curve::Curve, rotation::RotationOrder, time::{FrameRate, TimeRange}};
/// # use nimble_curve_scene::controller::{Controller, EulerCurves};
/// # use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig, TRANSLATION};
/// # use nimble_curve_scene::scene::{Clip, Layer, Scene, Take, Target, Track};
/// # use nimble_curve_scene::space::Space;
/// # let rate = FrameRate::FPS_24;
/// # let mut rig = Rig::new("figure");
/// # let hips = rig.add(None, Node::new("hips", NodeKind::Joint, glam::DVec3::Y, RotationOrder::Yxz))?;
/// # let curves = |keys: [&[(i64, f64)]; 3]| keys.map(|keys| Curve::through(rate, keys.iter().copied()).unwrap());
/// # let track = |property: &str, controller| Track { target: Target::new(0, hips, property), controller };
/// # let take = |name: &str, last, tracks| Take::new(name, TimeRange::new(rate.ticks(0), rate.ticks(last)), vec![Layer::base(tracks)]);
/// # let at = |curve: &Curve, frame: i64| curve.value_at(rate.ticks(frame).as_f64()).unwrap();
/// # let scene = |take: Take| Scene::new(rate, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
/// use nimble_curve_ops::space::in_space;
/// use nimble_curve_scene::space::UpAxis;
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// let centimetres = Space { metres_per_unit: 0.01, up: UpAxis::Z, ..Space::METRES_Y_UP };
///
/// let (moved, _) = in_space(&scene(walk), &centimetres);
/// // What was up along y is up along z, and a hundred times the number.
/// let Controller::Components(curves) = &moved.takes[0].layers[0].tracks[0].controller else { panic!() };
/// assert!((at(&curves[2], 0) - 100.0).abs() < 1e-9);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn in_space(scene: &Scene, to: &Space) -> (Scene, Ledger) {
    let (mut result, ledger) = along(scene, &AxisMap::between(&scene.space, to));
    result.space = *to;
    (result, ledger)
}

/// A scene seen in a mirror across the plane that is normal to an axis (0, 1 or 2) of its space.
pub(crate) fn mirrored(scene: &Scene, axis: usize) -> (Scene, Ledger) {
    let mut sign = [1.0; 3];
    sign[axis] = -1.0;
    let (mut result, ledger) = along(scene, &AxisMap { source: [0, 1, 2], sign, scale: 1.0 });
    result.constraints.iter_mut().for_each(constraints::twisted_back);
    (result, ledger)
}

/// What drives the lengths of a step, as many times as long; of a whole matrix (`is_matrix`) its place.
pub(crate) fn sized(factor: f64, is_matrix: bool, driving: &Controller) -> Controller {
    let kind = if is_matrix { PropertyKind::Matrix } else { PropertyKind::Vector(Quantity::Length) };
    controller(&AxisMap { scale: factor, ..AxisMap::IDENTITY }, kind, driving)
}

/// Gives the steps of a node lengths that are as many times as long.
pub(crate) fn node_sized(factor: f64, node: &mut Node) {
    let map = AxisMap { scale: factor, ..AxisMap::IDENTITY };
    for op in &mut node.transform {
        op.value = match op.value {
            OpValue::Translate(v) => OpValue::Translate(map.length(v)),
            OpValue::Matrix(m) => OpValue::Matrix(matrix(&map, m)),
            other => other,
        };
    }
}

fn along(scene: &Scene, map: &AxisMap) -> (Scene, Ledger) {
    let map = *map;
    let addresses = Addresses::new(scene);
    let (mut result, ledger) = each_track(scene, &addresses, |books, layer, track| {
        let kept = books.kept(layer, track);
        let kind = scene.rigs[track.target.rig].property_kind(track.target.node, &track.target.property);
        let is_shear = || {
            let node = scene.rigs[track.target.rig].node(track.target.node);
            node.and_then(|node| node.op(&track.target.property))
                .is_some_and(|op| matches!(op.value, OpValue::Shear(_)))
        };
        if !map.keeps_axes() && is_shear() {
            let note = "animated shear cannot be said along other axes".to_owned();
            return (None, Some(Entry { fate: Fate::LeftOut, after: 0, note, ..kept }));
        }
        let Some(kind) = kind.filter(|kind| touches(&map, *kind)) else {
            return (Some(track.clone()), Some(kept));
        };
        let controller = controller(&map, kind, &track.controller);
        let moved = Track { target: track.target.clone(), controller };
        (Some(moved), Some(Entry { fate: Fate::Exact, ..kept }))
    });
    result.constraints =
        scene.constraints.iter().map(|own| constraints::respaced(&map, scene, own)).collect();
    for rig in &mut result.rigs {
        let ids: Vec<_> = rig.nodes().map(|(id, _)| id).collect();
        for id in ids {
            if let Some(node) = rig.node_mut(id) {
                respace(&map, node);
            }
        }
    }
    (result, ledger)
}

/// Whether numbers of a kind change.
fn touches(map: &AxisMap, kind: PropertyKind) -> bool {
    match kind {
        PropertyKind::Discrete => false,
        PropertyKind::Number(quantity) => quantity == Quantity::Length && map.scale != 1.0,
        PropertyKind::Vector(Quantity::Length) | PropertyKind::Matrix => !map.is_identity(),
        PropertyKind::Vector(_) => false,
        PropertyKind::Scale | PropertyKind::Rotation => !map.keeps_axes(),
    }
}

fn respace(map: &AxisMap, node: &mut Node) {
    for op in &mut node.transform {
        op.value = match op.value {
            OpValue::Translate(v) => OpValue::Translate(map.length(v)),
            OpValue::RotateAxis { axis, angle } => OpValue::RotateAxis { axis: map.angles(axis), angle },
            OpValue::Rotate { order, angles } => {
                OpValue::Rotate { order: map.order(order), angles: map.angles(angles) }
            }
            OpValue::Orient(q) => OpValue::Orient(map.rotation(q)),
            OpValue::Scale(v) => OpValue::Scale(map.unsigned(v)),
            OpValue::Shear(v) if map.keeps_axes() => OpValue::Shear(v),
            OpValue::Shear(_) => OpValue::Matrix(DMat4::from(map.affine(op.value.affine()))),
            OpValue::Matrix(m) => OpValue::Matrix(matrix(map, m)),
        };
    }
    node.bind = node.bind.map(|bind| map.affine(bind));
    for locked in &mut node.locked {
        if let Some((name, axis)) = locked.split_once('.')
            && let Some(old) = ["x", "y", "z"].iter().position(|letter| *letter == axis)
            && node.transform.iter().any(|op| op.name == name && has_axes(op))
        {
            *locked = format!("{name}.{}", ["x", "y", "z"][map.target(old)]);
        }
    }
    for attribute in &mut node.attributes {
        match &mut attribute.kind {
            AttributeKind::Number { default, min, max, quantity: Quantity::Length } => {
                for number in [Some(default), min.as_mut(), max.as_mut()].into_iter().flatten() {
                    *number *= map.scale;
                }
            }
            AttributeKind::Vector { default, quantity: Quantity::Length } => *default = map.length(*default),
            _ => {}
        }
    }
}

fn has_axes(op: &TransformOp) -> bool {
    matches!(op.value, OpValue::Translate(_) | OpValue::Rotate { .. } | OpValue::Scale(_))
}

fn matrix(map: &AxisMap, m: DMat4) -> DMat4 {
    DMat4::from(map.affine(DAffine3::from_mat4(m)))
}

/// The factor from an old number to the new one at a component, and which old component it is.
fn component(map: &AxisMap, kind: PropertyKind, new: usize) -> (usize, f64) {
    match kind {
        PropertyKind::Number(Quantity::Length) => (new, map.scale),
        PropertyKind::Vector(Quantity::Length) => (map.source[new], map.sign[new] * map.scale),
        PropertyKind::Scale => (map.source[new], 1.0),
        PropertyKind::Rotation => (map.source[new], map.angle_sign(new)),
        PropertyKind::Matrix => {
            // By columns: the entry at row and column of the upper left part gets both signs.
            let (row, column) = (new % 4, new / 4);
            let old = |axis: usize| if axis < 3 { map.source[axis] } else { 3 };
            let sign = |axis: usize| if axis < 3 { map.sign[axis] } else { 1.0 };
            let length = if column == 3 && row < 3 { map.scale } else { 1.0 };
            (old(column) * 4 + old(row), sign(row) * sign(column) * length)
        }
        _ => (new, 1.0),
    }
}

fn curves(map: &AxisMap, kind: PropertyKind, curves: &[Curve]) -> Vec<Curve> {
    let made = (0..curves.len()).map(|new| {
        let (old, factor) = component(map, kind, new);
        let curve = curves.get(old).cloned().unwrap_or_default();
        if factor == 1.0 { curve } else { curve.affine(factor, 0.0) }
    });
    made.collect()
}

fn value(map: &AxisMap, kind: PropertyKind, value: &Value) -> Value {
    match value {
        Value::Euler { order, angles } => {
            Value::Euler { order: map.order(*order), angles: map.angles(*angles) }
        }
        Value::Quaternion(q) => Value::Quaternion(map.rotation(*q)),
        Value::Matrix(m) => Value::Matrix(Box::new(matrix(map, **m))),
        Value::Number(v) => Value::Number(v * component(map, kind, 0).1),
        Value::Vector(v) => Value::Vector(vector(map, kind, *v)),
        Value::Discrete(_) => value.clone(),
    }
}

fn vector(map: &AxisMap, kind: PropertyKind, v: DVec3) -> DVec3 {
    DVec3::from_array(std::array::from_fn(|new| {
        let (old, factor) = component(map, kind, new);
        v[old] * factor
    }))
}

fn controller(map: &AxisMap, kind: PropertyKind, old: &Controller) -> Controller {
    match old {
        Controller::Constant(constant) => Controller::Constant(value(map, kind, constant)),
        Controller::Components(all) => Controller::Components(curves(map, kind, all)),
        Controller::Euler(euler) => {
            let made = curves(map, kind, &euler.curves);
            let [x, y, z]: [Curve; 3] = made.try_into().unwrap_or_default();
            Controller::Euler(EulerCurves { order: map.order(euler.order), curves: [x, y, z] })
        }
        Controller::Quaternion(curve) => {
            let rate = |v: DVec4| DVec4::from(map.rotation(DQuat::from_vec4(v)));
            let key = |key: &QuaternionKey| QuaternionKey {
                value: map.rotation(key.value),
                tangent_in: rate(key.tangent_in),
                tangent_out: rate(key.tangent_out),
                ..*key
            };
            Controller::Quaternion(QuaternionCurve { keys: curve.keys.iter().map(key).collect(), ..*curve })
        }
        Controller::Tcb(curve) => {
            let keys = match &curve.keys {
                TcbKeys::Number(keys) => {
                    let factor = component(map, kind, 0).1;
                    TcbKeys::Number(keys.iter().map(|k| TcbKey { value: k.value * factor, ..*k }).collect())
                }
                TcbKeys::Vector(keys) => {
                    let key = |k: &TcbKey<DVec3>| TcbKey { value: vector(map, kind, k.value), ..*k };
                    TcbKeys::Vector(keys.iter().map(key).collect())
                }
                TcbKeys::Rotation(keys) => {
                    let key = |k: &TcbKey<DQuat>| TcbKey { value: map.rotation(k.value), ..*k };
                    TcbKeys::Rotation(keys.iter().map(key).collect())
                }
            };
            let factor = match keys {
                TcbKeys::Number(_) => component(map, kind, 0).1,
                _ => 1.0,
            };
            let (before, after) = (curve.before.steeper(factor), curve.after.steeper(factor));
            Controller::Tcb(TcbCurve { keys, before, after })
        }
        Controller::Discrete(_) => old.clone(),
        Controller::Samples(samples) => Controller::Samples(respaced_samples(map, kind, samples)),
        Controller::Stack(entries) => {
            let entry = |entry: &StackEntry| StackEntry {
                controller: controller(map, kind, &entry.controller),
                ..entry.clone()
            };
            Controller::Stack(entries.iter().map(entry).collect())
        }
        Controller::Procedural(procedural) => {
            let sampled = procedural.sampled.as_ref().map(|old| Box::new(controller(map, kind, old)));
            Controller::Procedural(Procedural { sampled, ..procedural.clone() })
        }
    }
}

fn respaced_samples(map: &AxisMap, kind: PropertyKind, samples: &Samples) -> Samples {
    let width = samples.kind.width();
    let (sources, new_kind): (Vec<(usize, f64)>, SampleKind) = match samples.kind {
        SampleKind::Quaternion => {
            let of = |new: usize| match new {
                3 => (3, 1.0),
                _ => component(map, PropertyKind::Rotation, new),
            };
            ((0..4).map(of).collect(), SampleKind::Quaternion)
        }
        SampleKind::Euler(order) => {
            ((0..3).map(|new| component(map, kind, new)).collect(), SampleKind::Euler(map.order(order)))
        }
        other => ((0..width).map(|new| component(map, kind, new)).collect(), other),
    };
    let rows = samples.values.chunks_exact(width);
    let values = rows.flat_map(|row| sources.iter().map(|&(old, factor)| row[old] * factor)).collect();
    Samples { kind: new_kind, values, ..samples.clone() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use nimble_curve_curves::rotation::{RotationOrder, quat_from_euler};
    use nimble_curve_scene::space::{Handedness, UpAxis};

    fn spaces() -> Vec<Space> {
        let mut all = Vec::new();
        for up in [UpAxis::X, UpAxis::Y, UpAxis::Z] {
            for handedness in [Handedness::Right, Handedness::Left] {
                all.extend([1.0, 0.01].map(|metres_per_unit| Space { metres_per_unit, up, handedness }));
            }
        }
        all
    }

    #[test]
    fn every_pair_of_spaces_maps_up_to_up_and_back_again() {
        for from in spaces() {
            for to in spaces() {
                let (there, back) = (AxisMap::between(&from, &to), AxisMap::between(&to, &from));
                let v = DVec3::new(0.3, -1.2, 2.5);
                assert!((back.length(there.length(v)) - v).length() < 1e-12);
                let up = |space: &Space| {
                    DVec3::from_array([0, 1, 2].map(|axis| if axis == space.up.index() { 1.0 } else { 0.0 }))
                };
                assert_eq!(there.direction(up(&from)), up(&to), "{from:?} {to:?}");
                let mirrors = from.handedness != to.handedness;
                assert_eq!(there.determinant(), if mirrors { -1.0 } else { 1.0 });
            }
        }
    }

    #[test]
    fn rotations_turn_vectors_alike_in_every_space_and_order() {
        let angles = DVec3::new(0.4, -0.9, 1.7);
        let v = DVec3::new(0.3, -1.2, 2.5);
        for from in spaces() {
            for to in spaces() {
                let map = AxisMap::between(&from, &to);
                for order in RotationOrder::ALL {
                    let q = quat_from_euler(order, angles);
                    let expected = map.direction(q * v);
                    let turned = map.rotation(q) * map.direction(v);
                    assert!((turned - expected).length() < 1e-12);
                    let by_angles = quat_from_euler(map.order(order), map.angles(angles));
                    assert!((by_angles * map.direction(v) - expected).length() < 1e-12);
                    let affine = DAffine3::from_scale_rotation_translation(
                        DVec3::new(1.0, 2.0, 3.0),
                        q,
                        DVec3::new(4.0, 5.0, 6.0),
                    );
                    let there = map.affine(affine).transform_point3(map.length(v));
                    let scaled = map.length(affine.transform_point3(v));
                    assert!((there - scaled).length() < 1e-9, "{there} {scaled}");
                }
            }
        }
    }
}
