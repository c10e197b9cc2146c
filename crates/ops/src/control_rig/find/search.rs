//! The search: what explains each node that moves, whole takes before parts of them, what is certain before what may be.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::constraint::{Constraint, ConstraintKind, Setting};
use nimble_curve_scene::evaluate::{EvaluateError, solvable};
use nimble_curve_scene::rig::NodeKind;
use nimble_curve_scene::scene::Scene;

use super::aim;
use super::follow::{self, Followed};
use super::limb::Rival;
use super::open::Search;
use super::recorded::Recording;
use super::roll;
use super::verdict::aimed;
use super::{Finding, FoundRig, Limits, Unexplained};
use crate::control_rig::SolveError;

/// Finds what drives what in a scene whose controls are known.
pub fn search(source: Scene) -> Result<FoundRig, SolveError> {
    let sure = Limits::sure(&source);
    let recording = Recording::new(&source, &sure)?;
    let explained = recording.nodes.iter().map(|_| [false; 3]).collect();
    let (addresses, follows, guesses) = (Addresses::new(&source), BTreeMap::new(), Vec::new());
    let mut search =
        Search { scene: &source, addresses, recording, explained, follows, guesses, limbs: BTreeSet::new() };
    let mut findings: Vec<Finding> = Vec::new();
    for limits in [sure, sure.loose()] {
        search.look(&limits)?;
        let guesses = std::mem::take(&mut search.guesses);
        for guess in guesses {
            let found = search.measured(guess, &sure)?;
            // What is too far off explains nothing, and less than what its node does at all.
            if sure.loose().hold(&found.residual) && search.is_told(&found, &sure) {
                findings.push(found);
            } else {
                search.forget(&found, &findings);
            }
        }
    }
    let aims: Vec<(NodeRef, NodeRef)> = findings.iter().filter_map(aimed).collect();
    for found in &mut findings {
        search.doubt(found, &aims);
    }
    let unexplained = search
        .unexplained()
        .map(|node| Unexplained {
            node: search.recording.nodes[node].node,
            parts: search.open(node),
            is_whole: search.open(node) == follow::wanted(&search.recording, node),
        })
        .collect();
    let frames = search.recording.frames.len();
    let mut findings = without_circles(&source, findings);
    findings.sort_by_key(|own| acts(&own.constraint));
    Ok(FoundRig { source, findings, unexplained, frames })
}

/// What can be worked out together, sure ones first: where two nodes are alike each may seem to go by the other.
fn without_circles(source: &Scene, findings: Vec<Finding>) -> Vec<Finding> {
    let (sure, unsure): (Vec<_>, Vec<_>) = findings.into_iter().partition(|own| own.is_sure);
    let mut scene = Scene { rigs: source.rigs.clone(), ..Scene::new(source.rate, source.space) };
    let mut kept = Vec::new();
    for found in sure.into_iter().chain(unsure) {
        scene.constraints.push(found.constraint.clone());
        if solvable(&scene).is_ok() {
            kept.push(found);
        } else {
            scene.constraints.pop();
        }
    }
    kept
}

/// In which order constraints act where several drive a node: chains before the limbs that take over from them.
fn acts(constraint: &Constraint) -> u8 {
    match constraint.kind {
        ConstraintKind::Follow(_) => 0,
        ConstraintKind::Limb(_) => 1,
        ConstraintKind::Aim(_) => 2,
        _ => 3,
    }
}

impl Search<'_> {
    fn look(&mut self, limits: &Limits) -> Result<(), EvaluateError> {
        let nodes = 0..self.recording.nodes.len();
        for node in nodes.clone() {
            self.follow(node, limits);
        }
        self.limbs(limits)?;
        // What goes with the joints of limbs is told once these are known.
        for node in nodes.clone() {
            self.follow(node, limits);
        }
        for node in nodes.clone() {
            if self.is_open(node)
                && let Some(found) = aim::found(&self.recording, node, limits)
            {
                self.explained[node][1] = true;
                self.guess(node, ConstraintKind::Aim(found.aim), found.rivals);
            }
        }
        for node in nodes.clone() {
            if self.is_open(node)
                && let Some(found) = roll::found(&self.recording, node, limits)
            {
                self.explained[node][1] = true;
                self.guess(node, ConstraintKind::Roll(found.roll), found.rivals);
            }
        }
        for node in nodes {
            self.switched(node, limits);
        }
        Ok(())
    }

    /// Whom a node goes with on all frames: as a whole, else in its turn and in its place by others.
    fn follow(&mut self, node: usize, limits: &Limits) {
        let open = self.open(node);
        let alone = [[true, false, false], [false, true, false], [false, false, true]];
        let tries = std::iter::once(open).chain(alone).filter(|parts| parts.contains(&true));
        for parts in tries {
            if (0..3).any(|part| parts[part] && (!open[part] || self.explained[node][part])) {
                continue;
            }
            let find = |sources: Vec<usize>| -> Vec<Followed> {
                let one = |source| follow::beside(&self.recording, (source, node), parts, limits);
                sources.into_iter().filter_map(one).collect()
            };
            let mut found = find(follow::candidates(&self.recording, node));
            if self.recording.nodes[node].kind != NodeKind::Locator {
                // A prop goes with a joint: what is explained by nothing else with what is.
                let mut joints = find(follow::joints(&self.recording, node));
                joints.retain(|own| !self.is_open(own.source));
                found.extend(joints);
            }
            let all = found.clone();
            let Some((chosen, rivals)) = follow::chosen(&self.recording, node, found) else { continue };
            self.follows.entry(node).or_default().extend(all);
            self.explained[node].iter_mut().zip(parts).for_each(|(own, part)| *own |= part);
            let source = chosen.source(&self.recording, Setting::Constant(1.0));
            let kind = ConstraintKind::Follow(Followed::follow(parts, vec![source]));
            self.guess(node, kind, rivals.into_iter().map(Rival::Node).collect());
        }
    }
}
