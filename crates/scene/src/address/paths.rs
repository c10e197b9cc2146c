//! Paths: how nodes are written whose name another node has, too.

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use super::text::{last_outside_quotes, split_outside_quotes, written};

/// The paths of a rig's nodes, which are put in one after the other, parents before children. What is kept of each is its own
/// part.
#[derive(Clone, Debug)]
pub struct Paths {
    pub(super) root: String,
    parts: Vec<Part>,
    /// The nodes of one name below one node.
    below: HashMap<(Option<usize>, String), Namesakes>,
}

/// Nodes of one name below one node, in their order.
#[derive(Clone, Debug)]
enum Namesakes {
    /// As nearly all are.
    One(usize),
    Several(Vec<usize>),
}

impl Namesakes {
    /// Takes in the next one; how many there are now.
    fn push(&mut self, position: usize) -> usize {
        match self {
            Namesakes::One(first) => *self = Namesakes::Several(vec![*first, position]),
            Namesakes::Several(all) => all.push(position),
        }
        self.as_slice().len()
    }

    fn as_slice(&self) -> &[usize] {
        match self {
            Namesakes::One(only) => std::slice::from_ref(only),
            Namesakes::Several(all) => all,
        }
    }
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
        let text = match self.below.entry((parent, name)) {
            Entry::Vacant(entry) => {
                let text = entry.key().1.clone();
                entry.insert(Namesakes::One(position));
                text
            }
            Entry::Occupied(mut entry) => {
                let many = entry.get_mut().push(position);
                format!("{}#{many}", entry.key().1)
            }
        };
        let above = parent.map_or(self.root.len(), |parent| self.parts[parent].length);
        self.parts.push(Part { parent, length: above + 1 + text.len(), text });
        position
    }

    /// The length of a node's path, in bytes.
    pub(super) fn length(&self, position: usize) -> usize {
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
            at = self.below.get(&(at, name.to_owned()))?.as_slice().get(nth.checked_sub(1)?).copied();
            at?;
        }
        at
    }
}
