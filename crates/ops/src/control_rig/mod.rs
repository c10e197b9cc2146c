//! Control rigs: joints that follow controls by constraints, solved so that they have curves of their own.

mod anchor;
mod drivers;
mod solve;

pub use solve::{SolveError, SolveOptions, Solved, solve, solved};
