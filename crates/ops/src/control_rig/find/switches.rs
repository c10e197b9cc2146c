//! Attributes that say which of several explanations holds, with keys where that changes.

use nimble_curve_curves::curve::{Discrete, DiscreteCurve};
use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::rig::{Attribute, AttributeKind, NodeKind};
use nimble_curve_scene::scene::{Scene, Target, Track};

use super::Stretch;
use super::recorded::Recording;
use crate::control_rig::written::base_layer;

/// What a switch is called that is on.
pub const ON: &str = "on";

/// The same where it is off.
pub const OFF: &str = "off";

/// An attribute that switches.
#[derive(Clone, Debug)]
pub struct Switch {
    target: Target,
    attribute: Attribute,
}

impl Switch {
    /// A menu of options for what stands at a place of a recording: on the control that hangs on it, else on `control`.
    pub fn menu(
        scene: &Scene,
        recording: &Recording,
        node: usize,
        control: usize,
        options: Vec<String>,
    ) -> Switch {
        let is_below = |index: &usize| {
            recording.nodes[*index].kind == NodeKind::Control && recording.hangs_on(*index, node)
        };
        let below = (0..recording.nodes.len())
            .filter(is_below)
            .min_by_key(|index| recording.steps_between(*index, node));
        let default = options.first().cloned().unwrap_or_default();
        let kind = AttributeKind::Choice { options, default };
        Switch::on(scene, recording, below.unwrap_or(control), "space", kind)
    }

    /// A switch between a goal and a chain.
    pub fn of_limb(scene: &Scene, recording: &Recording, goal: usize) -> Switch {
        Switch::on(scene, recording, goal, "ik", AttributeKind::Switch { default: true })
    }

    fn on(scene: &Scene, recording: &Recording, node: usize, name: &str, kind: AttributeKind) -> Switch {
        let (rig, id) = recording.nodes[node].node;
        let is_free = |name: &str| {
            scene
                .rigs
                .get(rig)
                .and_then(|rig| rig.node(id))
                .is_none_or(|node| node.attribute(name).is_none() && node.op(name).is_none())
        };
        let mut free = name.to_owned();
        let mut next = 2;
        while !is_free(&free) {
            free = format!("{name}_{next}");
            next += 1;
        }
        let attribute = Attribute { name: free.clone(), kind };
        Switch { target: Target::new(rig, id, free), attribute }
    }

    pub fn target(&self) -> &Target {
        &self.target
    }

    /// Adds the attribute to a scene, and its keys to the takes.
    ///
    /// # Errors
    /// Where the stretches of a take are not in order.
    pub fn add_to(&self, scene: &mut Scene, stretches: &[Stretch]) -> Result<(), EvaluateError> {
        if let Some(node) = scene.rigs[self.target.rig].node_mut(self.target.node) {
            node.attributes.push(self.attribute.clone());
        }
        for (index, take) in scene.takes.iter_mut().enumerate() {
            let value = |own: &Stretch| match self.attribute.kind {
                AttributeKind::Switch { .. } => Discrete::Switch(own.holds == ON),
                _ => Discrete::Choice(own.holds.clone()),
            };
            let keys: Vec<(Ticks, Discrete)> =
                stretches.iter().filter(|own| own.take == index).map(|own| (own.from, value(own))).collect();
            let curve = DiscreteCurve::new(keys).map_err(|_| EvaluateError::Unfit {
                channel: self.target.property.clone(),
                controller: "discrete keys",
            })?;
            if !curve.keys().is_empty() {
                let controller = Controller::Discrete(curve);
                base_layer(take).tracks.push(Track { target: self.target.clone(), controller });
            }
        }
        Ok(())
    }
}
