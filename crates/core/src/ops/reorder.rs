//! Reorder: other rotation orders, the motion unchanged.

use glam::DQuat;
use rayon::prelude::*;
use thiserror::Error;

use super::channel::Bookkeeper;
use super::turn::Turning;
use crate::address::{Addresses, matches};
use crate::ledger::{Entry, Fate, Ledger};
use crate::rig::{NodeId, OpValue};
use crate::rotation::{RotationOrder, nearest_euler, quat_from_euler};
use crate::scene::{LayerMode, RotationMixing, Scene, Take, Track};
use crate::value::Value;

/// How to reorder.
#[derive(Clone, Debug)]
pub struct ReorderOptions {
    /// The new order.
    pub to: RotationOrder,
    /// Patterns of the nodes to change; all where there are none.
    pub only: Vec<String>,
    /// The largest angle between source and result, in radians.
    pub tolerance: f64,
}

/// Why nothing can be reordered.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ReorderError {
    /// A pattern that fits no node.
    #[error("no node matches '{0}'")]
    NoMatch(String),
}

/// Gives nodes another rotation order: at rest, and in all tracks on their rotation.
///
/// Curves are converted as `rotation::convert` says; samples one by one. Nodes without Euler angles, and nodes with an
/// additive layer by component (whose angles mean something in their own order only), stay as they are, which the
/// ledger says.
///
/// # Errors
/// [`ReorderError::NoMatch`].
pub fn reorder(scene: &Scene, options: &ReorderOptions) -> Result<(Scene, Ledger), ReorderError> {
    let addresses = Addresses::new(scene);
    let chosen = chosen_nodes(scene, &addresses, &options.only)?;
    let mut result = scene.clone();
    let changes = |(rig, node): (usize, NodeId)| {
        let euler = scene.rigs[rig].node(node).and_then(|node| node.op("rotation")).map(|op| op.value);
        matches!(euler, Some(OpValue::Rotate { order, .. }) if order != options.to)
            && !has_component_layer(scene, rig, node)
    };
    for &(rig, node) in chosen.iter().filter(|&&at| changes(at)) {
        let ops = result.rigs[rig].node_mut(node).map(|node| &mut node.transform);
        for op in ops.into_iter().flatten().filter(|op| op.name == "rotation") {
            if let OpValue::Rotate { order, angles } = op.value {
                let angles = nearest_euler(options.to, quat_from_euler(order, angles), angles);
                op.value = OpValue::Rotate { order: options.to, angles };
            }
        }
    }
    let mut ledger = Ledger::default();
    for (take, out) in scene.takes.iter().zip(&mut result.takes) {
        let books = Bookkeeper { addresses: &addresses, take };
        let turning = Turning {
            order: options.to,
            before: DQuat::IDENTITY,
            after: DQuat::IDENTITY,
            tolerance: options.tolerance,
            rate: scene.rate,
            range: take.range,
        };
        let tracks: Vec<(usize, &Track)> = take.tracks().collect();
        let job = |(layer, track): (usize, &Track)| -> (usize, Track, Option<Entry>) {
            let at = (track.target.rig, track.target.node);
            if track.target.property != "rotation" || !chosen.contains(&at) {
                return (layer, track.clone(), None);
            }
            let kept = |note: &str| Entry { note: note.to_owned(), ..books.kept(layer, track) };
            if has_component_layer(scene, at.0, at.1) {
                let note = "stays in its order: an additive layer by component means something only in it";
                return (layer, track.clone(), Some(kept(note)));
            }
            let rest = scene.rigs[at.0].rest_value(at.1, "rotation").unwrap_or(Value::Scalar(0.0));
            match turning.apply(&track.controller, &rest) {
                Some(turned) => {
                    let new = Track { target: track.target.clone(), controller: turned.controller };
                    let count = new.controller.key_count() + new.controller.sample_count();
                    let entry = books.changed(layer, track, turned.fate, count, turned.error, turned.note);
                    (layer, new, Some(entry))
                }
                None => {
                    let note = format!("a {} controller keeps its own order", track.controller.type_name());
                    (layer, track.clone(), Some(kept(&note)))
                }
            }
        };
        let done: Vec<_> = tracks.into_par_iter().map(job).collect();
        for layer in &mut out.layers {
            layer.tracks.clear();
        }
        for (layer, track, entry) in done {
            out.layers[layer].tracks.push(track);
            ledger.entries.extend(entry);
        }
    }
    if ledger.entries.iter().all(|entry| entry.fate == Fate::Kept && entry.note.is_empty()) {
        ledger.notes.push(format!("every chosen node turns in {} already", options.to));
    }
    Ok((result, ledger))
}

fn chosen_nodes(
    scene: &Scene,
    addresses: &Addresses,
    only: &[String],
) -> Result<std::collections::HashSet<(usize, NodeId)>, ReorderError> {
    if only.is_empty() {
        return Ok(addresses.nodes().iter().copied().collect());
    }
    let mut chosen = std::collections::HashSet::new();
    for pattern in only {
        let fits = |&(rig, node): &(usize, NodeId)| {
            let name = scene.rigs[rig].node(node).map(|node| node.name.as_str());
            matches(pattern, addresses.node((rig, node))) || name.is_some_and(|name| matches(pattern, name))
        };
        let before = chosen.len();
        let found: Vec<(usize, NodeId)> = addresses.nodes().iter().copied().filter(fits).collect();
        if found.is_empty() && chosen.len() == before {
            return Err(ReorderError::NoMatch(pattern.clone()));
        }
        chosen.extend(found);
    }
    Ok(chosen)
}

/// Whether some take has an additive layer by component on a node's rotation.
fn has_component_layer(scene: &Scene, rig: usize, node: NodeId) -> bool {
    let on_node = |track: &Track| {
        track.target.rig == rig && track.target.node == node && track.target.property == "rotation"
    };
    let is_by_component = |take: &Take| {
        take.layers.iter().any(|layer| {
            layer.mode == LayerMode::Additive
                && layer.rotations == RotationMixing::ByComponent
                && layer.tracks.iter().any(on_node)
        })
    };
    scene.takes.iter().any(is_by_component)
}
