//! A property as a function of time, from either side of an instant, with its rate of change.

use std::cell::RefCell;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::Side;
use nimble_curve_curves::rotation::{Knot, RotationPath, SegmentKind, angle_between, from_vector, to_vector};
use nimble_curve_curves::time::{TICKS_PER_SECOND, Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::evaluate::{PropertySampler, Sampler};

/// Ticks between the instants from which rates are taken: 1/480 of a frame at 24 a second.
const STEP: f64 = 61_250.0;

/// The step down to which they stand closer where the rate changes fast, in ticks.
const CLOSEST: f64 = 16.0;

/// What turns by less than this over the instants stands still but for rounding, which a shorter step would make more of: a limb
/// that is straight is so to the root of the last digit, in radians.
const STILL: f64 = 1e-6;

/// How far to the left of an instant its left side is looked at, in ticks.
const BESIDE: f64 = 0.25;

/// Weights of the derivative at the first of five points a step apart, times 12 steps (Fornberg, Math. Comp. 51, 1988).
const DERIVATIVE: [f64; 5] = [-25.0, 48.0, -36.0, 16.0, -3.0];

/// A sampled function of time that can be looked at from both sides.
pub(super) struct SampledFunction<'a> {
    sampler: RefCell<Source<'a>>,
    /// Just after which instants it is elsewhere than a tick before, where that is known.
    jumps: Vec<Ticks>,
}

enum Source<'a> {
    Property(PropertySampler<'a>),
    Controller(Box<Sampler<'a>>),
    /// The second less the first, or by the first.
    Difference(Box<SampledFunction<'a>>, Box<SampledFunction<'a>>, bool),
    Function(Box<dyn FnMut(f64) -> Value + 'a>),
}

impl<'a> SampledFunction<'a> {
    /// A property under all its layers.
    pub fn of_property(sampler: PropertySampler<'a>) -> SampledFunction<'a> {
        SampledFunction::of(Source::Property(sampler))
    }

    /// One controller.
    pub fn of_controller(sampler: Sampler<'a>) -> SampledFunction<'a> {
        SampledFunction::of(Source::Controller(Box::new(sampler)))
    }

    /// What is to be added to numbers to get others, or what they are to be multiplied by.
    pub fn of_difference(
        from: SampledFunction<'a>,
        to: SampledFunction<'a>,
        is_factor: bool,
    ) -> SampledFunction<'a> {
        SampledFunction::of(Source::Difference(Box::new(from), Box::new(to), is_factor))
    }

    /// Any function of a time in ticks.
    pub fn of_function(function: impl FnMut(f64) -> Value + 'a) -> SampledFunction<'a> {
        SampledFunction::of(Source::Function(Box::new(function)))
    }

    fn of(source: Source<'a>) -> SampledFunction<'a> {
        SampledFunction { sampler: RefCell::new(source), jumps: Vec::new() }
    }

    /// The same, of which it is known where it jumps: rates are not taken across that.
    pub fn with_jumps(self, jumps: Vec<Ticks>) -> SampledFunction<'a> {
        SampledFunction { jumps, ..self }
    }

    /// How far apart the five instants may stand from which the rate on one side of an instant is taken.
    fn step(&self, start: f64, way: f64) -> f64 {
        let next = self.jumps.partition_point(|jump| jump.as_f64() <= start);
        let room = match way > 0.0 {
            // The tick before a jump is held.
            true => self.jumps.get(next).map(|jump| jump.as_f64() - 1.0 - start),
            false => next.checked_sub(1).map(|last| start - self.jumps[last].as_f64()),
        };
        room.map_or(STEP, |room| (room / 4.0).clamp(BESIDE / 4.0, STEP))
    }

    /// The value at a time in ticks, from the right.
    pub fn value(&self, time: f64) -> Value {
        match &mut *self.sampler.borrow_mut() {
            Source::Property(sampler) => sampler.value_at(time),
            Source::Controller(sampler) => sampler.value_at(time),
            Source::Function(function) => function(time),
            Source::Difference(from, to, is_factor) => match (from.value(time), to.value(time)) {
                (Value::Number(a), Value::Number(b)) => Value::Number(b - a),
                (Value::Vector(a), Value::Vector(b)) if *is_factor => Value::Vector(b / a),
                (Value::Vector(a), Value::Vector(b)) => Value::Vector(b - a),
                (_, other) => other,
            },
        }
    }

    /// One number of the value and its slope per second, on one side of an instant.
    pub fn number(&self, component: usize, time: f64, side: Side) -> (f64, f64) {
        let at = |time: f64| self.component(component, time);
        let (start, way) = start(time, side);
        let mut step = self.step(start, way);
        loop {
            let values: [f64; 5] = std::array::from_fn(|index| at(start + way * step * index as f64));
            let rise = DERIVATIVE.iter().zip(values).map(|(w, v)| w * v).sum::<f64>() / 12.0;
            // Beside a vertical tangent five points and three tell different slopes until they stand close enough.
            let of_three = (-3.0 * values[0] + 4.0 * values[1] - values[2]) / 2.0;
            let differs = (rise - of_three).abs() > 1e-3 * rise.abs() + 1e-9 * (1.0 + values[0].abs());
            if differs && step > CLOSEST {
                step /= 16.0;
                continue;
            }
            let slope = way * rise * TICKS_PER_SECOND as f64 / step;
            return (values[0] + slope * (time - start) / TICKS_PER_SECOND as f64, slope);
        }
    }

    /// One number of the value at a time in ticks, from the right.
    pub fn component(&self, component: usize, time: f64) -> f64 {
        match self.value(time) {
            Value::Number(v) => v,
            Value::Vector(v) | Value::Euler { angles: v, .. } => v[component],
            other => other.numbers().map_or(0.0, |numbers| numbers[component]),
        }
    }

    fn turn(&self, time: f64) -> DQuat {
        self.value(time).rotation().unwrap_or(DQuat::IDENTITY)
    }

    /// Instants as knots of a rotation path: holding where nothing changes until the next one.
    pub fn knots(&self, times: &[Ticks]) -> Vec<Knot> {
        let holds = |from: Ticks, to: Ticks| {
            let (start, gap) = (from.as_f64(), (to - from).as_f64());
            let first = self.turn(start);
            (1..8).all(|part| angle_between(self.turn(start + gap * f64::from(part) / 8.0), first) < 1e-12)
        };
        let leaving = |index: usize| match times.get(index + 1) {
            Some(&next) if holds(times[index], next) => SegmentKind::Holding,
            _ => SegmentKind::Moving,
        };
        (0..times.len()).map(|index| Knot { time: times[index], leaving: leaving(index) }).collect()
    }
}

/// The first instant to look at on a side, and the way from it.
fn start(time: f64, side: Side) -> (f64, f64) {
    match side {
        Side::Right => (time, 1.0),
        Side::Left => (time - BESIDE, -1.0),
    }
}

impl RotationPath for SampledFunction<'_> {
    fn rotation(&self, time: f64, side: Side) -> DQuat {
        if side == Side::Right {
            return self.turn(time);
        }
        let seconds = BESIDE / TICKS_PER_SECOND as f64;
        from_vector(self.velocity(time, side) * seconds) * self.turn(time - BESIDE)
    }

    fn velocity(&self, time: f64, side: Side) -> DVec3 {
        let (start, way) = start(time, side);
        let back = self.turn(start).conjugate();
        let mut step = self.step(start, way);
        loop {
            let turned: [DVec3; 5] =
                std::array::from_fn(|index| to_vector(self.turn(start + way * step * index as f64) * back));
            let rise = DERIVATIVE.iter().zip(turned).map(|(w, v)| *w * v).sum::<DVec3>() / 12.0;
            // As in [`SampledFunction::number`]: a corner may lie within the points.
            let of_three = (4.0 * turned[1] - turned[2]) / 2.0;
            let differs = (rise - of_three).length() > 1e-3 * rise.length() + 1e-9;
            if differs && step > CLOSEST && rise.length().max(of_three.length()) > STILL {
                step /= 16.0;
                continue;
            }
            return rise * (way * TICKS_PER_SECOND as f64 / step);
        }
    }
}

/// The instants within a range, or on its controllers' own keys, at which some of them have keys.
pub(super) fn union_times<'a>(
    controllers: impl Iterator<Item = &'a Controller>,
    more: impl IntoIterator<Item = Ticks>,
    range: TimeRange,
) -> Vec<Ticks> {
    let mut times: Vec<Ticks> = controllers.flat_map(|controller| controller.key_times(range)).collect();
    times.extend(more);
    times.sort_unstable();
    times.dedup();
    times
}
