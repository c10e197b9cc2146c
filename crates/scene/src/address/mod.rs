//! Addresses: how nodes and channels are written, and found again.
//!
//! A channel is `NODE:ATTRIBUTE.COMPONENT`, split at the last colon. A node is given by its name where that is
//! unique, else by its path from its rig, `rig/parent/node`; of equal names under one parent the second is
//! `name#2`. A part that holds `/`, `#`, `"`, white space, signs that do not show or, in attributes, `.` or `:` is put into
//! quotes, and so is one that a spreadsheet would take for a formula. In quotes, `\n` and `\u001b` stand for signs that do not show.

mod paths;
mod text;

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::OnceLock;

use thiserror::Error;

use crate::rig::Rig;
use crate::scene::{Scene, Target};

/// The letters of components.
pub const COMPONENTS: [&str; 4] = ["x", "y", "z", "w"];

pub use crate::rig::NodeRef;
pub use paths::Paths;
pub use text::{
    is_formula, is_hidden, matches, parts, unquoted, visible, without_namespace, without_namespace_of_node,
    written,
};

use text::{canonical, last_outside_quotes, quoted};

/// The addresses of all nodes of a scene, both ways.
#[derive(Clone, Debug)]
pub struct Addresses {
    /// The addresses, in order of the nodes.
    texts: Vec<String>,
    in_order: Vec<NodeRef>,
    rigs: Vec<RigPaths>,
    /// Places in `texts` by what stands there, sorted when something is looked up for the first time: most addresses are made
    /// to be written alone.
    sorted: OnceLock<Vec<u32>>,
}

/// The paths of a rig's nodes.
#[derive(Clone, Debug)]
struct RigPaths {
    paths: Paths,
    /// Where its nodes begin among those of all rigs.
    first: usize,
    /// By the number of a node's id, where it stands among those of its rig.
    positions: Vec<u32>,
}

/// How long the paths of nodes that share names may be together, in bytes: beyond that such nodes are given by their place in
/// their rig, as a deep rig has longer paths than it has anything else.
const LONGEST_PATHS: usize = 1 << 23;

/// An address that leads nowhere.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum AddressError {
    /// No node of that name.
    #[error("there is no node '{0}'")]
    NoNode(String),
    /// Several nodes of that name.
    #[error("several nodes are called '{name}': give one by its path, such as '{example}'")]
    Ambiguous {
        /// The name.
        name: String,
        /// The address of one of them.
        example: String,
    },
    /// Not written as an address.
    #[error("'{0}' is not a channel: write NODE:ATTRIBUTE")]
    NotAnAddress(String),
    /// A node without that property.
    #[error("'{node}' has no '{property}'")]
    NoProperty {
        /// The node's address.
        node: String,
        /// What was asked for.
        property: String,
    },
}

impl Addresses {
    /// The addresses of all nodes of a scene.
    pub fn new(scene: &Scene) -> Addresses {
        Addresses::of_rigs(&scene.rigs)
    }

    /// The addresses of all nodes of some rigs.
    pub fn of_rigs(rigs: &[Rig]) -> Addresses {
        let mut count: HashMap<&str, usize> = HashMap::new();
        for (_, node) in rigs.iter().flat_map(Rig::nodes) {
            *count.entry(&node.name).or_default() += 1;
        }
        let nodes = rigs.iter().map(Rig::len).sum();
        let mut addresses = Addresses {
            texts: Vec::with_capacity(nodes),
            in_order: Vec::with_capacity(nodes),
            rigs: Vec::with_capacity(rigs.len()),
            sorted: OnceLock::new(),
        };
        let mut length = 0;
        for (index, rig) in rigs.iter().enumerate() {
            let mut paths = Paths::new(&rig.name);
            let mut positions = Vec::with_capacity(rig.len());
            let first = addresses.texts.len();
            for ((id, node), parent) in rig.nodes().zip(rig.parent_positions()) {
                let position = paths.push(parent, &node.name);
                let is_alone = count[node.name.as_str()] == 1;
                if !is_alone {
                    length += paths.length(position);
                }
                addresses.texts.push(match is_alone {
                    true => written(&node.name),
                    false if length <= LONGEST_PATHS => paths.path(position),
                    false => format!("{}/#{}", paths.root, position + 1),
                });
                addresses.in_order.push((index, id));
                let number = id.0 as usize;
                if positions.len() <= number {
                    positions.resize(number + 1, u32::MAX);
                }
                positions[number] = position as u32;
            }
            addresses.rigs.push(RigPaths { paths, first, positions });
        }
        addresses
    }

    /// How a node is written.
    ///
    /// # Panics
    /// Where the node is not in the scene that the addresses were made from.
    pub fn node(&self, (rig, node): NodeRef) -> &str {
        let of = &self.rigs[rig];
        &self.texts[of.first + of.positions[node.0 as usize] as usize]
    }

    /// How a property is written.
    pub fn property(&self, target: &Target) -> String {
        format!("{}:{}", self.node((target.rig, target.node)), quoted(&target.property, "/#\".:"))
    }

    /// All nodes, rig by rig, parents before children.
    pub fn nodes(&self) -> &[NodeRef] {
        &self.in_order
    }

    /// All addresses, in order of the nodes.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.texts.iter().map(String::as_str)
    }

    /// The node that an address means: a name that is unique, or a path.
    ///
    /// # Errors
    /// [`AddressError::NoNode`] or [`AddressError::Ambiguous`].
    pub fn find(&self, text: &str) -> Result<NodeRef, AddressError> {
        if let Some(node) = self.written_so(text) {
            return Ok(node);
        }
        // What is in quotes may be written in several ways.
        let canonical = if text.contains('"') { Cow::Owned(canonical(text)) } else { Cow::Borrowed(text) };
        let by_path = || {
            let found = self.rigs.iter().find_map(|of| Some(of.first + of.paths.find(&canonical)?));
            found.map(|place| self.in_order[place])
        };
        if let Some(node) = self.written_so(&canonical).or_else(by_path) {
            return Ok(node);
        }
        let tail = format!("/{}", written(text));
        let mut same = (0..self.texts.len()).filter(|place| self.texts[*place].ends_with(&tail));
        match (same.next(), same.next()) {
            (Some(only), None) => Ok(self.in_order[only]),
            (Some(first), Some(_)) => {
                Err(AddressError::Ambiguous { name: text.to_owned(), example: self.texts[first].clone() })
            }
            _ => Err(AddressError::NoNode(text.to_owned())),
        }
    }

    /// The node whose address is this very text. Of several rigs of one name it is the last that has such a node.
    fn written_so(&self, text: &str) -> Option<NodeRef> {
        let sorted = self.sorted.get_or_init(|| {
            let mut places: Vec<u32> = (0..self.texts.len() as u32).collect();
            places.sort_unstable_by_key(|place| (&self.texts[*place as usize], *place));
            places
        });
        let beyond = sorted.partition_point(|place| self.texts[*place as usize].as_str() <= text);
        let place = sorted[beyond.checked_sub(1)?] as usize;
        (self.texts[place] == text).then(|| self.in_order[place])
    }

    /// The same, or the only node of that name once namespaces are left aside: maps are written once for all files of a
    /// character.
    ///
    /// # Errors
    /// See [`find`](Addresses::find).
    pub fn find_in_any_namespace(&self, text: &str) -> Result<NodeRef, AddressError> {
        self.find(text).or_else(|error| {
            let bare = |node: &&NodeRef| without_namespace(self.node(**node)) == without_namespace(text);
            let mut same = self.in_order.iter().filter(bare);
            match (same.next(), same.next()) {
                (Some(&only), None) => Ok(only),
                _ => Err(error),
            }
        })
    }

    /// The property that an address `NODE:ATTRIBUTE` means.
    ///
    /// # Errors
    /// See [`AddressError`].
    pub fn find_property(&self, rigs: &[Rig], text: &str) -> Result<Target, AddressError> {
        let colon =
            last_outside_quotes(text, ':').ok_or_else(|| AddressError::NotAnAddress(text.to_owned()))?;
        let (node, property) = (&text[..colon], unquoted(&text[colon + 1..]));
        let (rig, id) = self.find(node)?;
        if rigs[rig].property_kind(id, &property).is_none() {
            return Err(AddressError::NoProperty { node: node.to_owned(), property });
        }
        Ok(Target { rig, node: id, property })
    }
}

#[cfg(test)]
mod tests {
    use glam::DVec3;

    use super::*;
    use crate::rig::{Node, NodeKind};
    use nimble_curve_curves::rotation::RotationOrder;

    fn rig(name: &str, nodes: &[(&str, Option<usize>)]) -> Rig {
        let mut rig = Rig::new(name);
        let mut ids = Vec::new();
        for (name, parent) in nodes {
            let node = Node::new(*name, NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
            ids.push(rig.add(parent.map(|p: usize| ids[p]), node).unwrap());
        }
        rig
    }

    #[test]
    fn every_node_has_an_address_that_leads_back_to_it() {
        let rigs = [
            rig(
                "otter",
                &[
                    ("courier:hips", None),
                    ("leg", Some(0)),
                    ("toe", Some(1)),
                    ("leg", Some(0)),
                    ("toe", Some(3)),
                    ("odd name/with \"all\"#", Some(0)),
                    ("", Some(0)),
                ],
            ),
            rig("cart", &[("toe", None), ("wheel.front", Some(0))]),
        ];
        let addresses = Addresses::of_rigs(&rigs);
        let texts: Vec<&str> = addresses.texts().collect();
        assert_eq!(texts[0], "courier:hips");
        assert_eq!(texts[4], "otter/courier:hips/leg#2/toe");
        assert_eq!(texts[5], r##""odd name/with \"all\"#""##);
        for (index, text) in texts.iter().enumerate() {
            assert_eq!(addresses.find(text), Ok(addresses.nodes()[index]), "{text}");
            let target = addresses.find_property(&rigs, &format!("{text}:rotation")).unwrap();
            assert_eq!((target.rig, target.node), addresses.nodes()[index]);
            assert_eq!(addresses.property(&target), format!("{text}:rotation"));
        }
        assert!(matches!(addresses.find("toe"), Err(AddressError::Ambiguous { .. })));
        assert!(matches!(addresses.find("nose"), Err(AddressError::NoNode(_))));
        assert!(matches!(
            addresses.find_property(&rigs, "courier:hips:smile"),
            Err(AddressError::NoProperty { .. })
        ));
    }
}
