//! Rotations: orders, Euler angles and their rates.

mod euler;
mod order;

pub use euler::{
    angle_between, nearest_euler, nearest_turn, pole_distance, principal_euler, quat_from_euler,
    rates_from_velocity, velocity_from_rates,
};
pub use order::{RotationOrder, RotationOrderError};
