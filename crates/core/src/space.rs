//! Space: units, up axis and handedness of a scene, and the exact changes between them.

use std::fmt;

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
