//! Rotation vectors: the logarithm of a rotation, an axis times an angle, and its continuous branch.

use std::f64::consts::TAU;

use glam::{DQuat, DVec3};

/// The shortest rotation vector of a rotation: axis times angle, 0 to π radians.
pub fn to_vector(rotation: DQuat) -> DVec3 {
    let q = if rotation.w < 0.0 { -rotation } else { rotation };
    let sine = q.xyz().length();
    if sine < 1e-150 {
        return q.xyz() * 2.0;
    }
    q.xyz() * (2.0 * sine.atan2(q.w) / sine)
}

/// The rotation of a rotation vector.
pub fn from_vector(vector: DVec3) -> DQuat {
    let angle = vector.length();
    let half = 0.5 * angle;
    // sin(x)/x is 1 − x²/6 to the last bit for small x.
    let factor = if angle < 1e-4 { 0.5 - half * half / 12.0 } else { half.sin() / angle };
    let v = vector * factor;
    DQuat::from_xyzw(v.x, v.y, v.z, half.cos())
}

/// The rotation vector of a rotation that lies nearest to `reference`, any number of whole turns allowed.
pub fn nearest_vector(rotation: DQuat, reference: DVec3) -> DVec3 {
    let shortest = to_vector(rotation);
    let angle = shortest.length();
    // The axis of hardly any rotation is that of the path so far.
    let axis = if angle > 1e-9 { shortest / angle } else { reference.normalize_or_zero() };
    let turns = ((reference.dot(axis) - angle) / TAU).round();
    if turns == 0.0 { shortest } else { axis * (angle + TAU * turns) }
}

/// The rotation that is `part` of the way from one to another along the great arc; any part.
pub fn along_arc(from: DQuat, to: DQuat, part: f64) -> DQuat {
    from * from_vector(to_vector(from.conjugate() * to) * part)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::rotation::angle_between;

    proptest! {
        #[test]
        fn vectors_and_rotations_are_each_others_inverse(v in prop::array::uniform3(-1.8..1.8_f64)) {
            let v = DVec3::from(v);
            let q = from_vector(v);
            prop_assert!((q.length() - 1.0).abs() < 1e-14);
            prop_assert!(angle_between(q, DQuat::from_scaled_axis(v)) < 1e-14);
            if v.length() < 3.1 {
                prop_assert!(to_vector(q).abs_diff_eq(v, 1e-13));
                prop_assert!(to_vector(-q).abs_diff_eq(v, 1e-13));
            }
        }

        #[test]
        fn the_nearest_vector_follows_a_path_through_whole_turns(
            axis in prop::array::uniform3(-1.0..1.0_f64), turn in -30.0..30.0_f64
        ) {
            let axis = DVec3::from(axis);
            prop_assume!(axis.length() > 0.1);
            let axis = axis.normalize();
            let mut followed = DVec3::ZERO;
            for step in 1..=200 {
                followed = nearest_vector(from_vector(axis * (turn * f64::from(step) / 200.0)), followed);
            }
            prop_assert!(followed.abs_diff_eq(axis * turn, 1e-9), "{followed} {}", axis * turn);
        }
    }

    #[test]
    fn tiny_rotations_keep_their_digits() {
        let v = DVec3::new(1e-200, -3e-12, 2e-9);
        assert!((to_vector(from_vector(v)) - v).abs().max_element() < 1e-24);
    }
}
