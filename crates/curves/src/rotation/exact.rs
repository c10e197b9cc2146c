//! Exact ways from one order to another: axes renamed, signs, constant offsets, keys and tangents untouched.
//!
//! `before · R · after` with `R = R_a(θa)·R_b(θb)·R_c(θc)` is exact where for some signed permutation `P` of the axes
//! `before · P⁻¹` and `P · after` are made of turns that can be added to the renamed ones: `P·R_a(θ)·P⁻¹ = R_Pa(±θ)`.
//! Turns that never change fold into the constants around them, so that a wheel, which turns about one axis, is exact
//! in every order.

use std::f64::consts::{FRAC_PI_2, PI, TAU};

use glam::{DMat3, DQuat, DVec3};

use super::{RotationOrder, from_vector, principal_euler};
use crate::curve::Curve;

/// Below this, an angle that rounding leaves is none.
const NONE: f64 = 1e-11;

/// An exact way: which source axis goes to which, with which sign and offset.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ExactWay {
    /// For each source axis, the axis it becomes.
    pub axis: [usize; 3],
    /// For each source axis, 1 or −1.
    pub sign: [f64; 3],
    /// For each new axis, what is added to its angle, in radians.
    pub offset: [f64; 3],
}

impl ExactWay {
    /// Whether nothing changes.
    pub fn is_identity(&self) -> bool {
        self.axis == [0, 1, 2] && self.sign == [1.0; 3] && self.offset == [0.0; 3]
    }

    /// The new angles.
    pub fn angles(&self, angles: [f64; 3]) -> [f64; 3] {
        let mut made = [0.0; 3];
        for (source, angle) in angles.into_iter().enumerate() {
            let axis = self.axis[source];
            made[axis] = self.sign[source] * angle + self.offset[axis];
        }
        made
    }

    /// The curves of the new angles.
    pub fn curves(&self, curves: &[Curve; 3]) -> [Curve; 3] {
        let mut made: [Curve; 3] = Default::default();
        for (source, curve) in curves.iter().enumerate() {
            let axis = self.axis[source];
            let (sign, offset) = (self.sign[source], self.offset[axis]);
            made[axis] =
                if sign == 1.0 && offset == 0.0 { curve.clone() } else { curve.affine(sign, offset) };
        }
        made
    }
}

/// The exact way from curves of one order, between two constant rotations, to another order; `None` where there is none.
///
/// `constant` has for each axis the angle of a channel that never changes. Of several ways the one with the least
/// offsets is taken.
pub fn exact_way(
    from: RotationOrder,
    constant: [Option<f64>; 3],
    before: DQuat,
    after: DQuat,
    to: RotationOrder,
) -> Option<ExactWay> {
    let (a, b, c) = from.axes();
    // Turns that never change fold into the constants, from the outside inwards.
    let (mut before, mut after) = (before.normalize(), after.normalize());
    let mut moving = vec![a, b, c];
    while let Some(angle) = moving.first().and_then(|&axis| constant[axis]) {
        before *= about(moving.remove(0), angle);
    }
    while let Some(angle) = moving.last().and_then(|&axis| constant[axis]) {
        after = about(moving.remove(moving.len() - 1), angle) * after;
    }
    moving.retain(|&axis| constant[axis] != Some(0.0));
    if moving.is_empty() {
        return None;
    }
    let ways = signed_permutations().filter_map(|(permutation, axis, sign)| {
        way(&moving, constant, before, after, to, permutation, axis, sign)
    });
    let size = |way: &ExactWay| {
        way.offset.iter().map(|offset| offset.abs()).sum::<f64>()
            + way.axis.iter().enumerate().filter(|(source, axis)| source != *axis).count() as f64 * 1e-6
            + way.sign.iter().filter(|sign| **sign < 0.0).count() as f64 * 1e-6
    };
    ways.min_by(|a, b| size(a).total_cmp(&size(b)))
}

#[allow(clippy::too_many_arguments)]
fn way(
    moving: &[usize],
    constant: [Option<f64>; 3],
    before: DQuat,
    after: DQuat,
    to: RotationOrder,
    permutation: DQuat,
    axis: [usize; 3],
    sign: [f64; 3],
) -> Option<ExactWay> {
    let (a, b, c) = to.axes();
    let place = |axis: usize| [a, b, c].iter().position(|&own| own == axis).unwrap_or(0);
    let places: Vec<usize> = moving.iter().map(|&source| place(axis[source])).collect();
    if places.windows(2).any(|pair| pair[0] >= pair[1]) {
        return None;
    }
    let (first, last) = (places[0], places[places.len() - 1]);
    // What stands outside may turn about the axes up to the first moving one, what stands inside from the last one on.
    let outside = factored(to, before * permutation.conjugate(), |place| place <= first)?;
    let inside = factored(to, permutation * after, |place| place >= last)?;
    let mut offset: [f64; 3] = (outside + inside).to_array().map(tidy);
    for (source, angle) in constant.iter().enumerate() {
        // Folded or dropped channels keep their keys; their own angle is in the offset by now.
        if let (Some(angle), false) = (angle, moving.contains(&source)) {
            offset[axis[source]] -= sign[source] * angle;
        }
    }
    Some(ExactWay { axis, sign, offset })
}

/// The angles of a rotation in an order, where those at all other places but the allowed ones are zero.
fn factored(order: RotationOrder, rotation: DQuat, allowed: impl Fn(usize) -> bool) -> Option<DVec3> {
    let (a, b, c) = order.axes();
    let first = principal_euler(order, rotation);
    let mut second = first;
    (second[a], second[b], second[c]) = (first[a] + PI, PI - first[b], first[c] + PI);
    let mut pole = first;
    // At the pole the outer angles can be had in either of their places.
    if (first[b].abs() - FRAC_PI_2).abs() < 1e-9 {
        (pole[a], pole[c]) = (0.0, order.sign() * first[b].signum() * first[a]);
    }
    [first, second, pole].into_iter().map(|angles| angles.map(near_zero)).find(|angles| {
        [a, b, c].iter().enumerate().all(|(place, &axis)| allowed(place) || angles[axis].abs() < NONE)
    })
}

/// The same angle between −180° and 180°.
fn near_zero(angle: f64) -> f64 {
    let turned = angle - TAU * (angle / TAU).round();
    if (turned + PI).abs() < NONE { PI } else { turned }
}

/// A multiple of a right angle where only rounding keeps it from one.
fn tidy(angle: f64) -> f64 {
    let rights = (near_zero(angle) / FRAC_PI_2).round();
    if (near_zero(angle) - rights * FRAC_PI_2).abs() < NONE { rights * FRAC_PI_2 } else { near_zero(angle) }
}

fn about(axis: usize, angle: f64) -> DQuat {
    from_vector(DVec3::AXES[axis] * angle)
}

/// The 24 rotations that permute the axes, with what they make of each.
fn signed_permutations() -> impl Iterator<Item = (DQuat, [usize; 3], [f64; 3])> {
    const AXES: [[usize; 3]; 6] = [[0, 1, 2], [0, 2, 1], [1, 0, 2], [1, 2, 0], [2, 0, 1], [2, 1, 0]];
    AXES.into_iter().flat_map(|axis| (0..8).map(move |bits| (axis, bits))).filter_map(|(axis, bits)| {
        let sign = [0, 1, 2].map(|index| if bits >> index & 1 == 1 { -1.0 } else { 1.0 });
        let column = |source: usize| DVec3::AXES[axis[source]] * sign[source];
        let matrix = DMat3::from_cols(column(0), column(1), column(2));
        (matrix.determinant() > 0.0).then(|| (DQuat::from_mat3(&matrix), axis, sign))
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::rotation::{angle_between, quat_from_euler};

    fn any_order() -> impl Strategy<Value = RotationOrder> {
        prop::sample::select(RotationOrder::ALL.to_vec())
    }

    fn turned(way: &ExactWay, angles: DVec3) -> DVec3 {
        let mut made = DVec3::from_array(way.offset);
        for source in 0..3 {
            made[way.axis[source]] += way.sign[source] * angles[source];
        }
        made
    }

    proptest! {
        #[test]
        fn a_change_of_basis_by_a_signed_permutation_is_exact_in_its_renamed_order(
            from in any_order(), which in 0..24_usize, angles in prop::array::uniform3(-7.0..7.0_f64),
            ends in prop::array::uniform2(-3.0..3.0_f64)
        ) {
            let angles = DVec3::from(angles);
            let (permutation, axis, _) = signed_permutations().nth(which).unwrap();
            let (a, b, c) = from.axes();
            let to = RotationOrder::from_axes(axis[a], axis[b], axis[c]).unwrap();
            // Turns about the outermost and the innermost renamed axis are offsets.
            let before = about(axis[a], ends[0]) * permutation;
            let after = permutation.conjugate() * about(axis[c], ends[1]);
            let way = exact_way(from, [None; 3], before, after, to).unwrap();
            let expected = before * quat_from_euler(from, angles) * after;
            prop_assert!(angle_between(quat_from_euler(to, turned(&way, angles)), expected) < 1e-10);
        }

        #[test]
        fn a_way_is_only_given_where_it_is_right(
            from in any_order(), to in any_order(), still in prop::array::uniform3(prop::option::of(prop::sample::select(
                vec![0.0, FRAC_PI_2, 0.7]))),
            which in prop::array::uniform2(0..24_usize), angles in prop::array::uniform3(-7.0..7.0_f64)
        ) {
            let pick = |index: usize| signed_permutations().nth(index).unwrap().0;
            let (before, after) = (pick(which[0]), pick(which[1]));
            if let Some(way) = exact_way(from, still, before, after, to) {
                let mut angles = DVec3::from(angles);
                for (axis, angle) in still.iter().enumerate() {
                    angles[axis] = angle.unwrap_or(angles[axis]);
                }
                let expected = before * quat_from_euler(from, angles) * after;
                prop_assert!(angle_between(quat_from_euler(to, turned(&way, angles)), expected) < 1e-10);
            }
        }

        #[test]
        fn a_wheel_is_exact_in_every_order(from in any_order(), to in any_order(), axis in 0..3_usize) {
            let mut still = [Some(0.0); 3];
            still[axis] = None;
            let way = exact_way(from, still, DQuat::IDENTITY, DQuat::IDENTITY, to).unwrap();
            prop_assert!(way.is_identity(), "{way:?}");
        }
    }

    #[test]
    fn what_is_not_exact_has_no_way() {
        let id = DQuat::IDENTITY;
        assert_eq!(exact_way(RotationOrder::Xyz, [None; 3], id, id, RotationOrder::Zyx), None);
        let tilted = DQuat::from_rotation_y(0.3);
        assert_eq!(
            exact_way(RotationOrder::Xyz, [None; 3], tilted, tilted.conjugate(), RotationOrder::Xyz),
            None
        );
        // Without the middle turn two axes keep their order in three of the six orders.
        let still = [None, Some(0.0), None];
        let exact = RotationOrder::ALL.map(|to| exact_way(RotationOrder::Xyz, still, id, id, to).is_some());
        assert_eq!(exact.iter().filter(|exact| **exact).count(), 3);
    }
}
