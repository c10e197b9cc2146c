//! How much may be made at once: samples of a long range take more memory than the curves that they come from.

use nimble_curve_curves::time::{FrameRate, TimeRange};
use nimble_curve_scene::scene::{PropertyKind, Scene};
use thiserror::Error;

/// How many numbers samples may have, of all tracks together: two gigabytes of them.
pub const MOST_NUMBERS: f64 = (1_u64 << 28) as f64;

/// More numbers than [`MOST_NUMBERS`].
#[derive(Clone, Copy, Debug, PartialEq, Error)]
#[error(
    "that would be {numbers:.0} numbers of samples: no more than {MOST_NUMBERS} are made at once; take fewer frames, or fewer channels"
)]
pub struct TooMany {
    /// How many.
    pub numbers: f64,
}

/// Whether all tracks of a scene can be sampled, so many times a second, over a range or over each take.
///
/// # Errors
/// [`TooMany`].
pub fn affordable(scene: &Scene, range: Option<TimeRange>, rate: FrameRate) -> Result<(), TooMany> {
    let width = |kind: Option<PropertyKind>| match kind {
        Some(PropertyKind::Number(_)) => 1.0,
        Some(PropertyKind::Vector(_) | PropertyKind::Scale) => 3.0,
        Some(PropertyKind::Rotation) => 4.0,
        Some(PropertyKind::Matrix) => 16.0,
        Some(PropertyKind::Discrete) | None => 0.0,
    };
    let mut numbers = 0.0;
    for take in &scene.takes {
        let range = range.unwrap_or(take.range);
        let frames = rate.frame(range.last - range.first) + 1.0;
        let kinds = take.tracks().map(|(_, track)| {
            let rig = scene.rigs.get(track.target.rig);
            rig.and_then(|rig| rig.property_kind(track.target.node, &track.target.property))
        });
        numbers += frames * kinds.map(width).sum::<f64>();
    }
    if numbers > MOST_NUMBERS { Err(TooMany { numbers }) } else { Ok(()) }
}
