//! Unbake: samples become sparse curves within a bound that is measured on the result.

use glam::{DQuat, DVec3};
use rayon::prelude::*;

use super::Tolerance;
use super::channel::Bookkeeper;
use crate::address::Addresses;
use crate::controller::{Controller, EulerCurves, SampleKind, Samples};
use crate::curve::{Cursor, Curve, Interpolation, Key};
use crate::fit::{FittedKey, precision_of, unbaked};
use crate::ledger::{Entry, Fate, Ledger, MeasuredError};
use crate::rig::OpValue;
use crate::rotation::{RotationOrder, angle_between, nearest_euler, quat_from_euler};
use crate::scene::{PropertyKind, Scene, Take, Track};
use crate::time::FrameRate;
use crate::value::{Quantity, Value};

/// How to unbake.
#[derive(Clone, Copy, Debug, Default)]
pub struct UnbakeOptions {
    /// How far the result may be from the samples.
    pub tolerance: Tolerance,
}

/// Turns the samples of all takes into curves; all other tracks stay as they are.
///
/// Rotations become Euler curves: Euler samples keep their order, quaternions get that of their node. Each key
/// lies on a sample. The error at the samples is within the tolerance: for rotations the angle between sample and
/// result, for positions the distance. Channels are worked on in parallel in the current thread pool; the result is
/// the same for any number of threads.
pub fn unbake(scene: &Scene, options: &UnbakeOptions) -> (Scene, Ledger) {
    let addresses = Addresses::new(scene);
    let mut ledger = Ledger::default();
    let mut result = scene.clone();
    for (take, out) in scene.takes.iter().zip(&mut result.takes) {
        let tracks: Vec<(usize, &Track)> = take.tracks().collect();
        let job = Job { scene, take, addresses: &addresses, options };
        let done: Vec<(usize, Option<Track>, Entry)> =
            tracks.into_par_iter().map(|(layer, track)| job.track(layer, track)).collect();
        for layer in &mut out.layers {
            layer.tracks.clear();
        }
        for (layer, track, entry) in done {
            out.layers[layer].tracks.extend(track);
            ledger.entries.push(entry);
        }
    }
    (result, ledger)
}

struct Job<'a> {
    scene: &'a Scene,
    take: &'a Take,
    addresses: &'a Addresses,
    options: &'a UnbakeOptions,
}

impl Job<'_> {
    fn track(&self, layer: usize, track: &Track) -> (usize, Option<Track>, Entry) {
        let books = Bookkeeper { addresses: self.addresses, take: self.take };
        let rig = &self.scene.rigs[track.target.rig];
        let kind = rig.property_kind(track.target.node, &track.target.property);
        let rest = rig.rest_value(track.target.node, &track.target.property);
        let (Controller::Samples(samples), Some(kind), Some(rest)) = (&track.controller, kind, rest) else {
            return (layer, Some(track.clone()), books.kept(layer, track));
        };
        let quantity = kind.quantity();
        let tolerance = self.options.tolerance.of(quantity, &self.scene.space);
        let order = match rig.node(track.target.node).and_then(|node| node.op("rotation")).map(|op| op.value)
        {
            Some(OpValue::Rotate { order, .. }) => order,
            _ => RotationOrder::Xyz,
        };
        let Some((controller, error)) = fit_samples(samples, kind, order, tolerance) else {
            let mut entry = books.kept(layer, track);
            entry.note = "matrix samples stay samples: they have no components to fit one by one".into();
            return (layer, Some(track.clone()), entry);
        };
        let is_base = layer == 0;
        let controller = without_rest(controller, is_base.then_some(&rest));
        let after = controller.key_count();
        let entry = books.changed(layer, track, Fate::Refitted, after, Some(self.in_frames(error)), "");
        let is_empty = after == 0;
        let track = (!is_empty).then(|| Track { target: track.target.clone(), controller });
        let entry = if is_empty {
            Entry { note: "does not leave rest: needs no keys".into(), ..entry }
        } else {
            entry
        };
        (layer, track, entry)
    }

    /// The error with its place as a frame of the scene instead of ticks.
    fn in_frames(&self, mut error: MeasuredError) -> MeasuredError {
        error.frame /= self.scene.rate.ticks_per_frame();
        error
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
    Some(match samples.kind {
        SampleKind::Euler(order) => {
            let angles = unwound(order, samples);
            let rotations: Vec<DQuat> = angles.iter().map(|&a| quat_from_euler(order, a)).collect();
            fit_rotation(samples, order, &angles, &rotations, tolerance)
        }
        SampleKind::Quaternion => {
            let rotations: Vec<DQuat> =
                (0..samples.len()).map(|i| DQuat::from_slice(samples.row(i)).normalize()).collect();
            let mut last = DVec3::ZERO;
            let follow = |&q: &DQuat| {
                last = nearest_euler(order, q, last);
                last
            };
            let angles: Vec<DVec3> = rotations.iter().map(follow).collect();
            fit_rotation(samples, order, &angles, &rotations, tolerance)
        }
        SampleKind::Scalar | SampleKind::Vector => fit_components(samples, kind, tolerance),
        SampleKind::Matrix => return None,
    })
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

/// Fits the three angles so that the angle between sampled and fitted rotation stays within the tolerance.
///
/// The error of the rotation is at most √(3 + 2|sin θ|) times the largest error of an angle (θ the middle angle):
/// each angle gets a √3-th, and less where the measured error shows that it needs less.
fn fit_rotation(
    samples: &Samples,
    order: RotationOrder,
    angles: &[DVec3],
    rotations: &[DQuat],
    tolerance: f64,
) -> (Controller, MeasuredError) {
    let channels: [Vec<f64>; 3] = std::array::from_fn(|axis| angles.iter().map(|a| a[axis]).collect());
    let mut share = tolerance / 3_f64.sqrt();
    loop {
        let curves =
            channels.each_ref().map(|channel| curve_through(samples, channel, share, Quantity::Angle).0);
        let error = rotation_error(samples, order, &curves, rotations);
        if error.largest <= tolerance || share < tolerance * 1e-3 {
            return (Controller::Euler(EulerCurves { order, curves }), error);
        }
        share *= 0.98 * (tolerance / error.largest).min(0.98);
    }
}

fn rotation_error(
    samples: &Samples,
    order: RotationOrder,
    curves: &[Curve; 3],
    rotations: &[DQuat],
) -> MeasuredError {
    let mut error = MeasuredError::none(Quantity::Angle);
    let mut cursors = curves.each_ref().map(Cursor::new);
    for (index, rotation) in rotations.iter().enumerate() {
        let time = samples.time(index).as_f64();
        let angles = DVec3::from_array(cursors.each_mut().map(|cursor| cursor.value_at(time).unwrap_or(0.0)));
        error.take(angle_between(*rotation, quat_from_euler(order, angles)), time);
    }
    error
}

/// Fits components one by one; the distance of vectors stays within the tolerance.
fn fit_components(samples: &Samples, kind: PropertyKind, tolerance: f64) -> (Controller, MeasuredError) {
    let width = samples.kind.width();
    let channels: Vec<Vec<f64>> =
        (0..width).map(|c| samples.values.iter().skip(c).step_by(width).copied().collect()).collect();
    let mut share = tolerance / (width as f64).sqrt();
    loop {
        let curves: Vec<Curve> = channels
            .iter()
            .map(|channel| curve_through(samples, channel, share, kind.quantity()).0)
            .collect();
        let mut error = MeasuredError::none(kind.quantity());
        let mut cursors: Vec<Cursor<'_>> = curves.iter().map(Cursor::new).collect();
        for index in 0..samples.len() {
            let time = samples.time(index).as_f64();
            let squares = cursors.iter_mut().zip(samples.row(index)).map(|(cursor, &sample)| {
                let difference = cursor.value_at(time).unwrap_or(sample) - sample;
                difference * difference
            });
            error.take(squares.sum::<f64>().sqrt(), time);
        }
        if error.largest <= tolerance || share < tolerance * 1e-3 {
            return (Controller::Components(curves), error);
        }
        share *= 0.98 * (tolerance / error.largest).min(0.98);
    }
}

/// A curve through one channel's samples, and whether its keys were recovered.
fn curve_through(samples: &Samples, channel: &[f64], tolerance: f64, quantity: Quantity) -> (Curve, bool) {
    let unit = if quantity == Quantity::Angle { 1_f64.to_radians() } else { 1.0 };
    // A two-hundredth of the tolerance is left for slopes with few digits.
    let (keys, recovered) = unbaked(channel, precision_of(channel, unit), 0.995 * tolerance, &[]);
    let gap = |a: &FittedKey, b: &FittedKey| b.at - a.at;
    let mut made = Vec::with_capacity(keys.len());
    for (index, key) in keys.iter().enumerate() {
        let before = if index > 0 { gap(&keys[index - 1], key) } else { 1.0 };
        let after = keys.get(index + 1).map_or(1.0, |next| gap(key, next));
        // A cubic moves by at most 4/27 of a slope's change times the gap; both ends count.
        let room = 0.005 * tolerance * (27.0 / 8.0) / before.max(after);
        let slope = |slope: f64| match recovered {
            true => slope * samples.rate.fps(),
            false => short_slope(slope, room, samples.rate, quantity),
        };
        let time = match key.at.fract() {
            0.0 => samples.time(key.at as usize),
            _ => samples.start + samples.rate.ticks_at(key.at),
        };
        let new = Key { value_before: key.before, ..Key::new(time, key.value) };
        let new = new.with_interpolation(key.interpolation);
        made.push(if key.slope_in == key.slope_out || keys.len() == 1 {
            new.with_slope(slope(key.slope_out))
        } else {
            new.with_slopes(slope(key.slope_in), slope(key.slope_out))
        });
    }
    if let Some(last) = made.last_mut() {
        last.interpolation = Interpolation::Cubic;
    }
    (Curve::new(made).expect("samples are in order and finite"), recovered)
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
fn without_rest(controller: Controller, rest: Option<&Value>) -> Controller {
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
