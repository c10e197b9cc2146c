//! What deforms meshes: the poses that skins bind joints in, and the weights of morphs, as numbers of the nodes that show
//! them.

use std::collections::{HashMap, HashSet};

use glam::{DAffine3, DMat4};
use nimble_curve_core::rig::{Attribute, AttributeKind};
use nimble_curve_core::value::Quantity;
use roxmltree::Node;

use super::Named;
use super::curves::{Source, fault};
use super::nodes::FileNode;
use crate::error::Fault;

/// The most weights that are read: many nodes may show one morph.
const MOST_WEIGHTS: usize = 100_000;
/// The most nodes that are looked at for the joints of skins: many nodes may show one skin, and many be called the same.
const MOST_LOOKS: usize = 10_000_000;

/// A morph that a node shows.
pub struct Morph<'a> {
    /// Position of the node.
    pub node: usize,
    /// What channels may call its weights: the ids of the source and of the array.
    pub ids: [Option<&'a str>; 2],
    /// Its weights, as numbers of the node.
    pub weights: Vec<Attribute>,
}

/// The deformers of a document.
#[derive(Default)]
pub struct Deformers<'a> {
    /// The world transforms that nodes were bound in, by position.
    pub binds: HashMap<usize, DAffine3>,
    /// All morphs.
    pub morphs: Vec<Morph<'a>>,
}

impl<'a> Deformers<'a> {
    /// Finds those that nodes show.
    pub fn read<'i>(
        nodes: &[FileNode<'a, 'i>],
        by_id: &HashMap<&str, Node<'a, 'i>>,
    ) -> Result<Deformers<'a>, Fault> {
        let mut found = Deformers::default();
        let mut joints = Joints::new(nodes);
        let mut count = 0;
        for (node, FileNode { xml, .. }) in nodes.iter().enumerate() {
            let instances = xml.children().filter(|child| child.has_tag_name_in("instance_controller"));
            // What the node's transform steps may be called is no name for a weight.
            let steps = xml.children().filter_map(|child| child.attribute("sid"));
            let mut taken: HashSet<String> = ["translation", "rotation", "scale", "matrix"]
                .into_iter()
                .chain(steps)
                .map(str::to_owned)
                .collect();
            for instance in instances {
                let Some(mut deformer) = part(by(instance.attribute("url"), by_id)) else { continue };
                if deformer.has_tag_name_in("skin") {
                    found.take_skin(deformer, instance, &mut joints, by_id)?;
                    // What a skin deforms may be a morph.
                    match part(by(deformer.attribute("source"), by_id)) {
                        Some(morph) => deformer = morph,
                        None => continue,
                    }
                }
                if deformer.has_tag_name_in("morph") {
                    let morph = morph(deformer, node, by_id, &mut taken, &mut count)?;
                    found.morphs.push(morph);
                }
            }
        }
        Ok(found)
    }

    /// The morphs that a channel's target like `face-weights(2)` drives, by position, and which of their weights: all where
    /// the target has no index.
    pub fn driven(&self, target: &str) -> Option<(Vec<usize>, Option<usize>)> {
        let last = target.rsplit('/').next()?;
        let (id, index) = match last.split_once('(') {
            Some((id, index)) => (id, Some(index.strip_suffix(')')?.trim().parse().ok()?)),
            None => (last, None),
        };
        let is_driven = |morph: &Morph<'_>| morph.ids.contains(&Some(id));
        let all: Vec<usize> = (0..self.morphs.len()).filter(|&at| is_driven(&self.morphs[at])).collect();
        let exists = |&at: &usize| index.is_none_or(|index| index < self.morphs[at].weights.len());
        (!all.is_empty() && all.iter().all(exists)).then_some((all, index))
    }

    /// Takes in the bind poses of a skin's joints; the first skin that binds a node counts.
    fn take_skin<'i>(
        &mut self,
        skin: Node<'a, 'i>,
        instance: Node<'a, 'i>,
        joints: &mut Joints<'_, 'a, 'i>,
        by_id: &HashMap<&str, Node<'a, 'i>>,
    ) -> Result<(), Fault> {
        let Some(inputs) = skin.children().find(|child| child.has_tag_name_in("joints")) else {
            return Ok(());
        };
        let (Some(names), Some(inverses)) =
            (Source::of_input(inputs, "JOINT", by_id)?, Source::of_input(inputs, "INV_BIND_MATRIX", by_id)?)
        else {
            return Ok(());
        };
        let inverses = inverses.numbers()?;
        let roots: Vec<Node<'_, '_>> = instance
            .children()
            .filter(|child| child.has_tag_name_in("skeleton"))
            .filter_map(|skeleton| by(skeleton.text(), by_id))
            .collect();
        joints.looks += inverses.len();
        for (name, inverse) in names.words().zip(inverses.chunks_exact(16)) {
            // Written by rows.
            let inverse = DAffine3::from_mat4(DMat4::from_cols_slice(inverse).transpose());
            let joint = joints.called(name, &roots);
            if joints.looks > MOST_LOOKS {
                return Err(fault(skin, "the skins of this file name too many joints"));
            }
            if let Some(joint) = joint.filter(|_| inverse.matrix3.determinant().abs() > 1e-12) {
                self.binds.entry(joint).or_insert_with(|| inverse.inverse());
            }
        }
        Ok(())
    }
}

/// The nodes that skins may mean by a name, by `sid` or by `id`.
struct Joints<'n, 'a, 'i> {
    nodes: &'n [FileNode<'a, 'i>],
    by_name: HashMap<&'a str, Vec<usize>>,
    /// How many nodes were looked at.
    looks: usize,
}

impl<'n, 'a, 'i> Joints<'n, 'a, 'i> {
    fn new(nodes: &'n [FileNode<'a, 'i>]) -> Joints<'n, 'a, 'i> {
        let mut by_name: HashMap<&str, Vec<usize>> = HashMap::new();
        for (at, node) in nodes.iter().enumerate() {
            for name in [node.xml.attribute("sid"), node.xml.attribute("id")].into_iter().flatten() {
                by_name.entry(name).or_default().push(at);
            }
        }
        Joints { nodes, by_name, looks: 0 }
    }

    /// The first node of a name among and below some roots; of all where there are none.
    fn called(&mut self, name: &str, roots: &[Node<'_, '_>]) -> Option<usize> {
        let (nodes, looks) = (self.nodes, &mut self.looks);
        let mut is_below = |at: usize| {
            roots.is_empty()
                || std::iter::successors(Some(at), |&at| nodes[at].parent).any(|at| {
                    *looks += roots.len();
                    *looks > MOST_LOOKS || roots.iter().any(|root| *root == nodes[at].xml)
                })
        };
        self.by_name.get(name)?.iter().copied().find(|&at| is_below(at))
    }
}

/// A morph with its weights, whose names are not `taken` by another of the same node; `count` is that of all numbers.
fn morph<'a, 'i>(
    morph: Node<'a, 'i>,
    node: usize,
    by_id: &HashMap<&str, Node<'a, 'i>>,
    taken: &mut HashSet<String>,
    count: &mut usize,
) -> Result<Morph<'a>, Fault> {
    let inputs = morph.children().find(|child| child.has_tag_name_in("targets"));
    let inputs = inputs.ok_or_else(|| fault(morph, "the morph has no <targets>"))?;
    let (Some(targets), Some(weights)) =
        (Source::of_input(inputs, "MORPH_TARGET", by_id)?, Source::of_input(inputs, "MORPH_WEIGHT", by_id)?)
    else {
        return Err(fault(inputs, "the morph needs inputs for MORPH_TARGET and MORPH_WEIGHT"));
    };
    let defaults = weights.numbers()?;
    *count += defaults.len().max(targets.words().count());
    if *count > MOST_WEIGHTS {
        return Err(fault(morph, format!("there are more than {MOST_WEIGHTS} weights")));
    }
    let attribute = |(index, target): (usize, &'a str)| {
        let name = by_id.get(target).and_then(|geometry| geometry.attribute("name")).unwrap_or(target);
        let mut name = name.to_owned();
        while !taken.insert(name.clone()) {
            name.push_str(" (again)");
        }
        let default = defaults.get(index).copied().unwrap_or(0.0);
        let kind = AttributeKind::Number { default, min: None, max: None, quantity: Quantity::Number };
        Attribute { name, kind }
    };
    let all = targets.words().enumerate().map(attribute).collect();
    Ok(Morph { node, ids: weights.ids(), weights: all })
}

/// What a reference like `#id` means.
fn by<'a, 'i>(url: Option<&str>, by_id: &HashMap<&str, Node<'a, 'i>>) -> Option<Node<'a, 'i>> {
    by_id.get(url?.trim().trim_start_matches('#')).copied()
}

/// The skin or the morph of a controller.
fn part<'a, 'i>(controller: Option<Node<'a, 'i>>) -> Option<Node<'a, 'i>> {
    let controller = controller.filter(|node| node.has_tag_name_in("controller"))?;
    controller.children().find(|child| child.has_tag_name_in("skin") || child.has_tag_name_in("morph"))
}
