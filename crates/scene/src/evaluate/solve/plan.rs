//! What has to be solved for some nodes, and in which order.

use std::collections::{BTreeSet, HashMap, HashSet};

use crate::address::{Addresses, NodeRef};
use crate::constraint::ConstraintKind;
use crate::evaluate::EvaluateError;
use crate::rig::Node;
use crate::scene::{Scene, Target};

/// What collects the nodes that are needed.
pub struct Planner<'a> {
    scene: &'a Scene,
    /// The constraints on each node, by their place.
    on: HashMap<NodeRef, Vec<usize>>,
    /// Nodes whose needs are being looked at, and those that are done.
    state: HashMap<NodeRef, bool>,
    pub found: Vec<NodeRef>,
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
    pub fn of_all(
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

    pub fn of(&self, (rig, node): NodeRef) -> Result<&'a Node, EvaluateError> {
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
