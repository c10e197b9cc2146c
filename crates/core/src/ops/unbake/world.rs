//! A bound in world space: an error at the hips moves the feet.
//!
//! The result is compared with the source by forward kinematics. Where a joint lies farther off than the bound allows,
//! the tolerances of all tracks above it shrink, in proportion, and those tracks are fitted anew, until the bound holds.

use std::collections::{HashMap, HashSet};

use glam::DVec3;

use crate::evaluate::{EvaluateError, Evaluator, Pose};
use crate::rig::NodeId;
use crate::scene::{Scene, Take};

/// How far joints may be off.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Bound {
    /// The largest distance in units of the scene.
    pub distance: f64,
    /// Nodes that may not be moved by more than it, peak to peak, while they stand still.
    pub watched: Vec<NodeId>,
}

/// What was found: for each node (by position) the part of the bound that is used up, above 1 where it is broken.
pub(super) struct Excess {
    pub by_node: HashMap<NodeId, f64>,
    /// The largest distance of any joint, and at which frame.
    pub largest: (f64, f64),
    /// The largest motion added to a watched node while it stands still, peak to peak.
    pub added: f64,
}

/// A watched node stands still while it stays within so many metres for [`CONTACT`].
const STILL: f64 = 0.0015;
/// A contact is at least so long, in seconds.
const CONTACT: f64 = 0.08;

/// Compares two versions of a take in world space, at each instant of a step.
pub(super) fn compare(
    before: (&Scene, &Take),
    after: (&Scene, &Take),
    rig: usize,
    bound: &Bound,
    step: f64,
) -> Result<Excess, EvaluateError> {
    let range = before.1.key_range().map_or(before.1.range, |keys| keys.union(before.1.range));
    let (mut source, mut result) =
        (Evaluator::new(before.0, Some(before.1), rig)?, Evaluator::new(after.0, Some(after.1), rig)?);
    let nodes: Vec<NodeId> = before.0.rigs[rig].nodes().map(|(id, _)| id).collect();
    let mut worst = vec![0.0_f64; nodes.len()];
    let mut largest = (0.0_f64, 0.0);
    let watched: Vec<usize> =
        bound.watched.iter().filter_map(|node| before.0.rigs[rig].position(*node)).collect();
    let mut tracks: Vec<Vec<(DVec3, DVec3)>> = vec![Vec::new(); watched.len()];
    let (mut a, mut b) = (Pose::default(), Pose::default());
    let count = ((range.last - range.first).as_f64() / step) as usize;
    for index in 0..=count {
        let time = range.first.as_f64() + index as f64 * step;
        source.pose_at(time, &mut a);
        result.pose_at(time, &mut b);
        for (position, worst) in worst.iter_mut().enumerate() {
            let distance = a.world[position].translation.distance(b.world[position].translation);
            *worst = worst.max(distance);
            if distance > largest.0 {
                largest = (distance, time / before.0.rate.ticks_per_frame());
            }
        }
        for (track, &position) in tracks.iter_mut().zip(&watched) {
            let (from, to) = (a.world[position].translation, b.world[position].translation);
            track.push((from, to - from));
        }
    }
    let mut by_node: HashMap<NodeId, f64> =
        nodes.iter().zip(&worst).map(|(&node, &worst)| (node, worst / bound.distance)).collect();
    let seconds = step / crate::time::TICKS_PER_SECOND as f64;
    let still = STILL / before.0.space.metres_per_unit;
    let mut added = 0.0_f64;
    for (track, node) in tracks.iter().zip(&bound.watched) {
        let moved = added_in_contacts(track, still, (CONTACT / seconds).ceil() as usize);
        added = added.max(moved);
        by_node.entry(*node).and_modify(|excess| *excess = excess.max(moved / bound.distance));
    }
    Ok(Excess { by_node, largest, added })
}

/// The largest motion, peak to peak, that was added while a node stood still: through all windows in which it hardly
/// moves, neighbouring ones taken together.
fn added_in_contacts(track: &[(DVec3, DVec3)], still: f64, window: usize) -> f64 {
    let mut stands = vec![false; track.len()];
    for start in 0..track.len().saturating_sub(window) {
        if extent(track[start..=start + window].iter().map(|(at, _)| *at)) <= still {
            stands[start..=start + window].fill(true);
        }
    }
    let mut largest = 0.0_f64;
    let mut start = 0;
    while start < track.len() {
        let length = stands[start..].iter().take_while(|stands| **stands).count();
        if length > 0 {
            largest = largest.max(extent(track[start..start + length].iter().map(|(_, offset)| *offset)));
        }
        start += length.max(1);
    }
    largest
}

/// The diagonal of the box around some points.
fn extent(points: impl Iterator<Item = DVec3>) -> f64 {
    let (low, high) = points
        .fold((DVec3::INFINITY, DVec3::NEG_INFINITY), |(low, high), point| (low.min(point), high.max(point)));
    low.distance(high)
}

/// For each node, by how much the tolerances of its tracks must shrink: by the worst excess below it; nothing where all
/// is well.
pub(super) fn shrinking(scene: &Scene, rig: usize, excess: &Excess) -> HashMap<NodeId, f64> {
    let rig = &scene.rigs[rig];
    let mut shrink: HashMap<NodeId, f64> = HashMap::new();
    let broken: HashSet<NodeId> =
        excess.by_node.iter().filter(|(_, excess)| **excess > 1.0).map(|(node, _)| *node).collect();
    for node in broken {
        let factor = (0.9 / excess.by_node[&node]).max(0.3);
        // A node's own rotation does not move itself; all above do, and its own translation.
        for above in std::iter::successors(Some(node), |&node| rig.parent(node)) {
            let entry = shrink.entry(above).or_insert(1.0);
            *entry = entry.min(factor);
        }
    }
    shrink
}
