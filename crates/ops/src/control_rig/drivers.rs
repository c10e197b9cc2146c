//! What drives a node beside its parent: whose keys its own have to stand at.

use std::collections::BTreeSet;

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::{Constraint, ConstraintKind, Towards};
use nimble_curve_scene::evaluate::{EvaluateError, driving};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};

/// The nodes and properties that a node's local transform depends on.
#[derive(Clone, Debug, Default)]
pub struct Drivers {
    nodes: BTreeSet<NodeRef>,
    properties: BTreeSet<Target>,
}

impl Drivers {
    /// Of a node that constraints drive. What stands above both the node and all that drives it moves them alike, and is none
    /// of it.
    pub fn of(scene: &Scene, node: NodeRef) -> Result<Drivers, EvaluateError> {
        let (nodes, properties) = driving(scene, [node])?;
        let shared = shared_above(scene, node, &nodes);
        let nodes = nodes.into_iter().filter(|own| !shared.contains(own)).collect();
        Ok(Drivers { nodes, properties: properties.into_iter().collect() })
    }

    /// Of one property that couples drive.
    pub fn of_property(scene: &Scene, target: &Target) -> Drivers {
        let mut properties = BTreeSet::from([target.clone()]);
        loop {
            let before = properties.len();
            let read: Vec<Target> = (properties.iter().flat_map(|own| scene.couples_on(own)))
                .flat_map(|(constraint, _)| constraint.properties().into_iter().cloned())
                .collect();
            properties.extend(read);
            if properties.len() == before {
                return Drivers { nodes: BTreeSet::new(), properties };
            }
        }
    }

    /// Whether it depends on one of some nodes, beside its parent.
    pub fn go_by(&self, node: NodeRef) -> bool {
        self.nodes.contains(&node)
    }

    /// The tracks among those of a take that count.
    pub fn tracks<'t>(&self, scene: &Scene, take: &'t Take) -> Vec<(&'t Layer, &'t Track)> {
        let is_step = |target: &Target| {
            let node = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
            node.is_some_and(|node| node.op(&target.property).is_some())
        };
        let has_part = |target: &Target| {
            self.nodes.contains(&(target.rig, target.node)) && is_step(target)
                || self.properties.contains(target)
        };
        take.active_tracks().filter(|(_, track)| has_part(&track.target)).collect()
    }

    /// When they have keys, within a range and at its ends.
    pub fn times(tracks: &[(&Layer, &Track)], range: TimeRange) -> Vec<Ticks> {
        let mut times = BTreeSet::from([range.first, range.last]);
        for (layer, track) in tracks {
            times.extend(track.controller.key_times(range));
            times.extend(layer.weight.key_times(range));
        }
        times.into_iter().filter(|time| range.contains(*time)).collect()
    }
}

/// The nodes above a node that stand above all that drives it, too: where these move, nothing changes beside the parent.
fn shared_above(scene: &Scene, node: NodeRef, driving: &[NodeRef]) -> BTreeSet<NodeRef> {
    let above = |(rig, id): NodeRef| {
        let of = scene.rigs.get(rig);
        std::iter::successors(Some(id), move |id| of.and_then(|rig| rig.parent(*id))).map(move |id| (rig, id))
    };
    // Directions of the world stand outside everything.
    let leans_on_world = |constraint: &Constraint| match &constraint.kind {
        ConstraintKind::Aim(aim) => matches!(aim.up, Some((_, Towards::Direction(_, None)))),
        ConstraintKind::Limb(limb) => matches!(limb.pole, Some(Towards::Direction(_, None))),
        _ => false,
    };
    let acting = |of: NodeRef| scene.constraints.iter().filter(move |own| own.drives(of));
    if driving.iter().any(|of| acting(*of).any(leans_on_world)) {
        return BTreeSet::new();
    }
    // From the top down, as long as everything hangs on it.
    let mut chain: Vec<NodeRef> = above(node).skip(1).collect();
    chain.reverse();
    let mut shared = BTreeSet::new();
    for candidate in chain {
        let is_above = |own: &NodeRef| shared.contains(own) || above(*own).any(|higher| higher == candidate);
        if scene.is_driven(candidate) || !driving.iter().all(is_above) {
            break;
        }
        shared.insert(candidate);
    }
    shared
}
