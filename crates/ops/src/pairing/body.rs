//! A rig as a body: names, parts, places.

use glam::DVec3;
use nimble_curve_scene::rig::{NodeId, NodeKind, Rig};
use nimble_curve_scene::scene::Scene;

use crate::names::Name;

/// What is known of a rig at rest.
pub(super) struct Body<'a> {
    pub(super) rig: &'a Rig,
    pub(super) ids: Vec<NodeId>,
    pub(super) parents: Vec<Option<usize>>,
    pub(super) depths: Vec<usize>,
    pub(super) children: Vec<usize>,
    pub(super) names: Vec<Name>,
    /// Places, the rig scaled to the height of 1 and put on its middle.
    pub(super) places: Vec<DVec3>,
    pub(super) world: Vec<glam::DAffine3>,
    /// The axis across, and that which points up.
    pub(super) up: usize,
}

impl<'a> Body<'a> {
    pub(super) fn new(rig: &'a Rig, scene: &Scene) -> Body<'a> {
        let world = rig.rest_world();
        let up = scene.space.up.index();
        let joints = rig.nodes().zip(&world).filter(|((_, node), _)| node.kind != NodeKind::Root);
        let (mut low, mut high) = (DVec3::INFINITY, DVec3::NEG_INFINITY);
        for (_, place) in joints {
            (low, high) = (low.min(place.translation), high.max(place.translation));
        }
        let height = (high - low)[up].max((high - low).max_element() * 0.2).max(1e-9);
        let mut middle = 0.5 * (low + high);
        middle[up] = low[up];
        let parents = rig.parent_positions();
        let mut depths: Vec<usize> = Vec::with_capacity(rig.len());
        let mut children = vec![0; rig.len()];
        for parent in &parents {
            depths.push(parent.map_or(0, |parent| depths[parent] + 1));
            if let Some(parent) = parent {
                children[*parent] += 1;
            }
        }
        Body {
            rig,
            ids: rig.nodes().map(|(id, _)| id).collect(),
            depths,
            children,
            names: rig.nodes().map(|(_, node)| Name::of(&node.name)).collect(),
            places: world.iter().map(|place| (place.translation - middle) / height).collect(),
            parents,
            world,
            up,
        }
    }

    pub(super) fn len(&self) -> usize {
        self.ids.len()
    }

    pub(super) fn name(&self, at: usize) -> &str {
        self.rig.node(self.ids[at]).map_or("", |node| &node.name)
    }

    pub(super) fn kind(&self, at: usize) -> NodeKind {
        self.rig.node(self.ids[at]).map_or(NodeKind::Other, |node| node.kind)
    }

    pub(super) fn upwards(&self, at: usize) -> impl Iterator<Item = usize> + '_ {
        std::iter::successors(self.parents[at], |&at| self.parents[at])
    }

    pub(super) fn is_above(&self, above: usize, below: usize) -> bool {
        self.upwards(below).any(|at| at == above)
    }

    /// Whether nodes stand one below the other, in this order.
    pub(super) fn is_chain(&self, nodes: &[usize]) -> bool {
        nodes.windows(2).all(|pair| self.is_above(pair[0], pair[1]))
    }

    /// On which side a node stands, where that is plain.
    pub(super) fn side(&self, at: usize) -> f64 {
        let across = if self.up == 0 { 1 } else { 0 };
        let x = self.places[at][across];
        if x.abs() < 0.02 { 0.0 } else { x.signum() }
    }
}
