//! Legs, and the ground that a body stands on.

use glam::DAffine3;
use nimble_curve_scene::rig::{NodeId, NodeKind, Rig};

/// What carries a body is at least this part of the rig's height above its lowest joint.
const CARRIES: f64 = 0.2;
/// The part of all frames in which no joint is lower than the ground: single frames may be noise, or a step down.
const BELOW: f64 = 0.1;

/// How far a node is above the lowest joint that hangs on it; `None` where that is too little for one that carries a body.
pub(crate) fn leg(rig: &Rig, world: &[DAffine3], node: NodeId, up: usize) -> Option<f64> {
    let heights = world.iter().map(|place| place.translation[up]);
    let (low, high) =
        heights.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), y| (low.min(y), high.max(y)));
    let leg = world[rig.position(node)?].translation[up] - lowest(rig, world, node, up);
    (leg > CARRIES * (high - low).max(1e-9)).then_some(leg)
}

/// How high the lowest joint is of those that hang on a node.
pub(crate) fn lowest(rig: &Rig, world: &[DAffine3], node: NodeId, up: usize) -> f64 {
    let has_joints = rig.nodes().any(|(_, node)| node.kind == NodeKind::Joint);
    let counts = |kind: NodeKind| !has_joints || matches!(kind, NodeKind::Joint | NodeKind::End);
    let Some(start) = rig.position(node) else { return 0.0 };
    // Parents stand before their children.
    let parents = rig.parent_positions();
    let mut hangs = vec![false; world.len()];
    hangs[start] = true;
    let mut lowest = world[start].translation[up];
    for (at, (_, node)) in rig.nodes().enumerate() {
        hangs[at] |= parents[at].is_some_and(|parent| hangs[parent]);
        if hangs[at] && counts(node.kind) {
            lowest = lowest.min(world[at].translation[up]);
        }
    }
    lowest
}

/// Where a body stands, from how high its lowest joint is at each of its frames; `None` where there are none.
pub(crate) fn lowest_stand(mut heights: Vec<f64>) -> Option<f64> {
    heights.sort_by(f64::total_cmp);
    heights.get((heights.len() as f64 * BELOW) as usize).copied()
}
