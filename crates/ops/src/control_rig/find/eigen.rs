//! Eigenvectors of symmetric matrices of three rows.

use glam::{DMat3, DVec3};

/// The matrix a bᵀ.
pub fn outer(a: DVec3, b: DVec3) -> DMat3 {
    DMat3::from_cols(a * b.x, a * b.y, a * b.z)
}

/// The direction along which a symmetric matrix does least, and what it does along its three axes, ascending: by turns that take
/// out what is beside the diagonal (Jacobi, 1846).
pub fn least(matrix: DMat3) -> (DVec3, [f64; 3]) {
    let mut a = matrix;
    let mut axes = DMat3::IDENTITY;
    for _ in 0..24 {
        for (p, q) in [(0, 1), (0, 2), (1, 2)] {
            let beside = a.col(q)[p];
            if beside == 0.0 {
                continue;
            }
            let angle = 0.5 * (2.0 * beside).atan2(a.col(q)[q] - a.col(p)[p]);
            let (sine, cosine) = angle.sin_cos();
            let mut turn = DMat3::IDENTITY;
            turn.col_mut(p)[p] = cosine;
            turn.col_mut(q)[q] = cosine;
            turn.col_mut(q)[p] = sine;
            turn.col_mut(p)[q] = -sine;
            a = turn.transpose() * a * turn;
            axes *= turn;
        }
    }
    let mut found = [0, 1, 2].map(|axis| (a.col(axis)[axis], axes.col(axis)));
    found.sort_by(|(one, _), (other, _)| one.total_cmp(other));
    (found[0].1, found.map(|(size, _)| size))
}
