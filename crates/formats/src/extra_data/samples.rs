//! Baked data as a format gives it back.

use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::ops::adapt::turned;
use nimble_curve_core::rig::Rig;
use nimble_curve_core::rotation::{RotationOrder, nearest_euler};
use nimble_curve_core::scene::Target;
use nimble_curve_core::value::Value;

/// Samples as a format has them on a property that was written; quaternions as angles of an order, where there is one.
pub(super) fn given_back(
    held: &Controller,
    order: Option<RotationOrder>,
    rigs: &[Rig],
    target: &Target,
) -> Option<Controller> {
    let mut controller = unfolded(held, rigs, target)?;
    if let (Some(order), Controller::Samples(samples)) = (order, &mut controller)
        && samples.kind == SampleKind::Quaternion
    {
        let mut last = match rigs[target.rig].rest_value(target.node, &target.property) {
            Some(Value::Euler { angles, .. }) => angles,
            _ => glam::DVec3::ZERO,
        };
        let rows = samples.values.chunks_exact(4).flat_map(|row| {
            last = nearest_euler(order, glam::DQuat::from_slice(row).normalize(), last);
            last.to_array()
        });
        *samples = Samples { kind: SampleKind::Euler(order), values: rows.collect(), ..*samples };
    }
    Some(controller)
}

/// A whole local rotation as what the animated step of a node has to be.
pub(super) fn unfolded(controller: &Controller, rigs: &[Rig], target: &Target) -> Option<Controller> {
    let node = rigs.get(target.rig)?.node(target.node)?;
    match node.canonical() {
        Some(view) if target.property == "rotation" => {
            let (before, after) = (view.before.conjugate(), view.after.conjugate());
            if before.w.abs() >= 1.0 && after.w.abs() >= 1.0 {
                return Some(controller.clone());
            }
            turned(controller, before, after)
        }
        _ => {
            node.op(&target.property).map(|_| ()).or(node.attribute(&target.property).map(|_| ()))?;
            Some(controller.clone())
        }
    }
}
