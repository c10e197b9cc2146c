//! Rotations: orders, Euler angles and their rates, paths, and their conversion between orders.

mod allowance;
mod convert;
mod curves;
mod euler;
mod exact;
mod follow;
mod handles;
mod keyed;
mod memory;
mod order;
mod path;
mod pieces;
mod refine;
mod to_quaternion;
mod vector;

pub use allowance::{Allowance, Slack};
pub use convert::{Conversion, Converted, convert};
pub use curves::{EulerCurves, QuaternionCurve, QuaternionInterpolation, QuaternionKey};
pub use euler::{
    angle_between, nearest_euler, nearest_turn, pole_distance, principal_euler, quat_from_euler,
    rates_from_velocity, velocity_from_rates,
};
pub use exact::{ExactWay, exact_way};
pub use keyed::KeyedRotation;
pub use memory::{Memory, Place};
pub use order::{RotationOrder, RotationOrderError};
pub use path::{Between, EulerPath, Knot, Leaving, RotationPath};
pub use to_quaternion::{QuaternionKeys, to_quaternion_keys};
pub use vector::{along_arc, from_vector, nearest_vector, to_vector};
