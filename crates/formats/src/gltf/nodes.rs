//! The nodes of a glTF document as a rig.

use std::cell::LazyCell;
use std::collections::HashSet;

use glam::{DAffine3, DMat4, DQuat, DVec3};
use nimble_curve_core::parts::decomposed;
use nimble_curve_core::rig::{
    Attribute, AttributeKind, Node, NodeId, NodeKind, OpValue, Rig, ScaleInheritance, TransformOp,
};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::value::Quantity;
use serde_json::Value;

use super::accessor::Numbers;
use super::document::{self, Document, Driven};
use crate::error::Fault;

/// Leaves out a node that a program made of the scene, as our extra data beside it shows: what hangs on it are roots.
pub fn leave_out_scene(document: &Document, order: &mut Vec<(usize, Option<usize>)>) {
    let channels = document.animations.iter().flat_map(|animation| &animation.channels);
    // Only where it is asked for: most documents have no such node, and some have as many channels as nodes.
    let moved = LazyCell::new(|| {
        let nodes = channels.filter_map(|channel| match channel.target.driven() {
            Driven::Property(place, _) | Driven::Weight(place, _) | Driven::Number(place, _) => Some(place),
            Driven::Else(_) | Driven::Nothing => None,
        });
        nodes.collect::<HashSet<usize>>()
    });
    let is_made = |&(place, parent): &(usize, Option<usize>)| {
        let node = &document.nodes[place];
        let is_ours =
            node.extras.as_ref().and_then(|extras| extras.get(super::EXTRAS)).is_some_and(Value::is_object);
        if parent.is_some() || !is_ours || node.mesh.is_some() {
            return false;
        }
        let rests = Node {
            transform: transform(node),
            ..Node::new("", NodeKind::Other, DVec3::ZERO, RotationOrder::Xyz)
        };
        rests.rest() == DAffine3::IDENTITY && !moved.contains(&place)
    };
    let made = order.iter().find(|node| is_made(node)).map(|(place, _)| *place);
    if let Some(made) = made {
        order.retain(|&(place, _)| place != made);
        for (_, parent) in order.iter_mut().filter(|(_, parent)| *parent == Some(made)) {
            *parent = None;
        }
    }
}

/// All nodes with their parents, parents first.
pub fn parents_first(document: &Document) -> Result<Vec<(usize, Option<usize>)>, Fault> {
    let count = document.nodes.len();
    let mut parents = vec![None; count];
    for (index, node) in document.nodes.iter().enumerate() {
        let fault = |message: String| Fault::in_part(format!("node {index}"), message);
        for &child in &node.children {
            let parent = parents
                .get_mut(child)
                .ok_or_else(|| fault(format!("has a child {child} that is not there")))?;
            if parent.replace(index).is_some() {
                return Err(fault(format!("its child {child} has another parent, too")));
            }
        }
    }
    // In the document's order where that has parents first, as files written here do; else depth first.
    let in_order =
        parents.iter().enumerate().all(|(index, parent)| parent.is_none_or(|parent| parent < index));
    let order: Vec<usize> = if in_order {
        (0..count).collect()
    } else {
        let mut order = Vec::with_capacity(count);
        let mut open: Vec<usize> = (0..count).rev().filter(|&index| parents[index].is_none()).collect();
        while let Some(index) = open.pop() {
            order.push(index);
            open.extend(document.nodes[index].children.iter().rev());
        }
        order
    };
    if order.len() < count {
        return Err(Fault::in_part("nodes", "some are their own ancestors: the hierarchy is a circle"));
    }
    Ok(order.into_iter().map(|index| (index, parents[index])).collect())
}

/// The rig of a document, and for each of its nodes the id in that.
pub fn rig(
    document: &Document,
    numbers: &Numbers<'_>,
    order: &[(usize, Option<usize>)],
    name: &str,
) -> Result<(Rig, Vec<NodeId>), Fault> {
    let joints: HashSet<usize> = document.skins.iter().flat_map(|skin| skin.joints.iter().copied()).collect();
    let mut binds = vec![None; document.nodes.len()];
    for (index, skin) in document.skins.iter().enumerate() {
        let Some(accessor) = skin.inverse_bind_matrices else { continue };
        let fault = |message: &str| Fault::in_part(format!("skin {index}"), message);
        if numbers.shape(accessor)?.1 != 16 {
            return Err(fault("its inverse bind matrices are no matrices"));
        }
        let matrices = numbers.read(accessor)?;
        for (joint, matrix) in skin.joints.iter().zip(matrices.chunks_exact(16)) {
            let inverse = DAffine3::from_mat4(DMat4::from_cols_slice(matrix));
            let bind = binds.get_mut(*joint).ok_or_else(|| fault("a joint is not there"))?;
            if inverse.matrix3.determinant().abs() > 1e-12 {
                *bind = Some(inverse.inverse());
            }
        }
    }
    let mut rig = Rig::new(name);
    let mut ids = vec![NodeId(u32::MAX); document.nodes.len()];
    for &(index, parent) in order {
        let source = &document.nodes[index];
        let kind = match source {
            _ if joints.contains(&index) => NodeKind::Joint,
            node if node.mesh.is_some() || node.camera.is_some() || !joints.is_empty() => NodeKind::Other,
            _ => NodeKind::Joint,
        };
        let finite = |numbers: &[f64]| numbers.iter().all(|number| number.is_finite());
        let all = [
            source.translation.as_ref().map(|t| t.as_slice()),
            source.rotation.as_ref().map(|r| r.as_slice()),
            source.scale.as_ref().map(|s| s.as_slice()),
            source.matrix.as_ref().map(|m| m.as_slice()),
        ];
        if !all.into_iter().flatten().all(finite) {
            return Err(Fault::in_part(format!("node {index}"), "its transform is not finite"));
        }
        let node = Node {
            name: source.name.clone().unwrap_or_else(|| format!("node {index}")),
            kind,
            transform: transform(source),
            bind: binds[index],
            inherits: ScaleInheritance::Full,
            locked: Vec::new(),
            primary: false,
            attributes: morphs(document, index)?,
        };
        let added = rig.add(parent.map(|parent| ids[parent]), node);
        ids[index] = added.map_err(|error| Fault::in_part(format!("node {index}"), error))?;
    }
    Ok((rig, ids))
}

/// Gives nodes the numbers that animations drive among their extras.
pub fn add_numbers(document: &Document, rig: &mut Rig, ids: &[NodeId]) {
    let channels = document.animations.iter().flat_map(|animation| &animation.channels);
    for driven in channels.map(|channel| channel.target.driven()) {
        let Driven::Number(place, name) = driven else { continue };
        let Some(node) = ids.get(place).and_then(|id| rig.node_mut(*id)) else { continue };
        if node.attribute(&name).is_some() || node.op(&name).is_some() {
            continue;
        }
        let extras = document.nodes[place].extras.as_ref();
        let default = extras.and_then(|extras| extras.get(&name)?.as_f64()).unwrap_or(0.0);
        let kind = AttributeKind::Number { default, min: None, max: None, quantity: Quantity::Number };
        node.attributes.push(Attribute { name, kind });
    }
}

/// Translation, rotation and scale; a matrix that is nothing but these is taken apart.
fn transform(node: &document::Node) -> Vec<TransformOp> {
    let op = |name: &str, value| TransformOp { name: name.to_owned(), value, inverse: false };
    let mut translation = node.translation.map_or(DVec3::ZERO, DVec3::from_array);
    let mut rotation = node.rotation.map_or(DQuat::IDENTITY, DQuat::from_array);
    let mut scale = node.scale.map_or(DVec3::ONE, DVec3::from_array);
    if let Some(matrix) = node.matrix {
        let affine = DAffine3::from_mat4(DMat4::from_cols_array(&matrix));
        let (s, r, t) = decomposed(&affine);
        let again = DAffine3::from_scale_rotation_translation(s, r, t);
        if !again.abs_diff_eq(affine, 1e-5 * (1.0 + s.max_element().abs())) || !r.is_finite() {
            return vec![op("matrix", OpValue::Matrix(DMat4::from_cols_array(&matrix)))];
        }
        (translation, rotation, scale) = (t, r, s);
    }
    let rotation = if rotation.length_squared() > 0.0 { unit(rotation) } else { DQuat::IDENTITY };
    vec![
        op("translation", OpValue::Translate(translation)),
        op("rotation", OpValue::Orient(rotation)),
        op("scale", OpValue::Scale(scale)),
    ]
}

pub fn unit(q: DQuat) -> DQuat {
    // The identity stays the very identity.
    if q == DQuat::IDENTITY { q } else { q.normalize() }
}

/// The morph targets of a node's mesh as attributes.
fn morphs(document: &Document, index: usize) -> Result<Vec<Attribute>, Fault> {
    let node = &document.nodes[index];
    let Some(place) = node.mesh else { return Ok(Vec::new()) };
    let mesh = document.meshes.get(place);
    let mesh =
        mesh.ok_or_else(|| Fault::in_part(format!("node {index}"), format!("there is no mesh {place}")))?;
    let count = mesh.primitives.iter().map(|primitive| primitive.targets.len()).max().unwrap_or(0);
    let names =
        mesh.extras.as_ref().and_then(|extras| extras.get("targetNames")).and_then(|names| names.as_array());
    let weights = node.weights.as_ref().or(mesh.weights.as_ref());
    let attributes = morph_names(names, count).into_iter().enumerate().map(|(target, name)| {
        let default = weights.and_then(|weights| weights.get(target)).copied().unwrap_or(0.0);
        Attribute {
            name,
            kind: AttributeKind::Number { default, min: None, max: None, quantity: Quantity::Number },
        }
    });
    Ok(attributes.collect())
}

/// The names of morph targets: those given, each made the only one of its kind, or their numbers.
pub fn morph_names(given: Option<&Vec<serde_json::Value>>, count: usize) -> Vec<String> {
    let mut taken: HashSet<String> = ["translation", "rotation", "scale"].map(str::to_owned).into();
    let name = |target: usize| {
        let given = given.and_then(|names| names.get(target)).and_then(|name| name.as_str());
        let mut name = given.map_or_else(|| format!("target {target}"), str::to_owned);
        while !taken.insert(name.clone()) {
            name.push_str(" (again)");
        }
        name
    };
    (0..count).map(name).collect()
}
