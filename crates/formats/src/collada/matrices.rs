//! Nodes that move as one matrix each, for readers that know nothing else.

use std::collections::HashSet;

use glam::DMat4;
use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_core::ledger::{Fate, Ledger};
use nimble_curve_core::rig::{NodeId, OpValue, Rig, ScaleInheritance, TransformOp};
use nimble_curve_core::scene::{Scene, Take, Target, Track};

/// The same scene, in which each node that some take moves has one step, a matrix with a sample a frame. The matrices stand
/// beside the parents as readers take them that know no other way to inherit scale. The ledger says so of each channel.
pub fn as_matrices(scene: &Scene, ledger: &mut Ledger) -> Result<Scene, EvaluateError> {
    let is_step = |target: &Target| {
        let node = scene.rigs[target.rig].node(target.node);
        node.is_some_and(|node| node.op(&target.property).is_some())
    };
    let tracks = scene.takes.iter().flat_map(Take::tracks).map(|(_, track)| &track.target);
    let moved: HashSet<(usize, NodeId)> =
        tracks.filter(|target| is_step(target)).map(|target| (target.rig, target.node)).collect();
    let mut made = scene.clone();
    for (from, take) in scene.takes.iter().zip(&mut made.takes) {
        for layer in &mut take.layers {
            layer.tracks.retain(|track| !is_step(&track.target));
        }
        let Some(base) = take.layers.first_mut() else { continue };
        for (index, rig) in scene.rigs.iter().enumerate() {
            base.tracks.extend(of_rig(scene, from, (index, rig), &moved)?);
        }
    }
    for (index, rig) in made.rigs.iter_mut().enumerate() {
        let own: Vec<NodeId> =
            rig.nodes().map(|(id, _)| id).filter(|id| moved.contains(&(index, *id))).collect();
        for id in own {
            let Some(node) = rig.node_mut(id) else { continue };
            let rest = DMat4::from(node.rest());
            let value = OpValue::Matrix(rest);
            node.transform = vec![TransformOp { name: "matrix".to_owned(), value, inverse: false }];
            node.inherits = ScaleInheritance::Full;
        }
    }
    for entry in &mut ledger.entries {
        let target = entry.target.as_ref().filter(|target| is_step(target));
        let take = scene.takes.iter().find(|take| take.name == entry.take);
        if let (Some(_), Some(take)) = (target, take) {
            (entry.fate, entry.after) = (entry.fate.max(Fate::Sampled), frames(scene, take) * 16);
            entry.note = "a part of its node's matrix".to_owned();
        }
    }
    Ok(made)
}

fn frames(scene: &Scene, take: &Take) -> usize {
    scene.rate.frame(take.range.last - take.range.first).floor() as usize + 1
}

/// The matrices of the nodes of a rig that move in a take.
fn of_rig(
    scene: &Scene,
    take: &Take,
    (index, rig): (usize, &Rig),
    moved: &HashSet<(usize, NodeId)>,
) -> Result<Vec<Track>, EvaluateError> {
    let animated: HashSet<NodeId> = (take.tracks())
        .filter(|(_, track)| track.target.rig == index && moved.contains(&(index, track.target.node)))
        .map(|(_, track)| track.target.node)
        .collect();
    let own: Vec<(usize, NodeId)> = rig
        .nodes()
        .enumerate()
        .map(|(at, (id, _))| (at, id))
        .filter(|(_, id)| animated.contains(id))
        .collect();
    let parents = rig.parent_positions();
    let count = frames(scene, take);
    let mut values: Vec<Vec<f64>> = own.iter().map(|_| Vec::with_capacity(count * 16)).collect();
    let mut poses = Evaluator::new(scene, Some(take), index)?;
    let mut pose = Pose::default();
    for frame in 0..count {
        poses.pose_at((take.range.first + scene.rate.ticks(frame as i64)).as_f64(), &mut pose);
        for ((at, _), values) in own.iter().zip(&mut values) {
            let above = parents[*at].map(|parent| pose.world[parent].inverse());
            let local = above.map_or(pose.world[*at], |above| above * pose.world[*at]);
            // Below one without size, nothing is seen of where it stands.
            let local = if local.is_finite() { local } else { pose.local[*at] };
            values.extend(DMat4::from(local).to_cols_array());
        }
    }
    let track = |((_, node), values): ((usize, NodeId), Vec<f64>)| Track {
        target: Target { rig: index, node, property: "matrix".to_owned() },
        controller: Controller::Samples(Samples {
            start: take.range.first,
            rate: scene.rate,
            kind: SampleKind::Matrix,
            values,
        }),
    };
    Ok(own.into_iter().zip(values).map(track).collect())
}
