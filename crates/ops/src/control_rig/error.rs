//! Why joints cannot be solved.

use nimble_curve_scene::choice::NothingChosen;
use nimble_curve_scene::evaluate::EvaluateError;
use thiserror::Error;

use crate::conversion::NotConvertible;

/// Why joints cannot be solved.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum SolveError {
    /// A pattern or set without a node.
    #[error(transparent)]
    NothingChosen(#[from] NothingChosen),
    /// Nothing in the scene is driven.
    #[error("no constraint drives anything in it")]
    NoConstraints,
    /// No control has a part in what is driven.
    #[error(
        "no control moves what is driven: nodes of kind control have to be followed, aimed at or reached for"
    )]
    NoControls,
    /// Nothing that was asked for is driven.
    #[error("no constraint drives '{0}'")]
    NotDriven(String),
    /// Something that drives cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
    /// A joint cannot have curves.
    #[error("{channel}: {why}")]
    NotConvertible {
        /// Its channel.
        channel: String,
        /// Why.
        why: NotConvertible,
    },
}
