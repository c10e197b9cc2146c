//! One node of the result beside the node of the source that it is claimed to be.

use std::collections::BTreeSet;

use nimble_curve_curves::value::Quantity;

use super::claim::By;
use super::local::{Local, angles};
use super::look::look;
use super::number::Number;
use super::scenes::{Drivers, Scenes, kind_of, node_of, target};
use super::verdict::{Limits, Part, Verdict};
use crate::address::NodeRef;
use crate::evaluate::{ChannelSampler, driving};
use crate::rig::{Node, OpValue};
use crate::scene::{Layer, Scene, Take, Track};

impl<'a> Scenes<'a> {
    /// What came of a pair of nodes.
    pub fn node(&self, (from, to): (NodeRef, NodeRef), limits: Limits) -> Verdict {
        let mut verdict = Verdict::new(limits);
        let (Some(own), Some(other)) = (node_of(self.result, to), node_of(self.source, from)) else {
            return verdict;
        };
        let drivers = (self.tracks.0.on(from).to_vec(), self.tracks.1.on(to).to_vec());
        let is_edited =
            self.claim.edits.iter().any(|edit| (edit.take, edit.node) == (self.span.source, from));
        let by = match self.claim.by {
            // In a list with pivots a step's error moves the place as far as its arm reaches, and the next step turns that
            // on: as long as both sides have the same steps, these are what is held to the tolerance.
            By::Transforms if !is_edited && other.canonical().is_none() && have_same_steps(other, own) => {
                By::Properties
            }
            by => by,
        };
        if by == By::Transforms {
            self.transform((from, to), (other, own), &drivers, &mut verdict);
        }
        self.attributes((from, to), (other, own), &drivers, by, &mut verdict);
        verdict
    }

    fn transform(
        &self,
        (from, to): (NodeRef, NodeRef),
        (other, own): (&Node, &Node),
        (theirs, ours): &(Drivers<'a>, Drivers<'a>),
        verdict: &mut Verdict,
    ) {
        let steps = |drivers: &Drivers<'a>, node: &Node| -> Drivers<'a> {
            drivers.iter().filter(|(_, track)| node.op(&track.target.property).is_some()).copied().collect()
        };
        let (theirs, ours) = (steps(theirs, other), steps(ours, own));
        let all = self.constrained((from, to));
        let is_plain = self.claim.space.is_identity() && self.span.clock.is_same();
        let edit = self.claim.edits.iter().find(|edit| (edit.take, edit.node) == (self.span.source, from));
        let is_alike = match &all {
            None => true,
            Some((theirs, ours)) => {
                are_same(theirs, ours) && self.source.constraints == self.result.constraints
            }
        };
        let is_still_so = is_alike && other.transform == own.transform && are_same(&theirs, &ours);
        if is_plain && edit.is_none() && is_still_so {
            verdict.same += 3;
            return;
        }
        let (source, result) = (self.source_node(from), self.result_node(to));
        let (source, result) = match (source, result) {
            (Ok(source), Ok(result)) => (source, result),
            (Err(error), _) | (_, Err(error)) => {
                verdict.unjudged.push((self.addresses.1.node(to).to_owned(), error.to_string()));
                return;
            }
        };
        let mut local = Local {
            scenes: self,
            map: &self.claim.space,
            source,
            result,
            edit,
            angles: [
                angles(self.source, self.takes().0, from, other, &theirs),
                angles(self.result, self.takes().1, to, own, &ours),
            ],
            part: Part::Rotation,
            whole: false,
        };
        // What is sheared has no rotation of its own: there the images of the unit axes are looked at, as they are.
        let is_sheared = [other, own].iter().any(|node| node.transform.iter().any(|op| shears(&op.value)));
        local.whole = is_sheared;
        let parts: &[Part] = if is_sheared {
            &[Part::Rotation, Part::Place]
        } else {
            &[Part::Rotation, Part::Place, Part::Size]
        };
        for part in parts.iter().cloned() {
            let excused = other
                .transform
                .iter()
                .any(|op| changes(other, &op.value, &part, is_sheared) && self.is_excused(from, &op.name));
            if excused {
                continue;
            }
            let moving = |drivers: &Drivers<'a>, node: &Node| -> Drivers<'a> {
                // What a stated change makes of one part may lean on another.
                let matters = |(_, track): &&(&Layer, &Track)| {
                    node.op(&track.target.property)
                        .is_some_and(|op| edit.is_some() || changes(node, &op.value, &part, is_sheared))
                };
                drivers.iter().filter(matters).copied().collect()
            };
            let sides = all.clone().unwrap_or_else(|| (moving(&theirs, other), moving(&ours, own)));
            local.part = part.clone();
            let quantity = match part {
                Part::Rotation => Quantity::Angle,
                Part::Place => Quantity::Length,
                _ => Quantity::Number,
            };
            let seen = look(&mut local, &self.looks(&sides, verdict.limits.of(quantity)));
            // The property that this is about: one that is animated, else the first.
            let property = |drivers: &Drivers<'a>, node: &Node| {
                let own = |(_, track): &&(&Layer, &Track)| {
                    let step = node.op(&track.target.property);
                    step.is_some_and(|op| changes(node, &op.value, &part, is_sheared))
                };
                let animated = drivers.iter().find(own).map(|(_, track)| track.target.property.clone());
                let first = || {
                    node.transform
                        .iter()
                        .find(|op| changes(node, &op.value, &part, is_sheared))
                        .map(|op| op.name.clone())
                };
                animated.or_else(first).unwrap_or_else(|| part.name().to_owned())
            };
            let named = (property(&theirs, other), property(&ours, own));
            verdict.judged.push(self.judged(from, to, part, named, quantity, &seen));
        }
    }

    /// All that has a part in where a pair of nodes is, where constraints drive one of them.
    fn constrained(&self, (from, to): (NodeRef, NodeRef)) -> Option<(Drivers<'a>, Drivers<'a>)> {
        let is_driven = |scene: &Scene, node| {
            !scene.constraints.is_empty() && (scene.is_driven(node) || scene.is_coupled(node))
        };
        if !is_driven(self.source, from) && !is_driven(self.result, to) {
            return None;
        }
        let (source_take, result_take) = self.takes();
        let (theirs, ours) = (self.tracks.0.on(from), self.tracks.1.on(to));
        Some((
            driving_tracks(self.source, source_take, from, theirs),
            driving_tracks(self.result, result_take, to, ours),
        ))
    }

    fn attributes(
        &self,
        (from, to): (NodeRef, NodeRef),
        (other, own): (&Node, &Node),
        (theirs, ours): &(Drivers<'a>, Drivers<'a>),
        by: By,
        verdict: &mut Verdict,
    ) {
        let animated: BTreeSet<&str> = (theirs.iter().chain(ours))
            .map(|(_, track)| track.target.property.as_str())
            .filter(|name| {
                let is_step = other.op(name).is_some() && own.attribute(name).is_none();
                by == By::Properties || !is_step
            })
            .collect();
        for name in animated {
            if self.is_excused(from, name) {
                continue;
            }
            let of = |drivers: &Drivers<'a>| -> Drivers<'a> {
                drivers.iter().filter(|(_, track)| track.target.property == name).copied().collect()
            };
            let sides = (of(theirs), of(ours));
            let is_plain = self.claim.space.is_identity() && self.span.clock.is_same();
            let is_alike = other.attribute(name) == own.attribute(name) && other.op(name) == own.op(name);
            if is_plain && is_alike && are_same(&sides.0, &sides.1) {
                verdict.same += 1;
                continue;
            }
            let targets = (target(from, name), target(to, name));
            let address = self.addresses.0.property(&targets.0);
            let (Some(kind), Some(_)) = (kind_of(self.source, &targets.0), kind_of(self.result, &targets.1))
            else {
                if !sides.0.is_empty() {
                    verdict.missing.push(format!("{address} is not in the result"));
                }
                continue;
            };
            let source = ChannelSampler::of_tracks(self.source, self.takes().0, &targets.0, &sides.0);
            let result = ChannelSampler::of_tracks(self.result, self.takes().1, &targets.1, &sides.1);
            let (source, result) = match (source, result) {
                (Ok(source), Ok(result)) => (source, result),
                (Err(error), _) | (_, Err(error)) => {
                    verdict.unjudged.push((address, error.to_string()));
                    continue;
                }
            };
            let map = &self.claim.space;
            let mut number = Number { scenes: self, map, then: None, kind, source, result };
            let limit = verdict.limits.of(kind.quantity());
            let seen = look(&mut number, &self.looks(&sides, limit));
            let named = (name.to_owned(), name.to_owned());
            let part = Part::Attribute(name.to_owned());
            verdict.judged.push(self.judged(from, to, part, named, kind.quantity(), &seen));
        }
    }
}

/// The tracks of all that drives a node, of what is above it as well; `own` are those on it.
fn driving_tracks<'a>(
    scene: &Scene,
    take: &'a Take,
    node: NodeRef,
    own: &[(&'a Layer, &'a Track)],
) -> Drivers<'a> {
    let Ok((nodes, properties)) = driving(scene, [node]) else {
        // What goes in a circle is told by who works it out.
        return own.to_vec();
    };
    let nodes: BTreeSet<NodeRef> = nodes.into_iter().collect();
    let is_step = |track: &Track| {
        let of = node_of(scene, (track.target.rig, track.target.node));
        of.is_some_and(|of| of.op(&track.target.property).is_some())
    };
    let has_part = |(_, track): &(&Layer, &Track)| {
        let node = (track.target.rig, track.target.node);
        nodes.contains(&node) && is_step(track) || properties.contains(&track.target)
    };
    take.active_tracks().filter(has_part).collect()
}

/// Whether two lists of drivers are the same to the bit, and come to the same.
fn are_same(theirs: &Drivers<'_>, ours: &Drivers<'_>) -> bool {
    theirs.len() == ours.len()
        && theirs.iter().zip(ours).all(|((layer, track), (own_layer, own))| {
            track.target.property == own.target.property
                && (layer.mode, layer.rotations) == (own_layer.mode, own_layer.rotations)
                && layer.weight == own_layer.weight
                && track.controller == own.controller
        })
}

/// Whether a step can change a part of what a node's transform comes to. In a list with pivots everything that turns or
/// scales moves the place, too.
fn changes(node: &Node, step: &OpValue, part: &Part, whole: bool) -> bool {
    let is_matrix = matches!(step, OpValue::Matrix(_));
    match part {
        Part::Rotation => step.turns() || whole && !matches!(step, OpValue::Translate(_)),
        Part::Place => is_matrix || matches!(step, OpValue::Translate(_)) || node.canonical().is_none(),
        _ => is_matrix || matches!(step, OpValue::Scale(_) | OpValue::Shear(_)),
    }
}

/// Whether the transforms of two nodes are lists of the same steps.
fn have_same_steps(a: &Node, b: &Node) -> bool {
    let kind = |step: &OpValue| std::mem::discriminant(step);
    a.transform.len() == b.transform.len()
        && a.transform
            .iter()
            .zip(&b.transform)
            .all(|(a, b)| (&a.name, a.inverse, kind(&a.value)) == (&b.name, b.inverse, kind(&b.value)))
}

/// Whether a step may shear what stands on it.
fn shears(step: &OpValue) -> bool {
    matches!(step, OpValue::Shear(_) | OpValue::Matrix(_))
}
