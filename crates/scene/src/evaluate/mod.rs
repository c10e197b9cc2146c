//! Evaluation: values of properties under all layers, and poses by forward kinematics.

mod channel;
mod coupled;
mod mix;
mod own;
mod pose;
mod sampler;
mod solve;

pub use channel::ChannelSampler;
pub use coupled::{CoupledSampler, SettingSampler};
pub use mix::neutral;
pub use pose::{Evaluator, NodeSampler, Pose, Poses};
pub use sampler::{PropertySampler, Sampler};
pub use solve::{Serves, Solver, Stand, Wanted, driving, solvable, twist};

use thiserror::Error;

/// Why something cannot be evaluated.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum EvaluateError {
    /// A procedural controller without samples.
    #[error(
        "{channel}: a {controller} controller without samples cannot be evaluated: sample it where it was made"
    )]
    Unsupported {
        /// The channel's address.
        channel: String,
        /// The controller's type.
        controller: &'static str,
    },
    /// A controller whose values do not fit the property.
    #[error("{channel}: a {controller} controller does not fit this property")]
    Unfit {
        /// The channel's address.
        channel: String,
        /// The controller's type.
        controller: &'static str,
    },
    /// Nodes or numbers that drive one another in a circle.
    #[error("constraints go in a circle: {0}")]
    Circle(String),
    /// A rig, node or property that is not in the scene.
    #[error("{0} is not in the scene")]
    Missing(String),
}
