//! One track's samples and the curves through them, within a bound that is measured.

use std::cell::OnceCell;

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Interpolation, Key, Tangent};
use nimble_curve_curves::fit::{
    FittedKey, Handles, Origin, Readings, Recovery, Unbaked, fit, fit_dense, precision_of, recover,
    unbaked_from,
};
use nimble_curve_curves::rotation::{RotationOrder, nearest_euler, quat_from_euler};
use nimble_curve_curves::time::{FrameRate, Ticks};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::ledger::MeasuredError;
use nimble_curve_scene::scene::PropertyKind;

use self::measure::FittedChannel;
use self::rotation::{Rotation, SaidBy};
use self::sharing::{Errors, Shares, budget};

mod leaps;
mod measure;
mod refit;
mod rotation;
mod shared;
mod sharing;

pub(super) use self::leaps::LEAP;
pub(super) use self::refit::{Kept, Refitted, kept_keys, kept_of, refit_as_quaternions, refit_rotation};

/// One track's samples, component by component.
#[derive(Clone, Debug)]
pub(super) struct Fitting {
    start: Ticks,
    rate: FrameRate,
    channels: Vec<Vec<f64>>,
    quantity: Quantity,
    /// For rotations: the rotations themselves, and what the channels are of them.
    rotation: Option<Rotation>,
    /// For angles that are fitted one by one, as they are: their order.
    angles_of: Option<RotationOrder>,
    pub tolerance: f64,
    /// The part of the tolerance that holds at each sample, where that is not all of it everywhere.
    pub parts: Option<Vec<f64>>,
    /// Whether keys are fitted as well where they can be recovered, and the fewer are taken.
    fewest: bool,
    /// Whether each channel is held to the tolerance by itself.
    per_channel: bool,
    /// Keys are on every so many samples. Where these lie so close, nothing is to be recovered, and little lies between them.
    stride: usize,
}

/// Curves through samples.
#[derive(Clone, Debug)]
pub(super) struct Fitted {
    pub controller: Controller,
    /// At the samples; its place is in ticks.
    pub error: MeasuredError,
    /// Where the keys of the channels that move come from.
    pub origin: Origin,
}

impl Fitting {
    /// The same; whether keys are fitted as well where they can be recovered, and the fewer are taken.
    pub fn fewest(self, fewest: bool) -> Fitting {
        Fitting { fewest, ..self }
    }

    /// The same with keys on every so many samples, which lie close.
    pub fn every(self, stride: usize) -> Fitting {
        Fitting { stride, ..self }
    }

    /// The same; whether each channel is held to the tolerance by itself.
    pub fn per_channel(self, per_channel: bool) -> Fitting {
        Fitting { per_channel, ..self }
    }

    /// A track's samples; rotations become angles of `order`, Euler samples of their own where none is given. `None` for
    /// matrices, and where there are no samples.
    pub fn new(
        samples: &Samples,
        kind: PropertyKind,
        node_order: RotationOrder,
        order: Option<RotationOrder>,
        tolerance: f64,
    ) -> Option<Fitting> {
        if samples.is_empty() {
            return None;
        }
        let rows = || (0..samples.len()).map(|index| samples.row(index));
        let by_component = |width: usize| -> Vec<Vec<f64>> {
            (0..width).map(|c| rows().map(|row| row[c]).collect()).collect()
        };
        let of_angles = |order: RotationOrder, angles: Vec<DVec3>, rotations: Vec<DQuat>| {
            let channels = (0..3).map(|axis| angles.iter().map(|a| a[axis]).collect()).collect();
            (channels, Some(Rotation { said_by: SaidBy::Angles(order), turns: rotations }))
        };
        let (channels, rotation) = match samples.kind {
            SampleKind::Euler(own) => {
                let angles = unwound(own, samples);
                let rotations: Vec<DQuat> = angles.iter().map(|&a| quat_from_euler(own, a)).collect();
                match order.filter(|&order| order != own) {
                    Some(order) => of_angles(order, followed(order, &rotations, angles[0]), rotations),
                    None => of_angles(own, angles, rotations),
                }
            }
            SampleKind::Quaternion => {
                let rotations: Vec<DQuat> = rows().map(|row| DQuat::from_slice(row).normalize()).collect();
                let order = order.unwrap_or(node_order);
                of_angles(order, followed(order, &rotations, DVec3::ZERO), rotations)
            }
            SampleKind::Number => (by_component(1), None),
            SampleKind::Vector => (by_component(3), None),
            SampleKind::Matrix => return None,
        };
        let quantity = if rotation.is_some() { Quantity::Angle } else { kind.quantity() };
        Some(Fitting {
            fewest: false,
            stride: 1,
            per_channel: false,
            start: samples.start,
            rate: samples.rate,
            channels,
            quantity,
            rotation,
            angles_of: None,
            tolerance,
            parts: None,
        })
    }

    /// The same rotations by the components of quaternions, whose keys are common; anything else as it is.
    pub fn by_components(mut self) -> Fitting {
        let Some(rotation) = &mut self.rotation else { return self };
        let (turns, middle) = rotation::of_one_sign(&rotation.turns);
        let own: Vec<DQuat> = turns.iter().map(|turn| middle.conjugate() * *turn).collect();
        self.channels = (0..4).map(|c| own.iter().map(|turn| turn.to_array()[c]).collect()).collect();
        *rotation = Rotation { said_by: SaidBy::Components(middle), turns };
        Fitting { quantity: Quantity::Angle, per_channel: false, ..self }
    }

    /// Whether channels are components of quaternions.
    fn is_quaternion(&self) -> bool {
        matches!(&self.rotation, Some(Rotation { said_by: SaidBy::Components(_), .. }))
    }

    /// Angles that are added to others one by one, or that others are added to: each is bounded by itself, and none goes to
    /// another solution of the same rotation, which would add up to another one. `None` for anything but angles.
    pub fn one_by_one(samples: &Samples, tolerance: f64) -> Option<Fitting> {
        let SampleKind::Euler(order) = samples.kind else { return None };
        if samples.is_empty() {
            return None;
        }
        let column = |axis: usize| (0..samples.len()).map(|index| samples.row(index)[axis]).collect();
        Some(Fitting {
            fewest: false,
            stride: 1,
            per_channel: false,
            start: samples.start,
            rate: samples.rate,
            channels: vec![column(0), column(1), column(2)],
            quantity: Quantity::Angle,
            rotation: None,
            angles_of: Some(order),
            // The angle of the whole is at most the sum of the three: √3 times their distance.
            tolerance: tolerance / 3_f64.sqrt(),
            parts: None,
        })
    }

    /// Whether angles are fitted one by one, in the order that they are in.
    pub fn is_one_by_one(&self) -> bool {
        self.angles_of.is_some()
    }

    /// Whether two tracks were sampled at the same instants.
    pub fn is_alongside(&self, other: &Fitting) -> bool {
        (self.start, self.rate, self.len()) == (other.start, other.rate, other.len())
    }

    pub fn len(&self) -> usize {
        self.channels[0].len()
    }

    /// The samples nearest to some instants, each once.
    pub fn indices(&self, times: &[Ticks]) -> Vec<usize> {
        let index = |time: &Ticks| self.rate.nearest_frame(*time - self.start);
        let mut found: Vec<usize> = times
            .iter()
            .map(index)
            .filter(|&index| 0 <= index && index < self.len() as i64)
            .map(|index| index as usize)
            .collect();
        found.sort_unstable();
        found.dedup();
        found
    }

    /// Leaves no more room at each sample than some, in the unit of the tolerance; whether that changes anything.
    pub fn confine(&mut self, room: Vec<f64>) -> bool {
        let tolerance = self.tolerance;
        let parts = Some(room.into_iter().map(|room| (room / tolerance).min(1.0)).collect());
        let changes = parts != self.parts;
        self.parts = parts;
        changes
    }

    fn tolerance_at(&self, index: usize) -> f64 {
        self.parts.as_ref().map_or(self.tolerance, |parts| parts[index] * self.tolerance)
    }

    /// The tolerance that holds at all samples.
    pub fn least_tolerance(&self) -> f64 {
        let least = self.parts.iter().flatten().copied().fold(1.0, f64::min);
        least * self.tolerance
    }

    /// How many channels ever change.
    fn moving(&self) -> usize {
        self.channels.iter().filter(|channel| moves(channel)).count()
    }

    /// Curves of which each channel has key times of its own.
    ///
    /// The channels share the tolerance: they are fitted one after another, each with the room that those before it have
    /// left at each sample and halfway after it. What is measured has the last word.
    pub fn free(&self, keep: &[Ticks], handles: Handles) -> Fitted {
        if self.is_quaternion() {
            return Fitting::shared(&[self], keep).swap_remove(0);
        }
        let keep = self.indices(keep);
        let mut shares = Shares::whole();
        // Whatever the room is.
        let recoveries = self.channels.iter().map(|_| OnceCell::new()).collect::<Vec<_>>();
        loop {
            let channels = self.one_after_another(&shares, &keep, handles, &recoveries);
            let measured = self.measure(&channels);
            if !shares.shrink(&measured) {
                let origins =
                    || channels.iter().filter(|channel| channel.moves).map(|channel| channel.origin);
                let origin = match (origins().min(), origins().max()) {
                    (Some(least), Some(most)) if least != most => Origin::Partly,
                    (Some(all), _) => all,
                    (None, _) => Origin::Fitted,
                };
                let curves = channels.into_iter().map(|channel| channel.curve).collect();
                return Fitted { controller: self.controller(curves), error: measured.error, origin };
            }
        }
    }

    /// Curves of all channels, that together stay within a part of the tolerance but for what is not linear in it.
    /// What was recovered from each of them stays to be used again.
    fn one_after_another(
        &self,
        shares: &Shares,
        keep: &[usize],
        handles: Handles,
        recoveries: &[OnceCell<Option<Recovery>>],
    ) -> Vec<FittedChannel> {
        let part = shares.part;
        let still = |samples: &Vec<f64>| FittedChannel {
            curve: Curve::constant(self.start, samples[0]),
            moves: false,
            origin: Origin::Recovered,
            readings: Readings::default(),
            fitted: Vec::new(),
        };
        let mut channels: Vec<FittedChannel> = self.channels.iter().map(still).collect();
        let moving = self.moving();
        let mut errors = Errors::new(self);
        // Those with the most to gain come last.
        let mut order: Vec<(f64, usize)> = self
            .channels
            .iter()
            .enumerate()
            .filter(|(_, samples)| moves(samples))
            .map(|(channel, samples)| (bending(samples), channel))
            .collect();
        order.sort_by(|a, b| a.0.total_cmp(&b.0));
        for (nth, (_, channel)) in order.into_iter().enumerate() {
            let samples = &self.channels[channel];
            let readings = shares.readings(channel, samples);
            // A two-hundredth of the tolerance is left for slopes with few digits.
            let own = if self.per_channel { 1.0 } else { budget(nth + 1, moving) };
            let room = errors.room_of(channel, 0.995 * part * own);
            let room = room.with_readings(&readings, samples);
            let mut found = match self.stride {
                1 => {
                    let recovered = recoveries[channel].get_or_init(|| match keep {
                        [] => recover(samples, self.precision_of(channel), handles),
                        _ => None,
                    });
                    unbaked_from(samples, recovered.as_ref(), room, keep, handles)
                }
                stride => {
                    let keys = fit_dense(samples, room, keep, stride);
                    Unbaked { keys, origin: Origin::Fitted, fitted: vec![(0, samples.len() - 1)] }
                }
            };
            if self.fewest && found.origin != Origin::Fitted {
                let keys = fit(samples, room, keep, handles);
                if keys.len() < found.keys.len() {
                    found = Unbaked { keys, origin: Origin::Fitted, fitted: vec![(0, samples.len() - 1)] };
                }
            }
            let Unbaked { keys, origin, fitted } = found;
            let curve = self.curve(&keys, part * self.least_tolerance(), &fitted);
            channels[channel] = FittedChannel { curve, moves: true, origin, readings, fitted };
            if nth + 1 < moving && !self.per_channel {
                errors.take(channel, &channels[channel]);
            }
        }
        channels
    }

    fn controller(&self, curves: Vec<Curve>) -> Controller {
        let order = match self.rotation.as_ref().map(|rotation| rotation.said_by) {
            Some(SaidBy::Components(from)) => {
                let curves = <[Curve; 4]>::try_from(curves).expect("a quaternion has four components");
                return Controller::Quaternion(rotation::quaternion_keys(from, &curves));
            }
            Some(SaidBy::Angles(order)) => Some(order),
            None => self.angles_of,
        };
        match (order, <[Curve; 3]>::try_from(curves)) {
            (Some(order), Ok(curves)) => Controller::Euler(EulerCurves { order, curves }),
            (_, Ok(curves)) => Controller::Components(curves.into()),
            (_, Err(curves)) => Controller::Components(curves),
        }
    }

    /// The rounding that a channel's samples show.
    fn precision_of(&self, channel: usize) -> f64 {
        let unit = if self.quantity == Quantity::Angle { 1_f64.to_radians() } else { 1.0 };
        precision_of(&self.channels[channel], unit)
    }

    fn curve(&self, keys: &[FittedKey], tolerance: f64, fitted: &[(usize, usize)]) -> Curve {
        let last = self.len() - 1;
        let is_whole = fitted.first() == Some(&(0, last));
        let is_fitted = |at: f64| {
            let within = |&(from, to): &(usize, usize)| from as f64 <= at && at <= to as f64;
            let inside = |&(from, to): &(usize, usize)| (from as f64) < at && at < to as f64;
            if is_whole { fitted.iter().any(within) } else { fitted.iter().any(inside) }
        };
        let gap = |a: &FittedKey, b: &FittedKey| b.at - a.at;
        let mut made = Vec::with_capacity(keys.len());
        // Where a loop has one slope at both ends, it keeps the same digits.
        let is_loop = keys.len() > 2 && keys[0].slope_out == keys[keys.len() - 1].slope_in;
        let end_gap =
            is_loop.then(|| gap(&keys[0], &keys[1]).max(gap(&keys[keys.len() - 2], &keys[keys.len() - 1])));
        for (index, key) in keys.iter().enumerate() {
            let before = if index > 0 { gap(&keys[index - 1], key) } else { 1.0 };
            let after = keys.get(index + 1).map_or(1.0, |next| gap(key, next));
            // A cubic moves by at most 4/27 of a slope's change times the gap; both ends count.
            let is_end = index == 0 || index + 1 == keys.len();
            let longest = end_gap.filter(|_| is_end).unwrap_or(before.max(after));
            let room = 0.005 * tolerance * (27.0 / 8.0) / longest;
            let slope = |slope: f64| match is_whole {
                false => slope * self.rate.fps(),
                true if self.is_quaternion() => slope * self.rate.fps(),
                true => short_slope(slope, room, self.rate, self.quantity),
            };
            let time = match key.at.fract() {
                0.0 => self.start + self.rate.ticks(key.at as i64),
                _ => self.start + self.rate.ticks_at(key.at),
            };
            let new =
                Key { value_before: key.before, fitted: is_fitted(key.at), ..Key::new(time, key.value) };
            let new = new.with_interpolation(key.interpolation);
            let mut new = if key.slope_in == key.slope_out || keys.len() == 1 {
                new.with_slope(slope(key.slope_out))
            } else {
                new.with_slopes(slope(key.slope_in), slope(key.slope_out))
            };
            let handle = |length: f64, slope: f64| {
                Tangent::handle(length * self.rate.ticks_per_frame(), length * slope)
            };
            if let Some(length) = key.handles.0 {
                new.tangent_in = handle(length, key.slope_in);
            }
            if let Some(length) = key.handles.1 {
                new.tangent_out = handle(length, key.slope_out);
            }
            made.push(new);
        }
        if let Some(last) = made.last_mut() {
            last.interpolation = Interpolation::Cubic;
        }
        Curve::new(made).expect("samples are in order and finite")
    }
}

/// Curves through samples, within a tolerance, and the error at the samples with its place in ticks; quaternions become
/// angles of `order`. `None` for matrices.
pub(super) fn fit_samples(
    samples: &Samples,
    kind: PropertyKind,
    order: RotationOrder,
    tolerance: f64,
) -> Option<(Controller, MeasuredError)> {
    // Angles of another order are fitted in the one that is asked for.
    let other = matches!(samples.kind, SampleKind::Euler(own) if own != order).then_some(order);
    let fitted = Fitting::new(samples, kind, order, other, tolerance)?.free(&[], Handles::Plain);
    Some((fitted.controller, fitted.error))
}

/// Quaternion keys through samples of rotations, within a tolerance, and the error at the samples. `None` for others.
pub(super) fn fit_quaternions(samples: &Samples, tolerance: f64) -> Option<(Controller, MeasuredError)> {
    let order = RotationOrder::Xyz;
    let fitting = Fitting::new(samples, PropertyKind::Rotation, order, None, tolerance)?;
    let fitted = fitting.by_components().free(&[], Handles::Plain);
    Some((fitted.controller, fitted.error))
}

/// Whether samples ever change.
fn moves(samples: &[f64]) -> bool {
    samples.iter().any(|v| *v != samples[0])
}

/// How much samples bend: the number of cubics through them goes with the sum of the fourth roots of their fourth
/// differences, here over a few samples, so that noise counts little.
fn bending(samples: &[f64]) -> f64 {
    const STRIDE: usize = 6;
    let fourth =
        |s: &[f64]| s[0] - 4.0 * s[STRIDE] + 6.0 * s[2 * STRIDE] - 4.0 * s[3 * STRIDE] + s[4 * STRIDE];
    samples.windows(4 * STRIDE + 1).step_by(4).map(|window| fourth(window).abs().sqrt().sqrt()).sum()
}

/// Euler samples as one continuous path: no flips between neighbours.
fn unwound(order: RotationOrder, samples: &Samples) -> Vec<DVec3> {
    let mut last: Option<DVec3> = None;
    (0..samples.len())
        .map(|index| {
            let angles = DVec3::from_slice(samples.row(index));
            // Steps of less than a right angle in all three are what they seem; they keep their exact numbers.
            let next = match last {
                Some(last) if (angles - last).abs().max_element() > std::f64::consts::FRAC_PI_2 => {
                    nearest_euler(order, quat_from_euler(order, angles), last)
                }
                _ => angles,
            };
            last = Some(next);
            next
        })
        .collect()
}

/// Rotations as angles of an order, each nearest to the one before.
fn followed(order: RotationOrder, rotations: &[DQuat], near: DVec3) -> Vec<DVec3> {
    let mut last = near;
    let follow = |&q: &DQuat| {
        last = nearest_euler(order, q, last);
        last
    };
    rotations.iter().map(follow).collect()
}

/// A slope per second from one per sample, with as few digits (as people see it) as the room allows.
fn short_slope(per_sample: f64, room: f64, rate: FrameRate, quantity: Quantity) -> f64 {
    let unit = if quantity == Quantity::Angle { 1_f64.to_radians() } else { 1.0 };
    let digits = (-(room / unit).log10()).ceil().clamp(0.0, 15.0);
    let power = 10_f64.powf(digits).round();
    let short = (per_sample / unit * power).round() / power;
    if !short.is_finite() {
        return per_sample * rate.fps();
    }
    match quantity {
        Quantity::Angle => nimble_curve_curves::angle::radians_per_second(short, rate),
        _ => short * rate.fps(),
    }
}

/// Leaves out the keys of components that never leave rest; `rest` is given for the base layer only.
pub(super) fn without_rest(controller: Controller, rest: Option<&Value>) -> Controller {
    let Some(numbers) = rest.and_then(Value::numbers) else { return controller };
    let is_at_rest = |curve: &Curve, rest: f64| matches!(curve.keys(), [only] if only.value == rest);
    let emptied = |curve: Curve, rest: f64| if is_at_rest(&curve, rest) { Curve::default() } else { curve };
    match (controller, rest) {
        (Controller::Components(curves), _) => Controller::Components(
            curves.into_iter().zip(numbers).map(|(curve, rest)| emptied(curve, rest)).collect(),
        ),
        (Controller::Euler(euler), Some(Value::Euler { order, .. })) if *order == euler.order => {
            let [x, y, z] = euler.curves;
            let curves = [emptied(x, numbers[0]), emptied(y, numbers[1]), emptied(z, numbers[2])];
            Controller::Euler(EulerCurves { order: euler.order, curves })
        }
        (other, _) => other,
    }
}
