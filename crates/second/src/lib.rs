//! A second evaluator: what a `.ncurve` file comes to, by its documentation alone.
//!
//! It shares no code with the program, takes the JSON as it is, and is slow on purpose: every value is found anew, from the
//! text of its keys. Beside it stand random scenes as text. Tests hold the program's own evaluation, its judge and its
//! results against this one.
// Tests want a panic where a file is not what the documentation says.
#![allow(missing_docs)]

pub mod between;
pub mod capture;
pub mod controls;
pub mod curve;
pub mod greedy;
pub mod halving;
pub mod posed;
pub mod random;
pub mod scene;
pub mod shown;
pub mod turn;
