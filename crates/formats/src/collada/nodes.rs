//! The nodes of a scene as they stand in a file, and the rig that they are.

use std::collections::{HashMap, HashSet};

use glam::{DAffine3, DMat4, DVec3};
use nimble_curve_core::angle::radians;
use nimble_curve_core::rig::{Node as RigNode, NodeId, NodeKind, Rig, ScaleInheritance};
use roxmltree::Node;

use super::Named;
use super::curves::{fault, numbers, shown};
use crate::error::Fault;
use crate::steps::{Mapped, Step, StepKind, map};

/// The most nodes that are read: instances of nodes within nodes could make many out of few.
const MOST_NODES: usize = 200_000;

/// A node as it stands in the file.
pub struct FileNode<'a, 'i> {
    /// Its element.
    pub xml: Node<'a, 'i>,
    pub id: String,
    /// Position of its parent.
    pub parent: Option<usize>,
    /// Its transform elements.
    pub elements: Vec<Node<'a, 'i>>,
}

/// All nodes of the scene, parents first.
pub struct Hierarchy<'a, 'i> {
    pub list: Vec<FileNode<'a, 'i>>,
    /// The scene that they stand in, where there is one.
    pub scene: Option<Node<'a, 'i>>,
    /// Whether some are instances of others, that stand elsewhere.
    pub has_instances: bool,
}

impl<'a, 'i> Hierarchy<'a, 'i> {
    pub fn read(root: Node<'a, 'i>, by_id: &HashMap<&str, Node<'a, 'i>>) -> Result<Hierarchy<'a, 'i>, Fault> {
        let url = root.children().filter(|node| node.has_tag_name_in("scene"));
        let url =
            url.flat_map(|scene| scene.children()).find(|node| node.has_tag_name_in("instance_visual_scene"));
        let url = url.and_then(|instance| instance.attribute("url")).map(|url| url.trim_start_matches('#'));
        let first = || root.descendants().find(|node| node.has_tag_name_in("visual_scene"));
        let scene = url.and_then(|url| by_id.get(url).copied()).or_else(first);
        let mut list: Vec<FileNode<'a, 'i>> = Vec::new();
        let mut has_instances = false;
        let Some(scene) = scene else { return Ok(Hierarchy { list, scene: None, has_instances }) };
        let is_below =
            |node: &Node<'_, '_>| node.has_tag_name_in("node") || node.has_tag_name_in("instance_node");
        let mut open: Vec<(Node<'a, 'i>, Option<usize>)> =
            scene.children().filter(is_below).map(|node| (node, None)).collect();
        open.reverse();
        while let Some((node, parent)) = open.pop() {
            let node = if node.has_tag_name_in("instance_node") {
                has_instances = true;
                let url = node.attribute("url").unwrap_or_default().trim_start_matches('#');
                let target = by_id.get(url).filter(|target| target.has_tag_name_in("node"));
                let target =
                    *target.ok_or_else(|| fault(node, format!("there is no node '{}'", shown(url))))?;
                let above = std::iter::successors(parent, |&at| list[at].parent);
                if above.into_iter().any(|at| list[at].xml == target) {
                    return Err(fault(node, "the node is an instance of itself: the hierarchy is a circle"));
                }
                target
            } else {
                node
            };
            if list.len() >= MOST_NODES {
                return Err(fault(node, format!("there are more than {MOST_NODES} nodes")));
            }
            let is_transform = |child: &Node<'_, '_>| {
                ["translate", "rotate", "scale", "matrix", "skew", "lookat"]
                    .iter()
                    .any(|name| child.has_tag_name_in(name))
            };
            let id = node.attribute("id").map_or_else(|| format!("#{}", list.len()), str::to_owned);
            let elements = node.children().filter(is_transform).collect();
            list.push(FileNode { xml: node, id, parent, elements });
            let place = list.len() - 1;
            let below: Vec<Node<'a, 'i>> = node.children().filter(is_below).collect();
            open.extend(below.into_iter().rev().map(|child| (child, Some(place))));
        }
        Ok(Hierarchy { list, scene: Some(scene), has_instances })
    }

    pub fn rig(
        &self,
        name: &str,
        animated: &HashSet<(usize, usize)>,
    ) -> Result<(Rig, Vec<NodeId>, Vec<Mapped>), Fault> {
        let mut rig = Rig::new(name);
        let (mut ids, mut all): (Vec<NodeId>, Vec<Mapped>) = (Vec::new(), Vec::new());
        let any_joint = self.list.iter().any(|node| node.xml.attribute("type") == Some("JOINT"));
        for (index, node) in self.list.iter().enumerate() {
            let step = |(place, element): (usize, &Node<'a, 'i>)| -> Result<Step, Fault> {
                let is_animated = animated.contains(&(index, place));
                Ok(Step {
                    sid: element.attribute("sid").map(str::to_owned),
                    kind: kind(*element)?,
                    animated: is_animated,
                    inverse: false,
                })
            };
            let steps = node.elements.iter().enumerate().map(step).collect::<Result<Vec<_>, _>>()?;
            let mapped = map(&steps);
            let shows =
                |child: Node<'_, '_>| child.is_element() && child.tag_name().name().starts_with("instance_");
            let kind = match node.xml.attribute("type") {
                Some("JOINT") => NodeKind::Joint,
                _ if any_joint || node.xml.children().any(shows) => NodeKind::Other,
                _ => NodeKind::Joint,
            };
            let name = node.xml.attribute("name").or(node.xml.attribute("id"));
            let rig_node = RigNode {
                name: name.map_or_else(|| format!("node {index}"), str::to_owned),
                kind,
                transform: mapped.ops.clone(),
                bind: None,
                inherits: ScaleInheritance::Full,
                locked: Vec::new(),
                primary: false,
                attributes: Vec::new(),
            };
            let parent = node.parent.map(|parent| ids[parent]);
            ids.push(rig.add(parent, rig_node).map_err(|error| fault(node.xml, error.to_string()))?);
            all.push(mapped);
        }
        Ok((rig, ids, all))
    }
}

/// What a transform element does.
fn kind(element: Node<'_, '_>) -> Result<StepKind, Fault> {
    let all = numbers(element)?;
    let name = element.tag_name().name();
    let vector = |at: usize| DVec3::new(all[at], all[at + 1], all[at + 2]);
    Ok(match (name, all.len()) {
        ("translate", 3) => StepKind::Translate(vector(0)),
        ("scale", 3) => StepKind::Scale(vector(0)),
        ("rotate", 4) => {
            let axis = vector(0);
            // Without an axis there is no turn.
            if axis == DVec3::ZERO {
                StepKind::Rotate(DVec3::X, 0.0)
            } else {
                StepKind::Rotate(axis, radians(all[3]))
            }
        }
        // Written by rows.
        ("matrix", 16) => StepKind::Matrix(DMat4::from_cols_slice(&all).transpose()),
        ("lookat", 9) => {
            let (eye, aim, up) = (vector(0), vector(3), vector(6));
            let back = (eye - aim).try_normalize();
            let side = back.and_then(|back| up.cross(back).try_normalize());
            let (Some(back), Some(side)) = (back, side) else {
                return Err(fault(element, "the lookat has no direction"));
            };
            let turn = glam::DMat3::from_cols(side, back.cross(side), back);
            StepKind::Matrix(DMat4::from(DAffine3 { matrix3: turn, translation: eye }))
        }
        ("skew", 7) => {
            // A shear by the angle: points move along the second axis in proportion to how far they lie along the first.
            let (along, by) = (vector(4).normalize_or_zero(), vector(1).normalize_or_zero());
            let amount = all[0].to_radians().tan();
            let columns = [DVec3::X, DVec3::Y, DVec3::Z].map(|unit| unit + along * (by.dot(unit) * amount));
            StepKind::Matrix(DMat4::from(DAffine3 {
                matrix3: glam::DMat3::from_cols(columns[0], columns[1], columns[2]),
                translation: DVec3::ZERO,
            }))
        }
        (name, count) => return Err(fault(element, format!("<{name}> has {count} numbers"))),
    })
}
