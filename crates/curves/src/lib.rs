//! The mathematics of one channel or one rotation: curves and their tangents, fitting, rotations and their orders.
//!
//! Nothing here knows of rigs or scenes. All values are `f64`, angles are radians, slopes are per second, times are
//! [`time::Ticks`]; evaluation takes fractional ticks.

pub mod angle;
pub mod curve;
mod ease;
pub mod error;
pub mod fit;
pub mod noise;
pub mod rotation;
mod search;
pub mod tcb;
pub mod time;
pub mod value;
