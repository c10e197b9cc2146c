//! What a result is judged by.

use std::collections::BTreeSet;

use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::ConstraintKind;
use nimble_curve_scene::judge::{Claim, Excuse, Sampling, Standing};
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{Scene, Take, Target};

use super::duties::controls_of;
use super::motion::is_body;
use super::options::MatchKeys;
use super::told::Told;

/// That joints move as they did: those that are reached, beside what is above them and in the world.
pub fn claim(motion: &Scene, result: &Scene, take: usize, told: &Told, keys: MatchKeys) -> Claim {
    let mut claim = Claim::same(motion, result);
    claim.spans.retain(|span| span.result == take);
    claim.takes_chosen = motion.takes.len() > 1;
    let span = motion.takes.iter().position(|own| own.name == result.takes[take].name).unwrap_or(take);
    let parts = Parts { motion, result, take: &result.takes[take], told, keys };
    let changed = told.changed_steps(result).into_iter();
    let why = "controls have what joints did".to_owned();
    claim.excuses.extend(changed.map(|target| Excuse { take: span, target, why: why.clone() }));
    for (node, _) in &claim.nodes {
        let Some((why, of_steps)) = parts.excuse(node) else { continue };
        let steps = motion.rigs[node.0].node(node.1).map(|of| of.transform.as_slice()).unwrap_or_default();
        let is_meant = |name: &str| of_steps == OfSteps::All || name == ROTATION;
        claim.excuses.extend(steps.iter().filter(|step| is_meant(&step.name)).map(|step| Excuse {
            take: span,
            target: Target::new(node.0, node.1, step.name.clone()),
            why: why.to_owned(),
        }));
    }
    claim.world = Some(claim.nodes.iter().filter_map(|(_, node)| parts.standing(node)).collect());
    if keys == MatchKeys::Same {
        claim.sampling = Sampling::Keys;
    }
    claim
}

/// Which steps of a node are not compared beside what it hangs on.
#[derive(Clone, Copy, PartialEq, Eq)]
enum OfSteps {
    All,
    Rotation,
}

/// What is promised of single nodes.
struct Parts<'a> {
    motion: &'a Scene,
    result: &'a Scene,
    take: &'a Take,
    told: &'a Told,
    keys: MatchKeys,
}

impl Parts<'_> {
    /// Whether some node that a node hangs on, or it itself, is meant.
    fn upwards(&self, node: &NodeRef, is_meant: impl Fn(&NodeRef) -> bool) -> bool {
        let rig = &self.motion.rigs[node.0];
        std::iter::successors(Some(node.1), |id| rig.parent(*id)).any(|id| is_meant(&(node.0, id)))
    }

    /// Bones of a limb that comes to be straight, and what controls cannot bring where it should be.
    fn is_apart(&self, node: &NodeRef) -> bool {
        let straight = &self.told.departures.straight;
        self.told.unreached.contains_key(node)
            || self.told.bones.contains(node) && straight.contains_key(node)
    }

    fn excuse(&self, node: &NodeRef) -> Option<(&'static str, OfSteps)> {
        if self.is_apart(node) {
            return Some(("controls cannot bring it there", OfSteps::All));
        }
        let parent = self.motion.rigs[node.0].parent(node.1).map(|parent| (node.0, parent));
        if self.told.grips.contains_key(node) && parent.is_some_and(|parent| self.is_apart(&parent)) {
            return Some(("what it hangs on is elsewhere, and it is where it was", OfSteps::All));
        }
        if self.keys == MatchKeys::Same && self.told.unkeyed.contains(node) {
            return Some(("no control is keyed for it", OfSteps::All));
        }
        if self.keys == MatchKeys::Same && self.aimed(node).is_some() {
            return Some((
                "what aims from between keys of what it hangs on leans by these",
                OfSteps::Rotation,
            ));
        }
        // The bones of a limb turn as their ends stand, and what is driven below beside them.
        let is_driven = self.result.constraints.iter().any(|own| own.driven().contains(node));
        // Own curves make up for what is left, but beside a limb that comes to be straight: there all turns as a root goes.
        let straight = &self.told.departures.straight;
        let is_made_up = self.told.made_up.contains(node)
            && (self.keys == MatchKeys::Same || !straight.contains_key(node));
        let turns_along = is_driven && !is_made_up;
        (turns_along && self.upwards(node, |above| self.told.bones.contains(above)))
            .then_some(("its limb has its place", OfSteps::Rotation))
    }

    /// How a node stands in the world. Of the same keys that is promised of what a control holds whatever it hangs on, where that control has
    /// keys; all else is compared beside what it hangs on.
    fn standing(&self, node: &NodeRef) -> Option<Standing> {
        let straight = &self.told.departures.straight;
        if !is_body(self.result, node) || self.is_apart(node) {
            return None;
        }
        let grip = self.told.grips.get(node);
        let one = glam::DQuat::IDENTITY;
        let aimed = (self.keys == MatchKeys::Same).then(|| self.aimed(node)).flatten();
        let (turns, place, at) = match (self.keys, grip) {
            _ if aimed.is_some() => (true, false, aimed),
            (MatchKeys::Same, Some(grip)) => {
                let hangs_on_bones = self.upwards(node, |above| self.told.bones.contains(above));
                if !grip.alone || !hangs_on_bones {
                    return None;
                }
                (grip.turn, grip.place, Some(self.key_times(grip.control)))
            }
            (MatchKeys::Same, None) => return None,
            // What goes with the bones of a straight limb is where these are; its end stands where it stood.
            (MatchKeys::Bounded, Some(grip)) if straight.contains_key(node) => (grip.turn, grip.place, None),
            (MatchKeys::Bounded, None) if straight.contains_key(node) => return None,
            (MatchKeys::Bounded, _) => (!self.told.bones.contains(node), true, None),
        };
        let references = turns.then_some((one, one));
        Some(Standing { source: *node, result: *node, references, place, at })
    }

    /// When something that is aimed, and hangs on what is driven, turns as it did with the same keys: where all that moves either has keys.
    /// Nothing of other nodes.
    fn aimed(&self, node: &NodeRef) -> Option<Vec<f64>> {
        let drives = |own: &NodeRef| {
            let all = self.result.constraints.iter().enumerate();
            let own = *own;
            all.filter(move |(_, constraint)| constraint.driven().contains(&own)).map(|(index, _)| index)
        };
        let is_aim = |index: usize| matches!(self.result.constraints[index].kind, ConstraintKind::Aim(_));
        if !drives(node).any(is_aim) {
            return None;
        }
        let rig = &self.motion.rigs[node.0];
        let above = std::iter::successors(rig.parent(node.1), |id| rig.parent(*id));
        let above: BTreeSet<usize> = above.flat_map(|id| drives(&(node.0, id)).collect::<Vec<_>>()).collect();
        if above.is_empty() {
            return None;
        }
        let controls: BTreeSet<NodeRef> =
            above.into_iter().chain(drives(node)).flat_map(|index| controls_of(self.result, index)).collect();
        let times =
            controls.into_iter().map(|control| self.key_times(control)).filter(|times| !times.is_empty());
        times.reduce(|a, b| a.into_iter().filter(|time| b.contains(time)).collect())
    }

    /// When a control has keys.
    fn key_times(&self, control: NodeRef) -> Vec<f64> {
        let on_it =
            self.take.active_tracks().filter(|(_, track)| (track.target.rig, track.target.node) == control);
        let times = on_it.flat_map(|(_, track)| track.controller.key_times(self.take.range));
        let times: BTreeSet<Ticks> = times.collect();
        times.into_iter().map(Ticks::as_f64).collect()
    }
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
