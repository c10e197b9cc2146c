//! Controls keyed one after the other, each beside what those before it came to.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};

use nimble_curve_curves::time::{Ticks, TimeRange};
use nimble_curve_curves::value::{Quantity, Value};
use nimble_curve_scene::address::{Addresses, COMPONENTS, NodeRef};
use nimble_curve_scene::evaluate::Serves;
use nimble_curve_scene::scene::{Scene, Take, Target};

use super::away::quarters;
use super::curves::{Channel, Part, Setting, curves, property_of, samples};
use super::duties::{Duty, Keyed, Stage};
use super::exact::{exact, rest_of};
use super::instant::Instant;
use super::locks::{locked, unlocked};
use super::options::MatchKeys;
use super::spliced::{near, put_into};
use crate::Tolerance;
use crate::control_rig::error::SolveError;
use crate::control_rig::written::{replace, with_three_steps};
use crate::conversion::ConvertedController;

/// Samples a frame that keys are fitted to where curves move the joints: between samples nobody knows the motion.
pub const FINE: u32 = 4;

/// So much of the bound a joint uses up at least that is at fault for what hangs on it.
const BLAMED: f64 = 0.05;

/// The least part of the bound that is tried.
const LEAST: f64 = 0.01;

/// What a stage may be off, and what came of it.
#[derive(Default)]
pub struct Room {
    /// The part of its tolerance at each sample.
    parts: Vec<f64>,
    is_narrowed: bool,
    /// What was found last: nothing where the control does already what it has to.
    known: Option<Option<Vec<(Target, ConvertedController)>>>,
}

/// The parts of what is allowed that joints use up.
#[derive(Default)]
pub struct Used {
    /// By joint, at one time after the other.
    by_joint: BTreeMap<NodeRef, Vec<(f64, f64)>>,
}

impl Used {
    /// Takes in what a joint uses up at a time.
    pub fn take(&mut self, joint: NodeRef, time: f64, used: f64) {
        self.by_joint.entry(joint).or_default().push((time, used));
    }

    /// The most that any uses up.
    pub fn most(&self) -> f64 {
        self.by_joint.values().flatten().map(|(_, used)| *used).fold(0.0, f64::max)
    }

    /// The joints that use up more than there is.
    pub fn beyond(&self) -> BTreeSet<NodeRef> {
        let is_beyond = |looks: &[(f64, f64)]| looks.iter().any(|(_, used)| *used > 1.0);
        self.by_joint.iter().filter(|(_, looks)| is_beyond(looks)).map(|(joint, _)| *joint).collect()
    }

    /// The most that some of them use up at a time; all that is allowed where they were not seen.
    fn of(&self, joints: &BTreeSet<NodeRef>, time: f64) -> f64 {
        let at = |joint: &NodeRef| {
            let looks = self.by_joint.get(joint)?;
            let place = looks.binary_search_by(|(own, _)| own.total_cmp(&time)).ok()?;
            Some(looks[place].1)
        };
        joints.iter().filter_map(at).reduce(f64::max).unwrap_or(1.0)
    }
}

/// So many times room is narrowed by no more than has to be.
const PATIENT: usize = 6;

/// One take, and how its controls are keyed.
pub struct Keying<'a> {
    /// As it is.
    pub scene: &'a Scene,
    /// In which joints move as they should.
    pub motion: &'a Scene,
    pub index: usize,
    /// When.
    pub range: TimeRange,
    /// Whether curves of controls stay as they are outside the range.
    pub within: bool,
    pub keys: MatchKeys,
    pub between_frames: bool,
    /// Samples a frame that keys are fitted to.
    pub fine: u32,
    /// How far curves may be off.
    pub tolerance: Tolerance,
    /// What a control does already is let be: so little off, in proportion.
    pub done: f64,
}

/// What was made, and who did it already.
pub type Made = (BTreeMap<Target, ConvertedController>, BTreeSet<NodeRef>);

impl Keying<'_> {
    pub fn source(&self) -> &Take {
        &self.scene.takes[self.index]
    }

    pub fn setting<'s>(
        &self,
        times: &'s [Ticks],
        tolerance: &Tolerance,
        room: &'s [f64],
        fine: u32,
    ) -> Setting<'s> {
        Setting {
            keys: self.keys,
            rate: self.scene.rate,
            fine,
            between_frames: self.between_frames,
            range: self.range,
            times,
            tolerance: [tolerance.of(Quantity::Length, &self.scene.space), tolerance.angle],
            room,
        }
    }

    /// When what each stage has to follow has keys.
    pub fn key_times(&self, result: &Scene, stages: &[Stage]) -> Result<Vec<Vec<Ticks>>, SolveError> {
        let motion = (self.motion, self.source());
        super::times::key_times(motion, result, stages).map_err(SolveError::from)
    }

    /// Channels of controls that would be keyed were they not locked.
    pub fn locked(&self, stages: &[Stage]) -> BTreeSet<String> {
        let addresses = Addresses::new(self.scene);
        let mut all = BTreeSet::new();
        for channel in stages.iter().flat_map(|stage| channels(self.scene, stage)) {
            let address = addresses.property(&channel.target);
            match locked(self.scene, &channel.target) {
                [true, true, true] => drop(all.insert(address)),
                some => {
                    let components = COMPONENTS.iter().zip(some).filter(|(_, is_locked)| *is_locked);
                    all.extend(components.map(|(name, _)| format!("{address}.{name}")));
                }
            }
        }
        all
    }

    /// Samples of what a stage has to do.
    pub fn sampled(
        &self,
        result: &Scene,
        stage: &Stage,
        setting: &Setting<'_>,
    ) -> Result<Vec<(Target, nimble_curve_scene::controller::Controller)>, SolveError> {
        let so_far = (result, &result.takes[self.index]);
        let instant = RefCell::new(Instant::new((self.motion, self.source()), so_far, stage)?);
        let channels = channels(result, stage);
        let sampled = |channel: Channel| {
            let made = samples(&instant, &channel, setting);
            Some((channel.target.clone(), unlocked(result, self.source(), &channel.target, made)?))
        };
        Ok(channels.into_iter().filter_map(sampled).collect())
    }

    /// Curves of all stages, put into the take. What was found before stays where neither its room nor what it hangs on changed.
    pub fn attempt(
        &self,
        result: &mut Scene,
        stages: &[Stage],
        times: &[Vec<Ticks>],
        rooms: &mut Vec<Room>,
    ) -> Result<Made, SolveError> {
        let (mut all, mut kept) = (BTreeMap::new(), BTreeSet::new());
        let mut changed: BTreeSet<NodeRef> = BTreeSet::new();
        rooms.resize_with(stages.len(), Room::default);
        for ((stage, times), room) in stages.iter().zip(times).zip(rooms) {
            let stays = !room.is_narrowed && stage.after.is_disjoint(&changed);
            if room.known.is_none() || !stays {
                changed.extend(stage.control());
                room.known = Some(self.keyed(result, (stage, times), &mut room.parts)?);
                room.is_narrowed = false;
            }
            let known = room.known.as_ref().and_then(Option::as_ref);
            let Some(made) = known else {
                kept.extend(stage.control());
                continue;
            };
            for (target, made) in made {
                if self.within {
                    put_into(result, self.index, target, &made.controller, self.range)?;
                } else {
                    replace(result, self.index, target, Some(made.controller.clone()));
                }
                all.insert(target.clone(), made.clone());
            }
        }
        Ok((all, kept))
    }

    /// The curves of one stage; none where its control does already what it has to.
    fn keyed(
        &self,
        result: &Scene,
        (stage, times): (&Stage, &[Ticks]),
        parts: &mut Vec<f64>,
    ) -> Result<Option<Vec<(Target, ConvertedController)>>, SolveError> {
        let tolerance = self.tolerance_of(stage);
        let setting = self.setting(times, &tolerance, parts, self.fine);
        let motion = (self.motion, self.source());
        let instant = Instant::new(motion, (result, &result.takes[self.index]), stage)?;
        let instant = RefCell::new(if self.within { instant.within(self.range) } else { instant });
        if self.is_done(&instant, times) {
            return Ok(None);
        }
        let mut channels = channels(result, stage);
        if self.within {
            channels.iter_mut().for_each(|channel| near(result, self.index, channel, self.range.first));
        }
        let mut made = Vec::with_capacity(channels.len());
        let mut left = Vec::new();
        for channel in channels {
            let found = duty_of(stage, channel.part).and_then(|duty| {
                exact(self.scene, self.source(), stage, &duty, (&instant, &channel), &setting)
            });
            match found {
                Some(exactly) => made.push((channel.target, exactly)),
                None => left.push(channel),
            }
        }
        let name = |why| SolveError::NotConvertible {
            channel: left
                .first()
                .map_or_else(String::new, |own| Addresses::new(self.scene).property(&own.target)),
            why,
        };
        let fitted = curves(&instant, &left, &setting).map_err(name)?;
        made.extend(left.into_iter().map(|channel| channel.target).zip(fitted));
        let samples = setting.grid().len();
        parts.resize(samples, 1.0);
        let free = |(target, made): (Target, ConvertedController)| {
            let controller = unlocked(self.scene, self.source(), &target, made.controller)?;
            Some((target, ConvertedController { controller, ..made }))
        };
        Ok(Some(made.into_iter().filter_map(free).collect()))
    }

    /// Whether a control does already what it has to.
    fn is_done(&self, instant: &RefCell<Instant<'_>>, times: &[Ticks]) -> bool {
        let looks = quarters(self.scene.rate, self.range);
        let all = times.iter().map(|time| time.as_f64()).chain(looks);
        let mut instant = instant.borrow_mut();
        all.into_iter().all(|time| instant.at(time).away <= self.done)
    }

    /// What a control may be off so that joints are off by no more than the bound: a pole turns the middle about a far shorter arm
    /// than its own.
    fn tolerance_of(&self, stage: &Stage) -> Tolerance {
        let base = self.tolerance.times(0.9);
        let Keyed::Control { place: Some(duty), .. } = &stage.keyed else { return base };
        if duty.serves != Serves::Pole {
            return base;
        }
        Tolerance { length: base.length * 2.0, ..base }
    }

    /// Leaves less room where joints are too far off.
    pub fn narrow(&self, stages: &[Stage], rooms: &mut [Room], (used, tried): (&Used, usize)) {
        let setting = self.setting(&[], &self.tolerance, &[], self.fine);
        let (start, step) = (setting.grid()[0].as_f64(), setting.samples().ticks_per_frame());
        let below = |joint: NodeRef, above: &BTreeSet<NodeRef>| {
            let rig = &self.scene.rigs[joint.0];
            let mut up = std::iter::successors(Some(joint.1), |id| rig.parent(*id));
            up.any(|id| above.contains(&(joint.0, id)))
        };
        // What does not come near by little steps is in each other's way.
        let step_by = if tried < PATIENT { 0.95 } else { 0.7 };
        for (stage, room) in stages.iter().zip(rooms) {
            let mut less = vec![1.0_f64; room.parts.len()];
            for (joint, looks) in &used.by_joint {
                let own = stage.joints.contains(joint);
                if !own && !below(*joint, &stage.joints) {
                    continue;
                }
                for (time, used_up) in looks.iter().filter(|(_, used)| *used > 1.0) {
                    // What is far below has other reasons as well.
                    let part = match own {
                        true => step_by / used_up,
                        false if used.of(&stage.joints, *time) < BLAMED => continue,
                        false => (step_by / used_up).max(0.5),
                    };
                    let (at, reach) = ((time - start) / step, i64::from(2 * self.fine));
                    let from = (at.floor() as i64 - reach).max(0) as usize;
                    let to = (at.ceil() as i64 + reach).max(0) as usize;
                    let near = less.iter_mut().take(to + 1).skip(from);
                    near.for_each(|less| *less = less.min(part));
                }
            }
            if less.iter().any(|less| *less < 1.0) {
                room.is_narrowed = true;
                room.parts.iter_mut().zip(less).for_each(|(part, less)| *part = (*part * less).max(LEAST));
            }
        }
    }
}

fn duty_of(stage: &Stage, part: Part) -> Option<Duty> {
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
        Channel { part, target, rest: rest.unwrap_or(Value::Number(0.0)), near: None }
    };
    match &stage.keyed {
        Keyed::Control { control: (rig, id), place, turn } => {
            let parts = [(Part::Place, place.is_some()), (Part::Turn, turn.is_some())];
            let wanted = parts.into_iter().filter(|(_, has)| *has);
            wanted.map(|(part, _)| channel(part, Target::new(*rig, *id, property_of(part)))).collect()
        }
        Keyed::Held { control: (rig, id) } => [Part::Place, Part::Turn]
            .map(|part| channel(part, Target::new(*rig, *id, property_of(part))))
            .into(),
        Keyed::Twist { target, .. } => vec![channel(Part::Twist, target.clone())],
    }
}
