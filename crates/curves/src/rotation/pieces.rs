//! The keys that a followed path needs between two knots: as few as can be found.

use std::cell::RefCell;

use glam::DVec3;

use super::conversion::Run;
use super::follow::Point;
use super::handles::{Ends, PLAIN, lengths};
use super::path::RotationPath;
use super::refine::{FreeKey, Sample, refine};
use super::{angle_between, nearest_euler, quat_from_euler, rates_from_velocity};
use crate::curve::{Key, Segment, Side, Tangent, Ticks};
use crate::fit::Handles;
use crate::search::farthest;
use crate::time::TICKS_PER_SECOND;

/// Only every so many points are looked at where an error is spread evenly.
const GLANCE: usize = 4;
/// By so many points at least the handles of a piece are chosen.
const SAMPLES_PER_PIECE: usize = 20;
/// By so many points a piece keys with free values are chosen.
const SAMPLES_PER_KEY: usize = 12;
/// Pieces between keys whose values and slopes are free are this many points long at least: those of shorter ones go through all points and
/// anywhere in between.
const LEAST_PER_PIECE: usize = 4;
/// What is added between two knots.
#[derive(Default)]
pub(super) struct Added {
    /// Keys: when, with which angles and slopes.
    pub keys: Vec<(Ticks, DVec3, DVec3)>,
    /// The handles of all pieces between them; none where all are plain.
    pub reaches: Vec<Reach>,
    /// How many keys it would be with plain handles.
    pub plainly: usize,
}

/// How far the handles of a piece reach from both its ends, in parts of it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Reach {
    pub out: DVec3,
    pub into: DVec3,
}

/// A plain cubic of all three angles.
struct Piece {
    start: f64,
    length: f64,
    c: [DVec3; 4],
}

impl Piece {
    /// From one end to another: times in ticks, angles, and their slopes over the whole piece.
    fn between((start, v0, m0): (f64, DVec3, DVec3), (end, v1, m1): (f64, DVec3, DVec3)) -> Piece {
        let rise = v1 - v0;
        Piece { start, length: end - start, c: [v0, m0, 3.0 * rise - 2.0 * m0 - m1, m0 + m1 - 2.0 * rise] }
    }

    fn at(&self, time: f64) -> DVec3 {
        let u = (time - self.start) / self.length;
        let [c0, c1, c2, c3] = self.c;
        c0 + (c1 + (c2 + c3 * u) * u) * u
    }
}

/// Whether one piece from a point to another stays within a tolerance.
type Fits<'a> = dyn Fn(usize, usize, f64) -> bool + 'a;

/// The followed path between two knots.
pub(super) struct FollowedPath<'a, 'b, P: RotationPath> {
    run: &'a Run<'b, P>,
    points: &'a [Point],
    start_slope: DVec3,
    end_slope: DVec3,
    arrival: DVec3,
    /// Slopes at points inside, as far as they were asked for.
    slopes: RefCell<Vec<Option<DVec3>>>,
}

impl<'a, 'b, P: RotationPath> FollowedPath<'a, 'b, P> {
    /// Points of a path, the slopes at the first and the last one, and the angles with which it arrives.
    pub fn new(
        run: &'a Run<'b, P>,
        points: &'a [Point],
        (start_slope, end_slope): (DVec3, DVec3),
        arrival: DVec3,
    ) -> Self {
        let slopes = RefCell::new(vec![None; points.len()]);
        FollowedPath { run, points, start_slope, end_slope, arrival, slopes }
    }

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
    pub fn is_straight(&self) -> bool {
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
        let tolerance = tolerance * point.scale;
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
        let piece = self.piece(from, to);
        let is_near = |point: &Point| self.is_within(point, piece.at(point.time), tolerance);
        // It strays most far from its ends, so what does not fit shows soonest in the middle.
        let middle = (from + 1 + (to - from) / 2).min(to);
        self.points[middle..to].iter().step_by(stride).all(is_near)
            && self.points[from + 1..middle].iter().rev().step_by(stride).all(is_near)
    }

    /// How far one cubic from a point to another is off at a glance, in terms of the whole tolerance; `None` where that is
    /// no less than `most`.
    fn off_within(&self, from: usize, to: usize, most: f64) -> Option<f64> {
        let piece = self.piece(from, to);
        self.points[from + 1..to].iter().step_by(GLANCE).try_fold(0.0, |largest: f64, point| {
            let (linear, rest) = self.run.distance(point, piece.at(point.time));
            let off = if rest.is_finite() { linear / point.scale } else { f64::INFINITY };
            (off < most).then_some(largest.max(off))
        })
    }

    /// The cubic from a point to another, with the slopes of the path at both.
    fn piece(&self, from: usize, to: usize) -> Piece {
        let (start, end) = (self.points[from].time, self.points[to].time);
        let seconds = (end - start) / TICKS_PER_SECOND as f64;
        Piece::between(
            (start, self.angles(from), self.slope(from) * seconds),
            (end, self.angles(to), self.slope(to) * seconds),
        )
    }

    /// The keys that must be added, and the handles of all pieces where those are not plain.
    pub fn added(&self) -> Added {
        let tolerance = self.run.c.tolerance.angle;
        let last = self.points.len() - 1;
        if self.fits(0, last, tolerance) {
            return Added::default();
        }
        let fits = |from, to, tolerance| self.fits(from, to, tolerance);
        let glance = |from, to, tolerance| self.fits_at(from, to, tolerance, GLANCE);
        let cuts = match self.cuts_within(tolerance, &self.frames(), &fits, last).unwrap_or_default() {
            first if first.len() == 1 => self.best_cut().unwrap_or(first),
            first => self.equalize_error(first, &fits, &glance),
        };
        let plain = match cuts.as_slice() {
            [_, _, ..] => self.fewer(&cuts),
            _ => None,
        };
        let plain = plain.unwrap_or_else(|| self.keys_at(&cuts));
        match self.run.handles {
            Handles::Plain => Added { plainly: plain.len(), keys: plain, reaches: Vec::new() },
            Handles::Weighted => self.added_beside(plain),
        }
    }

    /// The keys that must be added, where with plain handles it would be these: those, or fewer with weighted ones.
    pub fn added_beside(&self, plain: Vec<(Ticks, DVec3, DVec3)>) -> Added {
        let (tolerance, last, plainly) = (self.run.c.tolerance.angle, self.points.len() - 1, plain.len());
        if !plain.is_empty()
            && let Some(reach) = self.weighted(0, last, tolerance)
        {
            return Added { keys: Vec::new(), reaches: vec![reach], plainly };
        }
        let fits = |from, to, tolerance| self.weighted(from, to, tolerance).is_some();
        let fewer = match plainly {
            0 | 1 => None,
            count => self.cuts_within(tolerance, &self.frames(), &fits, count - 1),
        };
        let weighted = fewer.and_then(|cuts| {
            let knots: Vec<usize> = [0].into_iter().chain(cuts.iter().copied()).chain([last]).collect();
            let reaches = knots.windows(2).map(|pair| self.weighted(pair[0], pair[1], tolerance));
            Some(Added { keys: self.keys_at(&cuts), reaches: reaches.collect::<Option<_>>()?, plainly })
        });
        weighted.unwrap_or(Added { keys: plain, reaches: Vec::new(), plainly })
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
        let inside = || self.points[from + 1..to].iter();
        // What an outer angle is off turns by its cosine at the least, whatever the others are off.
        let gimbal_coupling = inside().map(|point| point.gimbal_coupling.abs()).fold(0.0, f64::max).min(1.0);
        let room = tolerance * inside().map(|point| point.scale).fold(0.0, f64::max);
        let (outermost, middle, innermost) = self.run.c.order.axes();
        let mut reach = Reach { out: DVec3::ZERO, into: DVec3::ZERO };
        let mut piece = |axis: usize, room: f64| {
            let samples: Vec<(f64, f64)> = (from + 1..to)
                .step_by(stride)
                .map(|index| (part(index), self.angles(index)[axis] - v0[axis]))
                .collect();
            let ends = Ends { rise: v1[axis] - v0[axis], slopes: (m0[axis], m1[axis]) };
            let (out, into) = lengths(ends, &samples, tolerance, room)?;
            (reach.out[axis], reach.into[axis]) = (out, into);
            // As the curve will have it.
            let gap = end - start;
            let key = |time: f64, value: f64| Key::new(Ticks(time.round() as i64), value);
            let first =
                Key { tangent_out: Tangent::handle(out * gap, out * m0[axis]), ..key(start, v0[axis]) };
            let last = Key { tangent_in: Tangent::handle(into * gap, into * m1[axis]), ..key(end, v1[axis]) };
            Some(Segment::between(&first, &last))
        };
        let by_middle = piece(middle, room)?;
        let outer_room = room / (1.0 - gimbal_coupling * gimbal_coupling).sqrt();
        let (by_outermost, by_innermost) = (piece(outermost, outer_room)?, piece(innermost, outer_room)?);
        let is_near = |point: &Point| {
            let mut angles = DVec3::ZERO;
            for (axis, piece) in
                [(middle, &by_middle), (outermost, &by_outermost), (innermost, &by_innermost)]
            {
                angles[axis] = piece.value(point.time).unwrap_or(0.0);
            }
            self.is_within(point, angles, tolerance)
        };
        // What does not fit shows soonest at a few points.
        (inside().skip(GLANCE).step_by(2 * GLANCE).all(is_near) && inside().all(is_near)).then_some(reach)
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
                gimbal_coupling: point.gimbal_coupling,
                scale: point.scale,
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
            let starts = [0].into_iter().chain(places.iter().copied());
            let ends_of_pieces = places.iter().copied().chain([chosen.len() - 1]);
            let is_told = starts.zip(ends_of_pieces).all(|(from, to)| from + LEAST_PER_PIECE <= to);
            let found = is_told.then(|| refine(&samples, &places, ends, axes, 0.97 * tolerance)).flatten();
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
            let piece = Piece::between((from, a.angles, a.slopes * part), (to, b.angles, b.slopes * part));
            self.points[a.index.max(1)..b.index]
                .iter()
                .all(|point| self.is_within(point, piece.at(point.time), self.run.c.tolerance.angle))
        })
    }

    /// Whether a point is on a whole frame.
    fn is_whole(&self, index: usize) -> bool {
        self.points[index].is_whole
    }

    /// The points on whole frames, the ends left out.
    fn frames(&self) -> Vec<usize> {
        (1..self.points.len() - 1).filter(|index| self.is_whole(*index)).collect()
    }

    /// As many cuts, or fewer, of which the one that is the farthest off is as close as can be; `seems_to_fit` says at a
    /// glance what fits.
    fn equalize_error(&self, first: Vec<usize>, fits: &Fits<'_>, seems_to_fit: &Fits<'_>) -> Vec<usize> {
        if first.is_empty() {
            return first;
        }
        let (tolerance, last, frames) = (self.run.c.tolerance.angle, self.points.len() - 1, self.frames());
        let mut cuts = first.clone();
        // The least tolerance that needs no more keys spreads the error evenly.
        let (mut enough, mut too_little) = (tolerance, 0.0);
        for _ in 0..5 {
            let middle = 0.5 * (enough + too_little);
            match self.cuts_within(middle, &frames, seems_to_fit, cuts.len()) {
                Some(tried) => (enough, cuts) = (middle, tried),
                None => too_little = middle,
            }
        }
        let mut pieces =
            std::iter::once(0).chain(cuts.iter().copied()).zip(cuts.iter().copied().chain([last]));
        if pieces.all(|(from, to)| fits(from, to, tolerance)) { cuts } else { first }
    }

    /// The frame at which one key brings plain pieces closest.
    fn best_cut(&self) -> Option<Vec<usize>> {
        let (tolerance, last) = (self.run.c.tolerance.angle, self.points.len() - 1);
        let (mut best, mut least) = (None, tolerance);
        for cut in self.frames() {
            let off = self
                .off_within(0, cut, least)
                .and_then(|before| Some(before.max(self.off_within(cut, last, least)?)));
            if let Some(off) = off {
                (best, least) = (Some(cut), off);
            }
        }
        best.filter(|&cut| self.fits(0, cut, tolerance) && self.fits(cut, last, tolerance))
            .map(|cut| vec![cut])
    }

    /// The points at which keys must be added, as few as can be found, where `fits` says which pieces stay within the
    /// tolerance; those of `frames` stand on whole frames. `None` where that takes more than `most`.
    fn cuts_within(
        &self,
        tolerance: f64,
        frames: &[usize],
        fits: &Fits<'_>,
        most: usize,
    ) -> Option<Vec<usize>> {
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
            if cuts.len() == most {
                return None;
            }
            cuts.push(at);
        }
        Some(cuts)
    }
}
