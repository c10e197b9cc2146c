//! Which way is up for a node, among its own axes, and what does not move.

use glam::{DQuat, DVec3};
use nimble_curve_scene::controller::Controller;

/// An axis counts as the up axis of the world where they are no farther apart than rounding.
const UPRIGHT: f64 = 1e-9;

/// Which of a node's own axes is the world's up axis.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Upright {
    pub(crate) axis: usize,
    /// -1 where it points down.
    pub(crate) sign: f64,
}

impl Upright {
    pub(crate) fn of(frame: DQuat, up: DVec3) -> Option<Upright> {
        let own = (frame.inverse() * up).to_array();
        let axis = (0..3).find(|&axis| own[axis].abs() > 1.0 - UPRIGHT)?;
        Some(Upright { axis, sign: own[axis].signum() })
    }
}

/// Whether a controller holds one value throughout.
pub(crate) fn stands_still(controller: &Controller) -> bool {
    match controller {
        Controller::Constant(_) => true,
        Controller::Components(_) | Controller::Euler(_) => {
            controller.curves().iter().all(|curve| curve.is_empty() || curve.is_constant())
        }
        Controller::Quaternion(curve) => curve.keys.windows(2).all(|pair| pair[0].value == pair[1].value),
        Controller::Samples(samples) => (1..samples.len()).all(|index| samples.row(index) == samples.row(0)),
        _ => false,
    }
}
