//! Where nodes stand beside those that they go by.

use glam::{DMat3, DQuat, DVec3};

use super::stand::{Parts, Stand, turn_of};
use super::state::State;
use crate::constraint::{Source, Towards};
use crate::evaluate::EvaluateError;

/// A source with where the node stands beside it.
#[derive(Clone, Copy, Debug)]
pub struct Beside {
    pub place: usize,
    /// Its setting.
    pub weight: usize,
    /// A point in its space.
    pub position: DVec3,
    /// The frame of what follows, in its own.
    pub frame: DMat3,
    /// Factors: what follows is of its size times these.
    pub scale: DVec3,
}

impl Beside {
    /// How a node stands beside a source: as is said, else as both rest.
    pub fn new(state: &State, node: usize, source: &Source, weight: usize) -> Result<Beside, EvaluateError> {
        let place = state.place(source.node)?;
        let (theirs, own) = (state.rests[place], state.rests[node]);
        let rest_scale = sizes(own.world.matrix3) / sizes(theirs.world.matrix3);
        Ok(match source.offset {
            Some(offset) => Beside {
                place,
                weight,
                position: offset.position,
                // A turn given beside a mirrored source is one of what is mirrored.
                frame: DMat3::from_quat(offset.turn.normalize()),
                scale: offset.scale,
            },
            None => Beside {
                place,
                weight,
                position: theirs.world.inverse().transform_point3(own.world.translation),
                frame: theirs.frame.transpose() * own.frame,
                scale: rest_scale,
            },
        })
    }
}

/// The place of the node that a direction leans on.
pub fn place_of(state: &State, towards: Option<&Towards>) -> Result<Option<usize>, EvaluateError> {
    towards.and_then(Towards::node).map(|node| state.place(node)).transpose()
}

/// The lengths of a matrix's columns.
pub fn sizes(matrix: DMat3) -> DVec3 {
    DVec3::new(matrix.x_axis.length(), matrix.y_axis.length(), matrix.z_axis.length())
}

/// The rotation below a parent that gives a frame in the world.
pub fn turned_into(parent: &Stand, frame: DMat3, parts: &Parts) -> DQuat {
    let wanted = parts.mirrored(parent.frame.transpose() * frame);
    // Where one side is mirrored and the other is not, no rotation is that: the nearest one of its mirror image is taken.
    turn_of(if wanted.determinant() < 0.0 { -wanted } else { wanted })
}
