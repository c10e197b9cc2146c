//! Carry: animation from one rig onto another.
//!
//! Rotations carry relative to rest: if the world rotation of a source node leaves its rest by `Δ`, so does that of
//! its partner. With `F` for the world rotation at rest in which a node's animated rotation `R` acts (its parent's,
//! and the constant rotation before it), `after` for the constant rotation behind it, and `W` for the node's own
//! world rotation at rest, so that `W = F·R₀·after`, the partner's rotation is
//!
//! ```text
//! R' = A·R·B,   A = F'⁻¹·F,   B = after·W⁻¹·W'·after'⁻¹
//! ```
//!
//! constants both. Where only bone lengths, names and orders differ, they are the identity. Nodes between two pairs
//! that have no partner themselves count as if at rest, on both sides.

use std::collections::{HashMap, HashSet};

use glam::{DQuat, DVec3};
use rayon::prelude::*;
use thiserror::Error;

use super::channel::{Bookkeeper, count};
use super::turn::{Turned, Turning};
use crate::address::{AddressError, Addresses, NodeRef, without_namespace};
use crate::controller::{Controller, SampleKind};
use crate::curve::Curve;
use crate::evaluate::{EvaluateError, Evaluator, Pose};
use crate::ledger::{Entry, Fate, Ledger, MeasuredError};
use crate::rig::{Canonical, NodeId, NodeKind, Rig};
use crate::rotation::angle_between;
use crate::scene::{PropertyKind, Scene, Take, Target, Track};
use crate::value::{Quantity, Value};

/// Which node of a source goes to which node of a target.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NameMap {
    /// Pairs of addresses: source, target.
    pub nodes: Vec<(String, String)>,
}

/// How to carry.
#[derive(Clone, Copy, Debug)]
pub struct CarryOptions {
    /// The largest error of a world-space rotation relative to rest, in radians.
    pub tolerance: f64,
    /// How much the translation grows, apart from units; `None` takes the ratio of the hip heights.
    pub scale: Option<f64>,
}

/// Why a scene cannot be carried.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum CarryError {
    /// The source has no animation.
    #[error("the source has no take: there is nothing to carry")]
    NoTake,
    /// One side has no rig.
    #[error("the {0} has no rig")]
    NoRig(&'static str),
    /// The map names a node that is not there.
    #[error("the map: {error} in the {side}{}", suggestion.as_ref().map(|name| format!(" (did you mean '{name}'?)")).unwrap_or_default())]
    Map {
        /// Source or target.
        side: &'static str,
        /// What is wrong.
        error: AddressError,
        /// A similar name.
        suggestion: Option<String>,
    },
    /// Two entries of the map lead to one node.
    #[error("the map leads two nodes to '{0}'")]
    Twice(String),
    /// No node has a partner.
    #[error("no node of the source has a partner in the target: give a map (--map)")]
    NoPairs,
    /// The spaces differ in more than the unit.
    #[error(
        "the source has {source_up} up and the target {target_up}: convert the source first (convert --up {target_up})"
    )]
    UpAxis {
        /// Of the source.
        source_up: String,
        /// Of the target.
        target_up: String,
    },
    /// A pose cannot be evaluated.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
}

/// What carrying came to.
#[derive(Clone, Debug)]
pub struct Carried {
    /// The target with the source's takes on it.
    pub scene: Scene,
    /// What became of every channel, on both sides.
    pub ledger: Ledger,
    /// How many nodes have partners.
    pub pairs: usize,
    /// By how much translations grew, units included.
    pub translation_scale: f64,
    /// The largest error of a paired node's world rotation relative to rest, over all frames and halfway between.
    pub world_error: MeasuredError,
    /// The node at which it is.
    pub worst_node: Option<String>,
}

/// Puts the animation of the first rig of `source` onto the first rig of `target`.
///
/// Nodes are paired by the map, else by equal names, with or without namespaces. Rotations keep the target's orders;
/// translations carry their distance from rest, scaled; attributes of equal names and kinds carry as they are.
///
/// # Errors
/// See [`CarryError`].
pub fn carry(
    source: &Scene,
    target: &Scene,
    map: &NameMap,
    options: &CarryOptions,
) -> Result<Carried, CarryError> {
    if source.takes.is_empty() {
        return Err(CarryError::NoTake);
    }
    let from = source.rigs.first().ok_or(CarryError::NoRig("source"))?;
    let onto = target.rigs.first().ok_or(CarryError::NoRig("target"))?;
    if source.space.up != target.space.up || source.space.handedness != target.space.handedness {
        let name = |space: &crate::space::Space| format!("{}", space.up);
        return Err(CarryError::UpAxis { source_up: name(&source.space), target_up: name(&target.space) });
    }
    let (source_addresses, target_addresses) = (Addresses::new(source), Addresses::new(target));
    let pairs = pair(source, target, &source_addresses, &target_addresses, map)?;
    let unit = source.space.metres_per_unit / target.space.metres_per_unit;
    let scale = unit * options.scale.unwrap_or_else(|| hip_ratio(from, onto, &pairs, source, target));
    let job = Job {
        source,
        target,
        from: Side::of(from),
        onto: Side::of(onto),
        pairs: &pairs,
        source_addresses: &source_addresses,
        target_addresses: &target_addresses,
        scale,
        tolerance: options.tolerance / deepest_chain(from, &pairs) as f64,
    };
    let mut scene = target.clone();
    let mut ledger = Ledger::default();
    if target.takes.is_empty() {
        scene.rate = source.rate;
    }
    for take in &source.takes {
        scene.takes.push(job.take(take, &mut ledger));
    }
    job.list_unpaired(&mut ledger);
    let (world_error, worst_node) = job.measure(&scene)?;
    Ok(Carried { scene, ledger, pairs: pairs.len(), translation_scale: scale, world_error, worst_node })
}

/// Pairs of nodes, in order of the source.
type Pairs = Vec<(NodeId, NodeId)>;

fn pair(
    source: &Scene,
    target: &Scene,
    source_addresses: &Addresses,
    target_addresses: &Addresses,
    map: &NameMap,
) -> Result<Pairs, CarryError> {
    let find = |addresses: &Addresses, side: &'static str, text: &str| -> Result<NodeId, CarryError> {
        let found = addresses.find(text).or_else(|error| {
            // A map is written once for all files of a character, whatever their namespace.
            let bare = |&&node: &&NodeRef| without_namespace(addresses.node(node)) == without_namespace(text);
            let mut same = addresses.nodes().iter().filter(bare);
            match (same.next(), same.next()) {
                (Some(&only), None) => Ok(only),
                _ => Err(error),
            }
        });
        match found {
            Ok((0, node)) => Ok(node),
            Ok(_) => {
                Err(CarryError::Map { side, error: AddressError::NoNode(text.to_owned()), suggestion: None })
            }
            Err(error) => {
                let suggestion = similar(text, addresses.texts()).map(str::to_owned);
                Err(CarryError::Map { side, error, suggestion })
            }
        }
    };
    let mut by_source: HashMap<NodeId, NodeId> = HashMap::new();
    let mut taken: HashSet<NodeId> = HashSet::new();
    for (from, to) in &map.nodes {
        let from = find(source_addresses, "source", from)?;
        let onto = find(target_addresses, "target", to)?;
        if !taken.insert(onto) || by_source.insert(from, onto).is_some() {
            return Err(CarryError::Twice(to.clone()));
        }
    }
    let names = |rig: &Rig, bare: bool| {
        let mut found: HashMap<String, Option<NodeId>> = HashMap::new();
        for (id, node) in rig.nodes() {
            let name = if bare { without_namespace(&node.name) } else { &node.name };
            found.entry(name.to_owned()).and_modify(|id| *id = None).or_insert(Some(id));
        }
        found
    };
    let (from, onto) = (&source.rigs[0], &target.rigs[0]);
    for bare in [false, true] {
        let (sources, targets) = (names(from, bare), names(onto, bare));
        for (id, node) in from.nodes() {
            let name = if bare { without_namespace(&node.name) } else { &node.name };
            if by_source.contains_key(&id) || sources.get(name) != Some(&Some(id)) {
                continue;
            }
            if let Some(Some(partner)) = targets.get(name)
                && taken.insert(*partner)
            {
                by_source.insert(id, *partner);
            }
        }
    }
    let pairs: Pairs =
        from.nodes().filter_map(|(id, _)| by_source.get(&id).map(|&partner| (id, partner))).collect();
    if pairs.is_empty() { Err(CarryError::NoPairs) } else { Ok(pairs) }
}

/// The name most like `wanted`, if one is like it at all: the fewest letters changed (Levenshtein, 1966).
pub fn similar<'a>(wanted: &str, names: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = wanted.to_lowercase();
    let limit = 1 + wanted.chars().count() / 3;
    names
        .map(|name| (strsim::levenshtein(&wanted, &name.to_lowercase()), name))
        .filter(|(distance, _)| *distance <= limit)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, name)| name)
}

/// The ratio of the heights, in metres, of the topmost paired nodes that move; 1 where there is no height.
fn hip_ratio(from: &Rig, onto: &Rig, pairs: &Pairs, source: &Scene, target: &Scene) -> f64 {
    let moves = |id: NodeId| {
        source.takes.iter().flat_map(Take::tracks).any(|(_, track)| {
            track.target.rig == 0 && track.target.node == id && track.target.property == "translation"
        })
    };
    let (from_world, onto_world) = (from.rest_world(), onto.rest_world());
    let up = source.space.up.index();
    let height = |rig: &Rig, world: &[glam::DAffine3], id: NodeId, metres: f64| {
        rig.position(id).map_or(0.0, |position| world[position].translation[up] * metres)
    };
    (pairs.iter().filter(|(id, _)| moves(*id)))
        .map(|&(a, b)| {
            let source_height = height(from, &from_world, a, source.space.metres_per_unit);
            (source_height, height(onto, &onto_world, b, target.space.metres_per_unit))
        })
        .find(|(a, b)| *a > 1e-6 && *b > 1e-6)
        .map_or(1.0, |(a, b)| b / a)
}

/// How many paired nodes lie on the longest way from the top down; errors of rotations add up along it.
fn deepest_chain(rig: &Rig, pairs: &Pairs) -> usize {
    let paired: HashSet<NodeId> = pairs.iter().map(|pair| pair.0).collect();
    let chain = |id: NodeId| {
        std::iter::successors(Some(id), |&id| rig.parent(id)).filter(|id| paired.contains(id)).count()
    };
    paired.iter().map(|&id| chain(id)).max().unwrap_or(1).max(1)
}

/// One rig with what is needed of it at rest.
struct Side<'a> {
    rig: &'a Rig,
    /// World rotations at rest, by position.
    world: Vec<DQuat>,
    views: Vec<Option<Canonical>>,
}

impl<'a> Side<'a> {
    fn of(rig: &'a Rig) -> Side<'a> {
        let views: Vec<Option<Canonical>> = rig.nodes().map(|(_, node)| node.canonical()).collect();
        let mut world: Vec<DQuat> = Vec::with_capacity(rig.len());
        for (position, parent) in rig.parent_positions().into_iter().enumerate() {
            let local = views[position].map_or_else(
                || {
                    rig.nodes()
                        .nth(position)
                        .map_or(DQuat::IDENTITY, |(_, node)| node.rest().to_scale_rotation_translation().1)
                },
                |view| view.rest_rotation(),
            );
            world.push(parent.map_or(local, |parent| world[parent] * local));
        }
        Side { rig, world, views }
    }

    fn position(&self, id: NodeId) -> usize {
        self.rig.position(id).expect("a node of this rig")
    }

    fn view(&self, id: NodeId) -> Option<&Canonical> {
        self.views[self.position(id)].as_ref()
    }

    /// The world rotation at rest in which a node's animated rotation acts: its parent's, and what stands before.
    fn frame(&self, id: NodeId) -> DQuat {
        let above = self.rig.parent(id).map_or(DQuat::IDENTITY, |parent| self.world[self.position(parent)]);
        above * self.view(id).map_or(DQuat::IDENTITY, |view| view.before)
    }
}

struct Job<'a> {
    source: &'a Scene,
    target: &'a Scene,
    from: Side<'a>,
    onto: Side<'a>,
    pairs: &'a Pairs,
    source_addresses: &'a Addresses,
    target_addresses: &'a Addresses,
    scale: f64,
    tolerance: f64,
}

/// What became of one track, or why it was left out.
type Outcome = Result<Turned, String>;

impl Job<'_> {
    fn take(&self, take: &Take, ledger: &mut Ledger) -> Take {
        let books = Bookkeeper { addresses: self.source_addresses, take };
        let partners: HashMap<NodeId, NodeId> = self.pairs.iter().copied().collect();
        let tracks: Vec<(usize, &Track)> = take.tracks().collect();
        let carry = |(layer, track): (usize, &Track)| -> (usize, Option<Track>, Entry) {
            let partner = partners.get(&track.target.node).filter(|_| track.target.rig == 0);
            let Some(&partner) = partner else {
                let note =
                    if track.target.rig == 0 { "no partner in the target" } else { "belongs to another rig" };
                return (layer, None, books.changed(layer, track, Fate::LeftOut, 0, None, note));
            };
            let target = Target { rig: 0, node: partner, property: track.target.property.clone() };
            match self.track(take, track, &target) {
                Err(why) => (layer, None, books.changed(layer, track, Fate::LeftOut, 0, None, why)),
                Ok(Turned { controller, fate, error, note }) => {
                    let new = Track { target, controller };
                    let mut entry = books.changed(layer, track, fate, count(&new), error, note);
                    entry.to = Some(self.target_addresses.property(&new.target));
                    (layer, Some(new), entry)
                }
            }
        };
        let done: Vec<_> = tracks.into_par_iter().map(carry).collect();
        let mut result = take.clone();
        for layer in &mut result.layers {
            layer.tracks.clear();
        }
        for (layer, track, entry) in done {
            result.layers[layer].tracks.extend(track);
            ledger.entries.push(entry);
        }
        result
    }

    fn track(&self, take: &Take, track: &Track, target: &Target) -> Outcome {
        let property = track.target.property.as_str();
        let (Some(kind), Some(rest)) = (
            self.from.rig.property_kind(track.target.node, property),
            self.from.rig.rest_value(track.target.node, property),
        ) else {
            return Err("the source has no such property".into());
        };
        let Some(partner) = self.onto.rig.node(target.node) else {
            return Err("the partner is gone".into());
        };
        if self.onto.rig.property_kind(target.node, property) != Some(kind) {
            return Err(format!("'{}' has no such '{property}'", partner.name));
        }
        if partner.is_locked(property, None) {
            return Err("locked in the target".into());
        }
        match kind {
            PropertyKind::Rotation if property == "rotation" => self.rotation(take, track, target, &rest),
            PropertyKind::Vector(Quantity::Length) if property == "translation" => {
                self.translation(track, target)
            }
            PropertyKind::Vector(Quantity::Length) | PropertyKind::Scalar(Quantity::Length) => {
                let controller = scaled(&track.controller, DVec3::ZERO, self.scale, DVec3::ZERO);
                self.moved(track, controller)
            }
            _ => Ok(Turned {
                controller: track.controller.clone(),
                fate: Fate::Kept,
                error: None,
                note: String::new(),
            }),
        }
    }

    fn rotation(&self, take: &Take, track: &Track, target: &Target, rest: &Value) -> Outcome {
        let (id, partner) = (track.target.node, target.node);
        let (Some(view), Some(partner_view)) = (self.from.view(id), self.onto.view(partner)) else {
            return Err("its transform is not translation · rotation · scale".into());
        };
        let Some(order) = partner_view.order else {
            return Err("the partner turns by quaternions, which is not supported yet".into());
        };
        let before = self.onto.frame(partner).conjugate() * self.from.frame(id);
        let turn_of = |side: &Side<'_>, id: NodeId| side.world[side.position(id)];
        let after = view.after
            * turn_of(&self.from, id).conjugate()
            * turn_of(&self.onto, partner)
            * partner_view.after.conjugate();
        let turning = Turning {
            order,
            before: snapped(before),
            after: snapped(after),
            tolerance: self.tolerance,
            rate: self.source.rate,
            range: take.range,
        };
        turning.apply(&track.controller, rest).ok_or_else(|| {
            format!("a {} controller cannot be given another order or rest yet", track.controller.type_name())
        })
    }

    fn translation(&self, track: &Track, target: &Target) -> Outcome {
        let (Some(view), Some(partner)) = (self.from.view(track.target.node), self.onto.view(target.node))
        else {
            return Err("its transform is not translation · rotation · scale".into());
        };
        let parent = |side: &Side<'_>, id: NodeId| {
            side.rig.parent(id).map_or(DQuat::IDENTITY, |parent| side.world[side.position(parent)])
        };
        let turned = parent(&self.onto, target.node).conjugate() * parent(&self.from, track.target.node);
        if angle_between(turned, DQuat::IDENTITY) > 1e-6 {
            return Err("the parents are oriented differently at rest, which is not supported yet".into());
        }
        self.moved(track, scaled(&track.controller, view.translation, self.scale, partner.translation))
    }

    fn moved(&self, track: &Track, controller: Option<Controller>) -> Outcome {
        match controller {
            Some(controller) => {
                let same = controller == track.controller;
                let note = if same { String::new() } else { format!("times {:.4}", self.scale) };
                let fate = if same { Fate::Kept } else { Fate::Remapped };
                Ok(Turned { controller, fate, error: None, note })
            }
            None => Err(format!("a {} controller cannot be scaled yet", track.controller.type_name())),
        }
    }

    /// Names the nodes of the target that nothing moves.
    fn list_unpaired(&self, ledger: &mut Ledger) {
        let paired: HashSet<NodeId> = self.pairs.iter().map(|pair| pair.1).collect();
        let missing: Vec<&str> = (self.onto.rig.nodes())
            .filter(|(id, node)| !paired.contains(id) && node.kind != NodeKind::Helper)
            .map(|(id, _)| self.target_addresses.node((0, id)))
            .collect();
        if !missing.is_empty() {
            ledger
                .notes
                .push(format!("stay at rest in the target, having no partner: {}", missing.join(", ")));
        }
        let paired: HashSet<NodeId> = self.pairs.iter().map(|pair| pair.0).collect();
        let idle: Vec<&str> = (self.from.rig.nodes())
            .filter(|(id, node)| !paired.contains(id) && node.kind != NodeKind::Helper)
            .map(|(id, _)| self.source_addresses.node((0, id)))
            .collect();
        if !idle.is_empty() {
            ledger.notes.push(format!("without a partner in the source: {}", idle.join(", ")));
        }
    }

    /// Compares the world rotations relative to rest of all pairs, at every half frame of the takes carried.
    fn measure(&self, result: &Scene) -> Result<(MeasuredError, Option<String>), CarryError> {
        let mut error = MeasuredError::none(Quantity::Angle);
        let mut worst = None;
        let carried = &result.takes[self.target.takes.len()..];
        for (before, after) in self.source.takes.iter().zip(carried) {
            let mut source = Evaluator::new(self.source, Some(before), 0)?;
            let mut target = Evaluator::new(result, Some(after), 0)?;
            let (mut pose, mut carried_pose) = (Pose::default(), Pose::default());
            let rate = self.source.rate;
            let frames = (rate.frame(before.range.first) * 2.0).ceil() as i64
                ..=(rate.frame(before.range.last) * 2.0) as i64;
            for half in frames {
                let time = half as f64 * 0.5 * rate.ticks_per_frame();
                source.pose_at(time, &mut pose);
                target.pose_at(time, &mut carried_pose);
                for &(id, partner) in self.pairs {
                    let (a, b) = (self.from.position(id), self.onto.position(partner));
                    let left = pose.world_rotation[a] * self.from.world[a].conjugate();
                    let right = carried_pose.world_rotation[b] * self.onto.world[b].conjugate();
                    let angle = angle_between(left, right);
                    if angle > error.largest || worst.is_none() {
                        worst = Some(self.target_addresses.node((0, partner)).to_owned());
                    }
                    error.take(angle, half as f64 * 0.5);
                }
            }
        }
        Ok((error, worst))
    }
}

/// The identity where a rotation differs from it by rounding alone.
fn snapped(q: DQuat) -> DQuat {
    if angle_between(q, DQuat::IDENTITY) < 1e-9 { DQuat::IDENTITY } else { q }
}

/// Values `to + (value − from) · factor`, exactly on keys and tangents; `None` where the type cannot be scaled.
fn scaled(controller: &Controller, from: DVec3, factor: f64, to: DVec3) -> Option<Controller> {
    let offset = to - from * factor;
    Some(match controller {
        Controller::Constant(Value::Vector(v)) => Controller::Constant(Value::Vector(*v * factor + offset)),
        Controller::Constant(Value::Scalar(v)) => Controller::Constant(Value::Scalar(v * factor)),
        Controller::Components(curves) => Controller::Components(
            curves
                .iter()
                .enumerate()
                .map(|(axis, curve): (usize, &Curve)| {
                    curve.affine(factor, if curves.len() == 3 { offset[axis] } else { 0.0 })
                })
                .collect(),
        ),
        Controller::Samples(samples) if matches!(samples.kind, SampleKind::Vector | SampleKind::Scalar) => {
            let mut samples = samples.clone();
            let width = samples.kind.width();
            for (index, value) in samples.values.iter_mut().enumerate() {
                *value = *value * factor + if width == 3 { offset[index % 3] } else { 0.0 };
            }
            Controller::Samples(samples)
        }
        _ => return None,
    })
}
