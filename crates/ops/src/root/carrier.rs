//! The node that carries a body, and a scene made ready for taking its travel out.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{RotationOrder, angle_between, principal_euler};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, SampleKind, Samples};
use nimble_curve_scene::evaluate::{EvaluateError, Evaluator, Pose};
use nimble_curve_scene::ledger::{Entry, Ledger};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::{NodeId, OpValue};
use nimble_curve_scene::rig::{ROTATION, SCALE, TRANSLATION};
use nimble_curve_scene::scene::{Layer, LayerMode, RotationMixing, Scene, Take, Target, Track};

use super::RootOptions;
use super::error::RootError;
use crate::channel::{count, property};
use crate::conversion::{ControllerType, ConversionContext, convert_controller};
use crate::reorder::{NewOrder, ReorderOptions, reorder};
use crate::travel::{busiest_rig, carrier};
use crate::upright::{Upright, stands_still};

/// The node that carries a body, and what its axes are.
pub(super) struct Carrier {
    pub(super) rig: usize,
    pub(super) id: NodeId,
    /// Which of its own axes is upright.
    pub(super) up: usize,
    pub(super) address: String,
    pub(super) rest: DVec3,
    /// Whether its axes are those of the world.
    pub(super) is_straight: bool,
}

/// What is turned, or scaled, by less than this stands as the world does.
const STRAIGHT: f64 = 1e-9;

/// How what is above a node stands at the beginning of each take; at rest where there is none.
fn stands(scene: &Scene, rig: usize, above: Option<NodeId>) -> Result<Vec<DQuat>, EvaluateError> {
    let own = &scene.rigs[rig];
    let Some(at) = above.and_then(|id| own.position(id)) else { return Ok(vec![DQuat::IDENTITY]) };
    let mut stands = Vec::new();
    let mut pose = Pose::default();
    for take in &scene.takes {
        Evaluator::new(scene, Some(take), rig)?.pose_at(take.range.first.as_f64(), &mut pose);
        stands.push(pose.world_rotation[at]);
    }
    if stands.is_empty() {
        stands.push(decomposed(&own.rest_world()[at]).1);
    }
    Ok(stands)
}

/// The entry of a stack that keeps what was pinned.
pub(super) const PINNED: &str = "pinned";

pub(super) const IN_PLACE: &str = "in place";

impl Carrier {
    pub(super) fn find(scene: &Scene, node: Option<&str>, prefer_root: bool) -> Result<Carrier, RootError> {
        let addresses = Addresses::new(scene);
        let (index, id) = match node {
            Some(name) => addresses.find_in_any_namespace(name).map_err(|_| {
                let texts: Vec<&str> = addresses.texts().collect();
                RootError::NoNode(
                    name.to_owned(),
                    nimble_curve_scene::similar::similar_address(name, texts.into_iter()),
                )
            })?,
            None => {
                // The rig that moves most: a prop beside a character carries nobody.
                let found = scene.takes.iter().find_map(|take| {
                    let index = busiest_rig(scene, take);
                    Some((index, carrier(scene, take, index)?))
                });
                let (index, position) = found.ok_or(RootError::NoCarrier)?;
                let rig = &scene.rigs[index];
                let hips = rig.nodes().nth(position).map(|(id, _)| id).ok_or(RootError::NoCarrier)?;
                let moves = |id: NodeId| {
                    let mut tracks = scene.takes.iter().flat_map(Take::tracks).map(|(_, track)| track);
                    tracks.any(|track| {
                        (track.target.rig, track.target.node) == (index, id)
                            && !stands_still(&track.controller)
                    })
                };
                // A root that moves carries the hips along.
                let above = std::iter::successors(rig.parent(hips), |id| rig.parent(*id));
                let root = above.filter(|id| moves(*id)).last();
                (index, root.filter(|_| prefer_root).unwrap_or(hips))
            }
        };
        let rig = &scene.rigs[index];
        let address = addresses.node((index, id)).to_owned();
        let plain = |id: NodeId| {
            let view = rig.node(id)?.canonical()?;
            let straight = angle_between(view.before, DQuat::IDENTITY) < STRAIGHT;
            Some((view.translation, straight && (view.scale - DVec3::ONE).abs().max_element() < STRAIGHT))
        };
        let (rest, own_straight) = plain(id).ok_or_else(|| RootError::RestsTurned(address.clone()))?;
        let above = || std::iter::successors(rig.parent(id), |id| rig.parent(*id));
        let of_plain_size = |id: NodeId| {
            let view = rig.node(id).and_then(|node| node.canonical());
            view.is_some_and(|view| (view.scale - DVec3::ONE).abs().max_element() < STRAIGHT)
        };
        if !own_straight || !above().all(of_plain_size) {
            return Err(RootError::RestsTurned(address));
        }
        let turns = |id: NodeId| {
            let mut tracks = scene.takes.iter().flat_map(Take::tracks).map(|(_, track)| track);
            tracks.any(|track| {
                (track.target.rig, track.target.node) == (index, id)
                    && [ROTATION, SCALE].contains(&track.target.property.as_str())
                    && !stands_still(&track.controller)
            })
        };
        if let Some(turning) = above().find(|id| turns(*id)) {
            return Err(RootError::RootTurns(addresses.node((index, turning)).to_owned()));
        }
        let stands = stands(scene, index, rig.parent(id))?;
        let up = DVec3::AXES[scene.space.up.index()];
        let upright = Upright::of(stands[0], up)
            .filter(|own| stands.iter().all(|turn| Upright::of(*turn, up).as_ref() == Some(own)));
        let upright = upright.ok_or_else(|| RootError::RestsTurned(address.clone()))?;
        let is_straight = stands.iter().all(|turn| angle_between(*turn, DQuat::IDENTITY) < STRAIGHT);
        Ok(Carrier { rig: index, id, up: upright.axis, address, rest, is_straight })
    }

    pub(super) fn target(&self, property: &str) -> Target {
        Target { rig: self.rig, node: self.id, property: property.into() }
    }

    /// The axes of the ground.
    pub(super) fn ground(&self) -> [usize; 2] {
        [(self.up + 1) % 3, (self.up + 2) % 3]
    }

    /// A rotation order in which the turn about the up axis acts last.
    pub(super) fn order(&self) -> RotationOrder {
        let [a, b] = self.ground();
        // The middle axis is the one that hips turn about least far: sideways in space, x where it lies on the ground.
        let (middle, inner) = if a == 0 || self.up == 0 { (a, b) } else { (b, a) };
        RotationOrder::from_axes(self.up, middle, inner).unwrap_or(RotationOrder::Xyz)
    }

    /// Gives a value to every component of the place wherever a layer replaces what lies under it: the one that counts there.
    pub(super) fn fill(&self, take: &mut Take) {
        let target = self.target(TRANSLATION);
        let first = take.range.first;
        let constant = |axis: usize| Curve::constant(first, self.rest[axis]);
        for (index, layer) in take.layers.iter_mut().enumerate() {
            if layer.mode != LayerMode::Override {
                continue;
            }
            match layer.tracks.iter_mut().find(|track| track.target == target) {
                Some(Track { controller: Controller::Components(curves), .. }) => {
                    curves.resize(3, Curve::default());
                    for (axis, curve) in curves.iter_mut().enumerate().filter(|(_, curve)| curve.is_empty()) {
                        *curve = constant(axis);
                    }
                }
                Some(_) => {}
                None if index == 0 => {
                    let controller = Controller::Components([0, 1, 2].map(constant).to_vec());
                    layer.tracks.push(Track { target: target.clone(), controller });
                }
                None => {}
            }
        }
    }

    /// Whether what layers above the lowest one do to the node lies on something that counts in full.
    pub(super) fn check_base(&self, take: &Take) -> Result<(), RootError> {
        let moves = |layer: &&Layer| {
            let is_own =
                |property: &str| layer.tracks.iter().any(|track| self.is_mine(&track.target, property));
            is_own(TRANSLATION) || is_own(ROTATION)
        };
        match (take.layers.first(), take.layers.iter().skip(1).find(moves)) {
            (Some(base), Some(layer)) if !base.is_whole() => Err(RootError::Cannot {
                channel: self.address.clone(),
                why: format!(
                    "it moves on layer '{}', and '{}' below does not count in full: flatten the layers first",
                    layer.name, base.name
                ),
            }),
            _ => Ok(()),
        }
    }

    /// Whether the angles of all layers are of one order, so that they add up one by one.
    pub(super) fn check_turns(&self, scene: &Scene, take: &Take) -> Result<(), RootError> {
        let own = || {
            let layers = take.layers.iter().enumerate();
            layers
                .flat_map(|(index, layer)| layer.tracks.iter().map(move |track| (index, layer, track)))
                .filter(|(.., track)| self.is_mine(&track.target, ROTATION))
        };
        let rest = scene.rigs[self.rig].rest_value(self.id, ROTATION).and_then(|rest| rest.order());
        let orders = || std::iter::once(rest).chain(own().map(|(.., track)| track.controller.order()));
        match own().find(|(index, ..)| *index > 0) {
            Some((_, layer, _)) if orders().any(|order| order.is_none() || order != rest) => {
                Err(RootError::Mixed(layer.name.clone()))
            }
            _ => Ok(()),
        }
    }

    pub(super) fn is_mine(&self, target: &Target, property: &str) -> bool {
        (target.rig, target.node, target.property.as_str()) == (self.rig, self.id, property)
    }
}

/// A scene in which the hips turn about the up axis last, in curves or samples, and what that did to them.
pub(super) fn prepare(
    scene: &Scene,
    carrier: &Carrier,
    options: &RootOptions,
) -> Result<(Scene, Ledger), RootError> {
    let mut scene = scene.clone();
    let mut ledger = Ledger::default();
    let mixed = scene.takes.iter().flat_map(|take| take.layers.iter().skip(1)).find(|layer| {
        layer.rotations == RotationMixing::Quaternions
            && layer.tracks.iter().any(|track| carrier.is_mine(&track.target, ROTATION))
    });
    if let Some(layer) = mixed.filter(|_| options.turn) {
        return Err(RootError::Mixed(layer.name.clone()));
    }
    if options.turn {
        scene.takes.iter().try_for_each(|take| carrier.check_turns(&scene, take))?;
        let rest = scene.rigs[carrier.rig].rest_value(carrier.id, ROTATION);
        let is_last = |order: RotationOrder| order.axes().0 == carrier.up;
        match rest {
            Some(Value::Euler { order, .. }) if !is_last(order) => {
                let to = NewOrder::To(carrier.order());
                let only = vec![carrier.address.clone()];
                let tolerance = options.tolerance.angle;
                let reordered =
                    reorder(&scene, &ReorderOptions { to, only, tolerance, handles: Some(Handles::Plain) });
                if let Ok((turned, more)) = reordered {
                    scene = turned;
                    ledger.entries.extend(more.entries);
                }
            }
            Some(Value::Quaternion(q)) => {
                let order = carrier.order();
                let angles = principal_euler(order, q.normalize());
                let node = scene.rigs[carrier.rig].node_mut(carrier.id);
                let ops = node.map(|node| node.transform.iter_mut()).into_iter().flatten();
                for op in ops.filter(|op| op.name == ROTATION) {
                    op.value = OpValue::Rotate { order, angles };
                }
            }
            _ => {}
        }
    }
    let addresses = Addresses::new(&scene);
    let mut takes = scene.takes.clone();
    for (own, take) in takes.iter_mut().zip(&scene.takes) {
        for (index, layer) in take.layers.iter().enumerate() {
            for (at, track) in layer.tracks.iter().enumerate() {
                let rotation = options.turn && carrier.is_mine(&track.target, ROTATION);
                if !rotation && !carrier.is_mine(&track.target, TRANSLATION) {
                    continue;
                }
                let cannot =
                    |why: String| RootError::Cannot { channel: addresses.property(&track.target), why };
                let Some((kind, rest)) = property(&scene, take, index, track) else { continue };
                let tolerance = options.tolerance.of(kind.quantity(), &scene.space);
                let setting =
                    ConversionContext { kind, rest, tolerance, rate: scene.rate, range: take.range };
                if is_plain(&track.controller, carrier, rotation) {
                    continue;
                }
                let changed = convert_controller(&track.controller, ControllerType::Curves, &setting)
                    .map_err(|why| cannot(why.to_string()))?;
                // A node whose layers cannot be said in another order has kept its own.
                if !is_plain(&changed.controller, carrier, rotation) {
                    let why =
                        "the turn about the up axis cannot be made to act last: flatten the layers first";
                    return Err(cannot(why.to_owned()));
                }
                let entry = Entry {
                    take: take.name.clone(),
                    layer: layer.name.clone(),
                    channel: addresses.property(&track.target),
                    to: None,
                    target: Some(track.target.clone()),
                    fate: changed.fate,
                    error: changed.error.map(|error| error.in_frames(scene.rate)),
                    before: count(track),
                    after: changed.controller.key_count(),
                    note: String::new(),
                };
                ledger.entries.push(entry);
                own.layers[index].tracks[at].controller = changed.controller;
            }
        }
    }
    scene.takes = takes;
    Ok((scene, ledger))
}

/// Whether a controller can be taken apart by its components.
pub(super) fn is_plain(controller: &Controller, carrier: &Carrier, is_rotation: bool) -> bool {
    match controller {
        Controller::Components(_) => !is_rotation,
        Controller::Samples(Samples { kind: SampleKind::Vector, .. }) => !is_rotation,
        Controller::Euler(_) | Controller::Samples(_) => {
            is_rotation && controller.outermost_axis() == Some(carrier.up)
        }
        _ => false,
    }
}
