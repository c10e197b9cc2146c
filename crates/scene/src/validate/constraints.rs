//! What constraints have to be to be worked out: of nodes and numbers that are there, and in no circle.

use std::collections::HashMap;

use glam::DVec3;

use super::{all_usable, is_usable};
use crate::address::NodeRef;
use crate::constraint::{Constraint, ConstraintKind, Couple, Limb, Setting, Source, Towards};
use crate::evaluate::{EvaluateError, solvable};
use crate::rig::{AttributeKind, OpValue};
use crate::scene::{PropertyKind, Scene, Target};

/// What is wrong with a scene's constraints: which one, if it is one, and what.
pub fn wrong_with_constraints(scene: &Scene) -> Option<(Option<usize>, String)> {
    for (index, constraint) in scene.constraints.iter().enumerate() {
        if let Some(what) = wrong_with(scene, constraint) {
            return Some((Some(index), what));
        }
    }
    if let Some(what) = circle_of_couples(scene) {
        return Some((None, what));
    }
    match solvable(scene) {
        Ok(()) => None,
        Err(error @ EvaluateError::Circle(_)) => Some((None, error.to_string())),
        // What else cannot be worked out is told by who works it out.
        Err(_) => None,
    }
}

fn wrong_with(scene: &Scene, constraint: &Constraint) -> Option<String> {
    let is_there = |node: &NodeRef| scene.rigs.get(node.0).is_some_and(|rig| rig.node(node.1).is_some());
    let nodes = constraint.driven().into_iter().chain(constraint.sources()).chain([constraint.node]);
    if !nodes.into_iter().all(|node| is_there(&node)) {
        return Some("it names a node that is not in the scene".to_owned());
    }
    if let Some(what) = constraint.settings().into_iter().find_map(|setting| wrong_setting(scene, setting)) {
        return Some(what);
    }
    let axis = |axis: DVec3| {
        (!(all_usable(&axis.to_array()) && axis.length() > 0.0)).then(|| "an axis has no length".to_owned())
    };
    let towards = |towards: &Towards| match towards {
        Towards::Direction(direction, _) => axis(*direction),
        Towards::Node(_) => None,
    };
    match &constraint.kind {
        ConstraintKind::Follow(follow) => {
            if follow.sources.is_empty() {
                return Some("it has nobody to follow".to_owned());
            }
            follow.sources.iter().find_map(|source| wrong_source(scene, source))
        }
        ConstraintKind::Aim(aim) => {
            let up = aim.up.as_ref().and_then(|(own, to)| axis(*own).or_else(|| towards(to)));
            axis(aim.axis).or(up)
        }
        ConstraintKind::Limb(limb) => limb
            .hinge
            .and_then(axis)
            .or_else(|| limb.pole.as_ref().and_then(towards))
            .or_else(|| wrong_limb(scene, constraint.node, limb)),
        ConstraintKind::Roll(roll) => {
            roll.axes.and_then(|axes| axis(axes.node).or_else(|| axis(axes.source)))
        }
        ConstraintKind::Couple(couple) => wrong_couple(scene, couple),
        ConstraintKind::Other { .. } => None,
    }
}

fn wrong_source(scene: &Scene, source: &Source) -> Option<String> {
    let usable = source.offset.is_none_or(|offset| {
        all_usable(&offset.position.to_array())
            && all_usable(&offset.scale.to_array())
            && offset.turn.is_finite()
            && offset.turn.length_squared() > 0.0
    });
    if !usable {
        return Some("an offset is not finite, or no rotation".to_owned());
    }
    wrong_setting(scene, &source.weight)
}

fn wrong_setting(scene: &Scene, setting: &Setting) -> Option<String> {
    let kind_of = |target: &Target| {
        let node = scene.rigs.get(target.rig)?.node(target.node)?;
        Some(&node.attribute(&target.property)?.kind)
    };
    match setting {
        Setting::Constant(number) => {
            (!is_usable(*number)).then(|| "a setting is not finite, or beyond 1e36".to_owned())
        }
        Setting::Attribute(target) | Setting::Remaining(target) => match kind_of(target) {
            Some(AttributeKind::Number { .. } | AttributeKind::Switch { .. }) => None,
            _ => Some(format!("'{}' is no number or switch", target.property)),
        },
        Setting::Is(target, option) => match kind_of(target) {
            Some(AttributeKind::Choice { options, .. }) if options.contains(option) => None,
            Some(AttributeKind::Choice { options, .. }) => Some(format!(
                "'{option}' is not one of the options of '{}': {}",
                target.property,
                options.join(", ")
            )),
            _ => Some(format!("'{}' is no choice", target.property)),
        },
    }
}

fn wrong_limb(scene: &Scene, upper: NodeRef, limb: &Limb) -> Option<String> {
    let is_below = |bottom: NodeRef, top: NodeRef| {
        let rig = scene.rigs.get(bottom.0);
        let mut above = std::iter::successors(Some(bottom.1), |id| rig.and_then(|rig| rig.parent(*id)));
        bottom.0 == top.0 && bottom != top && above.any(|id| id == top.1)
    };
    if !is_below(limb.lower, upper) {
        return Some("its lower joint does not hang on its upper one".to_owned());
    }
    if !is_below(limb.end, limb.lower) {
        return Some("its end does not hang on its lower joint".to_owned());
    }
    if !(0.0..1.0).contains(&limb.slack) {
        return Some(format!("a slack of {} is no part of its length: 0 to below 1", limb.slack));
    }
    wrong_source(scene, &limb.goal)
}

fn wrong_couple(scene: &Scene, couple: &Couple) -> Option<String> {
    let ascending = couple.points.windows(2).all(|pair| pair[0].0 < pair[1].0);
    if couple.points.is_empty() || !ascending {
        return Some("its points have to ascend, and there has to be one".to_owned());
    }
    if !couple.points.iter().all(|(from, to)| is_usable(*from) && is_usable(*to)) {
        return Some("a point is not finite, or beyond 1e36".to_owned());
    }
    for (channel, is_driven) in [(&couple.channel, true), (&couple.from, false)] {
        let target = &channel.target;
        let rig = scene.rigs.get(target.rig)?;
        let step = rig.node(target.node).and_then(|node| node.op(&target.property));
        let fits = match rig.property_kind(target.node, &target.property) {
            Some(PropertyKind::Number(_)) => channel.component == 0,
            Some(PropertyKind::Vector(_) | PropertyKind::Scale) => channel.component < 3,
            Some(PropertyKind::Rotation) => {
                channel.component < 3
                    && step.is_some_and(|op| matches!(op.value, OpValue::Rotate { .. } | OpValue::Orient(_)))
            }
            Some(PropertyKind::Discrete) if !is_driven => {
                let attribute = rig.node(target.node).and_then(|node| node.attribute(&target.property));
                attribute.is_some_and(|own| matches!(own.kind, AttributeKind::Switch { .. }))
            }
            _ => false,
        };
        if !fits {
            return Some(format!("'{}' has no such number to couple", target.property));
        }
    }
    None
}

/// Names a number that is driven by itself, over other couples.
fn circle_of_couples(scene: &Scene) -> Option<String> {
    let mut reads: HashMap<&Target, Vec<&Target>> = HashMap::new();
    for constraint in &scene.constraints {
        if let ConstraintKind::Couple(couple) = &constraint.kind {
            let read = reads.entry(&couple.channel.target).or_default();
            read.push(&couple.from.target);
            read.extend(constraint.weight.attribute());
        }
    }
    // What nothing more is read by is taken away until nothing is left, or only circles are.
    let mut left: Vec<&Target> = reads.keys().copied().collect();
    loop {
        let before = left.len();
        let open: std::collections::HashSet<&Target> = left.iter().copied().collect();
        left.retain(|target| reads[target].iter().any(|read| open.contains(*read)));
        if left.len() == before {
            break;
        }
    }
    let addresses = || crate::address::Addresses::new(scene);
    if let Some(first) = left.into_iter().min() {
        return Some(format!("couples go in a circle: {} is driven by itself", addresses().property(first)));
    }
    // Each way over couples is worked out by itself.
    let mut ways: HashMap<&Target, usize> = HashMap::new();
    let mut open: Vec<&Target> = reads.keys().copied().collect();
    while !open.is_empty() {
        let before = open.len();
        open.retain(|target| {
            let known =
                |read: &&Target| if reads.contains_key(read) { ways.get(read).copied() } else { Some(1) };
            let counts: Option<Vec<usize>> = reads[target].iter().map(known).collect();
            let Some(counts) = counts else { return true };
            ways.insert(target, counts.iter().fold(1, |sum: usize, count| sum.saturating_add(*count)));
            false
        });
        if open.len() == before {
            break;
        }
    }
    let (most, count) =
        ways.into_iter().max_by_key(|(target, count)| (*count, std::cmp::Reverse(*target)))?;
    (count > MOST_WAYS).then(|| {
        format!(
            "couples lead to {} over more than {MOST_WAYS} ways: couple it to fewer numbers",
            addresses().property(most)
        )
    })
}

/// Over how many ways couples may lead to a number.
const MOST_WAYS: usize = 4096;
