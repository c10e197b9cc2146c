//! A property of a node, by name.

use crate::rig::NodeId;

/// A property of a node, in a scene of several rigs.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Target {
    /// Which rig, from 0.
    pub rig: usize,
    /// Which node.
    pub node: NodeId,
    /// A step of the node's transform or one of its attributes, by name.
    pub property: String,
}

impl Target {
    /// A property of a node of a rig.
    pub fn new(rig: usize, node: NodeId, property: impl Into<String>) -> Target {
        Target { rig, node, property: property.into() }
    }
}
