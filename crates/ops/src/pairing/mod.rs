//! Proposals: which node of one rig is which of another, how sure that is, and why.
//!
//! Names are one witness: namespaces and what all names of a rig share left out, sides and body parts in their common spellings,
//! numbers by their rank. The shape of the rig is another: from the tree and the rest pose alone it tells legs, trunk and arms, and
//! which bone of an arm is the upper one. Places at rest, each rig scaled to the height of 1, and what stands above and below are
//! two more. What files tell of humanoids is beyond doubt. A pair is sure where two agree, one of them name or shape, and none contradicts.

mod faces;
mod holders;
mod matching;
mod named;
mod numbers;
mod proposal;
mod witness;
use self::holders::holders;
use self::named::Named;
pub use self::proposal::{Confidence, Proposal, Proposed, ProposedNumber, ProposedRigs};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::scene::Scene;

use self::matching::Matching;
use super::anatomy::{Anatomy, Body};
use super::rigs::alike;
use super::space::in_space;

/// Proposes pairs of rigs, and of their nodes and attributes; nothing where a scene has no rig.
///
/// What a rig holds that has no partner is left.
pub fn propose(source: &Scene, target: &Scene) -> Proposal {
    let with_takes = source;
    let at_rest = Scene { takes: Vec::new(), ..source.clone() };
    let (source, _) = in_space(&at_rest, &target.space);
    let addresses = (Addresses::new(&source), Addresses::new(target));
    let all = |scene: &Scene| (0..scene.rigs.len()).collect::<Vec<usize>>();
    let rigs = alike((&source, &all(&source)), (target, &all(target)));
    let has_several = source.rigs.len() > 1 || target.rigs.len() > 1;
    let holders = if source.rigs.len() > 1 { holders(with_takes) } else { vec![None] };
    let mut whole = Proposal::default();
    for pair in &rigs {
        let from = Named::new(&source, pair.source).with_takes(&with_takes.takes);
        let onto = Named::new(target, pair.target);
        let own = propose_for((&from, &addresses.0), (&onto, &addresses.1));
        if has_several {
            let (source, target) = (from.rig().name.clone(), onto.rig().name.clone());
            let held = holders[pair.source].filter(|_| !own.pairs.is_empty());
            let held = held.map(|(rig, id)| Named::new(with_takes, rig).node(&addresses.0, id));
            whole.rigs.push(ProposedRigs { source, target, held, pairs: own.pairs.len() });
        }
        whole.pairs.extend(own.pairs);
        whole.numbers.extend(own.numbers);
        whole.source_left.extend(own.source_left);
        whole.target_left.extend(own.target_left);
        whole.numbers_left.extend(own.numbers_left);
        whole.target_numbers_left.extend(own.target_numbers_left);
    }
    let alone = |scene: &Scene, addresses: &Addresses, is_paired: &dyn Fn(usize) -> bool| -> Vec<String> {
        let rigs = all(scene).into_iter().filter(|rig| !is_paired(*rig)).map(|rig| Named::new(scene, rig));
        rigs.flat_map(|named| named.main_nodes(addresses)).collect()
    };
    whole.source_left.extend(alone(&source, &addresses.0, &|rig| rigs.iter().any(|pair| pair.source == rig)));
    whole.target_left.extend(alone(target, &addresses.1, &|rig| rigs.iter().any(|pair| pair.target == rig)));
    whole
}

fn propose_for(source: (&Named<'_>, &Addresses), target: (&Named<'_>, &Addresses)) -> Proposal {
    let from = Body::new(source.0.rig(), source.0.scene);
    let onto = Body::new(target.0.rig(), target.0.scene);
    let shapes = [&Anatomy::of(&from), &Anatomy::of(&onto)];
    let mut matching = Matching { from: &from, onto: &onto, shapes, pairs: Vec::new(), chains: Vec::new() };
    matching.by_told();
    matching.by_name(false);
    matching.by_part(false);
    matching.by_shape();
    matching.by_name(true);
    matching.by_part(true);
    matching.by_top();
    matching.by_place();
    matching.settle();
    matching.proposal(source, target)
}
