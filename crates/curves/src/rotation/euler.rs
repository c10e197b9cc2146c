//! Euler angles: to and from quaternions, angular velocity, and the candidate nearest to a path.
//!
//! With the axes `a`, `b`, `c` of an order (outermost first) a rotation is `R = R_a(θa)·R_b(θb)·R_c(θc)` and its
//! angular velocity in the parent's frame is `ω = E(θ)·θ̇`, the columns of `E` being `a`, `R_a·b`, `R_a·R_b·c`.
//! `det E = ±cos θb`: it vanishes at the pole.

use std::f64::consts::{FRAC_PI_2, PI, TAU};

use glam::{DMat3, DQuat, DVec3};

use super::RotationOrder;

/// Below this cosine of the middle angle the two outer angles cannot be told apart in `f64`.
const POLE_COSINE: f64 = 1e-9;

/// The quaternion of Euler angles, radians by axis.
pub fn quat_from_euler(order: RotationOrder, angles: DVec3) -> DQuat {
    let (a, b, c) = order.axes();
    turn(a, angles[a]) * turn(b, angles[b]) * turn(c, angles[c])
}

/// A turn about one coordinate axis.
fn turn(axis: usize, angle: f64) -> DQuat {
    let (sin, cos) = (angle * 0.5).sin_cos();
    match axis {
        0 => DQuat::from_xyzw(sin, 0.0, 0.0, cos),
        1 => DQuat::from_xyzw(0.0, sin, 0.0, cos),
        _ => DQuat::from_xyzw(0.0, 0.0, sin, cos),
    }
}

/// Euler angles of a rotation with the middle angle within ±90°, radians by axis.
///
/// At the pole, where only the sum or difference of the outer angles is determined, the innermost is 0.
pub fn principal_euler(order: RotationOrder, rotation: DQuat) -> DVec3 {
    let (a, b, c) = order.axes();
    let solution = Solution::of(order, rotation);
    let mut angles = DVec3::ZERO;
    angles[b] = solution.middle;
    (angles[a], angles[c]) = match solution.outer {
        Outer::Apart { outermost, innermost } => (outermost, innermost),
        Outer::Merged { sum, .. } => (sum, 0.0),
    };
    angles
}

/// The other angles of the same rotation: half round, and up the other side.
pub fn other_reading(order: RotationOrder, angles: DVec3) -> DVec3 {
    let (outer, middle, inner) = order.axes();
    let mut other = angles;
    other[outer] += if angles[outer] > 0.0 { -PI } else { PI };
    other[inner] += if angles[inner] > 0.0 { -PI } else { PI };
    other[middle] = if angles[middle] > 0.0 { PI } else { -PI } - angles[middle];
    other
}

/// The Euler angles of a rotation that lie nearest to `reference`, radians by axis.
///
/// Out of both branches, (θa, θb, θc) and (θa+π, π−θb, θc+π), each with any multiple of a full turn; at the pole
/// the nearest point of the line of solutions.
pub fn nearest_euler(order: RotationOrder, rotation: DQuat, reference: DVec3) -> DVec3 {
    let (a, b, c) = order.axes();
    let solution = Solution::of(order, rotation);
    let near = |outermost: f64, middle: f64, innermost: f64| {
        let mut angles = DVec3::ZERO;
        angles[a] = nearest_turn(outermost, reference[a]);
        angles[b] = nearest_turn(middle, reference[b]);
        angles[c] = nearest_turn(innermost, reference[c]);
        angles
    };
    match solution.outer {
        Outer::Apart { outermost, innermost } => {
            let first = near(outermost, solution.middle, innermost);
            let second = near(outermost + PI, PI - solution.middle, innermost + PI);
            if first.distance_squared(reference) <= second.distance_squared(reference) {
                first
            } else {
                second
            }
        }
        Outer::Merged { sum, sign } => {
            // Only the sum is determined: share what the reference lacks of it evenly.
            let wanted = reference[a] + sign * reference[c];
            let lacking = nearest_turn(sum, wanted) - wanted;
            near(reference[a] + 0.5 * lacking, solution.middle, reference[c] + 0.5 * sign * lacking)
        }
    }
}

/// `angle` plus the whole turns that bring it nearest to `reference`, all in radians.
pub fn nearest_turn(angle: f64, reference: f64) -> f64 {
    angle + TAU * ((reference - angle) / TAU).round()
}

/// The solutions of `R_a(θa)·R_b(θb)·R_c(θc) = R` with the middle angle within ±90°.
struct Solution {
    middle: f64,
    outer: Outer,
}

/// The outermost and the innermost angle, as far as they are determined.
enum Outer {
    /// Away from the pole: both.
    Apart { outermost: f64, innermost: f64 },
    /// At the pole: only `sum = θa + sign·θc`.
    Merged { sum: f64, sign: f64 },
}

impl Solution {
    fn of(order: RotationOrder, rotation: DQuat) -> Solution {
        let (a, b, c) = order.axes();
        let e = order.sign();
        let m = DMat3::from_quat(rotation.normalize());
        let at = |row: usize, column: usize| m.col(column)[row];
        // R[a][c] = ε·sin θb, R[b][c] = −ε·sin θa·cos θb, R[c][c] = cos θa·cos θb, and likewise for c.
        let cosine = at(b, c).hypot(at(c, c));
        let middle = (e * at(a, c)).atan2(cosine);
        let outer = if cosine > POLE_COSINE {
            Outer::Apart {
                outermost: (-e * at(b, c)).atan2(at(c, c)),
                innermost: (-e * at(a, b)).atan2(at(a, a)),
            }
        } else {
            // At θb = ±90° the innermost axis lies along ±ε·a, so R = R_a(θa ± ε·θc)·R_b(θb).
            Outer::Merged { sum: (e * at(c, b)).atan2(at(b, b)), sign: e * middle.signum() }
        };
        Solution { middle, outer }
    }
}

/// The angular velocity in the parent's frame, radians per second, of angles that change at `rates`.
pub fn velocity_from_rates(order: RotationOrder, angles: DVec3, rates: DVec3) -> DVec3 {
    let (a, b, c) = order.axes();
    let (sin, cos) = angles[b].sin_cos();
    let mut inner = DVec3::ZERO;
    inner[a] = rates[a] + order.sign() * sin * rates[c];
    inner[b] = rates[b];
    inner[c] = cos * rates[c];
    turn(a, angles[a]) * inner
}

/// The rates of the angles, radians per second, that give this angular velocity; `None` at the pole.
pub fn rates_from_velocity(order: RotationOrder, angles: DVec3, velocity: DVec3) -> Option<DVec3> {
    let (a, b, c) = order.axes();
    let (sin, cos) = angles[b].sin_cos();
    if cos.abs() <= POLE_COSINE {
        return None;
    }
    let inner = turn(a, -angles[a]) * velocity;
    let mut rates = DVec3::ZERO;
    rates[c] = inner[c] / cos;
    rates[b] = inner[b];
    rates[a] = inner[a] - order.sign() * sin * rates[c];
    Some(rates)
}

/// How far a rotation is from the pole of an order: 90° minus the size of the middle angle, in radians.
pub fn pole_distance(order: RotationOrder, rotation: DQuat) -> f64 {
    FRAC_PI_2 - Solution::of(order, rotation).middle.abs()
}

/// The angle of the rotation that leads from `from` to `to`, in radians, 0 to π: the error of a rotation.
pub fn angle_between(from: DQuat, to: DQuat) -> f64 {
    let between = from.conjugate() * to;
    2.0 * DVec3::new(between.x, between.y, between.z).length().atan2(between.w.abs())
}

#[cfg(test)]
mod tests {
    use glam::EulerRot;
    use proptest::prelude::*;

    use super::*;

    /// The vector library's name for each order; its names list the axes of the product from left to right.
    fn independent(order: RotationOrder) -> EulerRot {
        match order {
            RotationOrder::Xyz => EulerRot::ZYX,
            RotationOrder::Xzy => EulerRot::YZX,
            RotationOrder::Yxz => EulerRot::ZXY,
            RotationOrder::Yzx => EulerRot::XZY,
            RotationOrder::Zxy => EulerRot::YXZ,
            RotationOrder::Zyx => EulerRot::XYZ,
        }
    }

    fn any_order() -> impl Strategy<Value = RotationOrder> {
        prop::sample::select(RotationOrder::ALL.to_vec())
    }

    fn any_angles() -> impl Strategy<Value = DVec3> {
        prop::array::uniform3(-10.0..10.0_f64).prop_map(DVec3::from)
    }

    #[test]
    fn an_order_lists_the_axes_as_they_act_on_a_vector() {
        // Turn x→y about z, then y→z about x: the vector x ends at z only if z acts first.
        let quarter = DVec3::new(FRAC_PI_2, 0.0, FRAC_PI_2);
        assert!((quat_from_euler(RotationOrder::Zyx, quarter) * DVec3::X).abs_diff_eq(DVec3::Z, 1e-12));
        assert!((quat_from_euler(RotationOrder::Xyz, quarter) * DVec3::X).abs_diff_eq(DVec3::Y, 1e-12));
    }

    proptest! {
        #[test]
        fn all_orders_agree_with_an_independent_source(order in any_order(), angles in any_angles()) {
            let (a, b, c) = order.axes();
            let theirs = DQuat::from_euler(independent(order), angles[a], angles[b], angles[c]);
            prop_assert!(angle_between(quat_from_euler(order, angles), theirs) < 1e-12);
        }

        #[test]
        fn the_nearest_candidate_is_the_same_rotation_and_keeps_the_path(
            order in any_order(), angles in any_angles(), step in prop::array::uniform3(-0.2..0.2_f64)
        ) {
            let q = quat_from_euler(order, angles);
            let reference = angles + DVec3::from(step);
            let found = nearest_euler(order, q, reference);
            prop_assert!(angle_between(quat_from_euler(order, found), q) < 1e-7);
            prop_assert!(found.distance(reference) <= DVec3::from(step).length() + 1e-7);
        }

        #[test]
        fn the_other_reading_is_the_same_rotation_and_goes_no_farther_round(
            order in any_order(), angles in prop::array::uniform3(-3.1..3.1_f64).prop_map(DVec3::from)
        ) {
            let other = other_reading(order, angles);
            let (q, turned) = (quat_from_euler(order, angles), quat_from_euler(order, other));
            prop_assert!(angle_between(q, turned) < 1e-7);
            prop_assert!(other.abs().max_element() <= PI, "{other} of {angles}");
            prop_assert!((other - angles).abs().min_element() > 0.0);
            // The way back is the same one.
            prop_assert!(other_reading(order, other).abs_diff_eq(angles, 1e-12));
        }

        #[test]
        fn at_the_pole_only_what_is_lacking_changes(
            order in any_order(), angles in any_angles(), positive in any::<bool>()
        ) {
            let mut angles = angles;
            angles[order.middle()] = if positive { FRAC_PI_2 } else { -FRAC_PI_2 };
            let q = quat_from_euler(order, angles);
            let found = nearest_euler(order, q, angles);
            prop_assert!(found.distance(angles) < 1e-6, "{found} {angles}");
            prop_assert!(angle_between(quat_from_euler(order, principal_euler(order, q)), q) < 1e-7);
        }

        #[test]
        fn rates_and_velocity_are_each_others_inverse_and_match_differences(
            order in any_order(), angles in any_angles(), rates in prop::array::uniform3(-3.0..3.0_f64)
        ) {
            let rates = DVec3::from(rates);
            let velocity = velocity_from_rates(order, angles, rates);
            let h = 1e-6;
            let before = quat_from_euler(order, angles - rates * h);
            let after = quat_from_euler(order, angles + rates * h);
            let measured = (after * before.conjugate()).to_scaled_axis() / (2.0 * h);
            prop_assert!(measured.abs_diff_eq(velocity, 1e-5), "{measured} {velocity}");
            if angles[order.middle()].cos().abs() > 1e-3 {
                let back = rates_from_velocity(order, angles, velocity).unwrap();
                prop_assert!(back.abs_diff_eq(rates, 1e-9));
            }
        }
    }
}
