//! What is to be solved: constraints that were chosen, and what they change.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::choice::Choice;
use nimble_curve_scene::constraint::{ConstraintKind, EndTurn, StretchBy};
use nimble_curve_scene::scene::{Scene, Target};

use super::error::SolveError;

/// The constraints that drive what was chosen, with all others that drive the same nodes.
pub fn chosen_constraints(scene: &Scene, only: &[String]) -> Result<BTreeSet<usize>, SolveError> {
    let acts = |index: &usize| !matches!(scene.constraints[*index].kind, ConstraintKind::Other { .. });
    let all: Vec<usize> = (0..scene.constraints.len()).filter(acts).collect();
    if scene.constraints.is_empty() {
        return Err(SolveError::NoConstraints);
    }
    if only.is_empty() {
        return Ok(all.into_iter().collect());
    }
    let addresses = Addresses::new(scene);
    let choice = Choice::among(scene, &addresses, (only, &[]), &[])?;
    let driven = |index: usize| -> Vec<NodeRef> {
        let own = &scene.constraints[index];
        let nodes = own.driven();
        if nodes.is_empty() { vec![own.node] } else { nodes }
    };
    let is_meant = |node: &NodeRef| choice.takes(&[addresses.node(*node)]);
    let mut nodes: BTreeSet<NodeRef> = all.iter().flat_map(|index| driven(*index)).filter(is_meant).collect();
    let mut chosen = BTreeSet::new();
    loop {
        let before = chosen.len();
        for &index in &all {
            if driven(index).iter().any(|node| nodes.contains(node)) {
                chosen.insert(index);
                nodes.extend(driven(index));
            }
        }
        if chosen.len() == before {
            let none = || SolveError::NotDriven(only.join(", "));
            return (!chosen.is_empty()).then_some(chosen).ok_or_else(none);
        }
    }
}

/// Which properties of which nodes constraints change.
pub struct Touched {
    /// Translation, rotation, scale, by node.
    pub steps: BTreeMap<NodeRef, [bool; 3]>,
    /// What couples drive, where it is no such step.
    pub numbers: BTreeSet<Target>,
    /// What drives each, in words.
    pub by: BTreeMap<NodeRef, String>,
}

impl Touched {
    pub fn by(scene: &Scene, chosen: &BTreeSet<usize>) -> Touched {
        let mut touched = Touched { steps: BTreeMap::new(), numbers: BTreeSet::new(), by: BTreeMap::new() };
        for &index in chosen {
            let constraint = &scene.constraints[index];
            let mut touch = |node: NodeRef, [translation, rotation, scale]: [bool; 3]| {
                let own = touched.steps.entry(node).or_insert([false; 3]);
                *own = [own[0] || translation, own[1] || rotation, own[2] || scale];
                let name = match constraint.name.as_str() {
                    "" => constraint.kind.name().to_owned(),
                    name => format!("{} '{name}'", constraint.kind.name()),
                };
                let said = touched.by.entry(node).or_default();
                if !said.is_empty() {
                    said.push_str(" and ");
                }
                said.push_str(&name);
            };
            match &constraint.kind {
                ConstraintKind::Follow(follow) => {
                    let any = |axes: [bool; 3]| axes.contains(&true);
                    touch(
                        constraint.node,
                        [any(follow.translation), any(follow.rotation), any(follow.scale)],
                    );
                }
                ConstraintKind::Aim(_) | ConstraintKind::Roll(_) => {
                    touch(constraint.node, [false, true, false])
                }
                ConstraintKind::Limb(limb) => {
                    let stretches = limb.stretch.constant() != Some(0.0);
                    let by_scale = stretches && limb.stretch_by == StretchBy::Scale;
                    let moves =
                        |bone: usize| limb.lengths[bone].constant() != Some(1.0) || stretches && !by_scale;
                    touch(constraint.node, [false, true, by_scale]);
                    touch(limb.lower, [moves(0), true, false]);
                    touch(limb.end, [moves(1), limb.end_turn != EndTurn::Own, false]);
                }
                ConstraintKind::Couple(couple) => {
                    touched.numbers.insert(couple.channel.target.clone());
                }
                ConstraintKind::Other { .. } => {}
            }
        }
        // A step that a couple drives on a node that others drive is part of what these come to.
        let steps = &touched.steps;
        touched.numbers.retain(|target| {
            let node = (target.rig, target.node);
            let is_step =
                scene.rigs[target.rig].node(target.node).is_some_and(|of| of.op(&target.property).is_some());
            !(is_step && steps.contains_key(&node))
        });
        touched
    }
}
