//! Which rig of one scene is which of another: a character and its prop against another character and another prop.

use std::borrow::Cow;
use std::collections::HashMap;

use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::rig::{NodeId, Rig};
use nimble_curve_scene::scene::Scene;

use crate::anatomy::{Body, has_legs};
use crate::names::{BodySide, Name};

/// A rig of a source and the rig of a target that it goes with, each by its place in its scene.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RigPairing {
    /// The rig of the source.
    pub source: usize,
    /// The rig of the target.
    pub target: usize,
}

/// Less than this in common, and two rigs among others are no pair.
const LEAST: f64 = 0.4;

/// Pairs rigs that go together among some of two scenes, in order of the source's: by what their nodes are called, by whether they
/// walk on legs, by how many nodes they have and by their own names. One rig and one rig always are a pair.
pub(crate) fn alike(
    (source, from): (&Scene, &[usize]),
    (target, onto): (&Scene, &[usize]),
) -> Vec<RigPairing> {
    if let ([source], [target]) = (from, onto) {
        return vec![RigPairing { source: *source, target: *target }];
    }
    let looks = |scene: &Scene, rigs: &[usize]| -> Vec<(usize, Look)> {
        rigs.iter().map(|&rig| (rig, Look::of(scene, rig))).collect()
    };
    let (from, onto) = (looks(source, from), looks(target, onto));
    let mut scored: Vec<(f64, RigPairing)> = Vec::new();
    for (source, own) in &from {
        for (target, other) in &onto {
            scored.push((own.likeness(other), RigPairing { source: *source, target: *target }));
        }
    }
    // Of equal ones the first goes with the first.
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
    let mut pairs: Vec<RigPairing> = Vec::new();
    for (score, pair) in scored {
        let is_taken = |other: &RigPairing| other.source == pair.source || other.target == pair.target;
        if score >= LEAST && !pairs.iter().any(is_taken) {
            pairs.push(pair);
        }
    }
    pairs.sort();
    pairs
}

/// A name's words, side and number.
type Spoken = (Vec<String>, Option<BodySide>, Option<u32>);

/// A scene with each body in a rig of its own: formats that know no rigs give all that stands in a file as one.
///
/// A rig is taken apart where two or more of the trees in it walk on legs; each of these becomes a rig, called like its top node, and all
/// else stays together. Takes are the same.
pub fn apart(scene: &Scene) -> Cow<'_, Scene> {
    let parts: Vec<Vec<Tree>> = (0..scene.rigs.len()).map(|rig| bodies(scene, rig)).collect();
    if parts.iter().all(|trees| trees.len() < 2) {
        return Cow::Borrowed(scene);
    }
    let mut rigs: Vec<Rig> = Vec::new();
    let mut places: HashMap<NodeRef, NodeRef> = HashMap::new();
    for (index, trees) in parts.into_iter().enumerate() {
        for Tree { rig, ids } in trees {
            places.extend(ids.into_iter().map(|(old, new)| ((index, old), (rigs.len(), new))));
            rigs.push(rig);
        }
    }
    let mut apart = Scene { rigs, ..scene.clone() };
    let tracks = apart.takes.iter_mut().flat_map(|take| &mut take.layers).flat_map(|layer| &mut layer.tracks);
    for target in tracks.map(|track| &mut track.target) {
        if let Some(&(rig, node)) = places.get(&(target.rig, target.node)) {
            (target.rig, target.node) = (rig, node);
        }
    }
    let moved = |node: NodeRef| places.get(&node).copied();
    // Each node has a place.
    apart.constraints = scene.constraints.iter().filter_map(|own| own.with_nodes(moved)).collect();
    Cow::Owned(apart)
}

/// A part of a rig as a rig, and what each of its nodes was.
struct Tree {
    rig: Rig,
    ids: Vec<(NodeId, NodeId)>,
}

/// The bodies of a rig where it holds several, and what else it holds; else the rig as it is.
fn bodies(scene: &Scene, index: usize) -> Vec<Tree> {
    let rig = &scene.rigs[index];
    let tops: Vec<NodeId> = rig.children(None).collect();
    let top_of = |id: NodeId| std::iter::successors(Some(id), |id| rig.parent(*id)).last();
    let part = |name: &str, is_of: &dyn Fn(NodeId) -> bool| {
        let mut tree = Tree { rig: Rig::new(name), ids: Vec::new() };
        let mut new: HashMap<NodeId, NodeId> = HashMap::new();
        for (id, node) in rig.nodes().filter(|(id, _)| is_of(*id)) {
            let parent = rig.parent(id).and_then(|parent| new.get(&parent).copied());
            let own = tree.rig.add(parent, node.clone()).expect("what it hangs on stands before it");
            new.insert(id, own);
            tree.ids.push((id, own));
        }
        tree
    };
    let whole = || vec![part(&rig.name, &|_| true)];
    if tops.len() < 2 {
        return whole();
    }
    let named = |top: NodeId| rig.node(top).map_or("", |node| &node.name);
    let walks = |tree: &Tree| {
        // Controls for legs are no legs.
        if tree.rig.nodes().all(|(_, node)| node.kind.is_for_controls()) {
            return false;
        }
        let alone = Scene::new(scene.rate, scene.space).with_rig(tree.rig.clone());
        has_legs(&alone, 0)
    };
    let all = tops.iter().map(|&top| (top, part(named(top), &|id| top_of(id) == Some(top))));
    let mut walking: Vec<(NodeId, Tree)> = all.filter(|(_, tree)| walks(tree)).collect();
    if walking.len() < 2 {
        return whole();
    }
    let tops: Vec<NodeId> = walking.iter().map(|(top, _)| *top).collect();
    let rest = part(&rig.name, &|id| top_of(id).is_some_and(|top| !tops.contains(&top)));
    let mut trees: Vec<Tree> = walking.drain(..).map(|(_, tree)| tree).collect();
    if !rest.rig.is_empty() {
        trees.push(rest);
    }
    trees
}

/// What tells a rig from others.
struct Look {
    name: String,
    /// How often each name stands in it, taken apart.
    nodes: HashMap<Spoken, usize>,
    count: usize,
    has_legs: bool,
}

impl Look {
    fn of(scene: &Scene, rig: usize) -> Look {
        let body = Body::new(&scene.rigs[rig], scene);
        let mut nodes = HashMap::new();
        for (Name { words, side, number }, bare) in body.names.iter().zip(&body.bare) {
            let words = if words.is_empty() { vec![bare.to_lowercase()] } else { words.clone() };
            *nodes.entry((words, *side, *number)).or_default() += 1;
        }
        let name = scene.rigs[rig].name.to_lowercase();
        Look { name, nodes, count: body.len(), has_legs: has_legs(scene, rig) }
    }

    /// How much two rigs have in common: from 0 to 2, where both walk or both do not; nothing else is a pair.
    fn likeness(&self, other: &Look) -> f64 {
        if self.has_legs != other.has_legs {
            return 0.0;
        }
        let shared: usize = (self.nodes.iter())
            .map(|(name, count)| other.nodes.get(name).map_or(0, |others| *others.min(count)))
            .sum();
        let (least, most) = (self.count.min(other.count), self.count.max(other.count).max(1));
        let legs = if self.has_legs { 0.4 } else { 0.0 };
        let named = if self.name == other.name { 0.4 } else { 0.0 };
        shared as f64 / least.max(1) as f64 * 0.8 + legs + named + 0.4 * least as f64 / most as f64
    }
}
