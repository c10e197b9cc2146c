//! Random control rigs as animators have them, and what an export of each shows: samples of every node on each frame, with nothing
//! that says what drives what.

use glam::{DAffine3, DMat3, DQuat, DVec3};
use serde_json::{Value, json};

use crate::random::{Chance, ORDERS};
use crate::scene::{Scene, Solved};
use crate::turn::of_angles;

/// The last frame; the first one is 1.
pub const LAST: i64 = 200;

/// A rig and its export, both as files.
pub struct Shown {
    /// With constraints, and keys on controls.
    pub rig: Value,
    /// Samples alone.
    pub file: Value,
}

struct Maker {
    chance: Chance,
    nodes: Vec<Value>,
    rests: Vec<(String, DAffine3)>,
    constraints: Vec<Value>,
    tracks: Vec<Value>,
}

/// A rig by its seed, and what its export shows.
pub fn shown(seed: u64) -> Shown {
    let maker = Maker {
        chance: Chance::new(seed),
        nodes: vec![],
        rests: vec![],
        constraints: vec![],
        tracks: vec![],
    };
    let rig = maker.scene();
    let file = exported(&rig);
    Shown { rig, file }
}

/// As a file of single precision holds it.
fn single(number: f64) -> f64 {
    f64::from(number as f32)
}

/// What an export shows of a rig: each node by samples, nothing that drives them, and no attributes.
fn exported(rig: &Value) -> Value {
    let scene = Scene::read(&rig.to_string());
    let mut places: Vec<Vec<Value>> = vec![vec![]; scene.nodes.len()];
    let mut turns = places.clone();
    for frame in 1..=LAST {
        let solved = Solved::new(&scene, Some((0, frame as f64)));
        for node in 0..scene.nodes.len() {
            let now = solved.placed(node);
            places[node].push(json!(now.place.to_array().map(single)));
            turns[node].push(json!(now.turn.to_array().map(single)));
        }
    }
    let mut file = rig.clone();
    let fields = file.as_object_mut().expect("an object");
    fields.remove("constraints");
    for node in file["rigs"]
        .as_array_mut()
        .into_iter()
        .flatten()
        .flat_map(|rig| rig["nodes"].as_array_mut().into_iter().flatten())
    {
        node.as_object_mut().expect("an object").remove("attributes");
    }
    let mut tracks = Vec::new();
    for (node, (places, turns)) in scene.nodes.iter().zip(places.into_iter().zip(turns)) {
        let samples = |kind: &str, rows: Vec<Value>| json!({ "samples": { "start": 1, "rate": "24", "kind": kind, "rows": rows } });
        tracks.push(json!({ "channel": format!("{}:translation", node.name), "controller": samples("vector", places) }));
        tracks.push(json!({ "channel": format!("{}:rotation", node.name), "controller": samples("quaternions", turns) }));
    }
    file["takes"] =
        json!([{ "name": "shown", "range": [1, LAST], "layers": [{ "name": "base", "tracks": tracks }] }]);
    file
}

impl Maker {
    fn rest(&self, name: &str) -> DAffine3 {
        self.rests.iter().find(|(own, _)| own == name).map_or(DAffine3::IDENTITY, |(_, rest)| *rest)
    }

    fn direction(&mut self) -> DVec3 {
        loop {
            let found = DVec3::from_array(self.chance.vector(1.0));
            if let Some(unit) = found.try_normalize().filter(|_| found.length() > 0.2) {
                return unit;
            }
        }
    }

    /// A node at a place of the world, turned anyhow beside its parent.
    fn node(&mut self, name: &str, parent: Option<&str>, kind: &str, place: DVec3) {
        let above = parent.map_or(DAffine3::IDENTITY, |parent| self.rest(parent));
        let place = above.inverse().transform_point3(place);
        let order = *self.chance.of(&ORDERS);
        let angles = if self.chance.one_in(3) { [0.0; 3] } else { self.chance.vector(80.0) };
        let mut node = json!({ "name": name, "kind": kind, "translation": place.to_array(),
            "rotation": { "rotate": { "order": order, "angles": angles } } });
        if let Some(parent) = parent {
            node["parent"] = json!(parent);
        }
        let turn = DMat3::from_quat(of_angles(order, angles));
        self.rests.push((name.to_owned(), above * DAffine3::from_mat3_translation(turn, place)));
        self.nodes.push(node);
    }

    /// The node added last is mirrored.
    fn mirrored(&mut self) {
        if let (Some(node), Some((_, rest))) = (self.nodes.last_mut(), self.rests.last_mut()) {
            node["scale"] = json!([-1.0, 1.0, 1.0]);
            rest.matrix3.x_axis *= -1.0;
        }
    }

    fn curve(&mut self, rest: f64, way: f64) -> Value {
        let count = 5 + self.chance.below(4) as i64;
        let keys: Vec<Value> = (0..count)
            .map(|index| {
                let value = rest + self.chance.between(-way, way);
                json!({ "frame": 1 + index * (LAST - 1) / (count - 1), "value": value })
            })
            .collect();
        json!({ "keys": keys })
    }

    fn find(&self, name: &str) -> Value {
        self.nodes.iter().find(|node| node["name"] == name).cloned().expect("a node that was added")
    }

    /// Keys on a node's turn, and on its place.
    fn keyed(&mut self, name: &str, angles: f64, way: f64) {
        let node = self.find(name);
        let rotate = &node["rotation"]["rotate"];
        if angles > 0.0 {
            let mut turns = json!({ "order": rotate["order"] });
            for (index, axis) in ["x", "y", "z"].into_iter().enumerate() {
                let rest = rotate["angles"][index].as_f64().unwrap_or(0.0);
                turns[axis] = self.curve(rest, angles);
            }
            self.tracks
                .push(json!({ "channel": format!("{name}:rotation"), "controller": { "angles": turns } }));
        }
        if way > 0.0 {
            let rest = |index: usize| node["translation"][index].as_f64().unwrap_or(0.0);
            let places: Vec<Value> = [0, 1, 2].map(|index| self.curve(rest(index), way)).to_vec();
            self.tracks.push(
                json!({ "channel": format!("{name}:translation"), "controller": { "components": places } }),
            );
        }
    }

    fn follow(&mut self, node: &str, source: &str, parts: &[&str]) {
        let mut follow = json!({ "sources": [{ "node": source }] });
        if !parts.is_empty() {
            follow["parts"] = json!(parts);
        }
        self.constraints.push(json!({ "name": node, "node": node, "follow": follow }));
    }

    fn scene(mut self) -> Value {
        let at = DVec3::new(1.0, 95.0, -2.0);
        self.node("hips", None, "root", at);
        let beside =
            if self.chance.one_in(3) { DVec3::from_array(self.chance.vector(10.0)) } else { DVec3::ZERO };
        self.node("body", None, "control", at + beside);
        self.keyed("body", 30.0, 25.0);
        self.follow("hips", "body", &[]);
        self.node("chest", Some("hips"), "joint", at + DVec3::new(0.5, 35.0, 1.0));
        let place = self.rest("chest").translation;
        self.node("chest_fk", Some("body"), "control", place);
        self.keyed("chest_fk", 30.0, 0.0);
        self.follow("chest", "chest_fk", &["rotation"]);
        // A control that drives nothing, one that is never moved, and a joint with keys of its own.
        self.node("note", None, "control", DVec3::new(60.0, 10.0, 4.0));
        self.keyed("note", 40.0, 20.0);
        self.node("badge", Some("chest_fk"), "control", place + DVec3::new(3.0, 2.0, 12.0));
        self.node("tail", Some("hips"), "joint", at - DVec3::new(0.0, 4.0, 12.0));
        self.keyed("tail", 30.0, 0.0);
        self.head();
        for (side, sign) in [("l", 1.0), ("r", -1.0)] {
            self.limb(side, sign);
        }
        self.node("cup", None, "joint", DVec3::new(40.0, 90.0, 30.0));
        let hand = if self.chance.one_in(2) { "end_l" } else { "end_r" };
        self.follow("cup", hand, &[]);
        let prop = self.nodes.pop();
        json!({
            "ncurve": 1, "rate": "24",
            "space": { "metres_per_unit": 0.01, "up": "y" },
            "rigs": [{ "name": "figure", "nodes": self.nodes }, { "name": "prop", "nodes": [prop] }],
            "constraints": self.constraints,
            "takes": [{ "name": "take", "range": [1, LAST], "layers": [{ "name": "base", "tracks": self.tracks }] }],
        })
    }

    /// A head that turns with a control in one of several spaces, and an eye that looks at something.
    fn head(&mut self) {
        let place = self.rest("chest").translation + DVec3::new(0.0, 25.0, 2.0);
        self.node("head", Some("chest"), "joint", place);
        self.node("head_space", None, "locator", place);
        self.node("head_ctrl", Some("head_space"), "control", place);
        self.keyed("head_ctrl", 35.0, 0.0);
        self.follow("head", "head_ctrl", &["rotation"]);
        if self.chance.one_in(2) {
            // It goes with one of two, or stays in the world.
            if let Some(node) = self.nodes.last_mut() {
                node["attributes"] = json!([{ "name": "space",
                    "choice": { "options": ["chest", "body", "world"], "default": "chest" } }]);
            }
            let source = |node: &str, option: &str| json!({ "node": node, "weight": { "attribute": "head_ctrl:space", "is": option } });
            self.constraints.push(json!({ "name": "head_space", "node": "head_space",
                "follow": { "sources": [source("chest_fk", "chest"), source("body", "body")] } }));
            let [first, second] = [60, 130].map(|frame| frame + self.chance.below(30) as i64);
            let mut options = ["chest", "body", "world"];
            let swapped = self.chance.below(3);
            options.swap(0, swapped);
            let keys: Vec<Value> = [1, first, second]
                .into_iter()
                .zip(options)
                .map(|(frame, option)| json!({ "frame": frame, "value": option }))
                .collect();
            self.tracks.push(json!({ "channel": "head_ctrl:space", "controller": { "discrete": keys } }));
        } else {
            self.follow("head_space", "chest_fk", &[]);
        }
        let eye = place + DVec3::new(2.0, 4.0, 7.0);
        self.node("eye", Some("head"), "joint", eye);
        self.node("look", Some("body"), "control", eye + DVec3::new(5.0, -3.0, 60.0));
        self.keyed("look", 20.0, 30.0);
        let mut aim = json!({ "axis": [0.0, 0.0, 1.0], "at": "look" });
        if self.chance.one_in(2) {
            aim["axis"] = json!(self.direction().to_array());
        }
        let up = match self.chance.below(4) {
            0 => None,
            1 => Some(json!({ "direction": [0.0, 1.0, 0.0] })),
            2 => Some(json!({ "direction": self.direction().to_array(), "node": "head" })),
            _ => Some(json!({ "node": "note" })),
        };
        if let Some(to) = up {
            let axis = self.direction().to_array();
            aim["up"] = json!({ "axis": axis, "to": to });
        }
        self.constraints.push(json!({ "name": "eye", "node": "eye", "aim": aim }));
    }

    /// A limb by a goal, by a chain of controls, or by one after the other; with twist joints.
    fn limb(&mut self, side: &str, sign: f64) {
        let name = |part: &str| format!("{part}_{side}");
        let chest = self.rest("chest").translation;
        let shoulder = chest + DVec3::new(12.0 * sign, 8.0, 0.0);
        let clavicle = name("clavicle");
        self.node(&clavicle, Some("chest"), "joint", chest + DVec3::new(3.0 * sign, 8.0, 1.0));
        if sign < 0.0 && self.chance.one_in(2) {
            self.mirrored();
        }
        let out = (DVec3::new(sign, -0.6, 0.0) + self.direction() * 0.5).normalize();
        let across = out.cross(self.direction()).normalize();
        let bend = if self.chance.one_in(5) { 0.0 } else { self.chance.between(10.0, 50.0).to_radians() };
        let (a, b) = (self.chance.between(24.0, 34.0), self.chance.between(20.0, 30.0));
        let elbow = shoulder + out * a;
        let wrist = elbow + DQuat::from_axis_angle(across, bend) * out * b;
        let [upper, lower, end] = ["upper", "lower", "end"].map(name);
        self.node(&upper, Some(&clavicle), "joint", shoulder);
        self.node(&lower, Some(&upper), "joint", elbow);
        self.node(&end, Some(&lower), "joint", wrist);
        let kind = self.chance.below(3);
        // An end that goes along with its bone has no roll that anything could take a part of.
        let is_along = kind == 0 && self.chance.one_in(4);
        let mut parent = "chest_fk".to_owned();
        if kind != 0 {
            for (part, place) in [("upper", shoulder), ("lower", elbow), ("end", wrist)] {
                let control = name(&format!("{part}_fk"));
                self.node(&control, Some(&parent), "control", place);
                self.keyed(&control, if part == "lower" { 40.0 } else { 50.0 }, 0.0);
                self.follow(&name(part), &control, &["rotation"]);
                parent = control;
            }
        }
        if kind != 1 {
            self.by_goal(side, [shoulder, elbow, wrist], across, (kind == 2, bend == 0.0, is_along));
        }
        if !is_along {
            let twist = name("twist");
            self.node(&twist, Some(&lower), "joint", elbow.lerp(wrist, 0.5));
            let fraction = *self.chance.of(&[0.5, 0.33, 0.75]);
            let axis = self.direction().to_array();
            let from = self.direction().to_array();
            self.constraints.push(json!({ "name": twist, "node": twist,
                "roll": { "source": end, "fraction": fraction, "axis": axis, "source_axis": from } }));
        }
        let shoulder_twist = name("untwist");
        self.node(&shoulder_twist, Some(&upper), "joint", shoulder.lerp(elbow, 0.4));
        let axis = self.direction().to_array();
        self.constraints.push(json!({ "name": shoulder_twist, "node": shoulder_twist,
            "roll": { "source": upper, "fraction": -1.0, "axis": axis } }));
    }

    fn by_goal(
        &mut self,
        side: &str,
        [shoulder, elbow, wrist]: [DVec3; 3],
        across: DVec3,
        (switched, straight, is_along): (bool, bool, bool),
    ) {
        let name = |part: &str| format!("{part}_{side}");
        let goal = name("goal");
        let under = *self.chance.of(&[None, Some("body")]);
        let beside =
            if self.chance.one_in(3) { DVec3::from_array(self.chance.vector(5.0)) } else { DVec3::ZERO };
        self.node(&goal, under, "control", wrist + beside);
        if switched && let Some(node) = self.nodes.last_mut() {
            node["attributes"] = json!([{ "name": "ik", "switch": true }]);
        }
        self.keyed(&goal, 40.0, 9.0);
        let middle = (shoulder + wrist) * 0.5;
        let out =
            (elbow - middle).try_normalize().unwrap_or_else(|| across.cross(wrist - shoulder).normalize());
        let pole = name("pole");
        let mut limb = json!({ "lower": name("lower"), "end": name("end"), "goal": { "node": goal } });
        match self.chance.below(5) {
            0 => {}
            1 => limb["pole"] = json!({ "direction": out.to_array(), "node": "chest" }),
            _ => {
                let away = self.chance.between(20.0, 50.0);
                self.node(&pole, under, "control", elbow + out * away);
                let way = if self.chance.one_in(4) { 0.0 } else { 12.0 };
                self.keyed(&pole, 0.0, way);
                limb["pole"] = json!({ "node": pole });
            }
        }
        if straight {
            limb["hinge"] = json!(across.to_array());
        }
        if self.chance.one_in(4) {
            limb["slack"] = json!(self.chance.between(0.03, 0.12));
        }
        if is_along {
            limb["end_turn"] = json!("parent");
        }
        let mut constraint = json!({ "name": name("limb"), "node": name("upper"), "limb": limb });
        if switched {
            constraint["weight"] = json!(format!("{goal}:ik"));
            let [first, second] = [50, 120].map(|frame| frame + self.chance.below(40) as i64);
            let start = self.chance.one_in(2);
            let keys: Vec<Value> = [(1, start), (first, !start), (second, start)]
                .into_iter()
                .map(|(frame, on)| json!({ "frame": frame, "value": on }))
                .collect();
            self.tracks.push(json!({ "channel": format!("{goal}:ik"), "controller": { "discrete": keys } }));
        }
        self.constraints.push(constraint);
    }
}
