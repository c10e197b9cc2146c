//! Proposals: which node of one rig is which of another, how sure that is, and why.
//!
//! Names are one witness: namespaces and what all names of a rig share left out, sides and body parts in their common spellings,
//! numbers by their rank. The shape of the rig is another: from the tree and the rest pose alone it tells legs, trunk and arms, and
//! which bone of an arm is the upper one. Places at rest, each rig scaled to the height of 1, and what stands above and below are
//! two more. A pair is sure where two agree, one of them name or shape, and none contradicts.

mod matching;
mod numbers;
mod proposal;
mod witness;
pub use self::proposal::{Confidence, Proposal, Proposed, ProposedNumber};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::scene::Scene;

use self::matching::Matching;
use super::anatomy::{Anatomy, Body};
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
    let shapes = [&Anatomy::of(&from), &Anatomy::of(&onto)];
    let mut matching = Matching { from: &from, onto: &onto, shapes, pairs: Vec::new(), chains: Vec::new() };
    matching.by_name(false);
    matching.by_part(false);
    matching.by_shape();
    matching.by_name(true);
    matching.by_part(true);
    matching.by_place();
    matching.settle();
    matching.proposal(&from_addresses, &onto_addresses)
}
