//! What has to be solved for some nodes, and in which order.

use std::collections::{BTreeSet, HashMap, HashSet};

use glam::{DMat3, DVec3};

use super::kinds::{Part, Prepared};
use super::{Parts, Solution, Solved, Stand};
use crate::address::{Addresses, NodeRef};
use crate::constraint::{Constraint, ConstraintKind};
use crate::evaluate::setting::SettingSampler;
use crate::evaluate::{EvaluateError, NodeSampler};
use crate::rig::Node;
use crate::scene::{Layer, Scene, Take, Target, Track};

/// Solves some nodes of a scene with all that they depend on.
#[derive(Debug)]
pub struct Solver<'a> {
    /// In the order in which they are worked out.
    pub(super) nodes: Vec<Solved<'a>>,
    pub(super) places: HashMap<NodeRef, usize>,
    pub(super) prepared: Vec<Prepared<'a>>,
    /// Settings, with what they are now.
    pub(super) settings: Vec<(SettingSampler<'a>, f64)>,
    /// What limbs came to, by constraint.
    pub(super) limbs: Vec<Option<Solution>>,
    /// By their own curves.
    pub(super) own: Vec<Parts>,
    pub(super) stands: Vec<Stand>,
    /// Which way turns go: 1, and −1 in spaces of the left hand.
    pub(super) hand: f64,
}

/// What collects the nodes that are needed.
struct Planner<'a> {
    scene: &'a Scene,
    /// The constraints on each node, by their place.
    on: HashMap<NodeRef, Vec<usize>>,
    /// Nodes whose needs are being looked at, and those that are done.
    state: HashMap<NodeRef, bool>,
    found: Vec<NodeRef>,
}

/// A node with what is left to look at of what it needs.
struct Open {
    node: NodeRef,
    needs: Vec<NodeRef>,
}

impl<'a> Planner<'a> {
    fn new(scene: &'a Scene) -> Planner<'a> {
        let mut on: HashMap<NodeRef, Vec<usize>> = HashMap::new();
        for (index, constraint) in scene.constraints.iter().enumerate() {
            for node in constraint.driven() {
                on.entry(node).or_default().push(index);
            }
        }
        Planner { scene, on, state: HashMap::new(), found: Vec::new() }
    }

    /// With some nodes and all that they need; the joints of a limb need one another for its lengths.
    fn of_all(
        scene: &'a Scene,
        wanted: impl IntoIterator<Item = NodeRef>,
    ) -> Result<Planner<'a>, EvaluateError> {
        let mut planner = Planner::new(scene);
        wanted.into_iter().try_for_each(|node| planner.add(node))?;
        let mut looked = 0;
        while looked < planner.found.len() {
            for index in planner.on.get(&planner.found[looked]).cloned().unwrap_or_default() {
                for joint in scene.constraints[index].driven() {
                    planner.add(joint)?;
                }
            }
            looked += 1;
        }
        Ok(planner)
    }

    fn of(&self, (rig, node): NodeRef) -> Result<&'a Node, EvaluateError> {
        let found = self.scene.rigs.get(rig).and_then(|rig| rig.node(node));
        found.ok_or_else(|| EvaluateError::Missing(format!("node of rig {rig}")))
    }

    /// Adds a node and all that it needs, needs first.
    fn add(&mut self, node: NodeRef) -> Result<(), EvaluateError> {
        let mut open: Vec<Open> = Vec::new();
        self.begin(node, &mut open)?;
        while let Some(top) = open.last_mut() {
            match top.needs.pop() {
                Some(next) => match self.state.get(&next) {
                    Some(true) => {}
                    Some(false) => return Err(self.circle(next, &open)),
                    None => self.begin(next, &mut open)?,
                },
                None => {
                    self.state.insert(top.node, true);
                    self.found.push(top.node);
                    open.pop();
                }
            }
        }
        Ok(())
    }

    fn begin(&mut self, node: NodeRef, open: &mut Vec<Open>) -> Result<(), EvaluateError> {
        if self.state.contains_key(&node) {
            return Ok(());
        }
        self.of(node)?;
        self.state.insert(node, false);
        open.push(Open { node, needs: self.needs(node) });
        Ok(())
    }

    /// What has to stand before a node can: its parent, and the sources of its constraints. A limb is worked out with its upper
    /// joint.
    fn needs(&self, node: NodeRef) -> Vec<NodeRef> {
        let parent = self.scene.rigs[node.0].parent(node.1).map(|parent| (node.0, parent));
        let mut needs: Vec<NodeRef> = parent.into_iter().collect();
        for &index in self.on.get(&node).into_iter().flatten() {
            let constraint = &self.scene.constraints[index];
            match constraint.kind {
                ConstraintKind::Limb(_) if constraint.node != node => needs.push(constraint.node),
                _ => needs.extend(constraint.sources()),
            }
        }
        needs.reverse();
        needs
    }

    /// Names the nodes of a circle that ends at a node where it began.
    fn circle(&self, at: NodeRef, open: &[Open]) -> EvaluateError {
        let addresses = Addresses::new(self.scene);
        let from = open.iter().position(|own| own.node == at).unwrap_or(0);
        let members: Vec<&str> =
            (open[from..].iter().map(|own| own.node)).chain([at]).map(|node| addresses.node(node)).collect();
        EvaluateError::Circle(members.join(" needs "))
    }
}

impl<'a> Solver<'a> {
    /// A solver for some nodes; without a take, controls rest.
    pub fn new(
        scene: &'a Scene,
        take: Option<&'a Take>,
        wanted: impl IntoIterator<Item = NodeRef>,
    ) -> Result<Solver<'a>, EvaluateError> {
        let planner = Planner::of_all(scene, wanted)?;
        let places: HashMap<NodeRef, usize> =
            planner.found.iter().enumerate().map(|(place, node)| (*node, place)).collect();
        let mut drivers: HashMap<NodeRef, Vec<(&Layer, &Track)>> = HashMap::new();
        for (layer, track) in take.into_iter().flat_map(Take::active_tracks) {
            let node = (track.target.rig, track.target.node);
            if places.contains_key(&node) {
                drivers.entry(node).or_default().push((layer, track));
            }
        }
        let mut nodes: Vec<Solved<'a>> = Vec::with_capacity(places.len());
        let mut resting: Vec<Parts> = Vec::with_capacity(places.len());
        for &node in &planner.found {
            let of = planner.of(node)?;
            let own = drivers.get(&node).map_or(&[][..], Vec::as_slice);
            let parent = scene.rigs[node.0].parent(node.1).and_then(|above| places.get(&(node.0, above)));
            let at_rest = Parts::of((of.rest(), of.rest_rotation()));
            let above = parent.map(|&parent| nodes[parent].rest);
            let rest = Stand::below(above.as_ref(), of.inherits, &at_rest);
            resting.push(at_rest);
            let sampler = NodeSampler::own(scene, take, node, of, own)?;
            nodes.push(Solved {
                is_still: sampler.is_still(),
                parent: parent.copied(),
                inherits: of.inherits,
                own: sampler,
                parts: Vec::new(),
                rest,
            });
        }
        let count = nodes.len();
        let mut solver = Solver {
            own: resting,
            stands: vec![Stand::START; count],
            nodes,
            places,
            prepared: Vec::new(),
            settings: Vec::new(),
            limbs: Vec::new(),
            hand: match scene.space.handedness {
                crate::space::Handedness::Right => 1.0,
                crate::space::Handedness::Left => -1.0,
            },
        };
        for constraint in &scene.constraints {
            solver.prepare(scene, take, constraint)?;
        }
        Ok(solver)
    }

    /// Makes a constraint ready, where all that it drives is solved.
    fn prepare(
        &mut self,
        scene: &'a Scene,
        take: Option<&'a Take>,
        constraint: &'a Constraint,
    ) -> Result<(), EvaluateError> {
        let driven = constraint.driven();
        if driven.is_empty() || !driven.iter().any(|node| self.places.contains_key(node)) {
            return Ok(());
        }
        let first = self.settings.len();
        for setting in constraint.settings() {
            self.settings.push((SettingSampler::new(scene, take, setting, 0)?, 0.0));
        }
        let index = self.prepared.len();
        let prepared = Prepared::new(self, scene, constraint, first)?;
        self.prepared.push(prepared);
        self.limbs.push(None);
        for (joint, node) in driven.iter().enumerate() {
            let place = self.place(*node)?;
            self.nodes[place].parts.push(Part { constraint: index, joint });
        }
        Ok(())
    }

    pub(super) fn place(&self, node: NodeRef) -> Result<usize, EvaluateError> {
        let found = self.places.get(&node).copied();
        found.ok_or_else(|| EvaluateError::Missing(format!("node of rig {}", node.0)))
    }

    /// The place of a node among those that are solved.
    pub fn place_of(&self, node: NodeRef) -> Option<usize> {
        self.places.get(&node).copied()
    }

    /// Where the node at a place stands.
    pub fn stand_at(&self, place: usize) -> &Stand {
        &self.stands[place]
    }

    /// Where a node stands among those that are solved.
    pub fn stand(&self, node: NodeRef) -> Option<&Stand> {
        self.places.get(&node).map(|&place| &self.stands[place])
    }

    pub(super) fn parent_stand(&self, index: usize) -> Stand {
        self.nodes[index].parent.map_or(Stand::START, |parent| self.stands[parent])
    }

    pub(super) fn parent_rest(&self, index: usize) -> Stand {
        self.nodes[index].parent.map_or(Stand::START, |parent| self.nodes[parent].rest)
    }
}

/// Whether the constraints of a scene have an order in which they can be worked out.
///
/// # Errors
/// [`EvaluateError::Circle`] with the members of one.
pub fn solvable(scene: &Scene) -> Result<(), EvaluateError> {
    let mut planner = Planner::new(scene);
    let mut driven: Vec<NodeRef> = planner.on.keys().copied().collect();
    driven.sort_unstable();
    driven.into_iter().try_for_each(|node| planner.add(node))
}

/// What drives some nodes, and those above them: all properties whose curves have a part in where they stand in the world.
/// Nodes come with all their steps; attributes that steer constraints by themselves.
///
/// # Errors
/// Where constraints go in a circle, or a node is not in the scene.
pub fn driving(
    scene: &Scene,
    wanted: impl IntoIterator<Item = NodeRef>,
) -> Result<(Vec<NodeRef>, Vec<Target>), EvaluateError> {
    let planner = Planner::of_all(scene, wanted)?;
    let needed: HashSet<NodeRef> = planner.found.iter().copied().collect();
    let mut steering: BTreeSet<Target> = BTreeSet::new();
    for constraint in &scene.constraints {
        let acts = constraint.driven().iter().any(|node| needed.contains(node));
        if acts {
            steering.extend(constraint.properties().into_iter().cloned());
        }
    }
    // Couples onto what steers, and onto steps of nodes.
    let is_driven = |steering: &BTreeSet<Target>, target: &Target| {
        steering.contains(target) || needed.contains(&(target.rig, target.node))
    };
    loop {
        let before = steering.len();
        for constraint in &scene.constraints {
            if let ConstraintKind::Couple(couple) = &constraint.kind
                && is_driven(&steering, &couple.channel.target)
            {
                steering.extend(constraint.properties().into_iter().cloned());
            }
        }
        if steering.len() == before {
            break;
        }
    }
    Ok((planner.found, steering.into_iter().collect()))
}

/// A unit vector; `None` where there is hardly any length.
pub(super) fn unit(v: DVec3) -> Option<DVec3> {
    v.try_normalize()
}

/// An orthonormal basis of a first axis and one that leans towards a second; the third completes it to the right.
pub(super) fn basis(first: DVec3, second: DVec3) -> Option<DMat3> {
    let first = unit(first)?;
    let left = second - first * first.dot(second);
    // Where the second is the first, rounding alone would decide.
    let second = unit(left).filter(|_| left.length() > 1e-9 * second.length())?;
    Some(DMat3::from_cols(first, second, first.cross(second)))
}
