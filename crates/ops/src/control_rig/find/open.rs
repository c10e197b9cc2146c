//! What of a rig is explained so far, and what is open.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_scene::address::{Addresses, without_namespace_of_node};
use nimble_curve_scene::constraint::{ConstraintKind, Setting};
use nimble_curve_scene::rig::NodeKind;
use nimble_curve_scene::scene::Scene;

use super::Stretch;
use super::follow::{self, Followed};
use super::limb::Rival;
use super::recorded::Recording;
use super::switches::Switch;

/// What explains a node, before it is measured.
pub struct Guess {
    pub kind: ConstraintKind,
    pub node: usize,
    pub weight: Setting,
    pub rivals: Vec<Rival>,
    pub switch: Option<(Switch, Vec<Stretch>)>,
    /// The frames on which it counts, where that is not all of them.
    pub on: Option<Vec<bool>>,
}

/// A search as far as it has come.
pub struct Search<'a> {
    pub scene: &'a Scene,
    pub addresses: Addresses,
    pub recording: Recording,
    /// What is explained of each node: translation, rotation, scale.
    pub explained: Vec<[bool; 3]>,
    /// Nodes that go with others on all frames, with what explains them.
    pub follows: BTreeMap<usize, Vec<Followed>>,
    pub guesses: Vec<Guess>,
    /// Joints that are in limbs.
    pub limbs: BTreeSet<usize>,
}

impl Search<'_> {
    pub fn guess(&mut self, node: usize, kind: ConstraintKind, rivals: Vec<Rival>) {
        self.guesses.push(Guess {
            kind,
            node,
            weight: Setting::Constant(1.0),
            rivals,
            switch: None,
            on: None,
        });
    }

    /// What of a node moves by nothing that is known; controls are keyed.
    pub fn open(&self, node: usize) -> [bool; 3] {
        let own = &self.recording.nodes[node];
        if own.kind == NodeKind::Control {
            return [false; 3];
        }
        let wanted = follow::wanted(&self.recording, node);
        let explained = self.explained[node];
        [0, 1, 2].map(|part| wanted[part] && !explained[part])
    }

    pub fn is_open(&self, node: usize) -> bool {
        self.open(node).contains(&true)
    }

    pub fn unexplained(&self) -> impl Iterator<Item = usize> + '_ {
        (0..self.recording.nodes.len()).filter(|node| self.is_open(*node))
    }

    /// What holds when, take by take.
    pub fn stretches(&self, holds: &[usize], name: impl Fn(usize) -> String) -> Vec<Stretch> {
        let frames = &self.recording.frames;
        let starts = (0..holds.len()).filter(|&index| {
            index == 0 || holds[index] != holds[index - 1] || frames[index].0 != frames[index - 1].0
        });
        starts
            .map(|index| Stretch { take: frames[index].0, from: frames[index].1, holds: name(holds[index]) })
            .collect()
    }

    pub fn name(&self, node: usize) -> String {
        without_namespace_of_node(self.addresses.node(self.recording.nodes[node].node)).to_owned()
    }
}
