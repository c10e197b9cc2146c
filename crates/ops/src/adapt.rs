//! A scene said with what a format or an application holds: layers written together, rotations as quaternion keys or as
//! angles, weighted handles and loops written out; exactly where that can be, else within a bound that is measured.

mod controllers;
mod wholes;

use std::collections::{HashMap, HashSet};

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::rotation::{RotationOrder, angle_between, nearest_euler, quat_from_euler};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::{Node, NodeId, OpValue, ROTATION, SCALE, TRANSLATION, TransformOp};
use nimble_curve_scene::scene::{LayerMode, PropertyKind, Scene, Take, Target, Track};

pub use self::controllers::turned;
use self::controllers::{adapted, as_angles};
use self::wholes::Wholes;
use super::channel::{Tolerance, count, each_track, keys_added, property};
use super::control_rig::{SolveOptions, solve};
use super::conversion::{ConversionContext, NotConvertible};
use super::layered_rotation::mixes_angles;
use super::layers::{FlattenOptions, LayersError, flatten};

/// How rotations are held.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rotations {
    /// As quaternion keys: steps, great arcs or cubics by component. Constant rotations around the animated one are
    /// multiplied into them.
    Quaternions,
    /// As angles, in any order.
    Angles,
}

/// What a format or an application holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Capabilities {
    /// Several layers in a take.
    pub layers: bool,
    /// How rotations are held.
    pub rotations: Rotations,
    /// Weighted handles.
    pub weighted: bool,
    /// Loops and lines outside the keys, and loops inside.
    pub outside: bool,
    /// Any list of transform steps; else translation, rotation and scale.
    pub lists: bool,
    /// Steps in such a list that move, and whose inverse acts, such as the second half of a pivot.
    pub inverses: bool,
}

impl Capabilities {
    /// Curves of angles on any list of steps, in one layer.
    pub const ANGLES: Capabilities = Capabilities {
        layers: false,
        rotations: Rotations::Angles,
        weighted: true,
        outside: true,
        lists: true,
        inverses: true,
    };
}

/// A scene as files without constraints hold it: joints solved, controls as they are.
///
/// # Errors
/// Where constraints cannot be worked out.
fn unconstrained(
    scene: &Scene,
    holds: &Capabilities,
    tolerance: &Tolerance,
) -> Result<(Scene, Ledger), LayersError> {
    // Half of the tolerance for each of the two.
    let half = tolerance.times(0.5);
    let options = SolveOptions { tolerance: half, ..SolveOptions::default() };
    let made = solve(scene, &options)?;
    let (adapted, mut after) = adapt(&Scene { constraints: Vec::new(), ..made.scene }, holds, &half)?;
    after.notes.push("joints were solved, as the format holds no constraints".to_owned());
    Ok((adapted, made.ledger.followed_by(after)))
}

/// A scene with nothing but what is held, and what became of every track.
///
/// # Errors
/// Where layers cannot be written together, see [`LayersError`].
pub fn adapt(
    scene: &Scene,
    holds: &Capabilities,
    tolerance: &Tolerance,
) -> Result<(Scene, Ledger), LayersError> {
    if !scene.constraints.is_empty() {
        return unconstrained(scene, holds, tolerance);
    }
    let needs_flattening = |take: &Take| {
        take.layers.len() > 1
            || take.layers.iter().any(|base| base.muted || base.weight.constant() != Some(1.0))
    };
    let stay = holds.layers && !scene.takes.iter().any(|take| mixes_otherwise(scene, take, holds));
    if stay || !scene.takes.iter().any(needs_flattening) {
        return Ok(adapt_tracks(scene, holds, tolerance));
    }
    // Half of the tolerance for each of the two.
    let half = tolerance.times(0.5);
    let (flat, before) = flatten(scene, &FlattenOptions { tolerance: half, ..FlattenOptions::default() })?;
    let (adapted, after) = adapt_tracks(&flat, holds, &half);
    Ok((adapted, before.followed_by(after)))
}

/// Whether layers of a take mix rotations one angle by one that become something else, so that they would mix otherwise.
fn mixes_otherwise(scene: &Scene, take: &Take, holds: &Capabilities) -> bool {
    let turns = |track: &&Track| {
        let rig = scene.rigs.get(track.target.rig);
        rig.and_then(|rig| rig.property_kind(track.target.node, &track.target.property))
            == Some(PropertyKind::Rotation)
    };
    let changes = |track: &Track| {
        let rest = scene.rigs[track.target.rig].rest_value(track.target.node, &track.target.property);
        let own = match &track.controller {
            Controller::Euler(euler) => Some(euler.order),
            Controller::Constant(Value::Euler { order, .. }) => Some(*order),
            _ => None,
        };
        match (holds.rotations, rest) {
            (Rotations::Angles, Some(Value::Euler { order, .. })) => own != Some(order),
            _ => true,
        }
    };
    let mixing = take.layers.iter().enumerate().filter(|(index, layer)| mixes_angles(layer, *index));
    let mixed: HashSet<&Target> =
        mixing.flat_map(|(_, layer)| layer.tracks.iter().filter(turns).map(|track| &track.target)).collect();
    take.tracks().any(|(_, track)| mixed.contains(&track.target) && changes(track))
}

/// What is done with a node's transform.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Plan {
    /// Its steps stay.
    Keep,
    /// Its constant rotations go into the animated one, which becomes a quaternion.
    Fold { before: DQuat, after: DQuat },
    /// It is followed as a whole.
    Sample,
}

struct Plans<'a> {
    scene: &'a Scene,
    by_node: HashMap<(usize, NodeId), Plan>,
}

impl<'a> Plans<'a> {
    fn of(scene: &'a Scene, holds: &Capabilities) -> Plans<'a> {
        let mut by_node = HashMap::new();
        // What turns before and after the rotation is taken for constant wherever a node is seen as three parts.
        let is_beside = |target: &Target| {
            let node = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
            let has_step = node.is_some_and(|node| node.op(&target.property).is_some());
            has_step && ![TRANSLATION, ROTATION, SCALE].contains(&target.property.as_str())
        };
        let driven: HashSet<&Target> =
            (scene.takes.iter().flat_map(Take::tracks)).map(|(_, track)| &track.target).collect();
        let turned_beside: HashSet<NodeRef> = (driven.iter())
            .filter(|target| is_beside(target))
            .map(|target| (target.rig, target.node))
            .collect();
        let has_moving_inverse = |(rig, id): NodeRef, node: &Node| {
            let moves =
                |op: &TransformOp| driven.contains(&Target { rig, node: id, property: op.name.clone() });
            node.transform.iter().any(|op| op.inverse && moves(op))
        };
        for (index, rig) in scene.rigs.iter().enumerate() {
            for (id, node) in rig.nodes() {
                let plan = match node.canonical() {
                    _ if holds.lists && (holds.inverses || !has_moving_inverse((index, id), node)) => {
                        Plan::Keep
                    }
                    Some(_) if turned_beside.contains(&(index, id)) => Plan::Sample,
                    Some(view) if holds.rotations == Rotations::Quaternions => {
                        Plan::Fold { before: view.before, after: view.after }
                    }
                    Some(_) => Plan::Keep,
                    None => Plan::Sample,
                };
                by_node.insert((index, id), plan);
            }
        }
        Plans { scene, by_node }
    }

    /// What is done with a track's step; `None` for attributes.
    fn of_step(&self, target: &Target) -> Option<Plan> {
        self.scene.rigs.get(target.rig)?.node(target.node)?.op(&target.property)?;
        self.by_node.get(&(target.rig, target.node)).copied()
    }
}

fn adapt_tracks(scene: &Scene, holds: &Capabilities, tolerance: &Tolerance) -> (Scene, Ledger) {
    let addresses = Addresses::new(scene);
    let plans = Plans::of(scene, holds);
    let whole = Wholes::of(scene, |target| plans.of_step(target) == Some(Plan::Sample), holds, tolerance);
    let (mut result, ledger) = each_track(scene, &addresses, |books, layer, track| {
        if plans.of_step(&track.target) == Some(Plan::Sample) {
            return (None, Some(whole.entry(books, layer, track)));
        }
        let Some((kind, rest)) = property(scene, books.take, layer, track) else {
            return (Some(track.clone()), Some(books.kept(layer, track)));
        };
        let setting = ConversionContext {
            kind,
            rest: if holds.rotations == Rotations::Angles { as_angles(rest) } else { rest },
            tolerance: tolerance.of(kind.quantity(), &scene.space),
            rate: scene.rate,
            range: books.take.range,
        };
        let plan = match plans.of_step(&track.target) {
            // What a layer adds is turned inside what it adds to.
            Some(Plan::Fold { after, .. }) if books.take.layers[layer].mode == LayerMode::Additive => {
                Some(Plan::Fold { before: after.conjugate(), after })
            }
            plan => plan,
        };
        match adapted(&track.controller, &setting, holds, plan) {
            Ok(changed) => {
                let new = Track { target: track.target.clone(), controller: changed.controller };
                let error = changed.error.map(|error| error.in_frames(scene.rate));
                let keys = |track: &Track| track.controller.key_count();
                let note = keys_added(keys(&new).saturating_sub(keys(track)));
                let entry = books.changed(layer, track, changed.fate, count(&new), error, note);
                (Some(new), Some(entry))
            }
            Err(NotConvertible::Discrete) => (Some(track.clone()), Some(books.kept(layer, track))),
            Err(why) => {
                let entry = Entry {
                    fate: Fate::LeftOut,
                    after: 0,
                    note: why.to_string(),
                    ..books.kept(layer, track)
                };
                (None, Some(entry))
            }
        }
    });
    whole.put_into(&mut result);
    for (&(rig, id), plan) in &plans.by_node {
        let Some(node) = result.rigs[rig].node_mut(id).filter(|_| *plan != Plan::Keep) else { continue };
        let (scale, rotation, translation) = match node.canonical() {
            Some(view) => (view.scale, view.rest_rotation(), view.translation),
            None => decomposed(&node.rest()),
        };
        node.transform = three_steps(translation, OpValue::Orient(rotation), scale);
    }
    if holds.rotations == Rotations::Angles {
        for rig in &mut result.rigs {
            for id in rig.nodes().map(|(id, _)| id).collect::<Vec<_>>() {
                let Some(node) = rig.node_mut(id) else { continue };
                for op in node.transform.iter_mut().filter(|op| op.name == ROTATION) {
                    if let OpValue::Orient(q) = op.value {
                        let angles = nearest_euler(RotationOrder::Xyz, q, DVec3::ZERO);
                        op.value = OpValue::Rotate { order: RotationOrder::Xyz, angles };
                    }
                }
            }
        }
    }
    (result, ledger)
}

fn three_steps(translation: DVec3, rotation: OpValue, scale: DVec3) -> Vec<TransformOp> {
    let steps = [
        (TRANSLATION, OpValue::Translate(translation)),
        (ROTATION, rotation),
        (SCALE, OpValue::Scale(scale)),
    ];
    steps.map(|(name, value)| TransformOp { name: name.to_owned(), value, inverse: false }).into()
}

/// A scene in which the lists of steps of some nodes are a translation, angles of an order and a scale, whatever the steps come to, within
/// the tolerance. Only what moves gets a track.
pub(super) fn as_wholes(
    scene: &Scene,
    nodes: &HashMap<NodeRef, RotationOrder>,
    tolerance: &Tolerance,
) -> (Scene, Ledger) {
    let holds = Capabilities { layers: true, ..Capabilities::ANGLES };
    let is_step = |target: &Target| {
        let node = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
        nodes.contains_key(&(target.rig, target.node))
            && node.is_some_and(|node| node.op(&target.property).is_some())
    };
    let wholes = Wholes::of(scene, is_step, &holds, tolerance);
    let addresses = Addresses::new(scene);
    let (mut result, ledger) =
        each_track(scene, &addresses, |books, layer, track| match is_step(&track.target) {
            // What does not count has no part in what the steps come to.
            true if !books.take.layers[layer].is_active() => {
                let why = "its layer does not count, and what its steps come to is one";
                (None, Some(books.changed(layer, track, Fate::LeftOut, 0, None, why)))
            }
            true => (None, Some(wholes.entry(books, layer, track))),
            false => (Some(track.clone()), Some(books.kept(layer, track))),
        });
    wholes.put_into(&mut result);
    for (&(rig, id), &order) in nodes {
        let Some(node) = result.rigs[rig].node_mut(id) else { continue };
        let (scale, rotation, translation) = decomposed(&node.rest());
        let angles = nearest_euler(order, rotation, DVec3::ZERO);
        node.transform = three_steps(translation, OpValue::Rotate { order, angles }, scale);
    }
    let rigs = &result.rigs;
    let is_still = |target: &Target, controller: &Controller| {
        let rest = rigs[target.rig].rest_value(target.node, &target.property);
        rest.is_some_and(|rest| stands_at(controller, &rest))
    };
    for layer in result.takes.iter_mut().flat_map(|take| &mut take.layers) {
        layer.tracks.retain(|track| {
            !nodes.contains_key(&(track.target.rig, track.target.node))
                || !is_still(&track.target, &track.controller)
        });
    }
    (result, ledger)
}

/// Whether curves stand still, up to rounding, at what their node rests at.
fn stands_at(controller: &Controller, rest: &Value) -> bool {
    const ROUNDING: f64 = 1e-9;
    let Some(numbers) = rest.numbers() else { return false };
    let curves = controller.curves();
    let is_still = |curve: &Curve| {
        let first = curve.keys().first().map_or(0.0, |key| key.value);
        curve.keys().iter().all(|key| {
            let slopes = [key.tangent_in, key.tangent_out].map(|tangent| tangent.slope_per_second().abs());
            (key.value - first).abs() < ROUNDING && slopes.iter().all(|slope| *slope < ROUNDING)
        })
    };
    if curves.is_empty() || !curves.iter().all(is_still) {
        return false;
    }
    let value = |(curve, rest): (&Curve, &f64)| curve.keys().first().map_or(*rest, |key| key.value);
    let values: Vec<f64> = curves.iter().zip(&numbers).map(value).collect();
    match (controller, rest.rotation()) {
        (Controller::Euler(euler), Some(rest)) => {
            angle_between(quat_from_euler(euler.order, DVec3::from_slice(&values)), rest) < ROUNDING
        }
        _ => values.iter().zip(&numbers).all(|(value, rest)| (value - rest).abs() < ROUNDING),
    }
}
