//! A take that goes on from where the body stands where it is to be placed.

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_scene::judge::Edit;
use nimble_curve_scene::scene::{Scene, Take};

use super::{PlaceError, PlaceOptions, find};
use crate::ground::as_a_whole;
use crate::onward::{Seam, body_at};
use crate::travel::level;

/// A take moved along the ground and turned about the up axis as a whole, so that its body begins where the body of the take onto which
/// it is to be placed stands at that instant, and faces the same way. Before and after that take, where it begins and where it ends.
///
/// # Errors
/// [`PlaceError::Cannot`] where a channel of what carries the body cannot be moved exactly.
pub fn going_on(scene: &Scene, new: &Take, options: &PlaceOptions) -> Result<Take, PlaceError> {
    let onto = &scene.takes[find(scene, options.onto.as_deref())?];
    let at = new.range.first.clamp(onto.range.first, onto.range.last);
    let (stands, begins) =
        (body_at(scene, onto, at.as_f64())?, body_at(scene, new, new.range.first.as_f64())?);
    let up = scene.space.up.index();
    let (from, to) = (level(begins.place, up), level(stands.place, up));
    let seam = Seam { base: scene, up, turn: stands.heading - begins.heading, from, to };
    let mut moved = new.clone();
    seam.apply(&mut moved).map_err(|fixed| PlaceError::Cannot { channel: fixed.channel, why: fixed.why })?;
    Ok(moved)
}

/// What is said of a take that [`going_on`] moved, the only one of its scene: as it was, but for a turn about the up axis and a way
/// along the ground. The take is what it was before.
///
/// # Errors
/// Where a controller cannot be evaluated, or there is no such take.
pub fn gone_on(scene: &Scene, new: &Take, options: &PlaceOptions) -> Result<Vec<Edit>, PlaceError> {
    let onto = &scene.takes[find(scene, options.onto.as_deref())?];
    let at = new.range.first.clamp(onto.range.first, onto.range.last);
    let stands = body_at(scene, onto, at.as_f64())?;
    let begins = body_at(scene, new, new.range.first.as_f64())?;
    let up = DVec3::AXES[scene.space.up.index()];
    let along = |place: DVec3| place - up * up.dot(place);
    let about = DQuat::from_axis_angle(up, stands.heading - begins.heading);
    let by = along(stands.place) - about * along(begins.place);
    Ok(as_a_whole(scene, (0, new), DAffine3::from_rotation_translation(about, by)))
}
