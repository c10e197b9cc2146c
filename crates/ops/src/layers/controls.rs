//! Joint motion put onto controls by a layer of its own, over the curves that they have.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::scene::{Layer, Scene, Take, Target, Track};

use super::LayersError;
use super::difference::{SplitOptions, split};
use crate::control_rig::{MatchOptions, Matched, match_controls};

/// Gives controls a new additive layer so that the joints that they drive move as they do: [`match_controls`], with what controls had
/// under it. Without the layer they do what they did; switches are set below it, as they do not add up.
///
/// # Errors
/// See [`LayersError`].
pub fn match_onto_layer(scene: &Scene, options: &MatchOptions, name: &str) -> Result<Matched, LayersError> {
    let matched = match_controls(scene, options)?;
    let mut below = matched.scene.clone();
    let mut changed: BTreeSet<Target> = BTreeSet::new();
    for ((take, theirs), own) in below.takes.iter_mut().zip(&scene.takes).zip(&matched.scene.takes) {
        let moved = moved(scene, theirs, own);
        put_back(take, theirs, &moved);
        changed.extend(moved);
    }
    if changed.is_empty() {
        return Ok(matched);
    }
    let addresses = Addresses::new(&below);
    let options = SplitOptions {
        name: name.to_owned(),
        only: changed.iter().map(|target| addresses.property(target)).collect(),
        tolerance: options.tolerance,
    };
    let (layered, ledger) = split(&below, &matched.scene, &options)?;
    Ok(Matched { scene: layered, ledger: matched.ledger.followed_by(ledger), claims: matched.claims })
}

/// What of controls and of what serves them moves otherwise: numbers, as switches do not add up.
fn moved(scene: &Scene, before: &Take, after: &Take) -> BTreeSet<Target> {
    let counts = |track: &&Track| {
        let node = scene.rigs.get(track.target.rig).and_then(|rig| rig.node(track.target.node));
        let is_for_controls = node.is_some_and(|node| node.kind.is_for_controls());
        is_for_controls && !matches!(track.controller, Controller::Discrete(_))
    };
    let by_target = |take| {
        let mut found: BTreeMap<&Target, Vec<&Track>> = BTreeMap::new();
        for track in Take::active_tracks(take).map(|(_, track)| track).filter(counts) {
            found.entry(&track.target).or_default().push(track);
        }
        found
    };
    let (before, after) = (by_target(before), by_target(after));
    let targets =
        before.keys().chain(after.keys()).filter(|target| before.get(*target) != after.get(*target));
    targets.map(|target| (*target).clone()).collect()
}

/// Puts what a take had on some properties back into layers of the same names.
fn put_back(take: &mut Take, source: &Take, targets: &BTreeSet<Target>) {
    for layer in &mut take.layers {
        layer.tracks.retain(|track| !targets.contains(&track.target));
    }
    for theirs in &source.layers {
        let tracks: Vec<Track> =
            theirs.tracks.iter().filter(|track| targets.contains(&track.target)).cloned().collect();
        if tracks.is_empty() {
            continue;
        }
        match take.layers.iter_mut().find(|layer| layer.name == theirs.name) {
            Some(layer) => layer.tracks.extend(tracks),
            None => take.layers.push(Layer { tracks, ..theirs.clone() }),
        }
    }
}
