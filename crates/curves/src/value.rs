//! Values of channels, and what they measure.

use glam::{DMat4, DQuat, DVec3};

use crate::curve::Discrete;
use crate::rotation::{RotationOrder, quat_from_euler};

/// What a channel's numbers measure.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub enum Quantity {
    /// Radians in core, degrees for people.
    Angle,
    /// Units of the scene.
    Length,
    /// A number without a unit: scale factors, weights, face controls.
    #[default]
    Number,
}

/// The value of a property at an instant.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// One number.
    Number(f64),
    /// Three numbers.
    Vector(DVec3),
    /// Euler angles in radians, by axis.
    Euler {
        /// The order in which they act.
        order: RotationOrder,
        /// The angles.
        angles: DVec3,
    },
    /// A rotation.
    Quaternion(DQuat),
    /// An affine transform; boxed, as values are passed on a great deal and matrices seldom.
    Matrix(Box<DMat4>),
    /// A value that only holds.
    Discrete(Discrete),
}

impl Value {
    /// The rotation that the value stands for, where it is one.
    pub fn rotation(&self) -> Option<DQuat> {
        match self {
            Value::Euler { order, angles } => Some(quat_from_euler(*order, *angles)),
            Value::Quaternion(q) => Some(q.normalize()),
            _ => None,
        }
    }

    /// The rotation order, where the value is Euler angles.
    pub fn order(&self) -> Option<RotationOrder> {
        match self {
            Value::Euler { order, .. } => Some(*order),
            _ => None,
        }
    }

    /// The numbers in the value; `None` for discrete ones.
    pub fn numbers(&self) -> Option<Vec<f64>> {
        Some(match self {
            Value::Number(v) => vec![*v],
            Value::Vector(v) | Value::Euler { angles: v, .. } => v.to_array().to_vec(),
            Value::Quaternion(q) => q.to_array().to_vec(),
            Value::Matrix(m) => m.to_cols_array().to_vec(),
            Value::Discrete(_) => return None,
        })
    }
}

/// What a number of one rig is for another.
#[derive(Clone, Debug, PartialEq)]
pub enum NumberRange {
    /// `gain · value + offset`.
    Linear {
        /// The factor.
        gain: f64,
        /// What is added.
        offset: f64,
    },
    /// Straight lines through pairs of values, going on beyond them.
    Points(Vec<(f64, f64)>),
}

impl NumberRange {
    /// The same number.
    pub const SAME: NumberRange = NumberRange::Linear { gain: 1.0, offset: 0.0 };

    /// The other rig's value for one of the first.
    pub fn value(&self, value: f64) -> f64 {
        match self {
            NumberRange::Linear { gain, offset } => gain * value + offset,
            NumberRange::Points(points) => match points.as_slice() {
                [] => value,
                [(_, only)] => *only,
                points => {
                    let at = points.partition_point(|(from, _)| *from <= value).clamp(1, points.len() - 1);
                    let ((a, b), (c, d)) = (points[at - 1], points[at]);
                    b + (d - b) * (value - a) / (c - a)
                }
            },
        }
    }
}
