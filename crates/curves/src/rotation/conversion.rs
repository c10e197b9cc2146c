//! What a rotation path is converted to, and what comes of it.

use glam::DVec3;

use super::RotationOrder;
use super::cache::Slot;
use super::own::OwnKeys;
use super::path::RotationPath;
use super::tolerance::AngleTolerance;
use crate::curve::{Curve, Ticks};
use crate::error::MeasuredError;
use crate::fit::Handles;
use crate::time::FrameRate;

/// What to convert to.
#[derive(Clone, Copy, Debug)]
pub struct Conversion<'a> {
    /// The new order.
    pub order: RotationOrder,
    /// The largest angle between source and result.
    pub tolerance: AngleTolerance<'a>,
    /// Added keys stand on whole frames of this rate, except where a frame is too long.
    pub rate: FrameRate,
    /// The angles that the result should be near to at its start, in radians by axis.
    pub start: DVec3,
    /// Whether handles may have lengths of their own, where that saves keys; where nothing is said, they may where plain
    /// ones would need more than half as many keys again as there are knots.
    pub handles: Option<Handles>,
    /// What was found before, where the same path is converted again with another scale.
    pub cache: Option<Slot<'a>>,
    /// On the way home, which axes keys were set on: where the path jumps, the others stay where they are.
    pub own: Option<&'a OwnKeys>,
}

impl<'a> Conversion<'a> {
    /// Into an order within a tolerance, with plain handles.
    pub fn new(
        order: RotationOrder,
        tolerance: impl Into<AngleTolerance<'a>>,
        rate: FrameRate,
        start: DVec3,
    ) -> Conversion<'a> {
        let handles = Some(Handles::Plain);
        Conversion { order, tolerance: tolerance.into(), rate, start, handles, cache: None, own: None }
    }
}

/// A converted rotation.
#[derive(Clone, Debug)]
pub struct Converted {
    /// Curves of the angles about x, y and z.
    pub curves: [Curve; 3],
    /// The largest angle between source and result; its place is in ticks.
    pub error: MeasuredError,
    /// At how many instants keys were added.
    pub added: usize,
    /// At how many they would be with plain handles.
    pub plainly: usize,
    /// The least distance from the pole, in radians, and when, in ticks.
    pub closest_to_pole: (f64, f64),
    /// Instants where the path stops or turns exactly at the pole, so that a key has two values.
    pub split_at_pole: Vec<Ticks>,
}

/// One conversion under way.
pub(super) struct Run<'a, P: RotationPath> {
    pub path: &'a P,
    pub c: &'a Conversion<'a>,
    pub handles: Handles,
}
