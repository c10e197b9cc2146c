//! Files that were made and are not written yet, and what other programs find in them.
//!
//! A writer knows which node of a scene it put where, and what it had no place for. That, and nothing about the curves, is
//! its claim; whether it holds is for the judge to say, who reads the very bytes as a stranger would: without our extra data
//! and without hints about rate and start.

use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::judge::Claim;
use nimble_curve_core::ledger::Ledger;
use nimble_curve_core::scene::{Scene, Target};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::Ticks;

use crate::format::Format;

/// A file's contents, and what its writer says of them.
#[derive(Debug)]
pub struct Encoded {
    /// The format.
    pub format: Format,
    /// The bytes.
    pub bytes: Vec<u8>,
    /// The bytes of the file beside it, where there is to be one.
    pub buffer: Option<Vec<u8>>,
    /// What became of the channels.
    pub ledger: Ledger,
    /// Nodes of the scene by what the format calls them, see [`Plain::keys`].
    pub(crate) nodes: Vec<(String, NodeRef)>,
    /// Properties that only the extra data holds, or nothing at all, by take.
    pub(crate) hidden: Vec<(String, Target)>,
    /// Whether it is an animation of a skeleton: samples of joints, and numbers as weights of blend shapes, on another node than
    /// here.
    pub is_skeletal: bool,
    /// Its unit and axes, where the format does not state them and whoever hands it on has to.
    pub(crate) states: Option<Space>,
    /// What is added to the times of each take.
    pub(crate) shifts: Vec<(String, Ticks)>,
    /// What was written of the scene, where its scales went into lengths first.
    pub(crate) unscaled: Option<Claim>,
}

/// A scene as a format alone gives it.
#[derive(Debug)]
pub(crate) struct Plain {
    pub scene: Scene,
    /// What the format calls each node, in order of its rigs' nodes.
    pub keys: Vec<String>,
    /// What was let pass.
    pub notes: Vec<String>,
    /// What was read as it was meant, see [`crate::Loaded::mended`].
    pub mended: Vec<String>,
}

/// The keys of a scene whose nodes go by their addresses.
pub(crate) fn by_address(scene: &Scene) -> Vec<(String, NodeRef)> {
    let addresses = Addresses::new(scene);
    addresses.nodes().iter().map(|&node| (addresses.node(node).to_owned(), node)).collect()
}
