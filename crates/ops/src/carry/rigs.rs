//! Which rigs carry onto which: as the map says, by the nodes that it pairs, or by what they have in common.

use std::collections::BTreeMap;

use nimble_curve_scene::address::{Addresses, NodeRef, matches};
use nimble_curve_scene::scene::Scene;
use nimble_curve_scene::similar::similar;

use super::map::NameMap;
use super::{CarryError, CarryOptions};
use crate::rigs::{RigPairing, alike};

/// The pairs of rigs that carry, in order of the source's.
pub(super) fn pairings(
    source: &Scene,
    target: &Scene,
    map: &NameMap,
    options: &CarryOptions,
) -> Result<Vec<RigPairing>, CarryError> {
    let from = chosen(source, "source", &options.rigs)?;
    let onto = chosen(target, "target", &options.target_rigs)?;
    let mut pairs: Vec<RigPairing> = Vec::new();
    if map.rigs.is_empty() {
        pairs.extend(by_nodes(source, target, map));
        pairs.retain(|pair| from.contains(&pair.source) && onto.contains(&pair.target));
        let free = |rigs: &[usize], is_taken: &dyn Fn(usize) -> bool| -> Vec<usize> {
            rigs.iter().copied().filter(|&rig| !is_taken(rig)).collect()
        };
        let from = free(&from, &|rig| pairs.iter().any(|pair| pair.source == rig));
        let onto = free(&onto, &|rig| pairs.iter().any(|pair| pair.target == rig));
        // What a map does not speak of still carries by equal names.
        pairs.extend(alike((source, &from), (target, &onto)));
    } else {
        for pair in &map.rigs {
            let source = find(source, "source", &pair.source)?;
            let target = find(target, "target", &pair.target)?;
            if pairs.iter().any(|other| other.source == source || other.target == target) {
                return Err(CarryError::RigTwice(pair.source.clone(), pair.target.clone()));
            }
            pairs.push(RigPairing { source, target });
        }
        pairs.retain(|pair| from.contains(&pair.source) && onto.contains(&pair.target));
    }
    pairs.sort();
    if pairs.is_empty() { Err(CarryError::NoRigPairs) } else { Ok(pairs) }
}

/// The pairs of rigs that two scenes carry by a map.
///
/// # Errors
/// See [`CarryError`].
pub(crate) fn rig_pairs(
    source: &Scene,
    target: &Scene,
    map: &NameMap,
) -> Result<Vec<RigPairing>, CarryError> {
    pairings(source, target, map, &CarryOptions::default())
}

/// The rigs of a scene that are chosen by name or pattern; all where nothing is said.
fn chosen(scene: &Scene, side: &'static str, patterns: &[String]) -> Result<Vec<usize>, CarryError> {
    if scene.rigs.is_empty() {
        return Err(CarryError::NoRig(side));
    }
    for pattern in patterns {
        if !scene.rigs.iter().any(|rig| matches(pattern, &rig.name)) {
            return Err(no_such_rig(scene, side, pattern));
        }
    }
    let is_chosen =
        |rig: &usize| patterns.is_empty() || patterns.iter().any(|p| matches(p, &scene.rigs[*rig].name));
    Ok((0..scene.rigs.len()).filter(is_chosen).collect())
}

fn find(scene: &Scene, side: &'static str, name: &str) -> Result<usize, CarryError> {
    let found = scene.rigs.iter().position(|rig| rig.name == name);
    found.ok_or_else(|| no_such_rig(scene, side, name))
}

fn no_such_rig(scene: &Scene, side: &'static str, name: &str) -> CarryError {
    let names = scene.rigs.iter().map(|rig| rig.name.as_str());
    let similar = similar(name, names.clone()).map(str::to_owned);
    let all: Vec<&str> = names.collect();
    CarryError::NoSuchRig { side, name: name.to_owned(), similar, all: all.join(", ") }
}

/// Pairs of rigs between which the map pairs nodes, those with the most of them first.
fn by_nodes(source: &Scene, target: &Scene, map: &NameMap) -> Vec<RigPairing> {
    let (from, onto) = (Addresses::new(source), Addresses::new(target));
    let mut votes: BTreeMap<RigPairing, usize> = BTreeMap::new();
    let singles = map.nodes.iter().map(|pair| (&pair.source, &pair.target));
    let chains = map.chains.iter().filter_map(|chain| chain.source.first().zip(chain.target.first()));
    for (a, b) in singles.chain(chains) {
        // What is not there is said where nodes are looked up.
        if let (Ok((source, _)), Ok((target, _))) =
            (from.find_in_any_namespace(a), onto.find_in_any_namespace(b))
        {
            *votes.entry(RigPairing { source, target }).or_default() += 1;
        }
    }
    let mut voted: Vec<(RigPairing, usize)> = votes.into_iter().collect();
    voted.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    let mut pairs: Vec<RigPairing> = Vec::new();
    for (pair, _) in voted {
        if !pairs.iter().any(|other| other.source == pair.source || other.target == pair.target) {
            pairs.push(pair);
        }
    }
    pairs
}

/// What of a map each pair of rigs is about, in the order of the pairs.
///
/// # Errors
/// [`CarryError::Map`] for a node that is in neither scene, [`CarryError::AcrossRigs`] for a pair of nodes whose rigs are none.
pub(super) fn shared_out(
    map: &NameMap,
    (source, target): (&Scene, &Scene),
    (from, onto): (&Addresses, &Addresses),
    pairs: &[RigPairing],
) -> Result<Vec<NameMap>, CarryError> {
    let whole = NameMap { nodes: Vec::new(), chains: Vec::new(), numbers: Vec::new(), ..map.clone() };
    let mut maps = vec![whole; pairs.len()];
    let place = |(one, a): (NodeRef, &str), (other, b): (NodeRef, &str)| {
        let at = pairs.iter().position(|pair| pair.source == one.0 && pair.target == other.0);
        let is_let_go = |rig: usize, of: fn(&RigPairing) -> usize| pairs.iter().all(|pair| of(pair) != rig);
        match at {
            Some(at) => Ok(Some(at)),
            // A map of all rigs, of which some were chosen.
            None if is_let_go(one.0, |pair| pair.source) || is_let_go(other.0, |pair| pair.target) => {
                Ok(None)
            }
            None => Err(CarryError::AcrossRigs {
                from: a.to_owned(),
                onto: b.to_owned(),
                rigs: (source.rigs[one.0].name.clone(), target.rigs[other.0].name.clone()),
            }),
        }
    };
    let node = |a: &str, b: &str| -> Result<Option<usize>, CarryError> {
        let one = super::links::found(from, "source", a)?;
        place((one, a), (super::links::found(onto, "target", b)?, b))
    };
    for pair in &map.nodes {
        if let Some(at) = node(&pair.source, &pair.target)? {
            maps[at].nodes.push(pair.clone());
        }
    }
    for chain in &map.chains {
        let at = match (chain.source.first(), chain.target.first()) {
            (Some(a), Some(b)) => node(a, b)?,
            // It is said where chains are looked at.
            _ => Some(0),
        };
        if let Some(at) = at {
            maps[at].chains.push(chain.clone());
        }
    }
    for pair in &map.numbers {
        // What is wrong with an address is said where attributes are looked up.
        let of = |text: &str| text.rsplit_once(':').map_or(text, |(node, _)| node).to_owned();
        let (a, b) = (of(&pair.source), of(&pair.target));
        let refs = from.find_in_any_namespace(&a).ok().zip(onto.find_in_any_namespace(&b).ok());
        let at = refs.map_or(Ok(Some(0)), |(one, other)| place((one, &a), (other, &b)))?;
        if let Some(at) = at {
            maps[at].numbers.push(pair.clone());
        }
    }
    Ok(maps)
}
