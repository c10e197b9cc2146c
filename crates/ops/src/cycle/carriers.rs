//! Which channels carry a body along, so that a loop goes on where it ended and does not come back.

use glam::{DQuat, DVec3};
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{RotationMixing, Scene, Take, Target};

use crate::travel::carrying;
use crate::upright::Upright;

/// A node that carries the body, or that one that does hangs on.
pub(super) struct CarryingNode {
    pub(super) node: NodeRef,
    /// The up axis among those of its places; none where it stands turned so that none of them is upright.
    pub(super) way: Option<Upright>,
    /// The up axis among those of its angles, where its turn about that acts last, so that it can go on from round to round.
    pub(super) turn: Option<Upright>,
}

/// Which components of a track belong to where the body goes, and so do not come back to where they were: its places on the
/// ground and its turn about the up axis, on its carrier and what stands above it.
pub(super) struct RootMotionChannels {
    nodes: Vec<CarryingNode>,
}

impl RootMotionChannels {
    /// Of a take, by how its nodes stand at its beginning.
    pub(super) fn of(scene: &Scene, take: &Take) -> Result<RootMotionChannels, EvaluateError> {
        let carrying = carrying(scene, take);
        let Some(&(index, _)) = carrying.first() else { return Ok(RootMotionChannels { nodes: Vec::new() }) };
        let (rig, up) = (&scene.rigs[index], DVec3::AXES[scene.space.up.index()]);
        let mut pose = Pose::default();
        Evaluator::new(scene, Some(take), index)?.pose_at(take.range.first.as_f64(), &mut pose);
        let of = |node: NodeRef| {
            let parent = rig.parent(node.1).and_then(|id| rig.position(id));
            let above = parent.map_or(DQuat::IDENTITY, |parent| pose.world_rotation[parent]);
            let before = rig.node(node.1).and_then(|node| node.canonical()).map(|view| view.before);
            let turn = before.and_then(|before| Upright::of(above * before, up));
            let turn = turn.filter(|own| turns_last(scene, take, node, own.axis));
            CarryingNode { node, way: Upright::of(above, up), turn }
        };
        Ok(RootMotionChannels { nodes: carrying.into_iter().map(of).collect() })
    }

    /// The node that a channel is of, where that carries the body along.
    pub(super) fn of_channel(&self, target: &Target) -> Option<&CarryingNode> {
        self.nodes.iter().find(|own| own.node == (target.rig, target.node))
    }

    /// Whether a component of a channel goes on from round to round.
    pub(super) fn goes(&self, target: &Target, controller: &Controller, component: usize) -> bool {
        let Some(own) = self.of_channel(target) else { return false };
        match target.property.as_str() {
            TRANSLATION => own.way.is_some_and(|up| component != up.axis),
            ROTATION => own
                .turn
                .is_some_and(|up| component == up.axis && controller.outermost_axis() == Some(up.axis)),
            _ => false,
        }
    }
}

/// Whether what a take does to a node's rotation sums up to angles of one order whose turn about an axis acts last.
fn turns_last(scene: &Scene, take: &Take, (rig, node): NodeRef, axis: usize) -> bool {
    let target = Target { rig, node, property: ROTATION.to_owned() };
    let layers = take.layers.iter().enumerate().filter(|(_, layer)| !layer.muted);
    let own = layers.filter_map(|(index, layer)| {
        let track = layer.tracks.iter().find(|track| track.target == target)?;
        let adds_up = index == 0 || layer.rotations == RotationMixing::Angles;
        Some((index, track.controller.order().filter(|_| adds_up)))
    });
    let layers: Vec<_> = own.collect();
    // Where nothing replaces the rest it is one of the summands.
    let rest = scene.rigs[rig].rest_value(node, ROTATION).and_then(|rest| rest.order());
    let is_replaced = layers.first().is_some_and(|(index, _)| *index == 0);
    let mut orders = layers.iter().map(|(_, order)| *order).chain((!is_replaced).then_some(rest));
    match orders.next() {
        Some(Some(first)) => first.axes().0 == axis && orders.all(|order| order == Some(first)),
        _ => false,
    }
}
