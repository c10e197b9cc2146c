//! Fitting: sparse curves through samples, within a bound; first the keys that they were baked from, if they were.

mod nearest;
#[doc(hidden)]
pub mod oracle;
mod path;
mod piece;
mod readings;
mod recover;
mod scalar;
mod shared;
mod terms;
mod weighted;

pub use piece::Interval;
pub use readings::{BEYOND_BAND, Narrowed, Offset, Readings, Runs, Window};
pub use recover::{Recovery, precision_of, recover};
pub use scalar::{fit, fit_dense};
pub use shared::{Channel, fit_shared, fit_shared_dense};

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
    /// Lengths in time of the handles before and after the key, in samples, where they are weighted.
    pub handles: (Option<f64>, Option<f64>),
}

impl FittedKey {
    /// A key on a sample with one slope.
    pub fn on(index: usize, value: f64, slope: f64, interpolation: Interpolation) -> FittedKey {
        FittedKey {
            at: index as f64,
            value,
            before: None,
            slope_in: slope,
            slope_out: slope,
            interpolation,
            handles: (None, None),
        }
    }
}

/// How far a curve may lie from the samples that it goes through, and from what is plausible between them.
#[derive(Clone, Copy, Debug)]
pub struct ErrorBound<'a> {
    /// How far from any sample; where samples have room of their own, how far from most.
    pub tolerance: f64,
    /// For each sample the range that the curve's value less the sample's must lie in. It holds zero.
    by_sample: Option<&'a [Interval]>,
    /// Halfway after each sample, how far below and above the band of plausible values the curve may be; else as far as
    /// at the samples, times [`BEYOND_BAND`].
    halfway: Option<&'a [Interval]>,
    /// What is plausible between the samples.
    read: Option<Read<'a>>,
}

/// Samples and their readings.
#[derive(Clone, Copy, Debug)]
struct Read<'a> {
    readings: &'a Readings,
    samples: &'a [f64],
    /// Which of the samples is the first one here.
    from: usize,
}

impl<'a> ErrorBound<'a> {
    /// As far from every sample.
    pub fn even(tolerance: f64) -> ErrorBound<'static> {
        ErrorBound { tolerance, by_sample: None, halfway: None, read: None }
    }

    /// Samples with room of their own: for each the range that the curve's value less the sample's must lie in, which holds
    /// zero. `tolerance` is how far the curve may be from most.
    pub fn by_sample(tolerance: f64, room: &'a [Interval]) -> ErrorBound<'a> {
        ErrorBound { tolerance, by_sample: Some(room), halfway: None, read: None }
    }

    /// The same with room of its own halfway after each sample: how far below and above the band of plausible values.
    pub fn with_halfway(self, room: Option<&'a [Interval]>) -> ErrorBound<'a> {
        ErrorBound { halfway: room, ..self }
    }

    /// The same with what is plausible between these samples; a fit reads them by itself where that is not given.
    pub fn with_readings(self, readings: &'a Readings, samples: &'a [f64]) -> ErrorBound<'a> {
        ErrorBound { read: Some(Read { readings, samples, from: 0 }), ..self }
    }

    /// That of the samples from one to another, the last one included.
    pub fn part(self, from: usize, to: usize) -> Self {
        ErrorBound {
            by_sample: self.by_sample.map(|room| &room[from..=to]),
            halfway: self.halfway.map(|room| &room[from..to]),
            read: self.read.map(|read| Read { from: read.from + from, ..read }),
            ..self
        }
    }

    /// Whether a curve may lie so far from a sample.
    pub fn holds(self, index: usize, error: f64) -> bool {
        self.at_sample(index).contains(error)
    }

    /// How far below and above a sample the curve may lie.
    #[inline]
    fn at_sample(self, index: usize) -> Interval {
        match self.by_sample {
            None => Interval { low: -self.tolerance, high: self.tolerance },
            Some(room) => room[index],
        }
    }

    /// Whether a curve may stay at a sample up to the next one, whatever that is.
    fn may_leap(self, index: usize) -> bool {
        self.read.is_none_or(|read| !read.readings.is_narrow(read.from + index))
    }

    /// The values that a curve may have between a sample and the next, at a part of the way; all where nothing is asked.
    fn between(self, index: usize, u: f64) -> Interval {
        let Some(Read { readings, samples, from }) = self.read else {
            return Interval { low: f64::NEG_INFINITY, high: f64::INFINITY };
        };
        let at = from + index;
        let band = if u == 0.5 { readings.halfway(at) } else { readings.between(samples, at, u) };
        self.beyond(index, u, band, readings.room(at))
    }

    /// What is plausible between a sample and the next, at a part of the way, and a part of the room beyond it.
    fn beyond(self, index: usize, u: f64, band: Interval, part: f64) -> Interval {
        let (before, after) = (self.at_sample(index), self.at_sample(index + 1));
        let mix = |before: f64, after: f64, u: f64| part * (before + (after - before) * u);
        let room = |before: f64, after: f64, halfway: Option<f64>| match halfway {
            Some(halfway) if u <= 0.5 => mix(BEYOND_BAND * before, halfway, 2.0 * u),
            Some(halfway) => mix(halfway, BEYOND_BAND * after, 2.0 * u - 1.0),
            None => BEYOND_BAND * mix(before, after, u),
        };
        let halfway = self.halfway.map(|halfway| halfway[index]);
        Interval {
            low: band.low + room(before.low, after.low, halfway.map(|room| room.low)),
            high: band.high + room(before.high, after.high, halfway.map(|room| room.high)),
        }
    }
}

/// Where keys come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Origin {
    /// All are those that the samples were baked from.
    Recovered,
    /// Most are; some stretches had to be fitted.
    Partly,
    /// They were fitted.
    Fitted,
}

/// What unbaking made of samples.
#[derive(Clone, Debug, PartialEq)]
pub struct Unbaked {
    /// The keys.
    pub keys: Vec<FittedKey>,
    /// Where most of them come from.
    pub origin: Origin,
    /// The stretches, from one sample to another, whose keys were fitted.
    pub fitted: Vec<(usize, usize)>,
}

/// Whether keys may have weighted handles.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default)]
pub enum Handles {
    /// Slopes only: plain cubics.
    #[default]
    Plain,
    /// Handles of their own lengths, where they save keys, or where samples were baked from such.
    Weighted,
}

/// Sparse keys whose curve stays within the room around all samples, and near what is plausible between them: recovered where
/// the samples, rounded to `precision`, were baked from curves, fitted elsewhere. `keep` are samples that must become keys.
pub fn unbaked(
    samples: &[f64],
    precision: f64,
    room: ErrorBound<'_>,
    keep: &[usize],
    handles: Handles,
) -> Unbaked {
    let is_still = samples.iter().all(|sample| *sample == samples[0]);
    let found = if keep.is_empty() && !is_still { recover(samples, precision, handles) } else { None };
    unbaked_from(samples, found.as_ref(), room, keep, handles)
}

/// The same with what was recovered from the samples, which holds for any room.
pub fn unbaked_from(
    samples: &[f64],
    found: Option<&Recovery>,
    room: ErrorBound<'_>,
    keep: &[usize],
    handles: Handles,
) -> Unbaked {
    let last = samples.len().saturating_sub(1);
    let whole = |keys| Unbaked { keys, origin: Origin::Fitted, fitted: vec![(0, last)] };
    let Some(&first) = samples.first() else { return whole(Vec::new()) };
    let recovered = |keys| Unbaked { keys, origin: Origin::Recovered, fitted: Vec::new() };
    if samples.iter().all(|sample| *sample == first) {
        return recovered(vec![FittedKey::on(0, first, 0.0, Interpolation::Cubic)]);
    }
    let Some(recovery) = found else { return whole(fit(samples, room, keep, handles)) };
    let mut keys = recovery.keys.clone();
    let own;
    let mut room = room;
    if room.read.is_none() && !recovery.rough.is_empty() {
        own = Readings::of(samples);
        room = room.with_readings(&own, samples);
    }
    for &(from, to) in recovery.rough.iter().rev() {
        let found = fit(&samples[from..=to], room.part(from, to), &[], handles);
        let start = keys.iter().position(|key| key.at == from as f64);
        let end = keys.iter().position(|key| key.at == to as f64);
        let (Some(start), Some(end), [first, between @ .., last]) = (start, end, found.as_slice()) else {
            continue;
        };
        (keys[start].slope_out, keys[start].interpolation) = (first.slope_out, first.interpolation);
        keys[end].slope_in = last.slope_in;
        (keys[start].handles.1, keys[end].handles.0) = (first.handles.1, last.handles.0);
        let moved = between.iter().map(|key| FittedKey { at: key.at + from as f64, ..*key });
        keys.splice(start + 1..end, moved.collect::<Vec<_>>());
    }
    // Rounded samples may be off their curve by more than a small tolerance allows.
    if !is_within(samples, &keys, room) {
        return whole(fit(samples, room, keep, handles));
    }
    match recovery.rough.is_empty() {
        true => recovered(keys),
        false => Unbaked { keys, origin: Origin::Partly, fitted: recovery.rough.clone() },
    }
}

/// Whether the curve of some keys stays within the room around all samples.
fn is_within(samples: &[f64], keys: &[FittedKey], room: ErrorBound<'_>) -> bool {
    let mut next = 1;
    samples.iter().enumerate().all(|(index, sample)| {
        let at = index as f64;
        while next < keys.len() && keys[next].at <= at {
            next += 1;
        }
        let from = &keys[next - 1];
        let value = match keys.get(next) {
            Some(to) if at > from.at => between(from, to, at),
            _ => from.value,
        };
        room.holds(index, value - sample)
    })
}

/// The value between two keys.
fn between(from: &FittedKey, to: &FittedKey, at: f64) -> f64 {
    let length = to.at - from.at;
    let (u, rise) = ((at - from.at) / length, to.before.unwrap_or(to.value) - from.value);
    match from.interpolation {
        Interpolation::Hold | Interpolation::None => from.value,
        Interpolation::Linear => from.value + rise * u,
        Interpolation::Cubic if from.handles.1.or(to.handles.0).is_some() => {
            let lengths = (from.handles.1.unwrap_or(length / 3.0), to.handles.0.unwrap_or(length / 3.0));
            let piece = weighted::Weighted {
                lengths: (lengths.0 / length, lengths.1 / length),
                rises: (from.slope_out * lengths.0, to.slope_in * lengths.1),
                error: 0.0,
            };
            from.value + weighted::value(&piece, rise, u)
        }
        Interpolation::Cubic => {
            let (m0, m1) = (from.slope_out * length, to.slope_in * length);
            from.value + u * (m0 + u * (3.0 * rise - 2.0 * m0 - m1 + u * (m0 + m1 - 2.0 * rise)))
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Stretches of everything that comes in files: noise, rounded noise, lines, parabolas, rests, steps.
    fn any_samples() -> impl Strategy<Value = Vec<f64>> {
        let stretch = (0..7_u8, 1..30_usize, -5.0..5.0_f64, -1.0..1.0_f64, any::<u32>());
        prop::collection::vec(stretch, 1..9).prop_map(|stretches| {
            let mut samples = vec![0.0_f64];
            for (kind, count, size, slope, seed) in stretches {
                let start = samples[samples.len() - 1];
                let random = |i: usize| {
                    let mixed =
                        seed.wrapping_mul(747_796_405).wrapping_add((i as u32).wrapping_mul(277_803_737));
                    f64::from(mixed >> 8) / 16_777_216.0
                };
                samples.extend((1..=count).map(|i| {
                    let t = i as f64;
                    match kind {
                        0 => start + size * (random(i) - 0.5),
                        1 => ((start + size * (random(i) - 0.5)) * 100.0).round() / 100.0,
                        2 => start + slope * t,
                        3 => start + slope * t * t * 0.1,
                        4 => start,
                        5 => size,
                        _ => start + size * (t * 0.3).sin(),
                    }
                }));
            }
            samples
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(1500))]
        #[test]
        fn the_bound_holds_on_whatever_samples(
            samples in any_samples(), tolerance in prop::sample::select(vec![1e-6, 0.01, 0.1, 2.0]),
            keep in prop::collection::btree_set(0..200_usize, 0..4), weighted in prop::bool::weighted(0.2)
        ) {
            let keep: Vec<usize> = keep.into_iter().filter(|&index| index < samples.len()).collect();
            let handles = if weighted { Handles::Weighted } else { Handles::Plain };
            let Unbaked { keys, .. } =
                unbaked(&samples, precision_of(&samples, 1.0), ErrorBound::even(tolerance), &keep, handles);
            let numbers = |key: &FittedKey| [key.at, key.value, key.slope_in, key.slope_out];
            prop_assert!(keys.iter().flat_map(numbers).all(f64::is_finite));
            // Slopes are chosen at the rim of what is allowed, to rounding.
            prop_assert!(is_within(&samples, &keys, ErrorBound::even(tolerance * (1.0 + 1e-6) + 1e-11)));
            prop_assert!(keys.windows(2).all(|pair| pair[0].at < pair[1].at), "{keys:?}");
            let constant = keys.len() == 1;
            for index in keep {
                prop_assert!(constant || keys.iter().any(|key| key.at == index as f64), "{index} of {keys:?}");
            }
        }
    }
}
