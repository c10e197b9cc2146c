//! What a file says beside what its format can.

use std::collections::HashMap;

use nimble_curve_core::address::{Addresses, NodeRef};
use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::rig::Rig;
use nimble_curve_core::scene::{Layer, Scene, Take, Target};

use super::fingerprint::{rest_prints, track_prints};
use super::restore::nameless;
use super::samples::given_back;
use super::{ExtraData, Keys, Marks, Sampled, VERSION};
use crate::ncurve;

/// The extra data for a scene that a format alone gives as `plain`; `origin` says which node of the scene a node of the
/// plain one is, `marks` what each carries in the file.
pub fn of(
    scene: &Scene,
    plain: &Scene,
    marks: &Marks,
    origin: impl Fn(NodeRef) -> Option<NodeRef>,
) -> ExtraData {
    let (from, to) = (nameless(plain), Addresses::new(scene));
    let nodes = from
        .nodes()
        .iter()
        .filter_map(|&node| Some((from.node(node).to_owned(), to.node(origin(node)?).to_owned())));
    let keys: Keys = from.nodes().iter().map(|&node| (node, from.node(node).to_owned())).collect();
    let mut bare = Scene {
        rigs: scene.rigs.clone(),
        sets: scene.sets.clone(),
        constraints: scene.constraints.clone(),
        takes: Vec::new(),
        ..*scene
    };
    let placed = (plain.space != scene.space).then(|| in_space(plain, &scene.space).0);
    let held: HashMap<(&str, NodeRef, &str), &Controller> = (placed.as_ref().unwrap_or(plain).takes.iter())
        .flat_map(|take| take.tracks().map(move |(_, track)| (take, track)))
        .filter_map(|(take, track)| {
            let node = origin((track.target.rig, track.target.node))?;
            Some(((take.name.as_str(), node, track.target.property.as_str()), &track.controller))
        })
        .collect();
    let mut sampled = Vec::new();
    for (index, take) in scene.takes.iter().enumerate() {
        let mut thin = Take {
            layers: Vec::new(),
            clips: take.clips.clone(),
            markers: take.markers.clone(),
            name: take.name.clone(),
            folder: take.folder.clone(),
            range: take.range,
        };
        for (place, layer) in take.layers.iter().enumerate() {
            let mut kept = Vec::new();
            for (at, track) in layer.tracks.iter().enumerate() {
                let target = &track.target;
                let twin =
                    held.get(&(take.name.as_str(), (target.rig, target.node), target.property.as_str()));
                let order = match (&track.controller, twin) {
                    (Controller::Samples(own), Some(twin))
                        if take.layers.len() == 1 && are_twins(own, twin, &scene.rigs, target) =>
                    {
                        match own.kind {
                            SampleKind::Euler(order) => Some(Some(order.name().to_owned())),
                            SampleKind::Matrix => None,
                            _ => Some(None),
                        }
                    }
                    _ => None,
                };
                match order {
                    Some(order) => sampled.push(Sampled {
                        take: index,
                        layer: place,
                        at,
                        channel: to.property(target),
                        order,
                    }),
                    None => kept.push(track.clone()),
                }
            }
            thin.layers.push(Layer {
                tracks: kept,
                name: layer.name.clone(),
                weight: layer.weight.clone(),
                ..*layer
            });
        }
        bare.takes.push(thin);
    }
    ExtraData {
        sampled,
        version: VERSION,
        nodes: nodes.collect(),
        marks: marks.by_node.iter().map(|(node, mark)| (*mark, keys[node].clone())).collect(),
        rests: rest_prints(plain, &keys),
        tracks: plain.takes.iter().map(|take| (take.name.clone(), track_prints(take, &keys))).collect(),
        scene: ncurve::write(&bare),
    }
}

/// Whether what the format gives back are the same samples, to single precision.
pub(super) fn are_twins(own: &Samples, twin: &Controller, rigs: &[Rig], target: &Target) -> bool {
    let order = match own.kind {
        SampleKind::Euler(order) => Some(order),
        _ => None,
    };
    let Some(Controller::Samples(twin)) = given_back(twin, order, rigs, target) else { return false };
    let is_near = |(a, b): (&f64, &f64)| (a - b).abs() <= 1e-6 * (1.0 + a.abs());
    (own.start, own.rate, own.kind, own.len()) == (twin.start, twin.rate, twin.kind, twin.len())
        && own.values.iter().zip(&twin.values).all(is_near)
}
