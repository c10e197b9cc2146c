//! Why takes cannot be put together.

use nimble_curve_scene::evaluate::EvaluateError;
use thiserror::Error;

/// Takes that cannot be put together.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum JoinError {
    /// Nothing to join.
    #[error("there is no take to join")]
    Nothing,
    /// A take of quite another rig.
    #[error("no node of take '{0}' is on the first file's rig: carry brings it there")]
    OtherRig(String),
    /// A track whose controllers do not go together.
    #[error("{channel}: {why}")]
    Cannot {
        /// The channel.
        channel: String,
        /// What is wrong.
        why: String,
    },
    /// A controller that cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}
