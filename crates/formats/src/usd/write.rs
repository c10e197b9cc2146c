//! From a scene to the text of a USD layer.

use std::collections::{HashMap, HashSet};
use std::fmt::Write as _;

use nimble_curve_core::address::NodeRef;
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::Discrete;
use nimble_curve_core::evaluate::EvaluateError;
use nimble_curve_core::rig::{AttributeKind, Node, NodeId, Rig, TransformOp};
use nimble_curve_core::scene::{Scene, Take, Target};
use nimble_curve_core::space::UpAxis;
use nimble_curve_core::value::Value;

use super::attributes::{SEEN, USER, VISIBILITY};
use super::bones::animation;
use super::names::{free_name, identifier, plain};
use super::over::{Moved, Over, Prim};
use super::writer::{Driven, Writer};

/// The prim below a skeleton that says how it moves.
const MOTION: &str = "nimbleCurveMotion";

/// A layer, and the prims of the nodes in it.
pub struct Written {
    pub text: String,
    pub paths: Vec<(String, NodeRef)>,
    /// Tracks that have no place in it.
    pub left_out: Vec<(String, Target)>,
}

/// The layer of a scene whose tracks are angles, vectors and numbers on one layer; with extra data, if there is some.
///
/// Over an asset it is a layer that stands on that, and says only what of it moves.
///
/// # Errors
/// Where a controller of a joint in a skeleton cannot be evaluated.
pub fn write(scene: &Scene, extra: Option<&str>, over: Option<&Over>) -> Result<Written, EvaluateError> {
    let take = scene.takes.first();
    let base = take.and_then(|take| take.layers.first()).into_iter().flat_map(|layer| &layer.tracks);
    let mut writer = Writer {
        scene,
        take,
        // Of several on a property the first counts.
        base: base.rev().map(|track| (&track.target, &track.controller)).collect(),
        text: String::new(),
        paths: Vec::new(),
        written: HashSet::new(),
    };
    match over {
        Some(over) => writer.layer_over(extra, over)?,
        None => writer.layer(extra),
    }
    let mut left_out = Vec::new();
    for (index, take) in scene.takes.iter().enumerate() {
        for (_, track) in take.tracks() {
            if index > 0 || !writer.written.contains(&track.target) {
                left_out.push((take.name.clone(), track.target.clone()));
            }
        }
    }
    Ok(Written { text: writer.text, paths: writer.paths, left_out })
}

/// The head of a layer: its data, range, units and axes, and the first prim.
pub fn head(scene: &Scene, take: Option<&Take>, extra: Option<&str>, first: Option<&str>) -> String {
    let fps = scene.rate.fps();
    let mut head = String::from("#usda 1.0\n(\n    customLayerData = {\n");
    let name = take.map_or("", |take| take.name.as_str());
    let _ = writeln!(head, "        string nimbleCurveTake = \"{}\"", plain(name));
    if let Some(extra) = extra {
        let _ = writeln!(head, "        string nimbleCurve = \"{extra}\"");
    }
    head.push_str("    }\n");
    if let Some(first) = first {
        let _ = writeln!(head, "    defaultPrim = \"{first}\"");
    }
    if let Some(take) = take {
        let (first, last) = (scene.rate.frame(take.range.first), scene.rate.frame(take.range.last));
        let _ = writeln!(head, "    endTimeCode = {last}\n    startTimeCode = {first}");
    }
    let up = if scene.space.up == UpAxis::Z { "Z" } else { "Y" };
    let _ = writeln!(
        head,
        "    metersPerUnit = {}\n    timeCodesPerSecond = {fps}\n    framesPerSecond = {fps}\n    upAxis = \"{up}\"\n)",
        scene.space.metres_per_unit
    );
    head
}

/// How long the paths of all prims are together, in bytes: those who read and write the standard's files hold each in whole.
pub fn length_of_paths(scene: &Scene) -> usize {
    let mut total: usize = 0;
    for rig in &scene.rigs {
        let mut lengths: Vec<usize> = Vec::with_capacity(rig.len());
        for ((_, node), parent) in rig.nodes().zip(rig.parent_positions()) {
            let length = parent.map_or(0, |parent| lengths[parent]) + node.name.len() + 1;
            lengths.push(length);
            total = total.saturating_add(length);
        }
    }
    total
}

/// Prim names of all nodes, unique among their siblings; the roots of all rigs are siblings.
pub fn prim_names(scene: &Scene) -> Vec<Vec<(NodeId, String)>> {
    let mut taken: HashSet<(Option<NodeRef>, String)> = HashSet::new();
    // The next number to try of each name: equal siblings may be many.
    let mut next: HashMap<(Option<NodeRef>, String), usize> = HashMap::new();
    let mut all = Vec::new();
    for (index, rig) in scene.rigs.iter().enumerate() {
        let mut names = Vec::with_capacity(rig.len());
        for (id, node) in rig.nodes() {
            let parent = rig.parent(id).map(|parent| (index, parent));
            let wanted = identifier(&node.name);
            let mut name = wanted.clone();
            while !taken.insert((parent, name.clone())) {
                let number = next.entry((parent, wanted.clone())).or_insert(2);
                name = format!("{wanted}_{number}");
                *number += 1;
            }
            names.push((id, name));
        }
        all.push(names);
    }
    all
}

impl Writer<'_> {
    fn layer(&mut self, extra: Option<&str>) {
        let names = prim_names(self.scene);
        let first = names.first().and_then(|names| names.first()).map(|(_, name)| name.as_str());
        self.text = head(self.scene, self.take, extra, first);
        for (index, rig) in self.scene.rigs.iter().enumerate() {
            self.rig(index, rig, &names[index]);
        }
    }

    fn rig(&mut self, index: usize, rig: &Rig, names: &[(NodeId, String)]) {
        let by_id: HashMap<NodeId, &str> = names.iter().map(|(id, name)| (*id, name.as_str())).collect();
        let mut below: HashMap<Option<NodeId>, Vec<NodeId>> = HashMap::new();
        for (id, _) in rig.nodes() {
            below.entry(rig.parent(id)).or_default().push(id);
        }
        let mut open: Vec<(NodeId, String, usize, bool)> = Vec::new();
        open.extend(below.get(&None).into_iter().flatten().rev().map(|&id| (id, String::new(), 0, true)));
        while let Some((id, above, depth, opens)) = open.pop() {
            let indent = "    ".repeat(depth);
            if !opens {
                let _ = writeln!(self.text, "{indent}}}");
                continue;
            }
            let path = format!("{above}/{}", by_id[&id]);
            self.prim(index, rig, id, by_id[&id], &indent);
            self.paths.push((path.clone(), (index, id)));
            open.push((id, above, depth, false));
            let children = below.get(&Some(id)).into_iter().flatten().rev();
            open.extend(children.map(|&child| (child, path.clone(), depth + 1, true)));
        }
    }

    /// A layer that stands on an asset.
    fn layer_over(&mut self, extra: Option<&str>, over: &Over) -> Result<(), EvaluateError> {
        let first = over.root.below.keys().next().map(String::as_str);
        let head = head(self.scene, self.take, extra, first);
        let sublayers = format!("#usda 1.0\n(\n    subLayers = [\n        @{}@\n    ]\n", over.reference);
        self.text = head.replacen("#usda 1.0\n(\n", &sublayers, 1);
        let mut open: Vec<(&str, &Prim, String, usize, bool)> = Vec::new();
        open.extend(
            over.root.below.iter().rev().map(|(name, prim)| (name.as_str(), prim, String::new(), 0, true)),
        );
        while let Some((name, prim, above, depth, opens)) = open.pop() {
            let indent = "    ".repeat(depth);
            if !opens {
                let _ = writeln!(self.text, "{indent}}}");
                continue;
            }
            let path = format!("{above}/{name}");
            let node = prim.node.and_then(|(rig, id)| Some(((rig, id), self.scene.rigs.get(rig)?.node(id)?)));
            let schema = match prim.moved.is_some() {
                true => format!(" (\n{indent}    prepend apiSchemas = [\"SkelBindingAPI\"]\n{indent})"),
                false => String::new(),
            };
            let _ = writeln!(self.text, "\n{indent}over \"{name}\"{schema}\n{indent}{{");
            if let Some(moved) = &prim.moved {
                self.skeleton(&path, moved)?;
            }
            if let Some(((rig, id), node)) = node {
                if prim.is_said {
                    self.body(rig, id, node, &indent);
                }
                self.paths.push((path.clone(), (rig, id)));
            }
            open.push((name, prim, above, depth, false));
            let below = prim.below.iter().rev();
            open.extend(below.map(|(name, prim)| (name.as_str(), prim, path.clone(), depth + 1, true)));
        }
        Ok(())
    }

    /// How a skeleton of an asset moves: an animation below it that it is bound to.
    fn skeleton(&mut self, path: &str, moved: &Moved) -> Result<(), EvaluateError> {
        let Some(take) = self.take else { return Ok(()) };
        let _ = writeln!(self.text, "rel skel:animationSource = <{path}/{MOTION}>");
        animation(&mut self.text, (self.scene, take, moved.rig), MOTION, &moved.bones, &moved.shapes)?;
        let rig = &self.scene.rigs[moved.rig];
        let nodes: Vec<(NodeId, &Node)> = rig.nodes().collect();
        for bone in &moved.bones {
            let (id, node) = nodes[bone.position];
            self.paths.push((format!("{path}:{}", bone.joint), (moved.rig, id)));
            let target = |op: &TransformOp| Target { rig: moved.rig, node: id, property: op.name.clone() };
            self.written.extend(node.transform.iter().map(target));
        }
        self.written.extend(moved.shapes.iter().map(|(_, target)| target.clone()));
        Ok(())
    }

    fn prim(&mut self, index: usize, rig: &Rig, id: NodeId, name: &str, indent: &str) {
        let Some(node) = rig.node(id) else { return };
        self.define(node, name, indent);
        self.body(index, id, node, indent);
    }

    /// Opens a prim of a node.
    fn define(&mut self, node: &Node, name: &str, indent: &str) {
        let _ = write!(self.text, "\n{indent}def Xform \"{name}\"");
        if node.name != name {
            let _ = write!(self.text, " (\n{indent}    displayName = \"{}\"\n{indent})", plain(&node.name));
        }
        let _ = writeln!(self.text, "\n{indent}{{");
    }

    /// The steps, their order and the numbers of a node.
    fn body(&mut self, index: usize, id: NodeId, node: &Node, indent: &str) {
        let inner = format!("{indent}    ");
        self.steps(index, id, node, &inner);
        self.attributes(index, id, node, &inner);
    }

    /// Custom numbers and switches; a name that is no identifier stands beside one.
    fn attributes(&mut self, rig: usize, id: NodeId, node: &Node, indent: &str) {
        let mut taken = HashSet::new();
        for attribute in &node.attributes {
            let own = free_name(&attribute.name, &mut taken);
            let displayed = match own == attribute.name {
                true => String::new(),
                false => format!(" (\n{indent}    displayName = \"{}\"\n{indent})", plain(&attribute.name)),
            };
            let target = Target { rig, node: id, property: attribute.name.clone() };
            let controller = self.base.get(&target).copied();
            let name = format!("{USER}{own}");
            match &attribute.kind {
                AttributeKind::Number { default, .. } => {
                    let driven = match controller {
                        Some(Controller::Components(curves)) if !curves.is_empty() => {
                            Driven::Curve(&curves[0], false)
                        }
                        Some(Controller::Samples(samples)) => {
                            Driven::Rows(samples, Box::new(|row: &[f64]| format!("{}", row[0] + 0.0)))
                        }
                        _ => Driven::Not,
                    };
                    let default = match controller {
                        Some(Controller::Constant(Value::Number(held))) => held,
                        _ => default,
                    };
                    let _ =
                        writeln!(self.text, "{indent}custom double {name} = {}{displayed}", default + 0.0);
                    self.written.insert(target);
                    self.driven(indent, "double", &name, driven);
                }
                AttributeKind::Switch { default } => {
                    let is_standard = attribute.name == VISIBILITY;
                    let (kind, name) = match is_standard {
                        true => ("token", VISIBILITY),
                        false => ("bool", name.as_str()),
                    };
                    let shown = |on: bool| match is_standard {
                        true => format!("\"{}\"", SEEN[usize::from(on)]),
                        false => on.to_string(),
                    };
                    let custom = if is_standard { "" } else { "custom " };
                    let _ =
                        writeln!(self.text, "{indent}{custom}{kind} {name} = {}{displayed}", shown(*default));
                    if let Some(Controller::Discrete(curve)) = controller {
                        let _ = writeln!(self.text, "{indent}{kind} {name}.timeSamples = {{");
                        for (time, value) in curve.keys() {
                            if let Discrete::Switch(on) = value {
                                let code = self.scene.rate.frame(*time);
                                let _ = writeln!(self.text, "{indent}    {code}: {},", shown(*on));
                            }
                        }
                        let _ = writeln!(self.text, "{indent}}}");
                        self.written.insert(target);
                    }
                }
                _ => {}
            }
        }
    }
}
