//! Conversion of a rotation path into Euler curves of any order: no flips, tangents kept, few keys added.
//!
//! The path is followed in steps so small that no turn is lost, and at each step the Euler angles are the candidate
//! nearest to those of the step before. Tangents come from the angular velocity, on both sides of each key:
//! `θ̇ = E(θ)⁻¹·ω`. Keys are added only where the cubic between two keys strays from the path by more than the
//! tolerance, and then as few as greedily longest pieces need, evenly spread; where that is more than one between two
//! keys, fewer still whose values and slopes are free (see [`super::refine`]).

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use glam::{DQuat, DVec3};

use super::allowance::{Allowance, Slack};
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
/// Only every so many points are looked at where an error is spread evenly.
const GLANCE: usize = 4;
/// Every so many steps are tried first, where the path is calm.
const STRIDES: [i64; 2] = [8, 4];
/// The parts of the tolerance by which an angle at every other one of these steps may be off the cubics through the rest, and
/// by which rotations between steps may be off then: half the distance meets a bend in the slope four times closer, and a
/// smooth path sixteen times.
const HELD_OUT: f64 = 0.02;
const SLOP: f64 = 0.009;
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
    /// What was found before, where the same path is converted again with another slack.
    pub memory: Option<Place<'a>>,
}

impl<'a> Conversion<'a> {
    /// Into an order within a tolerance, with plain handles.
    pub fn new(
        order: RotationOrder,
        tolerance: impl Into<Allowance<'a>>,
        rate: FrameRate,
        start: DVec3,
    ) -> Conversion<'a> {
        Conversion { order, tolerance: tolerance.into(), rate, start, handles: Handles::Plain, memory: None }
    }
}

/// What conversions came to, so that the same paths can be converted again where the tolerance changed.
#[derive(Debug, Default)]
pub struct Memory {
    places: Mutex<HashMap<usize, Remembered>>,
}

/// The place of one path in a memory.
#[derive(Clone, Copy, Debug)]
pub struct Place<'a> {
    memory: &'a Memory,
    index: usize,
}

/// What a path came to.
#[derive(Debug)]
struct Remembered {
    knots: Vec<Knot>,
    intervals: Vec<Interval>,
    angle: f64,
    slack: Option<Slack>,
}

impl Memory {
    /// The place of a path; no other one may have the same.
    pub fn place(&self, index: usize) -> Place<'_> {
        Place { memory: self, index }
    }
}

impl Place<'_> {
    fn take(self, knots: &[Knot]) -> Option<Remembered> {
        let mut places = self.memory.places.lock().unwrap_or_else(PoisonError::into_inner);
        places.remove(&self.index).filter(|remembered| remembered.knots == knots)
    }

    fn keep(self, knots: &[Knot], intervals: Vec<Interval>, conversion: &Conversion<'_>) {
        let Allowance { angle, slack } = conversion.tolerance;
        let remembered = Remembered { knots: knots.to_vec(), intervals, angle, slack: slack.cloned() };
        let mut places = self.memory.places.lock().unwrap_or_else(PoisonError::into_inner);
        places.insert(self.index, remembered);
    }
}

impl Remembered {
    /// What came of an interval, where it would come to the same again.
    fn interval(
        &self,
        index: usize,
        knots: &[Knot],
        first: &TripleKey,
        conversion: &Conversion<'_>,
    ) -> Option<Interval> {
        let (from, to) = (knots[0].time.as_f64(), knots[1].time.as_f64());
        let Allowance { angle, slack } = conversion.tolerance;
        let interval = self.intervals.get(index).filter(|interval| interval.came == first.value)?;
        let is_same = match (slack, &self.slack) {
            (None, None) => true,
            (Some(now), Some(then)) => now.within(from, to) == then.within(from, to),
            _ => false,
        };
        let mut interval = (is_same && self.angle == angle).then(|| interval.clone())?;
        // How the path comes to the first key is no matter of this interval.
        let own = &mut interval.keys[0];
        own.slope_in = first.slope_in;
        own.reach_in = first.reach_in;
        Some(interval)
    }
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
    let run = Run { path, c: conversion };
    let mut intervals: Vec<Interval> = Vec::with_capacity(knots.len());
    let mut keys: Vec<TripleKey> = knots.first().map(|knot| run.first_key(knot.time)).into_iter().collect();
    let mut error = MeasuredError::none(Quantity::Angle);
    let (mut closest, mut split_at_pole) = ((f64::INFINITY, 0.0), Vec::new());
    let before = conversion.memory.and_then(|memory| memory.take(knots));
    for (index, pair) in knots.windows(2).enumerate() {
        let first = keys.pop().expect("every interval ends with a key");
        let same = before.as_ref().and_then(|before| before.interval(index, pair, &first, conversion));
        let interval = same.unwrap_or_else(|| run.interval(first, pair[0].leaving, pair[1].time));
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
    if let Some(memory) = conversion.memory {
        memory.keep(knots, intervals, conversion);
    }
    let curves = std::array::from_fn(|axis| channel(&keys, axis));
    let added = keys.iter().filter(|key| key.added).count();
    Converted { curves, error, added, closest_to_pole: closest, split_at_pole }
}

/// A step of the followed path.
#[derive(Clone, Copy, Debug)]
struct Point {
    time: f64,
    angles: DVec3,
    /// ε·sin of the middle angle, by which errors of the outer angles add up or cancel.
    lean: f64,
    /// The factor of the tolerance here.
    slack: f64,
    /// The side of the path on which it lies.
    side: Side,
    /// Whether its angles are interpolated between neighbours.
    is_between: bool,
    /// Whether it is on a whole frame.
    is_whole: bool,
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

/// A step at which a path is followed.
#[derive(Clone, Copy, Debug)]
struct GridStep {
    time: f64,
    index: i64,
    is_whole: bool,
}

/// The cubic through the angles of four points.
struct Cubic {
    times: [f64; 3],
    /// Divided differences (Newton).
    c: [DVec3; 4],
}

impl Cubic {
    fn through(points: [&Point; 4]) -> Cubic {
        let t = points.map(|point| point.time);
        let [mut a, mut b, mut c, mut d] = points.map(|point| point.angles);
        let first = a;
        (a, b, c) = ((b - a) / (t[1] - t[0]), (c - b) / (t[2] - t[1]), (d - c) / (t[3] - t[2]));
        let second = a;
        (a, b) = ((b - a) / (t[2] - t[0]), (c - b) / (t[3] - t[1]));
        d = (b - a) / (t[3] - t[0]);
        Cubic { times: [t[0], t[1], t[2]], c: [first, second, a, d] }
    }

    fn at(&self, time: f64) -> DVec3 {
        let [x, y, z] = self.times.map(|node| time - node);
        self.c[0] + x * (self.c[1] + y * (self.c[2] + z * self.c[3]))
    }
}

/// The four of so many points that lie best around the stretch behind one of them.
fn four_around(before: usize, count: usize) -> [usize; 4] {
    let first = before.saturating_sub(1).min(count - 4);
    [first, first + 1, first + 2, first + 3]
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

impl TripleKey {
    fn new(time: Ticks, value: DVec3, slope: DVec3) -> TripleKey {
        TripleKey {
            time,
            before: None,
            value,
            slope_in: slope,
            slope_out: slope,
            reach_in: None,
            reach_out: None,
            interpolation: Interpolation::Cubic,
            added: false,
        }
    }

    /// The key of one channel; its handles' lengths depend on the keys beside it.
    fn on(&self, axis: usize, before: Option<&TripleKey>, after: Option<&TripleKey>) -> Key {
        let tangent = |slope: f64, reach: Option<DVec3>, other: Option<&TripleKey>| match (reach, other) {
            (Some(reach), Some(other)) if reach[axis] != PLAIN.0 => {
                let dt = reach[axis] * (other.time.as_f64() - self.time.as_f64()).abs();
                Tangent::handle(dt, slope * (dt / TICKS_PER_SECOND as f64))
            }
            _ => Tangent::slope(slope),
        };
        let (slope_in, slope_out) = (self.slope_in[axis], self.slope_out[axis]);
        Key {
            time: self.time,
            value: self.value[axis],
            value_before: self.before.map(|value| value[axis]).filter(|&value| value != self.value[axis]),
            interpolation: self.interpolation,
            tangent_in: tangent(slope_in, self.reach_in, before),
            tangent_out: tangent(slope_out, self.reach_out, after),
            joined: slope_in == slope_out,
            added: self.added,
        }
    }
}

/// What came of a path from one knot to the next.
#[derive(Clone, Debug)]
struct Interval {
    /// The value with which the path came to its first key.
    came: DVec3,
    /// Its first key, those that were added, and its last one.
    keys: Vec<TripleKey>,
    /// How far the keys are from the path; places are in ticks.
    error: MeasuredError,
    /// The least distance from the pole, and when.
    closest: (f64, f64),
    /// Whether the first key has two values at the pole.
    is_split: bool,
}

struct Run<'a, P: RotationPath> {
    path: &'a P,
    c: &'a Conversion<'a>,
}

impl<P: RotationPath> Run<'_, P> {
    /// The key with which the first knot begins.
    fn first_key(&self, time: Ticks) -> TripleKey {
        let at = time.as_f64();
        let start = nearest_euler(self.c.order, self.path.rotation(at, Side::Right), self.c.start);
        let before = || nearest_euler(self.c.order, self.path.rotation(at, Side::Left), start);
        TripleKey { before: self.path.jumps(at).then(before), ..TripleKey::new(time, start, DVec3::ZERO) }
    }

    /// From a key at one knot to the next knot.
    fn interval(&self, mut first: TripleKey, leaving: Leaving, to: Ticks) -> Interval {
        let (start, end) = (first.time.as_f64(), to.as_f64());
        let came = first.value;
        let mut error = MeasuredError::none(Quantity::Angle);
        if leaving == Leaving::Holding {
            first.interpolation = Interpolation::Hold;
            first.slope_out = DVec3::ZERO;
            let off =
                angle_between(self.path.rotation(start, Side::Right), quat_from_euler(self.c.order, came));
            error.take(off, start);
            let last = TripleKey::new(to, self.across(end, came), DVec3::ZERO);
            let closest = (f64::INFINITY, 0.0);
            return Interval { came, keys: vec![first, last], error, closest, is_split: false };
        }
        let (value, start_slope) = self.departure(start, came);
        // No continuous angles lead through the pole here: one key, two values, one rotation.
        let is_split = (value - came).abs().max_element() > 1e-4;
        if is_split {
            first.before.get_or_insert(came);
        }
        (first.value, first.slope_out) = (value, start_slope);
        let points = self.follow(start, value, end);
        let (arrival, end_slope) = self.arrival(&points);
        let last = TripleKey { slope_in: end_slope, ..TripleKey::new(to, arrival, DVec3::ZERO) };
        let slopes = RefCell::new(vec![None; points.len()]);
        let trace = Trace { run: self, points: &points, start_slope, end_slope, arrival, slopes };
        let mut keys = vec![first];
        if leaving == Leaving::Straight && trace.is_straight() {
            keys[0].interpolation = Interpolation::Linear;
            keys[0].slope_out = DVec3::ZERO;
            keys.push(last);
        } else {
            let Added { keys: more, reaches } = trace.added();
            let added =
                |(time, angles, slope)| TripleKey { added: true, ..TripleKey::new(time, angles, slope) };
            keys.extend(more.into_iter().map(added));
            keys.push(last);
            for (index, piece) in reaches.into_iter().enumerate() {
                keys[index].reach_out = Some(piece.out);
                keys[index + 1].reach_in = Some(piece.into);
            }
        }
        self.measure(&points[..points.len() - 1], &keys, &mut error);
        if self.path.jumps(end) {
            let last = keys.len() - 1;
            keys[last].value = self.across(end, arrival);
            keys[last].before = (keys[last].value != arrival).then_some(arrival);
        }
        Interval { came, keys, error, closest: self.closest_to_pole(&points), is_split }
    }

    /// How far keys are from the path at some points.
    fn measure(&self, points: &[Point], keys: &[TripleKey], error: &mut MeasuredError) {
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
        // The lean is the sine of the middle angle: the larger, the closer.
        let Some(first) = points.first() else { return (f64::INFINITY, 0.0) };
        let closest = points.iter().fold(first, |a, b| if b.lean.abs() > a.lean.abs() { b } else { a });
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
        angles
    }

    fn point(&self, time: f64, angles: DVec3) -> Point {
        let lean = self.c.order.sign() * angles[self.c.order.middle()].sin();
        let slack = self.c.tolerance.factor(time);
        Point { time, angles, lean, slack, side: Side::Right, is_between: false, is_whole: false }
    }

    /// The path's rotation at a point.
    fn rotation(&self, point: &Point) -> DQuat {
        self.path.rotation(point.time, point.side)
    }

    /// How far a rotation with some angles is from a point, in radians, and how far that may be off.
    #[inline]
    fn distance(&self, point: &Point, angles: DVec3) -> (f64, f64) {
        let (linear, rest) = point.distance(self.c.order, angles);
        let slop = if point.is_between { SLOP * self.c.tolerance.angle * point.slack } else { 0.0 };
        (linear, rest + slop)
    }

    /// Follows the path from `from`, where it has these angles, to `to`.
    fn follow(&self, from: f64, angles: DVec3, to: f64) -> Vec<Point> {
        let step = self.c.rate.ticks_per_frame() / STEPS_PER_FRAME as f64;
        let start = self.point(from, angles);
        let mut grid = Vec::with_capacity(((to - from) / step) as usize + 3);
        for index in (from / step).floor() as i64 + 1.. {
            // Whole frames exactly, so that keys can stand on them.
            let is_whole = index % STEPS_PER_FRAME == 0;
            let time = match is_whole {
                true => self.c.rate.ticks(index / STEPS_PER_FRAME).as_f64(),
                false => (index as f64 * step).round(),
            };
            if time >= to {
                break;
            }
            if time > from {
                grid.push(GridStep { time, index, is_whole });
            }
        }
        let speed = self.path.speed_bound(from, to) * step / TICKS_PER_SECOND as f64;
        for stride in STRIDES {
            if speed * (stride as f64) < MAX_TURN
                && let Some(points) = self.follow_widely(start, &grid, to, stride)
            {
                return points;
            }
        }
        // Where the path cannot turn far in a step, its speed need not be asked for at each.
        let calm = speed < MAX_TURN;
        let mut points = Vec::with_capacity(grid.len() + 2);
        points.push(start);
        for step in &grid {
            self.advance(&mut points, step.time, Side::Right, calm, 0);
            points.last_mut().expect("the start is among them").is_whole = step.is_whole;
        }
        self.advance(&mut points, to, Side::Left, calm, 0);
        points
    }

    /// Follows the path at every so many steps of the grid, and takes the angles in between from the cubics through four
    /// of those; `None` where the path is too lively for that. Every other one has to lie on the cubics of the rest.
    fn follow_widely(&self, start: Point, grid: &[GridStep], to: f64, stride: i64) -> Option<Vec<Point>> {
        // Nodes that stand close beside an end tell nothing more.
        let apart = 0.5 * stride as f64 * self.c.rate.ticks_per_frame() / STEPS_PER_FRAME as f64;
        let is_node = |step: &GridStep| {
            step.index % stride == 0 && step.time - start.time > apart && to - step.time > apart
        };
        let mut nodes = Vec::with_capacity(grid.len() / stride as usize + 2);
        nodes.push(start);
        let mut add = |time: f64, side: Side, is_whole: bool| {
            let rotation = self.path.rotation(time, side);
            let near = nodes[nodes.len() - 1].angles;
            let angles = nearest_euler(self.c.order, rotation, near);
            nodes.push(Point { side, is_whole, ..self.point(time, angles) });
            (angles - near).abs().max_element() <= MAX_STEP
        };
        for step in grid.iter().filter(|step| is_node(step)) {
            if !add(step.time, Side::Right, step.is_whole) {
                return None;
            }
        }
        if !add(to, Side::Left, false) {
            return None;
        }
        let last = nodes.len() - 1;
        let rest: Vec<usize> = (0..last).step_by(2).chain([last]).collect();
        if rest.len() < 4 {
            return None;
        }
        for (place, pair) in rest.windows(2).enumerate().filter(|(_, pair)| pair[1] == pair[0] + 2) {
            let through = four_around(place, rest.len()).map(|place| &nodes[rest[place]]);
            let node = &nodes[pair[0] + 1];
            let off = (Cubic::through(through).at(node.time) - node.angles).abs().max_element();
            if off > HELD_OUT * self.c.tolerance.angle * node.slack {
                return None;
            }
        }
        let mut points = Vec::with_capacity(grid.len() + 2);
        points.push(start);
        let (mut node, mut cubic) =
            (0, Cubic::through(four_around(0, nodes.len()).map(|place| &nodes[place])));
        for step in grid {
            if step.time >= nodes[node + 1].time {
                node += 1;
                cubic = Cubic::through(four_around(node, nodes.len()).map(|place| &nodes[place]));
            }
            if step.time == nodes[node].time {
                points.push(nodes[node]);
                continue;
            }
            let point = self.point(step.time, cubic.at(step.time));
            points.push(Point { is_between: true, is_whole: step.is_whole, ..point });
        }
        points.push(nodes[last]);
        Some(points)
    }

    /// One step on from the last point, in smaller steps where angles change fast.
    fn advance(&self, points: &mut Vec<Point>, to: f64, side: Side, calm: bool, depth: u32) {
        let last = points[points.len() - 1];
        let rotation = self.path.rotation(to, side);
        let angles = nearest_euler(self.c.order, rotation, last.angles);
        let turned = || angle_between(self.rotation(&last), rotation);
        let leaps =
            (angles - last.angles).abs().max_element() > MAX_STEP && turned() > 0.5 * self.c.tolerance.angle;
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
            points.push(Point { side, ..self.point(to, angles) });
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
    let before = |index: usize| index.checked_sub(1).map(|before| &keys[before]);
    let made = keys.iter().enumerate().map(|(index, key)| key.on(axis, before(index), keys.get(index + 1)));
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

/// Whether one piece from a point to another stays within a tolerance.
type Fits<'a> = dyn Fn(usize, usize, f64) -> bool + 'a;

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
        let (linear, rest) = self.run.distance(point, angles);
        if linear + rest < tolerance {
            return true;
        }
        if linear - rest > tolerance {
            return false;
        }
        // A conversion back meets the very same error: rounding must not make it another one.
        angle_between(self.run.rotation(point), quat_from_euler(order, angles)) <= tolerance * (1.0 + 1e-9)
    }

    /// Whether one cubic from a point to another stays within a tolerance.
    fn fits(&self, from: usize, to: usize, tolerance: f64) -> bool {
        self.fits_at(from, to, tolerance, 1)
    }

    /// The same, looked at every so many points only.
    fn fits_at(&self, from: usize, to: usize, tolerance: f64, stride: usize) -> bool {
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
        let middle = (from + 1 + (to - from) / 2).min(to);
        self.points[middle..to].iter().step_by(stride).all(is_near)
            && self.points[from + 1..middle].iter().rev().step_by(stride).all(is_near)
    }

    /// The keys that must be added, and the handles of all pieces where those are not plain.
    fn added(&self) -> Added {
        let tolerance = self.run.c.tolerance.angle;
        let last = self.points.len() - 1;
        if self.fits(0, last, tolerance) {
            return Added::default();
        }
        let fits = |from, to, tolerance| self.fits(from, to, tolerance);
        let cuts = self.cuts(&fits, &|from, to, tolerance| self.fits_at(from, to, tolerance, GLANCE));
        let plain = match cuts.as_slice() {
            [_, _, ..] => self.fewer(&cuts),
            _ => None,
        };
        let plain = plain.unwrap_or_else(|| self.keys_at(&cuts));
        if self.run.c.handles == Handles::Weighted {
            let fits = |from, to, tolerance| self.weighted(from, to, tolerance).is_some();
            let cuts = self.cuts(&fits, &fits);
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
        let key = |&index: &usize| {
            let point = &self.points[index];
            let angles = nearest_euler(self.run.c.order, self.run.rotation(point), point.angles);
            (Ticks(point.time.round() as i64), angles, self.slope(index))
        };
        points.iter().map(key).collect()
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
        self.points[index].is_whole
    }

    /// The points at which keys must be added, as few as can be found and evenly spread, where `fits` says which pieces
    /// stay within a tolerance; `seems_to_fit` says so at a glance.
    fn cuts(&self, fits: &Fits<'_>, seems_to_fit: &Fits<'_>) -> Vec<usize> {
        let tolerance = self.run.c.tolerance.angle;
        let last = self.points.len() - 1;
        if fits(0, last, tolerance) {
            return Vec::new();
        }
        let frames: Vec<usize> = (1..self.points.len() - 1).filter(|index| self.is_whole(*index)).collect();
        let first = self.cuts_within(tolerance, &frames, fits);
        let mut cuts = first.clone();
        // The least tolerance that needs no more keys spreads the error evenly.
        let (mut enough, mut too_little) = (tolerance, 0.0);
        for _ in 0..5 {
            let middle = 0.5 * (enough + too_little);
            let tried = self.cuts_within(middle, &frames, seems_to_fit);
            if tried.len() <= cuts.len() {
                (enough, cuts) = (middle, tried);
            } else {
                too_little = middle;
            }
        }
        let mut pieces =
            std::iter::once(0).chain(cuts.iter().copied()).zip(cuts.iter().copied().chain([last]));
        if pieces.all(|(from, to)| fits(from, to, tolerance)) { cuts } else { first }
    }

    /// The points at which a tolerance needs keys; those of `frames` stand on whole frames.
    fn cuts_within(&self, tolerance: f64, frames: &[usize], fits: &Fits<'_>) -> Vec<usize> {
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
