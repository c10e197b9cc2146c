//! Poses: all nodes of a rig at an instant, by forward kinematics.

use glam::{DAffine3, DQuat, DVec3};

use super::{EvaluateError, PropertySampler};
use crate::address::NodeRef;
use crate::rig::{Node, OpValue, Rig, ScaleInheritance};
use crate::scene::{Scene, Take, Target};
use crate::value::Value;

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
}

#[derive(Debug)]
struct NodePlan<'a> {
    parent: Option<usize>,
    inherits: ScaleInheritance,
    node: NodeSampler<'a>,
}

/// Evaluates the transform of one node relative to its parent.
#[derive(Debug)]
pub struct NodeSampler<'a> {
    steps: Vec<Step<'a>>,
}

#[derive(Debug)]
enum Step<'a> {
    /// Steps that stand still, multiplied together: the whole, and its rotation part.
    Still(DAffine3, DQuat),
    /// A step that is animated.
    Driven { rest: OpValue, inverse: bool, driver: Box<PropertySampler<'a>> },
}

impl<'a> Evaluator<'a> {
    /// An evaluator of one rig in a take; without a take all nodes stay at rest.
    ///
    /// # Errors
    /// Where a controller on the rig cannot be evaluated.
    pub fn new(scene: &'a Scene, take: Option<&'a Take>, rig: usize) -> Result<Evaluator<'a>, EvaluateError> {
        let nodes_of: &Rig =
            scene.rigs.get(rig).ok_or_else(|| EvaluateError::Missing(format!("rig {rig}")))?;
        let mut nodes = Vec::with_capacity(nodes_of.len());
        let driven: std::collections::HashSet<&Target> =
            take.into_iter().flat_map(Take::tracks).map(|(_, track)| &track.target).collect();
        for ((id, node), parent) in nodes_of.nodes().zip(nodes_of.parent_positions()) {
            let sampler = NodeSampler::of(scene, take, (rig, id), node, |target| driven.contains(target))?;
            nodes.push(NodePlan { parent, inherits: node.inherits, node: sampler });
        }
        Ok(Evaluator { nodes })
    }

    /// Computes the pose at a time in ticks into `pose`, whose memory is used again.
    pub fn pose_at(&mut self, time: f64, pose: &mut Pose) {
        pose.local.clear();
        pose.local_rotation.clear();
        pose.world.clear();
        pose.world_rotation.clear();
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
    pub fn world_rotations(&mut self, times: &[f64], rotations: &mut Vec<DQuat>) {
        rotations.clear();
        for node in &mut self.nodes {
            let above = node.parent.map(|parent| parent * times.len());
            for (index, &time) in times.iter().enumerate() {
                let local = node.node.rotation_at(time);
                rotations.push(match above {
                    Some(above) => (rotations[above + index] * local).normalize(),
                    None => local.normalize(),
                });
            }
        }
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
        let found = scene.rigs.get(node.0).and_then(|rig| rig.node(node.1));
        let of = found.ok_or_else(|| EvaluateError::Missing(format!("node of rig {}", node.0)))?;
        let is_driven = |target: &Target| {
            take.into_iter().flat_map(Take::tracks).any(|(_, track)| track.target == *target)
        };
        NodeSampler::of(scene, take, node, of, is_driven)
    }

    fn of(
        scene: &'a Scene,
        take: Option<&'a Take>,
        (rig, id): NodeRef,
        node: &Node,
        is_driven: impl Fn(&Target) -> bool,
    ) -> Result<NodeSampler<'a>, EvaluateError> {
        let mut steps = Vec::with_capacity(node.transform.len());
        for op in &node.transform {
            let target = Target { rig, node: id, property: op.name.clone() };
            match take.filter(|_| is_driven(&target)) {
                Some(take) => {
                    let driver = Box::new(PropertySampler::new(scene, take, &target)?);
                    steps.push(Step::Driven { rest: op.value, inverse: op.inverse, driver });
                }
                None => {
                    let (affine, rotation) = placed(op.value, op.inverse);
                    match steps.last_mut() {
                        Some(Step::Still(all, turn)) => (*all, *turn) = (*all * affine, *turn * rotation),
                        _ => steps.push(Step::Still(affine, rotation)),
                    }
                }
            }
        }
        let does_something = |step: &Step<'_>| !matches!(step, Step::Still(all, turn) if *all == DAffine3::IDENTITY && *turn == DQuat::IDENTITY);
        steps.retain(does_something);
        Ok(NodeSampler { steps })
    }

    /// The local transform at a time in ticks, and its rotation part, scale left out.
    pub fn local_at(&mut self, time: f64) -> (DAffine3, DQuat) {
        let mut place: Option<(DAffine3, DQuat)> = None;
        for step in &mut self.steps {
            let (affine, turn) = match step {
                Step::Still(affine, turn) => (*affine, *turn),
                Step::Driven { rest, inverse, driver } => {
                    placed(with_value(*rest, driver.value_at(time)), *inverse)
                }
            };
            place = Some(match place {
                Some((local, rotation)) => (local * affine, rotation * turn),
                None => (affine, turn),
            });
        }
        place.unwrap_or((DAffine3::IDENTITY, DQuat::IDENTITY))
    }

    /// The rotation part of the local transform at a time in ticks, scale left out.
    pub fn rotation_at(&mut self, time: f64) -> DQuat {
        let turns = self.steps.iter_mut().filter_map(|step| match step {
            Step::Still(_, turn) => Some(*turn),
            Step::Driven { rest, .. } if !rest.turns() => None,
            Step::Driven { rest, inverse, driver } => {
                let turn = with_value(*rest, driver.value_at(time)).rotation();
                Some(if *inverse { turn.conjugate() } else { turn })
            }
        });
        turns.reduce(|turn, next| turn * next).unwrap_or(DQuat::IDENTITY)
    }
}

/// A step's transform, and its rotation part.
fn placed(value: OpValue, inverse: bool) -> (DAffine3, DQuat) {
    let turn = value.rotation();
    let affine = match value {
        // The matrix of a rotation that is known already.
        OpValue::Rotate { .. } | OpValue::RotateAxis { .. } | OpValue::Orient(_) => DAffine3::from_quat(turn),
        other => other.affine(),
    };
    if inverse { (affine.inverse(), turn.conjugate()) } else { (affine, turn) }
}

/// A matrix with its columns brought to length 1.
fn unscaled(matrix: glam::DMat3) -> glam::DMat3 {
    let unit = |v: DVec3| v.try_normalize().unwrap_or(v);
    glam::DMat3::from_cols(unit(matrix.x_axis), unit(matrix.y_axis), unit(matrix.z_axis))
}

/// A step with an animated value in place of the one at rest.
fn with_value(rest: OpValue, value: Value) -> OpValue {
    match (rest, value) {
        (OpValue::Translate(_), Value::Vector(v)) => OpValue::Translate(v),
        (OpValue::Scale(_), Value::Vector(v)) => OpValue::Scale(v),
        (OpValue::Shear(_), Value::Vector(v)) => OpValue::Shear(v),
        (OpValue::RotateAxis { axis, .. }, Value::Scalar(angle)) => OpValue::RotateAxis { axis, angle },
        (OpValue::Rotate { .. } | OpValue::Orient(_), Value::Euler { order, angles }) => {
            OpValue::Rotate { order, angles }
        }
        (OpValue::Rotate { .. } | OpValue::Orient(_), Value::Quaternion(q)) => OpValue::Orient(q),
        (OpValue::Matrix(_), Value::Matrix(m)) => OpValue::Matrix(m),
        (rest, _) => rest,
    }
}
