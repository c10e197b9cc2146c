//! What comes to nothing as it plays, and to something as soon as somebody switches it on: layers that are muted or have weight 0,
//! and entries of stacks that have weight 0.

use std::collections::{BTreeSet, HashMap, HashSet, VecDeque};

use super::claim::Claim;
use super::scenes::Scenes;
use super::verdict::{Asleep, Limits, Verdict};
use crate::address::NodeRef;
use crate::controller::{Controller, StackEntry, Weight};
use crate::scene::{Layer, Scene, Take, Target, Track, TracksByNode};

/// One side of something that was woken.
enum Woken<'a> {
    /// A layer, and the same without its tracks, switched on.
    Layer(&'a Layer, Layer),
    /// A track, and the same with an entry of its stack switched on.
    Entry(&'a Track, Track),
}

impl<'a> Woken<'a> {
    fn layer(of: &'a Layer) -> Woken<'a> {
        let weight = if of.weight.constant() == Some(0.0) { Weight::FULL } else { of.weight.clone() };
        Woken::Layer(of, Layer { muted: false, weight, ..of.shell() })
    }

    fn entry(track: &'a Track, entry: usize) -> Woken<'a> {
        let mut woken = track.clone();
        if let Controller::Stack(entries) = &mut woken.controller {
            entries[entry].weight = Weight::FULL;
        }
        Woken::Entry(track, woken)
    }

    /// The tracks that count, this one's among them.
    fn among<'s>(&'s self, awake: &'s TracksByNode<'a>) -> TracksByNode<'s> {
        match self {
            Woken::Entry(track, woken) => {
                let node = node_of(&track.target);
                let own = |own: &'s Track| if std::ptr::eq(own, *track) { woken } else { own };
                awake.with([(
                    node,
                    awake.on(node).iter().map(|(layer, track)| (*layer, own(track))).collect(),
                )])
            }
            Woken::Layer(layer, shell) => {
                // Layers of a take stand one behind the other.
                let is_below = |other: &Layer| std::ptr::from_ref(other) < std::ptr::from_ref(*layer);
                let mut by_node: HashMap<NodeRef, Vec<(&'s Layer, &'s Track)>> = HashMap::new();
                for track in &layer.tracks {
                    by_node.entry(node_of(&track.target)).or_default().push((shell, track));
                }
                for (node, own) in &mut by_node {
                    let (below, above): (Vec<_>, Vec<_>) =
                        awake.on(*node).iter().copied().partition(|(other, _)| is_below(other));
                    own.splice(0..0, below);
                    own.extend(above);
                }
                awake.with(by_node)
            }
        }
    }

    /// The nodes on which it makes a difference.
    fn nodes(&self) -> HashSet<NodeRef> {
        match self {
            Woken::Layer(layer, _) => layer.tracks.iter().map(|track| node_of(&track.target)).collect(),
            Woken::Entry(track, _) => HashSet::from([node_of(&track.target)]),
        }
    }
}

fn sleeps(entry: &StackEntry) -> bool {
    entry.weight.constant() == Some(0.0)
}

fn node_of(target: &Target) -> NodeRef {
    (target.rig, target.node)
}

/// One of the things that a claim says of nodes, by its position among its like.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Said {
    Node(usize),
    Turn(usize),
    Shift(usize),
    Amount(usize),
}

/// What a claim says of each node, so that nobody looks through all of it for each layer.
struct ByNode {
    of_source: HashMap<NodeRef, Vec<(Said, NodeRef)>>,
    of_result: HashMap<NodeRef, Vec<(Said, NodeRef)>>,
}

impl ByNode {
    fn of(claim: &Claim) -> ByNode {
        let mut all = ByNode { of_source: HashMap::new(), of_result: HashMap::new() };
        for (at, (from, to)) in claim.nodes.iter().enumerate() {
            all.add(Said::Node(at), *from, *to);
        }
        for (at, turn) in claim.turns.iter().enumerate() {
            for node in turn.of.iter().map(|factor| factor.node).chain([turn.source]) {
                all.add(Said::Turn(at), node, turn.result);
            }
        }
        for (at, shift) in claim.shifts.iter().enumerate() {
            shift.of.iter().for_each(|node| all.add(Said::Shift(at), *node, shift.result));
        }
        for (at, amount) in claim.amounts.iter().enumerate() {
            all.add(Said::Amount(at), node_of(&amount.source), node_of(&amount.result));
        }
        all
    }

    fn add(&mut self, said: Said, from: NodeRef, to: NodeRef) {
        self.of_source.entry(from).or_default().push((said, to));
        self.of_result.entry(to).or_default().push((said, from));
    }

    /// The node of the result that one of the source is, or that answers for it.
    fn partner(&self, node: NodeRef) -> Option<NodeRef> {
        self.of_source.get(&node)?.iter().min_by_key(|(said, _)| *said).map(|(_, own)| *own)
    }
}

/// What sleeps in both takes, by its names; of several of one name each is that in its order.
fn of_both<'a>(source: &'a Take, result: &'a Take, said: &ByNode) -> Vec<(Asleep, Woken<'a>, Woken<'a>)> {
    let mut left: HashMap<&str, VecDeque<&Layer>> = HashMap::new();
    for own in result.layers.iter().filter(|layer| !layer.is_active()) {
        left.entry(&own.name).or_default().push_back(own);
    }
    let mut both = Vec::new();
    for layer in source.layers.iter().filter(|layer| !layer.is_active()) {
        let Some(own) = left.get_mut(layer.name.as_str()).and_then(VecDeque::pop_front) else { continue };
        both.push((Asleep::Layer(layer.name.clone()), Woken::layer(layer), Woken::layer(own)));
    }
    let mut stacks: HashMap<(&str, &Target), (&Track, &[StackEntry])> = HashMap::new();
    for (layer, track) in result.active_tracks() {
        if let Controller::Stack(entries) = &track.controller {
            stacks.entry((&layer.name, &track.target)).or_insert((track, entries));
        }
    }
    for (layer, track) in source.active_tracks() {
        let Controller::Stack(entries) = &track.controller else { continue };
        for (index, entry) in entries.iter().enumerate().filter(|(_, entry)| sleeps(entry)) {
            let Some((rig, node)) = said.partner(node_of(&track.target)) else { continue };
            let partner = Target { rig, node, property: track.target.property.clone() };
            let Some((own, others)) = stacks.get(&(layer.name.as_str(), &partner)) else { continue };
            let is_it = |own: &StackEntry| own.name == entry.name && sleeps(own);
            let Some(other) = others.iter().position(is_it) else { continue };
            let name = Asleep::Entry(layer.name.clone(), entry.name.clone());
            both.push((name, Woken::entry(track, index), Woken::entry(own, other)));
        }
    }
    both
}

/// What would come of each of these if it alone were switched on, on the nodes where it makes a difference.
pub(super) fn look(scenes: &Scenes<'_>, limits: Limits) -> Verdict {
    let mut verdict = Verdict::new(limits);
    let (source, result) = scenes.takes();
    if !has_sleepers(source) || !has_sleepers(result) {
        return verdict;
    }
    let said = ByNode::of(scenes.claim);
    for (asleep, from, own) in of_both(source, result, &said) {
        let tracks = (from.among(&scenes.tracks.0), own.among(&scenes.tracks.1));
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
        let mut touched: BTreeSet<Said> = BTreeSet::new();
        // What constraints or couples would make of something that sleeps nobody evaluates.
        for node in from.nodes() {
            let on_it = said.of_source.get(&node).into_iter().flatten();
            touched.extend(
                on_it.filter(|(_, to)| !is_by_constraints(scenes, (node, *to))).map(|(said, _)| *said),
            );
        }
        for node in own.nodes() {
            let on_it = said.of_result.get(&node).into_iter().flatten();
            touched.extend(
                on_it.filter(|(_, from)| !is_by_constraints(scenes, (*from, node))).map(|(said, _)| *said),
            );
        }
        for said in touched {
            verdict.take_in(woken.differs(said, limits));
        }
    }
    // It is not what plays.
    Verdict { asleep: std::mem::take(&mut verdict.judged), same: 0, ..verdict }
}

fn has_sleepers(take: &Take) -> bool {
    let in_stack = |track: &Track| match &track.controller {
        Controller::Stack(entries) => entries.iter().any(sleeps),
        _ => false,
    };
    take.layers.iter().any(|layer| !layer.is_active() || layer.tracks.iter().any(in_stack))
}

fn is_by_constraints(scenes: &Scenes<'_>, (from, to): (NodeRef, NodeRef)) -> bool {
    let is_driven = |scene: &Scene, node| scene.is_driven(node) || scene.is_coupled(node);
    is_driven(scenes.source, from) || is_driven(scenes.result, to)
}

impl Scenes<'_> {
    /// How far one thing that is claimed is off; nothing where it was changed on purpose, as it plays.
    fn differs(&self, said: Said, limits: Limits) -> Verdict {
        let (claim, take) = (self.claim, self.span.source);
        match said {
            Said::Node(at) => {
                let is_edited =
                    claim.edits.iter().any(|edit| (edit.take, edit.node) == (take, claim.nodes[at].0));
                if is_edited { Verdict::new(limits) } else { self.node(claim.nodes[at], limits) }
            }
            Said::Turn(at) => self.turn(&claim.turns[at], limits),
            Said::Shift(at) => {
                let shift = &claim.shifts[at];
                let is_held =
                    claim.holds.iter().any(|hold| hold.take == take && hold.result.0 == shift.result);
                if is_held { Verdict::new(limits) } else { self.shift(shift, limits) }
            }
            Said::Amount(at) => self.amount(&claim.amounts[at], limits),
        }
    }
}
