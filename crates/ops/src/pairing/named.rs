//! How a map calls what is in a rig.

use std::collections::HashMap;

use nimble_curve_scene::address::{Addresses, without_namespace, without_namespace_of_node};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::rig::{NodeId, Rig};
use nimble_curve_scene::scene::{Scene, Take, Target};

/// A rig of a scene, and how a map calls what is in it: without namespaces where that is enough, as a map is for all files of a character.
pub(super) struct Named<'a> {
    pub scene: &'a Scene,
    pub index: usize,
    /// Takes that show how far its attributes go.
    takes: &'a [Take],
    /// How often each name without its namespace stands in the scene.
    count: HashMap<&'a str, usize>,
}

impl<'a> Named<'a> {
    pub fn new(scene: &'a Scene, index: usize) -> Named<'a> {
        let mut count: HashMap<&str, usize> = HashMap::new();
        for (_, node) in scene.rigs.iter().flat_map(Rig::nodes) {
            *count.entry(without_namespace(&node.name)).or_default() += 1;
        }
        Named { scene, index, takes: &[], count }
    }

    pub fn with_takes(self, takes: &'a [Take]) -> Named<'a> {
        Named { takes, ..self }
    }

    /// How far a number goes from zero at the keys and samples of the takes; `None` where none has it.
    pub fn seen(&self, target: &Target) -> Option<f64> {
        let tracks = self.takes.iter().flat_map(Take::tracks).filter(|(_, track)| track.target == *target);
        let most = |controller: &Controller| match controller {
            Controller::Samples(samples) => samples.values.iter().map(|value| value.abs()).reduce(f64::max),
            controller => {
                let keys = controller.curves().iter().flat_map(|curve| curve.keys());
                keys.map(|key| key.value.abs()).reduce(f64::max)
            }
        };
        tracks.filter_map(|(_, track)| most(&track.controller)).reduce(f64::max)
    }

    pub fn rig(&self) -> &'a Rig {
        &self.scene.rigs[self.index]
    }

    pub fn node(&self, addresses: &Addresses, id: NodeId) -> String {
        let whole = addresses.node((self.index, id));
        let Some(node) = self.rig().node(id) else { return whole.to_owned() };
        let bare = without_namespace(&node.name);
        let is_plain = whole == node.name && self.count.get(bare) == Some(&1) && !bare.is_empty();
        if is_plain { bare.to_owned() } else { whole.to_owned() }
    }

    pub fn property(&self, addresses: &Addresses, target: &Target) -> String {
        let whole = addresses.property(target);
        if self.scene.rigs.len() > 1 { whole } else { without_namespace_of_node(&whole).to_owned() }
    }

    /// All nodes but ends and the like.
    pub fn main_nodes(&self, addresses: &Addresses) -> Vec<String> {
        let main = self.rig().nodes().filter(|(_, node)| !node.kind.is_support());
        main.map(|(id, _)| self.node(addresses, id)).collect()
    }
}
