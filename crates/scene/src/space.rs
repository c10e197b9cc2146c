//! Space: units, up axis and handedness of a scene, and the exact changes between them.

use std::fmt;

use glam::{DAffine3, DMat3, DQuat, DVec3};
use nimble_curve_curves::rotation::RotationOrder;

/// The axis that points up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum UpAxis {
    /// X up.
    X,
    /// Y up.
    Y,
    /// Z up.
    Z,
}

impl UpAxis {
    /// Which component points up: 0, 1 or 2.
    pub fn index(self) -> usize {
        self as usize
    }
}

impl fmt::Display for UpAxis {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(["x", "y", "z"][self.index()])
    }
}

/// Which way the third axis points when the first two are given.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Handedness {
    /// x × y = z.
    Right,
    /// x × y = -z.
    Left,
}

impl fmt::Display for Handedness {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Handedness::Right => "right",
            Handedness::Left => "left",
        })
    }
}

/// What a scene's numbers mean in the world.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Space {
    /// Metres in one unit of length: 0.01 where the unit is the centimetre.
    pub metres_per_unit: f64,
    /// The axis that points up.
    pub up: UpAxis,
    /// Right- or left-handed.
    pub handedness: Handedness,
}

impl Space {
    /// Right-handed, y up, metres.
    pub const METRES_Y_UP: Space =
        Space { metres_per_unit: 1.0, up: UpAxis::Y, handedness: Handedness::Right };
    /// Right-handed, y up, centimetres.
    pub const CENTIMETRES_Y_UP: Space = Space { metres_per_unit: 0.01, ..Space::METRES_Y_UP };
    /// Right-handed, z up, centimetres.
    pub const CENTIMETRES_Z_UP: Space = Space { up: UpAxis::Z, ..Space::CENTIMETRES_Y_UP };

    /// The axes as those of the right-handed space with y up: for each, which of its axes it is, and with which sign.
    fn axes(&self) -> [(usize, f64); 3] {
        let mut axes = match self.up {
            UpAxis::Y => [(0, 1.0), (1, 1.0), (2, 1.0)],
            UpAxis::Z => [(0, 1.0), (2, -1.0), (1, 1.0)],
            UpAxis::X => [(1, 1.0), (0, -1.0), (2, 1.0)],
        };
        if self.handedness == Handedness::Left {
            let depth = if self.up == UpAxis::Z { 1 } else { 2 };
            axes[depth].1 = -axes[depth].1;
        }
        axes
    }

    /// The short name of the unit where it has one: `m`, `cm`, `mm`, `in`, `ft`; else `None`.
    pub fn unit_name(&self) -> Option<&'static str> {
        UNITS.iter().find(|(_, m)| (m - self.metres_per_unit).abs() < 1e-12).map(|(name, _)| *name)
    }

    /// The length in metres of the unit with this short name.
    pub fn unit_metres(name: &str) -> Option<f64> {
        UNITS.iter().find(|(n, _)| *n == name).map(|(_, m)| *m)
    }
}

const UNITS: [(&str, f64); 6] =
    [("m", 1.0), ("cm", 0.01), ("mm", 0.001), ("in", 0.0254), ("ft", 0.3048), ("km", 1000.0)];

/// A signed permutation of the axes with a factor on lengths: how numbers of one space are said in another.
///
/// Component `i` of a vector in the new space is `sign[i]` times component `source[i]` of the old one.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct AxisMap {
    /// Which old component each new one is.
    pub source: [usize; 3],
    /// Its sign, 1 or −1.
    pub sign: [f64; 3],
    /// What lengths are multiplied by.
    pub scale: f64,
}

impl AxisMap {
    /// The map that changes nothing.
    pub const IDENTITY: AxisMap = AxisMap { source: [0, 1, 2], sign: [1.0; 3], scale: 1.0 };

    /// The map from one space to another.
    ///
    /// Up goes to up, and the first of the other two axes stays the first where it can; between right- and left-handed
    /// spaces the depth axis (the last that is not up) changes its sign.
    pub fn between(from: &Space, to: &Space) -> AxisMap {
        let (from_axes, to_axes) = (from.axes(), to.axes());
        // Both are signed permutations out of one common space: out of the first and into the second.
        let mut map = AxisMap {
            source: [0; 3],
            sign: [1.0; 3],
            scale: if from.metres_per_unit == to.metres_per_unit {
                1.0
            } else {
                from.metres_per_unit / to.metres_per_unit
            },
        };
        for (new, (common, sign)) in to_axes.into_iter().enumerate() {
            let old = from_axes.iter().position(|(axis, _)| *axis == common).unwrap_or(new);
            map.source[new] = old;
            map.sign[new] = sign * from_axes[old].1;
        }
        map
    }

    /// This map, and then another.
    pub fn then(&self, next: &AxisMap) -> AxisMap {
        AxisMap {
            source: next.source.map(|middle| self.source[middle]),
            sign: std::array::from_fn(|axis| next.sign[axis] * self.sign[next.source[axis]]),
            scale: self.scale * next.scale,
        }
    }

    /// Whether nothing changes.
    pub fn is_identity(&self) -> bool {
        self.keeps_axes() && self.scale == 1.0
    }

    /// Whether the axes stay and only lengths change.
    pub fn keeps_axes(&self) -> bool {
        self.source == [0, 1, 2] && self.sign == [1.0; 3]
    }

    /// Where an old axis is among the new ones.
    pub fn target(&self, old: usize) -> usize {
        self.source.iter().position(|&source| source == old).unwrap_or(old)
    }

    /// 1 where the map keeps handedness, −1 where it mirrors.
    pub fn determinant(&self) -> f64 {
        let even = matches!(self.source, [0, 1, 2] | [1, 2, 0] | [2, 0, 1]);
        self.sign.iter().product::<f64>() * if even { 1.0 } else { -1.0 }
    }

    /// A direction: axes and signs, no scale.
    pub fn direction(&self, v: DVec3) -> DVec3 {
        DVec3::from_array(std::array::from_fn(|axis| self.sign[axis] * v[self.source[axis]]))
    }

    /// A position or displacement.
    pub fn length(&self, v: DVec3) -> DVec3 {
        self.direction(v) * self.scale
    }

    /// Numbers that belong to axes but have no direction, such as scale factors.
    pub fn unsigned(&self, v: DVec3) -> DVec3 {
        DVec3::from_array(std::array::from_fn(|axis| v[self.source[axis]]))
    }

    /// Angles of turns about the axes: a mirror turns the other way.
    pub fn angles(&self, v: DVec3) -> DVec3 {
        self.direction(v) * self.determinant()
    }

    /// The sign of the turn about a new axis beside that about its old one.
    pub fn angle_sign(&self, new: usize) -> f64 {
        self.sign[new] * self.determinant()
    }

    /// A rotation, as the same turn seen in the new space.
    pub fn rotation(&self, q: DQuat) -> DQuat {
        let v = self.angles(q.xyz());
        DQuat::from_xyzw(v.x, v.y, v.z, q.w)
    }

    /// The order whose turns about the new axes are those of an order about the old ones.
    pub fn order(&self, order: RotationOrder) -> RotationOrder {
        let (a, b, c) = order.axes();
        RotationOrder::from_axes(self.target(a), self.target(b), self.target(c)).unwrap_or(order)
    }

    /// An affine transform, from the new space to the new space.
    pub fn affine(&self, m: DAffine3) -> DAffine3 {
        let columns = DMat3::from_cols_array_2d(&std::array::from_fn(|column| {
            let old = self.direction(m.matrix3.col(self.source[column]));
            (old * self.sign[column]).to_array()
        }));
        DAffine3 { matrix3: columns, translation: self.length(m.translation) }
    }
}
