//! Scenes: rigs, their takes, and the layers and tracks that animate them.

use std::collections::{HashMap, VecDeque};

use nimble_curve_curves::curve::Ticks;
use nimble_curve_curves::time::{FrameRate, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};

use crate::constraint::Constraint;
use crate::controller::{Controller, Weight};
use crate::rig::{AttributeKind, NodeId, NodeRef, OpValue, Rig};
use crate::space::Space;

pub use crate::target::Target;

/// Everything in a file: time, space, rigs, node sets and takes.
#[derive(Clone, Debug, PartialEq)]
pub struct Scene {
    /// The frame rate in which people count.
    pub rate: FrameRate,
    /// Units, up axis and handedness.
    pub space: Space,
    /// The characters and props.
    pub rigs: Vec<Rig>,
    /// Named lists of node patterns.
    pub sets: Vec<NodeSet>,
    /// What drives nodes by others, in the order in which it acts.
    pub constraints: Vec<Constraint>,
    /// The animations.
    pub takes: Vec<Take>,
}

/// A named list of patterns that select nodes; `*` stands for any run of characters.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NodeSet {
    /// The set's name.
    pub name: String,
    /// The patterns.
    pub patterns: Vec<String>,
}

/// One independent animation of the rigs.
#[derive(Clone, Debug, PartialEq)]
pub struct Take {
    /// The take's name.
    pub name: String,
    /// The folder it is kept in, where a file is a library of takes; parts separated by `/`.
    pub folder: Option<String>,
    /// The range that is meant to be used, both ends included.
    pub range: TimeRange,
    /// Named ranges.
    pub clips: Vec<Clip>,
    /// Named instants.
    pub markers: Vec<Marker>,
    /// The layers; the first is the base.
    pub layers: Vec<Layer>,
}

/// A named range of frames in a take.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clip {
    /// The clip's name.
    pub name: String,
    /// Its range, both ends included.
    pub range: TimeRange,
    /// Anything to be handed on with it.
    pub note: Option<String>,
}

/// A named instant: a footfall, a sound.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Marker {
    /// When.
    pub time: Ticks,
    /// What.
    pub name: String,
}

/// How a layer joins what lies under it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum LayerMode {
    /// Its values are added.
    Additive,
    /// Its values replace what lies under them, in proportion to its weight.
    #[default]
    Override,
}

/// How rotations of a layer join those under it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum RotationMixing {
    /// Angle by angle.
    #[default]
    Angles,
    /// As rotations.
    Quaternions,
}

/// One layer of a take.
#[derive(Clone, Debug, PartialEq)]
pub struct Layer {
    /// The layer's name.
    pub name: String,
    /// How it joins what lies under it.
    pub mode: LayerMode,
    /// How its rotations do.
    pub rotations: RotationMixing,
    /// How much of it counts.
    pub weight: Weight,
    /// Whether it is switched off.
    pub muted: bool,
    /// What it animates.
    pub tracks: Vec<Track>,
}

impl Layer {
    /// An override layer of full weight with these tracks, as a base is.
    pub fn base(tracks: Vec<Track>) -> Layer {
        Layer {
            name: "base".into(),
            mode: LayerMode::Override,
            rotations: RotationMixing::Angles,
            weight: Weight::FULL,
            muted: false,
            tracks,
        }
    }

    /// The layer without its tracks.
    pub fn shell(&self) -> Layer {
        Layer {
            name: self.name.clone(),
            mode: self.mode,
            rotations: self.rotations,
            weight: self.weight.clone(),
            muted: self.muted,
            tracks: Vec::new(),
        }
    }

    /// Whether the layer counts at all.
    pub fn is_active(&self) -> bool {
        !self.muted && self.weight.constant() != Some(0.0)
    }

    /// Whether nothing counts of what lies under its tracks.
    pub fn is_whole(&self) -> bool {
        !self.muted && self.mode == LayerMode::Override && self.weight.constant() == Some(1.0)
    }
}

/// What drives one property.
#[derive(Clone, Debug, PartialEq)]
pub struct Track {
    /// The property.
    pub target: Target,
    /// What drives it.
    pub controller: Controller,
}

/// What kind of value a property takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PropertyKind {
    /// One number.
    Number(Quantity),
    /// Three numbers that add up.
    Vector(Quantity),
    /// Three factors, which multiply.
    Scale,
    /// A rotation.
    Rotation,
    /// An affine transform.
    Matrix,
    /// A value that only holds.
    Discrete,
}

impl PropertyKind {
    /// What its numbers measure.
    pub fn quantity(self) -> Quantity {
        match self {
            PropertyKind::Number(quantity) | PropertyKind::Vector(quantity) => quantity,
            PropertyKind::Rotation => Quantity::Angle,
            PropertyKind::Scale | PropertyKind::Matrix | PropertyKind::Discrete => Quantity::Number,
        }
    }
}

impl Scene {
    /// A scene without anything in it.
    pub fn new(rate: FrameRate, space: Space) -> Scene {
        Scene { rate, space, rigs: Vec::new(), sets: Vec::new(), constraints: Vec::new(), takes: Vec::new() }
    }

    /// The same with one more rig.
    #[must_use]
    pub fn with_rig(mut self, rig: Rig) -> Scene {
        self.rigs.push(rig);
        self
    }

    /// The same with one more take.
    #[must_use]
    pub fn with_take(mut self, take: Take) -> Scene {
        self.takes.push(take);
        self
    }

    /// The same rigs, and what belongs to them, with other takes in place of its own, which are not copied.
    pub fn with_only(&self, takes: Vec<Take>) -> Scene {
        Scene {
            rate: self.rate,
            space: self.space,
            rigs: self.rigs.clone(),
            sets: self.sets.clone(),
            constraints: self.constraints.clone(),
            takes,
        }
    }

    /// The same scene with the ids of nodes in their order, as a file gives them: which ids they have is of this program only.
    pub fn renumbered(&self) -> Scene {
        let mut rigs = Vec::with_capacity(self.rigs.len());
        let mut places: Vec<HashMap<NodeId, NodeId>> = Vec::with_capacity(self.rigs.len());
        for rig in &self.rigs {
            let mut made = Rig::new(rig.name.clone());
            let mut place: HashMap<NodeId, NodeId> = HashMap::with_capacity(rig.len());
            for (id, node) in rig.nodes() {
                let parent = rig.parent(id).and_then(|parent| place.get(&parent).copied());
                // Parents come first, so that each is there.
                let own = made.add(parent, node.clone()).expect("parents come first");
                place.insert(id, own);
            }
            rigs.push(made);
            places.push(place);
        }
        let mut takes = self.takes.clone();
        for layer in takes.iter_mut().flat_map(|take| &mut take.layers) {
            for track in &mut layer.tracks {
                let place = places.get(track.target.rig).and_then(|place| place.get(&track.target.node));
                track.target.node = place.copied().unwrap_or(track.target.node);
            }
        }
        let moved = |(rig, node): NodeRef| Some((rig, *places.get(rig)?.get(&node)?));
        // All of them have a place: what a constraint names is in the scene.
        let constraints =
            self.constraints.iter().filter_map(|constraint| constraint.with_nodes(moved)).collect();
        Scene { rigs, takes, constraints, sets: self.sets.clone(), ..*self }
    }
}

impl Rig {
    /// The kind of a property of a node; `None` where the node has no such property.
    pub fn property_kind(&self, node: NodeId, property: &str) -> Option<PropertyKind> {
        let node = self.node(node)?;
        if let Some(op) = node.op(property) {
            return Some(match op.value {
                OpValue::Translate(_) => PropertyKind::Vector(Quantity::Length),
                OpValue::RotateAxis { .. } => PropertyKind::Number(Quantity::Angle),
                OpValue::Rotate { .. } | OpValue::Orient(_) => PropertyKind::Rotation,
                OpValue::Scale(_) => PropertyKind::Scale,
                OpValue::Shear(_) => PropertyKind::Vector(Quantity::Number),
                OpValue::Matrix(_) => PropertyKind::Matrix,
            });
        }
        Some(match &node.attribute(property)?.kind {
            AttributeKind::Number { quantity, .. } => PropertyKind::Number(*quantity),
            AttributeKind::Vector { quantity, .. } => PropertyKind::Vector(*quantity),
            _ => PropertyKind::Discrete,
        })
    }

    /// The value of a property where nothing drives it.
    pub fn rest_value(&self, node: NodeId, property: &str) -> Option<Value> {
        let node = self.node(node)?;
        if let Some(op) = node.op(property) {
            return Some(match op.value {
                OpValue::Translate(v) | OpValue::Scale(v) | OpValue::Shear(v) => Value::Vector(v),
                OpValue::RotateAxis { angle, .. } => Value::Number(angle),
                OpValue::Rotate { order, angles } => Value::Euler { order, angles },
                OpValue::Orient(q) => Value::Quaternion(q),
                OpValue::Matrix(m) => Value::Matrix(Box::new(m)),
            });
        }
        let attribute = node.attribute(property)?;
        Some(match &attribute.kind {
            AttributeKind::Number { default, .. } => Value::Number(*default),
            AttributeKind::Vector { default, .. } => Value::Vector(*default),
            discrete => Value::Discrete(discrete.discrete_default()?),
        })
    }
}

impl Take {
    /// A take of some layers, the base first, without clips and markers.
    pub fn new(name: impl Into<String>, range: TimeRange, layers: Vec<Layer>) -> Take {
        Take { name: name.into(), folder: None, range, clips: Vec::new(), markers: Vec::new(), layers }
    }

    /// All tracks with their layers' positions.
    pub fn tracks(&self) -> impl Iterator<Item = (usize, &Track)> {
        self.layers.iter().enumerate().flat_map(|(index, layer)| layer.tracks.iter().map(move |t| (index, t)))
    }

    /// The tracks of all layers that count, from the lowest layer up.
    pub fn active_tracks(&self) -> impl Iterator<Item = (&Layer, &Track)> {
        let active = self.layers.iter().filter(|layer| layer.is_active());
        active.flat_map(|layer| layer.tracks.iter().map(move |track| (layer, track)))
    }

    /// The same by the nodes that they are on.
    pub fn tracks_by_node(&self) -> TracksByNode<'_> {
        TracksByNode::of(self.active_tracks())
    }

    /// How many keys and sampled numbers all tracks have.
    pub fn value_count(&self) -> usize {
        self.tracks().map(|(_, track)| track.controller.value_count()).sum()
    }

    /// From the first to the last key or sample of all layers.
    pub fn key_range(&self) -> Option<TimeRange> {
        self.tracks().filter_map(|(_, track)| track.controller.range()).reduce(TimeRange::union)
    }
}

/// Which of some takes each of others is, as takes are told apart: by folder and name, of several alike the first of the one is the first
/// of the other; else by name alone; and, where there are as many, by their order.
pub fn take_partners(source: &[Take], result: &[Take]) -> Vec<Option<usize>> {
    fn whole(take: &Take) -> (Option<&str>, &str) {
        (take.folder.as_deref(), &take.name)
    }
    fn named(take: &Take) -> (Option<&str>, &str) {
        (None, &take.name)
    }
    let mut partners = vec![None; result.len()];
    let mut is_taken = vec![false; source.len()];
    for key in [whole as fn(&Take) -> (Option<&str>, &str), named] {
        let mut free: HashMap<(Option<&str>, &str), VecDeque<usize>> = HashMap::new();
        for (at, take) in source.iter().enumerate().filter(|(at, _)| !is_taken[*at]) {
            free.entry(key(take)).or_default().push_back(at);
        }
        for (index, take) in result.iter().enumerate() {
            if partners[index].is_none() {
                partners[index] = free.get_mut(&key(take)).and_then(VecDeque::pop_front);
            }
        }
        partners.iter().flatten().for_each(|at: &usize| is_taken[*at] = true);
    }
    let mut first: HashMap<&str, usize> = HashMap::new();
    for (at, take) in source.iter().enumerate() {
        first.entry(&take.name).or_insert(at);
    }
    for (index, (take, partner)) in result.iter().zip(&mut partners).enumerate() {
        let by_order = || (source.len() == result.len()).then_some(index);
        *partner = partner.or_else(|| first.get(take.name.as_str()).copied()).or_else(by_order);
    }
    partners
}

/// The tracks of a take that count, by their nodes: for passes over all nodes, each of which would look through all tracks
/// otherwise.
#[derive(Debug)]
pub struct TracksByNode<'a> {
    by_node: HashMap<NodeRef, Vec<(&'a Layer, &'a Track)>>,
    /// What is on all other nodes.
    under: Option<&'a TracksByNode<'a>>,
}

impl<'a> TracksByNode<'a> {
    /// Of some tracks with the layers that they count as, from the lowest up.
    pub fn of(tracks: impl Iterator<Item = (&'a Layer, &'a Track)>) -> TracksByNode<'a> {
        let mut by_node: HashMap<NodeRef, Vec<(&Layer, &Track)>> = HashMap::new();
        for (layer, track) in tracks {
            by_node.entry((track.target.rig, track.target.node)).or_default().push((layer, track));
        }
        TracksByNode { by_node, under: None }
    }

    /// What is on a node, from the lowest layer up.
    pub fn on(&self, node: NodeRef) -> &[(&'a Layer, &'a Track)] {
        match (self.by_node.get(&node), self.under) {
            (Some(own), _) => own,
            (None, Some(under)) => under.on(node),
            (None, None) => &[],
        }
    }

    /// The same with other tracks on some nodes.
    pub fn with<'s>(
        &'s self,
        others: impl IntoIterator<Item = (NodeRef, Vec<(&'s Layer, &'s Track)>)>,
    ) -> TracksByNode<'s> {
        TracksByNode { by_node: others.into_iter().collect(), under: Some(self) }
    }
}
