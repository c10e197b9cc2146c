//! Random scenes as text: several rigs, layers, every controller, gaps, loops, jumps, holds, lists of steps, orders, units, axes.

use serde_json::{Value, json};

/// Numbers that a seed gives (SplitMix64, after Steele, Lea and Flood, 2014), or bytes while there are any.
#[derive(Clone, Debug)]
pub struct Chance {
    state: u64,
    /// Given bytes, from the last to the first.
    given: Vec<u8>,
}

impl Chance {
    pub fn new(seed: u64) -> Chance {
        let state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ 0x5DEE_CE66_D1CE_4E5B;
        Chance { state, given: Vec::new() }
    }

    /// Two bytes a decision, so that who changes one of them (a fuzzer) changes one thing of what is made.
    pub fn of_bytes(bytes: &[u8]) -> Chance {
        Chance { given: bytes.iter().rev().copied().collect(), ..Chance::new(bytes.len() as u64) }
    }

    pub fn bits(&mut self) -> u64 {
        if let (Some(high), Some(low)) = (self.given.pop(), self.given.pop()) {
            // The high bits decide on a number, the low ones on a choice.
            return (u64::from(high) << 56)
                | (u64::from(low) << 48)
                | (u64::from(high) << 8)
                | u64::from(low);
        }
        self.state = self.state.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.state;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    pub fn below(&mut self, count: usize) -> usize {
        (self.bits() % count as u64) as usize
    }

    pub fn between(&mut self, low: f64, high: f64) -> f64 {
        let part = (self.bits() >> 11) as f64 / (1_u64 << 53) as f64;
        // As people type them.
        ((low + (high - low) * part) * 1e4).round() / 1e4
    }

    pub fn one_in(&mut self, count: usize) -> bool {
        self.below(count) == 0
    }

    pub fn of<'a, T>(&mut self, list: &'a [T]) -> &'a T {
        &list[self.below(list.len())]
    }

    pub fn vector(&mut self, size: f64) -> [f64; 3] {
        [0; 3].map(|_| self.between(-size, size))
    }

    pub fn turn(&mut self) -> [f64; 4] {
        let q = [0; 4].map(|_| self.between(-1.0, 1.0));
        let length = q.iter().map(|n| n * n).sum::<f64>().sqrt();
        if length < 0.1 { [0.0, 0.0, 0.0, 1.0] } else { q.map(|n| n / length) }
    }
}

/// What may be in a scene.
#[derive(Clone, Copy, Debug)]
pub struct Contents {
    /// Rigs at most.
    pub rigs: usize,
    /// Layers at most.
    pub layers: usize,
    /// Whether layers count in part.
    pub weights: bool,
    /// Whether there are controllers beside curves.
    pub all_controllers: bool,
    /// Whether there are lists of steps with pivots, shear and matrices.
    pub lists: bool,
    /// Whether curves go on outside their keys, and have gaps.
    pub outside: bool,
    /// How far angles go, in degrees.
    pub angles: f64,
}

impl Contents {
    pub const ALL: Contents = Contents {
        rigs: 3,
        layers: 3,
        weights: true,
        all_controllers: true,
        lists: true,
        outside: true,
        angles: 160.0,
    };
    pub const PLAIN: Contents = Contents {
        rigs: 2,
        layers: 1,
        weights: false,
        all_controllers: false,
        lists: false,
        outside: false,
        angles: 70.0,
    };
}

pub const ORDERS: [&str; 6] = ["xyz", "xzy", "yxz", "yzx", "zxy", "zyx"];
const NAMES: [&str; 10] =
    ["hips", "spine", "arm_l", "arm_r", "head", "leg_l", "foot_l", "tail tip", "nœud", "prop.end"];

/// A scene's text.
pub fn scene(chance: &mut Chance, contents: &Contents) -> Value {
    let rate = *chance.of(&["24", "25", "30", "30000/1001", "60"]);
    let space = json!({
        "metres_per_unit": *chance.of(&[1.0, 0.01, 0.0254]),
        "up": *chance.of(&["x", "y", "z"]),
        "handedness": if chance.one_in(5) { "left" } else { "right" },
    });
    let count = 1 + chance.below(contents.rigs);
    let rigs: Vec<Value> = (0..count).map(|index| rig(chance, contents, index)).collect();
    let takes: Vec<Value> =
        (0..1 + chance.below(2)).map(|index| take(chance, contents, &rigs, index)).collect();
    json!({ "ncurve": 1, "rate": rate, "space": space, "rigs": rigs, "takes": takes })
}

fn rig(chance: &mut Chance, contents: &Contents, index: usize) -> Value {
    let count = 1 + chance.below(5);
    let mut nodes: Vec<Value> = Vec::new();
    for at in 0..count {
        let mut node = json!({ "name": format!("r{index}:{}_{at}", chance.of(&NAMES)) });
        if at > 0 && !chance.one_in(6) {
            let parent = if chance.one_in(3) { chance.below(at) } else { at - 1 };
            node["parent"] = json!(quoted(nodes[parent]["name"].as_str().unwrap()));
        }
        if contents.lists && chance.one_in(7) {
            node["transform"] = list(chance);
        } else {
            node["translation"] = json!(chance.vector(3.0));
            if chance.one_in(4) {
                node["before"] = json!({ "orient": chance.turn() });
            }
            if chance.one_in(6) {
                node["after"] = json!({ "orient": chance.turn() });
            }
            node["rotation"] = if chance.one_in(7) {
                json!({ "orient": chance.turn() })
            } else {
                json!({ "rotate": { "order": chance.of(&ORDERS), "angles": chance.vector(60.0) } })
            };
            if chance.one_in(5) {
                node["scale"] = json!([0; 3].map(|_| chance.between(0.6, 1.6)));
            }
            if chance.one_in(8) {
                node["inherits"] = json!("position-only");
            }
        }
        let attributes: Vec<Value> = (0..chance.below(3)).map(|at| attribute(chance, at)).collect();
        if !attributes.is_empty() {
            node["attributes"] = json!(attributes);
        }
        nodes.push(node);
    }
    json!({ "name": format!("rig {index}"), "nodes": nodes })
}

fn list(chance: &mut Chance) -> Value {
    let pivot = chance.vector(1.0);
    let mut steps = vec![
        json!({ "name": "translation", "translate": chance.vector(3.0) }),
        json!({ "name": "pivot", "translate": pivot }),
    ];
    match chance.below(3) {
        0 => steps.push(json!({ "name": "rotation", "rotate": { "order": chance.of(&ORDERS), "angles": chance.vector(60.0) } })),
        1 => {
            for (name, [x, y, z]) in [("spin z", [0, 0, 1]), ("spin y", [0, 1, 0])] {
                steps.push(json!({ "name": name, "rotate_axis": [x, y, z, chance.between(-90.0, 90.0)] }));
            }
        }
        _ => steps.push(json!({ "name": "shear", "shear": chance.vector(0.3) })),
    }
    let factors = [0; 3].map(|_| chance.between(0.7, 1.4));
    steps.push(json!({ "name": "scale", "scale": factors }));
    steps.push(json!({ "name": "back", "translate": pivot, "inverse": true }));
    json!(steps)
}

fn attribute(chance: &mut Chance, at: usize) -> Value {
    let name = format!("attribute {at}");
    match chance.below(4) {
        0 => json!({ "name": name, "switch": chance.one_in(2) }),
        1 => json!({ "name": name, "vector": { "default": chance.vector(1.0) } }),
        _ => json!({ "name": name, "number": { "default": chance.between(-1.0, 1.0) } }),
    }
}

fn take(chance: &mut Chance, contents: &Contents, rigs: &[Value], index: usize) -> Value {
    let (first, last) = (chance.below(5) as i64, 12 + chance.below(24) as i64);
    let count = 1 + chance.below(contents.layers);
    let mut layers = Vec::new();
    for at in 0..count {
        let mut layer = json!({ "name": format!("layer {at}"), "tracks": [] });
        if at > 0 {
            if chance.one_in(2) {
                layer["mode"] = json!("additive");
            }
            if contents.weights {
                match chance.below(3) {
                    0 => layer["weight"] = json!(*chance.of(&[0.5, 0.25, 0.8])),
                    1 => {
                        layer["weight_curve"] = json!({ "keys": [
                            { "frame": first, "value": 0, "slope": 0 },
                            { "frame": (first + last) / 2, "value": 1, "slope": 0 },
                            { "frame": last, "value": chance.between(0.0, 1.0), "slope": 0 },
                        ] });
                    }
                    _ => {}
                }
            }
            if chance.one_in(8) {
                layer["muted"] = json!(true);
            }
        }
        if chance.one_in(3) {
            layer["rotations"] = json!("quaternions");
        }
        let adds = layer.get("mode").is_some();
        let mut tracks = Vec::new();
        for node in rigs.iter().flat_map(|rig| rig["nodes"].as_array().unwrap()) {
            tracks.extend(tracks_of(chance, contents, node, (first, last), adds));
        }
        layer["tracks"] = json!(tracks);
        layers.push(layer);
    }
    json!({ "name": format!("take {index}"), "range": [first, last], "layers": layers })
}

/// A part of an address: one with white space stands in quotes.
fn quoted(text: &str) -> String {
    if text.contains(char::is_whitespace) { format!("\"{text}\"") } else { text.to_owned() }
}

fn address(node: &Value, property: &str) -> String {
    format!("{}:{}", quoted(node["name"].as_str().unwrap()), quoted(property))
}

fn tracks_of(
    chance: &mut Chance,
    contents: &Contents,
    node: &Value,
    range: (i64, i64),
    adds: bool,
) -> Vec<Value> {
    let mut tracks = Vec::new();
    let mut push = |property: &str, controller: Value| {
        tracks.push(json!({ "channel": address(node, property), "controller": controller }));
    };
    let steps = node.get("transform").and_then(Value::as_array);
    let has = |name: &str| steps.is_none_or(|steps| steps.iter().any(|step| step["name"] == name));
    if chance.one_in(3) && has("translation") {
        push("translation", numbers(chance, contents, range, 3, 2.0));
    }
    if !chance.one_in(4) && has("rotation") {
        let order = node.pointer("/rotation/rotate/order").or_else(|| {
            let own = steps?.iter().find(|step| step["name"] == "rotation")?;
            own.pointer("/rotate/order")
        });
        let order = order.and_then(Value::as_str).map(str::to_owned);
        push("rotation", rotation(chance, contents, range, order));
    }
    if steps.is_none() && chance.one_in(8) {
        let curve =
            |chance: &mut Chance| curve(chance, &Contents { outside: false, ..*contents }, range, 0.3);
        let shifted = |curve: Value| shift(curve, if adds { 1.0 } else { 1.2 });
        let curves = [0; 3].map(|_| shifted(curve(chance)));
        push("scale", json!({ "components": curves }));
    }
    for step in steps.into_iter().flatten() {
        if step.get("rotate_axis").is_some() && chance.one_in(2) {
            push(
                step["name"].as_str().unwrap(),
                json!({ "components": [curve(chance, contents, range, contents.angles)] }),
            );
        }
    }
    for attribute in node.get("attributes").and_then(Value::as_array).into_iter().flatten() {
        let name = attribute["name"].as_str().unwrap();
        if attribute.get("switch").is_some() {
            if !adds && chance.one_in(2) {
                let middle = range.0 + 1 + chance.below(8) as i64;
                push(
                    name,
                    json!({ "discrete": [
                    { "frame": range.0, "value": false }, { "frame": middle, "value": true },
                ] }),
                );
            }
        } else if chance.one_in(2) {
            let width = if attribute.get("vector").is_some() { 3 } else { 1 };
            push(name, numbers(chance, contents, range, width, 1.0));
        }
    }
    tracks
}

/// Values around another one; slopes stay.
fn shift(mut curve: Value, by: f64) -> Value {
    for key in curve["keys"].as_array_mut().into_iter().flatten() {
        for name in ["value", "before"] {
            if let Some(value) = key.get(name).and_then(Value::as_f64) {
                key[name] = json!(((value + by) * 1e4).round() / 1e4);
            }
        }
        // Factors stay above zero where slopes are gentle.
        for name in ["slope", "in", "out"] {
            if key.get(name).is_some() {
                key[name] = json!(0);
            }
        }
    }
    if let Some(region) = curve.get_mut("inner_loop").and_then(Value::as_object_mut) {
        region.remove("offset");
    }
    curve
}

fn frames(chance: &mut Chance, (first, last): (i64, i64), least: usize) -> Vec<i64> {
    let mut frames = vec![first + chance.below(3) as i64];
    while *frames.last().unwrap() < last {
        let next = frames.last().unwrap() + 2 + chance.below(9) as i64;
        frames.push(next);
    }
    if chance.one_in(3) {
        frames.pop();
    }
    while frames.len() < least {
        frames.push(frames.last().copied().unwrap_or(first) + 3);
    }
    frames
}

pub fn curve(chance: &mut Chance, contents: &Contents, range: (i64, i64), size: f64) -> Value {
    if chance.one_in(8) {
        return json!({ "keys": [{ "frame": range.0, "value": chance.between(-size, size) }] });
    }
    let frames = frames(chance, range, 2);
    let mut keys = Vec::new();
    let mut last = chance.between(-size, size);
    for (index, frame) in frames.iter().enumerate() {
        let mut key = json!({ "frame": frame, "value": last });
        if chance.one_in(7) && index > 0 {
            key["before"] = json!(chance.between(-size, size));
        }
        match chance.below(9) {
            0 => key["interpolation"] = json!("linear"),
            1 => key["interpolation"] = json!("hold"),
            2 if contents.outside && index > 0 && index + 1 < frames.len() && chance.one_in(3) => {
                key["interpolation"] = json!("none");
            }
            _ => {}
        }
        let slope = size / 6.0;
        match chance.below(7) {
            0 => key["slope"] = json!(chance.between(-slope, slope)),
            1 => {
                key["in"] = json!(chance.between(-slope, slope));
                key["out"] = json!(chance.between(-slope, slope));
                key["broken"] = json!(true);
            }
            2 => {
                key["in"] = json!([chance.between(0.4, 3.0), chance.between(-slope, slope)]);
                key["out"] = json!([chance.between(0.4, 3.0), chance.between(-slope, slope)]);
                key["broken"] = json!(true);
            }
            3 => {
                key["in"] = json!("flat");
                key["out"] = json!("flat");
            }
            4 => {
                key["in"] = json!("auto-no-overshoot");
                key["out"] = json!("auto-no-overshoot");
            }
            5 => {
                key["in"] = json!("linear");
                key["out"] = json!({ "mode": "auto", "length": chance.between(0.5, 2.5) });
                key["broken"] = json!(true);
            }
            _ => {}
        }
        keys.push(key);
        last = (last + chance.between(-size, size) * 0.5).clamp(-size, size);
    }
    let mut curve = json!({ "keys": keys });
    if contents.outside && frames.len() > 2 && chance.one_in(8) {
        let start = chance.below(frames.len() - 1);
        let end = start + 1 + chance.below(frames.len() - 1 - start);
        curve["inner_loop"] = json!({ "frames": [frames[start], frames[end]], "before": chance.below(2), "after": chance.below(3) });
        if chance.one_in(2) {
            curve["inner_loop"]["offset"] = json!(chance.between(-size, size) * 0.2);
        }
    }
    if contents.outside && chance.one_in(4) {
        let ways = [
            json!("linear"),
            json!("loop-offset"),
            json!("loop"),
            json!("loop-oscillate"),
            json!({ "sloped": 0.01 }),
        ];
        curve["after"] = chance.of(&ways).clone();
        if chance.one_in(2) {
            curve["before"] = chance.of(&ways).clone();
        }
    }
    curve
}

fn numbers(chance: &mut Chance, contents: &Contents, range: (i64, i64), width: usize, size: f64) -> Value {
    let kind = if width == 1 { "number" } else { "vector" };
    if contents.all_controllers {
        match chance.below(8) {
            0 => return samples(chance, range, kind, width, size),
            1 => {
                let keys: Vec<Value> = (frames(chance, range, 2).into_iter())
                    .map(|frame| {
                        let value = if width == 1 { json!(chance.between(-size, size)) } else { json!(chance.vector(size)) };
                        json!({ "frame": frame, "value": value, "tension": chance.between(-0.5, 0.5), "bias": chance.between(-0.5, 0.5) })
                    })
                    .collect();
                let keys = with_ease(keys, chance);
                let mut body = serde_json::Map::new();
                body.insert(kind.to_owned(), json!(keys));
                return json!({ "tcb": body });
            }
            2 => {
                let entry = |chance: &mut Chance, at: usize| {
                    let curves: Vec<Value> =
                        (0..width).map(|_| curve(chance, contents, range, size)).collect();
                    let mut entry =
                        json!({ "name": format!("part {at}"), "controller": { "components": curves } });
                    if chance.one_in(2) {
                        entry["weight"] = json!(*chance.of(&[0.5, 0.0, 1.0]));
                    }
                    entry
                };
                return json!({ "stack": [entry(chance, 0), entry(chance, 1)] });
            }
            3 => {
                return json!({ "procedural": {
                    "kind": "expression", "text": "sin(time)", "sampled": samples(chance, range, kind, width, size),
                } });
            }
            _ => {}
        }
    }
    let curves: Vec<Value> = (0..width).map(|_| curve(chance, contents, range, size)).collect();
    json!({ "components": curves })
}

/// Keys with tension, some of them with slow starts and ends.
fn with_ease(mut keys: Vec<Value>, chance: &mut Chance) -> Vec<Value> {
    if chance.one_in(3) {
        for key in &mut keys {
            for name in ["ease_in", "ease_out"] {
                if chance.one_in(2) {
                    key[name] = json!(chance.between(0.0, 0.8));
                }
            }
        }
    }
    keys
}

fn samples(chance: &mut Chance, range: (i64, i64), kind: &str, width: usize, size: f64) -> Value {
    let (mut at, mut speed) = (vec![0.0; width], vec![0.0; width]);
    let mut rows = Vec::new();
    for _ in range.0..=range.1 {
        for index in 0..width {
            speed[index] = 0.8 * speed[index] + chance.between(-0.05, 0.05) * size;
            at[index] = ((at[index] + speed[index]) * 1e4).round() / 1e4;
        }
        rows.push(at.clone());
    }
    let mut body = json!({ "start": range.0, "rate": "", "kind": kind });
    match width {
        1 => body["values"] = json!(rows.into_iter().flatten().collect::<Vec<f64>>()),
        _ => body["rows"] = json!(rows),
    }
    json!({ "samples": body })
}

fn rotation(chance: &mut Chance, contents: &Contents, range: (i64, i64), order: Option<String>) -> Value {
    let kind = if contents.all_controllers { chance.below(8) } else { 7 };
    match kind {
        0 | 1 => {
            let ways = ["slerp", "slerp", "step", "squad", "cubic"];
            let way = *chance.of(&ways);
            let keys: Vec<Value> = (frames(chance, range, 2).into_iter())
                .map(|frame| {
                    let way = if chance.one_in(3) { *chance.of(&ways) } else { way };
                    let mut key = json!({ "frame": frame, "value": chance.turn(), "interpolation": way });
                    if chance.one_in(2) {
                        key["in"] = json!([0; 4].map(|_| chance.between(-0.02, 0.02)));
                        key["out"] = json!([0; 4].map(|_| chance.between(-0.02, 0.02)));
                    }
                    key
                })
                .collect();
            json!({ "quaternions": { "keys": keys } })
        }
        2 => {
            let keys: Vec<Value> = (frames(chance, range, 2).into_iter())
                .map(|frame| json!({ "frame": frame, "value": chance.turn(), "continuity": chance.between(-0.3, 0.3) }))
                .collect();
            json!({ "tcb": { "rotation": with_ease(keys, chance) } })
        }
        3 => {
            let order = order.unwrap_or_else(|| (*chance.of(&ORDERS)).to_owned());
            let mut made = samples(chance, range, "angles", 3, contents.angles);
            made["samples"]["order"] = json!(order);
            made
        }
        _ => {
            let order = match order {
                Some(order) if !chance.one_in(6) => order,
                _ => (*chance.of(&ORDERS)).to_owned(),
            };
            let mut body = json!({ "order": order });
            for axis in ["x", "y", "z"] {
                if !chance.one_in(5) {
                    body[axis] = curve(chance, contents, range, contents.angles);
                }
            }
            json!({ "angles": body })
        }
    }
}

/// The text of a scene; samples are at its rate.
pub fn text(seed: u64, contents: &Contents) -> String {
    text_by(&mut Chance::new(seed), contents)
}

/// The text of a scene that these numbers make.
pub fn text_by(chance: &mut Chance, contents: &Contents) -> String {
    let mut made = scene(chance, contents);
    let rate = made["rate"].clone();
    with_rate(&mut made["takes"], &rate);
    made.to_string()
}

fn with_rate(value: &mut Value, rate: &Value) {
    match value {
        Value::Object(fields) => {
            if fields.get("rate").is_some_and(|own| own == "") {
                fields.insert("rate".to_owned(), rate.clone());
            }
            fields.values_mut().for_each(|value| with_rate(value, rate));
        }
        Value::Array(list) => list.iter_mut().for_each(|value| with_rate(value, rate)),
        _ => {}
    }
}
