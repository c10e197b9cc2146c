//! Animation curves, rotations, rigs and layers, and the operations that move them between rigs: the one front door.
//!
//! Everything here is a function from values to values: no files, no printing. All values are `f64`, angles are
//! radians, slopes are per second, times are [`time::Ticks`]; evaluation takes fractional ticks. A [`scene::Scene`]
//! goes in, an operation returns a new one and a [`ledger::Ledger`] of what became of every channel.

pub use glam;
pub use nimble_curve_curves::{angle, curve, fit, rotation, tcb, time, value};
pub use nimble_curve_ops as ops;
pub use nimble_curve_scene::{
    address, choice, controller, evaluate, judge, ledger, rig, scene, similar, space, validate,
};
