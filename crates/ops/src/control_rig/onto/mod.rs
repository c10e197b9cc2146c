//! The way back: joint motion onto the controls that drive them.
//!
//! [`duties`] says which control undoes what, in which order; [`instant`] what it has to do at a time; [`curves`], [`exact`] and
//! [`spliced`] make keys of that; [`keying`] goes from one control to the next; [`locks`] lets locked channels be. [`content`] says which controls do it already, [`away`] measures what came of it. [`matching`] does so for
//! whole takes, [`switching`] for some frames.

pub(super) mod away;
mod claims;
mod content;
mod curves;
mod duties;
mod exact;
mod instant;
mod keying;
mod left;
mod locks;
mod matching;
mod motion;
mod options;
mod spliced;
mod switched;
mod switching;
mod times;
mod told;

pub use claims::through_controls;
pub use matching::{MatchClaim, Matched, match_controls};
pub use options::{BetweenFrames, Limbs, MatchKeys, MatchOptions, SwitchOptions, To};
pub use switching::{Switched, switch};
