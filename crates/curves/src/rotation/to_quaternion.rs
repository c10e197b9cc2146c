//! Any rotation path as cubic quaternion keys within a bound: slopes by angular velocity, few keys, one sign.

use glam::{DQuat, DVec3, DVec4};

use super::path::{Knot, RotationPath, SegmentKind};
use super::{KeyedRotation, angle_between};
use super::{QuaternionCurve, QuaternionInterpolation, QuaternionKey};
use crate::curve::{Behaviour, Side};
use crate::error::MeasuredError;
use crate::search::longest;
use crate::time::{FrameRate, Ticks};
use crate::value::Quantity;

/// Instants within a piece at which it is compared with the path.
const CHECKS: i64 = 32;

/// A path as quaternion keys.
#[derive(Clone, Debug)]
pub struct QuaternionKeys {
    /// The keys: steps where the path holds, cubics elsewhere.
    pub curve: QuaternionCurve,
    /// The largest angle between path and result; its place is in ticks.
    pub error: MeasuredError,
    /// How many keys were added.
    pub added: usize,
}

/// Quaternion keys at all `knots`, in order of time, and more on whole frames where the angle between path and result
/// would exceed `tolerance` radians.
///
/// From one key to the next the path never turns by more than half a turn, so that the keys' signs can be told.
pub fn to_quaternion_keys(
    path: &impl RotationPath,
    knots: &[Knot],
    tolerance: f64,
    rate: FrameRate,
) -> QuaternionKeys {
    let mut fit =
        Fit { path, tolerance, rate, keys: Vec::new(), error: MeasuredError::none(Quantity::Angle) };
    let mut added = 0;
    for (index, knot) in knots.iter().enumerate() {
        let key = fit.key(knot.time, Side::Right);
        if index == 0 && path.jumps(knot.time.as_f64()) {
            // What it holds before its first key.
            let held = fit.key(knot.time, Side::Left);
            let interpolation = QuaternionInterpolation::Step;
            fit.push(QuaternionKey { time: knot.time - Ticks(1), interpolation, ..held });
            added += 1;
        }
        if let Some(before) = index.checked_sub(1).map(|index| knots[index]) {
            if before.leaving == SegmentKind::Holding {
                let last = fit.keys.len() - 1;
                fit.keys[last].interpolation = QuaternionInterpolation::Step;
            } else {
                added += fit.reach(knot.time);
            }
        }
        fit.push(key);
    }
    let mut curve = QuaternionCurve { keys: fit.keys, before: Behaviour::Held, after: Behaviour::Held };
    if let Some(last) = curve.keys.last_mut() {
        last.interpolation = QuaternionInterpolation::Cubic;
    }
    QuaternionKeys { curve, error: fit.error, added }
}

struct Fit<'a, P: RotationPath> {
    path: &'a P,
    tolerance: f64,
    rate: FrameRate,
    keys: Vec<QuaternionKey>,
    error: MeasuredError,
}

impl<P: RotationPath> Fit<'_, P> {
    fn key(&self, time: Ticks, side: Side) -> QuaternionKey {
        let value = self.path.rotation(time.as_f64(), side);
        // q̇ = ½·ω·q
        let rate = |side| {
            let velocity: DVec3 = self.path.velocity(time.as_f64(), side);
            DVec4::from(DQuat::from_xyzw(velocity.x, velocity.y, velocity.z, 0.0) * value) * 0.5
        };
        QuaternionKey {
            time,
            value,
            interpolation: QuaternionInterpolation::Cubic,
            tangent_in: rate(Side::Left),
            tangent_out: rate(Side::Right),
        }
    }

    /// Adds a key with the sign of the one before.
    fn push(&mut self, mut key: QuaternionKey) {
        if self.keys.last().is_some_and(|last| last.value.dot(key.value) < 0.0) {
            (key.value, key.tangent_in, key.tangent_out) = (-key.value, -key.tangent_in, -key.tangent_out);
        }
        self.keys.push(key);
    }

    /// Adds the keys that are needed before the one at `to`; returns how many.
    fn reach(&mut self, to: Ticks) -> usize {
        let mut added = 0;
        let end = self.key(to, Side::Left);
        // A jump at the end has two values; a key of its own a tick before stands for the left one.
        if self.path.jumps(to.as_f64()) && self.keys[self.keys.len() - 1].time < to - Ticks(1) {
            let before = QuaternionKey { time: to - Ticks(1), ..end };
            added += self.reach_key(&before);
            self.push(QuaternionKey { interpolation: QuaternionInterpolation::Step, ..before });
            return added + 1;
        }
        added + self.reach_key(&end)
    }

    fn reach_key(&mut self, end: &QuaternionKey) -> usize {
        let mut added = 0;
        loop {
            let start = self.keys[self.keys.len() - 1];
            if let Some(error) = self.error_of(&start, end, self.tolerance) {
                self.error.merge(&error);
                return added;
            }
            let Some(key) = self.farthest(&start, end.time) else {
                let all = self.error_of(&start, end, f64::INFINITY);
                self.error.merge(&all.unwrap_or(MeasuredError::none(Quantity::Angle)));
                return added;
            };
            if let Some(error) = self.error_of(&start, &key, f64::INFINITY) {
                self.error.merge(&error);
            }
            self.push(key);
            added += 1;
        }
    }

    /// The error along a piece; `None` where it is beyond a tolerance or turns by half a turn or more.
    fn error_of(&self, from: &QuaternionKey, to: &QuaternionKey, tolerance: f64) -> Option<MeasuredError> {
        // Between neighbouring ticks there are no instants: where a path all but jumps, it may turn by anything there.
        if to.time - from.time <= Ticks(1) {
            return Some(MeasuredError::none(Quantity::Angle));
        }
        let (start, gap) = (from.time.as_f64(), (to.time - from.time).as_f64());
        let keys = vec![*from, *to];
        let piece =
            KeyedRotation::new(&QuaternionCurve { keys, before: Behaviour::Held, after: Behaviour::Held });
        let mut error = MeasuredError::none(Quantity::Angle);
        let mut last = self.path.rotation(start, Side::Right);
        let mut turned = 0.0;
        for index in 1..CHECKS {
            let time = start + gap * index as f64 / CHECKS as f64;
            let there = self.path.rotation(time, Side::Right);
            turned += angle_between(last, there);
            last = there;
            let angle = angle_between(there, piece.rotation(time, Side::Right));
            if tolerance.is_finite() && (angle > tolerance || turned > 3.0) {
                return None;
            }
            error.take(angle, time);
        }
        Some(error)
    }

    /// The key at the end of the longest piece that fits, on a whole frame where a frame is not too long.
    fn farthest(&self, from: &QuaternionKey, to: Ticks) -> Option<QuaternionKey> {
        let fits = |time: Ticks| {
            let key = self.key(time, Side::Right);
            self.error_of(from, &key, self.tolerance).map(|_| key)
        };
        let first = self.rate.frame(from.time).floor() as i64 + 1;
        let last = self.rate.frame(to).ceil() as i64 - 1;
        longest(first, last, |frame| fits(self.rate.ticks(frame)))
            .or_else(|| longest(from.time.0 + 1, to.0 - 1, |tick| fits(Ticks(tick))))
    }
}
