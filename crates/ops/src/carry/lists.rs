//! Nodes whose transform is a list of steps, such as pivots, and whose partners have the same list: step for step, exactly.

use nimble_curve_curves::rotation::angle_between;
use nimble_curve_scene::ledger::Fate;
use nimble_curve_scene::rig::{Node, OpValue, TransformOp};
use nimble_curve_scene::scene::LayerMode;

use super::Job;
use super::links::NodePairing;
use super::output::Output;
use super::tracks::{OnLayer, Tracks};
use crate::rotation_conversion::ConvertedRotation;
use crate::vectors::Linear;

/// Rotations and places closer than this, in radians and parts of their length, are the same.
const SAME: f64 = 1e-9;

impl Job<'_> {
    /// Whether a node and its partner have the same list of steps, in axes that rest alike, so that each step can go over by itself: all
    /// that turns rests by the same angles, and every place but the first is as much farther as the travel.
    pub(super) fn is_same_list(&self, link: &NodePairing) -> bool {
        let node = link.place.node;
        let (Some(own), Some(other)) = (self.from.rig.node(node), self.onto.rig.node(link.target)) else {
            return false;
        };
        let is_list = self.onto.view(link.target).is_none() && self.from.view(node).is_none();
        let above = self.onto.above(link.target, |id| self.links.is_target(id));
        is_list
            && !link.in_chain
            && link.place.part == 1.0
            && self.between(link, node).is_empty()
            && angle_between(self.from.parent_world(node), above) < SAME
            && self.have_same_steps(own, other)
    }

    fn have_same_steps(&self, own: &Node, other: &Node) -> bool {
        let is_same = |(index, (a, b)): (usize, (&TransformOp, &TransformOp))| {
            let rests_alike = match (a.value, b.value) {
                (OpValue::Translate(a), OpValue::Translate(b)) => {
                    index == 0 || (b - self.scale * a).length() <= SAME * a.length().max(1.0)
                }
                (OpValue::Rotate { order, .. }, OpValue::Rotate { order: onto, .. }) => {
                    order == onto && angle_between(a.value.rotation(), b.value.rotation()) < SAME
                }
                (OpValue::RotateAxis { axis, .. }, OpValue::RotateAxis { axis: onto, .. }) => {
                    (axis - onto).length() < SAME
                        && angle_between(a.value.rotation(), b.value.rotation()) < SAME
                }
                (OpValue::Orient(_), OpValue::Orient(_)) => {
                    angle_between(a.value.rotation(), b.value.rotation()) < SAME
                }
                (OpValue::Scale(a), OpValue::Scale(b)) | (OpValue::Shear(a), OpValue::Shear(b)) => {
                    (a - b).length() < SAME
                }
                _ => false,
            };
            (&a.name, a.inverse) == (&b.name, b.inverse) && rests_alike
        };
        own.transform.len() == other.transform.len()
            && own.transform.iter().zip(&other.transform).enumerate().all(is_same)
    }

    /// Why nothing comes to a partner that is another list of steps.
    pub(super) fn why_unsaid(&self, link: &NodePairing) -> &str {
        let why = self.unsaid.get(&self.onto.node(link.target)).map(String::as_str);
        why.unwrap_or("the partner's steps are no place and one turn among others that rest")
    }

    /// What turns such a node, as it is.
    pub(super) fn listed_turns(&self, take: &Tracks<'_>, link: &NodePairing) -> Vec<Output> {
        let own = take.rotations(link.place.node).iter();
        own.map(|&(layer, track)| self.as_it_is(link, layer, track)).collect()
    }

    /// What moves such a node, each step as far from its rest as the travel grows.
    pub(super) fn listed_places(&self, take: &Tracks<'_>, link: &NodePairing) -> Vec<Output> {
        let own = take.translations(link.place.node).iter();
        own.map(|on| self.listed_place(take, link, *on)).collect()
    }

    fn listed_place(&self, take: &Tracks<'_>, link: &NodePairing, (layer, track): OnLayer<'_>) -> Output {
        let property = &track.target.property;
        let rest = |node: Option<&Node>| match node.and_then(|node| node.op(property)).map(|op| op.value) {
            Some(OpValue::Translate(place)) => Some(place),
            _ => None,
        };
        let rests = rest(self.from.rig.node(link.place.node)).zip(rest(self.onto.rig.node(link.target)));
        let Some((from, onto)) = rests else {
            return Output::failed(layer, track, format!("its partner has no '{property}'"));
        };
        let linear = Linear::new(glam::DQuat::IDENTITY, self.scale, from, onto, from, onto);
        let adds = take.take.layers[layer].mode == LayerMode::Additive;
        let linear = if adds { linear.of_differences() } else { linear };
        if linear.keeps() {
            return self.as_it_is(link, layer, track);
        }
        match linear.controller(&track.controller) {
            Some(controller) => {
                let turned =
                    ConvertedRotation { controller, fate: Fate::Exact, error: None, note: linear.note() };
                Output::made(layer, track, &self.onto.target(link.target, property), turned)
            }
            None => Output::failed(
                layer,
                track,
                format!("a {} controller cannot be scaled", track.controller.type_name()),
            ),
        }
    }
}
