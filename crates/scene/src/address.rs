//! Addresses: how nodes and channels are written, and found again.
//!
//! A channel is `NODE:ATTRIBUTE.COMPONENT`, split at the last colon. A node is given by its name where that is
//! unique, else by its path from its rig, `rig/parent/node`; of equal names under one parent the second is
//! `name#2`. A part that holds `/`, `#`, `"`, white space, signs that do not show or, in attributes, `.` or `:` is put into
//! quotes, and so is one that a spreadsheet would take for a formula. In quotes, `\n` and `\u001b` stand for signs that do not show.

use std::borrow::Cow;
use std::collections::HashMap;

use thiserror::Error;

use crate::rig::{NodeId, Rig};
use crate::scene::{Scene, Target};

/// The letters of components.
pub const COMPONENTS: [&str; 4] = ["x", "y", "z", "w"];

pub use crate::rig::NodeRef;

/// The addresses of all nodes of a scene, both ways.
#[derive(Clone, Debug)]
pub struct Addresses {
    by_text: HashMap<String, NodeRef>,
    texts: HashMap<NodeRef, String>,
    in_order: Vec<NodeRef>,
    /// The paths in each rig, and its nodes in their order.
    paths: Vec<(Paths, Vec<NodeId>)>,
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
            by_text: HashMap::with_capacity(nodes),
            texts: HashMap::with_capacity(nodes),
            in_order: Vec::with_capacity(nodes),
            paths: Vec::with_capacity(rigs.len()),
        };
        let mut length = 0;
        for (index, rig) in rigs.iter().enumerate() {
            let mut paths = Paths::new(&rig.name);
            for ((id, node), parent) in rig.nodes().zip(rig.parent_positions()) {
                let position = paths.push(parent, &node.name);
                let is_alone = count[node.name.as_str()] == 1;
                if !is_alone {
                    length += paths.length(position);
                }
                let text = match is_alone {
                    true => written(&node.name),
                    false if length <= LONGEST_PATHS => paths.path(position),
                    false => format!("{}/#{}", paths.root, position + 1),
                };
                addresses.by_text.insert(text.clone(), (index, id));
                addresses.texts.insert((index, id), text);
                addresses.in_order.push((index, id));
            }
            addresses.paths.push((paths, rig.nodes().map(|(id, _)| id).collect()));
        }
        addresses
    }

    /// How a node is written.
    ///
    /// # Panics
    /// Where the node is not in the scene that the addresses were made from.
    pub fn node(&self, node: NodeRef) -> &str {
        &self.texts[&node]
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
        self.in_order.iter().map(|node| self.texts[node].as_str())
    }

    /// The node that an address means: a name that is unique, or a path.
    ///
    /// # Errors
    /// [`AddressError::NoNode`] or [`AddressError::Ambiguous`].
    pub fn find(&self, text: &str) -> Result<NodeRef, AddressError> {
        if let Some(&node) = self.by_text.get(text) {
            return Ok(node);
        }
        // What is in quotes may be written in several ways.
        let canonical = if text.contains('"') { Cow::Owned(canonical(text)) } else { Cow::Borrowed(text) };
        let by_path = || {
            let found = |(rig, (paths, ids)): (usize, &(Paths, Vec<NodeId>))| {
                paths.find(&canonical).map(|position| (rig, ids[position]))
            };
            self.paths.iter().enumerate().find_map(found)
        };
        if let Some(node) = self.by_text.get(&*canonical).copied().or_else(by_path) {
            return Ok(node);
        }
        let tail = format!("/{}", written(text));
        let mut same = self.in_order.iter().filter(|node| self.texts[node].ends_with(&tail));
        match (same.next(), same.next()) {
            (Some(&only), None) => Ok(only),
            (Some(first), Some(_)) => {
                Err(AddressError::Ambiguous { name: text.to_owned(), example: self.texts[first].clone() })
            }
            _ => Err(AddressError::NoNode(text.to_owned())),
        }
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

/// The paths of a rig's nodes, which are put in one after the other, parents before children. What is kept of each is its own
/// part.
#[derive(Clone, Debug)]
pub struct Paths {
    root: String,
    parts: Vec<Part>,
    /// The nodes of one name below one node, in their order.
    below: HashMap<(Option<usize>, String), Vec<usize>>,
}

/// The part of a path that is a node's own.
#[derive(Clone, Debug)]
struct Part {
    parent: Option<usize>,
    text: String,
    /// The length of the whole path.
    length: usize,
}

impl Paths {
    /// Paths in a rig of this name.
    pub fn new(rig: &str) -> Paths {
        Paths { root: written(rig), parts: Vec::new(), below: HashMap::new() }
    }

    /// Puts in the next node, below the node at position `parent`; its position.
    pub fn push(&mut self, parent: Option<usize>, name: &str) -> usize {
        let (name, position) = (written(name), self.parts.len());
        let same = self.below.entry((parent, name.clone())).or_default();
        same.push(position);
        let text = if same.len() == 1 { name } else { format!("{name}#{}", same.len()) };
        let above = parent.map_or(self.root.len(), |parent| self.parts[parent].length);
        self.parts.push(Part { parent, length: above + 1 + text.len(), text });
        position
    }

    /// The length of a node's path, in bytes.
    fn length(&self, position: usize) -> usize {
        self.parts[position].length
    }

    /// A node's path.
    ///
    /// # Panics
    /// Where there is no node at that position.
    pub fn path(&self, position: usize) -> String {
        let above = std::iter::successors(Some(position), |&at| self.parts[at].parent);
        let mut texts: Vec<&str> = above.map(|at| self.parts[at].text.as_str()).collect();
        texts.push(&self.root);
        texts.reverse();
        texts.join("/")
    }

    /// The node that a path leads to, written as [`path`](Paths::path) does.
    pub fn find(&self, path: &str) -> Option<usize> {
        let mut parts = split_outside_quotes(path, '/').into_iter();
        if parts.next() != Some(self.root.as_str()) {
            return None;
        }
        let mut at = None;
        for part in parts {
            let (name, nth) = match last_outside_quotes(part, '#') {
                Some(sign) => (&part[..sign], part[sign + 1..].parse::<usize>().ok()?),
                None => (part, 1),
            };
            at = self.below.get(&(at, name.to_owned()))?.get(nth.checked_sub(1)?).copied();
            at?;
        }
        at
    }
}

/// A text taken apart at a sign that does not stand in quotes.
fn split_outside_quotes(text: &str, sign: char) -> Vec<&str> {
    let (mut inside, mut escaped, mut start) = (false, false, 0);
    let mut parts = Vec::new();
    for (position, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if inside => escaped = true,
            '"' => inside = !inside,
            c if c == sign && !inside => {
                parts.push(&text[start..position]);
                start = position + sign.len_utf8();
            }
            _ => {}
        }
    }
    parts.push(&text[start..]);
    parts
}

/// A node's name as addresses have it, in quotes where it has to be.
pub fn written(name: &str) -> String {
    quoted(name, "/#\"")
}

/// A part of an address, in quotes where it holds white space, what does not show, or one of `odd`.
fn quoted(part: &str, odd: &str) -> String {
    let is_odd = |c: char| c.is_whitespace() || is_hidden(c) || odd.contains(c);
    if !part.is_empty() && !part.contains(is_odd) && !is_formula(part) {
        return part.to_owned();
    }
    let inner = part.replace('\\', "\\\\").replace('"', "\\\"");
    format!("\"{}\"", visible(&inner))
}

/// A node's address in the one way in which addresses are written here.
fn canonical(address: &str) -> String {
    let part = |part: &str| match last_outside_quotes(part, '#') {
        Some(sign) => format!("{}{}", written(&unquoted(&part[..sign])), &part[sign..]),
        None => written(&unquoted(part)),
    };
    split_outside_quotes(address, '/').into_iter().map(part).collect::<Vec<_>>().join("/")
}

/// A part of an address without its quotes.
pub fn unquoted(part: &str) -> String {
    let Some(inner) = part.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')) else {
        return part.to_owned();
    };
    let mut plain = String::with_capacity(inner.len());
    let mut units: Vec<u16> = Vec::new();
    let mut rest = inner;
    while let Some(c) = rest.chars().next() {
        rest = &rest[c.len_utf8()..];
        if c != '\\' {
            take_units(&mut units, &mut plain);
            plain.push(c);
            continue;
        }
        let Some(next) = rest.chars().next() else { break };
        rest = &rest[next.len_utf8()..];
        let unit =
            rest.get(..4).filter(|_| next == 'u').and_then(|digits| u16::from_str_radix(digits, 16).ok());
        if let Some(unit) = unit {
            rest = &rest[4..];
            units.push(unit);
            continue;
        }
        take_units(&mut units, &mut plain);
        plain.push(match next {
            'n' => '\n',
            'r' => '\r',
            't' => '\t',
            other => other,
        });
    }
    take_units(&mut units, &mut plain);
    plain
}

/// Puts the signs that units of UTF-16 are behind a text.
fn take_units(units: &mut Vec<u16>, text: &mut String) {
    text.extend(char::decode_utf16(units.drain(..)).map(|sign| sign.unwrap_or(char::REPLACEMENT_CHARACTER)));
}

/// Whether a sign does not show, or changes how others do: what steers a terminal, turns the direction of writing, or ends a
/// line.
pub fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{61c}' | '\u{200b}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}')
        || matches!(c, '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// Whether a spreadsheet would take a text for a formula.
pub fn is_formula(text: &str) -> bool {
    text.starts_with(['=', '+', '-', '@', '\t', '\r'])
}

/// A text in which every sign shows: the hidden ones as `\n`, `\r`, `\t` or, as in JSON, `\u001b`.
pub fn visible(text: &str) -> Cow<'_, str> {
    if !text.contains(is_hidden) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match c {
            '\n' => shown.push_str("\\n"),
            '\r' => shown.push_str("\\r"),
            '\t' => shown.push_str("\\t"),
            c if is_hidden(c) => {
                for unit in c.encode_utf16(&mut [0; 2]) {
                    shown.push_str(&format!("\\u{unit:04x}"));
                }
            }
            c => shown.push(c),
        }
    }
    Cow::Owned(shown)
}

/// The node, the attribute and the component, if it says one, of an address `NODE:ATTRIBUTE.COMPONENT`; `None` where it
/// has no colon. The node stays as it is written, the attribute loses its quotes.
///
/// ```
/// use nimble_curve_scene::address::parts;
///
/// assert_eq!(parts("courier:hips:rotation.x"), Some(("courier:hips", "rotation".to_owned(), Some(0))));
/// assert_eq!(parts("lamp:\"inputs:glow\""), Some(("lamp", "inputs:glow".to_owned(), None)));
/// assert_eq!(parts("hips"), None);
/// ```
pub fn parts(address: &str) -> Option<(&str, String, Option<usize>)> {
    let colon = last_outside_quotes(address, ':')?;
    let (node, property) = (&address[..colon], &address[colon + 1..]);
    let component = last_outside_quotes(property, '.').and_then(|dot| {
        let axis = ["x", "y", "z", "w"].iter().position(|letter| *letter == &property[dot + 1..])?;
        Some((dot, axis))
    });
    Some(match component {
        Some((dot, axis)) => (node, unquoted(&property[..dot]), Some(axis)),
        None => (node, unquoted(property), None),
    })
}

/// The byte position of the last `wanted` that does not stand in quotes.
fn last_outside_quotes(text: &str, wanted: char) -> Option<usize> {
    let (mut inside, mut escaped, mut found) = (false, false, None);
    for (position, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if inside => escaped = true,
            '"' => inside = !inside,
            c if c == wanted && !inside => found = Some(position),
            _ => {}
        }
    }
    found
}

/// Whether a name matches a pattern in which `*` stands for any run of characters and `?` for any one.
pub fn matches(pattern: &str, name: &str) -> bool {
    let (pattern, name) = (pattern.as_bytes(), name.as_bytes());
    let (mut p, mut n) = (0, 0);
    // Where the last star stands, and how far it reaches.
    let mut star: Option<(usize, usize)> = None;
    let is_inside = |byte: u8| byte & 0xC0 == 0x80;
    while n < name.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p + 1, n));
                p += 1;
            }
            Some(b'?') => {
                p += 1;
                n += 1;
                while n < name.len() && is_inside(name[n]) {
                    n += 1;
                }
            }
            Some(byte) if *byte == name[n] => {
                p += 1;
                n += 1;
            }
            _ => match &mut star {
                Some((after, reach)) => {
                    *reach += 1;
                    (p, n) = (*after, *reach);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|byte| *byte == b'*')
}

/// A name without its namespaces: what follows the last colon.
pub fn without_namespace(name: &str) -> &str {
    name.rsplit(':').next().unwrap_or(name)
}

/// A channel's address with the namespaces of its node left out: `face:smile` for `courier:face:smile`.
pub fn without_namespace_of_node(address: &str) -> &str {
    let Some(colon) = last_outside_quotes(address, ':') else { return address };
    match address[..colon].rfind(':') {
        Some(before) => &address[before + 1..],
        None => address,
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

    #[test]
    fn patterns_match_runs_of_characters() {
        for (pattern, name, expected) in [
            ("hips", "hips", true),
            ("hips", "hips2", false),
            ("*", "", true),
            ("*:foot_*", "courier:foot_l", true),
            ("*:foot_*", "foot_l", false),
            ("a*b*b", "ab", false),
            ("a*b*b", "abb", true),
            ("*_l", "arm_l_l", true),
            ("*arm_?", "forearm_l", true),
            ("*arm_?", "forearm_", false),
            ("?", "ü", true),
            ("??", "ü", false),
            ("a?*c", "abc", true),
            ("a?*c", "ac", false),
        ] {
            assert_eq!(matches(pattern, name), expected, "{pattern} {name}");
        }
    }
}
