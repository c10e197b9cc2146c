//! What comes to nothing as it plays, and to something as soon as somebody switches it on: layers that are muted or have weight 0,
//! and entries of stacks that have weight 0.

use std::collections::HashSet;
use std::fmt;

use super::claim::Claim;
use super::means::Shift;
use super::scenes::Scenes;
use super::verdict::{Limits, Verdict};
use crate::address::NodeRef;
use crate::controller::{Controller, StackEntry, Weight};
use crate::scene::{Layer, Scene, Take, Target, Track, TracksByNode};

/// What sleeps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Asleep {
    /// A layer, by its name.
    Layer(String),
    /// An entry of a property's stack: the layer that the property is on there, and the entry's name.
    Entry(String, String),
}

impl fmt::Display for Asleep {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Asleep::Layer(layer) => write!(f, "the layer '{layer}'"),
            Asleep::Entry(layer, entry) => write!(f, "'{entry}' in the stack of the layer '{layer}'"),
        }
    }
}

/// One side of something that was woken: a layer, in place of the one at a position, with some of its tracks replaced.
struct Woken {
    at: usize,
    /// The layer without its tracks, switched on.
    layer: Layer,
    /// Tracks in place of those of the same properties.
    tracks: Vec<Track>,
}

impl Woken {
    fn layer(at: usize, of: &Layer) -> Woken {
        let layer = Layer { muted: false, weight: awake(&of.weight), ..of.shell() };
        Woken { at, layer, tracks: Vec::new() }
    }

    fn entry(at: usize, of: &Layer, track: &Track, entry: usize) -> Woken {
        let mut made = track.clone();
        if let Controller::Stack(entries) = &mut made.controller {
            entries[entry].weight = Weight::FULL;
        }
        Woken { at, layer: of.shell(), tracks: vec![made] }
    }

    /// The tracks of a take that count, this one's among them.
    fn among<'s>(&'s self, take: &'s Take) -> TracksByNode<'s> {
        let layers = take.layers.iter().enumerate();
        TracksByNode::of(layers.filter(|(at, layer)| *at == self.at || layer.is_active()).flat_map(
            |(at, layer)| {
                let is_own = at == self.at;
                layer.tracks.iter().map(move |track| match is_own {
                    false => (layer, track),
                    true => {
                        let made = self.tracks.iter().find(|made| made.target == track.target);
                        (&self.layer, made.unwrap_or(track))
                    }
                })
            },
        ))
    }

    /// The nodes on which it makes a difference.
    fn nodes(&self, take: &Take) -> HashSet<NodeRef> {
        let all = if self.tracks.is_empty() { &take.layers[self.at].tracks } else { &self.tracks };
        all.iter().map(|track| (track.target.rig, track.target.node)).collect()
    }
}

/// The weight of what is switched on.
fn awake(weight: &Weight) -> Weight {
    if weight.constant() == Some(0.0) { Weight::FULL } else { weight.clone() }
}

fn sleeps(entry: &StackEntry) -> bool {
    entry.weight.constant() == Some(0.0)
}

/// What sleeps in both takes, by its names; of several of one name each is that in its order.
fn of_both(claim: &Claim, source: &Take, result: &Take) -> Vec<(Asleep, Woken, Woken)> {
    let asleep = |take: &Take| -> Vec<usize> {
        (0..take.layers.len()).filter(|&at| !take.layers[at].is_active()).collect()
    };
    let mut left = asleep(result);
    let mut both = Vec::new();
    for at in asleep(source) {
        let layer = &source.layers[at];
        let Some(found) = left.iter().position(|&own| result.layers[own].name == layer.name) else {
            continue;
        };
        let own = left.remove(found);
        let woken = (Woken::layer(at, layer), Woken::layer(own, &result.layers[own]));
        both.push((Asleep::Layer(layer.name.clone()), woken.0, woken.1));
    }
    let partner = |target: &Target| {
        let of_amount = claim.amounts.iter().find(|amount| amount.source == *target);
        let node = (target.rig, target.node);
        let of_node = || claim.nodes.iter().find(|(from, _)| *from == node).map(|(_, own)| *own);
        let of_turn = || claim.turns.iter().find(|turn| turn.source == node).map(|turn| turn.result);
        let of_shift =
            || claim.shifts.iter().find(|shift| shift.of.last() == Some(&node)).map(|shift| shift.result);
        of_amount.map(|amount| amount.result.clone()).or_else(|| {
            let (rig, node) = of_node().or_else(of_turn).or_else(of_shift)?;
            Some(Target { rig, node, property: target.property.clone() })
        })
    };
    for (at, layer) in source.layers.iter().enumerate().filter(|(_, layer)| layer.is_active()) {
        for track in &layer.tracks {
            let Controller::Stack(entries) = &track.controller else { continue };
            if !entries.iter().any(sleeps) {
                continue;
            }
            let Some(partner) = partner(&track.target) else { continue };
            let of_layer = result.layers.iter().enumerate().find(|(_, own)| own.name == layer.name);
            let Some((own_at, own_layer)) = of_layer else { continue };
            let Some(own) = own_layer.tracks.iter().find(|own| own.target == partner) else { continue };
            let Controller::Stack(own_entries) = &own.controller else { continue };
            for (index, entry) in entries.iter().enumerate().filter(|(_, entry)| sleeps(entry)) {
                let own_entry = own_entries.iter().position(|own| own.name == entry.name && sleeps(own));
                let Some(own_index) = own_entry else { continue };
                both.push((
                    Asleep::Entry(layer.name.clone(), entry.name.clone()),
                    Woken::entry(at, layer, track, index),
                    Woken::entry(own_at, own_layer, own, own_index),
                ));
            }
        }
    }
    both
}

/// Whether constraints or couples have a part in where a node is: what they would make of something that sleeps nobody evaluates.
fn is_by_constraints(scenes: &Scenes<'_>, (from, to): (NodeRef, NodeRef)) -> bool {
    let is_driven = |scene: &Scene, node| scene.is_driven(node) || scene.is_coupled(node);
    is_driven(scenes.source, from) || is_driven(scenes.result, to)
}

/// What would come of each of these if it alone were switched on, on the nodes where it makes a difference.
pub(super) fn look(scenes: &Scenes<'_>, limits: Limits) -> Verdict {
    let mut verdict = Verdict::new(limits);
    let (source, result) = scenes.takes();
    for (asleep, from, own) in of_both(scenes.claim, source, result) {
        let tracks = (from.among(source), own.among(result));
        let woken = Scenes {
            source: scenes.source,
            result: scenes.result,
            claim: scenes.claim,
            span: scenes.span,
            precision: scenes.precision,
            addresses: scenes.addresses,
            tracks: &tracks,
            woken: Some(&asleep),
        };
        verdict.take_in(woken.differences((&from.nodes(source), &own.nodes(result)), limits));
    }
    // It is not what plays.
    Verdict { asleep: std::mem::take(&mut verdict.judged), same: 0, ..verdict }
}

impl Scenes<'_> {
    /// What is claimed of some nodes of the source, or of the result.
    fn differences(&self, (theirs, ours): (&HashSet<NodeRef>, &HashSet<NodeRef>), limits: Limits) -> Verdict {
        let mut verdict = Verdict::new(limits);
        let claim = self.claim;
        let is_meant = |from: NodeRef, to: NodeRef| {
            (theirs.contains(&from) || ours.contains(&to)) && !is_by_constraints(self, (from, to))
        };
        // What was changed on purpose was changed as it plays.
        let is_edited =
            |node: NodeRef| claim.edits.iter().any(|edit| (edit.take, edit.node) == (self.span.source, node));
        for &(from, to) in &claim.nodes {
            if is_meant(from, to) && !is_edited(from) {
                verdict.take_in(self.node((from, to), limits));
            }
        }
        for turn in &claim.turns {
            let mut of = turn.of.iter().map(|factor| factor.node).chain([turn.source]);
            if of.any(|node| is_meant(node, turn.result)) {
                verdict.take_in(self.turn(turn, limits));
            }
        }
        let is_held = |shift: &Shift| {
            claim.holds.iter().any(|hold| hold.take == self.span.source && hold.result.0 == shift.result)
        };
        for shift in claim.shifts.iter().filter(|shift| !is_held(shift)) {
            if shift.of.iter().any(|node| is_meant(*node, shift.result)) {
                verdict.take_in(self.shift(shift, limits));
            }
        }
        for amount in &claim.amounts {
            let node = |target: &Target| (target.rig, target.node);
            if is_meant(node(&amount.source), node(&amount.result)) {
                verdict.take_in(self.amount(amount, limits));
            }
        }
        verdict
    }
}
