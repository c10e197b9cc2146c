//! What a rotation's channels are while it is fitted: angles of an order, or the components of a quaternion.

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler, quat_from_euler};
use nimble_curve_scene::controller::{QuaternionCurve, QuaternionInterpolation, QuaternionKey};

/// A rotation at each sample, and how channels say it.
#[derive(Clone, Debug)]
pub(super) struct Rotation {
    pub said_by: SaidBy,
    /// The rotations at the samples.
    pub turns: Vec<DQuat>,
}

/// The numbers that say a rotation.
#[derive(Clone, Copy, Debug)]
pub(super) enum SaidBy {
    /// Three angles.
    Angles(RotationOrder),
    /// Four components, of the rotation from this one on: near it only three of them turn anything.
    Components(DQuat),
}

impl SaidBy {
    /// The rotation that channels say.
    pub fn turn(self, numbers: &[f64]) -> DQuat {
        match self {
            SaidBy::Angles(order) => quat_from_euler(order, DVec3::from_slice(numbers)),
            SaidBy::Components(from) => from * DQuat::from_slice(numbers).normalize(),
        }
    }

    /// The numbers that say a rotation, of all that do those nearest to some.
    pub fn numbers(self, turn: DQuat, near: DVec4) -> DVec4 {
        match self {
            SaidBy::Angles(order) => nearest_euler(order, turn, near.truncate()).extend(0.0),
            SaidBy::Components(from) => {
                let own = DVec4::from(from.conjugate() * turn);
                if own.dot(near) < 0.0 { -own } else { own }
            }
        }
    }

    /// How far off a channel may be for one radian off in all.
    pub fn scale(self) -> f64 {
        match self {
            SaidBy::Angles(_) => 1.0,
            SaidBy::Components(_) => 0.5,
        }
    }
}

/// Rotations of one sign, and the one in their midst.
pub(super) fn of_one_sign(turns: &[DQuat]) -> (Vec<DQuat>, DQuat) {
    let mut last = turns[0];
    let mut sum = DVec4::ZERO;
    let follow = |turn: &DQuat| {
        last = if last.dot(*turn) < 0.0 { -*turn } else { *turn };
        sum += DVec4::from(last);
        last
    };
    let own: Vec<DQuat> = turns.iter().map(follow).collect();
    // Where they lie all around, any will do.
    let middle =
        if sum.length() > 1e-3 * turns.len() as f64 { DQuat::from_vec4(sum).normalize() } else { own[0] };
    (own, middle)
}

/// Curves of four components, of rotations from one on, with the same key times, as quaternion keys.
pub(super) fn quaternion_keys(from: DQuat, curves: &[Curve; 4]) -> QuaternionCurve {
    let from = from.normalize();
    let turned = |numbers: DVec4| DVec4::from(from * DQuat::from_vec4(numbers));
    let own = curves.each_ref().map(|curve| curve.keys());
    let key = |index: usize| {
        let each = |number: &dyn Fn(usize) -> f64| turned(DVec4::from_array([0, 1, 2, 3].map(number)));
        QuaternionKey {
            time: own[0][index].time,
            value: DQuat::from_vec4(each(&|c| own[c][index].value)).normalize(),
            interpolation: QuaternionInterpolation::Cubic,
            tangent_in: each(&|c| own[c][index].tangent_in.slope_per_second()),
            tangent_out: each(&|c| own[c][index].tangent_out.slope_per_second()),
        }
    };
    QuaternionCurve { keys: (0..own[0].len()).map(key).collect(), ..QuaternionCurve::default() }
}
