//! Rig sheets: what drives what in a rig, as a TOML file of its own, for interchange files that hold no constraints.

use std::collections::BTreeSet;

use nimble_curve_core::address::{Addresses, visible};
use nimble_curve_core::constraint::Constraint;
use nimble_curve_core::ops::space::in_space;
use nimble_curve_core::rig::{Attribute, Node, NodeKind, Rig};
use nimble_curve_core::scene::{Scene, Target};
use nimble_curve_core::space::Space;
use serde_json::{Value, json};

use crate::error::Fault;
use crate::ncurve;

/// The comment at the top of a sheet.
const HEAD: &str = "\
# What drives what in a rig. Attach it to any file of the character: nimble-curve rig FILE --sheet THIS
# The fields are those of docs/control-rigs.md; nodes go by their names, in any namespace.

";

/// The fields of a sheet.
const FIELDS: [&str; 8] =
    ["metres_per_unit", "up", "handedness", "nodes", "controls", "locators", "attributes", "constraints"];

/// A sheet, read but not yet attached to a scene.
#[derive(Debug)]
pub struct RigSheet {
    space: Space,
    /// Controls and locators, for files that lack them: parents first.
    nodes: Vec<SheetNode>,
    /// Nodes that are controls, and that are locators: files of other formats do not say it.
    kinds: Vec<(String, NodeKind)>,
    /// Attributes that steer constraints, by their nodes: files of other formats may lack them.
    attributes: Vec<(String, Attribute)>,
    constraints: Vec<ncurve::FileConstraint>,
}

/// A node of a sheet.
#[derive(Debug)]
struct SheetNode {
    node: Node,
    parent: Option<String>,
    /// The rig that it is in where it has no parent.
    rig: Option<String>,
}

impl RigSheet {
    /// A sheet out of its text.
    ///
    /// # Errors
    /// With the line, where it is no TOML; else with what is wrong with the fields.
    pub fn parse(text: &str) -> Result<RigSheet, Fault> {
        let table: toml::Table = toml::from_str(text).map_err(|error| {
            let line = error.span().map_or(1, |span| 1 + text[..span.start].matches('\n').count());
            Fault::on_line(line, error.message())
        })?;
        let json = serde_json::to_value(&table).map_err(|error| Fault::of_whole(error.to_string()))?;
        if let Some(other) = table.keys().find(|key| !FIELDS.contains(&key.as_str())) {
            return Err(Fault::of_whole(format!(
                "there is no field '{other}': there are {}",
                FIELDS.join(", ")
            )));
        }
        let constraints = listed(&json, "constraints", |own| {
            serde_json::from_str(&own.to_string()).map_err(|error| crate::said::json(&error))
        })?;
        if constraints.is_empty() {
            return Err(Fault::of_whole("it holds no constraint"));
        }
        let mut space = json.clone();
        if let Some(fields) = space.as_object_mut() {
            fields.retain(|name, _| ["metres_per_unit", "up", "handedness"].contains(&name.as_str()));
        }
        let space = ncurve::read_space(&space.to_string())
            .map_err(|message| Fault::of_whole(format!("its space: {message}")))?;
        let name = |own: &Value| own.as_str().map(str::to_owned).ok_or("is no name".to_owned());
        let mut kinds = Vec::new();
        for (field, kind) in [("controls", NodeKind::Control), ("locators", NodeKind::Locator)] {
            kinds.extend(listed(&json, field, name)?.into_iter().map(|name| (name, kind)));
        }
        let nodes = listed(&json, "nodes", |own| {
            let mut own = own.clone();
            let rig = own.as_object_mut().and_then(|fields| fields.remove("rig"));
            let rig = rig.as_ref().and_then(Value::as_str).map(str::to_owned);
            let (node, parent) = ncurve::read_node(&own.to_string())?;
            Ok(SheetNode { node, parent, rig })
        })?;
        let attributes = listed(&json, "attributes", |own| {
            let mut own = own.clone();
            let node = own.as_object_mut().and_then(|fields| fields.remove("node"));
            let node = node.as_ref().and_then(Value::as_str).ok_or("names no 'node'")?;
            Ok((node.to_owned(), ncurve::read_attribute(&own.to_string())?))
        })?;
        Ok(RigSheet { space, nodes, kinds, attributes, constraints })
    }

    /// A scene with the constraints of the sheet in place of its own, and the controls and attributes that it names.
    ///
    /// # Errors
    /// Where it lacks a node that they name, or they cannot be worked out on it.
    pub fn attached(&self, scene: &Scene) -> Result<Scene, Fault> {
        let mut made = scene.clone();
        for own in &self.nodes {
            self.add(&mut made, own)?;
        }
        let addresses = Addresses::new(&made);
        let mut node = |name: &str, change: &dyn Fn(&mut Node)| -> Result<(), Fault> {
            let found = addresses.find_in_any_namespace(name);
            let (rig, id) = found.map_err(|error| Fault::of_whole(error.to_string()))?;
            made.rigs[rig].node_mut(id).into_iter().for_each(change);
            Ok(())
        };
        for (name, kind) in &self.kinds {
            node(name, &|node| node.kind = *kind)?;
        }
        for (name, attribute) in &self.attributes {
            node(name, &|node| {
                if node.attribute(&attribute.name).is_none() {
                    node.attributes.push(attribute.clone());
                }
            })?;
        }
        let addresses = Addresses::new(&made);
        let constraints = ncurve::read_constraints(&made, &addresses, &self.constraints)?;
        made.constraints = said_in(&made, constraints, &self.space);
        made.validate().map_err(|invalid| Fault::in_part(invalid.place, invalid.what))?;
        Ok(made)
    }

    /// Adds a node where it is not there; else says what it is for.
    fn add(&self, scene: &mut Scene, own: &SheetNode) -> Result<(), Fault> {
        let addresses = Addresses::new(scene);
        if let Ok((rig, id)) = addresses.find_in_any_namespace(&own.node.name) {
            if let Some(node) = scene.rigs[rig].node_mut(id) {
                node.kind = own.node.kind;
                node.primary = own.node.primary;
                for attribute in &own.node.attributes {
                    if node.attribute(&attribute.name).is_none() {
                        node.attributes.push(attribute.clone());
                    }
                }
            }
            return Ok(());
        }
        let wrong = |error: &dyn std::fmt::Display| {
            Fault::in_part(format!("nodes '{}'", own.node.name), error.to_string())
        };
        let (rig, parent) = match (&own.parent, &own.rig) {
            (Some(parent), _) => {
                let (rig, id) = addresses.find_in_any_namespace(parent).map_err(|error| wrong(&error))?;
                (rig, Some(id))
            }
            (None, Some(name)) => {
                let found = scene.rigs.iter().position(|rig| rig.name == *name);
                (found.ok_or_else(|| wrong(&format!("there is no rig '{name}'")))?, None)
            }
            // What hangs on nothing is in the rig of what is driven first.
            (None, None) => {
                let driven =
                    self.constraints.iter().find_map(|own| addresses.find_in_any_namespace(&own.node).ok());
                (driven.map_or(0, |(rig, _)| rig), None)
            }
        };
        let Some(of) = scene.rigs.get(rig) else { return Err(wrong(&"there is no rig")) };
        let mut alone = Rig::new(of.name.clone());
        let id = alone.add(None, own.node.clone()).map_err(|error| wrong(&error))?;
        let there = Scene { rigs: vec![alone], ..Scene::new(scene.rate, self.space) };
        let there = in_space(&there, &scene.space).0;
        let node = there.rigs[0].node(id).cloned().unwrap_or_else(|| own.node.clone());
        scene.rigs[rig].add(parent, node).map_err(|error| wrong(&error))?;
        Ok(())
    }
}

/// The elements of a list of a sheet; none where it is not there.
fn listed<T>(
    sheet: &Value,
    field: &str,
    read: impl Fn(&Value) -> Result<T, String>,
) -> Result<Vec<T>, Fault> {
    let Some(list) = sheet.get(field) else { return Ok(Vec::new()) };
    let list = list.as_array().ok_or_else(|| Fault::of_whole(format!("'{field}' is a list")))?;
    let one = |(index, own): (usize, &Value)| {
        let name = own.get("name").and_then(Value::as_str);
        let part = || name.map_or(format!("{field} {}", index + 1), |name| format!("{field} '{name}'"));
        read(own).map_err(|message| Fault::in_part(part(), message))
    };
    list.iter().enumerate().map(one).collect()
}

/// Constraints in the space of a scene that were said in another one.
fn said_in(scene: &Scene, constraints: Vec<Constraint>, space: &Space) -> Vec<Constraint> {
    if *space == scene.space {
        return constraints;
    }
    let there = Scene { space: *space, takes: Vec::new(), constraints, ..scene.clone() };
    in_space(&there, &scene.space).0.constraints
}

/// The sheet of a scene's constraints.
///
/// # Errors
/// Where it has none.
pub fn rig_sheet(scene: &Scene) -> Result<String, Fault> {
    rig_sheet_with(scene, |_| Vec::new())
}

/// The same with lines of comment above constraints, by their place.
///
/// # Errors
/// Where it has none.
pub fn rig_sheet_with(scene: &Scene, comment: impl Fn(usize) -> Vec<String>) -> Result<String, Fault> {
    if scene.constraints.is_empty() {
        return Err(Fault::of_whole("nothing is driven: there is no constraint to write"));
    }
    let wrong = |error: &dyn std::fmt::Display| Fault::of_whole(error.to_string());
    let whole = ncurve::write(&Scene { takes: Vec::new(), ..scene.clone() });
    let file: Value = serde_json::from_str(&whole).map_err(|error| wrong(&error))?;
    let addresses = Addresses::new(scene);
    let mut sheet = file["space"].clone();
    // Controls and what serves them in full: most files lack them.
    let mut nodes: Vec<Value> = Vec::new();
    for (rig, (of, written)) in
        scene.rigs.iter().zip(file["rigs"].as_array().into_iter().flatten()).enumerate()
    {
        let written = written["nodes"].as_array().into_iter().flatten();
        for ((id, node), written) in of.nodes().zip(written) {
            if node.kind.is_for_controls() {
                let mut own = written.clone();
                match of.parent(id) {
                    Some(parent) => own["parent"] = json!(addresses.node((rig, parent))),
                    None if scene.rigs.len() > 1 => own["rig"] = json!(of.name),
                    None => {}
                }
                nodes.push(own);
            }
        }
    }
    if !nodes.is_empty() {
        sheet["nodes"] = json!(nodes);
    }
    let steering: BTreeSet<&Target> = scene.constraints.iter().flat_map(Constraint::properties).collect();
    let mut attributes = Vec::new();
    for target in steering {
        let node = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
        let Some(attribute) = node.and_then(|node| node.attribute(&target.property)) else { continue };
        if node.is_some_and(|node| node.kind.is_for_controls()) {
            continue;
        }
        let mut own: Value = serde_json::from_str(&ncurve::write_attribute(scene, attribute))
            .map_err(|error| wrong(&error))?;
        own["node"] = json!(addresses.node((target.rig, target.node)));
        attributes.push(own);
    }
    if !attributes.is_empty() {
        sheet["attributes"] = json!(attributes);
    }
    sheet["constraints"] = file["constraints"].clone();
    let text = toml::to_string(&sheet).map_err(|error| wrong(&error))?;
    let mut made = HEAD.to_owned();
    let mut index = 0;
    for line in text.lines() {
        if line == "[[constraints]]" {
            made.extend(comment(index).iter().map(|own| format!("# {}\n", visible(own))));
            index += 1;
        }
        made.push_str(line);
        made.push('\n');
    }
    Ok(made)
}
