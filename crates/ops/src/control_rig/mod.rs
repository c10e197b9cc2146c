//! Control rigs: joints that follow controls by constraints, solved so that they have curves of their own; and their motion put
//! back onto controls.

mod anchor;
mod by_control;
mod closeness;
mod corners;
mod drivers;
mod error;
mod find;
mod in_world;
mod jumps;
mod onto;
mod solve;
mod straight;
mod touched;
mod written;

pub use error::SolveError;
pub use find::{
    FindOptions, Finding, FoundRig, Residual, SURE_DEGREES, SURE_METRES, Stretch, Unexplained, find,
};
pub use onto::{
    BetweenFrames, Limbs, MatchClaim, MatchKeys, MatchOptions, Matched, SwitchOptions, Switched, To,
    match_controls, switch, through_controls,
};
pub use solve::{SolveKeys, SolveOptions, Solved, solve, solved};
