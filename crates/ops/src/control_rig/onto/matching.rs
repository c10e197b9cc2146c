//! Joint motion put onto controls.

use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_curves::time::Ticks;
use nimble_curve_curves::value::Quantity;
use nimble_curve_scene::address::NodeRef;
use nimble_curve_scene::evaluate::driving;
use nimble_curve_scene::judge::Claim;
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::scene::{Scene, Take, Target};

use super::away::{Compared, Departures, Unreached, departures, frames, quarters};
use super::claims::claim;
use super::content::content;
use super::duties::{Grip, Stage, grips, stages, turns_with_bones};
use super::keying::{FINE, Keying, Room, Used};
use super::left::{added_to, with_the_rest};
use super::motion::{Deciding, deciding, is_body, is_covered, let_go, motion};
use super::options::{BetweenFrames, MatchKeys, MatchOptions};
use super::switched::switched;
use super::told::{Told, tell};
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

/// What is farther off than so many times the bound, and comes no nearer in so many tries, is not fitted closer.
const HOPELESS: (f64, usize) = (3.0, 3);

/// Samples a frame of what controls have to do, where keys between frames are asked for: keys that stand close to sharp turns are so many
/// parts of a frame apart.
const FINEST: u32 = 16;

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
    let mut result = scene.clone();
    let mut ledger = Ledger::default();
    let mut motions: Vec<(BTreeSet<usize>, Scene)> = Vec::new();
    let mut claims: Vec<(usize, usize, MatchKeys, Told)> = Vec::new();
    let mut controls = 0;
    for index in 0..scene.takes.len() {
        let gone = let_go(scene, &scene.takes[index], &chosen);
        let known = motions.iter().position(|(other, _)| *other == gone);
        let place = known.unwrap_or_else(|| {
            motions.push((gone.clone(), motion(scene, &gone)));
            motions.len() - 1
        });
        let (gone, motion) = (&motions[place].0, &motions[place].1);
        let is_sampled = is_sampled(motion, &scene.takes[index], scene, &chosen)?;
        let between = options.between_frames == BetweenFrames::Always;
        let job = Job { scene, motion, gone, options, chosen: &chosen, index, is_sampled, between };
        let told = job.run(&mut result)?;
        controls += told.stages;
        let limit = options.tolerance.angle;
        tell((scene, &result), index, &told, (job.keys(), limit), &mut ledger);
        if job.keys() != options.keys {
            let name = &scene.takes[index].name;
            ledger.notes.push(format!(
                "{name}: joints are sampled, so that keys stand where the bound asks for them"
            ));
        }
        claims.push((index, place, job.keys(), told));
    }
    if controls == 0 && !scene.takes.is_empty() {
        return Err(SolveError::NoControls);
    }
    let claims = claims.into_iter().map(|(take, place, keys, told)| MatchClaim {
        claim: claim(&motions[place].1, &result, take, &told, keys),
        motion: motions[place].1.clone(),
    });
    Ok(Matched { claims: claims.collect(), scene: result, ledger })
}

/// One take.
#[derive(Clone, Copy)]
struct Job<'a> {
    scene: &'a Scene,
    motion: &'a Scene,
    /// The constraints that it does without.
    gone: &'a BTreeSet<usize>,
    options: &'a MatchOptions,
    chosen: &'a BTreeSet<usize>,
    index: usize,
    /// Whether joints are samples: between these nobody knows the motion.
    is_sampled: bool,
    /// Whether keys stand between frames.
    between: bool,
}

/// What is measured of a take.
struct Measured {
    /// Joints with what hangs on them.
    joints: BTreeSet<NodeRef>,
    /// The limbs among what drives them.
    limbs: BTreeSet<usize>,
    /// The upper and lower joints of these.
    bones: BTreeSet<NodeRef>,
    /// What controls hold in the world.
    grips: BTreeMap<NodeRef, Grip>,
    /// What turns as these joints do.
    turning_along: BTreeSet<NodeRef>,
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

    /// Where keys stand: samples have none.
    fn keys(&self) -> MatchKeys {
        if self.is_sampled { MatchKeys::Bounded } else { self.options.keys }
    }

    fn keying(&self) -> Keying<'_> {
        Keying {
            scene: self.scene,
            motion: self.motion,
            index: self.index,
            range: self.source().range,
            within: false,
            keys: self.keys(),
            fine: if self.is_sampled { 1 } else { FINE },
            between_frames: self.between,
            tolerance: self.options.tolerance,
            done: DONE,
        }
    }

    fn run(&self, result: &mut Scene) -> Result<Told, SolveError> {
        if self.options.between_frames != BetweenFrames::WhereNeeded {
            return Ok(self.run_kept(result)?.0);
        }
        let before = (result.takes[self.index].clone(), result.rigs.clone());
        let (told, beyond) = self.run_kept(result)?;
        if beyond <= 1.0 {
            return Ok(told);
        }
        let on_frames = std::mem::replace(&mut result.takes[self.index], before.0);
        let rigs = std::mem::replace(&mut result.rigs, before.1);
        let (mut finer, left) = Job { between: true, ..*self }.run_kept(result)?;
        if left < beyond {
            finer.between = true;
            return Ok(finer);
        }
        (result.takes[self.index], result.rigs) = (on_frames, rigs);
        Ok(told)
    }

    /// Keys controls, but those that do it near enough where that may be and is enough; also by how much of the bound joints are off.
    fn run_kept(&self, result: &mut Scene) -> Result<(Told, f64), SolveError> {
        if self.options.near_enough && self.keys() == MatchKeys::Bounded {
            let (before, rigs) = (result.takes[self.index].clone(), result.rigs.clone());
            let (told, beyond) = self.run_but(result, true)?;
            if told.kept.is_empty() || beyond <= 1.0 {
                return Ok((told, beyond));
            }
            // What is left of the bound beside them is not enough for the others.
            (result.takes[self.index], result.rigs) = (before, rigs);
        }
        self.run_but(result, false)
    }

    /// Keys all controls, or all but those that do it near enough; also by how much of the bound joints are off.
    fn run_but(&self, result: &mut Scene, near_enough: bool) -> Result<(Told, f64), SolveError> {
        let mut told = Told::default();
        let take = &mut result.takes[self.index];
        told.switched = switched(self.scene, take, self.chosen, self.options.limbs);
        let found = deciding(self.scene, &result.takes[self.index], self.chosen)?;
        self.without_joints(result, &found, &mut told);
        let stages = stages(self.scene, &found.acting)?;
        told.stages = stages.len();
        told.locked = self.keying().locked(&stages);
        for stage in &stages {
            if let Some((rig, id)) = stage.control()
                && let Some(node) = result.rigs[rig].node_mut(id)
                && node.canonical().is_none()
            {
                node.transform = with_three_steps(node);
            }
        }
        told.cleared = self.clear_others(result, &stages);
        let mut joints: BTreeSet<NodeRef> =
            stages.iter().flat_map(|stage| stage.joints.iter().copied()).collect();
        // What no control undoes, as what follows several sources, is measured and told as well.
        let driven = found.acting.iter().flat_map(|index| self.scene.constraints[*index].driven());
        joints.extend(driven.filter(|node| is_body(self.scene, node)));
        let limbs: BTreeSet<usize> = (found.acting.iter().copied())
            .filter(|index| self.scene.constraints[*index].kind.name() == "limb")
            .collect();
        // Of a limb the places of its middle and its end are held, and how its end turns: the straighter it is, the more its bones turn
        // for little.
        let bones: BTreeSet<NodeRef> = (limbs.iter())
            .flat_map(|index| self.scene.constraints[*index].driven().into_iter().take(2))
            .collect();
        let grips = grips(self.scene, &found.acting);
        let all = with_all_below(self.scene, &joints);
        // What own curves make up for turns as it did.
        let own: BTreeSet<NodeRef> =
            added_to(self.scene, self.gone).iter().map(|target| (target.rig, target.node)).collect();
        let turns_along = |joint: &&NodeRef| {
            bones.contains(joint)
                || !own.contains(joint) && turns_with_bones(self.scene, **joint, &bones, &grips)
        };
        let turning_along = all.iter().filter(turns_along).copied().collect();
        let of = Measured { joints: all, limbs, bones, grips, turning_along };
        let empty = result.takes[self.index].clone();
        // What cannot be reached whatever the keys.
        let times = self.keying().key_times(result, &stages)?;
        let kept = match near_enough {
            true => content(self.scene, &stages, |kept| {
                result.takes[self.index] = empty.clone();
                self.sample(result, (&stages, &times, kept), &found)?;
                self.used(result, &of, &BTreeMap::new()).map(|(used, _)| used)
            })?,
            false => BTreeSet::new(),
        };
        told.kept = kept.iter().filter_map(|index| stages[*index].control()).collect();
        if !kept.is_empty() {
            result.takes[self.index] = empty.clone();
        }
        self.sample(result, (&stages, &times, &kept), &found)?;
        let is_keyed = |(index, _): &(usize, _)| !kept.contains(index);
        let times: Vec<Vec<Ticks>> = times
            .into_iter()
            .enumerate()
            .filter(|(index, _)| !kept.contains(index))
            .map(|(_, own)| own)
            .collect();
        let stages: Vec<Stage> =
            stages.into_iter().enumerate().filter(is_keyed).map(|(_, own)| own).collect();
        let mut looks = frames(self.scene.rate, self.source().range);
        // Where the same keys stand between frames it is asked there, too, as well as samples tell.
        looks.extend(self.keys_between(&times).into_iter().map(Ticks::as_f64));
        looks.sort_by(f64::total_cmp);
        told.unkeyed = (joints.iter())
            .filter(|joint| !stages.iter().any(|stage| stage.joints.contains(joint)))
            .copied()
            .collect();
        let ideal = self.compare(result, &of, looks, &mut |_, _, _, _| {})?;
        let far: BTreeMap<NodeRef, Unreached> = (ideal.all.iter())
            .map(|(joint, best)| {
                let (place, turn) = self.limits();
                // Whoever does it near enough is not out of reach.
                let is_near = best.place.0 <= place && best.turn.0 <= turn && !kept.is_empty();
                let parts = [best.place.0 > UNREACHED * place, best.turn.0 > UNREACHED * turn];
                (*joint, Unreached { best: *best, parts: parts.map(|is_far| is_far && !is_near) })
            })
            .filter(|(_, unreached)| unreached.parts.contains(&true))
            .collect();
        told.unkeyed.retain(|joint| !own.contains(joint));
        let unreached: BTreeSet<NodeRef> = far.keys().filter(|joint| !own.contains(joint)).copied().collect();
        // What is left to own curves still hangs where it hangs.
        let below = with_all_below(self.scene, &unreached);
        told.unreached = far.into_iter().filter(|(joint, _)| below.contains(joint)).collect();
        let best = self.best(result, &empty, (&stages, &times, &found), (&of, &told.unreached))?;
        let mut beyond = 0.0;
        if let Some(best) = best {
            result.takes[self.index] = best.take;
            beyond = best.beyond;
            told.made = best.made;
            told.kept.extend(best.kept);
            for (target, made) in best.rests {
                match made {
                    Some(made) => drop(told.rests.insert(target, made)),
                    None => drop(told.gone.insert(target)),
                }
            }
            told.departures = best.departures;
        }
        (told.bones, told.grips, told.made_up) = (of.bones, of.grips, own);
        told.joints = joints;
        Ok((told, beyond))
    }

    /// Takes out the curves of other controls on the way to the same joints, where that is asked for; which these are.
    fn clear_others(&self, result: &mut Scene, stages: &[Stage]) -> BTreeSet<NodeRef> {
        if !self.options.clear_others {
            return BTreeSet::new();
        }
        let keyed: BTreeSet<NodeRef> = stages.iter().filter_map(Stage::control).collect();
        let others = stages.iter().flat_map(|stage| stage.others.iter().copied());
        let cleared: BTreeSet<NodeRef> = others.filter(|other| !keyed.contains(other)).collect();
        for layer in result.takes[self.index].layers.iter_mut().filter(|layer| layer.is_active()) {
            layer.tracks.retain(|track| !cleared.contains(&(track.target.rig, track.target.node)));
        }
        cleared
    }

    /// Keys controls closer and closer until joints are within the bound; the best of the tries.
    fn best(
        &self,
        result: &mut Scene,
        empty: &Take,
        (stages, times, found): (&[Stage], &[Vec<Ticks>], &Deciding),
        (of, unreached): (&Measured, &BTreeMap<NodeRef, Unreached>),
    ) -> Result<Option<Attempt>, SolveError> {
        let keying = self.keying();
        let mut rooms: Vec<Room> = Vec::new();
        let mut best: Option<Attempt> = None;
        let mut in_vain = 0;
        let tries = if self.keys() == MatchKeys::Same { 1 } else { TRIES };
        for tried in 0..tries {
            result.takes[self.index] = empty.clone();
            let (made, kept) = keying.attempt(result, stages, times, &mut rooms)?;
            let rests = self.rests(result, found)?;
            let (used, departures) = self.used(result, of, unreached)?;
            let beyond = used.most();
            let take = result.takes[self.index].clone();
            in_vain =
                if best.as_ref().is_some_and(|best| beyond > 0.9 * best.beyond) { in_vain + 1 } else { 0 };
            if best.as_ref().is_none_or(|best| beyond < best.beyond) {
                best = Some(Attempt { take, made, rests, kept, beyond, departures });
            }
            let is_hopeless = in_vain >= HOPELESS.1 && beyond > HOPELESS.0;
            if beyond <= 1.0 || self.keys() == MatchKeys::Same || is_hopeless {
                break;
            }
            keying.narrow(stages, &mut rooms, (&used, tried));
        }
        Ok(best)
    }

    /// Puts samples of what they have to do on all controls but some, and what is left beside them.
    fn sample(
        &self,
        result: &mut Scene,
        (stages, times, but): (&[Stage], &[Vec<Ticks>], &BTreeSet<usize>),
        found: &Deciding,
    ) -> Result<(), SolveError> {
        let keying = self.keying();
        let fine = if self.keys_between(times).is_empty() { 1 } else { FINEST };
        for (index, (stage, times)) in stages.iter().zip(times).enumerate() {
            if but.contains(&index) {
                continue;
            }
            let setting = keying.setting(times, &self.options.tolerance, &[], fine);
            for (target, controller) in keying.sampled(result, stage, &setting)? {
                replace(result, self.index, &target, Some(controller));
            }
        }
        self.rests(result, found).map(drop)
    }

    /// How far joints of a result are off at some times.
    fn compare(
        &self,
        result: &Scene,
        of: &Measured,
        times: Vec<f64>,
        seen: &mut dyn FnMut(NodeRef, f64, f64, f64),
    ) -> Result<Departures, SolveError> {
        let compared = Compared {
            motion: (self.motion, self.source()),
            result: (result, &result.takes[self.index]),
            joints: &of.joints,
            limbs: &of.limbs,
            bones: &of.bones,
            grips: &of.grips,
        };
        Ok(departures(&compared, times.into_iter(), seen)?)
    }

    /// The parts of the bound that joints of a result use up, beside what they are off at best.
    fn used(
        &self,
        result: &Scene,
        of: &Measured,
        unreached: &BTreeMap<NodeRef, Unreached>,
    ) -> Result<(Used, Departures), SolveError> {
        let mut used = Used::default();
        let (place, turn) = self.limits();
        let (rate, range) = (self.scene.rate, self.source().range);
        let looks = if self.is_sampled { frames(rate, range) } else { quarters(rate, range).collect() };
        let found = self.compare(result, of, looks, &mut |joint, time, far, angle| {
            // What is not reached is known at frames, and as near there as can be.
            let at_best = unreached.get(&joint);
            let frame = time / rate.ticks_per_frame();
            let part = |part: usize, off: f64, limit: f64| match at_best {
                Some(own) if own.parts[part] && (frame - frame.round()).abs() > 1e-6 => 0.0,
                Some(own) => (off - own.slack()[part]).max(0.0) / limit,
                None => off / limit,
            };
            let angle = if of.turning_along.contains(&joint) { 0.0 } else { part(1, angle, turn) };
            used.take(joint, time, part(0, far, place).max(angle));
        })?;
        Ok((used, found))
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
                let made = with_the_rest(
                    motion,
                    result,
                    self.index,
                    &target,
                    (self.keys(), &self.options.tolerance),
                )?;
                all.push((target, made));
            }
        }
        Ok(all)
    }

    /// The times between frames at which the same keys stand.
    fn keys_between(&self, times: &[Vec<Ticks>]) -> BTreeSet<Ticks> {
        let rate = self.scene.rate;
        let is_between = |time: &&Ticks| {
            let frame = rate.frame(**time);
            (frame - frame.round()).abs() > 1e-3
        };
        match self.keys() {
            MatchKeys::Same => times.iter().flatten().filter(is_between).copied().collect(),
            MatchKeys::Bounded => BTreeSet::new(),
        }
    }

    /// The bound in the world, in units of the scene and radians.
    fn limits(&self) -> (f64, f64) {
        let tolerance = &self.options.tolerance;
        (tolerance.of(Quantity::Length, &self.scene.space), tolerance.angle)
    }
}

/// Whether anything that moves what some constraints drive is samples.
fn is_sampled(
    motion: &Scene,
    take: &Take,
    scene: &Scene,
    chosen: &BTreeSet<usize>,
) -> Result<bool, SolveError> {
    let joints = chosen.iter().flat_map(|index| scene.constraints[*index].driven());
    let (nodes, _) = driving(motion, joints)?;
    let nodes: BTreeSet<NodeRef> = nodes.into_iter().collect();
    let mut sampled = take.active_tracks().filter(|(_, track)| track.controller.samples().is_some());
    Ok(sampled.any(|(_, track)| nodes.contains(&(track.target.rig, track.target.node))))
}

/// Joints with all that hangs on them but controls and what serves these.
fn with_all_below(scene: &Scene, joints: &BTreeSet<NodeRef>) -> BTreeSet<NodeRef> {
    let mut all = joints.clone();
    for (index, rig) in scene.rigs.iter().enumerate() {
        // Parents come first.
        for (id, _) in rig.nodes() {
            let hangs = rig.parent(id).is_some_and(|parent| all.contains(&(index, parent)));
            if hangs && is_body(scene, &(index, id)) {
                all.insert((index, id));
            }
        }
    }
    all
}
