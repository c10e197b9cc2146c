//! The way of the body over the ground.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Interpolation, Key, combine};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{RotationOrder, angle_between, principal_euler};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples, StackEntry, Weight};
use nimble_curve_scene::evaluate::{EvaluateError, Pose};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::{Node, NodeId, NodeKind, OpValue, Rig};
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, RotationMixing, Scene, Take, Target, Track};
use thiserror::Error;

use crate::channel::{Tolerance, count, property};
use crate::conversion::{ControllerType, ConversionContext, convert_controller};
use crate::reorder::{NewOrder, ReorderOptions, reorder};
use crate::travel::{Body, busiest_rig, carrier};

/// Where the carrier is at one frame, in units, and which way it faces, in radians.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Step {
    /// The frame.
    pub frame: f64,
    /// The place: along the two axes of the ground, to the right and ahead as seen from above, and its height.
    pub place: [f64; 3],
    /// The heading, counterclockwise from above.
    pub heading: f64,
}

/// The way of the body of the rig that moves most, at whole frames.
///
/// # Errors
/// Where a pose cannot be evaluated.
pub fn way(scene: &Scene, take: &Take, range: TimeRange) -> Result<Vec<Step>, EvaluateError> {
    let mut body = Body::new(scene, take, busiest_rig(scene, take))?;
    let map = nimble_curve_scene::space::AxisMap::between(
        &scene.space,
        &nimble_curve_scene::space::Space {
            metres_per_unit: scene.space.metres_per_unit,
            ..nimble_curve_scene::space::Space::METRES_Y_UP
        },
    );
    let mut pose = Pose::default();
    let rate = scene.rate;
    let (first, last) = (rate.frame(range.first).ceil() as i64, rate.frame(range.last).floor() as i64);
    Ok((first..=last)
        .map(|frame| {
            let instant = body.at(rate.ticks(frame).as_f64(), &mut pose);
            let place = map.direction(instant.place);
            Step { frame: frame as f64, place: [place.x, place.z, place.y], heading: instant.heading }
        })
        .collect())
}
