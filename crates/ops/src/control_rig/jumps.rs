//! Where what constraints make of a node jumps, though nothing that drives it does: turns of several sources that come to opposite sides, rolls
//! that come half round, poles that pass the line of their limb.

use std::collections::BTreeSet;

use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::Value;

use super::onto::away::quarters;
use crate::sampled_function::SampledFunction;

/// What goes so many times as far in a quarter of a frame as in those beside it, on the mean, may jump there.
const SUDDEN: f64 = 1.25;

/// What goes less far than this in a tick does not jump: radians, and parts of a length.
const LEAST: f64 = 1e-4;

/// After so many halvings more than such a part of the way is left in one of them, or it goes fast and does not jump.
const HALVINGS: (usize, f64) = (4, 0.2);

/// The instants just after which a function is elsewhere than a tick before.
pub fn jumps(function: &SampledFunction<'_>, range: TimeRange, rate: FrameRate) -> Vec<Ticks> {
    let looks: Vec<(f64, Value)> = quarters(rate, range).map(|time| (time, function.value(time))).collect();
    let ways: Vec<f64> = looks.windows(2).map(|pair| far(&pair[0].1, &pair[1].1)).collect();
    let beside = |index: usize| {
        let before = index.checked_sub(1).and_then(|before| ways.get(before));
        match (before, ways.get(index + 1)) {
            (Some(before), Some(after)) => 0.5 * (before + after),
            (one, other) => one.or(other).copied().unwrap_or(0.0),
        }
    };
    let sudden = (0..ways.len()).filter(|index| ways[*index] > SUDDEN * beside(*index) + LEAST);
    let mut found = Vec::new();
    for index in sudden {
        // Several things may jump within one quarter.
        let (first, last) = (looks[index].0.ceil() as i64, looks[index + 1].0.floor() as i64);
        let mut left = vec![(first, last)];
        while let Some((low, high)) = left.pop() {
            if let Some(Ticks(at)) = jump(function, (low, high)) {
                found.push(Ticks(at));
                left.extend([(low, at - 1), (at, high)].into_iter().filter(|(low, high)| low < high));
            }
        }
    }
    found.sort_unstable();
    found
}

/// Those of some instants at which a function jumps.
pub fn jumps_among(function: &SampledFunction<'_>, instants: impl IntoIterator<Item = Ticks>) -> Vec<Ticks> {
    let instants: BTreeSet<Ticks> = instants.into_iter().collect();
    let value = |Ticks(tick): Ticks| function.value(tick as f64);
    let does = |time: &Ticks| far(&value(Ticks(time.0 - 1)), &value(*time)) > LEAST;
    instants.into_iter().filter(does).collect()
}

/// A tick at which a function jumps, by halving where it goes farther.
fn jump(function: &SampledFunction<'_>, (mut low, mut high): (i64, i64)) -> Option<Ticks> {
    let at = |tick: i64| function.value(Ticks(tick).as_f64());
    let (mut from, mut to) = (at(low), at(high));
    let whole = far(&from, &to);
    let mut halvings = 0;
    while high - low > 1 {
        let way = far(&from, &to);
        if way <= LEAST || halvings == HALVINGS.0 && way < HALVINGS.1 * whole {
            return None;
        }
        let middle = low + (high - low) / 2;
        let here = at(middle);
        let is_first = far(&from, &here) > far(&here, &to);
        if is_first {
            (high, to) = (middle, here)
        } else {
            (low, from) = (middle, here)
        }
        halvings += 1;
    }
    (far(&from, &to) > LEAST).then_some(Ticks(high))
}

/// A function that keeps its value from the tick before each jump until the jump: curves can jump at a tick alone.
pub fn snapped<'a>(
    jumps: Vec<Ticks>,
    mut function: impl FnMut(f64) -> Value + 'a,
) -> impl FnMut(f64) -> Value + 'a {
    move |time| {
        let next = jumps.partition_point(|jump| jump.as_f64() <= time);
        let before = jumps.get(next).map(|jump| jump.as_f64() - 1.0);
        function(before.map_or(time, |before| time.min(before)))
    }
}

/// How far two values are apart: an angle, else in proportion to what they are.
fn far(a: &Value, b: &Value) -> f64 {
    if let (Some(a), Some(b)) = (a.rotation(), b.rotation()) {
        return angle_between(a, b);
    }
    let (Some(a), Some(b)) = (a.numbers(), b.numbers()) else { return 0.0 };
    let size = a.iter().chain(&b).fold(1.0_f64, |size, number| size.max(number.abs()));
    a.iter().zip(&b).map(|(a, b)| (a - b) * (a - b)).sum::<f64>().sqrt() / size
}

#[cfg(test)]
mod tests {
    use glam::DQuat;

    use super::*;

    /// A turn about an axis by so many degrees at a frame.
    fn found(degrees: impl Fn(f64) -> f64) -> Vec<f64> {
        let rate = FrameRate::FPS_24;
        let range = TimeRange::new(rate.ticks(0), rate.ticks(4));
        let turn = |time: f64| {
            Value::Quaternion(DQuat::from_rotation_x(degrees(time / rate.ticks_per_frame()).to_radians()))
        };
        let all = jumps(&SampledFunction::of_function(turn), range, rate);
        all.into_iter().map(|time| rate.frame(time)).collect()
    }

    #[test]
    fn jumps_are_found_beside_fast_motion_and_several_within_a_quarter_of_a_frame() {
        let step = |at: f64, frame: f64| if frame < at { 0.0 } else { 1.0 };
        let near = |found: Vec<f64>, wanted: &[f64]| {
            let is_near = |(a, b): (&f64, &f64)| (a - b).abs() < 1e-6;
            assert!(
                found.len() == wanted.len() && found.iter().zip(wanted).all(is_near),
                "{found:?} for {wanted:?}"
            );
        };
        near(found(|frame| 10.0 * frame), &[]);
        near(found(|frame| 60.0 * (frame * 3.0).sin()), &[]);
        near(found(|frame| 40.0 * (frame - 1.61).abs().sqrt()), &[]);
        near(found(|frame| 10.0 * frame + 40.0 * step(1.61, frame)), &[1.61]);
        // The frame before is as fast as the jump is far.
        let fast = |frame: f64| 160.0 * (frame - 1.5).clamp(0.0, 0.5) + 60.0 * step(1.8, frame);
        near(found(fast), &[1.8]);
        let twice = |frame: f64| 10.0 * frame + 40.0 * step(1.3, frame) + 25.0 * step(1.4, frame);
        near(found(twice), &[1.3, 1.4]);
        near(found(|frame| 40.0 * step(1.3, frame) - 40.0 * step(2.9, frame)), &[1.3, 2.9]);
    }
}
