//! Rotation orders: the one place where the convention is stated.

use std::fmt;
use std::str::FromStr;

use thiserror::Error;

/// The order in which the three turns of an Euler rotation act.
///
/// **Convention.** The name lists the axes in the order in which they act on a vector: `xyz` turns about x
/// first, then about the fixed y axis, then about the fixed z axis. On column vectors that is the product
///
/// ```text
/// R = Rz(θz) · Ry(θy) · Rx(θx)
/// ```
///
/// so the *last* letter is the outermost turn (it carries the others around) and the *first* letter is the
/// innermost, which turns about the node's own axis. The pole lies where the middle letter's angle is ±90°.
/// A BVH joint whose channels are listed `Zrotation Xrotation Yrotation` means `R = Rz·Rx·Ry`, which is `yxz`
/// here; a `rotateXYZ` of the open scene-description standard is `xyz`.
///
/// Angles are always kept by axis, `[θx, θy, θz]`, whatever the order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum RotationOrder {
    /// x acts first, z is outermost.
    Xyz,
    /// x acts first, y is outermost.
    Xzy,
    /// y acts first, z is outermost.
    Yxz,
    /// y acts first, x is outermost.
    Yzx,
    /// z acts first, y is outermost.
    Zxy,
    /// z acts first, x is outermost.
    Zyx,
}

/// A name that is not one of the six orders.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error(
    "'{0}' is not a rotation order: use one of xyz, xzy, yxz, yzx, zxy, zyx (the axis that acts first comes first)"
)]
pub struct RotationOrderError(pub String);

impl RotationOrder {
    /// All six orders.
    pub const ALL: [RotationOrder; 6] = [
        RotationOrder::Xyz,
        RotationOrder::Xzy,
        RotationOrder::Yxz,
        RotationOrder::Yzx,
        RotationOrder::Zxy,
        RotationOrder::Zyx,
    ];

    /// The axes `(a, b, c)` of `R = R_a(θa)·R_b(θb)·R_c(θc)`: outermost, middle, innermost.
    pub const fn axes(self) -> (usize, usize, usize) {
        match self {
            RotationOrder::Xyz => (2, 1, 0),
            RotationOrder::Xzy => (1, 2, 0),
            RotationOrder::Yxz => (2, 0, 1),
            RotationOrder::Yzx => (0, 2, 1),
            RotationOrder::Zxy => (1, 0, 2),
            RotationOrder::Zyx => (0, 1, 2),
        }
    }

    /// The order whose outermost, middle and innermost axes are `a`, `b` and `c`, if they differ.
    pub fn from_axes(a: usize, b: usize, c: usize) -> Option<RotationOrder> {
        Self::ALL.into_iter().find(|order| order.axes() == (a, b, c))
    }

    /// +1 where outermost, middle, innermost are an even permutation of x, y, z; else -1.
    pub const fn sign(self) -> f64 {
        match self {
            RotationOrder::Zyx | RotationOrder::Xzy | RotationOrder::Yxz => 1.0,
            _ => -1.0,
        }
    }

    /// The axis of the middle turn, whose angle decides how near the pole is.
    pub const fn middle(self) -> usize {
        self.axes().1
    }

    /// The name in small letters, the axis that acts first coming first.
    pub const fn name(self) -> &'static str {
        match self {
            RotationOrder::Xyz => "xyz",
            RotationOrder::Xzy => "xzy",
            RotationOrder::Yxz => "yxz",
            RotationOrder::Yzx => "yzx",
            RotationOrder::Zxy => "zxy",
            RotationOrder::Zyx => "zyx",
        }
    }
}

impl fmt::Display for RotationOrder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl FromStr for RotationOrder {
    type Err = RotationOrderError;
    fn from_str(text: &str) -> Result<RotationOrder, RotationOrderError> {
        Self::ALL
            .into_iter()
            .find(|order| text.eq_ignore_ascii_case(order.name()))
            .ok_or_else(|| RotationOrderError(text.to_owned()))
    }
}
