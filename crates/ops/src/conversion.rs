//! One controller turned into another type: exactly where that can be, else within a bound that is measured.
//!
//! docs/controllers.md has the table of which is which.

use glam::{DQuat, DVec3};
use nimble_curve_curves::curve::{Curve, Refit, Side, refit};
use nimble_curve_curves::rotation::{
    Conversion, Knot, RotationOrder, RotationPath, angle_between, convert, nearest_euler, to_quaternion_keys,
};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::Value;
use nimble_curve_scene::controller::{Controller, EulerCurves, SampleKind, Samples};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::ledger::{Fate, MeasuredError};
use nimble_curve_scene::scene::PropertyKind;
use thiserror::Error;

mod paths;

pub(super) use self::paths::with_path;
use super::fitting::{fit_quaternions, fit_samples, kept_keys, refit_as_quaternions};
use super::linear::{Sums, with_constants};
use super::sampled_function::{SampledFunction, union_times};

/// What to turn a controller into.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ControllerType {
    /// One value, where nothing moves.
    Constant,
    /// Curves: Euler curves for rotations (in the node's order), a curve a component for anything else.
    Curves,
    /// Quaternion keys for rotations, curves for anything else.
    Quaternion,
    /// Samples at a rate.
    Samples(FrameRate),
}

/// What a controller is on, and how exact its new form has to be.
#[derive(Clone, Debug)]
pub struct ConversionContext {
    /// The property's kind.
    pub kind: PropertyKind,
    /// Its value at rest.
    pub rest: Value,
    /// The largest error: radians, units of the scene, or as it is.
    pub tolerance: f64,
    /// The rate on whose whole frames added keys stand.
    pub rate: FrameRate,
    /// The range within which loops outside the keys are written out.
    pub range: TimeRange,
}

/// A controller in another form.
#[derive(Clone, Debug)]
pub struct ConvertedController {
    /// The controller.
    pub controller: Controller,
    /// Kept, exact (exactly), refitted (within the tolerance) or sampled.
    pub fate: Fate,
    /// The error, where there can be one; its place is in ticks.
    pub error: Option<MeasuredError>,
}

/// Why a controller has no such form.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum NotConvertible {
    /// It moves.
    #[error("it moves, so that it is no constant")]
    Moves,
    /// It holds switches, choices or texts.
    #[error("switches, choices and texts have discrete keys only")]
    Discrete,
    /// It holds matrices.
    #[error("matrices cannot be turned into this")]
    Matrix,
    /// Other layers would mix with it otherwise.
    #[error("its layers would mix otherwise then: flatten them first")]
    Mixed,
    /// Its rounds go on from each other, and have gaps.
    #[error("its rounds go on from each other across gaps")]
    Loops,
    /// There is nothing to evaluate.
    #[error("it has no samples that tell its value")]
    NoValue,
}

/// Turns a controller into another form.
///
/// # Errors
/// [`NotConvertible`], where it has none.
pub fn convert_controller(
    controller: &Controller,
    form: ControllerType,
    setting: &ConversionContext,
) -> Result<ConvertedController, NotConvertible> {
    match (controller, setting.kind) {
        (Controller::Discrete(_), _) | (_, PropertyKind::Discrete) => return Err(NotConvertible::Discrete),
        (_, PropertyKind::Matrix) if !matches!(form, ControllerType::Samples(_)) => {
            return Err(NotConvertible::Matrix);
        }
        _ => {}
    }
    if let Controller::Procedural(procedural) = controller {
        let sampled = procedural.sampled.as_ref().ok_or(NotConvertible::NoValue)?;
        let changed = convert_controller(sampled, form, setting)?;
        // What it came to is no longer what it was.
        return Ok(ConvertedController { fate: changed.fate.max(Fate::Exact), ..changed });
    }
    if is_already(controller, form, setting) {
        let controller = controller.clone();
        return Ok(ConvertedController { controller, fate: Fate::Kept, error: None });
    }
    match form {
        ControllerType::Constant => constant(controller, setting),
        ControllerType::Samples(rate) => samples(controller, rate, setting),
        ControllerType::Quaternion if setting.kind == PropertyKind::Rotation => {
            quaternion(controller, setting)
        }
        ControllerType::Curves if setting.kind == PropertyKind::Rotation => euler(controller, setting),
        ControllerType::Curves | ControllerType::Quaternion => curves(controller, setting),
    }
}

fn is_already(controller: &Controller, form: ControllerType, setting: &ConversionContext) -> bool {
    let is_rotation = setting.kind == PropertyKind::Rotation;
    match (controller, form) {
        (Controller::Constant(_), ControllerType::Constant)
        | (Controller::Quaternion(_), ControllerType::Quaternion) => true,
        (Controller::Euler(euler), ControllerType::Curves) => euler.order == setting.order(),
        (Controller::Components(_), ControllerType::Curves) => true,
        (Controller::Components(_), ControllerType::Quaternion) => !is_rotation,
        (Controller::Samples(samples), ControllerType::Samples(rate)) => samples.rate == rate,
        _ => false,
    }
}

impl ConversionContext {
    /// The order of the angles at rest; xyz where the rotation at rest is a quaternion.
    pub(super) fn order(&self) -> RotationOrder {
        match self.rest {
            Value::Euler { order, .. } => order,
            _ => RotationOrder::Xyz,
        }
    }

    fn trace<'a>(&self, controller: &'a Controller) -> Result<SampledFunction<'a>, NotConvertible> {
        let sampler =
            Sampler::new(controller, self.kind, self.rest.clone()).map_err(|_| NotConvertible::NoValue)?;
        Ok(SampledFunction::of_controller(sampler))
    }

    fn times(&self, controller: &Controller) -> Vec<Ticks> {
        // Between the samples in a stack nothing is known: it is looked at where they are.
        let samples = match controller {
            Controller::Samples(_) => None,
            other => other.samples(),
        };
        let sampled = samples.into_iter().flat_map(|s| (0..s.len()).map(|index| s.time(index)));
        union_times(std::iter::once(controller), sampled, self.range)
    }
}

fn exact(controller: Controller) -> ConvertedController {
    ConvertedController { controller, fate: Fate::Exact, error: None }
}

fn constant(
    controller: &Controller,
    setting: &ConversionContext,
) -> Result<ConvertedController, NotConvertible> {
    let trace = setting.trace(controller)?;
    let range = controller.range().map_or(setting.range, |own| own.union(setting.range));
    let start = range.first.as_f64();
    let still = match Sums::of_controller(controller, setting.kind, &setting.rest) {
        Some(sums) => sums.is_constant(),
        // Rotations and eased keys: still where they are at many instants.
        None => {
            let times = setting.times(controller);
            let first = trace.value(start);
            let halves = times.windows(2).map(|pair| 0.5 * (pair[0].as_f64() + pair[1].as_f64()));
            let samples = controller.samples().map_or(0, Samples::len);
            let sampled = (0..samples).filter_map(|index| Some(controller.samples()?.time(index).as_f64()));
            times
                .iter()
                .map(|time| time.as_f64())
                .chain(halves)
                .chain(sampled)
                .all(|t| trace.value(t) == first)
        }
    };
    if still { Ok(exact(Controller::Constant(trace.value(start)))) } else { Err(NotConvertible::Moves) }
}

fn samples(
    controller: &Controller,
    rate: FrameRate,
    setting: &ConversionContext,
) -> Result<ConvertedController, NotConvertible> {
    let range = controller.range().map_or(setting.range, |own| own.union(setting.range));
    sampled(&setting.trace(controller)?, Grid::of(controller.samples(), rate), range, setting)
}

/// Evenly spaced instants.
#[derive(Clone, Copy, Debug)]
pub(super) struct Grid {
    pub rate: FrameRate,
    /// One of them.
    pub through: Ticks,
}

impl Grid {
    /// The whole frames of a rate.
    pub fn whole(rate: FrameRate) -> Grid {
        Grid { rate, through: Ticks::ZERO }
    }

    /// The instants of some samples, where they have this rate; else its whole frames.
    pub fn of(samples: Option<&Samples>, rate: FrameRate) -> Grid {
        match samples.filter(|samples| samples.rate == rate) {
            Some(samples) => Grid { rate, through: samples.start },
            None => Grid::whole(rate),
        }
    }
}

/// Samples of a traced function at the instants of a grid that cover a range.
pub(super) fn sampled(
    trace: &SampledFunction<'_>,
    grid: Grid,
    range: TimeRange,
    setting: &ConversionContext,
) -> Result<ConvertedController, NotConvertible> {
    let Grid { rate, through } = grid;
    let first = rate.frame(range.first - through).floor() as i64;
    let last = rate.frame(range.last - through).ceil() as i64;
    let mut all: Vec<Value> =
        (first..=last).map(|frame| trace.value((through + rate.ticks(frame)).as_f64())).collect();
    // Where a layer counts for nothing, or a curve has no value, what is left may be angles among turns.
    of_one_type(&mut all);
    let kind = match all.first() {
        Some(Value::Number(_)) | None => SampleKind::Number,
        Some(Value::Vector(_)) => SampleKind::Vector,
        Some(Value::Euler { order, .. }) => SampleKind::Euler(*order),
        Some(Value::Quaternion(_)) => SampleKind::Quaternion,
        Some(Value::Matrix(_)) => SampleKind::Matrix,
        Some(Value::Discrete(_)) => return Err(NotConvertible::Discrete),
    };
    let mut values = Vec::with_capacity(all.len() * kind.width());
    for value in &all {
        push_numbers(value, &mut values);
    }
    let made = Controller::Samples(Samples { start: through + rate.ticks(first), rate, kind, values });
    let halves =
        (first * 2..=last * 2).map(|half| through.as_f64() + half as f64 * 0.5 * rate.ticks_per_frame());
    let error = difference(trace, &setting.trace(&made)?, setting, halves);
    Ok(ConvertedController { controller: made, fate: Fate::Sampled, error: Some(error) })
}

/// Adds the numbers of a value to a row.
fn push_numbers(value: &Value, row: &mut Vec<f64>) {
    match value {
        Value::Number(number) => row.push(*number),
        Value::Vector(v) | Value::Euler { angles: v, .. } => row.extend(v.to_array()),
        Value::Quaternion(q) => row.extend(q.to_array()),
        Value::Matrix(m) => row.extend(m.to_cols_array()),
        Value::Discrete(_) => {}
    }
}

/// The largest difference of two functions at some times: the angle of rotations, the distance of anything else.
fn difference(
    a: &SampledFunction<'_>,
    b: &SampledFunction<'_>,
    setting: &ConversionContext,
    times: impl Iterator<Item = f64>,
) -> MeasuredError {
    let mut error = MeasuredError::none(setting.kind.quantity());
    for time in times {
        let (x, y) = (a.value(time), b.value(time));
        let distance = match (x.rotation(), y.rotation()) {
            (Some(x), Some(y)) => angle_between(x, y),
            _ => {
                let (x, y) = (x.numbers().unwrap_or_default(), y.numbers().unwrap_or_default());
                x.iter().zip(&y).map(|(x, y)| (x - y) * (x - y)).sum::<f64>().sqrt()
            }
        };
        error.take(distance, time);
    }
    error
}

/// Samples are fitted, not traced: there is nothing between them.
fn fitted(
    controller: &Controller,
    setting: &ConversionContext,
    tolerance: f64,
) -> Option<(Controller, MeasuredError)> {
    match controller {
        Controller::Samples(samples) => fit_samples(samples, setting.kind, setting.order(), tolerance),
        _ => None,
    }
}

fn curves(
    controller: &Controller,
    setting: &ConversionContext,
) -> Result<ConvertedController, NotConvertible> {
    if let Some((controller, error)) = fitted(controller, setting, setting.tolerance) {
        return Ok(ConvertedController { controller, fate: Fate::Refitted, error: Some(error) });
    }
    let sums = Sums::of_controller(controller, setting.kind, &setting.rest);
    let summed: Option<Vec<Curve>> =
        sums.as_ref().and_then(|sums| sums.numbers.iter().map(|number| number.curve()).collect());
    if let (Some(sums), Some(mut curves)) = (&sums, summed) {
        let offsets: Vec<f64> = sums.numbers.iter().map(|number| number.offset).collect();
        let rest = setting.rest.numbers();
        with_constants(&mut curves, &offsets, rest.as_deref(), setting.range.first);
        return Ok(exact(Controller::Components(curves)));
    }
    let trace = setting.trace(controller)?;
    let times = setting.times(controller);
    if controller.key_times(setting.range).is_empty() && controller.samples().is_some() {
        // A stack over samples and nothing else.
        let rate = controller.samples().map_or(setting.rate, |samples| samples.rate);
        return curves(&samples(controller, rate, setting)?.controller, setting);
    }
    refitted_numbers(&trace, &times, setting, sums.as_ref())
}

/// Curves through a traced function with keys at `times` and more where they are needed; components that are exact sums
/// of curves are those sums.
pub(super) fn refitted_numbers(
    trace: &SampledFunction<'_>,
    times: &[Ticks],
    setting: &ConversionContext,
    sums: Option<&Sums>,
) -> Result<ConvertedController, NotConvertible> {
    let rest = setting.rest.numbers().ok_or(NotConvertible::Discrete)?;
    let share = setting.tolerance / (rest.len() as f64).sqrt();
    let mut made = Vec::with_capacity(rest.len());
    for (component, &rest) in rest.iter().enumerate() {
        if let Some(sum) = sums.map(|sums| &sums.numbers[component])
            && let Some(curve) = sum.curve()
        {
            let at_rest = curve.is_empty() && sum.offset == rest;
            let constant = curve.is_empty() && !at_rest;
            made.push(if constant { Curve::constant(setting.range.first, sum.offset) } else { curve });
            continue;
        }
        let options = Refit { tolerance: share, rate: Some(setting.rate) };
        let value = |time| trace.component(component, time);
        let at = |time, side| trace.number(component, time, side);
        let (curve, ..) = refit(times, value, at, options);
        made.push(curve.thinned());
    }
    let made = Controller::Components(made);
    let error = difference(trace, &setting.trace(&made)?, setting, looks(times, setting));
    Ok(ConvertedController { controller: made, fate: Fate::Refitted, error: Some(error) })
}

/// A rotation path as Euler curves, or as quaternion keys where the rotation at rest is a quaternion.
pub(super) fn refitted_rotation(
    path: &impl RotationPath,
    knots: &[Knot],
    start: DVec3,
    setting: &ConversionContext,
) -> ConvertedController {
    let (controller, error) = match setting.rest {
        Value::Quaternion(_) => {
            let made = to_quaternion_keys(path, knots, setting.tolerance, setting.rate);
            (Controller::Quaternion(made.curve), made.error)
        }
        _ => {
            let order = setting.order();
            let conversion = Conversion::new(order, setting.tolerance, setting.rate, start);
            let made = convert(path, knots, &conversion);
            (Controller::Euler(EulerCurves { order, curves: made.curves }), made.error)
        }
    };
    ConvertedController { controller, fate: Fate::Refitted, error: Some(error) }
}

/// Where a refitted controller is compared: at sixteenths of frames between the first and the last key.
fn looks(times: &[Ticks], setting: &ConversionContext) -> impl Iterator<Item = f64> + use<> {
    let step = setting.rate.ticks_per_frame() / 16.0;
    let (first, last) = match times {
        [first, .., last] => (first.as_f64(), last.as_f64()),
        [only] => (only.as_f64(), only.as_f64()),
        [] => (0.0, -1.0),
    };
    (0..).map(move |index| first + f64::from(index) * step).take_while(move |&time| time <= last)
}

fn euler(
    controller: &Controller,
    setting: &ConversionContext,
) -> Result<ConvertedController, NotConvertible> {
    if let Some((controller, error)) = fitted(controller, setting, setting.tolerance) {
        return Ok(ConvertedController { controller, fate: Fate::Refitted, error: Some(error) });
    }
    let order = setting.order();
    if let Some(sums) = Sums::of_controller(controller, setting.kind, &setting.rest)
        && sums.order == Some(order)
        && let Some(mut made) = sums.numbers.iter().map(|number| number.curve()).collect::<Option<Vec<_>>>()
    {
        let offsets: Vec<f64> = sums.numbers.iter().map(|number| number.offset).collect();
        let rest = setting.rest.numbers();
        with_constants(&mut made, &offsets, rest.as_deref(), setting.range.first);
        let curves: [Curve; 3] = std::array::from_fn(|axis| std::mem::take(&mut made[axis]));
        return Ok(exact(Controller::Euler(EulerCurves { order, curves })));
    }
    if let Controller::Constant(value) = controller {
        let rotation = value.rotation().ok_or(NotConvertible::NoValue)?;
        let angles = nearest_euler(order, rotation, DVec3::ZERO);
        let curves = angles.to_array().map(|angle| Curve::constant(setting.range.first, angle));
        return Ok(exact(Controller::Euler(EulerCurves { order, curves })));
    }
    with_path(controller, setting, |path, knots| {
        let start = match (setting.trace(controller)?.value(knots[0].time.as_f64()), &setting.rest) {
            (Value::Euler { angles, .. }, _) => angles,
            (_, Value::Euler { angles, .. }) => *angles,
            _ => DVec3::ZERO,
        };
        let setting =
            ConversionContext { rest: Value::Euler { order, angles: DVec3::ZERO }, ..setting.clone() };
        Ok(refitted_rotation(&path, knots, start, &setting))
    })
}

fn quaternion(
    controller: &Controller,
    setting: &ConversionContext,
) -> Result<ConvertedController, NotConvertible> {
    if let Controller::Samples(samples) = controller {
        let (controller, error) =
            fit_quaternions(samples, setting.tolerance).ok_or(NotConvertible::NoValue)?;
        return Ok(ConvertedController { controller, fate: Fate::Refitted, error: Some(error) });
    }
    if let Controller::Constant(value) = controller {
        let rotation = value.rotation().ok_or(NotConvertible::NoValue)?;
        return Ok(exact(Controller::Constant(Value::Quaternion(rotation))));
    }
    with_path(controller, setting, |path, knots| Ok(quaternion_keys(controller, &path, knots, setting)))
}

/// A controller's rotations, as those of a path with some knots, as quaternion keys. Where a fit chose the keys of its angles,
/// others are fitted.
pub(super) fn quaternion_keys(
    controller: &Controller,
    path: &impl RotationPath,
    knots: &[Knot],
    setting: &ConversionContext,
) -> ConvertedController {
    let refitted = || {
        let Controller::Euler(euler) = controller else { return None };
        let held = euler.curves.iter().all(|curve| curve.is_held_outside() && curve.inner_loop().is_none());
        let kept = kept_keys(euler).filter(|_| held)?;
        refit_as_quaternions(|time| path.rotation(time, Side::Right), setting.rate, setting.tolerance, &kept)
    };
    let (curve, error) = refitted().unwrap_or_else(|| {
        let made = to_quaternion_keys(path, knots, setting.tolerance, setting.rate);
        (made.curve, made.error)
    });
    ConvertedController {
        controller: Controller::Quaternion(curve),
        fate: Fate::Refitted,
        error: Some(error),
    }
}

/// Values of one type: where some are angles and some turns, all become turns.
pub(super) fn of_one_type(values: &mut [Value]) {
    let kinds = |value: &Value| match value {
        Value::Euler { order, .. } => Some(Some(*order)),
        Value::Quaternion(_) => Some(None),
        _ => None,
    };
    let mut all = values.iter().filter_map(kinds);
    let Some(first) = all.next() else { return };
    if all.all(|kind| kind == first) {
        return;
    }
    let mut last: Option<DQuat> = None;
    for value in values.iter_mut() {
        if let Some(rotation) = value.rotation() {
            let rotation =
                if last.is_some_and(|last| last.dot(rotation) < 0.0) { -rotation } else { rotation };
            last = Some(rotation);
            *value = Value::Quaternion(rotation);
        }
    }
}

#[cfg(test)]
mod tests {
    use nimble_curve_curves::rotation::quat_from_euler;

    use super::*;

    #[test]
    fn values_of_two_types_become_turns_on_one_side() {
        let angles = glam::DVec3::new(0.1, 0.2, 0.3);
        let mut mixed = [
            Value::Quaternion(-quat_from_euler(RotationOrder::Xyz, angles)),
            Value::Euler { order: RotationOrder::Xyz, angles },
        ];
        of_one_type(&mut mixed);
        assert_eq!(mixed[0], mixed[1]);
    }
}
