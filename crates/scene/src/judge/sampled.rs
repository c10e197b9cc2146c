//! When tracks have samples, and where they are known without.

use nimble_curve_curves::curve::{Behaviour, Curve, Interpolation};

use crate::controller::Controller;

/// When a track has samples.
#[derive(Clone, Debug, PartialEq)]
pub struct SampleTimes {
    /// In ascending order.
    pub times: Vec<f64>,
    /// Whether the track is held before and behind them, so that it is known there.
    pub is_held: bool,
}

impl SampleTimes {
    /// Those of a controller: of baked data, and of keys at an even step with straight lines between them, or in `any_way`.
    pub fn of(controller: &Controller, any_way: bool) -> Option<SampleTimes> {
        if let Some(samples) = controller.samples() {
            let times = (0..samples.len()).map(|index| samples.time(index).as_f64()).collect();
            return Some(SampleTimes { times, is_held: true });
        }
        let (start, rate, count) = controller.even_keys()?;
        let straight = |curve: &Curve| {
            let keys = curve.keys();
            keys[..keys.len() - 1].iter().all(|key| key.interpolation == Interpolation::Linear)
        };
        let mut moving = controller.curves().iter().filter(|curve| !curve.is_empty() && !curve.is_constant());
        if !any_way && !moving.all(straight) {
            return None;
        }
        let times = (0..count).map(|index| (start + rate.ticks(index as i64)).as_f64()).collect();
        let is_held = match controller {
            Controller::Quaternion(curve) => {
                [curve.before, curve.after].iter().all(|own| *own == Behaviour::Held)
            }
            _ => controller.curves().iter().all(|curve| curve.is_empty() || curve.is_held_outside()),
        };
        Some(SampleTimes { times, is_held })
    }

    /// The same by another clock.
    pub fn by(self, clock: impl Fn(f64) -> f64) -> SampleTimes {
        SampleTimes { times: self.times.into_iter().map(clock).collect(), ..self }
    }

    /// Whether the track has a sample at an instant, to within some ticks, or is held there as it has none before or behind.
    fn is_known(&self, time: f64, within: f64) -> bool {
        let at = self.times.partition_point(|own| *own < time - within);
        match self.times.get(at) {
            Some(own) if *own <= time + within => true,
            Some(_) => self.is_held && at == 0,
            None => self.is_held,
        }
    }
}

/// Instants at which each of some tracks is known, to within a tick.
pub fn common(mut tracks: Vec<SampleTimes>) -> Vec<f64> {
    tracks.dedup();
    if tracks.len() < 2 {
        return tracks.pop().map_or(Vec::new(), |own| own.times);
    }
    if !are_on_one_grid(&tracks) {
        // Whoever puts them together looks at one grid, which is not that of the others.
        tracks.iter_mut().for_each(|own| own.is_held = false);
    }
    let mut times: Vec<f64> = tracks.iter().flat_map(|own| own.times.iter().copied()).collect();
    times.sort_by(f64::total_cmp);
    times.dedup_by(|time, before| *time - *before <= 1.0);
    times.retain(|time| tracks.iter().all(|own| own.is_known(*time, 1.0)));
    times
}

/// Whether the samples of some tracks stand on the steps of the one that has most of them, to within a tick.
fn are_on_one_grid(tracks: &[SampleTimes]) -> bool {
    let Some([first, second, ..]) =
        tracks.iter().max_by_key(|own| own.times.len()).map(|most| most.times.as_slice())
    else {
        return false;
    };
    let step = second - first;
    let is_on_it = |time: &f64| {
        let steps = (time - first) / step;
        (steps - steps.round()).abs() * step <= 1.0
    };
    tracks.iter().all(|own| {
        let is_as_fine = own.times.windows(2).all(|pair| (pair[1] - pair[0] - step).abs() <= 2.0);
        is_as_fine && own.times.iter().all(is_on_it)
    })
}

/// Those of some instants that lie before and behind the samples of all tracks, where these are held and both sides are known; also
/// halfway between two of them, but where the result is sampled: that goes in straight lines.
pub fn outside(mut times: Vec<f64>, tracks: &[SampleTimes], result: &[SampleTimes]) -> Vec<f64> {
    if !tracks.iter().all(|own| own.is_held) {
        return Vec::new();
    }
    let firsts = tracks.iter().filter_map(|own| own.times.first());
    let lasts = tracks.iter().filter_map(|own| own.times.last());
    let (first, last) =
        (firsts.copied().fold(f64::INFINITY, f64::min), lasts.copied().fold(f64::NEG_INFINITY, f64::max));
    times.retain(|time| *time < first - 1.0 || *time > last + 1.0);
    // A tick before one of its samples it goes to that, wherever the source is.
    times.retain(|time| result.iter().all(|own| own.is_known(*time, 0.0)));
    times.sort_by(f64::total_cmp);
    times.dedup();
    if result.is_empty() {
        let is_one_side = |pair: &&[f64]| pair[1] < first || pair[0] > last;
        let halfway: Vec<f64> =
            times.windows(2).filter(is_one_side).map(|pair| 0.5 * (pair[0] + pair[1])).collect();
        times.extend(halfway);
    }
    times
}
