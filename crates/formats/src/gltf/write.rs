//! From a scene of translations, quaternions and scales to a glTF document.

use std::collections::{HashMap, HashSet};

use nimble_curve_core::controller::Controller;
use nimble_curve_core::hierarchy::Hierarchy;
use nimble_curve_core::rig::{AttributeKind, Node, NodeId, NodeKind, OpValue, Rig};
use nimble_curve_core::scene::{Scene, Take, Target, Track};
use nimble_curve_core::time::Ticks;
use nimble_curve_core::value::Value as Number;
use serde::Deserialize as _;
use serde_json::{Map, Value, json};

use super::document::{ChannelTarget, Driven, POINTER, pointer_to};
use super::humanoid::Humanoid;
use super::kept::{Unread, unread};
use super::sampler::{Sampler, Timing, of_numbers, of_rotation};

/// A document and its binary chunk, with the place of every node of the scene.
pub struct Written {
    /// The JSON.
    pub document: Value,
    /// The binary chunk, buffer 0.
    pub binary: Vec<u8>,
    /// The place in the document of each node, by rig and id.
    pub places: HashMap<(usize, NodeId), usize>,
    /// Tracks that glTF has no place for.
    pub left_out: Vec<(String, Target)>,
    /// What was added to the times of each take.
    pub shifts: Vec<(String, Ticks)>,
    /// How many channels of the document that was written into are not read, and stayed.
    pub unread: usize,
}

/// Where takes start in the file.
#[derive(Clone, Copy, Debug)]
pub struct Starts {
    /// At zero, whatever their first frame is.
    pub at_zero: bool,
    /// A note beside each says where it was.
    pub noted: bool,
}

/// A document to write into, its binary chunk, and which nodes of the scene are there already.
pub struct Into {
    pub document: Value,
    pub binary: Vec<u8>,
    pub known: HashMap<(usize, NodeId), usize>,
}

/// A document that holds a scene, put into another document where there is one: nodes that are there already keep their
/// place, animations are replaced, everything else stays.
pub fn write(scene: &Scene, into: Option<Into>, starts: Starts) -> Written {
    let (document, binary, known) = match into {
        Some(Into { document, binary, known }) => (document, binary, known),
        None => {
            let asset =
                json!({ "version": "2.0", "generator": concat!("nimble-curve ", env!("CARGO_PKG_VERSION")) });
            (json!({ "asset": asset }), Vec::new(), HashMap::new())
        }
    };
    let is_new = known.is_empty();
    let humanoid = Humanoid::of(document.get("extensions"));
    let mut writer = Writer {
        document,
        binary,
        places: known,
        left_out: Vec::new(),
        starts,
        shifts: Vec::new(),
        humanoid,
    };
    let unread = unread(&writer.document, is_read);
    let stayed = unread.iter().map(Unread::len).sum();
    writer.drop_animations(&unread);
    writer.nodes(scene);
    if is_new {
        writer.skins(scene);
    }
    writer.animations(scene);
    for unread in unread {
        unread.put_back(writer.list("animations"));
    }
    writer.buffer();
    Written {
        document: writer.document,
        binary: writer.binary,
        places: writer.places,
        left_out: writer.left_out,
        shifts: writer.shifts,
        unread: stayed,
    }
}

/// Whether a channel is one of those that are read, and so written anew.
fn is_read(channel: &Value) -> bool {
    let target = channel.get("target").map(ChannelTarget::deserialize);
    target.is_some_and(|target| {
        target.is_ok_and(|target| !matches!(target.driven(), Driven::Else(_) | Driven::Nothing))
    })
}

struct Writer {
    document: Value,
    binary: Vec<u8>,
    places: HashMap<(usize, NodeId), usize>,
    left_out: Vec<(String, Target)>,
    starts: Starts,
    shifts: Vec<(String, Ticks)>,
    /// That of the document that is written into.
    humanoid: Humanoid,
}

impl Writer {
    /// A list of the document, made where it is missing.
    fn list(&mut self, name: &str) -> &mut Vec<Value> {
        if !self.document.get(name).is_some_and(Value::is_array) {
            self.document[name] = Value::Array(Vec::new());
        }
        self.document[name].as_array_mut().expect("it was made an array above")
    }

    /// Takes out the animations that are there, and what nothing but they used at the end of the lists; some of their
    /// channels are put back later.
    fn drop_animations(&mut self, unread: &[Unread]) {
        let Some(object) = self.document.as_object_mut() else { return };
        if object.remove("animations").is_none() {
            return;
        }
        let mut used = Used::default();
        for part in ["meshes", "skins", "nodes", "extensions"] {
            if let Some(value) = self.document.get(part) {
                used.collect(value);
            }
        }
        unread.iter().flat_map(Unread::accessors).for_each(|accessor| used.accessor(accessor));
        let accessors = self.list("accessors");
        accessors.truncate(used.accessors);
        for accessor in accessors.iter() {
            used.collect(accessor);
        }
        if let Some(images) = self.document.get("images").cloned() {
            used.collect(&images);
        }
        let views = self.list("bufferViews");
        views.truncate(used.views);
        let end = |view: &Value| {
            let number = |name: &str| view.get(name).and_then(Value::as_u64).unwrap_or(0) as usize;
            (number("buffer") == 0).then(|| number("byteOffset") + number("byteLength"))
        };
        let needed = views.iter().filter_map(end).max().unwrap_or(0);
        self.binary.truncate(needed);
    }

    fn nodes(&mut self, scene: &Scene) {
        let mut roots = Vec::new();
        let known: Vec<(usize, NodeId)> = self.places.keys().copied().collect();
        for (index, rig) in scene.rigs.iter().enumerate() {
            for (id, node) in rig.nodes() {
                if self.places.contains_key(&(index, id)) {
                    continue;
                }
                let place = self.list("nodes").len();
                let fresh = fresh_node(node);
                self.list("nodes").push(fresh);
                self.places.insert((index, id), place);
                match rig.parent(id).and_then(|parent| self.places.get(&(index, parent)).copied()) {
                    None => roots.push(place),
                    Some(parent) => {
                        let parent = &mut self.list("nodes")[parent];
                        match parent.get_mut("children").and_then(Value::as_array_mut) {
                            Some(children) => children.push(json!(place)),
                            None => parent["children"] = json!([place]),
                        }
                    }
                }
            }
        }
        self.hang(scene, &known);
        if roots.is_empty() {
            return;
        }
        let active = self.document.get("scene").and_then(Value::as_u64).unwrap_or(0) as usize;
        // Programs that make a node of the scene call another one otherwise that is called the same.
        let mut name = scene.rigs.first().map_or("scene", |rig| rig.name.as_str()).to_owned();
        while scene.rigs.iter().flat_map(Rig::nodes).any(|(_, node)| node.name == name) {
            name.push_str(" scene");
        }
        let scenes = self.list("scenes");
        match scenes.get_mut(active) {
            Some(scene) => {
                let mut all = scene.get("nodes").and_then(Value::as_array).cloned().unwrap_or_default();
                all.extend(roots.into_iter().map(|root| json!(root)));
                scene["nodes"] = Value::Array(all);
            }
            None => {
                scenes.push(json!({ "name": name, "nodes": roots }));
                self.document["scene"] = json!(0);
            }
        }
    }

    /// Hangs nodes that were there already below the parents that they have now: a root may have come between.
    fn hang(&mut self, scene: &Scene, known: &[(usize, NodeId)]) {
        let mut held: HashSet<(usize, u64)> = HashSet::new();
        for (parent, node) in self.list("nodes").iter().enumerate() {
            let children = node.get("children").and_then(Value::as_array).into_iter().flatten();
            held.extend(children.filter_map(|child| Some((parent, child.as_u64()?))));
        }
        for &(index, id) in known {
            let place = self.places[&(index, id)];
            let parent = scene.rigs.get(index).and_then(|rig| rig.parent(id));
            let Some(&parent) = parent.and_then(|parent| self.places.get(&(index, parent))) else { continue };
            if held.contains(&(parent, place as u64)) {
                continue;
            }
            for (list, key) in [("nodes", "children"), ("scenes", "nodes")] {
                for owner in self.list(list).iter_mut() {
                    if let Some(all) = owner.get_mut(key).and_then(Value::as_array_mut) {
                        all.retain(|child| *child != json!(place));
                        // A list of children may not be empty.
                        if all.is_empty()
                            && let Some(owner) = owner.as_object_mut()
                        {
                            owner.remove(key);
                        }
                    }
                }
            }
            let owner = &mut self.list("nodes")[parent];
            match owner.get_mut("children").and_then(Value::as_array_mut) {
                Some(children) => children.push(json!(place)),
                None => owner["children"] = json!([place]),
            }
        }
    }

    /// Says which nodes are joints: a skin for each hierarchy, without a mesh.
    fn skins(&mut self, scene: &Scene) {
        for (index, rig) in scene.rigs.iter().enumerate() {
            let hierarchy = Hierarchy::new(rig);
            for &root in hierarchy.roots() {
                let mut below = hierarchy.below(root);
                let is_joint = |id: &NodeId| rig.node(*id).is_some_and(|node| node.kind == NodeKind::Joint);
                below.retain(is_joint);
                below.sort_by_key(|id| rig.position(*id));
                if below.is_empty() {
                    continue;
                }
                let joints: Vec<usize> = below.iter().map(|id| self.places[&(index, *id)]).collect();
                let mut skin = json!({ "joints": joints });
                let binds: Option<Vec<_>> =
                    below.iter().map(|id| rig.node(*id).and_then(|node| node.bind)).collect();
                if let Some(binds) = binds {
                    let inverse =
                        binds.iter().flat_map(|bind| glam::DMat4::from(bind.inverse()).to_cols_array());
                    let numbers: Vec<f32> = inverse.map(|number| number as f32).collect();
                    skin["inverseBindMatrices"] = json!(self.accessor(&numbers, "MAT4", 16, false));
                }
                self.list("skins").push(skin);
            }
        }
    }

    fn animations(&mut self, scene: &Scene) {
        for take in &scene.takes {
            self.animation(scene, take);
        }
    }

    fn animation(&mut self, scene: &Scene, take: &Take) {
        let Some(layer) = take.layers.first() else { return };
        let first = take.key_range().map_or(take.range.first, |keys| keys.union(take.range).first);
        // Times may not be negative.
        let moves = self.starts.at_zero || first < Ticks::ZERO;
        let shift = if moves { -first } else { Ticks::ZERO };
        self.shifts.push((take.name.clone(), shift));
        let timing = Timing { start: take.range.first, shift };
        let (mut channels, mut samplers) = (Vec::new(), Vec::new());
        let mut inputs: HashMap<Vec<u32>, usize> = HashMap::new();
        let mut weights: Vec<(usize, Vec<String>, Vec<&Track>)> = Vec::new();
        for track in &layer.tracks {
            let target = &track.target;
            let rig = &scene.rigs[target.rig];
            let place = self.places[&(target.rig, target.node)];
            let property = target.property.as_str();
            let rest = rig.rest_value(target.node, property);
            let sampler = match (property, rest.clone()) {
                ("rotation", Some(Number::Quaternion(_))) => of_rotation(&track.controller, timing),
                ("translation" | "scale", Some(Number::Vector(rest))) => {
                    of_numbers(&[Some(&track.controller)], &rest.to_array(), timing)
                }
                (property, Some(Number::Number(rest))) if self.humanoid.is_driven(place, property) => {
                    let along_x = [Some(&track.controller), None, None];
                    if let Some(sampler) = of_numbers(&along_x, &[rest, 0.0, 0.0], timing) {
                        let driver = (place, "translation");
                        self.channel(&mut channels, &mut samplers, &mut inputs, driver, &sampler);
                    }
                    continue;
                }
                (property, Some(Number::Number(rest))) => {
                    let names = self.morphs(place);
                    if names.iter().any(|name| name == property) {
                        match weights.iter_mut().find(|(node, _, _)| *node == place) {
                            Some((_, _, tracks)) => tracks.push(track),
                            None => weights.push((place, names, vec![track])),
                        }
                        continue;
                    }
                    let is_free = !["weights", super::EXTRAS].contains(&property);
                    is_free.then(|| of_numbers(&[Some(&track.controller)], &[rest], timing)).flatten()
                }
                _ => None,
            };
            match sampler {
                Some(sampler) => {
                    if let Some(Number::Number(rest)) = rest {
                        self.number_of(place, property, rest);
                    }
                    self.channel(&mut channels, &mut samplers, &mut inputs, (place, property), &sampler);
                }
                None if holds_keys(&track.controller) => {
                    self.left_out.push((take.name.clone(), target.clone()))
                }
                None => {}
            }
        }
        for (place, names, tracks) in weights {
            let (rig, node) = (tracks[0].target.rig, tracks[0].target.node);
            let rests: Vec<f64> = (names.iter())
                .map(|name| {
                    match scene.rigs[rig].node(node).and_then(|node| node.attribute(name)).map(|a| &a.kind) {
                        Some(AttributeKind::Number { default, .. }) => *default,
                        _ => 0.0,
                    }
                })
                .collect();
            let by_name: Vec<Option<&Controller>> = (names.iter())
                .map(|name| {
                    tracks.iter().find(|track| track.target.property == *name).map(|track| &track.controller)
                })
                .collect();
            if let Some(sampler) = of_numbers(&by_name, &rests, timing) {
                self.channel(&mut channels, &mut samplers, &mut inputs, (place, "weights"), &sampler);
            }
        }
        if channels.is_empty() {
            return;
        }
        let mut animation = json!({ "name": take.name, "channels": channels, "samplers": samplers });
        if shift != Ticks::ZERO && self.starts.noted {
            animation["extras"] = json!({ super::START: -shift.seconds() });
        }
        self.list("animations").push(animation);
    }

    /// The names of the morph targets of a node.
    fn morphs(&self, place: usize) -> Vec<String> {
        let mesh = self.document["nodes"][place].get("mesh").and_then(Value::as_u64);
        let mesh = mesh.and_then(|mesh| self.document.get("meshes")?.get(mesh as usize));
        let count = mesh.and_then(|mesh| mesh.get("primitives")?.as_array()).map_or(0, |primitives| {
            let targets =
                |primitive: &Value| primitive.get("targets").and_then(Value::as_array).map_or(0, Vec::len);
            primitives.iter().map(targets).max().unwrap_or(0)
        });
        let names = mesh.and_then(|mesh| mesh.get("extras")?.get("targetNames")?.as_array());
        super::nodes::morph_names(names, count)
    }

    fn channel(
        &mut self,
        channels: &mut Vec<Value>,
        samplers: &mut Vec<Value>,
        inputs: &mut HashMap<Vec<u32>, usize>,
        (place, path): (usize, &str),
        sampler: &Sampler,
    ) {
        let bits: Vec<u32> = sampler.times.iter().map(|time| time.to_bits()).collect();
        let input = match inputs.get(&bits) {
            Some(&input) => input,
            None => {
                let input = self.accessor(&sampler.times, "SCALAR", 1, true);
                inputs.insert(bits, input);
                input
            }
        };
        let (shape, width) = match path {
            "rotation" => ("VEC4", 4),
            "translation" | "scale" => ("VEC3", 3),
            _ => ("SCALAR", 1),
        };
        let output = self.accessor(&sampler.values, shape, width, false);
        let target = match path {
            "translation" | "rotation" | "scale" | "weights" => json!({ "node": place, "path": path }),
            number => json!({
                "path": "pointer",
                "extensions": { POINTER: { "pointer": pointer_to(place, number) } }
            }),
        };
        channels.push(json!({ "sampler": samplers.len(), "target": target }));
        samplers.push(json!({ "input": input, "output": output, "interpolation": sampler.interpolation }));
    }

    /// Says what a number of a node is where nothing drives it, and that channels point at such.
    fn number_of(&mut self, place: usize, name: &str, rest: f64) {
        let node = &mut self.list("nodes")[place];
        if !node.get("extras").is_some_and(Value::is_object) {
            node["extras"] = json!({});
        }
        node["extras"][name] = json!(rest);
        let used = self.list("extensionsUsed");
        if !used.iter().any(|name| name == POINTER) {
            used.push(json!(POINTER));
        }
    }

    /// An accessor of numbers in a view of its own.
    fn accessor(&mut self, numbers: &[f32], shape: &str, width: usize, with_limits: bool) -> usize {
        self.binary.resize(self.binary.len().next_multiple_of(4), 0);
        let offset = self.binary.len();
        self.binary.extend(numbers.iter().flat_map(|number| number.to_le_bytes()));
        let view = self.list("bufferViews").len();
        self.list("bufferViews")
            .push(json!({ "buffer": 0, "byteOffset": offset, "byteLength": numbers.len() * 4 }));
        let mut accessor = json!({
            "bufferView": view, "componentType": 5126, "count": numbers.len() / width, "type": shape
        });
        if with_limits {
            let (first, last) = (numbers[0], numbers[numbers.len() - 1]);
            accessor["min"] = json!([first]);
            accessor["max"] = json!([last]);
        }
        let accessors = self.list("accessors");
        accessors.push(accessor);
        accessors.len() - 1
    }

    /// Says how long buffer 0 is now; lists that are empty may not stand in a document.
    fn buffer(&mut self) {
        let length = self.binary.len();
        let buffers = self.list("buffers");
        match buffers.first_mut() {
            Some(first) => first["byteLength"] = json!(length),
            None => buffers.push(json!({ "byteLength": length })),
        }
        if length == 0 && buffers.len() == 1 {
            buffers.clear();
        }
        if let Some(object) = self.document.as_object_mut() {
            object.retain(|_, value| value.as_array().is_none_or(|list| !list.is_empty()));
        }
    }
}

/// Whether a controller has anything to say.
fn holds_keys(controller: &Controller) -> bool {
    matches!(controller, Controller::Constant(_) | Controller::Procedural(_)) || controller.value_count() > 0
}

fn fresh_node(node: &Node) -> Value {
    let mut fresh = Map::new();
    fresh.insert("name".into(), json!(node.name));
    for op in &node.transform {
        match op.value {
            OpValue::Translate(v) if v != glam::DVec3::ZERO => {
                fresh.insert("translation".into(), json!(v.to_array()));
            }
            OpValue::Orient(q) if q != glam::DQuat::IDENTITY => {
                fresh.insert("rotation".into(), json!(q.to_array()));
            }
            OpValue::Scale(v) if v != glam::DVec3::ONE => {
                fresh.insert("scale".into(), json!(v.to_array()));
            }
            _ => {}
        }
    }
    Value::Object(fresh)
}

/// How much of the lists is used by what stays.
#[derive(Default)]
struct Used {
    accessors: usize,
    views: usize,
}

impl Used {
    /// Accessors and views that a part of the document refers to, by the names under which the standard and the
    /// registered extensions do so.
    fn collect(&mut self, value: &Value) {
        match value {
            Value::Array(list) => list.iter().for_each(|value| self.collect(value)),
            Value::Object(object) => {
                for (name, value) in object {
                    match (name.as_str(), value) {
                        ("indices" | "inverseBindMatrices", Value::Number(_)) => self.accessor(value),
                        ("bufferView", Value::Number(_)) => self.view(value),
                        ("attributes", Value::Object(attributes)) => {
                            attributes.values().for_each(|value| self.accessor(value));
                        }
                        ("targets", Value::Array(targets)) => {
                            let all = targets.iter().filter_map(Value::as_object).flat_map(Map::values);
                            all.for_each(|value| self.accessor(value));
                        }
                        _ => self.collect(value),
                    }
                }
            }
            _ => {}
        }
    }

    fn accessor(&mut self, value: &Value) {
        self.accessors = self.accessors.max(value.as_u64().map_or(0, |index| index as usize + 1));
    }

    fn view(&mut self, value: &Value) {
        self.views = self.views.max(value.as_u64().map_or(0, |index| index as usize + 1));
    }
}
