//! Which order of a node stays far from gimbal lock, and how many keys each needs.

use std::collections::BTreeSet;

use glam::DQuat;
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{RotationOrder, pole_distance};
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::PropertySampler;
use nimble_curve_scene::rig::OpValue;
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{Scene, Target, Track};
use rayon::prelude::*;

use super::{ReorderError, chosen_or_all};
use crate::rotation_conversion::RotationConversion;

/// How near a node comes to the pole of an order, and what the order costs.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct OrderSurvey {
    /// The order.
    pub order: RotationOrder,
    /// The least distance from the pole in all takes, in radians.
    pub closest: f64,
    /// The frame at which that is.
    pub frame: f64,
    /// Keys of all takes and layers under the order, each curve's own; sampled values do not count.
    pub keys: usize,
}

/// All six orders for one node.
#[derive(Clone, Debug, PartialEq)]
pub struct NodeSurvey {
    /// The node.
    pub node: NodeRef,
    /// The order it has.
    pub current: RotationOrder,
    /// The six orders.
    pub orders: Vec<OrderSurvey>,
}

/// An order this far from its pole is as good as one that stays farther, in radians.
pub(super) const FAR: f64 = 0.61;

impl NodeSurvey {
    /// The order that stays farthest from the pole and needs the fewest keys: of those that stay 35° away, or come
    /// within 5° of the farthest where none does, the one with the fewest keys; of equals the present one, then the
    /// farthest.
    pub fn best(&self) -> OrderSurvey {
        let farthest = self.orders.iter().map(|survey| survey.closest).fold(0.0, f64::max);
        let enough = FAR.min(farthest - 5_f64.to_radians());
        let fine = self.orders.iter().filter(|survey| survey.closest >= enough);
        let rank = |survey: &OrderSurvey| {
            let other = survey.order != self.current;
            (survey.keys, other, -(survey.closest * 1e6) as i64)
        };
        *fine.min_by_key(|survey| rank(survey)).unwrap_or(&self.orders[0])
    }
}

/// Surveys the six orders for the nodes that patterns name; all with Euler rotations that move where there are none. Keys
/// are counted as [`super::reorder`] makes them, within a tolerance and with these handles.
///
/// # Errors
/// [`ReorderError::NothingChosen`].
pub fn survey(
    scene: &Scene,
    only: &[String],
    tolerance: f64,
    handles: Option<Handles>,
) -> Result<Vec<NodeSurvey>, ReorderError> {
    let chosen = chosen_or_all(scene, only)?;
    Ok(survey_nodes(scene, &chosen, tolerance, handles))
}

pub(super) fn survey_nodes(
    scene: &Scene,
    chosen: &BTreeSet<NodeRef>,
    tolerance: f64,
    handles: Option<Handles>,
) -> Vec<NodeSurvey> {
    let nodes: Vec<NodeRef> = chosen.iter().copied().collect();
    nodes.par_iter().filter_map(|&node| survey_node(scene, node, tolerance, handles)).collect()
}

pub(super) fn survey_node(
    scene: &Scene,
    node: NodeRef,
    tolerance: f64,
    handles: Option<Handles>,
) -> Option<NodeSurvey> {
    let Some(OpValue::Rotate { order: current, .. }) =
        scene.rigs[node.0].node(node.1)?.op(ROTATION).map(|op| op.value)
    else {
        return None;
    };
    let target = Target { rig: node.0, node: node.1, property: ROTATION.into() };
    let mut orders: Vec<OrderSurvey> = RotationOrder::ALL
        .map(|order| OrderSurvey { order, closest: f64::INFINITY, frame: 0.0, keys: 0 })
        .to_vec();
    let mut moves = false;
    let rest = scene.rigs[node.0].rest_value(node.1, ROTATION)?;
    for take in &scene.takes {
        let on_node: Vec<&Track> =
            take.tracks().map(|(_, track)| track).filter(|track| track.target == target).collect();
        if on_node.is_empty() {
            continue;
        }
        moves = true;
        let mut sampler = PropertySampler::new(scene, take, &target).ok()?;
        let range =
            on_node.iter().filter_map(|track| track.controller.range()).fold(take.range, |a, b| a.union(b));
        let step = scene.rate.ticks_per_frame() / 4.0;
        for index in 0..=((range.last - range.first).as_f64() / step) as usize {
            let time = range.first.as_f64() + index as f64 * step;
            let rotation = sampler.value_at(time).rotation()?;
            for survey in &mut orders {
                let distance = pole_distance(survey.order, rotation);
                if distance < survey.closest {
                    (survey.closest, survey.frame) = (distance, time / scene.rate.ticks_per_frame());
                }
            }
        }
        for survey in &mut orders {
            let turning = RotationConversion {
                order: survey.order,
                before: DQuat::IDENTITY,
                after: DQuat::IDENTITY,
                tolerance: tolerance.into(),
                handles,
                cache: None,
                rate: scene.rate,
                range: take.range,
                at_home: on_node.len() == 1,
            };
            for track in &on_node {
                let turned = turning.apply(&track.controller, &rest);
                let controller = turned.as_ref().map_or(&track.controller, |turned| &turned.controller);
                survey.keys += controller.key_count();
            }
        }
    }
    moves.then_some(NodeSurvey { node, current, orders })
}

/// How near a controller comes to the pole of each order, in order of [`RotationOrder::ALL`].
pub(super) fn closest_by_order(
    controller: &Controller,
    rest: &Value,
    range: TimeRange,
    scene: &Scene,
) -> Option<[f64; 6]> {
    let mut sampler = nimble_curve_scene::evaluate::Sampler::new(
        controller,
        nimble_curve_scene::scene::PropertyKind::Rotation,
        rest.clone(),
    )
    .ok()?;
    let range = controller.range().map_or(range, |own| own.union(range));
    let step = scene.rate.ticks_per_frame() / 4.0;
    let mut closest = [f64::INFINITY; 6];
    for index in 0..=((range.last - range.first).as_f64() / step) as usize {
        let rotation = sampler.value_at(range.first.as_f64() + index as f64 * step).rotation()?;
        for (closest, order) in closest.iter_mut().zip(RotationOrder::ALL) {
            *closest = closest.min(pole_distance(order, rotation));
        }
    }
    Some(closest)
}
