//! Control rigs: joints that follow controls by constraints, solved so that they have curves of their own.

mod anchor;
mod drivers;
mod error;
mod in_world;
mod solve;
mod touched;
mod written;

pub use error::SolveError;
pub use solve::{SolveOptions, Solved, solve, solved};
