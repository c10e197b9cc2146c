//! Why nothing can be carried.

use nimble_curve_scene::address::AddressError;
use nimble_curve_scene::choice::NothingChosen;
use nimble_curve_scene::evaluate::EvaluateError;
use thiserror::Error;

/// Why a scene cannot be carried.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum CarryError {
    /// A rule of the map that makes no pair.
    #[error(
        "the map's rule rename '{0}' to '{1}' pairs no node: no source node of the first name has a partner of the second"
    )]
    EmptyRule(String, String),
    /// What constraints drive in the source cannot be solved.
    #[error(transparent)]
    Solve(#[from] crate::control_rig::SolveError),
    /// The source has no animation.
    #[error("the source has no take: there is nothing to carry")]
    NoTake,
    /// A rig that was asked for is not there.
    #[error("the {side} has no rig '{name}'{}: it has {all}", similar.as_ref().map(|name| format!(" (did you mean '{name}'?)")).unwrap_or_default())]
    NoSuchRig {
        /// Source or target.
        side: &'static str,
        /// What was asked for.
        name: String,
        /// A similar name.
        similar: Option<String>,
        /// The names of those that it has.
        all: String,
    },
    /// Two pairs of rigs with one of them in common.
    #[error("the map's rigs '{0}' and '{1}': one of them is in another pair, too")]
    RigTwice(String, String),
    /// A pair of nodes whose rigs are no pair.
    #[error("the map pairs '{from}' of the rig '{}' with '{onto}' of the rig '{}', and these two are no pair: say which are by [[rigs]]", rigs.0, rigs.1)]
    AcrossRigs {
        /// The node of the source.
        from: String,
        /// The node of the target.
        onto: String,
        /// The rigs that they are in.
        rigs: (String, String),
    },
    /// No rig of the source goes with one of the target.
    #[error(
        "no rig of the source has anything in common with one of the target: say which go together by [[rigs]] in a map"
    )]
    NoRigPairs,
    /// One side has no rig.
    #[error("the {0} has no rig")]
    NoRig(&'static str),
    /// The map names a node that is not there.
    #[error("the map: {error} in the {side}{}", suggestion.as_ref().map(|name| format!(" (did you mean '{name}'?)")).unwrap_or_default())]
    Map {
        /// Source or target.
        side: &'static str,
        /// What is wrong.
        error: AddressError,
        /// A similar name.
        suggestion: Option<String>,
    },
    /// Two entries of the map lead to or from one node.
    #[error("the map names '{0}' twice")]
    Twice(String),
    /// A node that the map pairs and leaves out.
    #[error("the map pairs '{0}' and leaves it out, too")]
    LeftOutAndPaired(String),
    /// A chain whose nodes are not one below the other.
    #[error("the map: '{below}' does not stand below '{above}', so that they are no chain")]
    NotAChain {
        /// The one that should stand above.
        above: String,
        /// The one that should stand below.
        below: String,
    },
    /// A chain without nodes.
    #[error("the map: a chain needs nodes on both sides")]
    EmptyChain,
    /// Parts of a chain that do not fit.
    #[error("the map: the chain to '{first}' needs {count} parts above zero, one a node of the target")]
    Parts {
        /// The first node of the target's chain.
        first: String,
        /// How many nodes there are.
        count: usize,
    },
    /// A limb that cannot reach.
    #[error("the map: '{end}' {why}")]
    Reach {
        /// The end of the limb.
        end: String,
        /// What is wrong.
        why: &'static str,
    },
    /// What holds something, or is reached for, has no partner.
    #[error("the map: '{0}' is to hold something, or is reached for, and has no partner in the target")]
    NoHolder(String),
    /// No node has a partner.
    #[error(
        "no node of the source has a partner in the target: give a map (--map), which the map command proposes"
    )]
    NoPairs,
    /// A pattern or set that chooses nothing.
    #[error(transparent)]
    NothingChosen(#[from] NothingChosen),
    /// A pose file without a node of the rig.
    #[error("the pose has no node of the rig it is meant for")]
    NoPose,
    /// A pose cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}
