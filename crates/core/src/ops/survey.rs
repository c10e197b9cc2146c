//! Survey: what moves, and how far.

use crate::address::Addresses;
use crate::evaluate::Sampler;
use crate::scene::{LayerMode, PropertyKind, Scene, Take, Track};
use crate::value::{Quantity, Value};

/// How far one component of a track goes.
#[derive(Clone, Debug, PartialEq)]
pub struct Movement {
    /// Position of the layer in its take.
    pub layer: usize,
    /// The channel's address with its component.
    pub channel: String,
    /// What it measures.
    pub quantity: Quantity,
    /// The least and the greatest value at whole frames, in radians, scene units or as it is.
    pub range: (f64, f64),
}

impl Movement {
    /// The greatest less the least value.
    pub fn span(&self) -> f64 {
        self.range.1 - self.range.0
    }
}

/// How far each component of each track of a take goes, at whole frames from its first to its last key.
///
/// Controllers that cannot be evaluated, and discrete ones, are left out.
pub fn survey(scene: &Scene, take: &Take) -> Vec<Movement> {
    let addresses = Addresses::new(scene);
    take.tracks().flat_map(|(layer, track)| track_movement(scene, take, &addresses, layer, track)).collect()
}

fn track_movement(
    scene: &Scene,
    take: &Take,
    addresses: &Addresses,
    layer: usize,
    track: &Track,
) -> Vec<Movement> {
    let rig = &scene.rigs[track.target.rig];
    let (node, property) = (track.target.node, &track.target.property);
    let (Some(kind), Some(rest)) = (rig.property_kind(node, property), rig.rest_value(node, property)) else {
        return Vec::new();
    };
    let rest = match take.layers[layer].mode {
        LayerMode::Override => rest,
        LayerMode::Additive => crate::evaluate::neutral(kind, &rest),
    };
    let Ok(mut sampler) = Sampler::new(&track.controller, kind, rest) else { return Vec::new() };
    let range = track.controller.range().unwrap_or(take.range);
    let (first, last) = (scene.rate.nearest_frame(range.first), scene.rate.nearest_frame(range.last));
    let mut ranges: Vec<(f64, f64)> = Vec::new();
    let mut take_in = |time: f64| {
        let numbers = match sampler.value_at(time) {
            Value::Quaternion(q) => Some(q.to_scaled_axis().to_array().to_vec()),
            value => value.numbers(),
        };
        for (index, number) in numbers.into_iter().flatten().enumerate() {
            match ranges.get_mut(index) {
                Some(range) => *range = (range.0.min(number), range.1.max(number)),
                None => ranges.push((number, number)),
            }
        }
    };
    for frame in first..=last {
        take_in(scene.rate.ticks(frame).as_f64());
    }
    let address = addresses.property(&track.target);
    let is_one = ranges.len() == 1;
    (ranges.into_iter().enumerate())
        .map(|(index, range)| Movement {
            layer,
            channel: match crate::address::COMPONENTS.get(index) {
                _ if is_one => address.clone(),
                Some(letter) => format!("{address}.{letter}"),
                None => format!("{address}.{index}"),
            },
            quantity: if kind == PropertyKind::Rotation { Quantity::Angle } else { kind.quantity() },
            range,
        })
        .collect()
}
