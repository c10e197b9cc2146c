//! The inventory: what else both scenes hold beside motion, and what is missing on one side.

use std::collections::HashMap;

use super::claim::Claim;
use crate::address::{Addresses, NodeRef};
use crate::scene::{Scene, Take};

/// How much of a scene a result is expected to hold, from the most to the least.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Scope {
    /// All of it, layers by layer.
    Everything,
    /// All but how motion is spread over layers.
    AllButLayers,
    /// Neither layers nor clips and markers: these were to change.
    MotionAlone,
    /// Clips and markers alone: motion went to another rig, which has nodes and sets of its own.
    Timeline,
    /// Nothing beside motion.
    Nothing,
}

/// What the result lacks of the source, a sentence each; what is only in the result as well.
pub fn inventory(source: &Scene, result: &Scene, claim: &Claim, scope: Scope) -> Vec<String> {
    let mut missing = Vec::new();
    if scope == Scope::Nothing {
        return missing;
    }
    let claimed = |take: usize| claim.spans.iter().filter(move |span| span.result == take);
    for (index, take) in result.takes.iter().enumerate() {
        for span in claimed(index) {
            between(&source.takes[span.source], take, claim, span, scope, &mut missing);
        }
    }
    for (index, take) in source.takes.iter().enumerate() {
        if !claim.takes_chosen && !claim.spans.iter().any(|span| span.source == index) {
            missing.push(format!("the take '{}' is not in the result", take.name));
        }
    }
    if scope == Scope::Timeline {
        return missing;
    }
    for set in &source.sets {
        if !result.sets.contains(set) {
            missing.push(format!("the set '{}' is missing or has other patterns", set.name));
        }
    }
    nodes(source, result, claim, &mut missing);
    if scope < Scope::MotionAlone {
        for constraint in &source.constraints {
            let there = |own: &&crate::constraint::Constraint| {
                own.name == constraint.name && own.kind.name() == constraint.kind.name()
            };
            let count = |scene: &Scene| scene.constraints.iter().filter(there).count();
            if count(result) < count(source) {
                missing.push(format!(
                    "the constraint '{}' ({}) is not in the result",
                    constraint.name,
                    constraint.kind.name()
                ));
            }
        }
    }
    missing
}

fn between(
    source: &Take,
    result: &Take,
    claim: &Claim,
    span: &super::Span,
    scope: Scope,
    missing: &mut Vec<String>,
) {
    let name = &result.name;
    let at = |time: nimble_curve_curves::time::Ticks| {
        nimble_curve_curves::time::Ticks(span.clock.result_at(time.as_f64()).round() as i64)
    };
    let notes = scope != Scope::MotionAlone;
    for clip in source.clips.iter().filter(|_| notes) {
        let there = (result.clips.iter()).any(|own| own.name == clip.name && own.note == clip.note);
        let (first, last) = (at(clip.range.first), at(clip.range.last));
        if !there && first <= span.range.last && span.range.first <= last {
            missing.push(format!("take '{name}': the clip '{}' is missing or has another note", clip.name));
        }
    }
    for marker in source.markers.iter().filter(|_| notes) {
        let time = at(marker.time);
        let there =
            (result.markers.iter()).any(|own| own.name == marker.name && (own.time.0 - time.0).abs() <= 1);
        if !there && span.range.contains(time) {
            missing.push(format!("take '{name}': the marker '{}' is missing or elsewhere", marker.name));
        }
    }
    if scope == Scope::Everything {
        // Layers may have come between them.
        let mut onward = result.layers.iter();
        for layer in &source.layers {
            let Some(own) = onward.clone().position(|own| own.name == layer.name) else {
                missing.push(format!("take '{name}': the layer '{}' is missing", layer.name));
                continue;
            };
            let Some(own) = onward.nth(own) else { continue };
            if own.muted != layer.muted {
                missing.push(format!("take '{name}': the layer '{}' is another one", layer.name));
            }
            // Muted layers come to nothing, so that nothing else tells whether they are still there.
            let lost = layer.muted
                && layer.tracks.iter().any(|track| {
                    let (rig, node) = (track.target.rig, track.target.node);
                    let excused = claim.excuses.iter().any(|excuse| excuse.target == track.target);
                    let partner = claim.nodes.iter().find(|(from, _)| *from == (rig, node));
                    let there = partner.is_some_and(|(_, (rig, node))| {
                        own.tracks.iter().any(|own| {
                            (own.target.rig, own.target.node) == (*rig, *node)
                                && own.target.property == track.target.property
                        })
                    });
                    !there && !excused
                });
            if lost {
                missing.push(format!("take '{name}': the muted layer '{}' lost tracks", layer.name));
            }
        }
    }
}

fn nodes(source: &Scene, result: &Scene, claim: &Claim, missing: &mut Vec<String>) {
    let addresses = Addresses::new(source);
    let mut partners: HashMap<NodeRef, NodeRef> = HashMap::with_capacity(claim.nodes.len());
    for &(from, to) in &claim.nodes {
        partners.entry(from).or_insert(to);
    }
    for &node in addresses.nodes() {
        let Some(to) = partners.get(&node) else {
            missing.push(format!("the node {} is not in the result", addresses.node(node)));
            continue;
        };
        let (Some(from), Some(own)) =
            (source.rigs[node.0].node(node.1), result.rigs.get(to.0).and_then(|rig| rig.node(to.1)))
        else {
            continue;
        };
        for attribute in &from.attributes {
            if own.attribute(&attribute.name).is_none() {
                missing.push(format!(
                    "the attribute {}:{} is not in the result",
                    addresses.node(node),
                    attribute.name
                ));
            }
        }
        if from.bind.is_some() && own.bind.is_none() {
            missing.push(format!("the bind pose of {} is not in the result", addresses.node(node)));
        }
    }
}
