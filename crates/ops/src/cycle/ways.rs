//! Ways that are written out round after round, each round turned further than the one before it.

use glam::{DVec2, DVec3};
use nimble_curve_curves::curve::{Curve, Key, combine};
use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_scene::controller::Samples;

/// How rounds turn.
#[derive(Clone, Copy, Debug)]
pub(super) struct Turning {
    /// The axis about which they do.
    pub(super) up: usize,
    /// By how much each of them, in radians.
    pub(super) turn: f64,
    /// The first of them.
    pub(super) range: TimeRange,
    pub(super) rounds: u32,
}

impl Turning {
    /// Curves of a place; `None` where they are not plain cubics.
    pub(super) fn curves(&self, curves: &mut Vec<Curve>, rest: DVec3) -> Option<()> {
        let Turning { up, turn, range, rounds } = *self;
        let (a, b) = ((up + 1) % 3, (up + 2) % 3);
        let at = |curve: &Curve, time: Ticks| curve.value_at(time.as_f64()).unwrap_or(0.0);
        curves.resize(3, Curve::default());
        if [a, b].into_iter().all(|axis| curves[axis].is_empty() || curves[axis].is_constant()) {
            return Some(());
        }
        // Written out they go on, so that the first round ends where the second one begins.
        let round = |axis: usize| match &curves[axis] {
            resting if resting.is_empty() => Curve::constant(range.first, rest[axis]).with_ends(range),
            curve => curve.trimmed(range).with_ends(range),
        };
        let (p, q) = (round(a), round(b));
        let start = (at(&p, range.first), at(&q, range.first));
        let step = (at(&p, range.last) - start.0, at(&q, range.last) - start.1);
        let mut keys: [Vec<Key>; 2] = [Vec::new(), Vec::new()];
        let mut place = start;
        for round in 0..rounds {
            let (sin, cos) = (turn * f64::from(round)).sin_cos();
            // Turned about where the round begins, and put where the one before it ended.
            let x = combine(&[(cos, &p), (-sin, &q)], place.0 - cos * start.0 + sin * start.1)?;
            let y = combine(&[(sin, &p), (cos, &q)], place.1 - sin * start.0 - cos * start.1)?;
            let by = Ticks((range.last - range.first).0 * i64::from(round));
            for (keys, curve) in keys.iter_mut().zip([x, y]) {
                let mut own = curve.shifted(by).into_keys();
                if let (Some(end), Some(begin)) = (keys.last().copied(), own.first_mut())
                    && end.time == begin.time
                {
                    begin.tangent_in = end.tangent_in;
                    begin.value_before = end.value_before;
                    begin.joined = false;
                    keys.pop();
                }
                keys.extend(own);
            }
            place = (place.0 + cos * step.0 - sin * step.1, place.1 + sin * step.0 + cos * step.1);
        }
        let [x, y] = keys;
        (curves[a], curves[b]) = (Curve::new(x).ok()?, Curve::new(y).ok()?);
        Some(())
    }

    /// Samples of a place that were written out straight on.
    pub(super) fn samples(&self, samples: &mut Samples) {
        let Turning { up, turn, range, rounds } = *self;
        let (a, b) = ((up + 1) % 3, (up + 2) % 3);
        let (first, period) = (range.first.as_f64(), (range.last - range.first).as_f64());
        let index = |time: f64| {
            let at = (time - samples.start.as_f64()) / samples.rate.ticks_per_frame();
            (at.round().max(0.0) as usize).min(samples.len().saturating_sub(1))
        };
        let at = |time: f64| {
            let row = samples.row(index(time));
            DVec2::new(row[a], row[b])
        };
        let (start, step) = (at(first), at(first + period) - at(first));
        let places: Vec<DVec2> = (0..rounds)
            .scan(start, |place, round| {
                let here = *place;
                *place += DVec2::from_angle(turn * f64::from(round)).rotate(step);
                Some(here)
            })
            .collect();
        let width = samples.kind.width();
        let (from, ticks) = (samples.start.as_f64(), samples.rate.ticks_per_frame());
        for (index, row) in samples.values.chunks_exact_mut(width).enumerate() {
            // Sample times are rounded to ticks.
            let time = from + index as f64 * ticks;
            let last = f64::from(rounds.max(1)) - 1.0;
            let round = ((time - first + 1.0) / period).floor().clamp(0.0, last);
            let beside = DVec2::new(row[a], row[b]) - step * round - start;
            let turned = DVec2::from_angle(turn * round).rotate(beside) + places[round as usize];
            (row[a], row[b]) = (turned.x, turned.y);
        }
    }
}
