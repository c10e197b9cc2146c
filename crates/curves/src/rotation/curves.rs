//! Curves that are rotations: three of angles, or keys that are quaternions.

use glam::{DQuat, DVec4};

use super::RotationOrder;
use crate::curve::{Behaviour, Curve};
use crate::time::Ticks;

/// Curves of three Euler angles, in radians, by axis.
#[derive(Clone, Debug, PartialEq)]
pub struct EulerCurves {
    /// The order in which the turns act.
    pub order: RotationOrder,
    /// Curves of the angles about x, y and z; one without keys leaves its angle at rest.
    pub curves: [Curve; 3],
}

/// How a rotation gets from one quaternion key to the next.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum QuaternionInterpolation {
    /// Holds.
    Step,
    /// Along the great arc, at constant speed.
    #[default]
    Slerp,
    /// Spherical quadrangle, smooth through the keys.
    Squad,
    /// A cubic by component, then normalised, shaped by the tangents.
    Cubic,
}

/// A key of a quaternion curve.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct QuaternionKey {
    /// When.
    pub time: Ticks,
    /// The rotation.
    pub value: DQuat,
    /// How the curve goes on to the next key.
    pub interpolation: QuaternionInterpolation,
    /// Derivative before the key by component, per second, for cubic interpolation.
    pub tangent_in: DVec4,
    /// Derivative after the key by component, per second, for cubic interpolation.
    pub tangent_out: DVec4,
}

/// Keys that are rotations.
#[derive(Clone, Debug, PartialEq, Default)]
pub struct QuaternionCurve {
    /// The keys, in order of time.
    pub keys: Vec<QuaternionKey>,
    /// What happens before the first key.
    pub before: Behaviour,
    /// What happens after the last key.
    pub after: Behaviour,
}
