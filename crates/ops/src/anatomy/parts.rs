//! What the shape of a rig says, whatever its nodes are called: where the legs and the arms begin, which node is the upper arm.
//!
//! From the tree and the places at rest alone. Limbs hang in pairs, one on each side of the body; the lower pair are legs, what leads
//! from them to the other pair is the trunk. In a limb the two long bones that follow each other are the upper and the lower one: that
//! tells a collar bone from an upper arm where both are called *shoulder*.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_scene::rig::NodeKind;

use super::body::Body;
use crate::names::BodySide;

/// What a node is by shape.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum Part {
    Root,
    Hips,
    /// From above the hips to where the arms begin.
    Trunk,
    Neck,
    Head,
    Tail,
    /// Between the trunk and the upper arm.
    Collar,
    UpperArm,
    Forearm,
    Hand,
    /// One of a hand's fingers, counted from the front.
    Finger {
        rank: usize,
        of: usize,
    },
    /// Between the hips and the thigh.
    HipJoint,
    Thigh,
    Shin,
    Foot,
    Toe,
}

impl Part {
    /// The part of a limb that a word of a name says, or the hips.
    pub(crate) fn of_word(word: &str) -> Option<Part> {
        Some(match word {
            "hips" => Part::Hips,
            "collar" => Part::Collar,
            "upperarm" => Part::UpperArm,
            "forearm" => Part::Forearm,
            "hand" => Part::Hand,
            "haunch" => Part::HipJoint,
            "thigh" => Part::Thigh,
            "shin" => Part::Shin,
            "foot" => Part::Foot,
            "toe" => Part::Toe,
            _ => return None,
        })
    }

    /// The word for people.
    pub fn name(self) -> &'static str {
        match self {
            Part::Root => "root",
            Part::Hips => "hips",
            Part::Trunk => "spine",
            Part::Neck => "neck",
            Part::Head => "head",
            Part::Tail => "tail",
            Part::Collar => "collar bone",
            Part::UpperArm => "upper arm",
            Part::Forearm => "forearm",
            Part::Hand => "hand",
            Part::Finger { .. } => "finger",
            Part::HipJoint => "hip joint",
            Part::Thigh => "thigh",
            Part::Shin => "shin",
            Part::Foot => "foot",
            Part::Toe => "toe",
        }
    }
}

/// A part on its side.
pub(crate) type Slot = (Part, Option<BodySide>);

/// Whether two nodes are different parts; of hands with other numbers of fingers none can be said to be another one.
pub(crate) fn differ(a: Slot, b: Slot) -> bool {
    match (a.0, b.0) {
        (Part::Finger { of, .. }, Part::Finger { of: as_many, .. }) if of != as_many => a.1 != b.1,
        _ => a != b,
    }
}

/// Which nodes are which part, each list from the top down.
#[derive(Default)]
pub(crate) struct Anatomy {
    /// The nodes of each part; several where it is a chain.
    pub parts: HashMap<Slot, Vec<usize>>,
    /// The part of each node, where it is known.
    pub slots: Vec<Option<Slot>>,
}

/// The shortest limb, in heights of the rig.
const SHORTEST_LIMB: f64 = 0.12;
/// How much shorter one of a limb's two long bones may be than the other.
const BALANCE: f64 = 0.5;
/// How far below the longest two bones of a limb earlier ones may stay and be held for them.
const LONG: f64 = 0.85;
/// How high the ends of limbs may differ, in heights, for those of an animal on four legs.
const LEVEL: f64 = 0.1;

impl Anatomy {
    /// Looks at the joints of a body, or at all of its nodes where it has no joints.
    pub fn of(body: &Body<'_>) -> Anatomy {
        let shape = Shape::of(body);
        let mut anatomy = Anatomy { parts: HashMap::new(), slots: vec![None; body.len()] };
        let girdles = shape.girdles();
        let Some((legs, arms)) = shape.legs_and_arms(&girdles) else { return anatomy };
        for (girdle, is_leg) in
            legs.iter().map(|girdle| (girdle, true)).chain(arms.iter().map(|girdle| (girdle, false)))
        {
            for (side, limb) in [(BodySide::Left, girdle.left), (BodySide::Right, girdle.right)] {
                anatomy.limb(&shape, limb, side, is_leg);
            }
        }
        if let (Some(legs), Some(arms)) = (legs, arms) {
            anatomy.trunk(&shape, legs, arms);
        }
        anatomy
    }

    fn put(&mut self, slot: Slot, nodes: &[usize]) {
        if nodes.is_empty() {
            return;
        }
        for &node in nodes {
            self.slots[node] = Some(slot);
        }
        self.parts.insert(slot, nodes.to_vec());
    }

    /// The bones of an arm or a leg from where it leaves the trunk.
    fn limb(&mut self, shape: &Shape<'_>, start: usize, side: BodySide, is_leg: bool) {
        let chain = shape.limb_chain(start);
        let Some(upper) = shape.long_bones(&chain, is_leg) else { return };
        let parts = match is_leg {
            true => [Part::HipJoint, Part::Thigh, Part::Shin, Part::Foot],
            false => [Part::Collar, Part::UpperArm, Part::Forearm, Part::Hand],
        };
        let side = Some(side);
        self.put((parts[0], side), &chain[..upper]);
        for (index, part) in parts[1..].iter().enumerate() {
            self.put((*part, side), chain.get(upper + index).map_or(&[], std::slice::from_ref));
        }
        if let Some(&hand) = chain.get(upper + 2).filter(|_| !is_leg) {
            self.fingers(shape, hand, side);
        }
        if is_leg {
            self.put((Part::Toe, side), chain.get(upper + 3).map_or(&[], std::slice::from_ref));
        }
    }

    /// The fingers of a hand, from the one at the front, which the thumb is where palms look down or in.
    fn fingers(&mut self, shape: &Shape<'_>, hand: usize, side: Option<BodySide>) {
        let mut starts: Vec<usize> =
            shape.children[hand].iter().copied().filter(|&at| shape.levels[at] >= 1).collect();
        starts.sort_by(|&a, &b| shape.body.places[b].z.total_cmp(&shape.body.places[a].z).then(a.cmp(&b)));
        let of = starts.len();
        for (rank, start) in starts.into_iter().enumerate().filter(|_| of > 1) {
            self.put((Part::Finger { rank, of }, side), &shape.limb_chain(start));
        }
    }

    /// Hips, spine, neck, head and tail, between and beside the two pairs of limbs.
    fn trunk(&mut self, shape: &Shape<'_>, legs: &Girdle, arms: &Girdle) {
        let Some(fork) = shape.common(legs.at, arms.at) else { return };
        // Legs that hang on a node of their own beside the trunk hang on the hips.
        let beside = (shape.body.places[fork] - shape.body.places[legs.at]).length();
        let hips = if beside < 0.08 { fork } else { legs.at };
        self.put((Part::Hips, None), &[hips]);
        // Of the two the upper one stands before the other.
        if let [root] = shape.above(fork.min(hips))[..] {
            self.put((Part::Root, None), &[root]);
        }
        let mut trunk: Vec<usize> = std::iter::once(arms.at)
            .chain(shape.above(arms.at))
            .take_while(|&at| at != fork && at != hips)
            .collect();
        trunk.reverse();
        self.put((Part::Trunk, None), &trunk);
        let limbs = [legs.left, legs.right, arms.left, arms.right];
        let central = |at: usize| -> Vec<usize> {
            let children = shape.children[at].iter().copied();
            children.filter(|child| !limbs.contains(child) && shape.is_central(*child)).collect()
        };
        let to_head = central(arms.at).into_iter().max_by(|&a, &b| shape.size(a).total_cmp(&shape.size(b)));
        let mut neck: Vec<usize> = Vec::new();
        let mut at = to_head;
        while let Some(node) = at {
            neck.push(node);
            at = match shape.children[node][..] {
                [only] => Some(only),
                _ => None,
            };
        }
        if let Some(head) = neck.pop() {
            self.put((Part::Head, None), &[head]);
            self.put((Part::Neck, None), &neck);
        }
        let leads_up = |at: usize| {
            at == arms.at || at == legs.at || shape.is_above(at, arms.at) || shape.is_above(at, legs.at)
        };
        let mut tails = [hips, legs.at]
            .into_iter()
            .flat_map(central)
            .filter(|&at| !leads_up(at) && !shape.children[at].is_empty());
        if let Some(start) = tails.next() {
            let tail: Vec<usize> = std::iter::successors(Some(start), |&at| match shape.children[at][..] {
                [only] => Some(only),
                _ => None,
            })
            .collect();
            self.put((Part::Tail, None), &tail);
        }
    }
}

/// Two limbs on both sides of a node.
struct Girdle {
    at: usize,
    left: usize,
    right: usize,
    /// How long the limbs are, in heights.
    reach: f64,
    /// How high they end.
    end: f64,
}

/// The joints of a body as a tree with lengths.
struct Shape<'a> {
    body: &'a Body<'a>,
    parents: Vec<Option<usize>>,
    children: Vec<Vec<usize>>,
    /// The longest way down from a node, in heights.
    reach: Vec<f64>,
    /// The most joints one below the other below a node.
    levels: Vec<usize>,
    /// The middle of a node and all below it.
    middles: Vec<DVec3>,
}

/// Words of nodes that lie within a bone or end it.
const DECORATION: [&str; 14] = [
    "twist",
    "roll",
    "helper",
    "volume",
    "ribbon",
    "bend",
    "end",
    "tip",
    "nub",
    "top",
    "site",
    "effector",
    "corrective",
    "pole",
];

/// Whether a node lies within a bone or ends it, by its name.
pub(crate) fn decorates(body: &Body<'_>, at: usize) -> bool {
    body.names[at].words.iter().any(|word| DECORATION.contains(&word.as_str()))
}

impl<'a> Shape<'a> {
    fn of(body: &'a Body<'a>) -> Shape<'a> {
        let count = body.len();
        let has_joints = (0..count).any(|at| body.kind(at) == NodeKind::Joint);
        let is_bone = |at: usize| {
            let kind = body.kind(at);
            let decorates = body.names[at].words.iter().any(|word| DECORATION.contains(&word.as_str()));
            !decorates
                && (kind == NodeKind::Joint || kind == NodeKind::Root || (!has_joints && !kind.is_support()))
        };
        let bones: Vec<bool> = (0..count).map(is_bone).collect();
        let mut shape = Shape {
            body,
            parents: vec![None; count],
            children: vec![Vec::new(); count],
            reach: vec![0.0; count],
            levels: vec![0; count],
            middles: body.places.clone(),
        };
        for at in (0..count).filter(|&at| bones[at]) {
            shape.parents[at] = body.upwards(at).find(|&above| bones[above]);
            if let Some(parent) = shape.parents[at] {
                shape.children[parent].push(at);
            }
        }
        // Parents stand before their children.
        let mut sizes = vec![1.0; count];
        for at in (0..count).rev().filter(|&at| bones[at]) {
            shape.middles[at] /= sizes[at];
            if let Some(parent) = shape.parents[at] {
                let length = (body.places[at] - body.places[parent]).length();
                shape.reach[parent] = shape.reach[parent].max(shape.reach[at] + length);
                shape.levels[parent] = shape.levels[parent].max(shape.levels[at] + 1);
                let (size, middle) = (sizes[at], shape.middles[at]);
                sizes[parent] += size;
                shape.middles[parent] += middle * size;
            }
        }
        shape
    }

    /// What stands above a node, from its parent on.
    fn above(&self, at: usize) -> Vec<usize> {
        std::iter::successors(self.parents[at], |&at| self.parents[at]).collect()
    }

    fn is_above(&self, above: usize, below: usize) -> bool {
        std::iter::successors(self.parents[below], |&at| self.parents[at]).any(|at| at == above)
    }

    /// The lowest node that both hang on; one of them where the other hangs on it.
    fn common(&self, a: usize, b: usize) -> Option<usize> {
        let of_a: Vec<usize> = std::iter::once(a).chain(self.above(a)).collect();
        std::iter::once(b).chain(self.above(b)).find(|at| of_a.contains(at))
    }

    /// How much hangs on a node, its own bone included.
    fn size(&self, at: usize) -> f64 {
        let own =
            self.parents[at].map_or(0.0, |parent| (self.body.places[at] - self.body.places[parent]).length());
        self.reach[at] + own
    }

    fn is_central(&self, at: usize) -> bool {
        self.body.names[at].side.is_none() && self.middles[at].x.abs() < 0.05
    }

    /// The side of a limb: by its name, else by its place.
    fn side(&self, at: usize) -> BodySide {
        let by_place = if self.middles[at].x > 0.0 { BodySide::Left } else { BodySide::Right };
        self.body.names[at].side.unwrap_or(by_place)
    }

    /// Pairs of limbs, the longest first, none within another.
    fn girdles(&self) -> Vec<Girdle> {
        let mut all: Vec<Girdle> = (0..self.body.len()).filter_map(|at| self.girdle(at)).collect();
        all.sort_by(|a, b| b.reach.total_cmp(&a.reach).then(a.at.cmp(&b.at)));
        let mut kept: Vec<Girdle> = Vec::new();
        for girdle in all {
            let is_within = |other: &Girdle| {
                [other.left, other.right]
                    .iter()
                    .any(|&limb| limb == girdle.at || self.is_above(limb, girdle.at))
            };
            if !kept.iter().any(is_within) {
                kept.push(girdle);
            }
        }
        kept
    }

    /// The longest two limbs that mirror each other below a node.
    fn girdle(&self, at: usize) -> Option<Girdle> {
        let limbs: Vec<usize> = (self.children[at].iter().copied())
            .filter(|&child| self.levels[child] >= 2 && self.size(child) >= SHORTEST_LIMB)
            .collect();
        let mut best: Option<Girdle> = None;
        for (index, &a) in limbs.iter().enumerate() {
            for &b in &limbs[index + 1..] {
                if !self.mirror(a, b) || self.side(a) == self.side(b) {
                    continue;
                }
                let reach = 0.5 * (self.size(a) + self.size(b));
                if best.as_ref().is_none_or(|best| reach > best.reach) {
                    let (left, right) = if self.side(a) == BodySide::Left { (a, b) } else { (b, a) };
                    let end = |limb: usize| {
                        let chain = self.limb_chain(limb);
                        self.body.places[chain[chain.len() - 1]].y
                    };
                    best = Some(Girdle { at, left, right, reach, end: 0.5 * (end(a) + end(b)) });
                }
            }
        }
        best
    }

    /// Whether two limbs are about the same on both sides.
    fn mirror(&self, a: usize, b: usize) -> bool {
        let (long, short) = (self.size(a).max(self.size(b)), self.size(a).min(self.size(b)));
        let mut reflected = self.middles[b];
        reflected.x = -reflected.x;
        let aside = self.middles[a].x;
        let apart = (self.middles[a] - reflected).length();
        short > 0.6 * long && aside * self.middles[b].x < 0.0 && aside.abs() > 0.02 && apart < 0.35 * long
    }

    /// The lower pair of limbs, and the longest of the others; where both reach the ground the ones nearer the root are behind.
    fn legs_and_arms<'g>(&self, girdles: &'g [Girdle]) -> Option<(Option<&'g Girdle>, Option<&'g Girdle>)> {
        let lowest = girdles.iter().min_by(|a, b| a.end.total_cmp(&b.end))?;
        let level = girdles.iter().filter(|girdle| girdle.end < lowest.end + LEVEL);
        let depth = |girdle: &&Girdle| self.above(girdle.at).len();
        let legs = level.min_by_key(depth).filter(|girdle| girdle.end < 0.35);
        let is_other = |girdle: &&Girdle| legs.is_none_or(|legs| legs.at != girdle.at);
        Some((legs, girdles.iter().find(is_other)))
    }

    /// The way down a limb along the longest bones.
    fn limb_chain(&self, start: usize) -> Vec<usize> {
        std::iter::successors(Some(start), |&at| {
            self.children[at]
                .iter()
                .copied()
                .max_by(|&a, &b| self.size(a).total_cmp(&self.size(b)).then(b.cmp(&a)))
        })
        .collect()
    }

    /// Where in a limb its two long bones begin: the longest two that follow each other; in a leg the first that are nearly as long, as
    /// animals that walk on their toes have a third long bone below.
    fn long_bones(&self, chain: &[usize], is_leg: bool) -> Option<usize> {
        let places = &self.body.places;
        let lengths: Vec<f64> =
            chain.windows(2).map(|pair| (places[pair[1]] - places[pair[0]]).length()).collect();
        let sums: Vec<f64> =
            lengths
                .windows(2)
                .map(|pair| {
                    if pair[0].min(pair[1]) < BALANCE * pair[0].max(pair[1]) {
                        0.0
                    } else {
                        pair[0] + pair[1]
                    }
                })
                .collect();
        let longest = sums.iter().copied().fold(0.0, f64::max);
        let enough = if is_leg { LONG * longest } else { longest };
        sums.iter().position(|sum| longest > 0.0 && *sum >= enough)
    }
}
