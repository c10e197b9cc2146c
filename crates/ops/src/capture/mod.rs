//! What sensors do to a motion: how much noise they add to it, samples that are far off, and stretches in which nothing was
//! seen.

mod faults;
mod points;

use std::borrow::Cow;

use nimble_curve_curves::noise::{LEAST_SAMPLES, noise_of, noise_of_turns, reach};
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::controller::Samples;
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Track};
use nimble_curve_scene::space::Space;
use rayon::prelude::*;
use thiserror::Error;

pub(crate) use self::faults::faults;
pub use self::faults::{Bridged, ChannelFault, Fault, bridged};
use self::points::Points;
use crate::baked::baked;
use crate::channel::{Tolerance, property};
use crate::names::body_part;

/// The noise of one channel.
#[derive(Clone, Debug, PartialEq)]
pub struct ChannelNoise {
    /// Its address.
    pub channel: String,
    /// The part of the body that its node belongs to, see [`body_part`].
    pub part: String,
    /// What it is.
    pub quantity: Quantity,
    /// The size of the noise, as the standard deviation of all its numbers together: radians, units of the scene or as it is.
    /// `None` where it moves for so few samples that nothing tells.
    pub size: Option<f64>,
    /// How far it reaches, but for a few samples in a thousand; zero where nothing tells.
    pub reach: f64,
}

impl ChannelNoise {
    /// A tolerance just beyond the noise, and not below the usual one.
    pub fn tolerance(&self, usual: Tolerance, space: &Space) -> Tolerance {
        let mut own = usual;
        match self.quantity {
            Quantity::Angle => own.angle = own.angle.max(self.reach),
            Quantity::Length => own.length = own.length.max(self.reach * space.metres_per_unit),
            Quantity::Number => own.number = own.number.max(self.reach),
        }
        own
    }
}

/// Why the noise cannot be told.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum NoiseError {
    /// Too few samples.
    #[error("{channel} has {samples} samples: noise is told from motion by {least} samples or more", least = LEAST_SAMPLES)]
    TooFew {
        /// The channel that has so few.
        channel: String,
        /// How many.
        samples: usize,
    },
}

/// The noise of all that is baked, as far as `only` goes, by address; all channels where there are none. In several takes it is
/// that of the noisiest. Channels that stand still have none.
///
/// # Errors
/// [`NoiseError::TooFew`] where a channel that moves has so few samples that nothing tells noise from motion.
pub fn noise(scene: &Scene, only: &[String]) -> Result<Vec<ChannelNoise>, NoiseError> {
    let addresses = Addresses::new(scene);
    let mut found: Vec<ChannelNoise> = Vec::new();
    for take in &scene.takes {
        let tracks: Vec<(usize, &Track)> = take.tracks().collect();
        // Of several errors the first one in order is told, whichever is found first.
        let own: Vec<Result<Option<ChannelNoise>, NoiseError>> = tracks
            .par_iter()
            .map(|&(layer, track)| {
                let channel = addresses.property(&track.target);
                if !only.is_empty() && !only.contains(&channel) {
                    return Ok(None);
                }
                let Some((samples, kind)) = samples_of(scene, take, layer, track) else { return Ok(None) };
                let part = body_part(&scene.rigs[track.target.rig], track.target.node);
                noise_of_channel(&samples, kind, channel, part)
            })
            .collect();
        for own in own.into_iter().collect::<Result<Vec<_>, _>>()?.into_iter().flatten() {
            match found.iter_mut().find(|other| other.channel == own.channel) {
                Some(other) if other.reach >= own.reach => {}
                Some(other) => *other = own,
                None => found.push(own),
            }
        }
    }
    Ok(found)
}

/// A track's samples, if it is baked and they are not matrices or what only holds.
fn samples_of<'a>(
    scene: &Scene,
    take: &Take,
    layer: usize,
    track: &'a Track,
) -> Option<(Cow<'a, Samples>, PropertyKind)> {
    let (kind, rest) = property(scene, take, layer, track)?;
    Some((baked(&track.controller, kind, &rest, None)?, kind))
}

fn noise_of_channel(
    samples: &Samples,
    kind: PropertyKind,
    channel: String,
    part: String,
) -> Result<Option<ChannelNoise>, NoiseError> {
    let Some(points) = Points::of(samples) else { return Ok(None) };
    if !points.moves() {
        return Ok(None);
    }
    if samples.len() < LEAST_SAMPLES {
        return Err(NoiseError::TooFew { channel, samples: samples.len() });
    }
    let quantity = if matches!(points, Points::Turns(_)) { Quantity::Angle } else { kind.quantity() };
    let sizes = sizes(&points, samples.kind.width());
    let size = sizes.map(|sizes| sizes.iter().map(|size| size * size).sum::<f64>().sqrt());
    let reach = sizes.map_or(0.0, |sizes| reach(&sizes));
    Ok(Some(ChannelNoise { channel, part, quantity, size, reach }))
}

/// The size of the noise along each axis, zero along one that is still but for a few samples; `None` where none tells.
fn sizes(points: &Points, width: usize) -> Option<[f64; 3]> {
    match points {
        Points::Turns(turns) => noise_of_turns(turns),
        Points::Places(places) => {
            let axis = |axis: usize| {
                let own: Vec<f64> = places.iter().map(|place| place[axis]).collect();
                noise_of(&own)
            };
            let told = [0, 1, 2].map(|index| if index < width { axis(index) } else { None });
            told.iter().any(Option::is_some).then(|| told.map(|size| size.unwrap_or(0.0)))
        }
    }
}
