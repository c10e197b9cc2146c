//! Skeletons: joints with rest and bind transforms, and the animation that is bound to them.

use std::collections::HashMap;

use glam::{DAffine3, DMat4, DQuat, DVec3};
use nimble_curve_core::controller::SampleKind;
use nimble_curve_core::parts::decomposed;
use nimble_curve_core::rig::{
    Attribute, AttributeKind, Node, NodeId, NodeKind, OpValue, ScaleInheritance, TransformOp,
};
use nimble_curve_core::scene::{Target, Track};
use nimble_curve_core::validate::is_usable;
use nimble_curve_core::value::Quantity;
use openusd::sdf::{AbstractData as _, Path, Value};

use super::reader::Reader;
use crate::error::Fault;
use crate::grid;
use crate::steps::straight;

/// The joints of a skeleton, by their paths in it.
type ByName = HashMap<String, NodeId>;

/// Reads the joints of a skeleton below its own node, and the animation that it is bound to.
pub fn read(reader: &mut Reader<'_>, skeleton: &Path, parent: Option<NodeId>) -> Result<(), Fault> {
    let fault = |message: String| Fault::in_part(skeleton.as_str(), message);
    let attribute =
        |path: &Path, name: &str| path.append_property(name).map_err(|error| fault(error.to_string()));
    let joints = reader.layer.names(&attribute(skeleton, "joints")?, "default");
    let matrices = |reader: &Reader<'_>, name: &str| -> Result<Vec<DMat4>, Fault> {
        let place = attribute(skeleton, name)?;
        Ok(match reader.layer.field(&place, "default").as_deref() {
            // Rows of row vectors are columns of column vectors.
            Some(Value::Matrix4dVec(all)) => all.iter().map(|m| DMat4::from_cols_array(&m.0)).collect(),
            _ => Vec::new(),
        })
    };
    let (rests, binds) = (matrices(reader, "restTransforms")?, matrices(reader, "bindTransforms")?);
    if rests.iter().chain(&binds).any(|matrix| !matrix.is_finite()) {
        return Err(fault("a rest or bind transform is not finite".to_owned()));
    }
    let mut ids = ByName::new();
    for (index, joint) in joints.iter().enumerate() {
        let (above, name) = joint.rsplit_once('/').unwrap_or(("", joint));
        let above = if above.is_empty() { parent } else { ids.get(above).copied().or(parent) };
        let rest = rests.get(index).map_or(DAffine3::IDENTITY, |matrix| DAffine3::from_mat4(*matrix));
        let (scale, rotation, translation) = decomposed(&rest);
        let rotation = if rotation.is_finite() { rotation } else { DQuat::IDENTITY };
        let op = |name: &str, value| TransformOp { name: name.to_owned(), value, inverse: false };
        let node = Node {
            name: name.to_owned(),
            kind: NodeKind::Joint,
            transform: vec![
                op("translation", OpValue::Translate(translation)),
                op("rotation", OpValue::Orient(rotation)),
                // Matrices of rotations have a scale of 1, but for rounding.
                op(
                    "scale",
                    OpValue::Scale(if (scale - DVec3::ONE).length() < 1e-9 { DVec3::ONE } else { scale }),
                ),
            ],
            bind: binds.get(index).map(|matrix| DAffine3::from_mat4(*matrix)),
            inherits: ScaleInheritance::Full,
            locked: Vec::new(),
            primary: false,
            attributes: Vec::new(),
        };
        let id = reader.rig.add(above, node).map_err(|error| fault(error.to_string()))?;
        reader.paths.push(format!("{}:{joint}", skeleton.as_str()));
        if ids.insert(joint.clone(), id).is_some() {
            return Err(fault(format!("has the joint '{joint}' twice")));
        }
    }
    let Some(animation) = animation(reader, skeleton) else { return Ok(()) };
    animate(reader, &animation, &ids)?;
    match parent {
        Some(node) => blend_shapes(reader, &animation, node),
        None => Ok(()),
    }
}

/// The animation that a skeleton or a prim above it is bound to; the only one there is where nothing says so.
fn animation(reader: &Reader<'_>, skeleton: &Path) -> Option<Path> {
    for path in skeleton.ancestors() {
        let Ok(place) = path.append_property("skel:animationSource") else { continue };
        if let Some(Value::PathListOp(list)) = reader.layer.field(&place, "targetPaths").as_deref() {
            return list.iter().next().cloned();
        }
    }
    let kind = |path: &Path| reader.layer.text(path, "typeName");
    let all: Vec<Path> = reader.layer.data.spec_paths();
    let mut found = all
        .into_iter()
        .filter(|path| !path.is_property_path() && kind(path).as_deref() == Some("SkelAnimation"));
    found.next().filter(|_| found.next().is_none())
}

fn animate(reader: &mut Reader<'_>, animation: &Path, ids: &ByName) -> Result<(), Fault> {
    let fault = |message: String| Fault::in_part(animation.as_str(), message);
    let attribute = |name: &str| animation.append_property(name).map_err(|error| fault(error.to_string()));
    let joints = reader.layer.names(&attribute("joints")?, "default");
    let parts = [
        ("translations", "translation", SampleKind::Vector),
        ("rotations", "rotation", SampleKind::Quaternion),
        ("scales", "scale", SampleKind::Vector),
    ];
    for (name, property, kind) in parts {
        let place = attribute(name)?;
        let layer = reader.layer;
        let Some(samples) = layer.field(&place, "timeSamples") else { continue };
        let Value::TimeSamples(samples) = samples.as_ref() else { continue };
        let codes: Vec<f64> = samples.iter().map(|(code, _)| *code).collect();
        if codes.is_empty() {
            continue;
        }
        if codes.windows(2).any(|pair| pair[0] >= pair[1]) || codes.iter().any(|code| !code.is_finite()) {
            return Err(fault(format!("the time samples of {name} are not in order of time")));
        }
        let times = reader.times(&codes, &place)?;
        let step = grid::step(&times, reader.clock.rate);
        let width = kind.width();
        let mut columns: Vec<Vec<f64>> = vec![Vec::with_capacity(codes.len() * width); joints.len()];
        for (code, value) in samples {
            let rows = rows(value).filter(|rows| rows.len() == joints.len() * width);
            let rows = rows
                .ok_or_else(|| fault(format!("{name} at {code} does not fit its {} joints", joints.len())))?;
            if !rows.iter().copied().all(is_usable) {
                return Err(fault(format!("{name} at {code} holds a number that is not finite")));
            }
            for (column, row) in columns.iter_mut().zip(rows.chunks_exact(width)) {
                column.extend(row);
            }
        }
        for (joint, mut numbers) in joints.iter().zip(columns) {
            let Some(&node) = ids.get(joint) else {
                reader
                    .notes
                    .push(format!("{}: there is no joint '{joint}' in the skeleton", animation.as_str()));
                continue;
            };
            if kind == SampleKind::Quaternion {
                let mut last = DQuat::IDENTITY;
                for row in numbers.chunks_exact_mut(4) {
                    let q = DQuat::from_slice(row);
                    let q = if q.length_squared() > 0.0 { q.normalize() } else { DQuat::IDENTITY };
                    last = if last.dot(q) < 0.0 { -q } else { q };
                    row.copy_from_slice(&last.to_array());
                }
            }
            if property == "scale" && numbers.iter().all(|v| (v - 1.0).abs() < 1e-3) {
                continue;
            }
            let target = Target { rig: 0, node, property: property.to_owned() };
            let controller = straight(&times, step, kind, numbers);
            reader.tracks.push(Track { target, controller });
        }
    }
    Ok(())
}

/// The weights of blend shapes, as numbers of the skeleton's own node, by the names of the shapes.
fn blend_shapes(reader: &mut Reader<'_>, animation: &Path, node: NodeId) -> Result<(), Fault> {
    let fault = |message: String| Fault::in_part(animation.as_str(), message);
    let attribute = |name: &str| animation.append_property(name).map_err(|error| fault(error.to_string()));
    let shapes = reader.layer.names(&attribute("blendShapes")?, "default");
    let place = attribute("blendShapeWeights")?;
    let fitting = |value: &Value, at: &str| {
        let row = rows(value).filter(|row| row.len() == shapes.len() && row.iter().copied().all(is_usable));
        row.ok_or_else(|| fault(format!("the weights {at} do not fit its {} blend shapes", shapes.len())))
    };
    let layer = reader.layer;
    let rest = match layer.field(&place, "default").as_deref() {
        Some(value) if !matches!(value, Value::None) => fitting(value, "at rest")?,
        _ => vec![0.0; shapes.len()],
    };
    let mut codes = Vec::new();
    let mut columns: Vec<Vec<f64>> = vec![Vec::new(); shapes.len()];
    if let Some(Value::TimeSamples(samples)) = layer.field(&place, "timeSamples").as_deref() {
        for (code, value) in samples {
            codes.push(*code);
            for (column, weight) in columns.iter_mut().zip(fitting(value, &format!("at {code}"))?) {
                column.push(weight);
            }
        }
    }
    if codes.windows(2).any(|pair| pair[0] >= pair[1]) || codes.iter().any(|code| !code.is_finite()) {
        return Err(fault("the time samples of blendShapeWeights are not in order of time".to_owned()));
    }
    let times = reader.times(&codes, &place)?;
    let step = grid::step(&times, reader.clock.rate);
    for ((shape, default), weights) in shapes.iter().zip(rest).zip(columns) {
        let Some(own) = reader.rig.node_mut(node) else { continue };
        if own.attribute(shape).is_some() {
            return Err(fault(format!("has the blend shape '{shape}' twice")));
        }
        let kind = AttributeKind::Number { default, min: None, max: None, quantity: Quantity::Number };
        own.attributes.push(Attribute { name: shape.clone(), kind });
        if !weights.is_empty() {
            let target = Target { rig: 0, node, property: shape.clone() };
            let controller = straight(&times, step, SampleKind::Number, weights);
            reader.tracks.push(Track { target, controller });
        }
    }
    Ok(())
}

/// The numbers of an array of numbers, vectors or quaternions; quaternions as x, y, z, w.
fn rows(value: &Value) -> Option<Vec<f64>> {
    Some(match value {
        Value::FloatVec(all) => all.iter().map(|&v| f64::from(v)).collect(),
        Value::DoubleVec(all) => all.to_vec(),
        Value::HalfVec(all) => all.iter().map(|&v| f64::from(f32::from(v))).collect(),
        Value::Vec3fVec(all) => all.iter().flat_map(|v| [v.x, v.y, v.z].map(f64::from)).collect(),
        Value::Vec3dVec(all) => all.iter().flat_map(|v| [v.x, v.y, v.z]).collect(),
        Value::Vec3hVec(all) => {
            all.iter().flat_map(|v| [v.x, v.y, v.z].map(|v| f64::from(f32::from(v)))).collect()
        }
        Value::QuatfVec(all) => all.iter().flat_map(|q| [q.x, q.y, q.z, q.w].map(f64::from)).collect(),
        Value::QuatdVec(all) => all.iter().flat_map(|q| [q.x, q.y, q.z, q.w]).collect(),
        Value::QuathVec(all) => {
            all.iter().flat_map(|q| [q.x, q.y, q.z, q.w].map(|v| f64::from(f32::from(v)))).collect()
        }
        _ => return None,
    })
}
