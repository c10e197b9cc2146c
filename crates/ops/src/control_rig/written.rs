//! Solved curves put into a take, and what became of each channel.

use std::collections::{BTreeMap, BTreeSet};

use glam::DVec3;
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger, MeasuredError};
use nimble_curve_scene::parts::decomposed;
use nimble_curve_scene::rig::{Node, OpValue, ROTATION, SCALE, TRANSLATION, TransformOp};
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};

use super::touched::Touched;
use crate::conversion::ConvertedController;
use crate::fitting::without_rest;

/// A property, its curves and what is said of them.
pub type Made = (Target, ConvertedController, String);

/// What is written into, as it was.
pub struct Context<'a> {
    pub scene: &'a Scene,
    pub take: &'a Take,
    pub touched: &'a Touched,
    pub addresses: &'a Addresses,
}

/// A node's steps as translation, constant rotation, rotation, constant rotation and scale, all that has to be there for curves.
pub fn with_three_steps(node: &Node) -> Vec<TransformOp> {
    let step = |name: &str, value| TransformOp { name: name.to_owned(), value, inverse: false };
    let Some(view) = node.canonical() else {
        let (scale, rotation, translation) = decomposed(&node.rest());
        let order = RotationOrder::Xyz;
        let angles = nearest_euler(order, rotation, DVec3::ZERO);
        return vec![
            step(TRANSLATION, OpValue::Translate(translation)),
            step(ROTATION, OpValue::Rotate { order, angles }),
            step(SCALE, OpValue::Scale(scale)),
        ];
    };
    let or = |name: &str, value: OpValue| node.op(name).cloned().unwrap_or_else(|| step(name, value));
    let mut steps = vec![or(TRANSLATION, OpValue::Translate(view.translation))];
    steps.extend(node.op("before").cloned());
    steps.push(or(ROTATION, OpValue::Rotate { order: RotationOrder::Xyz, angles: DVec3::ZERO }));
    steps.extend(node.op("after").cloned());
    steps.push(or(SCALE, OpValue::Scale(view.scale)));
    steps
}

/// What a step of a node rests at.
pub fn rest_of(node: &Node, name: &str) -> Value {
    match node.op(name).map(|op| op.value) {
        Some(OpValue::Translate(v) | OpValue::Scale(v)) => Value::Vector(v),
        Some(OpValue::Rotate { order, angles }) => Value::Euler { order, angles },
        Some(other) => Value::Quaternion(other.rotation()),
        None => Value::Vector(DVec3::ZERO),
    }
}

/// Puts curves into a take in place of what drove the same properties, and writes down what became of each.
pub fn put(take: &mut Take, job: &Context<'_>, made: Vec<Made>, ledger: &mut Ledger) {
    let targets: BTreeSet<Target> = made.iter().map(|(target, ..)| target.clone()).collect();
    // Steps of lists become others.
    let relaid: BTreeSet<NodeRef> = (job.touched.steps.keys().copied())
        .filter(|(rig, id)| job.scene.rigs[*rig].node(*id).is_some_and(|node| node.canonical().is_none()))
        .collect();
    let is_step = |target: &Target| {
        job.scene.rigs[target.rig].node(target.node).is_some_and(|node| node.op(&target.property).is_some())
    };
    let goes = |target: &Target| {
        targets.contains(target) || relaid.contains(&(target.rig, target.node)) && is_step(target)
    };
    let mut before: BTreeMap<Target, usize> = BTreeMap::new();
    let mut folded: BTreeSet<String> = BTreeSet::new();
    for (index, layer) in take.layers.iter_mut().enumerate() {
        let (name, is_active) = (layer.name.clone(), layer.is_active());
        layer.tracks.retain(|track| {
            let books = crate::channel::Bookkeeper { addresses: job.addresses, take: job.take };
            // What does not count stays as it is.
            if !goes(&track.target) || !is_active {
                ledger.entries.push(books.kept(index, track));
                return true;
            }
            *before.entry(track.target.clone()).or_default() += track.controller.value_count();
            if index > 0 {
                folded.insert(name.clone());
            }
            if !targets.contains(&track.target) {
                let note = "its steps are said as translation, rotation and scale";
                let error = MeasuredError::none(Quantity::Angle);
                ledger.entries.push(books.changed(index, track, Fate::Refitted, 0, Some(error), note));
            }
            false
        });
    }
    if !folded.is_empty() {
        let names: Vec<String> = folded.into_iter().map(|name| format!("'{name}'")).collect();
        ledger.notes.push(format!("layers of driven joints were folded in: {}", names.join(", ")));
    }
    let place = base_place(take, "solved");
    let rests = |target: &Target| {
        let node = job.scene.rigs[target.rig].node(target.node)?;
        let bare = Node { transform: with_three_steps(node), ..node.clone() };
        bare.op(&target.property).map(|_| rest_of(&bare, &target.property))
    };
    let is_there =
        |target: &Target| job.scene.rigs[target.rig].property_kind(target.node, &target.property).is_some();
    let layer = &mut take.layers[place];
    for (target, changed, note) in made {
        let rest = rests(&target);
        // What stands where it rests needs no track, unless something below it would move it.
        let is_still = place == 0 && stands(&changed.controller, rest.as_ref());
        let controller = match place {
            0 => without_rest(changed.controller, rest.as_ref()),
            _ => changed.controller,
        };
        let after = if is_still { 0 } else { controller.value_count() };
        let known = before.get(&target).copied();
        ledger.entries.push(Entry {
            take: job.take.name.clone(),
            layer: layer.name.clone(),
            channel: job.addresses.property(&target),
            to: None,
            target: is_there(&target).then(|| target.clone()),
            fate: changed.fate,
            error: changed.error.map(|error| error.in_frames(job.scene.rate)),
            before: known.unwrap_or(0),
            after,
            note,
        });
        if !is_still {
            layer.tracks.push(Track { target, controller });
        }
    }
}

/// The layer for curves that stand for all that there is on a property: the base, or one on top where that does not count in full.
fn base_place(take: &mut Take, name: &str) -> usize {
    if take.layers.first().is_some_and(Layer::is_whole) {
        return 0;
    }
    let is_own = |layer: &Layer| layer.name == name && layer.is_whole();
    if !take.layers.last().is_some_and(is_own) {
        take.layers.push(Layer { name: name.to_owned(), ..Layer::base(Vec::new()) });
    }
    take.layers.len() - 1
}

/// The same for curves of controls.
pub fn base_layer(take: &mut Take) -> &mut Layer {
    let place = base_place(take, "matched");
    &mut take.layers[place]
}

/// Puts a controller in place of all that counts on a property of a take; what stands at rest needs none.
pub fn replace(scene: &mut Scene, take: usize, target: &Target, controller: Option<Controller>) {
    let rest = scene.rigs.get(target.rig).and_then(|rig| rig.rest_value(target.node, &target.property));
    let take = &mut scene.takes[take];
    for layer in take.layers.iter_mut().filter(|layer| layer.is_active()) {
        layer.tracks.retain(|track| track.target != *target);
    }
    let Some(controller) = controller else { return };
    let is_base = take.layers.first().is_some_and(Layer::is_whole);
    if is_base && stands(&controller, rest.as_ref()) {
        return;
    }
    let controller = if is_base { without_rest(controller, rest.as_ref()) } else { controller };
    base_layer(take).tracks.push(Track { target: target.clone(), controller });
}

/// Whether a controller never leaves where its property rests.
fn stands(controller: &Controller, rest: Option<&Value>) -> bool {
    let Some(numbers) = rest.and_then(Value::numbers) else { return false };
    match controller {
        Controller::Constant(value) => {
            let near = |(a, b): (&f64, &f64)| (a - b).abs() < 1e-12;
            value
                .numbers()
                .is_some_and(|own| own.len() == numbers.len() && own.iter().zip(&numbers).all(near))
        }
        _ => {
            let curves = controller.curves();
            !curves.is_empty()
                && curves.iter().zip(&numbers).all(|(curve, rest)| {
                    curve.keys().iter().all(|key| key.value == *rest) && curve.is_constant()
                        || curve.is_empty()
                })
        }
    }
}
