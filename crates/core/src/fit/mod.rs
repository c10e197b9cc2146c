//! Fitting: sparse curves through samples, within a bound; first the keys that they were baked from, if they were.

#[cfg(test)]
mod oracle;
mod path;
mod piece;
mod recover;
mod scalar;

pub use recover::{Recovery, precision_of, recover};
pub use scalar::fit;

use crate::curve::Interpolation;

/// A key found in samples; times count in samples, slopes in value a sample.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct FittedKey {
    /// When, in samples from the first; between samples only where keys were recovered there.
    pub at: f64,
    /// The value.
    pub value: f64,
    /// The value just before the key, where the samples jump.
    pub before: Option<f64>,
    /// Slope before the key.
    pub slope_in: f64,
    /// Slope after the key; the same where the tangents are joined.
    pub slope_out: f64,
    /// How the curve goes on.
    pub interpolation: Interpolation,
}

impl FittedKey {
    /// A key on a sample with one slope.
    pub fn on(index: usize, value: f64, slope: f64, interpolation: Interpolation) -> FittedKey {
        FittedKey { at: index as f64, value, before: None, slope_in: slope, slope_out: slope, interpolation }
    }
}

/// Sparse keys whose curve stays within `tolerance` of all samples: recovered where the samples, rounded to `precision`,
/// were baked from curves, fitted elsewhere. Also whether keys were recovered. `keep` are samples that must become keys.
pub fn unbaked(samples: &[f64], precision: f64, tolerance: f64, keep: &[usize]) -> (Vec<FittedKey>, bool) {
    let Some(recovery) = recover(samples, precision).filter(|_| keep.is_empty()) else {
        return (fit(samples, tolerance, keep), false);
    };
    let mut keys = recovery.keys;
    for &(from, to) in recovery.rough.iter().rev() {
        let found = fit(&samples[from..=to], tolerance, &[]);
        let start = keys.iter().position(|key| key.at == from as f64);
        let end = keys.iter().position(|key| key.at == to as f64);
        let (Some(start), Some(end), [first, between @ .., last]) = (start, end, found.as_slice()) else {
            continue;
        };
        (keys[start].slope_out, keys[start].interpolation) = (first.slope_out, first.interpolation);
        keys[end].slope_in = last.slope_in;
        let moved = between.iter().map(|key| FittedKey { at: key.at + from as f64, ..*key });
        keys.splice(start + 1..end, moved.collect::<Vec<_>>());
    }
    (keys, true)
}
