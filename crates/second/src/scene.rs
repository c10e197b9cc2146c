//! Scenes as their JSON has them, and what their properties come to.

use std::cell::OnceCell;
use std::collections::HashMap;

use glam::{DAffine3, DMat3, DMat4, DQuat, DVec3};
use serde_json::{Value as Json, json};

use crate::curve::{Curve, outside};
use crate::turn::{Turns, angles_near, arc, eases, exp, log, log_near, of_angles, quat, shares};

/// What a property has at an instant.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// Numbers.
    Numbers(Vec<f64>),
    /// Angles in degrees by axis, and their order.
    Angles(String, [f64; 3]),
    /// A rotation.
    Turn(DQuat),
    /// A switch, choice or text.
    Word(Json),
}

impl Value {
    /// The rotation, where it is one.
    pub fn turn(&self) -> Option<DQuat> {
        match self {
            Value::Angles(order, angles) => Some(of_angles(order, *angles)),
            Value::Turn(q) => Some(q.normalize()),
            _ => None,
        }
    }
}

/// What kind of property it is, as far as layers mix by it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Adds up.
    Plain,
    /// Multiplies.
    Scale,
    /// Turns.
    Rotation,
    /// Holds.
    Word,
    /// A matrix, which switches over.
    Matrix,
}

/// A step of a node's transform.
#[derive(Clone, Debug)]
pub struct Step {
    /// What it is called.
    pub name: String,
    kind: String,
    /// Its value at rest.
    pub rest: Value,
    axis: DVec3,
    inverse: bool,
}

/// A node.
#[derive(Clone, Debug)]
pub struct Node {
    /// Its name.
    pub name: String,
    /// Which rig it belongs to.
    pub rig: usize,
    /// Its parent, by position in the scene.
    pub parent: Option<usize>,
    /// Its transform, the last step acting first.
    pub steps: Vec<Step>,
    /// Attributes with their values at rest.
    pub attributes: HashMap<String, Value>,
    moves_only: bool,
}

/// A track on a layer.
#[derive(Clone, Debug)]
pub struct Track {
    /// The node, by position in the scene.
    pub node: usize,
    /// The property.
    pub property: String,
    /// What drives it.
    controller: Controller,
    /// How far round it has come, where a part of it counts: from a frame on, in steps.
    round: OnceCell<(f64, Vec<DVec3>)>,
}

/// A controller.
#[derive(Clone, Debug)]
enum Controller {
    Constant(Value),
    Components(Vec<Curve>),
    Angles(String, Box<[Curve; 3]>),
    Turns(Turns),
    Discrete(Vec<(f64, Json)>),
    Samples(Samples),
    Stack(Vec<(Layer, Track)>),
}

/// A layer.
#[derive(Clone, Debug)]
pub struct Layer {
    adds: bool,
    by_quaternion: bool,
    weight: f64,
    weight_curve: Option<Curve>,
    muted: bool,
    /// What it moves.
    pub tracks: Vec<Track>,
}

/// A take.
#[derive(Clone, Debug)]
pub struct Take {
    /// Its name.
    pub name: String,
    /// First and last frame.
    pub range: (f64, f64),
    /// The base first.
    pub layers: Vec<Layer>,
}

/// A scene.
#[derive(Clone, Debug)]
pub struct Scene {
    /// Frames a second.
    pub rate: f64,
    /// Metres in a unit.
    pub unit: f64,
    /// All nodes of all rigs.
    pub nodes: Vec<Node>,
    /// Animations.
    pub takes: Vec<Take>,
}

fn numbers(value: &Json) -> Vec<f64> {
    value.as_array().map_or_else(
        || vec![value.as_f64().unwrap()],
        |list| list.iter().map(|n| n.as_f64().unwrap()).collect(),
    )
}

fn vector(value: &Json) -> DVec3 {
    DVec3::from_slice(&numbers(value))
}

/// A rotation at rest.
fn rotation(value: &Json) -> Value {
    if let Some(rotate) = value.get("rotate") {
        let angles = rotate.get("angles").map_or([0.0; 3], |angles| vector(angles).to_array());
        let order = rotate.get("order").and_then(Json::as_str).unwrap_or("xyz");
        return Value::Angles(order.to_owned(), angles);
    }
    Value::Turn(quat(&value["orient"]))
}

fn step(name: &str, kind: &str, rest: Value) -> Step {
    Step { name: name.to_owned(), kind: kind.to_owned(), rest, axis: DVec3::X, inverse: false }
}

impl Node {
    fn read(value: &Json, rig: usize, parent: Option<usize>) -> Node {
        let mut steps = Vec::new();
        if let Some(list) = value.get("transform").and_then(Json::as_array) {
            for own in list {
                let name = own["name"].as_str().unwrap();
                let fields = own.as_object().unwrap();
                let kind = ["translate", "rotate_axis", "rotate", "orient", "scale", "shear", "matrix"]
                    .into_iter()
                    .find(|kind| fields.contains_key(*kind))
                    .unwrap();
                let body = &own[kind];
                let mut axis = DVec3::X;
                let rest = match kind {
                    "rotate_axis" => {
                        let list = numbers(body);
                        axis = DVec3::from_slice(&list);
                        Value::Numbers(vec![list[3]])
                    }
                    "rotate" | "orient" => rotation(own),
                    _ => Value::Numbers(numbers(body)),
                };
                let inverse = own.get("inverse").and_then(Json::as_bool).unwrap_or(false);
                steps.push(Step { axis, inverse, ..step(name, kind, rest) });
            }
        } else {
            let or = |name: &str, or: f64| value.get(name).map_or(vec![or; 3], numbers);
            steps.push(step("translation", "translate", Value::Numbers(or("translation", 0.0))));
            if let Some(before) = value.get("before") {
                steps.push(step("before", "orient", rotation(before)));
            }
            let own = value.get("rotation").map_or(Value::Angles("xyz".to_owned(), [0.0; 3]), rotation);
            steps.push(step("rotation", "rotate", own));
            if let Some(after) = value.get("after") {
                steps.push(step("after", "orient", rotation(after)));
            }
            steps.push(step("scale", "scale", Value::Numbers(or("scale", 1.0))));
        }
        let mut attributes = HashMap::new();
        for attribute in value.get("attributes").and_then(Json::as_array).into_iter().flatten() {
            let name = attribute["name"].as_str().unwrap().to_owned();
            let fields = attribute.as_object().unwrap();
            let of =
                |kind: &str| fields.get(kind).map(|body| body.get("default").cloned().unwrap_or(Json::Null));
            let rest = if let Some(default) = of("number") {
                Value::Numbers(vec![default.as_f64().unwrap_or(0.0)])
            } else if let Some(default) = of("vector") {
                Value::Numbers(if default.is_null() { vec![0.0; 3] } else { numbers(&default) })
            } else {
                let own = ["switch", "text"].iter().find_map(|kind| fields.get(*kind).cloned());
                Value::Word(own.or_else(|| of("choice")).unwrap_or(Json::Bool(false)))
            };
            attributes.insert(name, rest);
        }
        Node {
            name: value["name"].as_str().unwrap().to_owned(),
            rig,
            parent,
            steps,
            attributes,
            moves_only: value.get("inherits").and_then(Json::as_str) == Some("position-only"),
        }
    }

    fn kind(&self, property: &str) -> Kind {
        if let Some(step) = self.steps.iter().find(|step| step.name == property) {
            return match step.kind.as_str() {
                "scale" => Kind::Scale,
                "rotate" | "orient" => Kind::Rotation,
                "matrix" => Kind::Matrix,
                _ => Kind::Plain,
            };
        }
        match self.attributes.get(property) {
            Some(Value::Word(_)) => Kind::Word,
            _ => Kind::Plain,
        }
    }

    /// The value of a property at rest.
    pub fn rest(&self, property: &str) -> Option<Value> {
        let step = self.steps.iter().find(|step| step.name == property).map(|step| step.rest.clone());
        step.or_else(|| self.attributes.get(property).cloned())
    }
}

impl Scene {
    /// A scene of its text.
    pub fn read(text: &str) -> Scene {
        let json: Json = serde_json::from_str(text).unwrap();
        let rate = json["rate"].as_str().unwrap();
        let rate = match rate.split_once('/') {
            Some((a, b)) => a.parse::<f64>().unwrap() / b.parse::<f64>().unwrap(),
            None => rate.parse().unwrap(),
        };
        let mut nodes: Vec<Node> = Vec::new();
        let mut paths: Vec<String> = Vec::new();
        for (rig, of) in json["rigs"].as_array().into_iter().flatten().enumerate() {
            let start = nodes.len();
            for node in of["nodes"].as_array().into_iter().flatten() {
                let parent = node.get("parent").map(|parent| match parent {
                    Json::Number(index) => start + index.as_u64().unwrap() as usize,
                    parent => {
                        let name = parent.as_str().unwrap().trim_matches('"');
                        start + nodes[start..].iter().position(|own| own.name == name).unwrap()
                    }
                });
                let made = Node::read(node, rig, parent);
                let above = parent.map_or_else(
                    || of["name"].as_str().unwrap_or("").to_owned(),
                    |at: usize| paths[at].clone(),
                );
                paths.push(format!("{above}/{}", made.name));
                nodes.push(made);
            }
        }
        let find = |address: &str| -> usize {
            let plain = address.trim_matches('"');
            let named: Vec<usize> = (0..nodes.len()).filter(|at| nodes[*at].name == plain).collect();
            match named.as_slice() {
                [only] => *only,
                _ => {
                    let bare = address.replace('"', "");
                    (0..nodes.len())
                        .find(|at| paths[*at] == bare)
                        .unwrap_or_else(|| panic!("no node {address}"))
                }
            }
        };
        let mut takes = Vec::new();
        for take in json["takes"].as_array().into_iter().flatten() {
            let mut layers = Vec::new();
            for layer in take["layers"].as_array().into_iter().flatten() {
                let word = |name: &str| layer.get(name).and_then(Json::as_str).unwrap_or("");
                let mut tracks = Vec::new();
                for track in layer.get("tracks").and_then(Json::as_array).into_iter().flatten() {
                    let channel = track["channel"].as_str().unwrap();
                    let (node, property) = channel.rsplit_once(':').unwrap();
                    let property = property.trim_matches('"').to_owned();
                    tracks.push(Track::new(find(node), property, &track["controller"], rate));
                }
                layers.push(Layer {
                    adds: word("mode") == "additive",
                    by_quaternion: word("rotations") == "quaternions",
                    weight: layer.get("weight").and_then(Json::as_f64).unwrap_or(1.0),
                    weight_curve: layer.get("weight_curve").map(Curve::read),
                    muted: layer.get("muted").and_then(Json::as_bool).unwrap_or(false),
                    tracks,
                });
            }
            let range = numbers(&take["range"]);
            takes.push(Take {
                name: take["name"].as_str().unwrap().to_owned(),
                range: (range[0], range[1]),
                layers,
            });
        }
        let unit = json["space"]["metres_per_unit"].as_f64().unwrap();
        Scene { rate, unit, nodes, takes }
    }

    /// All that moves a property in a take, from the lowest layer up, layers that do not count left out.
    fn movers(&self, take: usize, node: usize, property: &str) -> Vec<(&Layer, &Track)> {
        let layers = self.takes[take].layers.iter();
        let counts = |layer: &&Layer| !layer.muted && (layer.weight_curve.is_some() || layer.weight != 0.0);
        let own =
            layers.filter(counts).flat_map(|layer| layer.tracks.iter().map(move |track| (layer, track)));
        own.filter(|(_, track)| (track.node, track.property.as_str()) == (node, property)).collect()
    }

    /// What a property has at a frame of a take.
    pub fn value(&self, take: usize, node: usize, property: &str, frame: f64) -> Value {
        let rest = self.nodes[node].rest(property).unwrap();
        let kind = self.nodes[node].kind(property);
        let movers = self.movers(take, node, property);
        under(&movers, kind, &rest, self.takes[take].range, self.rate, frame)
    }

    /// Whether a part of some turn counts in a node's rotation.
    pub fn counts_in_part(&self, take: usize, node: usize) -> bool {
        let own = self.takes[take].layers.iter().filter(|layer| {
            layer.tracks.iter().any(|track| track.node == node && track.property != "translation")
        });
        let mut own = own;
        own.any(|layer| needs_branch(layer, Kind::Rotation))
    }

    /// A node's transform beside its parent, and the rotation in it.
    pub fn local(&self, take: usize, node: usize, frame: f64) -> (DAffine3, DQuat) {
        let (mut all, mut turn) = (DAffine3::IDENTITY, DQuat::IDENTITY);
        for step in &self.nodes[node].steps {
            let value = self.value(take, node, &step.name, frame);
            let (mut own, mut rotation) = placed(step, &value);
            if step.inverse {
                (own, rotation) = (own.inverse(), rotation.conjugate());
            }
            (all, turn) = (all * own, turn * rotation);
        }
        (all, turn)
    }

    /// A node's transform and rotation in the world.
    pub fn world(&self, take: usize, node: usize, frame: f64) -> (DAffine3, DQuat) {
        let (local, turn) = self.local(take, node, frame);
        let Some(parent) = self.nodes[node].parent else { return (local, turn) };
        let (above, above_turn) = self.world(take, parent, frame);
        let matrix = if self.nodes[node].moves_only {
            let m = above.matrix3;
            DMat3::from_cols(
                m.x_axis.normalize_or_zero(),
                m.y_axis.normalize_or_zero(),
                m.z_axis.normalize_or_zero(),
            )
        } else {
            above.matrix3
        };
        let place = above.transform_point3(local.translation);
        (DAffine3 { matrix3: matrix * local.matrix3, translation: place }, above_turn * turn)
    }

    /// The instants at which something may happen to a node, and whether one of its movers is sampled: then those of its
    /// samples alone.
    pub fn instants(
        &self,
        take: usize,
        node: usize,
        is_meant: impl Fn(&str) -> bool,
    ) -> (Vec<f64>, Option<Vec<f64>>) {
        let (mut all, mut sampled) = (Vec::new(), None);
        for layer in &self.takes[take].layers {
            for track in layer.tracks.iter().filter(|track| track.node == node && is_meant(&track.property)) {
                let mut samples = Vec::new();
                track.controller.gather(&mut all, &mut samples);
                if !samples.is_empty() {
                    sampled = Some(samples);
                }
                all.extend(
                    layer.weight_curve.iter().flat_map(|curve| curve.keys.iter().map(|key| key.frame)),
                );
            }
        }
        (all, sampled)
    }
}

impl Track {
    fn new(node: usize, property: String, controller: &Json, rate: f64) -> Track {
        Track { node, property, controller: Controller::read(controller, rate), round: OnceCell::new() }
    }
}

impl Controller {
    fn read(controller: &Json, rate: f64) -> Controller {
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

    fn gather(&self, keys: &mut Vec<f64>, samples: &mut Vec<f64>) {
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
    fn span(&self) -> Option<(f64, f64)> {
        let (mut keys, mut samples) = (Vec::new(), Vec::new());
        self.gather(&mut keys, &mut samples);
        keys.extend(samples);
        let first = keys.iter().copied().fold(f64::INFINITY, f64::min);
        let last = keys.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        (first <= last).then_some((first, last))
    }

    /// What it has at a frame; what it says nothing of is at rest.
    fn at(&self, kind: Kind, rest: &Value, rate: f64, frame: f64) -> Value {
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

    fn drives(&self, index: usize) -> bool {
        let has = |curve: Option<&Curve>| curve.is_some_and(|curve| !curve.keys.is_empty());
        match self {
            Controller::Components(curves) => has(curves.get(index)),
            Controller::Angles(_, curves) => has(curves.get(index)),
            Controller::Stack(entries) => entries.iter().any(|(_, track)| track.controller.drives(index)),
            _ => true,
        }
    }
}

/// What a step makes of its value.
fn placed(step: &Step, value: &Value) -> (DAffine3, DQuat) {
    let turned = |q: DQuat| (DAffine3::from_quat(q), q);
    let still = |affine: DAffine3| (affine, DQuat::IDENTITY);
    match (step.kind.as_str(), value) {
        ("translate", Value::Numbers(v)) => still(DAffine3::from_translation(DVec3::from_slice(v))),
        ("scale", Value::Numbers(v)) => still(DAffine3::from_scale(DVec3::from_slice(v))),
        ("rotate_axis", Value::Numbers(v)) => {
            turned(DQuat::from_axis_angle(step.axis.normalize(), v[0].to_radians()))
        }
        ("shear", Value::Numbers(v)) => {
            // x by y, x by z, y by z.
            let m = DMat3::from_cols(DVec3::X, DVec3::new(v[0], 1.0, 0.0), DVec3::new(v[1], v[2], 1.0));
            still(DAffine3 { matrix3: m, translation: DVec3::ZERO })
        }
        ("matrix", Value::Numbers(v)) => {
            let affine = DAffine3::from_mat4(DMat4::from_cols_slice(v));
            (affine, affine.to_scale_rotation_translation().1)
        }
        (_, value) => turned(value.turn().unwrap_or(DQuat::IDENTITY)),
    }
}

fn neutral(kind: Kind, rest: &Value) -> Value {
    match (kind, rest) {
        (Kind::Scale, _) => Value::Numbers(vec![1.0; 3]),
        (Kind::Matrix, _) => Value::Numbers(DMat4::IDENTITY.to_cols_array().to_vec()),
        (_, Value::Numbers(list)) => Value::Numbers(vec![0.0; list.len()]),
        (_, Value::Angles(order, _)) => Value::Angles(order.clone(), [0.0; 3]),
        (_, Value::Turn(_)) => Value::Turn(DQuat::IDENTITY),
        (_, word) => word.clone(),
    }
}

fn weight(layer: &Layer, frame: f64) -> f64 {
    layer.weight_curve.as_ref().map_or(layer.weight, |curve| curve.at(frame).unwrap_or(0.0))
}

/// The value of some layers, one on the other.
fn under(
    movers: &[(&Layer, &Track)],
    kind: Kind,
    rest: &Value,
    range: (f64, f64),
    rate: f64,
    frame: f64,
) -> Value {
    let mut value = rest.clone();
    for (index, (layer, track)) in movers.iter().enumerate() {
        let w = weight(layer, frame);
        if w == 0.0 {
            continue;
        }
        let own_rest = if layer.adds { neutral(kind, rest) } else { rest.clone() };
        let at = |frame: f64| track.controller.at(kind, &own_rest, rate, frame);
        let over = at(frame);
        let near = needs_branch(layer, kind).then(|| {
            let (start, round) = track.round.get_or_init(|| {
                let below = |frame: f64| under(&movers[..index], kind, rest, range, rate, frame);
                let keyed = track.controller.span();
                let whole = keyed.map_or(range, |(a, b)| (range.0.min(a), range.1.max(b)));
                followed(layer.adds, whole, rate, &at, &below)
            });
            nearest(*start, round, rate, frame)
        });
        value = mixed(kind, layer.adds, layer.by_quaternion, value, over, w, near);
    }
    value
}

fn needs_branch(layer: &Layer, kind: Kind) -> bool {
    let is_whole = layer.weight_curve.is_none() && (layer.weight == 1.0 || layer.weight == 0.0);
    kind == Kind::Rotation && !is_whole
}

/// How far round a layer's turn has come, followed from the start in steps of a 240th of a second.
fn followed(
    adds: bool,
    range: (f64, f64),
    rate: f64,
    over: &dyn Fn(f64) -> Value,
    below: &dyn Fn(f64) -> Value,
) -> (f64, Vec<DVec3>) {
    let step = rate / 240.0;
    let count = ((range.1 - range.0) / step).ceil() as usize + 1;
    let turn = |frame: f64| {
        let own = over(frame).turn().unwrap_or(DQuat::IDENTITY);
        if adds { own } else { below(frame).turn().unwrap_or(DQuat::IDENTITY).conjugate() * own }
    };
    // Angles tell how far round they are: turned up from nothing.
    let mut near = match (adds, over(range.0)) {
        (true, Value::Angles(order, angles)) => (1..=128).fold(DVec3::ZERO, |near, part| {
            log_near(of_angles(&order, angles.map(|angle| angle * f64::from(part) / 128.0)), near)
        }),
        _ => DVec3::ZERO,
    };
    let mut round = Vec::new();
    for index in 0..=count {
        near = log_near(turn(range.0 + index as f64 * step), near);
        round.push(near);
    }
    (range.0, round)
}

/// The one of those at a frame.
fn nearest(start: f64, round: &[DVec3], rate: f64, frame: f64) -> DVec3 {
    let index = ((frame - start) * 240.0 / rate).round().clamp(0.0, (round.len() - 1) as f64);
    round[index as usize]
}

fn mixed(
    kind: Kind,
    adds: bool,
    by_quaternion: bool,
    under: Value,
    over: Value,
    w: f64,
    near: Option<DVec3>,
) -> Value {
    if !adds && w == 1.0 {
        return over;
    }
    let each = |a: &[f64], b: &[f64], f: &dyn Fn(f64, f64) -> f64| {
        Value::Numbers(a.iter().zip(b).map(|(a, b)| f(*a, *b)).collect())
    };
    match (kind, &under, &over) {
        (Kind::Word | Kind::Matrix, ..) => {
            if w >= 0.5 {
                over
            } else {
                under
            }
        }
        (Kind::Rotation, Value::Angles(order, a), Value::Angles(other, b))
            if !by_quaternion && order == other =>
        {
            let at =
                |axis: usize| if adds { a[axis] + w * b[axis] } else { a[axis] + w * (b[axis] - a[axis]) };
            Value::Angles(order.clone(), [at(0), at(1), at(2)])
        }
        (Kind::Rotation, a, b) => {
            let (Some(a), Some(b)) = (a.turn(), b.turn()) else { return under };
            let turn = if adds { b } else { a.conjugate() * b };
            if w == 1.0 {
                return Value::Turn(a * turn);
            }
            let whole = near.map_or_else(|| log(turn), |near| log_near(turn, near));
            Value::Turn(a * exp(whole * w))
        }
        (Kind::Scale, Value::Numbers(a), Value::Numbers(b)) if adds => each(a, b, &|a, b| {
            if b > 0.0 {
                a * b.powf(w)
            } else if w >= 0.5 {
                a * b
            } else {
                a
            }
        }),
        (_, Value::Numbers(a), Value::Numbers(b)) if adds => each(a, b, &|a, b| a + w * b),
        (_, Value::Numbers(a), Value::Numbers(b)) => each(a, b, &|a, b| a + w * (b - a)),
        _ => under,
    }
}

/// Baked data.
#[derive(Clone, Debug)]
struct Samples {
    frames: Vec<f64>,
    rows: Vec<Vec<f64>>,
    kind: String,
    order: String,
}

impl Samples {
    fn read(body: &Json, rate: f64) -> Samples {
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

    fn at(&self, frame: f64) -> Option<Value> {
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

fn constant(body: &Json) -> Value {
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

fn filled(rest: &Value, curves: &[Option<f64>]) -> Value {
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
fn tension(body: &Json) -> Vec<Curve> {
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
fn stacked(entries: &[(Layer, Track)], kind: Kind, rest: &Value, rate: f64, frame: f64) -> Value {
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
