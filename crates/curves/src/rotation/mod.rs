//! Rotations: orders, Euler angles and their rates, paths, and their conversion between orders.

mod cache;
mod conversion;
mod convert;
mod curves;
mod euler;
mod exact;
mod follow;
mod handles;
mod interval;
mod keyed;
mod order;
mod own;
mod path;
mod pieces;
mod refine;
mod to_quaternion;
mod tolerance;
mod vector;

pub use cache::{ConversionCache, Slot};
pub use conversion::{Conversion, Converted};
pub use convert::convert;
pub use curves::{EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey};
pub use euler::{
    angle_between, nearest_euler, nearest_turn, other_reading, pole_distance, principal_euler,
    quat_from_euler, rates_from_velocity, velocity_from_rates,
};
pub use exact::{ExactWay, exact_way};
pub use keyed::KeyedRotation;
pub use order::{RotationOrder, RotationOrderError};
pub use own::OwnKeys;
pub use path::{Between, EulerPath, Knot, RotationPath, SegmentKind};
pub use to_quaternion::{QuaternionKeys, to_quaternion_keys};
pub use tolerance::{AngleTolerance, ToleranceScale};
pub use vector::{along_arc, from_vector, nearest_vector, to_vector};
