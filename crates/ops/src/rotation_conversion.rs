//! Rotation controllers under another order, or between two constant rotations.

use std::borrow::Cow;
use std::f64::consts::FRAC_PI_2;

use glam::{DQuat, DVec3, DVec4};
use nimble_curve_curves::curve::{Behaviour, Curve, Key, Side};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{
    AngleTolerance, Between, Conversion, EulerPath, Knot, OwnKeys, RotationOrder, RotationPath, Slot,
    convert, exact_way, nearest_euler, other_reading, pole_distance, quat_from_euler,
};
use nimble_curve_curves::time::{FrameRate, Ticks, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::controller::{
    Controller, EulerCurves, Procedural, QuaternionCurve, QuaternionKey, SampleKind, Samples, TcbCurve,
    TcbKey, TcbKeys,
};
use nimble_curve_scene::evaluate::Sampler;
use nimble_curve_scene::ledger::{Fate, MeasuredError};
use nimble_curve_scene::scene::PropertyKind;

use super::channel::keys_added;
use super::fitting::{Refitted, kept_keys, refit_rotation};
use super::sampled_function::SampledFunction;

/// What to make of a rotation: `before · R · after`, in some order.
#[derive(Clone, Copy, Debug)]
pub(super) struct RotationConversion<'a> {
    pub order: RotationOrder,
    pub before: DQuat,
    pub after: DQuat,
    pub tolerance: AngleTolerance<'a>,
    /// Those of its keys; where nothing is said, weighted ones where the source has such, or plain ones need many keys.
    pub handles: Option<Handles>,
    /// What came of the same rotation before, where its tolerance changed since.
    pub cache: Option<Slot<'a>>,
    pub rate: FrameRate,
    /// The range in which loops outside the keys are written out.
    pub range: TimeRange,
    /// Whether what comes of it rests as the source does, and is mixed with nothing else: then an axis that had no keys needs
    /// none, and other angles of the same rotation are as good.
    pub at_home: bool,
}

/// A changed controller and what became of it.
#[derive(Clone, Debug)]
pub(super) struct ConvertedRotation {
    pub controller: Controller,
    pub fate: Fate,
    pub error: Option<MeasuredError>,
    pub note: String,
}

/// Angles of another order than that in which their node rests, or of one that rests as a quaternion: those without keys are zero, and
/// get a key at their first instant, or at `start` where there is none, as under the order of a node they would lie where that rests.
pub(super) fn with_zeros<'c>(controller: &'c Controller, rest: &Value, start: Ticks) -> Cow<'c, Controller> {
    let Controller::Euler(euler) = controller else { return Cow::Borrowed(controller) };
    let is_at_rest = match rest {
        Value::Euler { order, angles } => euler.order == *order || *angles == DVec3::ZERO,
        _ => false,
    };
    if is_at_rest || !euler.curves.iter().any(Curve::is_empty) {
        return Cow::Borrowed(controller);
    }
    let start = controller.range().map_or(start, |range| range.first);
    let filled = |curve: &Curve| if curve.is_empty() { Curve::constant(start, 0.0) } else { curve.clone() };
    let curves = euler.curves.each_ref().map(filled);
    Cow::Owned(Controller::Euler(EulerCurves { order: euler.order, curves }))
}

/// What is said of something that was kept as text, where what it came to is all that goes on.
pub(super) const SAMPLED_ONLY: &str = "as it was sampled: its text would mean something else here";

/// Closer to the pole than this, in radians, the ledger says so.
pub(super) const NEAR_POLE: f64 = 0.175;

impl RotationConversion<'_> {
    fn is_identity(&self) -> bool {
        let same = |q: DQuat| q.w.abs() >= 1.0 - 1e-15 && q.xyz().length() < 1e-12;
        same(self.before) && same(self.after)
    }

    /// The rotation that a rotation at rest becomes.
    pub fn rotation(&self, q: DQuat) -> DQuat {
        self.before * q * self.after
    }

    /// Whether a controller stays the very same on a node that rests like this.
    pub fn keeps(&self, controller: &Controller, rest: &Value) -> bool {
        let is_same = |order: Option<RotationOrder>| order == Some(self.order);
        self.is_identity()
            && matches!(with_zeros(controller, rest, self.range.first), Cow::Borrowed(_))
            && match controller.order() {
                None => !leans_on_rest(controller) || is_same(rest.order()),
                order => is_same(order),
            }
    }

    /// Turns a controller; `None` where its type cannot be turned.
    pub fn apply(&self, controller: &Controller, rest: &Value) -> Option<ConvertedRotation> {
        let made = |controller: Controller, fate| ConvertedRotation {
            controller,
            fate,
            error: None,
            note: String::new(),
        };
        let keeps = self.is_identity();
        let whole = with_zeros(controller, rest, self.range.first);
        let is_whole = matches!(whole, Cow::Borrowed(_));
        let controller = &*whole;
        match controller {
            Controller::Euler(euler) if euler.order == self.order && keeps && is_whole => {
                Some(made(controller.clone(), Fate::Kept))
            }
            Controller::Euler(euler) => Some(self.euler(euler, rest)),
            Controller::Samples(samples) => match samples.kind {
                SampleKind::Euler(order) if order == self.order && keeps => {
                    Some(made(controller.clone(), Fate::Kept))
                }
                SampleKind::Euler(order) => {
                    let rotation = |row: &[f64]| quat_from_euler(order, DVec3::from_slice(row));
                    Some(self.samples(samples, samples.row(0), rotation))
                }
                SampleKind::Quaternion if keeps => Some(made(controller.clone(), Fate::Kept)),
                SampleKind::Quaternion => {
                    let rotation = |row: &[f64]| DQuat::from_slice(row).normalize();
                    Some(self.samples(samples, &[0.0; 3], rotation))
                }
                _ => None,
            },
            Controller::Constant(value) => {
                let near = match value {
                    Value::Euler { angles, .. } => *angles,
                    _ => DVec3::ZERO,
                };
                let angles = nearest_euler(self.order, self.rotation(value.rotation()?), near);
                Some(made(Controller::Constant(Value::Euler { order: self.order, angles }), Fate::Exact))
            }
            Controller::Quaternion(_) | Controller::Tcb(_) if keeps => Some(ConvertedRotation {
                note: "keys that are rotations have no order".into(),
                ..made(controller.clone(), Fate::Kept)
            }),
            Controller::Quaternion(curve) => {
                Some(made(Controller::Quaternion(self.quaternion_keys(curve)), Fate::Exact))
            }
            Controller::Tcb(curve) => match &curve.keys {
                TcbKeys::Rotation(keys) => {
                    let turned = |key: &TcbKey<DQuat>| TcbKey { value: self.rotation(key.value), ..*key };
                    let keys = TcbKeys::Rotation(keys.iter().map(turned).collect());
                    Some(made(Controller::Tcb(TcbCurve { keys, ..*curve }), Fate::Exact))
                }
                _ => None,
            },
            // What comes to the same whatever order the node rests in.
            Controller::Stack(_) | Controller::Procedural(_) if self.keeps(controller, rest) => {
                let note = format!("a {} keeps its own order", controller.type_name());
                Some(ConvertedRotation { note, ..made(controller.clone(), Fate::Kept) })
            }
            Controller::Procedural(Procedural { sampled: Some(sampled), .. }) if !self.is_identity() => {
                let made = self.apply(sampled, rest)?;
                let fate = made.fate.max(Fate::Exact);
                Some(ConvertedRotation { fate, note: SAMPLED_ONLY.to_owned(), ..made })
            }
            Controller::Stack(_) | Controller::Procedural(_) => self.traced(controller, rest),
            Controller::Components(_) | Controller::Discrete(_) => None,
        }
    }

    /// Great arcs, quadrangles and cubics by component go through constant rotations as they are.
    fn quaternion_keys(&self, curve: &QuaternionCurve) -> QuaternionCurve {
        let tangent = |v: DVec4| DVec4::from(self.rotation(DQuat::from_vec4(v)));
        let turned = |key: &QuaternionKey| QuaternionKey {
            value: self.rotation(key.value),
            tangent_in: tangent(key.tangent_in),
            tangent_out: tangent(key.tangent_out),
            ..*key
        };
        QuaternionCurve { keys: curve.keys.iter().map(turned).collect(), ..*curve }
    }

    /// What cannot be turned part by part becomes Euler curves through what it comes to.
    fn traced(&self, controller: &Controller, rest: &Value) -> Option<ConvertedRotation> {
        let sampler = Sampler::new(controller, PropertyKind::Rotation, rest.clone()).ok()?;
        let trace = SampledFunction::of_controller(sampler);
        let times = controller.key_times(self.range);
        if times.is_empty() || controller.samples().is_some() {
            return None;
        }
        let start = match trace.value(times[0].as_f64()) {
            Value::Euler { angles, .. } => angles,
            _ => DVec3::ZERO,
        };
        let knots = trace.knots(&times);
        let path = Between { path: trace, before: self.before, after: self.after };
        let plain = Conversion::new(self.order, self.tolerance, self.rate, start);
        let conversion = Conversion { handles: self.handles, ..plain };
        let made = convert(&path, &knots, &conversion);
        Some(ConvertedRotation {
            controller: Controller::Euler(EulerCurves { order: self.order, curves: made.curves }),
            fate: Fate::Refitted,
            error: Some(made.error.in_frames(self.rate)),
            note: format!("a {} became angle curves", controller.type_name()),
        })
    }

    fn euler(&self, euler: &EulerCurves, rest: &Value) -> ConvertedRotation {
        let rest_angles = match rest {
            // Angles at rest in another order say nothing of these.
            Value::Euler { order, angles } if *order == euler.order => *angles,
            _ => DVec3::ZERO,
        };
        if euler.curves.iter().all(Curve::is_empty) {
            // It rests, in an order of its own.
            let angles = nearest_euler(
                self.order,
                self.rotation(quat_from_euler(euler.order, rest_angles)),
                rest_angles,
            );
            let controller = Controller::Constant(Value::Euler { order: self.order, angles });
            return ConvertedRotation {
                controller,
                fate: Fate::Exact,
                error: None,
                note: "without keys: as it rests".into(),
            };
        }
        let own = OwnKeys::of(&euler.curves);
        let rest = nearest_euler(self.order, quat_from_euler(euler.order, rest_angles), rest_angles);
        let rest = (self.at_home && self.is_identity()).then_some(rest);
        if let Some(mut turned) = self.exactly(euler, rest_angles) {
            if let Controller::Euler(made) = &mut turned.controller
                && own.is_said()
                && self.at_home
            {
                made.curves = own.on(std::mem::take(&mut made.curves), rest);
            }
            return turned;
        }
        let path = EulerPath::new(euler.order, &euler.curves, rest_angles);
        let first = euler.curves.iter().filter_map(|curve| curve.keys().first()).map(|key| key.time).min();
        let start = first.map_or(rest_angles, |time| {
            let angles = path.angles(time.as_f64(), Side::Right);
            let rotation = self.rotation(path.rotation(time.as_f64(), Side::Right));
            let near = |near: DVec3| nearest_euler(self.order, rotation, near);
            let at = near(angles);
            if !(own.is_said() && self.at_home) {
                return angles;
            }
            // Home again, an axis without keys is where it rests, and the middle angle within a right angle: of all readings
            // of a rotation few are so.
            let middle = self.order.axes().1;
            let is_upright = |at: &DVec3| at[middle].abs() <= FRAC_PI_2 + 1e-9;
            let readings = [at, near(other_reading(self.order, at)), near(rest_angles)];
            let is_home = |at: &&DVec3| own.rests(**at, rest_angles) && is_upright(at);
            let found = readings.iter().find(is_home).or_else(|| readings.iter().find(|at| is_upright(at)));
            found.copied().unwrap_or(at)
        });
        let mut looped = self.whole_loop(euler);
        let moves_outside = path.moves_outside();
        // One period stands for all of them, so it is as close as the closest has to be.
        let tolerance = if looped.is_some() { self.tolerance.least() } else { self.tolerance };
        if (looped.is_some() || !moves_outside)
            && let Some(curves) = self.refitted(euler, &path, start, tolerance)
        {
            return self.with_loop(curves, looped.map(|(_, behaviours)| behaviours));
        }
        let handles = self.handles.or_else(|| is_weighted(euler).then_some(Handles::Weighted));
        let plain = Conversion::new(self.order, tolerance, self.rate, start);
        let home = rest.is_some().then_some(&own);
        let conversion = Conversion { handles, cache: self.cache, own: home, ..plain };
        // What stands still has keys anywhere.
        let is_within = |knot: &Knot| looped.is_none_or(|(range, _)| range.contains(knot.time));
        let one_period: Vec<Knot> = path.knots(None).into_iter().filter(is_within).collect();
        let all = path.knots(moves_outside.then_some(self.range));
        let path = path.between(self.before, self.after);
        let mut converted = convert(&path, if looped.is_some() { &one_period } else { &all }, &conversion);
        // Through the pole a loop may come round on the other branch of angles, which does not repeat.
        let repeats = looped.is_some_and(|(_, (a, b))| [a, b].contains(&Behaviour::LoopOffset));
        if repeats && !converted.curves.iter().all(comes_round) {
            looped = None;
            converted = convert(&path, &all, &Conversion { tolerance: self.tolerance, ..conversion });
        }
        let outside = looped.is_none() && moves_outside;
        if let Some((_, (before, after))) = looped {
            converted.curves = converted.curves.map(|curve| curve.with_behaviours(before, after));
        }
        converted.curves = own.on(converted.curves, rest);
        let mut notes = Vec::new();
        // What there are more than before, on whichever axis.
        let count = |curves: &[Curve; 3]| curves.iter().map(|curve| curve.keys().len()).sum::<usize>();
        let (before, after) = (count(&euler.curves), count(&converted.curves));
        let added = after.saturating_sub(before);
        if converted.plainly > converted.added {
            let moving = converted.curves.iter().filter(|curve| curve.keys().len() > 1).count();
            let plainly = (after + moving * (converted.plainly - converted.added)).saturating_sub(before);
            let said = if added == 0 { "no keys added".into() } else { keys_added(added) };
            notes.push(format!("{said}, {plainly} without weighted tangents"));
        } else if added > 0 {
            notes.push(keys_added(added));
        }
        let (distance, time) = converted.closest_to_pole;
        if distance < NEAR_POLE {
            let frame = time / self.rate.ticks_per_frame();
            notes.push(format!("{:.1}° from gimbal lock at frame {frame:.1}", distance.to_degrees()));
        }
        for time in &converted.split_at_pole {
            notes.push(format!("two values for one rotation at frame {}", self.rate.frame(*time)));
        }
        if outside {
            notes.push("moves outside its keys: written out over the take's range".into());
        }
        let error = converted.error.in_frames(self.rate);
        ConvertedRotation {
            controller: Controller::Euler(EulerCurves { order: self.order, curves: converted.curves }),
            fate: Fate::Refitted,
            error: Some(error),
            note: notes.join("; "),
        }
    }

    /// Curves whose keys a fit chose, fitted anew to what they come to.
    fn refitted(
        &self,
        euler: &EulerCurves,
        path: &EulerPath,
        start: DVec3,
        tolerance: AngleTolerance<'_>,
    ) -> Option<Refitted> {
        if self.cache.is_some_and(|cache| cache.is_key_by_key()) {
            return None;
        }
        let kept = kept_keys(euler)?;
        let rotation = |time: f64| self.rotation(path.rotation(time, Side::Right));
        refit_rotation(rotation, self.rate, (self.order, start), tolerance, &kept)
    }

    /// What fitting anew came to, with what loops outside.
    fn with_loop(&self, refitted: Refitted, looped: Option<(Behaviour, Behaviour)>) -> ConvertedRotation {
        let Refitted { mut curves, error } = refitted;
        if let Some((before, after)) = looped {
            curves = curves.map(|curve| curve.with_behaviours(before, after));
        }
        ConvertedRotation {
            controller: Controller::Euler(EulerCurves { order: self.order, curves }),
            fate: Fate::Refitted,
            error: Some(error.in_frames(self.rate)),
            note: "its keys were fitted, and are fitted anew".into(),
        }
    }

    /// By renamed axes, signs and offsets, where that can be.
    fn exactly(&self, euler: &EulerCurves, rest: DVec3) -> Option<ConvertedRotation> {
        let constant: [Option<f64>; 3] = std::array::from_fn(|axis| match &euler.curves[axis] {
            curve if curve.is_empty() => Some(rest[axis]),
            curve if curve.is_constant() => curve.keys().first().map(|key| key.value),
            _ => None,
        });
        let way = exact_way(euler.order, constant, self.before, self.after, self.order)?;
        let mut curves = way.curves(&euler.curves);
        // A channel without keys stays at rest, which may be elsewhere under the new order.
        let first = euler.curves.iter().filter_map(Curve::range).map(|range| range.first).min()?;
        for source in 0..3 {
            let axis = way.axis[source];
            if euler.curves[source].is_empty() {
                let value = way.sign[source] * rest[source] + way.offset[axis];
                // A renamed axis is off by rounding.
                if value.abs() > 1e-14 {
                    curves[axis] = Curve::constant(first, value);
                }
            }
        }
        let note = if way.is_identity() { String::new() } else { describe(&way) };
        let controller = Controller::Euler(EulerCurves { order: self.order, curves });
        Some(ConvertedRotation { controller, fate: Fate::Exact, error: None, note })
    }

    /// What lies outside the keys, where all three channels loop alike and rotations come round to where they began:
    /// then one period is converted, and the loop stays a loop.
    fn whole_loop(&self, euler: &EulerCurves) -> Option<(TimeRange, (Behaviour, Behaviour))> {
        let mut moving = euler.curves.iter().filter(|curve| !curve.is_empty() && !curve.is_constant());
        let first = moving.next()?;
        let (range, before, after) = (first.range()?, first.before, first.after);
        if !(before.is_loop() || after.is_loop()) || first.inner_loop().is_some() {
            return None;
        }
        let alike = |curve: &Curve| {
            curve.range() == Some(range)
                && (curve.before, curve.after) == (before, after)
                && curve.inner_loop().is_none()
        };
        let repeats = [before, after].contains(&Behaviour::LoopOffset);
        let fits = |behaviour: Behaviour| behaviour.is_loop() || behaviour == Behaviour::Held;
        let all = euler.curves.iter().filter(|curve| !curve.is_empty() && !curve.is_constant());
        let mut all_alike = all.map(|curve| alike(curve) && (!repeats || comes_round(curve)));
        (fits(before) && fits(after) && all_alike.all(|alike| alike)).then_some((range, (before, after)))
    }

    /// Samples turn one by one, each to the candidate nearest to the one before; nothing is lost.
    fn samples(
        &self,
        samples: &Samples,
        start: &[f64],
        rotation: impl Fn(&[f64]) -> DQuat,
    ) -> ConvertedRotation {
        let mut near = DVec3::from_slice(&start[..3]);
        let mut values = Vec::with_capacity(samples.len() * 3);
        let mut error = MeasuredError::none(Quantity::Angle);
        let mut closest = f64::INFINITY;
        for index in 0..samples.len() {
            let q = self.rotation(rotation(samples.row(index)));
            near = nearest_euler(self.order, q, near);
            values.extend(near.to_array());
            closest = closest.min(pole_distance(self.order, q));
            let frame = samples.time(index).as_f64() / self.rate.ticks_per_frame();
            error.take(
                nimble_curve_curves::rotation::angle_between(q, quat_from_euler(self.order, near)),
                frame,
            );
        }
        let note = if closest < NEAR_POLE {
            format!("comes within {:.1}° of gimbal lock", closest.to_degrees())
        } else {
            String::new()
        };
        let kind = SampleKind::Euler(self.order);
        ConvertedRotation {
            controller: Controller::Samples(Samples {
                start: samples.start,
                rate: samples.rate,
                kind,
                values,
            }),
            fate: Fate::Exact,
            error: Some(error),
            note,
        }
    }
}

/// Whether what a controller comes to depends on the order and the angles at rest: in sums angles of that order count one by
/// one, and angles without keys stay where they rest.
fn leans_on_rest(controller: &Controller) -> bool {
    match controller {
        Controller::Stack(_) => true,
        Controller::Euler(euler) => euler.curves.iter().any(Curve::is_empty),
        Controller::Procedural(procedural) => procedural.sampled.as_deref().is_some_and(leans_on_rest),
        _ => false,
    }
}

/// Whether some key of the curves has weighted handles.
fn is_weighted(euler: &EulerCurves) -> bool {
    let own_length = |key: &Key| key.tangent_in.length().or(key.tangent_out.length()).is_some();
    euler.curves.iter().flat_map(Curve::keys).any(own_length)
}

/// Whether a curve ends whole turns from where it began.
fn comes_round(curve: &Curve) -> bool {
    let (Some(first), Some(last)) = (curve.keys().first(), curve.keys().last()) else { return true };
    let turns = (last.value - first.value) / std::f64::consts::TAU;
    (turns - turns.round()).abs() < 1e-9
}

/// What an exact way does to the channels, such as `x → −z + 90°`.
fn describe(way: &nimble_curve_curves::rotation::ExactWay) -> String {
    let parts = (0..3).filter_map(|source| {
        let (axis, sign) = (way.axis[source], way.sign[source]);
        let offset = way.offset[axis].to_degrees();
        if axis == source && sign > 0.0 && offset == 0.0 {
            return None;
        }
        let minus = if sign < 0.0 { "−" } else { "" };
        let letters = nimble_curve_scene::address::COMPONENTS;
        let shift = if offset == 0.0 { String::new() } else { format!(" {offset:+.4}°") };
        Some(format!("{} → {minus}{}{shift}", letters[source], letters[axis]))
    });
    parts.collect::<Vec<_>>().join(", ")
}
