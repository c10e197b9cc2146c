//! Rotations: orders, keys that are rotations, parts of turns.

use glam::{DQuat, DVec3, DVec4};
use serde_json::Value;

use crate::curve::{Ease, Outside, eased, outside};

pub fn axis(letter: char) -> usize {
    match letter {
        'x' => 0,
        'y' => 1,
        _ => 2,
    }
}

pub fn unit(axis: usize) -> DVec3 {
    [DVec3::X, DVec3::Y, DVec3::Z][axis]
}

/// The rotation of angles in degrees: the axis that acts first comes first in an order.
pub fn of_angles(order: &str, angles: [f64; 3]) -> DQuat {
    order.chars().fold(DQuat::IDENTITY, |turn, letter| {
        let axis = axis(letter);
        DQuat::from_axis_angle(unit(axis), angles[axis].to_radians()) * turn
    })
}

/// The angles in degrees of a rotation in an order, of all that there are those nearest to some others.
pub fn angles_near(order: &str, q: DQuat, near: [f64; 3]) -> [f64; 3] {
    let letters: Vec<usize> = order.chars().map(axis).collect();
    let (c, b, a) = (letters[0], letters[1], letters[2]);
    let even = (b + 3 - a) % 3 == 1;
    let sign = if even { 1.0 } else { -1.0 };
    let m = glam::DMat3::from_quat(q.normalize());
    let at = |row: usize, column: usize| m.col(column)[row];
    let middle = (sign * at(a, c)).clamp(-1.0, 1.0).asin();
    let outer = (-sign * at(b, c)).atan2(at(c, c));
    let inner = (-sign * at(a, b)).atan2(at(a, a));
    let pi = std::f64::consts::PI;
    let readings = [[outer, middle, inner], [outer + pi, pi - middle, inner + pi]].map(|[o, m, i]| {
        let mut angles = [0.0; 3];
        for (axis, angle) in [(a, o), (b, m), (c, i)] {
            let angle = angle.to_degrees();
            angles[axis] = angle + ((near[axis] - angle) / 360.0).round() * 360.0;
        }
        angles
    });
    let far = |angles: &[f64; 3]| (0..3).map(|axis| (angles[axis] - near[axis]).powi(2)).sum::<f64>();
    if far(&readings[0]) <= far(&readings[1]) { readings[0] } else { readings[1] }
}

/// The rotation vector of a rotation, the short way.
pub fn log(q: DQuat) -> DVec3 {
    let q = if q.w < 0.0 { -q } else { q };
    let v = q.xyz();
    let length = v.length();
    if length < 1e-300 { DVec3::ZERO } else { v / length * (2.0 * length.atan2(q.w)) }
}

pub fn exp(v: DVec3) -> DQuat {
    let angle = v.length();
    if angle == 0.0 { DQuat::IDENTITY } else { DQuat::from_axis_angle(v / angle, angle) }
}

/// Of the rotation vectors of a rotation, the one nearest to another vector.
pub fn log_near(q: DQuat, near: DVec3) -> DVec3 {
    let short = log(q);
    let about = short.try_normalize().unwrap_or_else(|| near.try_normalize().unwrap_or(DVec3::X));
    let round = |count: i32| short + about * (f64::from(count) * std::f64::consts::TAU);
    let apart = |v: &DVec3| (*v - near).length();
    let most = (near.length() / std::f64::consts::TAU).ceil() as i32 + 1;
    (-most..=most).map(round).min_by(|a, b| apart(a).total_cmp(&apart(b))).unwrap_or(short)
}

/// The shorter arc from one rotation to another.
pub fn arc(a: DQuat, b: DQuat, part: f64) -> DQuat {
    a * exp(log(a.conjugate() * b) * part)
}

/// The angle between two rotations, in degrees.
pub fn apart(a: DQuat, b: DQuat) -> f64 {
    log(a.normalize().conjugate() * b.normalize()).length().to_degrees()
}

pub fn quat(value: &Value) -> DQuat {
    let n: Vec<f64> = value.as_array().unwrap().iter().map(|n| n.as_f64().unwrap()).collect();
    DQuat::from_xyzw(n[0], n[1], n[2], n[3])
}

/// Keys that are rotations.
#[derive(Clone, Debug)]
pub struct Turns {
    frames: Vec<f64>,
    values: Vec<DQuat>,
    pieces: Vec<Piece>,
    before: Outside,
    after: Outside,
    eases: Vec<Ease>,
}

#[derive(Clone, Debug)]
enum Piece {
    Hold,
    Arc,
    Cubic(DVec4, DVec4),
    /// Angular velocities at both ends, in the keys' own frames, over the whole piece.
    Quad(DVec3, DVec3),
}

/// The clocks of the pieces between keys with tension; none where no key has ease.
pub fn eases(keys: &[Value]) -> Vec<Ease> {
    let number = |key: &Value, name: &str| key.get(name).and_then(Value::as_f64).unwrap_or(0.0);
    let has_ease = |key: &Value| number(key, "ease_in") != 0.0 || number(key, "ease_out") != 0.0;
    if !keys.iter().any(has_ease) {
        return Vec::new();
    }
    keys.windows(2).map(|pair| Ease::new(number(&pair[0], "ease_out"), number(&pair[1], "ease_in"))).collect()
}

impl Turns {
    /// Keys of a `quaternion` controller, or with tension.
    pub fn read(keys: &[Value], body: &Value, is_tcb: bool) -> Turns {
        let frames: Vec<f64> = keys.iter().map(|key| key["frame"].as_f64().unwrap()).collect();
        let mut values: Vec<DQuat> = Vec::new();
        let mut signs = Vec::new();
        for key in keys {
            let value = quat(&key["value"]);
            let length = value.length();
            let value = value.normalize();
            let flips = values.last().is_some_and(|last: &DQuat| last.dot(value) < 0.0);
            signs.push(if flips { -1.0 / length } else { 1.0 / length });
            values.push(if flips { -value } else { value });
        }
        let chord = |index: usize| log(values[index].conjugate() * values[index + 1]);
        let gap = |index: usize| frames[index + 1] - frames[index];
        let last = frames.len().saturating_sub(1);
        let way = |index: usize| keys[index].get("interpolation").and_then(Value::as_str).unwrap_or("slerp");
        let mut pieces = Vec::new();
        for index in 0..last {
            if is_tcb {
                let velocity = |at: usize, is_in: bool| {
                    let number = |name: &str| keys[at].get(name).and_then(Value::as_f64).unwrap_or(0.0);
                    let (a, b) = (at.max(1) - 1, at.min(last - 1));
                    let [first, second] =
                        shares(number("tension"), number("continuity"), number("bias"), is_in);
                    (chord(a) * first + chord(b) * second) * (2.0 / (gap(a) + gap(b))) * gap(index)
                };
                pieces.push(Piece::Quad(velocity(index, false), velocity(index + 1, true)));
                continue;
            }
            pieces.push(match way(index) {
                "step" => Piece::Hold,
                "squad" => {
                    let mean = |a: usize, b: usize| (chord(a) + chord(b)) / (gap(a) + gap(b)) * gap(index);
                    let start = if index > 0 && way(index - 1) != "step" { index - 1 } else { index };
                    let end = if index + 1 < last && way(index + 1) != "step" { index + 1 } else { index };
                    Piece::Quad(mean(start, index), mean(index, end))
                }
                "cubic" => {
                    let side = |at: usize, name: &str| {
                        let q = keys[at].get(name).map_or(DQuat::from_vec4(DVec4::ZERO), quat);
                        DVec4::from(q) * (signs[at] * gap(index))
                    };
                    Piece::Cubic(side(index, "out"), side(index + 1, "in"))
                }
                _ => Piece::Arc,
            });
        }
        let behaviour = |name: &str| body.get(name).map_or(Outside::Held, outside);
        let eases = if is_tcb { eases(keys) } else { Vec::new() };
        Turns { frames, values, pieces, before: behaviour("before"), after: behaviour("after"), eases }
    }

    pub fn frames(&self) -> &[f64] {
        &self.frames
    }

    pub fn at(&self, frame: f64) -> Option<DQuat> {
        let (first, last) = (*self.frames.first()?, *self.frames.last()?);
        let (way, is_after) = if frame < first {
            (self.before, false)
        } else if frame >= last {
            (self.after, true)
        } else {
            return Some(self.among(frame));
        };
        let end = if is_after { self.values[self.values.len() - 1] } else { self.values[0] };
        let period = last - first;
        let turn = if period > 0.0 { ((frame - first) / period).floor() } else { 0.0 };
        let within = (frame - turn * period).clamp(first, last);
        let open = |frame: f64| if frame >= last { self.values[0] } else { self.among(frame) };
        match way {
            Outside::None if is_after && frame == last => Some(end),
            Outside::None => None,
            Outside::Linear if self.values.len() > 1 => {
                let (from, step) = if is_after { (last, -1e-5) } else { (first, 1e-5) };
                let near = self.among(from + step);
                // The angular velocity at the end, by a difference.
                let velocity = log(near * end.conjugate()) / step;
                Some(exp(velocity * (frame - from)) * end)
            }
            _ if period == 0.0 => Some(end),
            Outside::Repeat => {
                let climb = log(self.values[self.values.len() - 1] * self.values[0].conjugate());
                Some(exp(climb * turn) * open(within))
            }
            Outside::Reset => Some(open(within)),
            Outside::Oscillate if turn.rem_euclid(2.0) == 0.0 => Some(open(within)),
            Outside::Oscillate => Some(self.among(first + last - within)),
            _ => Some(end),
        }
    }

    fn among(&self, frame: f64) -> DQuat {
        let frame = if self.eases.is_empty() { frame } else { eased(&self.frames, &self.eases, frame) };
        let last = self.frames.len() - 1;
        if frame >= self.frames[last] {
            return self.values[last];
        }
        let index = self.frames.iter().rposition(|own| *own <= frame).unwrap_or(0);
        let (a, b) = (self.values[index], self.values[index + 1]);
        let u = (frame - self.frames[index]) / (self.frames[index + 1] - self.frames[index]);
        match &self.pieces[index] {
            Piece::Hold => a,
            Piece::Arc => arc(a, b, u),
            Piece::Cubic(m0, m1) => {
                let (p, q) = (DVec4::from(a), DVec4::from(b));
                let (u2, u3) = (u * u, u * u * u);
                let sum = p * (2.0 * u3 - 3.0 * u2 + 1.0)
                    + *m0 * (u3 - 2.0 * u2 + u)
                    + q * (3.0 * u2 - 2.0 * u3)
                    + *m1 * (u3 - u2);
                DQuat::from_vec4(sum).normalize()
            }
            Piece::Quad(start, end) => {
                let chord = log(a.conjugate() * b);
                // At its ends a quadrangle turns by the chord and twice the turn to the inner point.
                let (s, e) = ((*start - chord) * 0.5, (chord - *end) * 0.5);
                let inner = log_near(exp(s).conjugate() * exp(chord) * exp(e), chord + e - s);
                let (outer, drawn) = (exp(chord * u), exp(s) * exp(inner * u));
                let way = log_near(outer.conjugate() * drawn, s + (e - s) * u);
                a * outer * exp(way * (2.0 * u * (1.0 - u)))
            }
        }
    }
}

/// The shares of the chords before and after a key in its slope on one side (Kochanek and Bartels, SIGGRAPH 1984).
pub fn shares(t: f64, c: f64, b: f64, is_in: bool) -> [f64; 2] {
    let c = if is_in { -c } else { c };
    [0.5 * (1.0 - t) * (1.0 + c) * (1.0 + b), 0.5 * (1.0 - t) * (1.0 - c) * (1.0 - b)]
}
