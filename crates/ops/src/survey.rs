//! Survey: what moves, and how far.

use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Track};

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
    /// Values at up to [`SHAPE`] whole frames, evenly spread.
    pub shape: Vec<f64>,
}

/// The most values in [`Movement::shape`].
pub const SHAPE: usize = 24;

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
    let Some(kind) = rig.property_kind(track.target.node, &track.target.property) else { return Vec::new() };
    let Some(mut sampler) = Sampler::of_track(scene, take, layer, track) else { return Vec::new() };
    let range = track.controller.range().unwrap_or(take.range);
    let (first, last) = (scene.rate.nearest_frame(range.first), scene.rate.nearest_frame(range.last));
    let mut ranges: Vec<((f64, f64), Vec<f64>)> = Vec::new();
    let mut take_in = |time: f64, is_of_shape: bool| {
        let numbers = match sampler.value_at(time) {
            Value::Quaternion(q) => Some(q.to_scaled_axis().to_array().to_vec()),
            value => value.numbers(),
        };
        for (index, number) in numbers.into_iter().flatten().enumerate() {
            if index == ranges.len() {
                ranges.push(((number, number), Vec::with_capacity(SHAPE)));
            }
            let (range, shape) = &mut ranges[index];
            *range = (range.0.min(number), range.1.max(number));
            if is_of_shape {
                shape.push(number);
            }
        }
    };
    let share = |frame: i64| (frame - first) * (SHAPE as i64 - 1) / (last - first).max(1);
    for frame in first..=last {
        let is_of_shape = frame == first || share(frame) != share(frame - 1);
        take_in(scene.rate.ticks(frame).as_f64(), is_of_shape);
    }
    let address = addresses.property(&track.target);
    let is_one = ranges.len() == 1;
    (ranges.into_iter().enumerate())
        .map(|(index, (range, shape))| Movement {
            layer,
            channel: match nimble_curve_scene::address::COMPONENTS.get(index) {
                _ if is_one => address.clone(),
                Some(letter) => format!("{address}.{letter}"),
                None => format!("{address}.{index}"),
            },
            quantity: if kind == PropertyKind::Rotation { Quantity::Angle } else { kind.quantity() },
            range,
            shape,
        })
        .collect()
}
