//! Why joints cannot be solved.

use nimble_curve_scene::choice::NothingChosen;
use nimble_curve_scene::evaluate::EvaluateError;
use thiserror::Error;

use crate::conversion::NotConvertible;
use crate::select::SelectError;

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
    /// Nothing says which nodes are controls.
    #[error("no node in it is known to be a control")]
    NoControlKnown,
    /// What drives what is known already.
    #[error("what drives what is in it already")]
    HasConstraints,
    /// Nothing that was asked for is driven.
    #[error("no constraint drives '{0}'")]
    NotDriven(String),
    /// Something that has no curves into which others could be put.
    #[error("{0} is animated, but not by curves: convert its controllers to curves first")]
    NotSpliced(String),
    /// A property that several layers move.
    #[error("{0} is animated on layers: flatten them first")]
    Layered(String),
    /// A switch that has no values between.
    #[error("{0} has no values between on and off: leave out --over")]
    Held(String),
    /// Something that is asked for by name, and what there is.
    #[error("there is no {what} '{name}'{}", there_are(.known))]
    Unknown {
        /// What it should be.
        what: &'static str,
        /// Its name.
        name: String,
        /// What there is of its kind.
        known: Vec<String>,
    },
    /// What cannot be switched.
    #[error("{0}")]
    NotSwitched(String),
    /// No take has any of the frames that were asked for.
    #[error(transparent)]
    Select(#[from] SelectError),
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

/// What there is in place of something that is not, in words.
fn there_are(known: &[String]) -> String {
    match known {
        [] => ": there is none".to_owned(),
        known => format!(": there are {}", known.join(", ")),
    }
}
