//! Conversion of a rotation path into Euler curves of any order: no flips, tangents kept, few keys added.
//!
//! The path is followed in steps so small that no turn is lost, and at each step the Euler angles are the candidate
//! nearest to those of the step before. Tangents come from the angular velocity, on both sides of each key:
//! `θ̇ = E(θ)⁻¹·ω`. Keys are added only where the cubic between two keys strays from the path by more than the
//! tolerance, and then as few as greedily longest pieces need, evenly spread; where that is more than one between two
//! keys, fewer still whose values and slopes are free (see [`super::refine`]).

use glam::DVec3;

use super::conversion::{Conversion, Converted, Run};
use super::follow::Point;
use super::interval::{EulerKey, Interval};
use super::path::{Knot, RotationPath, SegmentKind};
use super::pieces::{Added, FollowedPath};
use super::{angle_between, nearest_euler, quat_from_euler};
use crate::curve::{Curve, Interpolation, Segment, Side, Ticks};
use crate::error::MeasuredError;
use crate::fit::Handles;
use crate::value::Quantity;

/// Converts a path with keys at `knots`, in order of time, into curves of another order.
///
/// All knots become keys of the result; the path outside them is not looked at.
pub fn convert(path: &impl RotationPath, knots: &[Knot], conversion: &Conversion<'_>) -> Converted {
    if let Some(handles) = conversion.handles {
        return with_handles(path, knots, conversion, handles, &[]).0;
    }
    let needs_many = |plainly: usize| 2 * plainly > knots.len();
    // Where plain ones needed many before, with more room, they will again.
    if conversion.cache.is_some_and(|cache| cache.contains(Handles::Weighted)) {
        let (weighted, _) = with_handles(path, knots, conversion, Handles::Weighted, &[]);
        if needs_many(weighted.plainly) && weighted.added < weighted.plainly {
            return weighted;
        }
    }
    let (plain, intervals) = with_handles(path, knots, conversion, Handles::Plain, &[]);
    if !needs_many(plain.added) {
        return plain;
    }
    let (weighted, _) = with_handles(path, knots, conversion, Handles::Weighted, &intervals);
    if weighted.added < plain.added { weighted } else { plain }
}

/// The same with some handles, and what each interval came to; `plain` is what each came to with plain ones, where that is
/// known.
fn with_handles(
    path: &impl RotationPath,
    knots: &[Knot],
    conversion: &Conversion<'_>,
    handles: Handles,
    plain: &[Interval],
) -> (Converted, Vec<Interval>) {
    let run = Run { path, c: conversion, handles };
    let mut intervals: Vec<Interval> = Vec::with_capacity(knots.len());
    let mut keys: Vec<EulerKey> = knots.first().map(|knot| run.first_key(knot.time)).into_iter().collect();
    let mut error = MeasuredError::none(Quantity::Angle);
    let (mut closest, mut split_at_pole) = ((f64::INFINITY, 0.0), Vec::new());
    let before = conversion.cache.and_then(|cache| cache.take(handles, knots));
    for (index, pair) in knots.windows(2).enumerate() {
        let first = keys.pop().expect("every interval ends with a key");
        let same =
            before.as_ref().and_then(|before| before.interval(index, pair, &first, conversion.tolerance));
        let plain = plain.get(index).filter(|plain| plain.incoming_angles == first.value);
        let interval = same.unwrap_or_else(|| run.interval(first, pair[0].leaving, pair[1].time, plain));
        error.merge(&interval.error);
        closest = if interval.closest.0 < closest.0 { interval.closest } else { closest };
        split_at_pole.extend(interval.is_split.then_some(pair[0].time));
        keys.extend_from_slice(&interval.keys);
        intervals.push(interval);
    }
    if let ([only], [key]) = (knots, keys.as_slice()) {
        let time = only.time.as_f64();
        error.take(
            angle_between(path.rotation(time, Side::Right), quat_from_euler(conversion.order, key.value)),
            time,
        );
    }
    if let Some(cache) = conversion.cache {
        cache.insert(handles, knots, intervals.clone(), conversion.tolerance);
    }
    let curves = std::array::from_fn(|axis| channel(&keys, axis));
    let added = keys.iter().filter(|key| key.added).count();
    let plainly = intervals.iter().map(|interval| interval.plainly).sum();
    let converted = Converted { curves, error, added, plainly, closest_to_pole: closest, split_at_pole };
    (converted, intervals)
}

impl<P: RotationPath> Run<'_, P> {
    /// The key with which the first knot begins.
    fn first_key(&self, time: Ticks) -> EulerKey {
        let at = time.as_f64();
        let start = nearest_euler(self.c.order, self.path.rotation(at, Side::Right), self.c.start);
        let before = || nearest_euler(self.c.order, self.path.rotation(at, Side::Left), start);
        EulerKey { before: self.path.jumps(at).then(before), ..EulerKey::new(time, start, DVec3::ZERO) }
    }

    /// From a key at one knot to the next knot; `plain` is what that comes to with plain handles, where it is known.
    fn interval(
        &self,
        mut first: EulerKey,
        leaving: SegmentKind,
        to: Ticks,
        plain: Option<&Interval>,
    ) -> Interval {
        if let Some(plain) = plain.filter(|plain| plain.keys.len() == 2) {
            return plain.after(&first);
        }
        let (start, end) = (first.time.as_f64(), to.as_f64());
        let incoming_angles = first.value;
        let mut error = MeasuredError::none(Quantity::Angle);
        if leaving == SegmentKind::Holding {
            first.interpolation = Interpolation::Hold;
            first.slope_out = DVec3::ZERO;
            let off = angle_between(
                self.path.rotation(start, Side::Right),
                quat_from_euler(self.c.order, incoming_angles),
            );
            error.take(off, start);
            let last = EulerKey::new(to, self.across(end, incoming_angles), DVec3::ZERO);
            let closest = (f64::INFINITY, 0.0);
            let keys = vec![first, last];
            return Interval { incoming_angles, keys, error, closest, is_split: false, plainly: 0 };
        }
        let (value, start_slope) = self.departure(start, incoming_angles);
        // No continuous angles lead through the pole here: one key, two values, one rotation.
        let is_split = (value - incoming_angles).abs().max_element() > 1e-4;
        if is_split {
            first.before.get_or_insert(incoming_angles);
        }
        (first.value, first.slope_out) = (value, start_slope);
        let points = self.follow(start, value, end);
        let (arrival, end_slope) = self.arrival(&points);
        let last = EulerKey { slope_in: end_slope, ..EulerKey::new(to, arrival, DVec3::ZERO) };
        let trace = FollowedPath::new(self, &points, (start_slope, end_slope), arrival);
        let (mut keys, mut plainly) = (vec![first], 0);
        if leaving == SegmentKind::Straight && trace.is_straight() {
            keys[0].interpolation = Interpolation::Linear;
            keys[0].slope_out = DVec3::ZERO;
            keys.push(last);
        } else {
            let Added { keys: more, reaches, plainly: many } = match plain {
                Some(plain) => {
                    let added = &plain.keys[1..plain.keys.len() - 1];
                    trace.added_beside(added.iter().map(|key| (key.time, key.value, key.slope_in)).collect())
                }
                None => trace.added(),
            };
            let added =
                |(time, angles, slope)| EulerKey { added: true, ..EulerKey::new(time, angles, slope) };
            plainly = many;
            keys.extend(more.into_iter().map(added));
            keys.push(last);
            for (index, piece) in reaches.into_iter().enumerate() {
                keys[index].handle_fraction_out = Some(piece.out);
                keys[index + 1].handle_fraction_in = Some(piece.into);
            }
        }
        self.measure(&points[..points.len() - 1], &keys, &mut error);
        if self.path.jumps(end) {
            let last = keys.len() - 1;
            keys[last].value = self.across(end, arrival);
            keys[last].before = (keys[last].value != arrival).then_some(arrival);
        }
        let closest = self.closest_to_pole(&points);
        Interval { incoming_angles, keys, error, closest, is_split, plainly }
    }

    /// How far keys are from the path at some points.
    fn measure(&self, points: &[Point], keys: &[EulerKey], error: &mut MeasuredError) {
        let piece = |index: usize| -> [Segment; 3] {
            let (from, to) = (&keys[index], &keys[index + 1]);
            std::array::from_fn(|axis| {
                Segment::between(&from.on(axis, None, Some(to)), &to.on(axis, Some(from), None))
            })
        };
        let (mut index, mut segments) = (0, piece(0));
        let mut off: Vec<(f64, f64, DVec3)> = Vec::with_capacity(points.len());
        for point in points {
            if point.time >= keys[index + 1].time.as_f64() && index + 2 < keys.len() {
                index += 1;
                segments = piece(index);
            }
            let angles = segments.each_ref().map(|segment| segment.value(point.time).unwrap_or(0.0));
            let angles = DVec3::from_array(angles);
            let (linear, rest) = self.distance(point, angles);
            off.push((linear, rest, angles));
        }
        // The largest error is to be exact; of the others it is enough that they are smaller.
        let surely = off.iter().map(|(linear, rest, _)| linear - rest).fold(0.0, f64::max);
        for (point, (linear, rest, angles)) in points.iter().zip(off) {
            let found = match linear + rest < surely {
                true => linear,
                false => angle_between(self.rotation(point), quat_from_euler(self.c.order, angles)),
            };
            error.take(found, point.time);
        }
    }

    /// The least distance from the pole at some points, and when.
    fn closest_to_pole(&self, points: &[Point]) -> (f64, f64) {
        // The gimbal_coupling is the sine of the middle angle: the larger, the closer.
        let Some(first) = points.first() else { return (f64::INFINITY, 0.0) };
        let closest = points
            .iter()
            .fold(first, |a, b| if b.gimbal_coupling.abs() > a.gimbal_coupling.abs() { b } else { a });
        (closest.angles[self.c.order.middle()].cos().abs().asin(), closest.time)
    }

    /// The angles after a jump or the end of a hold: the bridge counts as the path.
    fn across(&self, time: f64, from: DVec3) -> DVec3 {
        let mut angles = from;
        let mut advance = |part: f64| {
            angles = nearest_euler(self.c.order, self.path.bridge(time, part), angles);
        };
        const STEPS: u32 = 96;
        for step in 1..=STEPS {
            advance(f64::from(step) / f64::from(STEPS));
        }
        let home = self.c.own.and_then(|own| own.across(self.c.order, Ticks(time as i64), (from, angles)));
        home.unwrap_or(angles)
    }
}

/// The curve of one angle; one key is enough where it never changes.
fn channel(keys: &[EulerKey], axis: usize) -> Curve {
    let Some(first) = keys.first() else { return Curve::default() };
    let is_still = keys.iter().all(|key| {
        let still = |slope: DVec3| slope[axis].abs() < 1e-12;
        (key.value[axis] - first.value[axis]).abs() < 1e-13
            && key.before.is_none_or(|before| (before[axis] - first.value[axis]).abs() < 1e-13)
            && still(key.slope_in)
            && still(key.slope_out)
    });
    if is_still {
        return Curve::constant(first.time, first.value[axis]);
    }
    let before = |index: usize| index.checked_sub(1).map(|before| &keys[before]);
    let made = keys.iter().enumerate().map(|(index, key)| key.on(axis, before(index), keys.get(index + 1)));
    Curve::new(made.collect()).expect("keys were made in order of time")
}
