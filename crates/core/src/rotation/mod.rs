//! Rotations: orders, Euler angles and their rates, paths, and their conversion between orders.

mod convert;
mod euler;
mod order;
mod path;

pub use convert::{Conversion, Converted, convert};
pub use euler::{
    angle_between, nearest_euler, nearest_turn, pole_distance, principal_euler, quat_from_euler,
    rates_from_velocity, velocity_from_rates,
};
pub use order::{RotationOrder, RotationOrderError};
pub use path::{EulerPath, Knot, Leaving, RotationPath};
