//! Constraints as the open extension for nodes has them (*VRMC_node_constraint*, 1.0): a roll about an axis, an aim without an up axis, a
//! whole turn. All three start from how the node rests, and its own rotation counts for nothing.
//!
//! Where a document has extra data of ours, that says it all, and the extension is for other programs.

use std::collections::{HashMap, HashSet};

use glam::{DQuat, DVec3};
use nimble_curve_core::address::NodeRef;
use nimble_curve_core::constraint::{Aim, Constraint, ConstraintKind, Roll, RollAxes, Setting};
use nimble_curve_core::rig::{NodeId, ROTATION, Rig};
use nimble_curve_core::scene::{Scene, Take, Target};
use serde_json::{Value, json};

use super::document::{Document, Node};
use crate::error::Fault;

/// The extension.
const EXTENSION: &str = "VRMC_node_constraint";

/// How far numbers may be from what the extension can say.
const NEAR: f64 = 1e-6;

/// Axes by the names that the extension has for them.
const AXES: [(&str, DVec3); 3] = [("X", DVec3::X), ("Y", DVec3::Y), ("Z", DVec3::Z)];

/// What the extension says of the nodes of a document, whose ids in the rig are `ids`; `notes` hears what was let pass.
///
/// # Errors
/// With the node whose constraint cannot be.
pub fn read(
    document: &Document,
    rig: &Rig,
    ids: &[NodeId],
    notes: &mut Vec<String>,
) -> Result<Vec<Constraint>, Fault> {
    let mut found = Vec::new();
    for (index, node) in document.nodes.iter().enumerate() {
        let Some(told) = told_of(node) else { continue };
        let part = format!("node {index}, {EXTENSION}");
        let fault = |message: String| Fault::in_part(part.clone(), message);
        // A node that is in no scene is not read either.
        let Some(of) = ids.get(index).and_then(|id| rig.node(*id)) else { continue };
        let kinds: Vec<&str> =
            ["roll", "aim", "rotation"].into_iter().filter(|kind| told.get(kind).is_some()).collect();
        let &[kind] = kinds.as_slice() else {
            notes.push(format!("{part}: it is none of roll, aim and rotation, and was passed over"));
            continue;
        };
        let told = &told[kind];
        let place = told.get("source").and_then(Value::as_u64).and_then(|place| usize::try_from(place).ok());
        let place = place.ok_or_else(|| fault("it names no source".to_owned()))?;
        let source = ids.get(place).and_then(|id| Some((*id, rig.node(*id)?)));
        let (source, source_node) =
            source.ok_or_else(|| fault(format!("its source, node {place}, is not there")))?;
        if place == index {
            return Err(fault("it is its own source".to_owned()));
        }
        let weight = told.get("weight").map_or(Some(1.0), Value::as_f64);
        let weight = weight.filter(|weight| (0.0..=1.0).contains(weight));
        let weight = weight.ok_or_else(|| fault("its weight is no number from 0 to 1".to_owned()))?;
        let said = |name: &str| told.get(name).and_then(Value::as_str).unwrap_or_default();
        let source = (0, source);
        let one = Setting::Constant(1.0);
        let part_of_it = Setting::Constant(weight);
        let (weight, kind) = match kind {
            "aim" => {
                let axis = aim_axis(said("aimAxis")).ok_or_else(|| {
                    fault(format!("'{}' is no axis: PositiveX to NegativeZ are", shown(said("aimAxis"))))
                })?;
                (part_of_it, ConstraintKind::Aim(Aim { axis, at: source, up: None }))
            }
            "roll" => {
                let axis = AXES.into_iter().find(|(name, _)| *name == said("rollAxis"));
                let (_, axis) = axis.ok_or_else(|| {
                    fault(format!("'{}' is no axis: X, Y and Z are", shown(said("rollAxis"))))
                })?;
                let across = source_node.rest_rotation().conjugate() * of.rest_rotation();
                let axes = Some(RollAxes { source: across * axis, node: axis });
                (one, ConstraintKind::Roll(Roll { source, fraction: part_of_it, axes }))
            }
            _ => (one, ConstraintKind::Roll(Roll { source, fraction: part_of_it, axes: None })),
        };
        found.push(Constraint { name: String::new(), node: (0, ids[index]), weight, kind });
    }
    Ok(found)
}

/// What the extension says of a node.
fn told_of(node: &Node) -> Option<&Value> {
    node.extensions.as_ref()?.get(EXTENSION)?.get("constraint")
}

/// Takes out rotations of nodes that the extension drives: by it they count for nothing.
pub fn without_driven(takes: &mut [Take], constraints: &[Constraint], notes: &mut Vec<String>) {
    let driven: HashSet<NodeId> = constraints.iter().map(|own| own.node.1).collect();
    let mut gone = 0;
    for layer in takes.iter_mut().flat_map(|take| &mut take.layers) {
        let before = layer.tracks.len();
        layer
            .tracks
            .retain(|track| !(driven.contains(&track.target.node) && track.target.property == ROTATION));
        gone += before - layer.tracks.len();
    }
    if gone > 0 {
        let channels = super::counted(gone);
        notes.push(format!(
            "{channels} turn nodes that {EXTENSION} drives, by which they count for nothing: left out"
        ));
    }
}

fn aim_axis(name: &str) -> Option<DVec3> {
    let (sign, axis) = match name.strip_prefix("Negative") {
        Some(axis) => (-1.0, axis),
        None => (1.0, name.strip_prefix("Positive")?),
    };
    AXES.into_iter().find(|(own, _)| *own == axis).map(|(_, axis)| axis * sign)
}

fn shown(text: &str) -> String {
    text.chars().take(24).collect()
}

/// Puts the constraints of a scene that the extension can say into a document; how many these are. The scene has the space and the rests of
/// what was written.
pub fn write(scene: &Scene, places: &HashMap<NodeRef, usize>, document: &mut Value) -> usize {
    let others = Others::of(scene);
    let mut written = 0;
    for constraint in &scene.constraints {
        let told = said_of(scene, constraint, places).filter(|_| others.leave(constraint.node));
        let Some((place, told)) = told else { continue };
        document["nodes"][place]["extensions"][EXTENSION] =
            json!({ "specVersion": "1.0", "constraint": told });
        written += 1;
    }
    if written > 0 {
        if !document.get("extensionsUsed").is_some_and(Value::is_array) {
            document["extensionsUsed"] = json!([]);
        }
        if let Some(used) = document["extensionsUsed"].as_array_mut() {
            used.push(json!(EXTENSION));
        }
    }
    written
}

/// What would count for nothing beside the extension.
struct Others {
    /// How many constraints have a part in a node.
    constraints: HashMap<NodeRef, usize>,
    /// Nodes with rotations of their own.
    turned: HashSet<NodeRef>,
}

impl Others {
    fn of(scene: &Scene) -> Others {
        let mut constraints: HashMap<NodeRef, usize> = HashMap::new();
        for constraint in &scene.constraints {
            let driven: HashSet<NodeRef> = constraint.driven().into_iter().chain([constraint.node]).collect();
            driven.into_iter().for_each(|node| *constraints.entry(node).or_default() += 1);
        }
        let turns = |target: &Target| {
            let node = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
            node.and_then(|node| node.op(&target.property)).is_some_and(|op| op.value.turns())
        };
        let tracks = scene.takes.iter().flat_map(Take::active_tracks).map(|(_, track)| &track.target);
        let turned = tracks.filter(|target| turns(target)).map(|target| (target.rig, target.node)).collect();
        Others { constraints, turned }
    }

    /// Whether a node with one constraint has nothing else that turns it.
    fn leave(&self, node: NodeRef) -> bool {
        self.constraints.get(&node) == Some(&1) && !self.turned.contains(&node)
    }
}

/// What the extension says of a constraint, and of the node at which place; nothing where it would say something else.
fn said_of(
    scene: &Scene,
    constraint: &Constraint,
    places: &HashMap<NodeRef, usize>,
) -> Option<(usize, Value)> {
    let place = *places.get(&constraint.node)?;
    if is_mirrored(scene, constraint.node) {
        return None;
    }
    let weight = constraint.weight.constant()?;
    let told = match &constraint.kind {
        ConstraintKind::Aim(Aim { axis, at, up: None }) => {
            let unit = axis.try_normalize()?;
            let is_it = |(_, own): &(&str, DVec3)| (unit.dot(*own).abs() - 1.0).abs() < NEAR * NEAR;
            let (name, own) = AXES.into_iter().find(is_it)?;
            let sign = if unit.dot(own) < 0.0 { "Negative" } else { "Positive" };
            json!({ "aim": { "source": places.get(at)?, "aimAxis": format!("{sign}{name}"), "weight": part(weight)? } })
        }
        ConstraintKind::Roll(Roll { source, fraction, axes }) if *source != constraint.node => {
            let weight = part(weight * fraction.constant()?)?;
            let place = places.get(source)?;
            match axes {
                None => json!({ "rotation": { "source": place, "weight": weight } }),
                Some(axes) => {
                    let name = roll_axis(scene, constraint.node, *source, axes)?;
                    json!({ "roll": { "source": place, "rollAxis": name, "weight": weight } })
                }
            }
        }
        _ => return None,
    };
    Some((place, told))
}

/// A weight that the extension can say.
fn part(weight: f64) -> Option<f64> {
    (0.0..=1.0).contains(&weight).then_some(weight)
}

/// The axis of a roll, where both of its axes are that as both nodes rest.
fn roll_axis(scene: &Scene, node: NodeRef, source: NodeRef, axes: &RollAxes) -> Option<&'static str> {
    let rest = |(rig, id): NodeRef| -> Option<DQuat> { Some(scene.rigs.get(rig)?.node(id)?.rest_rotation()) };
    let across = rest(source)?.conjugate() * rest(node)?;
    let (own, other) = (axes.node.try_normalize()?, axes.source.try_normalize()?);
    let is_it = |(_, axis): &(&str, DVec3)| {
        let sign = own.dot(*axis).signum();
        own.abs_diff_eq(*axis * sign, NEAR) && other.abs_diff_eq(across * *axis * sign, NEAR)
    };
    AXES.into_iter().find(is_it).map(|(name, _)| name)
}

/// Whether a node or one above it is mirrored at rest, where turns go the other way.
fn is_mirrored(scene: &Scene, (rig, id): NodeRef) -> bool {
    let of = &scene.rigs[rig];
    let mut above = std::iter::successors(Some(id), |id| of.parent(*id));
    above.any(|id| of.node(id).is_some_and(|node| node.rest().matrix3.determinant() < 0.0))
}
