//! Controllers as the samplers of an animation: rows of numbers at increasing times in single precision.

use glam::{DQuat, DVec4};
use nimble_curve_core::controller::{
    Controller, QuaternionCurve, QuaternionInterpolation, QuaternionKey, SampleKind, Samples,
};
use nimble_curve_core::curve::{Curve, EditError, Interpolation, Key, Side, Ticks};
use nimble_curve_core::value::Value;

/// The rows of one sampler.
#[derive(Clone, Debug, PartialEq)]
pub struct Sampler {
    /// How it gets from row to row.
    pub interpolation: &'static str,
    /// When, in seconds.
    pub times: Vec<f32>,
    /// The numbers, with slopes around them for cubics.
    pub values: Vec<f32>,
}

/// Rows while they are collected.
struct Rows {
    width: usize,
    times: Vec<f32>,
    into: Vec<f64>,
    values: Vec<f64>,
    out: Vec<f64>,
}

impl Rows {
    fn new(width: usize) -> Rows {
        Rows { width, times: Vec::new(), into: Vec::new(), values: Vec::new(), out: Vec::new() }
    }

    /// Adds a row that is later than the last one; a row that is not, in single precision, takes its place.
    fn push(&mut self, time: f32, into: &[f64], values: &[f64], out: &[f64]) {
        if self.times.last().is_some_and(|last| *last >= time) {
            let start = (self.times.len() - 1) * self.width;
            self.values[start..].copy_from_slice(values);
            self.out[start..].copy_from_slice(out);
            return;
        }
        self.times.push(time);
        self.into.extend_from_slice(into);
        self.values.extend_from_slice(values);
        self.out.extend_from_slice(out);
    }

    /// A jump: the row before it a hair earlier, where there is room.
    fn jump(&mut self, time: f32, left: (&[f64], &[f64]), right: (&[f64], &[f64])) {
        let zeros = vec![0.0; self.width];
        let earlier = time.next_down();
        let count = self.times.len();
        if self.times.last().is_none_or(|last| *last < earlier) && earlier >= 0.0 {
            self.push(earlier, left.0, left.1, &zeros);
        } else if count > 0 && self.times[..count - 1].last().is_none_or(|last| *last < earlier) {
            // The last row stands there already, to single precision: it is what comes just before the jump.
            self.times[count - 1] = earlier;
        }
        self.push(time, &zeros, right.0, right.1);
    }

    fn cubic(self) -> Sampler {
        let mut values = Vec::with_capacity(self.values.len() * 3);
        for row in 0..self.times.len() {
            let part = row * self.width..(row + 1) * self.width;
            for numbers in [&self.into, &self.values, &self.out] {
                values.extend(numbers[part.clone()].iter().map(|&number| number as f32));
            }
        }
        Sampler { interpolation: "CUBICSPLINE", times: self.times, values }
    }

    fn plain(self, interpolation: &'static str) -> Sampler {
        let values = self.values.iter().map(|&number| number as f32).collect();
        Sampler { interpolation, times: self.times, values }
    }
}

/// Where a take lies in an animation, whose times may not be negative.
#[derive(Clone, Copy, Debug)]
pub struct Timing {
    /// Where the only key of what never moves stands.
    pub start: Ticks,
    /// What is added to every time.
    pub shift: Ticks,
}

impl Timing {
    /// Seconds in single precision.
    fn seconds(&self, time: Ticks) -> f32 {
        (time + self.shift).seconds() as f32
    }

    /// The last number in single precision that is no later: from there on a jump has happened, for who reads in double
    /// precision, too.
    fn seconds_before(&self, time: Ticks) -> f32 {
        let (exact, near) = ((time + self.shift).seconds(), self.seconds(time));
        if f64::from(near) > exact { near.next_down() } else { near }
    }
}

/// Numbers that share their rows: curves and samples of one property, or of several; `rest` is what stays where nothing
/// drives it. `None` where nothing does.
pub fn of_numbers(controllers: &[Option<&Controller>], rest: &[f64], timing: Timing) -> Option<Sampler> {
    let all: Vec<&Controller> = controllers.iter().flatten().copied().collect();
    if let [Controller::Samples(samples)] = all[..]
        && samples.kind.width() == rest.len()
    {
        return Some(of_samples(samples, timing));
    }
    let mut curves: Vec<Curve> = Vec::with_capacity(rest.len());
    for controller in controllers {
        match controller {
            None => curves.push(Curve::default()),
            Some(controller) => curves.extend(as_curves(controller, timing)),
        }
    }
    of_curves(curves, rest, timing)
}

/// A controller of numbers as curves.
fn as_curves(controller: &Controller, timing: Timing) -> Vec<Curve> {
    match controller {
        Controller::Components(curves) => curves.clone(),
        Controller::Constant(value) => {
            let numbers = value.numbers().unwrap_or_default();
            numbers.into_iter().map(|number| Curve::constant(timing.start, number)).collect()
        }
        Controller::Samples(samples) => samples.lines(),
        _ => Vec::new(),
    }
}

fn of_curves(mut curves: Vec<Curve>, rest: &[f64], timing: Timing) -> Option<Sampler> {
    let mut times: Vec<Ticks> =
        curves.iter().flat_map(|curve| curve.keys().iter().map(|key| key.time)).collect();
    times.sort_unstable();
    times.dedup();
    let (first, last) = (*times.first()?, *times.last()?);
    for (curve, rest) in curves.iter_mut().zip(rest) {
        if curve.is_empty() {
            *curve = Curve::constant(first, *rest);
        }
        *curve = with_keys_at(curve, &times, *rest);
    }
    let width = curves.len();
    let pieces = |wanted: Interpolation| {
        curves
            .iter()
            .all(|curve| curve.keys()[..times.len() - 1].iter().all(|key| key.interpolation == wanted))
    };
    let jumps = curves.iter().any(|curve| curve.keys().iter().any(|key| key.value_before.is_some()));
    let interpolation = match () {
        () if first == last || pieces(Interpolation::Hold) => "STEP",
        () if !jumps && pieces(Interpolation::Linear) => "LINEAR",
        () => "CUBICSPLINE",
    };
    let mut rows = Rows::new(width);
    let (mut left, mut right) = (vec![0.0; width], vec![0.0; width]);
    let (mut into, mut out) = (vec![0.0; width], vec![0.0; width]);
    for (index, &time) in times.iter().enumerate() {
        for (component, curve) in curves.iter().enumerate() {
            let keys = curve.keys();
            right[component] = keys[index].value;
            (left[component], into[component]) = match index.checked_sub(1) {
                None => (keys[index].value, 0.0),
                Some(before) => arriving(&keys[before], &keys[index]),
            };
            out[component] = keys.get(index + 1).map_or(0.0, |next| leaving(&keys[index], next));
        }
        match interpolation {
            "STEP" => rows.push(timing.seconds_before(time), &into, &right, &out),
            _ if left != right => rows.jump(timing.seconds_before(time), (&into, &left), (&right, &out)),
            _ => rows.push(timing.seconds(time), &into, &right, &out),
        }
    }
    Some(if interpolation == "CUBICSPLINE" { rows.cubic() } else { rows.plain(interpolation) })
}

/// A curve with a key at each of some times, its own among them.
///
/// Where a key cannot be put in (a single key that loops, a gap) the curve is read off at all times: between two of them it
/// is one plain cubic at most.
fn with_keys_at(curve: &Curve, times: &[Ticks], rest: f64) -> Curve {
    let mut made = curve.clone();
    let all_in = times.iter().all(|&time| matches!(made.insert_key(time), Ok(_) | Err(EditError::Taken)));
    if all_in && made.keys().len() == times.len() {
        return made;
    }
    let at = |time: f64, side| curve.value_on(time, side).unwrap_or(rest);
    let slope = |time: f64, side| curve.slope_on(time, side).filter(|slope| slope.is_finite()).unwrap_or(0.0);
    let key = |&time: &Ticks| {
        let t = time.as_f64();
        let (left, right) = (at(t, Side::Left), at(t, Side::Right));
        let key = Key::new(time, right).with_slopes(slope(t, Side::Left), slope(t, Side::Right));
        Key { value_before: (left != right).then_some(left), joined: false, ..key }
    };
    Curve::new(times.iter().map(key).collect()).expect("the times ascend, and all numbers are finite")
}

/// The value and slope with which a piece arrives at its end.
fn arriving(from: &Key, to: &Key) -> (f64, f64) {
    match from.interpolation {
        Interpolation::Hold | Interpolation::None => (from.value, 0.0),
        Interpolation::Linear => (to.left_value(), chord(from, to)),
        Interpolation::Cubic => (to.left_value(), to.tangent_in.slope_per_second()),
    }
}

/// The slope with which a piece leaves its start.
fn leaving(from: &Key, to: &Key) -> f64 {
    match from.interpolation {
        Interpolation::Hold | Interpolation::None => 0.0,
        Interpolation::Linear => chord(from, to),
        Interpolation::Cubic => from.tangent_out.slope_per_second(),
    }
}

fn chord(from: &Key, to: &Key) -> f64 {
    (to.left_value() - from.value) / (to.time - from.time).seconds()
}

fn of_samples(samples: &Samples, timing: Timing) -> Sampler {
    let times = (0..samples.len()).map(|index| timing.seconds(samples.time(index))).collect();
    Sampler { interpolation: "LINEAR", times, values: samples.values.iter().map(|&v| v as f32).collect() }
}

/// A rotation: quaternion keys, samples or one value. `None` for anything else, which a scene that was adapted has not.
pub fn of_rotation(controller: &Controller, timing: Timing) -> Option<Sampler> {
    match controller {
        Controller::Quaternion(curve) => of_keys(curve, timing),
        Controller::Samples(samples) if samples.kind == SampleKind::Quaternion => {
            Some(of_samples(samples, timing))
        }
        Controller::Constant(Value::Quaternion(q)) => {
            let values = q.to_array().map(|number| number as f32).to_vec();
            Some(Sampler { interpolation: "STEP", times: vec![timing.seconds(timing.start)], values })
        }
        _ => None,
    }
}

fn of_keys(curve: &QuaternionCurve, timing: Timing) -> Option<Sampler> {
    let keys = signed(&curve.keys);
    let pieces = &keys[..keys.len().checked_sub(1)?];
    let all = |wanted| pieces.iter().all(|key| key.interpolation == wanted);
    let interpolation = match () {
        () if all(QuaternionInterpolation::Step) => "STEP",
        () if all(QuaternionInterpolation::Slerp) => "LINEAR",
        () => "CUBICSPLINE",
    };
    let mut rows = Rows::new(4);
    let zero = [0.0; 4];
    for (index, key) in keys.iter().enumerate() {
        let time = timing.seconds(key.time);
        let at_once = timing.seconds_before(key.time);
        let before = index.checked_sub(1).map(|before| &keys[before]);
        let holds = |key: &QuaternionKey| key.interpolation == QuaternionInterpolation::Step;
        let value = key.value.to_array();
        let out = if holds(key) || index + 1 == keys.len() { zero } else { key.tangent_out.to_array() };
        match before.filter(|before| holds(before) && interpolation == "CUBICSPLINE") {
            Some(before) if before.value != key.value => {
                rows.jump(at_once, (&zero, &before.value.to_array()), (&value, &out));
            }
            Some(_) => rows.push(time, &zero, &value, &out),
            None if interpolation == "STEP" => rows.push(at_once, &zero, &value, &out),
            None => rows.push(time, &key.tangent_in.to_array(), &value, &out),
        }
    }
    Some(if interpolation == "CUBICSPLINE" { rows.cubic() } else { rows.plain(interpolation) })
}

/// The same keys, each on the side of the one before.
fn signed(keys: &[QuaternionKey]) -> Vec<QuaternionKey> {
    let mut last: Option<DQuat> = None;
    let turned = keys.iter().map(|key| {
        let flips = last.is_some_and(|last| last.dot(key.value) < 0.0);
        let sign = if flips { -1.0 } else { 1.0 };
        let by = |v: DVec4| v * sign;
        let value = if flips { -key.value } else { key.value };
        last = Some(value);
        QuaternionKey { value, tangent_in: by(key.tangent_in), tangent_out: by(key.tangent_out), ..*key }
    });
    turned.collect()
}
