//! The way back: joint motion onto the controls that drive them.

mod away;
mod curves;
mod duties;
mod exact;
mod instant;
mod left;
mod matching;
mod motion;
mod options;
mod switched;
mod times;
mod told;

pub use matching::{MatchClaim, Matched, match_controls};
pub use options::{Limbs, MatchKeys, MatchOptions};
