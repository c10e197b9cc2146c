//! What operations share: tolerances, and ledger entries for tracks.

use crate::address::Addresses;
use crate::ledger::{Entry, Fate, MeasuredError};
use crate::scene::{Take, Track};
use crate::space::Space;
use crate::value::Quantity;

/// How far a result may be from its source, by what a channel measures.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Tolerance {
    /// For rotations: the angle between source and result, in radians.
    pub angle: f64,
    /// For positions: the distance, in metres.
    pub length: f64,
    /// For numbers without a unit.
    pub scalar: f64,
}

impl Default for Tolerance {
    /// 0.1°, 0.5 mm, 0.001.
    fn default() -> Tolerance {
        Tolerance { angle: 0.1_f64.to_radians(), length: 0.0005, scalar: 0.001 }
    }
}

impl Tolerance {
    /// The tolerance for a quantity, in radians, units of the scene or as it is.
    pub fn of(&self, quantity: Quantity, space: &Space) -> f64 {
        match quantity {
            Quantity::Angle => self.angle,
            Quantity::Length => self.length / space.metres_per_unit,
            Quantity::Scalar => self.scalar,
        }
    }
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

/// Keys and sampled numbers of a track.
pub(super) fn count(track: &Track) -> usize {
    track.controller.key_count() + track.controller.sample_count()
}
