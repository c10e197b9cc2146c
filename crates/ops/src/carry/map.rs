//! Name maps: which node of a source goes to which node of a target, and how.

use std::borrow::Cow;
use std::collections::HashSet;

pub use nimble_curve_curves::value::NumberRange;
use nimble_curve_scene::address::{Addresses, NodeRef, matches, without_namespace};
use nimble_curve_scene::scene::{NodeSet, Scene};

use super::CarryError;
use crate::rigs::RigPairing;

/// In which frame a pair's motion relative to rest is the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum PairSpace {
    /// In the world's: an arm that is lifted by 30° is lifted by 30°.
    #[default]
    World,
    /// In the parent's: the partner turns beside its parent as the source does.
    Parent,
}

/// A node and its partner, by address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NodePair {
    /// The node of the source.
    pub source: String,
    /// The node of the target.
    pub target: String,
    /// In which frame the motion is the same.
    pub space: PairSpace,
}

/// Nodes one below the other that correspond as a whole.
#[derive(Clone, Debug, PartialEq)]
pub struct Chain {
    /// Nodes of the source, from the top down.
    pub source: Vec<String>,
    /// Nodes of the target, from the top down.
    pub target: Vec<String>,
    /// Which part of the chain's turn each node of the target takes; equal parts where there are none.
    pub parts: Vec<f64>,
}

/// A rig and its partner, by name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RigPair {
    /// The rig of the source.
    pub source: String,
    /// The rig of the target.
    pub target: String,
    /// The node of the source, on another rig, that holds it where it is held.
    pub held: Option<String>,
}

/// A custom attribute and its partner, by the address `NODE:ATTRIBUTE`.
#[derive(Clone, Debug, PartialEq)]
pub struct AttributePair {
    /// The attribute of the source.
    pub source: String,
    /// The attribute of the target.
    pub target: String,
    /// How its values change.
    pub range: NumberRange,
}

/// Which node of a source goes to which node of a target.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct NameMap {
    /// Which rig goes onto which; where none are named, those that the nodes' pairs or their names tell.
    pub rigs: Vec<RigPair>,
    /// Single nodes.
    pub nodes: Vec<NodePair>,
    /// Nodes of the source and the nodes of it that hold them where they are held.
    pub held: Vec<(String, String)>,
    /// Ends of limbs of the source and the nodes of it beside which they keep their place.
    pub reach: Vec<(String, String)>,
    /// Chains of several nodes.
    pub chains: Vec<Chain>,
    /// Custom attributes.
    pub numbers: Vec<AttributePair>,
    /// Rules by which nodes that nothing else names are paired: patterns of source names, and what partners are called, with as many
    /// `*` that stand for the same.
    pub rename: Vec<(String, String)>,
    /// Patterns of source nodes that have no partner on purpose; their motion is let go.
    pub leave_out: Vec<String>,
    /// The source is seen in a mirror across the plane normal to this axis of the target's space, and sides change places.
    pub mirror: Option<usize>,
    /// Named lists of patterns, for selections.
    pub sets: Vec<NodeSet>,
}

impl NameMap {
    /// The map with a pair for every node of the source that a rule of it names and that has a partner of the new name.
    ///
    /// # Errors
    /// [`CarryError::EmptyRule`] where a rule makes no pair.
    pub(crate) fn with_rules(
        &self,
        source: &Scene,
        target: &Scene,
        pairs: &[RigPairing],
    ) -> Result<Cow<'_, NameMap>, CarryError> {
        if self.rename.is_empty() {
            return Ok(Cow::Borrowed(self));
        }
        let (from, onto) = (Addresses::new(source), Addresses::new(target));
        let singles = self.nodes.iter().map(|pair| (&pair.source, &pair.target));
        let chained = self.chains.iter().flat_map(|chain| chain.source.iter().chain(&chain.target));
        // What is not there is said where nodes are looked up.
        let listed = |addresses: &Addresses| -> HashSet<NodeRef> {
            let names = singles.clone().flat_map(|(a, b)| [a, b]).chain(chained.clone());
            names.filter_map(|name| addresses.find_in_any_namespace(name).ok()).collect()
        };
        let (mut named, mut taken) = (listed(&from), listed(&onto));
        let bare = |scene: &Scene, rig: usize| -> Vec<(NodeRef, String)> {
            let nodes = scene.rigs[rig].nodes();
            nodes.map(|(id, node)| ((rig, id), without_namespace(&node.name).to_owned())).collect()
        };
        let mut map = self.clone();
        for (pattern, renamed) in &self.rename {
            let before = map.nodes.len();
            for pair in pairs {
                let targets = bare(target, pair.target);
                for (node, name) in bare(source, pair.source) {
                    let is_left_out = self.leave_out.iter().any(|pattern| matches(pattern, &name));
                    if is_left_out || named.contains(&node) {
                        continue;
                    }
                    let partner = captured(pattern, &name).and_then(|parts| filled(renamed, &parts));
                    let is_partner = |(node, name): &&(NodeRef, String)| {
                        partner.as_ref() == Some(name) && !taken.contains(node)
                    };
                    if let Some(&(partner, _)) = targets.iter().find(is_partner) {
                        taken.insert(partner);
                        named.insert(node);
                        map.nodes.push(NodePair {
                            source: from.node(node).to_owned(),
                            target: onto.node(partner).to_owned(),
                            space: PairSpace::World,
                        });
                    }
                }
            }
            if map.nodes.len() == before {
                return Err(CarryError::EmptyRule(pattern.clone(), renamed.clone()));
            }
        }
        Ok(Cow::Owned(map))
    }

    /// A map of single nodes.
    pub fn of_nodes(pairs: impl IntoIterator<Item = (String, String)>) -> NameMap {
        let pair = |(source, target)| NodePair { source, target, space: PairSpace::World };
        NameMap { nodes: pairs.into_iter().map(pair).collect(), ..NameMap::default() }
    }
}

/// What each `*` of a pattern stands for in a name, the earlier ones for as little as can be; `None` where it does not fit.
fn captured<'n>(pattern: &str, name: &'n str) -> Option<Vec<&'n str>> {
    let mut fixed = pattern.split('*');
    let mut rest = name.strip_prefix(fixed.next()?)?;
    let fixed: Vec<&str> = fixed.collect();
    let Some((last, between)) = fixed.split_last() else { return rest.is_empty().then(Vec::new) };
    let mut parts = Vec::with_capacity(fixed.len());
    for part in between {
        let at = rest.find(part)?;
        parts.push(&rest[..at]);
        rest = &rest[at + part.len()..];
    }
    parts.push(rest.strip_suffix(last)?);
    Some(parts)
}

/// A pattern with something in place of each `*`; `None` where there are more of these.
fn filled(pattern: &str, parts: &[&str]) -> Option<String> {
    let mut parts = parts.iter();
    let mut name = String::new();
    for (index, fixed) in pattern.split('*').enumerate() {
        if index > 0 {
            name.push_str(parts.next()?);
        }
        name.push_str(fixed);
    }
    Some(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stars_stand_for_the_same_on_both_sides() {
        for (pattern, renamed, name, wanted) in [
            ("hero_*_jnt", "vil_*_bnd", "hero_arm_l_jnt", Some("vil_arm_l_bnd")),
            ("*_l", "L_*", "arm_l", Some("L_arm")),
            ("*_*_l", "L_*.*", "spine_01_l", Some("L_spine.01")),
            ("root", "world", "root", Some("world")),
            ("root", "world", "roots", None),
            ("hero_*_jnt", "vil_*_bnd", "hero_jnt", None),
            ("a*", "b*", "a", Some("b")),
            ("a", "b*", "a", None),
        ] {
            let found = captured(pattern, name).and_then(|parts| filled(renamed, &parts));
            assert_eq!(found.as_deref(), wanted, "{pattern} {name}");
        }
    }
}
