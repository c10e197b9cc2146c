//! Rotations that change over time, as values and angular velocities.

use std::cell::Cell;

use glam::{DQuat, DVec3};

use super::{RotationOrder, angle_between, quat_from_euler, velocity_from_rates};
use crate::curve::{Curve, Interpolation, Segment, Side, Ticks};
use crate::time::TimeRange;

/// A rotation that changes over time. Times are in ticks.
pub trait RotationPath {
    /// The rotation on one side of an instant.
    fn rotation(&self, time: f64, side: Side) -> DQuat;

    /// The angular velocity in the parent's frame on one side of an instant, in radians per second.
    fn velocity(&self, time: f64, side: Side) -> DVec3;

    /// The way across a jump, `part` going from 0 (before) to 1 (after); a hold's end is a jump, too.
    fn bridge(&self, time: f64, part: f64) -> DQuat {
        let (from, to) = (self.rotation(time, Side::Left), self.rotation(time, Side::Right));
        from.slerp(if from.dot(to) < 0.0 { -to } else { to }, part)
    }

    /// A bound on the angular speed between two instants without a jump between them, in radians per second.
    fn speed_bound(&self, _from: f64, _to: f64) -> f64 {
        f64::INFINITY
    }

    /// Whether the path jumps at an instant.
    fn jumps(&self, time: f64) -> bool {
        angle_between(self.rotation(time, Side::Left), self.rotation(time, Side::Right)) > 1e-9
    }
}

/// A path between two constant rotations: `before · R(t) · after`.
#[derive(Clone, Debug)]
pub struct Between<P> {
    /// The path.
    pub path: P,
    /// The rotation outside it.
    pub before: DQuat,
    /// The rotation inside it.
    pub after: DQuat,
}

impl<P: RotationPath> RotationPath for Between<P> {
    fn rotation(&self, time: f64, side: Side) -> DQuat {
        self.before * self.path.rotation(time, side) * self.after
    }

    fn velocity(&self, time: f64, side: Side) -> DVec3 {
        self.before * self.path.velocity(time, side)
    }

    fn bridge(&self, time: f64, part: f64) -> DQuat {
        self.before * self.path.bridge(time, part) * self.after
    }

    fn speed_bound(&self, from: f64, to: f64) -> f64 {
        self.path.speed_bound(from, to)
    }

    fn jumps(&self, time: f64) -> bool {
        self.path.jumps(time)
    }
}

/// How a path leaves a key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SegmentKind {
    /// It holds until the next key.
    Holding,
    /// All its angles go on straight lines.
    Straight,
    /// Any other way.
    Moving,
}

/// An instant at which a path has a key.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Knot {
    /// When.
    pub time: Ticks,
    /// How the path goes on.
    pub leaving: SegmentKind,
}

/// The path of three Euler curves, with constant rotations before and after: `before · R(t) · after`.
#[derive(Clone, Debug)]
pub struct EulerPath {
    order: RotationOrder,
    curves: [Cached; 3],
    rest: DVec3,
    before: DQuat,
    after: DQuat,
}

/// A curve that remembers the piece it was last asked about, as neighbouring instants mostly lie on one.
#[derive(Clone, Debug)]
struct Cached {
    curve: Curve,
    piece: Cell<(f64, f64, Segment)>,
}

impl Cached {
    fn new(curve: &Curve) -> Cached {
        Cached { curve: curve.unrolled(), piece: Cell::new((0.0, 0.0, Segment::None)) }
    }

    /// The piece that an instant lies strictly within, if it is within one.
    fn piece(&self, time: f64) -> Option<Segment> {
        let (from, to, piece) = self.piece.get();
        if from < time && time < to {
            return Some(piece);
        }
        let keys = self.curve.keys();
        let after = keys.partition_point(|key| key.time.as_f64() <= time);
        if after == 0 || after == keys.len() || keys[after - 1].time.as_f64() == time {
            return None;
        }
        let (from, to) = (&keys[after - 1], &keys[after]);
        let piece = Segment::between(from, to);
        self.piece.set((from.time.as_f64(), to.time.as_f64(), piece));
        Some(piece)
    }

    fn value_on(&self, time: f64, side: Side) -> Option<f64> {
        match self.piece(time) {
            Some(piece) => piece.value(time),
            None => self.curve.value_on(time, side),
        }
    }

    fn slope_on(&self, time: f64, side: Side) -> Option<f64> {
        match self.piece(time) {
            Some(piece) => piece.slope(time),
            None => self.curve.slope_on(time, side),
        }
    }
}

impl EulerPath {
    /// The path of some curves; `rest` fills in for angles without a value, in radians.
    pub fn new(order: RotationOrder, curves: &[Curve; 3], rest: DVec3) -> EulerPath {
        let curves = curves.each_ref().map(Cached::new);
        EulerPath { order, curves, rest, before: DQuat::IDENTITY, after: DQuat::IDENTITY }
    }

    /// The same path between two constant rotations.
    pub fn between(self, before: DQuat, after: DQuat) -> EulerPath {
        EulerPath { before: before.normalize(), after: after.normalize(), ..self }
    }

    /// The angles on one side of an instant, in radians by axis.
    pub fn angles(&self, time: f64, side: Side) -> DVec3 {
        let mut angles = self.rest;
        for (axis, curve) in self.curves.iter().enumerate() {
            if let Some(value) = curve.value_on(time, side) {
                angles[axis] = value;
            }
        }
        angles
    }

    /// The keys of all three curves together, in order of time; keys that a conversion added are left out.
    ///
    /// Where the added keys are all there is at an instant, the path is smooth there, so nothing is lost. Where a
    /// curve goes on moving outside its keys, its repeated keys within `range` are knots, too, and the range's ends.
    pub fn knots(&self, range: Option<TimeRange>) -> Vec<Knot> {
        let mut times: Vec<Ticks> = Vec::new();
        for Cached { curve, .. } in &self.curves {
            let keys = curve.keys();
            for (index, key) in keys.iter().enumerate() {
                let is_end = index == 0 || index + 1 == keys.len();
                if is_end || !key.added {
                    times.push(key.time);
                }
            }
            if let Some(range) = range {
                times.extend(curve.key_times_outside(range));
            }
        }
        times.sort_unstable();
        times.dedup();
        let last = times.last().copied();
        times.into_iter().map(|time| Knot { time, leaving: self.leaving(time, Some(time) == last) }).collect()
    }

    /// Whether some curve goes on moving outside its keys.
    pub fn moves_outside(&self) -> bool {
        self.curves.iter().any(|cached| !cached.curve.is_empty() && !cached.curve.is_held_outside())
    }

    fn leaving(&self, time: Ticks, is_last: bool) -> SegmentKind {
        if is_last {
            return SegmentKind::Moving;
        }
        let mut found = SegmentKind::Holding;
        for Cached { curve, .. } in &self.curves {
            let keys = curve.keys();
            let after = keys.partition_point(|key| key.time <= time);
            if after == 0 || after == keys.len() {
                // Outside its keys a curve that is held stands still.
                if !curve.is_empty() && !curve.is_held_outside() {
                    found = SegmentKind::Moving;
                }
                continue;
            }
            let key = &keys[after - 1];
            let next = &keys[after];
            let still = key.value == next.left_value()
                && (key.interpolation == Interpolation::Linear
                    || key.tangent_out.is_flat() && next.tangent_in.is_flat());
            let way = match key.interpolation {
                Interpolation::Hold | Interpolation::None => SegmentKind::Holding,
                _ if still => continue,
                Interpolation::Linear => SegmentKind::Straight,
                Interpolation::Cubic => SegmentKind::Moving,
            };
            found = match (found, way) {
                (SegmentKind::Holding, way) => way,
                (found, SegmentKind::Holding) => found,
                (SegmentKind::Straight, SegmentKind::Straight) => SegmentKind::Straight,
                _ => SegmentKind::Moving,
            };
        }
        found
    }
}

impl RotationPath for EulerPath {
    fn rotation(&self, time: f64, side: Side) -> DQuat {
        self.before * quat_from_euler(self.order, self.angles(time, side)) * self.after
    }

    fn velocity(&self, time: f64, side: Side) -> DVec3 {
        let rates = self.curves.each_ref().map(|curve| curve.slope_on(time, side).unwrap_or(0.0));
        // A vertical tangent has no finite rate; what happens there shows in the values.
        let rates = DVec3::from_array(rates.map(|rate| if rate.is_finite() { rate } else { 0.0 }));
        self.before * velocity_from_rates(self.order, self.angles(time, side), rates)
    }

    /// Whole turns count: the straight line between the angles is the way across.
    fn jumps(&self, time: f64) -> bool {
        (self.angles(time, Side::Left) - self.angles(time, Side::Right)).abs().max_element() > 1e-9
    }

    /// An angle's rate adds at most itself to the speed.
    fn speed_bound(&self, from: f64, to: f64) -> f64 {
        let middle = 0.5 * (from + to);
        self.curves
            .iter()
            .map(|cached| cached.piece(middle).map_or(f64::INFINITY, |piece| piece.slope_bound()))
            .sum()
    }

    /// Along the straight line between the angles.
    fn bridge(&self, time: f64, part: f64) -> DQuat {
        let (from, to) = (self.angles(time, Side::Left), self.angles(time, Side::Right));
        self.before * quat_from_euler(self.order, from + (to - from) * part) * self.after
    }
}
