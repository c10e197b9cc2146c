//! What drives a property, evaluated from the page of the format.

use glam::DQuat;
use serde_json::{Value as Json, json};

use super::mixing::{followed, mixed, nearest, needs_branch, neutral, weight};
use super::{Kind, Layer, Track, Value, numbers, vector};
use crate::curve::{Curve, outside};
use crate::turn::{Turns, angles_near, arc, eases, of_angles, quat, shares};

/// A controller.
#[derive(Clone, Debug)]
pub(super) enum Controller {
    Constant(Value),
    Components(Vec<Curve>),
    Angles(String, Box<[Curve; 3]>),
    Turns(Turns),
    Discrete(Vec<(f64, Json)>),
    Samples(Samples),
    Stack(Vec<(Layer, Track)>),
}

impl Controller {
    pub(super) fn read(controller: &Json, rate: f64) -> Controller {
        let (name, body) = controller.as_object().unwrap().iter().next().unwrap();
        let keys = || body.get("keys").and_then(Json::as_array).cloned().unwrap_or_default();
        match name.as_str() {
            "constant" => Controller::Constant(constant(body)),
            "components" => {
                Controller::Components(body.as_array().unwrap().iter().map(Curve::read).collect())
            }
            "angles" => {
                let none = Json::Null;
                let curves = ["x", "y", "z"].map(|axis| Curve::read(body.get(axis).unwrap_or(&none)));
                Controller::Angles(
                    body.get("order").and_then(Json::as_str).unwrap_or("xyz").to_owned(),
                    Box::new(curves),
                )
            }
            "quaternions" => Controller::Turns(Turns::read(&keys(), body, false)),
            "tcb" => match body.get("rotation").and_then(Json::as_array) {
                Some(keys) => Controller::Turns(Turns::read(keys, body, true)),
                None => Controller::Components(tension(body)),
            },
            "discrete" => {
                let keys = body.as_array().cloned().unwrap_or_else(keys);
                let key = |key: &Json| (key["frame"].as_f64().unwrap(), key["value"].clone());
                Controller::Discrete(keys.iter().map(key).collect())
            }
            "samples" => Controller::Samples(Samples::read(body, rate)),
            "stack" => {
                let entry = |entry: &Json| {
                    let layer = Layer {
                        adds: true,
                        by_quaternion: false,
                        weight: entry.get("weight").and_then(Json::as_f64).unwrap_or(1.0),
                        weight_curve: entry.get("weight_curve").map(Curve::read),
                        muted: false,
                        tracks: Vec::new(),
                    };
                    (layer, Track::new(0, String::new(), &entry["controller"], rate))
                };
                Controller::Stack(body.as_array().unwrap().iter().map(entry).collect())
            }
            "procedural" => Controller::read(&body["sampled"], rate),
            other => panic!("a controller {other}"),
        }
    }

    pub(super) fn gather(&self, keys: &mut Vec<f64>, samples: &mut Vec<f64>) {
        let of = |curve: &Curve| curve.keys.iter().map(|key| key.frame).collect::<Vec<f64>>();
        match self {
            Controller::Constant(_) => {}
            Controller::Components(curves) => keys.extend(curves.iter().flat_map(of)),
            Controller::Angles(_, curves) => keys.extend(curves.iter().flat_map(of)),
            Controller::Turns(turns) => keys.extend(turns.frames()),
            Controller::Discrete(list) => keys.extend(list.iter().map(|(frame, _)| *frame)),
            Controller::Samples(own) => samples.extend(&own.frames),
            Controller::Stack(entries) => {
                for (layer, track) in entries {
                    keys.extend(layer.weight_curve.iter().flat_map(of));
                    track.controller.gather(keys, samples);
                }
            }
        }
    }

    /// From the first to the last key or sample.
    pub(super) fn span(&self) -> Option<(f64, f64)> {
        let (mut keys, mut samples) = (Vec::new(), Vec::new());
        self.gather(&mut keys, &mut samples);
        keys.extend(samples);
        let first = keys.iter().copied().fold(f64::INFINITY, f64::min);
        let last = keys.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        (first <= last).then_some((first, last))
    }

    /// What it has at a frame; what it says nothing of is at rest.
    pub(super) fn at(&self, kind: Kind, rest: &Value, rate: f64, frame: f64) -> Value {
        match self {
            Controller::Constant(value) => value.clone(),
            Controller::Components(curves) => {
                let all: Vec<Option<f64>> = curves.iter().map(|curve| curve.at(frame)).collect();
                filled(rest, &all)
            }
            Controller::Angles(order, curves) => {
                let own = match rest {
                    Value::Angles(resting, angles) if resting == order => *angles,
                    _ => [0.0; 3],
                };
                let at = |axis: usize| curves[axis].at(frame).unwrap_or(own[axis]);
                Value::Angles(order.clone(), [at(0), at(1), at(2)])
            }
            Controller::Turns(turns) => turns.at(frame).map_or_else(|| rest.clone(), Value::Turn),
            Controller::Discrete(keys) => {
                let before = keys.iter().rev().find(|(own, _)| *own <= frame);
                before.or(keys.first()).map_or_else(|| rest.clone(), |(_, value)| Value::Word(value.clone()))
            }
            Controller::Samples(samples) => samples.at(frame).unwrap_or_else(|| rest.clone()),
            Controller::Stack(entries) => stacked(entries, kind, rest, rate, frame),
        }
    }

    pub(super) fn drives(&self, index: usize) -> bool {
        let has = |curve: Option<&Curve>| curve.is_some_and(|curve| !curve.keys.is_empty());
        match self {
            Controller::Components(curves) => has(curves.get(index)),
            Controller::Angles(_, curves) => has(curves.get(index)),
            Controller::Stack(entries) => entries.iter().any(|(_, track)| track.controller.drives(index)),
            _ => true,
        }
    }
}

/// Baked data.
#[derive(Clone, Debug)]
pub(super) struct Samples {
    pub(super) frames: Vec<f64>,
    pub(super) rows: Vec<Vec<f64>>,
    pub(super) kind: String,
    pub(super) order: String,
}

impl Samples {
    pub(super) fn read(body: &Json, rate: f64) -> Samples {
        let own = body["rate"].as_str().unwrap();
        let own = match own.split_once('/') {
            Some((a, b)) => a.parse::<f64>().unwrap() / b.parse::<f64>().unwrap(),
            None => own.parse().unwrap(),
        };
        let rows: Vec<Vec<f64>> = match body.get("rows") {
            Some(rows) => rows.as_array().unwrap().iter().map(numbers).collect(),
            None => numbers(&body["values"]).into_iter().map(|n| vec![n]).collect(),
        };
        let start = body["start"].as_f64().unwrap();
        let frames = (0..rows.len()).map(|index| start + index as f64 * rate / own).collect();
        let word = |name: &str| body.get(name).and_then(Json::as_str).unwrap_or("").to_owned();
        Samples { frames, rows, kind: word("kind"), order: word("order") }
    }

    pub(super) fn at(&self, frame: f64) -> Option<Value> {
        let last = self.frames.len().checked_sub(1)?;
        let index = self.frames.iter().rposition(|own| *own <= frame + 1e-6).unwrap_or(0);
        let next = (index + 1).min(last);
        let part = if next == index {
            0.0
        } else {
            (frame - self.frames[index]) / (self.frames[next] - self.frames[index])
        };
        let part = if part < 1e-6 { 0.0 } else { part };
        let (a, b) = (&self.rows[index], &self.rows[next]);
        Some(match self.kind.as_str() {
            "angles" if part == 0.0 => Value::Angles(self.order.clone(), [a[0], a[1], a[2]]),
            "angles" => {
                let turn = |row: &[f64]| of_angles(&self.order, [row[0], row[1], row[2]]);
                let straight = [0, 1, 2].map(|axis| a[axis] + (b[axis] - a[axis]) * part);
                let between = arc(turn(a), turn(b), part);
                Value::Angles(self.order.clone(), angles_near(&self.order, between, straight))
            }
            "quaternions" => {
                let turn = |row: &[f64]| DQuat::from_xyzw(row[0], row[1], row[2], row[3]).normalize();
                Value::Turn(arc(turn(a), turn(b), part))
            }
            _ => Value::Numbers(a.iter().zip(b).map(|(a, b)| a + (b - a) * part).collect()),
        })
    }
}

pub(super) fn constant(body: &Json) -> Value {
    match body {
        Json::Number(number) => Value::Numbers(vec![number.as_f64().unwrap()]),
        Json::Array(_) => Value::Numbers(numbers(body)),
        Json::Object(fields) => {
            let (name, body) = fields.iter().next().unwrap();
            match name.as_str() {
                "rotate" => {
                    let angles = body.get("angles").map_or([0.0; 3], |angles| vector(angles).to_array());
                    Value::Angles(
                        body.get("order").and_then(Json::as_str).unwrap_or("xyz").to_owned(),
                        angles,
                    )
                }
                "orient" => Value::Turn(quat(body)),
                "number" => Value::Numbers(vec![body.as_f64().unwrap()]),
                "vector" | "matrix" => Value::Numbers(numbers(body)),
                _ => Value::Word(body.clone()),
            }
        }
        word => Value::Word(word.clone()),
    }
}

pub(super) fn filled(rest: &Value, curves: &[Option<f64>]) -> Value {
    let or = |index: usize, rest: f64| curves.get(index).copied().flatten().unwrap_or(rest);
    match rest {
        Value::Numbers(list) => {
            Value::Numbers(list.iter().enumerate().map(|(index, rest)| or(index, *rest)).collect())
        }
        Value::Angles(order, angles) => {
            Value::Angles(order.clone(), [or(0, angles[0]), or(1, angles[1]), or(2, angles[2])])
        }
        Value::Turn(q) => {
            Value::Turn(DQuat::from_xyzw(or(0, q.x), or(1, q.y), or(2, q.z), or(3, q.w)).normalize())
        }
        Value::Word(_) => rest.clone(),
    }
}

/// Numbers with tension as plain curves.
pub(super) fn tension(body: &Json) -> Vec<Curve> {
    let keys = body.get("number").or_else(|| body.get("vector")).and_then(Json::as_array).unwrap();
    let width = numbers(&keys[0]["value"]).len();
    let last = keys.len() - 1;
    let time = |index: usize| keys[index]["frame"].as_f64().unwrap();
    let curve = |axis: usize| {
        let value = |index: usize| numbers(&keys[index]["value"])[axis];
        let chord = |index: usize| value(index + 1) - value(index);
        let gap = |index: usize| time(index + 1) - time(index);
        let key = |index: usize| {
            let number = |name: &str| keys[index].get(name).and_then(Json::as_f64).unwrap_or(0.0);
            let slope = |is_in: bool| {
                if last == 0 {
                    return 0.0;
                }
                let (a, b) = (index.max(1) - 1, index.min(last - 1));
                let [first, second] = shares(number("tension"), number("continuity"), number("bias"), is_in);
                (chord(a) * first + chord(b) * second) * 2.0 / (gap(a) + gap(b))
            };
            json!({ "frame": time(index), "value": value(index), "in": slope(true), "out": slope(false) })
        };
        let own: Vec<Json> = (0..=last).map(key).collect();
        let mut made = Curve::read(&json!({ "keys": own }));
        made.before = body.get("before").map_or(made.before, outside);
        made.after = body.get("after").map_or(made.after, outside);
        made.eases = eases(keys);
        made
    };
    (0..width).map(curve).collect()
}

/// Entries add up from nothing; a component that no entry has stays at rest.
pub(super) fn stacked(entries: &[(Layer, Track)], kind: Kind, rest: &Value, rate: f64, frame: f64) -> Value {
    let nothing = neutral(kind, rest);
    let drives = |index: usize| entries.iter().any(|(_, track)| track.controller.drives(index));
    let start = match (&nothing, rest) {
        (Value::Numbers(nothing), Value::Numbers(rest)) if kind != Kind::Matrix => {
            let at = |(index, rest): (usize, &f64)| if drives(index) { nothing[index] } else { *rest };
            Value::Numbers(rest.iter().enumerate().map(at).collect())
        }
        (_, Value::Angles(order, rest)) => {
            let at = |axis: usize| if drives(axis) { 0.0 } else { rest[axis] };
            Value::Angles(order.clone(), [at(0), at(1), at(2)])
        }
        _ => nothing.clone(),
    };
    let mut value = start;
    for (layer, track) in entries {
        let w = weight(layer, frame);
        if w == 0.0 {
            continue;
        }
        let at = |frame: f64| track.controller.at(kind, &nothing, rate, frame);
        // Followed within each entry's own keys.
        let near = needs_branch(layer, kind).then(|| track.controller.span()).flatten().map(|range| {
            let (start, round) = track.round.get_or_init(|| followed(true, range, rate, &at, &at));
            nearest(*start, round, rate, frame)
        });
        value = mixed(kind, true, false, value, at(frame), w, near);
    }
    value
}
