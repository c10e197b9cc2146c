//! One track's samples and the curves through them, within a bound that is measured.

use glam::{DQuat, DVec3};

use crate::controller::{Controller, EulerCurves, SampleKind, Samples};
use crate::curve::{Cursor, Curve, Interpolation, Key, Tangent};
use crate::evaluate::Sampler;
use crate::fit::{Channel, FittedKey, Handles, Origin, fit_shared, precision_of, unbaked_with};
use crate::ledger::MeasuredError;
use crate::rotation::{RotationOrder, angle_between, nearest_euler, quat_from_euler};
use crate::scene::PropertyKind;
use crate::time::{FrameRate, Ticks};
use crate::value::{Quantity, Value};

/// One track's samples, component by component.
#[derive(Clone, Debug)]
pub(super) struct Fitting {
    start: Ticks,
    rate: FrameRate,
    channels: Vec<Vec<f64>>,
    quantity: Quantity,
    /// For rotations: the order of the angles, and the rotations themselves.
    rotation: Option<(RotationOrder, Vec<DQuat>)>,
    pub tolerance: f64,
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
            (channels, Some((order, rotations)))
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
            SampleKind::Scalar => (by_component(1), None),
            SampleKind::Vector => (by_component(3), None),
            SampleKind::Matrix => return None,
        };
        let quantity = if rotation.is_some() { Quantity::Angle } else { kind.quantity() };
        Some(Fitting { start: samples.start, rate: samples.rate, channels, quantity, rotation, tolerance })
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

    /// How many channels ever change.
    fn moving(&self) -> usize {
        self.channels.iter().filter(|channel| channel.iter().any(|v| *v != channel[0])).count()
    }

    /// The share of the tolerance that a channel gets at first: so much that all together seldom exceed it.
    fn first_share(&self) -> f64 {
        match self.moving() {
            0 | 1 => self.tolerance,
            moving => 1.2 * self.tolerance / (moving as f64).sqrt(),
        }
    }

    /// Curves of which each channel has key times of its own.
    ///
    /// The channels share the tolerance: the error of a rotation is at most √(3 + 2|sin θ|) times the largest error of an
    /// angle (θ the middle one), and the distance of vectors √3 times; the shares shrink where what is measured demands it.
    pub fn free(&self, keep: &[Ticks], handles: Handles) -> Fitted {
        let keep = self.indices(keep);
        let mut share = self.first_share();
        loop {
            let made: Vec<(Curve, Origin)> = self
                .channels
                .iter()
                .map(|channel| self.curve_through(channel, share, &keep, handles))
                .collect();
            let moving = made.iter().filter(|(curve, _)| curve.keys().len() > 1).map(|(_, origin)| *origin);
            let (least, most) = (moving.clone().min(), moving.max());
            let origin = match (least.unwrap_or(Origin::Fitted), most.unwrap_or(Origin::Fitted)) {
                (a, b) if a == b => a,
                _ => Origin::Partly,
            };
            let curves: Vec<Curve> = made.into_iter().map(|(curve, _)| curve).collect();
            let error = self.error(&curves);
            if error.largest <= self.tolerance || share < self.tolerance * 1e-3 {
                return Fitted { controller: self.controller(curves), error, origin };
            }
            share *= 0.98 * (self.tolerance / error.largest).min(0.98);
        }
    }

    /// Curves of several tracks with common key times; the tracks lie alongside.
    pub fn shared(tracks: &[&Fitting], keep: &[Ticks]) -> Vec<Fitted> {
        let Some(first) = tracks.first() else { return Vec::new() };
        let keep = first.indices(keep);
        let mut shares: Vec<f64> = tracks.iter().map(|track| track.first_share()).collect();
        loop {
            let channels: Vec<Channel<'_>> = tracks
                .iter()
                .zip(&shares)
                .flat_map(|(track, &share)| {
                    track.channels.iter().map(move |samples| Channel { samples, tolerance: 0.995 * share })
                })
                .collect();
            let mut keys = fit_shared(&channels, &keep).into_iter();
            let mut fitted = Vec::with_capacity(tracks.len());
            let mut fits = true;
            for (track, share) in tracks.iter().zip(&mut shares) {
                let curves: Vec<Curve> = track
                    .channels
                    .iter()
                    .map(|channel| match channel.iter().all(|v| *v == channel[0]) {
                        true => {
                            keys.next();
                            Curve::constant(track.start, channel[0])
                        }
                        false => track.curve(&keys.next().unwrap_or_default(), *share, false),
                    })
                    .collect();
                let error = track.error(&curves);
                if error.largest > track.tolerance && *share > track.tolerance * 1e-3 {
                    *share *= 0.98 * (track.tolerance / error.largest).min(0.98);
                    fits = false;
                }
                fitted.push(Fitted { controller: track.controller(curves), error, origin: Origin::Fitted });
            }
            if fits {
                return fitted;
            }
        }
    }

    fn controller(&self, curves: Vec<Curve>) -> Controller {
        match (&self.rotation, <[Curve; 3]>::try_from(curves)) {
            (Some((order, _)), Ok(curves)) => Controller::Euler(EulerCurves { order: *order, curves }),
            (_, Ok(curves)) => Controller::Components(curves.into()),
            (_, Err(curves)) => Controller::Components(curves),
        }
    }

    /// The largest error at the samples: the angle of rotations, the distance of vectors.
    fn error(&self, curves: &[Curve]) -> MeasuredError {
        let mut error = MeasuredError::none(self.quantity);
        let mut cursors: Vec<Cursor<'_>> = curves.iter().map(Cursor::new).collect();
        for index in 0..self.len() {
            let time = (self.start + self.rate.ticks(index as i64)).as_f64();
            let mut at = |c: usize| cursors[c].value_at(time).unwrap_or(self.channels[c][index]);
            let size = match &self.rotation {
                Some((order, rotations)) => {
                    let angles = DVec3::new(at(0), at(1), at(2));
                    angle_between(rotations[index], quat_from_euler(*order, angles))
                }
                None => {
                    let squares = (0..self.channels.len()).map(|c| {
                        let difference = at(c) - self.channels[c][index];
                        difference * difference
                    });
                    squares.sum::<f64>().sqrt()
                }
            };
            error.take(size, time);
        }
        error
    }

    /// The largest error of any controller at the samples.
    pub fn error_of(&self, controller: &Controller, kind: PropertyKind, rest: &Value) -> MeasuredError {
        let mut error = MeasuredError::none(self.quantity);
        let Ok(mut sampler) = Sampler::new(controller, kind, rest.clone()) else { return error };
        for index in 0..self.len() {
            let time = (self.start + self.rate.ticks(index as i64)).as_f64();
            if let (Some((_, rotations)), Some(rotation)) =
                (&self.rotation, sampler.value_at(time).rotation())
            {
                error.take(angle_between(rotations[index], rotation), time);
            }
        }
        error
    }

    /// A curve through one channel's samples, and where its keys come from.
    fn curve_through(
        &self,
        channel: &[f64],
        tolerance: f64,
        keep: &[usize],
        handles: Handles,
    ) -> (Curve, Origin) {
        let unit = if self.quantity == Quantity::Angle { 1_f64.to_radians() } else { 1.0 };
        // A two-hundredth of the tolerance is left for slopes with few digits.
        let precision = precision_of(channel, unit);
        let (keys, origin) = unbaked_with(channel, precision, 0.995 * tolerance, keep, handles);
        (self.curve(&keys, tolerance, origin != Origin::Fitted), origin)
    }

    fn curve(&self, keys: &[FittedKey], tolerance: f64, recovered: bool) -> Curve {
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
            let slope = |slope: f64| match recovered {
                true => slope * self.rate.fps(),
                false => short_slope(slope, room, self.rate, self.quantity),
            };
            let time = match key.at.fract() {
                0.0 => self.start + self.rate.ticks(key.at as i64),
                _ => self.start + self.rate.ticks_at(key.at),
            };
            let new = Key { value_before: key.before, ..Key::new(time, key.value) };
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
        Quantity::Angle => crate::angle::radians_per_second(short, rate),
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
