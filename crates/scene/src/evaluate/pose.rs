//! Poses: all nodes of a rig at an instant, by forward kinematics.

use std::collections::HashMap;

use glam::{DAffine3, DQuat};

use super::EvaluateError;
use super::own::OwnSampler;
use super::solve::{Solver, Stand};
use crate::address::NodeRef;
use crate::parts::unscaled;
use crate::rig::{NodeId, Rig, ScaleInheritance};
use crate::scene::{Layer, Scene, Take, Track};

/// The transforms of all nodes at an instant, in order of [`Rig::nodes`].
#[derive(Clone, Debug, Default)]
pub struct Pose {
    /// Relative to the parent.
    pub local: Vec<DAffine3>,
    /// The rotation part of the local transform, scale left out.
    pub local_rotation: Vec<DQuat>,
    /// Relative to the world.
    pub world: Vec<DAffine3>,
    /// The product of the local rotations from the top down.
    pub world_rotation: Vec<DQuat>,
}

/// Evaluates poses of one rig in one take.
#[derive(Debug)]
pub struct Evaluator<'a> {
    nodes: Vec<NodePlan<'a>>,
    /// Where constraints act in the scene: they are solved for what is wanted, by position.
    solved: Option<(Box<Solver<'a>>, Vec<Option<usize>>)>,
}

#[derive(Debug)]
struct NodePlan<'a> {
    parent: Option<usize>,
    inherits: ScaleInheritance,
    node: OwnSampler<'a>,
}

/// Evaluates the transform of one node relative to its parent, constraints counted.
#[derive(Debug)]
pub struct NodeSampler<'a> {
    source: Source<'a>,
}

#[derive(Debug)]
enum Source<'a> {
    /// By its own curves.
    Own(OwnSampler<'a>),
    /// Where constraints drive it.
    Solved(Box<Solver<'a>>, NodeRef),
}

impl<'a> Evaluator<'a> {
    /// An evaluator of one rig in a take; without a take all nodes stay at rest.
    ///
    /// # Errors
    /// Where a controller on the rig cannot be evaluated.
    pub fn new(scene: &'a Scene, take: Option<&'a Take>, rig: usize) -> Result<Evaluator<'a>, EvaluateError> {
        let nodes = scene.rigs.get(rig).map_or(0, Rig::len);
        Evaluator::of_nodes(scene, take, rig, &vec![true; nodes])
    }

    /// The same for those nodes alone that are `wanted`, by position, and have only such above them; the others count as
    /// roots that stand still.
    ///
    /// # Errors
    /// Where a controller on one of them cannot be evaluated.
    pub fn of_nodes(
        scene: &'a Scene,
        take: Option<&'a Take>,
        rig: usize,
        wanted: &[bool],
    ) -> Result<Evaluator<'a>, EvaluateError> {
        let nodes_of: &Rig =
            scene.rigs.get(rig).ok_or_else(|| EvaluateError::Missing(format!("rig {rig}")))?;
        if !scene.constraints.is_empty() {
            let ids = nodes_of.nodes().map(|(id, _)| (rig, id));
            let wanted: Vec<Option<NodeRef>> =
                ids.zip(wanted).map(|(node, wanted)| wanted.then_some(node)).collect();
            let solver = Solver::new(scene, take, wanted.iter().copied().flatten())?;
            let places = wanted.into_iter().map(|node| solver.place_of(node?)).collect();
            return Ok(Evaluator { nodes: Vec::new(), solved: Some((Box::new(solver), places)) });
        }
        let mut nodes = Vec::with_capacity(nodes_of.len());
        let mut drivers: HashMap<NodeId, Vec<(&Layer, &Track)>> = HashMap::new();
        for (layer, track) in take.into_iter().flat_map(Take::active_tracks) {
            if track.target.rig == rig {
                drivers.entry(track.target.node).or_default().push((layer, track));
            }
        }
        for (((id, node), parent), wanted) in nodes_of.nodes().zip(nodes_of.parent_positions()).zip(wanted) {
            if !wanted {
                let node = OwnSampler::NOTHING;
                nodes.push(NodePlan { parent: None, inherits: ScaleInheritance::Full, node });
                continue;
            }
            let drivers = drivers.get(&id).map_or(&[][..], Vec::as_slice);
            let sampler = OwnSampler::new(scene, take, (rig, id), node, drivers)?;
            nodes.push(NodePlan { parent, inherits: node.inherits, node: sampler });
        }
        Ok(Evaluator { nodes, solved: None })
    }

    /// Computes the pose at a time in ticks into `pose`, whose memory is used again.
    pub fn pose_at(&mut self, time: f64, pose: &mut Pose) {
        pose.local.clear();
        pose.local_rotation.clear();
        pose.world.clear();
        pose.world_rotation.clear();
        if let Some((solver, wanted)) = &mut self.solved {
            solver.solve(time);
            for place in wanted {
                let stand = place.map_or(&Stand::START, |place| solver.stand_at(place));
                pose.local.push(stand.local);
                pose.local_rotation.push(stand.rotation);
                pose.world.push(stand.world);
                pose.world_rotation.push(stand.turn);
            }
            return;
        }
        for node in &mut self.nodes {
            let (local, rotation) = node.node.local_at(time);
            let (world, world_rotation) = match node.parent {
                None => (local, rotation),
                Some(parent) => {
                    let above = pose.world[parent];
                    let world = match node.inherits {
                        ScaleInheritance::Full => above * local,
                        ScaleInheritance::PositionOnly => DAffine3 {
                            translation: above.transform_point3(local.translation),
                            matrix3: unscaled(above.matrix3) * local.matrix3,
                        },
                    };
                    (world, pose.world_rotation[parent] * rotation)
                }
            };
            pose.local.push(local);
            pose.local_rotation.push(rotation);
            pose.world.push(world);
            pose.world_rotation.push(world_rotation.normalize());
        }
    }

    /// The world rotations of all nodes at some instants, in ticks: those of a node one after another, in order of
    /// [`Rig::nodes`]. Node by node that is several times as fast as pose by pose.
    pub fn world_rotations(&mut self, times: &[f64]) -> Vec<DQuat> {
        if let Some((solver, wanted)) = &mut self.solved {
            let mut rotations = vec![DQuat::IDENTITY; wanted.len() * times.len()];
            for (index, &time) in times.iter().enumerate() {
                solver.solve(time);
                for (position, place) in wanted.iter().enumerate() {
                    if let Some(place) = place {
                        rotations[position * times.len() + index] = solver.stand_at(*place).turn;
                    }
                }
            }
            return rotations;
        }
        let mut rotations = Vec::with_capacity(self.nodes.len() * times.len());
        for node in &mut self.nodes {
            if node.node.is_nothing() && node.parent.is_none() {
                rotations.resize(rotations.len() + times.len(), DQuat::IDENTITY);
                continue;
            }
            let above = node.parent.map(|parent| parent * times.len());
            for (index, &time) in times.iter().enumerate() {
                let local = node.node.rotation_at(time);
                rotations.push(match above {
                    Some(above) => (rotations[above + index] * local).normalize(),
                    None => local.normalize(),
                });
            }
        }
        rotations
    }
}

impl<'a> NodeSampler<'a> {
    /// A sampler of one node in a take; without a take it stays at rest.
    ///
    /// # Errors
    /// Where there is no such node, or a controller on it cannot be evaluated.
    pub fn new(
        scene: &'a Scene,
        take: Option<&'a Take>,
        node: NodeRef,
    ) -> Result<NodeSampler<'a>, EvaluateError> {
        let drivers: Vec<(&Layer, &Track)> = (take.into_iter().flat_map(Take::active_tracks))
            .filter(|(_, track)| (track.target.rig, track.target.node) == node)
            .collect();
        NodeSampler::of_tracks(scene, take, node, &drivers)
    }

    /// The same with the tracks on the node, in order of their layers, all of which count.
    ///
    /// # Errors
    /// As [`new`](NodeSampler::new).
    pub fn of_tracks(
        scene: &'a Scene,
        take: Option<&'a Take>,
        node: NodeRef,
        tracks: &[(&'a Layer, &'a Track)],
    ) -> Result<NodeSampler<'a>, EvaluateError> {
        let found = scene.rigs.get(node.0).and_then(|rig| rig.node(node.1));
        let of = found.ok_or_else(|| EvaluateError::Missing(format!("node of rig {}", node.0)))?;
        if scene.is_driven(node) {
            let solver = Box::new(Solver::new(scene, take, [node])?);
            return Ok(NodeSampler { source: Source::Solved(solver, node) });
        }
        OwnSampler::new(scene, take, node, of, tracks).map(|own| NodeSampler { source: Source::Own(own) })
    }

    /// The local transform at a time in ticks, and its rotation part, scale left out.
    pub fn local_at(&mut self, time: f64) -> (DAffine3, DQuat) {
        match &mut self.source {
            Source::Own(own) => own.local_at(time),
            Source::Solved(solver, node) => {
                solver.solve(time);
                let stand = solver.stand(*node).copied().unwrap_or(Stand::START);
                (stand.local, stand.rotation)
            }
        }
    }

    /// The rotation part of the local transform at a time in ticks, scale left out.
    pub fn rotation_at(&mut self, time: f64) -> DQuat {
        match &mut self.source {
            Source::Own(own) => own.rotation_at(time),
            Source::Solved(..) => self.local_at(time).1,
        }
    }
}

/// The poses of all rigs of a scene, one after the other in the same memory.
pub struct Poses<'a> {
    evaluators: Vec<Evaluator<'a>>,
    /// A pose for each rig, at the time that was asked for last.
    pub poses: Vec<Pose>,
}

impl<'a> Poses<'a> {
    /// Evaluators of all rigs in a take; no pose is there yet.
    ///
    /// # Errors
    /// Where a controller cannot be evaluated.
    pub fn new(scene: &'a Scene, take: &'a Take) -> Result<Poses<'a>, EvaluateError> {
        let evaluators: Vec<Evaluator<'a>> = (0..scene.rigs.len())
            .map(|rig| Evaluator::new(scene, Some(take), rig))
            .collect::<Result<_, _>>()?;
        let poses = evaluators.iter().map(|_| Pose::default()).collect();
        Ok(Poses { evaluators, poses })
    }

    /// Poses all rigs at a time in ticks.
    pub fn at(&mut self, time: f64) {
        for (evaluator, pose) in self.evaluators.iter_mut().zip(&mut self.poses) {
            evaluator.pose_at(time, pose);
        }
    }
}
