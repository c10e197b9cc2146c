//! How a layer joins what lies under it.

use glam::{DAffine3, DMat3, DMat4, DQuat, DVec3};

use super::{Kind, Layer, Step, Track, Value};
use crate::turn::{exp, log, log_near, of_angles};

/// What a step makes of its value.
pub(super) fn placed(step: &Step, value: &Value) -> (DAffine3, DQuat) {
    let turned = |q: DQuat| (DAffine3::from_quat(q), q);
    let still = |affine: DAffine3| (affine, DQuat::IDENTITY);
    match (step.kind.as_str(), value) {
        ("translate", Value::Numbers(v)) => still(DAffine3::from_translation(DVec3::from_slice(v))),
        ("scale", Value::Numbers(v)) => still(DAffine3::from_scale(DVec3::from_slice(v))),
        ("rotate_axis", Value::Numbers(v)) => {
            turned(DQuat::from_axis_angle(step.axis.normalize(), v[0].to_radians()))
        }
        ("shear", Value::Numbers(v)) => {
            // x by y, x by z, y by z.
            let m = DMat3::from_cols(DVec3::X, DVec3::new(v[0], 1.0, 0.0), DVec3::new(v[1], v[2], 1.0));
            still(DAffine3 { matrix3: m, translation: DVec3::ZERO })
        }
        ("matrix", Value::Numbers(v)) => {
            let affine = DAffine3::from_mat4(DMat4::from_cols_slice(v));
            (affine, affine.to_scale_rotation_translation().1)
        }
        (_, value) => turned(value.turn().unwrap_or(DQuat::IDENTITY)),
    }
}

pub(super) fn neutral(kind: Kind, rest: &Value) -> Value {
    match (kind, rest) {
        (Kind::Scale, _) => Value::Numbers(vec![1.0; 3]),
        (Kind::Matrix, _) => Value::Numbers(DMat4::IDENTITY.to_cols_array().to_vec()),
        (_, Value::Numbers(list)) => Value::Numbers(vec![0.0; list.len()]),
        (_, Value::Angles(order, _)) => Value::Angles(order.clone(), [0.0; 3]),
        (_, Value::Turn(_)) => Value::Turn(DQuat::IDENTITY),
        (_, word) => word.clone(),
    }
}

pub(super) fn weight(layer: &Layer, frame: f64) -> f64 {
    layer.weight_curve.as_ref().map_or(layer.weight, |curve| curve.at(frame).unwrap_or(0.0))
}

/// The value of some layers, one on the other.
pub(super) fn under(
    movers: &[(&Layer, &Track)],
    kind: Kind,
    rest: &Value,
    range: (f64, f64),
    rate: f64,
    frame: f64,
) -> Value {
    let mut value = rest.clone();
    for (index, (layer, track)) in movers.iter().enumerate() {
        let w = weight(layer, frame);
        if w == 0.0 {
            continue;
        }
        let own_rest = if layer.adds { neutral(kind, rest) } else { rest.clone() };
        let at = |frame: f64| track.controller.at(kind, &own_rest, rate, frame);
        let over = at(frame);
        let near = needs_branch(layer, kind).then(|| {
            let (start, round) = track.round.get_or_init(|| {
                let below = |frame: f64| under(&movers[..index], kind, rest, range, rate, frame);
                let keyed = track.controller.span();
                let whole = keyed.map_or(range, |(a, b)| (range.0.min(a), range.1.max(b)));
                followed(layer.adds, whole, rate, &at, &below)
            });
            nearest(*start, round, rate, frame)
        });
        value = mixed(kind, layer.adds, layer.by_quaternion, value, over, w, near);
    }
    value
}

pub(super) fn needs_branch(layer: &Layer, kind: Kind) -> bool {
    let is_whole = layer.weight_curve.is_none() && (layer.weight == 1.0 || layer.weight == 0.0);
    kind == Kind::Rotation && !is_whole
}

/// How far round a layer's turn has come, followed from the start in steps of a 240th of a second.
pub(super) fn followed(
    adds: bool,
    range: (f64, f64),
    rate: f64,
    over: &dyn Fn(f64) -> Value,
    below: &dyn Fn(f64) -> Value,
) -> (f64, Vec<DVec3>) {
    let step = rate / 240.0;
    let count = ((range.1 - range.0) / step).ceil() as usize + 1;
    let turn = |frame: f64| {
        let own = over(frame).turn().unwrap_or(DQuat::IDENTITY);
        if adds { own } else { below(frame).turn().unwrap_or(DQuat::IDENTITY).conjugate() * own }
    };
    // Angles tell how far round they are: turned up from nothing.
    let mut near = match (adds, over(range.0)) {
        (true, Value::Angles(order, angles)) => (1..=128).fold(DVec3::ZERO, |near, part| {
            log_near(of_angles(&order, angles.map(|angle| angle * f64::from(part) / 128.0)), near)
        }),
        _ => DVec3::ZERO,
    };
    let mut round = Vec::new();
    for index in 0..=count {
        near = log_near(turn(range.0 + index as f64 * step), near);
        round.push(near);
    }
    (range.0, round)
}

/// The one of those at a frame.
pub(super) fn nearest(start: f64, round: &[DVec3], rate: f64, frame: f64) -> DVec3 {
    let index = ((frame - start) * 240.0 / rate).round().clamp(0.0, (round.len() - 1) as f64);
    round[index as usize]
}

pub(super) fn mixed(
    kind: Kind,
    adds: bool,
    by_quaternion: bool,
    under: Value,
    over: Value,
    w: f64,
    near: Option<DVec3>,
) -> Value {
    if !adds && w == 1.0 {
        return over;
    }
    let each = |a: &[f64], b: &[f64], f: &dyn Fn(f64, f64) -> f64| {
        Value::Numbers(a.iter().zip(b).map(|(a, b)| f(*a, *b)).collect())
    };
    match (kind, &under, &over) {
        (Kind::Word | Kind::Matrix, ..) => {
            if w >= 0.5 {
                over
            } else {
                under
            }
        }
        (Kind::Rotation, Value::Angles(order, a), Value::Angles(other, b))
            if !by_quaternion && order == other =>
        {
            let at =
                |axis: usize| if adds { a[axis] + w * b[axis] } else { a[axis] + w * (b[axis] - a[axis]) };
            Value::Angles(order.clone(), [at(0), at(1), at(2)])
        }
        (Kind::Rotation, a, b) => {
            let (Some(a), Some(b)) = (a.turn(), b.turn()) else { return under };
            let turn = if adds { b } else { a.conjugate() * b };
            if w == 1.0 {
                return Value::Turn(a * turn);
            }
            let whole = near.map_or_else(|| log(turn), |near| log_near(turn, near));
            Value::Turn(a * exp(whole * w))
        }
        (Kind::Scale, Value::Numbers(a), Value::Numbers(b)) if adds => each(a, b, &|a, b| {
            if b > 0.0 {
                a * b.powf(w)
            } else if w >= 0.5 {
                a * b
            } else {
                a
            }
        }),
        (_, Value::Numbers(a), Value::Numbers(b)) if adds => each(a, b, &|a, b| a + w * b),
        (_, Value::Numbers(a), Value::Numbers(b)) => each(a, b, &|a, b| a + w * (b - a)),
        _ => under,
    }
}
