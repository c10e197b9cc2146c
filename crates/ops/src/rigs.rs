//! Which rig of one scene is which of another: a character and its prop against another character and another prop.

use std::collections::HashMap;

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
