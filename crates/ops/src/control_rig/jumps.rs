//! Where what constraints make of a node jumps, though nothing that drives it does: turns of several sources that come to opposite sides, rolls
//! that come half round, poles that pass the line of their limb.

use nimble_curve_curves::rotation::angle_between;
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::Value;

use super::onto::away::quarters;
use crate::sampled_function::SampledFunction;

/// What goes so many times as far in a quarter of a frame as in those beside it may jump there.
const SUDDEN: f64 = 3.0;

/// What goes less far than this in a tick does not jump: radians, and parts of a length.
const LEAST: f64 = 1e-4;

/// The instants just after which a function is elsewhere than a tick before.
pub fn jumps(function: &SampledFunction<'_>, range: TimeRange, rate: FrameRate) -> Vec<Ticks> {
    let looks: Vec<(f64, Value)> = quarters(rate, range).map(|time| (time, function.value(time))).collect();
    let ways: Vec<f64> = looks.windows(2).map(|pair| far(&pair[0].1, &pair[1].1)).collect();
    let beside = |index: usize| {
        let before = index.checked_sub(1).and_then(|before| ways.get(before));
        before.into_iter().chain(ways.get(index + 1)).fold(0.0_f64, |most, way| most.max(*way))
    };
    let sudden = (0..ways.len()).filter(|index| ways[*index] > SUDDEN * beside(*index) + LEAST);
    let found = sudden.filter_map(|index| {
        let (mut low, mut high) = (looks[index].0.ceil() as i64, looks[index + 1].0.floor() as i64);
        let at = |tick: i64| function.value(Ticks(tick).as_f64());
        while high - low > 1 {
            let middle = low + (high - low) / 2;
            let here = at(middle);
            if far(&at(low), &here) > far(&here, &at(high)) { high = middle } else { low = middle }
        }
        (far(&at(low), &at(high)) > LEAST).then_some(Ticks(high))
    });
    found.collect()
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
