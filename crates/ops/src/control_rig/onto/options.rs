//! How joint motion is put onto controls.

use crate::Tolerance;

/// What limbs go by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Limbs {
    /// As their switches are.
    #[default]
    AsIs,
    /// Their goals and poles.
    Ik,
    /// The controls of their joints.
    Fk,
}

/// Where the keys of controls stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum MatchKeys {
    /// At the keys of what moves the joints, and nowhere else.
    #[default]
    Same,
    /// There, and at more frames where the bound asks for them.
    Bounded,
}

/// How to match.
#[derive(Clone, Debug, Default)]
pub struct MatchOptions {
    /// How far joints may be off in the world: their turns and their places.
    pub tolerance: Tolerance,
    /// Patterns of nodes, or `@SET`: the constraints that drive them, and no others; all where there are none.
    pub only: Vec<String>,
    /// Where keys stand.
    pub keys: MatchKeys,
    /// What limbs go by.
    pub limbs: Limbs,
    /// Whether other controls of the same joints rest; else they keep their curves.
    pub clear_others: bool,
    /// Whether keys may stand between frames.
    pub between_frames: bool,
}
