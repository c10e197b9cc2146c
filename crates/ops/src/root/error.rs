//! Why root motion cannot be changed.

use nimble_curve_scene::evaluate::EvaluateError;
use thiserror::Error;

/// Why root motion cannot be changed.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum RootError {
    /// Nothing carries the body.
    #[error("no node is named for hips, and none is moved along: name the node with --node")]
    NoCarrier,
    /// No such node.
    #[error("there is no node '{0}'{hint}", hint = .1.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
    NoNode(String, Option<String>),
    /// A node stands turned so that its axes are not the world's.
    #[error("'{0}' or a node above it stands turned or scaled: its axes are not those of the world")]
    RestsTurned(String),
    /// The root turns by itself, or changes its size.
    #[error("'{0}' turns or grows by itself: what moves below it has no exact place on it")]
    RootTurns(String),
    /// A layer that mixes rotations as wholes, or angles of different orders, which mix as wholes.
    #[error("layer '{0}' mixes rotations as wholes: flatten the layers first")]
    Mixed(String),
    /// A layer of a node that turns about the up axis in the middle of its order.
    #[error(
        "layer '{0}' turns the node in an order in which the turn does not come last: flatten the layers, or reorder"
    )]
    Layered(String),
    /// A controller that cannot be taken apart.
    #[error("{channel}: {why}")]
    Cannot {
        /// The channel.
        channel: String,
        /// What is wrong.
        why: String,
    },
    /// A constant speed that turns.
    #[error("a steady speed needs a way without turns: leave the turn where it is with --no-turn")]
    SteadyTurns,
    /// Nothing was taken out that could be put back.
    #[error("nothing is pinned: there is nothing to restore")]
    NothingPinned,
    /// A controller that cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}
