//! How a layer's value joins the value under it.

use glam::{DQuat, DVec3};

use crate::scene::{LayerMode, PropertyKind, RotationMixing};
use crate::value::Value;

/// The value that changes nothing when it is added: zero, factor one, no rotation.
pub(crate) fn neutral(kind: PropertyKind, rest: &Value) -> Value {
    match (kind, rest) {
        (PropertyKind::Scale, _) => Value::Vector(DVec3::ONE),
        (_, Value::Scalar(_)) => Value::Scalar(0.0),
        (_, Value::Vector(_)) => Value::Vector(DVec3::ZERO),
        (_, Value::Euler { order, .. }) => Value::Euler { order: *order, angles: DVec3::ZERO },
        (_, Value::Quaternion(_)) => Value::Quaternion(DQuat::IDENTITY),
        (_, Value::Matrix(_)) => Value::Matrix(glam::DMat4::IDENTITY),
        (_, Value::Discrete(_)) => rest.clone(),
    }
}

/// The value of a property with one more layer on it.
///
/// Numbers add `w·v`, scale factors multiply `v^w`, rotations follow the layer's mixing; an override blends
/// linearly or along the great arc. Values that cannot be blended switch over at half weight.
pub(super) fn layered(
    kind: PropertyKind,
    mode: LayerMode,
    rotations: RotationMixing,
    under: Value,
    over: Value,
    weight: f64,
) -> Value {
    let switched = |under: Value, over: Value| if weight >= 0.5 { over } else { under };
    if mode == LayerMode::Override && weight == 1.0 {
        return over;
    }
    match (kind, mode) {
        (PropertyKind::Discrete | PropertyKind::Matrix, _) => switched(under, over),
        (PropertyKind::Rotation, _) => rotated(mode, rotations, under, over, weight),
        (PropertyKind::Scale, LayerMode::Additive) => match (under, over) {
            (Value::Vector(u), Value::Vector(v)) => {
                Value::Vector(DVec3::from_array(std::array::from_fn(|i| u[i] * power(v[i], weight))))
            }
            (under, _) => under,
        },
        (_, LayerMode::Additive) => match (under, over) {
            (Value::Scalar(u), Value::Scalar(v)) => Value::Scalar(u + weight * v),
            (Value::Vector(u), Value::Vector(v)) => Value::Vector(u + weight * v),
            (under, _) => under,
        },
        (_, LayerMode::Override) => match (under, over) {
            (Value::Scalar(u), Value::Scalar(v)) => Value::Scalar(u + weight * (v - u)),
            (Value::Vector(u), Value::Vector(v)) => Value::Vector(u + weight * (v - u)),
            (under, over) => switched(under, over),
        },
    }
}

/// `factor^weight`; a factor of zero or below counts wholly from half weight on, as it has no such power.
fn power(factor: f64, weight: f64) -> f64 {
    if factor > 0.0 {
        factor.powf(weight)
    } else if weight >= 0.5 {
        factor
    } else {
        1.0
    }
}

fn rotated(mode: LayerMode, mixing: RotationMixing, under: Value, over: Value, weight: f64) -> Value {
    if let (
        RotationMixing::ByComponent,
        Value::Euler { order, angles: u },
        Value::Euler { order: other, angles: v },
    ) = (mixing, &under, &over)
        && order == other
    {
        let angles = match mode {
            LayerMode::Additive => *u + weight * *v,
            LayerMode::Override => *u + weight * (*v - *u),
        };
        return Value::Euler { order: *order, angles };
    }
    let (Some(u), Some(v)) = (under.rotation(), over.rotation()) else { return under };
    Value::Quaternion(match mode {
        LayerMode::Additive => u * DQuat::from_scaled_axis(v.to_scaled_axis() * weight),
        LayerMode::Override => u.slerp(if u.dot(v) < 0.0 { -v } else { v }, weight),
    })
}
