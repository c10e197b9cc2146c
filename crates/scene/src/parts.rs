//! Transforms taken apart into scale, rotation and translation, also such as have no size along an axis.

use glam::{DAffine3, DMat3, DQuat, DVec3};

/// How small the volume of a transform may be, in proportion to its lengths, before its axes do not tell a rotation.
const FLATTEST: f64 = 1e-9;

/// The scale, the rotation and the translation whose product a transform is, but for what it shears.
///
/// An axis without length points where the others leave it: a rotation is a rotation always, whatever the scale.
pub fn decomposed(affine: &DAffine3) -> (DVec3, DQuat, DVec3) {
    let matrix = affine.matrix3;
    let lengths = DVec3::from_array([0, 1, 2].map(|axis| matrix.col(axis).length()));
    let (volume, box_of) = (matrix.determinant(), lengths.element_product());
    if box_of.is_normal() && volume.abs() > FLATTEST * box_of {
        return affine.to_scale_rotation_translation();
    }
    // The longest axis stands, each other one is what is left of it beside those before.
    let mut order = [0, 1, 2];
    order.sort_by(|a, b| lengths[*b].total_cmp(&lengths[*a]));
    let mut axes = [DVec3::ZERO; 3];
    let mut known: Vec<usize> = Vec::with_capacity(3);
    for axis in order {
        let left =
            known.iter().fold(matrix.col(axis), |left, other| left - axes[*other] * axes[*other].dot(left));
        let is_telling = left.length() > FLATTEST * lengths[axis];
        axes[axis] = match (left.try_normalize().filter(|_| is_telling), known.as_slice()) {
            (Some(unit), _) => unit,
            (None, []) => DVec3::AXES[axis],
            (None, [only]) => beside(axes[*only], axis, *only),
            (None, _) => {
                let [one, other] = [(axis + 1) % 3, (axis + 2) % 3];
                axes[one].cross(axes[other])
            }
        };
        known.push(axis);
    }
    let mut scale = lengths;
    let turned = DMat3::from_cols(axes[0], axes[1], axes[2]);
    // A mirrored one is mirrored along x, as others are.
    let turned = match turned.determinant() < 0.0 {
        true => {
            scale.x = -scale.x;
            DMat3::from_cols(-axes[0], axes[1], axes[2])
        }
        false => turned,
    };
    (scale, DQuat::from_mat3(&turned).normalize(), affine.translation)
}

/// The angle between the axes of two transforms, mirrored ones included: by the distance of their matrices, which for an angle θ is
/// √8 · sin(θ/2) (Huynh, J. Math. Imaging Vis. 35, 2009).
pub fn axes_apart(a: DMat3, b: DMat3) -> f64 {
    let unit = |m: DMat3| {
        DMat3::from_cols(
            m.x_axis.normalize_or_zero(),
            m.y_axis.normalize_or_zero(),
            m.z_axis.normalize_or_zero(),
        )
    };
    let apart = (unit(a) - unit(b)).to_cols_array().into_iter().map(|n| n * n).sum::<f64>();
    2.0 * (apart / 8.0).sqrt().min(1.0).asin()
}

/// A unit vector at a right angle to another: near the coordinate axis that it stands for, where that is one.
fn beside(unit: DVec3, axis: usize, other: usize) -> DVec3 {
    let wanted = DVec3::AXES[axis];
    let left = wanted - unit * unit.dot(wanted);
    left.try_normalize().filter(|_| left.length() > 0.1).unwrap_or_else(|| {
        let third = DVec3::AXES[3 - axis - other];
        (third - unit * unit.dot(third)).normalize()
    })
}

/// A matrix with its columns brought to length 1.
pub fn unscaled(matrix: glam::DMat3) -> glam::DMat3 {
    let unit = |v: DVec3| v.try_normalize().unwrap_or(v);
    glam::DMat3::from_cols(unit(matrix.x_axis), unit(matrix.y_axis), unit(matrix.z_axis))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rotation_comes_back_under_any_scale() {
        let place = DVec3::new(1.0, -2.0, 3.0);
        for turn in
            [DQuat::IDENTITY, DQuat::from_xyzw(0.1, -0.5, 0.3, 0.7).normalize(), DQuat::from_rotation_x(3.0)]
        {
            for scale in [
                [1.0, 1.0, 1.0],
                [2.0, 0.5, 3.0],
                [0.0, 1.0, 1.0],
                [1.0, 0.0, 2.0],
                [1.0, 1.0, 0.0],
                [0.0, 0.0, 1.0],
                [0.0, 0.0, 0.0],
                [1e-200, 1.0, 1.0],
                [-1.0, 1.0, 1.0],
                [-1.0, 2.0, 0.0],
                [1e-12, 1e-12, 1e-12],
            ] {
                let affine = DAffine3::from_scale_rotation_translation(DVec3::from_array(scale), turn, place);
                let (found, rotation, there) = decomposed(&affine);
                assert!(rotation.is_normalized() && found.is_finite() && there == place, "{scale:?}");
                // What it was taken apart into is what it was.
                let again = DAffine3::from_scale_rotation_translation(found, rotation, there);
                assert!(again.abs_diff_eq(affine, 1e-12), "{scale:?}: {found} {rotation}");
                let missing = scale.iter().filter(|size| **size == 0.0).count();
                // Two axes tell a rotation, and one that is mirrored is told in another way.
                if missing < 2 && scale.iter().all(|size| *size >= 0.0) {
                    assert!(rotation.angle_between(turn) < 1e-7, "{scale:?}: {rotation} {turn}");
                }
            }
        }
    }
}
