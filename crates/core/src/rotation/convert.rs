//! Conversion of a rotation path into Euler curves of any order: no flips, tangents kept, few keys added.
//!
//! The path is followed in steps so small that no turn is lost, and at each step the Euler angles are the candidate
//! nearest to those of the step before. Tangents come from the angular velocity, on both sides of each key:
//! `θ̇ = E(θ)⁻¹·ω`. Keys are added only where the cubic between two keys strays from the path by more than the
//! tolerance, and then as few as greedily longest pieces need, evenly spread; where that is more than one between two
//! keys, fewer still whose values and slopes are free (see [`super::refine`]).

use std::cell::RefCell;

use glam::{DQuat, DVec3};

use super::allowance::Allowance;
use super::handles::{Ends, PLAIN, lengths};
use super::path::{Knot, Leaving, RotationPath};
use super::refine::{FreeKey, Sample, refine};
use super::{RotationOrder, angle_between, nearest_euler, quat_from_euler, rates_from_velocity};
use crate::curve::{Curve, Interpolation, Key, Segment, Side, Tangent, Ticks};
use crate::fit::Handles;
use crate::ledger::MeasuredError;
use crate::search::farthest;
use crate::time::{FrameRate, TICKS_PER_SECOND};
use crate::value::Quantity;

/// The most by which an angle may change from one followed step to the next, unless the rotation hardly does.
const MAX_STEP: f64 = 0.26;
/// The most by which the rotation may turn, in radians, from one followed step to the next.
const MAX_TURN: f64 = 1.0;
/// Steps to a frame at which the path is followed and the error measured.
const STEPS_PER_FRAME: i64 = 16;
/// By so many points at least the handles of a piece are chosen.
const SAMPLES_PER_PIECE: usize = 20;
/// By so many points a piece keys with free values are chosen.
const SAMPLES_PER_KEY: usize = 12;
/// Below this cosine of the middle angle, angles and rates at a key are taken as limits from its side.
const NEAR_POLE: f64 = 1e-5;

/// What to convert to.
#[derive(Clone, Copy, Debug)]
pub struct Conversion<'a> {
    /// The new order.
    pub order: RotationOrder,
    /// The largest angle between source and result.
    pub tolerance: Allowance<'a>,
    /// Added keys stand on whole frames of this rate, except where a frame is too long.
    pub rate: FrameRate,
    /// The angles that the result should be near to at its start, in radians by axis.
    pub start: DVec3,
    /// Whether handles may have lengths of their own, where that saves keys.
    pub handles: Handles,
}

/// A converted rotation.
#[derive(Clone, Debug)]
pub struct Converted {
    /// Curves of the angles about x, y and z.
    pub curves: [Curve; 3],
    /// The largest angle between source and result; its place is in ticks.
    pub error: MeasuredError,
    /// How many key times were added.
    pub added: usize,
    /// The least distance from the pole, in radians, and when, in ticks.
    pub closest_to_pole: (f64, f64),
    /// Instants where the path stops or turns exactly at the pole, so that a key has two values.
    pub split_at_pole: Vec<Ticks>,
}

/// Converts a path with keys at `knots`, in order of time, into curves of another order.
///
/// All knots become keys of the result; the path outside them is not looked at.
pub fn convert(path: &impl RotationPath, knots: &[Knot], conversion: &Conversion<'_>) -> Converted {
    let mut run = Run {
        path,
        c: conversion,
        keys: Vec::new(),
        points: Vec::new(),
        closest: (f64::INFINITY, 0.0),
        split_at_pole: Vec::new(),
    };
    run.all(knots);
    run.finish()
}

/// A step of the followed path.
#[derive(Clone, Copy, Debug)]
struct Point {
    time: f64,
    rotation: DQuat,
    angles: DVec3,
    /// ε·sin of the middle angle, by which errors of the outer angles add up or cancel.
    lean: f64,
    /// The factor of the tolerance here.
    slack: f64,
}

impl Point {
    /// How far a rotation with these angles is from the point, in radians, to the first order of the difference; and how
    /// far that may be off, which is everything where the difference is not small.
    #[inline]
    fn distance(&self, order: RotationOrder, angles: DVec3) -> (f64, f64) {
        let d = angles - self.angles;
        let size = d.abs().max_element();
        if size >= 0.02 {
            return (0.0, f64::INFINITY);
        }
        // |E·δ|: the axes of the outer turns lie at an angle whose cosine is ε·sin θb.
        let (a, b, c) = order.axes();
        let square = d[a] * d[a] + d[b] * d[b] + d[c] * d[c] + 2.0 * self.lean * d[a] * d[c];
        (square.max(0.0).sqrt(), size * size)
    }
}

/// A key of all three channels.
#[derive(Clone, Copy, Debug)]
struct TripleKey {
    time: Ticks,
    before: Option<DVec3>,
    value: DVec3,
    slope_in: DVec3,
    slope_out: DVec3,
    /// How far its handles reach, in parts of the pieces beside it, where they are not those of plain pieces.
    reach_in: Option<DVec3>,
    reach_out: Option<DVec3>,
    interpolation: Interpolation,
    added: bool,
}

struct Run<'a, P: RotationPath> {
    path: &'a P,
    c: &'a Conversion<'a>,
    keys: Vec<TripleKey>,
    /// All points at which the result will be measured.
    points: Vec<Point>,
    closest: (f64, f64),
    split_at_pole: Vec<Ticks>,
}

impl<P: RotationPath> Run<'_, P> {
    fn all(&mut self, knots: &[Knot]) {
        let Some(first) = knots.first() else { return };
        let at = first.time.as_f64();
        let start = nearest_euler(self.c.order, self.path.rotation(at, Side::Right), self.c.start);
        let before = self
            .path
            .jumps(at)
            .then(|| nearest_euler(self.c.order, self.path.rotation(at, Side::Left), start));
        self.push_key(first.time, before, start, DVec3::ZERO);
        for pair in knots.windows(2) {
            self.interval(pair[0], pair[1].time);
        }
        if let [only] = knots {
            let time = only.time.as_f64();
            self.points.push(self.point(time, self.path.rotation(time, Side::Right), start));
        }
    }

    fn push_key(&mut self, time: Ticks, before: Option<DVec3>, value: DVec3, slope_in: DVec3) {
        let interpolation = Interpolation::Cubic;
        self.keys.push(TripleKey {
            time,
            before,
            value,
            slope_in,
            slope_out: DVec3::ZERO,
            reach_in: None,
            reach_out: None,
            interpolation,
            added: false,
        });
    }

    /// From the last key to the knot at `to`, which becomes a key.
    fn interval(&mut self, from: Knot, to: Ticks) {
        let last = self.keys.len() - 1;
        let end = to.as_f64();
        if from.leaving == Leaving::Holding {
            self.keys[last].interpolation = Interpolation::Hold;
            let held = self.keys[last].value;
            let start = from.time.as_f64();
            let rotation = self.path.rotation(start, Side::Right);
            self.points.extend([start, 0.5 * (start + end)].map(|time| self.point(time, rotation, held)));
            let value = self.across(end, held);
            self.push_key(to, None, value, DVec3::ZERO);
            return;
        }
        let (start_angles, start_slope) = self.departure(from.time.as_f64(), self.keys[last].value);
        if (start_angles - self.keys[last].value).abs().max_element() > 1e-4 {
            // No continuous angles lead through the pole here: one key, two values, one rotation.
            let value = self.keys[last].value;
            self.keys[last].before.get_or_insert(value);
            self.split_at_pole.push(from.time);
        }
        self.keys[last].value = start_angles;
        let points = self.follow(from.time.as_f64(), start_angles, end);
        self.note_pole(&points);
        let (arrival, end_slope) = self.arrival(&points);
        let slopes = RefCell::new(vec![None; points.len()]);
        let mut reach_in = None;
        let trace = Trace { run: self, points: &points, start_slope, end_slope, arrival, slopes };
        if from.leaving == Leaving::Straight && trace.is_straight() {
            self.keys[last].interpolation = Interpolation::Linear;
        } else {
            let Added { keys, reaches } = trace.added();
            self.keys[last].slope_out = start_slope;
            for (time, angles, slope) in keys {
                self.push_key(time, None, angles, slope);
                let key = self.keys.len() - 1;
                self.keys[key].slope_out = slope;
                self.keys[key].added = true;
            }
            for (index, piece) in reaches.into_iter().enumerate() {
                self.keys[last + index].reach_out = Some(piece.out);
                match self.keys.get_mut(last + index + 1) {
                    Some(next) => next.reach_in = Some(piece.into),
                    None => reach_in = Some(piece.into),
                }
            }
        }
        self.points.extend_from_slice(&points[..points.len() - 1]);
        let value = if self.path.jumps(end) { self.across(end, arrival) } else { arrival };
        let before = (value != arrival).then_some(arrival);
        self.push_key(to, before, value, end_slope);
        let key = self.keys.len() - 1;
        self.keys[key].reach_in = reach_in;
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
        angles
    }

    fn point(&self, time: f64, rotation: DQuat, angles: DVec3) -> Point {
        let lean = self.c.order.sign() * angles[self.c.order.middle()].sin();
        Point { time, rotation, angles, lean, slack: self.c.tolerance.factor(time) }
    }

    /// Follows the path from `from`, where it has these angles, to `to`.
    fn follow(&self, from: f64, angles: DVec3, to: f64) -> Vec<Point> {
        let step = self.c.rate.ticks_per_frame() / STEPS_PER_FRAME as f64;
        let first = (from / step).floor() as i64 + 1;
        let mut points = vec![self.point(from, self.path.rotation(from, Side::Right), angles)];
        // Where the path cannot turn far in a step, its speed need not be asked for at each.
        let calm = self.path.speed_bound(from, to) * step < MAX_TURN * TICKS_PER_SECOND as f64;
        for index in first.. {
            // Whole frames exactly, so that keys can stand on them.
            let time = if index % STEPS_PER_FRAME == 0 {
                self.c.rate.ticks(index / STEPS_PER_FRAME).as_f64()
            } else {
                (index as f64 * step).round()
            };
            if time >= to {
                break;
            }
            if time > from {
                self.advance(&mut points, time, Side::Right, calm, 0);
            }
        }
        self.advance(&mut points, to, Side::Left, calm, 0);
        points
    }

    /// One step on from the last point, in smaller steps where angles change fast.
    fn advance(&self, points: &mut Vec<Point>, to: f64, side: Side, calm: bool, depth: u32) {
        let last = points[points.len() - 1];
        let rotation = self.path.rotation(to, side);
        let angles = nearest_euler(self.c.order, rotation, last.angles);
        let turned = angle_between(last.rotation, rotation);
        let leaps =
            (angles - last.angles).abs().max_element() > MAX_STEP && turned > 0.5 * self.c.tolerance.angle;
        // A path may turn so far between two points that its ends tell nothing: its speed does.
        let turns = || {
            let speed = self.path.velocity(last.time, Side::Right).length();
            speed * (to - last.time) / TICKS_PER_SECOND as f64 > MAX_TURN
        };
        if (leaps || !calm && turns()) && depth < 24 && to - last.time > 2.0 {
            let middle = (0.5 * (last.time + to)).round();
            self.advance(points, middle, Side::Right, calm, depth + 1);
            self.advance(points, to, side, calm, depth + 1);
        } else {
            points.push(self.point(to, rotation, angles));
        }
    }

    fn is_near_pole(&self, angles: DVec3) -> bool {
        angles[self.c.order.middle()].cos().abs() < NEAR_POLE
    }

    /// Angles and slopes with which the path leaves an instant, coming from `angles`.
    fn departure(&self, time: f64, angles: DVec3) -> (DVec3, DVec3) {
        let velocity = self.path.velocity(time, Side::Right);
        if !self.is_near_pole(angles) {
            return (angles, rates_from_velocity(self.c.order, angles, velocity).unwrap_or(DVec3::ZERO));
        }
        self.limit(time, angles, 1.0)
    }

    /// Angles and slopes with which the path arrives at its last point.
    fn arrival(&self, points: &[Point]) -> (DVec3, DVec3) {
        let end = points[points.len() - 1];
        if !self.is_near_pole(end.angles) {
            let velocity = self.path.velocity(end.time, Side::Left);
            return (
                end.angles,
                rates_from_velocity(self.c.order, end.angles, velocity).unwrap_or(DVec3::ZERO),
            );
        }
        let before = points[points.len().saturating_sub(2)];
        self.limit(end.time, before.angles, -1.0)
    }

    /// The limit of angles and slopes towards an instant at the pole, from after it (`way` 1) or before it (-1).
    fn limit(&self, time: f64, near: DVec3, way: f64) -> (DVec3, DVec3) {
        let side = if way > 0.0 { Side::Right } else { Side::Left };
        let h = self.c.rate.ticks_per_frame() / 64.0;
        let at = |part: f64, near: DVec3| {
            nearest_euler(self.c.order, self.path.rotation(time + way * h * part, Side::Right), near)
        };
        let whole = at(1.0, near);
        let half = at(0.5, whole);
        let quarter = at(0.25, half);
        // Extrapolation through three points; then the exact rotation nearest to it.
        let angles = (8.0 * quarter - 6.0 * half + whole) / 3.0;
        let angles = nearest_euler(self.c.order, self.path.rotation(time, side), angles);
        let seconds = h / TICKS_PER_SECOND as f64;
        // The slope at the start of the parabola through the value and the points at a quarter and the whole.
        let slope = (16.0 * quarter - whole - 15.0 * angles) / (3.0 * seconds) * way;
        if self.path.velocity(time, side).length() < 1e-9 {
            return (angles, DVec3::ZERO);
        }
        (angles, slope)
    }

    fn note_pole(&mut self, points: &[Point]) {
        // The lean is the sine of the middle angle: the larger, the closer.
        let Some(first) = points.first() else { return };
        let closest = points.iter().fold(first, |a, b| if b.lean.abs() > a.lean.abs() { b } else { a });
        let distance = closest.angles[self.c.order.middle()].cos().abs().asin();
        if distance < self.closest.0 {
            self.closest = (distance, closest.time);
        }
    }

    fn finish(self) -> Converted {
        let curves: [Curve; 3] = std::array::from_fn(|axis| channel(&self.keys, axis));
        let mut error = MeasuredError::none(Quantity::Angle);
        let mut cursors = curves.each_ref().map(crate::curve::Cursor::new);
        for point in &self.points {
            let angles = DVec3::from_array(
                cursors.each_mut().map(|cursor| cursor.value_at(point.time).unwrap_or(0.0)),
            );
            // The largest error is to be exact; of the others it is enough that they are smaller.
            let (linear, rest) = point.distance(self.c.order, angles);
            let found = match linear + rest < error.largest {
                true => linear,
                false => angle_between(point.rotation, quat_from_euler(self.c.order, angles)),
            };
            error.take(found, point.time);
        }
        let added = self.keys.iter().filter(|key| key.added).count();
        Converted { curves, error, added, closest_to_pole: self.closest, split_at_pole: self.split_at_pole }
    }
}

/// The curve of one angle; one key is enough where it never changes.
fn channel(keys: &[TripleKey], axis: usize) -> Curve {
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
    let made = keys.iter().enumerate().map(|(index, key)| {
        let (slope_in, slope_out) = (key.slope_in[axis], key.slope_out[axis]);
        let joined = slope_in == slope_out;
        let tangent = |slope: f64, reach: Option<DVec3>, other: Option<&TripleKey>| match (reach, other) {
            (Some(reach), Some(other)) if reach[axis] != PLAIN.0 => {
                let dt = reach[axis] * (other.time.as_f64() - key.time.as_f64()).abs();
                Tangent::handle(dt, slope * (dt / TICKS_PER_SECOND as f64))
            }
            _ => Tangent::slope(slope),
        };
        Key {
            time: key.time,
            value: key.value[axis],
            value_before: key.before.map(|before| before[axis]).filter(|&before| before != key.value[axis]),
            interpolation: key.interpolation,
            tangent_in: tangent(slope_in, key.reach_in, index.checked_sub(1).map(|before| &keys[before])),
            tangent_out: tangent(slope_out, key.reach_out, keys.get(index + 1)),
            joined,
            added: key.added,
        }
    });
    Curve::new(made.collect()).expect("keys were made in order of time")
}

/// What is added between two knots.
#[derive(Default)]
struct Added {
    /// Keys: when, with which angles and slopes.
    keys: Vec<(Ticks, DVec3, DVec3)>,
    /// The handles of all pieces between them; none where all are plain.
    reaches: Vec<Reach>,
}

/// How far the handles of a piece reach from both its ends, in parts of it.
#[derive(Clone, Copy, Debug)]
struct Reach {
    out: DVec3,
    into: DVec3,
}

/// The followed path between two knots.
struct Trace<'a, 'b, P: RotationPath> {
    run: &'a Run<'b, P>,
    points: &'a [Point],
    start_slope: DVec3,
    end_slope: DVec3,
    arrival: DVec3,
    /// Slopes at points inside, as far as they were asked for.
    slopes: RefCell<Vec<Option<DVec3>>>,
}

impl<P: RotationPath> Trace<'_, '_, P> {
    /// The slopes of the angles at a point, per second.
    fn slope(&self, index: usize) -> DVec3 {
        let last = self.points.len() - 1;
        if index == 0 {
            return self.start_slope;
        }
        if index == last {
            return self.end_slope;
        }
        *self.slopes.borrow_mut()[index].get_or_insert_with(|| self.slope_inside(index))
    }

    fn slope_inside(&self, index: usize) -> DVec3 {
        let point = &self.points[index];
        let c = self.run.c;
        let velocity = self.run.path.velocity(point.time, Side::Right);
        match rates_from_velocity(c.order, point.angles, velocity) {
            Some(rates) if !self.run.is_near_pole(point.angles) => rates,
            _ => {
                let (before, after) = (&self.points[index - 1], &self.points[index + 1]);
                (after.angles - before.angles) / ((after.time - before.time) / TICKS_PER_SECOND as f64)
            }
        }
    }

    fn angles(&self, index: usize) -> DVec3 {
        if index + 1 == self.points.len() { self.arrival } else { self.points[index].angles }
    }

    /// Whether straight lines in the new angles stay within the tolerance.
    fn is_straight(&self) -> bool {
        let last = self.points.len() - 1;
        let (from, to) = (&self.points[0], &self.points[last]);
        self.points[1..last].iter().all(|point| {
            let part = (point.time - from.time) / (to.time - from.time);
            let angles = from.angles + (self.arrival - from.angles) * part;
            self.is_within(point, angles, self.run.c.tolerance.angle)
        })
    }

    /// Whether a rotation with these angles lies within a tolerance of a point of the path, as far as that goes there.
    fn is_within(&self, point: &Point, angles: DVec3, tolerance: f64) -> bool {
        let tolerance = tolerance * point.slack;
        let order = self.run.c.order;
        let (linear, rest) = point.distance(order, angles);
        if linear + rest < tolerance {
            return true;
        }
        if linear - rest > tolerance {
            return false;
        }
        // A conversion back meets the very same error: rounding must not make it another one.
        angle_between(point.rotation, quat_from_euler(order, angles)) <= tolerance * (1.0 + 1e-9)
    }

    /// Whether one cubic from a point to another stays within a tolerance.
    fn fits(&self, from: usize, to: usize, tolerance: f64) -> bool {
        let (start, end) = (self.points[from].time, self.points[to].time);
        let seconds = (end - start) / TICKS_PER_SECOND as f64;
        let (v0, v1) = (self.angles(from), self.angles(to));
        let (m0, m1) = (self.slope(from) * seconds, self.slope(to) * seconds);
        let rise = v1 - v0;
        let (c2, c3) = (3.0 * rise - 2.0 * m0 - m1, m0 + m1 - 2.0 * rise);
        let is_near = |point: &Point| {
            let u = (point.time - start) / (end - start);
            self.is_within(point, v0 + (m0 + (c2 + c3 * u) * u) * u, tolerance)
        };
        // It strays most far from its ends, so what does not fit shows soonest in the middle.
        let middle = from + 1 + (to - from) / 2;
        let (first, second) = self.points[from + 1..to].split_at((middle - from - 1).min(to - from - 1));
        second.iter().all(is_near) && first.iter().rev().all(is_near)
    }

    /// The keys that must be added, and the handles of all pieces where those are not plain.
    fn added(&self) -> Added {
        let tolerance = self.run.c.tolerance.angle;
        let last = self.points.len() - 1;
        if self.fits(0, last, tolerance) {
            return Added::default();
        }
        let cuts = self.cuts(&|from, to, tolerance| self.fits(from, to, tolerance));
        let plain = match cuts.as_slice() {
            [_, _, ..] => self.fewer(&cuts),
            _ => None,
        };
        let plain = plain.unwrap_or_else(|| self.keys_at(&cuts));
        if self.run.c.handles == Handles::Weighted {
            let cuts = self.cuts(&|from, to, tolerance| self.weighted(from, to, tolerance).is_some());
            let knots: Vec<usize> = [0].into_iter().chain(cuts.iter().copied()).chain([last]).collect();
            let reaches: Option<Vec<Reach>> =
                knots.windows(2).map(|pair| self.weighted(pair[0], pair[1], tolerance)).collect();
            if let Some(reaches) = reaches.filter(|_| cuts.len() < plain.len()) {
                return Added { keys: self.keys_at(&cuts), reaches };
            }
        }
        Added { keys: plain, reaches: Vec::new() }
    }

    /// Keys on the path at some points.
    fn keys_at(&self, points: &[usize]) -> Vec<(Ticks, DVec3, DVec3)> {
        let time = |index: usize| Ticks(self.points[index].time.round() as i64);
        points.iter().map(|&index| (time(index), self.points[index].angles, self.slope(index))).collect()
    }

    /// The handles with which one weighted piece from a point to another stays within a tolerance.
    fn weighted(&self, from: usize, to: usize, tolerance: f64) -> Option<Reach> {
        if self.fits(from, to, tolerance) {
            return Some(Reach { out: DVec3::splat(PLAIN.0), into: DVec3::splat(PLAIN.1) });
        }
        let (start, end) = (self.points[from].time, self.points[to].time);
        let seconds = (end - start) / TICKS_PER_SECOND as f64;
        let (v0, v1) = (self.angles(from), self.angles(to));
        let (m0, m1) = (self.slope(from) * seconds, self.slope(to) * seconds);
        let stride = ((to - from) / SAMPLES_PER_PIECE).max(1);
        let part = |index: usize| (self.points[index].time - start) / (end - start);
        let mut reach = Reach { out: DVec3::ZERO, into: DVec3::ZERO };
        let pieces: [Segment; 3] = std::array::from_fn(|axis| {
            let samples: Vec<(f64, f64)> = (from + 1..to)
                .step_by(stride)
                .map(|index| (part(index), self.angles(index)[axis] - v0[axis]))
                .collect();
            let ends = Ends { rise: v1[axis] - v0[axis], slopes: (m0[axis], m1[axis]) };
            let (out, into) = lengths(ends, &samples);
            (reach.out[axis], reach.into[axis]) = (out, into);
            // As the curve will have it.
            let gap = end - start;
            let key = |time: f64, value: f64| Key::new(Ticks(time.round() as i64), value);
            let first =
                Key { tangent_out: Tangent::handle(out * gap, out * m0[axis]), ..key(start, v0[axis]) };
            let last = Key { tangent_in: Tangent::handle(into * gap, into * m1[axis]), ..key(end, v1[axis]) };
            Segment::between(&first, &last)
        });
        let is_near = |point: &Point| {
            let angles = pieces.each_ref().map(|piece| piece.value(point.time).unwrap_or(0.0));
            self.is_within(point, DVec3::from_array(angles), tolerance)
        };
        self.points[from + 1..to].iter().all(is_near).then_some(reach)
    }

    /// Fewer keys than `cuts`, whose values and slopes are not on the path but keep it within the tolerance.
    fn fewer(&self, cuts: &[usize]) -> Option<Vec<(Ticks, DVec3, DVec3)>> {
        let last = self.points.len() - 1;
        let (start, end) = (self.points[0].time, self.points[last].time);
        let seconds = (end - start) / TICKS_PER_SECOND as f64;
        let axes = self.run.c.order.axes();
        let sample = |&index: &usize| {
            let (point, angles) = (&self.points[index], self.angles(index));
            Sample {
                time: (point.time - start) / (end - start),
                angles,
                lean: point.lean,
                slack: point.slack,
            }
        };
        // So many are enough to choose by; what is chosen is held against all.
        let stride = (last / (SAMPLES_PER_KEY * (cuts.len() + 1))).max(1);
        let is_chosen =
            |index: &usize| index.is_multiple_of(stride) || *index == last || self.is_whole(*index);
        let chosen: Vec<usize> = (0..=last).filter(is_chosen).collect();
        let samples: Vec<Sample> = chosen.iter().map(sample).collect();
        let ends = (self.start_slope * seconds, self.end_slope * seconds);
        // Equal parts of what each piece between the cuts can bear.
        let knots: Vec<usize> = std::iter::once(0).chain(cuts.iter().copied()).chain([last]).collect();
        let place = |part: f64| {
            let at = part * (knots.len() - 1) as f64;
            let piece = (at as usize).min(knots.len() - 2);
            let (a, b) = (self.points[knots[piece]].time, self.points[knots[piece + 1]].time);
            self.nearest_whole(a + (b - a) * (at - piece as f64))
        };
        let tolerance = self.run.c.tolerance.angle;
        let mut count = cuts.len() * 6 / 10;
        while count < cuts.len() {
            let places = (1..=count).map(|key| place(key as f64 / (count + 1) as f64));
            let places: Vec<usize> = places.map(|index| chosen.partition_point(|own| *own < index)).collect();
            let found = refine(&samples, &places, ends, axes, 0.97 * tolerance);
            let found = found.filter(|(_, error)| *error < tolerance).map(|(keys, _)| {
                keys.into_iter().map(|key| FreeKey { index: chosen[key.index], ..key }).collect::<Vec<_>>()
            });
            if let Some(keys) = found.filter(|keys| self.all_within(keys, ends)) {
                let key = |key: &FreeKey| {
                    (Ticks(self.points[key.index].time.round() as i64), key.angles, key.slopes / seconds)
                };
                return Some(keys.iter().map(key).collect());
            }
            count += 1;
        }
        None
    }

    /// The point on a whole frame nearest to a time, or the nearest one where no frame lies between.
    fn nearest_whole(&self, time: f64) -> usize {
        let frame = self.run.c.rate.nearest_frame(Ticks(time.round() as i64));
        let wanted = self.run.c.rate.ticks(frame).as_f64();
        let last = self.points.len() - 1;
        let inside = self.points[0].time < wanted && wanted < self.points[last].time;
        let wanted = if inside { wanted } else { time };
        self.points.partition_point(|point| point.time < wanted).clamp(1, last - 1)
    }

    /// Whether a curve through these keys really stays within the tolerance.
    fn all_within(&self, keys: &[FreeKey], ends: (DVec3, DVec3)) -> bool {
        let last = self.points.len() - 1;
        let (start, end) = (self.points[0].time, self.points[last].time);
        let first = FreeKey { index: 0, angles: self.points[0].angles, slopes: ends.0 };
        let closing = FreeKey { index: last, angles: self.arrival, slopes: ends.1 };
        let all: Vec<&FreeKey> = std::iter::once(&first).chain(keys).chain([&closing]).collect();
        all.windows(2).all(|pair| {
            let (a, b) = (pair[0], pair[1]);
            let (from, to) = (self.points[a.index].time, self.points[b.index].time);
            let part = (to - from) / (end - start);
            let rise = b.angles - a.angles;
            let (m0, m1) = (a.slopes * part, b.slopes * part);
            let (c2, c3) = (3.0 * rise - 2.0 * m0 - m1, m0 + m1 - 2.0 * rise);
            (a.index.max(1)..b.index).all(|index| {
                let point = &self.points[index];
                let u = (point.time - from) / (to - from);
                self.is_within(point, a.angles + (m0 + (c2 + c3 * u) * u) * u, self.run.c.tolerance.angle)
            })
        })
    }

    /// Whether a point is on a whole frame.
    fn is_whole(&self, index: usize) -> bool {
        self.run.c.rate.whole_frame(Ticks(self.points[index].time as i64)).is_some()
    }

    /// The points at which keys must be added, as few as can be found and evenly spread, where `fits` says which pieces
    /// stay within a tolerance.
    fn cuts(&self, fits: &dyn Fn(usize, usize, f64) -> bool) -> Vec<usize> {
        let tolerance = self.run.c.tolerance.angle;
        if fits(0, self.points.len() - 1, tolerance) {
            return Vec::new();
        }
        let frames: Vec<usize> = (1..self.points.len() - 1).filter(|index| self.is_whole(*index)).collect();
        let mut cuts = self.cuts_within(tolerance, &frames, fits);
        // The least tolerance that needs no more keys spreads the error evenly.
        let (mut enough, mut too_little) = (tolerance, 0.0);
        for _ in 0..5 {
            let middle = 0.5 * (enough + too_little);
            let tried = self.cuts_within(middle, &frames, fits);
            if tried.len() <= cuts.len() {
                (enough, cuts) = (middle, tried);
            } else {
                too_little = middle;
            }
        }
        cuts
    }

    /// The points at which a tolerance needs keys; those of `frames` stand on whole frames.
    fn cuts_within(
        &self,
        tolerance: f64,
        frames: &[usize],
        fits: &dyn Fn(usize, usize, f64) -> bool,
    ) -> Vec<usize> {
        let last = self.points.len() - 1;
        let mut cuts = Vec::new();
        let mut at = 0;
        while !fits(at, last, tolerance) {
            let ahead = &frames[frames.partition_point(|&index| index <= at)..];
            let reach = farthest(0, ahead.len(), 1, |count| fits(at, ahead[count - 1], tolerance));
            at = match reach {
                0 => {
                    // Not even to the next frame: as far as the steps in between allow.
                    let limit = ahead.first().copied().unwrap_or(last);
                    let steps =
                        farthest(0, limit - 1 - at, 1, |count| fits(at, at + count, tolerance)).max(1);
                    at + steps
                }
                count => ahead[count - 1],
            };
            if at >= last {
                break;
            }
            cuts.push(at);
        }
        cuts
    }
}
