//! Root motion: travel and turn lifted from the hips to a root, taken out and put back.
//!
//! A turn about the up axis that acts last moves to the root as the curve it is, and so does a place on the ground; the root
//! stands below the hips, so that neither changes the other. Where the hips turn in another order they are reordered
//! first, within the tolerance; all else is exact.

mod carrier;
mod centre;
mod error;
mod lift;
mod path;
mod pin;
mod transfer;
pub use self::centre::centre;
pub use self::error::RootError;
pub use self::lift::lift;
pub use self::path::{Step, travelled};
pub use self::pin::{pin, restore};

mod claim;

use super::channel::Tolerance;

pub use claim::{centred, lifted, pinned, unpinned};

/// What moves to the root, and how.
#[derive(Clone, Debug)]
pub struct RootOptions {
    /// Whether the turn about the up axis goes along.
    pub turn: bool,
    /// Whether the height goes along.
    pub height: bool,
    /// Whether only a constant speed goes, and what is uneven stays.
    pub steady: bool,
    /// What a root that has to be made is called.
    pub name: String,
    /// The node that carries the body, by address; the hips where left out.
    pub node: Option<String>,
    /// How far rotations that have to be reordered may be from their source.
    pub tolerance: Tolerance,
}

impl Default for RootOptions {
    fn default() -> RootOptions {
        RootOptions {
            turn: true,
            height: false,
            steady: false,
            name: "root".into(),
            node: None,
            tolerance: Tolerance::default(),
        }
    }
}
