//! Animation curves, rotations, rigs and layers, and the operations that move them between rigs.
//!
//! Everything here is a function from values to values: no files, no printing. All values are `f64`, angles are
//! radians, slopes are per second, times are [`time::Ticks`]; evaluation takes fractional ticks. A [`scene::Scene`]
//! goes in, an operation returns a new one and a [`ledger::Ledger`] of what became of every channel.

pub mod address;
pub mod angle;
pub mod choice;
pub mod controller;
pub mod curve;
pub mod ease;
pub mod evaluate;
pub mod fit;
pub mod judge;
pub mod ledger;
pub mod ops;
pub mod rig;
pub mod rotation;
pub mod scene;
mod search;
pub mod similar;
pub mod space;
pub mod tcb;
pub mod time;
pub mod validate;
pub mod value;
