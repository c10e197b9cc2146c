//! What operations share: tolerances, and ledger entries for tracks.

use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::ledger::{Entry, Fate, Ledger, MeasuredError};
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, Scene, Take, Track};
use nimble_curve_scene::space::Space;
use rayon::prelude::*;

/// How far a result may be from its source, by what a channel measures.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Tolerance {
    /// For rotations: the angle between source and result, in radians.
    pub angle: f64,
    /// For positions: the distance, in metres.
    pub length: f64,
    /// For numbers without a unit.
    pub number: f64,
}

impl Default for Tolerance {
    /// 0.1°, 0.5 mm, 0.001.
    fn default() -> Tolerance {
        Tolerance { angle: 0.1_f64.to_radians(), length: 0.0005, number: 0.001 }
    }
}

impl Tolerance {
    /// A part of the tolerance.
    pub fn times(&self, factor: f64) -> Tolerance {
        Tolerance { angle: self.angle * factor, length: self.length * factor, number: self.number * factor }
    }

    /// The tolerance for a quantity, in radians, units of the scene or as it is.
    pub fn of(&self, quantity: Quantity, space: &Space) -> f64 {
        match quantity {
            Quantity::Angle => self.angle,
            Quantity::Length => self.length / space.metres_per_unit,
            Quantity::Number => self.number,
        }
    }
}

/// Works on all tracks of a scene in parallel: what becomes of each, and its entry. The result is the same for any number
/// of threads.
pub(super) fn each_track(
    scene: &Scene,
    addresses: &Addresses,
    job: impl Fn(&Bookkeeper<'_>, usize, &Track) -> (Option<Track>, Option<Entry>) + Sync,
) -> (Scene, Ledger) {
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    for (take, out) in scene.takes.iter().zip(&mut result.takes) {
        let books = Bookkeeper { addresses, take };
        let tracks: Vec<(usize, &Track)> = take.tracks().collect();
        let done: Vec<_> =
            tracks.into_par_iter().map(|(layer, track)| (layer, job(&books, layer, track))).collect();
        for layer in &mut out.layers {
            layer.tracks.clear();
        }
        for (layer, (track, entry)) in done {
            out.layers[layer].tracks.extend(track);
            ledger.entries.extend(entry);
        }
    }
    (result, ledger)
}

/// The kind of a track's property, and the value that fills in where its controller has none: that at rest, or what adds
/// nothing on an additive layer.
pub(super) fn property(
    scene: &Scene,
    take: &Take,
    layer: usize,
    track: &Track,
) -> Option<(PropertyKind, Value)> {
    let rig = scene.rigs.get(track.target.rig)?;
    let kind = rig.property_kind(track.target.node, &track.target.property)?;
    let rest = rig.rest_value(track.target.node, &track.target.property)?;
    Some(match take.layers[layer].mode {
        LayerMode::Override => (kind, rest),
        LayerMode::Additive => (kind, nimble_curve_scene::evaluate::neutral(kind, &rest)),
    })
}

/// Starts ledger entries for the tracks of one take.
pub(super) struct Bookkeeper<'a> {
    pub addresses: &'a Addresses,
    pub take: &'a Take,
}

impl Bookkeeper<'_> {
    /// An entry for a track that stays as it is.
    pub fn kept(&self, layer: usize, track: &Track) -> Entry {
        let count = count(track);
        Entry {
            take: self.take.name.clone(),
            layer: self.take.layers[layer].name.clone(),
            channel: self.addresses.property(&track.target),
            to: None,
            target: Some(track.target.clone()),
            fate: Fate::Kept,
            error: None,
            before: count,
            after: count,
            note: String::new(),
        }
    }

    /// An entry for a track that was changed into another one.
    pub fn changed(
        &self,
        layer: usize,
        track: &Track,
        fate: Fate,
        after: usize,
        error: Option<MeasuredError>,
        note: impl Into<String>,
    ) -> Entry {
        Entry { fate, error, after, note: note.into(), ..self.kept(layer, track) }
    }
}

/// How many keys there are more than before, each curve's own counted, in words; nothing where there are none.
pub(super) fn keys_added(added: usize) -> String {
    match added {
        0 => String::new(),
        1 => "1 key added".to_owned(),
        _ => format!("{added} keys added"),
    }
}

/// Keys and sampled numbers of a track.
pub(super) fn count(track: &Track) -> usize {
    track.controller.value_count()
}

/// A take with some of its tracks on its layers, without clips and markers.
pub(crate) fn with_tracks(take: &Take, counts: impl Fn(&Track) -> bool) -> Take {
    let layer = |layer: &Layer| Layer {
        name: layer.name.clone(),
        weight: layer.weight.clone(),
        tracks: layer.tracks.iter().filter(|track| counts(track)).cloned().collect(),
        ..*layer
    };
    Take::new(take.name.clone(), take.range, take.layers.iter().map(layer).collect())
}
