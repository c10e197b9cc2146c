//! How a layer's value joins the value under it.

use glam::{DQuat, DVec3};
use nimble_curve_curves::rotation::{from_vector, nearest_vector, to_vector};
use nimble_curve_curves::value::Value;

use crate::scene::{LayerMode, PropertyKind, RotationMixing};

/// The value that changes nothing when it is added: zero, factor one, no rotation.
pub fn neutral(kind: PropertyKind, rest: &Value) -> Value {
    match (kind, rest) {
        (PropertyKind::Scale, _) => Value::Vector(DVec3::ONE),
        (_, Value::Number(_)) => Value::Number(0.0),
        (_, Value::Vector(_)) => Value::Vector(DVec3::ZERO),
        (_, Value::Euler { order, .. }) => Value::Euler { order: *order, angles: DVec3::ZERO },
        (_, Value::Quaternion(_)) => Value::Quaternion(DQuat::IDENTITY),
        (_, Value::Matrix(_)) => Value::Matrix(Box::new(glam::DMat4::IDENTITY)),
        (_, Value::Discrete(_)) => rest.clone(),
    }
}

/// The value of a property with one more layer on it.
///
/// Numbers add `w·v`, scale factors multiply `v^w`, rotations follow the layer's mixing; an override blends
/// linearly or along the great arc. Values that cannot be blended switch over at half weight. `reference` is a rotation
/// vector near to which the turn that the layer makes lies; without one the turn is the shortest.
pub(super) fn layered(
    kind: PropertyKind,
    mode: LayerMode,
    rotations: RotationMixing,
    under: Value,
    over: Value,
    weight: f64,
    reference: Option<DVec3>,
) -> Value {
    let switched = |under: Value, over: Value| if weight >= 0.5 { over } else { under };
    if mode == LayerMode::Override && weight == 1.0 {
        return over;
    }
    match (kind, mode) {
        (PropertyKind::Discrete | PropertyKind::Matrix, _) => switched(under, over),
        (PropertyKind::Rotation, _) => rotated(mode, rotations, under, over, weight, reference),
        (PropertyKind::Scale, LayerMode::Additive) => match (under, over) {
            (Value::Vector(u), Value::Vector(v)) => {
                Value::Vector(DVec3::from_array(std::array::from_fn(|i| u[i] * power(v[i], weight))))
            }
            (under, _) => under,
        },
        (_, LayerMode::Additive) => match (under, over) {
            (Value::Number(u), Value::Number(v)) => Value::Number(u + weight * v),
            (Value::Vector(u), Value::Vector(v)) => Value::Vector(u + weight * v),
            (under, _) => under,
        },
        (_, LayerMode::Override) => match (under, over) {
            (Value::Number(u), Value::Number(v)) => Value::Number(u + weight * (v - u)),
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

fn rotated(
    mode: LayerMode,
    mixing: RotationMixing,
    under: Value,
    over: Value,
    weight: f64,
    reference: Option<DVec3>,
) -> Value {
    if let (
        RotationMixing::Angles,
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
    let (Some(turn), Some(u)) = (turn(mode, &under, &over), under.rotation()) else { return under };
    let whole = match reference {
        _ if weight == 1.0 => return Value::Quaternion(u * turn),
        Some(reference) => nearest_vector(turn, reference),
        None => to_vector(turn),
    };
    Value::Quaternion(u * from_vector(whole * weight))
}

/// The rotation by which a layer of full weight turns what lies under it.
pub(super) fn turn(mode: LayerMode, under: &Value, over: &Value) -> Option<DQuat> {
    let (u, v) = (under.rotation()?, over.rotation()?);
    Some(match mode {
        LayerMode::Additive => v,
        LayerMode::Override => u.conjugate() * v,
    })
}

/// Whether both values are Euler angles of one order.
pub(super) fn same_order(under: &Value, over: &Value) -> bool {
    matches!((under, over), (Value::Euler { order: a, .. }, Value::Euler { order: b, .. }) if a == b)
}
