//! One node by its own curves and what is coupled to them.

use glam::{DAffine3, DMat3, DQuat, DVec3};
use nimble_curve_curves::rotation::quat_from_euler;
use nimble_curve_curves::value::Value;

use super::EvaluateError;
use super::coupled::CoupledSampler;
use super::solve::Parts;
use crate::address::NodeRef;
use crate::rig::{Node, OpValue, TransformOp};
use crate::scene::{Layer, Scene, Take, Target, Track};

/// Evaluates the transform of one node relative to its parent, by its own curves.
#[derive(Debug)]
pub struct OwnSampler<'a> {
    steps: Vec<Step<'a>>,
    /// Whether its steps move and turn, and none sizes.
    is_rigid: bool,
}

#[derive(Debug)]
enum Step<'a> {
    /// Steps that stand still, multiplied together: the whole, and its rotation part.
    Still(DAffine3, DQuat),
    /// A step that is animated.
    Driven { rest: OpValue, inverse: bool, driver: Box<CoupledSampler<'a>> },
}

impl<'a> OwnSampler<'a> {
    /// A node that stands still at its parent's place.
    pub const NOTHING: OwnSampler<'static> = OwnSampler { steps: Vec::new(), is_rigid: true };

    /// A node as it rests.
    pub fn at_rest(node: &Node) -> OwnSampler<'a> {
        let mut own = OwnSampler { steps: Vec::with_capacity(node.transform.len()), ..OwnSampler::NOTHING };
        for op in &node.transform {
            own.add_still(op);
        }
        own
    }

    /// The sampler of a node by its own curves and couples, with some tracks on it, in order of their layers.
    pub fn new(
        scene: &'a Scene,
        take: Option<&'a Take>,
        (rig, id): NodeRef,
        node: &Node,
        drivers: &[(&'a Layer, &'a Track)],
    ) -> Result<OwnSampler<'a>, EvaluateError> {
        let mut own = OwnSampler { steps: Vec::with_capacity(node.transform.len()), ..OwnSampler::NOTHING };
        for op in &node.transform {
            let drivers: Vec<(&Layer, &Track)> =
                drivers.iter().filter(|(_, track)| track.target.property == op.name).copied().collect();
            let target = Target { rig, node: id, property: op.name.clone() };
            let is_coupled = !scene.constraints.is_empty() && scene.couples_on(&target).next().is_some();
            if drivers.is_empty() && !is_coupled {
                own.add_still(op);
                continue;
            }
            own.is_rigid &= op.value.is_rigid();
            let driver = Box::new(CoupledSampler::of_tracks((scene, take), &target, &drivers, 0)?);
            own.steps.push(Step::Driven { rest: op.value, inverse: op.inverse, driver });
        }
        let does_something = |step: &Step<'_>| !matches!(step, Step::Still(all, turn) if *all == DAffine3::IDENTITY && *turn == DQuat::IDENTITY);
        own.steps.retain(does_something);
        Ok(own)
    }

    /// Adds a step that stands still.
    fn add_still(&mut self, op: &TransformOp) {
        let (affine, rotation) = placed(op.value, op.inverse);
        self.is_rigid &= op.value.is_rigid() || affine == DAffine3::IDENTITY;
        match self.steps.last_mut() {
            Some(Step::Still(all, turn)) => (*all, *turn) = (*all * affine, *turn * rotation),
            _ => self.steps.push(Step::Still(affine, rotation)),
        }
    }

    /// Whether the node never leaves its rest.
    pub fn is_still(&self) -> bool {
        self.steps.iter().all(|step| matches!(step, Step::Still(..)))
    }

    /// Whether there is nothing to it at all.
    pub fn is_nothing(&self) -> bool {
        self.steps.is_empty()
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

    /// The local transform at a time in ticks, taken apart. Where no step sizes, no matrix is made, and the size is the identity to
    /// the last bit.
    pub fn parts_at(&mut self, time: f64) -> Parts {
        if !self.is_rigid {
            return Parts::of(self.local_at(time));
        }
        let (mut translation, mut rotation) = (DVec3::ZERO, DQuat::IDENTITY);
        for step in &mut self.steps {
            match step {
                Step::Still(affine, turn) => {
                    translation += rotation * affine.translation;
                    rotation *= *turn;
                }
                Step::Driven { rest, inverse, driver } => match with_value(*rest, driver.value_at(time)) {
                    OpValue::Translate(v) => translation += rotation * if *inverse { -v } else { v },
                    value if *inverse => rotation *= value.rotation().conjugate(),
                    value => rotation *= value.rotation(),
                },
            }
        }
        Parts { translation, rotation: rotation.normalize(), size: DMat3::IDENTITY }
    }

    /// The rotation part of the local transform at a time in ticks, scale left out.
    pub fn rotation_at(&mut self, time: f64) -> DQuat {
        let turns = self.steps.iter_mut().filter_map(|step| match step {
            Step::Still(_, turn) => Some(*turn),
            Step::Driven { rest, .. } if !rest.turns() => None,
            Step::Driven { rest, inverse, driver } => {
                let turn = match driver.value_at(time) {
                    Value::Euler { order, angles } => quat_from_euler(order, angles),
                    value => with_value(*rest, value).rotation(),
                };
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

/// A step with an animated value in place of the one at rest.
fn with_value(rest: OpValue, value: Value) -> OpValue {
    match (rest, value) {
        (OpValue::Translate(_), Value::Vector(v)) => OpValue::Translate(v),
        (OpValue::Scale(_), Value::Vector(v)) => OpValue::Scale(v),
        (OpValue::Shear(_), Value::Vector(v)) => OpValue::Shear(v),
        (OpValue::RotateAxis { axis, .. }, Value::Number(angle)) => OpValue::RotateAxis { axis, angle },
        (OpValue::Rotate { .. } | OpValue::Orient(_), Value::Euler { order, angles }) => {
            OpValue::Rotate { order, angles }
        }
        (OpValue::Rotate { .. } | OpValue::Orient(_), Value::Quaternion(q)) => OpValue::Orient(q),
        (OpValue::Matrix(_), Value::Matrix(m)) => OpValue::Matrix(*m),
        (rest, _) => rest,
    }
}
