//! Whole matrices as translation, rotation and scale, and what of them these cannot say.

use glam::{DMat4, DQuat};
use nimble_curve_core::controller::SampleKind;
use nimble_curve_core::parts::decomposed;

/// Matrices of keys, taken apart.
pub struct TakenApart {
    /// Translation, rotation (quaternions of one sign) and scale; each with the name of its property and its numbers.
    pub parts: [(&'static str, SampleKind, Vec<f64>); 3],
    /// By how much the axes of a matrix leave the right angle at most, in radians: that is lost.
    pub sheared: f64,
}

impl TakenApart {
    /// What there is to say of the matrices of a node or attribute.
    pub fn note(&self, whose: &str) -> Option<String> {
        /// What single precision makes of right angles.
        const ROUNDING: f64 = 1e-4;
        (self.sheared > ROUNDING).then(|| {
            let most = self.sheared.to_degrees();
            format!("{whose}: its matrices shear, by {most:.2} deg at most, which is left out: it has no place in translation, rotation and scale")
        })
    }
}

/// Takes matrices of keys apart.
pub fn taken_apart(matrices: impl Iterator<Item = DMat4>) -> TakenApart {
    let (mut moved, mut turned, mut sized) = (Vec::new(), Vec::new(), Vec::new());
    // The cosine between two axes, which is nothing at right angles.
    let (mut last, mut leaning) = (DQuat::IDENTITY, 0.0_f64);
    for matrix in matrices {
        let axes = [0, 1, 2].map(|axis| matrix.col(axis).truncate().normalize_or_zero());
        for (one, other) in [(0, 1), (1, 2), (2, 0)] {
            leaning = leaning.max(axes[one].dot(axes[other]).abs());
        }
        let (scale, rotation, translation) = decomposed(&glam::DAffine3::from_mat4(matrix));
        let rotation = if rotation.is_finite() { rotation } else { last };
        last = if last.dot(rotation) < 0.0 { -rotation } else { rotation };
        moved.extend(translation.to_array());
        turned.extend(last.to_array());
        sized.extend(scale.to_array());
    }
    // A scale that never leaves 1 is none, but for the rounding of matrices.
    if sized.iter().all(|v| (v - 1.0).abs() <= 1e-5) {
        sized.clear();
    }
    let parts = [
        ("translation", SampleKind::Vector, moved),
        ("rotation", SampleKind::Quaternion, turned),
        ("scale", SampleKind::Vector, sized),
    ];
    TakenApart { parts, sheared: leaning.min(1.0).asin() }
}
