//! Travel and turn lifted from the hips to a root.

use glam::DVec3;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger};
use nimble_curve_scene::rig::{Node, NodeKind, Rig};
use nimble_curve_scene::rig::{ROTATION, TRANSLATION};
use nimble_curve_scene::scene::{Scene, Target, Track};

use super::RootOptions;
use super::carrier::{Carrier, prepare};
use super::error::RootError;
use super::transfer::RootTransfer;
use crate::channel::count;

/// Lifts travel and turn from the hips of the first rig to the node above them, which is made where there is none.
///
/// ```
/// # use nimble_curve_curves::{curve::Curve, rotation::RotationOrder, time::{FrameRate, TimeRange}};
/// # use nimble_curve_scene::controller::{Controller, EulerCurves};
/// # use nimble_curve_scene::rig::{Node, NodeKind, ROTATION, Rig, TRANSLATION};
/// # use nimble_curve_scene::scene::{Clip, Layer, Scene, Take, Target, Track};
/// # use nimble_curve_scene::space::Space;
/// # let rate = FrameRate::FPS_24;
/// # let mut rig = Rig::new("figure");
/// # let hips = rig.add(None, Node::new("hips", NodeKind::Joint, glam::DVec3::Y, RotationOrder::Yxz))?;
/// # let curves = |keys: [&[(i64, f64)]; 3]| keys.map(|keys| Curve::through(rate, keys.iter().copied()).unwrap());
/// # let track = |property: &str, controller| Track { target: Target::new(0, hips, property), controller };
/// # let take = |name: &str, last, tracks| Take::new(name, TimeRange::new(rate.ticks(0), rate.ticks(last)), vec![Layer::base(tracks)]);
/// # let at = |curve: &Curve, frame: i64| curve.value_at(rate.ticks(frame).as_f64()).unwrap();
/// # let scene = |take: Take| Scene::new(rate, Space::METRES_Y_UP).with_rig(rig.clone()).with_take(take);
/// use nimble_curve_ops::root::{RootOptions, lift};
///
/// // Hips that walk along z and sway: one step of a loop.
/// let places = curves([&[(0, 0.0), (12, 0.1), (24, 0.0)], &[(0, 1.0), (24, 1.0)], &[(0, 0.0), (24, 1.4)]]);
/// let walk = take("walk", 24, vec![track(TRANSLATION, Controller::Components(places.to_vec()))]);
/// let (lifted, _) = lift(&scene(walk), &RootOptions { node: Some("hips".into()), ..RootOptions::default() })?;
/// // The root is above the hips now and has the travel; the height stays with the hips.
/// let rig = &lifted.rigs[0];
/// let root = rig.parent(hips).unwrap();
/// assert_eq!(rig.node(root).unwrap().name, "root");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// See [`RootError`].
pub fn lift(scene: &Scene, options: &RootOptions) -> Result<(Scene, Ledger), RootError> {
    let carrier = Carrier::find(scene, options.node.as_deref(), false)?;
    if !carrier.is_straight {
        return Err(RootError::RestsTurned(carrier.address));
    }
    let (mut result, mut ledger) = prepare(scene, &carrier, options)?;
    let root = match result.rigs[carrier.rig].parent(carrier.id) {
        Some(root) => root,
        None => {
            let node = Node::new(
                free_name(&result.rigs[carrier.rig], &options.name),
                NodeKind::Root,
                DVec3::ZERO,
                carrier.order(),
            );
            let made = result.rigs[carrier.rig].insert_above(carrier.id, node);
            made.map_err(|_| RootError::NoCarrier)?
        }
    };
    let addresses = Addresses::new(&result);
    let root_name = addresses.node((carrier.rig, root)).to_owned();
    let beside: Vec<&str> = (result.rigs[carrier.rig].children(Some(root)))
        .filter(|id| *id != carrier.id)
        .map(|id| addresses.node((carrier.rig, id)))
        .collect();
    if !beside.is_empty() {
        let (some, more) = (beside.len().min(3), beside.len().saturating_sub(3));
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let names = beside[..some].join(", ");
        ledger.notes.push(format!("{root_name} takes along what else stands on it: {names}{more}"));
    }
    // The root stands below the hips, or beside them as at rest where it does not turn.
    let mut keep = carrier.rest;
    if options.turn {
        carrier.ground().into_iter().for_each(|axis| keep[axis] = 0.0);
    }
    let above = RootTransfer { scene: &result, root, name: &root_name, carrier: &carrier, keep, options };
    let mut takes = result.takes.clone();
    for take in &mut takes {
        above.check(take)?;
        if (carrier.ground().into_iter()).any(|axis| carrier.rest[axis] != keep[axis]) && above.moves(take) {
            carrier.fill(take);
        }
    }
    for take in &mut takes {
        if options.steady && options.turn && above.turns(take) {
            return Err(RootError::SteadyTurns);
        }
        let range = take.range;
        for index in 0..take.layers.len() {
            let mut lifted: Vec<Track> = Vec::new();
            let mode = take.layers[index].mode;
            let layer = take.layers[index].name.clone();
            for track in &mut take.layers[index].tracks {
                let property = track.target.property.clone();
                let before = count(track);
                let moved = match property.as_str() {
                    TRANSLATION if carrier.is_mine(&track.target, TRANSLATION) => {
                        above.translation(&mut track.controller, range, mode)
                    }
                    ROTATION if options.turn && carrier.is_mine(&track.target, ROTATION) => {
                        above.rotation(&mut track.controller, range, mode)
                    }
                    _ => continue,
                };
                let keys = moved.value_count();
                let channel = addresses.property(&track.target);
                let to = Target { rig: carrier.rig, node: root, property };
                note(
                    &mut ledger,
                    Entry {
                        take: take.name.clone(),
                        layer: layer.clone(),
                        channel,
                        to: Some(addresses.property(&to)),
                        target: Some(track.target.clone()),
                        fate: Fate::Exact,
                        error: None,
                        before,
                        after: count(track) + keys,
                        note: format!("travel moved to {root_name}"),
                    },
                );
                lifted.push(Track { target: to, controller: moved });
            }
            for track in lifted {
                above.put(&mut take.layers[index].tracks, track, mode, range)?;
            }
        }
    }
    result.takes = takes;
    Ok((result, ledger))
}

/// An entry, joined with the one of the same channel before it.
pub(super) fn note(ledger: &mut Ledger, entry: Entry) {
    let same = |own: &&mut Entry| {
        (&own.take, &own.layer, &own.channel) == (&entry.take, &entry.layer, &entry.channel)
    };
    match ledger.entries.iter_mut().find(same) {
        Some(own) => {
            own.fate = own.fate.max(entry.fate);
            own.after = entry.after;
            own.to = entry.to;
            own.note = if own.note.is_empty() { entry.note } else { format!("{}; {}", own.note, entry.note) };
        }
        None => ledger.entries.push(entry),
    }
}

pub(super) fn free_name(rig: &Rig, name: &str) -> String {
    let taken = |name: &str| rig.nodes().any(|(_, node)| node.name == name);
    // In the namespace of the rig.
    let first = rig.nodes().next().map_or(String::new(), |(_, node)| node.name.clone());
    let bare = nimble_curve_scene::address::without_namespace(&first);
    let name = match name.contains(':') {
        true => name.to_owned(),
        false => format!("{}{name}", &first[..first.len() - bare.len()]),
    };
    if !taken(&name) {
        return name;
    }
    (2..).map(|n| format!("{name}_{n}")).find(|name| !taken(name)).unwrap_or_default()
}
