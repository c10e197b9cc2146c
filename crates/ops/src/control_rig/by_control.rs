//! A control's own curves in the axes of a joint that goes with it rigidly.

use std::collections::BTreeSet;

use glam::DVec3;
use nimble_curve_curves::rotation::nearest_euler;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::ledger::{Fate, MeasuredError};
use nimble_curve_scene::rig::{Canonical, ROTATION, SCALE};
use nimble_curve_scene::scene::{Layer, PropertyKind, Track};

use super::anchor::Rigid;
use super::solve::{Job, Wanted};
use crate::conversion::ConvertedController;
use crate::rotation_conversion::RotationConversion;
use crate::vectors::{Linear, snapped_turn};

impl Job<'_> {
    /// A control's curve in a joint's axes; `None` where it is not the only one, or does not go over exactly.
    pub(super) fn exact(
        &self,
        wanted: &Wanted,
        view: &Canonical,
        rigid: &Rigid,
    ) -> Option<ConvertedController> {
        let (rig, id) = rigid.control;
        let control = self.scene.rigs.get(rig)?.node(id)?;
        let from = control.canonical()?;
        let mut tracks = self.take.active_tracks().filter(|(_, track)| {
            (track.target.rig, track.target.node) == rigid.control
                && control.op(&track.target.property).is_some()
        });
        let own: Vec<(&Layer, &Track)> = tracks.by_ref().collect();
        let is_scaled = own.iter().any(|(_, track)| track.target.property == SCALE);
        if is_scaled || own.iter().any(|(layer, _)| !layer.is_whole()) || has_two(&own) {
            return None;
        }
        let controller = own.iter().find(|(_, track)| track.target.property == wanted.target.property);
        let controller = controller.map(|(_, track)| &track.controller);
        let made = match wanted.kind {
            PropertyKind::Rotation => {
                let before = view.before.conjugate() * rigid.turn_before * from.before;
                let after = from.after * rigid.turn_after * view.after.conjugate();
                let Some(controller) = controller else {
                    return Some(still(&wanted.rest, Value::Quaternion(before * from.rotation * after)));
                };
                let conversion = RotationConversion {
                    order: wanted.rest.order()?,
                    before,
                    after,
                    tolerance: self.tolerance.angle.into(),
                    handles: None,
                    cache: None,
                    rate: self.scene.rate,
                    range: self.take.range,
                    at_home: false,
                };
                let rest = self.scene.rigs[rig].rest_value(id, ROTATION)?;
                let made = conversion.apply(controller, &rest)?;
                // Places of errors are in ticks as long as something is made.
                let in_ticks = |error: MeasuredError| MeasuredError {
                    frame: error.frame * self.scene.rate.ticks_per_frame(),
                    ..error
                };
                let fate = made.fate.max(Fate::Exact);
                ConvertedController { controller: made.controller, fate, error: made.error.map(in_ticks) }
            }
            PropertyKind::Vector(_) => {
                // Beside the control its turns would move the joint.
                if rigid.after.translation.length() > 1e-12 * (1.0 + from.translation.length()) {
                    return None;
                }
                let place = |v: DVec3| rigid.before.transform_point3(v);
                let Some(controller) = controller else {
                    return Some(still(&wanted.rest, Value::Vector(place(from.translation))));
                };
                let linear = Linear::new(
                    snapped_turn(rigid.turn_before),
                    1.0,
                    DVec3::ZERO,
                    place(DVec3::ZERO),
                    from.translation,
                    view.translation,
                );
                ConvertedController {
                    controller: linear.controller(controller)?,
                    fate: Fate::Exact,
                    error: None,
                }
            }
            _ => return None,
        };
        Some(made)
    }
}

/// Whether a property has two tracks.
fn has_two(tracks: &[(&Layer, &Track)]) -> bool {
    let mut seen = BTreeSet::new();
    !tracks.iter().all(|(_, track)| seen.insert(&track.target.property))
}

/// A property that does not move.
fn still(rest: &Value, value: Value) -> ConvertedController {
    let value = match (rest, value.rotation()) {
        (Value::Euler { order, angles }, Some(turn)) => {
            Value::Euler { order: *order, angles: nearest_euler(*order, turn, *angles) }
        }
        _ => value,
    };
    ConvertedController { controller: Controller::Constant(value), fate: Fate::Exact, error: None }
}
