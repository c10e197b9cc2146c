//! What a result is judged by.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use nimble_curve_curves::time::Ticks;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::constraint::{ConstraintKind, EndTurn};
use nimble_curve_scene::judge::{Claim, Excuse, Sampling, Standing};
use nimble_curve_scene::rig::ROTATION;
use nimble_curve_scene::scene::{Scene, Take, Target};

use super::away::frames;
use super::duties::{controls_of, turns_with_bones};
use super::motion::is_body;
use super::options::MatchKeys;
use super::told::Told;

/// That joints move as they did: those that are reached, beside what is above them and in the world.
pub fn claim(motion: &Scene, result: &Scene, take: usize, told: &Told, keys: MatchKeys) -> Claim {
    let mut claim = Claim::same(motion, result);
    claim.spans.retain(|span| span.result == take);
    claim.takes_chosen = motion.takes.len() > 1;
    let span = motion.takes.iter().position(|own| own.name == result.takes[take].name).unwrap_or(take);
    let of_take = &result.takes[take];
    let frames: Arc<[f64]> = frames(result.rate, of_take.range).into();
    let halves = frames.windows(2).map(|pair| 0.5 * (pair[0] + pair[1]));
    let mut sources = motion.takes[span].active_tracks();
    let is_sampled = sources.any(|(_, track)| track.controller.samples().is_some());
    let mut looks: Vec<f64> = frames.iter().copied().chain(halves.filter(|_| !is_sampled)).collect();
    looks.sort_by(f64::total_cmp);
    let bent = |(limb, straight): (&usize, &Vec<f64>)| -> (usize, Arc<[f64]>) {
        (*limb, looks.iter().copied().filter(|time| !is_among(straight, *time)).collect())
    };
    let bent = told.departures.straight_at.iter().map(bent).collect();
    let parts = Parts { motion, result, take: of_take, told, keys, frames: Arc::clone(&frames), bent };
    let changed = told.changed_steps(result).into_iter();
    let why = "controls have what joints did".to_owned();
    claim.excuses.extend(changed.map(|target| Excuse::new(span, target, why.clone())));
    for (node, _) in &claim.nodes {
        let Some((why, of_steps)) = parts.excuse(node) else { continue };
        let steps = motion.rigs[node.0].node(node.1).map(|of| of.transform.as_slice()).unwrap_or_default();
        let is_meant = |name: &str| match of_steps {
            OfSteps::All => true,
            OfSteps::Rotation => name == ROTATION,
            OfSteps::Others => name != ROTATION,
        };
        claim.excuses.extend(steps.iter().filter(|step| is_meant(&step.name)).map(|step| {
            let target = Target::new(node.0, node.1, step.name.clone());
            Excuse::new(span, target, why)
        }));
    }
    claim.world = Some(claim.nodes.iter().flat_map(|(_, node)| parts.standings(node)).collect());
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
    Others,
}

/// What is promised of single nodes.
struct Parts<'a> {
    motion: &'a Scene,
    result: &'a Scene,
    take: &'a Take,
    told: &'a Told,
    keys: MatchKeys,
    /// The whole frames of the take.
    frames: Arc<[f64]>,
    /// When limbs that come to be straight are not, of the instants at which the world is looked at.
    bent: BTreeMap<usize, Arc<[f64]>>,
}

/// Place and turn, which of them is held in the world; at which instants, always where there are none.
type Held = ([bool; 2], Option<Arc<[f64]>>);

impl Parts<'_> {
    /// Bones of a limb that comes to be straight, and what controls cannot bring where it should be.
    fn is_apart(&self, node: &NodeRef) -> bool {
        let straight = &self.told.departures.straight;
        self.told.unreached.contains_key(node)
            || self.told.bones.contains(node) && straight.contains_key(node)
    }

    /// Whether something drives a node in place of its own curves: couples and rolls add to these.
    fn is_driven(&self, node: &NodeRef) -> bool {
        let is_whole =
            |kind: &ConstraintKind| !matches!(kind, ConstraintKind::Couple(_) | ConstraintKind::Roll(_));
        self.drives(node).any(|index| is_whole(&self.result.constraints[index].kind))
    }

    /// Whether a node is the end of a limb that turns by its own curves.
    fn turns_itself(&self, node: &NodeRef) -> bool {
        let is_own = |kind: &ConstraintKind| match kind {
            ConstraintKind::Limb(limb) => limb.end == *node && limb.end_turn == EndTurn::Own,
            _ => false,
        };
        let mut drives = self.drives(node);
        drives.next().is_some_and(|index| is_own(&self.result.constraints[index].kind))
            && drives.next().is_none()
    }

    /// Whether couples or rolls add to what a node's own curves do.
    fn is_added_to(&self, node: &NodeRef) -> bool {
        self.result.constraints.iter().any(|own| match &own.kind {
            ConstraintKind::Couple(couple) => {
                (couple.channel.target.rig, couple.channel.target.node) == *node
            }
            ConstraintKind::Roll(_) => own.node == *node,
            _ => false,
        })
    }

    /// Why some steps of a node are not compared beside what it hangs on, and which.
    fn excuse(&self, node: &NodeRef) -> Option<(&'static str, OfSteps)> {
        let is_driven = self.is_driven(node);
        // Own curves say what a node does beside what it hangs on, wherever that is; or make up for what is added to them.
        let is_its_own = !is_driven && (!self.is_added_to(node) || self.told.made_up.contains(node));
        if !is_its_own && self.is_apart(node) {
            let of_steps = if self.turns_itself(node) { OfSteps::Others } else { OfSteps::All };
            return Some(("controls cannot bring it there", of_steps));
        }
        let grip = self.told.grips.get(node);
        if let Some(grip) = grip
            && self.above(node).next().is_some_and(|parent| self.is_apart(&parent))
        {
            let of_steps = if grip.turn { OfSteps::All } else { OfSteps::Others };
            return Some(("what it hangs on is elsewhere, and it is where it was", of_steps));
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
        // The bones of a limb turn as their ends stand, and what is driven below beside them: bounded keys are held in the world, at the
        // instants for which these were made. The same keys make up exactly for what is left.
        let has_driver = self.drives(node).next().is_some();
        let is_made_up = !is_driven && self.told.made_up.contains(node) && self.keys == MatchKeys::Same;
        let turns_along = has_driver && !is_made_up && grip.is_none_or(|grip| grip.turn);
        (turns_along && self.is_beside_bones(node)).then_some(("its limb has its place", OfSteps::Rotation))
    }

    /// How a node stands in the world: its place and its turn, each always, at some instants, or beside what it is off there at best.
    fn standings(&self, node: &NodeRef) -> Vec<Standing> {
        if !is_body(self.result, node) {
            return Vec::new();
        }
        let held = match self.keys {
            MatchKeys::Same => self.held_at_keys(node).into_iter().collect(),
            MatchKeys::Bounded => self.held_everywhere(node),
        };
        let one = glam::DQuat::IDENTITY;
        let standing = |([place, turn], at): ([bool; 2], Option<Arc<[f64]>>), slack: [f64; 2]| {
            let references = turn.then_some((one, one));
            Standing { source: *node, result: *node, references, place, at, slack }
        };
        let Some(unreached) = self.told.unreached.get(node) else {
            return held.into_iter().map(|held| standing(held, [0.0; 2])).collect();
        };
        let split = |(parts, at): &Held, is_out: bool| {
            let parts = [0, 1].map(|part| parts[part] && unreached.parts[part] == is_out);
            parts.contains(&true).then(|| (parts, at.clone()))
        };
        let reached = held.iter().filter_map(|held| split(held, false)).map(|held| standing(held, [0.0; 2]));
        // How far off something is at best is known at frames.
        let rest = held.iter().filter_map(|held| split(held, true)).map(|(parts, at)| {
            let at_frames = |at: Arc<[f64]>| at.iter().copied().filter(|time| self.is_frame(*time)).collect();
            let at = at.map_or_else(|| Arc::clone(&self.frames), at_frames);
            standing((parts, Some(at)), unreached.slack())
        });
        reached.chain(rest).collect()
    }

    /// What bounded keys hold of a node: all of it, but how bones of limbs turn, and what goes along. While a limb is straight its bones are
    /// where they are, with what goes with them; what a control holds stands where it stood.
    fn held_everywhere(&self, node: &NodeRef) -> Vec<Held> {
        let (bones, grips) = (&self.told.bones, &self.told.grips);
        let is_made_up = self.told.made_up.contains(node) && !bones.contains(node);
        let all = [true, is_made_up || !turns_with_bones(self.result, *node, bones, grips)];
        let Some(limb) = self.told.departures.along.get(node) else { return vec![(all, None)] };
        let grip = self.told.grips.get(node).map_or([false; 2], |grip| [grip.place, grip.turn]);
        let others = [0, 1].map(|part| all[part] && !grip[part]);
        let bent = self.bent.get(limb).map(Arc::clone);
        [(grip, None), (others, bent)].into_iter().filter(|(parts, _)| parts.contains(&true)).collect()
    }

    /// What the same keys hold of a node in the world, where what holds it has keys: what a control holds whatever it hangs on; and, where all
    /// that moves it has keys, what is aimed and the middle of a limb. All else is compared beside what it hangs on.
    fn held_at_keys(&self, node: &NodeRef) -> Option<Held> {
        if let Some(times) = self.aimed(node) {
            return Some(([false, true], Some(times.into())));
        }
        if let Some(grip) = self.told.grips.get(node) {
            let is_held = grip.alone && self.is_beside_bones(node);
            return is_held.then(|| ([grip.place, grip.turn], Some(self.key_times(grip.control).into())));
        }
        let is_middle =
            |kind: &ConstraintKind| matches!(kind, ConstraintKind::Limb(limb) if limb.lower == *node);
        let alone = self.drives(node).collect::<Vec<usize>>();
        let [limb] = alone.as_slice() else { return None };
        if !is_middle(&self.result.constraints[*limb].kind) {
            return None;
        }
        let straight = self.told.departures.straight_at.get(limb).map_or(&[][..], Vec::as_slice);
        let known = |time: &f64| self.is_frame(*time) && !is_among(straight, *time);
        let times = self.common_times(node).into_iter().filter(known).collect();
        Some(([true, false], Some(times)))
    }

    fn is_frame(&self, time: f64) -> bool {
        is_among(&self.frames, time)
    }

    /// Whether a node hangs on the bones of a limb.
    fn is_beside_bones(&self, node: &NodeRef) -> bool {
        std::iter::once(*node).chain(self.above(node)).any(|above| self.told.bones.contains(&above))
    }

    /// When something that is aimed, and hangs on what is driven, turns as it did with the same keys. Nothing of other nodes.
    fn aimed(&self, node: &NodeRef) -> Option<Vec<f64>> {
        let is_aim = |index: usize| matches!(self.result.constraints[index].kind, ConstraintKind::Aim(_));
        let hangs_on_driven = self.above(node).any(|above| self.drives(&above).next().is_some());
        (hangs_on_driven && self.drives(node).any(is_aim)).then(|| self.common_times(node))
    }

    /// The constraints that drive a node.
    fn drives(&self, node: &NodeRef) -> impl Iterator<Item = usize> + use<'_> {
        let node = *node;
        let all = self.result.constraints.iter().enumerate();
        all.filter(move |(_, constraint)| constraint.drives(node)).map(|(index, _)| index)
    }

    /// What a node hangs on.
    fn above(&self, node: &NodeRef) -> impl Iterator<Item = NodeRef> + use<'_> {
        let (rig, id) = *node;
        let of = &self.motion.rigs[rig];
        std::iter::successors(of.parent(id), |id| of.parent(*id)).map(move |id| (rig, id))
    }

    /// When all that moves a node and what it hangs on has keys.
    fn common_times(&self, node: &NodeRef) -> Vec<f64> {
        let constraints: BTreeSet<usize> =
            std::iter::once(*node).chain(self.above(node)).flat_map(|node| self.drives(&node)).collect();
        let controls: BTreeSet<NodeRef> =
            constraints.into_iter().flat_map(|index| controls_of(self.result, index)).collect();
        let times =
            controls.into_iter().map(|control| self.key_times(control)).filter(|times| !times.is_empty());
        times.reduce(|a, b| a.into_iter().filter(|time| is_among(&b, *time)).collect()).unwrap_or_default()
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

/// Whether an instant is one of some that stand in order.
fn is_among(instants: &[f64], time: f64) -> bool {
    instants.binary_search_by(|own| own.total_cmp(&time)).is_ok()
}

/// Whether a claim holds a node in the world whole and always.
fn is_held(claim: &Claim, node: &NodeRef) -> bool {
    let is_whole = |own: &Standing| own.references.is_some() && own.place && own.at.is_none();
    claim.world.iter().flatten().any(|own| own.result == *node && is_whole(own))
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
        is_even && stages.iter().all(|stage| is_held(stage, node))
    };
    let is_reached = |node: &NodeRef| !excused.contains(node);
    // What hangs on something that is not reached does its own beside that, and not in the world.
    let is_there = |node: &NodeRef| {
        is_reached(node) && (!is_body(result, node) || stages.iter().all(|stage| is_held(stage, node)))
    };
    claim.nodes.retain(|(_, node)| is_reached(node));
    claim.turns.retain(|turn| {
        let own = match turn.beside {
            Some(_) => is_reached(&turn.result),
            None => is_there(&turn.result) || stands(&turn.result),
        };
        own && turn.beside.is_none_or(|beside| is_reached(&beside))
    });
    claim.shifts.retain(|shift| is_reached(&shift.result));
    claim.holds.retain(|hold| is_there(&hold.result.0) && is_there(&hold.result.1));
    claim.amounts.retain(|amount| is_reached(&(amount.result.rig, amount.result.node)));
    // A claim without standings says of places in the world what nobody promised here.
    let standings = claim.world.into_iter().flatten().filter(|own| stands(&own.result));
    claim.world = Some(standings.map(|own| Standing { place: false, ..own }).collect());
    claim
}
