//! Joint motion put onto controls.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::{Addresses, NodeRef};
use nimble_curve_scene::judge::{Claim, Excuse, Sampling, Standing};
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::rig::{NodeKind, ROTATION};
use nimble_curve_scene::scene::{Scene, Take, Target};

use super::away::{Compared, Departures, departures, frames, quarters};
use super::curves::{Channel, Part, Setting, curves, property_of, samples};
use super::duties::{Keyed, Stage, stages};
use super::exact::{exact, rest_of};
use super::instant::Instant;
use super::left::{added_to, with_the_rest};
use super::motion::{Deciding, deciding, is_covered, let_go, motion};
use super::options::{MatchKeys, MatchOptions};
use super::switched::switched;
use super::told::{Told, tell};
use crate::Tolerance;
use crate::control_rig::error::SolveError;
use crate::control_rig::touched::chosen_constraints;
use crate::control_rig::written::{replace, with_three_steps};
use crate::conversion::ConvertedController;

/// A scene whose controls do what its joints did.
#[derive(Clone, Debug)]
pub struct Matched {
    /// The scene.
    pub scene: Scene,
    /// What became of every channel.
    pub ledger: Ledger,
    /// What it should be: claims in terms of scenes in which the joints move as they did.
    pub claims: Vec<MatchClaim>,
}

/// A claim with what it is in terms of.
#[derive(Clone, Debug)]
pub struct MatchClaim {
    /// The scene.
    pub motion: Scene,
    /// That joints move like its own.
    pub claim: Claim,
}

/// How often bounded keys are fitted closer.
const TRIES: usize = 16;

/// Samples a frame that keys are fitted to.
const FINE: u32 = 4;

/// More than this part of the bound off at frames, whatever the keys, and a joint is not reached.
const UNREACHED: f64 = 0.5;

/// What a control does already is let be: so little off in proportion.
const DONE: f64 = 1e-9;

/// Gives controls curves so that the joints that they drive move as they do: by their own curves where they have such, else as
/// constraints have them.
///
/// Each control has to undo what its constraints do, by closed forms: a source stands where what follows it says, a goal where the end of
/// its limb is, a pole to the side to which the middle bends or, where the limb is straight, its hinge says it would. Controls come
/// after those that they hang on, each beside what these came to, so that errors do not add up. Where a control goes with its joint
/// rigidly it has the joint's own curves.
///
/// # Errors
/// See [`SolveError`].
pub fn match_controls(scene: &Scene, options: &MatchOptions) -> Result<Matched, SolveError> {
    let chosen = chosen_constraints(scene, &options.only)?;
    if scene.constraints.is_empty() {
        return Err(SolveError::NoConstraints);
    }
    if chosen.is_empty() && !options.only.is_empty() {
        return Err(SolveError::NotDriven(options.only.join(", ")));
    }
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    let mut motions: Vec<(BTreeSet<usize>, Scene)> = Vec::new();
    let mut claims: Vec<(usize, usize, Told)> = Vec::new();
    let mut controls = 0;
    for index in 0..scene.takes.len() {
        let gone = let_go(scene, &scene.takes[index], &chosen);
        let known = motions.iter().position(|(other, _)| *other == gone);
        let place = known.unwrap_or_else(|| {
            motions.push((gone.clone(), motion(scene, &gone)));
            motions.len() - 1
        });
        let (gone, motion) = (&motions[place].0, &motions[place].1);
        let job = Job { scene, motion, gone, options, chosen: &chosen, index };
        let told = job.run(&mut result)?;
        controls += told.stages;
        tell(scene, &result, index, &told, options, &mut ledger);
        claims.push((index, place, told));
    }
    if controls == 0 && !scene.takes.is_empty() {
        return Err(SolveError::NoControls);
    }
    let claims = claims.into_iter().map(|(take, place, told)| MatchClaim {
        claim: claim(&motions[place].1, &result, take, &told, options),
        motion: motions[place].1.clone(),
    });
    Ok(Matched { claims: claims.collect(), scene: result, ledger })
}

/// One take.
struct Job<'a> {
    scene: &'a Scene,
    motion: &'a Scene,
    /// The constraints that it does without.
    gone: &'a BTreeSet<usize>,
    options: &'a MatchOptions,
    chosen: &'a BTreeSet<usize>,
    index: usize,
}

/// A try with how far it is beyond the bound.
struct Attempt {
    take: Take,
    made: BTreeMap<Target, ConvertedController>,
    /// What couples and rolls leave to own curves, where there is anything.
    rests: Vec<(Target, Option<ConvertedController>)>,
    kept: BTreeSet<NodeRef>,
    beyond: f64,
    departures: Departures,
}

impl Job<'_> {
    fn source(&self) -> &Take {
        &self.scene.takes[self.index]
    }

    fn run(&self, result: &mut Scene) -> Result<Told, SolveError> {
        let mut told = Told::default();
        let take = &mut result.takes[self.index];
        told.switched = switched(self.scene, take, self.chosen, self.options.limbs);
        let found = deciding(self.scene, &result.takes[self.index], self.chosen)?;
        self.without_joints(result, &found, &mut told);
        let stages = stages(self.scene, &found.acting)?;
        told.stages = stages.len();
        for stage in &stages {
            if let Some((rig, id)) = stage.control()
                && let Some(node) = result.rigs[rig].node_mut(id)
                && node.canonical().is_none()
            {
                node.transform = with_three_steps(node);
            }
        }
        if self.options.clear_others {
            let keyed: BTreeSet<NodeRef> = stages.iter().filter_map(Stage::control).collect();
            let others = stages.iter().flat_map(|stage| stage.others.iter().copied());
            told.cleared = others.filter(|other| !keyed.contains(other)).collect();
            let cleared = &told.cleared;
            for layer in result.takes[self.index].layers.iter_mut().filter(|layer| layer.is_active()) {
                layer.tracks.retain(|track| !cleared.contains(&(track.target.rig, track.target.node)));
            }
        }
        let joints: BTreeSet<NodeRef> =
            stages.iter().flat_map(|stage| stage.joints.iter().copied()).collect();
        let limbs: BTreeSet<usize> = (found.acting.iter().copied())
            .filter(|index| self.scene.constraints[*index].kind.name() == "limb")
            .collect();
        // Of a limb the places of its middle and its end are held, and how its end turns: the straighter it is, the more its bones turn
        // for little.
        let bones: BTreeSet<NodeRef> = (limbs.iter())
            .flat_map(|index| self.scene.constraints[*index].driven().into_iter().take(2))
            .collect();
        let empty = result.takes[self.index].clone();
        // What cannot be reached whatever the keys.
        let times = self.key_times(result, &stages)?;
        for (stage, times) in stages.iter().zip(&times) {
            let setting = self.setting(times, &self.options.tolerance, &[], 1);
            let sampled = self.sampled(result, stage, &setting)?;
            for (target, controller) in sampled {
                replace(result, self.index, &target, Some(controller));
            }
        }
        self.rests(result, &found)?;
        let at_frames = frames(self.scene, self.source());
        let (place, turn) = self.limits();
        let compare = |scene: &Scene, times: Vec<f64>, seen: &mut dyn FnMut(NodeRef, f64, f64, f64)| {
            let result = (scene, &scene.takes[self.index]);
            let of =
                Compared { motion: (self.motion, self.source()), result, joints: &joints, limbs: &limbs };
            departures(&of, times.into_iter(), seen)
        };
        let ideal = compare(result, at_frames, &mut |_, _, _, _| {})?;
        let is_far = |(_, departure): &(&NodeRef, &super::away::Departure)| {
            departure.place.0 > UNREACHED * place || departure.turn.0 > UNREACHED * turn
        };
        told.unreached = ideal.all.iter().filter(is_far).map(|(joint, far)| (*joint, *far)).collect();
        let mut rooms: Vec<Vec<f64>> = Vec::new();
        let mut best: Option<Attempt> = None;
        let tries = if self.options.keys == MatchKeys::Same { 1 } else { TRIES };
        for _ in 0..tries {
            result.takes[self.index] = empty.clone();
            let (made, kept) = self.attempt(result, &stages, &times, &mut rooms)?;
            let rests = self.rests(result, &found)?;
            let mut worst: f64 = 0.0;
            let mut over: Vec<(NodeRef, f64, f64)> = Vec::new();
            let looks = quarters(self.scene, self.source()).collect();
            let found = compare(result, looks, &mut |joint, time, far, angle| {
                if told.unreached.contains_key(&joint) {
                    return;
                }
                let angle = if bones.contains(&joint) { 0.0 } else { angle };
                let used = (far / place).max(angle / turn);
                worst = worst.max(used);
                if used > 1.0 {
                    over.push((joint, time, used));
                }
            })?;
                eprintln!(
                    "try worst {worst} over {} keys {:?} over {:?} unreached {:?}",
                    over.len(),
                    made.iter()
                        .map(|(t, m)| (t.property.clone(), m.controller.value_count(), m.error))
                        .collect::<Vec<_>>(),
                    over.iter().max_by(|a, b| a.2.total_cmp(&b.2)),
                    told.unreached
                );
            }
            let take = result.takes[self.index].clone();
            if best.as_ref().is_none_or(|best| worst < best.beyond) {
                best = Some(Attempt { take, made, rests, kept, beyond: worst, departures: found });
            }
            if worst <= 1.0 || self.options.keys == MatchKeys::Same {
                break;
            }
            self.narrow(&stages, &mut rooms, &over);
        }
        if let Some(best) = best {
            result.takes[self.index] = best.take;
            told.made = best.made;
            told.kept = best.kept;
            for (target, made) in best.rests {
                match made {
                    Some(made) => drop(told.rests.insert(target, made)),
                    None => drop(told.gone.insert(target)),
                }
            }
            told.departures = best.departures;
        }
        told.bones = bones;
        told.joints = joints;
        Ok(told)
    }

    /// Takes out curves of joints that count for nothing.
    fn without_joints(&self, result: &mut Scene, found: &Deciding, told: &mut Told) {
        let scene = self.scene;
        for layer in result.takes[self.index].layers.iter_mut().filter(|layer| layer.is_active()) {
            layer.tracks.retain(|track| {
                let goes = is_covered(found, scene, &track.target);
                if goes {
                    told.gone.insert(track.target.clone());
                }
                !goes
            });
        }
    }

    /// What couples and rolls leave to own curves.
    fn rests(
        &self,
        result: &mut Scene,
        found: &Deciding,
    ) -> Result<Vec<(Target, Option<ConvertedController>)>, SolveError> {
        let mut all = Vec::new();
        for target in added_to(self.scene, self.gone) {
            if !is_covered(found, self.scene, &target) {
                let motion = (self.motion, self.source());
                let made = with_the_rest(motion, result, self.index, &target, self.options)?;
                all.push((target, made));
            }
        }
        Ok(all)
    }

    /// The bound in the world, in units of the scene and radians.
    fn limits(&self) -> (f64, f64) {
        let tolerance = &self.options.tolerance;
        (tolerance.of(Quantity::Length, &self.scene.space), tolerance.angle)
    }

    fn setting<'s>(
        &self,
        times: &'s [Ticks],
        tolerance: &Tolerance,
        room: &'s [f64],
        fine: u32,
    ) -> Setting<'s> {
        Setting {
            keys: self.options.keys,
            rate: self.scene.rate,
            fine,
            between_frames: self.options.between_frames,
            range: self.source().range,
            times,
            tolerance: [tolerance.of(Quantity::Length, &self.scene.space), tolerance.angle],
            room,
        }
    }

    /// When what each stage has to follow has keys.
    fn key_times(&self, result: &Scene, stages: &[Stage]) -> Result<Vec<Vec<Ticks>>, SolveError> {
        let motion = (self.motion, self.source());
        super::times::key_times(motion, result, stages).map_err(SolveError::from)
    }

    /// Samples of what a stage has to do.
    fn sampled(
        &self,
        result: &Scene,
        stage: &Stage,
        setting: &Setting<'_>,
    ) -> Result<Vec<(Target, nimble_curve_scene::controller::Controller)>, SolveError> {
        let so_far = (result, &result.takes[self.index]);
        let instant = RefCell::new(Instant::new((self.motion, self.source()), so_far, stage)?);
        let channels = channels(result, stage);
        Ok(channels
            .into_iter()
            .map(|channel| (channel.target.clone(), samples(&instant, &channel, setting)))
            .collect())
    }

    /// Curves of all stages, put into the take.
    fn attempt(
        &self,
        result: &mut Scene,
        stages: &[Stage],
        times: &[Vec<Ticks>],
        rooms: &mut Vec<Vec<f64>>,
    ) -> Result<(BTreeMap<Target, ConvertedController>, BTreeSet<NodeRef>), SolveError> {
        let addresses = Addresses::new(self.scene);
        let (mut all, mut kept) = (BTreeMap::new(), BTreeSet::new());
        for (at, (stage, times)) in stages.iter().zip(times).enumerate() {
            if rooms.len() <= at {
                rooms.push(Vec::new());
            }
            let tolerance = self.tolerance_of(stage);
            let setting = self.setting(times, &tolerance, &rooms[at], FINE);
            let made = {
                let so_far = (&*result, &result.takes[self.index]);
                let motion = (self.motion, self.source());
                let instant = RefCell::new(Instant::new(motion, so_far, stage)?);
                if self.is_done(&instant, times) {
                    kept.extend(stage.control());
                    continue;
                }
                let channels = channels(result, stage);
                let mut exactly = Vec::with_capacity(channels.len());
                let mut left = Vec::new();
                for channel in channels {
                    let found = duty_of(stage, channel.part).and_then(|duty| {
                        exact(self.scene, self.source(), stage, &duty, (&instant, &channel), &setting)
                    });
                    match found {
                        Some(made) => exactly.push((channel.target, made)),
                        None => left.push(channel),
                    }
                }
                let name = |why| SolveError::NotConvertible {
                    channel: left.first().map(|own| addresses.property(&own.target)).unwrap_or_default(),
                    why,
                };
                let fitted = curves(&instant, &left, &setting).map_err(name)?;
                exactly.extend(left.into_iter().map(|channel| channel.target).zip(fitted));
                exactly
            };
            if rooms[at].is_empty() {
                rooms[at] = vec![1.0; setting.grid().len()];
            }
            for (target, made) in made {
                replace(result, self.index, &target, Some(made.controller.clone()));
                all.insert(target, made);
            }
        }
        Ok((all, kept))
    }

    /// Whether a control does already what it has to.
    fn is_done(&self, instant: &RefCell<Instant<'_>>, times: &[Ticks]) -> bool {
        let looks = quarters(self.scene, self.source());
        let all = times.iter().map(|time| time.as_f64()).chain(looks);
        let mut instant = instant.borrow_mut();
        all.into_iter().all(|time| instant.at(time).away <= DONE)
    }

    /// What a control may be off so that joints are off by no more than the bound: a pole turns the middle about a far shorter arm
    /// than its own.
    fn tolerance_of(&self, stage: &Stage) -> Tolerance {
        let base = self.options.tolerance.times(0.9);
        let Keyed::Control { place: Some(duty), .. } = &stage.keyed else { return base };
        if duty.serves != nimble_curve_scene::evaluate::Serves::Pole {
            return base;
        }
        Tolerance { length: base.length * 2.0, ..base }
    }

    /// Leaves less room where joints are too far off.
    fn narrow(&self, stages: &[Stage], rooms: &mut [Vec<f64>], over: &[(NodeRef, f64, f64)]) {
        let setting = self.setting(&[], &self.options.tolerance, &[], FINE);
        let grid = setting.grid();
        let step = setting.samples().ticks_per_frame();
        let below = |joint: NodeRef, above: &BTreeSet<NodeRef>| {
            let rig = &self.scene.rigs[joint.0];
            let up = std::iter::successors(Some(joint.1), |id| rig.parent(*id));
            up.into_iter().any(|id| above.contains(&(joint.0, id)))
        };
        for (stage, room) in stages.iter().zip(rooms) {
            let mut parts = vec![1.0_f64; room.len()];
            for (joint, time, used) in over {
                let own = stage.joints.contains(joint);
                if !own && !below(*joint, &stage.joints) {
                    continue;
                }
                let at = (time - grid[0].as_f64()) / step;
                let reach = i64::from(2 * FINE);
                let from = (at.floor() as i64 - reach).max(0) as usize;
                let to = ((at.ceil() as i64 + reach).max(0) as usize).min(room.len().saturating_sub(1));
                let less = 0.95 / used;
                // What is far below has other reasons as well.
                let less = if own { less } else { less.max(0.5) };
                parts.iter_mut().take(to + 1).skip(from).for_each(|part| *part = part.min(less));
            }
            room.iter_mut().zip(parts).for_each(|(room, part)| *room = (*room * part).max(0.01));
        }
    }
}

fn duty_of(stage: &Stage, part: Part) -> Option<super::duties::Duty> {
    match (&stage.keyed, part) {
        (Keyed::Control { place, .. }, Part::Place) => *place,
        (Keyed::Control { turn, .. }, Part::Turn) => *turn,
        _ => None,
    }
}

/// The channels of a stage.
fn channels(scene: &Scene, stage: &Stage) -> Vec<Channel> {
    let channel = |part: Part, target: Target| {
        let rest = rest_of(scene, &target).or_else(|| {
            let node = scene.rigs[target.rig].node(target.node)?;
            let bare = nimble_curve_scene::rig::Node { transform: with_three_steps(node), ..node.clone() };
            Some(crate::control_rig::written::rest_of(&bare, &target.property))
        });
        Channel { part, target, rest: rest.unwrap_or(Value::Number(0.0)) }
    };
    match &stage.keyed {
        Keyed::Control { control: (rig, id), place, turn } => {
            let parts = [(Part::Place, place.is_some()), (Part::Turn, turn.is_some())];
            let wanted = parts.into_iter().filter(|(_, has)| *has);
            wanted.map(|(part, _)| channel(part, Target::new(*rig, *id, property_of(part)))).collect()
        }
        Keyed::Twist { target, .. } => vec![channel(Part::Twist, target.clone())],
    }
}

/// That joints move as they did: those that are reached, beside what is above them and in the world.
fn claim(motion: &Scene, result: &Scene, take: usize, told: &Told, options: &MatchOptions) -> Claim {
    let mut claim = Claim::same(motion, result);
    claim.spans.retain(|span| span.result == take);
    claim.takes_chosen = motion.takes.len() > 1;
    let span = motion.takes.iter().position(|own| own.name == result.takes[take].name).unwrap_or(take);
    let why = "controls have what joints did".to_owned();
    let changed = told.changed_steps(result).into_iter();
    claim.excuses.extend(changed.map(|target| Excuse { take: span, target, why: why.clone() }));
    let is_apart =
        |node: &NodeRef| told.unreached.contains_key(node) || told.departures.straight.contains_key(node);
    for (node, _) in claim.nodes.iter().filter(|(_, node)| is_apart(node)) {
        let steps = motion.rigs[node.0].node(node.1).map(|of| of.transform.as_slice()).unwrap_or_default();
        let target =
            |step: &nimble_curve_scene::rig::TransformOp| Target::new(node.0, node.1, step.name.clone());
        let why = "controls cannot bring it there".to_owned();
        claim.excuses.extend(steps.iter().map(|step| Excuse {
            take: span,
            target: target(step),
            why: why.clone(),
        }));
    }
    // The bones of a limb turn as their ends stand, and the end beside them.
    let beside = told.joints.iter().filter(|node| {
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
    let is_body = |node: &NodeRef| {
        let kind = result.rigs[node.0].node(node.1).map(|of| of.kind);
        !matches!(kind, Some(NodeKind::Control | NodeKind::Locator) | None) && !is_apart(node)
    };
    let one = glam::DQuat::IDENTITY;
    let standing = |(source, node): &(NodeRef, NodeRef)| Standing {
        source: *source,
        result: *node,
        references: (!told.bones.contains(node)).then_some((one, one)),
        place: true,
    };
    let same = options.keys == MatchKeys::Same;
    let standings = claim.nodes.iter().filter(|(_, node)| is_body(node) && !same);
    claim.world = Some(standings.map(standing).collect());
    if same {
        claim.sampling = Sampling::Keys;
    }
    claim
}
