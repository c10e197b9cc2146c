//! What constraints drive in a scene.

use crate::constraint::{Constraint, ConstraintKind, Couple};
use crate::rig::NodeRef;
use crate::scene::{Scene, Target};

impl Scene {
    /// Whether anything drives a node beside its own curves.
    pub fn is_driven(&self, node: NodeRef) -> bool {
        self.constraints.iter().any(|constraint| constraint.drives(node))
    }

    /// Whether couples drive a number of a node.
    pub fn is_coupled(&self, node: NodeRef) -> bool {
        self.constraints.iter().any(|constraint| match &constraint.kind {
            ConstraintKind::Couple(couple) => (couple.channel.target.rig, couple.channel.target.node) == node,
            _ => false,
        })
    }

    /// What drives a property by couples, in the order in which they add up.
    pub fn couples_on<'a>(
        &'a self,
        target: &'a Target,
    ) -> impl Iterator<Item = (&'a Constraint, &'a Couple)> {
        self.constraints.iter().filter_map(move |constraint| match &constraint.kind {
            ConstraintKind::Couple(couple) if couple.channel.target == *target => Some((constraint, couple)),
            _ => None,
        })
    }
}
