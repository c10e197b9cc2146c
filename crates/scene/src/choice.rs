//! Which channels or nodes are meant, by patterns, named sets and exceptions.

use std::collections::BTreeSet;

use thiserror::Error;

use crate::address::{Addresses, NodeRef, matches, without_namespace, without_namespace_of_node};
use crate::rig::NodeKind;
use crate::scene::{NodeSet, Scene, Take};
use crate::similar::{similar, similar_address};

/// Nodes of a kind, as sets that every scene has.
const KINDS: [(&str, &[NodeKind]); 5] = [
    ("joints", &[NodeKind::Joint, NodeKind::Root, NodeKind::End]),
    ("controls", &[NodeKind::Control]),
    ("locators", &[NodeKind::Locator]),
    ("ends", &[NodeKind::End]),
    ("roots", &[NodeKind::Root]),
];

/// What somebody chose: everything, or what some patterns name, but for what others name.
#[derive(Clone, Debug, Default)]
pub struct Choice {
    only: Vec<String>,
    except: Vec<String>,
}

/// A pattern or set that chooses nothing.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{what}{}", .similar.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
pub struct NothingChosen {
    /// What was asked for, in a sentence.
    pub what: String,
    /// Something that is there.
    pub similar: Option<String>,
}

impl Choice {
    /// A choice by patterns with `*`, or `@SET` for the patterns of a set; of everything where `only` is empty.
    ///
    /// A pattern means channels by their address, and nodes with all their channels, with or without namespaces; `known` are
    /// the addresses of both.
    ///
    /// # Errors
    /// Where a pattern matches nothing that is known, or there is no such set.
    pub fn new<'a>(
        only: &[String],
        except: &[String],
        sets: impl Iterator<Item = &'a NodeSet> + Clone,
        known: &[String],
    ) -> Result<Choice, NothingChosen> {
        let patterns = |asked: &[String]| -> Result<Vec<String>, NothingChosen> {
            let mut all = Vec::new();
            for pattern in asked {
                let Some(name) = pattern.strip_prefix('@') else {
                    if !known.iter().any(|address| fits(pattern, address)) {
                        return Err(NothingChosen {
                            what: format!("no node or channel matches '{pattern}'"),
                            similar: similar_address(pattern, known.iter().map(String::as_str)),
                        });
                    }
                    all.push(pattern.clone());
                    continue;
                };
                let before = all.len();
                let found = sets.clone().filter(|set| set.name == name);
                all.extend(found.flat_map(|set| set.patterns.iter().cloned()));
                if all.len() == before {
                    let similar = similar(name, sets.clone().map(|set| set.name.as_str()));
                    return Err(NothingChosen {
                        what: format!("there is no set '{name}'"),
                        similar: similar.map(|name| format!("@{name}")),
                    });
                }
            }
            Ok(all)
        };
        Ok(Choice { only: patterns(only)?, except: patterns(except)? })
    }

    /// A choice among what is in a scene and among `more` addresses, by its sets and the kinds of its nodes.
    ///
    /// # Errors
    /// As [`Choice::new`].
    pub fn among(
        scene: &Scene,
        addresses: &Addresses,
        (only, except): (&[String], &[String]),
        more: &[String],
    ) -> Result<Choice, NothingChosen> {
        let known: Vec<String> = (scene.takes.iter().flat_map(Take::tracks))
            .map(|(_, track)| addresses.property(&track.target))
            .chain(addresses.texts().map(str::to_owned))
            .chain(more.iter().cloned())
            .collect();
        let expanded = |patterns: &[String]| with_kinds(patterns, &scene.sets, &[(scene, addresses)]);
        Choice::new(&expanded(only), &expanded(except), scene.sets.iter(), &known)
    }

    /// Whether nothing is left aside.
    pub fn is_everything(&self) -> bool {
        self.only.is_empty() && self.except.is_empty()
    }

    /// Whether something that has these addresses is meant.
    pub fn takes<A: AsRef<str>>(&self, addresses: &[A]) -> bool {
        let named = |patterns: &[String]| {
            patterns.iter().any(|pattern| addresses.iter().any(|address| fits(pattern, address.as_ref())))
        };
        (self.only.is_empty() || named(&self.only)) && !named(&self.except)
    }
}

/// The nodes that some patterns mean: names with or without namespaces, addresses or paths, with `*`; `@SET` for a set of the scene, and
/// `@joints` (roots and ends as well), `@controls`, `@locators`, `@ends` and `@roots` where it has none of that name.
///
/// # Errors
/// [`NothingChosen`] for a pattern that means nothing.
pub fn chosen_nodes(scene: &Scene, patterns: &[String]) -> Result<BTreeSet<NodeRef>, NothingChosen> {
    let addresses = Addresses::new(scene);
    let mut chosen = BTreeSet::new();
    for pattern in patterns {
        let mut own = BTreeSet::new();
        match pattern.strip_prefix('@') {
            Some(name) => of_set(scene, &addresses, name, &mut own)?,
            None => of_pattern(scene, &addresses, pattern, &mut own),
        }
        if own.is_empty() {
            let names: Vec<&str> = addresses.texts().collect();
            return Err(NothingChosen {
                what: format!("no node matches '{pattern}'"),
                similar: similar_address(pattern, names.into_iter()),
            });
        }
        chosen.extend(own);
    }
    Ok(chosen)
}

fn of_pattern(scene: &Scene, addresses: &Addresses, pattern: &str, chosen: &mut BTreeSet<NodeRef>) {
    let is_meant = |node: &&NodeRef| {
        let name = scene.rigs[node.0].node(node.1).map_or("", |own| &own.name);
        let address = addresses.node(**node);
        matches(pattern, address) || matches(pattern, name) || matches(pattern, without_namespace(name))
    };
    chosen.extend(addresses.nodes().iter().filter(is_meant));
    chosen.extend(addresses.find(pattern).ok());
}

fn of_set(
    scene: &Scene,
    addresses: &Addresses,
    name: &str,
    chosen: &mut BTreeSet<NodeRef>,
) -> Result<(), NothingChosen> {
    if let Some(set) = scene.sets.iter().find(|set| set.name == name) {
        set.patterns.iter().for_each(|pattern| of_pattern(scene, addresses, pattern, chosen));
        return Ok(());
    }
    let Some(own) = of_kind(scene, name) else {
        let own = scene.sets.iter().map(|set| set.name.as_str());
        let near = similar(name, own.chain(KINDS.iter().map(|(kind, _)| *kind)));
        return Err(NothingChosen {
            what: format!("there is no set '{name}'"),
            similar: near.map(|near| format!("@{near}")),
        });
    };
    chosen.extend(own);
    Ok(())
}

/// The nodes of a kind, by what their set is called.
fn of_kind(scene: &Scene, name: &str) -> Option<Vec<NodeRef>> {
    let (_, kinds) = KINDS.iter().find(|(kind, _)| *kind == name)?;
    let all = scene
        .rigs
        .iter()
        .enumerate()
        .flat_map(|(rig, of)| of.nodes().map(move |(id, node)| ((rig, id), node)));
    Some(all.filter(|(_, node)| kinds.contains(&node.kind)).map(|(node, _)| node).collect())
}

/// Patterns with the addresses of nodes in place of `@joints` and the like, where no set has that name.
pub fn with_kinds(patterns: &[String], sets: &[NodeSet], scenes: &[(&Scene, &Addresses)]) -> Vec<String> {
    let expand = |pattern: &String| -> Vec<String> {
        let name = pattern.strip_prefix('@').filter(|name| !sets.iter().any(|set| set.name == *name));
        let of_scene = |(scene, addresses): &(&Scene, &Addresses)| -> Vec<String> {
            let nodes = name.and_then(|name| of_kind(scene, name)).unwrap_or_default();
            nodes.iter().map(|node| addresses.node(*node).to_owned()).collect()
        };
        let found: Vec<String> = scenes.iter().flat_map(of_scene).collect();
        if found.is_empty() { vec![pattern.clone()] } else { found }
    };
    patterns.iter().flat_map(expand).collect()
}

/// Whether a pattern means an address, with or without namespaces.
fn fits(pattern: &str, address: &str) -> bool {
    matches(pattern, address)
        || matches(pattern, without_namespace_of_node(address))
        || matches(pattern, without_namespace(address))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_and_exceptions_are_resolved_and_what_matches_nothing_is_said() {
        let sets = [NodeSet { name: "arms".into(), patterns: vec!["arm_*".into(), "hand_*".into()] }];
        let known: Vec<String> =
            ["c:arm_l", "c:arm_l:rotation", "c:hand_l", "c:head"].map(str::to_owned).to_vec();
        let choice = |only: &[&str], except: &[&str]| {
            let list = |texts: &[&str]| texts.iter().map(|text| (*text).to_owned()).collect::<Vec<_>>();
            Choice::new(&list(only), &list(except), sets.iter(), &known)
        };
        let taken =
            |choice: &Choice| -> Vec<bool> { known.iter().map(|name| choice.takes(&[name])).collect() };
        assert_eq!(taken(&choice(&["@arms"], &[]).unwrap()), [true, true, true, false]);
        assert!(choice(&["@arms"], &["hand_*"]).unwrap().takes(&["c:arm_l:rotation", "c:arm_l"]));
        assert_eq!(taken(&choice(&[], &["@arms"]).unwrap()), [false, false, false, true]);
        assert!(choice(&[], &[]).unwrap().is_everything());
        let similar = |only: &str| choice(&[only], &[]).unwrap_err().similar;
        assert_eq!((similar("@arm"), similar("hed")), (Some("@arms".into()), Some("head".into())));
    }
}
