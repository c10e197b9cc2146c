//! One controller said with what a format or an application holds.

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Curve, Refit};
use nimble_curve_curves::rotation::{Between, RotationOrder, nearest_euler, quat_from_euler};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{
    Controller, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
};
use nimble_curve_scene::ledger::{Fate, MeasuredError};
use nimble_curve_scene::scene::PropertyKind;

use super::{Capabilities, Plan, Rotations};
use crate::conversion::{
    ControllerType, ConversionContext, ConvertedController, NotConvertible, convert_controller,
    quaternion_keys, with_path,
};

pub(super) fn adapted(
    controller: &Controller,
    setting: &ConversionContext,
    holds: &Capabilities,
    plan: Option<Plan>,
) -> Result<ConvertedController, NotConvertible> {
    match setting.kind {
        PropertyKind::Discrete => Err(NotConvertible::Discrete),
        PropertyKind::Rotation => match (plan, holds.rotations) {
            (Some(Plan::Fold { before, after }), _) => quaternions(controller, setting, before, after),
            (_, Rotations::Quaternions) => quaternions(controller, setting, DQuat::IDENTITY, DQuat::IDENTITY),
            (_, Rotations::Angles) => {
                match controller {
                    Controller::Constant(value) => {
                        let angles = Controller::Constant(in_order(value, setting));
                        let fate = if angles == *controller { Fate::Kept } else { Fate::Exact };
                        return Ok(ConvertedController { controller: angles, fate, error: None });
                    }
                    Controller::Samples(samples) => {
                        return angles(samples, setting).ok_or(NotConvertible::NoValue);
                    }
                    Controller::Procedural(procedural) => {
                        let sampled = procedural.sampled.as_ref().ok_or(NotConvertible::NoValue)?;
                        let changed = adapted(sampled, setting, holds, plan)?;
                        return Ok(ConvertedController { fate: changed.fate.max(Fate::Exact), ..changed });
                    }
                    _ => {}
                }
                numbers(convert_controller(controller, ControllerType::Curves, setting)?, setting, holds)
            }
        },
        // Whole matrices have a place as samples alone.
        PropertyKind::Matrix if !matches!(controller, Controller::Samples(_) | Controller::Constant(_)) => {
            convert_controller(controller, ControllerType::Samples(setting.rate), setting)
        }
        PropertyKind::Matrix => Ok(kept(controller)),
        _ if matches!(controller, Controller::Samples(_) | Controller::Constant(_)) => Ok(kept(controller)),
        _ => numbers(convert_controller(controller, ControllerType::Curves, setting)?, setting, holds),
    }
}

/// A rotation that stands still as angles in the order at rest, which is the one that the node is written in.
fn in_order(value: &Value, setting: &ConversionContext) -> Value {
    let (order, near) = match setting.rest {
        Value::Euler { order, angles } => (order, angles),
        _ => return as_angles(value.clone()),
    };
    match value.rotation() {
        Some(_) if value.order() == Some(order) => value.clone(),
        Some(rotation) => Value::Euler { order, angles: nearest_euler(order, rotation, near) },
        None => value.clone(),
    }
}

/// A quaternion as angles, as something that has no order of its own is given them.
pub(super) fn as_angles(value: Value) -> Value {
    match value {
        Value::Quaternion(q) => {
            let order = RotationOrder::Xyz;
            Value::Euler { order, angles: nearest_euler(order, q.normalize(), DVec3::ZERO) }
        }
        other => other,
    }
}

/// Samples of a rotation as angles in the order at rest.
fn angles(samples: &Samples, setting: &ConversionContext) -> Option<ConvertedController> {
    let order = setting.order();
    if samples.kind == SampleKind::Euler(order) {
        return Some(kept(&Controller::Samples(samples.clone())));
    }
    let mut last = match setting.rest {
        Value::Euler { angles, .. } => angles,
        _ => DVec3::ZERO,
    };
    let mut values = Vec::with_capacity(samples.len() * 3);
    for index in 0..samples.len() {
        let row = samples.row(index);
        let rotation = match samples.kind {
            SampleKind::Euler(own) => quat_from_euler(own, DVec3::from_slice(row)),
            SampleKind::Quaternion => DQuat::from_slice(row).normalize(),
            _ => return None,
        };
        last = nearest_euler(order, rotation, last);
        values.extend(last.to_array());
    }
    let controller =
        Controller::Samples(Samples { kind: SampleKind::Euler(order), values, ..samples.clone() });
    Some(ConvertedController { controller, fate: Fate::Exact, error: None })
}

fn kept(controller: &Controller) -> ConvertedController {
    ConvertedController { controller: controller.clone(), fate: Fate::Kept, error: None }
}

/// Curves without what is not held.
pub(super) fn numbers(
    changed: ConvertedController,
    setting: &ConversionContext,
    holds: &Capabilities,
) -> Result<ConvertedController, NotConvertible> {
    let ConvertedController { mut controller, mut fate, mut error } = changed;
    let rests = resting(&controller, setting);
    let curves: &mut [Curve] = match &mut controller {
        Controller::Components(curves) => curves,
        Controller::Euler(euler) => &mut euler.curves,
        _ => return Ok(ConvertedController { controller, fate, error }),
    };
    let share = setting.tolerance / (curves.len() as f64).sqrt();
    let mut squares = 0.0;
    for (index, curve) in curves.iter_mut().enumerate() {
        let repeats = !curve.is_held_outside() || curve.inner_loop().is_some();
        if repeats && !holds.outside {
            *curve = curve.written_out(setting.range);
            fate = fate.max(Fate::Exact);
        }
        // Behind loops, which would lift what shows in a gap with each round.
        if !holds.outside && curve.has_gaps() {
            // A number without one at rest would be made up.
            let rest = rests.as_ref().and_then(|rests| rests.get(index)).ok_or(NotConvertible::Discrete)?;
            *curve = curve.filled(*rest).ok_or(NotConvertible::Loops)?;
            fate = fate.max(Fate::Exact);
        }
        let is_weighted = |curve: &Curve| {
            curve.keys().iter().any(|key| key.tangent_in.length().or(key.tangent_out.length()).is_some())
        };
        if !holds.weighted && is_weighted(curve) {
            let (plain, more, largest) = curve.plain(Refit { tolerance: share, rate: Some(setting.rate) });
            *curve = plain;
            fate = fate.max(if more > 0 || largest > 0.0 { Fate::Refitted } else { Fate::Exact });
            squares += largest * largest;
        }
    }
    if fate == Fate::Refitted {
        let mut whole = error.unwrap_or(MeasuredError::none(setting.kind.quantity()));
        whole.take(whole.largest + squares.sqrt(), setting.range.first.as_f64());
        error = Some(whole);
    }
    Ok(ConvertedController { controller, fate, error })
}

/// The numbers that show where a controller has no value; `None` for what has none at rest.
fn resting(controller: &Controller, setting: &ConversionContext) -> Option<Vec<f64>> {
    match (controller, &setting.rest) {
        // Angles of another order than those at rest are zero where they have no value.
        (Controller::Euler(euler), Value::Euler { order, .. }) if euler.order != *order => Some(vec![0.0; 3]),
        (Controller::Euler(_), Value::Quaternion(_)) => Some(vec![0.0; 3]),
        (_, rest) => rest.numbers(),
    }
}

/// A rotation as quaternion keys or samples: steps, great arcs and cubics as they are, anything else refitted.
pub(super) fn quaternions(
    controller: &Controller,
    setting: &ConversionContext,
    before: DQuat,
    after: DQuat,
) -> Result<ConvertedController, NotConvertible> {
    let is_identity = before.w.abs() >= 1.0 && after.w.abs() >= 1.0;
    let exact = if is_identity { Fate::Kept } else { Fate::Exact };
    match controller {
        Controller::Constant(value) => {
            let rotation = before * value.rotation().ok_or(NotConvertible::NoValue)? * after;
            let controller = Controller::Constant(Value::Quaternion(rotation));
            let fate = if matches!(value, Value::Quaternion(_)) { exact } else { Fate::Exact };
            Ok(ConvertedController { controller, fate, error: None })
        }
        Controller::Samples(samples) => {
            let fate = if samples.kind == SampleKind::Quaternion { exact } else { Fate::Exact };
            let controller =
                Controller::Samples(turned_samples(samples, before, after).ok_or(NotConvertible::NoValue)?);
            Ok(ConvertedController { controller, fate, error: None })
        }
        Controller::Quaternion(curve) if is_plain(curve) => {
            let curve = if is_identity { curve.clone() } else { turned_keys(curve, before, after) };
            Ok(ConvertedController { controller: Controller::Quaternion(curve), fate: exact, error: None })
        }
        Controller::Procedural(procedural) => {
            let sampled = procedural.sampled.as_ref().ok_or(NotConvertible::NoValue)?;
            let changed = quaternions(sampled, setting, before, after)?;
            Ok(ConvertedController { fate: changed.fate.max(Fate::Exact), ..changed })
        }
        _ => with_path(controller, setting, |path, knots| {
            let path = Between { path, before, after };
            Ok(quaternion_keys(controller, &path, knots, setting))
        }),
    }
}

/// Whether keys are held outside, and great arcs all, or steps and cubics.
fn is_plain(curve: &QuaternionCurve) -> bool {
    use nimble_curve_curves::curve::Behaviour::Held;
    let pieces = &curve.keys[..curve.keys.len().saturating_sub(1)];
    let all =
        |wanted: &[QuaternionInterpolation]| pieces.iter().all(|key| wanted.contains(&key.interpolation));
    curve.before == Held
        && curve.after == Held
        && (all(&[QuaternionInterpolation::Slerp])
            || all(&[QuaternionInterpolation::Step, QuaternionInterpolation::Cubic]))
}

/// Samples of a rotation as quaternions of one sign, between constant rotations.
fn turned_samples(samples: &Samples, before: DQuat, after: DQuat) -> Option<Samples> {
    let rotation = |row: &[f64]| match samples.kind {
        SampleKind::Euler(order) => Some(quat_from_euler(order, DVec3::from_slice(row))),
        SampleKind::Quaternion => Some(DQuat::from_slice(row)),
        _ => None,
    };
    let mut values = Vec::with_capacity(samples.len() * 4);
    let mut last = DQuat::IDENTITY;
    for index in 0..samples.len() {
        let q = before * rotation(samples.row(index))? * after;
        last = if index > 0 && last.dot(q) < 0.0 { -q } else { q };
        values.extend(last.to_array());
    }
    Some(Samples { kind: SampleKind::Quaternion, values, ..samples.clone() })
}

/// Quaternion keys, samples of rotations or one rotation between two constant rotations, exactly: `before · R · after`.
/// `None` for other controllers.
pub fn turned(controller: &Controller, before: DQuat, after: DQuat) -> Option<Controller> {
    Some(match controller {
        Controller::Constant(value) => {
            Controller::Constant(Value::Quaternion(before * value.rotation()? * after))
        }
        Controller::Samples(samples) => Controller::Samples(turned_samples(samples, before, after)?),
        Controller::Quaternion(curve) => Controller::Quaternion(turned_keys(curve, before, after)),
        _ => return None,
    })
}

fn turned_keys(curve: &QuaternionCurve, before: DQuat, after: DQuat) -> QuaternionCurve {
    let rate = |v: DVec4| DVec4::from(before * DQuat::from_vec4(v) * after);
    let key = |key: &QuaternionKey| QuaternionKey {
        value: before * key.value * after,
        tangent_in: rate(key.tangent_in),
        tangent_out: rate(key.tangent_out),
        ..*key
    };
    QuaternionCurve { keys: curve.keys.iter().map(key).collect(), ..*curve }
}
