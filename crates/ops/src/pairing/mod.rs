//! Proposals: which node of one rig is which of another, how sure that is, and why.
//!
//! Names are one witness: namespaces and what all names of a rig share left out, sides and body parts in their common spellings,
//! numbers by their rank. The shape of the rig is another: from the tree and the rest pose alone it tells legs, trunk and arms, and
//! which bone of an arm is the upper one. Places at rest, each rig scaled to the height of 1, and what stands above and below are
//! two more. A pair is sure where two agree, one of them name or shape, and none contradicts.

mod anatomy;
mod body;
mod matching;
mod numbers;
mod proposal;
mod witness;
pub use self::proposal::{Confidence, Proposal, Proposed, ProposedNumber};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::scene::Scene;

use self::anatomy::Anatomy;
pub(crate) use self::anatomy::Part;
use self::body::Body;
use self::matching::Matching;
use super::names::Name;
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

/// Whether the first rig of a scene walks on legs: by its shape, or by feet among its names.
pub(crate) fn has_legs(scene: &Scene) -> bool {
    let Some(rig) = scene.rigs.first() else { return false };
    let body = Body::new(rig, scene);
    let is_foot = |name: &Name| name.words.iter().any(|word| word == "foot" || word == "toe");
    body.names.iter().any(is_foot) || Anatomy::of(&body).parts.keys().any(|(part, _)| *part == Part::Thigh)
}

/// The part of the body that each node of a scene's first rig is, by its name, else by shape.
pub(crate) fn parts_of(scene: &Scene) -> Vec<Option<Part>> {
    let Some(rig) = scene.rigs.first() else { return Vec::new() };
    let body = Body::new(rig, scene);
    let anatomy = Anatomy::of(&body);
    let by_name = |name: &Name| match name.words.as_slice() {
        [word] => Part::of_word(word),
        _ => None,
    };
    (0..body.len()).map(|at| by_name(&body.names[at]).or(anatomy.slots[at].map(|(part, _)| part))).collect()
}
