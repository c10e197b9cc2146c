//! Following a rotation path in the angles of an order: in steps so small that no turn is lost.

use glam::{DQuat, DVec3};

use super::conversion::Run;
use super::path::RotationPath;
use super::{RotationOrder, angle_between, nearest_euler, rates_from_velocity};
use crate::curve::Side;
use crate::time::TICKS_PER_SECOND;

/// The most by which an angle may change from one followed step to the next, unless the rotation hardly does.
const MAX_STEP: f64 = 0.26;
/// The most by which the rotation may turn, in radians, from one followed step to the next.
const MAX_TURN: f64 = 1.0;
/// Steps to a frame at which the path is followed and the error measured.
const STEPS_PER_FRAME: i64 = 16;
/// Of a path that leaps at every instant (what fades may lie half a turn away throughout) no more points are taken than
/// so many times those of the grid, and so many more: finer ones would tell no more of it, and take the square of the time.
const MOST_FINER: usize = 4;
const MOST_POINTS: usize = 4096;
/// Every so many steps are tried first, where the path is calm.
const STRIDES: [i64; 2] = [8, 4];
/// The parts of the tolerance by which an angle at every other one of these steps may be off the cubics through the rest, and
/// by which rotations between steps may be off then: half the distance meets a bend in the slope four times closer, and a
/// smooth path sixteen times.
const HELD_OUT: f64 = 0.02;
const SLOP: f64 = 0.009;
/// Below this cosine of the middle angle, angles and rates at a key are taken as limits from its side.
const NEAR_POLE: f64 = 1e-5;

/// A step of the followed path.
#[derive(Clone, Copy, Debug)]
pub(super) struct Point {
    pub time: f64,
    pub angles: DVec3,
    /// ε·sin of the middle angle, by which errors of the outer angles add up or cancel.
    pub gimbal_coupling: f64,
    /// The factor of the tolerance here.
    pub scale: f64,
    /// The side of the path on which it lies.
    side: Side,
    /// Whether its angles are interpolated between neighbours.
    is_between: bool,
    /// Whether it is on a whole frame.
    pub is_whole: bool,
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
        let square = d[a] * d[a] + d[b] * d[b] + d[c] * d[c] + 2.0 * self.gimbal_coupling * d[a] * d[c];
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

/// How a path is stepped along.
#[derive(Clone, Copy)]
struct Pace {
    /// It cannot turn far in a step of the grid.
    calm: bool,
    /// How many points there may be before steps are no longer halved.
    most: usize,
}

impl<P: RotationPath> Run<'_, P> {
    fn point(&self, time: f64, angles: DVec3) -> Point {
        let gimbal_coupling = self.c.order.sign() * angles[self.c.order.middle()].sin();
        let scale = self.c.tolerance.factor(time);
        Point { time, angles, gimbal_coupling, scale, side: Side::Right, is_between: false, is_whole: false }
    }

    /// The path's rotation at a point.
    pub(super) fn rotation(&self, point: &Point) -> DQuat {
        self.path.rotation(point.time, point.side)
    }

    /// How far a rotation with some angles is from a point, in radians, and how far that may be off.
    #[inline]
    pub(super) fn distance(&self, point: &Point, angles: DVec3) -> (f64, f64) {
        let (linear, rest) = point.distance(self.c.order, angles);
        let slop = if point.is_between { SLOP * self.c.tolerance.angle * point.scale } else { 0.0 };
        (linear, rest + slop)
    }

    /// Follows the path from `from`, where it has these angles, to `to`.
    pub(super) fn follow(&self, from: f64, angles: DVec3, to: f64) -> Vec<Point> {
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
                && let Some(points) = self.follow_coarse(start, &grid, to, stride)
            {
                return points;
            }
        }
        // Where the path cannot turn far in a step, its speed need not be asked for at each.
        let pace = Pace { calm: speed < MAX_TURN, most: MOST_FINER * grid.len() + MOST_POINTS };
        let mut points = Vec::with_capacity(grid.len() + 2);
        points.push(start);
        for step in &grid {
            self.advance(&mut points, step.time, Side::Right, pace, 0);
            points.last_mut().expect("the start is among them").is_whole = step.is_whole;
        }
        self.advance(&mut points, to, Side::Left, pace, 0);
        points
    }

    /// Follows the path at every so many steps of the grid, and takes the angles in between from the cubics through four
    /// of those; `None` where the path is too lively for that. Every other one has to lie on the cubics of the rest.
    fn follow_coarse(&self, start: Point, grid: &[GridStep], to: f64, stride: i64) -> Option<Vec<Point>> {
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
            if off > HELD_OUT * self.c.tolerance.angle * node.scale {
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
    fn advance(&self, points: &mut Vec<Point>, to: f64, side: Side, pace: Pace, depth: u32) {
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
        let may_halve = depth < 24 && to - last.time > 2.0 && points.len() < pace.most;
        if may_halve && (leaps || !pace.calm && turns()) {
            let middle = (0.5 * (last.time + to)).round();
            self.advance(points, middle, Side::Right, pace, depth + 1);
            self.advance(points, to, side, pace, depth + 1);
        } else {
            points.push(Point { side, ..self.point(to, angles) });
        }
    }

    pub(super) fn is_near_pole(&self, angles: DVec3) -> bool {
        angles[self.c.order.middle()].cos().abs() < NEAR_POLE
    }

    /// Angles and slopes with which the path leaves an instant, coming from `angles`.
    pub(super) fn departure(&self, time: f64, angles: DVec3) -> (DVec3, DVec3) {
        let velocity = self.path.velocity(time, Side::Right);
        if !self.is_near_pole(angles) {
            return (angles, rates_from_velocity(self.c.order, angles, velocity).unwrap_or(DVec3::ZERO));
        }
        self.limit(time, angles, 1.0)
    }

    /// Angles and slopes with which the path arrives at its last point.
    pub(super) fn arrival(&self, points: &[Point]) -> (DVec3, DVec3) {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cubic_through_four_points_is_that_cubic() {
        let path = |t: f64| {
            DVec3::new(
                1.0 - 2.0 * t + 0.5 * t * t * t,
                0.3 * t * t - t,
                4.0 + t * (1.0 - t) * (2.0 + 3.0 * t),
            )
        };
        for times in [[0.0, 1.0, 2.0, 3.0], [0.5, 0.7, 2.9, 3.1], [-3.0, -1.0, 4.0, 9.0]] {
            let points = times.map(|time| Point {
                time,
                angles: path(time),
                gimbal_coupling: 0.0,
                scale: 1.0,
                side: Side::Right,
                is_between: false,
                is_whole: true,
            });
            let cubic = Cubic::through(points.each_ref());
            for part in 0..=20 {
                let time = times[0] + (times[3] - times[0]) * f64::from(part) / 20.0;
                let off = (cubic.at(time) - path(time)).length();
                assert!(off < 1e-9 * (1.0 + path(time).length()), "{times:?} at {time}: {off}");
            }
        }
    }
}
