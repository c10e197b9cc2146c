//! Legs, and the ground that a body stands on.

use glam::DAffine3;
use nimble_curve_scene::rig::{NodeId, NodeKind, Rig};

/// What carries a body is at least this part of the rig's height above its lowest joint.
const CARRIES: f64 = 0.2;
/// The part of all frames in which no joint is lower than the ground: single frames may be noise, or a step down.
const BELOW: f64 = 0.1;

/// A node that may carry a body, and the joints that hang on it, by position.
#[derive(Clone, Debug)]
pub(crate) struct Standing {
    carrier: usize,
    joints: Vec<usize>,
    up: usize,
}

impl Standing {
    /// Of a node of a rig; `None` where it is none of this rig.
    pub fn of(rig: &Rig, node: NodeId, up: usize) -> Option<Standing> {
        let has_joints = rig.nodes().any(|(_, node)| node.kind == NodeKind::Joint);
        let counts = |kind: NodeKind| !has_joints || matches!(kind, NodeKind::Joint | NodeKind::End);
        let carrier = rig.position(node)?;
        // Parents stand before their children.
        let mut hangs = vec![false; rig.len()];
        hangs[carrier] = true;
        for (at, parent) in rig.parent_positions().into_iter().enumerate() {
            hangs[at] |= parent.is_some_and(|parent| hangs[parent]);
        }
        let joints = rig.nodes().enumerate().filter(|(at, (_, node))| hangs[*at] && counts(node.kind));
        Some(Standing { carrier, joints: joints.map(|(at, _)| at).collect(), up })
    }

    /// How high the lowest joint is in a pose; the node itself where nothing hangs on it.
    pub fn lowest(&self, world: &[DAffine3]) -> f64 {
        let heights = self.joints.iter().map(|&at| world[at].translation[self.up]);
        heights.fold(world[self.carrier].translation[self.up], f64::min)
    }

    /// How far the node is above the lowest joint; `None` where that is too little for one that carries a body.
    pub fn leg(&self, world: &[DAffine3]) -> Option<f64> {
        let heights = world.iter().map(|place| place.translation[self.up]);
        let (low, high) =
            heights.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), y| (low.min(y), high.max(y)));
        let leg = world[self.carrier].translation[self.up] - self.lowest(world);
        (leg > CARRIES * (high - low).max(1e-9)).then_some(leg)
    }
}

/// Where a body stands, from how high its lowest joint is at each of its frames; `None` where there are none.
pub(crate) fn lowest_stand(mut heights: Vec<f64>) -> Option<f64> {
    heights.sort_by(f64::total_cmp);
    heights.get((heights.len() as f64 * BELOW) as usize).copied()
}
