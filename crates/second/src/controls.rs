//! Random rigs with controls: two limbs, joints that follow, aim and roll, numbers that are coupled, a prop in a rig of its own;
//! mirrored and sized nodes, switches, menus of spaces, controls that rest anywhere.

use serde_json::{Value, json};

use crate::random::{Chance, ORDERS};

/// What may be in a rig with controls.
#[derive(Clone, Copy, Debug)]
pub struct Controls {
    /// Whether nodes are mirrored, and of other sizes.
    pub sized: bool,
    /// Whether weights lie between 0 and 1, and are keyed.
    pub weights: bool,
    /// How far controls move, as a part of a limb's reach.
    pub way: f64,
    /// How far they turn, in degrees.
    pub angles: f64,
    /// Whether things stand elsewhere beside what they follow than at rest, so that limbs are often too short.
    pub apart: bool,
}

impl Controls {
    pub const ALL: Controls = Controls { sized: true, weights: true, way: 0.8, angles: 120.0, apart: true };
    /// As animators pose: limbs within their reach, turns of less than half round.
    pub const CALM: Controls = Controls { sized: true, weights: false, way: 0.1, angles: 25.0, apart: false };
}

/// The file of a scene, of 48 frames from 1 on.
pub fn text(seed: u64, of: &Controls) -> String {
    Maker { chance: Chance::new(seed), of: *of }.scene().to_string()
}

struct Maker {
    chance: Chance,
    of: Controls,
}

const CHANNEL_KEYS: usize = 4;

impl Maker {
    fn node(&mut self, name: &str, parent: Option<&str>, kind: &str, place: [f64; 3], turned: bool) -> Value {
        let mut node = json!({ "name": name, "kind": kind, "translation": place });
        if let Some(parent) = parent {
            node["parent"] = json!(parent);
        }
        let angles = if turned { self.chance.vector(50.0) } else { [0.0; 3] };
        node["rotation"] = json!({ "rotate": { "order": self.chance.of(&ORDERS), "angles": angles } });
        if turned && self.chance.one_in(3) {
            node["before"] = json!({ "orient": self.chance.turn() });
        }
        if turned && self.chance.one_in(4) {
            node["after"] = json!({ "orient": self.chance.turn() });
        }
        node
    }

    /// A node of another size, or mirrored; of one size along all axes, so that lengths below it do not lean on how it turns.
    fn sized(&mut self, mut node: Value) -> Value {
        if self.of.sized && self.chance.one_in(3) {
            let size = self.chance.between(0.6, 1.5);
            let signs = if self.chance.one_in(2) { [-1.0, 1.0, 1.0] } else { [1.0; 3] };
            node["scale"] = json!(signs.map(|sign: f64| sign * size));
        }
        node
    }

    fn scene(&mut self) -> Value {
        let mut nodes = Vec::new();
        let place = self.chance.vector(5.0);
        let hips = self.node("hips", None, "joint", place, true);
        nodes.push(self.sized(hips));
        let chest = self.node("chest", Some("hips"), "joint", [0.5, 12.0, 1.0], true);
        nodes.push(self.sized(chest));
        let control = self.node("body", None, "control", place, true);
        nodes.push(control);
        let mut constraints = vec![self.follow("hips", &["body"])];
        for side in ["l", "r"] {
            self.limb(side, &mut nodes, &mut constraints);
        }
        let place = self.chance.vector(4.0);
        let head = self.node("head", Some("chest"), "joint", place, true);
        nodes.push(self.sized(head));
        let at = [self.chance.between(5.0, 30.0), 14.0, 25.0];
        nodes.push(self.node("look", None, "control", at, true));
        constraints.push(self.aim());
        let lid = self.node("lid", Some("head"), "joint", [0.2, 0.5, 1.0], true);
        nodes.push(lid);
        constraints.push(json!({ "name": "lid", "node": "lid", "weight": self.weight(), "couple": {
            "channel": "rotation.x", "from": "body:blink",
            "points": [[-1.0, -10.0], [0.0, 0.0], [0.5, 40.0], [2.0, 55.5]] } }));
        for node in &mut nodes {
            if node["name"] == "body" {
                node["attributes"] = json!([
                    { "name": "blink", "number": { "default": 0.2 } },
                    { "name": "part", "number": { "default": 1.0 } },
                    { "name": "on", "switch": true },
                    { "name": "space", "choice": { "options": ["world", "chest", "hips"], "default": "chest" } },
                    { "name": "lean", "number": { "default": 4.0, "quantity": "angle" } },
                ]);
            }
        }
        let place = self.chance.vector(6.0);
        let mut prop = self.node("cup", None, "joint", place, true);
        prop["name"] = json!("cup");
        let beside = self.node("spoon", Some("cup"), "joint", [0.0, 2.0, 0.5], true);
        constraints.push(self.follow("cup", &["end_l", "end_r"]));
        let three = self.follow("spoon", &["head", "look", "end_r"]);
        constraints.push(three);
        let takes = self.take(&nodes);
        let left = self.chance.one_in(4);
        json!({
            "ncurve": 1, "rate": "24",
            "space": { "metres_per_unit": 0.01, "up": "y", "handedness": if left { "left" } else { "right" } },
            "rigs": [{ "name": "figure", "nodes": nodes }, { "name": "prop", "nodes": [prop, beside] }],
            "constraints": constraints,
            "takes": [takes],
        })
    }

    /// A limb with its controls, a twist joint, and what holds them.
    fn limb(&mut self, side: &str, nodes: &mut Vec<Value>, constraints: &mut Vec<Value>) {
        let [upper, lower, end, goal, pole] =
            ["upper", "lower", "end", "goal", "pole"].map(|name| format!("{name}_{side}"));
        let place = self.chance.vector(4.0);
        let mut joint = self.node(&upper, Some("chest"), "joint", place, true);
        joint = self.sized(joint);
        nodes.push(joint);
        // Bones point anywhere, and bend.
        let bone = |maker: &mut Maker, length: f64| {
            let [x, y, z] = maker.chance.vector(1.0);
            let size = (x * x + y * y + z * z).sqrt().max(0.2);
            [x, y, z].map(|part| (part / size * length * 1e4).round() / 1e4)
        };
        let way = bone(self, 10.0);
        nodes.push(self.node(&lower, Some(&upper), "joint", way, true));
        let way = bone(self, 8.0);
        nodes.push(self.node(&end, Some(&lower), "joint", way, true));
        let twist = format!("twist_{side}");
        nodes.push(self.node(&twist, Some(&lower), "joint", [1.0, 0.5, 0.0], true));
        let parent = *self.chance.of(&[None, Some("body")]);
        let [x, y, z] = self.chance.vector(9.0);
        let at = [x, y + 13.0, z];
        nodes.push(self.node(&goal, parent, "control", at, true));
        let at = self.chance.vector(40.0);
        nodes.push(self.node(&pole, parent, "control", at, false));
        let mut limb = json!({ "lower": lower, "end": end, "goal": { "node": goal } });
        match self.chance.below(4) {
            0 => {}
            1 => limb["pole"] = json!({ "direction": self.chance.vector(1.0), "node": "chest" }),
            _ => limb["pole"] = json!({ "node": pole }),
        }
        if self.chance.one_in(3) {
            limb["bend"] = json!("other");
        }
        if self.of.apart && self.chance.one_in(2) {
            limb["goal"]["offset"] =
                json!({ "position": self.chance.vector(2.0), "turn": self.chance.turn() });
        }
        if self.chance.one_in(3) {
            limb["slack"] = json!(self.chance.between(0.02, 0.3));
        }
        if self.chance.one_in(3) {
            limb["stretch"] =
                if self.chance.one_in(2) { json!("body:part") } else { json!(self.chance.between(0.2, 1.0)) };
        }
        if self.chance.one_in(3) {
            limb["lengths"] = json!([self.chance.between(0.7, 1.3), "body:part"]);
        }
        if self.chance.one_in(3) {
            limb["twist"] = if self.chance.one_in(2) {
                json!("body:lean")
            } else {
                json!(self.chance.between(-90.0, 90.0))
            };
        }
        if self.chance.one_in(2) {
            limb["end_turn"] = json!(*self.chance.of(&["goal", "parent", "own"]));
        }
        constraints.push(
            json!({ "name": format!("limb {side}"), "node": upper, "weight": self.weight(), "limb": limb }),
        );
        let fraction = *self.chance.of(&[0.5, -1.0, 0.33]);
        let axis = self.chance.vector(1.0);
        let (weight, source) = (self.weight(), *self.chance.of(&[end.as_str(), twist.as_str()]));
        let source_axis = self.chance.vector(1.0);
        // Some take of the whole turn.
        let roll = match fraction == 0.33 {
            true => json!({ "source": source, "fraction": fraction }),
            false => {
                json!({ "source": source, "fraction": fraction, "axis": axis, "source_axis": source_axis })
            }
        };
        constraints.push(json!({ "name": twist, "node": twist, "weight": weight, "roll": roll }));
    }

    fn follow(&mut self, node: &str, sources: &[&str]) -> Value {
        let several = sources.len() > 1;
        let mut list = Vec::new();
        for (index, source) in sources.iter().enumerate() {
            let mut own = json!({ "node": source });
            if several {
                let kind = if self.of.weights { self.chance.below(3) } else { 2 };
                own["weight"] = match (index, kind) {
                    (_, 0) => {
                        json!({ "attribute": "body:space", "is": *self.chance.of(&["world", "chest", "hips"]) })
                    }
                    (0, 1) => json!("body:part"),
                    _ => json!(self.chance.between(0.1, 1.0)),
                };
            }
            if self.of.apart && self.chance.one_in(3) {
                own["offset"] = json!({ "position": self.chance.vector(3.0), "turn": self.chance.turn() });
            }
            list.push(own);
        }
        let mut follow = json!({ "sources": list });
        if self.chance.one_in(4) {
            let parts: [&[&str]; 4] = [
                &["translation"],
                &["rotation", "scale"],
                &["translation.x", "translation.z", "rotation"],
                &["rotation.y", "translation"],
            ];
            follow["parts"] = json!(*self.chance.of(&parts));
        }
        json!({ "name": format!("{node} follows"), "node": node, "weight": self.weight(), "follow": follow })
    }

    fn aim(&mut self) -> Value {
        let axis = self.chance.vector(1.0);
        let mut aim = json!({ "axis": axis, "at": "look" });
        if !self.chance.one_in(3) {
            let to = match self.chance.below(3) {
                0 => json!({ "node": "goal_l" }),
                1 => json!({ "direction": [0.0, 1.0, 0.0] }),
                _ => json!({ "direction": self.chance.vector(1.0), "node": "chest" }),
            };
            aim["up"] = json!({ "axis": self.chance.vector(1.0), "to": to });
        }
        json!({ "name": "head aims", "node": "head", "weight": self.weight(), "aim": aim })
    }

    fn weight(&mut self) -> Value {
        if !self.of.weights {
            return json!(1.0);
        }
        match self.chance.below(8) {
            0 => json!(self.chance.between(0.1, 0.9)),
            1 => json!("body:part"),
            2 => json!({ "remaining": "body:part" }),
            3 => json!("body:on"),
            4 => json!({ "attribute": "body:space", "is": "chest" }),
            _ => json!(1.0),
        }
    }

    fn take(&mut self, nodes: &[Value]) -> Value {
        let mut tracks = Vec::new();
        for node in nodes {
            let name = node["name"].as_str().unwrap();
            let is_control = node["kind"] == "control";
            // Some joints have keys of their own, which count where nothing drives them wholly.
            if !is_control && !self.chance.one_in(3) {
                continue;
            }
            let rest: Vec<f64> =
                node["translation"].as_array().unwrap().iter().map(|n| n.as_f64().unwrap()).collect();
            let way = if is_control { 18.0 * self.of.way } else { 0.5 };
            let places: Vec<Value> = rest.iter().map(|rest| self.curve(*rest, way)).collect();
            tracks.push(
                json!({ "channel": format!("{name}:translation"), "controller": { "components": places } }),
            );
            let rotate = &node["rotation"]["rotate"];
            let mut angles = json!({ "order": rotate["order"] });
            for (at, axis) in ["x", "y", "z"].into_iter().enumerate() {
                let rest = rotate["angles"][at].as_f64().unwrap();
                angles[axis] = self.curve(rest, self.of.angles);
            }
            tracks.push(json!({ "channel": format!("{name}:rotation"), "controller": { "angles": angles } }));
        }
        let blink = self.curve(0.3, 1.5);
        tracks.push(json!({ "channel": "body:blink", "controller": { "components": [blink] } }));
        if self.of.weights {
            let keys = json!({ "keys": [{ "frame": 1, "value": 1.0, "slope": 0.0 }, { "frame": 20, "value": 0.4, "slope": 0.0 },
                                        { "frame": 40, "value": 1.0, "slope": 0.0 }] });
            tracks.push(json!({ "channel": "body:part", "controller": { "components": [keys] } }));
            tracks.push(json!({ "channel": "body:on", "controller": { "discrete":
                [{ "frame": 1, "value": true }, { "frame": 30, "value": false }, { "frame": 37, "value": true }] } }));
            tracks.push(json!({ "channel": "body:space", "controller": { "discrete":
                [{ "frame": 1, "value": "chest" }, { "frame": 25, "value": "world" }, { "frame": 42, "value": "hips" }] } }));
        }
        json!({ "name": "take", "range": [1, 48], "layers": [{ "name": "base", "tracks": tracks }] })
    }

    fn curve(&mut self, rest: f64, way: f64) -> Value {
        let mut keys = Vec::new();
        for index in 0..CHANNEL_KEYS {
            let frame = 1 + index * 47 / (CHANNEL_KEYS - 1);
            let value = rest + self.chance.between(-way, way);
            keys.push(json!({ "frame": frame, "value": value }));
        }
        json!({ "keys": keys })
    }
}
