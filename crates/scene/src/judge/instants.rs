//! When to look at two lists of drivers: where either may do something, or where samples are.

use nimble_curve_curves::curve::{Curve, Interpolation};
use nimble_curve_curves::time::{Ticks, TimeRange};

use super::between::Keys;
use super::claim::Sampling;
use super::look::{Looks, Mode, knots};
use super::sampled::{SampleTimes, common, outside};
use super::scenes::{Drivers, Scenes};
use crate::controller::{Controller, QuaternionInterpolation, Weight};
use crate::scene::{Layer, Track};

impl<'a> Scenes<'a> {
    /// Where a source without samples is looked at that counts as sampled, in the result's time.
    fn places(&self, theirs: &Drivers<'a>, range: TimeRange) -> Vec<f64> {
        let clock = &self.span.clock;
        if self.claim.sampling == Sampling::Keys {
            let keys = theirs.iter().flat_map(|(layer, track)| keyed(layer, track, range));
            return keys.map(|time| clock.result_at(time)).collect();
        }
        let rate = self.source.rate;
        let (first, last) = (rate.frame(range.first).ceil() as i64, rate.frame(range.last).floor() as i64);
        (first..=last).map(|frame| clock.result_at(rate.ticks(frame).as_f64())).collect()
    }

    /// Where to look at two lists of drivers, in the result's time, and how.
    pub fn looks(&self, (theirs, ours): &(Drivers<'a>, Drivers<'a>), limit: f64) -> Looks {
        let range = self.span.range;
        if theirs.is_empty() && ours.is_empty() {
            let knots = vec![(range.first.as_f64(), range.first.as_f64())];
            let keys = Keys { of_curves: Vec::new(), limit };
            return Looks { knots, mode: Mode::Curves, keys, beyond: Vec::new() };
        }
        let clock = &self.span.clock;
        let source_range = self.source_range();
        let mut times = vec![range.first.as_f64(), range.last.as_f64()];
        let any_way = self.claim.sampling == Sampling::KeysOfSource;
        let samples_of = |drivers: &Drivers<'a>, any_way: bool| -> Vec<SampleTimes> {
            drivers.iter().filter_map(|(_, track)| SampleTimes::of(&track.controller, any_way)).collect()
        };
        let (there, here) = (samples_of(theirs, any_way), samples_of(ours, false));
        // What was asked for as samples is looked at where these are; of a sampled source nothing is known elsewhere.
        let own = match self.claim.sampling {
            Sampling::Result if !here.is_empty() => Some(common(here.clone())),
            Sampling::Result if is_straight(ours) => {
                Some(ours.iter().flat_map(|(layer, track)| keyed(layer, track, range)).collect())
            }
            Sampling::EachNth(step) => Some(range.every(self.source.rate, step).map(Ticks::as_f64).collect()),
            _ => None,
        };
        let in_result = |tracks: Vec<SampleTimes>| -> Vec<SampleTimes> {
            tracks.into_iter().map(|own| own.by(|time| clock.result_at(time))).collect()
        };
        let mode = match (&own, there.is_empty(), here.is_empty()) {
            (Some(_), true, _) => Mode::SampledResult,
            // A stretch of samples that were carried over as they are.
            (None, false, false) if in_result(there.clone()) == here => Mode::SameSamples,
            (_, false, _) => Mode::SampledSource,
            (None, true, _) if matches!(self.claim.sampling, Sampling::Frames | Sampling::Keys) => {
                Mode::Frames
            }
            (None, true, false) => Mode::SampledResult,
            (None, true, true) => Mode::Curves,
        };
        let mut beyond = Vec::new();
        let mut sampled = |tracks: Vec<SampleTimes>| {
            let mut all = vec![range.first.as_f64(), range.last.as_f64()];
            for (layer, track) in theirs {
                all.extend(when(layer, track, source_range).into_iter().map(|time| clock.result_at(time)));
            }
            all.extend(ours.iter().flat_map(|(layer, track)| when(layer, track, range)));
            all.extend(here.iter().flat_map(|own| &own.times));
            beyond = outside(all, &tracks, &here);
            common(tracks)
        };
        times = match (own, mode) {
            // Where several tracks are sampled, only where each of them has a sample, or has none any more, is anything known.
            (Some(mut own), _) => {
                own.sort_by(f64::total_cmp);
                own.dedup();
                let mut tracks = in_result(there);
                tracks.push(SampleTimes { times: own, is_held: false });
                common(tracks)
            }
            (None, Mode::Frames) => self.places(theirs, source_range),
            (None, Mode::SampledSource | Mode::SameSamples) => sampled(in_result(there)),
            (None, Mode::SampledResult) => sampled(here.clone()),
            (None, Mode::Curves) => {
                for (layer, track) in theirs {
                    let own = when(layer, track, source_range);
                    times.extend(own.into_iter().map(|time| clock.result_at(time)));
                }
                for (layer, track) in ours {
                    times.extend(when(layer, track, range));
                }
                times
            }
        };
        // What lies between keys was to change: nothing is said of it.
        let mode = match self.claim.sampling {
            Sampling::Keys if matches!(mode, Mode::SampledSource | Mode::Frames) => Mode::SameSamples,
            Sampling::EachNth(_) if mode == Mode::SampledResult => Mode::SameSamples,
            _ => mode,
        };
        let is_in_range = |time: &f64| range.first.as_f64() <= *time && *time <= range.last.as_f64();
        times.retain(is_in_range);
        beyond.retain(is_in_range);
        let of_curves = match mode {
            Mode::SampledSource => ours.iter().flat_map(|(_, track)| key_times(&track.controller)).collect(),
            _ => Vec::new(),
        };
        Looks { knots: knots(times, self.precision), mode, keys: Keys { of_curves, limit }, beyond }
    }
}

/// When a controller has keys, curve by curve.
fn key_times(controller: &Controller) -> Vec<Vec<f64>> {
    let of = |curve: &Curve| curve.keys().iter().map(|key| key.time.as_f64()).collect();
    match controller {
        Controller::Components(_) | Controller::Euler(_) => controller.curves().iter().map(of).collect(),
        other => {
            // What has no keys has no range.
            let whole = other.range().map_or(Vec::new(), |range| other.key_times(range));
            vec![whole.into_iter().map(|time| time.as_f64()).collect()]
        }
    }
}

/// Whether all that drives a property goes in straight lines from key to key.
fn is_straight(drivers: &Drivers<'_>) -> bool {
    !drivers.is_empty()
        && drivers.iter().all(|(_, track)| match &track.controller {
            Controller::Components(_) | Controller::Euler(_) => {
                track.controller.curves().iter().all(|curve| {
                    let pieces = curve.keys().split_last().map_or(&[][..], |(_, keys)| keys);
                    pieces.iter().all(|key| key.interpolation == Interpolation::Linear)
                })
            }
            Controller::Quaternion(curve) => {
                let pieces = curve.keys.split_last().map_or(&[][..], |(_, keys)| keys);
                pieces.iter().all(|key| key.interpolation == QuaternionInterpolation::Slerp)
            }
            _ => false,
        })
}

/// The instants within a range at which a driver may do something: its keys, and where it goes all but at once.
fn when(layer: &Layer, track: &Track, range: TimeRange) -> Vec<f64> {
    let mut times = keyed(layer, track, range);
    times.extend(track.controller.steep_times(range));
    if let Weight::Curve(curve) = &layer.weight {
        times.extend(curve.steep_times(range));
    }
    times
}

/// The instants within a range at which a driver has keys.
fn keyed(layer: &Layer, track: &Track, range: TimeRange) -> Vec<f64> {
    let mut times: Vec<f64> =
        track.controller.key_times(range).into_iter().map(|time| time.as_f64()).collect();
    times.extend(layer.weight.key_times(range).into_iter().map(|time| time.as_f64()));
    times
}
