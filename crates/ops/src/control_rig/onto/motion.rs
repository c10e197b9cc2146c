//! What is to be matched: joints as their own curves move them, where they have such, else as constraints do.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::ConstraintKind;
use nimble_curve_scene::evaluate::{EvaluateError, SettingSampler};
use nimble_curve_scene::rig::{ROTATION, SCALE, TRANSLATION};
use nimble_curve_scene::scene::{Scene, Take, Target};

use super::duties::controls_of;
use crate::control_rig::touched::Touched;

/// At how many instants it is asked which constraints count, at most.
const MOST_LOOKS: i64 = 4000;

/// Whether a constraint drives what a track is on, so that the track counts for nothing while it acts.
pub fn is_driven_by(touched: &Touched, scene: &Scene, target: &Target) -> bool {
    let node = (target.rig, target.node);
    let Some(steps) = touched.steps.get(&node) else { return false };
    let Some(of) = scene.rigs[target.rig].node(target.node) else { return false };
    if of.op(&target.property).is_none() {
        return false;
    }
    match target.property.as_str() {
        TRANSLATION => steps[0],
        ROTATION => steps[1],
        SCALE => steps[2],
        _ => true,
    }
}

/// Whether a node is no control, and nothing that serves these.
pub fn is_body(scene: &Scene, (rig, id): &NodeRef) -> bool {
    let of = scene.rigs.get(*rig).and_then(|rig| rig.node(*id));
    of.is_some_and(|of| !of.kind.is_for_controls())
}

/// The constraints that joints do without in a take, as they have curves of their own.
pub fn let_go(scene: &Scene, take: &Take, chosen: &BTreeSet<usize>) -> BTreeSet<usize> {
    let has_own = |index: &usize| {
        // What serves controls goes where these have it go, whatever curves it has beside.
        if !scene.constraints[*index].driven().iter().any(|node| is_body(scene, node)) {
            return false;
        }
        let touched = Touched::by(scene, &BTreeSet::from([*index]));
        take.active_tracks().any(|(_, track)| is_driven_by(&touched, scene, &track.target))
    };
    // Couples and rolls add to own curves, which count beside them.
    let is_whole = |index: &usize| {
        !matches!(scene.constraints[*index].kind, ConstraintKind::Couple(_) | ConstraintKind::Roll(_))
    };
    let mut gone: BTreeSet<usize> = chosen.iter().copied().filter(is_whole).filter(has_own).collect();
    // Of several on one node none is left to act alone.
    loop {
        let nodes: BTreeSet<NodeRef> =
            gone.iter().flat_map(|index| scene.constraints[*index].driven()).collect();
        let more: Vec<usize> = (chosen.iter().copied())
            .filter(|index| !gone.contains(index) && is_whole(index))
            .filter(|index| scene.constraints[*index].driven().iter().any(|node| nodes.contains(node)))
            .collect();
        if more.is_empty() {
            break;
        }
        gone.extend(more);
    }
    // Where joints move by themselves, those rest beside them whose controls were never moved: a leg hangs on its hips, and does not
    // stay behind with a foot control at its rest.
    let is_still = |index: &usize| {
        let constraint = &scene.constraints[*index];
        let controls = controls_of(scene, *index);
        let moves = |target: &Target| {
            controls.contains(&(target.rig, target.node)) || constraint.properties().contains(&target)
        };
        constraint.driven().iter().all(|node| is_body(scene, node))
            && !controls.is_empty()
            && !take.active_tracks().any(|(_, track)| moves(&track.target))
    };
    if !gone.is_empty() {
        gone.extend(chosen.iter().copied().filter(is_still));
    }
    // Joints that have what controls did in their own curves have what couples did in them, too.
    let has_keys = |index: &usize| match &scene.constraints[*index].kind {
        ConstraintKind::Couple(couple) => {
            take.active_tracks().any(|(_, track)| track.target == couple.channel.target)
        }
        ConstraintKind::Roll(_) => has_own(index),
        _ => false,
    };
    if !gone.is_empty() {
        gone.extend(chosen.iter().copied().filter(has_keys));
    }
    gone
}

/// A scene in which joints move by their own curves where they have such.
pub fn motion(scene: &Scene, gone: &BTreeSet<usize>) -> Scene {
    let stays = |(index, _): &(usize, &nimble_curve_scene::constraint::Constraint)| !gone.contains(index);
    let constraints =
        scene.constraints.iter().enumerate().filter(stays).map(|(_, own)| own.clone()).collect();
    Scene { constraints, ..scene.clone() }
}

/// What decides what nodes do in a take.
#[derive(Clone, Debug, Default)]
pub struct Deciding {
    /// The constraints that count at some instant, and are not overlaid by a later one that drives the same in full.
    pub acting: BTreeSet<usize>,
    /// Nodes with the steps (translation, rotation, scale) that constraints drive in full at every instant.
    pub covered: BTreeMap<NodeRef, [bool; 3]>,
}

/// Finds what decides, among some constraints.
pub fn deciding(scene: &Scene, take: &Take, chosen: &BTreeSet<usize>) -> Result<Deciding, EvaluateError> {
    let mut on: BTreeMap<NodeRef, Vec<(usize, [bool; 3])>> = BTreeMap::new();
    for (index, constraint) in scene.constraints.iter().enumerate() {
        // What a roll adds, it adds to others.
        if matches!(constraint.kind, ConstraintKind::Roll(_)) || !chosen.contains(&index) {
            continue;
        }
        for (node, steps) in Touched::by(scene, &BTreeSet::from([index])).steps {
            on.entry(node).or_default().push((index, steps));
        }
    }
    let mut weights: Vec<SettingSampler<'_>> = (scene.constraints.iter())
        .map(|constraint| SettingSampler::new(scene, Some(take), &constraint.weight))
        .collect::<Result<_, _>>()?;
    let frame = |time: Ticks| scene.rate.frame(time);
    let (first, last) = (frame(take.range.first).floor() as i64, frame(take.range.last).ceil() as i64);
    let stride = ((last - first) / MOST_LOOKS + 1) as usize;
    let covered = on.keys().map(|node| (*node, [true; 3])).collect();
    let mut found = Deciding { acting: BTreeSet::new(), covered };
    let mut now = vec![0.0; weights.len()];
    for frame in (first..=last).step_by(stride) {
        let time = scene.rate.ticks(frame).as_f64();
        now.iter_mut().zip(&mut weights).for_each(|(now, weight)| *now = weight.at(time));
        for (node, acting) in &on {
            for part in 0..3 {
                let mut drives =
                    acting.iter().rev().filter(|(index, steps)| steps[part] && now[*index] > 0.0);
                let whole = drives.find(|(index, _)| {
                    found.acting.insert(*index);
                    now[*index] >= 1.0
                });
                if whole.is_none()
                    && let Some(covered) = found.covered.get_mut(node)
                {
                    covered[part] = false;
                }
            }
        }
    }
    Ok(found)
}

/// Whether constraints drive what a track is on in full, so that it counts for nothing.
pub fn is_covered(deciding: &Deciding, scene: &Scene, target: &Target) -> bool {
    let Some(covered) = deciding.covered.get(&(target.rig, target.node)) else { return false };
    let of = scene.rigs.get(target.rig).and_then(|rig| rig.node(target.node));
    if of.is_none_or(|of| of.op(&target.property).is_none()) {
        return false;
    }
    match target.property.as_str() {
        TRANSLATION => covered[0],
        ROTATION => covered[1],
        SCALE => covered[2],
        _ => covered[0] && covered[1],
    }
}
