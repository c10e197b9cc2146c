//! Constraints worked out at an instant: nodes in order of what depends on what, each by its own curves first and then by its
//! constraints, in the order of the file.

mod kinds;
mod limb;
mod plan;

use glam::{DAffine3, DMat3, DQuat, DVec3};

use self::kinds::Part;
use self::limb::Solution;
use super::pose::{NodeSampler, unscaled};
use crate::rig::ScaleInheritance;

pub(super) use self::plan::Solver;
pub use self::plan::{driving, solvable};

/// Where a node stands.
#[derive(Clone, Copy, Debug)]
pub(super) struct Stand {
    pub local: DAffine3,
    /// The rotation part of the local transform, scale left out.
    pub rotation: DQuat,
    pub world: DAffine3,
    /// The product of the rotations from the top down.
    pub turn: DQuat,
    /// How it is turned in the world: the same with the signs of scales, so that a
    /// mirrored node has a mirrored frame.
    pub frame: DMat3,
}

impl Stand {
    pub const START: Stand = Stand {
        local: DAffine3::IDENTITY,
        rotation: DQuat::IDENTITY,
        world: DAffine3::IDENTITY,
        turn: DQuat::IDENTITY,
        frame: DMat3::IDENTITY,
    };

    /// Where a node stands below another, or in the world.
    fn below(parent: Option<&Stand>, inherits: ScaleInheritance, parts: &Parts) -> Stand {
        let turned = DMat3::from_quat(parts.rotation);
        let local = DAffine3 { matrix3: turned * parts.size, translation: parts.translation };
        let frame = parts.mirrored(turned);
        let Some(above) = parent else {
            return Stand { local, rotation: parts.rotation, world: local, turn: parts.rotation, frame };
        };
        let world = match inherits {
            ScaleInheritance::Full => above.world * local,
            ScaleInheritance::PositionOnly => DAffine3 {
                translation: above.world.transform_point3(local.translation),
                matrix3: unscaled(above.world.matrix3) * local.matrix3,
            },
        };
        let turn = (above.turn * parts.rotation).normalize();
        Stand { local, rotation: parts.rotation, world, turn, frame: above.frame * frame }
    }
}

/// A local transform, taken apart: `translation · rotation · size`.
#[derive(Clone, Copy, Debug)]
pub(super) struct Parts {
    pub translation: DVec3,
    pub rotation: DQuat,
    /// Scale and shear.
    pub size: DMat3,
}

impl Parts {
    fn of((local, rotation): (DAffine3, DQuat)) -> Parts {
        let rotation = rotation.normalize();
        let size = DMat3::from_quat(rotation.conjugate()) * local.matrix3;
        Parts { translation: local.translation, rotation, size }
    }

    fn local(&self) -> DAffine3 {
        DAffine3 { matrix3: DMat3::from_quat(self.rotation) * self.size, translation: self.translation }
    }

    /// A matrix with its columns mirrored as the scale is.
    fn mirrored(&self, matrix: DMat3) -> DMat3 {
        let sign = |column: DVec3, size: f64| if size < 0.0 { -column } else { column };
        DMat3::from_cols(
            sign(matrix.x_axis, self.size.x_axis.x),
            sign(matrix.y_axis, self.size.y_axis.y),
            sign(matrix.z_axis, self.size.z_axis.z),
        )
    }

    /// The signs of the scale.
    fn mirror(&self) -> DMat3 {
        let sign = |size: f64| if size < 0.0 { -1.0 } else { 1.0 };
        DMat3::from_diagonal(DVec3::new(
            sign(self.size.x_axis.x),
            sign(self.size.y_axis.y),
            sign(self.size.z_axis.z),
        ))
    }
}

/// A node that is solved.
#[derive(Debug)]
struct Solved<'a> {
    /// By its place among the solved nodes.
    parent: Option<usize>,
    inherits: ScaleInheritance,
    own: NodeSampler<'a>,
    /// Whether its own curves leave it where it rests.
    is_still: bool,
    /// What acts on it, in order.
    parts: Vec<Part>,
    /// Where it stands at rest.
    rest: Stand,
}

impl Solver<'_> {
    /// Works out all nodes at a time in ticks.
    pub fn solve(&mut self, time: f64) {
        for setting in &mut self.settings {
            setting.1 = setting.0.at(time);
        }
        for (own, node) in self.own.iter_mut().zip(&mut self.nodes) {
            if !node.is_still {
                *own = Parts::of(node.own.local_at(time));
            }
        }
        for index in 0..self.nodes.len() {
            let mut parts = self.own[index];
            for step in 0..self.nodes[index].parts.len() {
                parts = self.acted_on(index, step, parts);
            }
            let node = &self.nodes[index];
            let parent = node.parent.map(|parent| &self.stands[parent]);
            self.stands[index] = Stand::below(parent, node.inherits, &parts);
        }
    }

    /// A node's parts after one more of its constraints.
    fn acted_on(&mut self, index: usize, step: usize, parts: Parts) -> Parts {
        let part = self.nodes[index].parts[step];
        let weight = self.settings[self.prepared[part.constraint].weight].1;
        if weight == 0.0 {
            // A limb that does not count is worked out by nobody.
            return parts;
        }
        match self.result(index, part, &parts) {
            Some(wanted) => blended(&parts, &wanted, weight),
            None => parts,
        }
    }
}

/// From what stands so far to the result of a constraint, by its weight; turns by the shorter arc.
fn blended(from: &Parts, to: &Parts, weight: f64) -> Parts {
    if weight == 1.0 {
        return *to;
    }
    let near = if from.rotation.dot(to.rotation) < 0.0 { -to.rotation } else { to.rotation };
    Parts {
        translation: from.translation.lerp(to.translation, weight),
        rotation: from.rotation.slerp(near, weight).normalize(),
        size: from.size + (to.size - from.size) * weight,
    }
}

/// A rotation from a matrix that is one up to rounding.
fn turn_of(matrix: DMat3) -> DQuat {
    DQuat::from_mat3(&matrix).normalize()
}
