//! What is known of the nodes that are solved, at rest and now.

use std::collections::HashMap;

use glam::DVec3;

use super::stand::{Parts, Stand, unit};
use crate::address::NodeRef;
use crate::constraint::Towards;
use crate::evaluate::EvaluateError;
use crate::rig::ScaleInheritance;

/// The nodes in the order in which they are worked out, needs first.
#[derive(Debug, Default)]
pub struct State {
    pub places: HashMap<NodeRef, usize>,
    pub parents: Vec<Option<usize>>,
    pub inherits: Vec<ScaleInheritance>,
    pub rests: Vec<Stand>,
    /// By their own curves.
    pub own: Vec<Parts>,
    pub stands: Vec<Stand>,
    /// What settings are now.
    pub settings: Vec<f64>,
    /// Which way turns go: 1, and −1 in spaces of the left hand.
    pub hand: f64,
}

impl State {
    pub fn place(&self, node: NodeRef) -> Result<usize, EvaluateError> {
        let found = self.places.get(&node).copied();
        found.ok_or_else(|| EvaluateError::Missing(format!("node of rig {}", node.0)))
    }

    pub fn parent_stand(&self, index: usize) -> &Stand {
        self.parents[index].map_or(&Stand::START, |parent| &self.stands[parent])
    }

    pub fn parent_rest(&self, index: usize) -> &Stand {
        self.parents[index].map_or(&Stand::START, |parent| &self.rests[parent])
    }

    /// A direction in the world, as seen from a place.
    pub fn direction(&self, towards: &Towards, place: Option<usize>, here: DVec3) -> Option<DVec3> {
        match (towards, place) {
            (Towards::Node(_), Some(place)) => unit(self.stands[place].world.translation - here),
            (Towards::Direction(direction, _), Some(place)) => unit(self.stands[place].frame * *direction),
            (Towards::Direction(direction, _), None) => unit(*direction),
            (Towards::Node(_), None) => None,
        }
    }
}
