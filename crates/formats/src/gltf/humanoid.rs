//! What extensions tell of humanoids: which node is which bone, and the numbers of their faces (*VRMC_vrm* and
//! *VRMC_vrm_animation*, 1.0).

use std::collections::BTreeMap;

use nimble_curve_core::controller::Controller;
use nimble_curve_core::rig::{Attribute, AttributeKind, HUMAN_BONE, NodeId, Rig};
use nimble_curve_core::scene::{Target, Track};
use nimble_curve_core::value::Quantity;
use serde_json::Value;

/// The humanoid of a document.
#[derive(Debug, Default)]
pub struct Humanoid {
    /// The place of the node of each bone.
    bones: BTreeMap<String, usize>,
    /// Expressions, with the node whose movement along x is their weight, in a file of animations.
    expressions: BTreeMap<String, Option<usize>>,
}

impl Humanoid {
    /// What the extensions of a document tell.
    pub fn of(extensions: Option<&Value>) -> Humanoid {
        let mut found = Humanoid::default();
        let extension = |name: &str| extensions.and_then(|all| all.get(name));
        for told in [extension("VRMC_vrm"), extension("VRMC_vrm_animation")].into_iter().flatten() {
            let bones = told.pointer("/humanoid/humanBones").and_then(Value::as_object);
            for (bone, at) in bones.into_iter().flatten() {
                if let Some(node) = place(at) {
                    found.bones.insert(bone.clone(), node);
                }
            }
            for kind in ["preset", "custom"] {
                let own = told.get("expressions").and_then(|all| all.get(kind)?.as_object());
                for (name, expression) in own.into_iter().flatten() {
                    found.expressions.insert(name.clone(), place(expression));
                }
            }
        }
        found
    }

    /// Tells nodes which bones they are, and gives their numbers a place: the node that drives one, else the head.
    pub fn tell(&self, rig: &mut Rig, ids: &[NodeId]) {
        for (bone, place) in &self.bones {
            let Some(node) = ids.get(*place).and_then(|id| rig.node_mut(*id)) else { continue };
            let kind = AttributeKind::Text { default: bone.clone() };
            node.attributes.push(Attribute { name: HUMAN_BONE.to_owned(), kind });
        }
        let head = ["head", "hips"].iter().find_map(|bone| self.bones.get(*bone)).copied();
        for (name, driver) in &self.expressions {
            let Some(node) = driver.or(head).and_then(|place| rig.node_mut(*ids.get(place)?)) else {
                continue;
            };
            if node.attribute(name).is_some() || node.op(name).is_some() {
                continue;
            }
            let (min, max) = (Some(0.0), Some(1.0));
            let kind = AttributeKind::Number { default: 0.0, min, max, quantity: Quantity::Number };
            node.attributes.push(Attribute { name: name.clone(), kind });
        }
    }

    /// Whether a number of a node is an expression that its movement along x drives.
    pub fn is_driven(&self, place: usize, name: &str) -> bool {
        self.expressions.get(name) == Some(&Some(place))
    }

    /// Makes what moves the drivers of expressions drive their numbers.
    pub fn express(&self, tracks: &mut [Track], ids: &[NodeId]) {
        for (name, driver) in &self.expressions {
            let Some(id) = driver.and_then(|place| ids.get(place)) else { continue };
            let is_it =
                |track: &&mut Track| track.target.node == *id && track.target.property == "translation";
            let Some(track) = tracks.iter_mut().find(is_it) else { continue };
            let along_x = match &track.controller {
                Controller::Samples(samples) => samples.lines().into_iter().next(),
                other => other.curves().first().cloned(),
            };
            if let Some(curve) = along_x {
                track.controller = Controller::Components(vec![curve]);
                track.target = Target { property: name.clone(), ..track.target.clone() };
            }
        }
    }
}

fn place(value: &Value) -> Option<usize> {
    usize::try_from(value.get("node")?.as_u64()?).ok()
}
