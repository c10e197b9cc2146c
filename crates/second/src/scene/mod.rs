//! Scenes as their JSON has them, and what their properties come to.

mod constraints;
mod controllers;
mod mixing;
use std::cell::OnceCell;
use std::collections::HashMap;

use glam::{DAffine3, DMat3, DQuat, DVec3};
use serde_json::Value as Json;

pub use self::constraints::{Placed, Solved};
use self::controllers::Controller;
use self::mixing::{needs_branch, placed, under};
use crate::curve::Curve;
use crate::turn::{of_angles, quat};

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
    /// What drives nodes by others, as it stands in the file.
    pub constraints: Vec<Json>,
    /// Which way turns about a line go: 1, and -1 in spaces of the left hand.
    hand: f64,
    paths: Vec<String>,
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
        let find = |address: &str| find(&nodes, &paths, address);
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
        let constraints = json.get("constraints").and_then(Json::as_array).cloned().unwrap_or_default();
        let is_left = json["space"].get("handedness").and_then(Json::as_str) == Some("left");
        let hand = if is_left { -1.0 } else { 1.0 };
        Scene { rate, unit, nodes, constraints, hand, paths, takes }
    }

    /// The node of an address.
    pub fn find(&self, address: &str) -> usize {
        find(&self.nodes, &self.paths, address)
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

fn find(nodes: &[Node], paths: &[String], address: &str) -> usize {
    let plain = address.trim_matches('"');
    let named: Vec<usize> = (0..nodes.len()).filter(|at| nodes[*at].name == plain).collect();
    match named.as_slice() {
        [only] => *only,
        _ => {
            let bare = address.replace('"', "");
            (0..nodes.len()).find(|at| paths[*at] == bare).unwrap_or_else(|| panic!("no node {address}"))
        }
    }
}

impl Track {
    fn new(node: usize, property: String, controller: &Json, rate: f64) -> Track {
        Track { node, property, controller: Controller::read(controller, rate), round: OnceCell::new() }
    }
}
