//! Layers: written together, taken apart, and set.

mod controls;
mod difference;
mod flatten;
mod set;
pub use self::controls::match_onto_layer;
pub use self::difference::{SplitOptions, split};
pub use self::flatten::{FlattenOptions, flatten};
pub use self::set::{LayerSettings, set};

use nimble_curve_scene::evaluate::EvaluateError;
use thiserror::Error;

use crate::control_rig::SolveError;

use super::conversion::NotConvertible;

/// Why layers cannot be changed.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum LayersError {
    /// No layer of that name.
    #[error("there is no layer '{0}'")]
    NoLayer(String),
    /// A layer of that name is there already.
    #[error("there is a layer '{0}' already: give another name")]
    Taken(String),
    /// A layer that stays lies between others that are to become one.
    #[error(
        "layer '{stays}' lies under '{layer}' on {channel}, and the two cannot be swapped: flatten '{stays}' as well"
    )]
    Between {
        /// The one that stays.
        stays: String,
        /// The one above it.
        layer: String,
        /// Where.
        channel: String,
    },
    /// The other scene has no take to compare with.
    #[error("the other file has no take '{0}' to take the difference from")]
    NoTake(String),
    /// What constraints drive cannot be solved, for formats that hold none.
    #[error(transparent)]
    Solve(#[from] SolveError),
    /// A weight that is not finite.
    #[error("a weight must be a finite number")]
    Weight,
    /// A controller cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
    /// Values that have no sum.
    #[error("{channel}: {why}")]
    NotConvertible {
        /// Where.
        channel: String,
        /// Why.
        why: NotConvertible,
    },
}
