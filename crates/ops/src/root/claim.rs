//! What scenes should be whose root motion was lifted, pinned, restored or centred.

use std::collections::HashSet;

use glam::{DAffine3, DQuat, DVec3};
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler, principal_euler, quat_from_euler};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::controller::{Controller, Weight};
use nimble_curve_scene::evaluate::NodeSampler;
use nimble_curve_scene::judge::{Claim, Edit, Edited, Excuse, Factor, Standing, Turn};
use nimble_curve_scene::ledger::{Fate, Ledger};
use nimble_curve_scene::rig::NodeId;
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{Scene, Target};

use super::carrier::{Carrier, PINNED};
use super::{RootError, RootOptions};
use crate::ground::Ground;

/// Lifted: all but the carrier and the root turn and stand beside their parents as they did, and the carrier and all below
/// it are where they were in the world. Where hips were reordered, what stands on them is held to angles alone.
///
/// # Errors
/// Where nothing carries the body.
pub fn lifted(
    scene: &Scene,
    result: &Scene,
    ledger: &Ledger,
    options: &RootOptions,
) -> Result<Claim, RootError> {
    let carrier = Carrier::find(scene, options.node.as_deref(), false)?;
    let (from, rig) = (&scene.rigs[carrier.rig], &result.rigs[carrier.rig]);
    let root = rig.parent(carrier.id);
    let mut claim = Claim::same(scene, result);
    let free = [Some(carrier.id), root.filter(|id| from.node(*id).is_some())];
    for id in free.into_iter().flatten() {
        claim.excuses.extend(of_transform(
            scene,
            (carrier.rig, id),
            "its travel moved between it and the root",
        ));
    }
    let node: NodeRef = (carrier.rig, carrier.id);
    let upwards = |id: NodeId| std::iter::successors(Some(id), |id| from.parent(*id));
    let factor = |id: NodeId| Factor {
        node: (carrier.rig, id),
        part: 1.0,
        before: DQuat::IDENTITY,
        after: DQuat::IDENTITY,
    };
    let mut of: Vec<Factor> = upwards(carrier.id).map(factor).collect();
    of.reverse();
    let (before, after) = (DQuat::IDENTITY, DQuat::IDENTITY);
    // What was lifted is named in the ledger as moved, which excuses nothing of where the carrier is.
    claim.turns = vec![Turn { result: node, beside: None, before, after, of, source: node }];
    let is_refitted = ledger.entries.iter().any(|entry| entry.fate >= Fate::Refitted);
    let standing = |id: NodeId| Standing {
        source: (carrier.rig, id),
        result: (carrier.rig, id),
        references: Some((DQuat::IDENTITY, DQuat::IDENTITY)),
        place: id == carrier.id || !is_refitted,
        at: None,
        slack: [0.0; 2],
    };
    let below = from.nodes().map(|(id, _)| id).filter(|id| upwards(*id).any(|id| id == carrier.id));
    claim.world = Some(below.map(standing).collect());
    Ok(claim)
}

/// The transform of a node, excused in all takes.
fn of_transform(scene: &Scene, (rig, node): NodeRef, why: &str) -> Vec<Excuse> {
    let steps = scene.rigs[rig].node(node).map_or(&[][..], |node| &node.transform);
    let excuse = |take: usize, property: &str| Excuse::new(take, Target::new(rig, node, property), why);
    (0..scene.takes.len()).flat_map(|take| steps.iter().map(move |op| excuse(take, &op.name))).collect()
}

/// Pinned: the carrier stays where it rests on the ground (and in height, and turned about the up axis, where these go along);
/// or, at a steady speed, a straight line between the ends is taken off. All else is the same.
///
/// # Errors
/// Where nothing carries the body, or a controller cannot be evaluated.
pub fn pinned(scene: &Scene, result: &Scene, options: &RootOptions) -> Result<Claim, RootError> {
    let carrier = Carrier::find(scene, options.node.as_deref(), true)?;
    let mut claim = Claim::same(scene, result);
    let node: NodeRef = (carrier.rig, carrier.id);
    for (index, take) in scene.takes.iter().enumerate() {
        let moves = |property: &str| take.tracks().any(|(_, track)| carrier.is_mine(&track.target, property));
        let (shifts, turns) = (moves(TRANSLATION), options.turn && moves(ROTATION));
        if !shifts && !turns {
            continue;
        }
        let ground = Ground::under(scene, take, node, take.range.first)?;
        let up = ground.turning_axis().0;
        // A node that rests in an order in which the turn about the up axis acts last is not reordered: the angle of its own curves is
        // what is pinned. Others are, whatever the order of their curves.
        let is_last = |order: &RotationOrder| order.axes().0 == up;
        let rest = scene.rigs[node.0].rest_value(node.1, ROTATION).and_then(|rest| rest.order());
        let turning = take.tracks().find(|(_, track)| carrier.is_mine(&track.target, ROTATION));
        let own = turning.and_then(|(_, track)| track.controller.order()).filter(is_last);
        let order = rest.filter(is_last).map_or(carrier.order(), |rest| own.unwrap_or(rest));
        let angles = at_rest(scene, node, order);
        let mut sampler = NodeSampler::new(scene, Some(take), node)?;
        let (first, last) = (take.range.first.as_f64(), take.range.last.as_f64());
        let ends = [first, last].map(|time| sampler.local_at(time).0.translation);
        let (steady, height, rest) = (options.steady, options.height, carrier.rest);
        claim.edits.push(Edit::new(index, node, move |time, (affine, turn)| {
            let part = if last > first { ((time - first) / (last - first)).clamp(0.0, 1.0) } else { 0.0 };
            let goes = if steady { ends[0].lerp(ends[1], part) } else { affine.translation } - rest;
            let taken = if height { goes } else { ground.along(goes) };
            let place = affine.translation - if shifts { taken } else { DVec3::ZERO };
            if !turns {
                let local = (DAffine3 { translation: place, ..affine }, turn);
                return Edited { local, or: None, about: None };
            }
            let [one, other] = unturned(order, up, angles[up], turn);
            let scaled = glam::DMat3::from_quat(one * turn.conjugate()) * affine.matrix3;
            let local = (DAffine3 { matrix3: scaled, translation: place }, one);
            // At the pole the turn about the up axis and the innermost one are the same: it may stay with either.
            let (_, middle, _) = order.axes();
            let is_near = principal_euler(order, turn.normalize())[middle].cos() < NEAR_POLE;
            let mut axis = DVec3::ZERO;
            axis[up] = 1.0;
            Edited { local, or: Some(other), about: is_near.then_some(axis) }
        }));
    }
    Ok(claim)
}

/// A middle angle whose cosine is below this is near the pole: there errors of a reordered rotation count more than twice as
/// much in the turn about the up axis.
const NEAR_POLE: f64 = 0.5;

/// The angles of a node at rest in an order: those nearest to its own, as another order of it has them.
pub(super) fn at_rest(scene: &Scene, (rig, node): NodeRef, order: RotationOrder) -> DVec3 {
    match scene.rigs[rig].rest_value(node, ROTATION) {
        Some(Value::Euler { order: own, angles }) if own == order => angles,
        Some(Value::Euler { order: own, angles }) => {
            nearest_euler(order, quat_from_euler(own, angles), angles)
        }
        Some(value) => value.rotation().map_or(DVec3::ZERO, |q| principal_euler(order, q.normalize())),
        None => DVec3::ZERO,
    }
}

/// A rotation with its turn about the outermost axis replaced, in both readings: the middle angle within a quarter turn, and
/// beyond it, where somersaults go.
fn unturned(order: RotationOrder, up: usize, angle: f64, turn: DQuat) -> [DQuat; 2] {
    let angles = principal_euler(order, turn.normalize());
    let (_, middle, inner) = order.axes();
    let mut one = angles;
    one[up] = angle;
    let mut other = one;
    other[middle] = std::f64::consts::PI - one[middle];
    other[inner] = one[inner] + std::f64::consts::PI;
    [quat_from_euler(order, one), quat_from_euler(order, other)]
}

/// The scene that a pinned one should become again: what was kept counts, and what stands in its place does not.
pub fn unpinned(scene: &Scene) -> Scene {
    let mut scene = scene.clone();
    let tracks = scene.takes.iter_mut().flat_map(|take| &mut take.layers).flat_map(|layer| &mut layer.tracks);
    for track in tracks {
        let Controller::Stack(entries) = &mut track.controller else { continue };
        if entries.iter().any(|entry| entry.name == PINNED) {
            for entry in entries {
                entry.weight = Weight::Constant(if entry.name == PINNED { 1.0 } else { 0.0 });
            }
        }
    }
    scene
}

/// Centred: the node's place on the ground is less by where it is at the first frame, or the origin throughout.
///
/// # Errors
/// Where there is no such node, or a controller cannot be evaluated.
pub fn centred(scene: &Scene, result: &Scene, name: &str, throughout: bool) -> Result<Claim, RootError> {
    let carrier = Carrier::find(scene, Some(name), false)?;
    let node: NodeRef = (carrier.rig, carrier.id);
    let mut claim = Claim::same(scene, result);
    let moved: HashSet<usize> = (scene.takes.iter().enumerate())
        .filter(|(_, take)| take.tracks().any(|(_, track)| carrier.is_mine(&track.target, TRANSLATION)))
        .map(|(index, _)| index)
        .collect();
    for (index, take) in scene.takes.iter().enumerate().filter(|(index, _)| moved.contains(index)) {
        let mut sampler = NodeSampler::new(scene, Some(take), node)?;
        let start = sampler.local_at(take.range.first.as_f64()).0.translation;
        let ground = Ground::under(scene, take, node, take.range.first)?;
        claim.edits.push(Edit::new(index, node, move |_, (affine, turn)| {
            let off = if throughout { affine.translation } else { start };
            let place = affine.translation - ground.along(off);
            Edited { local: (DAffine3 { translation: place, ..affine }, turn), or: None, about: None }
        }));
    }
    Ok(claim)
}
