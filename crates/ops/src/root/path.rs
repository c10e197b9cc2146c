//! The way of the body over the ground.

use nimble_curve_curves::time::TimeRange;
use nimble_curve_scene::evaluate::{EvaluateError, Pose};
use nimble_curve_scene::scene::{Scene, Take};

use crate::travel::{Body, busiest_rig};

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
pub fn travelled(scene: &Scene, take: &Take, range: TimeRange) -> Result<Vec<Step>, EvaluateError> {
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
