//! What deforms meshes: the poses that skins bind joints in, and the weights of morphs, as numbers of the nodes that show
//! them.

use std::collections::{HashMap, HashSet};

use glam::{DAffine3, DMat4};
use nimble_curve_core::rig::{Attribute, AttributeKind};
use nimble_curve_core::value::Quantity;
use roxmltree::Node;

use super::Named;
use super::curves::{Source, fault};
use crate::error::Fault;

/// The most weights that are read: many nodes may show one morph.
const MOST_WEIGHTS: usize = 100_000;

/// A node as far as deformers look at it.
#[derive(Clone, Copy)]
pub struct Shows<'a, 'i> {
    /// Its element.
    pub xml: Node<'a, 'i>,
    /// Position of its parent.
    pub parent: Option<usize>,
}

/// A morph that a node shows.
pub struct Morph<'a> {
    /// Position of the node.
    pub node: usize,
    /// What channels may call its weights: the ids of the source and of the array.
    ids: [Option<&'a str>; 2],
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
        nodes: &[Shows<'a, 'i>],
        by_id: &HashMap<&str, Node<'a, 'i>>,
    ) -> Result<Deformers<'a>, Fault> {
        let mut found = Deformers::default();
        let mut count = 0;
        for (node, shows) in nodes.iter().enumerate() {
            let instances = shows.xml.children().filter(|child| child.has_tag_name_in("instance_controller"));
            // What the node's transform steps may be called is no name for a weight.
            let steps = shows.xml.children().filter_map(|child| child.attribute("sid"));
            let mut taken: HashSet<String> = ["translation", "rotation", "scale", "matrix"]
                .into_iter()
                .chain(steps)
                .map(str::to_owned)
                .collect();
            for instance in instances {
                let Some(mut deformer) = part(by(instance.attribute("url"), by_id)) else { continue };
                if deformer.has_tag_name_in("skin") {
                    found.take_skin(deformer, instance, nodes, by_id)?;
                    // What a skin deforms may be a morph.
                    match part(by(deformer.attribute("source"), by_id)) {
                        Some(morph) => deformer = morph,
                        None => continue,
                    }
                }
                if deformer.has_tag_name_in("morph") {
                    let morph = morph(deformer, node, by_id, &mut taken)?;
                    count += morph.weights.len();
                    if count > MOST_WEIGHTS {
                        return Err(fault(deformer, format!("there are more than {MOST_WEIGHTS} weights")));
                    }
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
        nodes: &[Shows<'a, 'i>],
        by_id: &HashMap<&str, Node<'a, 'i>>,
    ) -> Result<(), Fault> {
        let Some(joints) = skin.children().find(|child| child.has_tag_name_in("joints")) else {
            return Ok(());
        };
        let (Some(names), Some(inverses)) =
            (Source::of_input(joints, "JOINT", by_id)?, Source::of_input(joints, "INV_BIND_MATRIX", by_id)?)
        else {
            return Ok(());
        };
        let inverses = inverses.numbers()?;
        let roots: Vec<usize> = instance
            .children()
            .filter(|child| child.has_tag_name_in("skeleton"))
            .filter_map(|skeleton| by(skeleton.text(), by_id))
            .filter_map(|root| nodes.iter().position(|node| node.xml == root))
            .collect();
        let joints = Joints::new(nodes, &roots);
        for (name, inverse) in names.words().zip(inverses.chunks_exact(16)) {
            // Written by rows.
            let inverse = DAffine3::from_mat4(DMat4::from_cols_slice(inverse).transpose());
            if let Some(joint) = joints.called(name).filter(|_| inverse.matrix3.determinant().abs() > 1e-12) {
                self.binds.entry(joint).or_insert_with(|| inverse.inverse());
            }
        }
        Ok(())
    }
}

/// The nodes that a skin may mean by a name, by `sid` or by `id`.
struct Joints<'a> {
    by_name: HashMap<&'a str, usize>,
}

impl<'a> Joints<'a> {
    /// Those below some roots; below any where there are none.
    fn new(nodes: &[Shows<'a, '_>], roots: &[usize]) -> Joints<'a> {
        let mut is_below = vec![roots.is_empty(); nodes.len()];
        let mut by_name = HashMap::new();
        for (at, node) in nodes.iter().enumerate() {
            // Parents come first.
            is_below[at] |= roots.contains(&at) || node.parent.is_some_and(|parent| is_below[parent]);
            if is_below[at] {
                for name in [node.xml.attribute("sid"), node.xml.attribute("id")].into_iter().flatten() {
                    by_name.entry(name).or_insert(at);
                }
            }
        }
        Joints { by_name }
    }

    fn called(&self, name: &str) -> Option<usize> {
        self.by_name.get(name).copied()
    }
}

/// A morph with its weights, whose names are not `taken` by another of the same node.
fn morph<'a, 'i>(
    morph: Node<'a, 'i>,
    node: usize,
    by_id: &HashMap<&str, Node<'a, 'i>>,
    taken: &mut HashSet<String>,
) -> Result<Morph<'a>, Fault> {
    let inputs = morph.children().find(|child| child.has_tag_name_in("targets"));
    let inputs = inputs.ok_or_else(|| fault(morph, "the morph has no <targets>"))?;
    let (Some(targets), Some(weights)) =
        (Source::of_input(inputs, "MORPH_TARGET", by_id)?, Source::of_input(inputs, "MORPH_WEIGHT", by_id)?)
    else {
        return Err(fault(inputs, "the morph needs inputs for MORPH_TARGET and MORPH_WEIGHT"));
    };
    let defaults = weights.numbers()?;
    let attribute = |(index, target): (usize, &'a str)| {
        let name = by_id.get(target).and_then(|geometry| geometry.attribute("name")).unwrap_or(target);
        let mut name = name.to_owned();
        while !taken.insert(name.clone()) {
            name.push_str(" (again)");
        }
        let default = defaults.get(index).copied().unwrap_or(0.0);
        let kind = AttributeKind::Scalar { default, min: None, max: None, quantity: Quantity::Scalar };
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
