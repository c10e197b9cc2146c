//! Proposals: which node of one rig is which of another, how sure that is, and why.
//!
//! Names say most: namespaces left out, sides and body parts in their common spellings, numbers by their rank. Nodes of
//! one name that stand one below the other are a chain. What names leave open, the places in the rest poses decide, each
//! rig scaled to the height of 1, below pairs that are known.

mod body;
mod matching;
mod numbers;
mod proposal;
pub use self::proposal::{Confidence, Proposal, Proposed, ProposedNumber};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::scene::Scene;

use self::body::Body;
use self::matching::Matching;
use super::space::in_space;

/// Proposes pairs of nodes and attributes of the first rigs of two scenes; nothing where one of them has no rig.
pub fn propose(source: &Scene, target: &Scene) -> Proposal {
    if source.rigs.is_empty() || target.rigs.is_empty() {
        return Proposal::default();
    }
    let at_rest = Scene { takes: Vec::new(), ..source.clone() };
    let (source, _) = in_space(&at_rest, &target.space);
    let (from_addresses, onto_addresses) = (Addresses::new(&source), Addresses::new(target));
    let from = Body::new(&source.rigs[0], &source);
    let onto = Body::new(&target.rigs[0], target);
    let mut matching = Matching { from: &from, onto: &onto, pairs: Vec::new(), chains: Vec::new() };
    matching.by_name();
    matching.by_part();
    matching.by_place();
    matching.settle();
    matching.proposal(&from_addresses, &onto_addresses)
}
