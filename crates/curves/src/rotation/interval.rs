//! Keys of three angles at once, and what comes of a path between two of its knots.

use glam::DVec3;

use super::handles::PLAIN;
use crate::curve::{Interpolation, Key, Tangent, Ticks};
use crate::error::MeasuredError;
use crate::time::TICKS_PER_SECOND;

/// A key of all three channels.
#[derive(Clone, Copy, Debug)]
pub(super) struct EulerKey {
    pub time: Ticks,
    pub before: Option<DVec3>,
    pub value: DVec3,
    pub slope_in: DVec3,
    pub slope_out: DVec3,
    /// How far its handles reach, in parts of the pieces beside it, where they are not those of plain pieces.
    pub handle_fraction_in: Option<DVec3>,
    pub handle_fraction_out: Option<DVec3>,
    pub interpolation: Interpolation,
    pub added: bool,
}

impl EulerKey {
    pub fn new(time: Ticks, value: DVec3, slope: DVec3) -> EulerKey {
        EulerKey {
            time,
            before: None,
            value,
            slope_in: slope,
            slope_out: slope,
            handle_fraction_in: None,
            handle_fraction_out: None,
            interpolation: Interpolation::Cubic,
            added: false,
        }
    }

    /// The key of one channel; its handles' lengths depend on the keys beside it.
    pub fn on(&self, axis: usize, before: Option<&EulerKey>, after: Option<&EulerKey>) -> Key {
        let tangent = |slope: f64, reach: Option<DVec3>, other: Option<&EulerKey>| match (reach, other) {
            (Some(reach), Some(other)) if reach[axis] != PLAIN.0 => {
                let dt = reach[axis] * (other.time.as_f64() - self.time.as_f64()).abs();
                Tangent::handle(dt, slope * (dt / TICKS_PER_SECOND as f64))
            }
            _ => Tangent::slope(slope),
        };
        let (slope_in, slope_out) = (self.slope_in[axis], self.slope_out[axis]);
        Key {
            time: self.time,
            value: self.value[axis],
            value_before: self.before.map(|value| value[axis]).filter(|&value| value != self.value[axis]),
            interpolation: self.interpolation,
            tangent_in: tangent(slope_in, self.handle_fraction_in, before),
            tangent_out: tangent(slope_out, self.handle_fraction_out, after),
            joined: slope_in == slope_out,
            added: self.added,
            ..Key::new(self.time, self.value[axis])
        }
    }
}

/// What came of a path from one knot to the next.
#[derive(Clone, Debug)]
pub(super) struct Interval {
    /// The value with which the path came to its first key.
    pub incoming_angles: DVec3,
    /// Its first key, those that were added, and its last one.
    pub keys: Vec<EulerKey>,
    /// How far the keys are from the path; places are in ticks.
    pub error: MeasuredError,
    /// The least distance from the pole, and when.
    pub closest: (f64, f64),
    /// Whether the first key has two values at the pole.
    pub is_split: bool,
    /// How many keys plain handles would take between the two.
    pub plainly: usize,
}

impl Interval {
    /// The same after another way to its first key, which is no matter of this interval.
    pub fn after(&self, first: &EulerKey) -> Interval {
        let mut interval = self.clone();
        let own = &mut interval.keys[0];
        own.slope_in = first.slope_in;
        own.handle_fraction_in = first.handle_fraction_in;
        interval
    }
}
