//! Rigs from the top down.

use crate::rig::{NodeId, Rig};

/// The children of all nodes of a rig, found in one pass: for walks downwards, where looking through all nodes for the children
/// of each would cost their square.
#[derive(Debug)]
pub struct Hierarchy<'a> {
    rig: &'a Rig,
    /// The roots, then the children of each node in order of [`Rig::nodes`], one list after the other.
    children: Vec<NodeId>,
    /// Where each of these lists begins, and where the last one ends.
    starts: Vec<u32>,
}

impl<'a> Hierarchy<'a> {
    /// The hierarchy of a rig as it is now.
    pub fn new(rig: &'a Rig) -> Hierarchy<'a> {
        let parents = rig.parent_positions();
        let list = |parent: &Option<usize>| parent.map_or(0, |position| position + 1);
        let mut starts = vec![0; rig.len() + 2];
        for parent in &parents {
            starts[list(parent) + 1] += 1;
        }
        for index in 1..starts.len() {
            starts[index] += starts[index - 1];
        }
        let mut next = starts.clone();
        let mut children = vec![NodeId(u32::MAX); rig.len()];
        for ((id, _), parent) in rig.nodes().zip(&parents) {
            let place = &mut next[list(parent)];
            children[*place as usize] = id;
            *place += 1;
        }
        Hierarchy { rig, children, starts }
    }

    /// The nodes without a parent, in order.
    pub fn roots(&self) -> &[NodeId] {
        self.list(0)
    }

    /// A node's children, in order; none of a node that is not in the rig.
    pub fn children(&self, id: NodeId) -> &[NodeId] {
        self.rig.position(id).map_or(&[], |position| self.list(position + 1))
    }

    /// A node and all that hangs on it, level by level.
    pub fn below(&self, root: NodeId) -> Vec<NodeId> {
        let mut below = vec![root];
        let mut at = 0;
        while let Some(&id) = below.get(at) {
            below.extend(self.children(id));
            at += 1;
        }
        below
    }

    fn list(&self, index: usize) -> &[NodeId] {
        &self.children[self.starts[index] as usize..self.starts[index + 1] as usize]
    }
}

#[cfg(test)]
mod tests {
    use glam::DVec3;
    use nimble_curve_curves::rotation::RotationOrder;
    use proptest::prelude::*;

    use super::*;
    use crate::rig::{Node, NodeKind};

    proptest! {
        /// Parents are drawn as any earlier node, or none; then nodes are put between, so that ids are not in order.
        #[test]
        fn it_has_the_children_that_the_rig_finds(
            parents in prop::collection::vec(any::<Option<prop::sample::Index>>(), 0..40),
            between in prop::collection::vec(any::<prop::sample::Index>(), 0..5),
        ) {
            let node = || Node::new("n", NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
            let mut rig = Rig::new("r");
            let mut ids: Vec<NodeId> = Vec::new();
            for parent in parents {
                let parent = parent.filter(|_| !ids.is_empty()).map(|parent| *parent.get(&ids));
                ids.push(rig.add(parent, node()).unwrap());
            }
            for below in between.iter().filter(|_| !ids.is_empty()) {
                rig.insert_above(*below.get(&ids), node()).unwrap();
            }
            let hierarchy = Hierarchy::new(&rig);
            prop_assert_eq!(hierarchy.roots().to_vec(), rig.children(None).collect::<Vec<_>>());
            for (id, _) in rig.nodes() {
                prop_assert_eq!(hierarchy.children(id).to_vec(), rig.children(Some(id)).collect::<Vec<_>>());
            }
            let all: usize = hierarchy.roots().iter().map(|root| hierarchy.below(*root).len()).sum();
            prop_assert_eq!(all, rig.len());
            prop_assert!(hierarchy.children(NodeId(u32::MAX)).is_empty());
        }
    }
}
