//! What a result is judged by.

use std::collections::BTreeSet;

use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::Constraint;
use nimble_curve_scene::judge::{Claim, Excuse, Sampling, Standing};
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{Scene, Target};

use super::motion::is_body;
use super::options::MatchKeys;
use super::told::Told;

/// That joints move as they did: those that are reached, beside what is above them and in the world.
pub fn claim(motion: &Scene, result: &Scene, take: usize, told: &Told, keys: MatchKeys) -> Claim {
    let mut claim = Claim::same(motion, result);
    claim.spans.retain(|span| span.result == take);
    claim.takes_chosen = motion.takes.len() > 1;
    let span = motion.takes.iter().position(|own| own.name == result.takes[take].name).unwrap_or(take);
    let why = "controls have what joints did".to_owned();
    let changed = told.changed_steps(result).into_iter();
    claim.excuses.extend(changed.map(|target| Excuse { take: span, target, why: why.clone() }));
    let is_apart =
        |node: &NodeRef| told.unreached.contains_key(node) || told.departures.straight.contains_key(node);
    // What hangs on such and is reached nevertheless is held to where it is in the world.
    let same = keys == MatchKeys::Same;
    let hangs_on_such = |node: &NodeRef| {
        let above = motion.rigs[node.0].parent(node.1);
        !same && is_body(result, node) && above.is_some_and(|parent| is_apart(&(node.0, parent)))
    };
    for (node, _) in &claim.nodes {
        let why = match (is_apart(node), hangs_on_such(node)) {
            (true, _) => "controls cannot bring it there",
            (false, true) => "what it hangs on is elsewhere, and it is where it was",
            (false, false) => continue,
        };
        let steps = motion.rigs[node.0].node(node.1).map(|of| of.transform.as_slice()).unwrap_or_default();
        claim.excuses.extend(steps.iter().map(|step| Excuse {
            take: span,
            target: Target::new(node.0, node.1, step.name.clone()),
            why: why.to_owned(),
        }));
    }
    // The bones of a limb turn as their ends stand, and the end beside them.
    let driven: BTreeSet<NodeRef> = result.constraints.iter().flat_map(Constraint::driven).collect();
    let beside = driven.iter().filter(|node| {
        let rig = &motion.rigs[node.0];
        let mut above = std::iter::successors(Some(node.1), |id| rig.parent(*id));
        above.any(|id| told.bones.contains(&(node.0, id)))
    });
    let why = "its limb has its place".to_owned();
    claim.excuses.extend(beside.map(|node| Excuse {
        take: span,
        target: Target::new(node.0, node.1, ROTATION),
        why: why.clone(),
    }));
    let one = glam::DQuat::IDENTITY;
    let standing = |(source, node): &(NodeRef, NodeRef)| Standing {
        source: *source,
        result: *node,
        references: (!told.bones.contains(node)).then_some((one, one)),
        place: true,
    };
    let standings = claim.nodes.iter().filter(|(_, node)| is_body(result, node) && !is_apart(node) && !same);
    claim.world = Some(standings.map(standing).collect());
    if same {
        claim.sampling = Sampling::Keys;
    }
    claim
}

/// What is left of a claim about joints once controls move them: all but what these cannot bring where it should be, as the claims of
/// matching, `stages`, say.
pub fn through_controls(mut claim: Claim, result: &Scene, stages: &[&Claim]) -> Claim {
    let excused: BTreeSet<NodeRef> = (stages.iter().flat_map(|stage| &stage.excuses))
        .map(|excuse| (excuse.target.rig, excuse.target.node))
        .collect();
    // What is excused beside what it hangs on may stand in the world as it should.
    let stands = |node: &NodeRef| {
        // Below what is mirrored, or sized along one axis, the same axes may come of other turns.
        let rig = &result.rigs[node.0];
        let mut upwards = std::iter::successors(Some(node.1), |id| rig.parent(*id));
        let is_even = upwards.all(|id| {
            let view = rig.node(id).and_then(|node| node.canonical());
            view.is_some_and(|view| view.scale.min_element() > (1.0 - 1e-9) * view.scale.max_element().abs())
        });
        let is_held = |stage: &&Claim| {
            let mut standings = stage.world.iter().flatten();
            standings.any(|own| own.result == *node && own.references.is_some())
        };
        is_even && stages.iter().all(is_held)
    };
    let is_reached = |node: &NodeRef| !excused.contains(node);
    claim.nodes.retain(|(_, node)| is_reached(node));
    claim.turns.retain(|turn| {
        let own = is_reached(&turn.result) || turn.beside.is_none() && stands(&turn.result);
        own && turn.beside.is_none_or(|beside| is_reached(&beside))
    });
    claim.shifts.retain(|shift| is_reached(&shift.result));
    claim.holds.retain(|hold| is_reached(&hold.result.0) && is_reached(&hold.result.1));
    claim.amounts.retain(|amount| is_reached(&(amount.result.rig, amount.result.node)));
    // A claim without standings says of places in the world what nobody promised here.
    let standings = claim.world.into_iter().flatten().filter(|own| stands(&own.result));
    claim.world = Some(standings.map(|own| Standing { place: false, ..own }).collect());
    claim
}
