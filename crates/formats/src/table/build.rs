//! The scene of a table while it is built.

use std::collections::HashMap;

use glam::DVec3;
use nimble_curve_core::address::{parts, unquoted};
use nimble_curve_core::controller::Controller;
use nimble_curve_core::curve::Ticks;
use nimble_curve_core::rig::{Attribute, AttributeKind, Node, NodeId, NodeKind, OpValue, Rig};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Layer, Take, Target, Track};
use nimble_curve_core::space::Space;
use nimble_curve_core::time::{FrameRate, TimeRange};

use super::cells::Cells;
use crate::error::Fault;

/// The scene while it is built.
pub struct Build {
    pub rate: FrameRate,
    pub space: Space,
    pub cells: Cells,
    pub rig: Rig,
    /// The nodes by what the table calls them.
    nodes: HashMap<String, NodeId>,
    /// What the table calls each node of the rig, in their order.
    pub texts: Vec<String>,
    pub takes: Vec<Take>,
    pub notes: Vec<String>,
}

/// A channel's node, property and component.
pub fn split(channel: &str, line: usize) -> Result<(String, String, Option<usize>), Fault> {
    let (node, property, component) = parts(channel).ok_or_else(|| {
        let shown: String = channel.chars().take(60).collect();
        Fault::on_line(line, format!("'{shown}' is not a channel: write NODE:ATTRIBUTE"))
    })?;
    Ok((node.to_owned(), property, component))
}

impl Build {
    /// A scene without anything in it; `name` is that of its rig.
    pub fn new(name: &str, (rate, space): (FrameRate, Space), cells: Cells, notes: Vec<String>) -> Build {
        Build {
            rate,
            space,
            cells,
            rig: Rig::new(name),
            nodes: HashMap::new(),
            texts: Vec::new(),
            takes: Vec::new(),
            notes,
        }
    }

    fn node(&mut self, name: &str) -> NodeId {
        if let Some(&id) = self.nodes.get(name) {
            return id;
        }
        let node = Node::new(unquoted(name), NodeKind::Joint, DVec3::ZERO, RotationOrder::Xyz);
        // Without a parent this cannot fail.
        let id = self.rig.add(None, node).expect("there is no parent to miss");
        self.nodes.insert(name.to_owned(), id);
        self.texts.push(name.to_owned());
        id
    }

    /// The property of a node, made where it is not one that every node has.
    pub fn property(
        &mut self,
        node: &str,
        property: &str,
        kind: AttributeKind,
        order: Option<RotationOrder>,
    ) -> Target {
        let id = self.node(node);
        if let Some(node) = self.rig.node_mut(id) {
            let is_known = node.attribute(property).is_some();
            match node.transform.iter_mut().find(|op| op.name == property) {
                Some(op) => {
                    if let (OpValue::Rotate { angles, .. }, Some(order)) = (op.value, order) {
                        op.value = OpValue::Rotate { order, angles };
                    }
                }
                None if !is_known => {
                    node.attributes.push(Attribute { name: property.to_owned(), kind });
                }
                None => {}
            }
        }
        Target { rig: 0, node: id, property: property.to_owned() }
    }

    pub fn push(&mut self, take: &str, target: Target, controller: Controller) {
        let range = controller.range().unwrap_or(TimeRange::new(Ticks::ZERO, Ticks::ZERO));
        let at = self.takes.iter().position(|found| found.name == take).unwrap_or_else(|| {
            self.takes.push(Take {
                name: take.to_owned(),
                folder: None,
                range,
                clips: Vec::new(),
                markers: Vec::new(),
                layers: vec![Layer::base(Vec::new())],
            });
            self.takes.len() - 1
        });
        let take = &mut self.takes[at];
        take.range = take.range.union(range);
        take.layers[0].tracks.push(Track { target, controller });
    }
}
