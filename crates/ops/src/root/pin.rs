//! Motion in place, with the travel kept beside it, and put back.

use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::{Controller, StackEntry, Weight};
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{LayerMode, Scene};

use super::RootOptions;
use super::carrier::{Carrier, IN_PLACE, PINNED, prepare};
use super::error::RootError;
use super::lift::note;
use super::transfer::RootTransfer;
use crate::channel::count;

/// Takes travel and turn out of the root, or of the hips where no root moves. What was there stays in the file, as an entry of
/// weight 0 of a stack, and [`restore`] puts it back exactly.
///
/// # Errors
/// See [`RootError`].
pub fn pin(scene: &Scene, options: &RootOptions) -> Result<(Scene, Ledger), RootError> {
    let carrier = Carrier::find(scene, options.node.as_deref(), true)?;
    let turned_last = |scene: &Scene| match scene.rigs[carrier.rig].rest_value(carrier.id, ROTATION) {
        Some(Value::Euler { order, .. }) => order.axes().0 == carrier.up,
        _ => false,
    };
    if options.turn && !turned_last(scene) {
        // Layers that mix angles mean those of the node's own order.
        let layered = scene
            .takes
            .iter()
            .flat_map(|take| take.layers.iter().skip(1))
            .find(|layer| layer.tracks.iter().any(|track| carrier.is_mine(&track.target, ROTATION)));
        if let Some(layer) = layered {
            return Err(RootError::Layered(layer.name.clone()));
        }
    }
    let (prepared, mut ledger) = prepare(scene, &carrier, options)?;
    let addresses = Addresses::new(scene);
    let mut result = scene.clone();
    let (root, name, keep) = (carrier.id, &carrier.address, carrier.rest);
    let above = RootTransfer { scene: &prepared, root, name, carrier: &carrier, keep, options };
    for ((take, source), plain) in result.takes.iter_mut().zip(&scene.takes).zip(&prepared.takes) {
        if options.steady && options.turn && above.turns(plain) {
            return Err(RootError::SteadyTurns);
        }
        for (index, layer) in source.layers.iter().enumerate() {
            for (at, track) in layer.tracks.iter().enumerate() {
                let mut own = plain.layers[index].tracks[at].controller.clone();
                match track.target.property.as_str() {
                    TRANSLATION if carrier.is_mine(&track.target, TRANSLATION) => {
                        above.translation(&mut own, take.range, layer.mode);
                    }
                    ROTATION if options.turn && carrier.is_mine(&track.target, ROTATION) => {
                        above.rotation(&mut own, take.range, layer.mode);
                        let order = scene.rigs[carrier.rig].rest_value(carrier.id, ROTATION);
                        if layer.mode == LayerMode::Override
                            && own.order() != order.and_then(|rest| rest.order())
                        {
                            above.fill_turns(&mut own, take.range);
                        }
                    }
                    _ => continue,
                }
                if matches!(&track.controller, Controller::Stack(entries) if entries.iter().any(|e| e.name == PINNED))
                {
                    continue;
                }
                let entry = |name: &str, weight, controller| StackEntry {
                    name: name.to_owned(),
                    weight: Weight::Constant(weight),
                    controller,
                };
                let pinned = Controller::Stack(vec![
                    entry(IN_PLACE, 1.0, own),
                    entry(PINNED, 0.0, track.controller.clone()),
                ]);
                let made = &mut take.layers[index].tracks[at];
                made.controller = pinned;
                note(
                    &mut ledger,
                    Entry {
                        take: source.name.clone(),
                        layer: layer.name.clone(),
                        channel: addresses.property(&track.target),
                        to: None,
                        target: Some(track.target.clone()),
                        fate: Fate::Exact,
                        error: None,
                        before: count(track),
                        after: count(made),
                        note: "in place; the travel is kept beside it with weight 0".into(),
                    },
                );
            }
        }
    }
    Ok((result, ledger))
}

/// Puts back what [`pin`] took out, bit by bit.
///
/// # Errors
/// [`RootError::NothingPinned`].
pub fn restore(scene: &Scene) -> Result<(Scene, Ledger), RootError> {
    let addresses = Addresses::new(scene);
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    for take in &mut result.takes {
        for layer in &mut take.layers {
            for track in &mut layer.tracks {
                let Controller::Stack(entries) = &track.controller else { continue };
                let Some(pinned) = entries.iter().find(|entry| entry.name == PINNED) else { continue };
                let (before, controller) = (count(track), pinned.controller.clone());
                track.controller = controller;
                ledger.entries.push(Entry {
                    take: take.name.clone(),
                    layer: layer.name.clone(),
                    channel: addresses.property(&track.target),
                    to: None,
                    target: Some(track.target.clone()),
                    fate: Fate::Kept,
                    error: None,
                    before,
                    after: count(track),
                    note: "as it was before it was pinned".into(),
                });
            }
        }
    }
    if ledger.entries.is_empty() { Err(RootError::NothingPinned) } else { Ok((result, ledger)) }
}
