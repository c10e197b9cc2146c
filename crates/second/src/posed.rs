//! Random rigs whose joints are keyed, as they come without a control rig: a body, a head and two limbs that bend about their hinges
//! alone, with controls that could drive them and rest. Names and what drives what are those of control rigs in the field: a body
//! control, goals in the world or under it, poles, chains of controls for the joints, a switch a limb.

use glam::{DMat3, DQuat, DVec3};
use serde_json::{Value, json};

use crate::random::{Chance, ORDERS};

/// How joints are keyed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keyed {
    /// All of them at the same frames.
    Whole,
    /// Each axis at frames of its own.
    Apart,
}

/// What is made.
#[derive(Clone, Copy, Debug)]
pub struct Posed {
    pub keyed: Keyed,
    /// How far joints turn from their rest, in degrees.
    pub angles: f64,
    /// Whether limbs come to their full length.
    pub straight: bool,
}

/// The last frame; the first one is 1.
pub const LAST: i64 = 97;

const SIDES: [&str; 2] = ["l", "r"];

/// The file of a scene.
pub fn text(seed: u64, of: &Posed) -> String {
    Maker { chance: Chance::new(seed), of: *of, nodes: Vec::new(), tracks: Vec::new() }.scene().to_string()
}

struct Maker {
    chance: Chance,
    of: Posed,
    nodes: Vec<Value>,
    tracks: Vec<Value>,
}

impl Maker {
    fn orient(turn: DQuat) -> Value {
        json!({ "orient": turn.normalize().to_array() })
    }

    fn turn(&mut self) -> DQuat {
        DQuat::from_array(self.chance.turn()).normalize()
    }

    fn direction(&mut self) -> DVec3 {
        loop {
            let found = DVec3::from_array(self.chance.vector(1.0));
            if let Some(unit) = found.try_normalize().filter(|_| found.length() > 0.2) {
                return unit;
            }
        }
    }

    fn node(&mut self, name: &str, parent: Option<&str>, kind: &str, place: DVec3) -> &mut Value {
        let order = *self.chance.of(&ORDERS);
        let mut node = json!({ "name": name, "kind": kind, "translation": place.to_array(),
            "rotation": { "rotate": { "order": order, "angles": [0.0, 0.0, 0.0] } } });
        if let Some(parent) = parent {
            node["parent"] = json!(parent);
        }
        self.nodes.push(node);
        let last = self.nodes.len() - 1;
        &mut self.nodes[last]
    }

    /// The frames of one curve's keys.
    fn frames(&mut self) -> Vec<i64> {
        match self.of.keyed {
            Keyed::Whole => vec![1, 13, 25, 41, 61, 77, LAST],
            Keyed::Apart => {
                let between = (1..6).map(|index| 1 + index * 16 + self.chance.below(13) as i64 - 6);
                let mut frames: Vec<i64> = std::iter::once(1).chain(between).collect();
                frames.push(LAST);
                frames
            }
        }
    }

    fn curve(&mut self, low: f64, high: f64) -> Value {
        let frames = self.frames();
        let keys: Vec<Value> = frames
            .into_iter()
            .map(|frame| json!({ "frame": frame, "value": self.chance.between(low, high) }))
            .collect();
        json!({ "keys": keys })
    }

    fn turns(&mut self, name: &str, [x, y, z]: [(f64, f64); 3]) {
        let found = self.nodes.iter().find(|node| node["name"] == name).cloned();
        let order = found.expect("a node that was added")["rotation"]["rotate"]["order"].clone();
        let angles = json!({ "order": order, "x": self.curve(x.0, x.1), "y": self.curve(y.0, y.1), "z": self.curve(z.0, z.1) });
        self.tracks
            .push(json!({ "channel": format!("{name}:rotation"), "controller": { "angles": angles } }));
    }

    fn scene(mut self) -> Value {
        let way = self.of.angles;
        self.node("hips", None, "root", DVec3::new(1.0, 95.0, -2.0));
        let mirrored = self.chance.one_in(3);
        let node = self.node("chest", Some("hips"), "joint", DVec3::new(0.5, 30.0, 1.0));
        if mirrored {
            node["scale"] = json!([-1.0, 1.0, 1.0]);
        }
        let place = DVec3::from_array(self.chance.vector(20.0));
        self.node("body", None, "control", place);
        let mut constraints =
            vec![json!({ "name": "body", "node": "hips", "follow": { "sources": [{ "node": "body" }] } })];
        self.node("chest_fk", Some("body"), "control", place);
        constraints.push(json!({ "name": "chest", "node": "chest",
            "follow": { "sources": [{ "node": "chest_fk" }], "parts": ["rotation"] } }));
        let places: Vec<Value> =
            [1.0, 95.0, -2.0].iter().map(|at| self.curve(at - 10.0, at + 10.0)).collect();
        self.tracks.push(json!({ "channel": "hips:translation", "controller": { "components": places } }));
        self.turns("hips", [(-way, way); 3].map(|(low, high)| (low * 0.4, high * 0.4)));
        self.turns("chest", [(-way, way); 3].map(|(low, high)| (low * 0.4, high * 0.4)));
        for side in SIDES {
            self.limb(side, mirrored, &mut constraints);
        }
        json!({
            "ncurve": 1, "rate": "24",
            "space": { "metres_per_unit": 0.01, "up": "y" },
            "rigs": [{ "name": "figure", "nodes": self.nodes }],
            "constraints": constraints,
            "takes": [{ "name": "take", "range": [1, LAST], "layers": [{ "name": "base", "tracks": self.tracks }] }],
        })
    }

    /// A limb that bends about the x axis of its lower joint, with controls.
    fn limb(&mut self, side: &str, mirrored: bool, constraints: &mut Vec<Value>) {
        let way = self.of.angles;
        let name = |part: &str| format!("{part}_{side}");
        let (a, b) = (self.chance.between(24.0, 34.0), self.chance.between(20.0, 32.0));
        // At rest: the upper joint's frame, its bone, the hinge across it and the bend.
        let upper = self.turn();
        let first = self.direction();
        let hinge = first.cross(self.direction()).normalize();
        let rest = self.chance.between(15.0, 50.0);
        let second = DQuat::from_axis_angle(hinge, rest.to_radians()) * first;
        // In the upper joint's space the lower one has its x along the hinge and its y along its bone.
        let lower = DQuat::from_mat3(&DMat3::from_cols(hinge, second, hinge.cross(second)));
        let root = DVec3::from_array(self.chance.vector(15.0));
        self.node(&name("upper"), Some("chest"), "joint", root)["before"] = Maker::orient(upper);
        self.node(&name("lower"), Some(&name("upper")), "joint", first * a)["before"] = Maker::orient(lower);
        let end = self.turn();
        self.node(&name("end"), Some(&name("lower")), "joint", DVec3::new(0.0, b, 0.0))["before"] =
            Maker::orient(end);
        self.turns(&name("upper"), [(-way, way); 3]);
        let least = if self.of.straight { -rest } else { 12.0 - rest };
        let (low, high) = ((-way).max(least), way.min(100.0 - rest));
        self.turns(&name("lower"), [(low, high), (0.0, 0.0), (0.0, 0.0)]);
        self.turns(&name("end"), [(-way, way); 3]);
        // Where the limb rests in the world.
        let mirror = DMat3::from_diagonal(DVec3::new(if mirrored { -1.0 } else { 1.0 }, 1.0, 1.0));
        let origin = DVec3::new(1.5, 125.0, -1.0);
        let world = |place: DVec3| origin + mirror * place;
        let elbow = root + upper * (first * a);
        let wrist = elbow + upper * (second * b);
        let line = (wrist - root).normalize();
        let out = (elbow - root) - line * line.dot(elbow - root);
        let pole = elbow + out.normalize() * self.chance.between(20.0, 60.0);
        let under = *self.chance.of(&[None, Some("body")]);
        let above = under.and_then(|name| self.nodes.iter().find(|node| node["name"] == name));
        let base = above.map_or(DVec3::ZERO, |node| vector(&node["translation"]));
        let turned = self.turn();
        let offset = DVec3::from_array(self.chance.vector(6.0));
        let goal = self.node(&name("goal"), under, "control", world(wrist) + offset - base);
        goal["before"] = Maker::orient(turned);
        goal["attributes"] = json!([{ "name": "ik", "number": { "default": 1.0, "min": 0.0, "max": 1.0 } }]);
        self.node(&name("pole"), under, "control", world(pole) - base);
        // A chain of controls beside the joints.
        let mut parent = "chest_fk".to_owned();
        for part in ["upper", "lower", "end"] {
            let turned = self.turn();
            let control = name(&format!("{part}_fk"));
            self.node(&control, Some(&parent), "control", DVec3::new(3.0, 4.0, 5.0))["before"] =
                Maker::orient(turned);
            constraints.push(json!({ "name": control, "node": name(part),
                "follow": { "sources": [{ "node": control }], "parts": ["rotation"] } }));
            parent = control;
        }
        let goal = name("goal");
        constraints.push(json!({ "name": name("limb"), "node": name("upper"), "weight": format!("{goal}:ik"),
            "limb": { "lower": name("lower"), "end": name("end"), "goal": { "node": goal }, "pole": { "node": name("pole") } } }));
    }
}

/// A vector out of numbers of a file.
fn vector(numbers: &Value) -> DVec3 {
    let at = |index: usize| numbers[index].as_f64().unwrap_or(0.0);
    DVec3::new(at(0), at(1), at(2))
}
