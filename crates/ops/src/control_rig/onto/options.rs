//! How joint motion is put onto controls.

use nimble_curve_curves::time::Ticks;

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

/// Whether keys stand between frames.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum BetweenFrames {
    /// They stand on whole frames, and where what moves the joints has some.
    #[default]
    Never,
    /// In takes in which keys on whole frames do not hold the bound: where what moves joints turns sharply between two.
    WhereNeeded,
    /// Wherever that saves keys or the bound asks for it.
    Always,
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
    pub between_frames: BetweenFrames,
    /// Whether controls whose curves bring their joints within the bound already keep these; else only those that do it to the last digit.
    /// With bounded keys.
    pub near_enough: bool,
}

/// What goes by what.
#[derive(Clone, Debug)]
pub enum To {
    /// A limb, by its name or one of its joints: by its goal, or by the controls of its joints.
    Limb {
        /// The limb.
        limb: String,
        /// Whether it goes by its goal.
        by_goal: bool,
    },
    /// A control, by the space that a menu names.
    Space {
        /// The control's address.
        control: String,
        /// The option.
        space: String,
    },
}

/// How to switch.
#[derive(Clone, Debug)]
pub struct SwitchOptions {
    /// What goes by what.
    pub to: To,
    /// From when.
    pub from: Ticks,
    /// Until when; to the end of the take where nothing is said.
    pub until: Option<Ticks>,
    /// Over how long it goes over at both ends.
    pub over: Ticks,
    /// In which take; in the only one where nothing is said.
    pub take: Option<String>,
    /// Whether keys may stand between frames.
    pub between_frames: bool,
    /// How far anything may be off in the world between frames; at whole frames a fiftieth of it.
    pub tolerance: Tolerance,
}
