//! The way back: joint motion onto the controls that drive them.

mod away;
mod claims;
mod curves;
mod duties;
mod exact;
mod instant;
mod keying;
mod left;
mod matching;
mod motion;
mod options;
mod spliced;
mod switched;
mod switching;
mod times;
mod told;

pub use matching::{MatchClaim, Matched, match_controls};
pub use options::{Limbs, MatchKeys, MatchOptions, SwitchOptions, To};
pub use switching::{Switched, switch};
