//! Where a node stands, and local transforms taken apart.

use glam::{DAffine3, DMat3, DQuat, DVec3};

use crate::parts::unscaled;
use crate::rig::ScaleInheritance;

/// Where a node stands.
#[derive(Clone, Copy, Debug)]
pub struct Stand {
    /// Beside its parent.
    pub local: DAffine3,
    /// The rotation part of the local transform, scale left out.
    pub rotation: DQuat,
    /// In the world.
    pub world: DAffine3,
    /// The product of the rotations from the top down.
    pub turn: DQuat,
    /// How it is turned in the world: the same with the signs of scales, so that a
    /// mirrored node has a mirrored frame.
    pub frame: DMat3,
    /// Its frame is the matrix of its world.
    is_rigid: bool,
}

impl Stand {
    /// Where what has no parent hangs.
    pub const START: Stand = Stand {
        local: DAffine3::IDENTITY,
        rotation: DQuat::IDENTITY,
        world: DAffine3::IDENTITY,
        turn: DQuat::IDENTITY,
        frame: DMat3::IDENTITY,
        is_rigid: true,
    };

    /// What hangs in a frame of which nothing else is known.
    pub fn in_frame(frame: DMat3) -> Stand {
        Stand { frame, is_rigid: false, ..Stand::START }
    }

    /// Whether nothing above it or of its own sizes or mirrors it.
    pub fn is_rigid(&self) -> bool {
        self.is_rigid
    }

    /// Where a node stands below another, or in the world.
    #[inline]
    pub fn below(parent: Option<&Stand>, inherits: ScaleInheritance, parts: &Parts) -> Stand {
        let turned = DMat3::from_quat(parts.rotation);
        let is_rigid = parts.size == DMat3::IDENTITY && parent.is_none_or(|above| above.is_rigid);
        if is_rigid {
            return Stand::rigid(parent.unwrap_or(&Stand::START), turned, parts);
        }
        let local = DAffine3 { matrix3: turned * parts.size, translation: parts.translation };
        let frame = parts.mirrored(turned);
        let Some(above) = parent else {
            return Stand {
                local,
                rotation: parts.rotation,
                world: local,
                turn: parts.rotation,
                frame,
                is_rigid,
            };
        };
        let world = match inherits {
            ScaleInheritance::Full => above.world * local,
            ScaleInheritance::PositionOnly => DAffine3 {
                translation: above.world.transform_point3(local.translation),
                matrix3: unscaled(above.world.matrix3) * local.matrix3,
            },
        };
        let turn = (above.turn * parts.rotation).normalize();
        Stand { local, rotation: parts.rotation, world, turn, frame: above.frame * frame, is_rigid }
    }

    /// The same where nothing is sized: most joints of most rigs, for half of the products.
    #[inline]
    fn rigid(above: &Stand, turned: DMat3, parts: &Parts) -> Stand {
        let local = DAffine3 { matrix3: turned, translation: parts.translation };
        let frame = above.frame * turned;
        let world = DAffine3 { matrix3: frame, translation: above.world.transform_point3(parts.translation) };
        let turn = (above.turn * parts.rotation).normalize();
        Stand { local, rotation: parts.rotation, world, turn, frame, is_rigid: true }
    }
}

/// A local transform, taken apart: `translation · rotation · size`.
#[derive(Clone, Copy, Debug)]
pub struct Parts {
    pub translation: DVec3,
    pub rotation: DQuat,
    /// Scale and shear.
    pub size: DMat3,
}

impl Parts {
    #[inline]
    pub fn of((local, rotation): (DAffine3, DQuat)) -> Parts {
        let rotation = rotation.normalize();
        let size = DMat3::from_quat(rotation.conjugate()) * local.matrix3;
        Parts { translation: local.translation, rotation, size }
    }

    #[inline]
    pub fn local(&self) -> DAffine3 {
        DAffine3 { matrix3: DMat3::from_quat(self.rotation) * self.size, translation: self.translation }
    }

    /// A matrix with its columns mirrored as the scale is.
    #[inline]
    pub fn mirrored(&self, matrix: DMat3) -> DMat3 {
        let sign = |column: DVec3, size: f64| if size < 0.0 { -column } else { column };
        DMat3::from_cols(
            sign(matrix.x_axis, self.size.x_axis.x),
            sign(matrix.y_axis, self.size.y_axis.y),
            sign(matrix.z_axis, self.size.z_axis.z),
        )
    }

    /// The signs of the scale.
    #[inline]
    pub fn mirror(&self) -> DMat3 {
        let sign = |size: f64| if size < 0.0 { -1.0 } else { 1.0 };
        DMat3::from_diagonal(DVec3::new(
            sign(self.size.x_axis.x),
            sign(self.size.y_axis.y),
            sign(self.size.z_axis.z),
        ))
    }
}

/// From what stands so far to the result of a constraint, by its weight; turns by the shorter arc.
#[inline]
pub fn blended(from: &Parts, to: &Parts, weight: f64) -> Parts {
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
#[inline]
pub fn turn_of(matrix: DMat3) -> DQuat {
    DQuat::from_mat3(&matrix).normalize()
}

/// A unit vector; `None` where there is hardly any length.
#[inline]
pub fn unit(v: DVec3) -> Option<DVec3> {
    v.try_normalize()
}

/// An orthonormal basis of a first axis and one that leans towards a second; the third completes it to the right.
#[inline]
pub fn basis(first: DVec3, second: DVec3) -> Option<DMat3> {
    let first = unit(first)?;
    let left = second - first * first.dot(second);
    // Where the second is the first, rounding alone would decide.
    let second = unit(left).filter(|_| left.length() > 1e-9 * second.length())?;
    Some(DMat3::from_cols(first, second, first.cross(second)))
}
