//! What the target rig lacks, locks, limits, or holds at rest otherwise.

use std::collections::BTreeMap;

use nimble_curve_curves::rotation::angle_between;
use nimble_curve_scene::address::{Addresses, NodeRef, without_namespace};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::rig::{AttributeKind, Node, OpValue};
use nimble_curve_scene::scene::{Scene, Target};

use super::keys::beyond;
use super::{Channel, Code, Finding};

/// Directions at rest that differ by less are the same.
const ALIKE: f64 = 0.1_f64.to_radians();

/// The node of the target rig that a node's animation goes to by its name, with or without namespace.
fn counterpart<'a>(name: &str, rig: &'a Scene) -> Option<(NodeRef, &'a Node)> {
    let nodes = || {
        rig.rigs
            .iter()
            .enumerate()
            .flat_map(|(index, rig)| rig.nodes().map(move |(id, node)| ((index, id), node)))
    };
    let bare = without_namespace(name);
    nodes()
        .find(|(_, node)| node.name == name)
        .or_else(|| nodes().find(|(_, node)| without_namespace(&node.name) == bare))
}

pub(super) fn findings(scene: &Scene, addresses: &Addresses, rig: &Scene) -> Vec<Finding> {
    let mut found = Vec::new();
    // Each property once, whichever takes move it.
    let mut moved: BTreeMap<&Target, &str> = BTreeMap::new();
    for take in &scene.takes {
        for (_, track) in take.tracks() {
            moved.entry(&track.target).or_insert(&take.name);
        }
    }
    let mut seen: Option<NodeRef> = None;
    for (target, take) in moved {
        let Some(node) = scene.rigs[target.rig].node(target.node) else { continue };
        let finding = |code, place: String, detail: String| Finding {
            take: Some(take.to_owned()),
            ..Finding::new(code, place, detail)
        };
        let Some(((index, id), other)) = counterpart(&node.name, rig) else {
            if seen != Some((target.rig, target.node)) {
                let place = addresses.node((target.rig, target.node)).to_owned();
                found.push(finding(Code::NotOnRig, place, "no node of this name".into()));
            }
            seen = Some((target.rig, target.node));
            continue;
        };
        let place = addresses.property(target);
        if rig.rigs[index].property_kind(id, &target.property).is_none() {
            found.push(finding(Code::NotOnRig, place, format!("'{}' has no such property", other.name)));
        } else if other.is_locked(&target.property, None) {
            found.push(finding(Code::LockedMoves, place, "locked on the target rig".into()));
        }
        if seen != Some((target.rig, target.node)) {
            let place = addresses.node((target.rig, target.node)).to_owned();
            found.extend(rests(node, other).map(|detail| finding(Code::OtherRest, place, detail)));
        }
        seen = Some((target.rig, target.node));
    }
    found
}

/// How a node rests otherwise than its counterpart.
fn rests(node: &Node, other: &Node) -> Option<String> {
    let order = |node: &Node| match node.op(ROTATION)?.value {
        OpValue::Rotate { order, .. } => Some(order),
        _ => None,
    };
    let turn = |node: &Node| decomposed(&node.rest()).1;
    let angle = angle_between(turn(node), turn(other));
    if angle > ALIKE {
        return Some(format!("turned by {:.1} deg at rest", angle.to_degrees()));
    }
    match (order(node), order(other)) {
        (Some(own), Some(wanted)) if own != wanted => Some(format!("order {own}, there {wanted}")),
        _ => None,
    }
}

/// Values beyond the limits that the target's attribute has.
pub(super) fn limits(channel: &Channel<'_>, rig: &Scene) -> Option<Finding> {
    let target = &channel.track.target;
    let node = channel.scene.rigs[target.rig].node(target.node)?;
    let (_, other) = counterpart(&node.name, rig)?;
    match &other.attribute(&target.property)?.kind {
        AttributeKind::Number { min, max, .. } => {
            let finding = beyond(channel, *min, *max)?;
            Some(Finding { detail: format!("{} on the target rig", finding.detail), ..finding })
        }
        _ => None,
    }
}
