//! A rig as a body: names, parts, places.

use glam::DVec3;
use nimble_curve_scene::rig::{NodeId, NodeKind, Rig};
use nimble_curve_scene::scene::Scene;

use crate::names::{BodySide, Name, Naming, in_context};

/// What is known of a rig at rest.
pub(crate) struct Body<'a> {
    pub(crate) rig: &'a Rig,
    pub(crate) ids: Vec<NodeId>,
    pub(crate) parents: Vec<Option<usize>>,
    pub(crate) depths: Vec<usize>,
    pub(crate) children: Vec<usize>,
    /// Names without namespaces and without what all names of the rig share.
    pub(crate) bare: Vec<String>,
    pub(crate) names: Vec<Name>,
    /// Which bone of a human body each is told to be.
    pub(crate) told: Vec<Option<&'a str>>,
    /// Among nodes of the same words and side that stand one below the other: which of how many.
    pub(crate) ranks: Vec<(usize, usize)>,
    /// Places, the rig scaled to the height of 1, put on its middle and looked at from ahead: x to its left, y up, z ahead.
    pub(crate) places: Vec<DVec3>,
    pub(crate) world: Vec<glam::DAffine3>,
}

impl<'a> Body<'a> {
    pub(crate) fn new(rig: &'a Rig, scene: &Scene) -> Body<'a> {
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
        let naming = Naming::of(rig.nodes().map(|(_, node)| node.name.as_str()));
        let bare: Vec<String> = rig.nodes().map(|(_, node)| naming.bare(&node.name).to_owned()).collect();
        // What a node is told to be counts for more than what it is called.
        let told: Vec<Option<&str>> = rig.nodes().map(|(_, node)| node.human_bone()).collect();
        let mut names: Vec<Name> =
            bare.iter().zip(&told).map(|(name, told)| Name::of(told.unwrap_or(name))).collect();
        in_context(&mut names);
        let ranks = ranks(&names, &parents);
        let places: Vec<DVec3> = world.iter().map(|place| (place.translation - middle) / height).collect();
        let (left, up) = (left(&places, &names, up), DVec3::AXES[up]);
        let ahead = left.cross(up);
        let places = places.iter().map(|place| DVec3::new(place.dot(left), place.dot(up), place.dot(ahead)));
        Body {
            bare,
            ranks,
            rig,
            ids: rig.nodes().map(|(id, _)| id).collect(),
            depths,
            children,
            names,
            told,
            places: places.collect(),
            parents,
            world,
        }
    }

    pub(crate) fn len(&self) -> usize {
        self.ids.len()
    }

    pub(crate) fn name(&self, at: usize) -> &str {
        self.rig.node(self.ids[at]).map_or("", |node| &node.name)
    }

    pub(crate) fn kind(&self, at: usize) -> NodeKind {
        self.rig.node(self.ids[at]).map_or(NodeKind::Other, |node| node.kind)
    }

    pub(crate) fn upwards(&self, at: usize) -> impl Iterator<Item = usize> + '_ {
        std::iter::successors(self.parents[at], |&at| self.parents[at])
    }

    pub(crate) fn is_above(&self, above: usize, below: usize) -> bool {
        self.upwards(below).any(|at| at == above)
    }

    /// Whether nodes stand one below the other, in this order.
    pub(crate) fn is_chain(&self, nodes: &[usize]) -> bool {
        nodes.windows(2).all(|pair| self.is_above(pair[0], pair[1]))
    }

    /// On which side a node stands, where that is plain.
    pub(crate) fn side(&self, at: usize) -> f64 {
        let x = self.places[at].x;
        if x.abs() < 0.02 { 0.0 } else { x.signum() }
    }
}

/// Which of how many each node is among those of its words and side that are above and below it.
fn ranks(names: &[Name], parents: &[Option<usize>]) -> Vec<(usize, usize)> {
    let alike = |a: usize, b: usize| names[a].words == names[b].words && names[a].side == names[b].side;
    let above =
        |at: usize| std::iter::successors(parents[at], |&at| parents[at]).find(|&above| alike(at, above));
    let mut ranks: Vec<usize> = Vec::with_capacity(names.len());
    // How long the chain is that goes through a node: the longest way down.
    let mut deepest: Vec<usize> = vec![0; names.len()];
    let aboves: Vec<Option<usize>> = (0..names.len()).map(above).collect();
    for above in &aboves {
        ranks.push(above.map_or(0, |above| ranks[above] + 1));
    }
    for at in (0..names.len()).rev() {
        deepest[at] = deepest[at].max(ranks[at]);
        if let Some(above) = aboves[at] {
            deepest[above] = deepest[above].max(deepest[at]);
        }
    }
    (0..names.len()).map(|at| (ranks[at], deepest[at] + 1)).collect()
}

/// The axis that points to the left of a body: by the names of sides, else the one along which it is wide and the same on both sides.
fn left(places: &[DVec3], names: &[Name], up: usize) -> DVec3 {
    let level: Vec<usize> = (0..3).filter(|axis| *axis != up).collect();
    let mut means = [DVec3::ZERO; 2];
    let mut counts = [0.0; 2];
    for (place, name) in places.iter().zip(names) {
        if let Some(side) = name.side {
            means[usize::from(side == BodySide::Right)] += *place;
            counts[usize::from(side == BodySide::Right)] += 1.0;
        }
    }
    if counts[0] > 1.0 && counts[1] > 1.0 {
        let apart = means[0] / counts[0] - means[1] / counts[1];
        let axis = if apart[level[0]].abs() >= apart[level[1]].abs() { level[0] } else { level[1] };
        if apart[axis].abs() > 0.02 {
            return DVec3::AXES[axis] * apart[axis].signum();
        }
    }
    // How wide it is, less how far nodes are from where a mirror would show one.
    let score = |axis: usize| -> f64 {
        let width: f64 = places.iter().map(|place| place[axis].abs()).sum();
        let missing = |place: &DVec3| {
            let mut reflected = *place;
            reflected[axis] = -reflected[axis];
            places.iter().map(|other| (*other - reflected).length()).fold(f64::INFINITY, f64::min)
        };
        width - 3.0 * places.iter().map(missing).sum::<f64>()
    };
    DVec3::AXES[if score(level[0]) >= score(level[1]) { level[0] } else { level[1] }]
}
