//! What is placed as a layer of its own, and layers silenced where something else is placed.

use std::collections::HashSet;

use nimble_curve_curves::curve::{Curve, Interpolation, Key};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, EulerCurves, Weight};
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::scene::{Layer, LayerMode, PropertyKind, RotationMixing, Take, Target, Track};

use super::{Job, PlaceError};
use crate::channel::property;

impl Job<'_> {
    /// Lets what other layers do to the channels of the new take come to nothing in its range.
    pub(super) fn silence(
        &self,
        layers: &mut [Layer],
        of: TimeRange,
        met: &HashSet<(usize, Target)>,
        ledger: &mut Ledger,
    ) -> Result<(), PlaceError> {
        let moved: HashSet<&Target> = met.iter().map(|(_, target)| target).collect();
        let mut silent: Vec<String> = Vec::new();
        for (index, layer) in layers.iter_mut().enumerate().filter(|(_, layer)| !layer.muted) {
            let alone = Take {
                name: String::new(),
                folder: None,
                range: of,
                layers: vec![layer.shell()],
                clips: Vec::new(),
                markers: Vec::new(),
            };
            if self.is_silent(&layer.weight) {
                continue;
            }
            let is_left = |track: &Track| {
                moved.contains(&track.target) && !met.contains(&(index, track.target.clone()))
            };
            // A layer that has nothing else to do there comes to nothing as a whole.
            if index > 0 && !layer.tracks.is_empty() && layer.tracks.iter().all(is_left) {
                layer.weight = self.without(&layer.weight, of);
                silent.push(format!("all of '{}'", layer.name));
                continue;
            }
            for track in &mut layer.tracks {
                if !is_left(track) {
                    continue;
                }
                let channel = self.addresses.property(&track.target);
                let cannot = |why: &str| PlaceError::Cannot { channel: channel.clone(), why: why.to_owned() };
                if index > 0 && layer.mode == LayerMode::Override {
                    return Err(cannot(&format!(
                        "layer '{}' would replace it there: place it onto a layer, or flatten first",
                        layer.name
                    )));
                }
                let (kind, rest) = property(self.scene, &alone, 0, track)
                    .ok_or_else(|| cannot("the rig has no such property"))?;
                let quiet = quiet(&track.controller, kind, &rest, self.range)
                    .ok_or_else(|| cannot("what it does cannot be left out of a range: flatten first"))?;
                let quiet = Track { target: track.target.clone(), controller: quiet };
                track.controller = self.joined(&alone, 0, &quiet, Some(&track.controller), of)?;
                silent.push(format!("{channel} on '{}'", layer.name));
            }
        }
        if !silent.is_empty() {
            ledger.notes.push(format!("come to nothing there, for the new take: {}", silent.join(", ")));
        }
        Ok(())
    }

    /// Whether a weight is nothing all over the range.
    pub(super) fn is_silent(&self, weight: &Weight) -> bool {
        match weight {
            Weight::Constant(value) => *value == 0.0,
            Weight::Curve(curve) => {
                let part = curve.trimmed(self.range).with_ends(self.range);
                part.keys().iter().all(|key| key.value == 0.0) && part.is_constant()
            }
        }
    }

    /// A weight that is nothing in the range and stays as it is outside.
    pub(super) fn without(&self, weight: &Weight, of: TimeRange) -> Weight {
        let nothing = Curve::constant(self.range.first, 0.0);
        let (old, rest) = match weight {
            Weight::Constant(value) => (Curve::constant(of.first, *value), *value),
            Weight::Curve(curve) => (curve.clone(), 0.0),
        };
        Weight::Curve(self.joined_curve(&nothing, Some(&old), rest, of, false))
    }

    /// A weight that counts within the range only.
    pub(super) fn windowed(&self, weight: &Weight, of: TimeRange) -> Weight {
        let (first, last) = (self.range.first, self.range.last);
        let inside = match weight {
            Weight::Constant(value) => {
                vec![
                    Key::new(first, *value).with_interpolation(Interpolation::Linear),
                    Key::new(last, *value),
                ]
            }
            Weight::Curve(curve) => curve.trimmed(self.range).into_keys(),
        };
        let mut keys: Vec<Key> = Vec::with_capacity(inside.len() + 2);
        let linear = |time: Ticks| Key::new(time, 0.0).with_interpolation(Interpolation::Linear);
        if of.first < first {
            keys.push(linear(first - self.ease));
        }
        keys.extend(inside);
        if of.last > last {
            if let Some(key) = keys.last_mut() {
                key.interpolation = Interpolation::Linear;
            }
            keys.push(linear(last + self.ease));
        }
        match (weight, keys.as_slice()) {
            (Weight::Constant(_), [a, b]) if a.value == b.value => weight.clone(),
            (_, _) => {
                keys.dedup_by_key(|key| key.time);
                Curve::new(keys).map_or_else(|_| weight.clone(), Weight::Curve)
            }
        }
    }

    pub(super) fn as_layers(&self, take: &mut Take, new: &Take, name: &str) -> Result<(), PlaceError> {
        for (index, layer) in new.layers.iter().enumerate() {
            let name = if index == 0 { name.to_owned() } else { format!("{name} {}", layer.name) };
            if take.layers.iter().any(|own| own.name == name) {
                return Err(PlaceError::LayerExists { take: take.name.clone(), layer: name });
            }
            let weight = self.windowed(&layer.weight, take.range);
            let rotations = if index == 0 { RotationMixing::Quaternions } else { layer.rotations };
            take.layers.push(Layer { name, weight, rotations, tracks: layer.tracks.clone(), ..*layer });
        }
        Ok(())
    }
}

/// What leaves a property as it is without the controller, over a range and in the controller's own order.
pub(super) fn quiet(
    controller: &Controller,
    kind: PropertyKind,
    rest: &Value,
    range: TimeRange,
) -> Option<Controller> {
    let numbers = match (kind, controller.order()) {
        (PropertyKind::Rotation, Some(order)) => {
            nimble_curve_curves::rotation::principal_euler(order, rest.rotation()?.normalize())
                .to_array()
                .to_vec()
        }
        _ => rest.numbers()?,
    };
    let curves: Vec<Curve> = numbers.into_iter().map(|value| Curve::constant(range.first, value)).collect();
    match (kind, controller.order()) {
        (PropertyKind::Discrete, _) => None,
        (PropertyKind::Rotation, Some(order)) => {
            let curves = <[Curve; 3]>::try_from(curves).ok()?;
            Some(Controller::Euler(EulerCurves { order, curves }))
        }
        (PropertyKind::Rotation, None) => None,
        _ => Some(Controller::Components(curves)),
    }
}
